"""Settings: what NAME = VALUE sets, decided here for commands, scenarios, phases, devices and studies alike.

A name with a dot is the key of a loop in a plan (``pitch_damper.damping``), a parameter's name sets the parameter, and
any other name is that of an input.
"""

from collections.abc import Collection, Mapping, Sequence
from typing import Literal, NamedTuple

from dravik.errors import DravikError, nearest

__all__ = ["Settings", "kind_of_setting", "read_settings", "refuse_inputs", "sort_settings"]

Value = str | float


class Settings(NamedTuple):
    """Settings by what they set; the values are as they were given."""

    parameters: dict[str, Value]
    inputs: dict[str, Value]
    loop_keys: dict[str, Value]


def read_settings(pairs: Sequence[str] | None, option: str = "--set") -> dict[str, Value]:
    """Return texts NAME=VALUE as names and values; ``option`` is what messages call them.

    Raises DravikError for a text without a name or a value.

    >>> read_settings(["flap_lever=20 deg"])
    {'flap_lever': '20 deg'}
    """
    values: dict[str, Value] = {}
    for pair in pairs or ():
        name, equals, value = pair.partition("=")
        if not equals or not value.strip():
            raise DravikError(f"{option} {pair!r} cannot be read", expected="NAME=VALUE, such as 'flap_lever=20 deg'")
        values[name.strip()] = value.strip()
    return values


def kind_of_setting(name: str, parameters: Collection[str]) -> Literal["parameter", "input", "loop key"]:
    """Return what a name sets; ``parameters`` are the names of those that there are.

    >>> [kind_of_setting(n, ["pitch_gain"]) for n in ("pitch_gain", "pedal", "yaw.delay")]
    ['parameter', 'input', 'loop key']
    """
    if name in parameters:
        return "parameter"
    return "loop key" if "." in name else "input"


def sort_settings(values: Mapping[str, Value], parameters: Collection[str]) -> Settings:
    """Return settings sorted by what they set.

    >>> sort_settings({"pitch_gain": 0.4, "pedal": 0.1}, ["pitch_gain"]).inputs
    {'pedal': 0.1}
    """
    found = Settings({}, {}, {})
    places = {"parameter": found.parameters, "input": found.inputs, "loop key": found.loop_keys}
    for name, value in values.items():
        places[kind_of_setting(name, parameters)][name] = value
    return found


def refuse_inputs(settings: Settings, parameters: Collection[str], beside: str, where: str) -> None:
    """Raise DravikError for settings that are no parameters, where only parameters can be set beside something."""
    for name in (*settings.inputs, *settings.loop_keys):
        raise DravikError(
            f"{name} is no parameter, and beside {beside} --set sets parameters alone",
            where=where, expected=", ".join(parameters),
            hint=nearest(name, parameters) or f"write it into {beside.removeprefix('a ')}",
        )  # fmt: skip
