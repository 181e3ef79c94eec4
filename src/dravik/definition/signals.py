"""Signals, inputs and events of an aircraft or a plant: names, SI units, meanings, limits."""

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

__all__ = ["COEFFICIENTS", "EventSpec", "InputSpec", "Signal", "Where"]

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
