"""A run as a book of figures: many pages in one PDF, or one HTML page that holds all of it."""

import tempfile
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from matplotlib.figure import Figure

from dravik.errors import DravikError
from dravik.report.figures import figure_histories, save_figures
from dravik.report.pages.page import Block, Sheet, figure_files, write_page
from dravik.report.pages.printed import write_pdf
from dravik.report.space.tracks import figure_overhead, figure_track
from dravik.units import from_si

if TYPE_CHECKING:
    from dravik.recording import Recording

__all__ = ["figure_makers", "write_blocks", "write_book"]

GROUPS: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("Flight path", ("airspeed", "altitude", "climb_rate", "flight_path", "track", "ground_speed", "height", "mass")),
    ("Attitude and angles to the air", ("phi", "theta", "psi", "alpha", "beta", "p", "q", "r")),
    ("Loads and air", ("nx", "ny", "nz", "mach", "dynamic_pressure", "air_north", "air_east", "air_up")),
)


COLUMNS = ("signal", "start", "lowest", "highest", "end", "unit")
MOST_OTHERS = 48  # most signals outside the known groups that are still drawn


Makers = dict[str, Callable[[], Figure]]


def figure_makers(run: "Recording", limits: Mapping[str, tuple[float, float]] | None = None) -> Makers:
    """Return what makes the figures that a run can give, by heading."""
    found: Makers = {}
    if all(n in run.names for n in ("north", "east", "altitude")):
        found["Plan view and profile"] = partial(figure_overhead, run)
        if all(n in run.names for n in ("phi", "theta", "psi")):
            found["Track in space"] = partial(figure_track, run)

    def add(heading: str, names: Sequence[str]) -> None:
        if names:
            found[heading] = partial(figure_histories, run, names, title=heading, limits=limits)

    for heading, names in GROUPS:
        add(heading, [n for n in names if n in run.names])
    moved = [n for n in run.names if f"{n}_command" in run.names][:8]
    add("Controls, commanded and actual", moved)
    shown = {
        "time",
        "north",
        "east",
        *(n for _, names in GROUPS for n in names),
        *moved,
        *(f"{n}_command" for n in moved),
    }
    others = [n for n in run.names if n not in shown][:MOST_OTHERS]
    for k in range(0, len(others), 8):
        add("Other signals" if len(others) <= 8 else f"Other signals, {k // 8 + 1}", others[k : k + 8])
    return found


def _rows(run: "Recording") -> list[tuple[object, ...]]:
    names = [n for _, group in GROUPS for n in group if n in run.names]
    rows: list[tuple[object, ...]] = []
    for name in names:
        unit, k, _ = from_si(run.units[name])
        values = run[name] * k
        rows.append((name, *(float(v) for v in (values[0], values.min(), values.max(), values[-1])), unit))
    return rows


def _facts(run: "Recording") -> list[str]:
    data = run.metadata
    facts = [f"{run.time[-1] - run.time[0]:.6g} s flown from {run.time[0]:g} s, {len(run.values)} rows"]
    for key, words in (("aircraft", "aircraft"), ("loading", "loading"), ("step_s", "step, s"), ("dravik", "Dravik")):
        if data.get(key) is not None:
            facts.append(f"{words}: {data[key]}")
    if isinstance(data.get("turbulence"), dict):
        facts.append(f"turbulence: {data['turbulence']['severity']}, seed {data['turbulence']['seed']}")
    if data.get("definition_sha256"):
        facts.append(f"definition: {str(data['definition_sha256'])[:16]}")
    if data.get("complete") is False:
        facts.append("the run did not come to its end")
    return facts


def write_book(
    run: "Recording", path: str | Path, *, title: str, limits: Mapping[str, tuple[float, float]] | None = None
) -> Path:
    """Write all figures of a run with its events as ``.pdf`` or ``.html``.

    Parameters
    ----------
    run : Recording
        The recorded flight.
    path : str or path
        A ``.pdf`` or ``.html`` file.
    title : str
        The title of the book.
    limits : mapping of str to tuple (float, float), optional
        Limits by signal, SI.

    Returns
    -------
    Path

    Raises
    ------
    DravikError
        For another ending, an empty recording, or a file that cannot be written.
    """
    target = Path(path)
    picture_ending(target)
    if len(run.time) < 2:
        raise DravikError("the recording has no rows to show")
    makers = figure_makers(run, limits)
    blocks = [Block("What was flown", texts=_facts(run), tables=[Sheet(COLUMNS, _rows(run))])]
    events = [(e.time, run.height_at(e), e.text) for e in run.events if "stop" not in e.text]
    if events:
        blocks.append(Block("Events", tables=[Sheet(("time [s]", "altitude", "what"), events[:60])]))
    blocks += [Block(heading, figures={heading: make}) for heading, make in makers.items()]
    return write_blocks(target, title, "", blocks)


def write_blocks(target: Path, title: str, subtitle: str, blocks: Sequence[Block]) -> Path:
    """Write blocks as ``.pdf`` or ``.html``, by the name; raises DravikError for another ending."""
    with tempfile.TemporaryDirectory() as folder:
        made = [figure_files(block, Path(folder), picture_ending(target)) for block in blocks]
        save_figures({file: make for figures in made for file, make in figures.items()})
        return write_drawn(target, title, subtitle, blocks)


def picture_ending(target: Path) -> str:
    """Return the kind of pictures that a book takes; raises DravikError for a name that no book can have."""
    if target.suffix not in (".pdf", ".html"):
        raise DravikError(f"a book cannot be written as {target.name!r}", expected="a name that ends in .pdf or .html")
    return ".pdf" if target.suffix == ".pdf" else ".png"


def write_drawn(target: Path, title: str, subtitle: str, blocks: Sequence[Block]) -> Path:
    """Write blocks whose pictures are there already."""
    return (write_pdf if target.suffix == ".pdf" else write_page)(target, title, subtitle, blocks)
