"""Least control speeds: down to which airspeed a failed engine can be held, by bank, the others at full power."""

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import NamedTuple

from dravik.aircraft import Aircraft
from dravik.errors import DravikError
from dravik.performance.limits import slowest_from, usual_speeds
from dravik.trimming import ConditionSeries
from dravik.trimming.named_conditions import throttles_of
from dravik.trimming.solve import condition_of
from dravik.units import in_si

__all__ = ["ControlSpeed", "minimum_control_speeds"]

FAIL = "fail_"


class ControlSpeed(NamedTuple):
    """The least speed (m/s) of a straight flight without an engine, what ends it, and the flight there; nan without.

    ``bank`` is that held (rad, positive to the right), ``sideslip`` (rad) and ``climb_rate`` (m/s) those that follow.
    """

    bank: float
    speed: float
    cause: str
    sideslip: float
    climb_rate: float


def minimum_control_speeds(
    craft: Aircraft, *, failed: str | Sequence[str], altitude: str | float,
    banks: Sequence[str | float] = (0.0, "5 deg"), inputs: dict[str, str | float] | None = None,
    airspeed: str | float = 0.0,
) -> list[ControlSpeed]:  # fmt: skip
    """Return, for each bank, the least speed at which straight flight without an engine can be held, by trims.

    All throttles are fully open unless ``inputs`` say otherwise, the path is free, and ``banks`` count towards the
    engines that run: 5 deg is the most that MIL-F-8785C 3.3.9 and CS-23.149 allow. ``failed`` names one engine or
    several. The search down begins at ``airspeed``, or from the aircraft's own envelope. A ``cause`` that is no
    lateral control, such as a lack of lift, says that control lasts down to the stall.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    failed : str or sequence of str
        One engine, or several.
    altitude : str or float
        Geometric height, with its unit or in m.
    banks : sequence of str or float, default (0.0, "5 deg")
        Bank held towards the running engines, with its unit or in rad.
    inputs : mapping of str to str or float, optional
        Values of inputs by name, with their unit or in SI.
    airspeed : str or float, default 0.0
        Where the search down begins, with its unit or in m/s; from the envelope at 0.

    Returns
    -------
    list of ControlSpeed

    Raises
    ------
    DravikError
        For other engines, and where none is left on the other side.

    Examples
    --------
    >>> import dravik as dv
    >>> level, banked = minimum_control_speeds(dv.sample("tarn"), failed="left", altitude="300 m")
    >>> banked.speed <= level.speed and round(math.degrees(banked.bank))
    5
    """
    gone = [failed] if isinstance(failed, str) else list(failed)
    side = _side_that_runs(craft, gone)
    held = {name: high for name, (_, high) in throttles_of(craft).items()} | {FAIL + name: 1.0 for name in gone}
    held |= craft.inputs_in_si(inputs or {})
    start = in_si(airspeed, "speed", where="airspeed")
    found = []
    for given in banks:
        bank = side * in_si(given, "angle", where="bank") + 0.0
        # the speed is put in by the series below: a minimum control speed is where lateral balance ends, at any climb
        asked = {"airspeed": 1.0, "altitude": altitude, "bank": bank, "flight_path": "free", "inputs": held}
        base = condition_of(craft, asked)  # type: ignore[arg-type]
        family = ConditionSeries(craft, lambda v, base=base: replace(base, airspeed=v))  # type: ignore[misc]
        begin = family.somewhere([start] if start > 0.0 else usual_speeds(craft))
        if math.isnan(begin):
            found.append(ControlSpeed(bank, math.nan, "held at no speed", math.nan, math.nan))
            continue
        edge = slowest_from(family, begin)
        if edge is None:
            found.append(ControlSpeed(bank, math.nan, "", math.nan, math.nan))
        else:
            point = edge.point
            found.append(ControlSpeed(bank, edge.value, edge.cause, point["beta"], point["climb_rate"]))
    return found


def _side_that_runs(craft: Aircraft, gone: Sequence[str]) -> float:
    """Return +1 where the engines that run are on the right of those that do not, -1 on the left."""
    engines = craft.definition.engines
    for name in gone:
        if name not in engines or FAIL + name not in craft.inputs:
            own = [n for n in engines if FAIL + n in craft.inputs]
            raise DravikError(
                f"there is no engine {name!r} that can fail",
                where=craft.name,
                expected=" or ".join(own) or "an engine that can fail",
            )
    run = [e.position[1] for n, e in engines.items() if n not in gone]
    out = [engines[n].position[1] for n in gone]
    if not run:
        raise DravikError(f"{craft.name} without {', '.join(gone)} has no engine left", expected="fewer engines")
    # by the mean of each group: with four engines two of one side may have failed
    between = sum(run) / len(run) - sum(out) / len(out)
    return -1.0 if between < 0.0 else 1.0
