"""What compiling an aircraft gives: its tape and program, with signals, inputs, effectors and events by name."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field, fields, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from dravik.definition.effectors import Effector
from dravik.definition.signals import EventSpec, InputSpec, Signal
from dravik.formula import Tape
from dravik.kernel import Program
from dravik.kernel.program import EVENT_ACTIONS, RATES
from dravik.motion import linked

if TYPE_CHECKING:
    from dravik.kernel.machine_code import TapeCode

__all__ = [
    "CompiledAircraft",
]


@dataclass(frozen=True)
class CompiledAircraft:
    """All that compiling a definition gives."""

    tape: Tape
    unlinked: Program  # holds no address of this process
    signals: dict[str, Signal]
    inputs: dict[str, InputSpec]
    events: list[EventSpec]
    effectors: dict[str, Effector]
    code: "TapeCode | None" = None
    sources: Mapping[str, str] = field(default_factory=dict)  # of what laws read, by signal, where it is not all truth

    def __getstate__(self) -> dict[str, Any]:
        # what is sent to another process: addresses of this one would lead nowhere there
        return {f.name: getattr(self, f.name) for f in fields(self)} | {"code": None}

    def with_machine_code(self) -> "CompiledAircraft":
        """Return the same with the tape as machine code, made once."""
        return self if self.code is not None else self._own

    @cached_property
    def _own(self) -> "CompiledAircraft":
        from dravik.kernel.machine_code import tape_code

        return replace(self, code=tape_code(self.unlinked, self.tape))

    @cached_property
    def program(self) -> Program:
        """The program, ready to run in this process."""
        found = linked(self.unlinked)
        return found if self.code is None else self.code.attached(found)

    @cached_property
    def limits(self) -> dict[str, tuple[float, float]]:
        """Ranges of effectors and engine throttles, SI."""
        return {n: e.range for n, e in self.effectors.items() if e.range is not None}

    @cached_property
    def derived(self) -> dict[str, Any]:
        """What others have worked out of it once, by name: nothing of it ever changes."""
        return {}

    @cached_property
    def signal_registers(self) -> NDArray[np.int64]:
        """The registers of all signals, in order."""
        return np.array([self.tape.names[n] for n in self.signals], dtype=np.int64)

    def standing_still(self, names: Collection[str]) -> "CompiledAircraft":
        """Return the same with some states whose rate is zero whatever their formula says."""
        # a register of zero beyond all others stands for their rate: formulas and registers stay as they are
        layout, zero = self.unlinked.layout.copy(), len(self.tape.registers)
        for i, slot in enumerate(self.tape.states):
            if slot.name in names:
                layout[layout[RATES] + i] = zero
        tape = replace(self.tape, registers=np.append(self.tape.registers, 0.0))
        return replace(self, tape=tape, unlinked=self.unlinked._replace(layout=layout), code=None)

    def never_ending_by(self, name: str) -> "CompiledAircraft":
        """Return the same with an event that is logged and no longer ends a run."""
        layout, events = self.unlinked.layout.copy(), list(self.events)
        for i, event in enumerate(events):
            if event.name == name:
                layout[layout[EVENT_ACTIONS] + i] = 0
                events[i] = event._replace(action="log")
        return replace(self, unlinked=self.unlinked._replace(layout=layout), events=events)
