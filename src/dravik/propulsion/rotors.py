"""Rotors in any flow: blade elements around the disc, with momentum of each annulus in the resultant flow.

The induced velocity v of an annulus is the same all round, and its momentum goes with the resultant flow through the
disc: dT = 4 pi rho r F v sqrt(cross^2 + (axial + v)^2) dr (H. Glauert, R&M 1111, 1926; A. Gessow, G. C. Myers,
Aerodynamics of the Helicopter, 1952, ch. 8). At cross flow nought it is the theory of ``elements`` without swirl. In
descent the branch of the helicopter is kept: good to sinking at about the induced velocity of hover.
"""

from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dravik.constants import SEA_LEVEL_DENSITY
from dravik.errors import DravikError
from dravik.propulsion.blades import Blades
from dravik.tables import Axis, Table

__all__ = ["DiscLoads", "disc_loads", "disc_map", "planned_map"]

Floats = NDArray[np.float64]
# reach rounding of the widest bracket
HALVINGS = 44
# m/s: for the section's Mach correction only
SOUND = 340.0
LEAST_CROSS = 0.005  # cross-flow ratio used for derivatives by it where it is zero


class DiscLoads(NamedTuple):
    """Loads over states: thrust N, torque N m, force in the disc against the cross flow N, hub moment N m, inflow m/s.

    The hub moment is that of the advancing side's greater thrust. ``inflow`` is the induced velocity, mean over the
    disc's area.
    """

    thrust: Floats
    torque: Floats
    in_plane: Floats
    hub_moment: Floats
    inflow: Floats


def disc_loads(
    blades: Blades, *, axial: ArrayLike, cross: ArrayLike, rotation: ArrayLike, angle: ArrayLike,
    density: float = SEA_LEVEL_DENSITY, count: int = 30, around: int = 16,
) -> DiscLoads:  # fmt: skip
    """Return loads of a rotor at states of any common shape, blades rigid.

    ``axial`` m/s into the disc along the thrust (sinking is negative), ``cross`` m/s in the disc, ``rotation``
    rad/s above zero, ``angle`` rad at the reference station.

    Parameters
    ----------
    blades : Blades
        The blades.
    axial : array-like
        Into the disc along the thrust, m/s; sinking is negative.
    cross : array-like
        In the disc, m/s.
    rotation : array-like
        Angular velocity of the rotor, rad/s, above zero.
    angle : array-like
        Blade angle at the reference station, rad.
    density : float, default 1.225
        Air density, kg/m^3.
    count : int, default 30
        Stations along a blade.
    around : int, default 16
        Places around the disc.

    Returns
    -------
    DiscLoads

    Raises
    ------
    DravikError
        For a rotor that does not turn.
    """
    states = np.broadcast_arrays(*(np.asarray(a, dtype=float) for a in (axial, cross, rotation, angle)))
    shape = states[0].shape
    va, vc, omega, beta = (a.ravel()[:, None, None] for a in states)
    if np.any(omega <= 0.0):
        raise DravikError("the rotor does not turn", where=blades.name, expected="rotation above zero, rad/s")
    r, chord, twist, width = (a[None, :, None] for a in blades.laid_out(count))
    # azimuths midway between equal steps: the mean over them is exact for the first harmonics
    turn = np.sin(2.0 * np.pi * (np.arange(around) + 0.5) / around)[None, None, :]
    # the advancing blade meets the cross flow, the retreating one flees it
    tangential = omega * r + vc * turn
    pitch = beta + twist

    def forces(v: Floats) -> tuple[Floats, Floats]:
        """Return thrust and force against rotation of each element, all blades, N, mean over the turn's azimuths."""
        through = va + v
        total = np.hypot(tangential, through)
        phi = np.arctan2(through, tangential)
        lift, drag = blades.section.lift_and_drag(pitch - phi, total / SOUND)
        force = 0.5 * density * total**2 * chord * blades.blades * width
        return force * (lift * np.cos(phi) - drag * np.sin(phi)), force * (lift * np.sin(phi) + drag * np.cos(phi))

    def surplus(v: Floats) -> Floats:
        # Glauert: the mass flow through an annulus is that of the resultant flow, as for a wing in forward flight
        resultant = np.hypot(vc, va + v)
        loss = _tip_loss(blades, r, np.abs(va + v), omega)
        momentum = 4.0 * np.pi * density * r * loss * resultant * v * width
        found: Floats = forces(v)[0].mean(axis=2, keepdims=True) - momentum
        return found

    # bracket of the helicopter branch: in descent the induced velocity exceeds the sinking
    low = np.where(va >= 0.0, -0.5 * va, -va) * np.ones_like(r)
    high = np.abs(va) + 0.6 * omega * blades.radius * np.ones_like(r)
    for _ in range(HALVINGS):
        middle = 0.5 * (low + high)
        # more thrust than momentum asks for: the induced velocity must grow
        more = surplus(middle) > 0.0
        low, high = np.where(more, middle, low), np.where(more, high, middle)
    induced = 0.5 * (low + high)
    thrust, against = forces(induced)
    # weights of the mean over the disc
    area = r * width
    sums = (
        thrust.mean(axis=2).sum(axis=1), (against * r).mean(axis=2).sum(axis=1),
        (against * turn).mean(axis=2).sum(axis=1), (thrust * r * turn).mean(axis=2).sum(axis=1),
        (induced * area).sum(axis=(1, 2)) / area.sum(),
    )  # fmt: skip
    return DiscLoads(*(s.reshape(shape) for s in sums))


def _tip_loss(blades: Blades, r: Floats, through: Floats, omega: Floats) -> Floats:
    # angle of the helical wake at the element
    sine = np.maximum(through / np.hypot(through, omega * r), 1e-3)
    found: Floats = 2.0 / np.pi * np.arccos(np.exp(-0.5 * blades.blades * (blades.radius - r) / (r * sine)))
    return np.maximum(found, 1e-3)


def disc_map(
    blades: Blades, advance_ratios: ArrayLike, cross_ratios: ArrayLike, angles: ArrayLike, *, tip_mach: float = 0.3
) -> tuple[Table, ...]:
    """Return CT, CP, CN_cross and CM_cross as smooth tables over ``advance_ratio``, ``cross_ratio``, ``blade_angle``.

    An axis of one value is left out. Advance and cross ratio are the flow along and across the axis over n D; CN =
    N/(rho n^2 D^4) and CM = M/(rho n^2 D^5) are given by the cross ratio. ``tip_mach`` is that of the rotation.

    Parameters
    ----------
    blades : Blades
        The blades.
    advance_ratios : array-like
        Flow along the axis over n D, rising.
    cross_ratios : array-like
        Flow across the axis over n D, rising.
    angles : array-like
        Blade angles at the reference station, rad.
    tip_mach : float, default 0.3
        Mach number of the tips' rotation.

    Returns
    -------
    tuple of Table
        CT, CP, CN_cross, CM_cross.

    Raises
    ------
    DravikError
        For axes that do not rise.
    """
    named = {"advance_ratio": advance_ratios, "cross_ratio": cross_ratios, "blade_angle": angles}
    axes = {n: np.atleast_1d(np.asarray(v, dtype=float)) for n, v in named.items()}
    for name, values in axes.items():
        if not np.all(np.diff(values) > 0.0):
            raise DravikError(f"{values.tolist()} does not rise", where=name, expected="rising values")
    rotation, diameter = tip_mach * SOUND / blades.radius, 2.0 * blades.radius
    turns = rotation / (2.0 * np.pi)
    grid = np.meshgrid(*axes.values(), indexing="ij")
    # coefficients of the cross flow are divided by it: at zero their limit is taken a little beside
    mu = np.maximum(grid[1], LEAST_CROSS)
    loads = disc_loads(
        blades, axial=grid[0] * turns * diameter, cross=mu * turns * diameter, rotation=rotation, angle=grid[2]
    )
    per_thrust = turns**2 * diameter**4 * SEA_LEVEL_DENSITY
    columns = {
        "CT": loads.thrust / per_thrust, "CP": loads.torque * 2.0 * np.pi / (per_thrust * diameter),
        "CN_cross": loads.in_plane / (per_thrust * mu), "CM_cross": loads.hub_moment / (per_thrust * diameter * mu),
    }  # fmt: skip
    units = {"blade_angle": "rad"}
    kept = tuple(Axis(n, v, units.get(n, "")) for n, v in axes.items() if len(v) > 1)
    if not kept:
        raise DravikError("the map has one point", where=blades.name, expected="more than one advance ratio")
    shape = tuple(len(a.values) for a in kept)
    return tuple(Table(n, kept, v.reshape(shape), method="smooth") for n, v in columns.items())


def planned_map(blades: Blades) -> tuple[Table, ...]:
    """Return the map that the blades' file plans.

    Parameters
    ----------
    blades : Blades
        The blades.

    Returns
    -------
    tuple of Table

    Raises
    ------
    DravikError
        Where it plans none, and as ``disc_map``.
    """
    plan = blades.map
    if plan is None:
        raise DravikError("the blades' file plans no map", where=blades.name, expected="[map] with its axes")
    return disc_map(blades, plan.advance_ratio, plan.cross_ratio, plan.blade_angle, tip_mach=plan.tip_mach)
