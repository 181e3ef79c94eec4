"""Masses drawn: the envelope of the centre of gravity, and how it and the inertia move as tanks drain."""

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import matplotlib
import numpy as np

from dravik.report.figures import new_figure
from dravik.report.style import ACTUAL, COMMANDED, INK, PALETTE, SOFT, STYLE, THIRD

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from dravik.aircraft import AircraftDefinition
    from dravik.performance.weights import CentreLimits, LoadingLoop

__all__ = ["figure_masses"]

Path = np.ndarray[Any, np.dtype[np.float64]]


def figure_masses(
    name: str, definition: "AircraftDefinition", paths: dict[str, dict[str, Path]], limits: "CentreLimits",
    loop: "LoadingLoop | None" = None,
) -> "Figure":  # fmt: skip
    """Return mass over centre of gravity with its limits, and centre and pitch inertia over what tanks hold.

    ``paths`` by loading and tank: rows of what the tank holds, mass, station x, y, z, Ixx, Iyy, Izz as it drains
    alone.

    Parameters
    ----------
    name : str
        The aircraft's name.
    definition : AircraftDefinition
        The aircraft as read from its file.
    paths : mapping of str to mapping of str to Path
        Rows by loading and tank.
    limits : CentreLimits
        Of the centre of gravity.
    loop : LoadingLoop, optional
        How the centre moves while seats are taken.

    Returns
    -------
    Figure
    """
    figure = new_figure(f"{name}: mass, centre of gravity and inertia")
    with matplotlib.rc_context(STYLE):
        grid = figure.subplots(1, 3, width_ratios=[1.5, 1.0, 1.0])
        envelope, centre, inertia = grid
        for k, (loading, entry) in enumerate(definition.loadings.items()):
            colour = PALETTE[k % len(PALETTE)]
            for path in paths.get(loading, {}).values():
                envelope.plot(path[:, 2], path[:, 1], color=colour, lw=1.1, alpha=0.7)
            envelope.plot(entry.cg[0], entry.mass, marker="o", ms=12 - 2 * k, color=colour, ls="", label=loading)
        if loop is not None:
            for branch, words, dash in (
                (loop.from_front, "from the front", "-"),
                (loop.from_back, "from the back", "--"),
            ):
                envelope.plot(
                    branch[:, 1], branch[:, 0], color=THIRD, lw=1.2, ls=dash, marker=".", ms=3, label=f"seats, {words}"
                )
        _allowed(envelope, definition, paths, limits, () if loop is None else loop.from_front[:, 0].tolist())
        envelope.set_xlabel("centre of gravity, station x [m]")
        envelope.set_ylabel("mass [kg]")
        envelope.margins(0.08)
        envelope.legend(frameon=False, fontsize=8, loc="best")
        longest = max(paths, key=lambda n: len(paths[n]), default="")
        for k, (tank, path) in enumerate(paths.get(longest, {}).items()):
            colour = PALETTE[k % len(PALETTE)]
            centre.plot(path[:, 0], path[:, 2], color=colour, lw=1.5, label=tank)
            inertia.plot(path[:, 0], path[:, 6] / 1e3, color=colour, lw=1.5, label=tank)
        if not longest or not paths[longest]:
            for axes in (centre, inertia):
                axes.set_axis_off()
            centre.text(0.0, 1.0, "no tank, and so nothing that moves the centre in flight", va="top", color=SOFT)
            return figure
        for axes, text in ((centre, "centre of gravity, station x [m]"), (inertia, "Iyy [1000 kg m^2]")):
            axes.set_xlabel(f"left in the tank [kg], others as in {longest}")
            axes.set_ylabel(text)
            axes.ticklabel_format(axis="y", useOffset=False)
            axes.tick_params(labelcolor=INK)
        centre.legend(frameon=False, fontsize=8, loc="best")
    return figure


def _allowed(
    axes: "Axes", definition: "AircraftDefinition", paths: dict[str, dict[str, Path]], limits: "CentreLimits",
    seated: "Sequence[float]" = (),
) -> None:  # fmt: skip
    """Draw the limits of the centre of gravity, from the least to the greatest mass, and its place in chords above."""
    masses = [entry.mass for entry in definition.loadings.values()]
    masses += [float(m) for tanks in paths.values() for path in tanks.values() for m in path[:, 1]]
    masses += seated
    for what, most in (
        ("take-off", definition.mass_limits.take_off), ("landing", definition.mass_limits.landing),
        ("zero fuel", definition.mass_limits.zero_fuel),
    ):  # fmt: skip
        if most is not None:
            masses.append(most)
            axes.axhline(most, color=COMMANDED, lw=0.9, ls=":")
            axes.annotate(
                f"{what} {most:.5g} kg", (0.01, most), xycoords=("axes fraction", "data"), xytext=(0, 2), fontsize=8,
                textcoords="offset points", color=COMMANDED,
            )  # fmt: skip
    low, high = min(masses), max(masses)
    places = np.unique([low, high, *(mass for mass, _, _ in limits.rows if low < mass < high)])
    edges = np.array([limits.at(mass) for mass in places])
    if np.all(np.isfinite(edges)):
        axes.fill_betweenx(places, edges[:, 0], edges[:, 1], color=ACTUAL, alpha=0.07, lw=0)
    for k, text, side in ((0, "forward limit", "left"), (1, "aft limit", "right")):
        if np.all(np.isfinite(edges[:, k])):
            axes.plot(edges[:, k], places, color=SOFT, lw=1.4)
            axes.annotate(text, (edges[-1, k], high), xytext=(-3 if side == "right" else 3, -3), ha=side, va="top",
                          textcoords="offset points", color=SOFT, fontsize=8)  # fmt: skip
    point, chord = definition.reference.moment_point[0], definition.reference.chord

    def share(x: Any) -> Any:
        return (x - point) * 100.0 / chord

    def station(percent: Any) -> Any:
        return percent * 0.01 * chord + point

    above = axes.secondary_xaxis("top", functions=(share, station))
    above.set_xlabel(f"behind the tables' moment point [% of the mean chord, {chord:.3g} m]", fontsize=9)
