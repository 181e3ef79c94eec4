"""The command book: a report over a whole aircraft."""

from dataclasses import dataclass
from typing import Annotated

import typer
from rich.progress import BarColumn, Progress, TextColumn

from dravik.cli.shared.common import AircraftFile, AsJson, emit, err, own_file, say, show_rows, written
from dravik.cli.shared.conditions import AircraftOptions, Day, in_air
from dravik.cli.shared.groups import OptionGroup, grouped
from dravik.errors import DravikError

__all__ = ["book"]


@dataclass(frozen=True)
class BookOptions(OptionGroup):
    """Where a book looks, and what it shows."""

    altitude: Annotated[
        str, typer.Option(help="altitude of the chapters that look at one; a tenth up the envelope unless given")
    ] = ""
    airspeeds: Annotated[
        str, typer.Option(help="airspeeds of trims and modes: 'from:to:how many unit'; those of level flight otherwise")
    ] = ""
    aircraft_class: Annotated[str, typer.Option("--class", help="I, II-L, II-C, III or IV")] = "II-L"
    category: Annotated[str, typer.Option(help="flight phase category: A, B or C")] = "B"
    plan: Annotated[
        list[str] | None,
        typer.Option(metavar="FILE", help="loops to show, repeated; those of its folder loops unless given"),
    ] = None
    scenario: Annotated[
        list[str] | None,
        typer.Option(metavar="FILE", help="flights to fly, repeated; those of its folder scenarios unless given"),
    ] = None
    chapters: Annotated[
        str,
        typer.Option(
            help="only these, commas between: definition, coefficients, masses, engines, limits, trims, modes, "
            "handling, loops, flights"
        ),
    ] = ""


@grouped
def book(
    aircraft: AircraftFile,
    fitted: AircraftOptions,
    shown: BookOptions,
    day: Day = "",
    out: Annotated[str, written("the book: .html or .pdf", "--out")] = "book.html",
    as_json: AsJson = False,
) -> None:
    """Write a report over a whole aircraft: tables, masses, engines, limits, trims, modes, handling, loops, flights.

    Exit code 1: a chapter's answer is no.
    """
    from dravik.book import BookRequest, write_aircraft_book
    from dravik.definition.settings import read_settings, sort_settings
    from dravik.trimming.sweeps import spread

    craft = in_air(fitted.craft(aircraft), day=day)
    inputs = sort_settings(read_settings(fitted.set_), craft.parameters).inputs
    if inputs:
        raise DravikError(
            f"a book is not of one value of {', '.join(inputs)}", where="--set", expected="parameters of the aircraft"
        )
    request = BookRequest(
        altitude=shown.altitude, airspeeds=spread(shown.airspeeds, "airspeeds") if shown.airspeeds else (),
        aircraft_class=shown.aircraft_class, category=shown.category,
        plans=[own_file(p, aircraft, "loops") for p in shown.plan or ()],
        scenarios=[own_file(s, aircraft, "scenarios") for s in shown.scenario or ()],
        chapters=[c.strip() for c in shown.chapters.split(",") if c.strip()],
    )  # fmt: skip
    columns = (TextColumn("{task.description}"), BarColumn())
    # a thread of its own to draw the bar would keep the figures from being shared out
    hidden = as_json or not err.is_terminal
    with Progress(*columns, console=err, transient=True, disable=hidden, auto_refresh=False) as bar:
        task = bar.add_task(craft.name, total=1.0)

        def told(what: str, share: float) -> None:
            bar.update(task, description=what, completed=share)
            bar.refresh()

        found = write_aircraft_book(craft, out, request, told=told)
    is_good = all(entry.good is not False for entry in found)
    if as_json:
        emit({"aircraft": craft.name, "book": out, "good": is_good, "chapters": [vars(entry) for entry in found]})
    else:
        words = {True: "yes", False: "no", None: "-"}
        rows = [(words[entry.good], entry.heading, entry.verdict) for entry in found]
        show_rows(f"{craft.name} ({craft.loading_name}): the book", ["good", "chapter", "what it says"], rows)
        say(f"written: {out}")
    if not is_good:
        raise typer.Exit(1)
