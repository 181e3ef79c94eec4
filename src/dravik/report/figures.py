"""Figures: time histories, pole map, linear against nonlinear."""

import math
from collections.abc import Mapping, Sequence
from pathlib import Path
from textwrap import wrap
from typing import TYPE_CHECKING, Any

import matplotlib
import numpy as np

matplotlib.use("Agg")
from matplotlib.figure import Figure

from dravik.errors import DravikError
from dravik.units import from_si

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from numpy.typing import NDArray

    from dravik.flight import Event, LinearProof, Recording
    from dravik.linear import Mode, Modes

__all__ = ["drawn", "figure_histories", "figure_overlay", "figure_poles", "marked_events", "new_figure", "save_figure"]

INK, SOFT, GRID = "#1d2b33", "#6b7b84", "#dfe5e8"
ACTUAL, COMMANDED, THIRD = "#0b6e8f", "#d1662c", "#7a4fa3"
SIZE = (12.8, 8.0)
STILL = 0.15  # of the highest airspeed: below it the angles to the air are those of gusts
MOST_WORDS = 6  # events named in a panel; more are numbered, and named below
CLEAR = 0.15  # of a panel's reach: closer to the origin, a root is named in the next panel
STYLE: Any = {
    "font.family": "DejaVu Sans",
    "font.size": 10,
    "text.parse_math": False,  # a name may hold a $
    "axes.edgecolor": SOFT,
    "axes.labelcolor": INK,
    "axes.grid": True,
    "grid.color": GRID,
    "axes.spines.top": False,
    "axes.spines.right": False,
    "xtick.color": INK,
    "ytick.color": INK,
}


def new_figure(title: str) -> Figure:
    """Return an empty figure of the common size and look."""
    with matplotlib.rc_context(STYLE):
        figure = Figure(figsize=SIZE, dpi=100, layout="constrained")
    figure.suptitle(title, color=INK, fontsize=13, x=0.01, ha="left")
    return figure


def save_figure(figure: Figure, path: str | Path) -> Path:
    """Write a figure as PNG, SVG or PDF, by the name; raises DravikError when it cannot be written."""
    target = Path(path)
    try:
        with matplotlib.rc_context(STYLE):
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


def figure_histories(
    run: "Recording",
    signals: Sequence[str],
    *,
    title: str = "",
    limits: Mapping[str, tuple[float, float]] | None = None,
) -> Figure:
    """Return signals over time in stacked panels; commanded values beside actual ones, events marked, limits drawn.

    A signal ``x`` brings its ``x_command`` along where that was recorded. ``limits`` (SI) are drawn where they
    lie near the values. Raises DravikError for a signal that was not recorded, or an empty list.
    """
    if not signals:
        raise DravikError("no signals to plot", hint="--signals alpha,theta")
    columns = 1 if len(signals) <= 4 else 2
    rows = math.ceil(len(signals) / columns)
    figure = new_figure(title)
    with matplotlib.rc_context(STYLE):
        grid = figure.subplots(rows, columns, sharex=True, squeeze=False)
        places = [grid[i % rows][i // rows] for i in range(len(signals))]
        for axes, name in zip(places, signals, strict=True):
            _history_panel(axes, run, name, (limits or {}).get(name))
        for axes in grid.ravel()[: rows * columns]:
            if axes not in places:
                axes.set_axis_off()
        for j in range(columns):
            last = [a for a in places if a in list(grid[:, j])][-1]
            last.set_xlabel("time [s]")
            last.tick_params(labelbottom=True)
        if len(run.events) > MOST_WORDS:
            words = "   ".join(
                f"{i} {e.text.removeprefix('phase: ')}" for i, e in enumerate(marked_events(run), start=1)
            )
            figure.supxlabel("\n".join(wrap(words, 190)), fontsize=8, color=THIRD, x=0.01, ha="left")
    return figure


def marked_events(run: "Recording", most: int = 14) -> "list[Event]":
    """Return the events worth a number in a figure: phases and faults where there are any, else the first ones."""
    chosen = [e for e in run.events if e.text.startswith(("phase:", "fault:", "crash"))]
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
    lines = [axes.plot(run.time, values, color=ACTUAL, lw=1.6, label=name)[0]]
    lowest, highest = float(np.nanmin(values)), float(np.nanmax(values))
    if f"{name}_command" in run.names:
        commanded, _ = run.shown(f"{name}_command")
        lines += axes.plot(run.time, commanded, color=COMMANDED, lw=1.3, ls=(0, (4, 2)), label=f"{name}_command")
        lowest, highest = min(lowest, float(commanded.min())), max(highest, float(commanded.max()))
    # a flat trace must look flat, not like noise blown up to the height of the panel
    _, factor, _ = from_si(run.units.get(name, ""))
    least = {"deg": 0.2, "deg/s": 0.2, "m": 1.0, "m/s": 0.2}.get(unit, 1e-3 * max(1.0, abs(highest)))
    middle, half = 0.5 * (lowest + highest), 0.55 * max(highest - lowest, least)
    axes.set_ylim(middle - half, middle + half)
    for limit in limits or ():
        if middle - 1.6 * half < limit * factor < middle + 1.6 * half:
            axes.axhline(limit * factor, color=SOFT, lw=1.0, ls=":")
            low, high = axes.get_ylim()
            axes.set_ylim(min(low, limit * factor - 0.1 * half), max(high, limit * factor + 0.1 * half))
    last, step = -math.inf, 0
    many = len(run.events) > MOST_WORDS
    events = marked_events(run) if many else run.events
    for number, event in enumerate(events, start=1):
        axes.axvline(event.time, color=THIRD, lw=0.9, ls="-.")
        # words that would run into one another stand below each other; those near the end stand to the left
        step = step + 1 if event.time - last < 0.25 * float(run.time[-1]) else 0
        last = event.time
        late = event.time > 0.85 * float(run.time[-1])
        if axes.get_subplotspec() is not None and axes.get_subplotspec().is_first_row():  # type: ignore[union-attr]
            axes.annotate(
                str(number) if many else event.text, (event.time, 1.0), xycoords=("data", "axes fraction"),
                xytext=(-4 if late else 4, -4 - 11 * (step % 4)), textcoords="offset points", color=THIRD, fontsize=8,
                va="top", ha="right" if late else "left",
            )  # fmt: skip
    axes.set_ylabel(f"{name} [{unit}]" if unit else name)
    axes.ticklabel_format(axis="y", useOffset=False)
    axes.margins(x=0.01)
    if len(lines) > 1:
        axes.legend(handles=lines, loc="upper right", frameon=False, fontsize=8, ncols=2)


def figure_poles(modes: "Modes", *, title: str = "") -> Figure:
    """Return the pole map: all roots, then nearer and nearer to the origin, with rays of equal damping.

    A root is named in the first panel in which it stands clear of the origin.
    """
    sizes = sorted((m.frequency for m in modes if m.frequency), reverse=True) or [1.0]
    reaches = [sizes[0]]
    for size in sizes:
        if size < CLEAR * reaches[-1] and len(reaches) < 3:
            reaches.append(size)
    figure = new_figure(title)
    with matplotlib.rc_context(STYLE):
        panels = figure.subplots(1, len(reaches), squeeze=False)[0]
        for i, (axes, reach) in enumerate(zip(panels, reaches, strict=True)):
            least = CLEAR * reach if i + 1 < len(reaches) else 0.0
            most = CLEAR * reaches[i - 1] if i else float("inf")
            _pole_panel(axes, modes, 1.15 * reach, [m for m in modes if least <= m.frequency < most])
            axes.set_title("all roots" if i == 0 else "nearer to the origin", fontsize=10, color=SOFT, loc="left")
    return figure


def _pole_panel(axes: "Axes", modes: "Sequence[Mode]", reach: float, named: "Sequence[Mode]") -> None:
    for ratio in (0.2, 0.4, 0.6, 0.8):
        x, y = -ratio * reach, math.sqrt(1.0 - ratio**2) * reach
        axes.plot([0.0, x], [0.0, y], color=GRID, lw=1.0, zorder=0)
        axes.plot([0.0, x], [0.0, -y], color=GRID, lw=1.0, zorder=0)
        axes.annotate(f"damping {ratio:g}", (x, y), color=SOFT, fontsize=7.5, ha="center", va="bottom", zorder=0)
    axes.axhline(0.0, color=SOFT, lw=0.8)
    axes.axvline(0.0, color=SOFT, lw=0.8)
    for mode in modes:
        root = mode.eigenvalue
        colour = ACTUAL if root.real < 0.0 else COMMANDED
        for imag in {root.imag, -root.imag}:
            axes.plot(root.real, imag, marker="x", ms=8, mew=2.0, color=colour, ls="")
    groups: dict[tuple[float, float], list[str]] = {}
    for mode in named:
        key = (round(mode.eigenvalue.real / reach, 2), round(mode.eigenvalue.imag / reach, 2))
        groups.setdefault(key, []).append(mode.name)
    for (x, y), names in groups.items():
        # names of real roots hang below the axis at a slant, those of pairs stand above: they do not collide
        real = y == 0.0
        axes.annotate(
            ", ".join(names), (x * reach, y * reach), xytext=(2, -12) if real else (4, 7), textcoords="offset points",
            fontsize=9, color=INK, rotation=-55 if real else 0, rotation_mode="anchor",
        )  # fmt: skip
    axes.set_xlim(-1.08 * reach, 0.45 * reach)
    axes.set_ylim(-1.12 * reach, 1.12 * reach)
    axes.set_xlabel("real part [1/s]")
    axes.set_ylabel("imaginary part [rad/s]")


def figure_overlay(proof: "LinearProof", *, title: str = "") -> Figure:
    """Return the linear answer drawn over the nonlinear one, a panel for each signal, with the difference named."""
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
