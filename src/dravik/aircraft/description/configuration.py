"""What is flown: an aircraft in one of its loadings, the laws engaged, the world, and the script of what happens."""

import hashlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

from dravik.aircraft.description.flight_script import FlightScript
from dravik.aircraft.description.loadings import roll_up
from dravik.aircraft.description.overrides import SignalOverride
from dravik.aircraft.description.schema import AircraftDefinition, Event, LawDefinition, Loading, NamedFormula
from dravik.aircraft.description.sensing import Sensing
from dravik.contact import Leg
from dravik.definition.effectors import Input, Parameter
from dravik.errors import DravikError, nearest
from dravik.mode_logic.modes import ModeLogic
from dravik.sensors import SEED, Sensor, chosen_sensors
from dravik.surroundings.environment import Environment
from dravik.tables.entries import TableEntry

__all__ = ["Configuration"]

# sections that are left out of the hash where a file has none: older recordings keep the hash without them
UNSAID = ("mass_limits", "seats", "sensors", "sensor_sets", "default_sensors", "estimators")


@dataclass(frozen=True)
class Configuration:
    """An aircraft's definition and what a flight brings along; ``values`` are those of parameters that were set, SI.

    ``world`` stands for the environment of the aircraft's file, which is the one it starts with.
    """

    aircraft: AircraftDefinition
    loading_name: str
    world: Environment
    laws: tuple[LawDefinition, ...] = ()
    script: FlightScript = field(default_factory=FlightScript)
    overrides: tuple[SignalOverride, ...] = ()
    values: Mapping[str, float] = field(default_factory=dict)
    sensing: Sensing = field(default_factory=Sensing)

    @classmethod
    def of(cls, definition: AircraftDefinition, loading: str, where: Callable[..., str]) -> "Configuration":
        """Return an aircraft as its file gives it; raises DravikError for what its parts and loadings cannot be."""
        # once for all loadings: parts and tanks are the same in each
        definition = roll_up(definition, where)
        return cls(definition, definition.default_loading, definition.environment).loaded(loading)

    def loaded(self, name: str) -> "Configuration":
        """Return the same in another loading, or in this one without a name; raises DravikError for one not there."""
        known = self.aircraft.loadings
        if name and name not in known:
            raise DravikError(
                f"{self.aircraft.name} has no loading {name!r}", expected="one of " + ", ".join(known),
                hint=nearest(name, known),
            )  # fmt: skip
        return replace(self, loading_name=name or self.loading_name)

    def engaging(self, law: LawDefinition) -> "Configuration":
        """Return the same with one more law; raises DravikError when a name of it is taken already."""
        for section in ("inputs", "parameters", "formulas", "events", "tables", "mode_logic"):
            for name in getattr(law, section):
                if name in getattr(self, section):
                    raise DravikError(f"{section}.{name} of law {law.name!r} is there already", hint="another name")
        return replace(self, laws=(*self.laws, law))

    @property
    def name(self) -> str:
        """The aircraft's name."""
        return self.aircraft.name

    @property
    def loading(self) -> Loading:
        """Mass, centre of gravity and inertia in use."""
        return self.aircraft.loadings[self.loading_name]

    def _united(self, section: str) -> dict[str, Any]:
        found = dict(getattr(self.aircraft, section))
        for law in self.laws:
            found |= getattr(law, section)
        return found

    @cached_property
    def inputs(self) -> dict[str, Input]:
        """Inputs of the aircraft and of its laws."""
        return self._united("inputs")

    @cached_property
    def parameters(self) -> dict[str, Parameter]:
        """Parameters of the aircraft and of its laws, with the values that were set."""
        found: dict[str, Parameter] = self._united("parameters")
        if self.sensing:
            found[SEED] = Parameter(value=0.0, description="seed of all that is random in the sensors")
        return found | {n: found[n].model_copy(update={"value": v}) for n, v in self.values.items()}

    @cached_property
    def formulas(self) -> dict[str, NamedFormula]:
        """Formulas of the aircraft, and of the laws engaged, but not those of the sections of its file."""
        return self._united("formulas")

    @cached_property
    def events(self) -> dict[str, Event]:
        """Events of the aircraft and of its laws."""
        return self._united("events")

    @cached_property
    def tables(self) -> dict[str, TableEntry]:
        """Tables that the aircraft's file and its laws name."""
        return self._united("tables")

    @cached_property
    def mode_logic(self) -> dict[str, ModeLogic]:
        """Mode logic of the laws and of the script, the flight's phases among them."""
        found: dict[str, ModeLogic] = {}
        for law in self.laws:
            found |= law.mode_logic
        return found | self.script.mode_logic

    @cached_property
    def law_formulas(self) -> set[str]:
        """Names of the formulas that laws have brought."""
        return {name for law in self.laws for name in law.formulas}

    @cached_property
    def added(self) -> dict[str, tuple[str | float, ...]]:
        """What the laws add to commands and inputs, by name."""
        names = dict.fromkeys(name for law in self.laws for name in law.add)
        return {name: tuple(law.add[name] for law in self.laws if name in law.add) for name in names}

    @cached_property
    def sensors(self) -> dict[str, Sensor]:
        """The sensors on board."""
        if not self.sensing:
            return {}
        return chosen_sensors(self.aircraft.sensors, self.aircraft.sensor_sets, self.sensing.sensors)

    @property
    def legs(self) -> dict[str, Leg]:
        """The gear, where there is ground for it to touch."""
        return self.aircraft.gear if self.world.ground is not None else {}

    @cached_property
    def sha256(self) -> str:
        """A hash of all of it, the same for the same configuration: what a recording keeps."""
        return hashlib.sha256(self.as_text().encode()).hexdigest()

    def as_text(self) -> str:
        """Return all of it as text, the same for the same configuration."""
        sections = ("inputs", "parameters", "formulas", "events")
        whole = self.aircraft.model_copy(update={s: getattr(self, s) for s in sections} | {"environment": self.world})
        unsaid: dict[str, Any] = {name: True for name in UNSAID if name not in whole.model_fields_set}
        if self.world.magnetic_field is None:
            unsaid["environment"] = {"magnetic_field"}
        text = whole.model_dump_json(exclude=unsaid) + repr(sorted(self.added.items()))
        # only where there is one, so that the hash of a plain aircraft stays what older recordings keep
        text += repr(self.script.as_data()) if self.script else ""
        ways = [(w.name, w.rate, w.delay, w.fade, w.mode_logic) for w in self.laws]
        text += repr(ways) if any(w[1] or w[3] or w[4] for w in ways) else ""
        text += repr((self.sensing, sorted(self.sensors.items()))) if self.sensing else ""
        return text + (repr(self.overrides) if self.overrides else "")
