"""A run as a book of figures: many pages in one PDF, or one HTML page that holds all of it."""

import tempfile
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from pathlib import Path
from textwrap import shorten
from typing import TYPE_CHECKING

import matplotlib
from matplotlib.figure import Figure

from dravik.errors import DravikError
from dravik.host.files import replace_file, saved
from dravik.report.figures import figure_histories, new_figure, save_figures
from dravik.report.page import Block, write_page
from dravik.report.space.tracks import figure_overhead, figure_track
from dravik.report.style import INK, SOFT, STYLE
from dravik.units import from_si

if TYPE_CHECKING:
    from dravik.recording import Recording

__all__ = ["figure_makers", "write_book"]

GROUPS: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("Flight path", ("airspeed", "altitude", "climb_rate", "flight_path", "track", "ground_speed", "height", "mass")),
    ("Attitude and angles to the air", ("phi", "theta", "psi", "alpha", "beta", "p", "q", "r")),
    ("Loads and air", ("nx", "ny", "nz", "mach", "dynamic_pressure", "air_north", "air_east", "air_up")),
)


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
    if target.suffix not in (".pdf", ".html"):
        raise DravikError(f"a book cannot be written as {target.name!r}", expected="a name that ends in .pdf or .html")
    if len(run.time) < 2:
        raise DravikError("the recording has no rows to show")
    makers = figure_makers(run, limits)
    return _pdf(run, makers, target, title) if target.suffix == ".pdf" else _html(run, makers, target, title)


def _html(run: "Recording", makers: Makers, target: Path, title: str) -> Path:
    columns = ("signal", "start", "lowest", "highest", "end", "unit")
    events = [(e.time, run.height_at(e), e.text) for e in run.events if "stop" not in e.text]
    with tempfile.TemporaryDirectory() as folder:
        blocks = [Block("What was flown", texts=_facts(run), columns=columns, rows=_rows(run))]
        if events:
            blocks.append(Block("Events", columns=("time [s]", "altitude", "what"), rows=events[:60]))
        pictures = {heading: Path(folder) / f"figure_{i}.png" for i, heading in enumerate(makers)}
        save_figures({pictures[heading]: make for heading, make in makers.items()})
        blocks += [Block(heading, images=[picture]) for heading, picture in pictures.items()]
        return write_page(target, title, "", blocks)


def _pdf(run: "Recording", makers: Makers, target: Path, title: str) -> Path:
    from pypdf import PdfWriter

    pages: Makers = {"What was flown": partial(cover, run, title), **makers}
    with tempfile.TemporaryDirectory() as folder, PdfWriter() as book:
        files = {heading: Path(folder) / f"page_{i}.pdf" for i, heading in enumerate(pages, start=1)}
        save_figures({files[h]: partial(_numbered, make, i) for i, (h, make) in enumerate(pages.items(), start=1)})
        for heading, file in files.items():
            book.append(file, outline_item=heading)
        book.add_metadata({"/Title": title, "/Creator": "Dravik"})
        book.compress_identical_objects()  # each page brings its own fonts
        saved(lambda: replace_file(target, book.write), target, what="book")
    return target


def _numbered(make: Callable[[], Figure], number: int) -> Figure:
    """Return a page with its number."""
    figure = make()
    figure.text(0.99, 0.006, f"{number}", ha="right", color=SOFT, fontsize=8)
    return figure


def cover(run: "Recording", title: str) -> Figure:
    """Return the first page: what was flown, its events, and the reach of its signals."""
    first = new_figure(title, fitted=False)
    with matplotlib.rc_context(STYLE):
        axes = first.add_axes((0.02, 0.03, 0.96, 0.88))
        axes.set_axis_off()
        axes.text(0.0, 1.0, "\n".join(_facts(run)), va="top", fontsize=10, color=INK)
        events = [e for e in run.events if "stop" not in e.text]
        text = (
            "\n".join(f"{e.time:9.3f} s  {run.height_at(e):>8}  {shorten(e.text, 52)}" for e in events[:36])
            or "no events"
        )
        axes.text(0.0, 0.74, text, va="top", fontsize=9, color=INK, family="DejaVu Sans Mono")
        text = "\n".join(
            f"{n:<18}{a:12.5g}{b:12.5g}{c:12.5g}{d:12.5g}  {unit}" for n, a, b, c, d, unit in _rows(run)
        )  # fmt: skip
        head = f"{'signal':<18}{'start':>12}{'lowest':>12}{'highest':>12}{'end':>12}"
        axes.text(0.5, 1.0, f"{head}\n{text}", va="top", fontsize=9, color=INK, family="DejaVu Sans Mono")
    return first
