"""Coordinates without redundancy for trim and linear models: Euler angles, and air angles or u, v, w.

A state in minimal coordinates is north, east, altitude; airspeed, alpha, beta (kind 0) or u, v, w (kind 1); phi,
theta, psi; p, q, r; then the states of functions and actuators. It is singular at ±90° pitch; kind 0
also at zero airspeed and at ±90° sideslip. On the round Earth its p, q, r are relative to the local axes, so that
straight flight has none; the signals p, q, r are relative to the Earth.
"""

import math

import numpy as np
from numpy.typing import NDArray

from dravik import frames
from dravik.compiled import compiled, inlined
from dravik.kernel.calls import call_evaluate
from dravik.kernel.program import EVERYTHING, N_RIGID, ROUND, Program, Workspace
from dravik.kernel.registers import AIRSPEED, AIRSPEED_DOT, ALPHA_DOT, NORTH, PHI, TRANSPORT
from dravik.kernel.vectors import dcm_elements, rotate
from dravik.surroundings.air_data import air_at_minimal
from dravik.surroundings.earth_motion import fill_earth

__all__ = ["AIR_CHART", "BODY_CHART", "jacobian", "minimal_from_state", "minimal_rates", "state_from_minimal"]

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
AIR_CHART, BODY_CHART = 0, 1
N_CHART = 12

quaternion_elements = inlined(frames.quaternion_elements)


@compiled
def state_from_minimal(program: Program, work: Workspace, t: float, z: Floats, u: Floats, kind: int, x: Floats) -> None:
    """Put the integrated state of minimal coordinates into ``x``."""
    n = z.shape[0] - N_CHART
    x[0], x[1], x[2] = z[0], z[1], z[2]
    x[6], x[7], x[8], x[9] = quaternion_elements(z[6], z[7], z[8])
    m = dcm_elements(x[6], x[7], x[8], x[9])
    if kind == 0:
        # airspeed, alpha and beta are relative to the air, u, v, w relative to the Earth: add the wind
        wn, we, wh = air_at_minimal(program, work, t, z, u)
        wu, wv, ww = rotate(m, wn, we, -wh)
        cb = math.cos(z[5])
        x[3] = z[3] * math.cos(z[4]) * cb + wu
        x[4] = z[3] * math.sin(z[5]) + wv
        x[5] = z[3] * math.sin(z[4]) * cb + ww
    else:
        x[3], x[4], x[5] = z[3], z[4], z[5]
    x[10], x[11], x[12] = z[9], z[10], z[11]
    if program.layout[ROUND] == 1:
        # rates of minimal coordinates are relative to the local axes, the state's relative to the Earth: add the
        # transport rate
        reg = work.registers
        reg[NORTH], reg[NORTH + 1] = x[0], x[1]
        fill_earth(program, reg, x, m)
        for i in range(3):
            x[10 + i] += reg[TRANSPORT + i]
    for i in range(n):
        x[N_RIGID + i] = z[N_CHART + i]


@compiled
def minimal_from_state(program: Program, work: Workspace, x: Floats, kind: int, z: Floats) -> None:
    """Put the minimal coordinates of the state evaluated last into ``z``."""
    reg = work.registers
    for i in range(3):
        z[i] = x[i]
        z[3 + i] = reg[AIRSPEED + i] if kind == 0 else x[3 + i]
        z[6 + i] = reg[PHI + i]
        z[9 + i] = x[10 + i] - reg[TRANSPORT + i]
    for i in range(x.shape[0] - N_RIGID):
        z[N_CHART + i] = x[N_RIGID + i]


@compiled
def minimal_rates(
    program: Program, work: Workspace, t: float, z: Floats, u: Floats, kind: int, x: Floats, dx: Floats,
    dz: Floats, steady: bool, extent: int,
) -> None:  # fmt: skip
    """Put the rates of minimal coordinates into ``dz``; ``x`` and ``dx`` are working space."""
    state_from_minimal(program, work, t, z, u, kind, x)
    call_evaluate(program, work, t, x, u, dx, steady, extent)
    reg = work.registers
    dz[0], dz[1], dz[2] = dx[0], dx[1], dx[2]
    if kind == 0:
        dz[3], dz[4], dz[5] = reg[AIRSPEED_DOT], reg[ALPHA_DOT], reg[ALPHA_DOT + 1]
    else:
        dz[3], dz[4], dz[5] = dx[3], dx[4], dx[5]
    sf, cf, ct = math.sin(z[6]), math.cos(z[6]), math.cos(z[7])
    # Euler angle kinematics (3-2-1); singular at 90 deg of pitch
    turn = z[10] * sf + z[11] * cf
    dz[6] = z[9] + turn * math.sin(z[7]) / ct
    dz[7] = z[10] * cf - z[11] * sf
    dz[8] = turn / ct
    for i in range(3):
        dz[9 + i] = dx[10 + i]
    for i in range(x.shape[0] - N_RIGID):
        dz[N_CHART + i] = dx[N_RIGID + i]


@compiled
def jacobian(
    program: Program, work: Workspace, t: float, z: Floats, u: Floats, kind: int, steps: Floats, sides: Ints,
    picks: Ints, slopes: Floats, kinks: Floats, scratch: Floats, values: Floats,
) -> None:  # fmt: skip
    """Fill ``slopes`` (rates and picked signals by states and inputs) with central differences.

    ``sides`` is 0 for central differences of a column, 1 or -1 for one-sided ones upwards or downwards (at a stop).
    ``kinks`` receives the differences between the slopes to either side: large where a table bends.
    Working space: ``scratch`` (4, n + inputs + 1) and ``values`` (3, n + signals).
    """
    n, nu, ny = z.shape[0], u.shape[0], picks.shape[0]
    x, dx = scratch[0, : n + 1], scratch[1, : n + 1]
    point, inputs = scratch[2, :n], scratch[3, :nu]
    for i in range(n):
        point[i] = z[i]
    for i in range(nu):
        inputs[i] = u[i]
    # column -1 is the operating point itself, needed for kinks and one-sided slopes
    for column in range(-1, n + nu):
        for side in range(2):
            if column < 0 and side == 1:
                continue
            step = steps[column] * (1.0 - 2.0 * side) if column >= 0 else 0.0
            if 0 <= column < n:
                point[column] = z[column] + step
            elif column >= n:
                inputs[column - n] = u[column - n] + step
            row = values[2] if column < 0 else values[side]
            minimal_rates(program, work, t, point, inputs, kind, x, dx, row[:n], False, EVERYTHING)
            for i in range(ny):
                row[n + i] = work.registers[picks[i]]
        if column < 0:
            continue
        if column < n:
            point[column] = z[column]
        else:
            inputs[column - n] = u[column - n]
        for i in range(n + ny):
            if sides[column] == 0:
                slopes[i, column] = (values[0, i] - values[1, i]) / (2.0 * steps[column])
                # slope upwards less slope downwards: of order step for a smooth function, finite at a kink
                kinks[i, column] = (values[0, i] + values[1, i] - 2.0 * values[2, i]) / steps[column]
            else:
                way = 0 if sides[column] > 0 else 1
                slopes[i, column] = sides[column] * (values[way, i] - values[2, i]) / steps[column]
                kinks[i, column] = 0.0
