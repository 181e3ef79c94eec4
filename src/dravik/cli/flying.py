"""Flights from the command line: histories from text, a progress bar, a summary, a figure."""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np
from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

from dravik.cli.common import err, kernel_notice, out, show_rows
from dravik.errors import DravikError
from dravik.flight import Recording, Turbulence, fly, parse_history
from dravik.units import from_si

if TYPE_CHECKING:
    from dravik.aircraft import Aircraft
    from dravik.flight import Start
    from dravik.trimming import TrimPoint

__all__ = ["draw", "run_flight", "show_run"]

USUAL = ("airspeed", "altitude", "alpha", "theta", "q", "phi", "elevator", "nz")


def run_flight(
    craft: "Aircraft", start: "TrimPoint | Start", duration: str, controls: Sequence[str], dt: str, record: str, *,
    turbulence: str = "", seed: int = 0, quiet: bool = False,
) -> Recording:  # fmt: skip
    """Fly with a progress bar on standard error."""
    histories = {}
    for text in controls:
        name, equals, history = text.partition("=")
        if not equals:
            raise DravikError(f"--control {text!r}", expected="NAME=HISTORY, such as 'elevator=step(1 deg, at=1 s)'")
        histories[name.strip()] = parse_history(history)
    names = [n.strip() for n in record.split(",") if n.strip()] or None
    columns = (
        TextColumn("flying"),
        BarColumn(),
        TextColumn("{task.percentage:>3.0f} %"),
        TimeRemainingColumn(),
    )
    with Progress(*columns, console=err, transient=True, disable=quiet or not err.is_terminal) as bar, kernel_notice():
        task = bar.add_task("flying", total=1.0)
        return fly(
            craft, start=start, duration=duration, controls=histories, dt=dt, record=names,
            turbulence=Turbulence(turbulence, seed=seed) if turbulence else None,
            progress=lambda share: bar.update(task, completed=share),
        )  # fmt: skip


def draw(run: Recording, signals: str, path: str, title: str, limits: Mapping[str, tuple[float, float]]) -> list[str]:
    """Draw the named signals, or the usual ones; return their names."""
    from dravik.report import figure_histories, save_figure

    names = [n.strip() for n in signals.split(",") if n.strip()]
    names = names or [n for n in USUAL if n in run.names] or [n for n in run.names if n != "time"][:6]
    save_figure(figure_histories(run, names, title=title, limits=limits), path)
    return names


def show_run(run: Recording, title: str, save: str, figure: str) -> None:
    """Print what happened: ends and extremes of the usual signals, events, tables left."""
    rows = []
    for name in [n for n in USUAL if n in run.names] or run.names[1:9]:
        unit, k, _ = from_si(run.units[name])
        values = np.round(run[name] * k, 9) + 0.0  # what is left of zero is rounding
        rows.append((name, float(values[0]), float(values.min()), float(values.max()), float(values[-1]), unit))
    time = run.time[-1] if len(run.time) else 0.0
    show_rows(f"{title}: {time:g} s flown", ["signal", "start", "lowest", "highest", "end", "unit"], rows)
    wall = run.metadata.get("wall_time_s")
    if wall:
        out.print(f"{time / wall:.0f} times real time")
    for event in run.events[:20]:
        out.print(f"[yellow]{event.time:8.3f} s  {event.text}[/yellow]")
    if len(run.events) > 20:
        out.print(f"[yellow]... and {len(run.events) - 20} more events[/yellow]")
    for table, axis, steps, low, high in run.outside:
        out.print(f"[yellow]{axis} was outside table {table} in {steps} steps: {low:.4g} to {high:.4g} (SI)[/yellow]")
    for path in filter(None, (save, figure)):
        out.print(f"written: {path}")
