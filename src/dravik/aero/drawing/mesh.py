"""From surfaces to panels: bound vortices, control points, normals, and what each control turns.

Everything is in body axes with the moment point as origin, metres. Surfaces are flat between their sections:
incidence, camber and controls turn the normals, which is what a linear boundary condition sees of them.
"""

from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dravik.aero.drawing.geometry import Control, Geometry, Surface
from dravik.aero.drawing.sections import profile_of
from dravik.frames import body_from_station

__all__ = ["Mesh", "Strips", "build_mesh"]

Floats = NDArray[np.float64]
AHEAD = np.array([1.0, 0.0, 0.0])


@dataclass(frozen=True)
class Strips:
    """Strips (m) of panels from nose to tail of a section.

    ``lead`` (m, 3) is the middle of the leading edge, ``across`` (m, 3) goes from the left to the right end, ``chord``
    is in m, ``twist`` in rad, ``thickness`` in chords; ``camber`` is the angle of attack of no lift (rad, thin
    aerofoil), ``normal`` (m, 3) that of the flat surface, ``surface`` the name of each strip's.
    """

    lead: Floats
    across: Floats
    chord: Floats
    twist: Floats
    thickness: Floats
    camber: Floats
    normal: Floats
    surface: list[str]

    @property
    def area(self) -> Floats:
        """Areas, m^2."""
        found: Floats = self.chord * np.linalg.norm(self.across[:, 1:], axis=1)
        return found

    def place(self, share: ArrayLike) -> Floats:
        """Return points (m, 3) at shares of the chord."""
        found: Floats = self.lead - np.asarray(share)[..., None] * self.chord[:, None] * AHEAD
        return found


@dataclass(frozen=True)
class Mesh:
    """Panels (n): bound vortex from ``left`` to ``right``, trailing-edge points behind its ends, control ``points``.

    ``flat`` are normals of the flat surface, ``slopes`` the angles (rad) by which incidence and camber tilt them;
    ``controls`` by name: the angle each panel takes for one rad of the control. ``strip`` numbers the ``strips``,
    ``surface`` names each panel's surface.
    """

    left: Floats
    right: Floats
    tail_left: Floats
    tail_right: Floats
    points: Floats
    flat: Floats
    slopes: Floats
    controls: dict[str, Floats]
    strip: NDArray[np.int64]
    surface: list[str]
    strips: Strips

    @property
    def count(self) -> int:
        """Number of panels."""
        return len(self.points)

    def normals(self, deflections: dict[str, float]) -> Floats:
        """Return the normals (n, 3) with controls at angles in rad."""
        tilt = self.slopes.copy()
        for name, angle in deflections.items():
            tilt = tilt + self.controls[name] * angle
        # turned about the panel's own span, the panel itself stays where it is (thin-aerofoil theory)
        turned: Floats = np.cos(tilt)[:, None] * self.flat - np.sin(tilt)[:, None] * AHEAD
        return turned


def _span_stations(surface: Surface, breaks: Floats) -> Floats:
    """Return the panels' edges along the span as shares, with an edge at every section."""
    count = surface.panels[1]
    share = np.linspace(0.0, 1.0, count + 1)
    if surface.spacing == "cosine":
        # a mirrored surface has one tip, a single one has two ends
        # closer together at the tips, where the lift falls to zero with infinite slope
        share = np.sin(0.5 * np.pi * share) if surface.mirrored else 0.5 * (1.0 - np.cos(np.pi * share))
    for inner in breaks[1:-1]:
        # the nearest edge moves onto the section: a panel across a kink would have no place for its sweep
        k = 1 + int(np.argmin(np.abs(share[1:-1] - inner))) if count > 1 else 0
        share[k] = inner
    return np.unique(np.concatenate([share, breaks]))


def _chord_stations(surface: Surface) -> Floats:
    """Return the panels' edges along the chord as shares, the nearest ones moved onto the hinges."""
    share = np.linspace(0.0, 1.0, surface.panels[0] + 1)
    taken: set[int] = set()
    for hinge in sorted({c.hinge for c in surface.controls.values()}):
        k = int(np.argmin(np.abs(share - hinge)))
        # the edges of the chord themselves never move, and one edge cannot serve two hinges
        if 0 < k < len(share) - 1 and k not in taken:
            share[k] = hinge
            taken.add(k)
    return share


def _covered(edges: Floats, low: float, high: float) -> Floats:
    """Return which share of each interval between ``edges`` lies between ``low`` and ``high``."""
    inside = np.minimum(edges[1:], high) - np.maximum(edges[:-1], low)
    share: Floats = np.clip(inside / np.diff(edges), 0.0, 1.0)
    return share


def _side(surface: Surface, origin: tuple[float, float, float], folder: Path) -> dict[str, Floats]:
    """Return the panels of the side as drawn, a row for each panel, strip by strip from the root."""
    edges_at = np.array([s.leading_edge for s in surface.sections], dtype=float)
    chords = np.array([s.chord for s in surface.sections])
    twist = np.array([s.incidence for s in surface.sections])
    profiles = [profile_of(s.profile, folder) for s in surface.sections]
    lengths = np.hypot(*np.diff(edges_at[:, 1:], axis=0).T)
    breaks = np.concatenate([[0.0], np.cumsum(lengths)]) / np.sum(lengths)
    span, chord = _span_stations(surface, breaks), _chord_stations(surface)
    middle = 0.5 * (span[1:] + span[:-1])

    def leading(share: Floats) -> Floats:
        return np.stack([np.interp(share, breaks, edges_at[:, k]) for k in range(3)], axis=-1)

    def place(share: Floats, at: Floats) -> Floats:
        """Return body points, shape (strips, stations, 3), at chord shares ``at`` along span shares."""
        station = leading(share)[:, None, :] + np.zeros((1, len(at), 3))
        station[:, :, 0] += np.interp(share, breaks, chords)[:, None] * at[None, :]
        return body_from_station(station, origin)

    step = np.diff(chord)
    # vortex at a quarter, flow condition at three quarters of a panel: exact for a flat plate in two dimensions
    quarter, threequarter = chord[:-1] + 0.25 * step, chord[:-1] + 0.75 * step
    inner, outer = place(span[:-1], quarter), place(span[1:], quarter)
    shape = inner.shape
    # seen from ahead: normals stand across the span, whatever the sweep
    across = (outer - inner) * np.array([0.0, 1.0, 1.0])
    across /= np.linalg.norm(across, axis=-1, keepdims=True)
    camber = np.array([p.slope(threequarter) for p in profiles])
    slopes = np.stack([np.interp(middle, breaks, np.arctan(camber[:, j])) for j in range(len(threequarter))], axis=-1)
    angles = np.interp(middle, breaks, twist)[:, None] - slopes
    rows = {
        "inner": inner.reshape(-1, 3),
        "outer": outer.reshape(-1, 3),
        "tail_inner": np.broadcast_to(place(span[:-1], np.array([1.0])), shape).reshape(-1, 3),
        "tail_outer": np.broadcast_to(place(span[1:], np.array([1.0])), shape).reshape(-1, 3),
        "points": place(middle, threequarter).reshape(-1, 3),
        "flat": np.cross(across, AHEAD).reshape(-1, 3),
        "slopes": angles.ravel(),
        "strip": np.repeat(np.arange(len(middle)), len(step)).astype(float),
        "lead": body_from_station(leading(middle), origin),
        "across": outer[:, 0] - inner[:, 0],
        "normal": np.cross(across[:, 0], AHEAD),
        "chord": np.interp(middle, breaks, chords),
        "twist": np.interp(middle, breaks, twist),
        "thickness": np.interp(middle, breaks, [p.largest_thickness for p in profiles]),
        "camber": np.interp(middle, breaks, [p.zero_lift_angle() for p in profiles]),
    }
    for name, control in surface.controls.items():
        # a panel partly covered by a control turns by that share: no jump when the grid is refined
        share = np.outer(_covered(span, *control.span), _covered(chord, control.hinge, 1.0))
        rows[f"control {name}"] = share.ravel()
    return rows


def _control_sign(control: Control, flat: Floats, mirrored: bool, left: bool) -> Floats:
    """Return the sign each panel's angle takes for a positive control (conventions: trailing edge down, or left)."""
    if not mirrored:
        # an upright surface: trailing edge left is positive, which tilts a normal pointing right as down tilts up
        upright = np.abs(flat[:, 1]) > 0.7
        return np.where(upright, np.sign(flat[:, 1]), 1.0)
    sign = -1.0 if control.gearing == "opposite" and not left else 1.0
    return np.full(len(flat), sign)


def build_mesh(geometry: Geometry, folder: str | Path = ".") -> Mesh:
    """Return the panels of a geometry; section files are looked for in ``folder``.

    Parameters
    ----------
    geometry : Geometry
        The drawing.
    folder : str or path, default "."
        Where the files that the drawing names are looked for.

    Returns
    -------
    Mesh

    Raises
    ------
    DravikError
        For a section that cannot be read.
    """
    parts: list[dict[str, Floats]] = []
    names: list[str] = []
    strip_names: list[str] = []
    controls: dict[str, list[tuple[int, Floats]]] = {}
    mirror = np.array([1.0, -1.0, 1.0])
    count, strips = 0, 0
    for surface_name, surface in geometry.surfaces.items():
        drawn = _side(surface, geometry.reference.moment_point, Path(folder))
        for left in (False, True) if surface.mirrored else (False,):
            rows = dict(drawn)
            if left:
                for key in ("inner", "outer", "tail_inner", "tail_outer", "points", "flat", "lead", "normal"):
                    rows[key] = drawn[key] * mirror
                # the vortex runs from left to right on both sides
                rows["across"] = -drawn["across"] * mirror
                rows["inner"], rows["outer"] = rows["outer"], rows["inner"]
                rows["tail_inner"], rows["tail_outer"] = rows["tail_outer"], rows["tail_inner"]
            rows["strip"] = rows["strip"] + strips
            strips += int(np.max(drawn["strip"])) + 1
            for name, control in surface.controls.items():
                sign = _control_sign(control, rows["flat"], surface.mirrored, left)
                controls.setdefault(name, []).append((count, sign * rows[f"control {name}"]))
            count += len(rows["slopes"])
            parts.append(rows)
            names.extend([surface_name] * len(rows["slopes"]))
            strip_names.extend([surface_name] * len(rows["chord"]))
    turned = {name: np.zeros(count) for name in controls}
    for name, pieces in controls.items():
        for start, values in pieces:
            turned[name][start : start + len(values)] = values

    def joined(key: str) -> Floats:
        return np.ascontiguousarray(np.concatenate([p[key] for p in parts]))

    return Mesh(
        joined("inner"), joined("outer"), joined("tail_inner"), joined("tail_outer"), joined("points"), joined("flat"),
        joined("slopes"), turned, joined("strip").astype(np.int64), names,
        Strips(
            joined("lead"), joined("across"), joined("chord"), joined("twist"), joined("thickness"), joined("camber"),
            joined("normal"), strip_names,
        ),
    )  # fmt: skip
