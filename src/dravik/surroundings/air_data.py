"""The air at the aircraft: its velocity, the rate of change of that along the flight path, and the air data."""

import math

import numpy as np
from numpy.typing import NDArray

from dravik.compiled import compiled, inlined
from dravik.constants import SEA_LEVEL_DENSITY
from dravik.kernel.interpreter import run_stage
from dravik.kernel.program import (
    CHORD,
    END_WIND,
    FIELD,
    N_BASE,
    OWN_AIR,
    SPAN,
    TEMPERATURE_OFFSET,
    WIND,
    Program,
    Workspace,
)
from dravik.kernel.registers import (
    AIR,
    AIR_DOT,
    AIRSPEED,
    ALPHA,
    BETA,
    DENSITY,
    EAS,
    MACH,
    NORTH,
    P_HAT,
    PRESSURE,
    QBAR,
    SOUND,
    TEMPERATURE,
    TIME,
    U_AIR,
    P,
    U,
)
from dravik.kernel.vectors import rotate, rotate_back
from dravik.surroundings.atmosphere import GAS_CONSTANT, HEAT_RATIO, standard_air
from dravik.surroundings.earth_motion import place, position_rates

__all__ = ["SLOW", "air_at_minimal", "air_change", "air_data", "air_motion"]

Floats = NDArray[np.float64]
MOMENT = 1e-3  # s: time step for the finite difference of the wind along the flight path
SLOW = 1e-3  # m/s: below this airspeed angles and non-dimensional rates are zero, not noise

air = inlined(standard_air)


@inlined
def air_motion(program: Program, work: Workspace) -> None:
    """Fill the velocity of the air: the wind inputs plus the wind formulas, if there are any."""
    reg, k, field = work.registers, program.layout[WIND], program.layout[FIELD]
    reg[AIR], reg[AIR + 1], reg[AIR + 2] = reg[k], reg[k + 1], reg[k + 2]
    # always with ``steady``: wind formulas have no limits that a trim could be stuck at
    if field >= 0 or program.layout[OWN_AIR] >= 0:
        run_stage(program, work, END_WIND, True)
    if field >= 0:
        for i in range(3):
            reg[AIR + i] += reg[program.layout[field + i]]


@inlined
def air_change(program: Program, work: Workspace, t: float, x: Floats, m: tuple[float, ...]) -> None:
    """Fill the rate of change of the wind along the flight path, by a finite difference over MOMENT seconds."""
    reg, field = work.registers, program.layout[FIELD]
    vn, ve, vd = rotate_back(m, x[3], x[4], x[5])
    # central difference along the path: position and time move together, so that gusts that travel count too
    north, east, up = position_rates(program, x, vn, ve, vd)
    for side in (1.0, -1.0):
        step = side * MOMENT
        reg[TIME], reg[NORTH], reg[NORTH + 1], reg[NORTH + 2] = (
            t + step,
            x[0] + step * north,
            x[1] + step * east,
            x[2] + step * up,
        )
        place(program, reg)
        run_stage(program, work, END_WIND, True)
        for i in range(3):
            before = reg[AIR_DOT + i] if side < 0.0 else 0.0
            reg[AIR_DOT + i] = before + side * reg[program.layout[field + i]] / (2.0 * MOMENT)
    reg[TIME], reg[NORTH], reg[NORTH + 1], reg[NORTH + 2] = t, x[0], x[1], x[2]
    place(program, reg)


@compiled
def air_at_minimal(program: Program, work: Workspace, t: float, z: Floats, u: Floats) -> tuple[float, float, float]:
    """Return the velocity of the air (north, east, up, m/s) at a position, running the WIND stage alone."""
    reg, k = work.registers, program.layout[WIND] - N_BASE
    # without wind formulas the air moves as the inputs say
    if program.layout[FIELD] < 0:
        return u[k], u[k + 1], u[k + 2]
    reg[TIME], reg[NORTH], reg[NORTH + 1], reg[NORTH + 2] = t, z[0], z[1], z[2]
    for i in range(u.shape[0]):
        reg[N_BASE + i] = u[i]
    place(program, reg)
    air_motion(program, work)
    return reg[AIR], reg[AIR + 1], reg[AIR + 2]


@inlined
def air_data(program: Program, reg: Floats, m: tuple[float, ...]) -> tuple[float, float, float]:
    """Fill the air data; return the velocity relative to the air in body axes, m/s."""
    w = program.layout[WIND]
    # the wind is given as north, east, up; local axes are north, east, down
    wu, wv, ww = rotate(m, reg[AIR], reg[AIR + 1], -reg[AIR + 2])
    ua, va, wa = reg[U] - wu, reg[U + 1] - wv, reg[U + 2] - ww
    reg[U_AIR], reg[U_AIR + 1], reg[U_AIR + 2] = ua, va, wa
    speed = math.sqrt(ua * ua + va * va + wa * wa)
    own = program.layout[OWN_AIR]
    if own >= 0:
        temperature, pressure, density = (
            reg[program.layout[own]],
            reg[program.layout[own + 1]],
            reg[program.layout[own + 2]],
        )
        sound = math.sqrt(HEAT_RATIO * GAS_CONSTANT * temperature)
    else:
        temperature, pressure, density, sound = air(reg[NORTH + 2], program.numbers[TEMPERATURE_OFFSET])
    reg[AIRSPEED], reg[MACH] = speed, speed / sound
    reg[DENSITY], reg[PRESSURE], reg[TEMPERATURE], reg[SOUND] = density, pressure, temperature, sound
    reg[QBAR] = 0.5 * density * speed * speed
    reg[EAS] = speed * math.sqrt(density / SEA_LEVEL_DENSITY)
    if speed > SLOW:
        reg[ALPHA] = math.atan2(wa, ua)
        # rounding may take the ratio beyond one
        reg[BETA] = np.arcsin(min(max(va / speed, -1.0), 1.0))
        half = 0.5 / speed
    else:
        reg[ALPHA], reg[BETA], half = 0.0, 0.0, 0.0
    # aerodynamic damping depends on the rotation relative to the air, which gusts make turn
    reg[P_HAT] = (reg[P] - reg[w + 3]) * program.numbers[SPAN] * half
    reg[P_HAT + 1] = (reg[P + 1] - reg[w + 4]) * program.numbers[CHORD] * half
    reg[P_HAT + 2] = (reg[P + 2] - reg[w + 5]) * program.numbers[SPAN] * half
    return ua, va, wa
