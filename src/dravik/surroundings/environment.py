"""The environment of an aircraft as its file or a scenario gives it: the Earth, gravity, air, ground and wind."""

import math
import re
from typing import Annotated, Literal

import numpy as np
from pydantic import model_validator

from dravik.constants import STANDARD_GRAVITY
from dravik.definition.fields import (
    Acceleration,
    Angle,
    Length,
    MagneticField,
    Model,
    TemperatureDifference,
    formula_of,
)
from dravik.definition.toml import KeyLines, validate
from dravik.errors import DravikError
from dravik.surroundings.earth import gravity_components
from dravik.surroundings.wind import Wind

__all__ = ["Environment", "day_offset", "wind_said"]

MOST_OFFSET = 100.0  # K: no day on Earth is further from the standard
# the unit of a difference is a kelvin, which some write as a degree Celsius
_DAY = re.compile(r"\s*ISA\s*(?:([+-]\s*\d+(?:\.\d+)?)\s*(?:K|degC|°C)?)?\s*", re.IGNORECASE)


class Air(Model):
    """An atmosphere of one's own, by formulas of the altitude (SI), such as tables of a sounding.

    ``density`` follows from ``pressure`` and ``temperature`` by the gas law of dry air unless it is given. Mach number,
    pressures and equivalent airspeed follow from these. ``temperature_offset`` is not added.
    """

    temperature: Annotated[str | float, formula_of("temperature")]  #: static temperature, a formula of the altitude
    pressure: Annotated[str | float, formula_of("pressure")]  #: static pressure, a formula of the altitude
    #: density; by the gas law of dry air unless given
    density: Annotated[str | float, formula_of("density")] | None = None


class Environment(Model):
    """The world around. ``earth`` is ``"flat"``, or ``"wgs84"``: the rotating ellipsoid with its own gravity.

    ``latitude`` and ``longitude`` are the origin's of north and east; ``geoid`` is the height of the sea level there
    above the ellipsoid. ``ground`` is the height of the ground above sea level: a number or a formula (m) of the place,
    such as ``"terrain(north, east)"`` with a gridded table; without it there is none to stand on, and heights count
    from the sea. ``temperature_offset`` is added to the standard temperature.
    """

    earth: Literal["flat", "wgs84"] = "flat"  #: flat, or the rotating ellipsoid of WGS 84
    gravity: Acceleration | None = None  #: acceleration of gravity on the flat Earth, 9.80665 m/s^2 unless given
    temperature_offset: TemperatureDifference = 0.0  #: added to the temperature of the standard atmosphere: a hot day
    latitude: Angle = 0.0  #: of the origin of north and east
    longitude: Angle = 0.0  #: of the origin of north and east
    geoid: Length = 0.0  #: height of sea level above the ellipsoid at the origin
    #: height of the ground above sea level: a number, or a formula of the place
    ground: Annotated[str | float, formula_of("length")] | None = None
    air: Air | None = None  #: an atmosphere in place of the standard one
    wind: Wind = Wind()  #: wind, the sum of all that is given
    #: the Earth's magnetic field here, towards north, east and down; that of a tilted dipole unless given
    magnetic_field: tuple[MagneticField, MagneticField, MagneticField] | None = None

    @model_validator(mode="after")
    def _possible(self) -> "Environment":
        return _refuse_impossible(self)

    def changed(self, **changes: object) -> "Environment":
        """Return a copy with some keys changed; raises DravikError for keys and values that cannot be.

        ``wind`` may be text such as ``"5 m/s from 270 deg"``; ``day``, such as ``"ISA+15"``, is another word for the
        ``temperature_offset``.
        """
        if "day" in changes:
            if self.air is not None:
                raise DravikError(
                    "there is no hot or cold day in an atmosphere of one's own", where="day",
                    expected="the standard atmosphere: no [environment.air]",
                )  # fmt: skip
            changes["temperature_offset"] = day_offset(changes.pop("day"))
        if isinstance(changes.get("wind"), str):
            changes["wind"] = wind_said(str(changes["wind"]))
        found = validate(changes, Environment, KeyLines("", "environment"))
        return _refuse_impossible(self.model_copy(update={name: getattr(found, name) for name in changes}))

    @property
    def gravity_here(self) -> float:
        """Gravity, m/s^2; on the round Earth at the origin and sea level."""
        if self.earth == "wgs84":
            return float(np.hypot(*gravity_components(self.latitude, self.geoid)))
        return STANDARD_GRAVITY if self.gravity is None else self.gravity


def day_offset(day: object) -> float:
    """Return the temperature (K) over the standard atmosphere's of a day such as ``"ISA+15"``.

    Raises DravikError for other words.

    >>> day_offset("ISA+15"), day_offset("ISA - 20 K"), day_offset("ISA")
    (15.0, -20.0, 0.0)
    """
    match = _DAY.fullmatch(day) if isinstance(day, str) else None
    if match is None:
        raise DravikError(f"the day cannot be {day!r}", where="day", expected="'ISA', 'ISA+15' or 'ISA-20': in kelvin")
    found = float((match[1] or "0").replace(" ", ""))
    if not abs(found) <= MOST_OFFSET:
        raise DravikError(
            f"the day cannot be {day!r}", where="day", expected=f"within {MOST_OFFSET:g} K of the standard"
        )
    return found


def wind_said(text: str) -> dict[str, str]:
    """Return the keys of a wind that is said in words: ``"5 m/s from 270 deg"``; raises DravikError for other words."""
    speed, blows, direction = text.partition(" from ")
    if not blows:
        raise DravikError(
            f"the wind {text!r} cannot be read", where="wind",
            expected="a speed and where it blows from: '5 m/s from 270 deg'",
        )  # fmt: skip
    return {"speed": speed.strip(), "blows_from": direction.strip()}


def _refuse_impossible(world: Environment) -> Environment:
    if world.earth == "wgs84" and world.gravity is not None:
        raise DravikError(
            "gravity is given beside the round Earth", where="gravity", expected="its own gravity", hint="no gravity"
        )
    if not abs(world.latitude) < math.radians(89.9):
        raise DravikError("the origin is at a pole", where="latitude", expected="a latitude within 89.9 deg")
    return world
