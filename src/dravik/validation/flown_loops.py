"""A loop as it is flown: steps of growing size by the whole aircraft, laid over the step of its linear model."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import tomli
from numpy.typing import NDArray

from dravik.aircraft import Aircraft, LawDefinition
from dravik.errors import DravikError, require
from dravik.flight.flying import fly
from dravik.flight.histories import step
from dravik.host.cores import in_threads
from dravik.linear import linearise
from dravik.loops import LoopStudy, Nonlinearity, law_of
from dravik.loops.open_loop_response import least
from dravik.loops.root_assignment import as_system
from dravik.recording.recording import Recording
from dravik.systems import TimeResponse, time_response
from dravik.trimming import TrimPoint, trim
from dravik.units import in_si
from dravik.validation.loop_device import SampledLoops

__all__ = ["FlownLoop", "FlownStep", "engaged", "fly_loop"]

Floats = NDArray[np.float64]
PART = 0.05  # of the linear response's largest value: where the flown one is said to part
AT_STOP = 0.999  # of an effector's range or rate
BEYOND = "no effector at a limit: samples, delays, or the aircraft itself, which is not linear so far away"
RECENT = 2.0  # s: a limit or an event that long before the responses part may be why
BEGINS = 0.5  # s: when the command steps


@dataclass(frozen=True)
class FlownStep:
    """One flown step, and when it parts from the linear one.

    ``size`` (SI), the flight, the response over the size by ``time`` from the step on, when it ``parts`` from the
    linear response (s; inf if never), and ``why``: the limit or the event that explains it, and when.
    """

    size: float
    run: Recording
    time: Floats
    values: Floats
    parts: float
    why: str


@dataclass(frozen=True)
class FlownLoop:
    """Flown steps of a command over the linear one: ``linear`` is that of the whole model, nothing held."""

    command: str
    measured: str
    linear: TimeResponse
    steps: list[FlownStep]

    def rows(self) -> list[dict[str, Any]]:
        """Return one record for each size."""
        return [
            {
                "size": s.size, "parts_after_s": s.parts, "largest_difference": float(np.max(np.abs(
                    s.values - np.interp(s.time, self.linear.time, self.linear.values)))), "why": s.why,
            }
            for s in self.steps
        ]  # fmt: skip


def engaged(study: LoopStudy) -> tuple[Aircraft, TrimPoint]:
    """Return the aircraft with the law of a study engaged, and trimmed at the study's condition.

    Parameters
    ----------
    study : LoopStudy
        The loops as designed.

    Returns
    -------
    tuple (Aircraft, TrimPoint)
        The aircraft, and its trimmed point.

    Examples
    --------
    >>> import dravik as dv
    >>> from dravik.loops import read_loops, study_loops
    >>> plan = read_loops(dv.aircraft.sample_path("tarn") / "loops" / "pitch.toml")
    >>> craft, point = engaged(study_loops(dv.sample("tarn"), plan))
    >>> "theta_command" in craft.input_names
    True
    """
    require(study, LoopStudy, "the study", "study_loops(craft, plan)")
    definition = LawDefinition.model_validate(tomli.loads(law_of(study)))
    craft = study.craft.with_law(definition)
    return craft, trim(craft, **study.plan.condition)


def fly_loop(
    study: LoopStudy, sizes: Sequence[str | float], *, duration: str | float = 15.0, command: str = "",
    rate: float | None = None, delay: str | float = 0.0, through: Mapping[str, Nonlinearity] | None = None,
) -> FlownLoop:  # fmt: skip
    """Return steps of a study's command, flown by the whole aircraft with its limits, over the linear model's step.

    ``command`` is the outermost one unless given, ``sizes`` angles with units or SI numbers, growing. Says when
    each parts by 5 % of the largest linear value, and which effector was at a stop or its rate limit before that.
    With a ``rate`` (Hz) the loops run at samples, with a computing ``delay`` and what signals go ``through``, as
    ``SampledLoops`` says; without, the law's delays are not in it.

    Parameters
    ----------
    study : LoopStudy
        The loops as designed.
    sizes : sequence of str or float
        Sizes of the steps, with their unit or in SI, growing.
    duration : str or float, default 15.0
        With its unit or in s.
    command : str, default ""
        The input that steps; the outermost command unless given.
    rate : float, optional
        Rate of the loops, Hz; continuous without.
    delay : str or float, default 0.0
        Dead time, with its unit or in s.
    through : mapping of str to Nonlinearity, optional
        Nonlinearities by the signal they act on.

    Returns
    -------
    FlownLoop

    Raises
    ------
    DravikError
        For a command that is no input of the law, and for a delay or nonlinearities without a rate.

    Examples
    --------
    >>> import dravik as dv
    >>> from dravik.loops import read_loops, study_loops
    >>> plan = read_loops(dv.aircraft.sample_path("tarn") / "loops" / "pitch.toml")
    >>> found = fly_loop(study_loops(dv.sample("tarn"), plan), ["0.5 deg"], duration=5.0)
    >>> found.steps[0].parts
    inf
    """
    craft, point = engaged(study)
    outer = [e for e in study.plan.loop if e.asked in craft.input_names]
    entry = next((e for e in outer if e.asked == command), None) if command else (outer[-1] if outer else None)
    if entry is None:
        raise DravikError(
            f"the law has no command {command!r}" if command else "the law has no command",
            expected=", ".join(e.asked for e in outer) or "a loop whose command no other loop gives",
        )
    lasts = in_si(duration, "time", where="duration")
    if not 0.1 <= lasts <= 600.0:
        raise DravikError(f"the duration cannot be {lasts:g} s", expected="0.1 to 600 s")
    unit = craft.inputs[entry.asked].unit
    kind = {"rad": "angle", "rad/s": "angular rate", "m": "length", "m/s": "speed"}.get(
        craft.signal(entry.measures).unit
    )
    whole = linearise(craft, point, outputs=[entry.measures]).part(inputs=[entry.asked], outputs=[entry.measures])
    linear = time_response(least(as_system(whole)), entry.measures, entry.asked, duration=lasts)
    if rate is None and (delay or through):
        raise DravikError("a delay or a nonlinearity needs a rate", expected="rate=..., Hz: the loops at samples")

    def flown(given: str | float) -> FlownStep:
        size = in_si(given, kind, where="sizes") if kind and isinstance(given, str) else float(given)
        if not math.isfinite(size) or size == 0.0:
            raise DravikError(f"a step cannot have the size {given!r}", where="sizes", expected="other than zero")
        if rate is None:
            moved: dict[str, Any] = {"controls": {entry.asked: step(f"{size!r} {unit}".strip(), at=BEGINS)}}
            return _flown((craft, point), moved, entry.measures, size, linear)
        device = SampledLoops(
            study, rate=rate, command=entry.asked, size=size, at=BEGINS, delay=delay, through=through
        )  # fmt: skip
        return _flown((study.craft, study.point), {"devices": [device]}, entry.measures, size, linear)

    return FlownLoop(entry.asked, entry.measures, linear, in_threads(flown, sizes))


def _flown(
    begun: tuple[Aircraft, TrimPoint], moved: dict[str, Any], measured: str, size: float, linear: TimeResponse
) -> FlownStep:  # fmt: skip
    craft, point = begun
    run = fly(
        craft.over_no_ground(), start=point, duration=BEGINS + float(linear.time[-1]),
        record=[measured, *_limited(craft)], **moved,
    )  # fmt: skip
    after = run.time >= BEGINS - 1e-9
    t = run.time[after] - BEGINS
    values = (run[measured][after] - run[measured][0]) / size
    expected = np.interp(t, linear.time, linear.values)
    off = np.flatnonzero(np.abs(values - expected) > PART * float(np.abs(linear.values).max()))
    parts = float(t[off[0]]) if len(off) else math.inf
    return FlownStep(size, run, t, values, parts, _why(craft, run, parts + BEGINS))


def _limited(craft: Aircraft) -> dict[str, tuple[tuple[float, float] | None, float | None]]:
    """Return range and greatest rate of every effector and engine throttle that a recording can have."""
    rates = {n: c.rate for n, c in craft.definition.controls.items()}
    rates |= {f"power_{n}": e.rate for n, e in craft.definition.engines.items()}
    return {n: (craft.limits.get(n), rate) for n, rate in rates.items() if n in craft.signals}


def _why(craft: Aircraft, run: Recording, until: float) -> str:
    """Return what explains that the responses part at a time (s of the run), in words.

    An event of the aircraft's own, such as a stall, not long before; else the limits that effectors stood at then; else
    those that they met earlier, the last one first.
    """
    if math.isinf(until):
        return ""
    own = [e for e in run.events if until - RECENT <= e.time <= until + 1e-9 and not e.text.startswith("flown for")]
    events = [e for e in own if " at its " not in e.text and "beyond its" not in e.text]
    if events:
        return f"{events[-1].text} at {events[-1].time - BEGINS:.2f} s"
    met = [(when, end, what) for when, end, what in _limits_met(craft, run) if when + BEGINS <= until]
    if not met:
        return BEYOND
    standing = [m for m in met if m[1] + BEGINS >= until - RECENT]
    told = standing or [max(met, key=lambda m: m[1])]
    return "; ".join(f"{what} from {when:.2f} s on" for when, _, what in sorted(told))


def _limits_met(craft: Aircraft, run: Recording) -> list[tuple[float, float, str]]:
    """Return each limit that an effector met: from when and until when last (s after the step), and in words."""
    met: list[tuple[float, float, str]] = []

    def seen(at: NDArray[np.intp], what: str) -> None:
        times = run.time[at] - BEGINS
        times = times[times > 0.0]
        if len(times):
            met.append((float(times[0]), float(times[-1]), what))

    for name, (limits, rate) in _limited(craft).items():
        values = run[name]
        # an effector that rests at its stop, as flaps do, explains nothing
        moves = limits is not None and bool(np.ptp(values) > 1e-6 * (limits[1] - limits[0]))
        if limits is not None and moves and np.all(np.isfinite(limits)):
            low, high = limits
            at = np.flatnonzero((values <= low + 1e-3 * (high - low)) | (values >= high - 1e-3 * (high - low)))
            seen(at, f"{name} at its stop")
        if rate is not None:
            at = np.flatnonzero(np.abs(np.gradient(values, run.time)) >= AT_STOP * rate)
            seen(at, f"{name} at its greatest rate")
    return met
