"""Trim curves over an axis, and maps over two: what a sweep of trims found, with what is not held left white."""

import itertools
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import matplotlib
import numpy as np

from dravik.errors import DravikError
from dravik.report.figures import new_figure, one_panel
from dravik.report.style import INK, PALETTE, SOFT, STYLE
from dravik.units import from_si

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from dravik.trimming import TrimSweep

__all__ = ["figure_sweep", "label_of", "words_of"]

MOST_CURVES = 6  # beyond, the last two axes are drawn as a map
PANELS = 6
MARGINS = {"left": 0.06, "right": 0.985, "bottom": 0.08, "top": 0.9, "wspace": 0.24, "hspace": 0.3}


def figure_sweep(sweep: "TrimSweep", signals: Sequence[str] = (), *, ax: "Axes | None" = None) -> "Figure":
    """Return curves of signals over the last axis, one for each combination of the others; or maps over two axes.

    Without ``signals`` alpha, the inputs that trims move and the totals.

    Parameters
    ----------
    sweep : TrimSweep
        The trims over the product of axes.
    signals : sequence of str, default ()
        Those drawn; alpha, inputs and totals unless given.
    ax : Axes, optional
        Axes to draw one signal on, as part of a figure of your own. A new figure unless given.

    Returns
    -------
    Figure

    Raises
    ------
    DravikError
        Where nothing is held, for signals that are not there, and for axes with more signals than one.
    """
    names = (list(signals) or _usual(sweep))[:PANELS]
    if not names:
        raise DravikError("nothing to draw: no condition of the sweep is held")
    others = list(itertools.product(*list(sweep.axes.values())[:-1]))
    is_map = len(others) > MOST_CURVES and len(sweep.axes) >= 2
    if ax is not None:
        if len(names) != 1:
            raise DravikError(f"{len(names)} signals do not fit on one set of axes", expected='one signal: ["alpha"]')
        with matplotlib.rc_context(STYLE):
            figure, axes = one_panel("", ax)
            _panel(figure, axes, sweep, names[0], others if not is_map else None)
            axes.set_xlabel(label_of(sweep, list(sweep.axes)[-1]))
        return figure
    figure = new_figure(f"{sweep.name}: trims over {' and '.join(n.replace('_', ' ') for n in sweep.axes)}")
    # fixed margins: finding them from all the labels takes longer than drawing a map does
    figure.set_layout_engine("none")
    with matplotlib.rc_context(STYLE):
        grid = figure.subplots(2, (len(names) + 1) // 2, squeeze=False, sharex=True, gridspec_kw=MARGINS)
        flat = list(grid.T.flat)
        for axes, name in zip(flat, names, strict=False):
            _panel(figure, axes, sweep, name, others if not is_map else None)
        for axes in flat[len(names) :]:
            axes.remove()
        for axes in flat[: len(names)]:
            axes.set_xlabel(label_of(sweep, list(sweep.axes)[-1]))
            axes.tick_params(labelbottom=True)
        if not is_map and len(others) > 1:
            flat[0].legend(frameon=False, fontsize=8)
    return figure


def _panel(
    figure: "Figure", axes: "Axes", sweep: "TrimSweep", name: str, others: "list[tuple[Any, ...]] | None"
) -> None:
    """Draw one signal: curves for each combination of the other axes, or a map."""
    unit = next(p for p in sweep.points if p is not None).craft.signal(name).unit
    shown, factor, _ = from_si(unit)
    values = sweep.values(name) * factor
    if others is None:
        _map(figure, axes, sweep, values)
    else:
        _curves(axes, sweep, values, others)
    axes.set_title(name.replace("_", " ") + (f" [{shown}]" if shown else ""), fontsize=10, color=INK, loc="left")
    axes.tick_params(labelcolor=INK)


def _usual(sweep: "TrimSweep") -> list[str]:
    """Return what a trim is usually looked at for."""
    first = next((p for p in sweep.points if p is not None), None)
    if first is None:
        return []
    craft = first.craft
    moved = [n for n in first.unknowns if n in craft.inputs]
    wanted = ["alpha", *moved, "climb_rate", "nz", "thrust", "shaft_power", "electric_power", "fuel_flow"]
    found = [n for n in wanted if n in craft.signals and n not in sweep.axes]
    # what hardly changes, such as a stick held in the middle or a load factor of one, needs no panel
    return [n for n in found if _spread(sweep.values(n)) > 0.03]


def _spread(values: Any) -> float:
    """Return how far values lie apart, as a share of the largest."""
    high, low = float(np.nanmax(values)), float(np.nanmin(values))
    return (high - low) / max(abs(high), abs(low), 1e-6)


def label_of(sweep: "TrimSweep", name: str) -> str:
    """Return an axis of a sweep as figures label it."""
    shown = from_si(sweep.units.get(name, ""))[0]
    return name.replace("_", " ") + (f" [{shown}]" if shown else "")


def _numbers(sweep: "TrimSweep", name: str) -> list[float]:
    """Return an axis' values in the unit shown; text, such as loadings, by its place."""
    factor, values = from_si(sweep.units.get(name, ""))[1], sweep.axes[name]
    return [v * factor if isinstance(v, float) else float(i) for i, v in enumerate(values)]


def _curves(axes: "Axes", sweep: "TrimSweep", values: Any, others: Sequence[tuple[Any, ...]]) -> None:
    x, rows = _numbers(sweep, list(sweep.axes)[-1]), values.reshape(len(others), -1)
    for k, (place, row) in enumerate(zip(others, rows, strict=True)):
        axes.plot(x, row, color=PALETTE[k % len(PALETTE)], lw=1.6, label=words_of(sweep, place), marker="o", ms=2.5)
    axes.margins(x=0.02)
    low, high = axes.get_ylim()
    # a constant shall look constant, not like rounding errors
    room = 0.02 * max(abs(low), abs(high), 1e-3)
    if high - low < room:
        axes.set_ylim(0.5 * (low + high) - room, 0.5 * (low + high) + room)


def words_of(sweep: "TrimSweep", place: tuple[Any, ...]) -> str:
    """Return the values of a sweep's first axes in words."""
    parts = []
    for name, value in zip(sweep.axes, place, strict=False):
        shown, factor, _ = from_si(sweep.units.get(name, ""))
        text = f"{value * factor:.4g} {shown}".strip() if isinstance(value, float) else str(value)
        parts.append(f"{name.replace('_', ' ')} {text}")
    return ", ".join(parts)


def _map(figure: "Figure", axes: "Axes", sweep: "TrimSweep", values: Any) -> None:
    """Draw the last two axes as a map of the first combination of the others."""
    *_, up, across = sweep.axes
    grid = np.ma.masked_invalid(values.reshape(-1, len(sweep.axes[up]), len(sweep.axes[across]))[0])
    x, y = _numbers(sweep, across), _numbers(sweep, up)
    drawn = axes.contourf(x, y, grid, levels=12, cmap="viridis")
    axes.contour(x, y, grid, levels=12, colors="white", linewidths=0.4)
    if np.nanmin(values) < 0.0 < np.nanmax(values):
        # where a climb ends, or a control changes sides
        none = axes.contour(x, y, grid, levels=[0.0], colors=INK, linewidths=1.8)
        axes.clabel(none, fmt="0", fontsize=9)
    bar = figure.colorbar(drawn, ax=axes, pad=0.01)
    bar.ax.tick_params(labelsize=8, labelcolor=INK)
    axes.set_ylabel(label_of(sweep, up))
    axes.set_facecolor("#f3f5f6")
    axes.grid(color=SOFT, lw=0.2)
