"""Criteria from trims: flight-path stability, and the stick that holds another speed."""

import math
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from dravik.aircraft import Aircraft
from dravik.constants import KNOT
from dravik.handling.criteria import NONE, Criterion
from dravik.handling.limits import boundaries, limits
from dravik.handling.responses import sense
from dravik.linear import linearise
from dravik.trimming import Condition, ConditionSeries, TrimPoint

__all__ = ["static_criteria"]

SLOWER = 5.0 * KNOT  # m/s: at this much less speed the slope is looked at again
STEP = 0.02  # of the speed: for slopes by it


def static_criteria(craft: Aircraft, point: TrimPoint, stick: str, category: str) -> list[Criterion]:
    """Return flight-path stability (landing approach, category C) and the stick's gradient by airspeed.

    From trims at other speeds with the throttles of the point, the path left free. ``stick`` is the pitch input. The
    condition is that of the point: straight flight at its speed, altitude and inputs.
    """
    held = _with_throttles(craft, point)
    family = ConditionSeries(craft, lambda speed: replace(held, airspeed=speed))
    speed = point["airspeed"]
    found = [_stick_by_speed(family, speed, stick)]
    if category == "C":
        found += _flight_path(family, speed)
    return found


def _with_throttles(craft: Aircraft, point: TrimPoint) -> Condition:
    """Return the straight flight of a point, its throttles and everything else but the sticks held."""
    kept = {n: float(v) for n, v in zip(craft.input_names, point.inputs, strict=True)}
    free = {n for n, s in craft.inputs.items() if s.trim and s.low < 0.0}
    # throttle, flaps and the rest stay; sticks find the trim; the wind is the world's
    inputs = {n: v for n, v in kept.items() if n not in free and not n.startswith(("wind_", "gust_"))}
    own = {n: v for n, v in inputs.items() if craft.inputs[n].low <= v <= craft.inputs[n].high}
    return Condition(point["airspeed"], point["altitude"], flight_path=None, heading=point["psi"], inputs=own)


def _slope(family: ConditionSeries, speed: float, what: Callable[[TrimPoint], float]) -> float:
    """Return the slope of what a point says by airspeed, at constant throttle; nan where the trims do not hold."""
    values = []
    for at in (speed * (1.0 - STEP), speed * (1.0 + STEP)):
        point = family.point(at)
        values.append(math.nan if point is None else what(point))
    return (values[1] - values[0]) / (2.0 * STEP * speed)


def _air_path(point: TrimPoint) -> float:
    """Return the path through the air, rad: a steady wind carries the aircraft along, and changes no stability."""
    rises = -point.signals.get("wind_down", 0.0)
    return math.asin(min(max((point["climb_rate"] - rises) / point["airspeed"], -1.0), 1.0))


def _flight_path(family: ConditionSeries, speed: float) -> list[Criterion]:
    data = boundaries("responses")["flight_path"]
    # slope of path over speed: positive is the back side of the power curve
    here, slower = (float(np.degrees(_slope(family, v, _air_path))) * KNOT for v in (speed, speed - SLOWER))
    name = "flight-path stability"
    if not math.isfinite(here):
        note = "the speeds beside this one are not held at its throttle: no level can be given"
        return [Criterion(name, data["paragraph"], here, "deg/kt", NONE, judged=False, note=note)]
    highs = limits(data["max"])
    note = f"{slower:.3g} deg/kt 5 kt slower"
    if math.isfinite(slower) and slower - here > data["difference_max"]:
        note += f", which is steeper by more than {data['difference_max']:g}: no level 1"
        # too much steeper at a lower speed rules level 1 out
        highs = (-math.inf, highs[1], highs[2])
    return [Criterion(name, data["paragraph"], here, "deg/kt", NONE, highs, note, remembered=True)]


def _stick_by_speed(family: ConditionSeries, speed: float, stick: str) -> Criterion:
    data = boundaries("responses")["speed_stability"]
    slope = _slope(family, speed, lambda point: point[stick])
    name = f"{stick} by airspeed"
    if not math.isfinite(slope):
        note = "the speeds beside this one are not held at its throttle: no level can be given"
        return Criterion(name, data["paragraph"], slope, "s/m", NONE, judged=False, note=note)
    # more speed wants less pull: the sign of the stick's effect decides what pull is
    pull = _pull_sign(family, speed, stick)
    note = "pull to slow down is positive; at constant throttle"
    return Criterion(name, data["paragraph"], pull * slope, "s/m", NONE, (0.0, 0.0, None), note, remembered=True)


def _pull_sign(family: ConditionSeries, speed: float, stick: str) -> float:
    """Return +1 where more of the input pitches up, else -1."""
    point = family.point(speed)
    return 1.0 if point is None else sense(linearise(family.craft, point, outputs=["q"]), "q", stick)
