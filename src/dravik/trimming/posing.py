"""The statements of named conditions: straight flight, hover and steep flight, standing, engines at rest."""

import math

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.constants import STANDARD_GRAVITY
from dravik.errors import DravikError, nearest
from dravik.formula import StateSlot
from dravik.frames import body_from_station
from dravik.kernel.chart import N_CHART
from dravik.trimming.condition import Condition
from dravik.trimming.statement import Equation, Free, Statement, constant_limits, coordinates_of, states_at_rest
from dravik.units import in_si, kind_of_unit

__all__ = ["pose", "settling", "standing"]

Floats = NDArray[np.float64]
_RIGID = ("airspeed", "alpha", "beta", "p", "q", "r")


def pose(craft: Aircraft, condition: Condition) -> Statement:
    """Return the statement of straight flight, or of hover, and of flight straight up or down."""
    u = craft.default_inputs()
    for name, value in condition.inputs.items():
        u[craft.input_index(name)] = value
    z = np.zeros(N_CHART + len(craft.tape.states))
    z[0], z[1], z[2], z[8] = condition.north, condition.east, condition.altitude, condition.heading
    free, equations = (_steep if condition.is_steep else _on_a_wing)(condition, z, u, craft)
    for name, spec in craft.inputs.items():
        if spec.follows:
            free.append(Free(name, spec.default, 1.0, spec.low, spec.high))
            equations.append(Equation(name, other=spec.follows))
        elif spec.trim and name not in condition.inputs:
            span = spec.high - spec.low
            bounded = math.isfinite(span)
            start = spec.low + 0.4 * span if bounded and spec.low >= 0.0 else spec.default
            free.append(Free(name, start, 0.5 * span if bounded else 1.0, spec.low, spec.high))
    _add_states(craft, z, free, equations)
    free = _guessed(free, condition, craft)
    coordinates = "body" if condition.is_steep else "air"
    return Statement(str(condition), coordinates, z, u, tuple(free), tuple(equations), is_checked=True)


def _add_states(craft: Aircraft, z: Floats, free: list[Free], equations: list[Equation]) -> None:
    """Add states of actuators, engines and formulas as unknowns whose rates are zero, at their initial values."""
    still = {f.name: (f, e) for f, e in states_at_rest(craft)}
    for i, slot in enumerate(craft.tape.states):
        z[N_CHART + i] = still[slot.name][0].start if slot.name in still else slot.initial
    free.extend(f for f, _ in still.values())
    equations.extend(e for _, e in still.values())


def _guessed(free: list[Free], condition: Condition, craft: Aircraft) -> list[Free]:
    """Start the search where the condition's guess says; raises DravikError for what the search does not move."""
    names, found = [f.name for f in free], list(free)
    for name, value in condition.guess.items():
        alias = next((n for n in (name, f"{name}_increment", f"{name}_command") if n in names), "")
        if not alias:
            raise DravikError(
                f"a guess of {name}, which this trim does not move", where="guess", expected=", ".join(names),
                hint=nearest(name, names),
            )  # fmt: skip
        i = names.index(alias)
        own = found[i]
        number = in_si(value, kind_of_unit(craft.signal(alias).unit), where=f"guess {name}")
        found[i] = Free(alias, min(max(number, own.low), own.high), own.scale, own.low, own.high, own.hard)
    return found


def _on_a_wing(
    condition: Condition, z: Floats, u: Floats, craft: Aircraft
) -> tuple[list[Free], list[Equation]]:  # fmt: skip
    """Return the angles to the flow, and the equations of the rigid body in them."""
    z[3], z[5] = condition.airspeed, condition.sideslip
    alpha = 0.05
    z[4], z[7] = alpha, (condition.flight_path or 0.0) + alpha
    free = [Free("alpha", alpha, 1.0, -1.4, 1.4), Free("theta", float(z[7]), 1.0, -1.55, 1.55)]
    if condition.bank is None:
        free.append(Free("phi", 0.0, 1.0, -1.5, 1.5))
    else:
        z[6] = condition.bank
        free.append(Free("beta", 0.0, 1.0, -1.4, 1.4))
    equations = [Equation(name, is_rate=True) for name in _RIGID]
    if condition.flight_path is not None:
        equations.append(Equation("flight_path", condition.flight_path))
    return free, equations


def _steep(condition: Condition, z: Floats, u: Floats, craft: Aircraft) -> tuple[list[Free], list[Equation]]:
    """Return body velocities and attitude, and the equations that the velocity over the ground is the one wanted."""
    path = condition.flight_path or 0.0
    level = condition.airspeed * math.cos(path)
    wanted = [
        level * math.cos(condition.heading),
        level * math.sin(condition.heading),
        condition.airspeed * math.sin(path),
    ]
    air = craft.air_at((condition.north, condition.east, condition.altitude), u)
    scale = max(1.0, condition.airspeed)
    free = [Free(name, 0.0, scale) for name in ("u", "v", "w")]
    free += [Free(name, 0.0, 1.0, -1.5, 1.5) for name in ("phi", "theta")]
    equations = [Equation(name, is_rate=True) for name in ("u", "v", "w", "p", "q", "r")]
    for name, rate, wind in zip(("north", "east", "altitude"), wanted, air, strict=True):
        equations.append(Equation(name, rate + wind, is_rate=True))
    return free, equations


def settling(craft: Aircraft, state: Floats, inputs: Floats) -> Statement:
    """Return the statement that states of engines, actuators and formulas are steady while the rigid body is held."""
    z, names = craft.plant("body").from_state(state, inputs), coordinates_of(craft, "body")
    pairs = states_at_rest(craft)
    free = tuple(
        Free(f.name, float(z[names.index(f.name)]), f.scale, *constant_limits(craft, _slot(craft, f.name)), True)
        for f, _ in pairs
    )
    return Statement(
        "engines at rest", "body", z, np.array(inputs, dtype=float), free, tuple(e for _, e in pairs), True
    )


def _slot(craft: Aircraft, name: str) -> StateSlot:
    return next(slot for slot in craft.tape.states if slot.name == name)


def standing(craft: Aircraft, place: tuple[float, float], heading: float, inputs: Floats) -> Statement:
    """Return the statement of an aircraft at rest on its gear, legs compressed and attitude tilted by its weight.

    ``place`` is north and east (m). The search starts with the feet pressed in twice as far as the weight would.
    """
    legs = craft.definition.gear.values()
    centre = body_from_station(np.array(craft.loading.cg))
    lowest = max(float(body_from_station(np.array(leg.position))[2] - centre[2]) for leg in legs)
    pressed = craft.loading.mass * STANDARD_GRAVITY / sum(leg.stiffness for leg in legs)
    state = craft.state(position=(*place, 0.0), velocity=(0.0, 0.0, 0.0), attitude=(0.0, 0.0, heading))
    ground = craft.values(state, inputs, ["ground_height"])["ground_height"]
    z = np.zeros(N_CHART + len(craft.tape.states))
    z[0], z[1], z[2], z[8] = *place, ground + lowest - 2.0 * pressed, heading
    free = [
        Free("altitude", float(z[2]), pressed),
        Free("theta", 0.0, 1.0, -1.5, 1.5),
        Free("phi", 0.0, 1.0, -1.5, 1.5),
    ]
    equations = [Equation(name, is_rate=True) for name in ("w", "q", "p")]
    _add_states(craft, z, free, equations)
    return Statement("at rest on the ground", "body", z, inputs, tuple(free), tuple(equations), True)
