"""Criteria of the loops that laws close: gain and phase margin of each, broken at an effector's command."""

import math

from dravik.aircraft import Aircraft
from dravik.errors import DravikError
from dravik.handling.criteria import NONE, Criterion
from dravik.handling.limits import boundaries, limits
from dravik.loops import cut_loop, margins
from dravik.trimming import TrimPoint

__all__ = ["margin_criteria"]


def margin_criteria(craft: Aircraft, point: TrimPoint) -> list[Criterion]:
    """Return gain and phase margin of every loop that comes back to an effector's command, one loop at a time.

    A gain or phase that the loop never reaches has no margin to fall short of: infinite.
    """
    data = boundaries("responses")["margins"]
    found: list[Criterion] = []
    for name in craft.definition.controls:
        at = f"{name}_command"
        if at not in craft.signals:
            continue
        try:
            own = margins(cut_loop(craft, point, at))
        except DravikError:
            continue  # no law leads back to it
        note = "" if own.closes else "the closed loop is not stable: " + "; ".join(str(g) for g in own.growing)
        values = (own.gain_decibels, math.degrees(own.phase)) if own.closes else (-math.inf, -math.inf)
        for what, value, unit, key in (
            ("gain", values[0], "dB", "gain_min"), ("phase", values[1], "deg", "phase_min"),
        ):  # fmt: skip
            found.append(
                Criterion(
                    f"{name} loop, {what} margin", data["paragraph"], value, unit, limits(data[key]), note=note,
                    remembered=True,
                )
            )  # fmt: skip
    if not found:
        note = "no law closes a loop around an effector: no level can be given"
        found.append(Criterion("margins", data["paragraph"], math.nan, "", NONE, judged=False, note=note))
    return found
