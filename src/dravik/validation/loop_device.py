"""Loops of a study as a device of a flight: at samples, with a computing delay, through sensors and drives."""

from collections.abc import Mapping

import numpy as np

from dravik.definition import arguments
from dravik.definition.signals import signed_names
from dravik.errors import DravikError, require
from dravik.loops import LoopStudy, Nonlinearity
from dravik.loops.study import controller_of
from dravik.units import in_si

__all__ = ["SampledLoops"]


class SampledLoops:
    """A device that runs a study's loops at a ``rate`` (Hz) about its trimmed point, and steps one command at 0.5 s.

    Controllers are turned into difference equations by the bilinear rule, the outer ones first; ``delay`` (s), whole
    samples, lies between a sample and its commands. ``through`` puts a ``Nonlinearity`` behind a sensor (the name of
    what is measured: steps, say) or before an effector (backlash, dead zone). Raises DravikError for a delay that is no
    whole number of samples, and for a loop whose command is a formula.

    >>> import dravik as dv
    >>> from dravik.loops import read_loops, study_loops
    >>> study = study_loops(dv.sample("tarn"), read_loops(dv.aircraft.sample_path("tarn") / "loops" / "pitch.toml"))
    >>> SampledLoops(study, rate=50.0, command="theta_command", size=0.01, delay="40 ms").late
    2
    """

    def __init__(
        self, study: LoopStudy, *, rate: float, command: str, size: float, at: float = 0.5, delay: str | float = 0.0,
        through: Mapping[str, Nonlinearity] | None = None,
    ) -> None:  # fmt: skip
        require(study, LoopStudy, "the study", "study_loops(craft, plan)")
        self.rate = arguments.number(rate, "rate")
        if not self.rate > 0.0:
            raise DravikError(f"the rate cannot be {rate:g} Hz", expected="above zero")
        late = in_si(delay, "time", where="delay") * self.rate
        self.late = round(late)
        if abs(late - self.late) > 1e-6 or late < 0.0:
            raise DravikError(
                f"the delay cannot be {late:.4g} samples", expected="a whole number of them, zero or more"
            )
        self.through = arguments.mapping(through or {}, "through")
        for name, n in self.through.items():
            require(n, Nonlinearity, f"what {name} goes through", "Nonlinearity('backlash', 0.01)")
        self.command, self.size, self.at = command, size, at
        self._make(study)

    def _make(self, study: LoopStudy) -> None:
        """Lay out the difference equations, the outer loops first."""
        entries = list(reversed(study.plan.loop))
        wanted = [e.name for e in entries if e.wanted]
        if wanted:
            raise DravikError(f"the loop {wanted[0]!r} follows a formula", expected="commands; fly its law instead")
        self.names = [(e.name, e.asked, e.measures, e.moves) for e in entries]
        self.adds = {e.moves: list(e.adds) for e in entries if e.adds}
        self.trimmed = {e.measures: float(study.point[e.measures]) for e in entries}
        self.matrices, self.states = [], []
        for e in entries:
            exact = e.model_copy(update={"delay": None})
            system = controller_of(exact, study.loop(e.name).pid).discretised(1.0 / self.rate, method="bilinear")
            self.matrices.append([m.tolist() for m in (system.A, system.B, system.C, system.D)])
            self.states.append([0.0] * len(system.states))
        moved = {e.moves for e in entries} - {e.asked for e in entries}
        self.waiting: list[dict[str, float]] = [dict.fromkeys(sorted(moved), 0.0) for _ in range(self.late)]
        self.last: dict[str, float] = {}

    def update(self, t: float, signals: Mapping[str, float]) -> dict[str, float]:
        """Return what is added to the effectors' commands until the next sample."""
        asked = {self.command: self.size if t >= self.at - 1e-9 else 0.0}
        given: dict[str, float] = {}
        for k, (_name, command, measures, moves) in enumerate(self.names):
            seen = self._passed(measures, float(signals[measures])) - self.trimmed[measures]
            a, b, c, d = (np.array(m) for m in self.matrices[k])
            x, u = np.array(self.states[k]), np.array([asked.get(command, 0.0), seen])
            out = float((c @ x)[0] + (d @ u)[0]) if len(x) else float((d @ u)[0])
            self.states[k] = (a @ x + b @ u).tolist() if len(x) else []
            inner = any(moves == row[1] for row in self.names)
            target = asked if inner else given
            target[moves] = target.get(moves, 0.0) + out
        self.waiting.append(given)
        ready = self.waiting.pop(0)
        found: dict[str, float] = {}
        for name, value in ready.items():
            ends = dict.fromkeys(self.adds[name], 1.0) if name in self.adds else signed_names(name)
            for end, sign in ends.items():
                found[end] = found.get(end, 0.0) + sign * value
        return {end: self._passed(end, value) for end, value in found.items()}

    def _passed(self, name: str, value: float) -> float:
        """Return a value behind the nonlinearity of its name, if it has one."""
        n = self.through.get(name)
        if n is None:
            return value
        now: float = n.after(value, self.last.get(name, value), 1.0 / self.rate)
        self.last[name] = now
        return now
