"""Where the Earth enters the motion: place, gravity, and how the Earth and the local axes turn.

The states north and east are metres on the ellipsoid from the origin, along its meridian and its parallel: latitude and
longitude times constant radii, so that a place has the same names on the flat Earth and on the round one. They
end at the poles. Velocity and rates are relative to the Earth; what its rotation adds is Coriolis' acceleration (twice
its rate across the velocity; the centrifugal part is in gravity) and a gyroscopic term. Source: B. L. Stevens,
F. L. Lewis, Aircraft Control and Simulation, 2nd ed., Wiley 2003, section 1.5.
"""

import math

import numpy as np
from numpy.typing import NDArray

from dravik.compiled import inlined
from dravik.kernel.program import GRAVITY, LATITUDE_0, LONGITUDE_0, MERIDIAN, PARALLEL, ROUND, SEA_LEVEL, Program
from dravik.kernel.registers import EARTH_RATE, GRAVITY_X, LATITUDE, NORTH, TRANSPORT
from dravik.kernel.vectors import rotate, rotate_back
from dravik.surroundings import earth

__all__ = ["fill_earth", "place", "position_rates"]

Floats = NDArray[np.float64]
ROTATION = earth.ROTATION

curvature_radii = inlined(earth.curvature_radii)
gravity_components = inlined(earth.gravity_components)
wrapped = inlined(earth.wrapped)


@inlined
def place(program: Program, reg: Floats) -> None:
    """Fill latitude and longitude from north and east."""
    reg[LATITUDE] = program.numbers[LATITUDE_0] + reg[NORTH] / program.numbers[MERIDIAN]
    reg[LATITUDE + 1] = wrapped(program.numbers[LONGITUDE_0] + reg[NORTH + 1] / program.numbers[PARALLEL])


@inlined
def fill_earth(program: Program, reg: Floats, x: Floats, m: tuple[float, ...]) -> None:
    """Fill gravity, and on the round Earth the place and the turning of the Earth and of the local axes."""
    # flat Earth: constant gravity along local z, nothing turns
    if program.layout[ROUND] == 0:
        g = program.numbers[GRAVITY]
        reg[GRAVITY_X], reg[GRAVITY_X + 1], reg[GRAVITY_X + 2] = m[2] * g, m[5] * g, m[8] * g
        return
    place(program, reg)
    latitude, height = reg[LATITUDE], x[2] + program.numbers[SEA_LEVEL]
    gn, gd = gravity_components(latitude, height)
    reg[GRAVITY_X], reg[GRAVITY_X + 1], reg[GRAVITY_X + 2] = rotate(m, gn, 0.0, gd)
    sine, cosine = math.sin(latitude), math.cos(latitude)
    # the Earth's rotation in local axes is along north and up; positive z is down
    ex, ey, ez = rotate(m, ROTATION * cosine, 0.0, -ROTATION * sine)
    reg[EARTH_RATE], reg[EARTH_RATE + 1], reg[EARTH_RATE + 2] = ex, ey, ez
    along, across = curvature_radii(latitude)
    vn, ve, _ = rotate_back(m, x[3], x[4], x[5])
    east = ve / (across + height)
    # transport rate: the local axes turn as the aircraft moves over the ellipsoid
    tx, ty, tz = rotate(m, east, -vn / (along + height), -east * sine / cosine)
    reg[TRANSPORT], reg[TRANSPORT + 1], reg[TRANSPORT + 2] = tx, ty, tz


@inlined
def position_rates(program: Program, x: Floats, vn: float, ve: float, vd: float) -> tuple[float, float, float]:
    """Return the rates of north, east and altitude at a velocity over the Earth."""
    if program.layout[ROUND] == 0:
        return vn, ve, -vd
    latitude = program.numbers[LATITUDE_0] + x[0] / program.numbers[MERIDIAN]
    height = x[2] + program.numbers[SEA_LEVEL]
    along, across = curvature_radii(latitude)
    # the states north and east count along the origin's meridian and parallel: scale from the actual radii
    north = vn * program.numbers[MERIDIAN] / (along + height)
    return north, ve * program.numbers[PARALLEL] / ((across + height) * math.cos(latitude)), -vd
