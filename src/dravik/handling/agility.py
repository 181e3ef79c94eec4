"""Moderate and large attitude changes in hover and at low speed, flown: ADS-33E-PRF, 3.3.3 and 3.3.4."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import expm

from dravik.aircraft import Aircraft
from dravik.aircraft.air_of_point import in_air_of
from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.flight import fly, pulse, step
from dravik.flight.histories import History
from dravik.handling.criteria import NONE, Criterion
from dravik.handling.limits import along, boundaries, limits
from dravik.systems import LinearSystem
from dravik.trimming import TrimPoint
from dravik.units import in_si

__all__ = ["Change", "agility_criteria", "attitude_changes", "linear_changes"]

Floats = NDArray[np.float64]
LASTS = 4.0  # s: of each flight
SHARES = (0.25, 0.5, 0.75, 1.0)  # of the stick's travel to its stop
HOLDS = (0.3, 0.6, 1.2)  # s: for which a stick that commands a rate is held
WIDTHS = (0.2, 0.4, 0.8, 1.6, 3.2)  # s: of pulses into linear systems
STEP = 2e-3  # s
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


def linear_changes(
    system: LinearSystem, angle: str, rate: str, stick: str, widths: Sequence[str | float] = WIDTHS
) -> list[Change]:  # fmt: skip
    """Return attitude changes of a linear system by pulses of an input of size one, one for each width.

    Quickness, the largest rate over the largest change, does not depend on the size of a pulse but on its width alone:
    for a change of some degrees scale the pulse (ADS-33E-PRF, 3.3.3, for flight near hover; forward flight is judged by
    the same figure).

    Parameters
    ----------
    system : LinearSystem
        A linear system, or a linear model of an aircraft.
    angle : str
        The output that is the attitude, rad.
    rate : str
        The output that is its rate, rad/s.
    stick : str
        The input.
    widths : sequence of str or float
        Widths of the pulses, with their unit or in s; from 0.2 s to 3.2 s unless given.

    Returns
    -------
    list of Change
        In the order of the widths.

    Raises
    ------
    DravikError
        For widths that are none, a sampled system, and an attitude that the input does not change.

    Examples
    --------
    >>> import dravik as dv
    >>> a, b = np.array([[-2.0, 0.0], [1.0, 0.0]]), np.array([[2.0], [0.0]])
    >>> c, d, names = np.eye(2), np.zeros((2, 1)), ["p", "phi"]
    >>> both = dv.LinearSystem(a, b, c, d, states=names, outputs=names, inputs=["stick"])
    >>> [round(change.quickness, 3) for change in linear_changes(both, "phi", "p", "stick", ["1 s"])]
    [0.865]
    """
    require(system, LinearSystem, "the system")
    if system.sample_time is not None:
        raise DravikError("quickness is that of a continuous system", hint="the system that was sampled")
    held = [in_si(w, "time", where="widths") for w in widths]
    if not held or not all(0.0 < w <= 60.0 for w in held):
        raise DravikError(f"the widths cannot be {list(widths)}", expected="times above zero, of a minute at most")
    found = []
    for width in held:
        gone, speed = _pulsed(system.part(inputs=[stick], outputs=[angle, rate]), width)
        k = int(np.argmax(np.abs(gone)))
        if gone[k] == 0.0:
            raise DravikError(f"{stick} does not change {angle}", expected="an input that does")
        gone = gone * np.sign(gone[k])
        found.append(Change(float(np.max(np.abs(speed))), float(gone[k]), float(np.min(gone[k:])), 1.0, width))
    return found


def _pulsed(channel: LinearSystem, width: float) -> Floats:
    """Return the outputs, shape (outputs, times), during and after a pulse of size one, exact at their times."""
    step_s = width / math.ceil(width / STEP)
    n, count = len(channel.states), round((LASTS + width) / step_s)
    whole = expm(step_s * np.block([[channel.A, channel.B], [np.zeros((1, n + 1))]]))
    state, found = np.zeros(n), np.empty((len(channel.outputs), count))
    for k in range(count):
        on = 1.0 if k * step_s < width - 0.5 * step_s else 0.0
        found[:, k] = channel.C @ state + channel.D[:, 0] * on
        state = whole[:n, :n] @ state + whole[:n, n] * on
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
