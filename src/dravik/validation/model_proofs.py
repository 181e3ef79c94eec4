"""The whole proof of a linear model: inputs and sizes, sines, a second method, and the rows that kinematics gives."""

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.aircraft.air_of_point import in_air_of
from dravik.aircraft.compiling.actuators import FOLLOW_TIME
from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.flight.histories import History, doublet, sine
from dravik.linear import LinearModel, linearise
from dravik.trimming import TrimPoint
from dravik.validation.proofs import as_long_as_it_lasts, fastest_growth, prove_linear

__all__ = ["ModelCheck", "ModelProof", "prove_model"]

Floats = NDArray[np.float64]
SMALL = {"rad": math.radians(0.1), "": 0.005}  # of a doublet that no aircraft should find large
SIGNALS = ("airspeed", "alpha", "beta", "p", "q", "r", "phi", "theta")
SMALLER = 4  # sizes that are tried, each a tenth of the one before
SIZES = {"airspeed": 1.0}  # m/s that count as a radian for telling which signals respond
FAINT = 0.1  # of the largest response: fainter ones, often of second order in the input, are not judged
ALLOWED = 0.02  # of the peak, for a small input
PART = 0.05  # of the peak: where linear and nonlinear responses are said to part
FREQUENCIES = (0.5, 2.0, 6.0)  # rad/s
GROWN = 30.0  # times that a disturbance may grow in a flight of an unstable aircraft
SHARE = 0.2  # of the small doublet: the amplitude of sines, which may meet a resonance
SECOND_STEPS = (2e-4, 2e-5, 2e-6)  # of the size of a variable, of the second method
BELOW = 0.8  # of the greatest rate of an actuator

REACHED, FELT = 6, 1e-9  # steps through the model, and the share of an input below which nothing responds
SECOND = 5e-5  # largest relative difference of two methods: over tables whose curvature jumps, by their different steps
ANALYTIC = 1e-7  # of rows that are known exactly


class ModelCheck(NamedTuple):
    """One check of a linear model: ``error`` against what is ``allowed``; ``note`` says what was done or left out."""

    name: str
    error: float
    allowed: float
    note: str = ""

    @property
    def holds(self) -> bool:
        """Whether the error is within what is allowed; nothing is, where there is none."""
        return self.error <= self.allowed


@dataclass(frozen=True)
class ModelProof:
    """The checks of a linear model, and by control the size (SI) at which the responses part by 5 % (inf if never)."""

    model: LinearModel
    checks: list[ModelCheck]
    parting: dict[str, float]

    @property
    def holds(self) -> bool:
        """Whether every check holds."""
        return bool(self.checks) and all(c.holds for c in self.checks)

    def rows(self) -> list[dict[str, object]]:
        """Return one plain record for each check."""
        return [{**c._asdict(), "holds": c.holds} for c in self.checks]


def prove_model(
    craft: Aircraft, point: TrimPoint, *, controls: Sequence[str] = (), told: Callable[[float], None] | None = None
) -> ModelProof:
    """Hold the linear model about a trimmed point against the aircraft in every way there is.

    For each control a small doublet, and the size at which the two responses part by 5 %; for the first two, sines at
    three frequencies. Then the matrices by differences of the fourth order from another code path, and the rows of the
    attitude by their formulas.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    point : TrimPoint
        The point.
    controls : sequence of str, optional
        Controls. All effectors that the model responds to and that do not stand at a stop unless given; inputs that
        trims move where there are none.
    told : callable, optional
        Called with the share done, from 0 to 1.

    Returns
    -------
    ModelProof
        Every check with its error, and whether all ``hold``.

    Raises
    ------
    DravikError
        For unknown controls, and for a pull or a roll, which cannot be flown on.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> dv.prove_model(craft, dv.trim(craft, airspeed="62 m/s", altitude="300 m"), controls=["elevator"]).holds
    True
    """
    require(craft, Aircraft, "the aircraft of the model")
    require(point, TrimPoint, "the point of the model", "trim(craft, ...)")
    craft = in_air_of(craft, point.craft)
    if point.statement.is_momentary:
        raise DravikError(f"{point.title} holds at one instant only", expected="a condition that can be flown on")
    model = linearise(craft, point, outputs=list(SIGNALS))
    names, idle = arguments.names(controls, "controls"), list[str]()
    if not names:
        names, idle = _answering(craft, model)
    for name in names:
        craft.input_index(name)
    checks: list[ModelCheck] = []
    parting: dict[str, float] = {}
    for k, name in enumerate(names):
        checks.append(_doublet(craft, point, model, name))
        parting[name] = _parting(craft, point, model, name)
        if k < 2:
            checks += [_sine(craft, point, model, name, omega) for omega in FREQUENCIES]
        if told is not None:
            told((k + 1) / (len(names) + 1))
    checks += [_second_method(craft, point, model), *_kinematics(model)]
    if idle:
        checks.append(ModelCheck("controls that move nothing here", 0.0, 0.0, f"{', '.join(idle)}: not flown"))
    if not names:
        checks.append(ModelCheck("controls that move something", math.inf, 0.0, "none: nothing was flown"))
    if told is not None:
        told(1.0)
    return ModelProof(model, checks, parting)


def _answering(craft: Aircraft, model: LinearModel) -> tuple[list[str], list[str]]:
    """Return the effectors, or else inputs that trims move, to which a signal responds, and effectors that none does.

    Where effectors move nothing, as surfaces in hover, the inputs show what the rotors do.
    """
    found, idle = list[str](), list[str]()
    moved = list(craft.definition.controls)
    for name in moved:
        (found if _is_answered(craft, model, name) else idle).append(name)
    if idle or not moved:
        found += [n for n, s in craft.inputs.items() if s.trim and n not in moved and _is_answered(craft, model, n)]
    able = []
    for name in found:
        # at a stop the model holds to one side alone, which a doublet or a sine does not
        at_stop = _at_bound(craft, name, float(dict(zip(model.states, model.x0, strict=True)).get(name, math.nan)))
        if not at_stop:
            able.append(name)
    return able, idle


def _is_answered(craft: Aircraft, model: LinearModel, name: str) -> bool:
    """Whether a small doublet on an input moves any of the signals, by the model, more than rounding does."""
    size, _ = _small(craft, name)
    column = model.B[:, [craft.input_index(name)]]
    # where it leads within some steps: through the actuator, the motion, and what follows from that
    reached, largest = column * size, 0.0
    for _ in range(REACHED):
        largest = max(largest, float(np.max(np.abs(model.C @ reached), initial=0.0)))
        reached = model.A @ reached / max(float(np.linalg.norm(model.A)), 1.0)
    return largest > FELT * size


def _small(craft: Aircraft, name: str) -> tuple[float, str]:
    """Return a doublet's size, SI, and its unit: so small that the actuator stays below its greatest rate."""
    unit = list(craft.inputs.values())[craft.input_index(name)].unit
    size, effector = SMALL.get(unit, 0.005), craft.definition.controls.get(name)
    if effector is not None and effector.rate is not None:
        quick = effector.frequency if effector.frequency is not None else 1.0 / (effector.lag or FOLLOW_TIME)
        # from one side of a doublet to the other is twice its size, and a first-order lag begins at its fastest
        size = min(size, BELOW * effector.rate / (2.0 * quick))
    return size, unit


def _difference(
    craft: Aircraft, point: TrimPoint, model: LinearModel, name: str, history: History, duration: float
) -> float:
    """Return the largest error of the signals that respond, over their peaks; inf where the flight breaks off."""
    duration = as_long_as_it_lasts(duration, fastest_growth(model), GROWN, 0.01)
    proof = prove_linear(point, control=name, history=history, signals=list(SIGNALS), duration=duration, model=model)
    if not proof.is_complete:
        return math.inf
    peaks = {n: float(np.max(np.abs(v))) / SIZES.get(n, 1.0) for n, v in proof.nonlinear.items()}
    peaks["airspeed"] /= max(point["airspeed"], 1.0)
    loudest = max(peaks.values())
    return max(proof.errors[n] for n, peak in peaks.items() if peak >= FAINT * loudest)


def _doublet(craft: Aircraft, point: TrimPoint, model: LinearModel, name: str) -> ModelCheck:
    size, unit = _small(craft, name)
    error, size = _small_enough(size, lambda s: _difference(craft, point, model, name, _pulses(s, unit), 10.0))
    return ModelCheck(f"doublet of {_shown(size, unit)} on {name}", error, ALLOWED, "of the peak, over 10 s")


def _small_enough(size: float, off: Callable[[float], float]) -> tuple[float, float]:
    """Return the first error that is allowed, and its size, of sizes each a tenth of the one before; else the last.

    What grows leaves the linear range: a right model's error falls with the size.
    """
    error = off(size)
    for _ in range(SMALLER - 1):
        if error <= ALLOWED or not np.isfinite(error):
            break
        size /= 10.0
        error = off(size)
    return error, size


def _pulses(size: float, unit: str) -> History:
    return doublet(f"{size!r} {unit}" if unit else size, at=0.5, width=1.0)


def _shown(size: float, unit: str) -> str:
    return f"{math.degrees(size):.3g} deg" if unit == "rad" else f"{size:.3g} {unit}".rstrip()


def _sine(craft: Aircraft, point: TrimPoint, model: LinearModel, name: str, omega: float) -> ModelCheck:
    size, unit = _small(craft, name)
    periods = max(10.0, 3.0 * 2.0 * math.pi / omega)

    def off(s: float) -> float:
        amplitude = f"{SHARE * s!r} {unit}" if unit else SHARE * s
        history = sine(amplitude, frequency=omega / (2.0 * math.pi), at=0.5)
        return _difference(craft, point, model, name, history, periods)

    error, _ = _small_enough(size, off)
    return ModelCheck(f"sine at {omega:g} rad/s on {name}", error, ALLOWED, f"of the peak, over {periods:.3g} s")


def _parting(craft: Aircraft, point: TrimPoint, model: LinearModel, name: str) -> float:
    """Return the size of a doublet at which the responses part by PART; inf where they do not within the range."""
    size, unit = _small(craft, name)
    low, high = craft.limits.get(name, (-1.0, 1.0))
    most = 0.5 * (high - low)

    def parted(by: float) -> bool:
        return _difference(craft, point, model, name, _pulses(by, unit), 10.0) > PART

    inside = size
    if parted(inside):
        return size
    outside = 2.0 * inside
    while outside < most and not parted(outside):
        inside, outside = outside, 2.0 * outside
    if outside >= most and not parted(most):
        return math.inf
    outside = min(outside, most)
    for _ in range(5):
        middle = math.sqrt(inside * outside)
        inside, outside = (inside, middle) if parted(middle) else (middle, outside)
    return math.sqrt(inside * outside)


def _second_method(craft: Aircraft, point: TrimPoint, model: LinearModel) -> ModelCheck:
    """Hold A and B against differences of the fourth order of the plant, called from Python."""
    plant = craft.plant(point.coordinates)
    u = np.array(point.inputs, dtype=float)
    z = plant.from_state(point.state, u)
    keep = [plant.state_names.index(n) for n in model.states]
    names, values = [*plant.state_names, *plant.input_names], np.concatenate([z, u])
    bends, known = (
        {k.column for k in model.kinks},
        dict(zip([*plant.state_names, *plant.input_names], [*z, *u], strict=True)),
    )
    worst, judged = 0.0, 0
    for column, name in enumerate(names):
        if name in plant.state_names and name not in model.states:
            continue
        # what is added to a control at its stop moves one way only
        moved = name.removesuffix("_increment")
        if (
            name in bends
            or _at_bound(craft, name, float(values[column]))
            or _at_bound(craft, moved, known.get(moved, 0.5))
        ):
            continue
        size = max(1.0, abs(float(values[column])))

        def slopes_by(h: float, column: int = column) -> Floats:
            sides = []
            for side in (h, -h):
                there = values.copy()
                there[column] += side
                sides.append(plant.evaluate(0.0, there[: len(z)], there[len(z) :])[0][keep])
            return np.asarray((sides[0] - sides[1]) / (2.0 * h))

        # a step must stay below what bends the model, such as the greatest rate of a slow actuator: of some the one
        # that agrees best with half of it
        tried = [(slopes_by(h), slopes_by(0.5 * h)) for h in (size * s for s in SECOND_STEPS)]
        whole, half = min(tried, key=lambda pair: float(np.max(np.abs(pair[0] - pair[1]), initial=0.0)))
        found = (4.0 * half - whole) / 3.0
        own = model.A[:, model.states.index(name)] if name in model.states else model.B[:, model.inputs.index(name)]
        judged += 1
        worst = max(worst, float(np.max(np.abs(found - own)) / max(float(np.max(np.abs(own))), 1e-3)))
    left = len(names) - judged
    note = f"differences of fourth order, {judged} columns" + (
        f"; {left} at a bend, a stop or at rest left out" if left else ""
    )
    return ModelCheck("A and B by a second method", worst, SECOND, note)


def _at_bound(craft: Aircraft, name: str, value: float) -> bool:
    low, high = {**craft.limits, **{n: (i.low, i.high) for n, i in craft.inputs.items()}}.get(
        name, (-math.inf, math.inf)
    )
    reach = high - low
    return math.isfinite(reach) and (value <= low + 1e-3 * reach or value >= high - 1e-3 * reach)


def _kinematics(model: LinearModel) -> Iterator[ModelCheck]:
    """Yield the rows of the Euler angles against their formulas."""
    at = dict(zip(model.states, model.x0, strict=True))
    if not {"p", "q", "r", "phi", "theta"} <= set(at):
        return
    sf, cf, st, ct = (f(at[n]) for n in ("phi", "theta") for f in (math.sin, math.cos))
    q, r = at["q"], at["r"]
    turn, fall = q * sf + r * cf, q * cf - r * sf
    rows = {
        "phi": {"p": 1.0, "q": sf * st / ct, "r": cf * st / ct, "phi": fall * st / ct, "theta": turn / ct**2},
        "theta": {"q": cf, "r": -sf, "phi": -turn},
        "psi": {"q": sf / ct, "r": cf / ct, "phi": fall / ct, "theta": turn * st / ct**2},
    }
    for row, entries in rows.items():
        if row not in model.states:
            continue
        expected = np.array([entries.get(n, 0.0) for n in model.states])
        error = float(np.max(np.abs(model.A[model.states.index(row)] - expected)))
        yield ModelCheck(f"row of {row}", error, ANALYTIC, "Euler angles by their formulas")
