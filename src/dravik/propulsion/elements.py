"""Blade elements and momentum: the flow at each element, and the loads of the whole rotor.

At each element the axial and tangential momentum of its annulus balance the section's forces, with Prandtl's losses
at tip and root. The one unknown is the angle of flow phi:
sin^2 - s cn/(4F) = lambda (sin cos + s ct/(4F)) with the solidity s, lambda = V/(Omega r), and the section's force
coefficients cn along the axis and ct in the disc; in this form it holds at standstill too.

Sources: H. Glauert, Airplane Propellers, in W. F. Durand, Aerodynamic Theory IV, 1935; the reduction to one unknown
after S. A. Ning, Wind Energy 17 (2014), 1327.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dravik.constants import SEA_LEVEL_DENSITY
from dravik.errors import DravikError
from dravik.propulsion.blades import Blades

__all__ = ["BladeFlow", "RotorLoads", "blade_flow", "rotor_loads"]

Floats = NDArray[np.float64]
# angles at which the balance is looked at first, then halvings of the interval: 50 reach rounding
SCAN, HALVINGS = 90, 50
# Prandtl's factor is zero at the very tip, where nothing is carried: kept off zero in divisions
LEAST_LOSS = 1e-4
# m/s: for the section's Mach correction only
SOUND = 340.0


@dataclass(frozen=True)
class BladeFlow:
    """The flow at elements (states, n): ``phi`` rad, ``axial`` and ``tangential`` velocity and ``speed`` m/s.

    ``alpha`` rad with ``lift`` and ``drag`` coefficients; ``thrust`` N, ``torque`` N m and ``profile_loss`` W of each
    element of all blades; ``r`` and ``width`` (n) in m.
    """

    r: Floats
    width: Floats
    phi: Floats
    axial: Floats
    tangential: Floats
    speed: Floats
    alpha: Floats
    lift: Floats
    drag: Floats
    thrust: Floats
    torque: Floats
    profile_loss: Floats


@dataclass(frozen=True)
class RotorLoads:
    """Loads over states: N, N m, W; CT = T/(rho n^2 D^4), CP = P/(rho n^3 D^5), advance ratio V/(n D), efficiency."""

    thrust: Floats
    torque: Floats
    power: Floats
    ct: Floats
    cp: Floats
    advance_ratio: Floats
    efficiency: Floats


def blade_flow(
    blades: Blades,
    *,
    speed: ArrayLike,
    rotation: ArrayLike,
    angle: ArrayLike,
    density: float = SEA_LEVEL_DENSITY,
    count: int = 40,
) -> BladeFlow:
    """Return the flow along the blades at states of any common shape (flattened).

    ``speed`` m/s along the axis, ``rotation`` rad/s above zero, ``angle`` rad of the blade at its reference
    station.

    Parameters
    ----------
    blades : Blades
        The blades.
    speed : array-like
        Along the axis, m/s.
    rotation : array-like
        Angular velocity of the rotor, rad/s, above zero.
    angle : array-like
        Blade angle at the reference station, rad.
    density : float, default 1.225
        Air density, kg/m^3.
    count : int, default 40
        Stations along a blade.

    Returns
    -------
    BladeFlow

    Raises
    ------
    DravikError
        Where no flow balances forces and momentum, with the state.
    """
    v, omega, beta = (np.atleast_1d(a).ravel()[:, None] for a in np.broadcast_arrays(
        np.asarray(speed, dtype=float), np.asarray(rotation, dtype=float), np.asarray(angle, dtype=float)))  # fmt: skip
    if np.any(omega <= 0.0):
        raise DravikError("the rotor does not turn", where=blades.name, expected="rotation above zero, rad/s")
    r, chord, twist, width = blades.laid_out(count)
    # of the annulus: the share of its circumference that blades cover
    solidity = blades.blades * chord / (2.0 * np.pi * r)
    ahead = v / (omega * r)
    pitch = beta + twist
    mach = np.hypot(v, omega * r) / SOUND

    def balance(phi: Floats) -> Floats:
        lift, drag = blades.section.lift_and_drag(pitch - phi, mach)
        cn, ct = lift * np.cos(phi) - drag * np.sin(phi), lift * np.sin(phi) + drag * np.cos(phi)
        share = solidity / (4.0 * _losses(blades, r, phi))
        found: Floats = np.sin(phi) ** 2 - share * cn - ahead * (np.sin(phi) * np.cos(phi) + share * ct)
        return found

    # one root of one function for each element: robust where iterations of the induction factors diverge
    phi = _root(blades, balance, np.broadcast_shapes(ahead.shape, pitch.shape), v, beta)
    lift, drag = blades.section.lift_and_drag(pitch - phi, mach)
    cn, ct = lift * np.cos(phi) - drag * np.sin(phi), lift * np.sin(phi) + drag * np.cos(phi)
    share = solidity / (4.0 * _losses(blades, r, phi))
    # tangential momentum: the wake turns with the blades and takes rotation from the relative flow
    swirl = share * ct / (np.sin(phi) * np.cos(phi))
    tangential = omega * r / (1.0 + swirl)
    total = tangential / np.cos(phi)
    # of all blades over the element's width
    force = 0.5 * density * total**2 * chord * blades.blades * width
    return BladeFlow(
        r, width, phi, total * np.sin(phi), tangential, total, pitch - phi, lift, drag, force * cn, force * ct * r,
        force * drag * total,
    )  # fmt: skip


def _losses(blades: Blades, r: Floats, phi: Floats) -> Floats:
    """Return Prandtl's factor for what is lost at tip and root."""
    root = blades.stations[0].r * blades.radius
    # the helical wake sheets are |sin phi| apart: Prandtl's exponent
    sine = np.maximum(np.abs(np.sin(phi)), 1e-6)
    tip = np.exp(-0.5 * blades.blades * (blades.radius - r) / (r * sine))
    hub = np.exp(-0.5 * blades.blades * (r - root) / (root * sine))
    found: Floats = np.maximum((2.0 / np.pi) ** 2 * np.arccos(tip) * np.arccos(hub), LEAST_LOSS)
    return found


def _root(
    blades: Blades, balance: Callable[[Floats], Floats], shape: tuple[int, ...], v: Floats, beta: Floats
) -> Floats:
    """Return the first angle of flow above zero at which the balance changes sign, by scanning and halving."""
    # both ends are singular: sin and cos divide the balance
    angles = np.linspace(1e-4, 0.5 * np.pi - 1e-4, SCAN)
    values = np.stack([balance(np.full(shape, a)) for a in angles])
    change = np.sign(values[1:]) != np.sign(values[:-1])
    if not np.all(change.any(axis=0)):
        state = int(np.argwhere(~change.any(axis=0))[0][0])
        raise DravikError(
            f"no flow balances the blade at {v[state, 0]:.4g} m/s, {np.degrees(beta[state, 0]):.4g} deg",
            where=blades.name, hint="a blade angle at which it pulls, or less speed",
        )  # fmt: skip
    # the first change from below is the branch of a lifting propeller; those above it are stalled
    first = change.argmax(axis=0)
    low, high = angles[first], angles[first + 1]
    sign = np.sign(np.take_along_axis(values, first[None], axis=0)[0])
    for _ in range(HALVINGS):
        middle = 0.5 * (low + high)
        left = np.sign(balance(middle)) == sign
        low, high = np.where(left, middle, low), np.where(left, high, middle)
    found: Floats = 0.5 * (low + high)
    return found


def rotor_loads(
    blades: Blades,
    *,
    speed: ArrayLike,
    rotation: ArrayLike,
    angle: ArrayLike,
    density: float = SEA_LEVEL_DENSITY,
    count: int = 40,
) -> RotorLoads:
    """Return loads of the whole rotor, in the common shape of the states; arguments as for ``blade_flow``.

    Parameters
    ----------
    blades : Blades
        The blades.
    speed : array-like
        Along the axis, m/s.
    rotation : array-like
        Angular velocity of the rotor, rad/s, above zero.
    angle : array-like
        Blade angle at the reference station, rad.
    density : float, default 1.225
        Air density, kg/m^3.
    count : int, default 40
        Stations along a blade.

    Returns
    -------
    RotorLoads
    """
    v, omega, beta = np.broadcast_arrays(*(np.asarray(a, dtype=float) for a in (speed, rotation, angle)))
    flow = blade_flow(blades, speed=v, rotation=omega, angle=beta, density=density, count=count)
    thrust, torque = (a.sum(axis=1).reshape(v.shape) for a in (flow.thrust, flow.torque))
    turns, diameter = omega / (2.0 * np.pi), 2.0 * blades.radius
    power = torque * omega
    with np.errstate(divide="ignore", invalid="ignore"):
        # a windmilling propeller has no efficiency
        efficiency = np.where(power > 0.0, thrust * v / power, np.nan)
    return RotorLoads(
        thrust, torque, power, thrust / (density * turns**2 * diameter**4), power / (density * turns**3 * diameter**5),
        v / (turns * diameter), efficiency,
    )  # fmt: skip
