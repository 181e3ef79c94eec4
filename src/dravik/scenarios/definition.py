"""The keys of a scenario's file."""

from datetime import datetime
from typing import Any, Literal

from pydantic import Field

from dravik.aircraft.description.faults import Fault
from dravik.aircraft.description.schema import Event, FormulaEntry
from dravik.definition.effectors import Input
from dravik.definition.fields import Duration, Frequency, Length, Model, PositiveLength, Speed
from dravik.flight.starts import StartDefinition
from dravik.mode_logic.modes import ModeLogic, Phase
from dravik.surroundings.discrete_gusts import DiscreteGust
from dravik.tables.entries import TableEntries

__all__ = ["ScenarioDefinition"]


class TurbulenceKeys(Model):
    """Turbulence; the fields are those of ``Turbulence``."""

    severity: str = "moderate"
    model: Literal["dryden", "von_karman"] = "dryden"
    wind_20ft: Speed | None = None
    aloft: Speed | None = None
    follow: bool = True
    interval: Duration = 0.01


class RouteKeys(Model):
    """A route's ``file`` that guidance flies, its least ``clearance`` above the land, and how often it steers."""

    file: str
    clearance: Length | None = None
    rate: Frequency = 10.0
    course_gain: Frequency = 0.35
    targets: dict[str, str] = {}


class Aim(Model):
    """A point that a homing law steers through, and how near (``miss``) counts as met."""

    north: Length
    east: Length
    altitude: Length
    miss: PositiveLength = 10.0


class Record(Model):
    """What is recorded, all signals unless said, and how often."""

    signals: tuple[str, ...] = ()
    every: Duration | None = None


class ScenarioDefinition(Model):
    """What may stand in a scenario's file."""

    format: Literal[1]
    name: str = Field(min_length=1, max_length=80)
    description: str = ""
    include: tuple[str, ...] = ()
    aircraft: str
    loading: str = ""
    laws: tuple[str, ...] = ()
    duration: Duration
    step: Duration = 0.01
    seed: int = Field(default=0, ge=0)
    begins: datetime | None = None
    start: StartDefinition
    environment: dict[str, Any] = {}
    turbulence: TurbulenceKeys | None = None
    tables: TableEntries = {}
    parameters: dict[str, str | float] = {}
    inputs: dict[str, Input] = {}
    controls: dict[str, str | tuple[str, ...]] = {}
    formulas: dict[str, FormulaEntry] = {}
    events: dict[str, Event] = {}
    faults: dict[str, Fault] = {}
    gusts: dict[str, DiscreteGust] = {}
    phases: tuple[Phase, ...] = ()
    mode_logic: dict[str, ModeLogic] = {}
    route: RouteKeys | None = None
    aim: Aim | None = None
    record: Record = Record()
