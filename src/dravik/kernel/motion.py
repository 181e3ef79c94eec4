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
from dravik.kernel.interpreter import run_tape
from dravik.kernel.program import (
    AERO,
    AREA,
    CHORD,
    EVERYTHING,
    FIELD,
    FORCE_AXES,
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
    RAIL,
    RATES,
    ROUND,
    SPAN,
    STAGE_A,
    STAGE_B,
    STAGE_C,
    STAGE_D,
    STAGE_W,
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
def ground_signals(p: Program, r: Floats, x: Floats, m: tuple[float, ...]) -> None:
    """Fill the Euler angles, the place, and what the motion over the ground makes."""
    place(p, r)
    r[PHI], r[PHI + 1], r[PHI + 2] = euler_from_elements(m[0], m[1], m[2], m[3], m[4], m[5], m[8])
    vn, ve, vd = rotate_back(m, x[3], x[4], x[5])
    over_ground = math.hypot(vn, ve)
    # 0 - vd, and not -vd: people shall read no negative zero
    r[FLIGHT_PATH] = math.atan2(0.0 - vd, over_ground)
    r[FLIGHT_PATH + 1] = math.atan2(ve, vn) if over_ground > SLOW else 0.0
    r[FLIGHT_PATH + 2] = over_ground
    r[FLIGHT_PATH + 3] = 0.0 - vd


@compiled
def signals_from_state(
    p: Program, w: Workspace, t: float, x: Floats, u: Floats, m: tuple[float, ...], extent: int
) -> tuple[float, float, float]:
    """Fill the signals that need no forces; return the body components of velocity relative to the air."""
    r = w.registers
    r[TIME] = t
    for i in range(6):
        r[NORTH + i] = x[i]
    for i in range(3):
        r[P + i] = x[10 + i]
    r[DOWN], r[DOWN + 1], r[DOWN + 2] = m[2], m[5], m[8]
    layout = p.layout
    for i in range(layout[N_INPUTS]):
        r[N_BASE + i] = u[i]
    for i in range(layout[N_STATES]):
        r[layout[layout[STATES] + i]] = x[N_RIGID + i]
    if extent != MOTION or layout[USES_ANGLES] == 1:
        ground_signals(p, r, x, m)
    fill_earth(p, r, x, m)
    if layout[FIELD] >= 0:
        air_change(p, w, t, x, m)
    air_motion(p, w)
    return air_data(p, r, m)


@compiled
def coefficients_to_body(p: Program, r: Floats) -> tuple[float, float, float, float, float, float]:
    """Return the six aerodynamic coefficients in body axes."""
    layout = p.layout
    a = layout[AERO]
    c1, c2, c3 = r[layout[a]], r[layout[a + 1]], r[layout[a + 2]]
    l1, l2, l3 = r[layout[a + 3]], r[layout[a + 4]], r[layout[a + 5]]
    # cosines and sines of the air angles from the velocities that made them: cheaper than from the angles
    ua, va, wa = r[U_AIR], r[U_AIR + 1], r[U_AIR + 2]
    plane = math.sqrt(ua * ua + wa * wa)
    ca, sa = (ua / plane, wa / plane) if r[AIRSPEED] > SLOW and plane > 0.0 else (1.0, 0.0)
    if layout[FORCE_AXES] != 0:
        # drag, side force, lift
        x, y = -c1, c2
        if layout[FORCE_AXES] == 2:
            cb, sb = (plane / r[AIRSPEED], va / r[AIRSPEED]) if r[AIRSPEED] > SLOW else (1.0, 0.0)
            x, y = -c1 * cb - c2 * sb, -c1 * sb + c2 * cb
        c1, c2, c3 = x * ca + c3 * sa, y, x * sa - c3 * ca
    if layout[MOMENT_AXES] == 1:
        l1, l3 = l1 * ca - l3 * sa, l1 * sa + l3 * ca
    return c1, c2, c3, l1, l2, l3


@compiled
def sum_loads(p: Program, r: Floats) -> tuple[float, float, float, float, float, float]:
    """Return force and moment about the centre of gravity, weight apart, in body axes."""
    layout, numbers = p.layout, p.numbers
    fx, fy, fz, mx, my, mz = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    g = layout[MASS]
    gx, gy, gz = r[layout[g + 1]], r[layout[g + 2]], r[layout[g + 3]]
    if layout[layout[AERO]] >= 0:
        cx, cy, cz, cl, cm, cn = coefficients_to_body(p, r)
        k = r[QBAR] * numbers[AREA]
        fx, fy, fz = k * cx, k * cy, k * cz
        at = MOMENT_POINT
        tx, ty, tz = cross(numbers[at] - gx, numbers[at + 1] - gy, numbers[at + 2] - gz, fx, fy, fz)
        mx = k * numbers[SPAN] * cl + tx
        my = k * numbers[CHORD] * cm + ty
        mz = k * numbers[SPAN] * cn + tz
    for i in range(layout[N_LOADS]):
        size = r[layout[layout[LOADS] + i]]
        at = LOAD_VECTORS + 6 * i
        dx, dy, dz = size * numbers[at], size * numbers[at + 1], size * numbers[at + 2]
        kind = layout[layout[LOAD_KINDS] + i]
        if kind == 2:
            # what flows through a turning body is turned with it: Coriolis' force on the whole flow, -2 w x (flow way)
            dx, dy, dz = cross(-2.0 * r[P], -2.0 * r[P + 1], -2.0 * r[P + 2], dx, dy, dz)
        if kind == 3:
            # what spins about an axis fixed in the body turns with it: -w x h
            dx, dy, dz = cross(-r[P], -r[P + 1], -r[P + 2], dx, dy, dz)
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
def set_air_angle_rates(p: Program, r: Floats, alpha_dot: float, beta_dot: float) -> None:
    """Put the rates of the air angles, and their non-dimensional forms, into their signals."""
    half = 0.5 / r[AIRSPEED] if r[AIRSPEED] > SLOW else 0.0
    r[ALPHA_DOT], r[ALPHA_DOT + 1] = alpha_dot, beta_dot
    r[ALPHA_DOT + 2] = alpha_dot * p.numbers[CHORD] * half
    r[ALPHA_DOT + 3] = beta_dot * p.numbers[SPAN] * half


@compiled
def _accelerations(p: Program, r: Floats, fx: float, fy: float, fz: float) -> tuple[float, float, float]:
    """Return the rates of u, v, w: the velocity of the body where its centre of gravity is, which may move in it."""
    g, layout = p.layout[MASS], p.layout
    n = 1.0 / r[layout[g]]
    du, dv, dw = r[U] - r[layout[g + 10]], r[U + 1] - r[layout[g + 11]], r[U + 2] - r[layout[g + 12]]
    cx, cy, cz = cross(r[P], r[P + 1], r[P + 2], du, dv, dw)
    if layout[ROUND] == 1:
        e = EARTH_RATE
        ox, oy, oz = cross(2.0 * r[e], 2.0 * r[e + 1], 2.0 * r[e + 2], r[U], r[U + 1], r[U + 2])
        cx, cy, cz = cx + ox, cy + oy, cz + oz
    return fx * n + r[GRAVITY_X] - cx, fy * n + r[GRAVITY_X + 1] - cy, fz * n + r[GRAVITY_X + 2] - cz


@compiled
def _rates_relative_to_air(
    r: Floats, m: tuple[float, ...], ua: float, va: float, wa: float, ax: float, ay: float, az: float
) -> tuple[float, float, float]:
    """Return alpha_dot, beta_dot, airspeed_dot: the wind turns in body axes, and changes along the way.

    What the inputs put into the wind, such as turbulence, is taken as steady.
    """
    wu, wv, ww = rotate(m, r[AIR], r[AIR + 1], -r[AIR + 2])
    k = TRANSPORT
    cx, cy, cz = cross(r[P] - r[k], r[P + 1] - r[k + 1], r[P + 2] - r[k + 2], wu, wv, ww)
    du, dv, dw = rotate(m, r[AIR_DOT], r[AIR_DOT + 1], -r[AIR_DOT + 2])
    return air_angle_rates(ua, va, wa, ax + cx - du, ay + cy - dv, az + cz - dw)


@compiled
def run_stage(p: Program, w: Workspace, start: int, stop: int, steady: bool) -> None:
    """Execute a stretch of the tape."""
    if stop > start:
        run_tape(p.code, p.layout, p.numbers, w.registers, w.counters, w.worst, start, stop, steady)


@compiled
def _loads_at(
    p: Program, w: Workspace, alpha_dot: float, beta_dot: float, steady: bool
) -> tuple[float, float, float, float, float, float]:
    """Return the loads at given rates of the air angles."""
    set_air_angle_rates(p, w.registers, alpha_dot, beta_dot)
    run_stage(p, w, p.layout[STAGE_A], p.layout[STAGE_B], steady)
    return sum_loads(p, w.registers)


@compiled
def solve_loads(
    p: Program, w: Workspace, m: tuple[float, ...], ua: float, va: float, wa: float, steady: bool
) -> tuple[float, float, float, float, float, float]:
    """Return the loads at the alpha_dot and beta_dot that they themselves bring about.

    The loads are linear in both (the formulas are checked for that), so three evaluations of
    the few instructions concerned give the 2 by 2 system exactly.
    """
    if p.layout[STAGE_B] == p.layout[STAGE_A]:
        return sum_loads(p, w.registers)
    r = w.registers
    f = _loads_at(p, w, 0.0, 0.0, steady)
    ax, ay, az = _accelerations(p, r, f[0], f[1], f[2])
    a0, b0, _ = _rates_relative_to_air(r, m, ua, va, wa, ax, ay, az)
    n = 1.0 / r[p.layout[p.layout[MASS]]]
    # what one of each rate adds to the loads, and these to the rates: alpha_dot = a0 + a1 alpha_dot + a2 beta_dot
    g = _loads_at(p, w, 1.0, 0.0, steady)
    g = (g[0] - f[0], g[1] - f[1], g[2] - f[2], g[3] - f[3], g[4] - f[4], g[5] - f[5])
    a1, b1, _ = air_angle_rates(ua, va, wa, n * g[0], n * g[1], n * g[2])
    h, a2, b2 = (0.0, 0.0, 0.0, 0.0, 0.0, 0.0), 0.0, 0.0
    if p.layout[USES_BETA_DOT] == 1:
        h = _loads_at(p, w, 0.0, 1.0, steady)
        h = (h[0] - f[0], h[1] - f[1], h[2] - f[2], h[3] - f[3], h[4] - f[4], h[5] - f[5])
        a2, b2, _ = air_angle_rates(ua, va, wa, n * h[0], n * h[1], n * h[2])
    determinant = (1.0 - a1) * (1.0 - b2) - a2 * b1
    alpha_dot = (a0 * (1.0 - b2) + a2 * b0) / determinant
    beta_dot = ((1.0 - a1) * b0 + b1 * a0) / determinant
    # the formulas once more with the rates found, for all that reads them
    set_air_angle_rates(p, r, alpha_dot, beta_dot)
    run_stage(p, w, p.layout[STAGE_A], p.layout[STAGE_B], steady)
    return (
        f[0] + g[0] * alpha_dot + h[0] * beta_dot,
        f[1] + g[1] * alpha_dot + h[1] * beta_dot,
        f[2] + g[2] * alpha_dot + h[2] * beta_dot,
        f[3] + g[3] * alpha_dot + h[3] * beta_dot,
        f[4] + g[4] * alpha_dot + h[4] * beta_dot,
        f[5] + g[5] * alpha_dot + h[5] * beta_dot,
    )


@compiled
def rotational_acceleration(p: Program, r: Floats, tx: float, ty: float, tz: float) -> tuple[float, float, float]:
    """Return the rates of p, q, r under a moment: Euler's equations with the full inertia tensor.

    Momentum counts the turning of the Earth, which stands still in space and so turns in the body.
    """
    g, layout = p.layout[MASS], p.layout
    a, b, c = r[layout[g + 4]], r[layout[g + 5]], r[layout[g + 6]]
    # products of inertia are integrals of xy, xz, yz over the mass: the tensor holds their negatives
    d, e, f = -r[layout[g + 7]], -r[layout[g + 8]], -r[layout[g + 9]]
    k = EARTH_RATE
    ex, ey, ez = r[k], r[k + 1], r[k + 2]
    wx, wy, wz = r[P] + ex, r[P + 1] + ey, r[P + 2] + ez
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
def earth_rates(p: Program, w: Workspace, m: tuple[float, ...], x: Floats, dx: Floats) -> None:
    """Put the rates of position and attitude into ``dx``."""
    g, layout, r = p.layout[MASS], p.layout, w.registers
    vn, ve, vd = rotate_back(m, x[3] + r[layout[g + 10]], x[4] + r[layout[g + 11]], x[5] + r[layout[g + 12]])
    dx[0], dx[1], dx[2] = position_rates(p, x, vn, ve, vd)
    q0, q1, q2, q3 = x[6], x[7], x[8], x[9]
    k = TRANSPORT
    wx, wy, wz = x[10] - r[k], x[11] - r[k + 1], x[12] - r[k + 2]
    dx[6] = 0.5 * (-q1 * wx - q2 * wy - q3 * wz)
    dx[7] = 0.5 * (q0 * wx - q3 * wy + q2 * wz)
    dx[8] = 0.5 * (q3 * wx + q0 * wy - q1 * wz)
    dx[9] = 0.5 * (-q2 * wx + q1 * wy + q0 * wz)


@compiled
def _felt(p: Program, r: Floats, ax: float) -> tuple[float, float, float]:
    """Return the force other than weight on a body that a rail guides along its x axis."""
    mass = r[p.layout[p.layout[MASS]]]
    return mass * (ax - r[GRAVITY_X]), -mass * r[GRAVITY_X + 1], -mass * r[GRAVITY_X + 2]


@compiled
def evaluate(p: Program, w: Workspace, t: float, x: Floats, u: Floats, dx: Floats, steady: bool, extent: int) -> None:
    """Put the rates of all states into ``dx``, and the signals into the registers.

    ``steady`` lifts rate limits and stops (for trim); ``extent`` is MOTION, SIGNALS or EVERYTHING. On a rail the body
    moves along its x axis alone, and not backwards from rest.
    """
    r, layout = w.registers, p.layout
    m = matrix_of(x)
    ua, va, wa = signals_from_state(p, w, t, x, u, m, extent)
    run_stage(p, w, layout[STAGE_W], layout[STAGE_A], steady)
    fx, fy, fz, mx, my, mz = solve_loads(p, w, m, ua, va, wa, steady)
    ax, ay, az = _accelerations(p, r, fx, fy, fz)
    px, py, pz = rotational_acceleration(p, r, mx, my, mz)
    if layout[RAIL] >= 0 and r[layout[RAIL]] != 0.0:
        ax, ay, az, px, py, pz = max(ax, 0.0) if r[U] <= 0.0 else ax, 0.0, 0.0, 0.0, 0.0, 0.0
        fx, fy, fz = _felt(p, r, ax)
    alpha_dot, beta_dot, speed_dot = _rates_relative_to_air(r, m, ua, va, wa, ax, ay, az)
    set_air_angle_rates(p, r, alpha_dot, beta_dot)
    n = 1.0 / (r[layout[layout[MASS]]] * STANDARD_GRAVITY)
    r[U_DOT], r[U_DOT + 1], r[U_DOT + 2] = ax, ay, az
    r[P_DOT], r[P_DOT + 1], r[P_DOT + 2] = px, py, pz
    r[NX], r[NX + 1], r[NX + 2] = fx * n, fy * n, -fz * n
    r[AIRSPEED_DOT] = speed_dot
    run_stage(p, w, layout[STAGE_B], layout[STAGE_C], steady)
    if extent == EVERYTHING:
        run_stage(p, w, layout[STAGE_C], layout[STAGE_D], steady)
    earth_rates(p, w, m, x, dx)
    dx[3], dx[4], dx[5] = ax, ay, az
    dx[10], dx[11], dx[12] = px, py, pz
    for i in range(layout[N_STATES]):
        dx[N_RIGID + i] = r[layout[layout[RATES] + i]]
