"""Loops of a plan closed in their order around a linear model: gains, margins, steps, requirements, and the law."""

import cmath
import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any, NamedTuple

import numpy as np

from dravik.aircraft import Aircraft, LawDefinition
from dravik.aircraft.air_of_point import in_air_of
from dravik.errors import DravikError, require
from dravik.linear import LinearModel, OperatingInstant
from dravik.linear.sampled_laws import linearise_as_run
from dravik.loops.closed_loops import ClosedLoops, SteadyErrors, steady_errors
from dravik.loops.elements import PID, lag_compensator, lead_compensator, notch_filter, sampled_loop
from dravik.loops.gains import GainTarget, gain_for
from dravik.loops.margins import Margins, margins
from dravik.loops.open_loop_response import least
from dravik.loops.pid_design import pid_for, plant_sign
from dravik.loops.plan import DESIGNED, LoopEntry, LoopPlan, ends_of, inputs_moved, summed
from dravik.loops.root_assignment import as_system
from dravik.systems import LinearSystem, StepMetrics, TimeResponse, time_response
from dravik.trimming import TrimPoint, trim

__all__ = ["Check", "ClosedLoop", "LoopStudy", "controller_of", "study_loops"]

STANDS = 2e-3  # of the largest value: what a response may still move by at its end
FOLLOWS = 0.5  # of a command, by which a loop may miss it at rest and still be said to follow it
ROUNDS = 25  # of a lead that makes up for an integral's lag: each leaves a tenth or less
ORDER = 3  # of the Padé fraction of a delay in closed loops; margins take it exactly


class Check(NamedTuple):
    """One requirement of a loop: what is asked for, what there is, and whether that is enough."""

    name: str
    value: float
    limit: float
    unit: str
    met: bool


@dataclass(frozen=True)
class ClosedLoop:
    """One loop of a study: its ``pid``, the open loop with the earlier ones closed, margins, step of its command.

    ``disturbance`` is the response of what is measured to a unit step at what the loop moves. ``use`` is how far and
    how fast (1/s) the effector goes at the end of the loops, actuator and all, for a unit step of the command; nan
    where what is moved has no state.
    """

    entry: LoopEntry
    pid: PID
    open_loop: LinearSystem
    margins: Margins
    steady: SteadyErrors
    step: TimeResponse
    disturbance: TimeResponse
    figures: StepMetrics
    use: tuple[float, float]
    checks: list[Check]

    @property
    def met(self) -> bool:
        """Whether it closes stably and every requirement is met."""
        # stable first: figures of a loop that grows meet nothing
        return self.margins.closes and all(c.met for c in self.checks)

    def unstable_text(self) -> str:
        """Return that the closed loop is not stable, with the roots that grow."""
        grows = "; ".join(str(g) for g in self.margins.growing)
        what = f"the loop {self.entry.name} is not stable" if not self.margins.closes else f"beside {self.entry.name}"
        return what + (f": {grows}" if grows else "")

    def row(self) -> dict[str, Any]:
        """Return its figures, angles in deg, gain margins in dB."""
        up, down = self.margins.gain_up, self.margins.gain_down
        return {
            "loop": self.entry.name, "P": self.pid.proportional, "I": self.pid.integral, "D": self.pid.derivative,
            "stable": self.margins.is_stable, "closes": self.margins.closes,
            "crossover_rad_s": _crossover(self.margins),
            "gain_margin_dB": self.margins.gain_decibels,
            "gain_up_dB": 20.0 * math.log10(up) if math.isfinite(up) else math.inf,
            "gain_down_dB": 20.0 * math.log10(down) if down > 0.0 else -math.inf,
            "phase_margin_deg": math.degrees(self.margins.phase), "delay_margin_s": self.margins.delay,
            "disc": self.margins.disc, "bandwidth_rad_s": self.margins.bandwidth, "type": self.steady.type,
            "steady_error": 1.0 - self.figures.end, "rise_s": self.figures.rise, "overshoot": self.figures.overshoot,
            "settling_s": self.figures.settling,
            "disturbed_most": float(np.abs(self.disturbance.values).max()) if self.margins.closes else math.nan,
            "disturbed_at_end": float(self.disturbance.values[-1]) if self.margins.closes else math.nan,
            "growing": [str(g) for g in self.margins.growing], "moved_most": self.use[0],
            "moved_fastest_1_s": self.use[1], "met": self.met,
        }  # fmt: skip


@dataclass(frozen=True)
class LoopStudy:
    """All loops of a plan, closed one after another; ``closed`` is the plant with all of them."""

    plan: LoopPlan
    craft: Aircraft
    point: TrimPoint
    model: LinearModel
    loops: list[ClosedLoop]
    closed: ClosedLoops

    @property
    def met(self) -> bool:
        """Whether every loop is stable and meets what is required of it."""
        return all(loop.met for loop in self.loops)

    def rows(self) -> list[dict[str, Any]]:
        """Return one record for each loop."""
        return [loop.row() for loop in self.loops]

    def loop(self, name: str) -> ClosedLoop:
        """Return one loop by its name; raises DravikError for another."""
        for found in self.loops:
            if found.entry.name == name:
                return found
        raise DravikError(f"there is no loop {name!r}", expected=", ".join(f.entry.name for f in self.loops))


def study_loops(craft: Aircraft, plan: LoopPlan, *, point: TrimPoint | None = None) -> LoopStudy:
    """Return the loops of a plan, designed and closed in their order around the aircraft's linear model.

    At the plan's condition, or at a ``point`` given. The aircraft is ``craft`` as it is: the loading and laws that
    a plan names are for the command line. Each loop is designed with the earlier ones closed. A delay is exact in
    its own loop's margins and designs, and a Padé fraction of third order in what is closed with it. A loop with a
    ``rate`` has the margins of the sampled loop.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    plan : LoopPlan
        The loops to design.
    point : TrimPoint, optional
        A trimmed point in the place of the plan's condition.

    Returns
    -------
    LoopStudy

    Raises
    ------
    DravikError
        For signals that are not there, for designs that cannot be had, and loops that cannot be closed.

    Examples
    --------
    >>> import dravik as dv
    >>> from dravik.loops import read_loops, study_loops
    >>> found = study_loops(dv.sample("tarn"), read_loops(dv.aircraft.sample_path("tarn") / "loops" / "pitch.toml"))
    >>> found.met, [loop.entry.name for loop in found.loops]
    (True, ['damper', 'hold'])
    """
    require(craft, Aircraft, "the aircraft")
    require(plan, LoopPlan, "the plan", "read_loops(file)")
    names = [entry.name for entry in plan.loop]
    if len(set(names)) < len(names):
        raise DravikError(f"two loops have one name: {', '.join(names)}", expected="names of their own")
    point = trim(craft, **plan.condition) if point is None else point
    craft = in_air_of(craft, point.craft)
    model = _model(craft, plan, point)
    model.indices(plan.hold, "states")
    part = model.part(states=[n for n in model.states if n not in plan.hold]) if plan.hold else model
    moved = inputs_moved(craft, plan, part)
    # an effector is what a loop moves and what comes of it: two names, or the one would be joined to the other
    ends = ends_of(craft, plan)
    plant = part.part(inputs=list(dict.fromkeys(n for terms in moved.values() for n in terms)))
    plant = plant.renamed({n: f"{n} position" for n in dict.fromkeys(ends.values())})
    closed = ClosedLoops(summed(as_system(plant), moved).with_facts(units={}))
    loops: list[ClosedLoop] = []
    for entry in plan.loop:
        own = _channel(closed, entry)
        loops.append(_closed_one(closed, entry, own, f"{ends[entry.name]} position" if entry.name in ends else ""))
        closed = closed.close(entry.name, controller_of(entry, loops[-1].pid))
    return LoopStudy(plan, craft, point, model, loops, closed)


def _model(craft: Aircraft, plan: LoopPlan, point: TrimPoint) -> LinearModel:
    """Return the linear model with what loops measure, and what formulas ask of them, as outputs."""
    wanted = {entry.asked: entry.wanted for entry in plan.loop if entry.wanted}
    if wanted:
        # a law of these formulas alone adds nothing to any command, and no state
        law = {"format": 1, "name": f"{plan.name}, wanted", "formulas": wanted}
        craft = craft.with_law(LawDefinition.model_validate(law))
    at = OperatingInstant.of(craft, point.state, point.inputs) if wanted else point
    outputs = list(dict.fromkeys([*(e.measures for e in plan.loop), *wanted]))
    outputs += [n for n in dict.fromkeys(ends_of(craft, plan).values()) if n not in outputs]
    return linearise_as_run(craft, at, coordinates=point.coordinates, outputs=outputs)


def _channel(closed: ClosedLoops, entry: LoopEntry) -> LinearSystem:
    """Return what the loop is closed around: from what it moves to what it measures, the earlier loops closed."""
    whole = closed.system()
    if entry.moves not in whole.inputs:
        raise DravikError(
            f"the loop {entry.name!r} moves {entry.moves!r}, which no earlier loop reads",
            expected=", ".join(whole.inputs),
        )
    return whole.part(inputs=[entry.moves], outputs=[entry.measures])


def _elements(entry: LoopEntry) -> LinearSystem | None:
    """Return the elements behind the controller, in series, from ``raw`` to ``shaped``."""
    found: LinearSystem | None = None
    for k, e in enumerate(entry.element):
        make: dict[str, Callable[[str, str], LinearSystem]] = {
            "lead": lambda o, i, e=e: lead_compensator(e.lead, e.at, output=o, input=i),  # type: ignore[misc]
            "lag": lambda o, i, e=e: lag_compensator(e.lag, e.at, output=o, input=i),  # type: ignore[misc]
            "washout": lambda o, i, e=e: LinearSystem.filtered(o, i, [1.0, 0.0], [1.0, e.at]),  # type: ignore[misc]
            "notch": lambda o, i, e=e: notch_filter(e.at, depth=e.depth, width=e.width, output=o, input=i),  # type: ignore[misc]
        }
        one = make[e.kind](f"shaped {k}", "raw" if k == 0 else f"shaped {k - 1}")
        found = one if found is None else found.followed_by(one)
    return found


def _pid(entry: LoopEntry, channel: LinearSystem) -> PID:
    """Return the gains that are given, or those that the wish asks for."""
    shaped = _elements(entry)
    around = channel if shaped is None else shaped.renamed(
        {shaped.inputs[0]: "raw in", shaped.outputs[0]: channel.inputs[0]}
    ).followed_by(channel)  # fmt: skip
    if entry.zero is not None and entry.controller == "P":
        # the integral is there when the gain is found: it moves the crossing
        whole = around.inputs[0]
        integral = LinearSystem.filtered(whole, "raw in front", [1.0, entry.zero], [1.0, 0.0])
        around = integral.followed_by(around)
    late = entry.delay or 0.0
    wished = [n for n in DESIGNED if getattr(entry, n) is not None]
    if entry.proportional is not None or not (wished or entry.proportional):
        if wished:
            raise DravikError(f"the loop {entry.name!r} has gains and {wished[0]} too", expected="one of both")
        if entry.proportional is None:
            raise DravikError(f"the loop {entry.name!r} has no gain", expected="proportional, or what it is to do")
        found = PID(entry.proportional, entry.integral, entry.derivative, entry.filter_time or 0.0, entry.weight)
    elif entry.controller != "P":
        if entry.crossover is None:
            raise DravikError(f"the {entry.controller} loop {entry.name!r} has no crossover", expected="one, in rad/s")
        found = _with_zero(entry, around, late) if entry.zero and entry.controller == "PD" else pid_for(
            around, entry.controller, crossover=entry.crossover, phase_margin=entry.phase_margin or "60 deg", delay=late
        )  # fmt: skip
    else:
        found = PID(_gain(entry, around, wished, late))
    if entry.zero is not None and not (found.integral and entry.controller == "PD"):
        if found.integral:
            raise DravikError(f"the loop {entry.name!r} has an integral and a zero too", expected="one of both")
        found = PID(found.proportional, found.proportional * entry.zero, found.derivative, found.filter_time)
    return PID(found.proportional, found.integral, found.derivative, found.filter_time, entry.weight)


def _with_zero(entry: LoopEntry, around: LinearSystem, late: float) -> PID:
    """Return a PD with an integral whose zero is given: together they cross as asked, with the phase margin asked.

    The integral's lag is what the rest leads by besides.
    """
    assert entry.crossover is not None and entry.zero is not None
    wanted = entry.phase_margin if entry.phase_margin is not None else math.radians(60.0)
    asked = wanted
    for _ in range(ROUNDS):
        pd = pid_for(around, "PD", crossover=entry.crossover, phase_margin=asked, delay=late)
        whole = PID(pd.proportional, pd.proportional * entry.zero, pd.derivative, pd.filter_time)
        ratio = whole.at(entry.crossover) / pd.at(entry.crossover)
        asked = wanted - cmath.phase(ratio)
    size = abs(ratio)
    return PID(whole.proportional / size, whole.integral / size, whole.derivative / size, whole.filter_time)


def _gain(entry: LoopEntry, around: LinearSystem, wished: list[str], late: float) -> float:
    if len(wished) != 1:
        raise DravikError(
            f"the gain of the loop {entry.name!r} cannot give {' and '.join(wished)} at once", expected="one of them"
        )
    sign = plant_sign(around, entry.crossover or entry.bandwidth or entry.near)
    positive = around.with_facts(C=sign * around.C, D=sign * around.D)
    if entry.damping is not None and late:
        positive, late = positive.delayed(positive.inputs[0], late, order=ORDER), 0.0
    wish = GainTarget(
        crossover=entry.crossover, phase_margin=entry.phase_margin, bandwidth=entry.bandwidth, damping=entry.damping,
        near=entry.near, gain_margin=None if entry.gain_margin_dB is None else 10.0 ** (entry.gain_margin_dB / 20.0),
    )  # fmt: skip
    try:
        return sign * gain_for(positive, wish, delay=late).gain
    except DravikError as error:
        raise DravikError(f"the loop {entry.name!r}: {error}") from None


def controller_of(entry: LoopEntry, pid: PID) -> LinearSystem:
    """Return the loop's controller with its elements and its delay, from command and measurement to what it moves."""
    shaped = _elements(entry)
    if shaped is None and not entry.delay:
        return pid.system(entry.moves, command=entry.asked, measured=entry.measures)
    found = pid.system("raw", command=entry.asked, measured=entry.measures)
    if shaped is not None:
        found = found.followed_by(shaped)
    found = found.renamed({found.outputs[0]: entry.moves})
    return found.delayed(entry.moves, entry.delay, order=ORDER) if entry.delay else found


def _closed_one(closed: ClosedLoops, entry: LoopEntry, channel: LinearSystem, end: str) -> ClosedLoop:
    pid = _pid(entry, channel)
    exact = entry.model_copy(update={"delay": None})
    late = entry.delay or 0.0
    open_loop = closed.close(entry.name, controller_of(exact, pid)).loop(entry.name)
    if entry.rate is not None:
        from_error = LinearSystem.filtered("raw", channel.outputs[0], *pid.fraction())
        shaped = _elements(entry)
        law = from_error if shaped is None else from_error.followed_by(shaped)
        back = law.with_facts(C=-law.C, D=-law.D)
        open_loop, late = sampled_loop(channel, back, 1.0 / entry.rate, delay=late), 0.0
    found = margins(open_loop, delay=late)
    # the step is of a command, also where a formula stands in its place
    asked = f"{entry.name}_step" if entry.wanted else entry.asked
    together = closed.close(entry.name, controller_of(entry.model_copy(update={"command": asked}), pid))
    whole = together.system([entry.measures, *([end] if end else [])]).part(inputs=[asked, entry.moves])
    step = _answered(whole, entry.measures, asked)
    figures = step.metrics()
    if not abs(figures.end - 1.0) < FOLLOWS:
        # of a damper, whose command is not followed, what passes its small end value is no overshoot
        figures = figures._replace(overshoot=math.nan, peak_time=math.nan)
    lasts = float(step.time[-1])
    pushed = _answered(whole, entry.measures, entry.moves, lasts)
    use = (math.nan, math.nan)
    if end and found.closes:
        used = _answered(whole, end, asked, lasts)
        use = float(np.abs(used.values).max()), float(np.abs(np.diff(used.values)).max() / used.time[1])
    steady = steady_errors(open_loop)
    return ClosedLoop(
        entry, pid, open_loop, found, steady, step, pushed, figures, use, _checks(entry, found, figures),
    )  # fmt: skip


def _answered(system: LinearSystem, output: str, input: str, lasts: float | None = None) -> TimeResponse:
    found = time_response(least(system.part(inputs=[input], outputs=[output])), output, input, duration=lasts)
    if math.isfinite(found.end):
        return found
    # a root that hardly moves, such as a battery's, has no end in the time shown: what stands still there is at its end
    tail, size = found.values[-len(found.values) // 20 :], float(np.abs(found.values).max())
    return replace(found, end=float(tail[-1])) if float(np.ptp(tail)) < STANDS * size else found


def _crossover(found: Margins) -> float:
    """Return the highest frequency at which the gain is one; nan where it never is."""
    return max((c.frequency for c in found.crossings if c.kind == "gain"), default=math.nan)


def _checks(entry: LoopEntry, found: Margins, figures: StepMetrics) -> list[Check]:
    r = entry.require
    # people ask in degrees, and compare in degrees
    angle = None if r.phase_margin is None else math.degrees(r.phase_margin)
    least = (
        ("gain margin", found.gain_decibels, r.gain_margin_dB, "dB"),
        ("phase margin", math.degrees(found.phase), angle, "deg"),
        ("delay margin", found.delay, r.delay_margin, "s"), ("disc margin", found.disc, r.disc, ""),
        ("bandwidth", found.bandwidth, r.bandwidth, "rad/s"),
    )  # fmt: skip
    most = (
        ("overshoot", figures.overshoot, r.overshoot, ""), ("settling", figures.settling, r.settling, "s"),
        ("steady-state error", abs(1.0 - figures.end), r.steady_error, ""),
    )  # fmt: skip
    # a figure that there is not does not meet anything
    checks = [Check(n, v, limit, u, v >= limit * (1.0 - 1e-9)) for n, v, limit, u in least if limit is not None]
    return checks + [
        Check(n, v, limit, u, v <= limit * (1.0 + 1e-9) + 1e-9) for n, v, limit, u in most if limit is not None
    ]
