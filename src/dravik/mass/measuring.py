"""Mass properties from measurement: scales at known points, and the period of a swing.

Source: W. Gracey, NACA Report 1098 (1948): compound and bifilar pendulums.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from math import pi

import numpy as np
from numpy.typing import NDArray

from dravik.constants import STANDARD_GRAVITY
from dravik.errors import DravikError

__all__ = ["Weighing", "bifilar_inertia", "swing_inertia", "weigh"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Weighing:
    """What scales say: mass in kg, and the centre of gravity in station axes, m; its height is nan without a tilt."""

    mass: float
    x: float
    y: float
    z: float


def weigh(
    points: Sequence[tuple[float, float, float]], readings: Sequence[float], *,
    tilted: Sequence[float] | None = None, tilt: float = 0.0,
) -> Weighing:  # fmt: skip
    """Return mass and centre of gravity from readings (kg) of scales at station points (m), the aircraft level.

    ``tilted`` are the same scales' readings with the nose raised by ``tilt`` rad about y: they give the height.

    Parameters
    ----------
    points : sequence of tuple (float, float, float)
        Station positions of the scales, m.
    readings : sequence of float
        What each scale shows, kg.
    tilted : sequence of float, optional
        Readings with the nose up, kg.
    tilt : float, default 0.0
        Angle of those, rad.

    Returns
    -------
    Weighing
        Mass (kg), and station position of the centre (m).

    Raises
    ------
    DravikError
        For readings below zero, no mass, or a tilt too small to tell.
    """
    at, loads = np.array(points, dtype=float), np.array(readings, dtype=float)
    if len(at) != len(loads) or np.any(loads < 0.0) or not np.sum(loads) > 0.0:
        raise DravikError(
            f"the readings {list(readings)} cannot be weighed",
            expected="one at or above zero for each point, some above",
        )
    mass = float(loads.sum())
    x, y = (float(loads @ at[:, k]) / mass for k in (0, 1))
    if tilted is None:
        return Weighing(mass, x, y, float("nan"))
    if abs(np.sin(tilt)) < 0.02:
        raise DravikError(f"a tilt of {np.degrees(tilt):.3g} deg tells no height", expected="a few degrees at least")
    again = np.array(tilted, dtype=float)
    # tilted nose up by an angle a, a point (x, z) of the station axes is x cos a + z sin a aft along the floor
    floor = at[:, 0] * np.cos(tilt) + at[:, 2] * np.sin(tilt)
    centre = float(again @ floor) / float(again.sum())
    return Weighing(mass, x, y, (centre - x * float(np.cos(tilt))) / float(np.sin(tilt)))


def swing_inertia(period: float, mass: float, arm: float, *, gravity: float = STANDARD_GRAVITY) -> float:
    """Return the inertia (kg m^2) about its centre of gravity of what swings about an axis ``arm`` m above it.

    I = T^2 m g l/(4 pi^2) - m l^2, for small swings.

    Parameters
    ----------
    period : float
        Of one full swing, s.
    mass : float
        Of what swings, kg.
    arm : float
        From the axis down to the centre of gravity, m.
    gravity : float, default 9.80665
        Of the place, m/s^2.

    Returns
    -------
    float
        kg m^2.

    Raises
    ------
    DravikError
        For a period shorter than that of a point.
    """
    found = period**2 * mass * gravity * arm / (4.0 * pi**2) - mass * arm**2
    if found < 0.0:
        shortest = 2.0 * pi * float(np.sqrt(arm / gravity))
        text = f"more than {shortest:.4g} s, that of a point"
        raise DravikError(f"nothing swings with a period of {period:g} s on an arm of {arm:g} m", expected=text)
    return found


def bifilar_inertia(
    period: float, mass: float, *, spacing: float, length: float, gravity: float = STANDARD_GRAVITY
) -> float:
    """Return the inertia about the vertical of something on two wires ``spacing`` apart: T^2 m g d^2/(16 pi^2 L)."""
    return period**2 * mass * gravity * spacing**2 / (16.0 * pi**2 * length)
