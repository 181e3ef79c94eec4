"""Moderate and large attitude changes in hover and at low speed, flown: ADS-33E-PRF, 3.3.3 and 3.3.4."""

import math
from dataclasses import dataclass

import numpy as np

from dravik.aircraft import Aircraft
from dravik.aircraft.air_of_point import in_air_of
from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.flight import fly, pulse, step
from dravik.flight.histories import History
from dravik.handling.criteria import NONE, Criterion
from dravik.handling.limits import along, boundaries, limits
from dravik.trimming import TrimPoint

__all__ = ["Change", "agility_criteria", "attitude_changes"]

LASTS = 4.0  # s: of each flight
SHARES = (0.25, 0.5, 0.75, 1.0)  # of the stick's travel to its stop
HOLDS = (0.3, 0.6, 1.2)  # s: for which a stick that commands a rate is held
AXES = {"pitch": ("theta", "q"), "roll": ("phi", "p")}
AGILITY = {"A": "aggressive", "B": "limited", "C": "moderate"}
BACK = 0.7  # of the largest change is still there at the end: the stick commands an attitude


@dataclass(frozen=True)
class Change:
    """One attitude change: largest rate (rad/s), largest change and the least after it (rad), stick's move, and s."""

    rate: float
    largest: float
    least: float
    moved: float
    held: float

    @property
    def quickness(self) -> float:
        """Largest rate over largest change, 1/s."""
        return self.rate / self.largest if self.largest > 0.0 else math.nan


def attitude_changes(craft: Aircraft, point: TrimPoint, axis: str, stick: str) -> list[Change]:
    """Return attitude changes about an axis (``"pitch"`` or ``"roll"``) by steps or pulses of an input, to both sides.

    Steps to a quarter, half, three quarters and all of the travel to the stop where the attitude follows the stick;
    pulses to the stop, for 0.3, 0.6 and 1.2 s, where the rate does.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    point : TrimPoint
        The trimmed point.
    axis : str
        ``"pitch"`` or ``"roll"``.
    stick : str
        The input that the pilot moves.

    Returns
    -------
    list of Change

    Raises
    ------
    DravikError
        For an input without a range.
    """
    require(craft, Aircraft, "what is flown")
    require(point, TrimPoint, "the point to begin from", "trim(craft, ...)")
    craft = in_air_of(craft, point.craft)
    arguments.word(axis, "an axis", tuple(AXES))
    name = craft.input_names[craft.input_index(arguments.names([stick], "the stick")[0])]
    spec, now = craft.inputs[name], float(point.inputs[craft.input_names.index(name)])
    if not math.isfinite(spec.high - spec.low):
        raise DravikError(f"{name} has no range", expected="an input with a range of both signs")
    found = []
    for end in (spec.high, spec.low):
        travel = end - now
        if abs(travel) < 1e-9:
            continue
        if _follows(craft, point, axis, name, travel):
            found += [_flown(craft, point, axis, name, share * travel, LASTS) for share in SHARES]
        else:
            found += [_flown(craft, point, axis, name, travel, held) for held in HOLDS]
    return found


def _text(craft: Aircraft, name: str, moved: float) -> str:
    return f"{moved!r} {craft.inputs[name].unit}".strip()


def _flown(craft: Aircraft, point: TrimPoint, axis: str, name: str, moved: float, held: float) -> Change:
    attitude, rate = AXES[axis]
    size = _text(craft, name, moved)
    move: History = step(size, at=0.0) if held >= LASTS else pulse(size, at=0.0, width=held)
    run = fly(craft.over_no_ground(), start=point, duration=LASTS, controls={name: move}, record=[attitude, rate])
    gone = np.unwrap(run[attitude]) - run[attitude][0]
    sign = 1.0 if gone[int(np.argmax(np.abs(gone)))] >= 0.0 else -1.0
    k = int(np.argmax(sign * gone))
    speed = np.abs(run[rate] - run[rate][0])
    return Change(float(speed.max()), float(sign * gone[k]), float(np.min(sign * gone[k:])), abs(moved), held)


def _follows(craft: Aircraft, point: TrimPoint, axis: str, name: str, travel: float) -> bool:
    """Whether the attitude comes to rest where the stick is held, a quarter of its travel: not that a rate does."""
    attitude, rate = AXES[axis]
    move = step(_text(craft, name, SHARES[0] * travel), at=0.0)
    run = fly(craft.over_no_ground(), start=point, duration=LASTS, controls={name: move}, record=[attitude, rate])
    gone = np.abs(np.unwrap(run[attitude]) - run[attitude][0])
    rates = np.abs(run[rate] - run[rate][0])
    return bool(gone[-1] >= BACK * gone.max() and rates[-1] < 0.2 * rates.max())


def agility_criteria(craft: Aircraft, point: TrimPoint, sticks: dict[str, str], category: str) -> list[Criterion]:
    """Return quickness and large-amplitude criteria of pitch and roll by the pilot's inputs.

    Category A takes the limits of aggressive, B of limited, C of moderate manoeuvres (large amplitudes). Of the changes
    within the chart's range the one nearest to its boundary counts.
    """
    found: list[Criterion] = []
    for axis, stick in sticks.items():
        if axis in AXES:
            changes = attitude_changes(craft, point, axis, stick)
            found += [_quickness(axis, changes), _large(axis, changes, AGILITY[category])]
    return found


def _quickness(axis: str, changes: list[Change]) -> Criterion:
    data, name = boundaries("responses")["hover_quickness"], f"{axis}, quickness in hover"
    low, high = data["range"][axis]
    inside = [c for c in changes if low <= math.degrees(c.least) <= high]
    if not inside:
        largest = max((math.degrees(c.least) for c in changes), default=math.nan)
        note = f"no change leaves {low:g} to {high:g} deg (the most was {largest:.3g} deg): no level can be given"
        return Criterion(name, data["paragraph"], math.nan, "1/s", NONE, note=note, judged=False)

    def of(c: Change) -> Criterion:
        note = f"to {math.degrees(c.largest):.3g} deg, {math.degrees(c.least):.3g} deg left; a chart, read coarsely"
        lows = along(data[axis], math.degrees(c.least))
        return Criterion(name, data["paragraph"], c.quickness, "1/s", lows, note=note, remembered=True)

    return min((of(c) for c in inside), key=lambda c: c.margin or 0.0)


def _large(axis: str, changes: list[Change], agility: str) -> Criterion:
    data = boundaries("responses")["hover_large"]
    follows = any(c.held >= LASTS for c in changes)
    # the lesser side counts: of the largest changes to either
    sides = [changes[: len(changes) // 2], changes[len(changes) // 2 :]]
    most = min((max((c.largest if follows else c.rate for c in side), default=0.0) for side in sides), default=0.0)
    what = "attitude" if follows else "rate"
    return Criterion(
        f"{axis}, largest {what} in hover", data["paragraph"], math.degrees(most), "deg" if follows else "deg/s",
        limits(data[agility][f"{axis}_{what}"]), note=f"for {agility} manoeuvres", remembered=True,
    )  # fmt: skip
