"""Laws as they run: at a rate of their own, with a computing delay, engaged and disengaged without a jump."""

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace

from dravik.aircraft.description.schema import LawDefinition
from dravik.definition.signals import InputSpec, Where
from dravik.errors import DravikError
from dravik.formula import Node, name_node, number_node, parse
from dravik.mode_logic.modes import slug

__all__ = [
    "LawParts", "engagements", "followers", "given_names", "law_inputs", "law_parts", "sampled_names",
]  # fmt: skip

# functions whose period is that of the law where none is given, and the place of that argument
_PERIODS = {"previous": 1, "moving_average": 2}


@dataclass
class LawParts:
    """What laws become: nodes by formula in place of their text, signals that are sampled for them, and additions.

    ``sampled`` gives for each further formula its node and the signal that it samples, ``held`` what a law with a rate
    adds, and to which command.
    """

    formulas: dict[str, Node] = field(default_factory=dict)
    sampled: dict[str, tuple[Node, str]] = field(default_factory=dict)
    held: dict[str, tuple[Node, str]] = field(default_factory=dict)
    added: dict[str, list[Node]] = field(default_factory=dict)


def engagements(laws: Sequence[LawDefinition]) -> dict[str, LawDefinition]:
    """Return the laws that can be disengaged, by the input that engages them."""
    return {f"engaged_{slug(law.name)}": law for law in laws if law.fade is not None}


def law_inputs(laws: Sequence[LawDefinition]) -> list[InputSpec]:
    """Return the inputs that engage laws: 1 unless they are set."""
    return [
        InputSpec(name, "", 0.0, 1.0, 1.0, meaning=f"1: the law {law.name} is engaged")
        for name, law in engagements(laws).items()
    ]


def law_parts(laws: Sequence[LawDefinition], unchanging: Collection[str], where: Where) -> LawParts:
    """Return the formulas of all laws as they run; ``unchanging`` are names that need no sampling.

    Raises FormulaError for what cannot be read, DravikError for a delay without a rate.
    """
    found = LawParts()
    for law in laws:
        if law.rate is None and law.delay:
            raise DravikError(f"law {law.name!r} has a delay and no rate", hint='rate = "50 Hz"; or delay(x, time)')
        change = _changer(law, unchanging, found)
        for name, entry in law.formulas.items():
            found.formulas[name] = change(parse(entry.formula, where=where("formulas", name)))
        for name, text in law.add.items():
            node = _faded(law, change(parse(text, where=where("add", name))))
            if law.rate is not None:
                node = Node("call", 0, "sampled", args=(node, number_node(1.0 / law.rate), number_node(law.delay)))
                found.held[_given(name, law)] = node, name
                node = name_node(_given(name, law))
            found.added.setdefault(name, []).append(node)
    return found


def _given(target: str, law: LawDefinition) -> str:
    return f"{target}_from_{slug(law.name)}"


def given_names(law: LawDefinition) -> list[str]:
    """Return the signals that hold what a law with a rate adds."""
    return [_given(name, law) for name in law.add]


def sampled_names(signals: Collection[str], law: LawDefinition) -> list[str]:
    """Return the signals that are what a law with a rate reads, as it was sampled."""
    end = f"_of_{slug(law.name)}"
    return [n for n in signals if n.endswith(end)]


def _changer(law: LawDefinition, unchanging: Collection[str], found: LawParts) -> Callable[[Node], Node]:
    """Return what turns a formula of a law into that which runs."""
    if law.rate is None and law.fade is None:
        return lambda node: node
    own = {*law.formulas, *law.parameters, *law.tables, *unchanging}
    period = 0.0 if law.rate is None else 1.0 / law.rate
    engaged = f"engaged_{slug(law.name)}"

    def change(node: Node) -> Node:
        if node.kind == "name":
            return node if law.rate is None or node.name in own else _sampled(node)
        args = tuple(change(a) for a in node.args)
        if node.kind != "call":
            return replace(node, args=args) if args else node
        if node.name in _PERIODS and law.rate is not None:
            k = _PERIODS[node.name]
            if args[k].kind == "number" and args[k].value == 0.0:
                args = (*args[:k], number_node(period))
        if node.name == "integral" and law.fade is not None:
            whiled = (args[0], name_node(engaged), number_node(law.fade), *args[1:])
            return replace(node, name="integral_while", args=whiled)
        return replace(node, args=args)

    def _sampled(node: Node) -> Node:
        name = f"{node.name}_of_{slug(law.name)}"
        found.sampled[name] = Node("call", 0, "sampled", args=(node, number_node(period), number_node(0.0))), node.name
        return replace(node, name=name)

    return change


def _faded(law: LawDefinition, node: Node) -> Node:
    """Return what a law adds, nothing while it is disengaged, without a jump when that changes."""
    if law.fade is None:
        return node
    engaged = name_node(f"engaged_{slug(law.name)}")
    chosen = Node("op", 0, "if_else", args=(engaged, node, number_node(0.0)))
    return Node("call", 0, "blend", args=(chosen, engaged, number_node(law.fade)))


def followers(law: LawDefinition) -> Mapping[str, str]:
    """Return the inputs of a law that take over the present value of a signal when it is engaged."""
    return {name: entry.follows for name, entry in law.inputs.items() if entry.follows}
