"""The sum of all loads on the body: aerodynamic coefficients, forces, moments, flows and what spins.

Forces act at the centre of gravity, which need not be the moment reference point. Source: B. Etkin, Dynamics of
Atmospheric Flight, Wiley 1972, ch. 5.
"""

import math

import numpy as np
from numpy.typing import NDArray

from dravik.compiled import inlined
from dravik.kernel.program import (
    AERO,
    AREA,
    CENTRE,
    CHORD,
    FORCE_AXES,
    LOAD_KINDS,
    LOAD_VECTORS,
    LOADS,
    MASS,
    MOMENT_AXES,
    MOMENT_POINT,
    N_LOADS,
    SPAN,
    Program,
)
from dravik.kernel.registers import AIRSPEED, QBAR, U_AIR, P
from dravik.kernel.vectors import cross
from dravik.surroundings.air_data import SLOW

__all__ = ["coefficients_to_body", "sum_loads"]

Floats = NDArray[np.float64]


@inlined
def coefficients_to_body(program: Program, reg: Floats) -> tuple[float, float, float, float, float, float]:
    """Return the six aerodynamic coefficients in body axes."""
    layout = program.layout
    a = layout[AERO]
    c1, c2, c3 = reg[layout[a]], reg[layout[a + 1]], reg[layout[a + 2]]
    l1, l2, l3 = reg[layout[a + 3]], reg[layout[a + 4]], reg[layout[a + 5]]
    # cosines and sines of alpha and beta from the velocity components: cheaper than from the angles
    ua, va, wa = reg[U_AIR], reg[U_AIR + 1], reg[U_AIR + 2]
    plane = math.sqrt(ua * ua + wa * wa)
    ca, sa = (ua / plane, wa / plane) if reg[AIRSPEED] > SLOW and plane > 0.0 else (1.0, 0.0)
    if layout[FORCE_AXES] != 0:
        # drag, side force, lift
        x, y = -c1, c2
        if layout[FORCE_AXES] == 2:
            cb, sb = (plane / reg[AIRSPEED], va / reg[AIRSPEED]) if reg[AIRSPEED] > SLOW else (1.0, 0.0)
            x, y = -c1 * cb - c2 * sb, -c1 * sb + c2 * cb
        c1, c2, c3 = x * ca + c3 * sa, y, x * sa - c3 * ca
    if layout[MOMENT_AXES] == 1:
        l1, l3 = l1 * ca - l3 * sa, l1 * sa + l3 * ca
    return c1, c2, c3, l1, l2, l3


@inlined
def sum_loads(program: Program, reg: Floats) -> tuple[float, float, float, float, float, float]:
    """Return force and moment about the centre of gravity, weight apart, in body axes."""
    layout, numbers = program.layout, program.numbers
    fx, fy, fz, mx, my, mz = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    g = layout[MASS]
    gx, gy, gz = reg[layout[g + CENTRE]], reg[layout[g + CENTRE + 1]], reg[layout[g + CENTRE + 2]]
    if layout[layout[AERO]] >= 0:
        cx, cy, cz, cl, cm, cn = coefficients_to_body(program, reg)
        k = reg[QBAR] * numbers[AREA]
        # moments are given about the moment point: transfer them to the centre of gravity, r x F
        fx, fy, fz = k * cx, k * cy, k * cz
        at = MOMENT_POINT
        tx, ty, tz = cross(numbers[at] - gx, numbers[at + 1] - gy, numbers[at + 2] - gz, fx, fy, fz)
        mx = k * numbers[SPAN] * cl + tx
        my = k * numbers[CHORD] * cm + ty
        mz = k * numbers[SPAN] * cn + tz
    for i in range(layout[N_LOADS]):
        size = reg[layout[layout[LOADS] + i]]
        at = LOAD_VECTORS + 6 * i
        dx, dy, dz = size * numbers[at], size * numbers[at + 1], size * numbers[at + 2]
        kind = layout[layout[LOAD_KINDS] + i]
        if kind == 2:
            # fluid that moves through a rotating body: Coriolis force on all of it, -2 w x (flow * length)
            dx, dy, dz = cross(-2.0 * reg[P], -2.0 * reg[P + 1], -2.0 * reg[P + 2], dx, dy, dz)
        if kind == 3:
            # gyroscopic moment of a rotor with angular momentum h: -w x h
            dx, dy, dz = cross(-reg[P], -reg[P + 1], -reg[P + 2], dx, dy, dz)
        # a force acts at its point; moments and gyroscopic moments are free vectors
        if kind == 0 or kind == 2:
            tx, ty, tz = cross(numbers[at + 3] - gx, numbers[at + 4] - gy, numbers[at + 5] - gz, dx, dy, dz)
            fx, fy, fz = fx + dx, fy + dy, fz + dz
        else:
            tx, ty, tz = dx, dy, dz
        mx, my, mz = mx + tx, my + ty, mz + tz
    return fx, fy, fz, mx, my, mz
