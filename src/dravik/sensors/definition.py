"""Sensors as an aircraft's file gives them: what each measures, where it sits, its errors, and sets of them."""

from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, model_validator

from dravik.definition.fields import Angle, Formula, Position
from dravik.errors import DravikError, nearest
from dravik.sensors.errors import ErrorKeys, error_terms
from dravik.sensors.kinds import KINDS_OF_SENSORS, SensorKind

__all__ = ["Sensor", "SensorSet", "chosen_sensors", "refuse_sets"]


class Sensor(ErrorKeys):
    """A sensor: what it measures, its place and its axes in the aircraft, and its errors.

    Its outputs are signals: of a sensor with three axes ``NAME_x``, ``NAME_y``, ``NAME_z``, along or about its own
    axes; of a satellite receiver ``NAME_north`` and so on; of any other ``NAME``. ``NAME_..._ideal`` is what it would
    read without errors.
    """

    kind: Literal[
        "rate_gyro",
        "accelerometer",
        "magnetometer",
        "static_pressure",
        "total_pressure",
        "differential_pressure",
        "alpha_vane",
        "beta_vane",
        "satellite_position",
        "satellite_velocity",
        "radio_height",
        "shaft_speed",
        "voltage",
        "current",
        "temperature",
        "control_position",
        "signal",
    ]  #: what it measures
    description: str = ""  #: one line about it
    place: Position | None = None  #: where it sits, station axes; the centre of gravity unless given
    #: roll, pitch and yaw angle of its axes against the body axes
    orientation: tuple[Angle, Angle, Angle] = (0.0, 0.0, 0.0)
    upwash: Annotated[float, Field(gt=0.0, le=10.0)] = 1.0  #: of a vane: its angle over that of the flow far ahead
    engine: str = ""  #: of a shaft speed: the engine
    battery: str = ""  #: of a voltage or a current: the battery
    control: str = ""  #: of a position: the control
    signal: str = ""  #: of a sensor of kind `signal`: what it measures
    #: signals for which it stands, with a formula of its outputs; by its kind unless given
    stands_for: dict[str, Formula] | None = None

    @property
    def spec(self) -> SensorKind:
        """What sensors of its kind measure."""
        return KINDS_OF_SENSORS[self.kind]

    @property
    def subject(self) -> str:
        """Name of the engine, battery, control or signal that it concerns; empty for one that needs none."""
        return str(getattr(self, self.spec.needs)) if self.spec.needs else ""

    @model_validator(mode="after")
    def _possible(self) -> "Sensor":
        for key in ("engine", "battery", "control", "signal"):
            if key == self.spec.needs and not getattr(self, key):
                raise DravikError(f"the key {key!r} is missing", expected=f"the {key} that a {self.kind} concerns")
            if key != self.spec.needs and getattr(self, key):
                raise DravikError(f"a {self.kind} has no {key}", where=key)
        self.refuse_errors()
        return self

    def refuse_errors(self) -> None:
        """Raise DravikError with the key for errors that it cannot have."""
        for key, kinds in (
            ("acceleration_sensitivity", ("rate_gyro",)),
            ("position_error", ("static_pressure", "total_pressure", "differential_pressure")),
        ):
            if getattr(self, key) is not None and self.kind not in kinds:
                raise DravikError(f"a {self.kind} has no {key}", where=key, expected="in a " + " or ".join(kinds))
        if self.spec.quantity:
            error_terms(self, self.spec.quantity, max(1, len(self.spec.outputs)))

    def outputs(self, name: str) -> list[str]:
        """Return the names of its signals."""
        return [f"{name}_{end}" for end in self.spec.outputs] or [name]


def _change(value: object) -> object:
    """Return the changes of a sensor in a set: ``true`` for none."""
    return {} if value is True else value


#: Sensors of a set by name, each with the keys that are other than in ``[sensors.NAME]``.
SensorSet = dict[str, Annotated[ErrorKeys, BeforeValidator(_change)]]


def chosen_sensors(sensors: dict[str, Sensor], sets: dict[str, SensorSet], name: str) -> dict[str, Sensor]:
    """Return the sensors of a set: ``"all"`` and ``"ideal"`` (all, without errors) are there without being said.

    Parameters
    ----------
    sensors : mapping of str to Sensor
        The aircraft's sensors.
    sets : mapping of str to SensorSet
        Its sets.
    name : str
        The set asked for.

    Returns
    -------
    mapping of str to Sensor

    Raises
    ------
    DravikError
        For a set that is not there.

    Examples
    --------
    >>> from dravik.sensors import Sensor, chosen_sensors
    >>> gyro = Sensor(kind="rate_gyro", bias="1 deg/s")
    >>> chosen_sensors({"gyro": gyro}, {}, "ideal")["gyro"].bias is None
    True
    """
    if name in sets:
        return {key: _changed(sensors[key], change) for key, change in sets[name].items()}
    if name == "all" and sensors:
        return dict(sensors)
    if name == "ideal" and sensors:
        return {key: _changed(sensor, None) for key, sensor in sensors.items()}
    known = [*sets, *(["all", "ideal"] if sensors else [])]
    raise DravikError(
        f"there is no set of sensors {name!r}", expected="one of " + ", ".join(known) if known else "[sensors.NAME]",
        hint=nearest(name, known),
    )  # fmt: skip


def _changed(sensor: Sensor, change: ErrorKeys | None) -> Sensor:
    if change is None:
        keys: dict[str, Any] = {k: v for k, v in sensor if k not in ErrorKeys.model_fields}
        return Sensor.model_construct(**ErrorKeys().model_dump(), **keys)
    return sensor.model_copy(update={k: getattr(change, k) for k in change.model_fields_set})


def refuse_sets(sensors: dict[str, Sensor], sets: dict[str, SensorSet]) -> None:
    """Refuse sets of sensors that are not there, and errors that a sensor cannot have.

    Parameters
    ----------
    sensors : mapping of str to Sensor
        The aircraft's sensors.
    sets : mapping of str to SensorSet
        Its sets.

    Raises
    ------
    DravikError
        With the key.

    Examples
    --------
    >>> from dravik.sensors import refuse_sets
    >>> refuse_sets({}, {})
    """
    for name, changes in sets.items():
        if name in ("all", "ideal", "none"):
            raise DravikError(
                f"a set cannot be called {name!r}", where=f"sensor_sets.{name}",
                expected="another name: all, ideal and none have a meaning",
            )  # fmt: skip
        for key, change in changes.items():
            place = f"sensor_sets.{name}.{key}"
            if key not in sensors:
                raise DravikError(f"there is no sensor {key!r}", where=place, hint=nearest(key, sensors))
            try:
                _changed(sensors[key], change).refuse_errors()
            except DravikError as error:
                inner, error.where = error.where, ""
                raise error.at(f"{place}.{inner}" if inner else place) from None
