"""Figures of several runs together: each signal overlaid, and beside it how far the others are from the first."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

import matplotlib
import numpy as np
from matplotlib.figure import Figure

from dravik.errors import DravikError
from dravik.report.figures import drawn, label_panel, new_figure
from dravik.report.space.tracks import colours
from dravik.report.style import SOFT, STYLE

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from dravik.recording import Recording

__all__ = ["differences", "figure_runs"]


def differences(first: "Recording", other: "Recording", name: str) -> "tuple[NDArray[np.float64], NDArray[np.float64]]":
    """Return times that both runs have, and the other's signal less the first's (SI) at them."""
    inside = (first.time >= other.time[0]) & (first.time <= other.time[-1])
    times = first.time[inside]
    gap = np.interp(times, other.time, other[name]) - first[name][inside]
    if first.units.get(name) == "rad" and name in ("psi", "track", "phi", "longitude"):
        gap = (gap + np.pi) % (2.0 * np.pi) - np.pi
    return times, gap


def figure_runs(runs: "Sequence[Recording]", names: Sequence[str], labels: Sequence[str], *, title: str = "") -> Figure:
    """Return a row for each signal: all runs on the left, their differences from the first on the right.

    Parameters
    ----------
    runs : sequence of Recording
        Two or more flights.
    names : sequence of str
        Signals, a row each.
    labels : sequence of str
        Names of the flights.
    title : str, default ""
        What stands above the figure.

    Returns
    -------
    Figure

    Raises
    ------
    DravikError
        For less than two runs, or a signal that one of them does not have.
    """
    if len(runs) < 2 or not names:
        raise DravikError(
            f"{len(runs)} runs cannot be compared by {len(names)} signals", expected="two runs or more, and signals"
        )
    figure = new_figure(title or "Runs compared")
    paint = colours(len(runs))
    with matplotlib.rc_context(STYLE):
        grid = figure.subplots(len(names), 2, sharex=True, squeeze=False, width_ratios=[1.5, 1.0])
        for (left, right), name in zip(grid, names, strict=True):
            for run, label, colour in zip(runs, labels, paint, strict=True):
                values, unit = drawn(run, name)
                left.plot(run.time, values, color=colour, lw=1.5, label=label)
            label_panel(left, name, unit)
            worst = []
            for run, label, colour in zip(runs[1:], labels[1:], paint[1:], strict=True):
                times, gap = differences(runs[0], run, name)
                hidden = np.isnan(np.interp(times, runs[0].time, drawn(runs[0], name)[0]))
                gap = np.where(hidden | np.isnan(np.interp(times, run.time, drawn(run, name)[0])), np.nan, gap)
                factor = _factor(runs[0], name)
                right.plot(times, gap * factor, color=colour, lw=1.3)
                if np.any(np.isfinite(gap)):
                    i = int(np.nanargmax(np.abs(gap)))
                    worst.append(f"{label}: {gap[i] * factor:+.3g} {unit} at {times[i]:.4g} s")
            right.axhline(0.0, color=SOFT, lw=0.8)
            text = f"largest: {'; '.join(worst[:2])}" if worst else ""
            if name == names[0]:
                text = f"difference from {labels[0]}\n{text}"
            right.set_title(text, fontsize=8.5, color=SOFT, loc="left")
            for axes in (left, right):
                axes.margins(x=0.01)
                axes.ticklabel_format(axis="y", useOffset=False)
        grid[0][0].legend(loc="best", frameon=False, fontsize=9)
        grid[0][0].set_title("values", fontsize=10, color=SOFT, loc="left")
        for axes in grid[-1]:
            axes.set_xlabel("time [s]")
    return figure


def _factor(run: "Recording", name: str) -> float:
    from dravik.units import from_si

    return float(from_si(run.units.get(name, ""))[1])
