"""The outline of an aircraft: a few polygons from its drawing, light enough to stand beside a recording."""

from collections.abc import Iterator
from itertools import pairwise
from typing import Any

import numpy as np

from dravik.aero.drawing.geometry import Geometry, Surface
from dravik.frames import body_from_station

__all__ = ["disc_rims", "fin_outlines", "outline", "sheet", "strip_outline"]

Points = np.ndarray[tuple[int, int], np.dtype[np.float64]]
RINGS = (0.25, 0.75)  # shares of a body's length where a cross-section is drawn, besides the largest
CORNERS = 13  # of a cross-section


def strip_outline(surface: Surface, low: float, high: float, front: float, back: float) -> Points:
    """Return the outline, station axes, of a part of a surface between shares of span and chord."""
    edges = np.array([s.leading_edge for s in surface.sections], dtype=float)
    chords = np.array([s.chord for s in surface.sections])
    lengths = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(edges[:, 1:], axis=0).T))])
    share = lengths / lengths[-1]
    at = np.unique(np.concatenate([[low, high], share[(share > low) & (share < high)]]))
    line = np.stack([np.interp(at, share, edges[:, k]) for k in range(3)], axis=1)
    chord = np.interp(at, share, chords)
    ahead, behind = line.copy(), line.copy()
    ahead[:, 0] += front * chord
    behind[:, 0] += back * chord
    return np.concatenate([ahead, behind[::-1]])


def disc_rims(geometry: Geometry) -> list[Points]:
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


def fin_outlines(geometry: Geometry) -> list[Points]:
    """Return the outlines of a finned body's fins, station axes; the first stands up."""
    found: list[Points] = []
    for fins in geometry.finned_body.fins.values() if geometry.finned_body is not None else ():
        along = np.array([0.0, fins.tip_offset, fins.tip_offset + fins.tip, fins.root]) + fins.x
        out = 0.5 * fins.diameter + np.array([0.0, fins.span, fins.span, 0.0])
        for k in range(fins.count):
            turn = 2.0 * np.pi * k / fins.count
            found.append(np.stack([along, out * np.sin(turn), out * np.cos(turn)], axis=1))
    return found


def sheet(kind: str, points: Points, **more: Any) -> dict[str, Any]:
    """Return a polygon as plain data, its ``points`` in body axes (m) given as station axes."""
    return {"kind": kind, "points": np.round(body_from_station(points), 4).tolist(), **more}


def outline(geometry: Geometry) -> list[dict[str, Any]]:
    """Return the polygons of an aircraft as plain data, body axes about the datum (m).

    Parameters
    ----------
    geometry : Geometry
        The drawing.

    Returns
    -------
    list of dict
        ``kind`` (surface, control, body, disc) and ``points``. A control has the ``signal`` (rad) by which it turns
        about its ``hinge`` (two points), right-handed, times ``sign``.
    """
    found = [sheet("disc", rim[::4]) for rim in disc_rims(geometry)]
    found += [sheet("surface", fin) for fin in fin_outlines(geometry)]
    for surface in geometry.surfaces.values():
        for mirror in (1.0, -1.0) if surface.mirrored else (1.0,):
            found += _sheets(surface, mirror)
    for body in geometry.bodies.values():
        x, z, width, height = body.resampled(17)
        for y in (body.y, -body.y) if body.mirrored else (body.y,):
            found += _hull(np.stack([x, np.full(len(x), y), z], axis=1), 0.5 * width, 0.5 * height)
    if geometry.finned_body is not None:
        x, across = geometry.finned_body.profile(24)
        found += _hull(np.stack([x, 0.0 * x, 0.0 * x], axis=1), 0.5 * across, 0.5 * across)
    return found


def _sheets(surface: Surface, mirror: float) -> Iterator[dict[str, Any]]:
    """Yield one side of a surface: what stands still, strip by strip, and its controls with their hinges."""
    side = np.array([1.0, mirror, 1.0])
    ends = np.array([surface.sections[0].leading_edge, surface.sections[-1].leading_edge])
    is_upright = abs(ends[1, 2] - ends[0, 2]) > abs(ends[1, 1] - ends[0, 1])
    cuts = sorted({0.0, 1.0, *(s for c in surface.controls.values() for s in c.span)})
    for low, high in pairwise(cuts):
        over = [
            (n, c) for n, c in surface.controls.items() if c.span[0] < high - 1e-9 and c.span[1] > low + 1e-9
        ]  # fmt: skip
        hinge = min((c.hinge for _, c in over), default=1.0)
        yield sheet("surface", strip_outline(surface, low, high, 0.0, hinge) * side)
        for name, control in over[:1]:
            moving = strip_outline(surface, low, high, control.hinge, 1.0) * side
            line = body_from_station(moving[[0, len(moving) // 2 - 1]])
            # positive is trailing edge down, about an axis to the right; of an upright surface trailing edge left,
            # about an axis that points down
            along = 2 if is_upright else 1
            line = line if line[1, along] > line[0, along] else line[::-1]
            sign = -1.0 if control.gearing == "opposite" and mirror > 0.0 and surface.mirrored else 1.0
            yield sheet("control", moving, signal=name, sign=sign, hinge=np.round(line, 4).tolist())


def _hull(middle: Points, wide: np.ndarray, high: np.ndarray) -> Iterator[dict[str, Any]]:
    """Yield a body: its outline from above and from the side, and a few cross-sections."""
    for k, half in ((1, wide), (2, high)):
        aside = np.zeros_like(middle)
        aside[:, k] = half
        yield sheet("body", np.concatenate([middle + aside, (middle - aside)[::-1]]))
    turn = np.linspace(0.0, 2.0 * np.pi, CORNERS)
    for k in sorted({int(np.argmax(wide * high)), *(round(r * (len(middle) - 1)) for r in RINGS)}):
        ring = np.stack([0.0 * turn, wide[k] * np.cos(turn), high[k] * np.sin(turn)], axis=1)
        yield sheet("body", middle[k] + ring)
