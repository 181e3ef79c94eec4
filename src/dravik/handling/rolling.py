"""Roll performance: the time to a bank with full roll control, flown."""

import math

import numpy as np

from dravik.aircraft import Aircraft
from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.flight import Recording, fly, step
from dravik.handling.criteria import NONE, Criterion
from dravik.handling.limits import boundaries
from dravik.trimming import TrimPoint
from dravik.units import in_si

__all__ = ["roll_performance", "time_to_bank"]

LONGEST = 10.0  # s


def time_to_bank(craft: Aircraft, point: TrimPoint, stick: str, bank: str | float) -> tuple[float, Recording]:
    """Return the time (s) from a full step of an input to a change of bank (rad), and the flight; nan where it is never

    reached. The input goes to the end of its range that rolls the aircraft further from where it is; other inputs stay.
    """
    require(craft, Aircraft, "what is flown")
    require(point, TrimPoint, "the point to roll from", "trim(craft, ...)")
    stick = craft.input_names[craft.input_index(arguments.names([stick], "the roll input")[0])]
    spec, bank = craft.inputs[stick], in_si(bank, "angle", where="bank")
    if not bank > 0.0 or not math.isfinite(spec.high - spec.low):
        raise DravikError(f"{bank:g} rad by {stick}", expected="a bank above zero, and an input with a range")
    low, high = spec.low, spec.high
    best: tuple[float, Recording] | None = None
    for end in (high, low):
        moved = end - float(point.inputs[craft.input_names.index(stick)])
        flown = fly(
            craft.over_no_ground(), start=point, duration=LONGEST, record=["phi", "p"],
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
) -> tuple[Criterion, Recording]:  # fmt: skip
    """Return the criterion of the time to a bank, and the flight of the slower side."""
    data = boundaries("responses")["roll_performance"]
    degrees, *times = data[aircraft_class][category]
    time, flown = time_to_bank(craft, point, stick, math.radians(degrees))
    name = f"time to {degrees:g} deg of bank"
    note = f"full {stick}, the slower side"
    if not math.isfinite(time):
        note = f"not reached within {LONGEST:g} s with full {stick}"
        time = math.inf
    highs = (times[0], times[1], times[2])
    return Criterion(name, data["paragraph"], time, "s", NONE, highs, note, remembered=True), flown
