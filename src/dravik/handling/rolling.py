"""Roll performance: the time to a bank with full roll control, flown."""

import math
from typing import NamedTuple

import numpy as np

from dravik.aircraft import Aircraft
from dravik.aircraft.air_of_point import in_air_of
from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.flight import fly, step
from dravik.handling.criteria import NONE, Criterion
from dravik.handling.limits import boundaries, limits
from dravik.handling.responses import SLOW, with_states
from dravik.linear import LinearModel
from dravik.recording import Recording
from dravik.systems import time_response
from dravik.trimming import TrimPoint
from dravik.units import in_si

__all__ = [
    "RollOscillations",
    "roll_oscillation",
    "roll_oscillations",
    "roll_performance",
    "time_to_bank",
    "told_oscillations",
]  # fmt: skip

LONGEST = 10.0  # s
MODERATE = 0.2  # damping ratio of the Dutch roll up to which a third peak is read


class RollOscillations(NamedTuple):
    """How the Dutch roll shows in a roll: ratios of oscillation to average, and its phases in sideslip (rad).

    ``rate_ratio`` is p_osc/p_av after a step, ``bank_ratio`` phi_osc/phi_av after an impulse of the roll input.
    ``step_phase`` and ``impulse_phase`` are psi_beta, from zero down to minus a turn, for a roll to the right.
    """

    rate_ratio: float
    bank_ratio: float
    step_phase: float
    impulse_phase: float
    damping: float


def roll_oscillations(model: LinearModel, stick: str) -> RollOscillations:
    """Return p_osc/p_av, phi_osc/phi_av and psi_beta of a roll input, by the linear model, rudder free of the pilot.

    From the first three turns of the response (two where the Dutch roll's damping is above 0.2); zero where it does
    not turn (MIL-F-8785C, 3.3.2.2.1, 3.3.2.3 and the definitions in 6.2.6). psi_beta is where the Dutch roll in the
    sideslip, after the input to the right, has its first maximum, over the damped period.

    Parameters
    ----------
    model : LinearModel
        A model with the states beta, p and phi.
    stick : str
        The input that rolls.

    Returns
    -------
    RollOscillations

    Raises
    ------
    DravikError
        Where there is no Dutch roll, and for an input that does not roll.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> model = dv.linearise(craft, dv.trim(craft, airspeed="62 m/s", altitude="300 m"))
    >>> found = roll_oscillations(model, "roll_stick")
    >>> 0.0 < found.rate_ratio < 0.2 and -360.0 < float(np.degrees(found.step_phase)) <= 0.0
    True
    """
    require(model, LinearModel, "the model", "linearise(craft, point)")
    mode = model.modes().named("Dutch roll")
    if mode is None or not mode.is_oscillatory:
        raise DravikError("there is no Dutch roll that oscillates", expected="an aircraft with one")
    held = with_states(model.part(states=[n for n in model.states if n not in SLOW]))
    lasts = 2.5 * 2.0 * math.pi / abs(mode.eigenvalue.imag) + 3.0
    turns = {}
    for output, kind in (("p", "step"), ("phi", "impulse")):
        turns[output] = _turns(time_response(held, output, stick, kind=kind, duration=lasts).finely()[1])  # type: ignore[arg-type]
    rate = time_response(held, "p", stick, duration=lasts).values
    if not np.any(np.abs(rate) > 0.0):
        raise DravikError(f"{stick} does not roll the aircraft", expected="an input that does")
    side = 1.0 if (turns["p"][0] if turns["p"] else rate[-1]) > 0.0 else -1.0
    step_phase, impulse_phase = (_phase(held, stick, mode.eigenvalue, side, over) for over in (1, 0))
    return RollOscillations(
        _ratio(turns["p"], mode.damping), _ratio(turns["phi"], mode.damping), step_phase, impulse_phase, mode.damping
    )


def _turns(values: np.ndarray) -> list[float]:
    """Return the first three turning values of a response."""
    places = np.flatnonzero(np.diff(np.sign(np.diff(values)))) + 1
    return [float(v) for v in values[places[:3]]]


def _ratio(turns: list[float], damping: float) -> float:
    """Return oscillation over average of the first turns (MIL-F-8785C 6.2.6); zero where it does not turn back."""
    if len(turns) < 2:
        return 0.0
    one, two = turns[:2]
    if damping > MODERATE or len(turns) < 3:
        return (one - two) / (one + two)
    return (one + turns[2] - 2.0 * two) / (one + turns[2] + 2.0 * two)


def _phase(held: LinearModel, stick: str, root: complex, side: float, over: int) -> float:
    """Return psi_beta (rad) of the Dutch roll in the sideslip after an impulse (``over`` 0) or a step (1)."""
    roots, vectors = np.linalg.eig(held.A)
    k = int(np.argmin(np.abs(roots - (root.real + 1j * abs(root.imag)))))
    own = roots[k]
    part = vectors[held.states.index("beta"), k] * np.linalg.solve(vectors, held.B[:, held.inputs.index(stick)])[k]
    # the part's slope passes zero downwards where its phase is a quarter of a turn
    ahead = (0.5 * math.pi - np.angle(side * part / own**over * own)) % (2.0 * math.pi)
    return -float(ahead)


def told_oscillations(model: LinearModel, stick: str) -> list[Criterion]:
    """Return p_osc/p_av, phi_osc/phi_av and their psi_beta as figures without a level: the limits are charts."""
    try:
        found = roll_oscillations(model, stick)
    except DravikError:
        return []
    lines = (
        ("p_osc/p_av", "3.3.2.2.1", found.rate_ratio, ""),
        ("psi_beta of a step", "3.3.2.2.1", math.degrees(found.step_phase), "deg"),
        ("phi_osc/phi_av", "3.3.2.3", found.bank_ratio, ""),
        ("psi_beta of an impulse", "3.3.2.3", math.degrees(found.impulse_phase), "deg"),
    )
    note = "the document's limits are charts over psi_beta, which are not held here"
    return [
        Criterion(name, paragraph, value, unit, NONE, note=note, document="MIL-F-8785C", is_told=True)
        for name, paragraph, value, unit in lines
    ]


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
