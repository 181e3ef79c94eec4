"""Estimators as an aircraft's file gives them: what they measure with, how sure they are at first, what they ignore."""

from collections.abc import Mapping
from typing import Annotated, Literal

from pydantic import BeforeValidator, Field

from dravik.definition.fields import Acceleration, Angle, Duration, Formula, Frequency, Length, Model, Speed
from dravik.errors import DravikError, nearest
from dravik.sensors.definition import Sensor
from dravik.sensors.errors import per_root_second

__all__ = ["ESTIMATED", "MEASURED_AIRSPEED", "MEASURED_ALTITUDE", "Estimator", "taken_sensors"]

#: Signals of which an inertial filter gives an estimate, with their SI units.
ESTIMATED: dict[str, str] = {
    "phi": "rad", "theta": "rad", "psi": "rad", "p": "rad/s", "q": "rad/s", "r": "rad/s", "u": "m/s", "v": "m/s",
    "w": "m/s", "north": "m", "east": "m", "altitude": "m", "climb_rate": "m/s", "ground_speed": "m/s", "track": "rad",
    "flight_path": "rad", "airspeed": "m/s", "alpha": "rad", "beta": "rad", "nx": "", "ny": "", "nz": "",
    "air_north": "m/s", "air_east": "m/s",
}  # fmt: skip


class Estimator(Model):
    """A filter that makes estimates of what sensors read: attitude, velocity, position, biases, wind.

    It is an extended Kalman filter of the errors of an inertial solution by gyro and accelerometer.
    """

    description: str = ""  #: one line about it
    rate: Frequency = 100.0  #: steps a second
    gyro: str = ""  #: the rate gyro it takes; the only one unless given
    accelerometer: str = ""  #: the accelerometer it takes; the only one unless given
    measurements: tuple[str, ...] | None = None  #: other sensors it takes; all that it can use unless given
    ignore: dict[str, Formula] = Field(
        default={}
    )  #: conditions under which it does not take a sensor, by the sensor's name
    #: innovations of more standard deviations than this are refused
    gate: Annotated[float, Field(gt=0.0, le=1e3)] = 5.0
    #: `given`: at the state of the aircraft with an error drawn by the spreads; `standing`: by what is measured at rest
    start: Literal["given", "standing"] = "given"
    standing_time: Duration = 10.0  #: how long it measures at rest before it aligns
    heading: Angle = 0.0  #: heading of a standing start without a magnetometer
    lift_off: Annotated[Acceleration, Field(gt=0.0)] = 5.0  #: specific force beyond that at rest which means motion
    lift_off_time: Duration = 0.05  #: for how long it must be felt
    attitude_spread: Annotated[Angle, Field(gt=0.0)] = 0.035  #: standard deviation of roll and pitch at first
    heading_spread: Annotated[Angle, Field(gt=0.0)] = 0.087  #: standard deviation of the heading at first
    velocity_spread: Annotated[Speed, Field(gt=0.0)] = 0.5  #: standard deviation of each velocity at first
    position_spread: Annotated[Length, Field(gt=0.0)] = 3.0  #: standard deviation of each position at first
    wind_spread: Annotated[Speed, Field(gt=0.0)] = 5.0  #: standard deviation of each component of the wind at first
    #: random walk by which the wind may change, such as "0.1 m/s/sqrt(s)"
    wind_walk: Annotated[float, BeforeValidator(per_root_second("speed")), Field(ge=0.0)] = 0.1
    #: standard deviation of the sideslip, which is taken for zero otherwise; 0: nothing is known of it
    sideslip: Annotated[Angle, Field(ge=0.0)] = 0.0
    more_noise: Annotated[float, Field(gt=0.0, le=1e3)] = 1.0  #: factor on all standard deviations of measurements


MEASURED_ALTITUDE, MEASURED_AIRSPEED = "measured_altitude", "measured_airspeed"
#: Kinds of sensors of which a filter makes something, besides gyro and accelerometer.
TAKEN = (
    "satellite_position", "satellite_velocity", "static_pressure", "magnetometer", "differential_pressure",
    "total_pressure", "beta_vane", "alpha_vane",
)  # fmt: skip


def taken_sensors(keys: Estimator, sensors: Mapping[str, Sensor], place: str) -> list[str]:
    """Return the sensors that an estimator takes besides gyro and accelerometer.

    Parameters
    ----------
    keys : Estimator
        The estimator.
    sensors : mapping of str to Sensor
        The sensors on board.
    place : str
        Where the estimator stands, for messages.

    Returns
    -------
    list of str
        Those it names; else the first of each kind.

    Raises
    ------
    DravikError
        For sensors that are not on board, and of which a filter makes nothing.

    Examples
    --------
    >>> from dravik.sensors import Estimator, Sensor
    >>> taken_sensors(Estimator(), {"baro": Sensor(kind="static_pressure")}, "")
    ['baro']
    """
    if keys.measurements is None:
        kinds = [s.kind for s in sensors.values()]
        # of two of a kind the first: which is meant can be said
        return [n for i, (n, s) in enumerate(sensors.items()) if s.kind in TAKEN and s.kind not in kinds[:i]]
    for sensor in keys.measurements:
        if sensor not in sensors:
            raise DravikError(
                f"there is no sensor {sensor!r} on board", where=f"{place}.measurements",
                hint=nearest(sensor, sensors),
            )  # fmt: skip
        if sensors[sensor].kind not in TAKEN:
            raise DravikError(
                f"{sensor} is a {sensors[sensor].kind}, of which a filter makes nothing", where=f"{place}.measurements",
                expected=", ".join(TAKEN),
            )  # fmt: skip
    return list(keys.measurements)
