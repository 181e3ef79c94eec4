"""Roll performance: the time to a bank with full roll control, flown."""

import math

import numpy as np

from dravik.aircraft import Aircraft
from dravik.aircraft.air_of_point import in_air_of
from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.flight import fly, step
from dravik.handling.criteria import NONE, Criterion
from dravik.handling.limits import boundaries, limits
from dravik.handling.responses import SLOW
from dravik.linear import LinearModel
from dravik.recording import Recording
from dravik.systems import time_response
from dravik.trimming import TrimPoint
from dravik.units import in_si

__all__ = ["roll_oscillation", "roll_performance", "time_to_bank"]

LONGEST = 10.0  # s


def time_to_bank(craft: Aircraft, point: TrimPoint, stick: str, bank: str | float) -> tuple[float, Recording]:
    """Return the time (s) from a full step of an input to a change of bank (rad), and the flight.

    Nan where it is never reached. The input goes to the end of its range that rolls the aircraft further from where
    it is; other inputs stay.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    point : TrimPoint
        The trimmed point.
    stick : str
        The input that rolls.
    bank : str or float
        The change of bank, with its unit or in rad.

    Returns
    -------
    tuple (float, Recording)
        Time, s, and the flight.
    """
    require(craft, Aircraft, "what is flown")
    require(point, TrimPoint, "the point to roll from", "trim(craft, ...)")
    craft = in_air_of(craft, point.craft)
    stick = craft.input_names[craft.input_index(arguments.names([stick], "the roll input")[0])]
    spec, bank = craft.inputs[stick], in_si(bank, "angle", where="bank")
    if not bank > 0.0 or not math.isfinite(spec.high - spec.low):
        raise DravikError(
            f"{stick} cannot bank the aircraft by {bank:g} rad", expected="a bank above zero, and an input with a range"
        )
    low, high = spec.low, spec.high
    best: tuple[float, Recording] | None = None
    for end in (high, low):
        moved = end - float(point.inputs[craft.input_names.index(stick)])
        flown = fly(
            craft.over_no_ground(), start=point, duration=LONGEST, record=["phi", "p", "beta"],
            controls={stick: step(f"{moved!r} {spec.unit}".strip(), at=0.0)},
        )  # fmt: skip
        phi = np.unwrap(flown["phi"])
        gone = np.abs(phi - phi[0])
        at = np.flatnonzero(gone >= bank)
        time = math.nan
        if len(at) and at[0] > 0:
            k = int(at[0])
            time = float(np.interp(bank, gone[k - 1 : k + 1], flown.time[k - 1 : k + 1]))
        # the slower side decides
        if best is None or not time <= best[0]:
            best = (time, flown)
    assert best is not None
    return best


def roll_performance(
    craft: Aircraft, point: TrimPoint, stick: str, aircraft_class: str, category: str
) -> tuple[list[Criterion], Recording]:  # fmt: skip
    """Return the criteria of a roll with full control, time to bank and sideslip, and the flight of the slower side."""
    data, slip = boundaries("responses")["roll_performance"], boundaries("responses")["roll_sideslip"]
    degrees, *times = data[aircraft_class][category]
    time, flown = time_to_bank(craft, point, stick, math.radians(degrees))
    name = f"time to {degrees:g} deg of bank"
    note = f"full {stick}, the slower side"
    if not math.isfinite(time):
        note = f"not reached within {LONGEST:g} s with full {stick}"
        time = math.inf
    highs = (times[0], times[1], times[2])
    found = [Criterion(name, data["paragraph"], time, "s", NONE, highs, note, remembered=True)]
    gone = np.abs(np.unwrap(flown["phi"]) - flown["phi"][0])
    at = min(int(np.searchsorted(flown.time, times[0])), len(gone) - 1)
    quicker = float(np.degrees(gone[at])) / degrees
    # until the bank is there, or as long as it may take
    end = int(np.searchsorted(flown.time, min(max(time, times[0]), flown.time[-1]))) + 1
    largest = float(np.degrees(np.max(np.abs(flown["beta"][:end] - flown["beta"][0]))))
    text = f"{largest:.3g} deg in a roll {quicker:.3g} times as far as level 1 asks in its time"
    found.append(
        Criterion(
            "sideslip of a roll", slip["paragraph"], largest / max(quicker, 1e-3), "deg", NONE, limits(slip[category]),
            text, remembered=True,
        )
    )  # fmt: skip
    return found, flown


def roll_oscillation(model: LinearModel, stick: str, category: str) -> Criterion:
    """Return the criterion of the roll rate's oscillation after a step: its first minimum over its first peak.

    By the linear model; a rate that does not come down again within ten seconds has no oscillation, and counts as one.
    """
    data = boundaries("responses")["roll_oscillation"]
    held = model.part(states=[n for n in model.states if n not in SLOW])
    rate = time_response(held, "p", stick, duration=LONGEST).values
    rate = rate * (1.0 if abs(rate.max()) >= abs(rate.min()) else -1.0)
    turns = np.flatnonzero(np.diff(np.sign(np.diff(rate)))) + 1
    value, note = 1.0, "it does not come down again within ten seconds"
    peaks = [k for k in turns if rate[k] > rate[k - 1]]
    if peaks:
        after = [k for k in turns if k > peaks[0]]
        lowest = float(rate[after[0]]) if after else float(rate[-1])
        value, note = lowest / float(rate[peaks[0]]), f"first peak after {peaks[0] * LONGEST / (len(rate) - 1):.3g} s"
    return Criterion(
        "roll rate, first minimum over peak", data["paragraph"], value, "", limits(data[category]), note=note,
        remembered=True,
    )  # fmt: skip
