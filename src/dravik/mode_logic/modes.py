"""State machines: modes side by side with what they set, what leads from one to another, and what the kernel sees.

A flight's phases are a machine too, a plain sequence. The mode a machine is in is an input of its name, whose value
counts the modes from one; each transition is a condition at which the flight pauses at the end of a step.
"""

import re
from collections.abc import Iterable, Mapping, Sequence
from typing import Annotated, Literal

from pydantic import BeforeValidator, ConfigDict, Field, model_validator

from dravik.aircraft.compiling.built import EventSpec, InputSpec
from dravik.definition.fields import Duration, Formula, Model
from dravik.errors import DravikError, nearest
from dravik.formula import Node, name_node, number_node, parse

__all__ = [
    "ANY",
    "END",
    "Machine",
    "Mode",
    "Phase",
    "Transition",
    "is_in_mode",
    "machine_inputs",
    "mode_signals",
    "sequence",
    "set_by",
    "slug",
    "watches",
]

#: Leads out of every mode but the one it leads to.
ANY = "any"
#: Where the flight ends.
END = "end"
EDGE = 1e-9  # s: a time that is over within this is over


class Phase(Model):
    """A part of a flight: inputs that are ``set`` when it begins, and the formula that ends it."""

    name: str = Field(min_length=1, max_length=60)
    set: dict[str, str | float] = Field(default={})
    until: Formula | None = None


class Mode(Model):
    """What happens when a mode begins: inputs and parameters that are ``set``, inputs that ``take`` a signal's value.

    A ``final`` mode is meant to have no way out.
    """

    description: str = ""
    set: dict[str, str | float] = Field(default={})
    take: dict[str, str] = Field(default={})
    final: bool = False


def _listed(value: object) -> object:
    return (value,) if isinstance(value, str) else value


class Transition(Model):
    """What leads from one mode, several, or any other, to another or to the end of the flight.

    ``when`` its condition holds, or ``after`` a time in the mode; both: when the condition holds, but not before that
    time. Of several at once that of the highest ``priority`` counts, of equal ones the first in the file. The
    ``reason`` stands in the log of the flight.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True, defer_build=True)

    source: Annotated[tuple[str, ...], BeforeValidator(_listed)] = Field(alias="from", min_length=1)
    to: str
    when: Formula | None = None
    after: Duration | None = None
    reason: str = ""
    priority: int = 0

    @model_validator(mode="after")
    def _has_condition(self) -> "Transition":
        if self.when is None and self.after is None:
            raise DravikError("neither when nor after", expected='when = a condition, or after = "30 s"')
        return self


class Machine(Model):
    """A state machine: its modes, the one it begins in (the first unless said), and the transitions."""

    description: str = ""
    begin: str = ""
    modes: dict[str, Mode] = Field(min_length=1)
    transitions: tuple[Transition, ...] = ()

    @model_validator(mode="after")
    def _known_modes(self) -> "Machine":
        if not self.begin:
            object.__setattr__(self, "begin", next(iter(self.modes)))
        named = [("begin", self.begin, False)]
        for k, t in enumerate(self.transitions):
            named += [(f"transitions.{k}.from", name, name == ANY) for name in t.source]
            named.append((f"transitions.{k}.to", t.to, t.to == END))
        for key, name, special in named:
            if name not in self.modes and not special:
                known = list(self.modes)
                raise DravikError(
                    f"there is no mode {name!r}", where=key, expected=", ".join(known), hint=nearest(name, known)
                )
        return self

    def number(self, mode: str) -> float:
        """Return the number of a mode."""
        return 1.0 + list(self.modes).index(mode)

    def sources(self, transition: Transition) -> list[str]:
        """Return the modes that a transition leads out of."""
        if ANY in transition.source:
            return [m for m in self.modes if m != transition.to]
        return list(transition.source)


def sequence(phases: Sequence[Phase]) -> Machine:
    """Return the machine of a flight's phases, each of which leads to the next and the last to the flight's end."""
    names = [p.name for p in phases]
    for name in names:
        if names.count(name) > 1:
            raise DravikError(f"two phases are called {name!r}", hint="another name")
    ways = [
        Transition.model_validate({"from": p.name, "to": after, "when": p.until})
        for p, after in zip(phases, [*names[1:], END], strict=True)
        if p.until is not None
    ]
    last = names[-1]
    modes = {p.name: Mode(set=p.set, final=p.name == last) for p in phases}
    return Machine(begin=names[0], modes=modes, transitions=tuple(ways))


def slug(name: str) -> str:
    """Return a name as a part of a signal's name."""
    return re.sub(r"\W+", "_", name).strip("_").lower()


def machine_inputs(machines: Mapping[str, Machine]) -> list[InputSpec]:
    """Return the inputs that tell which mode each machine is in."""
    found = []
    for name, machine in machines.items():
        modes = {mode: machine.number(mode) for mode in machine.modes}
        words = ", ".join(f"{int(k)} {mode}" for mode, k in modes.items())
        begin = machine.number(machine.begin)
        meaning = f"{machine.description or 'mode'}: {words}"
        found.append(InputSpec(name, "", 1.0, float(len(modes)), begin, meaning=meaning, words=modes))
    return found


def is_in_mode(name: str, number: float) -> Node:
    """Return the formula that tells whether a machine is in the mode of a number."""
    return Node("op", 0, "eq", args=(name_node(name), number_node(number)))


def mode_signals(machines: Mapping[str, Machine]) -> dict[str, tuple[Node, str]]:
    """Return a signal for each mode, NAME_is_MODE, with its meaning."""
    found = {}
    for name, machine in machines.items():
        for mode in machine.modes:
            node = is_in_mode(name, machine.number(mode))
            found[f"{name}_is_{slug(mode)}"] = node, f"1 while {name} is {mode}"
    return found


def watches(machines: Mapping[str, Machine]) -> dict[str, tuple[Node, EventSpec, tuple[str, ...]]]:
    """Return the conditions at which the flight pauses for another mode, or ends: condition, event, keys."""
    found: dict[str, tuple[Node, EventSpec, tuple[str, ...]]] = {}
    for name, machine in machines.items():
        order = sorted(range(len(machine.transitions)), key=lambda k, m=machine: -m.transitions[k].priority)  # type: ignore[misc]
        before: list[tuple[set[str], str]] = []
        for k in order:
            way = machine.transitions[k]
            keys = ("phases", str(k), "until") if name == "phase" else ("machines", name, "transitions", str(k), "when")
            sources, own = machine.sources(way), f"{name}_transition_{k + 1}"
            condition = _condition(name, machine, way)
            for others, other in before:
                if others & set(sources):
                    condition = Node("op", 0, "and", args=(condition, Node("op", 0, "not", args=(name_node(other),))))
            before.append((set(sources), own))
            found[own] = condition, _event(name, machine, way), keys
    return found


def _condition(name: str, machine: Machine, way: Transition) -> Node:
    inside = [is_in_mode(name, machine.number(m)) for m in machine.sources(way)]
    condition = inside[0] if inside else number_node(0.0)
    for other in inside[1:]:
        condition = Node("op", 0, "or", args=(condition, other))
    parts = [condition]
    if way.when is not None:
        parts.append(Node("op", 0, "ne", args=(parse(way.when), number_node(0.0))))
    if way.after is not None:
        spent = Node("call", 0, "timer", args=(condition,))
        parts.append(Node("op", 0, "ge", args=(spent, number_node(way.after - EDGE))))
    for part in parts[1:]:
        condition = Node("op", 0, "and", args=(condition, part))
    return condition


def _event(name: str, machine: Machine, way: Transition) -> EventSpec:
    action: Literal["end", "pause"] = "end" if way.to == END else "pause"
    if way.to == END and not way.reason:
        return EventSpec(f"{', '.join(machine.sources(way))} is over", action, ("mode", name, END))
    reason = f" ({way.reason})" if way.reason else ""
    number = END if way.to == END else f"{machine.number(way.to):g}"
    return EventSpec(f"{name}: {way.to}{reason}", action, ("mode", name, number))


def set_by(machines: Mapping[str, Machine]) -> dict[str, list[str]]:
    """Return which machines set each input or parameter."""
    found: dict[str, list[str]] = {}
    for name, machine in machines.items():
        targets: Iterable[str] = {t for mode in machine.modes.values() for t in (*mode.set, *mode.take)}
        for target in targets:
            found.setdefault(target, []).append(name)
    return found
