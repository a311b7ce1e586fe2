"""What a build's journal tells, typed: one class for each kind of event, made from one line of the journal.

A journal may be half-written, of another version, or not a journal at all; a line that is no event is passed over.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, StringConstraints, TypeAdapter, ValidationError

from ropebell.level.finding import Finding

LiveFile = Annotated[str, StringConstraints(pattern=r"^live/[A-Za-z0-9][A-Za-z0-9._-]*$", max_length=100)]
Seconds = Annotated[float, Field(ge=0, le=1e9)]
Share = Annotated[float, Field(ge=0, le=1)]
Outcomes = Literal["done", "stopped", "tripwire", "failed"]


class _Event(BaseModel):
    """Attributes: t: seconds since the build began."""

    model_config = ConfigDict(frozen=True, extra="ignore", allow_inf_nan=False)
    t: Seconds = 0.0


class Begin(_Event):
    """The build process has taken its request, which is kept as it came; when, as an ISO time."""

    event: Literal["begin"]
    pid: int = 0
    begun: str = ""
    request: str


class Stage(_Event):
    """A stage, or one light of it, begins or ends."""

    event: Literal["stage"]
    stage: str
    state: Literal["begun", "done", "reused"]
    item: str = ""
    seconds: Seconds = 0.0


class Progress(_Event):
    """How far the build is, and how many seconds are left."""

    event: Literal["progress"]
    stage: str
    share: Share
    remaining: Seconds


class Warned(_Event):
    """A finding."""

    event: Literal["warning"]
    kind: str
    severity: Literal["error", "warning", "note"]
    object: str = ""
    reason: str
    remedy: str = ""
    place: tuple[float, float, float] | None = None
    fix: tuple[str, ...] = ()
    also: tuple[str, ...] = ()
    others: tuple[tuple[str, ...], ...] = ()

    @property
    def finding(self) -> Finding:
        """The same as any other finding."""
        return Finding(
            self.kind, self.severity, self.object, self.reason, self.remedy, self.place, self.fix, self.also,
            others=self.others,
        )  # fmt: skip


class Table(_Event):
    """Where the texels of the pictures to come lie: the digest of the charts, their cache, and who speaks for whom."""

    event: Literal["table"]
    charts: str
    cache: str
    target: LiveFile


class Picture(_Event):
    """There is a picture of the light so far."""

    event: Literal["picture"]
    file: LiveFile
    what: str


class End(_Event):
    """How the build ended.

    Attributes:
        condition: of the tripwire that stopped it; stage, object and value: where, on what, and what was measured.
    """

    event: Literal["end"]
    outcome: Outcomes
    message: str = ""
    seconds: Seconds = 0.0
    traceback: str = ""
    condition: str = ""
    stage: str = ""
    object: str = ""
    value: float | None = None


class Fact(_Event):
    """Anything else that is told, for whoever reads the journal."""

    model_config = ConfigDict(frozen=True, extra="allow", allow_inf_nan=False)
    event: Literal["note", "kept", "shot", "energy", "finish"]

    @property
    def values(self) -> dict[str, Any]:
        """What is told."""
        return dict(self.model_extra or {})


Event = Begin | Stage | Progress | Warned | Table | Picture | End | Fact
_ANY: TypeAdapter[Event] = TypeAdapter(Annotated[Event, Field(discriminator="event")])


def parse_event(line: bytes) -> Event | None:
    """The event of one line, None where it is none."""
    try:
        return _ANY.validate_json(line)
    except (ValidationError, ValueError, RecursionError):
        return None
