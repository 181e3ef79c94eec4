"""Mode logic, drawn: modes in a ring, transitions as arrows with numbers, and what each number means below."""

import math
from textwrap import shorten
from typing import TYPE_CHECKING

import matplotlib
from matplotlib.figure import Figure

from dravik.errors import DravikError
from dravik.report.figures import new_figure
from dravik.report.style import ACTUAL, COMMANDED, INK, SOFT, STYLE, THIRD

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from dravik.aircraft import Aircraft
    from dravik.mode_logic.modes import ModeLogic

__all__ = ["figure_mode_logic"]

MOST = 6  # mode logics in a figure


def figure_mode_logic(craft: "Aircraft", *, title: str = "") -> Figure:
    """Return the mode logic of an aircraft's laws and script as a figure: modes, transitions between them, reasons.

    The first mode has a thick frame.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    title : str, default ""
        What stands above the figure.

    Returns
    -------
    Figure

    Raises
    ------
    DravikError
        For an aircraft without mode logic.
    """
    mode_logic = dict(list(craft.configuration.mode_logic.items())[:MOST])
    if not mode_logic:
        raise DravikError(f"{craft.name} has no mode logic", hint="a law that has some, such as autopilot")
    figure = new_figure(title or f"Mode logic of {craft.name}")
    columns = min(3, len(mode_logic))
    rows = math.ceil(len(mode_logic) / columns)
    with matplotlib.rc_context(STYLE):
        figure.set_layout_engine("none")
        for i, (name, logic) in enumerate(mode_logic.items()):
            left, low = (i % columns) / columns, 1.0 - (i // columns + 1) / rows
            height = 0.93 / rows
            share = 0.62
            axes = figure.add_axes((left + 0.01, low + (1 - share) * height, 0.96 / columns, share * height))
            _ring(axes, name, logic)
            _legend(figure, logic, (left + 0.02, low + (1 - share) * height - 0.01))
    return figure


def _ring(axes: "Axes", name: str, logic: "ModeLogic") -> None:
    axes.set_axis_off()
    axes.set_aspect("equal", anchor="N")
    axes.set_title(f"{name}: {logic.description}" if logic.description else name, fontsize=10, color=INK)
    modes = list(logic.modes)
    spots = {
        mode: (math.sin(2 * math.pi * k / len(modes)), math.cos(2 * math.pi * k / len(modes)))
        for k, mode in enumerate(modes)
    }
    spots["end"] = (0.0, 0.0)
    for number, transition in enumerate(logic.transitions, start=1):
        for source in logic.sources(transition):
            if "any" not in transition.source:
                _arrow(axes, spots[source], spots[transition.to], number)
        if "any" in transition.source:
            _arrow(axes, (spots[transition.to][0] * 0.45, spots[transition.to][1] * 0.45), spots[transition.to], number)
    for mode, (x, y) in spots.items():
        if mode == "end" and not any(t.to == "end" for t in logic.transitions):
            continue
        begins = mode == logic.begin
        box = {
            "boxstyle": "round,pad=0.4", "facecolor": "white", "edgecolor": ACTUAL if begins else SOFT,
            "linewidth": 2.2 if begins else 1.0,
        }  # fmt: skip
        axes.text(x, y, mode.replace("_", " "), ha="center", va="center", fontsize=8.5, color=INK, bbox=box, zorder=3)
    axes.set_xlim(-1.45, 1.45)
    axes.set_ylim(-1.2, 1.2)


def _arrow(axes: "Axes", a: tuple[float, float], b: tuple[float, float], number: int) -> None:
    axes.annotate(
        "", b, xytext=a, zorder=1,
        arrowprops={
            "arrowstyle": "-|>", "color": COMMANDED, "lw": 1.1, "connectionstyle": "arc3,rad=0.18", "shrinkA": 16,
            "shrinkB": 18,
        },
    )  # fmt: skip
    # the number stands beside the middle of the bent arrow
    x, y = 0.5 * (a[0] + b[0]), 0.5 * (a[1] + b[1])
    dx, dy = b[0] - a[0], b[1] - a[1]
    axes.text(x + 0.11 * dy, y - 0.11 * dx, str(number), fontsize=8, color=THIRD, ha="center", va="center", zorder=4)


def _legend(figure: Figure, logic: "ModeLogic", at: tuple[float, float]) -> None:
    lines = []
    for number, transition in enumerate(logic.transitions, start=1):
        when = f"after {transition.after:g} s" if transition.when is None else str(transition.when)
        words = transition.reason or when
        lines.append(f"{number}  {shorten(words, 58, placeholder=' ...')}")
        if transition.reason:
            lines.append(f"    {shorten(when, 62, placeholder=' ...')}")
    figure.text(*at, "\n".join(lines), fontsize=8, color=THIRD, va="top")
