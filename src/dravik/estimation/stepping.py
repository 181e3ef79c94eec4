"""One step of the inertial filter, compiled: readings in, estimates out; the same in a flight and on a recording."""

import math

import numpy as np
from numpy.typing import NDArray

from dravik import frames
from dravik.compiled import compiled, inlined
from dravik.estimation.arrays import (
    AIRSPEED,
    BA_,
    BG_,
    BLOWN_,
    C_ALIGN,
    C_EARTH,
    C_FIELD,
    C_HEADING,
    C_LIFT,
    C_LIFT_TIME,
    C_MOUNT_A,
    C_MOUNT_G,
    C_PLACE,
    C_SIDESLIP,
    FELT_,
    FIELD,
    FORCE_,
    H_OUTPUTS,
    H_READS,
    INCIDENCE,
    M_COLUMN,
    M_COUNT,
    M_DELAY,
    M_KIND,
    M_MOUNT,
    MOVED_,
    NOMINALS,
    P_,
    PAST,
    PHASE_,
    POSITION,
    Q_,
    R_NEW,
    R_SEEN,
    RATE_,
    REST_,
    RESULT,
    ROW,
    SIDESLIP,
    STEPS_,
    STILL,
    SUMS_,
    T_,
    V_,
    VELOCITY,
    W_,
    WORK,
    FilterArrays,
    N,
    places,
)
from dravik.estimation.inertial import attitude, mounted, normalise, propagate
from dravik.estimation.updates import SLOWEST, begin_wind, measure
from dravik.kernel.calls import matrix_at
from dravik.kernel.program import OWN_HEADER
from dravik.kernel.vectors import cross, rotate, rotate_back
from dravik.sensors.estimators import ESTIMATED

__all__ = ["OUTPUTS", "filter_rows", "filter_step"]

Floats = NDArray[np.float64]
places_in = inlined(places)
quaternion_elements = inlined(frames.quaternion_elements)
euler_from_elements = inlined(frames.euler_from_elements)
G0 = 9.80665
LEAST_SHARE = 0.005  # of a new sample in the smoothed field
STANDING, ALIGNED, FLYING = 0.0, 1.0, 2.0
#: What the filter gives, of the centre of gravity, in the order of its outputs.
OUTPUTS = tuple(ESTIMATED)


@inlined
def keep(f: FilterArrays) -> int:
    """Put the present into the past, and return its row."""
    x, past = f.nominal, f.past
    row = int(x[STEPS_]) % int(past.shape[0])
    past[row, 0] = x[T_]
    for i in range(10):
        past[row, 1 + i] = x[Q_ + i]
    for i in range(3):
        past[row, 11 + i] = x[RATE_ + i]
    return row


@inlined
def row_of(f: FilterArrays, t: float) -> int:
    """Return the row of the past that is nearest to a time."""
    past = f.past
    best, least = 0, math.inf
    for k in range(past.shape[0]):
        away = abs(past[k, 0] - t)
        if away < least:
            best, least = k, away
    return best


@inlined
def stand(f: FilterArrays, z: Floats) -> None:
    """Gather what is measured at rest, align at the end of that time, and look whether the aircraft has moved."""
    x, c = f.nominal, f.constants
    force = mounted(c, C_MOUNT_A, z[3], z[4], z[5])
    rates = mounted(c, C_MOUNT_G, z[0], z[1], z[2])
    if x[PHASE_] == STANDING:
        if x[REST_] > 0.0:
            n = 1.0 / x[REST_]
            off = math.sqrt(
                (force[0] - n * x[SUMS_]) ** 2 + (force[1] - n * x[SUMS_ + 1]) ** 2 + (force[2] - n * x[SUMS_ + 2]) ** 2
            )
            if off > c[C_LIFT]:
                x[PHASE_] = FLYING  # it moves before it has aligned: the attitude stays that which was given
                return
        x[REST_] += 1.0
        for i in range(3):
            x[SUMS_ + i] += force[i]
            x[SUMS_ + 3 + i] += rates[i]
        for row in range(f.measurements.shape[0]):
            if f.measurements[row, M_KIND] == FIELD:
                at = int(f.measurements[row, M_COLUMN])
                m = f.measurements[row]
                b = mounted(m, M_MOUNT, z[at], z[at + 1], z[at + 2])
                for i in range(3):
                    x[SUMS_ + 6 + i] += b[i]
        if x[T_] >= c[C_ALIGN]:
            align(f)
            x[PHASE_] = ALIGNED
        return
    m0 = attitude(x)
    still = rotate(m0, 0.0, 0.0, -G0)
    more = math.sqrt(
        (force[0] - x[BA_] - still[0]) ** 2 + (force[1] - x[BA_ + 1] - still[1]) ** 2
        + (force[2] - x[BA_ + 2] - still[2]) ** 2
    )  # fmt: skip
    if more < c[C_LIFT]:
        x[MOVED_] = x[T_]
    elif x[T_] - x[MOVED_] >= c[C_LIFT_TIME]:
        x[PHASE_] = FLYING


@inlined
def align(f: FilterArrays) -> None:
    """Level by the mean specific force, head by the mean field or as given, and take the mean rate for the bias."""
    x, c = f.nominal, f.constants
    n = 1.0 / x[REST_]
    fx, fy, fz = x[SUMS_] * n, x[SUMS_ + 1] * n, x[SUMS_ + 2] * n
    size = math.sqrt(fx * fx + fy * fy + fz * fz)
    theta, phi = math.asin(min(1.0, max(-1.0, fx / size))), math.atan2(-fy, -fz)
    psi = c[C_HEADING]
    bx, by, bz = x[SUMS_ + 6], x[SUMS_ + 7], x[SUMS_ + 8]
    if bx * bx + by * by + bz * bz > 0.0:
        # levelled components of the field, which points to magnetic north
        level_x = bx * math.cos(theta) + math.sin(theta) * (by * math.sin(phi) + bz * math.cos(phi))
        level_y = by * math.cos(phi) - bz * math.sin(phi)
        psi = math.atan2(c[C_FIELD + 1], c[C_FIELD]) - math.atan2(level_y, level_x)
    q = quaternion_elements(phi, theta, psi)
    for i in range(4):
        x[Q_ + i] = q[i]
    normalise(x, Q_)
    earth = rotate(attitude(x), c[C_EARTH], 0.0, c[C_EARTH + 1])
    for i in range(3):
        x[BG_ + i] = x[SUMS_ + 3 + i] * n - earth[i]
        x[V_ + i] = 0.0
    x[MOVED_] = x[T_]


@inlined
def read(f: FilterArrays, row: int, z: Floats, here: int) -> None:
    """Take one kind of measurement into account, if there is a new one."""
    m, x, out = f.measurements, f.nominal, f.results
    kind, at, count = int(m[row, M_KIND]), int(m[row, M_COLUMN]), int(m[row, M_COUNT])
    out[row, R_NEW] = 0.0
    first, second, third = 0.0, 0.0, 0.0
    age = m[row, M_DELAY]
    if at < 0:
        # what is not measured but known, at an interval of steps: no sideslip; standing still
        if int(x[STEPS_]) % int(age) != 0 or (kind == STILL) == (x[PHASE_] == FLYING):
            return
        age = 0.0
    else:
        seen, ignored = z[at + count], z[at + count + 1]
        if not seen > out[row, R_SEEN]:
            return
        out[row, R_SEEN] = seen
        if ignored != 0.0:
            return
        first = z[at]
        if count > 1:
            second, third = z[at + 1], z[at + 2]
    if at >= 0 and kind in (SIDESLIP, INCIDENCE):
        first /= m[row, M_MOUNT]
    if kind in (POSITION, VELOCITY):
        third = -third  # a receiver gives altitude and climb, the filter counts downwards
    if kind == FIELD:
        first, second, third = mounted(m[row], M_MOUNT, first, second, third)
        feel(f, first, second, third)
    speed = math.sqrt((x[V_] - x[W_]) ** 2 + (x[V_ + 1] - x[W_ + 1]) ** 2 + x[V_ + 2] ** 2)
    if kind in (SIDESLIP, INCIDENCE) and speed < SLOWEST:
        return
    if kind == AIRSPEED and x[BLOWN_] == 0.0 and f.constants[C_SIDESLIP] > 0.0 and first > SLOWEST:
        begin_wind(f, row, first)
        return
    out[row, R_NEW] = 1.0
    past = here if age == 0.0 else row_of(f, x[T_] - age)
    measure(f, row, (first, second, third), count, f.past[past], 1, age)
    keep(f)


@inlined
def feel(f: FilterArrays, a: float, b: float, c: float) -> None:
    """Smooth the field as it is felt: half of what is new at first, and less and less to a small share."""
    x = f.nominal
    x[FELT_ + 3] += 1.0
    share = max(1.0 / x[FELT_ + 3], LEAST_SHARE)
    x[FELT_] += share * (a - x[FELT_])
    x[FELT_ + 1] += share * (b - x[FELT_ + 1])
    x[FELT_ + 2] += share * (c - x[FELT_ + 2])


@inlined
def give(f: FilterArrays, out: Floats) -> None:
    """Put the estimates of the centre of gravity into ``out``."""
    x, c = f.nominal, f.constants
    m = attitude(x)
    out[0], out[1], out[2] = euler_from_elements(m[0], m[1], m[2], m[3], m[4], m[5], m[8])
    p, q, r = x[RATE_] - x[BG_], x[RATE_ + 1] - x[BG_ + 1], x[RATE_ + 2] - x[BG_ + 2]
    earth = rotate(m, c[C_EARTH], 0.0, c[C_EARTH + 1])
    out[3], out[4], out[5] = p - earth[0], q - earth[1], r - earth[2]
    # from the place of the accelerometer to the centre of gravity
    arm = rotate_back(m, c[C_PLACE], c[C_PLACE + 1], c[C_PLACE + 2])
    turn = cross(out[3], out[4], out[5], c[C_PLACE], c[C_PLACE + 1], c[C_PLACE + 2])
    extra = rotate_back(m, turn[0], turn[1], turn[2])
    vn, ve, vd = x[V_] - extra[0], x[V_ + 1] - extra[1], x[V_ + 2] - extra[2]
    out[6], out[7], out[8] = rotate(m, vn, ve, vd)
    out[9], out[10], out[11] = x[P_] - arm[0], x[P_ + 1] - arm[1], arm[2] - x[P_ + 2]
    flat = math.sqrt(vn * vn + ve * ve)
    out[12], out[13], out[14], out[15] = -vd, flat, math.atan2(ve, vn), math.atan2(-vd, flat)
    ua, va, wa = rotate(m, vn - x[W_], ve - x[W_ + 1], vd)
    speed = math.sqrt(ua * ua + va * va + wa * wa)
    out[16], out[17] = speed, math.atan2(wa, ua)
    out[18] = 0.0 if speed < 1e-9 else math.asin(min(1.0, max(-1.0, va / speed)))
    out[19], out[20] = (x[FORCE_] - x[BA_]) / G0, (x[FORCE_ + 1] - x[BA_ + 1]) / G0
    out[21] = -(x[FORCE_ + 2] - x[BA_ + 2]) / G0
    out[22], out[23] = x[W_], x[W_ + 1]


@inlined
def stepped(f: FilterArrays, z: Floats, t: float, out: Floats) -> None:
    """Take the readings of one instant into account."""
    x = f.nominal
    if x[PHASE_] != STANDING:
        propagate(f, z, t)
    else:
        x[T_] = t
    if x[PHASE_] != FLYING:
        stand(f, z)
    if x[PHASE_] != STANDING:
        here = keep(f)
        for row in range(f.measurements.shape[0]):
            read(f, row, z, here)
    give(f, out)


@compiled
def filter_step(own: Floats, registers: Floats, t: float) -> None:
    """Gather readings from registers, step, and leave the estimates: of a filter in one piece, for the kernel."""
    reads, outputs = int(own[H_READS]), int(own[H_OUTPUTS])
    nominal, covariance, constants, table, results, before, work, measured, past, _ = places_in(own)
    f = FilterArrays(
        own[nominal:covariance],
        matrix_at(own, covariance, N, N),  # type: ignore[call-arg]
        own[constants:table],
        matrix_at(own, table, measured, ROW),  # type: ignore[call-arg]
        matrix_at(own, results, measured, RESULT),  # type: ignore[call-arg]
        matrix_at(own, before, past, PAST),  # type: ignore[call-arg]
        matrix_at(own, work, WORK, N),  # type: ignore[call-arg]
    )  # fmt: skip
    # a row that was recorded ahead has been stepped already
    if t <= f.nominal[T_]:
        return
    z = own[OWN_HEADER + reads : OWN_HEADER + 2 * reads]
    for i in range(reads):
        place = int(own[OWN_HEADER + i])
        z[i] = registers[place] if place >= 0 else 0.0
    at = OWN_HEADER + 2 * reads + outputs
    stepped(f, z, t, own[at : at + outputs])


@compiled
def filter_rows(
    f: FilterArrays, rows: Floats, times: Floats, estimates: Floats, spreads: Floats, innovations: Floats,
    every: int, blocks: Floats,
) -> None:  # fmt: skip
    """Filter all rows of readings; keep estimates, standard deviations of the errors and results of each instant.

    Of every so many rows the nominal state and the covariance are kept as well, row by row, in ``blocks``.
    """
    size = f.results.shape[1]
    for i in range(rows.shape[0]):
        stepped(f, rows[i], times[i], estimates[i])
        for k in range(N):
            spreads[i, k] = math.sqrt(max(f.covariance[k, k], 0.0))
        for row in range(f.results.shape[0]):
            for k in range(size):
                innovations[i, row * size + k] = f.results[row, k]
        if i % every == 0 and i // every < blocks.shape[0]:
            kept = blocks[i // every]
            for k in range(NOMINALS):
                kept[k] = f.nominal[k]
            for k in range(N):
                for j in range(N):
                    kept[NOMINALS + N * k + j] = f.covariance[k, j]
