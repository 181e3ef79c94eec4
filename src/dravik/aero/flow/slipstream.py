"""Propeller slipstreams: the speed a disc adds, and how much of it a point in or near the stream feels.

Source: actuator disc (momentum theory): the far stream is faster by V (sqrt(1 + T/(q A)) - 1), narrower by
continuity; it gathers speed over the distance x behind the disc as (1 + x/sqrt(x^2 + R^2))/2, exact on the axis of the
vortex tube (B. W. McCormick, Aerodynamics of V/STOL Flight, Academic Press 1967, chapter 4). The stream follows the
resultant of its own and the free flow; its rotation is left out.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dravik.aero.drawing.parts import Propeller
from dravik.frames import body_from_station

__all__ = ["Disc", "discs"]

Floats = NDArray[np.float64]
EDGE = 0.15  # width of the smoothed edge of the slipstream, as a share of its radius


@dataclass(frozen=True)
class Disc:
    """A propeller disc in body axes: its engine, centre, radius, unit axis (the direction of thrust)."""

    engine: str
    centre: Floats
    radius: float
    axis: Floats
    immersed: float

    def added(self, thrust: Floats, area: float, free: Floats, points: Floats) -> Floats:
        """Return the velocity (states, n, 3) added to the air at points (n, 3), for unit airspeed.

        ``thrust`` (states) is T/(q area); ``free`` (states, 3) the air's velocity relative to the aircraft.
        """
        disc = np.pi * self.radius**2
        # far behind the disc the stream is faster by this share of the airspeed
        gain = np.sqrt(1.0 + np.maximum(thrust, 0.0) * area / disc) - 1.0
        # half of it at the disc: the stream leaves along the resultant of both
        stream = free - (0.5 * gain)[:, None] * self.axis
        along = stream / np.maximum(np.linalg.norm(stream, axis=1, keepdims=True), 1e-9)
        offset = points[None, :, :] - self.centre
        behind = np.einsum("knj,kj->kn", np.broadcast_to(offset, (len(thrust), *points.shape)), along)
        aside = np.linalg.norm(offset - behind[:, :, None] * along[:, None, :], axis=2)
        # a half at the disc, the whole far behind
        growth = 0.5 * (1.0 + behind / np.hypot(behind, self.radius))
        # continuity: the stream tube contracts as the air speeds up
        radius = self.radius * np.sqrt((1.0 + 0.5 * gain)[:, None] / (1.0 + gain[:, None] * growth))
        # a smooth edge: tables over thrust have no kink where a surface leaves the stream
        inside = 0.5 * (1.0 - np.tanh((aside - radius) / (EDGE * radius)))
        strength = self.immersed * gain[:, None] * growth * inside
        found: Floats = -strength[:, :, None] * self.axis
        return found


def discs(propeller: Propeller, origin: tuple[float, float, float]) -> list[Disc]:
    """Return the disc or the two discs of a drawn propeller, in body axes about ``origin`` (station axes)."""
    centre = body_from_station(np.array(propeller.position), origin)
    axis = np.array(propeller.axis) / np.linalg.norm(propeller.axis)
    mirror = np.array([1.0, -1.0, 1.0])
    found = [Disc(propeller.engines[0], centre, propeller.radius, axis, propeller.immersed)]
    if propeller.mirrored:
        left = Disc(propeller.engines[1], centre * mirror, propeller.radius, axis * mirror, propeller.immersed)
        found.append(left)
    return found
