"""The command task: a tracking task flown by a simple pilot, with his performance and his work."""

from dataclasses import dataclass
from typing import Annotated

import typer

from dravik.cli.shared.common import AircraftFile, AsJson, Figure, emit, say, show_rows, written
from dravik.cli.shared.conditions import CraftAndCondition
from dravik.cli.shared.groups import OptionGroup, grouped

__all__ = ["task"]


@dataclass(frozen=True)
class TrackingOptions(OptionGroup):
    """A tracking task and its pilot."""

    kind: Annotated[str, typer.Option("--task", help="pitch, bank, altitude or offset")] = "pitch"
    size: Annotated[str, typer.Option(help="size of its steps, such as '3 deg' or '20 m'")] = ""
    bandwidth: Annotated[float, typer.Option(help="bandwidth of the pilot's attitude loop, rad/s")] = 2.0
    delay: Annotated[float, typer.Option(help="the pilot's delay, s")] = 0.3
    duration: Annotated[float, typer.Option(help="length of the task, s")] = 60.0
    stick: Annotated[str, typer.Option(metavar="INPUT", help="input that the pilot moves, unless the usual one")] = ""


@grouped
def task(
    aircraft: AircraftFile,
    chosen: CraftAndCondition,
    tracked: TrackingOptions,
    out: Annotated[str, written("write the recording", "--out")] = "",
    figure: Figure = "",
    as_json: AsJson = False,
) -> None:
    """Fly a tracking task with a simple pilot in the loop: his error, and how hard he works.

    Exit code 1: the trim was not reached.
    """
    from dravik.handling import TASKS, fly_task

    craft, kind = chosen.craft(aircraft), tracked.kind
    point = chosen.point(craft)
    flown = fly_task(
        craft, point, kind, size=tracked.size or None, bandwidth=tracked.bandwidth, delay=tracked.delay,
        duration=tracked.duration, stick=tracked.stick,
    )  # fmt: skip
    if out:
        flown.run.save(out)
    title = f"{craft.name}, {point.title}: {kind} task"
    if figure:
        from dravik.report import figure_histories, save_figure

        stick = next(n for n in flown.run.names if n in craft.inputs)
        attitude = TASKS[kind][0]
        save_figure(figure_histories(flown.run, ["tracked", attitude, stick, "nz"], title=title), figure)
    if as_json:
        named = {name: {"value": value, "unit": unit} for name, value, unit in flown.rows()}
        emit({"aircraft": craft.name, "condition": point.title, "task": kind, "figures": named})
        return
    show_rows(title, ["what", "value", "unit"], flown.rows())
    for file in (out, figure):
        if file:
            say(f"written: {file}")
