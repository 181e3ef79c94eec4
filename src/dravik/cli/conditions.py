"""The options of a flight condition, written once for every command that trims."""

import inspect
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import wraps
from typing import TYPE_CHECKING, Annotated, Any

import typer

from dravik.cli.common import input_settings, settings
from dravik.errors import DravikError

if TYPE_CHECKING:
    from dravik.aircraft import Aircraft
    from dravik.trimming import TrimPoint

__all__ = ["AskedFor", "get_point", "takes_condition"]

#: Keywords of a trim that are options, and their help.
_HELP = {
    "airspeed": "true airspeed, such as '62 m/s'; 0 is hover; or '1.3 stall', 'best glide', 'least sink', 'free'",
    "calibrated_airspeed": "calibrated airspeed, such as '120 kt'",
    "equivalent_airspeed": "equivalent airspeed",
    "mach": "Mach number",
    "altitude": "altitude, such as '300 m' or '1000 ft'",
    "flight_path": "angle of climb, such as '3 deg' (level unless given), or free (with --set throttle=1)",
    "climb_rate": "rate of climb, such as '2 m/s'",
    "heading": "heading, such as '270 deg' (north unless given)",
    "track": "track over the ground; with --heading too the aircraft slips",
    "bank": "bank angle to hold (the sideslip is then free)",
    "sideslip": "sideslip to hold, or free (with --set pedal=0.2)",
    "turn": "steady turn: '30 deg' of bank, '3 deg/s', '400 m' radius, load factor '1.4'; negative is left",
    "pull": "pull-up or push-over: load factor '1.8' or '5 deg/s'",
    "roll": "steady roll, such as '20 deg/s'",
}
_WIND = "steady wind, such as '5 m/s from 270 deg'"
_GUESS = "where the search starts, such as 'alpha=5 deg'"


@dataclass(frozen=True)
class AskedFor:
    """A condition as its options gave it; ``asked`` are the keywords of a trim."""

    asked: dict[str, str] = field(default_factory=dict)
    wind: str = ""
    guess: tuple[str, ...] = ()

    def in_wind(self, craft: "Aircraft") -> "Aircraft":
        """Return the aircraft in the wind that was asked for."""
        if not self.wind:
            return craft
        speed, blows, direction = self.wind.partition(" from ")
        if not blows:
            raise DravikError(f"--wind {self.wind!r}", expected="a speed and where it blows from: '5 m/s from 270 deg'")
        return craft.with_environment(wind={"speed": speed.strip(), "blows_from": direction.strip()})

    def given(self) -> list[str]:
        """Return the options that were given, as they are typed."""
        return [f"--{n.replace('_', '-')}" for n in self.asked] + (["--wind"] if self.wind else [])


def takes_condition(command: Callable[..., None]) -> Callable[..., None]:
    """Give a command, in the place of its parameter ``condition``, the options of a flight condition."""
    signature = inspect.signature(command)
    texts = {name: Annotated[str, typer.Option(help=words)] for name, words in _HELP.items()}
    options: dict[str, Any] = {
        **texts,
        "wind": Annotated[str, typer.Option(help=_WIND)],
        "guess": Annotated[list[str] | None, typer.Option("--guess", metavar="NAME=VALUE", help=_GUESS)],
    }

    @wraps(command)
    def told(**given: Any) -> None:
        asked = {name: given.pop(name) for name in texts}
        wind, guess = given.pop("wind"), given.pop("guess")
        command(condition=AskedFor({n: v for n, v in asked.items() if v}, wind, tuple(guess or ())), **given)

    kind = inspect.Parameter.KEYWORD_ONLY
    parameters = []
    for parameter in signature.parameters.values():
        if parameter.name != "condition":
            parameters.append(parameter.replace(kind=kind))
            continue
        for name, annotation in options.items():
            default = None if name == "guess" else ""
            parameters.append(inspect.Parameter(name, kind, default=default, annotation=annotation))
    told.__signature__ = signature.replace(parameters=parameters)  # type: ignore[attr-defined]
    told.__annotations__ = {p.name: p.annotation for p in parameters} | {"return": None}
    return told


def get_point(
    craft: "Aircraft", condition: AskedFor, inputs: Sequence[str] | None = None, *, strict: bool = True
) -> "TrimPoint":
    """Return the trimmed point of the condition options."""
    from dravik.trimming import trim

    asked: dict[str, Any] = {
        **condition.asked,
        "inputs": input_settings(craft, inputs),
        "guess": settings(condition.guess, "--guess"),
    }
    return trim(condition.in_wind(craft), strict=strict, **asked)
