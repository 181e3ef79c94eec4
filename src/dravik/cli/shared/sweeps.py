"""Many trims on the command line: a sweep with its options, table, file and figure; every solution of one condition."""

from collections.abc import Sequence
from typing import TYPE_CHECKING, Annotated, Any, cast

import typer

from dravik.cli.shared.common import emit, input_settings, progress_bar, say, show_rows
from dravik.cli.shared.conditions import ConditionOptions
from dravik.definition.settings import read_settings
from dravik.units import from_si

if TYPE_CHECKING:
    from dravik.aircraft import Aircraft
    from dravik.trimming import TrimSweep
    from dravik.trimming.condition import ConditionKeys

__all__ = ["Sweeps", "run_all", "run_sweep", "sweep_of"]

Sweeps = Annotated[
    list[str] | None,
    typer.Option(
        "--sweep", metavar="NAME=VALUES",
        help="an axis: 'airspeed=45:95:26 m/s' (from, to, how many), 'loading=loaded,dropped', 'flap_lever=0,20 deg'; "
        "may be repeated",
    ),
]  # fmt: skip
SHOWN = 7  # signals in the printed table
MOST_ROWS = 40  # of it


def sweep_of(
    craft: "Aircraft", condition: ConditionOptions, inputs: Sequence[str] | None, axes: Sequence[str], *, quiet: bool
) -> "TrimSweep":
    """Return the trims over the axes of the options."""
    from dravik.trimming import trim_sweep

    asked: dict[str, Any] = {**condition.asked, "inputs": input_settings(craft, inputs)}
    if condition.guess:
        asked["guess"] = read_settings(condition.guess, "--guess")
    over = {n: str(v) for n, v in read_settings(axes, "--sweep").items()}
    with progress_bar(quiet=quiet, what="trimming") as told:
        return trim_sweep(craft, over, told=told, **cast("ConditionKeys", asked))


def run_sweep(
    craft: "Aircraft", condition: ConditionOptions, inputs: Sequence[str] | None, axes: Sequence[str], signals: str,
    out: str, figure: str, as_json: bool,
) -> bool:  # fmt: skip
    """Trim over the axes, print, write and draw what was found; return whether anything is held."""
    names = _named(craft, signals)
    found = sweep_of(craft, condition, inputs, axes, quiet=as_json)
    if out:
        found.save(out)
    if figure:
        from dravik.report import figure_sweep, save_figure

        save_figure(figure_sweep(found, names), figure)
    if as_json:
        emit({"aircraft": craft.name, "held": found.held, "points": len(found.points), "rows": found.rows(names)})
        return found.held > 0
    _show(found, names)
    if found.table_exceedances:
        say(f"{found.table_exceedances} of the points are outside tables: the column outside in --out and --json tells")
    for file in (out, figure):
        if file:
            say(f"written: {file}")
    return found.held > 0


def run_all(
    craft: "Aircraft", condition: ConditionOptions, inputs: Sequence[str] | None, signals: str, as_json: bool
) -> bool:
    """Print every solution that is found for a condition, side by side; return whether there is one."""
    from dravik.trimming import trim_all

    names = _named(craft, signals)
    asked: dict[str, Any] = {**condition.asked, "inputs": input_settings(craft, inputs)}
    if condition.guess:
        asked["guess"] = read_settings(condition.guess, "--guess")
    found = trim_all(craft, **cast("ConditionKeys", asked))
    if as_json:
        shown = [{n: p.signals[n] for n in names or p.signals} for p in found]
        emit({"aircraft": craft.name, "loading": craft.loading_name, "solutions": shown})
        return bool(found)
    if not found:
        say(f"{craft.name} ({craft.loading_name}): no solution found from any start; without --all: what can be held")
        return False
    wanted = names or [row[0] for row in found[0].rows()]
    cells = []
    for name in wanted:
        unit, factor, _ = from_si(craft.signals[name].unit)
        cells.append((name, *(round(p.signals[name] * factor, 9) + 0.0 for p in found), unit))
    what = "one solution" if len(found) == 1 else f"{len(found)} solutions"
    heads = ["signal", *(f"solution {k + 1}" for k in range(len(found))), "unit"]
    show_rows(f"{craft.name} ({craft.loading_name}), {found[0].title}: {what}", heads, cells)
    return True


def _named(craft: "Aircraft", signals: str) -> list[str]:
    """Return the signals of an option; raises DravikError for one that there is not."""
    names = [n.strip() for n in signals.split(",") if n.strip()]
    for name in names:
        craft.signal(name)
    return names


def _show(found: "TrimSweep", names: Sequence[str]) -> None:
    """Print the sweep: its axes and a few signals; of a long one every so-manyth row."""
    first = next((p for p in found.points if p is not None), None)
    moved = [] if first is None else [n for n in first.unknowns if n in first.craft.inputs]
    usual = [n for n in ("alpha", *moved, "CL", "thrust") if first is not None and n in first.craft.signals][:SHOWN]
    columns = [n for n in (names or usual) if n not in found.axes]
    keep = max(1, -(-len(found.points) // MOST_ROWS))
    units = {n: first.craft.signals[n].unit for n in columns} if first is not None else {}
    heads = [f"{n} [{from_si(u)[0]}]" if from_si(u)[0] else n for n, u in {**_axis_units(found), **units}.items()]
    cells: list[list[object]] = []
    for row in found.rows(columns)[::keep]:
        values = [v for key, v in row.items() if key not in ("held", "outside")]
        if not row["held"]:
            values = [*values[: len(found.axes)], "not held", *[""] * (len(columns) - 1)]
        cells.append(values[: len(heads)])
    title = f"{found.name}: {found.held} of {len(found.points)} trims held"
    show_rows(title + (f" (one in {keep} shown)" if keep > 1 else ""), heads, cells)


def _axis_units(found: "TrimSweep") -> dict[str, str]:
    return {name: found.units.get(name, "") for name in found.axes}
