"""A thrust stand's readings reduced: coefficients with scatter, and the constants of an electric motor."""

from dataclasses import dataclass
from math import pi, sqrt
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from dravik.constants import SEA_LEVEL_DENSITY
from dravik.errors import DravikError
from dravik.tables import Sheet
from dravik.tables.fitting import fit, half_width

__all__ = ["BenchPoint", "BenchResult", "MotorConstants", "reduce_bench"]

Floats = NDArray[np.float64]
UNITS = {"rotation": "rad/s", "thrust": "N", "torque": "N*m", "voltage": "V", "current": "A", "airspeed": "m/s"}
TOGETHER = 0.03  # readings within this relative speed difference belong to one set point


@dataclass(frozen=True)
class BenchPoint:
    """Means at a set point: rotation rad/s, advance ratio, CT and CP with half their 95 % intervals, readings.

    Intervals come from the scatter of all set points together. ``efficiency`` is thrust work over electric power, or in
    standstill the figure of merit of rotor and motor together; nan where the current was not read.
    """

    rotation: float
    advance_ratio: float
    ct: float
    ct_interval: float
    cp: float
    cp_interval: float
    efficiency: float
    readings: int


@dataclass(frozen=True)
class MotorConstants:
    """V = resistance I + volts w, torque = newtons (I - idle), each value with half its 95 % interval.

    ``volts`` (V s/rad) and ``newtons`` (N m/A) are one constant, told by the voltage and by the torque: where they
    differ by more than their intervals, a meter is wrong.
    """

    resistance: tuple[float, float]
    volts: tuple[float, float]
    newtons: tuple[float, float]
    idle_current: float


@dataclass(frozen=True)
class BenchResult:
    """A bench run: set points, motor constants (None without voltage and current), and the scatter of one reading."""

    points: list[BenchPoint]
    motor: MotorConstants | None
    scatter: dict[str, float]


def reduce_bench(path: str | Path, *, diameter: float, density: float = SEA_LEVEL_DENSITY) -> BenchResult:
    """Return a thrust stand's file reduced.

    Columns ``rotation [rpm]``, ``thrust [N]``, ``torque [N*m]``, and optionally ``voltage [V]``, ``current [A]``
    and ``airspeed [m/s]``, in any unit of their kind.

    Parameters
    ----------
    path : str or path
        The CSV file.
    diameter : float
        Of the rotor, m.
    density : float, default 1.225
        Air density, kg/m^3.

    Returns
    -------
    BenchResult

    Raises
    ------
    DravikError
        With file and line, for missing columns, wrong units, a rotor that does not turn, or too few readings to
        tell the scatter.
    """
    sheet = Sheet(path)
    given = {n: _column(sheet, n) for n in UNITS if n in sheet.names or n in ("rotation", "thrust", "torque")}
    omega = given["rotation"]
    still = np.flatnonzero(~(omega > 0.0))
    if still.size:
        raise DravikError(
            f"the rotation is {omega[still[0]]:g} rad/s", where=sheet.place_of(int(still[0])), expected="above zero"
        )
    turns = omega / (2.0 * pi)
    values = {
        "CT": given["thrust"] / (density * turns**2 * diameter**4),
        "CP": given["torque"] * omega / (density * turns**3 * diameter**5),
    }
    speed = given.get("airspeed", np.zeros_like(omega))
    groups = _groups(omega, speed / (turns * diameter))
    # degrees of freedom of the pooled scatter: readings less means
    degrees = sum(len(g) - 1 for g in groups)
    if degrees < 2:
        raise DravikError(
            "there are not enough repeats to tell the scatter", where=str(path), expected="readings more than once"
        )
    scatter = {
        n: sqrt(sum(float(np.sum((v[g] - v[g].mean()) ** 2)) for g in groups) / degrees) for n, v in values.items()
    }
    merit = _efficiency(given, speed, density, 0.25 * pi * diameter**2)
    points = [
        BenchPoint(
            float(omega[g].mean()),
            float((speed[g] / (turns[g] * diameter)).mean()),
            float(values["CT"][g].mean()),
            half_width(scatter["CT"], degrees) / sqrt(len(g)),
            float(values["CP"][g].mean()),
            half_width(scatter["CP"], degrees) / sqrt(len(g)),
            float(merit[g].mean()),
            len(g),
        )
        for g in groups
    ]
    electric = "voltage" in given and "current" in given
    return BenchResult(points, _motor(given, str(path)) if electric else None, scatter)


def _column(sheet: Sheet, name: str) -> Floats:
    numbers, unit = sheet.column(name)
    if unit != UNITS[name]:
        raise DravikError(
            f"the column {name!r} is in {unit or 'no unit'}", where=sheet.place, expected=f"a unit of {UNITS[name]}"
        )
    return numbers


def _groups(omega: Floats, ratio: Floats) -> list[NDArray[np.int64]]:
    """Return the readings of each set point, in order of rotation and advance ratio."""
    # sorted by advance ratio, then speed: readings of one set point stand together
    left = list(np.lexsort((omega, np.round(ratio / 0.02))))
    groups: list[list[int]] = []
    for i in left:
        last = groups[-1][0] if groups else -1
        near = groups and abs(omega[i] / omega[last] - 1.0) < TOGETHER and abs(ratio[i] - ratio[last]) < 0.02
        if near:
            groups[-1].append(int(i))
        else:
            groups.append([int(i)])
    return [np.array(g, dtype=np.int64) for g in groups]


def _efficiency(given: dict[str, Floats], speed: Floats, density: float, area: float) -> Floats:
    if "voltage" not in given or "current" not in given:
        return np.full_like(speed, np.nan)
    thrust = given["thrust"]
    # ideal induced power in hover, for the figure of merit
    induced = thrust * np.sqrt(np.abs(thrust) / (2.0 * density * area))
    found: Floats = np.where(speed > 0.5, thrust * speed, induced) / (given["voltage"] * given["current"])
    return found


def _motor(given: dict[str, Floats], place: str) -> MotorConstants:
    try:
        # V = R I + K w, without a constant: an offset would hide a wrong meter
        electric, width, _ = fit([given["current"], given["rotation"]], given["voltage"], constant=False)
        # Q = K I - K I0: the slope is K again, the intercept the idle current
        turning, spread, _ = fit([given["current"]], given["torque"])
    except DravikError as error:
        raise error.at(f"{place}: the motor's constants") from None
    return MotorConstants(
        (float(electric[0]), float(width[0])), (float(electric[1]), float(width[1])),
        (float(turning[0]), float(spread[0])), float(-turning[1] / turning[0]),
    )  # fmt: skip
