"""What limits flight, drawn: speeds over altitude, load factors over speed with gusts, turns over speed."""

import math
from textwrap import wrap
from typing import TYPE_CHECKING

import matplotlib
import numpy as np

from dravik.report.figures import SPACED, new_figure
from dravik.report.style import ACTUAL, COMMANDED, INK, SOFT, STYLE, THIRD

if TYPE_CHECKING:
    from collections.abc import Sequence

    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from dravik.performance import EnvelopeRow, ManoeuvreRow

__all__ = ["figure_limits"]


def figure_limits(title: str, envelope: "Sequence[EnvelopeRow]", manoeuvres: "Sequence[ManoeuvreRow]") -> "Figure":
    """Return the envelope of speed and altitude, the V-n diagram, and rate and radius of sustained turns.

    Parameters
    ----------
    title : str
        What stands above the figure.
    envelope : sequence of EnvelopeRow
        Slowest and fastest flight by altitude.
    manoeuvres : sequence of ManoeuvreRow
        Load factors by airspeed.

    Returns
    -------
    Figure
    """
    figure = new_figure(title, fitted=False)
    with matplotlib.rc_context(STYLE):
        left, middle, right = figure.subplots(1, 3, gridspec_kw={**SPACED, "right": 0.94, "wspace": 0.22})
        _envelope(left, envelope)
        _loads(middle, manoeuvres)
        _turns(right, manoeuvres)
        for axes in (left, middle, right):
            axes.tick_params(labelcolor=INK)
            axes.set_xlabel("airspeed [m/s]")
    return figure


def _envelope(axes: "Axes", rows: "Sequence[EnvelopeRow]") -> None:
    altitude = [r.altitude for r in rows]
    for side, colour in (("slow", ACTUAL), ("fast", COMMANDED)):
        speeds = [r.slowest if side == "slow" else r.fastest for r in rows]
        causes = [r.slow_cause if side == "slow" else r.fast_cause for r in rows]
        axes.plot(speeds, altitude, color=colour, lw=1.8, marker="o", ms=3)
        said = ""
        for k, (speed, cause) in enumerate(zip(speeds, causes, strict=True)):
            # a limit is named where it begins, inside the envelope
            if math.isfinite(speed) and cause and cause != said:
                said = cause
                axes.annotate(
                    "\n".join(wrap(cause.split(",")[0].replace("_", " "), 24)), (speed, altitude[k]),
                    xytext=(8, 12) if side == "slow" else (-8, 44), textcoords="offset points", fontsize=8,
                    color=colour, ha="left" if side == "slow" else "right", va="bottom",
                )  # fmt: skip
    axes.fill_betweenx(
        altitude, [r.slowest for r in rows], [r.fastest for r in rows], color=SOFT, alpha=0.08, lw=0
    )  # fmt: skip
    axes.set_ylabel("altitude [m]")
    axes.set_title("level flight", fontsize=10, color=INK, loc="left")


def _loads(axes: "Axes", rows: "Sequence[ManoeuvreRow]") -> None:
    speed = [r.airspeed for r in rows]
    for name, label, colour, dash in (
        ("pull", "briefly", ACTUAL, "-"), ("push", "", ACTUAL, "-"), ("sustained", "sustained turn", THIRD, "-"),
        ("gust_up", "gust", COMMANDED, "--"), ("gust_down", "", COMMANDED, "--"),
    ):  # fmt: skip
        axes.plot(speed, [getattr(r, name) for r in rows], color=colour, lw=1.6, ls=dash, label=label or None)
    axes.axhline(1.0, color=SOFT, lw=0.7)
    axes.axhline(0.0, color=SOFT, lw=0.7)
    axes.set_title("load factor: aerodynamics, controls and power", fontsize=10, color=INK, loc="left")
    axes.legend(frameon=False, fontsize=8, loc="upper left")


def _turns(axes: "Axes", rows: "Sequence[ManoeuvreRow]") -> None:
    speed = [r.airspeed for r in rows]
    axes.plot(speed, np.degrees([r.rate for r in rows]), color=ACTUAL, lw=1.8, label="rate [deg/s], left")
    other = axes.twinx()
    other.plot(speed, [r.radius for r in rows], color=COMMANDED, lw=1.8, ls="--", label="radius [m], right")
    finite = [r.radius for r in rows if math.isfinite(r.radius)]
    if finite:
        other.set_ylim(0.0, 4.0 * min(finite))
    other.grid(visible=False)
    other.tick_params(labelcolor=INK)
    axes.set_title("sustained turns", fontsize=10, color=INK, loc="left")
    lines = [*axes.get_lines(), *other.get_lines()]
    axes.legend(lines, [str(line.get_label()) for line in lines], frameon=False, fontsize=8, loc="lower center")
