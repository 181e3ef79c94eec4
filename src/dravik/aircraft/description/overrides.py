"""Overridden signals: their readers get another signal (of a cut loop, a disturbance, a sensor, a fault).

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

__all__ = ["SignalOverride", "Wiring", "checked", "override_inputs", "renamed"]


class SignalOverride(Model):
    """Another signal for those who read one.

    Parameters
    ----------
    signal : str
        The signal.
    kind : str
        ``"cut"``: they read the input ``NAME_injected``; ``"disturbed"``: the signal plus the input
        ``NAME_disturbance``; ``"replaced"``: a formula.
    formula : str, optional
        What is read instead; it may read the signal itself and have states (a sensor, an estimate).
    readers : sequence of str, optional
        Formulas that read it, by name. Unless given: of what the motion gives (q, airspeed, ...) the laws and the
        commands of controls, of everything else all who read it but the signal's own formula.

    Examples
    --------
    >>> import dravik as dv
    >>> dv.SignalOverride(signal="q", kind="cut").input
    'q_injected'
    """

    signal: str
    kind: Literal["cut", "disturbed", "replaced"]
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
                f"{place} of an override: {first['msg']}",
                expected="signal, kind ('cut', 'disturbed' or 'replaced'), formula, readers",
            ) from None

    @property
    def input(self) -> str:
        """The input that it brings; empty for a formula."""
        suffix = {"cut": "injected", "disturbed": "disturbance"}.get(self.kind, "")
        return f"{self.signal}_{suffix}" if suffix else ""


def checked(override: object) -> SignalOverride:
    """Return what is an override; raises DravikError for anything else."""
    if not isinstance(override, SignalOverride):
        raise DravikError(
            f"an override cannot be a {type(override).__name__}", expected="SignalOverride(signal=..., kind=...)"
        )
    return override


def override_inputs(overrides: Iterable[SignalOverride]) -> list[InputSpec]:
    """Return the inputs of overrides; their units are those of the signals."""
    words = {"cut": "what is read of {} in its place", "disturbed": "added to what is read of {}"}
    return [InputSpec(o.input, meaning=words[o.kind].format(o.signal)) for o in overrides if o.input]


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

    def replaced(self, override: SignalOverride, inner: str, where: str) -> Node:
        """Return what an override's readers read; ``inner`` is the name under which the signal itself is read.

        Raises DravikError for a signal or readers that are not there.
        """
        if override.kind == "cut":
            return name_node(override.input)
        if override.kind == "disturbed":
            return Node("op", 0, "add", args=(name_node(inner), name_node(override.input)))
        if override.formula is None:
            raise DravikError(
                f"the override replaces {override.signal!r} by nothing", where=where, expected="a formula"
            )
        return renamed(parse(override.formula, where=where), {override.signal: inner})

    def readers(self, override: SignalOverride) -> list[str]:
        """Return the formulas that read an overridden signal: those it names, or the usual ones."""
        if override.readers:
            for name in override.readers:
                if name not in self.builder.nodes:
                    raise DravikError(f"there is no formula {name!r} to read {override.signal}")
            return list(override.readers)
        if override.signal in self.motion:
            return [n for n in self.builder.nodes if n in self.laws]
        own = f"sensed_{override.signal}"
        return [n for n in self.builder.nodes if n not in (own, override.signal)]


def renamed(node: Node, names: Mapping[str, str]) -> Node:
    """Return a formula that reads other signals in place of some."""
    if node.kind == "name" and node.name in names:
        return replace(node, name=names[node.name])
    return replace(node, args=tuple(renamed(a, names) for a in node.args)) if node.args else node
