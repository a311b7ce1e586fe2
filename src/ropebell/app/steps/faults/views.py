"""Light in false colours with a scale, and what is clipped or black."""

from __future__ import annotations

from collections.abc import Callable

from ropebell.app.stage.picture import StagePicture
from ropebell.app.views import LIGHT, RESULT, View

# An even scale from dark blue to yellow that colour-blind people can read, by a polynomial of degree 4 in each channel.
FALSE = """
vec3 even_scale(float x) {
    x = clamp(x, 0.0, 1.0);
    vec3 c0 = vec3(0.00, 0.13, 0.30), c1 = vec3(0.24, 0.30, 0.42), c2 = vec3(0.49, 0.48, 0.47);
    vec3 c3 = vec3(0.74, 0.68, 0.42), c4 = vec3(1.00, 0.92, 0.28);
    float s = 4.0 * x;
    vec3 low = s < 1.0 ? mix(c0, c1, s) : mix(c1, c2, s - 1.0);
    vec3 high = s < 3.0 ? mix(c2, c3, s - 2.0) : mix(c3, c4, s - 3.0);
    return s < 2.0 ? low : high;
}
// Lux by powers of ten from a tenth to ten thousand, with a fine line at each.
vec3 lux_colors(float lux) {
    float place = (log(max(lux, 1e-6)) / log(10.0) + 1.0) / 5.0;
    float line = abs(fract(place * 5.0 + 0.5) - 0.5);
    float width = fwidth(place * 5.0);
    float facing = 0.86 + 0.14 * abs(normalize(v_normal).y);
    vec3 tint = even_scale(place) * facing;
    return mix(tint * 0.55, tint, smoothstep(0.4 * width, 1.4 * width + 1e-6, line));
}
"""
ENDS = """
// Grey in between; over the display's white hatched light, under a thousandth of it hatched dark.
vec3 end_colors(vec3 lux) {
    float shown = dot(lux, vec3(0.2126, 0.7152, 0.0722)) * exposure / PI;
    float stripe = step(0.5, fract((gl_FragCoord.x + gl_FragCoord.y) / 12.0));
    vec3 grey = vec3(0.30 + 0.25 * clamp(shown, 0.0, 1.0)) * (0.86 + 0.14 * abs(normalize(v_normal).y));
    if (shown > 4.0) return mix(vec3(0.98, 0.80, 0.30), vec3(0.80, 0.55, 0.15), stripe);
    if (shown < 0.002) return mix(vec3(0.10, 0.12, 0.30), vec3(0.03, 0.03, 0.10), stripe);
    return grey;
}
"""


AROUND = """
// Closed in: dark.
vec3 closed_colors(float closed) {
    float facing = 0.92 + 0.08 * abs(normalize(v_normal).y);
    return vec3(0.92 * (1.0 - clamp(closed, 0.0, 1.0))) * facing;
}
"""


def _of_rays(known: str) -> Callable[[StagePicture | None], str]:
    def words(picture: StagePicture | None) -> str:
        return known if picture is not None and picture.around is not None else "the rays of this build are being read"

    return words


def _finishing(picture: StagePicture | None) -> str:
    known = picture is not None and picture.other is not None
    return "unfinished left, finished right" if known else "being got ready"


def _scale(picture: StagePicture | None) -> str:
    return "light in lux, a line at each power of ten"


def _ends(picture: StagePicture | None) -> str:
    return "clipped yellow, black blue"


LUX = View(
    "lux", "Light in false colours", LIGHT, "return lux_colors(dot(total, vec3(0.2126, 0.7152, 0.0722)));", "0", FALSE,
    hatched=True, words=_scale,
)  # fmt: skip
CLIPPED = View(
    "ends", "Clipped and black", LIGHT, "return end_colors(total);", "", ENDS, hatched=True, exposed=True, words=_ends
)  # fmt: skip
RAYS = frozenset({"light", "around"})
CLOSED = View(
    "closed", "How closed in", RAYS, "return closed_colors(around.x);", "", AROUND, hatched=True,
    words=_of_rays("closed in within the reach of creases: dark"),
)  # fmt: skip
BACKS = View(
    "backs", "Rays that met backs", RAYS, "return graded(around.y, vec4(0.005, 0.05, 0.08, 0.30), vec2(0.02, 0.20));",
    "", hatched=True,
    words=_of_rays("rays that met backs: 2 % amber, 20 % red"),
)  # fmt: skip
BOTH = frozenset({"light", "other"})
BUILT = View(
    "built", "As it was finished", BOTH, "return unlit ? to_display(surface) : tone(surface * other.rgb / PI + glow);",
    "", hatched=True, exposed=True, glows=True, words=lambda _: "as it was finished",
)  # fmt: skip
FINISHING = View(
    "finishing", "Before and after finishing", BOTH, RESULT.rule, "", hatched=True, exposed=True, panes=(RESULT, BUILT),
    words=_finishing,
)  # fmt: skip
