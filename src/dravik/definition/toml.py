"""TOML files as pydantic models, with every error told by file, line, key and value."""

import os
import re
from collections.abc import Sequence
from pathlib import Path
from typing import Any, TypeVar, cast, get_args

import tomli
from pydantic import BaseModel, ValidationError

from dravik.errors import DefinitionError, DravikError, nearest
from dravik.host.files import inside, read_text

__all__ = ["KeyLines", "kind_tag", "read_definition", "validate"]

M = TypeVar("M", bound=BaseModel)
TOLD = 60  # problems of a file, at most: each costs a search for the nearest key
_HEADER = re.compile(r"^\s*\[\[?\s*([^\[\]]+?)\s*\]\]?\s*(?:#.*)?$")
_KEY = re.compile(r"""^\s*((?:"[^"]*"|'[^']*'|[\w-]+)(?:\s*\.\s*(?:"[^"]*"|'[^']*'|[\w-]+))*)\s*=""")
_PART = re.compile(r""""[^"]*"|'[^']*'|[\w-]+""")


def kind_tag(value: object) -> str | None:
    """Return the tag of an entry that says its ``kind``, for unions of models; in brackets, so that no key is meant."""
    kind = value.get("kind") if isinstance(value, dict) else getattr(value, "kind", None)
    return f"({kind})" if isinstance(kind, str) else None


class KeyLines:
    """Where each key path of a TOML text stands; ``file`` is its name, ``include`` adds other files' keys."""

    def __init__(self, text: str, file: str) -> None:
        self.file = file
        self.folders: tuple[Path, ...] = (Path(file).parent,)  # those that it may name files in
        self.lines: dict[tuple[str, ...], int] = {}
        self._files: dict[tuple[str, ...], str] = {}
        section: tuple[str, ...] = ()
        for number, line in enumerate(text.splitlines(), start=1):
            header = _HEADER.match(line)
            if header:
                section = self._parts(header[1])
                self.lines.setdefault(section, number)
                continue
            key = _KEY.match(line)
            if key:
                self.lines.setdefault(section + self._parts(key[1]), number)

    @staticmethod
    def _parts(text: str) -> tuple[str, ...]:
        if text.isidentifier():
            return (text,)
        return tuple(part.strip("\"'") for part in _PART.findall(text))

    def include(self, other: "KeyLines") -> None:
        """Add the keys of an included file, with their places in that file."""
        for path, line in other.lines.items():
            if path not in self.lines:
                self.lines[path], self._files[path] = line, other.file

    def beside(self, keys: Sequence[str], name: str) -> Path:
        """Return the path of a file named relative to the one that a key stands in; raises DravikError outside."""
        path = Path(os.path.join(os.path.dirname(self._files.get(tuple(keys), self.file)), name))
        try:
            return inside(path, self.folders)
        except DravikError as error:
            raise error.at(self.place(keys)) from None

    def has(self, keys: Sequence[str]) -> bool:
        """Whether this very key path stands in the file."""
        return tuple(keys) in self.lines

    def place(self, keys: Sequence[str]) -> str:
        """Return ``file:line: key.path``; the line is that of the nearest key above when need be."""
        path = tuple(keys)
        dotted = ".".join(path)
        while path and path not in self.lines:
            path = path[:-1]
        line = f":{self.lines[path]}" if path else ""
        file = self._files.get(path, self.file)
        return f"{file}{line}: {dotted}" if dotted else f"{file}{line}"


def read_definition(path: Path, model: type[M], folders: Sequence[Path] = ()) -> tuple[M, KeyLines]:
    """Return a TOML file, with those that it includes, as one of the models, and where its keys stand.

    ``include = ["FILE"]`` takes in the sections of other files, relative to this one and in its folder, or in one of
    ``folders``. Raises DefinitionError with all that is wrong, and DravikError for a file that cannot be read or lies
    elsewhere, or a key that stands in two files.
    """
    data, lines = _read(path, "dravik new DIR makes one")
    lines.folders = (*lines.folders, *folders)
    included = data.get("include", [])
    if not (isinstance(included, list) and all(isinstance(name, str) for name in included)):
        raise DravikError(f"{included!r} is no list of files", where=lines.place(["include"]))
    for name in included:
        try:
            more, places = _read(inside(path.parent / name, lines.folders), "a path relative to this file")
        except DravikError as error:
            raise error.at(lines.place(["include"])) from None
        _merge(data, more, (), lines, places)
        lines.include(places)
    return validate(data, model, lines), lines


def _read(path: Path, hint: str) -> tuple[dict[str, Any], KeyLines]:
    """Return a TOML file's data and where its keys stand."""
    text = read_text(path, hint=hint)
    try:
        return tomli.loads(text), KeyLines(text, str(path))
    except (tomli.TOMLDecodeError, RecursionError, ValueError) as error:
        raise DravikError(f"this is not TOML ({error})", where=str(path)) from None


def _merge(
    data: dict[str, Any], more: dict[str, Any], path: tuple[str, ...], lines: KeyLines, places: KeyLines
) -> None:
    """Add the keys of an included file; two values for one key are an error, and never a silent choice."""
    for key, value in more.items():
        here = (*path, key)
        if key not in data:
            data[key] = value
        elif isinstance(data[key], dict) and isinstance(value, dict):
            _merge(data[key], value, here, lines, places)
        else:
            raise DravikError(
                f"this key also stands in {lines.place(here)}", where=places.place(here), hint="keep it in one of them"
            )


def validate(data: dict[str, Any], model: type[M], lines: KeyLines) -> M:
    """Return ``data`` as a model; raise DefinitionError with a line for each problem."""
    try:
        return model.model_validate(data)
    except ValidationError as error:
        errors = error.errors(include_url=False)
        problems = list(dict.fromkeys(_problem(cast(dict[str, Any], e), data, model, lines) for e in errors[:TOLD]))
        more = [f"... and {len(errors) - TOLD} more"] if len(errors) > TOLD else []
        raise DefinitionError([*problems, *more]) from None
    except RecursionError:
        raise DravikError("the file is nested too deeply", where=lines.file) from None


def _problem(error: dict[str, Any], data: dict[str, Any], model: type[BaseModel], lines: KeyLines) -> str:
    """Return one line: file, line, key, what is wrong, what was expected."""
    # pydantic puts the tag of a union, such as "(gust)", into the path; the file has no such key
    whole = [str(part) for part in error["loc"]]
    loc = [part for part in whole if not part.startswith("(")]
    keys = list(loc)
    while keys and not lines.has(keys) and not _inside(data, keys):
        keys.pop()
    place = lines.place(keys)
    value = error.get("input")
    cause = error.get("ctx", {}).get("error")
    if isinstance(cause, DravikError):
        # a validator of a whole section gives the key that it complains about as the error's place
        place = lines.place([*keys, *cause.where.split(".")]) if cause.where else place
        text = str(cause).removeprefix(f"{cause.where}: ")
    elif error["type"] == "extra_forbidden":
        hint = nearest(loc[-1], _valid_keys(model, whole[:-1]))
        text = "there is no such key" + (f"; {hint}" if hint else "")
        place = lines.place(loc)
    elif error["type"] in ("union_tag_invalid", "union_tag_not_found"):
        kinds = str(error["ctx"].get("expected_tags", "")).replace("'", "").replace("(", "").replace(")", "")
        tag = str(error["ctx"].get("tag", "")).strip("()")
        hint = nearest(tag, kinds.split(", "))
        place = lines.place([*keys, "kind"])
        text = (f"there is no kind {tag!r}" if tag else "the key 'kind' is missing") + (
            f"; expected one of {kinds}" if kinds else ""
        )
        text += f"; {hint}" if hint else ""
    elif error["type"] == "missing":
        place = lines.place(loc[:-1])
        text = f"the key {loc[-1]!r} is missing"
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
    candidates: list[type[BaseModel]] = [model]
    for part in path:
        if part.startswith("("):
            chosen = [c for c in candidates if part[1:-1] in get_args(c.model_fields["kind"].annotation)]
            candidates = chosen or candidates
        elif any(part in c.model_fields for c in candidates):
            inner = next(c.model_fields[part].annotation for c in candidates if part in c.model_fields)
            candidates = _models_in(inner) or candidates
    return [key for c in candidates for key in c.model_fields]


def _models_in(annotation: Any) -> list[type[BaseModel]]:
    """Return the models that a field's type is made of."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [found for inner in get_args(annotation) for found in _models_in(inner)]
