"""How sure the light of a build is, as a view of the stage."""

from __future__ import annotations

from ropebell.app.stage.picture import StagePicture
from ropebell.app.views import View

# Noise as a share of the light: 1 % plain, 3 % amber, 10 % red.
RULE = "return graded(noise, vec4(0.01, 0.03, 0.03, 0.10), vec2(0.02, 0.07));"


def words(picture: StagePicture | None) -> str:
    """With its scale, as colours alone say nothing."""
    known = picture is not None and picture.noise is not None
    return "noise: " + ("1 % grey, 3 % amber, 10 % red" if known else "known once a build is done")


NOISE = View("noise", "Noise", frozenset({"noise"}), RULE, "9", hatched=True, words=words)
