"""Criteria of asymmetric flight: straight flight with sideslip, and control after the failure of an engine."""

import math
from dataclasses import replace

import numpy as np

from dravik.aircraft import Aircraft
from dravik.errors import DravikError
from dravik.handling.criteria import NONE, Criterion
from dravik.handling.limits import boundaries, limits
from dravik.handling.responses import sense
from dravik.linear import linearise
from dravik.performance import minimum_control_speeds
from dravik.trimming import ConditionSeries, TrimPoint, stall_speed
from dravik.trimming.solve import condition_of

__all__ = ["engine_failure", "settings_of", "steady_sideslip"]

SLIP = math.radians(2.0)  # sideslips to both sides, for slopes
BANK = "5 deg"  # towards the engines that run


def steady_sideslip(craft: Aircraft, point: TrimPoint, pedal: str, stick: str) -> list[Criterion]:
    """Return what pedal, roll stick and bank do in straight flight with sideslip, by trims at 2 deg to both sides.

    ``pedal`` and ``stick`` are the pilot's inputs for yaw and roll, whichever way they work: right is what turns and
    rolls to the right. A stable aircraft wants left pedal, right stick and right bank for wind from the right (positive
    sideslip). The requirement is one of signs.
    """
    data = boundaries("responses")["sideslip"]
    # the search leaves headings such as 1e-74, which as a quantity would be taken for a slip of the pen
    asked = {n: round(point[signal], 9) + 0.0 for n, signal in (("airspeed", "airspeed"), ("altitude", "altitude"),
                                                                 ("heading", "psi"))}  # fmt: skip
    base = condition_of(craft, {**asked, "sideslip": 0.0})  # type: ignore[typeddict-item]
    family = ConditionSeries(craft, lambda slip: replace(base, sideslip=slip))
    left, right = family.point(-SLIP), family.point(SLIP)
    model, found = linearise(craft, point, outputs=["r", "p"]), []
    senses = {"phi": 1.0, pedal: sense(model, "r", pedal), stick: sense(model, "p", stick)}
    for name, what, sign in ((pedal, f"{pedal} by sideslip", -1.0), (stick, f"{stick} by sideslip", 1.0),
                             ("phi", "bank by sideslip", 1.0)):  # fmt: skip
        if left is None or right is None:
            note = "straight flight with 2 deg of sideslip is not held: no level can be given"
            found.append(Criterion(what, data["paragraph"], math.nan, "", NONE, judged=False, note=note))
            continue
        slope = senses[name] * (right[name] - left[name]) / math.degrees(2.0 * SLIP)
        slope, unit = (math.degrees(slope), "deg/deg") if name == "phi" else (slope, "1/deg")
        # how much is not asked: a slope of the right sign, or none
        lows = (0.0, 0.0, 0.0) if sign > 0.0 else NONE
        highs = (0.0, 0.0, 0.0) if sign < 0.0 else NONE
        found.append(Criterion(what, data["paragraph"], slope, unit, lows, highs, remembered=True))
    return found


def settings_of(
    craft: Aircraft, point: TrimPoint, *, without: tuple[str, ...] = ("wind_", "gust_")
) -> dict[str, float]:  # fmt: skip
    """Return the inputs of a point that trims do not move, within their ranges: flaps, faults and their like."""
    return {
        n: float(v) for n, v in zip(craft.input_names, point.inputs, strict=True)
        if not craft.inputs[n].trim and craft.inputs[n].low <= v <= craft.inputs[n].high and not n.startswith(without)
    }  # fmt: skip


def engine_failure(craft: Aircraft, point: TrimPoint) -> list[Criterion]:
    """Return, for each engine that can fail, the least speed of straight flight without it, over the stall speed.

    With 5 deg of bank towards those that run, which stand at full power. In the point's configuration.
    """
    data = boundaries("responses")["engine_out"]
    able = [n for n in craft.definition.engines if f"fail_{n}" in craft.inputs]
    if len(able) < 2:
        note = f"{craft.name} has no second engine to fly on with: no level can be given"
        return [Criterion("control without an engine", data["paragraph"], math.nan, "", NONE, judged=False, note=note)]
    own = settings_of(craft, point, without=("wind_", "gust_", "fail_"))
    found = []
    stall = stall_speed(craft, point["altitude"], own)
    for name in able:
        what = f"least control speed without {name}, over the stall speed"
        try:
            row = minimum_control_speeds(
                craft, failed=name, altitude=point["altitude"], banks=[BANK], inputs={**own},
                airspeed=point["airspeed"],
            )[0]  # fmt: skip
        except DravikError as error:
            note = f"{error}: no level can be given"
            found.append(Criterion(what, data["paragraph"], math.nan, "", NONE, judged=False, note=note))
            continue
        if not np.isfinite(row.speed):
            note = f"{row.cause or 'no end was found'}: no level can be given"
            found.append(Criterion(what, data["paragraph"], math.nan, "", NONE, judged=False, note=note))
            continue
        note = f"{row.speed:.4g} m/s, limited by {row.cause}"
        found.append(
            Criterion(what, data["paragraph"], row.speed / stall, "", NONE, limits(data["max"]), note, remembered=True)
        )
    return found
