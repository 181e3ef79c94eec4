"""From a TOML file to an aircraft, with every error told by file, line, key and value."""

from pathlib import Path

from dravik.aircraft.craft import Aircraft
from dravik.aircraft.schema import AircraftDefinition, LawDefinition
from dravik.definitions import KeyLines, read_definition
from dravik.errors import DravikError
from dravik.mass import read_parts
from dravik.tables import Table
from dravik.tables.entries import read_tables

__all__ = ["load", "load_law"]


def load(path: str | Path, *, loading: str = "") -> Aircraft:
    """Return the aircraft defined in a TOML file, in its default loading or the one named.

    Raises DefinitionError listing everything wrong in the file, each with its line and key, and
    DravikError for a file that cannot be read; messages of formulas point at the character.
    """
    path = Path(path)
    if path.is_dir():
        path = path / "aircraft.toml"
    definition, lines = read_definition(path, AircraftDefinition)
    for listed in definition.parts_lists:
        more = read_parts(lines.file_of(["parts_lists"]).parent / listed)
        taken = sorted(set(more) & set(definition.parts))
        if taken:
            raise DravikError(
                f"the part {taken[0]!r} stands in {listed} and here", where=lines.place(["parts", taken[0]])
            )
        definition = definition.model_copy(update={"parts": {**definition.parts, **more}})
    tables = read_tables(definition.tables, lines)
    return Aircraft(definition, tables, path=path, places=lines, loading=loading)


def load_law(path: str | Path) -> tuple[LawDefinition, dict[str, Table], KeyLines]:
    """Return the control law in a TOML file, its tables, and where its keys stand.

    Raises as ``load`` does.
    """
    path = Path(path)
    definition, lines = read_definition(path, LawDefinition)
    return definition, read_tables(definition.tables, lines), lines
