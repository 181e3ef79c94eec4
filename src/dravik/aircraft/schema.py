"""The definition of an aircraft, as pydantic models: what may stand in the TOML file, checked key by key."""

import math
from collections.abc import Callable
from typing import Annotated, Literal

import numpy as np
from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    ValidationInfo,
    field_validator,
    model_validator,
)

from dravik.errors import DravikError, nearest
from dravik.mass import Part, Tank
from dravik.tables.entries import TableEntries
from dravik.units import KINDS, quantity

__all__ = ["AircraftDefinition", "LawDefinition"]


def _of(kind: str) -> Callable[[object], float]:
    return lambda value: quantity(value, kind)


def _positive(kind: str) -> Callable[[object], float]:
    def convert(value: object) -> float:
        number = quantity(value, kind)
        if not number > 0.0:
            raise DravikError(f"{value!r} is not above zero", expected=f"a {kind} such as {KINDS[kind][1]!r}")
        return number

    return convert


def _formula(value: object) -> str | float:
    if isinstance(value, bool) or not isinstance(value, str | int | float):
        raise DravikError(f"{value!r} is no formula", expected="a string such as '0.4*alpha', or a number")
    return value if isinstance(value, str) else float(value)


Length = Annotated[float, BeforeValidator(_of("length"))]
PositiveLength = Annotated[float, BeforeValidator(_positive("length"))]
Area = Annotated[float, BeforeValidator(_positive("area"))]
Speed = Annotated[float, BeforeValidator(_of("speed"))]
Mass = Annotated[float, BeforeValidator(_positive("mass"))]
ContentsMass = Annotated[float, BeforeValidator(_of("mass")), Field(ge=0.0)]
Inertia = Annotated[float, BeforeValidator(_of("inertia"))]
Duration = Annotated[float, BeforeValidator(_positive("time"))]
Acceleration = Annotated[float, BeforeValidator(_of("acceleration"))]
TemperatureDifference = Annotated[float, BeforeValidator(_of("temperature difference"))]
Formula = Annotated[str | float, BeforeValidator(_formula)]
Position = tuple[Length, Length, Length]
RATE_KIND = {"angle": "angular rate", "number": "frequency", "length": "speed"}


class _Model(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Reference(_Model):
    """Lengths that make the coefficients dimensionless, and the point their moments are about (station axes)."""

    area: Area
    chord: PositiveLength
    span: PositiveLength
    moment_point: Position


class Envelope(_Model):
    """The speeds and altitudes that the data is meant for."""

    airspeed: tuple[Speed, Speed]
    altitude: tuple[Length, Length]

    @model_validator(mode="after")
    def _rising(self) -> "Envelope":
        for name in ("airspeed", "altitude"):
            low, high = getattr(self, name)
            if not low < high:
                raise DravikError(f"{low:g} to {high:g}", where=name, expected="the lower limit first")
        return self


class Environment(_Model):
    """The world around: gravity, and how much warmer than standard the air is."""

    gravity: Acceleration = 9.80665
    temperature_offset: TemperatureDifference = 0.0


class Loading(_Model):
    """Mass, centre of gravity (station axes) and inertia about it (body axes); or ``groups`` of parts, what tanks hold,

    and which of them are ``flowing`` in flight: the mass properties then follow them, which costs time.

    Products of inertia are the integrals of xy, xz, yz over the mass: the tensor's off-diagonal
    elements are their negatives.
    """

    groups: tuple[str, ...] = ()
    tanks: dict[str, ContentsMass] = {}
    flowing: tuple[str, ...] = ()
    mass: Mass = math.nan
    cg: Position = (math.nan, math.nan, math.nan)
    Ixx: Inertia = math.nan
    Iyy: Inertia = math.nan
    Izz: Inertia = math.nan
    Ixy: Inertia = 0.0
    Ixz: Inertia = 0.0
    Iyz: Inertia = 0.0
    description: str = ""

    @model_validator(mode="after")
    def _one_way(self) -> "Loading":
        numbers = [n for n in ("mass", "cg", "Ixx", "Iyy", "Izz") if n in self.model_fields_set]
        if self.groups and numbers:
            raise DravikError(f"both groups and {', '.join(numbers)}", where="groups", expected="parts, or numbers")
        if not self.groups:
            for name in ("mass", "cg", "Ixx", "Iyy", "Izz"):
                if name not in numbers:
                    raise DravikError(
                        f"the key {name!r} is missing", expected="mass, cg, Ixx, Iyy, Izz; or groups of parts"
                    )
            if self.tanks:
                raise DravikError("tanks beside a mass in numbers", where="tanks", expected="groups of parts")
        return self

    def tensor(self) -> "np.ndarray[tuple[int, int], np.dtype[np.float64]]":
        """Return the inertia tensor in body axes, kg m^2."""
        return np.array(
            [
                [self.Ixx, -self.Ixy, -self.Ixz],
                [-self.Ixy, self.Iyy, -self.Iyz],
                [-self.Ixz, -self.Iyz, self.Izz],
            ]
        )


class _Ranged(_Model):
    """Something with a kind of quantity and a range in it."""

    kind: Literal["angle", "number", "length"] = "number"
    range: tuple[float, float] | None = None
    description: str = ""

    @field_validator("range", mode="before")
    @classmethod
    def _range(cls, value: object, info: ValidationInfo) -> object:
        if value is None:
            return None
        if not isinstance(value, list | tuple) or len(value) != 2:
            raise DravikError(f"{value!r} is no range", expected="two limits, the lower first")
        low, high = (quantity(v, info.data.get("kind", "number")) for v in value)
        if not low < high:
            raise DravikError(f"{value!r} does not rise", expected="two limits, the lower first")
        return low, high


class Input(_Ranged):
    """What a pilot, an autopilot or a test puts in.

    ``trim``: a trim may move it. ``follows``: a trim sets it to the value of this signal, as an autopilot
    takes over the present value when it is engaged.
    """

    default: float = 0.0
    trim: bool = False
    follows: str = ""

    @field_validator("default", mode="before")
    @classmethod
    def _default(cls, value: object, info: ValidationInfo) -> float:
        kind = info.data.get("kind", "number")
        return 0.0 if value == 0 else quantity(value, kind)


class Effector(_Ranged):
    """A control surface, or anything that is commanded and follows: range, dynamics, command."""

    kind: Literal["angle", "number", "length"] = "angle"
    rate: float | None = None
    lag: Duration | None = None
    frequency: Annotated[float, BeforeValidator(_positive("angular rate"))] | None = None
    damping: float = Field(default=0.7, gt=0.0, le=5.0)
    command: Formula | None = None
    trim: bool = False

    @field_validator("rate", mode="before")
    @classmethod
    def _rate(cls, value: object, info: ValidationInfo) -> float | None:
        if value is None:
            return None
        return _positive(RATE_KIND[info.data.get("kind", "angle")])(value)

    @model_validator(mode="after")
    def _one_dynamics(self) -> "Effector":
        if self.lag is not None and self.frequency is not None:
            raise DravikError(
                "both lag and frequency are given", where="lag", expected="lag (first order) or frequency (second)"
            )
        if self.trim and self.command is not None:
            raise DravikError(
                "trim = true beside a command formula", where="trim", expected="trim on the input that commands it"
            )
        return self


class Engine(Effector):
    """A thrust along a fixed direction: its lever follows a command like an effector, its thrust is a formula."""

    kind: Literal["angle", "number", "length"] = "number"
    range: tuple[float, float] | None = (0.0, 1.0)
    position: Position
    direction: tuple[float, float, float] = (1.0, 0.0, 0.0)
    thrust: Formula
    torque: Formula | None = None

    @model_validator(mode="after")
    def _has_direction(self) -> "Engine":
        if not np.linalg.norm(self.direction) > 1e-6:
            raise DravikError(
                "the direction has no length", where="direction", expected="body axes, forward is [1, 0, 0]"
            )
        return self


class NamedFormula(_Model):
    """A formula with the unit (SI) and the meaning of what it gives."""

    formula: Formula
    unit: str = ""
    description: str = ""


def _named_formula(value: object) -> object:
    return value if isinstance(value, dict | NamedFormula) else {"formula": value}


FormulaEntry = Annotated[NamedFormula, BeforeValidator(_named_formula)]


class Aero(BaseModel):
    """Axes, and formulas for the six coefficients and whatever they are made of.

    Forces are CD, CY, CL in stability or wind axes and CX, CY, CZ in body axes; moments Cl, Cm, Cn in
    stability or body axes (``moment_axes``, the same as ``axes`` unless said; body with wind axes).
    """

    model_config = ConfigDict(extra="allow", frozen=True)
    __pydantic_extra__: dict[str, FormulaEntry] = Field(init=False)

    axes: Literal["body", "stability", "wind"]
    moment_axes: Literal["body", "stability"] | None = None

    @property
    def formulas(self) -> dict[str, NamedFormula]:
        """The formulas by name."""
        return dict(self.__pydantic_extra__)

    @property
    def coefficients(self) -> tuple[str, ...]:
        """Names of the six coefficients, forces first."""
        forces = ("CX", "CY", "CZ") if self.axes == "body" else ("CD", "CY", "CL")
        return (*forces, "Cl", "Cm", "Cn")

    @model_validator(mode="after")
    def _complete(self) -> "Aero":
        missing = [c for c in self.coefficients if c not in self.formulas]
        if missing:
            hint = nearest(missing[0], self.formulas)
            raise DravikError(
                f"no formula for {', '.join(missing)}",
                expected=f"in {self.axes} axes all of {self.coefficients}",
                hint=hint,
            )
        return self


class Event(_Model):
    """A condition to log when it becomes true, and perhaps to end the run."""

    when: Formula
    stop: bool = False


class _Document(_Model):
    format: Literal[1]
    name: str = Field(min_length=1, max_length=80)
    description: str = ""
    include: tuple[str, ...] = ()
    tables: TableEntries = {}
    inputs: dict[str, Input] = {}
    formulas: dict[str, FormulaEntry] = {}
    events: dict[str, Event] = {}


class LawDefinition(_Document):
    """A control law: inputs it takes, formulas, and what it adds to the commands of controls."""

    add: dict[str, Formula]


class AircraftDefinition(_Document):
    """A whole aircraft."""

    default_loading: str
    reference: Reference
    envelope: Envelope | None = None
    environment: Environment = Environment()
    loadings: dict[str, Loading] = Field(min_length=1)
    parts: dict[str, Part] = {}
    parts_lists: tuple[str, ...] = ()
    tanks: dict[str, Tank] = {}
    centre_limits: tuple[Length, Length] | None = None
    aero: Aero | None = None
    controls: dict[str, Effector] = {}
    engines: dict[str, Engine] = {}
    laws: dict[str, dict[str, FormulaEntry]] = {}
    add: dict[str, tuple[Formula, ...]] = Field(default={}, exclude=True)

    @model_validator(mode="after")
    def _loading_exists(self) -> "AircraftDefinition":
        if self.default_loading not in self.loadings:
            raise DravikError(
                f"there is no loading {self.default_loading!r}",
                where="default_loading",
                expected="one of " + ", ".join(self.loadings),
                hint=nearest(self.default_loading, self.loadings),
            )
        return self
