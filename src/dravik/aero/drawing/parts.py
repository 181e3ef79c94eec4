"""What a drawing has besides lifting surfaces: bodies, propeller discs, and small parts that only drag."""

from typing import Annotated

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from dravik.definition.fields import Area, Fraction, Length, Model, Position
from dravik.errors import DravikError

__all__ = ["Body", "Parasite", "Propeller", "Station"]

Floats = NDArray[np.float64]


class Station(Model):
    """A cross-section of a body: where along x, how high its middle is, how wide and how high it is."""

    x: Length  #: place along x, station axes
    z: Length = 0.0  #: height of the middle, station axes
    width: Annotated[Length, Field(ge=0.0)]  #: width of the section
    height: Annotated[Length, Field(ge=0.0)]  #: height of the section


class Body(Model):
    """A body by its stations, nose first; sections are ellipses. ``y`` to the right; ``mirrored`` adds the other side.

    ``crossflow_drag`` is the drag coefficient of a section across the flow; ``wet`` the share of the outline that the
    flow touches.
    """

    stations: tuple[Station, ...] = Field(min_length=3)  #: cross-sections from the nose
    y: Length = 0.0  #: place to the right
    mirrored: bool = False  #: whether the other side is added
    crossflow_drag: Annotated[float, Field(ge=0.0, le=3.0)] = 0.8  #: drag coefficient of a section across the flow
    wet: Fraction = 1.0  #: share of the outline that the flow touches

    @model_validator(mode="after")
    def _in_order(self) -> "Body":
        # slopes are taken from one station to the next: two at one place have none
        for i, (a, b) in enumerate(zip(self.stations, self.stations[1:], strict=False)):
            if not a.x < b.x:
                raise DravikError(
                    f"station {i + 2} at x = {b.x:g} m is not behind station {i + 1} at {a.x:g} m", where="stations",
                    expected="stations from nose to tail",
                )  # fmt: skip
        if max(s.width * s.height for s in self.stations) <= 0.0:
            raise DravikError("the body has no cross-section anywhere", where="stations", expected="width and height")
        # left of the middle it would be taken for the other side, and the engines' order would be wrong
        if self.mirrored and self.y <= 0.0:
            raise DravikError(
                "the body is mirrored, but y is 0: both sides would be in one place",
                where="y",
                expected="y of the right one",
            )
        return self

    @property
    def length(self) -> float:
        """From the first to the last station, m."""
        return self.stations[-1].x - self.stations[0].x

    def resampled(self, count: int = 48) -> tuple[Floats, Floats, Floats, Floats]:
        """Return x, z, width and height (m) at ``count`` places, the stations joined by straight lines."""
        given = np.array([[s.x, s.z, s.width, s.height] for s in self.stations])
        x = np.linspace(given[0, 0], given[-1, 0], count)
        z, width, height = (np.interp(x, given[:, 0], given[:, k]) for k in (1, 2, 3))
        return x, z, width, height


class Propeller(Model):
    """A propeller disc: centre, radius, and the engines (names in the aircraft file) that drive it.

    ``axis`` is the direction of thrust, in body axes. ``mirrored`` adds the other side: ``engines`` then names the
    right one's engine first. ``immersed`` is the share of the slipstream's gain in speed that wing and tail feel: a jet
    of finite depth turns less air than an endless stream would.
    """

    position: Position  #: centre of the disc, station axes
    radius: Annotated[Length, Field(gt=0.0)]  #: radius of the disc
    axis: tuple[float, float, float] = (1.0, 0.0, 0.0)  #: direction of the thrust, body axes
    mirrored: bool = False  #: whether the other side is added
    engines: tuple[str, ...] = Field(min_length=1, max_length=2)  #: engines that drive it, the right one's first
    immersed: Fraction = 0.7  #: share of the gain in speed that wing and tail feel

    @model_validator(mode="after")
    def _one_engine_a_disc(self) -> "Propeller":
        if len(self.engines) != 1 + self.mirrored:
            wanted = "two engines, right one first" if self.mirrored else "one engine"
            raise DravikError(
                f"the propeller names {len(self.engines)} engines: {list(self.engines)}",
                where="engines",
                expected=wanted,
            )
        if not np.linalg.norm(self.axis) > 0.0:
            raise DravikError("the axis has no length", where="axis", expected="body axes, forward is [1, 0, 0]")
        if self.mirrored and self.position[1] <= 0.0:
            raise DravikError(
                f"the propeller is mirrored, but its y is {self.position[1]:g} m: it is given on the right",
                where="position",
                expected="y above zero",
            )
        return self


class Parasite(Model):
    """Something small that only drags: its drag area (drag over dynamic pressure), and where."""

    drag_area: Annotated[Area, Field(ge=0.0)]  #: drag over dynamic pressure
    position: Position  #: where it is, station axes
