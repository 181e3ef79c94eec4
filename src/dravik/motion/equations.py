"""The equations of motion of a rigid body over the Earth, with the alpha-dot terms solved exactly.

Forces act at the centre of gravity, which need not be the moment reference point. Sources:
B. L. Stevens, F. L. Lewis, Aircraft Control and Simulation, 2nd ed., Wiley 2003, section 1.5 and table 2.5-1;
B. Etkin, Dynamics of Atmospheric Flight, Wiley 1972, ch. 5. What the Earth does is in ``kernel.earth``.
"""

import math

import numpy as np
from numpy.typing import NDArray

from dravik import frames
from dravik.compiled import compiled, inlined
from dravik.constants import STANDARD_GRAVITY
from dravik.kernel.interpreter import run_stage
from dravik.kernel.program import (
    AERO,
    CENTRE_RATE,
    CHORD,
    END_ACCELERATIONS,
    END_ANGLE_RATES,
    END_RECORDED,
    END_STATES,
    EVERYTHING,
    FIELD,
    INERTIA,
    MASS,
    MOTION,
    N_INPUTS,
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
    TIME,
    TRANSPORT,
    U_DOT,
    P,
    U,
)
from dravik.kernel.signals import BASE_SIGNALS, RIGID_STATES
from dravik.kernel.vectors import cross, matrix_of, rotate, rotate_back
from dravik.motion.loads import coefficients_to_body, sum_loads
from dravik.surroundings.air_data import SLOW, air_change, air_data, air_motion
from dravik.surroundings.earth_motion import fill_earth, place, position_rates

__all__ = ["evaluate", "loads_by_rates", "signals_from_state"]

Floats = NDArray[np.float64]

N_BASE, N_RIGID = len(BASE_SIGNALS), len(RIGID_STATES)

euler_from_elements = inlined(frames.euler_from_elements)


@inlined
def ground_signals(program: Program, reg: Floats, x: Floats, m: tuple[float, ...]) -> None:
    """Fill the Euler angles, latitude and longitude, flight path, track, ground speed and climb rate."""
    place(program, reg)
    reg[PHI], reg[PHI + 1], reg[PHI + 2] = euler_from_elements(m[0], m[1], m[2], m[3], m[4], m[5], m[8])
    vn, ve, vd = rotate_back(m, x[3], x[4], x[5])
    over_ground = math.hypot(vn, ve)
    # 0 - vd instead of -vd, which would give -0.0 in level flight
    reg[FLIGHT_PATH] = math.atan2(0.0 - vd, over_ground)
    reg[FLIGHT_PATH + 1] = math.atan2(ve, vn) if over_ground > SLOW else 0.0
    reg[FLIGHT_PATH + 2] = over_ground
    reg[FLIGHT_PATH + 3] = 0.0 - vd


@inlined
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


@inlined
def air_angle_rates(ua: float, va: float, wa: float, ax: float, ay: float, az: float) -> tuple[float, float, float]:
    """Return alpha_dot, beta_dot, airspeed_dot from velocity and acceleration relative to the air."""
    plane = ua * ua + wa * wa
    square = plane + va * va
    # alpha and beta are undefined at rest: their rates would be noise over zero
    if square < SLOW * SLOW:
        return 0.0, 0.0, 0.0
    along = ua * ax + va * ay + wa * az
    speed = math.sqrt(square)
    # flow along the y axis: alpha is undefined
    if plane < 1e-12 * square:
        return 0.0, 0.0, along / speed
    return (
        # derivatives of atan2(w, u), asin(v/V) and V = sqrt(u^2 + v^2 + w^2)
        (ua * az - wa * ax) / plane,
        (square * ay - va * along) / (square * math.sqrt(plane)),
        along / speed,
    )


@inlined
def set_air_angle_rates(program: Program, reg: Floats, alpha_dot: float, beta_dot: float) -> None:
    """Put the rates of the air angles, and their non-dimensional forms, into their signals."""
    half = 0.5 / reg[AIRSPEED] if reg[AIRSPEED] > SLOW else 0.0
    reg[ALPHA_DOT], reg[ALPHA_DOT + 1] = alpha_dot, beta_dot
    reg[ALPHA_DOT + 2] = alpha_dot * program.numbers[CHORD] * half
    reg[ALPHA_DOT + 3] = beta_dot * program.numbers[SPAN] * half


@inlined
def _accelerations(program: Program, reg: Floats, fx: float, fy: float, fz: float) -> tuple[float, float, float]:
    """Return the rates of u, v, w (m/s^2); the centre of gravity may move in the body."""
    layout = program.layout
    # u, v, w belong to the body's point at the centre of gravity, which moves in the body as tanks drain: only the
    # difference turns with the body as a fixed vector does
    n, g = 1.0 / reg[layout[layout[MASS]]], layout[MASS] + CENTRE_RATE
    du, dv, dw = reg[U] - reg[layout[g]], reg[U + 1] - reg[layout[g + 1]], reg[U + 2] - reg[layout[g + 2]]
    cx, cy, cz = cross(reg[P], reg[P + 1], reg[P + 2], du, dv, dw)
    if layout[ROUND] == 1:
        e = EARTH_RATE
        # Coriolis acceleration; the centrifugal part is in gravity already
        ox, oy, oz = cross(2.0 * reg[e], 2.0 * reg[e + 1], 2.0 * reg[e + 2], reg[U], reg[U + 1], reg[U + 2])
        cx, cy, cz = cx + ox, cy + oy, cz + oz
    return fx * n + reg[GRAVITY_X] - cx, fy * n + reg[GRAVITY_X + 1] - cy, fz * n + reg[GRAVITY_X + 2] - cz


@inlined
def _rates_relative_to_air(
    reg: Floats, m: tuple[float, ...], ua: float, va: float, wa: float, ax: float, ay: float, az: float
) -> tuple[float, float, float]:
    """Return alpha_dot, beta_dot (rad/s) and airspeed_dot (m/s^2), with the wind's gradient along the path.

    The wind inputs, such as turbulence, are taken as constant.
    """
    # a wind constant in local axes turns in body axes: its rate there is -w x wind, with the rates relative to
    # the local axes
    wu, wv, ww = rotate(m, reg[AIR], reg[AIR + 1], -reg[AIR + 2])
    k = TRANSPORT
    cx, cy, cz = cross(reg[P] - reg[k], reg[P + 1] - reg[k + 1], reg[P + 2] - reg[k + 2], wu, wv, ww)
    du, dv, dw = rotate(m, reg[AIR_DOT], reg[AIR_DOT + 1], -reg[AIR_DOT + 2])
    return air_angle_rates(ua, va, wa, ax + cx - du, ay + cy - dv, az + cz - dw)


@inlined
def _loads_at(
    program: Program, work: Workspace, alpha_dot: float, beta_dot: float, steady: bool
) -> tuple[float, float, float, float, float, float]:
    """Return the loads at given rates of the air angles."""
    set_air_angle_rates(program, work.registers, alpha_dot, beta_dot)
    run_stage(program, work, END_ANGLE_RATES, steady)
    return sum_loads(program, work.registers)


@inlined
def solve_loads(
    program: Program, work: Workspace, m: tuple[float, ...], ua: float, va: float, wa: float, steady: bool
) -> tuple[float, float, float, float, float, float]:
    """Return the loads (N, N m; body axes) at the alpha_dot and beta_dot that follow from these very loads.

    The loads are linear in both (the formulas are checked for that), so three evaluations of
    the few instructions concerned give the 2 by 2 system exactly.
    """
    # no formula reads alpha_dot or beta_dot
    if program.layout[END_ANGLE_RATES] == program.layout[END_STATES]:
        return sum_loads(program, work.registers)
    reg = work.registers
    f = _loads_at(program, work, 0.0, 0.0, steady)
    ax, ay, az = _accelerations(program, reg, f[0], f[1], f[2])
    a0, b0, _ = _rates_relative_to_air(reg, m, ua, va, wa, ax, ay, az)
    n = 1.0 / reg[program.layout[program.layout[MASS]]]
    # loads per unit of alpha_dot (g) and of beta_dot (h), and what they add to the rates themselves:
    # alpha_dot = a0 + a1 alpha_dot + a2 beta_dot, beta_dot = b0 + b1 alpha_dot + b2 beta_dot
    g = _loads_at(program, work, 1.0, 0.0, steady)
    g = (g[0] - f[0], g[1] - f[1], g[2] - f[2], g[3] - f[3], g[4] - f[4], g[5] - f[5])
    a1, b1, _ = air_angle_rates(ua, va, wa, n * g[0], n * g[1], n * g[2])
    h, a2, b2 = (0.0, 0.0, 0.0, 0.0, 0.0, 0.0), 0.0, 0.0
    if program.layout[USES_BETA_DOT] == 1:
        h = _loads_at(program, work, 0.0, 1.0, steady)
        h = (h[0] - f[0], h[1] - f[1], h[2] - f[2], h[3] - f[3], h[4] - f[4], h[5] - f[5])
        a2, b2, _ = air_angle_rates(ua, va, wa, n * h[0], n * h[1], n * h[2])
    # Cramer's rule; the determinant is near one, as an aircraft weighs far more than the air it accelerates
    determinant = (1.0 - a1) * (1.0 - b2) - a2 * b1
    alpha_dot = (a0 * (1.0 - b2) + a2 * b0) / determinant
    beta_dot = ((1.0 - a1) * b0 + b1 * a0) / determinant
    # run the stage once more with the rates found, so that its signals are consistent with them
    set_air_angle_rates(program, reg, alpha_dot, beta_dot)
    run_stage(program, work, END_ANGLE_RATES, steady)
    return (
        f[0] + g[0] * alpha_dot + h[0] * beta_dot,
        f[1] + g[1] * alpha_dot + h[1] * beta_dot,
        f[2] + g[2] * alpha_dot + h[2] * beta_dot,
        f[3] + g[3] * alpha_dot + h[3] * beta_dot,
        f[4] + g[4] * alpha_dot + h[4] * beta_dot,
        f[5] + g[5] * alpha_dot + h[5] * beta_dot,
    )


@compiled
def loads_by_rates(
    program: Program, work: Workspace, x: Floats, u: Floats, alpha_dot: float, beta_dot: float, out: Floats
) -> None:
    """Put the loads (N, N m; body axes, weight apart) at given rates of the air angles into ``out`` (12,).

    Then the six aerodynamic coefficients in body axes about the moment point; zeros without an aero section.
    """
    m = matrix_of(x)
    signals_from_state(program, work, 0.0, x, u, m, EVERYTHING)
    run_stage(program, work, END_STATES, False)
    loads = _loads_at(program, work, alpha_dot, beta_dot, False)
    for i in range(6):
        out[i] = loads[i]
        out[6 + i] = 0.0
    if program.layout[program.layout[AERO]] >= 0:
        coefficients = coefficients_to_body(program, work.registers)
        for i in range(6):
            out[6 + i] = coefficients[i]


@inlined
def rotational_acceleration(
    program: Program, reg: Floats, tx: float, ty: float, tz: float
) -> tuple[float, float, float]:
    """Return the rates of p, q, r under a moment: Euler's equations with the full inertia tensor.

    Angular momentum includes the Earth's rotation, constant in space and therefore varying in body axes.
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
    # inverse of the symmetric tensor by cofactors: no pivoting and no allocation
    i11, i12, i13 = b * c - f * f, e * f - d * c, d * f - e * b
    i22, i23, i33 = a * c - e * e, d * e - a * f, a * b - d * d
    n = 1.0 / (a * i11 + d * i12 + e * i13)
    # the rate of p, q, r relative to the Earth: the Earth's rate in body axes changes by -w x e
    ox, oy, oz = cross(wx, wy, wz, ex, ey, ez)
    return (
        (i11 * mx + i12 * my + i13 * mz) * n + ox,
        (i12 * mx + i22 * my + i23 * mz) * n + oy,
        (i13 * mx + i23 * my + i33 * mz) * n + oz,
    )


@inlined
def earth_rates(program: Program, work: Workspace, m: tuple[float, ...], x: Floats, dx: Floats) -> None:
    """Put the rates of position and attitude into ``dx``."""
    layout, reg = program.layout, work.registers
    g = layout[MASS] + CENTRE_RATE
    vn, ve, vd = rotate_back(m, x[3] + reg[layout[g]], x[4] + reg[layout[g + 1]], x[5] + reg[layout[g + 2]])
    dx[0], dx[1], dx[2] = position_rates(program, x, vn, ve, vd)
    # quaternion kinematics with the rates relative to the local axes, which turn as the aircraft moves over the Earth
    q0, q1, q2, q3 = x[6], x[7], x[8], x[9]
    k = TRANSPORT
    wx, wy, wz = x[10] - reg[k], x[11] - reg[k + 1], x[12] - reg[k + 2]
    dx[6] = 0.5 * (-q1 * wx - q2 * wy - q3 * wz)
    dx[7] = 0.5 * (q0 * wx - q3 * wy + q2 * wz)
    dx[8] = 0.5 * (q3 * wx + q0 * wy - q1 * wz)
    dx[9] = 0.5 * (-q2 * wx + q1 * wy + q0 * wz)


@inlined
def _felt(program: Program, reg: Floats, ax: float) -> tuple[float, float, float]:
    """Return the force other than weight (N) on a body on the rail, the rail's own included: for load factors."""
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
    # computed once for each evaluation and passed on: nine numbers on the stack
    m = matrix_of(x)
    ua, va, wa = signals_from_state(program, work, t, x, u, m, extent)
    run_stage(program, work, END_STATES, steady)
    fx, fy, fz, mx, my, mz = solve_loads(program, work, m, ua, va, wa, steady)
    ax, ay, az = _accelerations(program, reg, fx, fy, fz)
    px, py, pz = rotational_acceleration(program, reg, mx, my, mz)
    # the rail takes all loads across it and all moments, and stops backward motion
    if layout[RAIL] >= 0 and reg[layout[RAIL]] != 0.0:
        ax, ay, az, px, py, pz = max(ax, 0.0) if reg[U] <= 0.0 else ax, 0.0, 0.0, 0.0, 0.0, 0.0
        fx, fy, fz = _felt(program, reg, ax)
    alpha_dot, beta_dot, speed_dot = _rates_relative_to_air(reg, m, ua, va, wa, ax, ay, az)
    set_air_angle_rates(program, reg, alpha_dot, beta_dot)
    # load factors refer to standard gravity, whatever gravity is here
    n = 1.0 / (reg[layout[layout[MASS]]] * STANDARD_GRAVITY)
    reg[U_DOT], reg[U_DOT + 1], reg[U_DOT + 2] = ax, ay, az
    reg[P_DOT], reg[P_DOT + 1], reg[P_DOT + 2] = px, py, pz
    reg[NX], reg[NX + 1], reg[NX + 2] = fx * n, fy * n, -fz * n
    reg[AIRSPEED_DOT] = speed_dot
    run_stage(program, work, END_ACCELERATIONS, steady)
    if extent == EVERYTHING:
        run_stage(program, work, END_RECORDED, steady)
    earth_rates(program, work, m, x, dx)
    dx[3], dx[4], dx[5] = ax, ay, az
    dx[10], dx[11], dx[12] = px, py, pz
    for i in range(layout[N_STATES]):
        dx[N_RIGID + i] = reg[layout[layout[RATES] + i]]
