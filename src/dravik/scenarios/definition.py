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
from dravik.scenarios.approach import Approach
from dravik.surroundings.discrete_gusts import DiscreteGust
from dravik.tables.entries import TableEntries

__all__ = ["ScenarioDefinition"]


class TurbulenceKeys(Model):
    """Turbulence; the fields are those of ``Turbulence``."""

    severity: str = "moderate"  #: light, moderate or severe
    model: Literal["dryden", "von_karman"] = "dryden"  #: spectra: Dryden's, or von Karman's by rational filters
    wind_20ft: Speed | None = None  #: wind at 20 ft that belongs to it; by the severity unless given
    aloft: Speed | None = None  #: root mean square of the gusts above 2000 ft; by the severity unless given
    follow: bool = True  #: whether spectra follow height, airspeed and heading of every second
    interval: Duration = 0.01  #: time between two values of the gusts


class RouteKeys(Model):
    """A route's ``file`` that guidance flies, its least ``clearance`` above the land, and how often it steers."""

    file: str  #: file of the route, beside the scenario or in the aircraft's folder routes
    clearance: Length | None = None  #: least height of the whole path above the land, checked before the flight
    rate: Frequency = 10.0  #: how often guidance steers
    course_gain: Frequency = 0.35  #: rate at which the course error falls
    targets: dict[str, str] = {}  #: inputs that guidance sets, by what they mean


class Aim(Model):
    """A point that a homing law steers through, and how near (``miss``) counts as met."""

    north: Length  #: place of the point to the north
    east: Length  #: place of the point to the east
    altitude: Length  #: altitude of the point
    miss: PositiveLength = 10.0  #: distance that counts as met


class Record(Model):
    """What is recorded, all signals unless said, and how often."""

    signals: tuple[str, ...] = ()  #: signals that are recorded; all unless given
    every: Duration | None = None  #: interval of the recording; every step unless given


class ScenarioDefinition(Model):
    """What may stand in a scenario's file."""

    format: Literal[1]  #: version of the file's format
    name: str = Field(min_length=1, max_length=80)  #: name, for titles
    description: str = ""  #: what happens, in a sentence or two
    include: tuple[str, ...] = ()  #: files whose sections are taken in, relative to this file
    aircraft: str  #: aircraft file relative to this one, or a sample's name
    loading: str = ""  #: loading of the aircraft; its default unless given
    laws: tuple[str, ...] = ()  #: laws engaged: files, or names in the aircraft's folder laws
    sensors: str = ""  #: set of sensors on board; none unless given, or unless laws read sensors or estimates
    reads: str | dict[str, str] = ""  #: what laws read: truth, sensors or estimates, of all signals or by signal
    estimator: str = ""  #: estimator on board
    duration: Duration  #: length of the flight
    step: Duration = 0.01  #: step of the integration
    seed: int = Field(default=0, ge=0)  #: seed of all that is random
    begins: datetime | None = None  #: date and time at the start, for tracks
    start: StartDefinition  #: how the flight begins
    environment: dict[str, Any] = {}  #: keys over those of the aircraft's `[environment]`
    turbulence: TurbulenceKeys | None = None  #: continuous turbulence
    tables: TableEntries = {}  #: tables of the scenario's own
    parameters: dict[str, str | float] = {}  #: values of parameters, by name
    inputs: dict[str, Input] = {}  #: inputs of the scenario's own
    controls: dict[str, str | tuple[str, ...]] = {}  #: histories by input or effector; several add up
    formulas: dict[str, FormulaEntry] = {}  #: signals of the scenario's own
    events: dict[str, Event] = {}  #: conditions to log, by name
    faults: dict[str, Fault] = {}  #: faults by name
    gusts: dict[str, DiscreteGust] = {}  #: discrete gusts by name
    phases: tuple[Phase, ...] = ()  #: parts of the flight in their order
    mode_logic: dict[str, ModeLogic] = {}  #: sets of modes beside the phases, by name
    route: RouteKeys | None = None  #: route that is flown
    aim: Aim | None = None  #: point that a homing law steers through
    approach: Approach | None = None  #: runway whose beams give signals of deviation
    record: Record = Record()  #: what is recorded
