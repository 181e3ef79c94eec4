"""The command handling: criteria at a condition or over a sweep, charts, what would move them, two configurations."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Annotated, Any

import typer

from dravik.cli.shared.common import AircraftFile, AsJson, Figure, emit, progress_bar, say, show_rows
from dravik.cli.shared.conditions import CraftAndCondition
from dravik.cli.shared.groups import OptionGroup, grouped
from dravik.cli.shared.sweeps import Sweeps, sweep_of
from dravik.definition.settings import read_settings
from dravik.errors import DravikError

if TYPE_CHECKING:
    from dravik.aircraft import Aircraft
    from dravik.handling import Assessment, HandlingMap

__all__ = ["handling"]

SHOWN = 40  # rows of a printed map
Against = Annotated[
    list[str] | None,
    typer.Option("--against", metavar="NAME=VALUE", help="compare with another input, parameter or loading; repeated"),
]


@dataclass(frozen=True)
class HandlingOptions(OptionGroup):
    """What an aircraft is held against."""

    aircraft_class: Annotated[str, typer.Option("--class", help="I, II-L, II-C, III or IV")] = "II-L"
    category: Annotated[str, typer.Option(help="flight phase category: A, B or C")] = "B"
    criteria: Annotated[
        str,
        typer.Option(help="all, or modal, responses, static, roll, engine_out, margins, ride, hover; commas between"),
    ] = ""
    stick: Annotated[
        list[str] | None, typer.Option("--stick", metavar="AXIS=INPUT", help="the pilot's input for pitch, roll, yaw")
    ] = None
    force: Annotated[str, typer.Option(help="signal of the pilot's pull, N: SIGNAL, stick or wheel, limit load")] = ""

    def asked(self, craft: "Aircraft", *, has_laws: bool) -> dict[str, Any]:
        """Return it as ``handling_qualities`` takes it."""
        found: dict[str, Any] = {
            "aircraft_class": self.aircraft_class,
            "category": self.category,
            "sets": _sets(craft, self.criteria, has_laws=has_laws),
        }
        if self.stick:
            found["sticks"] = {axis: str(name) for axis, name in read_settings(self.stick, "--stick").items()}
        return found | ({"force": self.force} if self.force else {})


@dataclass(frozen=True)
class ComparisonOptions(OptionGroup):
    """What an aircraft is compared with, and whether it is said what would change its level."""

    against: Against = None
    against_law: Annotated[
        list[str] | None, typer.Option(metavar="FILE", help="compare with these laws engaged instead; may be repeated")
    ] = None
    sensitivities: Annotated[
        bool, typer.Option("--sensitivities", help="say which derivative or parameter would move what")
    ] = False

    def other(self, aircraft: str, chosen: CraftAndCondition, judged: dict[str, Any]) -> "Assessment | None":
        """Return the handling qualities of the other configuration, at the same condition; None unless asked for."""
        from dravik.handling import handling_qualities

        if self.against is None and self.against_law is None:
            return None
        pairs = [(p, p.split("=", 1)[0].strip()) for p in self.against or ()]
        loadings = [p.split("=", 1)[1].strip() for p, name in pairs if name == "loading" and "=" in p]
        own = [*(chosen.set_ or ()), *(p for p, name in pairs if name != "loading")]
        laws = chosen.law if self.against_law is None else self.against_law
        there = replace(chosen, set_=own, loading=loadings[-1] if loadings else chosen.loading, law=laws)
        craft = there.craft(aircraft)
        return handling_qualities(craft, there.point(craft), **judged)


@grouped
def handling(
    aircraft: AircraftFile,
    chosen: CraftAndCondition,
    judged: HandlingOptions,
    compared: ComparisonOptions,
    level: Annotated[int, typer.Option(help="worst level that passes", min=1, max=3)] = 1,
    sweep: Sweeps = None,
    figure: Figure = "",
    as_json: AsJson = False,
) -> None:
    """Hold modes and responses against published criteria, with level and margin for each; over a sweep, in a map.

    Exit code 1: a level is worse than --level, or there is none.
    """
    from dravik.handling import handling_qualities

    craft = chosen.craft(aircraft)
    asked = judged.asked(craft, has_laws=bool(chosen.law))
    if sweep:
        if compared != ComparisonOptions():
            raise DravikError("--sweep excludes --against and --sensitivities", expected="one condition, or a map")
        _map(craft, chosen, sweep, asked, figure, level, as_json)
        return
    point = chosen.point(craft)
    found = handling_qualities(craft, point, **asked)
    other = compared.other(aircraft, chosen, asked)
    _finish(found, other, point if compared.sensitivities else None, figure, level, as_json)


def _sets(craft: "Aircraft", criteria: str, *, has_laws: bool) -> list[str]:
    """Return the sets of criteria that are asked for; of rotorcraft those of hover, unless others are named."""
    from dravik.handling.assessment import ON_A_WING

    if criteria in ("", "all"):
        if craft.definition.mixers:
            return ["hover"]
        engines = sum(f"fail_{n}" in craft.inputs for n in craft.definition.engines)
        whole = [n for n in ON_A_WING if n != "engine_out" or engines > 1]
        return [*whole, *(["margins"] if has_laws else [])] if criteria else whole[:1]
    return [n.strip() for n in criteria.split(",") if n.strip()]


def _finish(
    found: "Assessment", other: "Assessment | None", moved: Any, figure: str, level: int, as_json: bool
) -> None:  # fmt: skip
    """Draw, print and leave with 1 where the level is worse than what passes."""
    from dravik.handling import compare_handling, sensitivities_of_level
    from dravik.handling.level_sensitivity import words

    told = words(sensitivities_of_level(moved, found)) if moved is not None else []
    if figure:
        from dravik.report import figure_handling, save_figure

        save_figure(figure_handling(found), figure)
    compared = compare_handling(found, other) if other is not None else None
    if as_json:
        emit(
            {
                "condition": found.title, "class": found.aircraft_class, "category": found.category,
                "level": found.level, "unjudged": found.unjudged, "from_memory": found.remembered,
                "criteria": found.rows(), "sensitivities": told, "compared": compared,
            }
        )  # fmt: skip
    else:
        show_handling(found)
        _say_end(found, told)
        if compared is not None and other is not None:
            _show_compared(found, other, compared)
        if figure:
            say(f"written: {figure}")
    if found.level is None or found.level > level:
        raise typer.Exit(1)


def show_handling(found: "Assessment") -> None:
    """Print criteria for people."""
    keys = ("paragraph", "requirement", "value", "unit", "level_1", "level", "margin")
    rows = found.rows()
    show_rows(
        f"{found.title}: class {found.aircraft_class}, category {found.category}",
        ["paragraph", "requirement", "value", "unit", "level 1 asks", "level", "margin"],
        [[f"{r['document']} {r['paragraph']}".strip(), *(r[k] for k in keys[1:])] for r in rows],
    )
    for r in rows:
        if r["note"] and r["level"] is not None:
            say(f"{r['requirement']}: {r['note']}")


def _say_end(found: "Assessment", sensitivities: Sequence[str]) -> None:
    """Say what could not be judged, the level, where its limits come from, and what would move it."""
    for text in found.unjudged:
        say(text, "red")
    if found.level is None:
        say("no level can be given")
    else:
        say(f"worst level: {found.level if found.level < 4 else 'worse than 3'}")
    if found.remembered:
        say(f"limits quoted from memory, not compared with a copy of the document: {_sources(found.remembered)}", "dim")
    for text in sensitivities:
        say(text)


def _sources(paragraphs: Sequence[str]) -> str:
    """Return documents with their paragraphs, each document once."""
    grouped: dict[str, list[str]] = {}
    for text in paragraphs:
        document, _, paragraph = text.rpartition(" ")
        grouped.setdefault(document or paragraph, []).append(paragraph)
    return "; ".join(
        f"{document} {', '.join(p for p in own if p != document)}".strip() for document, own in grouped.items()
    )


def _show_compared(before: "Assessment", after: "Assessment", rows: list[dict[str, Any]]) -> None:
    keys = ("requirement", "before", "after", "unit", "level_before", "level_after", "change")
    heads = ["requirement", "here", "there", "unit", "level here", "level there", "change"]
    show_rows(f"compared: level {before.level} here, {after.level} there", heads, [[r[k] for k in keys] for r in rows])


def _map(
    craft: "Aircraft", chosen: CraftAndCondition, axes: Sequence[str], judged: dict[str, Any], figure: str, level: int,
    as_json: bool,
) -> None:  # fmt: skip
    """Judge every point of a sweep, print, and draw."""
    from dravik.handling import handling_map

    trims = sweep_of(craft, chosen.condition, chosen.set_, axes, quiet=as_json)
    with progress_bar(quiet=as_json, what="judging") as told:
        found = handling_map(trims, told=told, **judged)
    if figure:
        from dravik.report import figure_handling_map, save_figure

        save_figure(figure_handling_map(found), figure)
    if as_json:
        emit({"aircraft": craft.name, "class": found.aircraft_class, "category": found.category, "rows": found.rows()})
    else:
        _show_map(found)
        if figure:
            say(f"written: {figure}")
    levels = [a.level for a in found.found if a is not None]
    if any(v is None or v > level for v in levels):
        raise typer.Exit(1)


def _level_of(row: dict[str, Any]) -> object:
    if not row["held"]:
        return "not held"
    return "none" if row["level"] is None else row["level"]


def _show_map(found: "HandlingMap") -> None:
    rows = found.rows()
    keep = max(1, -(-len(rows) // SHOWN))
    axes = [k for k in rows[0] if k == "loading" or k in list(rows[0])[: len(found.sweep.axes)]]
    cells = [
        [*(r[k] for k in axes), _level_of(r), r["limited_by"]] for r in rows[::keep]
    ]  # fmt: skip
    counts = {k: sum(1 for a in found.found if a is not None and a.level == k) for k in (1, 2, 3, 4, None)}
    words = {1: "level 1", 2: "level 2", 3: "level 3", 4: "below level 3", None: "no level"}
    text = ", ".join(f"{n} at {words[k]}" for k, n in counts.items() if n)
    more = f" (one in {keep} shown)" if keep > 1 else ""
    show_rows(f"{found.sweep.name}, category {found.category}: {text}{more}", [*axes, "level", "limited by"], cells)
