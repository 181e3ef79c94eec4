"""The script of a flight, faults, gusts and phases, as inputs, formulas and events: what the kernel sees of it."""

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property, partial
from typing import Any

from dravik.aircraft.description.faults import Fault
from dravik.definition import arguments
from dravik.definition.signals import EventSpec, InputSpec, Where
from dravik.errors import DravikError, nearest, require
from dravik.formula import Node, name_node
from dravik.mode_logic.modes import ModeLogic, Phase, sequence
from dravik.surroundings.discrete_gusts import DiscreteGust

__all__ = ["FlightScript"]


@dataclass(frozen=True)
class FlightScript:
    """What is to happen in a flight: faults and gusts by name, its phases in their order, mode logic beside them."""

    faults: Mapping[str, Fault] = field(default_factory=dict)
    phases: tuple[Phase, ...] = ()
    others: Mapping[str, ModeLogic] = field(default_factory=dict)
    gusts: Mapping[str, DiscreteGust] = field(default_factory=dict)

    def __bool__(self) -> bool:
        """Whether anything is to happen."""
        return bool(self.faults or self.phases or self.others or self.gusts)

    def extended(
        self, faults: Mapping[str, Fault], phases: Sequence[Phase], others: Mapping[str, ModeLogic],
        gusts: Mapping[str, DiscreteGust],
    ) -> "FlightScript":  # fmt: skip
        """Return the script with more faults, gusts and mode logic, and with other phases.

        Raises DravikError for mode logic that is none.
        """
        for name, logic in arguments.mapping(others, "mode_logic").items():
            require(logic, ModeLogic, f"the mode logic {name}", "ModeLogic.model_validate({...})")
        return FlightScript(
            {**self.faults, **faults}, tuple(phases), {**self.others, **others}, {**self.gusts, **gusts}
        )

    @cached_property
    def mode_logic(self) -> dict[str, ModeLogic]:
        """The mode logic of the flight: that of its phases, named ``phase``, and others."""
        return ({"phase": sequence(self.phases)} if self.phases else {}) | dict(self.others)

    def inputs(self) -> list[InputSpec]:
        """Return the inputs that tell which faults have happened, and what they hold."""
        return [spec for name, fault in self.faults.items() for spec in fault.inputs(name)]

    def watches(self) -> dict[str, tuple[str | float | Node, EventSpec, tuple[str, ...]]]:
        """Return the conditions at which the flight pauses for a fault or a gust: condition, event, keys."""
        found: dict[str, tuple[str | float | Node, EventSpec, tuple[str, ...]]] = {}
        for name, fault in self.faults.items():
            event = EventSpec(f"fault: {name.replace('_', ' ')}", "pause", ("fault", name))
            found[f"fault_{name}_happens"] = fault.condition, event, ("faults", name, "when")
        for name, gust in self.gusts.items():
            event = EventSpec(f"gust: {name.replace('_', ' ')}", "pause", ("gust", name))
            found[f"gust_{name}_begins"] = gust.condition, event, ("gusts", name, "when")
        return found

    def check(self, known: Mapping[str, Iterable[str]], where: Where) -> None:
        """Raise DravikError for faults of what is not there; ``known`` are names by engine, control, signal, tank."""
        for name, gust in self.gusts.items():
            gust.check(partial(where, "gusts", name))
        for name, fault in self.faults.items():
            fault.check(partial(where, "faults", name))
            for key, names in known.items():
                asked = getattr(fault, key, None)
                if asked is not None and asked not in names:
                    hint = nearest(asked, names)
                    raise DravikError(f"there is no {key} {asked!r}", where=where("faults", name, key), hint=hint)

    def sensed(self, units: Mapping[str, str], own: Collection[str] = ()) -> dict[str, tuple[Node, str]]:
        """Return what laws read in place of signals with a faulty sensor: formula and unit by signal.

        Faults of what is named in ``own``, sensors on board and their outputs, are those sensors' matter.
        """
        found: dict[str, tuple[Node, str]] = {}
        for key, fault in self.faults.items():
            signal = getattr(fault, "signal", "")
            if not signal or signal in own:
                continue
            true = found[signal][0] if signal in found else name_node(signal)
            node = fault.signal_node(key, units.get(signal, ""), true)
            if node is not None:
                found[signal] = node, units.get(signal, "")
        return found

    def as_data(self) -> dict[str, Any]:
        """Return the script as plain data."""
        return {
            "faults": {n: f.model_dump(exclude_none=True) for n, f in self.faults.items()},
            "gusts": {n: g.model_dump(exclude_none=True) for n, g in self.gusts.items()},
            "phases": [p.model_dump(exclude_none=True) for p in self.phases],
        }
