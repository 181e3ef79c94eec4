"""The wind of a place: near the ground, by layers of altitude, and by formulas of what a ridge or a thermal adds."""

import math
from itertools import pairwise
from typing import Annotated

import numpy as np
from pydantic import Field, model_validator

from dravik.definition.fields import Angle, Length, Model, PositiveLength, Speed, formula_of
from dravik.errors import DravikError
from dravik.tables import Axis, Table

__all__ = ["WIND_READS", "Wind", "wind_formulas"]

#: What the formulas of the wind and the ground may read beside inputs, tables and one another.
WIND_READS = ("time", "north", "east", "altitude", "latitude", "longitude")


SpeedFormula = Annotated[str | float, formula_of("speed")]


class Layer(Model):
    """The wind at an altitude; between two layers it changes evenly, component by component."""

    altitude: Length  #: altitude at which the layer's wind holds
    speed: Speed  #: wind speed
    blows_from: Angle  #: direction that the wind blows from, clockwise from north


class Wind(Model):
    """The wind at a place, the sum of all that is given.

    ``speed`` and ``blows_from``: a wind at ``height`` above the ground, which near the ground falls with the logarithm
    of the height over a ``roughness``, or with a power of it (``exponent``). ``layers`` by altitude. ``north``,
    ``east``, ``up``: formulas (m/s) of the place, such as what a ridge or a thermal adds.
    """

    speed: Speed = 0.0  #: wind speed at `height`
    blows_from: Angle = 0.0  #: direction that the wind blows from, clockwise from north
    height: PositiveLength = 10.0  #: height above the ground at which the speed holds
    #: roughness length of the ground: the wind then falls with the logarithm of the height
    roughness: PositiveLength | None = None
    exponent: float | None = Field(default=None, gt=0.0, le=1.0)  #: exponent of the height, in the place of a roughness
    layers: tuple[Layer, ...] = ()  #: winds at altitudes, two or more
    north: SpeedFormula = 0.0  #: velocity of the air to the north, m/s: a number, or a formula of place and time
    east: SpeedFormula = 0.0  #: velocity of the air to the east, m/s
    up: SpeedFormula = 0.0  #: velocity of the air upwards, m/s

    @model_validator(mode="after")
    def _whole(self) -> "Wind":
        if self.roughness is not None and self.exponent is not None:
            raise DravikError(
                "both roughness and exponent are given", where="exponent", expected="one law of the height"
            )
        heights = [layer.altitude for layer in self.layers]
        if len(heights) == 1 or any(b <= a for a, b in pairwise(heights)):
            raise DravikError("the layers do not rise", where="layers", expected="two or more, the lowest first")
        return self


def wind_formulas(wind: Wind) -> tuple[dict[str, str | float], dict[str, Table]]:
    """Return the formulas ``wind_field_north``, ``_east``, ``_up`` and their tables; empty where there is no wind."""
    if wind == Wind():
        return {}, {}
    parts: dict[str, list[str]] = {"north": [], "east": [], "up": []}
    tables: dict[str, Table] = {}
    formulas: dict[str, str | float] = {}
    if wind.speed != 0.0:
        share = _share_near_ground(wind)
        if share:
            formulas["wind_shear"] = share
        times = "*wind_shear" if share else ""
        for axis, part in zip(("north", "east"), _towards(wind.speed, wind.blows_from), strict=True):
            parts[axis].append(f"{part!r}{times}")
    if wind.layers:
        altitude = Axis("altitude", np.array([layer.altitude for layer in wind.layers]), "m")
        blown = np.array([_towards(layer.speed, layer.blows_from) for layer in wind.layers])
        for k, axis in enumerate(("north", "east")):
            tables[f"wind_layers_{axis}"] = Table(f"wind_layers_{axis}", (altitude,), blown[:, k], "m/s")
            parts[axis].append(f"wind_layers_{axis}(altitude)")
    for axis in parts:
        own = getattr(wind, axis)
        if own != 0.0:
            parts[axis].append(f"({own})")
        formulas[f"wind_field_{axis}"] = " + ".join(parts[axis]) or 0.0
    return formulas, tables


def _share_near_ground(wind: Wind) -> str:
    """Return the share of the wind's speed at a height above the ground, as a formula; empty without a law."""
    above = "max(altitude - ground_height, 0)"
    if wind.roughness is not None:
        return f"log({above}/{wind.roughness!r} + 1)*{1.0 / math.log(wind.height / wind.roughness + 1.0)!r}"
    if wind.exponent is not None:
        return f"({above}/{wind.height!r})**{wind.exponent!r}"
    return ""


def _towards(speed: float, blows_from: float) -> tuple[float, float]:
    """Return the velocity of the air north and east."""
    return -speed * math.cos(blows_from), -speed * math.sin(blows_from)
