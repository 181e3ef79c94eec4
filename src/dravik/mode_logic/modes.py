"""Mode logic as data: modes with what each sets, transitions between them, and the phases of a flight as a sequence.

The mode that is active is an input with the name of the mode logic, whose value counts the modes from one; each
transition is a condition at which the flight pauses at the end of a step.
"""

import re
from collections.abc import Iterable, Mapping, Sequence
from typing import Annotated

from pydantic import BeforeValidator, ConfigDict, Field, model_validator

from dravik.definition.fields import Duration, Formula, Model
from dravik.errors import DravikError, nearest

__all__ = [
    "ANY",
    "END",
    "Mode",
    "ModeLogic",
    "Phase",
    "Transition",
    "sequence",
    "set_by",
    "slug",
]

#: Leads out of every mode but the one it leads to.
ANY = "any"
#: Where the flight ends.
END = "end"


class Phase(Model):
    """A part of a flight: inputs that are ``set`` when it begins, and the formula that ends it."""

    name: str = Field(min_length=1, max_length=60)  #: name of the phase
    set: dict[str, str | float] = Field(default={})  #: inputs and parameters that are set when it begins
    until: Formula | None = None  #: formula that ends it


class Mode(Model):
    """What happens when a mode begins: inputs and parameters that are ``set``, inputs that ``take`` a signal's value.

    A ``final`` mode is meant to have no way out.
    """

    description: str = ""  #: what the mode does
    set: dict[str, str | float] = Field(default={})  #: inputs and parameters that are set when it begins
    take: dict[str, str] = Field(default={})  #: inputs that take over the value of a signal when it begins
    final: bool = False  #: whether the mode is meant to have no way out


def _listed(value: object) -> object:
    return (value,) if isinstance(value, str) else value


class Transition(Model):
    """What leads from one mode, several, or any other, to another or to the end of the flight.

    ``when`` its condition holds, or ``after`` a time in the mode; both: when the condition holds, but not before that
    time. Of several at once that of the highest ``priority`` counts, of equal ones the first in the file. The
    ``reason`` stands in the log of the flight.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True, defer_build=True)

    #: mode or modes that it leads from, or "any"
    source: Annotated[tuple[str, ...], BeforeValidator(_listed)] = Field(alias="from", min_length=1)
    to: str  #: mode that it leads to, or "end"
    when: Formula | None = None  #: condition
    after: Duration | None = None  #: time in the mode before it happens
    reason: str = ""  #: reason, for the log
    priority: int = 0  #: of several at once the highest happens

    @model_validator(mode="after")
    def _has_condition(self) -> "Transition":
        if self.when is None and self.after is None:
            raise DravikError(
                "the transition has neither when nor after", expected='when = a condition, or after = "30 s"'
            )
        return self


class ModeLogic(Model):
    """Mode logic: its modes, the one it begins in (the first unless said), and the transitions between them."""

    description: str = ""  #: what the modes are for
    begin: str = ""  #: mode in which it begins; the first unless given
    modes: dict[str, Mode] = Field(min_length=1)  #: modes by name
    transitions: tuple[Transition, ...] = ()  #: transitions between them

    @model_validator(mode="after")
    def _known_modes(self) -> "ModeLogic":
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


def sequence(phases: Sequence[Phase]) -> ModeLogic:
    """Return the mode logic of a flight's phases, each of which leads to the next and the last to the flight's end."""
    names = [p.name for p in phases]
    for name in names:
        if names.count(name) > 1:
            raise DravikError(f"two phases are called {name!r}", hint="another name")
    transitions = [
        Transition.model_validate({"from": p.name, "to": after, "when": p.until})
        for p, after in zip(phases, [*names[1:], END], strict=True)
        if p.until is not None
    ]
    last = names[-1]
    modes = {p.name: Mode(set=p.set, final=p.name == last) for p in phases}
    return ModeLogic(begin=names[0], modes=modes, transitions=tuple(transitions))


def slug(name: str) -> str:
    """Return a name as a part of a signal's name."""
    return re.sub(r"\W+", "_", name).strip("_").lower()


def set_by(mode_logic: Mapping[str, ModeLogic]) -> dict[str, list[str]]:
    """Return the names of the mode logic that sets each input or parameter."""
    found: dict[str, list[str]] = {}
    for name, logic in mode_logic.items():
        targets: Iterable[str] = {t for mode in logic.modes.values() for t in (*mode.set, *mode.take)}
        for target in targets:
            found.setdefault(target, []).append(name)
    return found
