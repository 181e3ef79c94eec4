"""One line for a picture of any system, or of several over each other: gain and phase, planes, roots, steps."""

import math
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

import matplotlib
import numpy as np
from matplotlib.ticker import FuncFormatter

from dravik.errors import DravikError, require
from dravik.report.figures import new_figure
from dravik.report.style import GRID, INK, PALETTE, SOFT, STYLE
from dravik.systems import LinearSystem, MeasuredLoop, frequency_response, time_response
from dravik.units import from_si

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

__all__ = ["PLOTS", "figure_systems"]

Named = Mapping[str, "LinearSystem | MeasuredLoop"]
FARTHEST = 8.0  # of the plane of Nyquist that is drawn, unless the curve stays nearer
LOW, HIGH = -60.0, 40.0  # dB of the plane of Nichols
#: Closed-loop gains (dB) whose curves stand in the plane of Nichols: 3 dB is the resonance that is usually borne.
LEVELS = (-20.0, -6.0, -3.0, 0.0, 3.0, 6.0)


def figure_systems(
    *systems: "LinearSystem | MeasuredLoop | Named", plot: str = "bode", channel: tuple[str, str] | None = None,
    title: str = "",
) -> "Figure":  # fmt: skip
    """Return a picture of one channel of systems and measured responses, all over each other.

    Parameters
    ----------
    *systems : LinearSystem, MeasuredLoop, or mapping of str to these
        What is drawn; a mapping gives the names for the legend.
    plot : str, default "bode"
        ``"bode"`` (gain and phase), ``"nichols"`` (gain over phase), ``"nyquist"`` (the complex plane), ``"roots"``
        (poles and zeros) or ``"step"``.
    channel : tuple (str, str), optional
        Output and input. Those of the one channel that a system has, or its first, unless given.
    title : str, default ""
        What stands above the figure.

    Returns
    -------
    Figure

    Raises
    ------
    DravikError
        For nothing to draw, another plot, channels that are not there, and a step or roots of a measured response.

    Examples
    --------
    >>> import dravik as dv
    >>> lag = dv.LinearSystem.of_roots("angle", "command", poles=[-2.0], gain=2.0)
    >>> figure_systems(lag, 1/(1 + lag), plot="nyquist").axes[0].get_xlabel()
    'real part'
    """
    if plot not in PLOTS:
        raise DravikError(f"there is no plot {plot!r}", expected=", ".join(PLOTS))
    named = _named(systems)
    figure = new_figure(title)
    with matplotlib.rc_context(STYLE):
        axes = PLOTS[plot](figure, {name: _channel(name, one, channel) for name, one in named.items()})
        if len(named) > 1:
            axes.legend(frameon=False, fontsize=9, loc="best")
        for one in figure.axes:
            one.tick_params(labelcolor=INK)
    return figure


def _named(systems: "tuple[Any, ...]") -> "dict[str, LinearSystem | MeasuredLoop]":
    found: dict[str, LinearSystem | MeasuredLoop] = {}
    for k, one in enumerate(systems):
        if isinstance(one, Mapping):
            found |= {str(name): value for name, value in one.items()}
        else:
            name = (one.name if isinstance(one, MeasuredLoop) else getattr(one, "title", "")) or f"system {k + 1}"
            found[name if name not in found else f"{name}, {k + 1}"] = one
    if not found:
        raise DravikError("there is nothing to draw", expected="a system, or several")
    for one in found.values():
        require(one, (LinearSystem, MeasuredLoop), "what is drawn", "a linear system or a measured response")
    return found


def _channel(
    name: str, one: "LinearSystem | MeasuredLoop", channel: tuple[str, str] | None
) -> "LinearSystem | MeasuredLoop":
    if isinstance(one, MeasuredLoop):
        return one
    output, input_ = channel or (one.outputs[0], one.inputs[0])
    return one.part(outputs=[output], inputs=[input_])


Channels = Mapping[str, "LinearSystem | MeasuredLoop"]


def _over(one: "LinearSystem | MeasuredLoop") -> tuple[Any, Any]:
    """Return frequencies and values."""
    if isinstance(one, MeasuredLoop):
        return one.omega, one.values
    found = frequency_response(one, one.outputs[0], one.inputs[0])
    return found.omega, found.values


def _looks(k: int, one: "LinearSystem | MeasuredLoop") -> dict[str, Any]:
    style: dict[str, Any] = {"color": PALETTE[k % len(PALETTE)], "lw": 1.6, "ls": "-" if k % 2 == 0 else (0, (5, 2))}
    return style if not isinstance(one, MeasuredLoop) else {**style, "lw": 0.0, "marker": "o", "ms": 3.0}


def _bode(figure: "Figure", channels: Channels) -> "Axes":
    above: Axes
    above, below = figure.subplots(2, 1, sharex=True)
    for k, (name, one) in enumerate(channels.items()):
        omega, values = _over(one)
        above.plot(omega, 20.0 * np.log10(np.maximum(np.abs(values), 1e-300)), label=name, **_looks(k, one))
        phase = np.degrees(np.unwrap(np.angle(values)))
        below.plot(omega, phase - 360.0 * round((phase[0] + 90.0) / 360.0), label=name, **_looks(k, one))
        if isinstance(one, LinearSystem) and one.sample_time is not None:
            for axes in (above, below):
                axes.axvline(math.pi / one.sample_time, color=SOFT, lw=0.8, ls=":")
    low, high = below.get_ylim()
    step = 45.0 if high - low < 360.0 else 90.0 if high - low < 720.0 else 180.0
    below.set_yticks(np.arange(math.floor(low / step), math.ceil(high / step) + 1) * step)
    above.set_xscale("log")
    below.xaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:g}"))
    above.set_ylabel("gain [dB]")
    below.set_ylabel("phase [deg]")
    below.set_xlabel("frequency [rad/s]")
    above.margins(x=0.01)
    return above


def _nichols(figure: "Figure", channels: Channels) -> "Axes":
    axes = figure.subplots()
    turns = set()
    for k, (name, one) in enumerate(channels.items()):
        _, values = _over(one)
        phase = np.degrees(np.unwrap(np.angle(values)))
        phase -= 360.0 * round((float(np.median(phase)) + 180.0) / 360.0)
        decibels = 20.0 * np.log10(np.maximum(np.abs(values), 1e-300))
        axes.plot(phase, np.where((decibels > LOW) & (decibels < HIGH), decibels, np.nan), label=name, **_looks(k, one))
        seen = phase[(decibels > LOW) & (decibels < HIGH)]
        turns |= {math.floor(v / 360.0) for v in (seen.min(initial=-180.0), seen.max(initial=-180.0))}
    angles = np.linspace(1e-3, 2.0 * math.pi - 1e-3, 721)
    for turn in range(min(turns), max(turns) + 1):
        for level in LEVELS:
            # L = M e^(ja)/(1 - M e^(ja)) has the closed-loop gain M
            closed = 10.0 ** (level / 20.0) * np.exp(1j * angles)
            loop = closed / (1.0 - closed)
            phase = np.degrees(np.angle(loop)) % 360.0 - 360.0 + 360.0 * (turn + 1)
            order = np.argsort(phase) if level < 0.0 else slice(None)
            decibels = 20.0 * np.log10(np.abs(loop))
            axes.plot(phase[order], decibels[order], color=GRID, lw=0.9, zorder=0)
            k = int(np.argmax(decibels if level > 0.0 else -np.abs(phase + 1e-3 - 360.0 * turn)))
            if LOW < decibels[k] < HIGH:
                axes.annotate(
                    f"{level:g} dB", (phase[k], decibels[k]), fontsize=7, color=SOFT, ha="center", va="bottom"
                )
        axes.plot([-180.0 + 360.0 * (turn + 1)], [0.0], marker="+", color=INK, ms=9)
    axes.set_xlabel("phase of the open loop [deg]")
    axes.set_ylabel("gain of the open loop [dB]")
    axes.xaxis.set_major_locator(matplotlib.ticker.MultipleLocator(45.0))
    axes.set_ylim(LOW, HIGH)
    return axes


def _nyquist(figure: "Figure", channels: Channels) -> "Axes":
    axes = figure.subplots()
    reach = 1.5
    for k, (name, one) in enumerate(channels.items()):
        _, values = _over(one)
        axes.plot(values.real, values.imag, label=name, **_looks(k, one))
        axes.plot(values.real, -values.imag, **{**_looks(k, one), "alpha": 0.35})
        reach = max(reach, min(1.15 * float(np.max(np.abs(values))), FARTHEST))
    axes.plot(np.cos(np.linspace(0.0, 2.0 * math.pi, 361)), np.sin(np.linspace(0.0, 2.0 * math.pi, 361)), color=SOFT,
              lw=0.8, ls=":")  # fmt: skip
    axes.plot([-1.0], [0.0], marker="+", color=INK, ms=10)
    axes.axhline(0.0, color=SOFT, lw=0.6)
    axes.axvline(0.0, color=SOFT, lw=0.6)
    axes.set_aspect("equal", adjustable="box")
    axes.set_xlim(-reach, reach)
    axes.set_ylim(-reach, reach)
    axes.set_xlabel("real part")
    axes.set_ylabel("imaginary part")
    return axes


def _plain(one: "LinearSystem | MeasuredLoop", name: str, what: str) -> LinearSystem:
    if isinstance(one, MeasuredLoop):
        raise DravikError(f"the measured response {name} has no {what}", expected="a linear system")
    return one


def _roots(figure: "Figure", channels: Channels) -> "Axes":
    axes = figure.subplots()
    sampled = False
    for k, (name, given) in enumerate(channels.items()):
        one = _plain(given, name, "poles")
        found = one.transfer(one.inputs[0], one.outputs[0])
        colour = PALETTE[k % len(PALETTE)]
        axes.plot(found.poles.real, found.poles.imag, ls="", marker="x", ms=8, mew=1.6, color=colour, label=name)
        axes.plot(found.zeros.real, found.zeros.imag, ls="", marker="o", ms=7, mfc="none", color=colour)
        sampled = sampled or one.sample_time is not None
    if sampled:
        turn = np.linspace(0.0, 2.0 * math.pi, 361)
        axes.plot(np.cos(turn), np.sin(turn), color=SOFT, lw=0.9, ls=":")
        axes.set_aspect("equal", adjustable="datalim")
    axes.axvline(0.0, color=INK, lw=0.8)
    axes.axhline(0.0, color=SOFT, lw=0.6)
    axes.set_xlabel("real part" + ("" if sampled else " [1/s]"))
    axes.set_ylabel("imaginary part" + ("" if sampled else " [rad/s]"))
    axes.set_title("crosses are poles, circles zeros", fontsize=9, color=SOFT, loc="left")
    axes.margins(0.08)
    return axes


def _step(figure: "Figure", channels: Channels) -> "Axes":
    axes = figure.subplots()
    for k, (name, given) in enumerate(channels.items()):
        one = _plain(given, name, "step response")
        found = time_response(one, one.outputs[0], one.inputs[0])
        unit, factor, _ = from_si(one.units.get(one.outputs[0], ""))
        by, own, _ = from_si(one.units.get(one.inputs[0], ""))
        stepped: dict[str, Any] = {"drawstyle": "steps-post"} if one.sample_time is not None else {}
        axes.plot(found.time, found.values * factor / own, label=name, **_looks(k, one), **stepped)
        if math.isfinite(found.end):
            axes.axhline(found.end * factor / own, color=SOFT, lw=0.8, ls=":")
        axes.set_ylabel(one.outputs[0] + (f" [{unit}]" if unit else ""))
        axes.set_xlabel(f"time after a step of one {by}".rstrip() + " [s]")
    axes.margins(x=0.01)
    return axes


#: The plots by name.
PLOTS: dict[str, Callable[["Figure", Channels], "Axes"]] = {
    "bode": _bode, "nichols": _nichols, "nyquist": _nyquist, "roots": _roots, "step": _step,
}  # fmt: skip
