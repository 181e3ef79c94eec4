"""The options of a flight condition, written once for every command that trims."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Annotated, Any, Self

import typer

from dravik.cli.shared.common import Laws, Loading, Settings, get_craft, input_settings
from dravik.cli.shared.groups import OptionGroup
from dravik.definition.settings import read_settings
from dravik.errors import DravikError

if TYPE_CHECKING:
    from dravik.aircraft import Aircraft
    from dravik.trimming import TrimPoint

__all__ = ["AircraftOptions", "ConditionOptions", "CraftAndCondition", "get_point"]

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
class ConditionOptions(OptionGroup):
    """A condition as its options gave it; ``asked`` are the keywords of a trim."""

    asked: dict[str, str] = field(default_factory=dict)
    wind: str = ""
    guess: tuple[str, ...] = ()

    @classmethod
    def options(cls) -> dict[str, tuple[Any, Any]]:
        """Return an option for each keyword of a trim, the wind, and where the search starts."""
        return {
            **{name: (Annotated[str, typer.Option(help=words)], "") for name, words in _HELP.items()},
            "wind": (Annotated[str, typer.Option(help=_WIND)], ""),
            "guess": (Annotated[list[str] | None, typer.Option("--guess", metavar="NAME=VALUE", help=_GUESS)], None),
        }

    @classmethod
    def taken(cls, given: dict[str, Any]) -> Self:
        """Return the condition of the options that were given, which are taken out."""
        asked = {name: given.pop(name) for name in _HELP}
        return cls({n: v for n, v in asked.items() if v}, given.pop("wind"), tuple(given.pop("guess") or ()))

    def in_wind(self, craft: "Aircraft") -> "Aircraft":
        """Return the aircraft in the wind that was asked for."""
        if not self.wind:
            return craft
        speed, blows, direction = self.wind.partition(" from ")
        if not blows:
            raise DravikError(
                f"--wind {self.wind!r} cannot be read", expected="a speed and where it blows from: '5 m/s from 270 deg'"
            )
        return craft.with_environment(wind={"speed": speed.strip(), "blows_from": direction.strip()})

    def given(self) -> list[str]:
        """Return the options that were given, as they are typed."""
        own = [f"--{n.replace('_', '-')}" for n in self.asked]
        return own + [option for option, given in (("--wind", self.wind), ("--guess", self.guess)) if given]


@dataclass(frozen=True)
class AircraftOptions(OptionGroup):
    """What an aircraft is fitted with: values set, its loading and laws."""

    set_: Settings = None
    loading: Loading = ""
    law: Laws = None

    def craft(self, aircraft: str) -> "Aircraft":
        """Return the aircraft of that name, fitted so."""
        return get_craft(aircraft, self.loading, self.law, self.set_)


@dataclass(frozen=True)
class CraftAndCondition(AircraftOptions):
    """An aircraft so fitted at a condition."""

    condition: ConditionOptions = ConditionOptions()

    @classmethod
    def options(cls) -> dict[str, tuple[Any, Any]]:
        """Return the options, those of the condition first."""
        return ConditionOptions.options() | AircraftOptions.options()

    def craft(self, aircraft: str) -> "Aircraft":
        """Return the aircraft of that name, fitted so, in the wind that was asked for."""
        return self.condition.in_wind(super().craft(aircraft))

    def point(self, craft: "Aircraft") -> "TrimPoint":
        """Return its trimmed point."""
        return get_point(craft, self.condition, self.set_)


def get_point(
    craft: "Aircraft", condition: ConditionOptions, inputs: Sequence[str] | None = None, *, strict: bool = True
) -> "TrimPoint":
    """Return the trimmed point of the condition options."""
    from dravik.trimming import trim

    asked: dict[str, Any] = {
        **condition.asked,
        "inputs": input_settings(craft, inputs),
        "guess": read_settings(condition.guess, "--guess"),
    }
    return trim(condition.in_wind(craft), strict=strict, **asked)
