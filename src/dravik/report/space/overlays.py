"""What was meant, beside what was flown: modes as bands over time, a route with its points, a rocket's band."""

import math
from collections.abc import Mapping
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np

from dravik.report.style import COMMANDED, INK, PALETTE, SOFT, THIRD

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from dravik.recording import Recording

__all__ = ["draw_band", "draw_modes", "draw_route", "mode_spans"]

NARROW = 0.012  # of the time shown for each letter: a narrower band has no name in it


def mode_spans(run: "Recording") -> dict[str, list[tuple[float, float, str]]]:
    """Return, for each mode logic that was recorded, the times (s) from which to which each mode was active."""
    mode_logic = run.metadata.get("mode_logic")
    found: dict[str, list[tuple[float, float, str]]] = {}
    for name, logic in mode_logic.items() if isinstance(mode_logic, Mapping) else ():
        if name not in run.names or not len(run.time):
            continue
        modes, values = list(logic.get("modes", {})), run[name]
        starts = np.concatenate([[0], np.flatnonzero(np.diff(values)) + 1, [len(values) - 1]])
        spans = []
        for a, b in pairwise(starts):
            k = int(values[a]) - 1
            if b > a and 0 <= k < len(modes):
                spans.append((float(run.time[a]), float(run.time[b]), modes[k]))
        found[name] = spans
    return found


def draw_modes(axes: "Axes", spans: dict[str, list[tuple[float, float, str]]]) -> None:
    """Draw a row of bands for each mode logic, each mode in a tint of its own with its name where there is room."""
    last = max((b for row in spans.values() for _, b, _ in row), default=1.0)
    first = min((a for row in spans.values() for a, _, _ in row), default=0.0)
    width = max(last - first, 1e-9)
    for i, row in enumerate(spans.values()):
        tints: dict[str, str] = {}
        for a, b, mode in row:
            tints.setdefault(mode, PALETTE[len(tints) % len(PALETTE)])
            if (b - a) / width > NARROW * len(mode) * 0.62:
                axes.text(0.5 * (a + b), i, mode.replace("_", " "), ha="center", va="center", fontsize=7.5, color=INK)
        # all bands of a row as one: each by itself takes as long as a curve
        colours = ["white" if mode == "off" else tints[mode] for _, _, mode in row]
        axes.broken_barh(
            [(a, b - a) for a, b, _ in row], (i - 0.42, 0.84), facecolors=colours, alpha=0.35, edgecolor=INK, lw=0.6
        )
    axes.set_yticks(range(len(spans)), list(spans))
    axes.tick_params(axis="y", length=0, labelsize=8)
    axes.set_ylim(len(spans) - 0.45, -0.55)
    axes.grid(visible=False)
    axes.set_xlabel("time [s]")


def draw_route(axes: "Axes", route: Any, k: float) -> None:
    """Draw a route's path and its points with their acceptance circles; ``k`` scales metres to the axes."""
    north, east = (np.asarray(route[n], dtype=float) * k for n in ("north_m", "east_m"))
    axes.plot(east, north, color=COMMANDED, lw=1.2, ls=(0, (4, 2)), zorder=1, label="route")
    angle = np.linspace(0.0, 2.0 * math.pi, 60)
    for point in route["points"]:
        x, y, r = float(point["east_m"]) * k, float(point["north_m"]) * k, float(point["acceptance_m"]) * k
        if r < 1e5 * k:
            axes.plot(x + r * np.sin(angle), y + r * np.cos(angle), color=THIRD, lw=0.9)
        axes.plot(x, y, marker="+", ms=6, color=THIRD, ls="")
        axes.annotate(
            str(point["name"]), (x, y), xytext=(5, 5), textcoords="offset points", fontsize=7.5, color=SOFT, zorder=4
        )


def draw_band(axes: "Axes", run: "Recording", k: float) -> str:
    """Draw the ranges that a rocket reaches, the point aimed at and the miss; return what the title says of them."""
    band, start = run.metadata["band"], run.metadata.get("start_inputs", {})
    heading = float(band["heading"])
    angle = heading + np.radians(np.linspace(-25.0, 25.0, 60))
    for key, style in (("least", ":"), ("middle", (0, (1, 3))), ("greatest", ":")):
        r = float(band[key]) * k
        axes.plot(r * np.sin(angle), r * np.cos(angle), color=SOFT, lw=1.1, ls=style)
        axes.annotate(
            f"{key} {float(band[key]):.0f} m", (r * math.sin(angle[-1]), r * math.cos(angle[-1])), fontsize=7.5,
            color=SOFT, xytext=(3, -3), textcoords="offset points", va="top",
        )  # fmt: skip
    words = f"reach at {float(band['altitude']):.0f} m: {float(band['least']):.0f} to {float(band['greatest']):.0f} m"
    if {"aim_north", "aim_east"} <= set(start):
        axes.plot(start["aim_east"] * k, start["aim_north"] * k, marker="x", ms=9, mew=2, color=THIRD, ls="")
    if near := run.closest():
        words += f"; the point is missed by {near['miss_m']:.1f} m"
    return words
