"""From an aircraft with sensors on board to an inertial filter: constants, measurements, which signals it reads."""

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.constants import STANDARD_GRAVITY
from dravik.errors import DravikError, nearest
from dravik.estimation import arrays as a
from dravik.estimation.arrays import FilterArrays, empty_arrays
from dravik.frames import body_from_station, dcm_from_euler
from dravik.sensors import ErrorTerms, Estimator, Sensor, dipole_field, terms_of
from dravik.sensors.estimators import MEASURED_AIRSPEED, MEASURED_ALTITUDE, taken_sensors
from dravik.surroundings.earth import ROTATION

__all__ = ["FilterPlan", "estimator_of", "filter_plan"]

Floats = NDArray[np.float64]
KIND_OF = {
    "satellite_position": a.POSITION, "satellite_velocity": a.VELOCITY, "static_pressure": a.ALTITUDE,
    "magnetometer": a.FIELD, "differential_pressure": a.AIRSPEED, "total_pressure": a.AIRSPEED,
    "beta_vane": a.SIDESLIP, "alpha_vane": a.INCIDENCE,
}  # fmt: skip
VALUES = {a.POSITION: 3, a.VELOCITY: 3, a.FIELD: 3, a.STILL: 3}
STILL_SPREAD = 0.02  # m/s: how still an aircraft stands
CORRELATED = 2.0  # s: a sideslip lasts that long, so that it is taken for zero only so often
STILL_INTERVAL = 0.1  # s between two instants at which it is known to stand
INSTABILITY_TIME = 100.0  # s, in which a bias instability shows as a random walk of the same size
# what a bias is thought to walk at least, so that a filter never takes it for known; per root of a second
LEAST_WALK = {"gyro": 1e-6, "accelerometer": 1e-5, "barometer": 0.01, "magnetometer": 1e-9, "pitot": 0.01}
TURNING = 5.0  # s, for which a turn lasts: an error that grows with the rate is the same for that long


@dataclass(frozen=True)
class FilterPlan:
    """A filter of an aircraft, ready to start.

    Attributes
    ----------
    name : str
        The estimator's.
    keys : Estimator
        What its file says of it.
    reads : tuple of str
        The signals that it reads, in order; empty where there is none.
    measurements : tuple of str
        Sensors that it takes, and what it knows without: ``sideslip``, ``still``.
    arrays : FilterArrays
        Its arrays as at the start.
    counts : mapping of str to int
        How many numbers each measurement has.
    """

    name: str
    keys: Estimator
    reads: tuple[str, ...]
    measurements: tuple[str, ...]
    arrays: FilterArrays
    counts: Mapping[str, int]

    def fresh(self) -> FilterArrays:
        """Return the arrays as at the start, for a filter of its own."""
        return FilterArrays(*(part.copy() for part in self.arrays))


def estimator_of(craft: Aircraft, name: str = "") -> tuple[str, Estimator]:
    """Return an estimator of an aircraft by name; that which is on board, or the only one, without.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    name : str, optional
        The estimator.

    Returns
    -------
    tuple (str, Estimator)

    Raises
    ------
    DravikError
        For one that is not there.

    Examples
    --------
    >>> import dravik as dv
    >>> estimator_of(dv.sample("pika"))[0]
    'navigation'
    """
    known = craft.definition.estimators
    chosen = name or craft.configuration.sensing.estimator or (next(iter(known)) if len(known) == 1 else "")
    if chosen not in known:
        raise DravikError(
            f"{craft.name} has no estimator {chosen!r}" if chosen else f"{craft.name} has several estimators"
            if known else f"{craft.name} has no estimator",
            expected="one of " + ", ".join(known) if known else "[estimators.NAME] in its file",
            hint=nearest(chosen, known),
        )  # fmt: skip
    return chosen, known[chosen]


def _only(sensors: Mapping[str, Sensor], kind: str, name: str, keys: str) -> str:
    """Return the name of the sensor of a kind that an estimator takes."""
    found = [n for n, s in sensors.items() if s.kind == kind]
    if name:
        if name not in found:
            raise DravikError(f"there is no {kind.replace('_', ' ')} {name!r} on board", where=keys,
                              hint=nearest(name, found))  # fmt: skip
        return name
    if len(found) != 1:
        what = f"no {kind.replace('_', ' ')}" if not found else f"several: {', '.join(found)}"
        raise DravikError(f"there is {what} on board", where=keys, expected="one, by name")
    return found[0]


def filter_plan(craft: Aircraft, name: str = "") -> FilterPlan:
    """Return the inertial filter of an aircraft, ready to start.

    Parameters
    ----------
    craft : Aircraft
        With a set of sensors on board.
    name : str, optional
        The estimator; the only one unless given.

    Returns
    -------
    FilterPlan

    Raises
    ------
    DravikError
        Without sensors that it needs, with file and key.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("pika").with_sensors("cheap", estimator="navigation")
    >>> "gyro_x" in filter_plan(craft).reads
    True
    """
    name, keys = estimator_of(craft, name)
    sensors = craft.configuration.sensors
    place = f"estimators.{name}"
    gyro = _only(sensors, "rate_gyro", keys.gyro, f"{place}.gyro")
    force = _only(sensors, "accelerometer", keys.accelerometer, f"{place}.accelerometer")
    used = taken_sensors(keys, sensors, place)
    _refuse_ignored(keys, used, place)
    reads = [*sensors[gyro].outputs(gyro), *sensors[force].outputs(force)]
    origin = _place(craft, sensors[force])
    rows: list[Floats] = []
    names: list[str] = []
    units = {n: s.unit for n, s in craft.signals.items()}
    for sensor in used:
        row, signals = _measurement(craft, sensor, sensors[sensor], len(reads), origin)
        terms, _ = terms_of(sensor, sensors[sensor], units)
        _variances(row, sensors[sensor], terms, keys.more_noise)
        signals.append(f"{sensor}_samples" if terms.rate is not None else "time")
        signals.append(f"{name}_ignores_{sensor}" if sensor in keys.ignore else "")
        reads += signals
        rows.append(row)
        names.append(sensor)
    for known, kind, interval, spread in (
        ("sideslip", a.SIDESLIP, CORRELATED, keys.sideslip), ("still", a.STILL, STILL_INTERVAL, STILL_SPREAD),
    ):  # fmt: skip
        if kind == a.STILL and keys.start != "standing":
            continue  # it never stands where the filter begins in flight
        if spread and not (kind == a.SIDESLIP and any(r[a.M_KIND] == kind for r in rows)):
            row = np.zeros(a.ROW)
            row[a.M_KIND], row[a.M_COLUMN], row[a.M_COUNT] = kind, -1, VALUES.get(kind, 1)
            row[a.M_R : a.M_R + 3] = spread**2
            row[a.M_DELAY] = max(1, round(interval * keys.rate))
            rows.append(row)
            names.append(known)
    late = max((r[a.M_DELAY] for r in rows if r[a.M_COLUMN] >= 0), default=0.0)
    found = empty_arrays(len(rows), math.ceil(late * keys.rate) + 3)
    found.measurements[:] = np.array(rows) if rows else found.measurements
    _constants(craft, keys, (sensors[gyro], terms_of(gyro, sensors[gyro], units)[0]),
               (sensors[force], terms_of(force, sensors[force], units)[0]), found)  # fmt: skip
    _spreads(keys, sensors, {gyro: "gyro", force: "accelerometer"}, used, units, found)
    found.nominal[a.PHASE_] = 0.0 if keys.start == "standing" else 2.0
    counts = {n: int(r[a.M_COUNT]) for n, r in zip(names, rows, strict=True)}
    return FilterPlan(name, keys, tuple(reads), tuple(names), found, counts)


def _refuse_ignored(keys: Estimator, used: list[str], place: str) -> None:
    for sensor in keys.ignore:
        if sensor not in used:
            raise DravikError(
                f"{sensor} is no measurement of the filter", where=f"{place}.ignore", expected=", ".join(used),
                hint=nearest(sensor, used),
            )  # fmt: skip


def _place(craft: Aircraft, sensor: Sensor) -> Floats:
    """Return where a sensor sits from the centre of gravity, body axes."""
    if sensor.place is None:
        return np.zeros(3)
    return np.asarray(body_from_station(np.array(sensor.place), np.array(craft.loading.cg)))


def _measurement(craft: Aircraft, name: str, sensor: Sensor, column: int, origin: Floats) -> tuple[Floats, list[str]]:
    """Return a row of the table of measurements, and the signals it reads."""
    row = np.zeros(a.ROW)
    kind = KIND_OF[sensor.kind]
    row[a.M_KIND], row[a.M_COLUMN], row[a.M_COUNT] = kind, column, VALUES.get(kind, 1)
    row[a.M_ARM : a.M_ARM + 3] = _place(craft, sensor) - origin if sensor.place is not None else -origin
    row[a.M_DELAY] = sensor.delay + (sensor.lag or 0.0)
    row[a.M_MOUNT : a.M_MOUNT + 9] = np.asarray(dcm_from_euler(*sensor.orientation)).ravel()
    if kind in (a.SIDESLIP, a.INCIDENCE):
        row[a.M_MOUNT] = sensor.upwash
    if kind == a.ALTITUDE:
        return row, [MEASURED_ALTITUDE]
    if kind == a.AIRSPEED:
        return row, [MEASURED_AIRSPEED]
    return row, sensor.outputs(name)


def _variances(row: Floats, sensor: Sensor, terms: ErrorTerms, more: float) -> None:
    """Put the variances of a measurement into its row: noise, rounding, and constant errors that are not estimated."""
    is_estimated = row[a.M_KIND] in (a.ALTITUDE, a.FIELD, a.AIRSPEED)
    for k in range(int(row[a.M_COUNT])):
        constant = 0.0 if is_estimated else terms.turn_on[k] ** 2 + terms.bias[k] ** 2
        own = terms.noise[k] ** 2 + terms.resolution[k] ** 2 / 12.0 + constant
        own += 0.0 if is_estimated else terms.instability[k] ** 2
        row[a.M_R + k] = more**2 * max(own / sensor.upwash**2, LEAST[sensor.kind] ** 2)


#: Smallest standard deviations that a filter takes for true.
LEAST = {
    "satellite_position": 0.05, "satellite_velocity": 0.01, "static_pressure": 0.5, "magnetometer": 5e-8,
    "differential_pressure": 0.5, "total_pressure": 0.5, "beta_vane": 2e-3, "alpha_vane": 2e-3,
}  # fmt: skip


def _constants(
    craft: Aircraft, keys: Estimator, gyro: tuple[Sensor, ErrorTerms], force: tuple[Sensor, ErrorTerms],
    into: FilterArrays,
) -> None:  # fmt: skip
    c, world = into.constants, craft.configuration.world
    for (_, terms), white, walk, least in (
        (gyro, a.C_GYRO, a.C_BG, LEAST_WALK["gyro"]), (force, a.C_FORCE, a.C_BA, LEAST_WALK["accelerometer"]),
    ):  # fmt: skip
        # a sample stands for the time to the next step: read less often than it comes, it has the same variance
        step = 1.0 / min(keys.rate, terms.rate or keys.rate)
        noise, rounding = max(terms.noise), max(terms.resolution)
        c[white] = max((noise**2 + rounding**2 / 12.0) * step, least**2)
        c[walk] = max(terms.walk) ** 2 + max(terms.instability) ** 2 / INSTABILITY_TIME + least**2
    terms = gyro[1]
    across = np.abs(terms.matrix - np.eye(3)).max() if len(terms.scale) == 3 else 0.0
    c[a.C_TURN] = (max(abs(s) for s in terms.scale) ** 2 + across**2) * TURNING
    c[a.C_MAG], c[a.C_PITOT] = LEAST_WALK["magnetometer"] ** 2, LEAST_WALK["pitot"] ** 2
    c[a.C_WIND], c[a.C_BARO] = keys.wind_walk**2, LEAST_WALK["barometer"] ** 2
    c[a.C_G] = world.gravity_here
    is_round = world.earth == "wgs84"
    if is_round:
        c[a.C_EARTH] = ROTATION * math.cos(world.latitude)
        c[a.C_EARTH + 1] = -ROTATION * math.sin(world.latitude)
        c[a.C_RADIUS] = RADIUS
        c[a.C_GRAVITY_LAPSE] = 2.0 * world.gravity_here / RADIUS
    c[a.C_FIELD : a.C_FIELD + 3] = world.magnetic_field or dipole_field(world.latitude, world.longitude, 0.0)
    c[a.C_GATE] = keys.gate
    c[a.C_MOUNT_G : a.C_MOUNT_G + 9] = np.asarray(dcm_from_euler(*gyro[0].orientation)).ravel()
    c[a.C_MOUNT_A : a.C_MOUNT_A + 9] = np.asarray(dcm_from_euler(*force[0].orientation)).ravel()
    c[a.C_ALIGN], c[a.C_LIFT], c[a.C_LIFT_TIME] = keys.standing_time, keys.lift_off, keys.lift_off_time
    c[a.C_HEADING], c[a.C_SIDESLIP] = keys.heading, keys.sideslip
    c[a.C_PLACE : a.C_PLACE + 3] = _place(craft, force[0])


RADIUS = 6_371_000.0  # m, mean radius of the Earth


def _spreads(
    keys: Estimator, sensors: Mapping[str, Sensor], inertial: Mapping[str, str], used: list[str],
    units: Mapping[str, str], into: FilterArrays,
) -> None:  # fmt: skip
    """Put the covariance at the start on the diagonal: spreads, and the constant errors of the sensors."""
    p = into.covariance
    spreads = {
        a.THETA: keys.attitude_spread, a.THETA + 1: keys.attitude_spread, a.THETA + 2: keys.heading_spread,
        **{a.VEL + i: keys.velocity_spread for i in range(3)}, **{a.POS + i: keys.position_spread for i in range(3)},
        **{a.WIND + i: keys.wind_spread for i in range(2)},
    }  # fmt: skip
    for i, spread in spreads.items():
        p[i, i] = spread**2
    for name, what in inertial.items():
        terms, _ = terms_of(name, sensors[name], units)
        at, least = (a.BG, 1e-5) if what == "gyro" else (a.BA, 1e-3)
        for k in range(3):
            # under the steady weight, errors of scale and axes of an accelerometer are a bias, and so is a gyro's gain
            weight = STANDARD_GRAVITY * (
                terms.sensitivity if what == "gyro" else math.hypot(abs(terms.scale[k]), _tilted(terms, k))
            )
            own = terms.turn_on[k] ** 2 + terms.bias[k] ** 2 + terms.instability[k] ** 2 + weight**2
            p[at + k, at + k] = max(own, least**2)
    for name in used:
        terms, _ = terms_of(name, sensors[name], units)
        size = [math.hypot(t, b, i) for t, b, i in zip(terms.turn_on, terms.bias, terms.instability, strict=True)]
        match KIND_OF[sensors[name].kind]:
            case a.ALTITUDE:
                p[a.BARO, a.BARO] = max(size[0] / (STANDARD_GRAVITY * 1.225), 0.1) ** 2
            case a.AIRSPEED:
                p[a.PITOT, a.PITOT] = max(size[0], 0.05) ** 2
            case a.FIELD:
                for k in range(3):
                    p[a.MAG + k, a.MAG + k] = max(size[k], 2e-8) ** 2


def _tilted(terms: ErrorTerms, k: int) -> float:
    """Return the largest share of another axis that an axis measures."""
    return float(np.abs(np.delete(terms.matrix[k], k)).max())
