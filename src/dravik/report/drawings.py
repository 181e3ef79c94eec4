"""Drawings: an aircraft's surfaces in three views, and how its lift lies along the span."""

from typing import TYPE_CHECKING

import matplotlib
import numpy as np
from matplotlib.patches import Polygon

from dravik.report.figures import ACTUAL, COMMANDED, INK, SOFT, STYLE, THIRD, new_figure

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from dravik.aero import Geometry, Lattice, LatticeForces, Surface

__all__ = ["figure_loading", "figure_three_views"]

Points = np.ndarray[tuple[int, int], np.dtype[np.float64]]
#: Each view: its name, which station axes point right and up in it, and their signs.
_VIEWS = (
    ("from the left", (0, 1.0), (2, 1.0)),
    ("from ahead", (1, -1.0), (2, 1.0)),
    ("from above", (0, 1.0), (1, 1.0)),
)


def _strip(surface: "Surface", low: float, high: float, front: float, back: float) -> Points:
    """Return the outline, station axes, of a part of a surface between shares of span and chord."""
    edges = np.array([s.leading_edge for s in surface.sections], dtype=float)
    chords = np.array([s.chord for s in surface.sections])
    lengths = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(edges[:, 1:], axis=0).T))])
    share = lengths / lengths[-1]
    at = np.unique(np.concatenate([[low, high], share[(share > low) & (share < high)]]))
    line = np.stack([np.interp(at, share, edges[:, k]) for k in range(3)], axis=1)
    chord = np.interp(at, share, chords)
    fore, aft = line.copy(), line.copy()
    fore[:, 0] += front * chord
    aft[:, 0] += back * chord
    return np.concatenate([fore, aft[::-1]])


def _body_outlines(geometry: "Geometry", i: int, j: int) -> list[Points]:
    """Return the outlines of all bodies, station axes, in the view whose axes ``i`` and ``j`` point right and up."""
    found = []
    round_ = np.linspace(0.0, 2.0 * np.pi, 49)
    for body in geometry.bodies.values():
        x, z, width, height = body.resampled()
        for y in (body.y, -body.y) if body.mirrored else (body.y,):
            if i == 1:
                # from ahead: a few sections, and with them the largest
                for k in {0, len(x) // 4, 3 * len(x) // 4, int(np.argmax(width * height))}:
                    ring = [
                        np.full(49, x[k]),
                        y + 0.5 * width[k] * np.cos(round_),
                        z[k] + 0.5 * height[k] * np.sin(round_),
                    ]
                    found.append(np.stack(ring, axis=1))
                continue
            wide, high = (0.5, 0.0) if j == 1 else (0.0, 0.5)
            edge = [np.stack([x, y + s * wide * width, z + s * high * height], axis=1) for s in (1.0, -1.0)]
            found.append(np.concatenate([edge[0], edge[1][::-1]]))
    return found


def _disc_outlines(geometry: "Geometry") -> list[Points]:
    """Return the rims of all propeller discs, station axes."""
    found = []
    round_ = np.linspace(0.0, 2.0 * np.pi, 49)
    for propeller in geometry.propellers.values():
        # body axes to station axes: x and z change sign
        axis = np.array(propeller.axis) * np.array([-1.0, 1.0, -1.0]) / np.linalg.norm(propeller.axis)
        aside = np.cross(axis, [0.0, 0.0, 1.0])
        aside /= np.linalg.norm(aside)
        rim = propeller.radius * (np.outer(np.cos(round_), aside) + np.outer(np.sin(round_), np.cross(axis, aside)))
        sides = (1.0, -1.0) if propeller.mirrored else (1.0,)
        found += [(np.array(propeller.position) + rim) * np.array([1.0, side, 1.0]) for side in sides]
    return found


def figure_three_views(geometry: "Geometry") -> "Figure":
    """Return an aircraft from the left, from ahead and from above: surfaces, controls, bodies, discs, moment point."""
    figure = new_figure(f"{geometry.name}: three views [m, station axes]")
    with matplotlib.rc_context(STYLE):
        grid = figure.subplots(2, 2)
        for axes, view in zip((grid[0][0], grid[0][1], grid[1][0]), _VIEWS, strict=True):
            _draw_view(axes, geometry, view)
        _legend(grid[1][1], geometry)
    return figure


def _draw_view(axes: "Axes", geometry: "Geometry", view: tuple[str, tuple[int, float], tuple[int, float]]) -> None:
    heading, (i, si), (j, sj) = view

    def draw(points: Points, colour: str, fill: float) -> None:
        flat = np.stack([si * points[:, i], sj * points[:, j]], axis=1)
        axes.add_patch(
            Polygon(flat, closed=True, facecolor=(*matplotlib.colors.to_rgb(colour), fill), edgecolor=colour, lw=1.1)
        )

    for outline in _body_outlines(geometry, i, j):
        draw(outline, SOFT, 0.05)
    for rim in _disc_outlines(geometry):
        draw(rim, THIRD, 0.08)
    for surface in geometry.surfaces.values():
        for mirror in (1.0, -1.0) if surface.mirrored else (1.0,):
            side = np.array([1.0, mirror, 1.0])
            draw(_strip(surface, 0.0, 1.0, 0.0, 1.0) * side, ACTUAL, 0.12)
            for control in surface.controls.values():
                draw(_strip(surface, *control.span, control.hinge, 1.0) * side, COMMANDED, 0.35)
    point = geometry.reference.moment_point
    axes.plot(si * point[i], sj * point[j], marker="o", ms=6, color=THIRD, ls="")
    axes.set_title(heading, fontsize=10, color=SOFT, loc="left")
    axes.set_xlabel("xyz"[i] if si > 0 else f"-{'xyz'[i]}")
    axes.set_ylabel("xyz"[j] if sj > 0 else f"-{'xyz'[j]}")
    axes.set_aspect("equal", adjustable="datalim")
    axes.autoscale_view()


def _legend(axes: "Axes", geometry: "Geometry") -> None:
    """Write each surface's measures where the fourth view would be."""
    axes.set_axis_off()
    lines = []
    for name, surface in geometry.surfaces.items():
        edges = np.array([s.leading_edge for s in surface.sections], dtype=float)
        lengths = np.hypot(*np.diff(edges[:, 1:], axis=0).T)
        chords = np.array([s.chord for s in surface.sections])
        sides = 2 if surface.mirrored else 1
        area = sides * float(np.sum(lengths * 0.5 * (chords[1:] + chords[:-1])))
        controls = ", ".join(surface.controls) or "none"
        lines.append(f"{name}: {area:.3g} m² over {sides * lengths.sum():.3g} m; controls: {controls}")
    for name, body in geometry.bodies.items():
        length = body.stations[-1].x - body.stations[0].x
        across = max(s.width for s in body.stations), max(s.height for s in body.stations)
        count = "2 x " if body.mirrored else ""
        lines.append(f"{name}: {count}{length:.3g} m long, {across[0]:.3g} m wide, {across[1]:.3g} m high")
    lines += [f"{n}: disc of {p.radius:.3g} m radius, {', '.join(p.engines)}" for n, p in geometry.propellers.items()]
    lines.append("dot: moment point; orange: controls; grey: bodies; violet: propeller discs")
    for k, line in enumerate(lines):
        axes.text(0.0, 0.95 - 0.95 * k / max(len(lines), 8), line, color=INK, fontsize=10, transform=axes.transAxes)


def figure_loading(lattice: "Lattice", flow: "LatticeForces", *, title: str = "") -> "Figure":
    """Return the lift of each strip along the span, for each surface: 2 circulation / (V reference chord)."""
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
            # a surface without load shall look so, not like its rounding blown up
            low, high = panel.get_ylim()
            panel.set_ylim(min(low, -0.01), max(high, 0.01))
            panel.set_ylabel(f"load of {name}")
            panel.set_xlabel("height above the moment point [m]" if upright else "y, right [m]")
    return figure
