"""Bodies by slender-body theory in the flow that wings and tails leave along them, with cross-flow drag and friction.

Sources: M. M. Munk, NACA Report 184 (1924), with the apparent-mass factors of H. Lamb, Hydrodynamics, section 114;
H. Multhopp, NACA TM 1036 (1942) for the wing's flow; the body's own cross-flow at wings and fins is that of a dipole
in each cross-section (J. N. Nielsen, Missile Aerodynamics, McGraw-Hill 1960, ch. 3 and 5); H. J. Allen and E. W.
Perkins, NACA Report 1048 (1951) for the cross-flow drag; E. J. Hopkins, NACA RM A51C14 (1951) for the station where
the potential flow gives out.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dravik.aero.drawing.parts import Body
from dravik.aero.flow.friction import body_form_factor, friction
from dravik.frames import body_from_station

__all__ = ["SlenderBody", "apparent_mass_factor", "slender_bodies"]

Floats = NDArray[np.float64]


def apparent_mass_factor(fineness: float) -> float:
    """Return k2 - k1 of a prolate spheroid by its length over diameter (Lamb, section 114); 1 for a slim one."""
    slim = max(fineness, 1.0 + 1e-6)
    e = float(np.sqrt(1.0 - 1.0 / slim**2))
    log = float(np.log((1.0 + e) / (1.0 - e)))
    if e < 0.02:
        return 0.0  # a sphere: both factors are one half
    # Lamb's alpha_0 and beta_0 of a prolate spheroid
    along = 2.0 * (1.0 - e**2) / e**3 * (0.5 * log - e)
    across = 1.0 / e**2 - (1.0 - e**2) / (2.0 * e**3) * log
    return across / (2.0 - across) - along / (2.0 - along)


@dataclass(frozen=True)
class SlenderBody:
    """A body cut into pieces: ``points`` (m, 3) on its axis in body axes, ``size`` (m, 2) half height and half width.

    ``volume`` m^3 without openings, ``wetted`` m^2, ``factor`` the apparent-mass factor, ``drag`` the cross-flow drag.
    """

    points: Floats
    width: Floats
    height: Floats
    volume: float
    wetted: float
    fineness: float
    factor: float
    drag: float

    @property
    def core(self) -> Floats:
        """Return how near to a vortex the flow along the axis is still the flow around the whole body, m."""
        found: Floats = np.maximum(0.25 * (self.width + self.height), 1e-3)
        return found

    def friction_area(self, reynolds_per_metre: float) -> float:
        """Return drag area (m^2) by friction and form, the boundary layer turbulent."""
        length = float(self.points[0, 0] - self.points[-1, 0])
        return float(friction(reynolds_per_metre * length)) * body_form_factor(self.fineness) * self.wetted

    def sidewash(self, points: Floats) -> Floats:
        """Return what the body adds to the flow at points (n, 3), for unit flow from the left across it.

        Components across to the right and down, shape (n, 2). Plane potential flow around each cross-section (an
        ellipse counts as the circle of the same dipole); within the section as on its surface, ahead of and behind the
        body nothing.
        """
        axis = self.points[::-1]  # rising x, for the interpolation
        x = points[:, 0]
        centre_y, centre_z, wide, high = (
            np.interp(x, axis[:, 0], v) for v in (axis[:, 1], axis[:, 2], self.width[::-1], self.height[::-1])
        )
        # of an ellipse in cross flow: its radius squared where it is a circle
        dipole = 0.125 * high * (wide + high)
        y, z = points[:, 1] - centre_y, points[:, 2] - centre_z
        # inside the section the flow is that at its surface, without the singularity in its middle
        square = np.maximum(y**2 + z**2, np.maximum(dipole, 1e-12))
        # two-dimensional flow in each cross-section: nothing ahead of the nose or behind the tail
        beside = (x >= axis[0, 0]) & (x <= axis[-1, 0])
        strength = np.where(beside, dipole / square**2, 0.0)
        return np.stack([strength * (z**2 - y**2), -2.0 * strength * y * z], axis=1)

    def forces(self, air: Floats) -> tuple[Floats, Floats]:
        """Return places (k - 1, 3) and forces (states, k - 1, 3), unit density, of the air (states, k, 3) on the axis.

        Each piece is pushed by the growth of its cross-flow momentum, u d(S w)/dx, as far back as the flow is
        potential, and by its cross-flow drag; the air comes along its velocity relative to the body.
        """
        u, v, w = (-air[:, :, k] for k in range(3))
        # the section of a flow to the side has the height as its width, and the other way round
        across = [0.25 * np.pi * d**2 for d in (self.height, self.width)]
        middle = 0.5 * (self.points[1:] + self.points[:-1])
        ahead = 0.5 * (u[:, 1:] + u[:, :-1])
        # flying backwards the potential flow ends towards the other end
        share = np.where(ahead >= 0.0, self._potential(across[1]), self._potential(across[1][::-1])[::-1])
        force = np.zeros((len(air), len(middle), 3))
        speed = np.hypot(v, w)
        length = np.abs(np.diff(self.points[:, 0]))
        for k, flow, area, broad in ((1, v, across[0], self.height), (2, w, across[1], self.width)):
            # growth of cross-flow momentum along the body: the nose lifts, a closing tail pushes down
            force[:, :, k] = -self.factor * share * ahead * np.diff(area * flow, axis=1)
            # each slice drags like a cylinder across the flow
            pushed = 0.5 * self.drag * broad * speed * flow
            force[:, :, k] -= 0.5 * (pushed[:, 1:] + pushed[:, :-1]) * length
        return middle, force

    def _potential(self, area: Floats) -> Floats:
        """Return 1 for each piece ahead of the station where the flow gives out, 0 behind it."""
        x = np.abs(self.points[:, 0] - self.points[0, 0])
        if np.all(np.diff(area) >= 0.0):
            return np.ones(len(x) - 1)  # a blunt base: the flow follows the body to its end
        steepest = int(np.argmin(np.diff(area)))
        # Hopkins: potential flow gives out a little behind the steepest closing of the body
        end = (0.378 + 0.527 * x[steepest] / x[-1]) * x[-1]
        found: Floats = np.clip((end - x[:-1]) / np.diff(x), 0.0, 1.0)
        return found


def slender_bodies(body: Body, origin: tuple[float, float, float]) -> list[SlenderBody]:
    """Return a drawn body, and its mirror image if it has one, in body axes about ``origin`` (station axes)."""
    x, z, width, height = body.resampled()
    area = 0.25 * np.pi * width * height
    # circumference of an ellipse by the mean of its squared half axes
    girth = np.pi * np.sqrt(0.5 * (0.25 * width**2 + 0.25 * height**2)) * 2.0
    fineness = float((x[-1] - x[0]) / np.sqrt(4.0 / np.pi * np.max(area)))
    found = []
    for y in (body.y, -body.y) if body.mirrored else (body.y,):
        points = body_from_station(np.stack([x, np.full_like(x, y), z], axis=1), origin)
        found.append(
            SlenderBody(
                points,
                width,
                height,
                float(np.trapezoid(area, x)),
                body.wet * float(np.trapezoid(girth, x)),
                fineness,
                apparent_mass_factor(fineness),
                body.crossflow_drag,
            )
        )
    return found
