"""Criteria of the response to the pilot's input: equivalent systems, bandwidth, tracking, dropback, phase rate."""

import math
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.errors import DravikError
from dravik.handling.attitude import bandwidth, dropback, tracking_pilot
from dravik.handling.criteria import NONE, Criterion
from dravik.handling.equivalent import EquivalentSystem, fit_equivalent
from dravik.handling.limits import along, boundaries, limits
from dravik.handling.modal import entry, load_factor_sensitivity
from dravik.handling.pitch_steps import anticipation_criterion, c_star, c_star_criterion, pitch_step_criteria
from dravik.linear import LinearModel
from dravik.systems import time_response

__all__ = [
    "attitude_channel", "doubling", "pilot_input", "pitch_equivalent", "pitch_responses", "rate_limit_onset",
    "roll_responses", "sense", "with_states", "without_stability",
]  # fmt: skip

Floats = NDArray[np.float64]
OMEGA = np.geomspace(0.05, 200.0, 600)  # rad/s
FITTED = np.geomspace(0.1, 10.0, 20)  # rad/s
SWUNG = np.geomspace(0.05, 200.0, 80)  # rad/s: of full swings of the stick
AT = 4.0  # rad/s: where the inputs' effects are compared
SLOW = ("north", "east", "altitude", "airspeed", "psi")  # held where the fast motion alone is wanted
LONG = 30.0  # s: of a step response that becomes steady
SOON = 1.0  # s: in which the sense of an input shows
PILOTS = np.geomspace(0.1, 10.0, 60)  # rad/s: frequencies of a pilot
DIVERGES = 6.0  # s to double: MIL-F-8785C 3.2.1.1, the least that level 3 allows
TAKES_PART = 0.01  # of the response, at one of them
GROWS = 0.01  # 1/s: what grows more slowly (it doubles in more than a minute) pilots hold without noticing


def pilot_input(craft: Aircraft, model: LinearModel, rate: str) -> str:
    """Return the input that the pilot moves for a rate (``"q"``, ``"p"`` or ``"r"``).

    Of the inputs that trims move, both up and down, the one that over its range changes the rate most at 4 rad/s.
    Raises DravikError where there is none.
    """
    able = [n for n, s in craft.inputs.items() if s.trim and s.low < 0.0 < s.high and n in model.inputs]
    found = model.part(inputs=able, outputs=[rate]).frequency_response([AT])[0, 0] if able else np.zeros(0)
    spans = [min(craft.inputs[n].high - craft.inputs[n].low, 10.0) for n in able]
    sizes = np.abs(found) * spans
    if not len(sizes) or float(sizes.max()) < 1e-9:
        raise DravikError(
            f"{craft.name} has no input that moves {rate}", expected="trim = true and a range of both signs"
        )
    return able[int(np.argmax(sizes))]


def attitude_channel(model: LinearModel, output: str, name: str) -> tuple[Floats, Any]:
    """Return frequencies (rad/s) and the response of an attitude to an input, positive where it follows it."""
    values = model.part(inputs=[name], outputs=[output]).frequency_response(OMEGA)[:, 0, 0]
    # the rate that the attitude has at one second decides the sign, not the static gain: phugoids turn that about
    middle = int(np.searchsorted(OMEGA, 1.0))
    return OMEGA, values * (1.0 if np.imag(values[middle]) < 0.0 else -1.0)


def sense(model: LinearModel, rate: str, name: str) -> float:
    """Return +1 where more of an input turns the aircraft to the positive side of a rate in the first second, else -1.

    What an input does is measured: whether it is a stick, a pedal or the surface itself decides no sign.
    """
    return 1.0 if float(np.mean(time_response(model, rate, name, duration=SOON).values)) >= 0.0 else -1.0


def doubling(model: LinearModel, output: str, stick: str) -> float:
    """Return the time, s, in which what an input moves of an output doubles by itself; infinite where nothing does.

    A root that hardly takes part, such as the spiral in the pitch of an aircraft that is not quite symmetrical, does
    not count: one that gives less than a hundredth of the response at every frequency of a pilot.
    """
    channel = model.part(inputs=[stick], outputs=[output]).minimal()
    roots, vectors = np.linalg.eig(channel.A)
    growing = np.flatnonzero(roots.real > GROWS)
    if not len(growing):
        return math.inf
    with np.errstate(all="ignore"):
        try:
            moved = (channel.C[0] @ vectors) * (np.linalg.inv(vectors) @ channel.B[:, 0])
        except np.linalg.LinAlgError:  # equal roots: none of them can be left out
            moved = np.full(len(roots), math.inf)
        whole = np.abs(channel.frequency_response(PILOTS)[:, 0, 0])
        shares = np.abs(moved[growing] / (1j * PILOTS[:, None] - roots[growing])) / np.maximum(whole, 1e-300)[:, None]
    taking = [k for k, share in zip(growing, shares.T, strict=True) if not np.all(share < TAKES_PART)]
    return math.log(2.0) / float(np.max(roots[taking].real)) if taking else math.inf


def rate_limit_onset(craft: Aircraft, model: LinearModel, stick: str) -> tuple[str, float] | None:
    """Return the effector that a full swing of an input drives into its rate limit first, and the frequency, rad/s.

    By the linear responses of the effectors' commands as far as they are signals of the model's aircraft, at half the
    input's range; None where no effector that it moves has a rate limit.
    """
    spec = list(craft.inputs.values())[craft.input_index(stick)]
    half = 0.5 * (spec.high - spec.low)
    if not math.isfinite(half):
        return None
    limited = {
        n: float(c.rate) for n, c in craft.definition.controls.items() if c.rate is not None and n in model.states
    }
    if not limited:
        return None
    found: list[tuple[float, str]] = []
    values = np.abs(model.part(inputs=[stick], outputs=list(limited)).frequency_response(SWUNG)[:, :, 0])
    for column, (name, rate) in zip(values.T, limited.items(), strict=True):
        # the effector's own lag hides the command at high frequencies: its rate is what the limit acts on
        share = np.maximum(column * half * SWUNG / rate, 1e-300)
        over = np.flatnonzero(share >= 1.0)
        if len(over):
            k = int(over[0])
            at = (
                SWUNG[0]
                if k == 0
                else np.exp(np.interp(0.0, np.log(share[k - 1 : k + 1]), np.log(SWUNG[k - 1 : k + 1])))
            )
            found.append((float(at), name))
    return (min(found)[1], min(found)[0]) if found else None


def pitch_responses(
    craft: Aircraft, model: LinearModel, stick: str, airspeed: float, category: str
) -> tuple[list[Criterion], dict[str, Any]]:  # fmt: skip
    """Return the criteria of pitch by an input at a true airspeed (m/s), and what charts of them are drawn from.

    The model has outputs q, theta, nz. A criterion that does not apply says why, and has no level.
    """
    detail: dict[str, Any] = {"onset": rate_limit_onset(craft, with_states(model), stick)}
    found = list(_pitch_equivalent(model, stick, category, detail))
    # without the phugoid: pilots take it out without thinking of it
    fast = model.part(states=[n for n in model.states if n not in SLOW])
    w, attitude = attitude_channel(fast, "theta", stick)
    detail["attitude"] = (w, attitude)
    for make in (_bandwidth, _tracking, _phase_rate):
        found += make(w, attitude, category, detail)
    found += _step_of_rate(fast, stick, airspeed, category, detail)
    found += _c_star(fast, stick, category, detail)
    with suppress(DravikError):  # of what does not become steady the other criteria say so
        found.append(anticipation_criterion(fast, stick, category))
    time, whole = doubling(fast, "theta", stick), doubling(model, "theta", stick)
    # what diverges with the speed free, faster than pilots are left with at level 3, is no phugoid to be taken out
    time = min(time, whole) if math.isfinite(time) or whole < DIVERGES else math.inf
    return (found if math.isinf(time) else [without_stability(c, time) for c in found]), detail


def without_stability(criterion: Criterion, time: float) -> Criterion:
    """Return a criterion of a response that doubles by itself in a time (s): it has no value and is worse than level 3.

    Its figures are those of responses that decay; of one that grows they may look like the best there are.
    """
    note = f"not stable: by itself the response doubles in {time:.3g} s, and the criterion has no value"
    return replace(criterion, value=math.nan, judged=True, note=note, lows=_asked(criterion))


def _asked(criterion: Criterion) -> tuple[float | None, float | None, float | None]:
    """Return the least values of a criterion; where it has no limits at all, that stability is asked of every level."""
    has_limits = any(v is not None for v in (*criterion.lows, *criterion.highs))
    return criterion.lows if has_limits else (math.inf, math.inf, math.inf)


def with_states(model: LinearModel) -> LinearModel:
    """Return the model with its states as outputs too."""
    n = len(model.states)
    outputs = [*model.outputs, *(s for s in model.states if s not in model.outputs)]
    rows = [model.states.index(s) for s in outputs[len(model.outputs) :]]
    c, d = np.vstack([model.C, np.eye(n)[rows]]), np.vstack([model.D, np.zeros((len(rows), len(model.inputs)))])
    return replace(model, C=c, D=d, outputs=outputs, y0=np.zeros(len(outputs)))


def roll_responses(
    model: LinearModel, stick: str, aircraft_class: str, category: str
) -> tuple[list[Criterion], dict[str, Any]]:  # fmt: skip
    """Return the criteria of roll by an input: time constant and delay of its equivalent system, and what it is."""
    detail: dict[str, Any] = {}
    fast = model.part(states=[n for n in model.states if n not in (*SLOW, "phi")])
    values = fast.part(inputs=[stick], outputs=["p"]).frequency_response(FITTED)[:, 0, 0]
    data = boundaries("responses")["delay"]
    try:
        fit = fit_equivalent(FITTED, values, form="roll")
    except DravikError as error:
        return [_not_judged("roll, equivalent delay", data["paragraph"], str(error))], detail
    detail["roll"] = fit
    found = [_delay("roll", fit, data)]
    allowed = entry("roll", aircraft_class, category)
    if fit.is_close and allowed is not None:
        note = f"equivalent Dutch roll {fit.frequency:.3g} rad/s, damping {fit.damping:.3g}"
        highs = limits(allowed["time_constant_max"])
        found.append(
            Criterion(
                "roll, equivalent time constant", allowed["paragraph"], fit.time_constant, "s", NONE, highs, note,
                remembered=True, document=boundaries("mil_f_8785c")["title"],
            )
        )  # fmt: skip
    time = doubling(fast, "p", stick)
    return (found if math.isinf(time) else [without_stability(c, time) for c in found]), detail


def _delay(what: str, fit: EquivalentSystem, data: dict[str, Any]) -> Criterion:
    note = f"cost {fit.cost:.3g}, noticed at {100.0 * fit.noticed:.0f} % of the frequencies"
    if not fit.is_close:
        note += ": the response is not that of a simple aircraft, and no level follows from the fit"
        return Criterion(f"{what}, equivalent delay", data["paragraph"], fit.delay, "s", NONE, note=note, judged=False)
    return Criterion(
        f"{what}, equivalent delay", data["paragraph"], fit.delay, "s", NONE, limits(data["max"]), note, remembered=True
    )


def pitch_equivalent(model: LinearModel, stick: str) -> EquivalentSystem:
    """Return the equivalent system of the pitch rate by an input, the airspeed held; raises DravikError without one."""
    fast = model.part(states=[n for n in model.states if n not in SLOW])
    return fit_equivalent(FITTED, fast.part(inputs=[stick], outputs=["q"]).frequency_response(FITTED)[:, 0, 0])


def _pitch_equivalent(model: LinearModel, stick: str, category: str, detail: dict[str, Any]) -> Iterator[Criterion]:
    """Yield damping, frequency and delay of the fitted pitch rate; the airspeed is held, as the form has no phugoid."""
    standard, data = boundaries("mil_f_8785c"), boundaries("responses")["delay"]
    n_alpha = load_factor_sensitivity(model)
    try:
        fit = pitch_equivalent(model, stick)
    except DravikError as error:
        yield _not_judged("pitch, equivalent system", data["paragraph"], str(error))
        return
    detail["pitch"] = fit
    yield _delay("pitch", fit, data)
    if not fit.is_close:
        return
    damping, frequency = standard["short_period_damping"], standard["short_period_frequency"]
    note = f"equivalent frequency {fit.frequency:.3g} rad/s, 1/T {fit.lead:.3g} 1/s"
    yield Criterion(
        "pitch, equivalent damping", damping["paragraph"], fit.damping, "", limits(damping[category]["min"]),
        limits(damping[category]["max"]), note, remembered=True, document=standard["title"],
    )  # fmt: skip
    yield Criterion(
        "pitch, control anticipation", frequency["paragraph"], fit.frequency**2 / n_alpha if n_alpha > 0.0 else -1.0,
        "1/(g s^2)", limits(frequency[category]["min"]), limits(frequency[category]["max"]),
        f"equivalent frequency^2 over n/alpha {n_alpha:.3g}", remembered=True, document=standard["title"],
    )  # fmt: skip


def _not_judged(name: str, paragraph: str, why: str) -> Criterion:
    return Criterion(name, paragraph, math.nan, "", NONE, judged=False, note=f"{why}: no level can be given")


def _bandwidth(w: Floats, attitude: Any, category: str, detail: dict[str, Any]) -> list[Criterion]:
    data = boundaries("responses")["bandwidth"]

    def make() -> Criterion:
        found = bandwidth(w, attitude)
        detail["bandwidth"] = found
        note = (
            f"phase delay {found.phase_delay:.3g} s; by phase {found.by_phase:.3g}, by gain {found.by_gain:.3g} rad/s"
        )
        lows = along(data[category], found.phase_delay)
        return Criterion("pitch, bandwidth", data["paragraph"], found.value, "rad/s", lows, note=note, remembered=True)

    return [_tried("pitch, bandwidth", data["paragraph"], make)]


def _tracking(w: Floats, attitude: Any, category: str, detail: dict[str, Any]) -> list[Criterion]:
    data = boundaries("responses")["tracking"]

    def make() -> Criterion:
        pilot = tracking_pilot(w, attitude, bandwidth=data["bandwidth"][category])
        detail["tracking"] = pilot
        note = f"bandwidth {pilot.bandwidth:g} rad/s with {pilot.compensation:.0f} deg of compensation"
        if pilot.is_limiting:
            note += ": the more the better, which no pilot can give"
        highs = list(limits(data["resonance_max"]))
        for level, (low, high) in enumerate(data["compensation"]):
            if not low <= pilot.compensation <= high:
                highs[level] = -math.inf
                note += f", beyond level {level + 1}"
        return Criterion(
            "pitch tracking, resonance", data["paragraph"], pilot.resonance, "dB", NONE, (highs[0], highs[1], highs[2]),
            note, remembered=True,
        )  # fmt: skip

    return [_tried("pitch tracking, resonance", data["paragraph"], make)]


def _phase_rate(w: Floats, attitude: Any, category: str, detail: dict[str, Any]) -> list[Criterion]:
    data = boundaries("responses")["phase_rate"]

    def make() -> Criterion:
        # rad per rad/s is s: times 360 it is degrees for each Hz
        own = bandwidth(w, attitude)
        note = f"-180 deg at {own.neutral:.3g} rad/s"
        if detail.get("onset") is not None:
            effector, onset = detail["onset"]
            note += f"; a full swing of the stick drives {effector} into its rate limit from {onset:.3g} rad/s on"
            note += ", below that: it can feed an oscillation" if onset < own.neutral else ", above that"
        return Criterion(
            "pitch, average phase rate", data["paragraph"], own.phase_rate * 360.0, "deg/Hz", NONE, limits(data["max"]),
            note, remembered=True,
        )  # fmt: skip

    return [_tried("pitch, average phase rate", data["paragraph"], make)]


def _step_of_rate(
    fast: LinearModel, stick: str, airspeed: float, category: str, detail: dict[str, Any]
) -> list[Criterion]:  # fmt: skip
    """Return what the pitch rate's response to a step says: its shape in time, and dropback where that is asked for."""
    data, shape = boundaries("responses")["dropback"], boundaries("responses")["pitch_step"]
    step = time_response(fast, "q", stick, duration=LONG)
    try:
        lines = pitch_step_criteria(step, airspeed, category)
    except DravikError as error:
        lines = [_not_judged("pitch rate, shape of a step", shape["paragraph"], str(error))]
    if category not in data["categories"]:
        return lines

    def make() -> Criterion:
        found = dropback(step)
        detail["step"] = step
        note = f"largest pitch rate {found.peak_ratio:.3g} of the steady one"
        return Criterion(
            "pitch, dropback", data["paragraph"], found.value, "s", limits(data["min"]), limits(data["max"]), note,
            remembered=True,
        )  # fmt: skip

    return [*lines, _tried("pitch, dropback", data["paragraph"], make)]


def _c_star(fast: LinearModel, stick: str, category: str, detail: dict[str, Any]) -> list[Criterion]:
    data = boundaries("responses")["c_star"]
    if category not in data["categories"]:
        return []

    def make() -> Criterion:
        detail["c_star"] = c_star(fast, stick)
        return c_star_criterion(*detail["c_star"])

    return [_tried("C*, outside its envelope", data["paragraph"], make)]


def _tried(name: str, paragraph: str, make: Callable[[], Criterion]) -> Criterion:
    """Return a criterion, or a line that says why it does not apply."""
    try:
        return make()
    except DravikError as error:
        return _not_judged(name, paragraph, str(error))
