"""What compiling an aircraft gives beside its program: signals, inputs and events with their units and meanings."""

import math
from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, field, fields, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any, Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.definition.effectors import Effector
from dravik.formula import Tape
from dravik.kernel import Program
from dravik.kernel.program import EVENT_ACTIONS, RATES
from dravik.motion import linked

if TYPE_CHECKING:
    from dravik.kernel.machine_code import OwnCode

__all__ = ["COEFFICIENTS", "Built", "EventSpec", "InputSpec", "Signal", "Where"]

#: Names the place of a key of the definition for messages.
Where = Callable[..., str]


class Signal(NamedTuple):
    """A signal that can be recorded, plotted, or made an output: SI unit, meaning, and what makes it."""

    name: str
    unit: str
    meaning: str
    kind: str


@dataclass(frozen=True)
class InputSpec:
    """An input: SI unit, limits, value when nobody touches it, what a trim does with it, names of some values."""

    name: str
    unit: str = ""
    low: float = -math.inf
    high: float = math.inf
    default: float = 0.0
    trim: bool = False
    follows: str = ""
    meaning: str = ""
    words: Mapping[str, float] = field(default_factory=dict)
    weight: float = 1.0  # of its deflection, where a trim has more inputs than it needs


class EventSpec(NamedTuple):
    """A condition watched in flight: its words, what it does, what follows ``on_pause``, and its name."""

    text: str
    action: Literal["log", "end", "pause"] = "log"
    on_pause: tuple[str, ...] = ()
    name: str = ""


@dataclass(frozen=True)
class Built:
    """All that compiling a definition gives."""

    tape: Tape
    unlinked: Program  # holds no address of this process
    signals: dict[str, Signal]
    inputs: dict[str, InputSpec]
    events: list[EventSpec]
    effectors: dict[str, Effector]
    code: "OwnCode | None" = None

    def __getstate__(self) -> dict[str, Any]:
        # what is sent to another process: addresses of this one would lead nowhere there
        return {f.name: getattr(self, f.name) for f in fields(self)} | {"code": None}

    def with_own_code(self) -> "Built":
        """Return the same with the tape as machine code, made once."""
        return self if self.code is not None else self._own

    @cached_property
    def _own(self) -> "Built":
        from dravik.kernel.machine_code import own_code

        return replace(self, code=own_code(self.unlinked, self.tape))

    @cached_property
    def program(self) -> Program:
        """The program, ready to run in this process."""
        found = linked(self.unlinked)
        return found if self.code is None else self.code.attached(found)

    @cached_property
    def limits(self) -> dict[str, tuple[float, float]]:
        """Ranges of effectors and engine levers, SI."""
        return {n: e.range for n, e in self.effectors.items() if e.range is not None}

    @cached_property
    def derived(self) -> dict[str, Any]:
        """What others have worked out of it once, by name: nothing of it ever changes."""
        return {}

    @cached_property
    def signal_registers(self) -> NDArray[np.int64]:
        """The registers of all signals, in order."""
        return np.array([self.tape.names[n] for n in self.signals], dtype=np.int64)

    def standing_still(self, names: Collection[str]) -> "Built":
        """Return the same with some states whose rate is zero whatever their formula says."""
        layout, zero = self.unlinked.layout.copy(), len(self.tape.registers)
        for i, slot in enumerate(self.tape.states):
            if slot.name in names:
                layout[layout[RATES] + i] = zero
        tape = replace(self.tape, registers=np.append(self.tape.registers, 0.0))
        return replace(self, tape=tape, unlinked=self.unlinked._replace(layout=layout), code=None)

    def never_ending_by(self, name: str) -> "Built":
        """Return the same with an event that is logged and no longer ends a run."""
        layout, events = self.unlinked.layout.copy(), list(self.events)
        for i, event in enumerate(events):
            if event.name == name:
                layout[layout[EVENT_ACTIONS] + i] = 0
                events[i] = event._replace(action="log")
        return replace(self, unlinked=self.unlinked._replace(layout=layout), events=events)


#: What coefficients mean.
COEFFICIENTS: dict[str, str] = {
    "CL": "lift coefficient",
    "CD": "drag coefficient",
    "CY": "side-force coefficient, right positive",
    "CX": "force coefficient along body x",
    "CZ": "force coefficient along body z",
    "Cl": "rolling-moment coefficient about the moment point, right wing down positive",
    "Cm": "pitching-moment coefficient about the moment point, nose up positive",
    "Cn": "yawing-moment coefficient about the moment point, nose right positive",
}
