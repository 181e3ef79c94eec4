"""The equations of motion of a rigid body over the Earth, with the alpha-dot terms solved exactly.

Forces act at the centre of gravity, which need not be the moment reference point. Sources:
B. L. Stevens, F. L. Lewis, Aircraft Control and Simulation, 2nd ed., Wiley 2003, section 1.5 and table 2.5-1;
B. Etkin, Dynamics of Atmospheric Flight, Wiley 1972, ch. 5. What the Earth does is in ``kernel.earth``.
"""

import math

import numpy as np
from numpy.typing import NDArray

from dravik import frames
from dravik.compiled import compiled
from dravik.constants import STANDARD_GRAVITY
from dravik.kernel.air import SLOW, air_change, air_data, air_motion
from dravik.kernel.earth import fill_earth, place, position_rates
from dravik.kernel.interpreter import run_stage
from dravik.kernel.program import (
    AERO,
    AREA,
    CENTRE,
    CENTRE_RATE,
    CHORD,
    END_ACCELERATIONS,
    END_ANGLE_RATES,
    END_RECORDED,
    END_STATES,
    END_WIND,
    EVERYTHING,
    FIELD,
    FORCE_AXES,
    INERTIA,
    LOAD_KINDS,
    LOAD_VECTORS,
    LOADS,
    MASS,
    MOMENT_AXES,
    MOMENT_POINT,
    MOTION,
    N_INPUTS,
    N_LOADS,
    N_STATES,
    PRODUCTS,
    RAIL,
    RATES,
    ROUND,
    SPAN,
    STATES,
    USES_ANGLES,
    USES_BETA_DOT,
    Program,
    Workspace,
)
from dravik.kernel.registers import (
    AIR,
    AIR_DOT,
    AIRSPEED,
    AIRSPEED_DOT,
    ALPHA_DOT,
    DOWN,
    EARTH_RATE,
    FLIGHT_PATH,
    GRAVITY_X,
    NORTH,
    NX,
    P_DOT,
    PHI,
    QBAR,
    TIME,
    TRANSPORT,
    U_AIR,
    U_DOT,
    P,
    U,
)
from dravik.kernel.signals import BASE_SIGNALS, RIGID_STATES
from dravik.kernel.vectors import cross, matrix_of, rotate, rotate_back

__all__ = ["evaluate", "signals_from_state"]

Floats = NDArray[np.float64]

N_BASE, N_RIGID = len(BASE_SIGNALS), len(RIGID_STATES)

euler_from_elements = compiled(frames.euler_from_elements)


@compiled
def ground_signals(program: Program, reg: Floats, x: Floats, m: tuple[float, ...]) -> None:
    """Fill the Euler angles, the place, and what the motion over the ground makes."""
    place(program, reg)
    reg[PHI], reg[PHI + 1], reg[PHI + 2] = euler_from_elements(m[0], m[1], m[2], m[3], m[4], m[5], m[8])
    vn, ve, vd = rotate_back(m, x[3], x[4], x[5])
    over_ground = math.hypot(vn, ve)
    # 0 - vd, and not -vd: people shall read no negative zero
    reg[FLIGHT_PATH] = math.atan2(0.0 - vd, over_ground)
    reg[FLIGHT_PATH + 1] = math.atan2(ve, vn) if over_ground > SLOW else 0.0
    reg[FLIGHT_PATH + 2] = over_ground
    reg[FLIGHT_PATH + 3] = 0.0 - vd


@compiled
def signals_from_state(
    program: Program, work: Workspace, t: float, x: Floats, u: Floats, m: tuple[float, ...], extent: int
) -> tuple[float, float, float]:
    """Fill the signals that need no forces; return the body components of velocity relative to the air."""
    reg = work.registers
    reg[TIME] = t
    for i in range(6):
        reg[NORTH + i] = x[i]
    for i in range(3):
        reg[P + i] = x[10 + i]
    reg[DOWN], reg[DOWN + 1], reg[DOWN + 2] = m[2], m[5], m[8]
    layout = program.layout
    for i in range(layout[N_INPUTS]):
        reg[N_BASE + i] = u[i]
    for i in range(layout[N_STATES]):
        reg[layout[layout[STATES] + i]] = x[N_RIGID + i]
    if extent != MOTION or layout[USES_ANGLES] == 1:
        ground_signals(program, reg, x, m)
    fill_earth(program, reg, x, m)
    if layout[FIELD] >= 0:
        air_change(program, work, t, x, m)
    air_motion(program, work)
    return air_data(program, reg, m)


@compiled
def coefficients_to_body(program: Program, reg: Floats) -> tuple[float, float, float, float, float, float]:
    """Return the six aerodynamic coefficients in body axes."""
    layout = program.layout
    a = layout[AERO]
    c1, c2, c3 = reg[layout[a]], reg[layout[a + 1]], reg[layout[a + 2]]
    l1, l2, l3 = reg[layout[a + 3]], reg[layout[a + 4]], reg[layout[a + 5]]
    # cosines and sines of the air angles from the velocities that made them: cheaper than from the angles
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


@compiled
def sum_loads(program: Program, reg: Floats) -> tuple[float, float, float, float, float, float]:
    """Return force and moment about the centre of gravity, weight apart, in body axes."""
    layout, numbers = program.layout, program.numbers
    fx, fy, fz, mx, my, mz = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    g = layout[MASS]
    gx, gy, gz = reg[layout[g + CENTRE]], reg[layout[g + CENTRE + 1]], reg[layout[g + CENTRE + 2]]
    if layout[layout[AERO]] >= 0:
        cx, cy, cz, cl, cm, cn = coefficients_to_body(program, reg)
        k = reg[QBAR] * numbers[AREA]
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
            # what flows through a turning body is turned with it: Coriolis' force on the whole flow, -2 w x (flow way)
            dx, dy, dz = cross(-2.0 * reg[P], -2.0 * reg[P + 1], -2.0 * reg[P + 2], dx, dy, dz)
        if kind == 3:
            # what spins about an axis fixed in the body turns with it: -w x h
            dx, dy, dz = cross(-reg[P], -reg[P + 1], -reg[P + 2], dx, dy, dz)
        if kind == 0 or kind == 2:
            tx, ty, tz = cross(numbers[at + 3] - gx, numbers[at + 4] - gy, numbers[at + 5] - gz, dx, dy, dz)
            fx, fy, fz = fx + dx, fy + dy, fz + dz
        else:
            tx, ty, tz = dx, dy, dz
        mx, my, mz = mx + tx, my + ty, mz + tz
    return fx, fy, fz, mx, my, mz


@compiled
def air_angle_rates(ua: float, va: float, wa: float, ax: float, ay: float, az: float) -> tuple[float, float, float]:
    """Return alpha_dot, beta_dot, airspeed_dot from velocity and acceleration relative to the air."""
    plane = ua * ua + wa * wa
    square = plane + va * va
    if square < SLOW * SLOW:
        return 0.0, 0.0, 0.0
    along = ua * ax + va * ay + wa * az
    speed = math.sqrt(square)
    if plane < 1e-12 * square:
        return 0.0, 0.0, along / speed
    return (
        (ua * az - wa * ax) / plane,
        (square * ay - va * along) / (square * math.sqrt(plane)),
        along / speed,
    )


@compiled
def set_air_angle_rates(program: Program, reg: Floats, alpha_dot: float, beta_dot: float) -> None:
    """Put the rates of the air angles, and their non-dimensional forms, into their signals."""
    half = 0.5 / reg[AIRSPEED] if reg[AIRSPEED] > SLOW else 0.0
    reg[ALPHA_DOT], reg[ALPHA_DOT + 1] = alpha_dot, beta_dot
    reg[ALPHA_DOT + 2] = alpha_dot * program.numbers[CHORD] * half
    reg[ALPHA_DOT + 3] = beta_dot * program.numbers[SPAN] * half


@compiled
def _accelerations(program: Program, reg: Floats, fx: float, fy: float, fz: float) -> tuple[float, float, float]:
    """Return the rates of u, v, w: the velocity of the body where its centre of gravity is, which may move in it."""
    layout = program.layout
    n, g = 1.0 / reg[layout[layout[MASS]]], layout[MASS] + CENTRE_RATE
    du, dv, dw = reg[U] - reg[layout[g]], reg[U + 1] - reg[layout[g + 1]], reg[U + 2] - reg[layout[g + 2]]
    cx, cy, cz = cross(reg[P], reg[P + 1], reg[P + 2], du, dv, dw)
    if layout[ROUND] == 1:
        e = EARTH_RATE
        ox, oy, oz = cross(2.0 * reg[e], 2.0 * reg[e + 1], 2.0 * reg[e + 2], reg[U], reg[U + 1], reg[U + 2])
        cx, cy, cz = cx + ox, cy + oy, cz + oz
    return fx * n + reg[GRAVITY_X] - cx, fy * n + reg[GRAVITY_X + 1] - cy, fz * n + reg[GRAVITY_X + 2] - cz


@compiled
def _rates_relative_to_air(
    reg: Floats, m: tuple[float, ...], ua: float, va: float, wa: float, ax: float, ay: float, az: float
) -> tuple[float, float, float]:
    """Return alpha_dot, beta_dot, airspeed_dot: the wind turns in body axes, and changes along the way.

    What the inputs put into the wind, such as turbulence, is taken as steady.
    """
    wu, wv, ww = rotate(m, reg[AIR], reg[AIR + 1], -reg[AIR + 2])
    k = TRANSPORT
    cx, cy, cz = cross(reg[P] - reg[k], reg[P + 1] - reg[k + 1], reg[P + 2] - reg[k + 2], wu, wv, ww)
    du, dv, dw = rotate(m, reg[AIR_DOT], reg[AIR_DOT + 1], -reg[AIR_DOT + 2])
    return air_angle_rates(ua, va, wa, ax + cx - du, ay + cy - dv, az + cz - dw)


@compiled
def _loads_at(
    program: Program, work: Workspace, alpha_dot: float, beta_dot: float, steady: bool
) -> tuple[float, float, float, float, float, float]:
    """Return the loads at given rates of the air angles."""
    set_air_angle_rates(program, work.registers, alpha_dot, beta_dot)
    run_stage(program, work, program.layout[END_STATES], program.layout[END_ANGLE_RATES], steady)
    return sum_loads(program, work.registers)


@compiled
def solve_loads(
    program: Program, work: Workspace, m: tuple[float, ...], ua: float, va: float, wa: float, steady: bool
) -> tuple[float, float, float, float, float, float]:
    """Return the loads at the alpha_dot and beta_dot that they themselves bring about.

    The loads are linear in both (the formulas are checked for that), so three evaluations of
    the few instructions concerned give the 2 by 2 system exactly.
    """
    if program.layout[END_ANGLE_RATES] == program.layout[END_STATES]:
        return sum_loads(program, work.registers)
    reg = work.registers
    f = _loads_at(program, work, 0.0, 0.0, steady)
    ax, ay, az = _accelerations(program, reg, f[0], f[1], f[2])
    a0, b0, _ = _rates_relative_to_air(reg, m, ua, va, wa, ax, ay, az)
    n = 1.0 / reg[program.layout[program.layout[MASS]]]
    # what one of each rate adds to the loads, and these to the rates: alpha_dot = a0 + a1 alpha_dot + a2 beta_dot
    g = _loads_at(program, work, 1.0, 0.0, steady)
    g = (g[0] - f[0], g[1] - f[1], g[2] - f[2], g[3] - f[3], g[4] - f[4], g[5] - f[5])
    a1, b1, _ = air_angle_rates(ua, va, wa, n * g[0], n * g[1], n * g[2])
    h, a2, b2 = (0.0, 0.0, 0.0, 0.0, 0.0, 0.0), 0.0, 0.0
    if program.layout[USES_BETA_DOT] == 1:
        h = _loads_at(program, work, 0.0, 1.0, steady)
        h = (h[0] - f[0], h[1] - f[1], h[2] - f[2], h[3] - f[3], h[4] - f[4], h[5] - f[5])
        a2, b2, _ = air_angle_rates(ua, va, wa, n * h[0], n * h[1], n * h[2])
    determinant = (1.0 - a1) * (1.0 - b2) - a2 * b1
    alpha_dot = (a0 * (1.0 - b2) + a2 * b0) / determinant
    beta_dot = ((1.0 - a1) * b0 + b1 * a0) / determinant
    # the formulas once more with the rates found, for all that reads them
    set_air_angle_rates(program, reg, alpha_dot, beta_dot)
    run_stage(program, work, program.layout[END_STATES], program.layout[END_ANGLE_RATES], steady)
    return (
        f[0] + g[0] * alpha_dot + h[0] * beta_dot,
        f[1] + g[1] * alpha_dot + h[1] * beta_dot,
        f[2] + g[2] * alpha_dot + h[2] * beta_dot,
        f[3] + g[3] * alpha_dot + h[3] * beta_dot,
        f[4] + g[4] * alpha_dot + h[4] * beta_dot,
        f[5] + g[5] * alpha_dot + h[5] * beta_dot,
    )


@compiled
def rotational_acceleration(
    program: Program, reg: Floats, tx: float, ty: float, tz: float
) -> tuple[float, float, float]:
    """Return the rates of p, q, r under a moment: Euler's equations with the full inertia tensor.

    Momentum counts the turning of the Earth, which stands still in space and so turns in the body.
    """
    layout = program.layout
    i, k = layout[MASS] + INERTIA, layout[MASS] + PRODUCTS
    a, b, c = reg[layout[i]], reg[layout[i + 1]], reg[layout[i + 2]]
    # products of inertia are integrals of xy, xz, yz over the mass: the tensor holds their negatives
    d, e, f = -reg[layout[k]], -reg[layout[k + 1]], -reg[layout[k + 2]]
    k = EARTH_RATE
    ex, ey, ez = reg[k], reg[k + 1], reg[k + 2]
    wx, wy, wz = reg[P] + ex, reg[P + 1] + ey, reg[P + 2] + ez
    hx = a * wx + d * wy + e * wz
    hy = d * wx + b * wy + f * wz
    hz = e * wx + f * wy + c * wz
    cx, cy, cz = cross(wx, wy, wz, hx, hy, hz)
    mx, my, mz = tx - cx, ty - cy, tz - cz
    i11, i12, i13 = b * c - f * f, e * f - d * c, d * f - e * b
    i22, i23, i33 = a * c - e * e, d * e - a * f, a * b - d * d
    n = 1.0 / (a * i11 + d * i12 + e * i13)
    ox, oy, oz = cross(wx, wy, wz, ex, ey, ez)
    return (
        (i11 * mx + i12 * my + i13 * mz) * n + ox,
        (i12 * mx + i22 * my + i23 * mz) * n + oy,
        (i13 * mx + i23 * my + i33 * mz) * n + oz,
    )


@compiled
def earth_rates(program: Program, work: Workspace, m: tuple[float, ...], x: Floats, dx: Floats) -> None:
    """Put the rates of position and attitude into ``dx``."""
    layout, reg = program.layout, work.registers
    g = layout[MASS] + CENTRE_RATE
    vn, ve, vd = rotate_back(m, x[3] + reg[layout[g]], x[4] + reg[layout[g + 1]], x[5] + reg[layout[g + 2]])
    dx[0], dx[1], dx[2] = position_rates(program, x, vn, ve, vd)
    q0, q1, q2, q3 = x[6], x[7], x[8], x[9]
    k = TRANSPORT
    wx, wy, wz = x[10] - reg[k], x[11] - reg[k + 1], x[12] - reg[k + 2]
    dx[6] = 0.5 * (-q1 * wx - q2 * wy - q3 * wz)
    dx[7] = 0.5 * (q0 * wx - q3 * wy + q2 * wz)
    dx[8] = 0.5 * (q3 * wx + q0 * wy - q1 * wz)
    dx[9] = 0.5 * (-q2 * wx + q1 * wy + q0 * wz)


@compiled
def _felt(program: Program, reg: Floats, ax: float) -> tuple[float, float, float]:
    """Return the force other than weight on a body that a rail guides along its x axis."""
    mass = reg[program.layout[program.layout[MASS]]]
    return mass * (ax - reg[GRAVITY_X]), -mass * reg[GRAVITY_X + 1], -mass * reg[GRAVITY_X + 2]


@compiled
def evaluate(
    program: Program, work: Workspace, t: float, x: Floats, u: Floats, dx: Floats, steady: bool, extent: int
) -> None:
    """Put the rates of all states into ``dx``, and the signals into the registers.

    ``steady`` lifts rate limits and stops (for trim); ``extent`` is MOTION, SIGNALS or EVERYTHING. On a rail the body
    moves along its x axis alone, and not backwards from rest.
    """
    reg, layout = work.registers, program.layout
    m = matrix_of(x)
    ua, va, wa = signals_from_state(program, work, t, x, u, m, extent)
    run_stage(program, work, layout[END_WIND], layout[END_STATES], steady)
    fx, fy, fz, mx, my, mz = solve_loads(program, work, m, ua, va, wa, steady)
    ax, ay, az = _accelerations(program, reg, fx, fy, fz)
    px, py, pz = rotational_acceleration(program, reg, mx, my, mz)
    if layout[RAIL] >= 0 and reg[layout[RAIL]] != 0.0:
        ax, ay, az, px, py, pz = max(ax, 0.0) if reg[U] <= 0.0 else ax, 0.0, 0.0, 0.0, 0.0, 0.0
        fx, fy, fz = _felt(program, reg, ax)
    alpha_dot, beta_dot, speed_dot = _rates_relative_to_air(reg, m, ua, va, wa, ax, ay, az)
    set_air_angle_rates(program, reg, alpha_dot, beta_dot)
    n = 1.0 / (reg[layout[layout[MASS]]] * STANDARD_GRAVITY)
    reg[U_DOT], reg[U_DOT + 1], reg[U_DOT + 2] = ax, ay, az
    reg[P_DOT], reg[P_DOT + 1], reg[P_DOT + 2] = px, py, pz
    reg[NX], reg[NX + 1], reg[NX + 2] = fx * n, fy * n, -fz * n
    reg[AIRSPEED_DOT] = speed_dot
    run_stage(program, work, layout[END_ANGLE_RATES], layout[END_ACCELERATIONS], steady)
    if extent == EVERYTHING:
        run_stage(program, work, layout[END_ACCELERATIONS], layout[END_RECORDED], steady)
    earth_rates(program, work, m, x, dx)
    dx[3], dx[4], dx[5] = ax, ay, az
    dx[10], dx[11], dx[12] = px, py, pz
    for i in range(layout[N_STATES]):
        dx[N_RIGID + i] = reg[layout[layout[RATES] + i]]
