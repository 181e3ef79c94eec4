"""The options of a flight condition, written once for every command that trims."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Annotated, Any, Self

import typer

from dravik.cli.shared.common import EstimatorName, Laws, Loading, Reads, Sensors, Settings, get_craft, input_settings
from dravik.cli.shared.groups import OptionGroup
from dravik.definition.condition_keys import AIR_KEYS, CONDITION_KEYS
from dravik.definition.settings import read_settings

if TYPE_CHECKING:
    from dravik.aircraft import Aircraft
    from dravik.trimming import TrimPoint

__all__ = ["AircraftOptions", "ConditionOptions", "CraftAndCondition", "Day", "Wind", "get_point", "in_air"]

_GUESS = "where the search starts, such as 'alpha=5 deg'"
Wind = Annotated[str, typer.Option(help=CONDITION_KEYS["wind"].help)]
Day = Annotated[str, typer.Option(help=CONDITION_KEYS["day"].help)]


def in_air(craft: "Aircraft", wind: str = "", day: str = "") -> "Aircraft":
    """Return the aircraft in the wind and on the day of the options, in the place of its own."""
    air = {name: value for name, value in (("wind", wind), ("day", day)) if value}
    return craft.with_environment(**air) if air else craft


@dataclass(frozen=True)
class ConditionOptions(OptionGroup):
    """A condition as its options gave it: ``asked`` are the keywords of a trim, ``air`` those of the air around."""

    asked: dict[str, str] = field(default_factory=dict)
    air: dict[str, str] = field(default_factory=dict)
    guess: tuple[str, ...] = ()

    @classmethod
    def options(cls) -> dict[str, tuple[Any, Any]]:
        """Return an option for each word of a condition, and for where the search starts."""
        return {
            **{name: (Annotated[str, typer.Option(help=key.help)], "") for name, key in CONDITION_KEYS.items()},
            "guess": (Annotated[list[str] | None, typer.Option("--guess", metavar="NAME=VALUE", help=_GUESS)], None),
        }

    @classmethod
    def taken(cls, given: dict[str, Any]) -> Self:
        """Return the condition of the options that were given, which are taken out."""
        said = {name: value for name in CONDITION_KEYS if (value := given.pop(name))}
        air = {name: said.pop(name) for name in AIR_KEYS if name in said}
        return cls(said, air, tuple(given.pop("guess") or ()))

    def in_air(self, craft: "Aircraft") -> "Aircraft":
        """Return the aircraft in the air that was asked for."""
        return in_air(craft, **self.air)

    def given(self) -> list[str]:
        """Return the options that were given, as they are typed."""
        own = [f"--{n.replace('_', '-')}" for n in (*self.asked, *self.air)]
        return own + (["--guess"] if self.guess else [])


@dataclass(frozen=True)
class AircraftOptions(OptionGroup):
    """What an aircraft is fitted with: values set, its loading and laws."""

    set_: Settings = None
    loading: Loading = ""
    law: Laws = None

    def fitted(self) -> list[str]:
        """Return the options of these that were given, as they are typed."""
        return [n for n, value in (("--set", self.set_), ("--loading", self.loading), ("--law", self.law)) if value]

    def craft(self, aircraft: str) -> "Aircraft":
        """Return the aircraft of that name, fitted so."""
        return get_craft(aircraft, self.loading, self.law, self.set_)


@dataclass(frozen=True)
class CraftAndCondition(AircraftOptions):
    """An aircraft so fitted at a condition."""

    condition: ConditionOptions = ConditionOptions()
    sensors: Sensors = ""
    reads: Reads = ""
    estimator: EstimatorName = ""

    @classmethod
    def options(cls) -> dict[str, tuple[Any, Any]]:
        """Return the options, those of the condition first."""
        own = {
            "sensors": (Sensors, ""), "reads": (Reads, ""), "estimator": (EstimatorName, ""),
        }  # fmt: skip
        return ConditionOptions.options() | AircraftOptions.options() | own

    @property
    def sensing(self) -> tuple[str, str, str]:
        """Set of sensors, what laws read, and estimator, as they were given."""
        return self.sensors, self.reads, self.estimator

    def craft(self, aircraft: str) -> "Aircraft":
        """Return the aircraft of that name, fitted so, in the air that was asked for."""
        return self.condition.in_air(get_craft(aircraft, self.loading, self.law, self.set_, self.sensing))

    def point(self, craft: "Aircraft") -> "TrimPoint":
        """Return its trimmed point."""
        return get_point(craft, self.condition, self.set_)


def get_point(
    craft: "Aircraft", condition: ConditionOptions, inputs: Sequence[str] | None = None, *, strict: bool = True
) -> "TrimPoint":
    """Return the trimmed point of the condition options, of an aircraft that is in their air already."""
    from dravik.trimming import trim

    asked: dict[str, Any] = {
        **condition.asked,
        "inputs": input_settings(craft, inputs),
        "guess": read_settings(condition.guess, "--guess"),
    }
    return trim(craft, strict=strict, **asked)
