"""A plan of faults and phases as inputs, formulas and events: what the kernel sees of them."""

from collections.abc import Iterable, Mapping
from functools import partial

from dravik.aircraft.faults import Fault, Phase
from dravik.aircraft.schema import AircraftDefinition
from dravik.aircraft.specs import EventSpec, InputSpec, Where
from dravik.errors import DravikError, nearest
from dravik.formula import Node, name_node, number_node, parse

__all__ = ["check_faults", "plan_inputs", "plan_watches", "sensed_formulas"]


def plan_inputs(faults: Mapping[str, Fault], phases: tuple[Phase, ...]) -> list[InputSpec]:
    """Return the inputs that tell which faults have happened, what they hold, and which phase it is."""
    found = [spec for name, fault in faults.items() for spec in fault.inputs(name)]
    if phases:
        found.append(InputSpec("phase", "", 1.0, float(len(phases)), 1.0, meaning="number of the phase of the flight"))
    return found


def plan_watches(
    faults: Mapping[str, Fault], phases: tuple[Phase, ...]
) -> dict[str, tuple[str | float | Node, EventSpec, tuple[str, ...]]]:
    """Return the conditions at which the flight pauses for a fault or a new phase: condition, event, keys."""
    found: dict[str, tuple[str | float | Node, EventSpec, tuple[str, ...]]] = {}
    for name, fault in faults.items():
        words = f"fault: {name.replace('_', ' ')}"
        found[f"fault_{name}_happens"] = (
            fault.condition, EventSpec(words, "pause", ("fault", name)), ("faults", name, "when"),
        )  # fmt: skip
    for k, phase in enumerate(phases, start=1):
        if phase.until is None:
            continue
        now = Node("op", 0, "eq", args=(name_node("phase"), number_node(float(k))))
        over = Node("op", 0, "ne", args=(parse(phase.until), number_node(0.0)))
        words = f"phase: {phases[k].name}" if k < len(phases) else f"{phase.name} is over"
        event = EventSpec(words, "pause" if k < len(phases) else "end", ("phase", str(k)))
        found[f"phase_{k}_is_over"] = (
            Node("op", 0, "and", args=(now, over)), event, ("phases", str(k - 1), "until"),
        )  # fmt: skip
    return found


def check_faults(
    definition: AircraftDefinition, effectors: Iterable[str], signals: Iterable[str], where: Where
) -> None:
    """Refuse faults of what is not there."""
    effectors, signals = list(effectors), list(signals)
    for name, fault in definition.faults.items():
        fault.check(partial(where, "faults", name))
        for key, known in (
            ("engine", definition.engines), ("control", effectors), ("signal", signals), ("tank", definition.tanks),
        ):  # fmt: skip
            asked = getattr(fault, key, None)
            if asked is not None and asked not in known:
                raise DravikError(
                    f"there is no {key} {asked!r}", where=where("faults", name, key), hint=nearest(asked, known)
                )


def sensed_formulas(faults: Mapping[str, Fault], units: Mapping[str, str]) -> dict[str, tuple[Node, str]]:
    """Return what laws read in place of signals with a faulty sensor: formula and unit by signal."""
    found: dict[str, tuple[Node, str]] = {}
    for key, fault in faults.items():
        signal = getattr(fault, "signal", "")
        true = found[signal][0] if signal in found else name_node(signal)
        node = fault.signal_node(key, units.get(signal, ""), true)
        if node is not None:
            found[signal] = node, units.get(signal, "")
    return found
