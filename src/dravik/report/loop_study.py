"""Loops of a study, drawn: gains and phases, Nichols' chart with closed-loop contours, steps, and the last locus."""

import itertools
import math
from typing import TYPE_CHECKING, Any

import matplotlib
import numpy as np
from matplotlib.ticker import FuncFormatter

from dravik.loops import locus_over_gain
from dravik.loops.open_loop_response import OpenLoopResponse, least
from dravik.report.figures import SPACED, new_figure, one_panel
from dravik.report.loops import shown
from dravik.report.style import ACTUAL, COMMANDED, INK, PALETTE, SOFT, STYLE
from dravik.units import from_si

if TYPE_CHECKING:
    from collections.abc import Mapping

    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from dravik.loops import ClosedLoop, LoopStudy, RootLocus
    from dravik.validation.flown_loops import FlownLoop

__all__ = ["figure_flown_steps", "figure_locus", "figure_study"]

TINY = 1e-9  # what is smaller is rounding

FARTHEST = 12.0  # of what a locus shows otherwise: up to here it reaches for a crossing
DASHES = ("-", (0, (5, 2)), (0, (1, 1.5)), (0, (5, 1.5, 1, 1.5)))
CONTOURS = (6.0, 3.0, 0.0, -3.0, -6.0, -12.0)  # dB of the closed loop
SHADE = "#f3e3c8"


def figure_study(study: "LoopStudy", beside: "Mapping[str, LoopStudy] | None" = None) -> "Figure":
    """Return one page: each loop's gain and phase, Nichols' chart, steps of the commands, and the last loop's locus.

    ``beside`` are other studies by their labels: their last loop is laid over.

    Parameters
    ----------
    study : LoopStudy
        The loops as designed.
    beside : mapping of str to LoopStudy, optional
        Other studies by their labels.

    Returns
    -------
    Figure
    """
    others = dict(beside or {})
    figure = new_figure(f"{study.plan.name or 'Loops'}: {study.craft.name}, {study.point.title}", fitted=False)
    with matplotlib.rc_context(STYLE):
        grid = figure.subplots(2, 3, gridspec_kw=SPACED)
        curves = [_curve(found) for found in study.loops]
        _gains(grid[0][0], study, curves)
        _phases(grid[1][0], study, curves)
        _nichols(grid[0][1], study, curves)
        _steps(grid[1][1], study)
        for k, (label, other) in enumerate(others.items()):
            _overlaid((grid[0][0], grid[1][0], grid[0][1], grid[1][1]), other, label, k)
        last = study.loops[-1]
        if last.open_loop.sample_time is None:
            _locus(grid[0][2], locus_over_gain(least(last.open_loop)), [1.0], size=_felt(last))
            _title(grid[0][2], f"roots over the gain of {last.entry.name} (chosen: filled)")
        _requirements(grid[1][2], study)
        for axes in grid.ravel():
            axes.tick_params(labelcolor=INK, labelsize=8)
            axes.xaxis.label.set_fontsize(9)
            axes.yaxis.label.set_fontsize(9)
    return figure


def figure_locus(
    locus: "RootLocus", chosen: "list[float]", *, damping: float = 0.0, title: str = "", ax: "Axes | None" = None
) -> "Figure":
    """Return a root locus: branches, open-loop roots and zeros, chosen gains, crossings of the border labelled.

    Parameters
    ----------
    locus : RootLocus
        The roots over a gain.
    chosen : list of float
        Gains that are marked.
    damping : float, default 0.0
        Ray of damping that is drawn; none at 0.
    title : str, default ""
        What stands above the figure.
    ax : Axes, optional
        Axes to draw on, as part of a figure of your own. A new figure unless given.

    Returns
    -------
    Figure
    """
    with matplotlib.rc_context(STYLE):
        figure, axes = one_panel(title or "Roots over the gain", ax)
        _locus(axes, locus, chosen, damping)
        axes.legend(frameon=False, fontsize=9, loc="upper right")
    return figure


def _title(axes: "Axes", text: str) -> None:
    axes.set_title(text, fontsize=9, color=INK, loc="left")


def _curve(found: "ClosedLoop") -> "tuple[Any, Any]":
    late = 0.0 if found.open_loop.sample_time is not None else (found.entry.delay or 0.0)
    curve = OpenLoopResponse(least(found.open_loop), late)
    w = curve.grid()
    values = curve(w)
    decibels = 20.0 * np.log10(np.maximum(np.abs(values), 1e-300))
    seen = shown(decibels)
    return w[seen], values[seen]


def _look(k: int) -> "dict[str, Any]":
    return {"color": PALETTE[k % len(PALETTE)], "ls": DASHES[k % len(DASHES)], "lw": 1.8}


def _log_axis(axes: "Axes") -> None:
    axes.set_xscale("log")
    axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:g}"))
    axes.set_xlabel("frequency [rad/s]")


def _gains(axes: "Axes", study: "LoopStudy", curves: "list[tuple[Any, Any]]") -> None:
    for k, (found, (w, values)) in enumerate(zip(study.loops, curves, strict=True)):
        axes.plot(w, 20.0 * np.log10(np.abs(values)), label=found.entry.name, **_look(k))
    axes.axhline(0.0, color=INK, lw=0.8)
    _log_axis(axes)
    axes.set_ylabel("gain [dB]")
    low, high = axes.get_ylim()
    axes.set_ylim(low - 0.07 * (len(study.loops) + 1) * (high - low), high)  # room below for the names
    axes.legend(frameon=False, fontsize=8, loc="lower left")
    _title(axes, "open loops, earlier ones closed: gain")


def _phases(axes: "Axes", study: "LoopStudy", curves: "list[tuple[Any, Any]]") -> None:
    angle = max((math.degrees(f.entry.require.phase_margin or 0.0) for f in study.loops), default=0.0)
    if angle:
        axes.axhspan(-180.0 - angle, -180.0 + angle, color=SHADE, alpha=0.5, lw=0)
    axes.axhline(-180.0, color=INK, lw=0.8)
    for k, (found, (w, values)) in enumerate(zip(study.loops, curves, strict=True)):
        phase = _degrees(values)
        axes.plot(w, phase, **_look(k))
        seen = [c for c in found.margins.crossings if c.kind == "gain" and w[0] <= c.frequency <= w[-1]]
        for c in seen:
            at = float(np.interp(math.log(c.frequency), np.log(w), phase))
            axes.plot([c.frequency], [at], marker="o", ms=5, color=COMMANDED)
            # each loop's smallest in figures: all of them would lie over each other
            if abs(c.phase) == min(abs(o.phase) for o in seen):
                axes.annotate(
                    f"{math.degrees(c.phase):.0f} deg", (c.frequency, at), xytext=(6, 5 if k % 2 else -11),
                    textcoords="offset points", fontsize=8, color=COMMANDED,
                )  # fmt: skip
    axes.set_ylim(max(axes.get_ylim()[0], -540.0), max(axes.get_ylim()[1], -90.0))
    axes.set_ylabel("phase [deg]")
    _log_axis(axes)
    _title(axes, f"phase (shaded: less than {angle:g} deg of margin)" if angle else "phase")


def _overlaid(panels: "tuple[Axes, ...]", other: "LoopStudy", label: str, k: int) -> None:
    """Draw the last loop of another study thinner over gain, phase, Nichols' chart and step."""
    gain, phase, nichols, steps = panels
    last = other.loops[-1]
    w, values = _curve(last)
    look: Any = {"color": SOFT, "lw": 1.1, "ls": DASHES[(k + 1) % len(DASHES)]}
    decibels = 20.0 * np.log10(np.abs(values))
    gain.plot(w, decibels, label=f"{last.entry.name}, {label}", **look)
    phase.plot(w, _degrees(values), **look)
    nichols.plot(*_folded(values), **look)
    steps.plot(last.step.time, last.step.values, label=label, **look)
    gain.legend(frameon=False, fontsize=8, loc="lower left")
    steps.legend(frameon=False, fontsize=8)


def _degrees(values: "Any") -> "Any":
    phase = np.degrees(np.unwrap(np.angle(values)))
    return phase - 360.0 * round((float(np.median(phase)) + 180.0) / 360.0)


def _nichols(axes: "Axes", study: "LoopStudy", curves: "list[tuple[Any, Any]]") -> None:
    """Draw gain over phase, with the contours on which the closed loop has one gain."""
    angle = np.linspace(-359.99, -0.01, 600)
    for level in CONTOURS:
        _contour(axes, level, angle)
    for k, (_found, (_w, values)) in enumerate(zip(study.loops, curves, strict=True)):
        axes.plot(*_folded(values), **_look(k))
    axes.plot([-180.0], [0.0], marker="+", ms=11, mew=2.0, color=COMMANDED)
    axes.set_xlim(-360.0, 0.0)
    axes.set_xticks(np.arange(-360.0, 1.0, 90.0))
    axes.set_ylim(-30.0, 30.0)
    axes.set_xlabel("phase [deg]")
    axes.set_ylabel("gain [dB]")
    _title(axes, "gain over phase; dotted: closed-loop gain [dB]")


def _folded(values: "Any") -> "tuple[Any, Any]":
    """Return phase from -360 to 0 deg and gain in dB, parted where the phase goes from one end to the other."""
    phase, decibels = np.degrees(np.angle(values)) % 360.0 - 360.0, 20.0 * np.log10(np.abs(values))
    jumps = np.flatnonzero(np.abs(np.diff(phase)) > 180.0) + 1
    return np.insert(phase, jumps, np.nan), np.insert(decibels, jumps, np.nan)


def _contour(axes: "Axes", level: float, angle: "Any") -> None:
    m = 10.0 ** (level / 20.0)
    cosine = np.cos(np.radians(angle))
    # |L/(1 + L)| = m: r^2 (1 - m^2) - 2 m^2 r cos - m^2 = 0
    a, b, c = 1.0 - m * m, -2.0 * m * m * cosine, -m * m
    root = np.sqrt(np.maximum(b * b - 4.0 * a * c, 0.0))
    for sign in (1.0, -1.0):
        with np.errstate(invalid="ignore", divide="ignore"):
            r = (-b + sign * root) / (2.0 * a) if abs(a) > 1e-9 else np.where(b != 0.0, -c / b, np.nan)
            size = np.where((r > 0.0) & (b * b - 4.0 * a * c >= 0.0), 20.0 * np.log10(np.maximum(r, 1e-12)), np.nan)
        axes.plot(angle, size, color=SOFT, lw=0.6, ls=":")
        if sign > 0.0 and np.any(np.isfinite(size)):
            k = int(np.nanargmin(np.abs(size - (12.0 if level >= 0.0 else level + 1.0))))
            axes.annotate(f"{level:g}", (angle[k], size[k]), fontsize=7, color=SOFT)


def _steps(axes: "Axes", study: "LoopStudy") -> None:
    for k, found in enumerate(study.loops):
        axes.plot(
            found.step.time, found.step.values, label=f"{found.entry.measures} by {found.entry.asked}", **_look(k)
        )
    last = study.loops[-1]
    settled = [f.figures.settling for f in study.loops if math.isfinite(f.figures.settling)]
    axes.set_xlim(0.0, min(float(last.step.time[-1]), 2.0 * max(settled, default=float(last.step.time[-1]))))
    axes.axhline(1.0, color=INK, lw=0.8)
    over = last.entry.require.overshoot
    if over is not None:
        axes.axhspan(1.0 + over, max(axes.get_ylim()[1], 1.1 + over), color=SHADE, alpha=0.5, lw=0)
    axes.set_xlabel("time [s]")
    axes.set_ylabel("response over the command")
    axes.legend(frameon=False, fontsize=8)
    _title(axes, "unit steps of the commands")


def _felt(found: "ClosedLoop") -> float:
    """Return how far from the origin the roots of a loop matter: four times its crossover, or its bandwidth."""
    places = [c.frequency for c in found.margins.crossings if c.kind == "gain"] or [found.margins.bandwidth]
    return 4.0 * max(places) if all(math.isfinite(p) and p > 0.0 for p in places) else 0.0


def _locus(
    axes: "Axes", locus: "RootLocus", chosen: "list[float]", damping: float = 0.0, size: float = 0.0
) -> None:  # fmt: skip
    for branch in locus.roots.T:
        axes.plot(branch.real, branch.imag, color=ACTUAL, lw=1.0)
    for k, gain in enumerate(chosen):
        roots = locus.at(gain)
        axes.plot(roots.real, roots.imag, ls="", marker="os^D"[k % 4], ms=5, color=COMMANDED, label=f"at {gain:.4g}")
    axes.plot(
        locus.roots[0].real, locus.roots[0].imag, ls="", marker="x", ms=7, color=INK, label=f"at {locus.gains[0]:.3g}"
    )
    if len(locus.zeros):
        axes.plot(locus.zeros.real, locus.zeros.imag, ls="", marker="o", ms=7, mfc="none", color=INK, label="zeros")
    named = [abs(c.root) for c in locus.crossings() if locus.gains[0] < c.gain < locus.gains[-1]]
    size = size or _reach(locus, chosen)
    # a crossing that is told is shown, unless all else would shrink to a point for it
    size = max([size, *(1.15 * place for place in named if place < FARTHEST * size)])
    for ratio in (0.2, 0.4, 0.6, 0.8):
        end = size * np.array([-ratio, math.sqrt(1.0 - ratio * ratio)])
        axes.plot([0.0, end[0]], [0.0, end[1]], color=SOFT, lw=0.6, ls=":")
        axes.annotate(f"{ratio:g}", (0.85 * end[0], 0.85 * end[1]), fontsize=7, color=SOFT)
    for c in [*locus.crossings(), *(locus.crossings(damping) if damping else [])]:
        if abs(c.root) < size and locus.gains[0] < c.gain < locus.gains[-1]:
            axes.annotate(
                f"gain {c.gain:.3g}", (c.root.real, c.root.imag), xytext=(5, 5), textcoords="offset points", fontsize=8,
                color=COMMANDED,
            )  # fmt: skip
    axes.axvline(0.0, color=INK, lw=0.8)
    axes.set_xlim(-size, 0.35 * size)
    axes.set_ylim(-0.05 * size, size)
    axes.set_xlabel("real part [1/s]")
    axes.set_ylabel("imaginary part [rad/s]")


def _reach(locus: "RootLocus", chosen: "list[float]") -> float:
    """Return how far from the origin is shown: as far as the middle one of the pairs at the chosen gains, twice."""
    roots = np.concatenate([locus.at(g) for g in chosen]) if chosen else locus.roots[0]
    pairs = [abs(r) for r in roots if abs(r.imag) > 1e-6 * abs(r)]
    sizes = pairs or [abs(r) for r in roots]
    return 2.0 * float(np.median(sizes)) if sizes else 1.0


def _requirements(axes: "Axes", study: "LoopStudy") -> None:
    """Write every requirement with its value: what is not met in another weight."""
    axes.set_axis_off()
    lines = list(
        itertools.chain.from_iterable([(found.entry.name, c) for c in found.checks] for found in study.loops)
    )  # fmt: skip
    for k, (name, c) in enumerate(lines[:16]):
        value = c.value if abs(c.value) > TINY else 0.0
        text = f"{'met' if c.met else 'NOT MET'}: {name}, {c.name} {value:.3g} {c.unit} (asked {c.limit:.3g})"
        axes.text(
            -0.08, 0.95 - 0.06 * k, text, fontsize=8, color=INK if c.met else COMMANDED, transform=axes.transAxes,
            fontweight="normal" if c.met else "bold",
        )  # fmt: skip
    _title(axes, "requirements" if lines else "no requirements in the file")


def figure_flown_steps(truth: "FlownLoop", title: str = "", *, ax: "Axes | None" = None) -> "Figure":
    """Return flown steps of growing size over the linear step, each over its size, and where and why they part.

    Parameters
    ----------
    truth : FlownLoop
        The flown steps.
    title : str, default ""
        What stands above the figure.
    ax : Axes, optional
        Axes to draw on, as part of a figure of your own. A new figure unless given.

    Returns
    -------
    Figure
    """
    with matplotlib.rc_context(STYLE):
        figure, axes = one_panel(title or f"{truth.measured} by steps of {truth.command}, flown", ax)
        axes.plot(truth.linear.time, truth.linear.values, color=INK, lw=3.0, alpha=0.35, label="linear model")
        unit, factor, _ = from_si(truth.steps[0].run.units.get(truth.measured, "") if truth.steps else "")
        for k, s in enumerate(truth.steps):
            axes.plot(s.time, s.values, label=f"flown, {s.size * factor:.3g} {unit}", **_look(k))
            if math.isfinite(s.parts):
                at = float(np.interp(s.parts, s.time, s.values))
                axes.plot([s.parts], [at], marker="o", ms=7, color=PALETTE[k % len(PALETTE)])
                axes.annotate(
                    f"parts at {s.parts:.2f} s: {s.why}", (s.parts, at), xytext=(10, -14 - 12 * k),
                    textcoords="offset points", fontsize=8, color=INK,
                )  # fmt: skip
        axes.axhline(1.0, color=SOFT, lw=0.8)
        axes.set_xlabel("time after the step [s]")
        axes.set_ylabel("response over the size of the step")
        axes.legend(frameon=False, fontsize=9)
        axes.tick_params(labelcolor=INK)
    return figure
