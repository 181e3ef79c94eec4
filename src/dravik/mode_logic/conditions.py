"""Mode logic as the kernel sees it: an input for the active mode, a signal for each mode, conditions of transitions."""

from collections.abc import Mapping
from typing import Literal

from dravik.definition.signals import EventSpec, InputSpec
from dravik.formula import Node, name_node, number_node, parse
from dravik.mode_logic.modes import END, ModeLogic, Transition, slug

__all__ = ["is_in_mode", "mode_inputs", "mode_signals", "watches"]


def mode_inputs(mode_logic: Mapping[str, ModeLogic]) -> list[InputSpec]:
    """Return the inputs that tell which mode of each mode logic is active."""
    found = []
    for name, logic in mode_logic.items():
        modes = {mode: logic.number(mode) for mode in logic.modes}
        words = ", ".join(f"{int(k)} {mode}" for mode, k in modes.items())
        begin = logic.number(logic.begin)
        meaning = f"{logic.description or 'mode'}: {words}"
        found.append(InputSpec(name, "", 1.0, float(len(modes)), begin, meaning=meaning, words=modes))
    return found


EDGE = 1e-9  # s: a time that is over within this is over


def is_in_mode(name: str, number: float) -> Node:
    """Return the formula that tells whether the mode of a number is active."""
    return Node("op", 0, "eq", args=(name_node(name), number_node(number)))


def mode_signals(mode_logic: Mapping[str, ModeLogic]) -> dict[str, tuple[Node, str]]:
    """Return a signal for each mode, NAME_is_MODE, with its meaning."""
    found = {}
    for name, logic in mode_logic.items():
        for mode in logic.modes:
            node = is_in_mode(name, logic.number(mode))
            found[f"{name}_is_{slug(mode)}"] = node, f"1 while {name} is {mode}"
    return found


def watches(mode_logic: Mapping[str, ModeLogic]) -> dict[str, tuple[Node, EventSpec, tuple[str, ...]]]:
    """Return the conditions at which the flight pauses for another mode, or ends: condition, event, keys."""
    found: dict[str, tuple[Node, EventSpec, tuple[str, ...]]] = {}
    for name, logic in mode_logic.items():
        order = sorted(range(len(logic.transitions)), key=lambda k, m=logic: -m.transitions[k].priority)  # type: ignore[misc]
        before: list[tuple[set[str], str]] = []
        for k in order:
            transition = logic.transitions[k]
            keys = (
                ("phases", str(k), "until") if name == "phase" else ("mode_logic", name, "transitions", str(k), "when")
            )
            sources, own = logic.sources(transition), f"{name}_transition_{k + 1}"
            condition = _condition(name, logic, transition)
            for others, other in before:
                if others & set(sources):
                    condition = Node("op", 0, "and", args=(condition, Node("op", 0, "not", args=(name_node(other),))))
            before.append((set(sources), own))
            found[own] = condition, _event(name, logic, transition), keys
    return found


def _condition(name: str, logic: ModeLogic, transition: Transition) -> Node:
    inside = [is_in_mode(name, logic.number(m)) for m in logic.sources(transition)]
    condition = inside[0] if inside else number_node(0.0)
    for other in inside[1:]:
        condition = Node("op", 0, "or", args=(condition, other))
    parts = [condition]
    if transition.when is not None:
        parts.append(Node("op", 0, "ne", args=(parse(transition.when), number_node(0.0))))
    if transition.after is not None:
        spent = Node("call", 0, "timer", args=(condition,))
        parts.append(Node("op", 0, "ge", args=(spent, number_node(transition.after - EDGE))))
    for part in parts[1:]:
        condition = Node("op", 0, "and", args=(condition, part))
    return condition


def _event(name: str, logic: ModeLogic, transition: Transition) -> EventSpec:
    action: Literal["end", "pause"] = "end" if transition.to == END else "pause"
    if transition.to == END and not transition.reason:
        return EventSpec(f"{', '.join(logic.sources(transition))} is over", action, ("mode", name, END))
    reason = f" ({transition.reason})" if transition.reason else ""
    number = END if transition.to == END else f"{logic.number(transition.to):g}"
    return EventSpec(f"{name}: {transition.to}{reason}", action, ("mode", name, number))
