"""An aircraft as pictures draw it, larger, from three sides."""

from typing import TYPE_CHECKING, Any, cast

import matplotlib
import numpy as np

from dravik.report.figures import new_figure
from dravik.report.space.wireframe import attitude_matrix, draw_wire, symbol_of
from dravik.report.style import SOFT, STYLE

if TYPE_CHECKING:
    from matplotlib.figure import Figure
    from mpl_toolkits.mplot3d import Axes3D

__all__ = ["figure_portrait"]

VIEWS = (("from ahead, left", 18.0, 125.0), ("from behind, right", 22.0, -62.0), ("from above", 89.0, -90.0))


def figure_portrait(title: str, outline: Any) -> "Figure":
    """Return an aircraft of its outline from ahead, from behind and from above.

    Parameters
    ----------
    title : str
        What stands above the figure.
    outline : list of dict
        What ``outline_of(craft)`` returns.

    Returns
    -------
    Figure
    """
    figure = new_figure(title)
    craft = symbol_of(outline)
    every = np.concatenate([np.asarray(part["points"], dtype=float) for part in craft])
    low, high = every.min(axis=0), every.max(axis=0)
    half, middle = 0.5 * float(np.max(high - low)), 0.5 * (low + high)
    with matplotlib.rc_context(STYLE):
        figure.set_layout_engine("none")
        for k, (words, elevation, azimuth) in enumerate(VIEWS):
            left = 0.0 if k < 2 else 0.5
            box = (left, 0.48 if k == 0 else 0.0, 0.5, 0.47) if k < 2 else (left, 0.05, 0.5, 0.85)
            axes = cast("Axes3D", figure.add_axes(box, projection="3d"))
            draw_wire(axes, craft, attitude_matrix(0.0, 0.0, 0.0), np.array([-middle[0], -middle[1], -middle[2]]), 1.0)
            axes.set(xlim=(-half, half), ylim=(-half, half), zlim=(-half, half))
            axes.set_box_aspect((1, 1, 1), zoom=1.5)
            axes.view_init(elev=elevation, azim=azimuth)
            axes.set_axis_off()
            figure.text(box[0] + 0.02, box[1] + box[3] - 0.02, words, color=SOFT, fontsize=10)
    return figure
