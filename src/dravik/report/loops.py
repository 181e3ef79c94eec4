"""A loop, drawn: gain and phase with every crossing labelled, the curve about -1, sensitivities, the step."""

import math
from typing import TYPE_CHECKING, Any

import matplotlib
import numpy as np
from matplotlib.ticker import FuncFormatter

from dravik.loops.open_loop_response import OpenLoopResponse, least
from dravik.report.figures import new_figure
from dravik.report.style import ACTUAL, COMMANDED, INK, SOFT, STYLE, THIRD

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from dravik.loops import Margins
    from dravik.systems import LinearSystem

__all__ = ["figure_loop"]

SHOWN = (-50.0, 60.0)  # dB: other gains are not shown
LOWEST = -720.0  # deg: a delay turns on for ever
REACH = 2.2  # of the plane about -1 that is shown


def figure_loop(
    loop: "LinearSystem", found: "Margins", *, delay: float = 0.0, least_gain: float = 6.0, least_phase: float = 45.0,
    title: str = "",
) -> "Figure":  # fmt: skip
    """Return gain and phase, the curve in the plane, and sensitivities of a loop, with its margins.

    ``least_gain`` (dB) and ``least_phase`` (deg) are the margins asked for: they are shaded.

    Parameters
    ----------
    loop : LinearSystem
        The open loop, closed with negative feedback.
    found : Margins
        Its margins.
    delay : float, default 0.0
        Dead time, s.
    least_gain : float, default 6.0
        Asked for, dB.
    least_phase : float, default 45.0
        Asked for, deg.
    title : str, default ""
        What stands above the figure.

    Returns
    -------
    Figure
    """
    curve = OpenLoopResponse(least(loop), delay)
    w = curve.grid()
    values = curve(w)
    decibels = 20.0 * np.log10(np.maximum(np.abs(values), 1e-300))
    seen = shown(decibels)
    figure = new_figure(title or f"Loop: {loop.title}")
    with matplotlib.rc_context(STYLE):
        grid = figure.subplots(2, 2)
        _gain(grid[0][0], w[seen], values[seen], found)
        _phase(grid[1][0], w[seen], values[seen], found, least_phase)
        _plane(grid[0][1], values, found, (least_gain, least_phase))
        _sensitivities(grid[1][1], w[seen], values[seen], found)
        for axes in grid.ravel():
            axes.tick_params(labelcolor=INK)
    return figure


def shown(decibels: "np.ndarray") -> "np.ndarray":
    """Return which gains (dB) are drawn: neither what falls for ever nor what rises so at rest, but every peak."""
    inner = decibels[1:-1]
    peaks = inner[(inner >= decibels[:-2]) & (inner >= decibels[2:])]
    highest = max(SHOWN[1], float(np.max(peaks, initial=SHOWN[1])) + 1.0)
    seen = (decibels > SHOWN[0]) & (decibels < highest)
    return seen if int(seen.sum()) > 2 else np.ones(len(decibels), dtype=bool)


def _log_axis(axes: "Axes") -> None:
    axes.set_xscale("log")
    axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:g}"))
    axes.set_xlabel("frequency [rad/s]")
    axes.margins(x=0.01)


def _gain(axes: "Axes", w: "np.ndarray", values: "np.ndarray", found: "Margins") -> None:
    axes.plot(w, 20.0 * np.log10(np.abs(values)), color=ACTUAL, lw=1.8)
    axes.axhline(0.0, color=INK, lw=0.8)
    for c in found.crossings:
        if c.kind == "phase" and w[0] <= c.frequency <= w[-1]:
            decibels = -20.0 * math.log10(c.gain)
            axes.plot([c.frequency] * 2, [decibels, 0.0], color=COMMANDED, lw=1.4)
            axes.annotate(
                f"{-decibels:+.3g} dB", (c.frequency, 0.5 * decibels), xytext=(4, 0), textcoords="offset points",
                fontsize=8, color=COMMANDED, va="center",
            )  # fmt: skip
    axes.set_ylabel("gain [dB]")
    _log_axis(axes)
    axes.set_title("gain, with the gain margin at each crossing of -180 deg", fontsize=10, color=INK, loc="left")


def _phase(axes: "Axes", w: "np.ndarray", values: "np.ndarray", found: "Margins", least: float) -> None:
    phase = np.degrees(np.unwrap(np.angle(values)))
    # the branch of which most lies between -360 and 0 deg
    phase = phase - 360.0 * round((float(np.median(phase)) + 180.0) / 360.0)
    axes.plot(w, phase, color=ACTUAL, lw=1.8)
    low, high = math.floor(phase.min() / 90.0) * 90.0, math.ceil(phase.max() / 90.0) * 90.0
    for turn in range(int(low // 360) - 1, int(high // 360) + 2):
        axis = -180.0 + 360.0 * turn
        if low - 90.0 <= axis <= high + 90.0:
            axes.axhline(axis, color=INK, lw=0.8)
            axes.axhspan(axis - least, axis + least, color="#f3e3c8", alpha=0.5, lw=0)
    for c in found.crossings:
        if c.kind == "gain" and w[0] <= c.frequency <= w[-1]:
            at = float(np.interp(math.log(c.frequency), np.log(w), phase))
            axis = at - math.degrees(c.phase)
            axes.plot([c.frequency] * 2, [axis, at], color=COMMANDED, lw=1.4)
            axes.annotate(
                f"{math.degrees(c.phase):+.3g} deg", (c.frequency, 0.5 * (axis + at)), xytext=(4, 0),
                textcoords="offset points", fontsize=8, color=COMMANDED, va="center",
            )  # fmt: skip
    low, high = max(min(low, -225.0), LOWEST), max(high, -90.0)
    axes.set_ylim(low, high)
    axes.set_yticks(np.arange(math.ceil(low / 90.0), math.floor(high / 90.0) + 1) * 90.0)
    axes.set_ylabel("phase [deg]")
    _log_axis(axes)
    text = f"phase, with the phase margin where the gain is one (shaded: less than {least:g} deg)"
    axes.set_title(text, fontsize=10, color=INK, loc="left")


def _plane(axes: "Axes", values: "np.ndarray", found: "Margins", asked: tuple[float, float]) -> None:
    """Draw the curve about -1, with the unit circle, the disc that it stays out of, and the margins asked for."""
    angle = np.linspace(0.0, 2.0 * math.pi, 200)
    axes.plot(np.cos(angle), np.sin(angle), color=SOFT, lw=0.8, ls=":")
    factor = 10.0 ** (asked[0] / 20.0)
    axes.plot([-factor, -1.0 / factor], [0.0, 0.0], color="#e0b978", lw=6.0, alpha=0.6, solid_capstyle="butt")
    arc = np.radians(180.0 + np.linspace(-asked[1], asked[1], 60))
    axes.plot(np.cos(arc), np.sin(arc), color="#e0b978", lw=6.0, alpha=0.6, solid_capstyle="butt")
    down, up = found.disc_gain
    if math.isfinite(up):
        centre, radius = -0.5 * (up + down), 0.5 * (up - down)
        axes.plot(centre + radius * np.cos(angle), radius * np.sin(angle), color=THIRD, lw=1.0, ls="--")
        axes.annotate("disc", (centre, radius), xytext=(0, 3), textcoords="offset points", fontsize=8, color=THIRD)
    axes.plot(values.real, values.imag, color=ACTUAL, lw=1.8)
    axes.plot(values.real, -values.imag, color=ACTUAL, lw=0.8, alpha=0.5)
    axes.plot([-1.0], [0.0], marker="+", ms=11, mew=2.0, color=COMMANDED)
    axes.set_xlim(-1.0 - REACH, -1.0 + REACH)
    axes.set_ylim(-0.75 * REACH, 0.75 * REACH)
    axes.set_aspect("equal", adjustable="box")
    axes.set_xlabel("real part of L")
    axes.set_ylabel("imaginary part")
    axes.set_title(
        f"about -1: nearest {found.modulus:.3g}, disc margin {found.disc:.3g}", fontsize=10, color=INK, loc="left"
    )


def _sensitivities(axes: "Axes", w: "np.ndarray", values: "np.ndarray", found: "Margins") -> None:
    both = (1.0 / (1.0 + values), ACTUAL, "S = 1/(1 + L)"), (values / (1.0 + values), COMMANDED, "T = L/(1 + L)")
    for of, colour, name in both:
        style: Any = "-" if name.startswith("S") else (0, (5, 2))
        axes.plot(w, 20.0 * np.log10(np.maximum(np.abs(of), 1e-6)), color=colour, lw=1.6, ls=style, label=name)
    axes.axhline(0.0, color=INK, lw=0.8)
    axes.set_ylabel("sensitivity [dB]")
    _log_axis(axes)
    axes.set_ylim(max(axes.get_ylim()[0], -50.0), axes.get_ylim()[1])
    axes.legend(frameon=False, fontsize=9)
    peaks = [
        f"{name} {20.0 * math.log10(peak[0]):.3g} dB"
        for name, peak in (("S", found.sensitivity), ("T", found.complementary))
    ]
    axes.set_title(f"sensitivities, peaks {' and '.join(peaks)}", fontsize=10, color=INK, loc="left")
