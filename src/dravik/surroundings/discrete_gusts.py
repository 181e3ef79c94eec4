"""Discrete gusts: one of a shape and a size on an axis of the air's motion, at a time or when a condition holds."""

from collections.abc import Callable
from typing import Literal

from dravik.definition.fields import Duration
from dravik.definition.timed import Timed
from dravik.units import quantity

__all__ = ["DiscreteGust"]


class DiscreteGust(Timed):
    """A gust of a ``size`` on an ``axis``: the wind to the north, to the east or up, or the air's rotation.

    ``shape``: ``gust`` (1 - cosine), ``pulse`` and ``ramp`` last for ``width``; a ``step`` stays.

    >>> DiscreteGust(axis="wind_up", size="6 m/s", width="2 s", at="10 s").condition
    'time >= 9.999999999'
    """

    #: which velocity or rotation of the air
    axis: Literal["wind_north", "wind_east", "wind_up", "gust_roll", "gust_pitch", "gust_yaw"]
    shape: Literal["gust", "step", "pulse", "ramp"] = "gust"  #: 1 - cosine, step, pulse or ramp
    size: str | float  #: greatest velocity or rotation, with its unit
    width: Duration = 1.0  #: how long it lasts, or takes to grow

    def check(self, place: Callable[[str], str]) -> None:
        """Refuse a size that is not a speed, or an angular rate on the axes of rotation; ``place`` names a key."""
        quantity(self.size, "speed" if self.axis.startswith("wind") else "angular rate", where=place("size"))
