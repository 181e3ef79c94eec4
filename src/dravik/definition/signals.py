"""Signals, inputs and events of an aircraft or a plant: names, SI units, meanings, limits."""

import math
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

from dravik.errors import DravikError

__all__ = ["COEFFICIENTS", "EventSpec", "InputSpec", "Signal", "Where", "signed_names"]


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

_TERM = re.compile(r"\s*([+-]?)\s*([A-Za-z_]\w*)\s*")


def signed_names(text: str, where: str = "") -> dict[str, float]:
    """Return the names of a sum with their signs, such as two elevons that move together or against each other.

    Raises DravikError for text of another form, and for a name that stands there twice.

    >>> signed_names("elevon_left - elevon_right"), signed_names("elevator")
    ({'elevon_left': 1.0, 'elevon_right': -1.0}, {'elevator': 1.0})
    """
    found: dict[str, float] = {}
    place = 0
    while place < len(text) or not found:
        match = _TERM.match(text, place)
        if match is None or (found and not match[1]) or match[2] in found:
            raise DravikError(
                f"{text!r} is no sum of names", where=where, expected="one, or such as 'elevon_left + elevon_right'"
            )
        found[match[2]] = -1.0 if match[1] == "-" else 1.0
        place = match.end()
    return found
