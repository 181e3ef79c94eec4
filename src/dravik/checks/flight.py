"""Checks in flight: can the weight be carried, and have the derivatives the signs of the conventions."""

import math
from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft.craft import Aircraft, AircraftPlant
from dravik.checks.finding import Finding
from dravik.checks.polar import check_polar
from dravik.constants import SEA_LEVEL_DENSITY
from dravik.errors import DravikError
from dravik.surroundings.atmosphere import standard_air

__all__ = ["check_flight"]

Floats = NDArray[np.float64]
STEP = 1e-4
FAR = -1e6  # m: puts the launch rail out of reach


class _Sign(NamedTuple):
    """A derivative that has a sign: rate over state or effector, in plain words, and how bad the other sign is."""

    rate: str
    by: str
    sign: int
    symbol: str
    meaning: str
    severity: str
    do: str


_STABLE = "check the sign in the formula or table, and the side of the moment point the centre of gravity is on"
_DAMPED = "check the sign of the rate term"
_CONTROL = "check the sign against the documentation's page of conventions"
_SIGNS = (
    _Sign("q", "alpha", -1, "Cm_alpha", "the nose must go down when alpha grows", "warning", _STABLE),
    _Sign("p", "beta", -1, "Cl_beta", "sideslip from the right must roll it left", "warning", _STABLE),
    _Sign("r", "beta", +1, "Cn_beta", "sideslip from the right must turn the nose right", "warning", _STABLE),
    _Sign("q", "q", -1, "Cm_q", "pitch rate must be damped", "error", _DAMPED),
    _Sign("p", "p", -1, "Cl_p", "roll rate must be damped", "error", _DAMPED),
    _Sign("r", "r", -1, "Cn_r", "yaw rate must be damped", "error", _DAMPED),
    _Sign("beta", "beta", -1, "CY_beta", "side force must oppose sideslip", "error", _DAMPED),
    _Sign(
        "q",
        "elevator",
        -1,
        "Cm_elevator",
        "trailing edge down is positive, so the nose must go down",
        "error",
        _CONTROL,
    ),
    _Sign("p", "aileron", +1, "Cl_aileron", "positive aileron must roll right", "error", _CONTROL),
    _Sign(
        "r",
        "rudder",
        -1,
        "Cn_rudder",
        "trailing edge left is positive, so the nose must go left",
        "error",
        _CONTROL,
    ),
)


def check_flight(crafts: Sequence[Aircraft]) -> Iterator[Finding]:
    """Find derivatives of the wrong sign or size over the envelope, and speeds that the wing cannot carry.

    ``crafts`` is one aircraft in each of its loadings. Without an envelope it is checked at the
    speed where a lift coefficient of 0.5 carries the weight, and at one and a half times that speed; a finding says so.
    """
    first = crafts[0]
    if first.definition.aero is None or first.configuration.world.gravity_here == 0.0:
        return
    place = first.where("aero")
    wrong: dict[_Sign, list[str]] = {}
    slopes: list[float] = []
    uncarried: list[str] = []
    # a multi-rotor is stabilised by its control laws: the bare airframe is only required to be damped
    signs = [s for s in _SIGNS if not first.definition.mixers or (s.rate == s.by and s.by in "pqr")]
    winged = "CL" in first.definition.aero.coefficients
    looked = 0
    for craft in crafts:
        plant = craft.plant("air")
        for airspeed, altitude in _conditions(craft):
            looked += 1
            label = f"{airspeed:.4g} m/s {altitude:.5g} m {craft.loading_name}"
            try:
                z, u = _level(craft, plant, airspeed, altitude, carried=winged)
            except DravikError as error:
                yield Finding("error", place, str(error), "check the table against the envelope")
                continue
            except ValueError:
                uncarried.append(label)
                continue
            for sign in signs:
                value = _derivative(plant, z, u, sign)
                if value is not None and value * sign.sign <= 0.0 and not (value == 0.0 and sign.severity == "warning"):
                    wrong.setdefault(sign, []).append(label)
            if "CL" in craft.signals:
                slopes.append(_lift_slope(plant, z, u))
    if winged:
        yield from check_polar(first, *next(iter(_conditions(first))))

    def points_of(labels: list[str]) -> str:
        if len(labels) == looked:
            return "all over the envelope" if first.definition.envelope is not None else "at all that was looked at"
        return "at " + ", ".join(labels[:6]) + (f" and {len(labels) - 6} more" if len(labels) > 6 else "")

    if uncarried:
        text = f"the weight is not carried {points_of(uncarried)}, controls neutral, flaps up"
        remedy = "raise the lower airspeed, or check lift table, area and mass"
        yield Finding("warning", first.where("envelope", "airspeed"), text, remedy)
    for sign, where in wrong.items():
        points = points_of(where)
        text = f"{sign.symbol} has the wrong sign or is zero {points}: {sign.meaning}"
        yield Finding(sign.severity, place, text, sign.do)
    if slopes and not 0.5 < max(slopes) < 10.0:
        text = f"the lift slope is {max(slopes):.3g} per rad"
        hint = "this looks like a value per degree" if abs(max(slopes)) < 0.2 else "check the lift formula"
        yield Finding("warning", place, text, f"{hint}; expected 1 to 8")


def _conditions(craft: Aircraft) -> list[tuple[float, float]]:
    """Return airspeeds (m/s) and altitudes (m) to look at: ends and middle of the envelope, low and high.

    The speeds are those of the lowest altitude; higher up they are taken for the same dynamic pressure, up to the
    highest.
    """
    envelope, weight = craft.definition.envelope, craft.loading.mass * craft.configuration.world.gravity_here
    if envelope is not None:
        low, high = envelope.airspeed
        low = max(low, 0.1 * high)
        ground, top = (float(standard_air(h, 0.0)[2]) for h in envelope.altitude)
        faster = math.sqrt(ground / top)
        speeds = (low, 0.5 * (low + high), high)
        return [
            *((v, envelope.altitude[0]) for v in speeds),
            *((min(faster * v, high), envelope.altitude[1]) for v in speeds),
        ]
    speed = math.sqrt(2.0 * weight / (SEA_LEVEL_DENSITY * craft.definition.reference.area * 0.5))
    return [(speed, 0.0), (1.5 * speed, 0.0)]


def _level(
    craft: Aircraft, plant: AircraftPlant, airspeed: float, altitude: float, *, carried: bool
) -> tuple[Floats, Floats]:
    """Return the state in which the weight is carried, engines at a third of their range.

    What is not ``carried`` by a wing, as a rocket or a rotorcraft, flies straight along its axis instead.
    """
    u = craft.default_inputs()
    if craft.definition.rail is not None:
        u[craft.input_index("rail_altitude")] = FAR
    z = np.zeros(len(plant.state_names))
    z[2], z[3] = altitude, airspeed
    z[12:] = [s.initial for s in craft.tape.states]
    for i, name in enumerate(plant.state_names):
        if name.startswith("power_") and name in craft.limits:
            low, high = craft.limits[name]
            z[i] = low + 0.33 * (high - low)
    index = plant.state_names.index("alpha"), plant.state_names.index("theta")

    from scipy.optimize import brentq

    def sinking(alpha: float) -> float:
        z[index[0]] = z[index[1]] = alpha
        rate = float(plant.evaluate(0.0, z, u)[0][index[0]])
        craft.refuse_outside(plant.workspace)
        return rate

    if not carried:
        sinking(0.0)
        return z, u
    alpha = brentq(sinking, math.radians(-12.0), _first_balance(sinking))
    sinking(float(alpha))
    return z, u


def _first_balance(sinking: Callable[[float], float]) -> float:
    """Return the first angle of attack at which the lift exceeds the weight; ValueError when there is none."""
    for degrees in range(-11, 26):
        if sinking(math.radians(degrees)) < 0.0:
            return math.radians(degrees)
    raise ValueError("the weight is not carried")


def _derivative(plant: AircraftPlant, z: Floats, u: Floats, sign: _Sign) -> float | None:
    """Return the slope of a rate by central differences; None when the aircraft has no such state or control.

    A control without dynamics is no state: it is moved by its own command.
    """
    i = plant.state_names.index(sign.rate)
    names = [n for n in (sign.by, f"{sign.by}_command", f"{sign.by}_increment") if n in plant.input_names]
    if sign.by not in plant.state_names and not names:
        return None
    sides = []
    for step in (STEP, -STEP):
        moved, inputs = z.copy(), u.copy()
        if sign.by in plant.state_names:
            moved[plant.state_names.index(sign.by)] += step
        else:
            inputs[plant.input_names.index(names[0])] += step
        sides.append(plant.evaluate(0.0, moved, inputs)[0][i])
    return float((sides[0] - sides[1]) / (2.0 * STEP))


def _lift_slope(plant: AircraftPlant, z: Floats, u: Floats) -> float:
    k, lift = plant.state_names.index("alpha"), plant.output_names.index("CL")
    moved = z.copy()
    moved[k] += STEP
    higher = plant.evaluate(0.0, moved, u)[1][lift]
    return float((higher - plant.evaluate(0.0, z, u)[1][lift]) / STEP)
