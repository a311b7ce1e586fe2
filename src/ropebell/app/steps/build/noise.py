"""How sure the light of a build is, as a view of the stage."""

from __future__ import annotations

from ropebell.app.stage.picture import StagePicture
from ropebell.app.views import View

RULE = """
// Noise as a share of the light: quiet plain, then amber with sparse bars, then red with close ones.
vec3 noise_colors(float share) {
    float much = smoothstep(0.01, 0.03, share), most = smoothstep(0.03, 0.10, share);
    vec3 tint = mix(mix(vec3(0.62), vec3(0.90, 0.62, 0.26), much), vec3(0.72, 0.24, 0.16), most);
    vec2 p = gl_FragCoord.xy;
    float sparse = step(0.8, fract((p.x - p.y) / 15.0)) * step(0.02, share);
    float close = step(0.6, fract((p.x - p.y) / 7.5)) * step(0.07, share);
    float facing = 0.80 + 0.20 * abs(normalize(v_normal).y);
    return tint * facing * (1.0 - 0.22 * max(sparse, close));
}
"""


def words(picture: StagePicture | None) -> str:
    """With its scale, as colours alone say nothing."""
    known = picture is not None and picture.noise is not None
    return "noise: " + ("1 % grey, 3 % amber, 10 % red" if known else "known once a build is done")


NOISE = View(
    "noise", "Noise", frozenset({"noise"}), "return noise_colors(noise);", "9", RULE, hatched=True, words=words
)
