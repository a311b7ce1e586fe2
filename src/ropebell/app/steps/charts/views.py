"""Charts on the stage: their texels, and their density for the distance from which players see it."""

from __future__ import annotations

from ropebell.app.stage.picture import Spot, StagePicture
from ropebell.app.views import View

GRID = """
vec3 texel_grid(vec3 surface) {
    vec2 cell = floor(v_light_uv);
    float checker = mod(cell.x + cell.y, 2.0);
    // Where texels are smaller than pixels the checker would only flicker.
    float blur = clamp(max(fwidth(v_light_uv.x), fwidth(v_light_uv.y)) * 1.6 - 0.5, 0.0, 1.0);
    float shade = mix(0.42 + 0.30 * checker, 0.57, blur);
    float facing = 0.75 + 0.25 * normalize(v_normal).y;
    return vec3(shade * facing) * mix(vec3(1.0), surface / max(max(surface.r, max(surface.g, surface.b)), 0.05), 0.35);
}
"""
DENSITY_VIEW = """
// Density against what the distance of players asks for: too low, right, too high, never seen; each has a pattern.
vec3 density_colors() {
    float low = 1.0 - step(0.5, v_density), high = step(2.0, v_density), unseen = step(1e6, v_density);
    vec3 tint = mix(mix(vec3(0.60, 0.60, 0.58), vec3(0.93, 0.60, 0.22), low), vec3(0.33, 0.53, 0.80), high);
    tint = mix(tint, vec3(0.40, 0.37, 0.45), unseen);
    vec2 p = gl_FragCoord.xy;
    float bars = step(0.72, fract(p.y / 9.0)) * low;
    float dots = step(length(fract(p / 9.0) - 0.5), 0.2) * high * (1.0 - unseen);
    float slant = step(0.8, fract((p.x + p.y) / 14.0)) * unseen;
    float grid = v_page < -0.5 ? 1.0 : mix(1.0, texel_grid(vec3(1.0)).r * 1.75, 0.5);
    return tint * grid * (1.0 - 0.30 * max(bars, max(dots, slant)));
}
"""
CHART_IDS_VIEW = """
// Every chart in a colour of its own, lighter or darker by turns; its texels show faintly.
vec3 chart_colors() {
    float hue = fract(v_chart * 0.61803399), light = 0.42 + 0.3 * fract(v_chart * 0.75487767);
    vec3 tint = 0.5 + 0.5 * cos(2.0 * PI * (hue + vec3(0.0, 0.33, 0.67)));
    return mix(vec3(1.0), tint, 0.45) * light * (0.8 + 0.4 * texel_grid(vec3(1.0)).r);
}
"""


def chart_words(picture: StagePicture, spot: Spot) -> str:
    """Which chart a spot is of."""
    charted = picture.charted
    if charted is None or not 0 <= spot.triangle < len(charted.page) or charted.page[spot.triangle] < 0:
        return ""
    number, count = int(charted.chart[spot.triangle]) + 1, int(charted.chart.max()) + 1
    return f"chart {number} of {count} on page {int(charted.page[spot.triangle]) + 1}"


CHARTED = frozenset({"charts"})
TEXELS = View("texels", "Texel grid", CHARTED, "return v_page < -0.5 ? surface * 0.5 : texel_grid(surface);", "6", GRID)
DENSITY = View("density", "Density for the distance", CHARTED, "return density_colors();", "7", DENSITY_VIEW)
CHART_IDS = View(
    "chart-ids", "Charts, one by one", CHARTED, "return v_page < -0.5 ? surface * 0.5 : chart_colors();", "",
    CHART_IDS_VIEW, tells=chart_words,
)  # fmt: skip
