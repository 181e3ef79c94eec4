"""Figures: time histories, pole map, linear against nonlinear."""

import math
from collections.abc import Callable, Mapping, Sequence
from io import BytesIO
from pathlib import Path
from textwrap import wrap
from typing import TYPE_CHECKING, Any

import matplotlib
import numpy as np
from matplotlib.figure import Figure
from matplotlib.lines import Line2D

from dravik.errors import DravikError
from dravik.host.cores import shared_out
from dravik.recording.recording import STILL
from dravik.report.shown_units import axes_in_units
from dravik.report.space.overlays import draw_modes, mode_spans
from dravik.report.style import ACTUAL, COMMANDED, GRID, INK, SOFT, STYLE, THIRD
from dravik.units import from_si
from dravik.validation.scorecards import TURNING, asked_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from numpy.typing import NDArray

    from dravik.recording import Event, Recording
    from dravik.validation import LinearProof

__all__ = [
    "SPACED",
    "drawn",
    "figure_histories",
    "figure_overlay",
    "marked_events",
    "new_figure",
    "one_panel",
    "save_figure",
    "save_figures",
]

SIZE = (12.8, 8.0)
LONGEST_NAME = 12  # letters of a line beside a panel
#: Room for labels in a regular grid of panels: finding it from all the labels takes longer than drawing does.
SPACED = {"left": 0.065, "right": 0.985, "bottom": 0.075, "top": 0.905, "wspace": 0.34, "hspace": 0.3}


class ShownFigure(Figure):
    """A figure that a notebook shows by itself: it belongs to no window, so nobody else would."""

    def _repr_png_(self) -> bytes:
        """Return the picture, for notebooks."""
        picture = BytesIO()
        with matplotlib.rc_context(STYLE):
            axes_in_units(self)
            self.savefig(picture, format="png")
        return picture.getvalue()


def new_figure(title: str, *, fitted: bool = True) -> Figure:
    """Return an empty figure of the common size and look.

    ``fitted`` to what stands in it, which draws everything twice; else its parts are placed by who draws them.
    """
    with matplotlib.rc_context(STYLE):
        figure = ShownFigure(figsize=SIZE, dpi=100, layout="constrained" if fitted else None)
    figure.suptitle(title, color=INK, fontsize=13, x=0.01, ha="left")
    return figure


def one_panel(title: str, ax: "Axes | None") -> "tuple[Figure, Axes]":
    """Return a figure and its only axes; or the axes that are given, with the title above them, and their figure."""
    if ax is None:
        figure = new_figure(title)
        return figure, figure.subplots()
    ax.set_title(title, fontsize=10, color=INK, loc="left")
    found = ax.get_figure(root=True)
    if found is None:
        raise DravikError("the axes belong to no figure", expected="axes of a figure: fig, ax = plt.subplots()")
    return found, ax


def save_figure(figure: Figure, path: str | Path) -> Path:
    """Write a figure as PNG, SVG or PDF, by the name.

    Parameters
    ----------
    figure : Figure
        The figure.
    path : str or path
        A ``.png``, ``.svg`` or ``.pdf`` file.

    Returns
    -------
    Path

    Raises
    ------
    DravikError
        When it cannot be written.
    """
    target = Path(path)
    try:
        with matplotlib.rc_context(STYLE):
            axes_in_units(figure)
            figure.savefig(target)
    except OSError as error:
        raise DravikError(f"the figure cannot be written ({error.strerror or error})", where=str(target)) from None
    except ValueError as error:
        raise DravikError(
            f"the figure cannot be written ({str(error).splitlines()[0]})",
            where=str(target),
            hint="a .png name",
        ) from None
    return target


def save_figures(makers: Mapping[Path, Callable[[], Figure]]) -> None:
    """Make figures and write them by their paths, on all cores where that can be; raises what ``save_figure`` does.

    Parameters
    ----------
    makers : mapping of Path to callable
        What makes each figure, by the file it goes to.
    """
    shared_out(lambda path: save_figure(makers[path](), path), makers)


def figure_histories(
    run: "Recording",
    signals: Sequence[str],
    *,
    title: str = "",
    limits: Mapping[str, tuple[float, float]] | None = None,
) -> Figure:
    """Return signals over time in stacked panels; commanded values beside actual ones, events marked, limits drawn.

    A signal brings its command or target along where that was recorded, and modes stand below as bands. ``limits``
    (SI) are drawn where they lie near the values.

    Parameters
    ----------
    run : Recording
        The recorded flight.
    signals : sequence of str
        A panel each.
    title : str, default ""
        What stands above the figure.
    limits : mapping of str to tuple (float, float), optional
        Limits by signal, SI.

    Returns
    -------
    Figure

    Raises
    ------
    DravikError
        For a signal that was not recorded, or an empty list.
    """
    if not signals:
        raise DravikError("there are no signals to plot", hint="--signals alpha,theta")
    columns = 1 if len(signals) <= 4 else 2
    rows = math.ceil(len(signals) / columns)
    figure = new_figure(title, fitted=False)
    marks, spans = marked_events(run), mode_spans(run)
    words = "     ".join(f"{i}\u00a0{_event_words(e, run)}" for i, e in enumerate(marks, start=1))
    lines = wrap(words, 215, break_long_words=False, expand_tabs=False)
    with matplotlib.rc_context(STYLE):
        grid, strip = _panels(figure, (rows, columns), len(spans), len(lines))
        if strip is not None:
            draw_modes(strip, spans)
            strip.set_xlim(float(run.time[0]), float(run.time[-1]))
        places = [grid[i % rows][i // rows] for i in range(len(signals))]
        for axes, name in zip(places, signals, strict=True):
            _history_panel(axes, run, name, (limits or {}).get(name))
        for axes in grid.ravel()[: rows * columns]:
            if axes not in places:
                axes.set_axis_off()
        for j in range(columns):
            *above, last = [a for a in places if a in list(grid[:, j])]
            last.set_xlabel("" if spans else "time [s]")
            last.tick_params(labelbottom=True)
            # only the lowest panel has ticks: an axis without labels takes as long to draw as one with them
            for axes in above:
                axes.xaxis.set_visible(False)
                _upright(axes, last.get_xticks()[1:-1], color=GRID, lw=matplotlib.rcParams["grid.linewidth"], zorder=0)
        for j in range(columns):
            _number_events(grid[0][j], marks, float(run.time[0]), float(run.time[-1]))
        if lines:
            figure.text(0.01, 0.01, "\n".join(lines), fontsize=8, color=THIRD, ha="left", va="bottom")
        if any(asked_of(run, n) for n in signals):
            kinds = [("flown", ACTUAL, "-"), ("asked for", COMMANDED, (0, (4, 2)))]
            handles = [Line2D([], [], color=c, ls=ls, label=text) for text, c, ls in kinds]
            figure.legend(handles=handles, loc="upper right", frameon=False, fontsize=9, ncols=2)
    return figure


def label_panel(axes: "Axes", name: str, unit: str) -> None:
    """Name a low panel beside it, upright, in short lines: names along the axis would run into their neighbours'."""
    words = (
        name if len(name) <= LONGEST_NAME else "_\n".join(wrap(name.replace("_", " "), LONGEST_NAME)).replace(" ", "_")
    )
    axes.set_ylabel(
        f"{words}\n[{unit}]" if unit else words, rotation=0, ha="right", va="center", fontsize=9, linespacing=1.1,
    )  # fmt: skip


def _upright(axes: "Axes", times: "Sequence[float]", **look: Any) -> None:
    """Draw lines over a panel's whole height, as one: each by itself takes ten times as long."""
    if len(times):
        axes.vlines(times, 0.0, 1.0, transform=axes.get_xaxis_transform(), snap=True, **look)


def _panels(
    figure: Figure, shape: tuple[int, int], spans: int, lines: int
) -> "tuple[NDArray[Any], Axes | None]":  # fmt: skip
    """Return stacked panels of rows and columns, and below them one for so many bands; text lines stand at the foot.

    Margins in inches, for labels of the usual length: to have them fitted takes as long as the drawing itself.
    """
    (rows, columns), (width, height) = shape, SIZE
    left, right, gap, above = 1.4 / width, 1.0 - 0.15 / width, 1.5, 0.8 if lines else 0.55
    foot = 0.6 + 0.15 * lines
    band = 0.12 + 0.3 * spans if spans else 0.0
    below = foot + (band + 0.4 if spans else 0.0)
    across = (width * (right - left) - gap * (columns - 1)) / columns
    high = (height - above - below - 0.16 * (rows - 1)) / rows
    grid = figure.add_gridspec(
        rows, columns, left=left, right=right, top=1.0 - above / height, bottom=below / height, wspace=gap / across,
        hspace=0.16 / high,
    ).subplots(sharex=True, squeeze=False)  # fmt: skip
    if not spans:
        return grid, None
    at = figure.add_gridspec(1, 1, left=left, right=right, top=(foot + band) / height, bottom=foot / height)
    return grid, figure.add_subplot(at[0, 0], sharex=grid[0][0] if columns == 1 else None)


def _event_words(event: "Event", run: "Recording") -> str:
    """Return an event as a key names it: its words without spaces to break at, and the height of a summit."""
    words = event.text.removeprefix("phase: ")
    if "apogee" in words and run.height_at(event):
        words += f" at {run.height_at(event)}"
    return words.replace(" ", "\u00a0")


def _number_events(axes: "Axes", events: "Sequence[Event]", first: float, last: float) -> None:
    """Write the events' numbers above a panel; those too close to the one before stand a line higher."""
    before, step = -math.inf, 0
    for number, event in enumerate(events, start=1):
        step = (step + 1) % 3 if event.time - before < 0.02 * (last - first) else 0
        before = event.time
        axes.annotate(
            str(number), (event.time, 1.0), xycoords=("data", "axes fraction"), xytext=(0, 2 + 9 * step),
            textcoords="offset points", color=THIRD, fontsize=8, ha="center", va="bottom",
        )  # fmt: skip


def marked_events(run: "Recording", most: int = 14) -> "list[Event]":
    """Return the events worth a number in a figure: phases and faults where there are any, else the first ones.

    Parameters
    ----------
    run : Recording
        The recorded flight.
    most : int, default 14
        How many at most.

    Returns
    -------
    list of Event
    """
    chosen = [e for e in run.events if e.text.startswith(("phase:", "fault:", "gust:", "crash"))]
    found = chosen or [e for e in run.events if "stop" not in e.text]
    return found[:most]


def drawn(run: "Recording", name: str) -> "tuple[NDArray[np.float64], str]":
    """Return a signal as it is drawn, and its unit: angles to the air are left out where it hardly flows."""
    values, unit = run.shown(name)
    if name in ("alpha", "beta") and "airspeed" in run.names and len(values):
        flows = run["airspeed"] > STILL * float(run["airspeed"].max())
        if flows.any():
            values = np.where(flows, values, np.nan)
    return values, unit


def _history_panel(axes: "Axes", run: "Recording", name: str, limits: tuple[float, float] | None) -> None:
    values, unit = drawn(run, name)
    axes.plot(run.time, values, color=ACTUAL, lw=1.6)
    lowest, highest = float(np.nanmin(values)), float(np.nanmax(values))
    asked = asked_of(run, name)
    if asked:
        commanded, _ = run.shown(asked)
        if unit == "deg" and name in TURNING:
            commanded = values + np.remainder(commanded - values + 180.0, 360.0) - 180.0  # the way round that is nearer
        axes.plot(run.time, commanded, color=COMMANDED, lw=1.3, ls=(0, (4, 2)))
        lowest, highest = min(lowest, float(commanded.min())), max(highest, float(commanded.max()))
    # the vertical range has a minimum, so that a constant trace looks flat and not like noise
    _, factor, _ = from_si(run.units.get(name, ""))
    least = {"deg": 0.2, "deg/s": 0.2, "m": 1.0, "m/s": 0.2}.get(unit, 1e-3 * max(1.0, abs(highest)))
    middle, half = 0.5 * (lowest + highest), 0.55 * max(highest - lowest, least)
    axes.set_ylim(middle - half, middle + half)
    for limit in limits or ():
        if middle - 1.6 * half < limit * factor < middle + 1.6 * half:
            axes.axhline(limit * factor, color=SOFT, lw=1.0, ls=":")
            low, high = axes.get_ylim()
            axes.set_ylim(min(low, limit * factor - 0.1 * half), max(high, limit * factor + 0.1 * half))
    _upright(axes, [e.time for e in marked_events(run)], color=THIRD, lw=0.8, alpha=0.4, zorder=1)
    label_panel(axes, name, unit)
    axes.ticklabel_format(axis="y", useOffset=False)
    axes.margins(x=0.01)


def figure_overlay(proof: "LinearProof", *, title: str = "") -> Figure:
    """Return the linear response drawn over the nonlinear one, a panel for each signal, with the difference named.

    Parameters
    ----------
    proof : LinearProof
        The linear model flown against the aircraft.
    title : str, default ""
        What stands above the figure.

    Returns
    -------
    Figure
    """
    figure = new_figure(title or f"Linear against nonlinear: {proof.title}")
    names = list(proof.nonlinear)
    columns = 1 if len(names) <= 3 else 2
    with matplotlib.rc_context(STYLE):
        grid = figure.subplots(math.ceil(len(names) / columns), columns, sharex=True, squeeze=False)
        for axes, name in zip(grid.ravel(), names, strict=False):
            unit, factor, _ = from_si(proof.units[name])
            axes.plot(
                proof.time,
                proof.nonlinear[name] * factor,
                color=ACTUAL,
                lw=2.4,
                alpha=0.55,
                label="nonlinear",
            )
            axes.plot(
                proof.time,
                proof.linear[name] * factor,
                color=COMMANDED,
                lw=1.2,
                ls=(0, (4, 2)),
                label="linear",
            )
            axes.set_ylabel(f"change of {name} [{unit}]" if unit else f"change of {name}")
            text = f"largest difference {100 * proof.errors[name]:.2g} % of the peak"
            axes.set_title(text, fontsize=9, color=SOFT, loc="left")
            axes.margins(x=0.01)
        grid[0][0].legend(loc="upper right", frameon=False, fontsize=9)
        for axes in grid[-1]:
            axes.set_xlabel("time [s]")
    return figure
