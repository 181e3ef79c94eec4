"""Masses drawn: the envelope of the centre of gravity, and how it and the inertia move as tanks drain."""

from typing import TYPE_CHECKING, Any

import matplotlib
import numpy as np

from dravik.report.figures import ACTUAL, COMMANDED, INK, SOFT, STYLE, THIRD, new_figure

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from dravik.aircraft import AircraftDefinition

__all__ = ["figure_masses"]

Path = np.ndarray[Any, np.dtype[np.float64]]
_COLOURS = (ACTUAL, COMMANDED, THIRD, "#4c8c5a", "#b08a2e", "#8a3b52")


def figure_masses(
    name: str, definition: "AircraftDefinition", paths: dict[str, dict[str, Path]], limits: tuple[float, float, str]
) -> "Figure":
    """Return mass over centre of gravity with its limits, and centre and pitch inertia over what tanks hold.

    ``paths`` by loading and tank: rows of what the tank holds, mass, station x, y, z, Ixx, Iyy, Izz as it drains alone.
    """
    figure = new_figure(f"{name}: mass, centre of gravity and inertia")
    with matplotlib.rc_context(STYLE):
        grid = figure.subplots(1, 3, width_ratios=[1.5, 1.0, 1.0])
        envelope, centre, inertia = grid
        for k, (loading, entry) in enumerate(definition.loadings.items()):
            colour = _COLOURS[k % len(_COLOURS)]
            for path in paths.get(loading, {}).values():
                envelope.plot(path[:, 2], path[:, 1], color=colour, lw=1.1, alpha=0.7)
            envelope.plot(entry.cg[0], entry.mass, marker="o", ms=12 - 2 * k, color=colour, ls="", label=loading)
        for limit, text in zip(limits[:2], ("forward limit", "aft limit"), strict=True):
            envelope.axvline(limit, color=SOFT, lw=1.2, ls=":")
            envelope.annotate(text, (limit, 1.0), xycoords=("data", "axes fraction"), xytext=(3, -12),
                              textcoords="offset points", color=SOFT, fontsize=8)  # fmt: skip
        envelope.set_xlabel("centre of gravity, station x [m]")
        envelope.set_ylabel("mass [kg]")
        envelope.margins(0.08)
        envelope.legend(frameon=False, fontsize=8, loc="best")
        longest = max(paths, key=lambda n: len(paths[n]), default="")
        for k, (tank, path) in enumerate(paths.get(longest, {}).items()):
            colour = _COLOURS[k % len(_COLOURS)]
            centre.plot(path[:, 0], path[:, 2], color=colour, lw=1.5, label=tank)
            inertia.plot(path[:, 0], path[:, 6] / 1e3, color=colour, lw=1.5, label=tank)
        for axes, text in ((centre, "centre of gravity, station x [m]"), (inertia, "Iyy [1000 kg m^2]")):
            axes.set_xlabel(f"left in the tank [kg], others as in {longest}" if longest else "left in the tank [kg]")
            axes.set_ylabel(text)
            axes.ticklabel_format(axis="y", useOffset=False)
            axes.tick_params(labelcolor=INK)
        if longest and paths[longest]:
            centre.legend(frameon=False, fontsize=8, loc="best")
    return figure
