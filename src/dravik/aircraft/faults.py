"""What goes wrong in flight, and when: faults of engines, controls and sensors, masses dropped, gusts."""

from typing import Annotated, Literal

from pydantic import Discriminator, Field, Tag, model_validator

from dravik.definitions import kind_tag
from dravik.errors import DravikError
from dravik.quantities import Duration, Formula, Mass, Model
from dravik.units import quantity

__all__ = [
    "Biased",
    "EngineOut",
    "Fault",
    "Floating",
    "Frozen",
    "Gust",
    "Lost",
    "MassDropped",
    "Phase",
    "Slow",
    "Stuck",
]

TIME_ROOM = 1e-9  # s: a fault at a step's time happens at that step


class _Fault(Model):
    """Something that happens once: ``at`` a time, or ``when`` a formula first becomes true."""

    at: str | float | None = None
    when: Formula | None = None

    @model_validator(mode="after")
    def _one_moment(self) -> "_Fault":
        if (self.at is None) == (self.when is None):
            raise DravikError("neither at nor when, or both", expected='at = "60 s", or when = a condition')
        if self.at is not None and not quantity(self.at, "time") >= 0.0:
            raise DravikError(f"{self.at!r}", where="at", expected="a time, not below zero")
        return self

    @property
    def condition(self) -> str | float:
        """The moment as a formula."""
        if self.at is not None:
            return f"time >= {quantity(self.at, 'time') - TIME_ROOM!r}"
        assert self.when is not None
        return self.when


class EngineOut(_Fault):
    """An engine fails."""

    kind: Literal["engine_out"]
    engine: str


class Stuck(_Fault):
    """A control stays where it is, or jumps to a ``position`` and stays there."""

    kind: Literal["stuck"]
    control: str
    position: str | float | None = None


class Floating(_Fault):
    """A control is free: it goes to a ``position`` that the air gives it, a formula (SI), within the time of a lag."""

    kind: Literal["floating"]
    control: str
    position: Formula = 0.0
    lag: Duration = 0.05


class Slow(_Fault):
    """A control moves at no more than another ``rate``."""

    kind: Literal["slow"]
    control: str
    rate: str | float


class Lost(_Fault):
    """A control has no effect any more, as if it stood at zero."""

    kind: Literal["lost"]
    control: str


class Frozen(_Fault):
    """What laws and commands read of a signal stays as it is."""

    kind: Literal["frozen"]
    signal: str


class Biased(_Fault):
    """What laws and commands read of a signal is too much ``by`` a quantity."""

    kind: Literal["biased"]
    signal: str
    by: str | float


class MassDropped(_Fault):
    """A tank loses what it holds at once, but for what is ``left``."""

    kind: Literal["mass_dropped"]
    tank: str
    left: Mass = 0.0


class Gust(_Fault):
    """A gust of a shape on an axis of the wind's: wind_north, wind_east, wind_up, gust_roll, gust_pitch, gust_yaw."""

    kind: Literal["gust"]
    axis: Literal["wind_north", "wind_east", "wind_up", "gust_roll", "gust_pitch", "gust_yaw"]
    shape: Literal["gust", "step", "pulse", "ramp"] = "gust"
    size: str | float
    width: Duration = 1.0


Fault = Annotated[
    Annotated[EngineOut, Tag("(engine_out)")]
    | Annotated[Stuck, Tag("(stuck)")]
    | Annotated[Floating, Tag("(floating)")]
    | Annotated[Slow, Tag("(slow)")]
    | Annotated[Lost, Tag("(lost)")]
    | Annotated[Frozen, Tag("(frozen)")]
    | Annotated[Biased, Tag("(biased)")]
    | Annotated[MassDropped, Tag("(mass_dropped)")]
    | Annotated[Gust, Tag("(gust)")],
    Discriminator(kind_tag),
]


class Phase(Model):
    """A part of a flight: inputs that are ``set`` when it begins, and the formula that ends it."""

    name: str = Field(min_length=1, max_length=60)
    set: dict[str, str | float] = Field(default={})
    until: Formula | None = None
