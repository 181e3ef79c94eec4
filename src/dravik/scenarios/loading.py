"""From a scenario's file to a scenario: aircraft with laws, world and script, histories, the path of its route."""

from collections.abc import Mapping, Sequence
from functools import reduce
from operator import add
from pathlib import Path

from dravik.aircraft import Aircraft, LawDefinition, load, load_law, sample_names, sample_path
from dravik.definition.settings import kind_of_setting
from dravik.definition.toml import KeyLines, read_definition
from dravik.definition.values import parameter_in_si
from dravik.errors import DravikError, nearest
from dravik.flight.histories import History
from dravik.flight.history_text import parse_history
from dravik.flight.starts import NamedStart, Quantities, named_start
from dravik.guidance import Path as CoursePath
from dravik.guidance import path_over_land, read_route
from dravik.guidance.route_device import OWN_VALUES
from dravik.host.files import as_path, exists, is_folder, read_text
from dravik.scenarios.definition import ScenarioDefinition
from dravik.scenarios.scenario import Scenario
from dravik.tables.entries import read_tables

__all__ = ["is_scenario", "load_scenario", "scenario_names"]


def is_scenario(path: Path) -> bool:
    """Whether a file is a scenario: a TOML file that names an aircraft and a start.

    Parameters
    ----------
    path : Path
        The file.

    Returns
    -------
    bool
    """
    if path.suffix != ".toml":
        return False
    try:
        lines = KeyLines(read_text(path), str(path))
    except DravikError:
        return False
    return lines.has(["aircraft"]) and lines.has(["start"])


def scenario_names() -> dict[str, Path]:
    """Return the scenarios that ship with the samples, by name.

    Returns
    -------
    mapping of str to Path
    """
    found = (p for name in sample_names() for p in sorted((sample_path(name) / "scenarios").glob("*.toml")))
    return {p.stem: p for p in found}


def load_scenario(path: str | Path) -> Scenario:
    """Return the scenario in a TOML file, or that of a sample by its name, its aircraft compiled.

    Parameters
    ----------
    path : str or Path
        The file, or a name such as ``"fire_run"``.

    Returns
    -------
    Scenario
        Ready to ``fly``.

    Raises
    ------
    DefinitionError
        Listing everything wrong in the file, each with its line and key.
    DravikError
        For what does not fit the aircraft, with file, line and key.

    Examples
    --------
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
    beams = {} if d.approach is None else d.approach.formulas()
    own = LawDefinition(
        format=1, name=d.name, inputs=d.inputs, formulas={**beams, **d.formulas}, events=d.events, tables=d.tables,
        add={},
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
        craft = craft.with_script(d.faults, d.phases, d.mode_logic, d.gusts)
    if d.sensors or d.reads or d.estimator:
        key = "sensors" if d.sensors else "reads" if d.reads else "estimator"
        try:
            reads = d.reads or "truth"
            craft = craft.with_sensors(d.sensors, reads=reads, estimator=d.estimator, observing=(d.name,))
        except DravikError as error:
            raise error.at(lines.place([key])) from None
    craft.compiled()
    for name, value in d.parameters.items():
        try:
            craft = craft.with_parameters({name: value})
        except DravikError as error:
            raise error.at(lines.place(["parameters", name])) from None
    _check_inputs(craft, d.start.inputs, lines.place(["start", "inputs"]))
    if isinstance(d.start, NamedStart):
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
            if kind_of_setting(name, craft.parameters) == "parameter":
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
            found[name] = reduce(add, parts)
        except DravikError as error:
            raise error.at(lines.place(["controls", name])) from None
    return found
