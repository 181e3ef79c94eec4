"""Roots over a sweep, drawn as branches in the plane, coloured along the axis, and their damping and frequency."""

from typing import TYPE_CHECKING

import matplotlib
import numpy as np

from dravik.linear import is_body_mode
from dravik.report.figures import new_figure
from dravik.report.style import INK, SOFT, STYLE
from dravik.units import from_si

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from dravik.linear import RootSweep

__all__ = ["figure_roots"]

NEAR = 0.3  # 1/s: the right-hand panel shows the slow roots


def figure_roots(found: "RootSweep") -> "Figure":
    """Return the branches of roots in two panels: those of the fast modes, and near the origin."""
    shown, factor, _ = from_si(found.unit)
    figure = new_figure(f"{found.name}: roots over {found.axis.replace('_', ' ')}")
    values = np.array(found.values) * factor
    with matplotlib.rc_context(STYLE):
        left, right = figure.subplots(1, 2)
        colour = matplotlib.colormaps["viridis"]
        scale = matplotlib.colors.Normalize(values.min(), values.max())
        body = [k for k, name in enumerate(found.names) if not name.endswith("'")]
        size = max(
            (float(np.nanmax(np.abs(found.roots[:, k]))) for k in body if is_body_mode(found.names[k])), default=1.0
        )
        for axes, reach in ((left, 1.15 * size), (right, NEAR)):
            for k in body:
                branch = found.roots[:, k]
                axes.plot(branch.real, np.abs(branch.imag), color=SOFT, lw=0.8, zorder=1)
                axes.scatter(branch.real, np.abs(branch.imag), c=colour(scale(values)), s=16, zorder=2)
                _name(axes, found.names[k], branch, reach, inner=axes is right, other=NEAR)
            axes.axvline(0.0, color=INK, lw=0.8)
            axes.set_xlim(-reach, 0.35 * reach)
            high = reach if axes is right else max(1.25 * _highest(found, body), 0.2 * reach)
            axes.set_ylim(-0.03 * high, high)
            axes.set_xlabel("real part [1/s]")
            axes.tick_params(labelcolor=INK)
        left.set_ylabel("imaginary part [rad/s]")
        left.set_title("all of them", fontsize=10, color=INK, loc="left")
        right.set_title("near the origin", fontsize=10, color=INK, loc="left")
        bar = figure.colorbar(matplotlib.cm.ScalarMappable(scale, colour), ax=[left, right], pad=0.01)
        bar.set_label(found.axis.replace("_", " ") + (f" [{shown}]" if shown else ""), color=INK)
    return figure


def _highest(found: "RootSweep", branches: list[int]) -> float:
    """Return the largest imaginary part of the rigid body's modes, rad/s."""
    own = [np.nanmax(np.abs(found.roots[:, k].imag)) for k in branches if is_body_mode(found.names[k])]
    return float(max(own, default=0.0))


def _name(axes: "Axes", name: str, branch: "np.ndarray", reach: float, *, inner: bool, other: float) -> None:
    """Write a branch's name above its largest root where that is in the panel, and not in the other one."""
    there = branch[np.isfinite(branch)]
    if not len(there) or not is_body_mode(name):
        return
    last = there[int(np.argmax(np.abs(there)))]
    if abs(last) > reach or (abs(last) <= other) != inner:
        return
    axes.annotate(
        name, (last.real, abs(last.imag)), xytext=(0, 9), ha="center", textcoords="offset points", fontsize=9, color=INK
    )  # fmt: skip
