"""Tables as a definition names them: which file and column, over what, and how they are used."""

from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any

from pydantic import BaseModel, BeforeValidator, ConfigDict

from dravik.definition.toml import KeyLines
from dravik.errors import DravikError
from dravik.tables.csvfile import Sheet
from dravik.tables.table import Table

__all__ = ["TableEntries", "TableEntry", "read_tables"]


class TableEntry(BaseModel):
    """Where a table is, and how it is used: what is looked up is times ``scale`` and plus ``shift`` (SI).

    Both are numbers, or formulas of parameters.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, defer_build=True)

    file: str  #: CSV file, relative to the file that names it
    column: str = ""  #: column with the values; the last one unless given
    over: tuple[str, ...] = ()  #: columns that are the axes, in their order
    method: str = "linear"  #: between points: linear, or smooth without jumps in slope
    along: tuple[str, ...] = ()  #: axes along which a smooth table is smooth; all unless given
    outside: str = "hold"  #: beyond the ends: hold the value, extend the slope, or error
    scale: str | float = 1.0  #: factor on what is looked up: a number, or a formula of parameters
    shift: str | float = 0.0  #: what is added to it, in SI


def _with_paths(value: Any) -> Any:
    """Return entries in full: a bare path stands for a file without further words."""
    if isinstance(value, dict):
        return {k: {"file": v} if isinstance(v, str) else v for k, v in value.items()}
    return value


TableEntries = Annotated[dict[str, TableEntry], BeforeValidator(_with_paths)]


def read_tables(entries: Mapping[str, TableEntry], lines: KeyLines) -> dict[str, Table]:
    """Return the tables that a definition names; a path is relative to the file that it stands in.

    Raises DravikError with the place in the definition and in the table's file.
    """
    tables: dict[str, Table] = {}
    sheets: dict[Path, Sheet] = {}
    for name, entry in entries.items():
        file = lines.beside(["tables", name], entry.file)
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
