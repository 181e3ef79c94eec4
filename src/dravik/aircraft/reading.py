"""From a TOML file to an aircraft, with every error told by file, line, key and value."""

from pathlib import Path
from typing import Any

from dravik.aircraft.craft import Aircraft
from dravik.aircraft.schema import AircraftDefinition, LawDefinition
from dravik.definitions import KeyLines, read_definition
from dravik.errors import DravikError
from dravik.tables import Sheet, Table

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
    tables = read_tables(definition.tables, lines)
    return Aircraft(definition, tables, path=path, places=lines, loading=loading)


def load_law(path: str | Path) -> tuple[LawDefinition, dict[str, Table], KeyLines]:
    """Return the control law in a TOML file, its tables, and where its keys stand.

    Raises as ``load`` does.
    """
    path = Path(path)
    definition, lines = read_definition(path, LawDefinition)
    return definition, read_tables(definition.tables, lines), lines


def read_tables(entries: dict[str, Any], lines: KeyLines) -> dict[str, Table]:
    """Return the tables that a definition names; a path is relative to the file that it stands in."""
    tables: dict[str, Table] = {}
    sheets: dict[Path, Sheet] = {}
    for name, entry in entries.items():
        file = lines.file_of(["tables", name]).parent / entry.file
        try:
            if file not in sheets:
                sheets[file] = Sheet(file)
            tables[name] = sheets[file].table(
                name=name, column=entry.column, over=entry.over, method=entry.method, outside=entry.outside,
                along=entry.along,
            )  # fmt: skip
        except DravikError as error:
            raise error.at(lines.place(["tables", name])) from None
    return tables
