"""Mass properties and their sum: the parallel-axis theorem, rotation, and whether a tensor is possible at all.

Source: any text on rigid bodies, such as H. Goldstein, Classical Mechanics, section 5.3.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError
from dravik.frames import dcm_from_euler

__all__ = ["Properties", "combine", "inertia_fault", "rotated", "share_table"]

Floats = NDArray[np.float64]
SLACK = 1e-9


@dataclass(frozen=True)
class Properties:
    """Mass in kg, centre of gravity (3) in m, and inertia tensor (3, 3) about it in kg m^2, both along body axes.

    The centre is counted from the datum. The tensor's off-diagonal elements are the negatives of the integrals of xy,
    xz, yz over the mass.
    """

    mass: float
    centre: Floats
    tensor: Floats

    def about(self, point: Floats) -> Floats:
        """Return the tensor about another point, by the parallel-axis theorem."""
        r = self.centre - point
        return self.tensor + self.mass * (float(r @ r) * np.eye(3) - np.outer(r, r))

    @property
    def products(self) -> tuple[float, float, float]:
        """Ixy, Ixz, Iyz: the integrals over the mass."""
        return float(-self.tensor[0, 1]), float(-self.tensor[0, 2]), float(-self.tensor[1, 2])


def combine(parts: Sequence[Properties]) -> Properties:
    """Return the properties of parts together.

    Parameters
    ----------
    parts : sequence of Properties
        Mass, centre and inertia of each.

    Returns
    -------
    Properties

    Raises
    ------
    DravikError
        When there is no mass.
    """
    masses = np.array([p.mass for p in parts])
    total = float(masses.sum())
    if not total > 0.0:
        raise DravikError("the parts have no mass together", expected="at least one part with a mass above zero")
    centres = np.array([p.centre for p in parts])
    centre = masses @ centres / total
    # the parallel-axis theorem for all parts at once
    r = centres - centre
    moved = float(masses @ (r * r).sum(axis=1)) * np.eye(3) - (masses[:, np.newaxis] * r).T @ r
    return Properties(total, centre, np.array([p.tensor for p in parts]).sum(axis=0) + moved)


def rotated(tensor: Floats, yaw: float, pitch: float, roll: float) -> Floats:
    """Return a part's tensor along body axes, the part turned by yaw, then pitch, then roll (rad)."""
    # nothing turned, nothing rounded: most parts stand along the aircraft
    if yaw == pitch == roll == 0.0:
        return tensor
    to_part = dcm_from_euler(roll, pitch, yaw)
    return np.asarray(to_part.T @ tensor @ to_part)


def inertia_fault(tensor: Floats) -> str:
    """Return what makes a tensor impossible for any body, or nothing.

    The principal moments are above or at zero, and none exceeds the sum of the others.
    """
    moments = np.linalg.eigvalsh(tensor)
    scale = float(np.max(np.abs(moments)))
    if moments[0] < -SLACK * scale:
        return f"a principal moment of inertia is {moments[0]:.4g} kg m^2"
    # equal for a flat plate; more than the sum is possible for no distribution of mass
    if moments[2] > (moments[0] + moments[1]) * (1.0 + SLACK) + SLACK * scale:
        a, b, c = (f"{m:.4g}" for m in moments)
        return f"the largest principal moment, {c}, exceeds the sum of the others, {a} + {b}"
    return ""


def share_table(parts: Mapping[str, Properties]) -> list[tuple[str, float, float, Floats, Floats]]:
    """Return each part's mass, share of the whole, centre, and what it adds to Ixx, Iyy, Izz of the whole.

    Parameters
    ----------
    parts : mapping of str to Properties
        Mass properties by name.

    Returns
    -------
    list of tuple (str, float, float, array of float, array of float)
        Name, mass (kg), share, centre (3, m), inertia (3, kg m^2).
    """
    whole = combine(list(parts.values()))
    return [
        (name, p.mass, p.mass / whole.mass, p.centre, np.diag(p.about(whole.centre)).copy())
        for name, p in parts.items()
    ]
