"""Two builds in one picture: parted by a line, the one or the other, and their difference in false colours."""

from __future__ import annotations

from ropebell.app.stage.picture import StagePicture
from ropebell.app.views import RESULT, View

OTHER = frozenset({"light", "other"})
HELPERS = """
const vec3 LUM = vec3(0.2126, 0.7152, 0.0722);
// What the other build does not have.
vec3 no_partner() {
    float hatch = step(0.5, fract((gl_FragCoord.x + gl_FragCoord.y) / 16.0));
    return to_display(surface * 0.35) * (0.82 + 0.18 * hatch) + 0.05 * hatch;
}
vec3 lit_by(vec3 light) { return unlit ? to_display(surface) : tone(surface * light / PI + glow); }
vec3 parted() {
    float away = gl_FragCoord.x - split;
    if (abs(away) < 1.2) return vec3(0.82, 0.60, 0.33);
    if (away > 0.0) return lit_by(total);
    return other.a < -0.5 ? no_partner() : lit_by(other.rgb);
}
// From dark blue over grey to yellow: darker and brighter by lightness as well, for eyes that know few colours.
vec3 more_or_less(float x) {
    x = clamp(x, -1.0, 1.0);
    vec3 less = mix(vec3(0.40), vec3(0.05, 0.16, 0.45), -x), more = mix(vec3(0.46), vec3(1.0, 0.88, 0.30), x);
    return (x < 0.0 ? less : more) * (0.84 + 0.16 * abs(normalize(v_normal).y));
}
vec3 within_noise() { return vec3(0.43) * (0.84 + 0.16 * abs(normalize(v_normal).y)); }
// Lux by powers of ten: full colour at 1,000 lux over the gain.
vec3 by_lux() {
    if (other.a < -0.5) return no_partner();
    float apart = dot(total - other.rgb, LUM);
    if (abs(apart) <= other.a) return within_noise();
    return more_or_less(sign(apart) * clamp((log(abs(apart) * gain) / log(10.0) + 1.0) / 4.0, 0.06, 1.0));
}
// Stops: full colour at two stops over the gain.
vec3 by_stops() {
    if (other.a < -0.5) return no_partner();
    float b = dot(total, LUM), a = dot(other.rgb, LUM);
    if (abs(b - a) <= other.a) return within_noise();
    float stops = log2(max(b, 1e-6) / max(a, 1e-6));
    return more_or_less(sign(stops) * clamp(abs(stops) * gain / 2.0, 0.06, 1.0));
}
"""


def _cost(picture: StagePicture | None) -> str:
    return "B's time per m²: yellow over, blue under the mean, 16-fold at the ends"


def _parted(picture: StagePicture | None) -> str:
    return "left of the line A, right of it B"


def _lux(picture: StagePicture | None) -> str:
    return "B less A: blue darker, yellow brighter, grey within noise"


WIPE = View(
    "wipe", "Two builds, parted", OTHER, "return parted();", "", HELPERS, True, exposed=True, glows=True, words=_parted
)  # fmt: skip
FIRST = View(
    "first", "The first of two builds", OTHER, "return other.a < -0.5 ? no_partner() : lit_by(other.rgb);", "",
    hatched=True, exposed=True, glows=True, words=lambda _: "build A",
)  # fmt: skip
BESIDE = View(
    "beside", "Two builds, side by side", OTHER, RESULT.rule, "", hatched=True, exposed=True, panes=(FIRST, RESULT),
    words=lambda _: "A on the left, B on the right",
)  # fmt: skip
LUX = View("apart-lux", "Difference in lux", OTHER, "return by_lux();", "", hatched=True, words=_lux)
COST = View(
    "cost", "Time spent per square metre", OTHER, "return more_or_less(log2(max(v_density, 1e-4)) / 4.0);", "",
    hatched=True, words=_cost,
)  # fmt: skip
STOPS = View("apart-stops", "Difference in stops", OTHER, "return by_stops();", "", hatched=True, words=_lux)
