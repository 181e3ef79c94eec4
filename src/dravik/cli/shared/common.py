"""What the commands share: loading, printing, progress, and the line while the kernel compiles."""

import json
import math
import sys
import time as clock
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal

import typer
from rich.console import Console
from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn
from rich.table import Table
from rich.text import Text

from dravik.definition.settings import read_settings, sort_settings
from dravik.errors import DravikError, readable
from dravik.host.files import exists, is_folder, shown
from dravik.host.notices import announcing
from dravik.report.pages.layout import laid_out
from dravik.report.shown_units import rows_in_units

if TYPE_CHECKING:
    from dravik.aircraft import Aircraft

__all__ = [
    "channel_of",
    "emit",
    "finite",
    "get_craft",
    "kernel_notice",
    "out",
    "own_file",
    "own_folder",
    "progress_bar",
    "quantities",
    "say",
    "show_rows",
    "to_write",
    "written",
]


def finite(value: float) -> float:
    """Return an option's number; raises DravikError for one that is none (nan, inf)."""
    if not math.isfinite(value):
        raise DravikError(f"the value of an option cannot be {value}", expected="a finite number")
    return value


def to_write(path: str) -> str:
    """Return an option's file to write; raises DravikError at once, before anything is computed, without its folder."""
    if path and not is_folder(Path(path).parent):
        what = "it cannot be written: its folder does not exist"
        raise DravikError(what, where=shown(path), hint="make the folder first")
    return path


def written(text: str, *names: str) -> Any:
    """Return the option of a file to write, with its help."""
    return typer.Option(*names, metavar="FILE", callback=to_write, help=text)


NOTED = 0.1  # s of compiling that are worth a line
# output to a pipe or a file has no terminal width: use one at which tables are not broken
_WIDTH = None if sys.stdout.isatty() else 120
# markup and emoji codes are off: names from files are printed literally
out = Console(highlight=False, markup=False, emoji=False, width=_WIDTH)
err = Console(stderr=True, highlight=False, markup=False, emoji=False)

AircraftFile = Annotated[
    str,
    typer.Argument(metavar="AIRCRAFT", help="aircraft file, its folder, or the name of a sample such as tarn"),
]
Loading = Annotated[str, typer.Option(help="mass loading, by its name in the file")]
Laws = Annotated[list[str] | None, typer.Option("--law", metavar="FILE", help="control law to engage; may be repeated")]
AsJson = Annotated[bool, typer.Option("--json", help="print JSON for programs instead of tables")]
Figure = Annotated[str, written("write a figure: .png, .svg or .pdf", "--figure")]
Settings = Annotated[
    list[str] | None,
    typer.Option(
        "--set", metavar="NAME=VALUE", help="input held at a value, such as 'flap_lever=20 deg', or a parameter"
    ),
]


Sensors = Annotated[
    str, typer.Option("--sensors", metavar="SET", help="set of sensors on board, by its name in the file; all, ideal")
]
Reads = Annotated[
    str, typer.Option(metavar="SOURCE", help="what laws read: truth, sensors, estimates; or 'q=sensors,theta=truth'")
]
EstimatorName = Annotated[str, typer.Option("--estimator", metavar="NAME", help="estimator on board, by its name")]


def get_craft(
    name: str, loading: str = "", laws: Sequence[str] | None = None, set_: Sequence[str] | None = None,
    sensing: tuple[str, str, str] = ("", "", ""),
) -> "Aircraft":  # fmt: skip
    """Return the aircraft a user names: a file, a folder, or a sample; with laws engaged and parameters set.

    ``sensing`` are its set of sensors, what laws read, and the estimator, as the options say them.
    """
    from dravik.aircraft import load, sample_names, sample_path

    path = Path(name)
    if not exists(path) and name in sample_names():
        path = sample_path(name)
    craft = load(path, loading=loading, laws=laws or (), compiled=not any(sensing))
    if any(sensing):
        sensors, reads, estimator = sensing
        craft = craft.with_sensors(sensors, reads=reads or "truth", estimator=estimator)
    craft = craft.compiled()
    own = sort_settings(read_settings(set_), craft.parameters).parameters
    return craft.with_parameters(own) if own else craft


def input_settings(craft: "Aircraft", pairs: Sequence[str] | None) -> "dict[str, str | float]":
    """Return the inputs that ``--set`` options hold."""
    found = sort_settings(read_settings(pairs), craft.parameters)
    # a key of a loop is refused as an input that is not there, with the nearest name
    return {**found.inputs, **found.loop_keys}


def own_folder(aircraft: str, folder: str) -> Path:
    """Return a folder of the aircraft's, such as ``laws``."""
    from dravik.aircraft import sample_names, sample_path

    path = Path(aircraft)
    if not exists(path) and aircraft in sample_names():
        path = sample_path(aircraft)
    return (path if is_folder(path) else path.parent) / folder


def own_file(name: str, aircraft: str, folder: str) -> Path:
    """Return a file: as given, or the name of one in a folder of the aircraft's, such as ``laws``."""
    own = own_folder(aircraft, folder) / f"{name.removesuffix('.toml')}.toml"
    return own if not exists(name) and exists(own) else Path(name)


def channel_of(craft: "Aircraft", text: str, option: str) -> tuple[str, str]:
    """Return output and input of OUTPUT/INPUT as an option gives it; an effector's name stands for its input."""
    output, slash, name = (part.strip() for part in text.partition("/"))
    if not slash or not name:
        raise DravikError(f"{option} {text!r} cannot be read", expected="OUTPUT/INPUT, such as theta/elevator")
    return output, craft.input_names[craft.input_index(name)]


def quantities(craft: "Aircraft", pairs: Sequence[str] | None) -> dict[str, float]:
    """Return ``--set`` options as inputs by their full name and SI values."""
    return craft.inputs_in_si(input_settings(craft, pairs))


@contextmanager
def kernel_notice() -> Iterator[None]:
    """Say what of the kernel is compiled, which takes its time when this user needs it first."""
    told: list[str] = []

    @contextmanager
    def compiling(name: str) -> Iterator[None]:
        if not told:
            err.print("compiling the kernel: some 15 s, once for each user", style="dim")
        told.append(name)
        begun = clock.perf_counter()
        yield
        spent = clock.perf_counter() - begun
        if spent > NOTED:
            err.print(f"  {name}: {spent:.1f} s", style="dim")

    with announcing(compiling):
        yield


def emit(data: object) -> None:
    """Print JSON on standard output; numbers that are not finite become null."""
    print(json.dumps(_plain(data), indent=1))


def _plain(value: Any) -> Any:
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    if isinstance(value, Mapping):
        return {str(k): _plain(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(v) for v in value]
    return value


def say(text: str, style: str = "") -> None:
    """Print text for people on standard output, in a colour or weight; nothing in it is taken as more than text."""
    out.print(Text(readable(text), style=style))


def show_rows(title: str, columns: Sequence[str], rows: Sequence[Sequence[object]]) -> None:
    """Print a table for people; numbers stand to the right, and whole.

    What is too wide for the terminal stands in several tables below one another, each with the first column.
    """
    say(title, "bold")
    for part in laid_out(*rows_in_units(columns, rows), out.width):
        table = Table(header_style="bold", box=None, pad_edge=False)
        for head, is_number, width in zip(part.heads, part.numeric, part.widths, strict=True):
            side: Literal["right", "left"] = "right" if is_number else "left"
            table.add_column(Text(head), justify=side, overflow="fold", width=width)
        for row in part.rows:
            table.add_row(*map(Text, row))
        # a number wider than the terminal leads beyond its edge, whole
        wide = Console(file=out.file, highlight=False, markup=False, emoji=False, width=part.width)
        (out if part.width <= out.width else wide).print(table)
        out.print()


@contextmanager
def progress_bar(*, quiet: bool, what: str = "flying") -> Iterator[Callable[[float], None]]:
    """Show a bar on standard error; the value is told the share done."""
    columns = (TextColumn(what), BarColumn(), TextColumn("{task.percentage:>3.0f} %"), TimeRemainingColumn())
    with Progress(*columns, console=err, transient=True, disable=quiet or not err.is_terminal) as bar:
        task = bar.add_task(what, total=1.0)
        yield lambda share: bar.update(task, completed=share)
