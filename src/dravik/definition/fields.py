"""Quantities with units as types of definitions' fields: a string such as ``"2.5 m"``, or a bare SI number."""

import re
from collections.abc import Callable
from typing import Annotated

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field

from dravik.definition.condition_keys import flight_level
from dravik.errors import DravikError
from dravik.units import KINDS, quantity

# a number, a space and a unit: no formula has that form, so the two cannot be confused
_PLAIN = re.compile(r"\s*[+-]?[\d.]+(?:[eE][+-]?\d+)?\s+[A-Za-z%][\w*/^]*\s*$")


def _of(kind: str) -> BeforeValidator:
    return BeforeValidator(lambda value: quantity(value, kind))


def positive(kind: str) -> Callable[[object], float]:
    """Return a converter of a quantity above zero; it raises DravikError for another."""

    def convert(value: object) -> float:
        number = quantity(value, kind)
        if not number > 0.0:
            raise DravikError(
                f"{value!r} is not above zero",
                expected=f"{'an' if kind[0] in 'aeiou' else 'a'} {kind} such as {KINDS[kind][1]!r}",
            )
        return number

    return convert


def _above(kind: str) -> BeforeValidator:
    return BeforeValidator(positive(kind))


def _formula(value: object) -> str | float:
    if isinstance(value, bool) or not isinstance(value, str | int | float):
        raise DravikError(f"{value!r} is no formula", expected="a string such as '0.4*alpha', or a number")
    return value if isinstance(value, str) else float(value)


def formula_of(kind: str) -> BeforeValidator:
    """Return a converter of a formula in SI that may also be a plain quantity with its unit, such as "480 m"."""

    def convert(value: object) -> str | float:
        text = _formula(value)
        return quantity(text, kind) if isinstance(text, str) and _PLAIN.match(text) else text

    return BeforeValidator(convert)


def _altitude(value: object) -> str | float:
    # which height a flight level is depends on the air, which a file of its own does not know
    return str(value) if flight_level(value) is not None else quantity(value, "length")


Length = Annotated[float, _of("length")]
Altitude = Annotated[str | float, BeforeValidator(_altitude)]
PositiveLength = Annotated[float, _above("length")]
Area = Annotated[float, _of("area")]
PositiveArea = Annotated[float, _above("area")]
Speed = Annotated[float, _of("speed")]
Mass = Annotated[float, _of("mass")]
PositiveMass = Annotated[float, _above("mass")]
Inertia = Annotated[float, _of("inertia")]
PositiveInertia = Annotated[float, _above("inertia")]
Density = Annotated[float, _of("density")]
Acceleration = Annotated[float, _of("acceleration")]
TemperatureDifference = Annotated[float, _of("temperature difference")]
AngularRate = Annotated[float, BeforeValidator(lambda v: 0.0 if v == 0 else quantity(v, "angular rate"))]
PositiveAngularRate = Annotated[float, _above("angular rate")]
Frequency = Annotated[float, _above("frequency")]
Duration = Annotated[float, _above("time")]
Power = Annotated[float, _above("power")]
Force = Annotated[float, _above("force")]
Voltage = Annotated[float, _above("voltage")]
Current = Annotated[float, _of("current")]
Resistance = Annotated[float, _of("resistance")]
Charge = Annotated[float, _above("charge")]
SpeedConstant = Annotated[float, _above("speed constant")]
Stiffness = Annotated[float, _above("stiffness")]
Damping = Annotated[float, _of("damping"), Field(ge=0.0)]
MagneticField = Annotated[float, _of("magnetic field")]
AngularMomentum = Annotated[float, _of("angular momentum")]
Consumption = Annotated[float, _above("fuel consumption")]
# a bare 0 needs no unit: it is the same in degrees and in radians
Angle = Annotated[float, BeforeValidator(lambda v: 0.0 if v == 0 else quantity(v, "angle"))]
Position = tuple[Length, Length, Length]
Fraction = Annotated[float, Field(ge=0.0, le=1.0)]
Formula = Annotated[str | float, BeforeValidator(_formula)]


class Model(BaseModel):
    """A part of a definition: unknown keys are errors, and nothing changes after reading."""

    model_config = ConfigDict(extra="forbid", frozen=True, defer_build=True)
