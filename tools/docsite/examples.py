"""An example of each key of the files: from the samples where one has it, otherwise made of what may stand in it."""

import json
import tomllib
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import Any, get_args

from pydantic import BaseModel

from dravik.aero.campaign.tunnel import Campaign
from dravik.aero.drawing.geometry import Geometry
from dravik.aircraft import sample_path
from dravik.aircraft.description.schema import AircraftDefinition, LawDefinition
from dravik.guidance.route import Route
from dravik.loops.plan import LoopPlan
from dravik.performance.fuel import FuelMission
from dravik.propulsion.blades import Blades
from dravik.scenarios.definition import ScenarioDefinition

#: Which files of the samples are read by which model.
SAMPLES: tuple[tuple[str, type[BaseModel]], ...] = (
    ("aircraft.toml", AircraftDefinition), ("mass.toml", AircraftDefinition), ("gear.toml", AircraftDefinition),
    ("laws/*.toml", LawDefinition), ("scenarios/*.toml", ScenarioDefinition), ("routes/*.toml", Route),
    ("loops/*.toml", LoopPlan), ("fuel/*.toml", FuelMission), ("geometry.toml", Geometry),
    ("tunnel/campaign.toml", Campaign), ("propulsion/blades.toml", Blades),
)  # fmt: skip
LONGEST = 46


def value_of(model: type[BaseModel], name: str, kind: str) -> str | None:
    """Return an example's value as TOML: of a sample, of the file beside this module, or of a choice."""
    for owner in (base.__name__ for base in model.__mro__):
        found = _collected().get((owner, name)) or _written().get((owner, name))
        if found:
            return found
    if kind.startswith('"') or kind == "1":
        return kind.split(", ")[0]
    if kind == "true or false":
        return "true"
    return None if "section" in kind else _written().get(("any", name))


@cache
def _written() -> dict[tuple[str, str], str]:
    """Return the examples that are written beside this module."""
    data = tomllib.loads(Path(__file__).with_suffix(".toml").read_text(encoding="utf-8"))
    return {(model, key): toml(value) for model, keys in data.items() for key, value in keys.items()}


@cache
def _collected() -> dict[tuple[str, str], str]:
    """Return an example of each key that a sample has, by model and key; the shortest telling one."""
    found: dict[tuple[str, str], str] = {}
    for sample in ("tarn", "pika", "merle", "hail"):
        for pattern, model in SAMPLES:
            for path in sorted(Path(sample_path(sample)).glob(pattern)):
                for owner, key, value in _walk([model], tomllib.loads(path.read_text(encoding="utf-8"))):
                    shown = toml(value)
                    if len(shown) + len(key) < LONGEST and not _holds_sections(owner, key):
                        found.setdefault((owner.__name__, key), shown)
    return found


def _walk(candidates: list[type[BaseModel]], data: dict[str, Any]) -> Iterator[tuple[type[BaseModel], str, Any]]:
    """Yield every key of a file with the model that reads it."""
    model = _chosen(candidates, data)
    if model is None:
        return
    for key, value in data.items():
        name = next((n for n, f in model.model_fields.items() if key in (n, f.alias)), "")
        if not name:
            continue
        yield model, name, value
        inner = models_in(model.model_fields[name].annotation)
        if not inner:
            continue
        parts = [value] if isinstance(value, dict) else value if isinstance(value, list) else []
        for part in parts:
            if isinstance(part, dict):
                named = _chosen(inner, part) is None
                for deeper in part.values() if named else [part]:
                    if isinstance(deeper, dict):
                        yield from _walk(inner, deeper)


def _chosen(candidates: list[type[BaseModel]], data: dict[str, Any]) -> type[BaseModel] | None:
    """Return the model that reads this, by its kind and its keys."""
    for model in candidates:
        kind = model.model_fields.get("kind")
        kinds = get_args(kind.annotation) if kind is not None else ()
        stated = data.get("kind", kind.default if kind is not None else None)
        names = {n for f, field in model.model_fields.items() for n in (f, field.alias)}
        # a formula may have any name where the model takes others; "kind" of a quantity is no tag
        if (not kinds or stated in kinds) and (set(data) <= names or model.model_config.get("extra") == "allow"):
            return model
    return None


def unknown_keys(data: dict[str, Any], roots: list[type[BaseModel]]) -> list[str]:
    """Return the keys of a part of a file that no file has: of the file that knows most of its keys."""
    fitting = [r for r in roots if any(k in _names(r) for k in data)]
    if not fitting:
        return list(data)
    return min((_unknown(data, [root], "") for root in fitting), key=len)


def _unknown(data: dict[str, Any], candidates: list[type[BaseModel]], path: str) -> list[str]:
    """Return the keys below a section that it does not have."""
    stated = data.get("kind")
    tagged = [m for m in candidates if stated is not None and stated in _kinds(m)]
    among = tagged or [m for m in candidates if any(k in _names(m) for k in data)] or candidates
    model = min(among, key=lambda m: sum(k not in _names(m) for k in data))
    if model.model_config.get("extra") == "allow":
        return []
    found = []
    for key, value in data.items():
        name = next((n for n, f in model.model_fields.items() if key in (n, f.alias)), "")
        if not name:
            found.append(f"{path}{key}")
            continue
        annotation = model.model_fields[name].annotation
        if inner := models_in(annotation):
            for label, part in _parts(value, str(annotation).count("dict[")):
                found += _unknown(part, inner, f"{path}{key}.{label}")
    return found


def _parts(value: Any, named: int) -> Iterator[tuple[str, dict[str, Any]]]:
    """Yield the sections in a value: itself, those of a list, or those by their names, so many names deep."""
    if isinstance(value, list):
        yield from (("", part) for part in value if isinstance(part, dict))
    elif isinstance(value, dict) and named:
        for name, part in value.items():
            yield from ((f"{name}.{label}", inner) for label, inner in _parts(part, named - 1))
    elif isinstance(value, dict):
        yield "", value


def _names(model: type[BaseModel]) -> set[str | None]:
    return {n for f, field in model.model_fields.items() for n in (f, field.alias)}


def _kinds(model: type[BaseModel]) -> tuple[Any, ...]:
    kind = model.model_fields.get("kind")
    return get_args(kind.annotation) if kind is not None else ()


def _holds_sections(owner: type[BaseModel], key: str) -> bool:
    return key in owner.model_fields and bool(models_in(owner.model_fields[key].annotation))


def models_in(annotation: Any) -> list[type[BaseModel]]:
    """Return the models that a type is made of."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [m for inner in get_args(annotation) for m in models_in(inner)]


def toml(value: Any) -> str:
    """Return a value as a TOML file has it."""
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{k} = {toml(v)}" for k, v in value.items()) + " }"
    if isinstance(value, list):
        return f"[{', '.join(toml(v) for v in value)}]"
    return json.dumps(value, ensure_ascii=False) if isinstance(value, bool | str | int | float) else str(value)
