"""The outline of an aircraft as flown: from its drawing, or from what its file says of its size."""

from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np

from dravik.aero import read_geometry
from dravik.aero.drawing.outline import outline, sheet
from dravik.aircraft.craft import Aircraft
from dravik.errors import DravikError
from dravik.frames import body_from_station
from dravik.host.files import exists

__all__ = ["outline_of"]

DRAWING = "geometry.toml"  # the name of a drawing beside the aircraft's file


def outline_of(craft: Aircraft) -> list[dict[str, Any]]:
    """Return the polygons that pictures draw an aircraft with, body axes about its centre of gravity (m).

    Parameters
    ----------
    craft : Aircraft
        With a drawing beside its file, or else with span, chord and engines.

    Returns
    -------
    list of dict
        ``kind`` and ``points``; a control has ``signal``, ``hinge`` and ``sign`` too, as in ``aero.drawing.outline``.

    Examples
    --------
    >>> import dravik as dv
    >>> sorted({part["kind"] for part in outline_of(dv.sample("tarn"))})
    ['body', 'control', 'disc', 'surface']
    """
    drawing = craft.path.parent / DRAWING if craft.path is not None else None
    parts: tuple[dict[str, Any], ...] = ()
    if drawing is not None and exists(drawing):
        parts = _drawn(str(drawing), drawing.stat().st_mtime_ns)
    centre = body_from_station(craft.loading.cg)
    return [_about(part, centre) for part in parts or _plain(craft)]


@lru_cache(maxsize=16)
def _drawn(path: str, changed: int) -> tuple[dict[str, Any], ...]:
    """Return the outline of a drawing, read once for each change of the file; nothing where it has faults."""
    try:
        return tuple(outline(read_geometry(Path(path))))
    except DravikError:  # a picture of the aircraft is not worth a flight that is refused
        return ()


def _about(part: dict[str, Any], centre: np.ndarray) -> dict[str, Any]:
    places = [key for key in ("points", "hinge") if key in part]
    return {**part, **{key: np.round(np.array(part[key]) - centre, 4).tolist() for key in places}}


def _plain(craft: Aircraft) -> list[dict[str, Any]]:
    """Return an aircraft of which only span, chord, engines and centre of gravity are known."""
    cg, size = np.array(craft.loading.cg), craft.definition.reference
    arms = [np.array(e.position) for e in craft.definition.engines.values()]
    aside = [a for a in arms if abs(a[1] - cg[1]) > 1e-6]
    if len(aside) >= 3:
        reach = max(float(np.linalg.norm(a - cg)) for a in aside)
        return [*_body(cg, 0.5 * reach, 0.14 * reach), *(_arm(cg, a, 0.04 * reach) for a in arms), *_discs(arms, reach)]
    b, c = size.span, size.chord
    parts = _body(cg + np.array([0.12 * b, 0.0, 0.0]), 0.75 * b, 0.04 * b)
    y, z = np.array([0.0, 1.0, 0.0]), np.array([0.0, 0.0, 1.0])
    for half, long, behind, ways in (
        (0.5 * b, c, 0.0, (y, -y)), (0.2 * b, 0.6 * c, 0.45 * b, (y, -y)), (0.16 * b, 0.7 * c, 0.45 * b, (z,)),
    ):  # fmt: skip
        root = cg + np.array([behind - 0.25 * long, 0.0, 0.0])
        back = np.array([long, 0.0, 0.0])
        parts += [
            sheet("surface", np.array([root, root + half * w + 0.2 * back, root + half * w + back, root + back]))
            for w in ways
        ]
    return parts


def _body(middle: np.ndarray, length: float, half: float) -> list[dict[str, Any]]:
    """Return a body round about its length, from above and from the side."""
    x = np.linspace(-0.5, 0.5, 13) * length
    width = half * np.sqrt(1.0 - (2.0 * x / length) ** 2)
    found = []
    for k in (1, 2):
        edge = np.zeros((13, 3))
        edge[:, 0], edge[:, k] = x, width
        found.append(sheet("body", middle + np.concatenate([edge, (edge * np.where(np.arange(3) == k, -1, 1))[::-1]])))
    return found


def _arm(cg: np.ndarray, end: np.ndarray, half: float) -> dict[str, Any]:
    side = np.cross(end - cg, [0.0, 0.0, 1.0])
    side *= half / max(float(np.linalg.norm(side)), 1e-9)
    return sheet("surface", np.array([cg - side, cg + side, end + side, end - side]))


def _discs(arms: list[np.ndarray], reach: float) -> list[dict[str, Any]]:
    """Return level discs at the ends of arms, which rotors of unknown size are drawn as."""
    turn = np.linspace(0.0, 2.0 * np.pi, 13)
    rim = 0.3 * reach * np.stack([np.cos(turn), np.sin(turn), 0.0 * turn], axis=1)
    return [sheet("disc", arm + rim) for arm in arms]
