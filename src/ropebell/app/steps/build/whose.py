"""Whose light each texel has, as a view of the stage: of a part build, of those before it, or of nobody yet."""

from __future__ import annotations

from ropebell.app.stage.picture import StagePicture
from ropebell.app.views import View

RULE = """
// This build plain and bright; earlier ones darker, each with bars of its own slant; what nobody finished crossed out.
vec3 whose_colors(float part) {
    float facing = 0.75 + 0.25 * abs(normalize(v_normal).y);
    vec2 p = gl_FragCoord.xy;
    if (part < 0.5) {
        float cross_ = max(step(0.86, fract((p.x - p.y) / 12.0)), step(0.86, fract((p.x + p.y) / 12.0)));
        return mix(vec3(0.34), vec3(0.52), cross_) * facing;
    }
    if (part < 1.5) return vec3(0.86, 0.68, 0.42) * facing;
    float turn = 0.9 * (part - 2.0);
    float bars = step(0.78, fract((p.x * cos(turn) + p.y * sin(turn)) / 14.0));
    return mix(vec3(0.60), vec3(0.50, 0.56, 0.62), fract(0.37 * part)) * (1.0 - 0.20 * bars) * facing;
}
"""
MOST_NAMED = 2


def words(picture: StagePicture | None) -> str:
    """With what its marks mean."""
    if picture is None or picture.origin is None:
        return "light: all of this build"
    earlier = ", ".join(picture.parts[2 : 2 + MOST_NAMED])
    return "bronze this build" + (f", barred {earlier}" if earlier else ", crossed rough")


WHOSE = View("whose", "Whose light", frozenset({"origin"}), "return whose_colors(origin);", "", RULE, True, words=words)
