"""From a TOML file to an aircraft, with every error told by file, line, key and value."""

import tomllib
from pathlib import Path
from typing import Any, TypeVar, cast

from pydantic import BaseModel, ValidationError

from dravik.aircraft.craft import Aircraft
from dravik.aircraft.lines import KeyLines
from dravik.aircraft.schema import AircraftDefinition, LawDefinition
from dravik.errors import DefinitionError, DravikError, nearest
from dravik.tables import Table, read_table

__all__ = ["load", "load_law", "read_definition"]

M = TypeVar("M", bound=BaseModel)


def load(path: str | Path, *, loading: str = "") -> Aircraft:
    """Return the aircraft defined in a TOML file, in its default loading or the one named.

    Raises DefinitionError listing everything wrong in the file, each with its line and key, and
    DravikError for a file that cannot be read; messages of formulas point at the character.
    """
    path = Path(path)
    if path.is_dir():
        path = path / "aircraft.toml"
    definition, lines = read_definition(path, AircraftDefinition)
    tables = read_tables(definition.tables, path, lines)
    return Aircraft(definition, tables, path=path, places=lines, loading=loading)


def load_law(path: str | Path) -> tuple[LawDefinition, dict[str, Table], KeyLines]:
    """Return the control law in a TOML file, its tables, and where its keys stand.

    Raises as ``load`` does.
    """
    path = Path(path)
    definition, lines = read_definition(path, LawDefinition)
    return definition, read_tables(definition.tables, path, lines), lines


def read_definition(path: Path, model: type[M]) -> tuple[M, KeyLines]:
    """Return a TOML file as one of the models, and where its keys stand."""
    try:
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError:
        raise DravikError("there is no such file", where=str(path), hint="dravik new DIR makes one") from None
    except (OSError, UnicodeDecodeError) as error:
        raise DravikError(f"the file cannot be read ({error})", where=str(path)) from None
    lines = KeyLines(text, str(path))
    try:
        data = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError, ValueError) as error:
        raise DravikError(f"this is not TOML ({error})", where=str(path)) from None
    return validate(data, model, lines), lines


def validate(data: dict[str, Any], model: type[M], lines: KeyLines) -> M:
    """Return ``data`` as a model; raise DefinitionError with a line for each problem."""
    try:
        return model.model_validate(data)
    except ValidationError as error:
        problems = [_problem(cast(dict[str, Any], e), data, model, lines) for e in error.errors()]
        raise DefinitionError(dict.fromkeys(problems)) from None
    except RecursionError:
        raise DravikError("nested too deeply", where=lines.file) from None


def _problem(error: dict[str, Any], data: dict[str, Any], model: type[BaseModel], lines: KeyLines) -> str:
    """Return one line: file, line, key, what is wrong, what was expected."""
    keys = [str(part) for part in error["loc"]]
    while keys and not lines.has(keys) and not _inside(data, keys):
        keys.pop()
    place = lines.place(keys)
    value = error.get("input")
    cause = error.get("ctx", {}).get("error")
    if isinstance(cause, DravikError):
        # a check of a whole section names the key it is about as its place
        place = lines.place([*keys, *cause.where.split(".")]) if cause.where else place
        text = str(cause).removeprefix(f"{cause.where}: ")
    elif error["type"] == "extra_forbidden":
        hint = nearest(str(error["loc"][-1]), _valid_keys(model, [str(p) for p in error["loc"][:-1]]))
        text = "there is no such key" + (f"; {hint}" if hint else "")
        place = lines.place([str(p) for p in error["loc"]])
    elif error["type"] == "missing":
        place = lines.place([str(p) for p in error["loc"][:-1]])
        text = f"the key {error['loc'][-1]!r} is missing"
    else:
        text = f"{error['msg']} (found {str(value)[:60]!r})"
    return f"{place}: {text}"


def _inside(data: Any, keys: list[str]) -> bool:
    for key in keys:
        if not isinstance(data, dict) or key not in data:
            return False
        data = data[key]
    return True


def _valid_keys(model: type[BaseModel], path: list[str]) -> list[str]:
    """Return the keys valid where ``path`` leads, as well as they can be told from the models."""
    current: Any = model
    for part in path:
        annotation = current.model_fields[part].annotation if part in current.model_fields else None
        inner = annotation
        if inner is None:
            continue
        for candidate in [inner, *getattr(inner, "__args__", ())]:
            if isinstance(candidate, type) and issubclass(candidate, BaseModel):
                current = candidate
                break
    return list(current.model_fields)


def read_tables(entries: dict[str, Any], path: Path, lines: KeyLines) -> dict[str, Table]:
    """Return the tables that a definition names; paths are relative to its file."""
    tables: dict[str, Table] = {}
    for name, entry in entries.items():
        try:
            tables[name] = read_table(
                path.parent / entry.file,
                name=name,
                column=entry.column,
                over=entry.over,
                method=entry.method,
                outside=entry.outside,
            )
        except DravikError as error:
            raise error.at(lines.place(["tables", name])) from None
    return tables
