"""Proofs by flying: that a trim holds, and that a linear model responds like the aircraft it was taken from."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.aircraft.held_states import standing_still
from dravik.errors import DravikError
from dravik.flight.body import body_of
from dravik.flight.flying import fly
from dravik.flight.histories import History, doublet
from dravik.linear import LinearModel, linearise, linearise_plant
from dravik.plants import Plant
from dravik.recording.recording import Recording
from dravik.trimming import PlantTrim, TrimPoint
from dravik.units import from_si, quantity

__all__ = ["HoldProof", "LinearProof", "as_long_as_it_lasts", "fastest_growth", "prove_linear", "prove_trim"]

Floats = NDArray[np.float64]
#: How far a trimmed aircraft may wander hands off in a minute: SI and rad.
HOLD_LIMITS = {"airspeed": 0.01, "altitude": 0.1, "phi": 1.7453e-5, "theta": 1.7453e-5, "psi": 1.7453e-5}
#: Share of a climb's drift with density that its linear model may miss (measured: 1 to 2 % in a minute at 2 to 6 deg).
CURVATURE = 0.05
LITTLE = 1e-7  # rad/s: the disturbance of the rates with which a trim is flown
RATES = slice(10, 13)  # where p, q, r stand in the integrated state
GROWN = 100.0  # times that a disturbance may grow in a proof of a trim
DOUBLINGS = 8.0  # times that it may grow in a proof of a linear model: three doublings
LASTS = 10.0  # s of a proof of a linear model, unless another time is asked for
GROWS = 1e-3  # 1/s: slower growth is not worth a shorter proof
ALLOWED = 0.02  # of the peak of each signal that responds, linear against nonlinear
FAINT = 0.1  # of the loudest response: fainter ones, often of second order in the input, are not judged
SIZES = {"m/s": 0.01, "m": 0.01}  # what counts as much of a signal as a radian, by unit, over one
PLANT_LIMIT = 1e-4  # allowed drift of a plant's states, relative to their scales


@dataclass(frozen=True)
class HoldProof:
    """How far each signal wandered from the trimmed value, what was allowed, and the flight itself.

    In a climb ``drift`` is what differs from the drift that the change of density explains.

    ``asked`` is the duration that the proof wants, s: what was flown for less proves nothing. ``doubles`` is the time
    (s) in which a disturbance doubles, inf where none grows; ``frozen`` names what would have run down and was kept.
    """

    recording: Recording
    drift: dict[str, float]
    limits: dict[str, float]
    asked: float
    doubles: float = np.inf
    frozen: tuple[str, ...] = ()

    @property
    def is_complete(self) -> bool:
        """Whether it was flown for as long as asked."""
        return self.recording.flown >= self.asked - 1e-9

    @property
    def holds(self) -> bool:
        """Whether every signal stayed within its limit, all the time asked for; a limit that is not finite is none."""
        kept = all(self.drift[n] <= self.limits[n] < np.inf for n in self.drift)
        return self.is_complete and bool(self.drift) and kept

    @property
    def title(self) -> str:
        """What was flown, in words; where that was less than asked, also why."""
        more = (
            f", {', '.join(self.frozen)} kept as {'they are' if len(self.frozen) > 1 else 'it is'}"
            if self.frozen
            else ""
        )
        return _title(self.recording, self.asked, "flown hands off, disturbed a little,") + more

    @property
    def verdict(self) -> str:
        """Whether it holds, in words; and where a disturbance grows, how fast."""
        grows = f"; unstable: a disturbance doubles in {self.doubles:.3g} s" if self.doubles < np.inf else ""
        return ("holds" if self.holds else "does not hold") + grows

    def rows(self) -> list[dict[str, object]]:
        """Return one plain record for each signal, in units shown to people."""
        rows: list[dict[str, object]] = []
        for name, drift in self.drift.items():
            unit, factor, _ = from_si(self.recording.units[name])
            shown = round(drift * factor, 12)  # hides rounding errors
            rows.append({"signal": name, "drift": shown, "allowed": self.limits[name] * factor, "unit": unit})
        return rows


def _title(run: Recording, asked: float, what: str) -> str:
    if run.flown >= asked - 1e-9:
        return f"{what} for {asked:g} s"
    return f"{what} for {run.flown:.3g} s of {asked:g} s, which proves nothing: {run.ended_by or 'it ended'}"


def prove_trim(point: TrimPoint | PlantTrim, *, duration: str | float = 60.0, dt: str | float = 0.01) -> HoldProof:
    """Fly a trimmed point hands off and return how far it wanders; a climb is held against its straight line.

    In a climb the air thins (or thickens), and speed, attitude and path drift with it. That drift is taken from the
    linear model, whose altitude state moves at the rate of climb; ``drift`` is what differs from it, and a twentieth
    of it is allowed on top, because the linear model leaves out its curvature. The flight begins with rates a ten
    millionth off, so that an equilibrium that only rounding holds is seen; what the linear model makes of them is taken
    off too. Where a disturbance grows the flight is as long as it takes to grow a hundredfold, if that is less.
    What runs down by itself, such as a battery, is kept as it is. In a turn the heading is held against the rate of
    turn. Ground and sea do not end the flight. Of any other plant every state is held to a ten thousandth of its scale.

    Parameters
    ----------
    point : TrimPoint or PlantTrim
        The point.
    duration : str or float, default 60
        How long it is flown, s.
    dt : str or float, default 0.01
        Step of the integrator, s.

    Returns
    -------
    HoldProof
        Drifts of airspeed, altitude, attitude and rates, and whether they ``hold``.

    Raises
    ------
    DravikError
        For what is no trimmed point, for a climb at 90 deg of pitch, which has no linear model, and for a pull or a
        roll, which hold at one instant only.

    Examples
    --------
    >>> import dravik as dv
    >>> dv.prove_trim(dv.trim(dv.sample("tarn"), airspeed="62 m/s", altitude="300 m"), duration=10).holds
    True
    """
    _check_point(point)
    asked = quantity(duration, "time", where="duration")
    if isinstance(point, PlantTrim):
        run = fly(point.plant, start=point, duration=asked, dt=dt)
        states, scales = point.plant.state_names, point.plant.scales
        wandered = {name: float(np.max(np.abs(run[name] - run[name][0]))) for name in states}
        return HoldProof(run, wandered, {name: PLANT_LIMIT * scales.get(name, 1.0) for name in states}, asked)
    if point.statement.is_momentary:
        raise DravikError(f"{point.title} holds at one instant only", expected="a condition that can be flown on")
    frozen = tuple(point.drifting)
    free = standing_still(point.craft.over_no_ground(), frozen)
    model = linearise(free, replace(point, craft=free), outputs=list(HOLD_LIMITS))
    growth = fastest_growth(model)
    asked = as_long_as_it_lasts(asked, growth, GROWN, quantity(dt, "time", where="dt"))
    run = fly(free, start=replace(point, craft=free, state=_disturbed(point.state)), duration=asked, dt=dt)
    thinning = _expected(model, point, run.time)
    drift, limits = {}, {}
    for name, limit in HOLD_LIMITS.items():
        away = run[name] - run[name][0] - thinning[name]
        if name == "altitude":
            away = away - point.signals["climb_rate"] * run.time
        if name == "psi":
            away = away - point.turning * run.time
        if name in ("phi", "theta", "psi"):
            away = (away + np.pi) % (2.0 * np.pi) - np.pi
        drift[name] = float(np.max(np.abs(away)))
        limits[name] = limit + CURVATURE * float(np.max(np.abs(thinning[name])))
    doubles = math.log(2.0) / growth if growth > 0.0 else np.inf
    return HoldProof(run, drift, limits, asked, doubles, frozen)


def _disturbed(state: Floats) -> Floats:
    """Return a state whose rates of rotation are a little off."""
    found = state.copy()
    found[RATES] += LITTLE
    return found


def fastest_growth(model: LinearModel) -> float:
    """Return the rate (1/s) of the root that grows fastest; zero where none does but by rounding."""
    most = float(model.poles().real.max(initial=0.0))
    return most if most > GROWS else 0.0


def as_long_as_it_lasts(asked: float, growth: float, times: float, dt: float) -> float:
    """Return a duration (s) in whole steps, within which a disturbance grows so many times at most."""
    if growth <= 0.0 or asked * growth <= math.log(times):
        return asked
    return max(round(math.log(times) / growth / dt), 3) * dt


def _expected(model: LinearModel, point: TrimPoint, time: Floats) -> dict[str, Floats]:
    """Return how the signals of HOLD_LIMITS leave the trimmed values by the linear model.

    To first order the deviations follow x' = A x + f, where f is the rate of climb in the row of the altitude: the
    density changes with it. They begin with the disturbance of the rates.
    """
    names = list(HOLD_LIMITS)
    if len(time) < 2:
        return {name: np.zeros(len(time)) for name in names}
    rate = point.signals["climb_rate"]
    # the climb as a disturbance: the rate of climb is the only input, held at one
    forcing = np.zeros((len(model.states), 1))
    forcing[model.states.index("altitude")] = rate
    begin = np.array([LITTLE if n in ("p", "q", "r") else 0.0 for n in model.states])
    driven = replace(model, B=forcing, D=np.zeros((len(names), 1)), inputs=["climb"])
    # an event may have ended the flight between two steps
    even = len(time) - int(len(time) > 2 and abs(time[-1] - time[-2] - (time[1] - time[0])) > 1e-6 * time[1])
    states, found = driven.response(time[:even], np.ones((even, 1)), x=begin)
    if even < len(time):
        _, last = driven.response(time[even - 1 :], np.ones((2, 1)), x=states[-1])
        found = np.concatenate([found, last[1:]])
    drift = dict(zip(names, found.T, strict=True))
    return drift | {"altitude": drift["altitude"] - rate * time}


def _check_point(point: object) -> None:
    if not isinstance(point, TrimPoint | PlantTrim):
        raise DravikError(
            f"a {type(point).__name__} cannot be proved", expected="a trimmed point, from trim or trim_plant"
        )


@dataclass(frozen=True)
class LinearProof:
    """Deviations of the same signals, nonlinear and linear, after the same input.

    Nonlinear deviations are those from the same flight without the input, so that a climb, whose trim moves as the air
    thins, is not held against the model. ``errors``: largest difference of each signal over its nonlinear peak.
    ``asked`` is the duration that the proof wants, s.
    """

    title: str
    time: Floats
    nonlinear: dict[str, Floats]
    linear: dict[str, Floats]
    units: dict[str, str]
    errors: dict[str, float]
    asked: float = 0.0
    doubles: float = np.inf

    @property
    def answering(self) -> list[str]:
        """The signals that respond, whose errors count: none much fainter than the loudest."""
        peaks = {n: SIZES.get(self.units.get(n, ""), 1.0) * float(np.max(np.abs(v))) for n, v in self.nonlinear.items()}
        loudest = max(peaks.values(), default=0.0)
        return [n for n, peak in peaks.items() if peak >= FAINT * loudest and peak > 0.0]

    @property
    def holds(self) -> bool:
        """Whether it was flown to its end, something responded, and the model is within 2 % of the peaks."""
        judged = [self.errors[n] for n in self.answering]
        return self.is_complete and bool(judged) and max(judged) <= ALLOWED

    @property
    def verdict(self) -> str:
        """Whether the model holds, in words; and where a disturbance grows, how fast."""
        grows = f"; unstable: a disturbance doubles in {self.doubles:.3g} s" if self.doubles < np.inf else ""
        what = (
            f"within {100 * ALLOWED:g} % of the peaks of {', '.join(self.answering) or 'nothing, which proves nothing'}"
        )
        return f"the model {'holds' if self.holds else 'does not hold'}: {what}{grows}"

    @property
    def is_complete(self) -> bool:
        """Whether it was flown for as long as asked; what was flown for less proves nothing."""
        return len(self.time) > 1 and float(self.time[-1] - self.time[0]) >= self.asked - 1e-9

    @property
    def worst(self) -> float:
        """The largest error of any signal."""
        return max(self.errors.values())

    def difference(self) -> float:
        """Return the largest difference itself, summed over signals in SI: it falls with the square of the input."""
        return float(sum(np.max(np.abs(self.nonlinear[n] - self.linear[n])) for n in self.errors))


def prove_linear(
    point: TrimPoint | PlantTrim,
    *,
    control: str = "",
    history: History | None = None,
    signals: Sequence[str] = (),
    duration: str | float | None = None,
    dt: str | float = 0.01,
    model: LinearModel | None = None,
) -> LinearProof:
    """Fly a small input from a trimmed point and the same without it, let the linear model respond, and compare.

    Where a disturbance grows it flies for three doublings behind the doublet at most. Ground and sea do not end the
    flights.

    Parameters
    ----------
    point : TrimPoint or PlantTrim
        The point.
    control : str, optional
        The input. The elevator, or the first input of any other plant, unless given.
    history : History, optional
        What it does. A doublet of 0.1 deg, or 0.005 for an input without unit, unless given.
    signals : sequence of str, optional
        Signals that are compared. Airspeed, angles and rates unless given.
    duration : str or float, optional
        How long, s. Ten seconds unless given.
    dt : str or float, default 0.01
        Step of the integrator, s.
    model : LinearModel, optional
        The model that responds. That of the point unless given.

    Returns
    -------
    LinearProof
        Peaks and errors by signal, and whether they ``hold``: within 2 % of each peak.

    Raises
    ------
    DravikError
        For unknown names, and a model without these outputs.

    Examples
    --------
    >>> import dravik as dv
    >>> proof = dv.prove_linear(dv.trim(dv.sample("tarn"), airspeed="62 m/s", altitude="300 m"))
    >>> proof.worst < 0.01
    True
    """
    _check_point(point)
    step = quantity(dt, "time", where="dt")
    if isinstance(point, PlantTrim):
        free: Aircraft | Plant = point.plant
        signals = list(signals) or list(point.plant.output_names)[:4]
        control = control or point.plant.input_names[0]
        model = model or _with_states(linearise_plant(point.plant, point.state, point.inputs))
    else:
        free = point.craft.over_no_ground()
        signals = list(signals) or ["airspeed", "alpha", "q", "theta"]
        control = control or "elevator"
    body = body_of(free)
    index = body.input_index(control)
    spec = list(body.inputs.values())[index]
    for name in signals:
        body.signal(name)
    if model is None:
        assert isinstance(point, TrimPoint)
        model = linearise(point.craft, point, outputs=signals)
    growth = fastest_growth(model)
    if history is None:
        # a doublet no longer than what it is to show
        width = min(1.0, 0.5 / growth) if growth > 0.0 else 1.0
        history = doublet("0.1 deg" if spec.unit == "rad" else 0.005, at=0.5 * width, width=width)
    asked = as_long_as_it_lasts(LASTS, growth, DOUBLINGS, step) if duration is None else quantity(
        duration, "time", where="duration"
    )  # fmt: skip
    if duration is None and asked < LASTS:
        asked = min(LASTS, round((asked + max(history.corners, default=0.0)) / step) * step)
    missing = [s for s in signals if s not in model.outputs]
    if missing:
        raise DravikError(f"the linear model has no output {missing[0]!r}")
    run, still = (
        fly(free, start=point, duration=asked, dt=step, controls=controls, record=signals)
        for controls in ({control: history}, {})
    )
    rows = min(len(run.time), len(still.time))
    t = run.time[:rows]
    title = f"{history.text} on {control}"
    if rows < 3:
        raise DravikError(f"{title}: {_title(run, asked, 'flown')}", where=body.name)
    u = np.zeros((rows - 1, 2, len(model.inputs)))
    edge = 1e-6 * step
    u[:, 0, index], u[:, 1, index] = history(t[:-1] + edge), history(t[1:] - edge)
    _, y = model.response(t, u)
    nonlinear = {s: run[s][:rows] - still[s][:rows] for s in signals}
    linear = {s: y[:, model.outputs.index(s)] for s in signals}
    errors = {
        s: float(np.max(np.abs(nonlinear[s] - linear[s])) / max(float(np.max(np.abs(nonlinear[s]))), 1e-12))
        for s in signals
    }
    units = {s: body.signals[s].unit for s in signals}
    if run.flown < asked - 1e-9:
        title += f", {_title(run, asked, 'flown')}"
    return LinearProof(
        title, t, nonlinear, linear, units, errors, asked, math.log(2.0) / growth if growth > 0.0 else np.inf
    )


def _with_states(model: LinearModel) -> LinearModel:
    """Return a model whose outputs are its states too."""
    more = [i for i, name in enumerate(model.states) if name not in model.outputs]
    c, d = (
        np.vstack([model.C, np.eye(len(model.A))[more]]),
        np.vstack([model.D, np.zeros((len(more), model.D.shape[1]))]),
    )
    return replace(model, C=c, D=d, outputs=[*model.outputs, *(model.states[i] for i in more)])
