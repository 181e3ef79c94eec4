"""The arrays of an inertial filter: what stands where. The compiled functions work in them and allocate nothing."""

from typing import ClassVar, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.kernel.program import OWN_COUNT, OWN_EVERY, OWN_HEADER, OWN_INTO, OWN_VALUES

__all__ = ["ERROR_STATES", "NOMINAL", "ROW", "FilterArrays", "empty_arrays", "in_one_piece", "views"]

Floats = NDArray[np.float64]

#: The errors that are estimated, truth less estimate, and their SI units: attitude about body axes.
ERROR_STATES: dict[str, str] = {
    "attitude_x": "rad", "attitude_y": "rad", "attitude_z": "rad",
    "velocity_north": "m/s", "velocity_east": "m/s", "velocity_down": "m/s",
    "position_north": "m", "position_east": "m", "position_down": "m",
    "gyro_bias_x": "rad/s", "gyro_bias_y": "rad/s", "gyro_bias_z": "rad/s",
    "accelerometer_bias_x": "m/s^2", "accelerometer_bias_y": "m/s^2", "accelerometer_bias_z": "m/s^2",
    "wind_north": "m/s", "wind_east": "m/s", "altitude_bias": "m",
    "field_bias_x": "T", "field_bias_y": "T", "field_bias_z": "T", "pitot_bias": "Pa",
}  # fmt: skip
N = len(ERROR_STATES)
# where the errors begin
(THETA, VEL, POS, BG, BA, WIND, BARO, MAG, PITOT) = (0, 3, 6, 9, 12, 15, 17, 18, 21)
# the nominal state: quaternion (local to body), velocity, position (down), biases, wind, biases of altitude, field and
# pitot pressure, what was measured last (rates, specific force, body axes, without biases), time, how many steps;
# alignment: phase, sums, since when it moves, how many readings; the field as it is felt, smoothed;
# whether the wind was set
(Q_, V_, P_, BG_, BA_, W_, B_, MAG_, PITOT_, RATE_, FORCE_, T_, STEPS_) = (
    0, 4, 7, 10, 13, 16, 18, 19, 22, 23, 26, 29, 30,
)  # fmt: skip
(PHASE_, SUMS_, MOVED_, REST_, FELT_, BLOWN_) = (31, 32, 41, 42, 43, 47)
#: Names of the nominal state for people, in the order of the array's first numbers.
NOMINAL = (
    "q0", "q1", "q2", "q3", "velocity_north", "velocity_east", "velocity_down", "north", "east", "down",
    "gyro_bias_x", "gyro_bias_y", "gyro_bias_z", "accelerometer_bias_x", "accelerometer_bias_y",
    "accelerometer_bias_z", "wind_north", "wind_east", "altitude_bias", "field_bias_x", "field_bias_y", "field_bias_z",
    "pitot_bias",
)  # fmt: skip
SIZE = 48
NOMINALS = len(NOMINAL)
# constants: densities of the process noise (squared), gravity, turning of the Earth (north, down), radius (0: flat),
# field, gate, mounting of gyro and accelerometer (9 each), place of the accelerometer from the centre of gravity,
# alignment: time, lift-off force and time; heading of the start
(C_GYRO, C_FORCE, C_BG, C_BA, C_WIND, C_BARO, C_G, C_EARTH, C_RADIUS, C_FIELD, C_GATE) = (
    0, 1, 2, 3, 4, 5, 6, 7, 9, 10, 13,
)  # fmt: skip
(C_MOUNT_G, C_MOUNT_A, C_ALIGN, C_LIFT, C_LIFT_TIME, C_HEADING, C_SIDESLIP, C_GRAVITY_LAPSE) = (
    14, 23, 32, 33, 34, 35, 36, 37,
)  # fmt: skip
# then: place (3), densities of the walks of the biases of field and pitot, share of rates that count as noise
(C_PLACE, C_MAG, C_PITOT, C_TURN) = (38, 41, 42, 43)
CONSTANTS = 44
#: Kinds of measurements, in the order of their numbers.
(POSITION, VELOCITY, ALTITUDE, FIELD, AIRSPEED, SIDESLIP, INCIDENCE, STILL) = range(8)
# a row of the table of measurements: kind, first column of the inputs, how many values, variances, lever arm from the
# accelerometer (body axes), delay, mounting (of a vane first: its angle over that of the flow)
(M_KIND, M_COLUMN, M_COUNT, M_R, M_ARM, M_DELAY, M_MOUNT) = (0, 1, 2, 3, 6, 9, 10)
ROW = 19
# what is known of each measurement: samples seen, innovations, their variances, whether each was taken, sum of the
# normalised squares, whether it is new
(R_SEEN, R_NU, R_S, R_TAKEN, R_NIS, R_NEW) = (0, 1, 4, 7, 10, 11)
RESULT = 12
NEVER = -1e301  # s: the time of what has not been yet; a number, so that a file of it can be read anywhere
# a row of the past: time, quaternion, velocity, position, rates
PAST = 14
WORK = 3 * N + 8  # rows of the working space


class _FilterArrays(NamedTuple):
    nominal: Floats
    covariance: Floats
    constants: Floats
    measurements: Floats
    results: Floats
    past: Floats
    work: Floats


class FilterArrays(_FilterArrays):
    """All that an inertial filter is: nominal state, covariance, constants, measurements, results, the past, work."""

    __slots__ = ()
    kinds: ClassVar = ("f8:1", "f8:2", "f8:1", "f8:2", "f8:2", "f8:2", "f8:2")


# ``own``: after the kernel's header the filter's: how many readings, measurements and rows of the past it has
(H_READS, H_MEASUREMENTS, H_PAST, H_OUTPUTS) = range(4, 8)


def places(own: Floats) -> tuple[int, int, int, int, int, int, int, int, int, int]:
    """Return where the seven arrays of a filter begin in ``own``, and how many measurements and rows of the past.

    Parameters
    ----------
    own : array
        What the filter works in, in one piece.

    Returns
    -------
    tuple of int
        Seven places, number of measurements, rows of the past, end.
    """
    reads, measured = int(own[H_READS]), int(own[H_MEASUREMENTS])
    past, outputs = int(own[H_PAST]), int(own[H_OUTPUTS])
    nominal = OWN_HEADER + 2 * reads + 2 * outputs
    covariance = nominal + SIZE
    constants = covariance + N * N
    table = constants + CONSTANTS
    results = table + measured * ROW
    before = results + measured * RESULT
    work = before + past * PAST
    return nominal, covariance, constants, table, results, before, work, measured, past, work + WORK * N


def views(own: Floats) -> FilterArrays:
    """Return the arrays of a filter that stand one after the other in ``own``.

    Parameters
    ----------
    own : array
        What the filter works in, in one piece.

    Returns
    -------
    FilterArrays
        Parts of it, not copies.
    """
    nominal, covariance, constants, table, results, before, work, measured, past, end = places(own)
    return FilterArrays(
        own[nominal:covariance], own[covariance:constants].reshape(N, N), own[constants:table],
        own[table:results].reshape(measured, ROW), own[results:before].reshape(measured, RESULT),
        own[before:work].reshape(past, PAST), own[work:end].reshape(WORK, N),
    )  # fmt: skip


def in_one_piece(arrays: FilterArrays, picks: Floats, into: Floats, every: int) -> Floats:
    """Return a filter in one piece, as the kernel takes it.

    Parameters
    ----------
    arrays : FilterArrays
        The filter.
    picks : array
        The registers it reads, -1 for none.
    into : array
        The inputs it sets, -1 for none.
    every : int
        Steps of the flight between two of its own.

    Returns
    -------
    array
    """
    header = np.zeros(OWN_HEADER)
    header[OWN_EVERY], header[OWN_COUNT] = every, len(into)
    header[OWN_INTO] = OWN_HEADER + 2 * len(picks)
    header[OWN_VALUES] = OWN_HEADER + 2 * len(picks) + len(into)
    header[H_READS], header[H_MEASUREMENTS] = len(picks), len(arrays.measurements)
    header[H_PAST], header[H_OUTPUTS] = len(arrays.past), len(into)
    parts = [header, picks, np.zeros(len(picks)), into, np.zeros(len(into)), *(p.ravel() for p in arrays)]
    return np.concatenate([np.asarray(p, dtype=float) for p in parts])


def empty_arrays(measurements: int, past: int) -> FilterArrays:
    """Return the arrays of a filter with a number of measurements that remembers so many of its steps.

    Parameters
    ----------
    measurements : int
        How many kinds of measurements.
    past : int
        Steps that a late measurement may go back.

    Returns
    -------
    FilterArrays

    Examples
    --------
    >>> empty_arrays(2, 30).covariance.shape
    (22, 22)
    """
    found = FilterArrays(
        np.zeros(SIZE), np.zeros((N, N)), np.zeros(CONSTANTS), np.zeros((measurements, ROW)),
        np.zeros((measurements, RESULT)), np.full((max(2, past), PAST), NEVER), np.zeros((WORK, N)),
    )  # fmt: skip
    found.nominal[Q_], found.nominal[T_] = 1.0, NEVER
    return found
