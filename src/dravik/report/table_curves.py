"""Families of curves: what a set of tables says, and two sets laid over each other with their difference."""

from typing import TYPE_CHECKING, Any

import matplotlib
import numpy as np
from matplotlib.colors import LinearSegmentedColormap

from dravik.report.figures import SPACED, new_figure
from dravik.report.style import ACTUAL, COMMANDED, INK, SOFT, STYLE

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from dravik.aero import Coefficients
    from dravik.aero.sets.comparing import Comparison

__all__ = ["figure_comparison", "figure_families"]

Line = np.ndarray[Any, np.dtype[np.float64]]
_RAMP = LinearSegmentedColormap.from_list("settings", ["#123f52", ACTUAL, "#8fb7a2", "#e0a458", COMMANDED])
REACH = (-10.0, 26.0)
MEMBERS = 5


def _settings(set_: "Coefficients", name: str) -> list[float]:
    """Return a few settings over a control's range, rad, zero among them."""
    low, high = set_.ranges[name]
    values = set(np.linspace(low, high, MEMBERS).tolist())
    nearest = min(values, key=abs)
    if low <= 0.0 <= high:
        values = (values - {nearest}) | {0.0}
    return sorted(values)


def _above(axes: "Axes", columns: int, what: str = "") -> None:
    """Name the curves above the panel: in it there is no room that no curve may cross."""
    axes.legend(
        fontsize=7.5, frameon=False, loc="lower left", bbox_to_anchor=(-0.02, 0.98), ncols=columns, handlelength=1.1,
        columnspacing=0.8, handletextpad=0.4, borderpad=0.1, title=what or None, title_fontsize=7.5, alignment="left",
        labelspacing=0.2,
    )  # fmt: skip


def _family(
    axes: "Axes", set_: "Coefficients", over: str, x: Line, names: tuple[str, ...],
    by: str, values: list[float], held: "Mapping[str, float]", *, polar: bool = False,
) -> None:  # fmt: skip
    """Draw a coefficient over an angle (or over the lift) for each of some settings."""
    for k, value in enumerate(values):
        colour = _RAMP(k / max(1, len(values) - 1))
        signals: dict[str, Any] = {over: x, **held, **({by: value} if by else {})}
        found = set_.at(**signals)
        for name, style in zip(names, ("-", (0, (4, 2))), strict=False):
            along = found["CL"] if polar else np.degrees(x)
            label = f"{np.degrees(value):.3g}°" if by and name == names[0] else None
            axes.plot(along, found[name], color=colour, lw=1.4, ls=style, label=label)
    axes.axhline(0.0, color=SOFT, lw=0.7)
    axes.set_xlabel("CL" if polar else f"{over} [deg]")
    axes.set_ylabel(" (line), ".join(names) + (" (dashed)" if len(names) > 1 else ""))
    if by:
        _above(axes, len(values), by)
    axes.margins(x=0.01)


def figure_families(
    set_: "Coefficients", *, title: str = "", held: "Mapping[str, float] | None" = None
) -> "Figure":  # fmt: skip
    """Return the curves of a set of tables: lift, drag and moment by settings, sideslip, control powers and damping.

    Where tables run over Mach numbers, a row of curves over these follows.

    Parameters
    ----------
    set_ : Coefficients
        The tables and formulas.
    title : str, default ""
        What stands above the figure.
    held : mapping of str to float, optional
        Signals (SI) at which the curves are drawn, such as ``mach``.

    Returns
    -------
    Figure
    """
    from dravik.aero import lengthwise_controls, signals_of

    flow = dict(held or {})
    motions, controls = signals_of(set_)
    lengthwise = lengthwise_controls(set_, controls)
    sideways = [c for c in controls if c not in lengthwise]
    figure = new_figure(title or f"{set_.name}: coefficients", fitted=False)
    low, high = (np.degrees(v) for v in set_.ranges.get("alpha", (-0.2, 0.4)))
    alpha = np.radians(np.linspace(max(low, REACH[0]), min(high, REACH[1]), 181))
    flap = next((c for c in lengthwise if set_.ranges[c][0] >= 0.0), "")
    elevator = next((c for c in lengthwise if c != flap), "")
    with matplotlib.rc_context(STYLE):
        over_mach = "mach" in set_.ranges
        grid = figure.subplots(
            3 if over_mach else 2, 4, gridspec_kw={**SPACED, "hspace": 0.55 if over_mach else 0.36, "top": 0.89}
        )
        lowered, trimmed = (_settings(set_, c) if c else [0.0] for c in (flap, elevator))
        _family(grid[0][0], set_, "alpha", alpha, ("CL",), flap, lowered, flow)
        _family(grid[0][1], set_, "alpha", alpha, ("Cm",), elevator, trimmed, flow)
        _family(grid[0][2], set_, "alpha", alpha, ("CD",), flap, lowered, flow, polar=True)
        _slopes(grid[0][3], set_, alpha, {f"Cm by {elevator}": ("Cm", elevator)} if elevator else {}, flow)
        if "beta" in motions:
            left, right = set_.ranges.get("beta", (-0.35, 0.35))
            beta = np.linspace(max(left, -0.44), min(right, 0.44), 121)
            angles = np.radians([0.0, 6.0, 12.0]).tolist()
            _family(grid[1][0], set_, "beta", beta, ("Cn", "Cl"), "alpha", angles, flow)
        else:
            grid[1][0].set_axis_off()
        _slopes(grid[1][1], set_, alpha, {f"{c} by {n}": (c, n) for n in sideways for c in ("Cl", "Cn")}, flow)
        rates = {"Cl by p_hat": ("Cl", "p_hat"), "Cn by r_hat": ("Cn", "r_hat")}
        _slopes(grid[1][2], set_, alpha, {k: v for k, v in rates.items() if v[1] in motions}, flow)
        _slopes(grid[1][3], set_, alpha, {"Cm by q_hat": ("Cm", "q_hat")} if "q_hat" in motions else {}, flow)
        if over_mach:
            _over_mach(grid[2], set_, elevator, flow)
    return figure


def _over_mach(row: "Sequence[Axes]", set_: "Coefficients", elevator: str, flow: "Mapping[str, float]") -> None:
    """Draw lift slope, neutral point, drag and elevator power over the Mach numbers of the tables, at three angles."""
    low, high = set_.ranges["mach"]
    machs, rest = np.linspace(low, high, 121), {n: v for n, v in flow.items() if n != "mach"}
    for k, degrees in enumerate((0.0, 4.0, 8.0)):
        signals: dict[str, Any] = {**rest, "mach": machs, "alpha": np.full(len(machs), np.radians(degrees))}
        drawn = [set_.slopes("alpha", **signals)["CL"], set_.neutral_point(**signals), set_.at(**signals)["CD"]]
        drawn += [set_.slopes(elevator, step=0.01, **signals)["Cm"]] if elevator else []
        for axes, values in zip(row, drawn, strict=False):
            axes.plot(machs, values, color=_RAMP(k / 2), lw=1.4, label=f"{degrees:g}°")
    names = ["CL by alpha [1/rad]", "neutral point, station x [m]", "CD", f"Cm by {elevator} [1/rad]"]
    for axes, name in zip(row, names, strict=True):
        axes.set_xlabel("Mach number")
        axes.set_ylabel(name)
        axes.margins(x=0.01)
    _above(row[0], 3, "alpha")
    if not elevator:
        row[3].set_axis_off()


def _slopes(
    axes: "Axes",
    set_: "Coefficients",
    alpha: "np.ndarray[tuple[int], np.dtype[np.float64]]",
    wanted: dict[str, tuple[str, str]],
    flow: "dict[str, float]",
) -> None:
    """Draw derivatives over the angle of attack; a damping that crosses zero is the stall's."""
    if not wanted:
        axes.set_axis_off()
        return
    for k, (label, (name, by)) in enumerate(wanted.items()):
        slope = set_.slopes(by, step=0.01, alpha=alpha, **flow)[name]
        axes.plot(
            np.degrees(alpha),
            slope,
            lw=1.4,
            color=_RAMP(k / max(1, len(wanted) - 1)),
            label=label,
        )
    axes.axhline(0.0, color=SOFT, lw=0.7)
    axes.set_xlabel("alpha [deg]")
    axes.set_ylabel("derivative [1/rad]")
    axes.margins(x=0.01)
    _above(axes, 2)


def figure_comparison(comparison: "Comparison", *, title: str = "") -> "Figure":
    """Return two sets over each other: the first as lines, the second as points, and the differences below.

    Parameters
    ----------
    comparison : Comparison
        Two sets held against each other.
    title : str, default ""
        What stands above the figure.

    Returns
    -------
    Figure
    """
    figure = new_figure(title or f"{comparison.names[0]} (lines) and {comparison.names[1]} (points)")
    with matplotlib.rc_context(STYLE):
        columns = len(comparison.curves)
        grid = figure.subplots(2, columns, sharex="col", squeeze=False, height_ratios=[2.2, 1.0])
        for k, panel in enumerate(comparison.curves):
            above, below = grid[0][k], grid[1][k]
            for j, curve in enumerate(panel.members):
                colour = _RAMP(j / max(1, len(panel.members) - 1))
                x = np.degrees(curve.x)
                label = f"{np.degrees(curve.value):.3g}°" if panel.by else None
                above.plot(x, curve.first, color=colour, lw=1.4, label=label)
                above.plot(x, curve.second, color=colour, ls="", marker="o", ms=3.2)
                below.plot(x, curve.second - curve.first, color=colour, lw=1.1, marker="o", ms=2.2)
            above.set_ylabel(panel.coefficient)
            below.set_ylabel(f"difference in {panel.coefficient}")
            below.axhline(0.0, color=SOFT, lw=0.7)
            below.set_xlabel(f"{panel.over} [deg]")
            if panel.by:
                above.legend(title=panel.by, fontsize=8, title_fontsize=8, frameon=False, loc="best")
            above.tick_params(labelcolor=INK)
    return figure
