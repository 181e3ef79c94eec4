"""For which signals sensors stand: what a law reads of them in place of the truth, as formulas of their outputs."""

from collections.abc import Mapping

import numpy as np

from dravik.constants import SEA_LEVEL_DENSITY, STANDARD_GRAVITY
from dravik.errors import DravikError
from dravik.frames import dcm_from_euler
from dravik.sensors.definition import Sensor
from dravik.sensors.outputs import turned
from dravik.surroundings.atmosphere import EARTH_RADIUS, GAS_CONSTANT, HEAT_RATIO, LAYERS
from dravik.surroundings.pitot_static import air_data_formulas

__all__ = ["air_data", "stand_ins"]


def stand_ins(sensors: Mapping[str, Sensor]) -> tuple[dict[str, str | float], dict[str, str]]:
    """Return what stands for signals, by signal, and the formulas on the way, by name.

    A sensor's own ``stands_for`` comes first. Of two sensors of a kind that both say nothing, neither stands for
    anything: which of them a law reads, or how they vote, must be said.

    Parameters
    ----------
    sensors : mapping of str to Sensor
        The sensors on board, by name.

    Returns
    -------
    tuple (dict, dict)

    Raises
    ------
    DravikError
        Where two sensors say that they stand for the same signal.

    Examples
    --------
    >>> from dravik.sensors import Sensor
    >>> stand_ins({"gyro": Sensor(kind="rate_gyro")})[0]
    {'p': 'gyro_x', 'q': 'gyro_y', 'r': 'gyro_z'}
    """
    found: dict[str, str | float] = {}
    by: dict[str, str] = {}
    for name, sensor in sensors.items():
        for signal, formula in (sensor.stands_for or {}).items():
            if signal in found:
                raise DravikError(
                    f"{by[signal]} and {name} both stand for {signal}", where=f"sensors.{name}.stands_for.{signal}",
                    expected="one of them: a formula may read several sensors",
                )  # fmt: skip
            found[signal], by[signal] = formula, name
    silent = {n: s for n, s in sensors.items() if s.stands_for is None}
    alone = {n: s for n, s in silent.items() if [o.kind for o in silent.values()].count(s.kind) == 1}
    natural: dict[str, str | float] = {}
    for name, sensor in alone.items():
        for signal, formula in _own(name, sensor).items():
            natural.setdefault(signal, formula)
    air, steps = air_data(alone)
    # a barometer's altitude before a satellite's: it is the one with little noise, and the one of the other traffic
    return {**natural, **air, **found}, steps


def _own(name: str, sensor: Sensor) -> dict[str, str]:
    """Return the signals for which a sensor of a kind stands by itself."""
    outputs = sensor.outputs(name)
    match sensor.kind:
        case "rate_gyro":
            return dict(zip(("p", "q", "r"), _in_body_axes(sensor, outputs), strict=True))
        case "accelerometer":
            x, y, z = _in_body_axes(sensor, outputs)
            g = repr(STANDARD_GRAVITY)
            return {"nx": f"({x})/{g}", "ny": f"({y})/{g}", "nz": f"-({z})/{g}"}
        case "alpha_vane" | "beta_vane":
            return {sensor.kind.removesuffix("_vane"): f"{name}/{sensor.upwash!r}"}
        case "satellite_position":
            return dict(zip(("north", "east", "altitude"), outputs, strict=True))
        case "satellite_velocity":
            north, east, climb = outputs
            return {
                "ground_speed": f"hypot({north}, {east})", "track": f"atan2({east}, {north})", "climb_rate": climb,
                "flight_path": f"atan2({climb}, hypot({north}, {east}))",
            }  # fmt: skip
        case "shaft_speed":
            return {f"speed_{sensor.engine}": name, f"rpm_{sensor.engine}": f"{name}*30/pi"}
        case "voltage" | "current":
            return {f"{sensor.kind}_{sensor.battery}": name}
        case "temperature":
            return {"temperature": name}
        case "control_position" | "signal":
            return {sensor.subject: name}
    return {}


def _in_body_axes(sensor: Sensor, outputs: list[str]) -> tuple[str, str, str]:
    """Return outputs along the sensor's axes as the body's, by its orientation on paper."""
    return turned(np.asarray(dcm_from_euler(*sensor.orientation)).T, outputs)


def air_data(sensors: Mapping[str, Sensor]) -> tuple[dict[str, str | float], dict[str, str]]:
    """Return what a computer makes of the pressures: altitude, and with a pitot tube speeds and Mach number.

    Parameters
    ----------
    sensors : mapping of str to Sensor
        The sensors, at most one of a kind.

    Returns
    -------
    tuple (dict, dict)
        Formulas by signal, and those on the way to them.

    Examples
    --------
    >>> from dravik.sensors import Sensor
    >>> list(air_data({"baro": Sensor(kind="static_pressure")})[0])
    ['pressure', 'pressure_altitude', 'altitude']
    """
    by_kind = {s.kind: n for n, s in sensors.items()}
    static = by_kind.get("static_pressure", "")
    if not static:
        return {}, {}
    impact = ""
    if "differential_pressure" in by_kind:
        impact = by_kind["differential_pressure"]
    elif "total_pressure" in by_kind:
        impact = f"({by_kind['total_pressure']} - {static})"
    found: dict[str, str | float] = {"pressure": static}
    steps = {"air_data_pressure": f"max({static}, 1)", "air_data_impact": f"max({impact or '0'}, 0)"}
    steps |= air_data_formulas()
    found["pressure_altitude"] = "air_data_pressure_altitude"
    found["altitude"] = f"{EARTH_RADIUS!r}*air_data_pressure_altitude/({EARTH_RADIUS!r} - air_data_pressure_altitude)"
    if not impact:
        kept = ("air_data_pressure", "air_data_layer", "air_data_pressure_altitude")
        return found, {n: t for n, t in steps.items() if n.startswith(kept)}
    # without a thermometer the temperature is the standard atmosphere's at this pressure, in its lowest two layers
    (_, sea, lapse, _), (_, above, _, _) = LAYERS[:2]
    standard = f"max({sea!r} + {lapse!r}*air_data_pressure_altitude, {above!r})"
    steps["air_data_temperature"] = by_kind.get("temperature", "") or standard
    sound = f"sqrt({HEAT_RATIO * GAS_CONSTANT!r}*max(air_data_temperature, 1))"
    found |= {
        "mach": "air_data_mach",
        "calibrated_airspeed": "air_data_calibrated_airspeed",
        "airspeed": f"air_data_mach*{sound}",
        "dynamic_pressure": f"{0.5 * HEAT_RATIO!r}*air_data_pressure*air_data_mach**2",
        "equivalent_airspeed": f"air_data_mach*sqrt({HEAT_RATIO / SEA_LEVEL_DENSITY!r}*air_data_pressure)",
    }
    return found, steps
