"""The reference of the files, written of the models that read them: every key with unit, default, meaning and example."""

import inspect
import re
import types
import typing
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from pathlib import Path
from typing import Any, Literal, get_args, get_origin

from pydantic import BaseModel
from pydantic_core import PydanticUndefined
from sphinx.pycode import ModuleAnalyzer

from dravik.aero.bodies.finned import FinnedBody
from dravik.aero.campaign.tunnel import Campaign
from dravik.aero.drawing.geometry import Geometry
from dravik.aircraft.description.schema import AircraftDefinition, LawDefinition
from dravik.definition import fields
from dravik.guidance.route import Route
from dravik.link.link_file import LinkDefinition
from dravik.loops.plan import LoopPlan
from dravik.performance.fuel import FuelMission
from dravik.propulsion.blades import Blades
from dravik.propulsion.turbines import GasTurbine
from dravik.scenarios.definition import ScenarioDefinition
from dravik.units import KINDS
from tools.docsite import examples
from tools.docsite.examples import models_in
from tools.docsite.markdown import table, toctree

#: Pages by name: title, what the file is, and the models that begin it; what they contain follows by itself.
PAGES: dict[str, tuple[str, str, tuple[type[BaseModel], ...]]] = {
    "aircraft": ("The aircraft file", "`aircraft.toml`, with tables in CSV files beside it.", (AircraftDefinition,)),
    "law": ("A law's file", "A control law: `laws/NAME.toml` beside the aircraft file.", (LawDefinition,)),
    "scenario": ("A scenario's file", "What `dravik fly SCENARIO` flies.", (ScenarioDefinition,)),
    "route": ("A route's file", "The points that guidance flies along.", (Route,)),
    "loops": ("A file of loops", "What `dravik loop --plan` designs and judges, in order.", (LoopPlan,)),
    "fuel": ("A file of legs", "What `dravik fuel` finds the fuel for.", (FuelMission,)),
    "geometry": ("A drawing: geometry.toml", "What tables are built from.", (Geometry, FinnedBody)),
    "campaign": ("A wind-tunnel campaign: campaign.toml", "How balance files become tables.", (Campaign,)),
    "blades": ("A file of blades", "What `dravik tables blades` makes a map of.", (Blades,)),
    "link": ("A link file", "Datagrams between a flight and other programs.", (LinkDefinition,)),
    "turbine": ("A gas turbine's design point", "The arguments of `GasTurbine`.", (GasTurbine,)),
}
#: Pages that hold models of one subject, which several files contain: title and the module's beginning.
SUBJECTS = {
    "masses": ("Parts, tanks and loadings", "dravik.mass"),
    "engines": ("Engines and what they share", "dravik.propulsion"),
    "gear": ("Gear, hull and crash", "dravik.contact"),
    "controls": ("Inputs, controls and parameters", "dravik.definition"),
    "world": ("The world: Earth, air, wind, gusts", "dravik.surroundings"),
    "starts": ("Starts", "dravik.flight"),
    "faults": ("Faults", "dravik.aircraft.description.faults"),
    "modes": ("Mode logic and phases", "dravik.mode_logic"),
    "tables": ("Tables", "dravik.tables"),
}


#: Keys whose unit follows from another key of their section.
OF_ITS_KIND = {
    ("_Ranged", "range"): "2 × quantity of its kind",
    ("Effector", "rate"): "quantity of its kind a second",
    ("Input", "default"): "quantity of its kind",
    ("Parameter", "value"): "number or quantity",
    ("Parameter", "range"): "2 × number or quantity",
    ("GasTurbine", "rated"): "thrust, N, or power, W",
    ("Sent", "to"): "host and port",
    ("Received", "at"): "host and port",
}


@dataclass(frozen=True)
class Key:
    """A key of a file: what stands in its row of the reference."""

    name: str
    kind: str
    default: str
    meaning: str
    example: str


def reachable(model: type[BaseModel], seen: dict[type[BaseModel], None] | None = None) -> list[type[BaseModel]]:
    """Return a model and all that its keys lead to, in the order of the keys."""
    seen = {} if seen is None else seen
    if model not in seen:
        seen[model] = None
        model.model_rebuild()
        for field in model.model_fields.values():
            for inner in models_in(field.annotation):
                reachable(inner, seen)
        for annotation in _extras(model):
            for inner in models_in(annotation):
                reachable(inner, seen)
    return list(seen)


def _extras(model: type[BaseModel]) -> list[Any]:
    """Return the types of keys with any name, such as formulas."""
    if model.model_config.get("extra") != "allow":
        return []
    return list(get_args(hints_of(model).get("__pydantic_extra__")))


def quantity_of(annotation: Any, metadata: tuple[Any, ...] = ()) -> str:
    """Return the kind of quantity that a field's validators convert, or nothing."""
    for item in (*metadata, *getattr(annotation, "__metadata__", ())):
        found = _kind_in(getattr(item, "func", None))
        if found:
            return found
    for inner in get_args(annotation):
        found = quantity_of(inner)
        if found:
            return found
    return ""


def _kind_in(function: Any) -> str:
    if not isinstance(function, types.FunctionType):
        return ""
    inside = [c.cell_contents for c in function.__closure__ or ()]
    for thing in (*inside, *function.__code__.co_consts):
        if isinstance(thing, str) and thing in KINDS:
            return thing
    return next((k for t in inside if (k := _kind_in(t))), "")


def kind_of(annotation: Any, metadata: tuple[Any, ...] = ()) -> str:
    """Return in words what may stand in a key: a quantity with its SI unit, a formula, a choice, a section."""
    quantity = quantity_of(annotation, metadata)
    whole = _words(annotation)
    if quantity:
        unit = KINDS[quantity][0]
        told = f"{quantity}, {unit}" if unit else quantity
        many = _how_many(annotation)
        formula = " or formula" if "formula_of" in str(metadata) or whole.startswith("formula") else ""
        return f"{many}{told}{formula}"
    return whole


def _how_many(annotation: Any) -> str:
    """Return how many quantities stand in a key: nothing for one."""
    for part in (annotation, *get_args(annotation)):
        if get_origin(part) is tuple:
            args = get_args(part)
            return "list of " if Ellipsis in args else f"{len(args)} × "
        if get_origin(part) is dict:
            return "by name: "
    return ""


def _words(annotation: Any) -> str:
    if annotation is fields.Formula or _is_formula(annotation):
        return "formula"
    origin, args = get_origin(annotation), get_args(annotation)
    if annotation is type(None):
        return ""
    if origin is Literal:
        return ", ".join(f'"{a}"' if isinstance(a, str) else str(a) for a in args)
    if origin is typing.Annotated:
        return _words(args[0])
    if origin in (typing.Union, types.UnionType):
        return " or ".join(dict.fromkeys(w for a in args if (w := _words(a))))
    if origin is dict:
        return f"by name: {_words(args[1])}"
    if origin in (tuple, list):
        inner = [a for a in args if a is not Ellipsis]
        words = list(dict.fromkeys(_words(a) for a in inner))
        return (
            f"list of {words[0]}" if Ellipsis in args or origin is list else f"[{', '.join(_words(a) for a in inner)}]"
        )
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return f"section {annotation.__name__}"
    words = {float: "number", int: "whole number", str: "text", bool: "true or false", datetime: "date and time"}
    return words.get(annotation, "any value")


def _is_formula(annotation: Any) -> bool:
    return get_origin(annotation) is typing.Annotated and any(
        "_formula" in getattr(getattr(m, "func", None), "__name__", "")
        or "formula_of" in getattr(getattr(m, "func", None), "__qualname__", "")
        for m in annotation.__metadata__
    )


@cache
def _comments(module: str) -> dict[tuple[str, str], str]:
    """Return the meanings that stand as ``#:`` beside the keys of a module's models."""
    return {key: " ".join(lines).strip() for key, lines in ModuleAnalyzer.for_module(module).find_attr_docs().items()}


def meaning_of(model: type[BaseModel], name: str) -> str:
    """Return the meaning of a key: the comment beside it in the model, or in the one that it is made from."""
    for base in model.__mro__:
        if base.__module__.startswith("dravik"):
            text = _comments(base.__module__).get((base.__name__, name))
            if text:
                return text
    return ""


def _of_its_kind(model: type[BaseModel], name: str) -> str:
    """Return what stands in a key that is read by the kind that its section names."""
    return next((OF_ITS_KIND[b.__name__, name] for b in model.__mro__ if (b.__name__, name) in OF_ITS_KIND), "")


def hints_of(model: type[BaseModel]) -> dict[str, Any]:
    """Return the types of a section's keys, with what they are validated by."""
    return typing.get_type_hints(model, include_extras=True)


def keys_of(model: type[BaseModel]) -> Iterator[Key]:
    """Yield the keys of a section."""
    hints = hints_of(model)
    for name, field in model.model_fields.items():
        default = "required" if field.is_required() else _default(field.get_default(call_default_factory=True))
        annotation = hints.get(name, field.annotation)
        kind = _of_its_kind(model, name) or kind_of(annotation, tuple(field.metadata))
        value = examples.value_of(model, name, kind)
        shown = "" if value is None else f"{field.alias or name} = {value}"
        yield Key(field.alias or name, kind, default, meaning_of(model, name), shown)


def _default(value: Any) -> str:
    if value is PydanticUndefined or value in (None, "", (), [], {}) or value != value:
        return ""
    if isinstance(value, bool):
        return f"`{str(value).lower()}`"
    if isinstance(value, BaseModel):
        return ""
    if isinstance(value, tuple):
        return "" if any(isinstance(v, float) and v != v for v in value) else f"`{list(value)}`"
    return f"`{value:g}`" if isinstance(value, float) else f'`"{value}"`' if isinstance(value, str) else f"`{value}`"


def section(model: type[BaseModel]) -> list[str]:
    """Return the part of a page that tells the keys of a section."""
    lines = [f"({_label(model)})=", f"## {_heading(model)}", "", _summary(model), ""]
    rows = [
        (f"`{k.name}`", _linked(k.kind, model), k.default, k.meaning, f"`{k.example}`" if k.example else "")
        for k in keys_of(model)
    ]
    if model.model_config.get("extra") == "allow":
        rows.append(
            ("any other name", "formula", "", "a formula under that name", '`CL = "CL_basic(alpha) + 0.42*elevator"`')
        )
    return [*lines, *table(("key", "what stands in it", "default", "meaning", "example"), rows)]


def _summary(model: type[BaseModel]) -> str:
    """Return what a model's docstring tells, without its example."""
    return str(inspect.getdoc(model)).split(">>>")[0].split("\nExamples\n")[0].replace("``", "`").strip()


def _label(model: type[BaseModel]) -> str:
    return f"{model.__module__.rpartition('.')[2]}-{model.__name__}".lower().replace("_", "-")


@cache
def _places() -> dict[type[BaseModel], str]:
    """Return how the header of each section reads, by the way from a file to it."""
    found: dict[type[BaseModel], str] = {}
    waiting: list[tuple[type[BaseModel], str]] = [(root, "") for _, (_, _, roots) in PAGES.items() for root in roots]
    while waiting:
        model, path = waiting.pop(0)
        if model in found:
            continue
        found[model] = path
        hints = hints_of(model)
        for name, field in model.model_fields.items():
            many = ".NAME" if "dict" in str(hints[name]) else "[]" if "tuple" in str(hints[name]) else ""
            inside = f"{path}.{field.alias or name}{many}".lstrip(".")
            waiting += [(inner, inside) for inner in models_in(field.annotation)]
    return found


def _heading(model: type[BaseModel]) -> str:
    """Return the header of a section as a file has it, such as ``[engines.NAME], kind "jet"``."""
    path = _places().get(model, "")
    if not path:
        return "The file itself"
    name = path.replace("[]", "")
    told = f"`[[{name}]]`" if path.endswith("[]") else f"`[{name}]`"
    kind = model.model_fields.get("kind")
    kinds = [k for k in get_args(kind.annotation) if isinstance(k, str)] if kind is not None else []
    return f'{told}, kind "{kinds[0]}"' if len(kinds) == 1 else told


def _linked(kind: str, model: type[BaseModel]) -> str:
    """Return a kind with the sections in it as links to where they are told."""
    hints = hints_of(model)
    inner = {m.__name__: m for hint in hints.values() for m in models_in(hint)}

    def link(found: re.Match[str]) -> str:
        target = inner[found[1]]
        return f"[{_heading(target).replace('`', '')}](#{_label(target)})"

    return re.sub(r"section (\w+)", link, kind)


@cache
def _placed() -> dict[type[BaseModel], str]:
    """Return on which page each section is told: that of its subject, or of the file that begins with it."""
    found: dict[type[BaseModel], str] = {}
    for page, (_, _, roots) in PAGES.items():
        for root in roots:
            for model in reachable(root):
                subject = next(
                    (s for s, (_, start) in SUBJECTS.items() if f"{model.__module__}.".startswith(f"{start}.")), ""
                )
                found.setdefault(model, page if model in roots or subject == "" else subject)
    return found


def write(folder: Path) -> None:
    """Write the pages of all files."""
    target = folder / "files"
    target.mkdir(parents=True, exist_ok=True)
    placed = _placed()
    titles = {**{p: (t, w) for p, (t, w, _) in PAGES.items()}, **{s: (t, "") for s, (t, _) in SUBJECTS.items()}}
    rows = []
    for name, (title, what) in titles.items():
        lines = [f"# {title}", "", *([what, ""] if what else [])]
        for model in [m for m, page in placed.items() if page == name]:
            lines += section(model)
        (target / f"{name}.md").write_text("\n".join(lines), encoding="utf-8")
        rows.append((f"[{title}]({name}.md)", what or "sections that several files have"))
    lines = [
        "# Files",
        "",
        'Every key of every file that Dravik reads. A quantity is text with its unit, such as `"2.5 m"`; the unit given '
        "here is that of a bare number. Unknown keys are errors with the nearest valid key.",
        "",
        *table(("file", "what it is"), rows),
        *toctree(titles),
    ]
    (target / "index.md").write_text("\n".join(lines), encoding="utf-8")


def sections() -> list[type[BaseModel]]:
    """Return every section that a file may have."""
    return list(_placed())


def missing() -> list[str]:
    """Return the keys without a meaning, by section."""
    return [f"{m.__name__}.{k.name}" for m in _placed() for k in keys_of(m) if not k.meaning]
