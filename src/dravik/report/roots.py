"""Roots in the plane: the pole map of a model, and branches over a sweep, coloured along the axis."""

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, cast

import matplotlib
import numpy as np

from dravik.errors import require
from dravik.linear import is_body_mode
from dravik.report.figures import new_figure, one_panel
from dravik.report.style import ACTUAL, COMMANDED, GRID, INK, SOFT, STYLE
from dravik.units import from_si

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from dravik.linear import Mode, Modes, RootSweep

__all__ = ["figure_poles", "figure_roots"]

CLEAR = 0.15  # of a panel's half width: roots nearer to the origin are labelled in the panel that zooms in
NEAR = 0.3  # 1/s: the right-hand panel shows the slow roots


def figure_roots(found: "RootSweep") -> "Figure":
    """Return the branches of roots in two panels: those of the fast modes, and near the origin.

    Parameters
    ----------
    found : RootSweep
        Roots over a parameter.

    Returns
    -------
    Figure
    """
    shown, factor, _ = from_si(found.unit)
    figure = new_figure(f"{found.name}: roots over {found.axis.replace('_', ' ')}")
    values = np.array(found.values) * factor
    with matplotlib.rc_context(STYLE):
        left, right = figure.subplots(1, 2)
        colour = matplotlib.colormaps["viridis"]
        scale = matplotlib.colors.Normalize(values.min(), values.max())
        body = [k for k, name in enumerate(found.names) if not name.endswith("'")]
        size = max(
            (float(np.nanmax(np.abs(found.roots[:, k]))) for k in body if is_body_mode(found.names[k])), default=1.0
        )
        for axes, reach in ((left, 1.15 * size), (right, NEAR)):
            for k in body:
                branch = found.roots[:, k]
                axes.plot(branch.real, np.abs(branch.imag), color=SOFT, lw=0.8, zorder=1)
                axes.scatter(branch.real, np.abs(branch.imag), c=colour(scale(values)), s=16, zorder=2)
                _name(axes, found.names[k], branch, reach, inner=axes is right)
            axes.axvline(0.0, color=INK, lw=0.8)
            axes.set_xlim(-reach, 0.35 * reach)
            high = reach if axes is right else max(1.25 * _highest(found, body), 0.2 * reach)
            axes.set_ylim(-0.03 * high, high)
            axes.set_xlabel("real part [1/s]")
            axes.tick_params(labelcolor=INK)
        left.set_ylabel("imaginary part [rad/s]")
        left.set_title("all roots", fontsize=10, color=INK, loc="left")
        right.set_title("near the origin", fontsize=10, color=INK, loc="left")
        bar = figure.colorbar(matplotlib.cm.ScalarMappable(scale, colour), ax=[left, right], pad=0.01)
        bar.set_label(found.axis.replace("_", " ") + (f" [{shown}]" if shown else ""), color=INK)
    return figure


def _highest(found: "RootSweep", branches: list[int]) -> float:
    """Return the largest imaginary part of the rigid body's modes, rad/s."""
    own = [np.nanmax(np.abs(found.roots[:, k].imag)) for k in branches if is_body_mode(found.names[k])]
    return float(max(own, default=0.0))


def _name(axes: "Axes", name: str, branch: "np.ndarray", reach: float, *, inner: bool) -> None:
    """Write a branch's name above its largest root where that is in the panel, and not in the other one."""
    there = branch[np.isfinite(branch)]
    if not len(there) or not is_body_mode(name):
        return
    last = there[int(np.argmax(np.abs(there)))]
    if abs(last) > reach or (abs(last) <= NEAR) != inner:
        return
    # names of real roots stand over each other, each with a line down to its own; near an edge they lead inwards
    is_real = abs(last.imag) < 1e-9
    above = 9 + 13 * sum(getattr(text, "xy", (0.0, 1.0))[1] == 0.0 for text in axes.texts) if is_real else 9
    side = "left" if last.real < -0.8 * reach else "right" if last.real > 0.2 * reach else "center"
    place = (last.real, 0.0 if is_real else abs(last.imag))
    axes.annotate(
        name, place, xytext=(0, above), ha=side, textcoords="offset points", fontsize=9, color=INK,
        arrowprops={"arrowstyle": "-", "color": SOFT, "lw": 0.6, "shrinkB": 3} if above > 9 else None,
    )  # fmt: skip


def figure_poles(modes: "Modes", *, title: str = "", ax: "Axes | None" = None) -> "Figure":
    """Return the pole map: all roots, then nearer and nearer to the origin, with rays of equal damping.

    Roots are numbered in the first panel in which they stand clear of the origin, and named below.

    Parameters
    ----------
    modes : Modes
        The modes.
    title : str, default ""
        What stands above the figure.
    ax : Axes, optional
        Axes to draw all roots on, as part of a figure of your own. A new figure with all its panels unless given.

    Returns
    -------
    Figure

    Raises
    ------
    DravikError
        For what is no list of modes.
    """
    require(modes, list, "what is drawn", "model.modes()")
    sizes = sorted((m.frequency for m in modes if m.frequency), reverse=True) or [1.0]
    reaches = [sizes[0]]
    for size in sizes:
        if size < CLEAR * reaches[-1] and len(reaches) < 3:
            reaches.append(size)
    listed = sorted(modes, key=lambda m: -m.frequency)
    if ax is not None:
        with matplotlib.rc_context(STYLE):
            figure, axes = one_panel(title, ax)
            clear: list[tuple[int | str, Mode]] = [(m.name, m) for m in listed if m.frequency >= CLEAR * sizes[0]]
            _pole_panel(axes, modes, 1.15 * sizes[0], clear)
        return figure
    figure = new_figure(title)
    lines = [f"{i:2d}  {_root_words(m)}" for i, m in enumerate(listed, start=1)]
    columns = 1 if len(lines) <= 6 else 2
    rows = math.ceil(len(lines) / columns)
    with matplotlib.rc_context(STYLE):
        above, key = cast(Any, figure.subfigures)(2, 1, height_ratios=[10.0, 0.5 + 0.26 * rows])
        panels = above.subplots(1, len(reaches), squeeze=False)[0]
        for i, (axes, reach) in enumerate(zip(panels, reaches, strict=True)):
            least = CLEAR * reach if i + 1 < len(reaches) else 0.0
            most = CLEAR * reaches[i - 1] if i else float("inf")
            named: list[tuple[int | str, Mode]] = [
                (k, m) for k, m in enumerate(listed, start=1) if least <= m.frequency < most
            ]
            _pole_panel(axes, modes, 1.15 * reach, named)
            axes.set_title("all roots" if i == 0 else "nearer to the origin", fontsize=10, color=SOFT, loc="left")
        for j in range(columns):
            text = "\n".join(lines[j * rows : (j + 1) * rows])
            key.text(0.015 + 0.5 * j, 0.97, text, family="DejaVu Sans Mono", fontsize=9, color=INK, va="top")
    return figure


def _root_words(mode: "Mode") -> str:
    root = mode.eigenvalue
    if root == 0.0:
        return mode.name
    if root.imag:
        return f"{mode.name}: {root.real:.3g} ± {abs(root.imag):.3g}i, damping {mode.damping:.2g}"
    return f"{mode.name}: {root.real:.3g}"


def _pole_panel(axes: "Axes", modes: "Sequence[Mode]", reach: float, named: "Sequence[tuple[int | str, Mode]]") -> None:
    axes.grid(visible=False)
    for ratio in (0.2, 0.4, 0.6, 0.8):
        x, y = -ratio * reach, math.sqrt(1.0 - ratio**2) * reach
        axes.plot([0.0, x], [0.0, y], color=GRID, lw=1.0, zorder=0)
        axes.plot([0.0, x], [0.0, -y], color=GRID, lw=1.0, zorder=0)
        axes.annotate(
            f"damping {ratio:g}", (x, y), color=SOFT, fontsize=7.5, ha="right", va="bottom", xytext=(2, 2),
            textcoords="offset points", zorder=0,
        )  # fmt: skip
    axes.axhline(0.0, color=SOFT, lw=0.8)
    axes.axvline(0.0, color=SOFT, lw=0.8)
    for mode in modes:
        root = mode.eigenvalue
        colour = ACTUAL if root.real < 0.0 else COMMANDED
        for imag in {root.imag, -root.imag}:
            axes.plot(root.real, imag, marker="x", ms=8, mew=2.0, color=colour, ls="")
    groups: dict[tuple[float, float], list[int | str]] = {}
    for number, mode in named:
        place = mode.eigenvalue / reach
        # roots too close for separate labels share one
        near = next((g for g in groups if math.hypot(g[0] - place.real, g[1] - abs(place.imag)) < 0.09), None)
        groups.setdefault(near or (place.real, abs(place.imag)), []).append(number)
    for (x, y), numbers in groups.items():
        axes.annotate(
            _ranges(numbers), (x * reach, y * reach), xytext=(0, 8), textcoords="offset points", fontsize=9, color=INK,
            ha="center", bbox={"facecolor": "white", "edgecolor": "none", "pad": 0.8, "alpha": 0.8},
        )  # fmt: skip
    axes.set_xlim(-1.25 * reach, 0.45 * reach)
    axes.set_ylim(-1.12 * reach, 1.12 * reach)
    axes.set_xlabel("real part [1/s]")
    axes.set_ylabel("imaginary part [rad/s]")


def _ranges(labels: "Sequence[int | str]") -> str:
    """Return numbers in few words: 1, 3-6; names below each other."""
    numbers = sorted(n for n in labels if isinstance(n, int))
    if not numbers:
        return "\n".join(str(n) for n in labels)
    runs: list[list[int]] = []
    for n in numbers:
        if runs and n == runs[-1][-1] + 1:
            runs[-1].append(n)
        else:
            runs.append([n])
    return ", ".join(f"{r[0]}" if len(r) == 1 else f"{r[0]}-{r[-1]}" for r in runs)
