"""Views: the ways in which the stage shows one picture. A view is one object: what it needs, its rule of colour, its
words; the shader's chain is made from them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from ropebell.app.stage.picture import Spot, StagePicture


@dataclass(frozen=True)
class View:
    """One way to show a picture.

    Attributes:
        id: stable name. title: for menus; the strip has it in small letters. key: shortcut, or empty.
        needs: layers without which it shows surfaces only: `light`, `charts`, `noise`, `origin`, `other`, `around`.
        rule: GLSL, body of a function that returns the display colour of a point; it may use `surface` (linear base
            colour), `total`, `direct` (lux), `glow` (radiance of an emitter), `noise`, `origin`, `other`, `around`, and
            the functions of the shader.
        helpers: GLSL, functions of its own.
        hatched: whether what has no place in the light is hatched instead.
        backs: whether it shows backs of one-sided surfaces itself.
        exposed: whether the exposure has a say. glows: whether emitters glow in it.
        panes: other views, that the picture is drawn in side by side with one camera; none: in this one alone.
        words: for the strip, where the title does not do. tells: what it says of a spot beside its light.
    """

    id: str
    title: str
    needs: frozenset[str]
    rule: str
    key: str = ""
    helpers: str = ""
    hatched: bool = False
    backs: bool = False
    exposed: bool = False
    glows: bool = False
    panes: tuple[View, ...] = ()
    words: Callable[[StagePicture | None], str] | None = None
    tells: Callable[[StagePicture, Spot], str] | None = None

    def in_words(self, picture: StagePicture | None) -> str:
        """For the strip."""
        return self.words(picture) if self.words is not None else self.title.lower()


LIGHT = frozenset({"light"})
RESULT = View(
    "result", "Result", LIGHT, "return unlit ? to_display(surface) : tone(surface * total / PI + glow);",
    key="1", hatched=True, exposed=True, glows=True,
)  # fmt: skip
SURFACE = View("surface", "Surface colour", frozenset(), "return to_display(surface);", key="2")
IN_GREY = "return tone(GREY * ({}) / PI);"
ONLY_LIGHT = View(
    "light", "Light without surface colour", LIGHT, IN_GREY.format("total"), key="3", hatched=True, exposed=True
)  # fmt: skip
DIRECT = View("direct", "Direct light", LIGHT, IN_GREY.format("direct"), key="4", hatched=True, exposed=True)
BOUNCED = View(
    "bounced", "Bounced light", LIGHT, IN_GREY.format("max(total - direct, vec3(0.0))"), key="5", hatched=True,
    exposed=True,
)  # fmt: skip
COMMON = (RESULT, SURFACE, ONLY_LIGHT, DIRECT, BOUNCED)


def chain(views: tuple[View, ...]) -> tuple[str, str]:
    """GLSL of all views: their functions, and the choice between them by number."""
    functions = "\n".join(f"{v.helpers}\nvec3 view_{n}() {{ {v.rule} }}" for n, v in enumerate(views))
    choice = "\n".join(
        f"    if (view == {n}) {{ shown = view_{n}(); hatched = {str(v.hatched).lower()}; "
        f"backs = {str(v.backs).lower()}; own = {str(v is RESULT).lower()}; "
        f"shining = {str(v.glows).lower()}; }}"
        for n, v in enumerate(views)
    )
    return functions, choice
