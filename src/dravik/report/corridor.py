"""The corridor of level flight drawn: attitudes over speed, each throttle as a map, the edges by what limits them."""

from typing import TYPE_CHECKING

import matplotlib
import numpy as np
from matplotlib.lines import Line2D

from dravik.report.figures import new_figure
from dravik.report.style import INK, PALETTE, STYLE

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from dravik.performance import Corridor

__all__ = ["figure_corridor"]


def figure_corridor(found: "Corridor") -> "Figure":
    """Return a map for each throttle over airspeed and attitude, with the edges coloured by what limits them.

    Parameters
    ----------
    found : Corridor
        What ``corridor`` returns.

    Returns
    -------
    Figure
    """
    figure = new_figure(f"{found.name} at {found.altitude:g} m: attitudes of level flight, and what limits them")
    attitudes = np.degrees(found.attitudes)
    causes = list(dict.fromkeys(c for e in found.edges for c in (e.low_cause, e.high_cause)))
    colours = {cause: PALETTE[k % len(PALETTE)] for k, cause in enumerate(causes)}
    with matplotlib.rc_context(STYLE):
        panels = figure.subplots(1, len(found.throttles), squeeze=False, sharey=True)[0]
        for axes, name in zip(panels, found.throttles, strict=True):
            values = np.ma.masked_invalid(found.values(name))
            drawn = axes.pcolormesh(found.airspeeds, attitudes, values, cmap="viridis", shading="nearest", alpha=0.75)
            figure.colorbar(drawn, ax=axes, pad=0.01).ax.tick_params(labelsize=8, labelcolor=INK)
            for end, cause in (("lowest", "low_cause"), ("highest", "high_cause")):
                for edge in found.edges:
                    axes.plot(
                        edge.airspeed, np.degrees(getattr(edge, end)), marker="o", ms=6, ls="",
                        color=colours[getattr(edge, cause)], markeredgecolor="white",
                    )  # fmt: skip
            axes.set_title(name.replace("_", " "), fontsize=10, color=INK, loc="left")
            axes.set_xlabel("airspeed [m/s]")
            axes.tick_params(labelcolor=INK)
        panels[0].set_ylabel("pitch attitude [deg]")
        shown = [c for c in causes if c != "no attitude holds"]
        handles = [Line2D([], [], marker="o", ls="", color=colours[c], label=c.replace("_", " ")) for c in shown]
        columns = max(1, min(len(shown), 4))
        figure.legend(handles=handles, loc="outside lower center", frameon=False, fontsize=9, ncols=columns)
    return figure
