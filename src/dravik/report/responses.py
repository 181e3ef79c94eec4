"""Responses of linear models, drawn: gain and phase over frequency, steps, and the phasors of modes."""

import math
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, cast

import matplotlib
import numpy as np
from matplotlib.ticker import FuncFormatter

from dravik.errors import DravikError, require
from dravik.linear import is_body_mode
from dravik.report.figures import new_figure
from dravik.report.style import INK, PALETTE, SOFT, STYLE
from dravik.systems import frequency_response, time_response
from dravik.systems.matrices import NamedMatrices
from dravik.units import from_si

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from dravik.linear import LinearModel
    from dravik.systems import LinearSystem

__all__ = ["figure_phasors", "figure_responses"]

MOST_CHANNELS, MOST_PHASORS = 3, 6
LEAST_ARROW = 0.05  # of the largest: shorter ones are left out


def figure_responses(
    systems: "LinearSystem | Mapping[str, LinearSystem]", channels: Sequence[tuple[str, str]], *, title: str = "",
    duration: str | float | None = None,
) -> "Figure":  # fmt: skip
    """Return gain, phase and step response of channels (output, input), a column for each, systems by name overlaid.

    ``systems`` is one system, or several by name.

    Parameters
    ----------
    systems : LinearSystem or mapping of str to LinearSystem
        One system, or several by name.
    channels : sequence of tuple (str, str)
        Output and input of each column.
    title : str, default ""
        What stands above the figure.
    duration : str or float, optional
        Length of the steps, with its unit or in s: as long as what matters unless given.

    Returns
    -------
    Figure

    Raises
    ------
    DravikError
        For no system or channel, or too many channels, and for names that a system does not have.
    """
    systems = systems if isinstance(systems, Mapping) else {getattr(systems, "title", ""): systems}
    for one in systems.values():
        require(one, NamedMatrices, "what is drawn", "a linear system, or several by name")
    if not systems or not 1 <= len(channels) <= MOST_CHANNELS:
        raise DravikError(
            f"{len(channels)} channels of {len(systems)} systems cannot be drawn",
            expected=f"1 to {MOST_CHANNELS} channels",
        )
    figure = new_figure(title)
    with matplotlib.rc_context(STYLE):
        grid = figure.subplots(3, len(channels), squeeze=False, sharex=False)
        for column, (output, name) in zip(grid.T, channels, strict=True):
            for k, (label, system) in enumerate(systems.items()):
                looks = {"color": PALETTE[k % len(PALETTE)], "label": label, "ls": (0, (5, 2)) if k % 2 else "-"}
                _channel(column, system, output, name, looks, duration)
            words = [n.removesuffix("_increment").replace("_", " ") for n in (output, name)]
            column[0].set_title(f"{words[0]} / {words[1]}", fontsize=10, color=INK, loc="left")
            for axes in column[:2]:
                axes.set_xscale("log")
                axes.set_xlabel("frequency [rad/s]")
                axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:g}"))
            unit = from_si(next(iter(systems.values())).units.get(name, ""))[0]
            column[2].set_xlabel(f"time after a step of one {unit}".rstrip() + " [s]")
        for axes, words_ in zip(grid[:, 0], ("gain [dB]", "phase [deg]", "response"), strict=True):
            axes.set_ylabel(words_)
        if len(systems) > 1:
            grid[0][0].legend(frameon=False, fontsize=9)
    return figure


def _channel(
    column: "Sequence[Axes]", system: "LinearSystem", output: str, name: str, looks: dict[str, Any],
    duration: str | float | None,
) -> None:  # fmt: skip
    style: dict[str, Any] = {"lw": 1.6, **looks}
    over = frequency_response(system, output, name)
    column[0].plot(over.omega, over.decibels, **style)
    phase = np.degrees(over.phase)
    # the branch of the phase that lies nearest to -180 deg at the low end: people compare with that line
    column[1].plot(over.omega, phase - 360.0 * round((phase[0] + 90.0) / 360.0), **style)
    low, high = column[1].get_ylim()
    step = 90.0 if high - low < 720.0 else 180.0
    column[1].set_yticks(np.arange(math.floor(low / step), math.ceil(high / step) + 1) * step)
    found = time_response(system, output, name, duration=duration)
    unit, factor, _ = from_si(system.units.get(output, ""))
    factor /= from_si(system.units.get(name, ""))[1]
    column[2].plot(found.time, found.values * factor, **style)
    column[2].set_title(output + (f" [{unit}]" if unit else ""), fontsize=9, color=SOFT, loc="left")
    if math.isfinite(found.end):
        column[2].axhline(found.end * factor, color=SOFT, lw=0.8, ls=":")
    for axes in column:
        axes.margins(x=0.01)
        axes.tick_params(labelcolor=INK)


def figure_phasors(model: "LinearModel", *, title: str = "") -> "Figure":
    """Return the phasors of a model's oscillations and the shares of its real roots: who moves when, and how far.

    Angles in rad, velocities over the airspeed, and rates, where the model has not their angle, over the mode's
    frequency: all of them angles, so that their lengths compare.

    Parameters
    ----------
    model : LinearModel
        The linear model.
    title : str, default ""
        What stands above the figure.

    Returns
    -------
    Figure

    Raises
    ------
    DravikError
        For a model without modes of the rigid body.
    """
    modes = [m for m in model.modes() if is_body_mode(m.name)][:MOST_PHASORS]
    if not modes:
        raise DravikError(
            "there is no mode of the rigid body to draw", expected="a model of an aircraft in flight on a wing"
        )
    at = dict(zip(model.states, model.x0, strict=False))
    speed = at.get("airspeed") or math.hypot(*(at.get(n, 0.0) for n in "uvw")) or 1.0
    figure = new_figure(title or f"Phasors of {model.title}")
    columns = min(3, len(modes))
    with matplotlib.rc_context(STYLE):
        for k, mode in enumerate(modes):
            axes = cast(Any, figure.add_subplot(math.ceil(len(modes) / columns), columns, k + 1, projection="polar"))
            _phasors(axes, mode, speed)
    return figure


def _phasors(axes: Any, mode: Any, speed: float) -> None:
    """Draw the arrows of one mode, the longest of length one and at zero degrees."""
    sizes = dict.fromkeys(("u", "v", "w", "airspeed"), speed) | dict.fromkeys("pqr", max(mode.frequency, 1e-9))
    # a rate is its angle's arrow turned and stretched: it is drawn where the model has no such angle
    rates = [rate for rate, angle in (("p", "phi"), ("q", "theta"), ("r", "psi")) if angle not in mode.vector]
    turned = ["psi"] if mode.is_oscillatory else []
    own = ("airspeed", "alpha", "beta", "u", "v", "w", "phi", "theta", *turned, *rates)
    arrows = {n: mode.vector[n] / sizes.get(n, 1.0) for n in own if n in mode.vector}
    largest = max(arrows, key=lambda n: abs(arrows[n]))
    arrows = {n: v / arrows[largest] for n, v in arrows.items() if abs(v / arrows[largest]) > LEAST_ARROW}
    before: list[complex] = []
    for k, (name, value) in enumerate(sorted(arrows.items(), key=lambda item: -abs(item[1]))):
        colour = PALETTE[k % len(PALETTE)]
        angle, length = float(np.angle(value)), abs(value)
        axes.annotate(
            "", (angle, length), (0.0, 0.0),
            arrowprops={"arrowstyle": "-|>", "color": colour, "lw": 1.8, "shrinkA": 0, "shrinkB": 0},
        )  # fmt: skip
        # labels of arrows that end near each other stand one above the other
        close = sum(abs(value - other) < 0.16 for other in before)
        before.append(value)
        axes.annotate(
            name, (angle, length), xytext=(5, 5 + 11 * close), textcoords="offset points", fontsize=9, color=colour
        )
    axes.set_rlim(0.0, 1.15)
    axes.set_rticks([0.5, 1.0])
    axes.set_yticklabels([])
    axes.tick_params(labelsize=7, labelcolor=SOFT)
    root = mode.eigenvalue
    figures = (
        f"damping {mode.damping:.3g}, {mode.frequency:.3g} rad/s" if mode.is_oscillatory else f"{root.real:.3g} 1/s"
    )
    axes.set_title(f"{mode.name}\n{figures}", fontsize=10, color=INK, pad=14)
