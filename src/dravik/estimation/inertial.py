"""The inertial filter, compiled: an extended Kalman filter of the errors of an inertial solution.

Attitude, velocity and position follow from gyro and accelerometer; the errors of these, of the biases, of the wind and
of the barometer are estimated from everything else. The errors of attitude are about body axes: which of them cannot be
told from a bias of the accelerometer then does not depend on the heading, of which the filter would otherwise learn
what it cannot know.

Source: D. H. Titterton, J. L. Weston, Strapdown Inertial Navigation Technology, 2nd edition, 2004, chapters 3, 12, 13.
"""

import math

import numpy as np
from numpy.typing import NDArray

from dravik.compiled import inlined
from dravik.estimation.arrays import (
    B_,
    BA,
    BA_,
    BARO,
    BG,
    BG_,
    C_BA,
    C_BARO,
    C_BG,
    C_EARTH,
    C_FORCE,
    C_G,
    C_GRAVITY_LAPSE,
    C_GYRO,
    C_MAG,
    C_MOUNT_A,
    C_MOUNT_G,
    C_PITOT,
    C_RADIUS,
    C_TURN,
    C_WIND,
    FELT_,
    FORCE_,
    MAG,
    MAG_,
    NEVER,
    P_,
    PITOT,
    PITOT_,
    POS,
    Q_,
    RATE_,
    STEPS_,
    T_,
    THETA,
    V_,
    VEL,
    W_,
    WIND,
    FilterArrays,
    N,
)
from dravik.kernel.vectors import cross, dcm_elements, rotate, rotate_back

__all__ = ["attitude", "corrected", "mounted", "normalise", "propagate"]

Floats = NDArray[np.float64]
Triple = tuple[float, float, float]
Nine = tuple[float, float, float, float, float, float, float, float, float]


@inlined
def attitude(x: Floats) -> Nine:
    """Return the matrix from local to body axes."""
    return dcm_elements(x[Q_], x[Q_ + 1], x[Q_ + 2], x[Q_ + 3])


@inlined
def mounted(c: Floats, at: int, x: float, y: float, z: float) -> tuple[float, float, float]:
    """Return readings along a sensor's axes in body axes."""
    return (
        c[at] * x + c[at + 3] * y + c[at + 6] * z,
        c[at + 1] * x + c[at + 4] * y + c[at + 7] * z,
        c[at + 2] * x + c[at + 5] * y + c[at + 8] * z,
    )


@inlined
def turn_body(x: Floats, at: int, a: float, b: float, c: float) -> None:
    """Turn the attitude at ``at`` by a small rotation about body axes."""
    half = 0.5 * math.sqrt(a * a + b * b + c * c)
    s = 0.5 if half < 1e-12 else 0.5 * math.sin(half) / half
    w, p, q, r = math.cos(half), a * s, b * s, c * s
    q0, q1, q2, q3 = x[at], x[at + 1], x[at + 2], x[at + 3]
    x[at] = q0 * w - q1 * p - q2 * q - q3 * r
    x[at + 1] = q0 * p + q1 * w + q2 * r - q3 * q
    x[at + 2] = q0 * q - q1 * r + q2 * w + q3 * p
    x[at + 3] = q0 * r + q1 * q - q2 * p + q3 * w
    normalise(x, at)


@inlined
def normalise(x: Floats, at: int) -> None:
    """Make the quaternion at ``at`` one of length 1."""
    size = 1.0 / math.sqrt(x[at] ** 2 + x[at + 1] ** 2 + x[at + 2] ** 2 + x[at + 3] ** 2)
    for i in range(4):
        x[at + i] *= size


@inlined
def coasted(f: FilterArrays, dt: float, rates: tuple[float, float, float], force: tuple[float, float, float]) -> None:
    """Let attitude, velocity and position go on by a step, with what was measured at its two ends."""
    x, c = f.nominal, f.constants
    # what was measured last is kept with its biases: these are those of now
    p0, q0, r0 = x[RATE_] - x[BG_], x[RATE_ + 1] - x[BG_ + 1], x[RATE_ + 2] - x[BG_ + 2]
    fx, fy, fz = x[FORCE_] - x[BA_], x[FORCE_ + 1] - x[BA_ + 1], x[FORCE_ + 2] - x[BA_ + 2]
    m = attitude(x)
    a0 = rotate_back(m, fx, fy, fz)
    north, down = c[C_EARTH], c[C_EARTH + 1]
    radius = c[C_RADIUS]
    # local axes turn with the Earth, and on the round one with the way over it
    over_n = x[V_ + 1] / radius if radius > 0.0 else 0.0
    over_e = -x[V_] / radius if radius > 0.0 else 0.0
    turn = rotate(m, north + over_n, over_e, down)
    turn_body(
        x, Q_, dt * (0.5 * (p0 + rates[0]) - turn[0]), dt * (0.5 * (q0 + rates[1]) - turn[1]),
        dt * (0.5 * (r0 + rates[2]) - turn[2]),
    )  # fmt: skip
    a1 = rotate_back(attitude(x), force[0], force[1], force[2])
    coriolis = cross(2.0 * north + over_n, over_e, 2.0 * down, x[V_], x[V_ + 1], x[V_ + 2])
    gravity = c[C_G] + c[C_GRAVITY_LAPSE] * x[P_ + 2]
    for i in range(3):
        before = x[V_ + i]
        x[V_ + i] += dt * (0.5 * (a0[i] + a1[i]) - coriolis[i] + (gravity if i == 2 else 0.0))
        # a way of north and east is one along the Earth's surface, whose radius is shorter than that of the flight
        scale = 1.0 if radius == 0.0 or i == 2 else radius / (radius - x[P_ + 2])
        x[P_ + i] += 0.5 * dt * scale * (before + x[V_ + i])


@inlined
def transition(f: FilterArrays, dt: float, m0: Nine, f0: Triple, m1: Nine, f1: Triple, turn: Triple) -> None:
    """Put the transition of the errors over a step into the first rows of ``work``.

    ``m0`` and ``m1`` are the matrices from local to body axes at its two ends, ``f0`` and ``f1`` the specific forces;
    ``turn`` is the rotation of the body on the way, rad.
    """
    phi = f.work
    for i in range(N):
        for k in range(N):
            phi[i, k] = 1.0 if i == k else 0.0
    # body components of f x: the error of C f is - C [f x] dtheta
    skew0 = ((0.0, -f0[2], f0[1]), (f0[2], 0.0, -f0[0]), (-f0[1], f0[0], 0.0))
    around = ((0.0, -turn[2], turn[1]), (turn[2], 0.0, -turn[0]), (-turn[1], turn[0], 0.0))
    skew1 = ((0.0, -f1[2], f1[1]), (f1[2], 0.0, -f1[0]), (-f1[1], f1[0], 0.0))
    for i in range(3):
        for k in range(3):
            total, twice = 0.0, 0.0
            for j in range(3):
                total += m1[3 * i + j] * m0[3 * k + j]
                twice += around[i][j] * around[j][k]
            phi[THETA + i, THETA + k] = total
            # a bias turns about axes that turn themselves: the right Jacobian of a rotation, to second order
            phi[THETA + i, BG + k] = -dt * ((1.0 if i == k else 0.0) - 0.5 * around[i][k] + twice / 6.0)
        phi[POS + i, VEL + i] = dt
    for i in range(3):
        for k in range(3):
            before, after = 0.0, 0.0
            for j in range(3):
                before -= m0[3 * j + i] * skew0[j][k]
                after -= m1[3 * j + i] * skew1[j][k]
            # the attitude at the end is off by the turned error of the beginning, and by the gyro's bias on the way
            phi[N + i, k], phi[N + i, 3 + k] = before, after
    for i in range(3):
        for k in range(3):
            turned, drifted = phi[N + i, k], 0.0
            for j in range(3):
                turned += phi[N + i, 3 + j] * phi[THETA + j, THETA + k]
                drifted += phi[N + i, 3 + j] * phi[THETA + j, BG + k]
            phi[VEL + i, THETA + k] = 0.5 * dt * turned
            phi[VEL + i, BG + k] = 0.5 * dt * drifted
            phi[VEL + i, BA + k] = -0.5 * dt * (m0[3 * k + i] + m1[3 * k + i])
            for column in (THETA + k, BG + k, BA + k):
                phi[POS + i, column] = 0.5 * dt * phi[VEL + i, column]


@inlined
def covariance_step(f: FilterArrays, dt: float) -> None:
    """Let the covariance go on by a step: transition, then process noise."""
    p, c, phi = f.covariance, f.constants, f.work
    for i in range(N):
        for k in range(N):
            total = 0.0
            for j in range(N):
                if phi[i, j] != 0.0:
                    total += phi[i, j] * p[j, k]
            phi[N + i, k] = total
    for i in range(N):
        for k in range(i + 1):
            total = 0.0
            for j in range(N):
                if phi[k, j] != 0.0:
                    total += phi[N + i, j] * phi[k, j]
            p[i, k] = total
            p[k, i] = total
    third = dt * dt * dt / 3.0
    x = f.nominal
    # errors of scale and of the axes of the gyro, which grow with the rate
    turning = c[C_TURN] * (x[RATE_] ** 2 + x[RATE_ + 1] ** 2 + x[RATE_ + 2] ** 2)
    for i in range(3):
        p[THETA + i, THETA + i] += (c[C_GYRO] + turning) * dt
        p[VEL + i, VEL + i] += c[C_FORCE] * dt
        # white noise of the force, twice integrated
        p[POS + i, POS + i] += c[C_FORCE] * third
        p[POS + i, VEL + i] += 0.5 * c[C_FORCE] * dt * dt
        p[VEL + i, POS + i] += 0.5 * c[C_FORCE] * dt * dt
        p[BG + i, BG + i] += c[C_BG] * dt
        p[BA + i, BA + i] += c[C_BA] * dt
    for i in range(2):
        p[WIND + i, WIND + i] += c[C_WIND] * dt
    p[BARO, BARO] += c[C_BARO] * dt
    p[PITOT, PITOT] += c[C_PITOT] * dt
    for i in range(3):
        p[MAG + i, MAG + i] += c[C_MAG] * dt


@inlined
def propagate(f: FilterArrays, z: Floats, t: float) -> None:
    """Let nominal state and covariance go on to time ``t`` with the readings of now, ``z`` (gyro, accelerometer)."""
    x, c = f.nominal, f.constants
    rates, force = mounted(c, C_MOUNT_G, z[0], z[1], z[2]), mounted(c, C_MOUNT_A, z[3], z[4], z[5])
    p, q, r = rates[0] - x[BG_], rates[1] - x[BG_ + 1], rates[2] - x[BG_ + 2]
    fx, fy, fz = force[0] - x[BA_], force[1] - x[BA_ + 1], force[2] - x[BA_ + 2]
    dt = t - x[T_]
    if x[STEPS_] > 0.0 and dt > 0.0:
        m0 = attitude(x)
        before = x[FORCE_] - x[BA_], x[FORCE_ + 1] - x[BA_ + 1], x[FORCE_ + 2] - x[BA_ + 2]
        turn = (
            0.5 * dt * (p + x[RATE_] - x[BG_]), 0.5 * dt * (q + x[RATE_ + 1] - x[BG_ + 1]),
            0.5 * dt * (r + x[RATE_ + 2] - x[BG_ + 2]),
        )  # fmt: skip
        coasted(f, dt, (p, q, r), (fx, fy, fz))
        transition(f, dt, m0, before, attitude(x), (fx, fy, fz), turn)
        covariance_step(f, dt)
    # the field as it is felt turns with the body
    turned = cross(x[FELT_], x[FELT_ + 1], x[FELT_ + 2], p, q, r)
    for i in range(3):
        x[FELT_ + i] += dt * turned[i] if x[STEPS_] > 0.0 else 0.0
    for i in range(3):
        x[RATE_ + i], x[FORCE_ + i] = rates[i], force[i]
    x[T_] = t
    x[STEPS_] += 1.0


@inlined
def corrected(f: FilterArrays, dx: Floats) -> None:
    """Add an error to the nominal state, and to the past what of it was there already."""
    x, past = f.nominal, f.past
    force = x[FORCE_] - x[BA_], x[FORCE_ + 1] - x[BA_ + 1], x[FORCE_ + 2] - x[BA_ + 2]
    a = rotate_back(attitude(x), force[0], force[1], force[2])
    # about local axes the error of the attitude is the same for the past, but for the gyro's bias on the way
    psi = rotate_back(attitude(x), dx[THETA], dx[THETA + 1], dx[THETA + 2])
    turned = cross(psi[0], psi[1], psi[2], a[0], a[1], a[2])
    felt = rotate_back(attitude(x), dx[BA], dx[BA + 1], dx[BA + 2])
    swung = turned[0] - felt[0], turned[1] - felt[1], turned[2] - felt[2]
    turn_body(x, Q_, dx[THETA], dx[THETA + 1], dx[THETA + 2])
    for i in range(3):
        x[V_ + i] += dx[VEL + i]
        x[P_ + i] += dx[POS + i]
        x[BG_ + i] += dx[BG + i]
        x[BA_ + i] += dx[BA + i]
    for i in range(2):
        x[W_ + i] += dx[WIND + i]
    x[B_] += dx[BARO]
    x[PITOT_] += dx[PITOT]
    for i in range(3):
        x[MAG_ + i] += dx[MAG + i]
    for k in range(past.shape[0]):
        if past[k, 0] > NEVER:
            age = x[T_] - past[k, 0]
            then = rotate(dcm_elements(past[k, 1], past[k, 2], past[k, 3], past[k, 4]), psi[0], psi[1], psi[2])
            turn_body(past[k], 1, then[0], then[1], then[2])
            for i in range(3):
                past[k, 5 + i] += dx[VEL + i] - age * swung[i]
                past[k, 8 + i] += dx[POS + i] - age * (dx[VEL + i] - 0.5 * age * swung[i])
