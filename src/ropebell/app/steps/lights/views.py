"""Light as the game puts it together: pages afar, near pages and live lights close by."""

from __future__ import annotations

from ropebell.app.stage.picture import StagePicture
from ropebell.app.views import View

RULE = """
// E = I cos / d² per candela, with the fades of KHR_lights_punctual, as the builds have them (`light.direct_kernels`).
vec3 lamp_light(bool hybrid) {
    vec3 sum = vec3(0.0), n = normalize(v_normal) * (gl_FrontFacing ? 1.0 : -1.0);
    for (int i = 0; i < lamp_count; ++i) {
        mat4 lamp = lamps[i];
        if ((lamp[2].w > 0.5) != hybrid) continue;
        vec3 to = lamp[1].w > 1.5 ? -lamp[2].xyz : lamp[0].xyz - v_place;
        float d = max(length(to), 1e-4), reach = lamp[0].w, fade = 1.0;
        if (lamp[1].w < 1.5) fade = (reach > 0.0 ? max(1.0 - pow(d / reach, 4.0), 0.0) : 1.0) / (d * d);
        if (lamp[1].w > 0.5 && lamp[1].w < 1.5) {
            float c = clamp((dot(-to / d, lamp[2].xyz) - lamp[3].y) / max(lamp[3].x - lamp[3].y, 1e-4), 0.0, 1.0);
            fade *= c * c;
        }
        sum += lamp[1].xyz * fade * max(dot(n, to / d), 0.0);
    }
    return sum;
}
vec3 as_played() {
    if (unlit) return to_display(surface);
    float near = 1.0 - smoothstep(0.9 * blend, blend, distance(eye, v_place));
    vec3 lit = mix(total, other.rgb + lamp_light(true), near) + lamp_light(false);
    return tone(surface * lit / PI + glow);
}
"""


def _words(picture: StagePicture | None) -> str:
    return f"as played: {picture.lamps.words}" if picture is not None and picture.lamps is not None else "as played"


PLAYED = View(
    "played", "As the game plays it", frozenset({"light", "other"}), "return as_played();", "", RULE, hatched=True,
    exposed=True, glows=True, words=_words,
)  # fmt: skip
