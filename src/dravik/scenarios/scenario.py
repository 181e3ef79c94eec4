"""A scenario: one file that says what is flown, from where, in what world, by whom, and what goes wrong."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from functools import cached_property
from pathlib import Path
from typing import Any, Literal

from pydantic import Field

from dravik.aircraft import Aircraft, load, load_law, sample_names, sample_path
from dravik.aircraft.description.faults import Fault
from dravik.aircraft.description.schema import Event, FormulaEntry, LawDefinition
from dravik.definition.effectors import Input
from dravik.definition.fields import Duration, Frequency, Length, Model, PositiveLength, Speed
from dravik.definition.toml import KeyLines, read_definition
from dravik.definition.values import parameter_in_si
from dravik.errors import DravikError, nearest
from dravik.flight.devices import Device
from dravik.flight.flying import fly
from dravik.flight.histories import History, parse_history
from dravik.flight.options import steps_between
from dravik.flight.snapshots import Start
from dravik.flight.starts import Begin, Named, OnRail, Quantities, begin, named_start
from dravik.guidance import Path as CoursePath
from dravik.guidance import read_route
from dravik.guidance.aiming import Band, check_reach, reachable_band
from dravik.guidance.route_device import LOGGED, OWN_VALUES, RouteGuidance, drawn, path_over_land
from dravik.host.files import as_path, exists, is_folder, read_text
from dravik.mode_logic.modes import ModeLogic, Phase
from dravik.recording.recording import Recording
from dravik.surroundings.discrete_gusts import DiscreteGust
from dravik.surroundings.turbulence import Turbulence
from dravik.tables.entries import TableEntries, read_tables
from dravik.trimming import TrimPoint

__all__ = ["Scenario", "ScenarioDefinition", "is_scenario", "load_scenario", "scenario_names"]


class Gusts(Model):
    """Turbulence; the fields are those of ``Turbulence``."""

    severity: str = "moderate"
    model: Literal["dryden", "von_karman"] = "dryden"
    wind_20ft: Speed | None = None
    aloft: Speed | None = None
    follow: bool = True
    interval: Duration = 0.01


class Course(Model):
    """A route's ``file`` that guidance flies, its least ``clearance`` above the land, and how often it steers."""

    file: str
    clearance: Length | None = None
    rate: Frequency = 10.0
    quickness: Frequency = 0.35
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
    start: Begin
    environment: dict[str, Any] = {}
    turbulence: Gusts | None = None
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
    route: Course | None = None
    aim: Aim | None = None
    record: Record = Record()


@dataclass(frozen=True)
class Scenario:
    """A scenario ready to fly: its definition, and the aircraft with laws, world and plan."""

    definition: ScenarioDefinition
    craft: Aircraft
    controls: Mapping[str, History]
    path: Path
    course: CoursePath | None = None

    def with_parameters(self, values: Mapping[str, str | float]) -> "Scenario":
        """Return the scenario with other values of parameters; raises DravikError for what does not fit."""
        return replace(self, craft=self.craft.with_parameters(values))

    def start(self) -> TrimPoint | Start:
        """Return where it starts; raises TrimError or DravikError where that cannot be."""
        # inputs of the first phase apply from the start, so the trim and the settling of engines use them
        phases = self.definition.phases
        own = self.craft.parameters
        first = {n: v for n, v in phases[0].set.items() if n not in own} if phases else {}
        return begin(self.craft, self.definition.start, first)

    def fly(
        self, *, save: str | Path | None = None, seed: int | None = None, start: TrimPoint | Start | None = None,
        progress: Callable[[float], None] | None = None, devices: Sequence[Device] = (),
    ) -> Recording:  # fmt: skip
        """Return the recording of the scenario flown, as ``dravik.fly`` does; ``seed`` stands for its own.

        ``devices`` are called after the guidance of its route, if it has one.

        From another ``start``, such as the end of a recording, it flies on to the scenario's end.
        """
        d = self.definition
        start = start or self.start()
        flown = start.time if isinstance(start, Start) else 0.0
        if not flown < d.duration:
            raise DravikError(f"the scenario ends at {d.duration:g} s", expected="a start before that")
        guides: list[Device] = []
        if self.course is not None and d.route is not None:
            route = d.route
            guides = [RouteGuidance(self.course, rate=route.rate, quickness=route.quickness, targets=route.targets)]
        note: dict[str, Any] = {"scenario": d.name, "begins": d.begins.isoformat() if d.begins else None}
        if self.course is not None:
            note["route"] = drawn(self.course)
        band = self.band
        if band is not None and d.aim is not None:
            check_reach(band, d.aim.north, d.aim.east)
            note["band"] = band._asdict()
            note["aim"] = d.aim.model_dump()
        every = 1 if d.record.every is None else steps_between(f"{d.record.every!r} s", d.step)
        # what is told of the flight afterwards is recorded besides
        told = [*(("route_point", *LOGGED) if self.course is not None else ()), *(["aim_distance"] if d.aim else [])]
        record = list(
            dict.fromkeys([*d.record.signals, *(n for n in told if n in self.craft.signals or n in OWN_VALUES)])
        )
        return fly(
            self.craft, start=start, duration=d.duration - flown, controls=self.controls,
            devices=[*guides, *devices],
            turbulence=self._turbulence(d.seed if seed is None else seed), dt=d.step,
            record=record if d.record.signals else None, record_every=every, save=save, progress=progress,
            note=note,
        )  # fmt: skip

    @cached_property
    def band(self) -> Band | None:
        """Return the band of ranges that the rail's elevation reaches at the altitude aimed at; None without an aim.

        Raises DravikError for an aim from anything but a rail.
        """
        aim, start = self.definition.aim, self.definition.start
        if aim is None:
            return None
        if not isinstance(start, OnRail):
            raise DravikError("an aim without a rail", where=str(self.path), expected='[start] of kind = "rail"')
        return reachable_band(
            self.craft, altitude=aim.altitude, elevation=start.elevation, heading=start.heading, miss=aim.miss,
            inputs=start.inputs,
        )  # fmt: skip

    def _turbulence(self, seed: int) -> Turbulence | None:
        gusts = self.definition.turbulence
        return None if gusts is None else Turbulence(**gusts.model_dump(), seed=seed)


def is_scenario(path: Path) -> bool:
    """Whether a file is a scenario: a TOML file that names an aircraft and a start."""
    if path.suffix != ".toml":
        return False
    try:
        lines = KeyLines(read_text(path), str(path))
    except DravikError:
        return False
    return lines.has(["aircraft"]) and lines.has(["start"])


def scenario_names() -> dict[str, Path]:
    """Return the scenarios that ship with the samples, by name."""
    found = (p for name in sample_names() for p in sorted((sample_path(name) / "scenarios").glob("*.toml")))
    return {p.stem: p for p in found}


def load_scenario(path: str | Path) -> Scenario:
    """Return the scenario in a TOML file, or that of a sample by its name, its aircraft compiled.

    Raises DefinitionError and DravikError for what is wrong, with file, line and key.

    >>> import dravik as dv
    >>> dv.load_scenario("fire_run").craft.name
    'Tarn'
    """
    source = as_path(path)
    if not exists(source) and str(path) in scenario_names():
        source = scenario_names()[str(path)]
    d, lines = read_definition(source, ScenarioDefinition)
    base = _aircraft_path(d.aircraft, source, lines)
    craft = load(base, loading=d.loading, compiled=False)
    for law in d.laws:
        craft = craft.with_law(*load_law(_law_path(law, source, base)))
    aimed = {} if d.aim is None else {f"aim_{key}": getattr(d.aim, key) for key in ("north", "east", "altitude")}
    if aimed:
        d = d.model_copy(update={"start": d.start.model_copy(update={"inputs": {**aimed, **d.start.inputs}})})
    own = LawDefinition(
        format=1, name=d.name, inputs=d.inputs, formulas=d.formulas, events=d.events, tables=d.tables, add={}
    )  # fmt: skip
    if own.inputs or own.formulas or own.events or own.tables:
        craft = craft.with_law(own, read_tables(d.tables, lines), lines)
    keys = [
        *(f"{s}.{n}" for s in ("faults", "gusts", "mode_logic") for n in getattr(d, s)),
        *(f"phases.{k}" for k in range(len(d.phases))),
    ]
    craft = craft.with_places(lines, [*keys, *(f"environment.{key}" for key in d.environment)])
    if d.environment:
        try:
            craft = craft.with_environment(**d.environment)
        except DravikError as error:
            raise error.at(lines.place(["environment"]).removesuffix(": environment")) from None
    if d.faults or d.gusts or d.phases or d.mode_logic:
        craft = craft.with_plan(d.faults, d.phases, d.mode_logic, d.gusts)
    craft.compiled()
    for name, value in d.parameters.items():
        try:
            craft = craft.with_parameters({name: value})
        except DravikError as error:
            raise error.at(lines.place(["parameters", name])) from None
    _check_inputs(craft, d.start.inputs, lines.place(["start", "inputs"]))
    if isinstance(d.start, Named):
        try:
            named_start(craft, d.start.name)
        except DravikError as error:
            raise error.at(lines.place(["start", "name"])) from None
    for k, phase in enumerate(d.phases):
        _check_inputs(craft, phase.set, f"{lines.place(['phases'])}.{k}.set")
    own_values = OWN_VALUES if d.route is not None else ()
    for name in d.record.signals:
        if name not in craft.signals and name not in own_values:
            place, hint = lines.place(["record", "signals"]), nearest(name, craft.signals)
            raise DravikError(f"{craft.name} has no signal {name!r}", where=place, hint=hint)
    return Scenario(d, craft, _controls(d.controls, lines), source, _course(d, craft, source, lines))


def _course(d: ScenarioDefinition, craft: Aircraft, source: Path, lines: KeyLines) -> CoursePath | None:
    """Return the path of the route that is flown; raises DravikError for one without room, or too near the land."""
    if d.route is None:
        return None
    own, home = source.parent / d.route.file, _aircraft_path(d.aircraft, source, lines)
    kept = (home if is_folder(home) else home.parent) / "routes" / f"{d.route.file.removesuffix('.toml')}.toml"
    try:
        return path_over_land(craft, read_route(own if exists(own) or not exists(kept) else kept), d.route.clearance)
    except DravikError as error:
        raise error.at(lines.place(["route"])) from None


def _check_inputs(craft: Aircraft, values: Quantities, place: str) -> None:
    """Refuse inputs that are not there, and values that do not fit: a file's angles have their unit."""
    for name, value in values.items():
        try:
            if name in craft.parameters:
                parameter_in_si(craft.configuration.parameters, name, value)
                continue
            craft.input_index(name)
        except DravikError as error:
            raise error.at(f"{place}.{name}") from None
        craft.inputs_in_si({name: value}, bare_angles=False, place=f"{place}.")


def _aircraft_path(name: str, source: Path, lines: KeyLines) -> Path:
    """Return the aircraft's file or folder: relative to the scenario, or a sample's name."""
    own = source.parent / name
    if exists(own):
        return own
    if name in sample_names():
        return sample_path(name)
    raise DravikError(
        f"there is no aircraft {name!r}", where=lines.place(["aircraft"]), expected="a path relative to this file",
        hint=nearest(name, sample_names()),
    )  # fmt: skip


def _law_path(name: str, source: Path, base: Path) -> Path:
    """Return a law's file: relative to the scenario, or one in the aircraft's folder of laws."""
    folder = base if is_folder(base) else base.parent
    own = folder / "laws" / f"{name.removesuffix('.toml')}.toml"
    return own if exists(own) and not exists(source.parent / name) else source.parent / name


def _controls(entries: Mapping[str, str | Sequence[str]], lines: KeyLines) -> dict[str, History]:
    """Return the histories of controls; several for one input add up."""
    found = {}
    for name, texts in entries.items():
        try:
            parts = [parse_history(t) for t in ([texts] if isinstance(texts, str) else texts)]
        except DravikError as error:
            raise error.at(lines.place(["controls", name])) from None
        found[name] = parts[0] if len(parts) == 1 else _sum(name, parts)
    return found


def _sum(name: str, parts: Sequence[History]) -> History:
    units = {p.unit for p in parts}
    if len(units) > 1 or any(p.absolute for p in parts):
        raise DravikError(f"the histories of {name} do not add up", expected="histories of one unit, not from files")
    corners = tuple(sorted({c for p in parts for c in p.corners}))
    return History(lambda t: sum(p(t) for p in parts), corners, parts[0].unit, ", ".join(p.text for p in parts))  # type: ignore[arg-type, return-value]
