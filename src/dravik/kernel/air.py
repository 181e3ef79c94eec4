"""The air where the aircraft is: how it moves, how that changes along the way, and what it makes of the motion."""

import math

import numpy as np
from numpy.typing import NDArray

from dravik.atmosphere import GAS_CONSTANT, HEAT_RATIO, standard_air
from dravik.compiled import compiled
from dravik.constants import SEA_LEVEL_DENSITY
from dravik.kernel.earth import place, position_rates
from dravik.kernel.interpreter import run_tape
from dravik.kernel.program import (
    CHORD,
    FIELD,
    N_BASE,
    OWN_AIR,
    SPAN,
    STAGE_W,
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

__all__ = ["SLOW", "air_at_chart", "air_change", "air_data", "air_motion"]

Floats = NDArray[np.float64]
MOMENT = 1e-3  # s, over which the wind's change along the way is taken
SLOW = 1e-3  # m/s: below this airspeed angles and non-dimensional rates are zero, not noise

air = compiled(standard_air)


@compiled
def air_motion(p: Program, w: Workspace) -> None:
    """Fill the velocity of the air here: what the inputs say, and the formulas of the wind, if there are any."""
    r, k, field = w.registers, p.layout[WIND], p.layout[FIELD]
    r[AIR], r[AIR + 1], r[AIR + 2] = r[k], r[k + 1], r[k + 2]
    if field >= 0 or p.layout[OWN_AIR] >= 0:
        run_tape(p.code, p.layout, p.numbers, r, w.counters, w.worst, 0, p.layout[STAGE_W], True)
    if field >= 0:
        for i in range(3):
            r[AIR + i] += r[p.layout[field + i]]


@compiled
def air_change(p: Program, w: Workspace, t: float, x: Floats, m: tuple[float, ...]) -> None:
    """Fill how fast the wind of the place changes where the aircraft moves to, by the difference over a moment."""
    r, field = w.registers, p.layout[FIELD]
    vn, ve, vd = rotate_back(m, x[3], x[4], x[5])
    north, east, up = position_rates(p, x, vn, ve, vd)
    for side in (1.0, -1.0):
        step = side * MOMENT
        r[TIME], r[NORTH], r[NORTH + 1], r[NORTH + 2] = (
            t + step,
            x[0] + step * north,
            x[1] + step * east,
            x[2] + step * up,
        )
        place(p, r)
        run_tape(p.code, p.layout, p.numbers, r, w.counters, w.worst, 0, p.layout[STAGE_W], True)
        for i in range(3):
            before = r[AIR_DOT + i] if side < 0.0 else 0.0
            r[AIR_DOT + i] = before + side * r[p.layout[field + i]] / (2.0 * MOMENT)
    r[TIME], r[NORTH], r[NORTH + 1], r[NORTH + 2] = t, x[0], x[1], x[2]
    place(p, r)


@compiled
def air_at_chart(p: Program, w: Workspace, t: float, z: Floats, u: Floats) -> tuple[float, float, float]:
    """Return the velocity of the air (north, east, up) at a place, before anything else is known."""
    r, k = w.registers, p.layout[WIND] - N_BASE
    if p.layout[FIELD] < 0:
        return u[k], u[k + 1], u[k + 2]
    r[TIME], r[NORTH], r[NORTH + 1], r[NORTH + 2] = t, z[0], z[1], z[2]
    for i in range(u.shape[0]):
        r[N_BASE + i] = u[i]
    place(p, r)
    air_motion(p, w)
    return r[AIR], r[AIR + 1], r[AIR + 2]


@compiled
def air_data(p: Program, r: Floats, m: tuple[float, ...]) -> tuple[float, float, float]:
    """Fill the signals that the air makes; return the body components of velocity relative to it."""
    w = p.layout[WIND]
    wu, wv, ww = rotate(m, r[AIR], r[AIR + 1], -r[AIR + 2])
    ua, va, wa = r[U] - wu, r[U + 1] - wv, r[U + 2] - ww
    r[U_AIR], r[U_AIR + 1], r[U_AIR + 2] = ua, va, wa
    speed = math.sqrt(ua * ua + va * va + wa * wa)
    own = p.layout[OWN_AIR]
    if own >= 0:
        temperature, pressure, density = r[p.layout[own]], r[p.layout[own + 1]], r[p.layout[own + 2]]
        sound = math.sqrt(HEAT_RATIO * GAS_CONSTANT * temperature)
    else:
        temperature, pressure, density, sound = air(r[NORTH + 2], p.numbers[TEMPERATURE_OFFSET])
    r[AIRSPEED], r[MACH] = speed, speed / sound
    r[DENSITY], r[PRESSURE], r[TEMPERATURE], r[SOUND] = density, pressure, temperature, sound
    r[QBAR] = 0.5 * density * speed * speed
    r[EAS] = speed * math.sqrt(density / SEA_LEVEL_DENSITY)
    if speed > SLOW:
        r[ALPHA] = math.atan2(wa, ua)
        r[BETA] = np.arcsin(min(max(va / speed, -1.0), 1.0))
        half = 0.5 / speed
    else:
        r[ALPHA], r[BETA], half = 0.0, 0.0, 0.0
    r[P_HAT] = (r[P] - r[w + 3]) * p.numbers[SPAN] * half
    r[P_HAT + 1] = (r[P + 1] - r[w + 4]) * p.numbers[CHORD] * half
    r[P_HAT + 2] = (r[P + 2] - r[w + 5]) * p.numbers[SPAN] * half
    return ua, va, wa
