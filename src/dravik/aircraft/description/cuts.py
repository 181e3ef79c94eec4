"""Opened signals: their readers get another signal (a broken loop, a disturbance, a sensor, an estimate, a fault).

One mechanism for all of them: a formula ``sensed_NAME`` stands in the place of the signal for those who read it.
"""

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any, Literal

from pydantic import ValidationError

from dravik.definition.fields import Formula, Model
from dravik.definition.signals import InputSpec
from dravik.errors import DravikError
from dravik.formula import Node, TapeBuilder, name_node, parse

__all__ = ["Opening", "Wiring", "checked", "opening_inputs", "renamed"]


class Opening(Model):
    """One signal opened for those who read it.

    ``broken``: they read the input ``NAME_injected``; ``disturbed``: the signal plus the input ``NAME_disturbance``;
    ``replaced``: a ``formula``, which may read the signal itself and have states (a sensor, an estimate). ``readers``
    are formulas by name. Unless given: of what the motion gives (q, airspeed, ...) the laws and the commands of
    controls, of everything else all who read it but the signal's own formula.

    >>> import dravik as dv
    >>> dv.Opening(signal="q", kind="broken").input
    'q_injected'
    """

    signal: str
    kind: Literal["broken", "disturbed", "replaced"]
    formula: Formula | None = None
    readers: tuple[str, ...] = ()

    def __init__(self, **given: Any) -> None:
        """Take the keys above; raises DravikError for others, and for values of another kind."""
        try:
            super().__init__(**given)
        except ValidationError as error:
            first = error.errors()[0]
            place = ".".join(str(part) for part in first["loc"]) or "keys"
            raise DravikError(
                f"{place} of an opening: {first['msg']}",
                expected="signal, kind ('broken', 'disturbed' or 'replaced'), formula, readers",
            ) from None

    @property
    def input(self) -> str:
        """The input that it brings; empty for a formula."""
        suffix = {"broken": "injected", "disturbed": "disturbance"}.get(self.kind, "")
        return f"{self.signal}_{suffix}" if suffix else ""


def checked(opening: object) -> Opening:
    """Return what is an opening; raises DravikError for anything else."""
    if not isinstance(opening, Opening):
        raise DravikError(f"what is opened is a {type(opening).__name__}", expected="Opening(signal=..., kind=...)")
    return opening


def opening_inputs(openings: Iterable[Opening]) -> list[InputSpec]:
    """Return the inputs of openings; their units are those of the signals."""
    words = {"broken": "what is read of {} in its place", "disturbed": "added to what is read of {}"}
    return [InputSpec(o.input, meaning=words[o.kind].format(o.signal)) for o in openings if o.input]


@dataclass
class Wiring:
    """Who reads what, of one aircraft while it is compiled.

    ``laws`` are the formulas of laws and the commands of controls; ``motion`` the signals that the kernel computes.
    """

    builder: TapeBuilder
    motion: Collection[str]
    laws: set[str]

    def rewire(self, signal: str, instead: str, readers: Iterable[str]) -> None:
        """Let formulas read another signal in the place of one."""
        nodes = self.builder.nodes
        for reader in readers:
            if reader in nodes and reader != instead:
                node, where, text = nodes[reader]
                nodes[reader] = (renamed(node, {signal: instead}), where, text)

    def open(self, opening: Opening, inner: str, where: str) -> Node:
        """Return what an opening's readers read; ``inner`` is the name under which the signal itself is read.

        Raises DravikError for a signal or readers that are not there.
        """
        if opening.kind == "broken":
            return name_node(opening.input)
        if opening.kind == "disturbed":
            return Node("op", 0, "add", args=(name_node(inner), name_node(opening.input)))
        if opening.formula is None:
            raise DravikError(f"{opening.signal} replaced by nothing", where=where, expected="a formula")
        return renamed(parse(opening.formula, where=where), {opening.signal: inner})

    def readers(self, opening: Opening) -> list[str]:
        """Return the formulas that read an opened signal: those it names, or the usual ones."""
        if opening.readers:
            for name in opening.readers:
                if name not in self.builder.nodes:
                    raise DravikError(f"there is no formula {name!r} to read {opening.signal}")
            return list(opening.readers)
        if opening.signal in self.motion:
            return [n for n in self.builder.nodes if n in self.laws]
        own = f"sensed_{opening.signal}"
        return [n for n in self.builder.nodes if n not in (own, opening.signal)]


def renamed(node: Node, names: Mapping[str, str]) -> Node:
    """Return a formula that reads other signals in place of some."""
    if node.kind == "name" and node.name in names:
        return replace(node, name=names[node.name])
    return replace(node, args=tuple(renamed(a, names) for a in node.args)) if node.args else node
