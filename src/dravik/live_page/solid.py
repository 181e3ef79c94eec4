"""The shape of an aircraft as triangles, from its own drawing: parts that stand still, turn about a hinge, or spin.

Points are in body axes about the datum of the station axes (x forward, y right, z down; m): the page moves them by the
centre of gravity.
"""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.aero import Geometry, Surface, read_geometry
from dravik.aero.drawing.sections import profile_of
from dravik.aircraft import Aircraft
from dravik.errors import DravikError
from dravik.frames import body_from_station
from dravik.host.files import exists

__all__ = ["plain", "solid"]

Floats = NDArray[np.float64]
ROUND = 14  # corners of a body's cross-section
SHARES = np.array([0.0, 0.03, 0.12, 0.3, 0.55, 0.8, 1.0])  # of the chord, where a section has its corners


def solid(craft: Aircraft) -> list[dict[str, Any]]:
    """Return the parts of an aircraft as plain data: ``points`` (x, y, z in a row) and ``triangles``, three to each.

    A part with a ``signal`` turns by it (rad) about the ``hinge`` (two points), right-handed, times ``sign``. A
    ``disc`` has centre, axis and radius, and spins while its ``signal`` is above zero; a ``wheel`` moves up by its
    signal (m).
    """
    path = craft.path.parent / "geometry.toml" if craft.path is not None else None
    parts = []
    if path is not None and exists(path):
        try:
            parts = _drawn(read_geometry(path), path.parent)
        except DravikError:  # a drawing with faults flies as well as none: the outline is a picture, not a table
            parts = []
    parts = parts or _plain(craft)
    if not any(p["kind"] == "disc" for p in parts):
        parts += _engines(craft)
    for part in parts:
        # a part whose signal the aircraft does not have stands still
        if part.get("signal") and part["signal"] not in craft.signals:
            part["signal"] = ""
    return parts + _wheels(craft)


def _part(kind: str, name: str, points: Floats, triangles: list[tuple[int, int, int]], **more: Any) -> dict[str, Any]:
    return {
        "kind": kind, "name": name, "points": np.round(points, 4).ravel().tolist(),
        "triangles": [int(i) for t in triangles for i in t], **more,
    }  # fmt: skip


def _drawn(geometry: Geometry, folder: Path) -> list[dict[str, Any]]:
    parts: list[dict[str, Any]] = []
    for name, surface in geometry.surfaces.items():
        for mirror in (1.0, -1.0) if surface.mirrored else (1.0,):
            parts += _surface(name, surface, mirror, folder)
    for name, body in geometry.bodies.items():
        x, z, width, height = body.resampled(17)
        for y in (body.y, -body.y) if body.mirrored else (body.y,):
            parts.append(_lathe(name, x, np.full(len(x), y), z, 0.5 * width, 0.5 * height))
    if geometry.finned_body is not None:
        x, across = geometry.finned_body.profile(24)
        none = np.zeros(len(x))
        parts.append(_lathe("body", x, none, none, 0.5 * across, 0.5 * across))
        parts += _fins(geometry)
    for name, p in geometry.propellers.items():
        for k, side in enumerate((1.0, -1.0) if p.mirrored else (1.0,)):
            centre = body_from_station(np.array(p.position) * np.array([1.0, side, 1.0]))
            engine = p.engines[k] if k < len(p.engines) else ""
            parts.append(_disc(name, centre, np.array(p.axis, dtype=float), p.radius, engine))
    return parts


def _surface(name: str, surface: Surface, mirror: float, folder: Path) -> list[dict[str, Any]]:
    """Return the fixed part of one side of a surface and its controls, strip by strip along the span."""
    edges = np.array([s.leading_edge for s in surface.sections], dtype=float)
    lengths = np.hypot(*np.diff(edges[:, 1:], axis=0).T)
    breaks = np.concatenate([[0.0], np.cumsum(lengths)]) / np.sum(lengths)
    chords = np.array([s.chord for s in surface.sections])
    twists = np.array([s.incidence for s in surface.sections])
    thick = np.array([profile_of(s.profile, folder).largest_thickness for s in surface.sections])
    upright = abs(edges[-1, 2] - edges[0, 2]) > abs(edges[-1, 1] - edges[0, 1])

    def ring(share: float, front: float, back: float) -> Floats:
        """Return the corners of a section between two shares of its chord, body axes."""
        lead = np.array([np.interp(share, breaks, edges[:, k]) for k in range(3)])
        chord, twist, t = (float(np.interp(share, breaks, v)) for v in (chords, twists, thick))
        at = front + (back - front) * SHARES
        # half the thickness of a section of four digits (E. N. Jacobs and others, NACA Report 460, 1933, eq. 1)
        half = 5.0 * t * (0.2969 * np.sqrt(at) - 0.126 * at - 0.3516 * at**2 + 0.2843 * at**3 - 0.1015 * at**4)
        along = np.concatenate([at, at[::-1]]) * chord
        out = np.concatenate([half, -half[::-1]]) * chord
        station = np.tile(lead, (len(along), 1))
        station[:, 0] += along
        station[:, 1 if upright else 2] += out - (0.0 if upright else np.sin(twist) * along)
        return body_from_station(station * np.array([1.0, mirror, 1.0]))

    cuts = {*breaks.tolist(), *(s for c in surface.controls.values() for s in c.span)}
    parts, fixed = [], []
    for a, b in zip(sorted(cuts), sorted(cuts)[1:], strict=False):
        if b - a < 1e-6:
            continue
        over = [(n, c) for n, c in surface.controls.items() if c.span[0] <= a + 1e-9 and c.span[1] >= b - 1e-9]
        hinge = min((c.hinge for _, c in over), default=1.0)
        if hinge > 0.0:
            fixed.append((ring(a, 0.0, hinge), ring(b, 0.0, hinge)))
        for control, spec in over[:1]:
            line = [_middle(ring(s, spec.hinge, 1.0)) for s in (a, b)]
            sign = -1.0 if spec.gearing == "opposite" and mirror > 0 and surface.mirrored else 1.0
            if upright:  # trailing edge left is positive: about an axis that points down
                line = line if line[1][2] > line[0][2] else line[::-1]
            else:  # trailing edge down is positive: about an axis that points right
                line = line if line[1][1] > line[0][1] else line[::-1]
            shape = _skin([(ring(a, spec.hinge, 1.0), ring(b, spec.hinge, 1.0))])
            parts.append(
                _part("control", control, *shape, signal=control, sign=sign, hinge=np.round(line, 4).tolist())
            )  # fmt: skip
    return [_part("surface", name, *_skin(fixed)), *parts] if fixed else parts


def _middle(ring: Floats) -> Floats:
    """Return the middle of the foremost edge of a section's corners."""
    found: Floats = 0.5 * (ring[0] + ring[-1])
    return found


def _skin(pairs: list[tuple[Floats, Floats]]) -> tuple[Floats, list[tuple[int, int, int]]]:
    """Return points and triangles of the strips between two rings each, with the ends closed."""
    points: list[Floats] = []
    triangles: list[tuple[int, int, int]] = []
    for a, b in pairs:
        n, first = len(a), sum(len(p) for p in points)
        points += [a, b]
        for i in range(n):
            j = (i + 1) % n
            triangles += [(first + i, first + j, first + n + i), (first + j, first + n + j, first + n + i)]
        for end in (first, first + n):
            for i in range(1, n // 2):
                triangles += [(end + i - 1, end + i, end + n - i), (end + i, end + n - 1 - i, end + n - i)]
    return np.concatenate(points), triangles


def _lathe(name: str, x: Floats, y: Floats, z: Floats, wide: Floats, high: Floats) -> dict[str, Any]:
    """Return a body of elliptic sections, station axes in."""
    turn = np.linspace(0.0, 2.0 * np.pi, ROUND, endpoint=False)
    rings = np.stack(
        [
            np.repeat(x[:, None], ROUND, 1),
            y[:, None] + wide[:, None] * np.cos(turn),
            z[:, None] + high[:, None] * np.sin(turn),
        ],
        axis=-1,
    )
    triangles = []
    for k in range(len(x) - 1):
        for i in range(ROUND):
            a, b = k * ROUND + i, k * ROUND + (i + 1) % ROUND
            triangles += [(a, b, a + ROUND), (b, b + ROUND, a + ROUND)]
    for end in (0, (len(x) - 1) * ROUND):
        triangles += [(end, end + i, end + i + 1) for i in range(1, ROUND - 1)]
    return _part("body", name, body_from_station(rings.reshape(-1, 3)), triangles)


def _fins(geometry: Geometry) -> list[dict[str, Any]]:
    parts = []
    for name, fins in geometry.finned_body.fins.items() if geometry.finned_body is not None else ():
        along = np.array([0.0, fins.tip_offset, fins.tip_offset + fins.tip, fins.root]) + fins.x
        out = 0.5 * fins.diameter + np.array([0.0, fins.span, fins.span, 0.0])
        for k in range(fins.count):
            turn = 2.0 * np.pi * k / fins.count
            corners = np.stack([along, out * np.sin(turn), out * np.cos(turn)], axis=1)
            parts.append(_part("surface", name, body_from_station(corners), [(0, 1, 2), (0, 2, 3)]))
    return parts


def _disc(name: str, centre: Floats, axis: Floats, radius: float, engine: str) -> dict[str, Any]:
    return {
        "kind": "disc", "name": name, "points": [], "triangles": [], "centre": np.round(centre, 4).tolist(),
        "axis": (axis / np.linalg.norm(axis)).tolist(), "radius": radius, "signal": f"thrust_{engine}",
    }  # fmt: skip


def _engines(craft: Aircraft) -> list[dict[str, Any]]:
    """Return the discs of propellers that no drawing shows."""
    parts = []
    for name, engine in craft.definition.engines.items():
        if engine.kind == "propeller":
            maps = craft.definition.propellers.get(engine.propeller)
            radius = 0.5 * float(getattr(maps, "diameter", 0.0) or 0.3)
            parts.append(
                _disc(name, body_from_station(np.array(engine.position)), np.array(engine.direction), radius, name)
            )
    return parts


def _plain(craft: Aircraft) -> list[dict[str, Any]]:
    """Return the shape of an aircraft without a drawing: a body, and arms to its engines or a wing of its span."""
    cg, size = np.array(craft.loading.cg), craft.definition.reference
    arms = [np.array(e.position) for e in craft.definition.engines.values()]
    aside = [a for a in arms if abs(a[1] - cg[1]) > 1e-6]
    length = 2.0 * max((float(np.linalg.norm(a - cg)) for a in arms), default=0.5 * size.span)
    if len(aside) >= 3:
        x = np.linspace(-0.25, 0.25, 12) * length
        round_ = 0.16 * length * np.sqrt(np.clip(1.0 - (x / (0.25 * length)) ** 2, 0.0, 1.0))
        parts = [_lathe("body", x + cg[0], np.full(12, cg[1]), np.full(12, cg[2]), round_, 0.5 * round_)]
        for arm in arms:
            side = np.cross(arm - cg, [0.0, 0.0, 1.0])
            side *= 0.02 * length / max(float(np.linalg.norm(side)), 1e-9)
            corners = np.array([cg - side, cg + side, arm + side, arm - side])
            parts.append(_part("surface", "arm", body_from_station(corners), [(0, 1, 2), (0, 2, 3)]))
        return parts
    return plain(size.span, size.chord, craft.loading.cg)


def plain(span: float, chord: float, cg: Sequence[float]) -> list[dict[str, Any]]:
    """Return the shape of an aeroplane of which only span, chord and centre of gravity (station axes; m) are known."""
    b, c, middle = span, chord, np.array(cg, dtype=float)
    x = np.linspace(-0.25, 0.5, 16) * b
    round_ = 0.04 * b * np.sqrt(np.clip(1.0 - ((x - 0.05 * b) / (0.46 * b)) ** 2, 0.02, 1.0))
    parts = [_lathe("body", x + middle[0], np.full(16, middle[1]), np.full(16, middle[2]), round_, round_)]
    # half span, chord, place behind the wing, and where it points: wing, tail, fin
    aside, up = np.array([0.0, 1.0, 0.0]), np.array([0.0, 0.0, 1.0])
    for half, long, behind, ways in (
        (0.5 * b, c, 0.0, (aside, -aside)), (0.2 * b, 0.6 * c, 0.45 * b, (aside, -aside)),
        (0.16 * b, 0.7 * c, 0.45 * b, (up,)),
    ):  # fmt: skip
        for way in ways:
            out, back = half * way, np.array([long, 0.0, 0.0])
            root = middle + np.array([behind - 0.25 * long, 0.0, 0.0])
            corners = np.array([root, root + out + 0.2 * back, root + out + back, root + back])
            parts.append(_part("surface", "plain", body_from_station(corners), [(0, 1, 2), (0, 2, 3)]))
    return parts


def _wheels(craft: Aircraft) -> list[dict[str, Any]]:
    """Return the feet of the gear, which its springs move upwards."""
    parts = []
    for name, leg in craft.definition.gear.items():
        foot = np.array(leg.position, dtype=float)
        radius = max(0.05, 0.012 * craft.definition.reference.span)
        x = np.linspace(-1.0, 1.0, 9) * radius
        high = np.sqrt(np.clip(radius**2 - x**2, 0.0, None))
        foot[2] += radius
        wheel = _lathe(name, x + foot[0], np.full(9, foot[1]), np.full(9, foot[2]), 0.35 * high, high)
        signal = f"pressed_{name}"
        parts.append({**wheel, "kind": "wheel", "signal": signal if signal in craft.signals else ""})
    return parts
