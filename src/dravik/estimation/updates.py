"""Measurements into the inertial filter, compiled: what each is expected to be, its Jacobian, the gate, the gain.

Source: P. S. Maybeck, Stochastic Models, Estimation, and Control, volume 1, 1979, section 5.6 (the form of Joseph) and
section 7.8 (one measurement after the other).
"""

import math

import numpy as np
from numpy.typing import NDArray

from dravik.compiled import inlined
from dravik.estimation.arrays import (
    AIRSPEED,
    ALTITUDE,
    B_,
    BA,
    BA_,
    BARO,
    BG,
    BG_,
    BLOWN_,
    C_FIELD,
    C_GATE,
    C_SIDESLIP,
    FELT_,
    FIELD,
    FORCE_,
    M_ARM,
    M_KIND,
    M_R,
    MAG,
    MAG_,
    P_,
    PITOT,
    PITOT_,
    POS,
    POSITION,
    R_NIS,
    R_NU,
    R_S,
    R_TAKEN,
    SIDESLIP,
    STILL,
    THETA,
    V_,
    VEL,
    VELOCITY,
    W_,
    WIND,
    FilterArrays,
    N,
)
from dravik.estimation.inertial import attitude, corrected
from dravik.kernel.vectors import cross, dcm_elements, rotate, rotate_back

__all__ = ["measure", "predicted"]

Floats = NDArray[np.float64]
Triple = tuple[float, float, float]
SCALE_HEIGHT = 9500.0  # m, of the density
FALLS = 0.05  # rad: how far the angle of attack is off at the first airspeed
SLOWEST = 3.0  # m/s: below this no angle of the flow is measured
# rows of ``work`` that measurements use: Jacobian (three), gain, correction, a row of H P
H_, K_, DX_, HP_ = 2 * N, 2 * N + 3, 2 * N + 4, 2 * N + 5


@inlined
def density(altitude: float) -> float:
    """Return the air's density in the standard atmosphere, for the variance of pressures: to a few per cent."""
    return float(1.225 * math.exp(-max(altitude, -1000.0) / SCALE_HEIGHT))


@inlined
def variance(f: FilterArrays, row: int, k: int) -> float:
    """Return the variance of a measurement: of pressures, in the quantity that is measured by them."""
    m, x = f.measurements, f.nominal
    kind, r = m[row, M_KIND], m[row, M_R + k]
    if kind == ALTITUDE:
        slope = 9.80665 * density(-x[P_ + 2])
        return float(r / (slope * slope))
    if kind == AIRSPEED:
        speed = math.sqrt((x[V_] - x[W_]) ** 2 + (x[V_ + 1] - x[W_ + 1]) ** 2 + x[V_ + 2] ** 2)
        slope = density(-x[P_ + 2]) * max(speed, 5.0)
        return float(r / (slope * slope))
    return float(r)


@inlined
def predicted(f: FilterArrays, row: int, at: Floats, place: int, age: float) -> Triple:
    """Return what is expected of a measurement; put its Jacobian to the errors of now into ``work``."""
    found = expected(f, row, at, place, age)
    h, m = f.work, attitude(f.nominal)
    # from errors of attitude about local axes, which are those of the past too, to those about body axes
    for i in range(3):
        a, b, c = rotate(m, h[H_ + i, THETA], h[H_ + i, THETA + 1], h[H_ + i, THETA + 2])
        h[H_ + i, THETA], h[H_ + i, THETA + 1], h[H_ + i, THETA + 2] = a, b, c
    return found


@inlined
def expected(f: FilterArrays, row: int, at: Floats, place: int, age: float) -> Triple:
    """Return what is expected of a measurement, and its Jacobian, to errors of attitude about local axes.

    ``at`` holds attitude, velocity, position and rates from ``place`` on, those at the sample, ``age`` seconds ago.
    """
    x, h, m = f.nominal, f.work, f.measurements
    for i in range(3):
        for k in range(N):
            h[H_ + i, k] = 0.0
    kind = int(m[row, M_KIND])
    c = dcm_elements(at[place], at[place + 1], at[place + 2], at[place + 3])
    v = at[place + 4], at[place + 5], at[place + 6]
    if kind in (POSITION, VELOCITY, STILL):
        arm = m[row, M_ARM], m[row, M_ARM + 1], m[row, M_ARM + 2]
        rates = at[place + 10] - x[BG_], at[place + 11] - x[BG_ + 1], at[place + 12] - x[BG_ + 2]
        moved = arm if kind == POSITION else cross(rates[0], rates[1], rates[2], arm[0], arm[1], arm[2])
        s = rotate_back(c, moved[0], moved[1], moved[2])
        skew = ((0.0, s[2], -s[1]), (-s[2], 0.0, s[0]), (s[1], -s[0], 0.0))  # psi x s
        force = x[FORCE_] - x[BA_], x[FORCE_ + 1] - x[BA_ + 1], x[FORCE_ + 2] - x[BA_ + 2]
        a = rotate_back(attitude(x), force[0], force[1], force[2])
        swung = ((0.0, a[2], -a[1]), (-a[2], 0.0, a[0]), (a[1], -a[0], 0.0))  # psi x a
        own = attitude(x)
        # how much of an error of acceleration is in the errors of then: attitude and accelerometer bias together, of
        # which the filter must not learn one without the other
        grown = 0.5 * age * age if kind == POSITION else -age
        for i in range(3):
            for k in range(3):
                h[H_ + i, THETA + k] = skew[i][k] + grown * swung[i][k]
                h[H_ + i, BA + k] = -grown * own[3 * k + i]
            if kind == POSITION:
                h[H_ + i, POS + i] = 1.0
                h[H_ + i, VEL + i] = -age
            else:
                h[H_ + i, VEL + i] = 1.0
        if kind == POSITION:
            return at[place + 7] + s[0], at[place + 8] + s[1], at[place + 9] + s[2]
        # a gyro's bias turns the antenna: d(C(omega x arm)) = -C(dbg x arm) = C [arm x] dbg
        cross_arm = ((0.0, -arm[2], arm[1]), (arm[2], 0.0, -arm[0]), (-arm[1], arm[0], 0.0))
        for k in range(3):
            column = rotate_back(c, cross_arm[0][k], cross_arm[1][k], cross_arm[2][k])
            for i in range(3):
                h[H_ + i, BG + k] = column[i]
        return v[0] + s[0], v[1] + s[1], v[2] + s[2]
    if kind == ALTITUDE:
        h[H_, POS + 2] = -1.0
        h[H_, VEL + 2] = age
        h[H_, BARO] = 1.0
        return -at[place + 9] + x[B_], 0.0, 0.0
    if kind == FIELD:
        b = f.constants[C_FIELD], f.constants[C_FIELD + 1], f.constants[C_FIELD + 2]
        body = rotate(c, b[0], b[1], b[2])
        # the Jacobian by the field as it is felt, and not as it is expected: with each correction of the attitude the
        # one that is expected turns, and with it what cannot be told from the magnetometer's bias
        e = rotate_back(c, x[FELT_], x[FELT_ + 1], x[FELT_ + 2])
        turned(h, c, e)
        for i in range(3):
            h[H_ + i, MAG + i] = 1.0
        return body[0] + x[MAG_], body[1] + x[MAG_ + 1], body[2] + x[MAG_ + 2]
    a = v[0] - x[W_], v[1] - x[W_ + 1], v[2]
    if kind == AIRSPEED:
        return of_the_airspeed(f, a)
    rates = at[place + 10] - x[BG_], at[place + 11] - x[BG_ + 1], at[place + 12] - x[BG_ + 2]
    return of_the_flow(f, row, c, a, rates)


@inlined
def turned(h: Floats, c: tuple[float, ...], b: Triple) -> None:
    """Put the derivatives of rows of C^T b to the errors of attitude into the Jacobian: C^T [b x]."""
    skew = ((0.0, -b[2], b[1]), (b[2], 0.0, -b[0]), (-b[1], b[0], 0.0))
    for k in range(3):
        column = rotate(c, skew[0][k], skew[1][k], skew[2][k])
        for i in range(3):
            h[H_ + i, THETA + k] = column[i]


@inlined
def of_the_airspeed(f: FilterArrays, a: Triple) -> Triple:
    """Return the airspeed of the velocity ``a`` against the air, with its Jacobian."""
    h = f.work
    speed = max(math.sqrt(a[0] * a[0] + a[1] * a[1] + a[2] * a[2]), 1e-3)
    # a pressure too many is an airspeed too many by its share of density times airspeed
    slope = density(-f.nominal[P_ + 2]) * max(speed, 5.0)
    more = f.nominal[PITOT_] / slope
    share = (1.0 - more / speed if speed > 5.0 else 1.0) / speed
    for k in range(3):
        h[H_, VEL + k] = a[k] * share
    for k in range(2):
        h[H_, WIND + k] = -a[k] * share
    h[H_, PITOT] = 1.0 / slope
    h[H_, POS + 2] = -more / SCALE_HEIGHT
    return speed + more, 0.0, 0.0


@inlined
def of_the_flow(f: FilterArrays, row: int, c: tuple[float, ...], a: Triple, rates: Triple) -> Triple:
    """Return sideslip or angle of attack, as a vane measures them against the x axis, with its Jacobian.

    ``a`` is the velocity against the air; at a vane the flow turns with the body.
    """
    h, m = f.work, f.measurements
    arm = m[row, M_ARM], m[row, M_ARM + 1], m[row, M_ARM + 2]
    spun = cross(rates[0], rates[1], rates[2], arm[0], arm[1], arm[2])
    still = rotate(c, a[0], a[1], a[2])
    is_side = m[row, M_KIND] == SIDESLIP
    u, across = still[0] + spun[0], (still[1] + spun[1] if is_side else still[2] + spun[2])
    flat = max(u * u + across * across, 1e-6)
    # what the angle gains of each component of the flow along body axes
    gain = -across / flat, (u / flat if is_side else 0.0), (0.0 if is_side else u / flat)
    skew = ((0.0, -a[2], a[1]), (a[2], 0.0, -a[0]), (-a[1], a[0], 0.0))
    cross_arm = ((0.0, -arm[2], arm[1]), (arm[2], 0.0, -arm[0]), (-arm[1], arm[0], 0.0))
    for k in range(3):
        # body components of a unit velocity along local axis k, and of a turn about it
        h[H_, VEL + k] = gain[0] * c[k] + gain[1] * c[3 + k] + gain[2] * c[6 + k]
        b = rotate(c, skew[0][k], skew[1][k], skew[2][k])
        h[H_, THETA + k] = gain[0] * b[0] + gain[1] * b[1] + gain[2] * b[2]
        # a gyro's bias turns the vane: d(omega x arm) = [arm x] dbg
        h[H_, BG + k] = gain[0] * cross_arm[0][k] + gain[1] * cross_arm[1][k] + gain[2] * cross_arm[2][k]
    for k in range(2):
        h[H_, WIND + k] = -h[H_, VEL + k]
    return math.atan2(across, u), 0.0, 0.0


@inlined
def measure(f: FilterArrays, row: int, z: Triple, count: int, at: Floats, place: int, age: float) -> None:
    """Take a measurement into account: its components one after the other, each gated, then the nominal state."""
    p, work, out = f.covariance, f.work, f.results
    foreseen = predicted(f, row, at, place, age)
    for k in range(N):
        work[DX_, k] = 0.0
    total, taken = 0.0, 0
    for i in range(count):
        nu = z[i] - foreseen[i]
        s = variance(f, row, i)
        for k in range(N):
            nu -= work[H_ + i, k] * work[DX_, k]
            hp = 0.0
            for j in range(N):
                if work[H_ + i, j] != 0.0:
                    hp += work[H_ + i, j] * p[j, k]
            work[HP_, k] = hp
            s += hp * work[H_ + i, k]
        out[row, R_NU + i], out[row, R_S + i] = nu, s
        out[row, R_TAKEN + i] = 1.0 if nu * nu <= f.constants[C_GATE] ** 2 * s else 0.0
        if out[row, R_TAKEN + i] == 0.0:
            continue
        taken += 1
        total += nu * nu / s
        absorb(f, i, nu, s, variance(f, row, i))
    out[row, R_NIS] = total
    if taken > 0:
        corrected(f, work[DX_])


@inlined
def absorb(f: FilterArrays, i: int, nu: float, s: float, r: float) -> None:
    """Correct errors and covariance by one scalar measurement; the covariance in the form of Joseph."""
    p, work = f.covariance, f.work
    for k in range(N):
        work[K_, k] = work[HP_, k] / s
        work[DX_, k] += work[K_, k] * nu
    # (1 - K H) P (1 - K H)^T + K R K^T, with A = (1 - K H) P = P - K (H P) and A H^T = (1 - K H) P H^T
    for k in range(N):
        for j in range(N):
            p[k, j] -= work[K_, k] * work[HP_, j]
    for k in range(N):
        total = 0.0
        for j in range(N):
            if work[H_ + i, j] != 0.0:
                total += p[k, j] * work[H_ + i, j]
        work[HP_, k] = total
    for k in range(N):
        for j in range(N):
            p[k, j] += (r * work[K_, k] - work[HP_, k]) * work[K_, j]
    for k in range(N):
        for j in range(k):
            mean = 0.5 * (p[k, j] + p[j, k])
            p[k, j], p[j, k] = mean, mean


@inlined
def begin_wind(f: FilterArrays, row: int, airspeed: float) -> None:
    """Set the wind by the first airspeed: the velocity less that along the nose, with the covariance that follows.

    From no wind with a large spread the filter would take the sideslip of a side wind for one of the heading: there its
    Jacobians are far from those of the truth.
    """
    x, p, c, work = f.nominal, f.covariance, f.constants, f.work
    m = attitude(x)
    # what is vertical of the velocity is so against the air too; m[2] is minus the sine of the pitch angle
    ratio = min(0.9, max(-0.9, -x[V_ + 2] / airspeed))
    alpha = min(0.3, max(-0.3, math.asin(min(1.0, max(-1.0, -m[2]))) - math.asin(ratio)))
    u, w = airspeed * math.cos(alpha), airspeed * math.sin(alpha)
    a = rotate_back(m, u, 0.0, w)
    skew = ((0.0, -w, 0.0), (w, 0.0, -u), (0.0, u, 0.0))  # [a x] in body axes
    for i in range(2):
        x[W_ + i] = x[V_ + i] - a[i]
        for k in range(N):
            work[H_ + i, k] = 0.0
        work[H_ + i, VEL + i] = 1.0
        for k in range(3):
            # - d(C a) = C [a x] dtheta
            total = 0.0
            for j in range(3):
                total += m[3 * j + i] * skew[j][k]
            work[H_ + i, THETA + k] = total
    across, along = (c[C_SIDESLIP] * airspeed) ** 2, variance(f, row, 0)
    slope = density(-x[P_ + 2]) * max(airspeed, 5.0)
    along += p[PITOT, PITOT] / (slope * slope)
    above = (FALLS * airspeed) ** 2
    for i in range(2):
        for k in range(N):
            total = 0.0
            for j in range(N):
                total += work[H_ + i, j] * p[j, k]
            work[HP_ + i, k] = total
    for i in range(2):
        for k in range(N):
            if k < WIND or k > WIND + 1:
                p[WIND + i, k], p[k, WIND + i] = work[HP_ + i, k], work[HP_ + i, k]
    for i in range(2):
        for k in range(2):
            total = along * m[i] * m[k] + across * m[3 + i] * m[3 + k] + above * m[6 + i] * m[6 + k]
            for j in range(N):
                total += work[HP_ + i, j] * work[H_ + k, j]
            p[WIND + i, WIND + k] = total
    x[BLOWN_] = 1.0
