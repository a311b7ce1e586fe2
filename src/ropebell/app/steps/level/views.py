"""Which side of a surface is real, as a view of the stage."""

from __future__ import annotations

from ropebell.app.views import View

RULE = """
// Which side of a surface is real: the front plain, a two-sided surface lighter, the back barred.
vec3 facing_colors() {
    float shade = 0.72 + 0.28 * abs(normalize(v_normal).y);
    if (two_sided) return vec3(0.78, 0.74, 0.58) * shade;
    if (gl_FrontFacing) return vec3(0.58) * shade;
    float bars = step(0.5, fract((gl_FragCoord.x - gl_FragCoord.y) / 12.0));
    return mix(vec3(0.80, 0.36, 0.20), vec3(0.42, 0.16, 0.10), bars);
}
"""
FACING = View("facing", "Facing of surfaces", frozenset(), "return facing_colors();", "8", RULE, backs=True)
SIGHT = """
// What can be seen from where the eye is: in its own colours; the rest cold, with sparse bars.
vec3 sight_colors(vec3 surface) {
    float shade = 0.66 + 0.34 * abs(normalize(v_normal).y);
    if (v_density > 0.5) return to_display(surface) * shade;
    float bars = step(0.82, fract((gl_FragCoord.x - gl_FragCoord.y) / 15.0));
    return vec3(0.17, 0.20, 0.27) * shade * (1.0 + 0.5 * bars);
}
"""
IN_SIGHT = View(
    "sight", "In sight from here", frozenset(), "return sight_colors(surface);", "", SIGHT,
    words=lambda _: "in sight from here: plain",
)  # fmt: skip
