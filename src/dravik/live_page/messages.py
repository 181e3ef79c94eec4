"""The messages of the protocol: what a client may ask, with which fields, and what then happens to the flight.

A message is an object of JSON: ``do`` names the command, ``id`` comes back with the answer. Fields that a command does
not know, wrong types and numbers that are not finite are refused before anything reaches the flight.
"""

import json
import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from dravik.errors import DravikError, nearest

__all__ = ["COMMANDS", "LARGEST", "Command", "Message", "read_message"]

LARGEST = 16_384  # octets of a message
MOST_VALUES = 100  # of a message that sets inputs
MOST_SIGNALS = 600  # that a client watches
LONGEST = 200  # letters of a text
SEVERITIES = ("none", "light", "moderate", "severe")

Fields = Mapping[str, Any]


@dataclass(frozen=True)
class Command:
    """A command: its fields with what reads them, what of the flight it calls, and whether a viewer may give it."""

    fields: Mapping[str, Callable[[str, Any], Any]]
    call: Callable[[Any, Fields], tuple[Any, ...]] | None = None  # the flight's method and its arguments
    is_for_all: bool = False
    needs: tuple[str, ...] = ()  # fields that must be there


@dataclass(frozen=True)
class Message:
    """A message that was read: its command's name, fields that fit, and the number to answer to."""

    do: str
    fields: Fields
    id: int | None


def _number(low: float = -math.inf, high: float = math.inf) -> Callable[[str, Any], float]:
    def read(name: str, value: Any) -> float:
        if isinstance(value, bool) or not isinstance(value, int | float) or not low <= value <= high:
            raise DravikError(f"{name} cannot be {str(value)[:50]!r}", expected=f"a number from {low:g} to {high:g}")
        try:
            number = float(value)
        except OverflowError:  # a whole number beyond all others
            number = math.inf
        if not math.isfinite(number):
            raise DravikError(f"{name} is not finite")
        return number

    return read


def _whole(low: int, high: int) -> Callable[[str, Any], int]:
    def read(name: str, value: Any) -> int:
        if isinstance(value, bool) or not isinstance(value, int) or not low <= value <= high:
            raise DravikError(f"{name} cannot be {str(value)[:50]!r}", expected=f"a whole number from {low} to {high}")
        return value

    return read


def _yes(name: str, value: Any) -> bool:
    if not isinstance(value, bool):
        raise DravikError(f"{name} cannot be {str(value)[:50]!r}", expected="true or false")
    return value


def _text(name: str, value: Any) -> str:
    if not isinstance(value, str) or not 0 < len(value) <= LONGEST:
        raise DravikError(f"{name} cannot be {str(value)[:50]!r}", expected=f"a text of 1 to {LONGEST} letters")
    return value


def _one_of(*words: str) -> Callable[[str, Any], str]:
    def read(name: str, value: Any) -> str:
        if value not in words:
            raise DravikError(f"{name} cannot be {str(value)[:50]!r}", expected=", ".join(words))
        return str(value)

    return read


def _values(name: str, value: Any) -> dict[str, str | float]:
    if not isinstance(value, dict) or not 0 < len(value) <= MOST_VALUES:
        raise DravikError(f"{name} cannot be {str(value)[:50]!r}", expected=f"1 to {MOST_VALUES} values by name")
    return {_text("a name", n): v if isinstance(v, str) else _number()(n, v) for n, v in value.items()}


def _names(name: str, value: Any) -> list[str]:
    if not isinstance(value, list) or len(value) > MOST_SIGNALS:
        raise DravikError(f"{name} cannot be {str(value)[:50]!r}", expected=f"a list of at most {MOST_SIGNALS} names")
    return [_text("a signal", n) for n in value]


COMMANDS: dict[str, Command] = {
    "set": Command({"values": _values}, lambda flight, f: (flight.set, f["values"]), needs=("values",)),
    "hand_over": Command({}, lambda flight, f: (flight.hand_over,)),
    "lock": Command({}, lambda flight, f: (flight.lock,)),
    "to_trim": Command({}, lambda flight, f: (flight.to_trim,)),
    "resume": Command({}, lambda flight, f: (flight.resume,)),
    "pause": Command({}, lambda flight, f: (flight.pause,)),
    "step": Command({"steps": _whole(1, 1000)}, lambda flight, f: (flight.step_on, f.get("steps", 1))),
    "reset": Command({}, lambda flight, f: (flight.reset,)),
    "keep": Command({"name": _text}, lambda flight, f: (flight.keep, f["name"]), needs=("name",)),
    "go_back": Command({"name": _text}, lambda flight, f: (flight.go_back, f["name"]), needs=("name",)),
    "speed": Command(
        {"times": _number(0.01, 1000.0)}, lambda flight, f: (flight.at_speed, f["times"]), needs=("times",)
    ),
    "go_to": Command({"time": _number()}, lambda flight, f: (flight.go_to, f["time"]), needs=("time",)),
    "tank": Command(
        {"name": _text, "mass": _number(0.0, 1e9)}, lambda flight, f: (flight.fill_tank, f["name"], f["mass"]),
        needs=("name", "mass"),
    ),
    # those that the server itself answers
    "turbulence": Command({"severity": _one_of(*SEVERITIES), "seed": _whole(0, 2**31 - 1)}, needs=("severity",)),
    "loading": Command({"name": _text}, needs=("name",)),
    "record": Command({"on": _yes, "kind": _one_of("csv", "parquet")}, needs=("on",)),
    "pilot": Command({"take": _yes}, is_for_all=True, needs=("take",)),
    "watch": Command({"signals": _names, "rate": _number(0.1, 200.0)}, is_for_all=True, needs=("signals",)),
    "land": Command(
        {"north": _number(-1e7, 1e7), "east": _number(-1e7, 1e7), "half": _number(100.0, 1e5)}, is_for_all=True,
        needs=("north", "east", "half"),
    ),
    "lateness": Command({}, is_for_all=True),
}  # fmt: skip


def read_message(text: str) -> Message:
    """Return the message of a text; raises DravikError, with ``number`` to answer to if it has one, for a bad one.

    >>> read_message('{"do": "step", "steps": 3, "id": 1}')
    Message(do='step', fields={'steps': 3}, id=1)
    """
    try:
        data = json.loads(text, parse_constant=_no_constant)
    except (ValueError, RecursionError):
        raise DravikError("a message that is no JSON") from None
    if not isinstance(data, dict):
        raise DravikError("a message is an object", expected='{"do": "pause", "id": 1}')
    number = data.pop("id", None)
    if number is not None:
        number = _whole(0, 2**53)("id", number)
    try:
        do = data.pop("do", None)
        command = COMMANDS.get(do) if isinstance(do, str) else None
        if command is None:
            hint = nearest(do, COMMANDS) if isinstance(do, str) else ""
            raise DravikError(f"there is no command {str(do)[:50]!r}", expected=", ".join(COMMANDS), hint=hint)
        for name in data:
            if name not in command.fields:
                raise DravikError(f"{do} takes no {name[:50]!r}", expected=", ".join(command.fields) or "no fields")
        for name in command.needs:
            if name not in data:
                raise DravikError(f"{do} needs {name}")
        return Message(str(do), {n: command.fields[n](n, v) for n, v in data.items()}, number)
    except DravikError as error:
        error.number = number  # type: ignore[attr-defined]  # whom to answer
        raise


def _no_constant(name: str) -> None:
    raise ValueError(name)
