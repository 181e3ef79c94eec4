"""Drawings: an aircraft's surfaces in three views, and how its lift lies along the span."""

from typing import TYPE_CHECKING

import matplotlib
import numpy as np
from matplotlib.patches import Polygon

from dravik.aero.drawing.outline import disc_rims, fin_outlines, strip_outline
from dravik.report.figures import new_figure
from dravik.report.style import ACTUAL, COMMANDED, INK, SOFT, STYLE, THIRD

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from dravik.aero import Geometry, Lattice, LatticeForces

__all__ = ["figure_loading", "figure_three_views"]

Points = np.ndarray[tuple[int, int], np.dtype[np.float64]]
View = tuple[str, tuple[int, float], tuple[int, float]]
Shape = tuple[Points, str, float]
#: Each view: its name, which station axes point right and up in it, and their signs.
_VIEWS: tuple[View, ...] = (
    ("from the left", (0, 1.0), (2, 1.0)),
    ("from ahead", (1, -1.0), (2, 1.0)),
    ("from above", (0, 1.0), (1, 1.0)),
)


def _body_outlines(geometry: "Geometry", i: int, j: int) -> list[Points]:
    """Return the outlines of all bodies, station axes, in the view whose axes ``i`` and ``j`` point right and up."""
    found = []
    round_ = np.linspace(0.0, 2.0 * np.pi, 49)
    if geometry.finned_body is not None:
        x, across = geometry.finned_body.profile()
        ring = 0.5 * geometry.finned_body.diameter * np.stack([0.0 * round_, np.cos(round_), np.sin(round_)], axis=1)
        sides = [np.stack([x, s * 0.5 * across, s * 0.5 * across], axis=1) for s in (1.0, -1.0)]
        found.append(ring if i == 1 else np.concatenate([sides[0], sides[1][::-1]]))
    for body in geometry.bodies.values():
        x, z, width, height = body.resampled()
        for y in (body.y, -body.y) if body.mirrored else (body.y,):
            if i == 1:
                # front view: a few cross-sections, the largest among them
                for k in {0, len(x) // 4, 3 * len(x) // 4, int(np.argmax(width * height))}:
                    turn = [y + 0.5 * width[k] * np.cos(round_), z[k] + 0.5 * height[k] * np.sin(round_)]
                    found.append(np.stack([np.full(49, x[k]), *turn], axis=1))
                continue
            wide, high = (0.5, 0.0) if j == 1 else (0.0, 0.5)
            edge = [np.stack([x, y + s * wide * width, z + s * high * height], axis=1) for s in (1.0, -1.0)]
            found.append(np.concatenate([edge[0], edge[1][::-1]]))
    return found


def figure_three_views(geometry: "Geometry") -> "Figure":
    """Return an aircraft from the left, from ahead and from above: surfaces, controls, bodies, discs, moment point.

    The three views have one scale, and share their edges: what is above a point from the left lies above it.

    Parameters
    ----------
    geometry : Geometry
        The drawing.

    Returns
    -------
    Figure
    """
    shapes = [_shapes(geometry, view) for view in _VIEWS]
    corners = [np.concatenate([points for points, _, _ in found]) for found in shapes]
    low, high = (np.array([side(c, axis=0) for c in corners]) for side in (np.min, np.max))
    length, width, height = high[0, 0] - low[0, 0], high[1, 0] - low[1, 0], high[0, 1] - low[0, 1]
    figure = new_figure(f"{geometry.name}: three views, station axes [m]")
    figure.set_layout_engine("none")
    wide, tall = figure.get_size_inches()
    # inches around the views for axis labels and headings; margin inside the axes as a share of the aircraft's size
    left, gap, top = 0.75, 0.95, 0.85
    air = 0.06 * max(length, width, height)
    scale = min(
        (wide - left - gap - 0.25) / (length + width + 4.0 * air),
        (tall - top - gap - 0.55) / (height + width + 4.0 * air),
    )
    boxes = [(2.0 * air + a, 2.0 * air + b) for a, b in ((length, height), (width, height), (length, width))]
    right, below = left + scale * boxes[0][0] + gap, top + scale * boxes[0][1] + gap
    with matplotlib.rc_context(STYLE):
        for k, (x, y) in enumerate(((left, top), (right, top), (left, below))):
            size = scale * boxes[k][0], scale * boxes[k][1]
            axes = figure.add_axes((x / wide, 1.0 - (y + size[1]) / tall, size[0] / wide, size[1] / tall))
            _draw_view(axes, _VIEWS[k], shapes[k], geometry.reference.moment_point)
            axes.set_xlim(low[k, 0] - air, high[k, 0] + air)
            axes.set_ylim(low[k, 1] - air, high[k, 1] + air)
        # dimensions are written in the place of a fourth view, or below the others
        aside = wide - right > 4.5
        x, y = (right, below + 0.2) if aside else (left, below + scale * boxes[2][1] + gap)
        _legend(figure, geometry, (x / wide, 1.0 - y / tall, 0.26 / tall))
    return figure


def _shapes(geometry: "Geometry", view: View) -> list[Shape]:
    """Return the outlines of one view, flat, with colour and share of filling."""
    _, (i, si), (j, sj) = view
    found = [(outline, SOFT, 0.05) for outline in _body_outlines(geometry, i, j)]
    found += [(rim, THIRD, 0.08) for rim in disc_rims(geometry)]
    found += [(fin, ACTUAL, 0.12) for fin in fin_outlines(geometry)]
    for surface in geometry.surfaces.values():
        for mirror in (1.0, -1.0) if surface.mirrored else (1.0,):
            side = np.array([1.0, mirror, 1.0])
            found.append((strip_outline(surface, 0.0, 1.0, 0.0, 1.0) * side, ACTUAL, 0.12))
            for control in surface.controls.values():
                found.append((strip_outline(surface, *control.span, control.hinge, 1.0) * side, COMMANDED, 0.35))
    return [(np.stack([si * p[:, i], sj * p[:, j]], axis=1), colour, fill) for p, colour, fill in found]


def _draw_view(
    axes: "Axes", view: View, shapes: list[Shape],
    point: tuple[float, float, float],
) -> None:  # fmt: skip
    heading, (i, si), (j, sj) = view
    for flat, colour, fill in shapes:
        axes.add_patch(
            Polygon(flat, closed=True, facecolor=(*matplotlib.colors.to_rgb(colour), fill), edgecolor=colour, lw=1.1)
        )
    axes.plot(si * point[i], sj * point[j], marker="o", ms=6, color=THIRD, ls="")
    axes.set_axisbelow(True)
    axes.set_title(heading, fontsize=10, color=SOFT, loc="left")
    axes.set_xlabel("xyz"[i] if si > 0 else f"-{'xyz'[i]}")
    axes.set_ylabel("xyz"[j] if sj > 0 else f"-{'xyz'[j]}")


def _legend(figure: "Figure", geometry: "Geometry", place: tuple[float, float, float]) -> None:
    """Write the measures of what is drawn, from a place (shares of the sheet) down in lines so far apart."""
    lines = []
    for name, surface in geometry.surfaces.items():
        edges = np.array([s.leading_edge for s in surface.sections], dtype=float)
        lengths = np.hypot(*np.diff(edges[:, 1:], axis=0).T)
        chords = np.array([s.chord for s in surface.sections])
        sides = 2 if surface.mirrored else 1
        area = sides * float(np.sum(lengths * 0.5 * (chords[1:] + chords[:-1])))
        controls = ", ".join(surface.controls) or "none"
        lines.append(f"{name}: {area:.3g} m² over {sides * lengths.sum():.3g} m; controls: {controls}")
    for name, drawn in geometry.bodies.items():
        length = drawn.stations[-1].x - drawn.stations[0].x
        across = max(s.width for s in drawn.stations), max(s.height for s in drawn.stations)
        count = "2 x " if drawn.mirrored else ""
        lines.append(f"{name}: {count}{length:.3g} m long, {across[0]:.3g} m wide, {across[1]:.3g} m high")
    lines += [f"{n}: disc of {p.radius:.3g} m radius, {', '.join(p.engines)}" for n, p in geometry.propellers.items()]
    body = geometry.finned_body
    if body is not None:
        lines.append(f"body: {body.length:.3g} m long, {body.diameter:.3g} m across; nose: {body.nose.shape}")
        lines += [
            f"{n}: {f.count} fins, {f.span:.3g} m from root to tip, {f.area:.3g} m² each" for n, f in body.fins.items()
        ]
    lines.append(
        "dot: moment point; orange: controls; grey: bodies; violet: propeller discs"
        if geometry.surfaces
        else "dot: moment point"
    )
    for k, line in enumerate(lines):
        figure.text(place[0], place[1] - k * place[2], line, color=INK, fontsize=9, va="top")


def figure_loading(lattice: "Lattice", flow: "LatticeForces", *, title: str = "") -> "Figure":
    """Return the lift of each strip along the span, for each surface: 2 circulation / (V reference chord).

    Parameters
    ----------
    lattice : Lattice
        The solved lattice.
    flow : LatticeForces
        Its forces at a state of the flow.
    title : str, default ""
        What stands above the figure.

    Returns
    -------
    Figure
    """
    figure = new_figure(title or "Span loading")
    mesh = lattice.mesh
    first = np.unique(mesh.strip, return_index=True)[1]
    names = [mesh.surface[k] for k in first]
    middle = 0.5 * (mesh.left[first] + mesh.right[first])
    surfaces = list(dict.fromkeys(names))
    with matplotlib.rc_context(STYLE):
        axes = figure.subplots(len(surfaces), 1, squeeze=False)[:, 0]
        for panel, name in zip(axes, surfaces, strict=True):
            rows = [k for k, n in enumerate(names) if n == name]
            upright = np.ptp(middle[rows, 1]) < np.ptp(middle[rows, 2])
            along = -middle[rows, 2] if upright else middle[rows, 1]
            order = np.argsort(along)
            panel.plot(along[order], flow.strip_load[rows][order], color=ACTUAL, lw=1.6, marker="o", ms=3)
            panel.axhline(0.0, color=SOFT, lw=0.8)
            # the colour range has a minimum, so that an unloaded surface does not show its rounding errors
            low, high = panel.get_ylim()
            panel.set_ylim(min(low, -0.01), max(high, 0.01))
            panel.set_ylabel(f"load of {name}")
            panel.set_xlabel("height above the moment point [m]" if upright else "y, right [m]")
    return figure
