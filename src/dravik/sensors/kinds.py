"""What kinds of sensors there are: the quantity that each measures, its outputs, and the keys that it needs."""

from typing import NamedTuple

__all__ = ["KINDS_OF_SENSORS", "SensorKind"]


class SensorKind(NamedTuple):
    """A kind of sensor.

    ``quantity`` is the kind of quantity that it measures, empty where that is its subject's; ``outputs`` are the ends
    of its signals' names, empty for a sensor with one; ``needs`` is the key that names its subject.
    """

    quantity: str
    meaning: str
    outputs: tuple[str, ...] = ()
    needs: str = ""


_AXES = ("x", "y", "z")

KINDS_OF_SENSORS: dict[str, SensorKind] = {
    "rate_gyro": SensorKind("angular rate", "angular rate against inertial space, about its axes", _AXES),
    "accelerometer": SensorKind("acceleration", "specific force at its place, along its axes", _AXES),
    "magnetometer": SensorKind("magnetic field", "the Earth's magnetic field along its axes", _AXES),
    "static_pressure": SensorKind("pressure", "static pressure"),
    "total_pressure": SensorKind("pressure", "pressure in a pitot tube"),
    "differential_pressure": SensorKind("pressure", "pressure in a pitot tube less static pressure"),
    "alpha_vane": SensorKind("angle", "direction of the flow at its place in the plane of symmetry"),
    "beta_vane": SensorKind("angle", "direction of the flow at its place from the side"),
    "satellite_position": SensorKind("length", "position of its antenna", ("north", "east", "altitude")),
    "satellite_velocity": SensorKind(
        "speed", "velocity of its antenna over the ground", ("north_speed", "east_speed", "climb")
    ),
    "radio_height": SensorKind("length", "height of its antenna above the ground"),
    "shaft_speed": SensorKind("angular rate", "speed of an engine's shaft", needs="engine"),
    "voltage": SensorKind("voltage", "voltage of a battery", needs="battery"),
    "current": SensorKind("current", "current out of a battery", needs="battery"),
    "temperature": SensorKind("temperature difference", "static temperature"),
    "control_position": SensorKind("", "position of a control", needs="control"),
    "signal": SensorKind("", "any signal", needs="signal"),
}
