"""A figure of axes: local axes turned by yaw, pitch and roll into body axes, then stability and wind axes."""

import math
from typing import TYPE_CHECKING, cast

import matplotlib
import numpy as np
from matplotlib.figure import Figure

from dravik.frames import dcm_from_euler, euler_from_dcm
from dravik.report.figures import new_figure
from dravik.report.space.wireframe import SYMBOL, draw_wire, level_room, to_view
from dravik.report.style import ACTUAL, COMMANDED, INK, SOFT, STYLE, THIRD

if TYPE_CHECKING:
    from mpl_toolkits.mplot3d import Axes3D
    from numpy.typing import NDArray

__all__ = ["figure_axes"]

AWAY = 10.0  # deg from the vertical, where yaw and roll lose their meaning
PAINT = (COMMANDED, ACTUAL, THIRD)  # x, y, z


def _deg(angle: float) -> str:
    """Return an angle in words; what is rounding is zero."""
    return f"{round(math.degrees(angle), 9) + 0.0:.4g} deg"


def figure_axes(phi: float, theta: float, psi: float, *, alpha: float = 0.0, beta: float = 0.0) -> Figure:
    """Return how local axes become body axes by yaw, pitch and roll (rad), and these stability and wind axes.

    Within 10° of the vertical a warning says what yaw and roll still mean there.

    Parameters
    ----------
    phi : float
        Bank, rad.
    theta : float
        Pitch, rad.
    psi : float
        Heading, rad.
    alpha : float, default 0.0
        Angle of attack, rad.
    beta : float, default 0.0
        Sideslip, rad.

    Returns
    -------
    Figure
    """
    figure = new_figure(
        f"From local axes to body axes: yaw {_deg(psi)}, pitch {_deg(theta)}, "
        f"roll {_deg(phi)}; alpha {_deg(alpha)}, beta {_deg(beta)}"
    )
    level = dcm_from_euler(0.0, 0.0, 0.0)
    yawed, pitched, body = (dcm_from_euler(*a) for a in ((0.0, 0.0, psi), (0.0, theta, psi), (phi, theta, psi)))
    ca, sa, cb, sb = math.cos(alpha), math.sin(alpha), math.cos(beta), math.sin(beta)
    stability = np.array([[ca, 0.0, sa], [0.0, 1.0, 0.0], [-sa, 0.0, ca]]) @ body
    wind = np.array([[cb, sb, 0.0], [-sb, cb, 0.0], [0.0, 0.0, 1.0]]) @ stability
    steps = (
        ("1. local axes, turned by yaw about z (down)", level, yawed, level),
        ("2. then by pitch about the new y", yawed, pitched, level),
        ("3. then by roll about the new x: body axes", pitched, body, level),
        ("4. stability axes: body axes turned by -alpha about y", body, stability, body),
        ("5. wind axes: then by beta about z, x into the flow", stability, wind, body),
    )
    with matplotlib.rc_context(STYLE):
        for i, (words, before, after, craft) in enumerate(steps, start=1):
            axes = cast("Axes3D", figure.add_subplot(2, 3, i, projection="3d"))
            attitude = after if i <= 3 else craft
            _panel(axes, words, before, after, attitude, names="local" if i == 1 else "")
        _words(figure, phi, theta, psi, body)
    return figure


def _panel(
    axes: "Axes3D", words: str, before: "NDArray[np.float64]", after: "NDArray[np.float64]",
    attitude: "NDArray[np.float64]", names: str,
) -> None:  # fmt: skip
    """Draw axes before a turn thin and dashed, after it thick, and the aircraft."""
    level_room(axes)
    draw_wire(axes, SYMBOL, attitude.T, np.zeros(3), 0.62, is_pale=True)
    for rows, width, dashes, reach in ((before, 1.1, (0, (4, 3)), 1.0), (after, 2.2, "solid", 1.0)):
        for row, letter, colour in zip(rows, "xyz", PAINT, strict=True):
            tip = row * reach
            line = np.stack([np.zeros(3), tip])
            axes.plot(*to_view(line), color=colour, lw=width, ls=dashes)
            if rows is after:
                axes.text(*(float(v) for v in to_view(tip * 1.14)), letter, color=colour, fontsize=10, ha="center")
    if names:
        for tip, name in (((1.35, 0, 0), "north"), ((0, 1.35, 0), "east"), ((0.0, 0.0, 1.42), "down")):
            axes.text(*(float(v) for v in to_view(np.array(tip))), name, color=SOFT, fontsize=8, ha="center")
    axes.set(xlim=(-1, 1), ylim=(-1, 1), zlim=(-1, 1), xticks=[], yticks=[], zticks=[])
    axes.set_box_aspect((1, 1, 1), zoom=1.25)
    axes.view_init(elev=22, azim=-125)
    axes.set_title(words, fontsize=9.5, color=INK, loc="left")


def _words(figure: Figure, phi: float, theta: float, psi: float, body: "NDArray[np.float64]") -> None:
    """Say what was drawn: the matrix, and the warning where angles lose their meaning."""
    panel = figure.add_subplot(2, 3, 6)
    panel.set_axis_off()
    rows = "\n".join("  ".join(f"{v + 0.0:+.4f}" for v in row) for row in np.round(body, 12))
    text = f"local to body components:\n\n{rows}\n\nthick: after the turn, dashed: before\nx nose, y right wing, z down"
    panel.text(0.0, 0.97, text, va="top", family="DejaVu Sans Mono", fontsize=9.5, color=INK)
    # beyond the vertical the nose comes down again: what counts is how steep it stands
    away = 90.0 - math.degrees(math.asin(min(abs(math.sin(theta)), 1.0)))
    if away < AWAY:
        again = np.degrees(euler_from_dcm(body))
        rate = 1.0 / max(abs(math.cos(theta)), 1e-12)
        size = f"{rate:.3g} times" if rate < 1e6 else "without bound"
        warning = (
            f"Pitch within {away:.3g} deg of the vertical: yaw and roll\n"
            "turn about nearly the same line, and only their sum or\n"
            f"difference means anything. Their rates grow {size}\n"
            "the body's. The same attitude reads back as\n"
            f"roll {again[0]:.4g}, pitch {again[1]:.4g}, yaw {again[2]:.4g} deg.\n"
            "Dravik integrates a quaternion, which has no such place."
        )
        panel.text(0.0, 0.36, warning, va="top", fontsize=9.5, color=COMMANDED)
