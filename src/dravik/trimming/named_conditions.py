"""The statements of named conditions: straight flight, turns, pulls, rolls, hover, engines at rest."""

import math

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.constants import STANDARD_GRAVITY
from dravik.errors import DravikError, nearest
from dravik.formula import StateSlot
from dravik.kernel.program import GRAVITY
from dravik.motion.minimal_coordinates import N_CHART
from dravik.trimming.condition import Condition, Manoeuvre
from dravik.trimming.statement import Equation, Free, Statement, constant_limits, coordinates_of, states_at_rest
from dravik.units import in_si, kind_of_unit

__all__ = ["add_states", "has_level_thrust", "pose", "settling", "throttles_of"]

Floats = NDArray[np.float64]
_RIGID = ("airspeed", "alpha", "beta", "p", "q", "r")


def pose(craft: Aircraft, condition: Condition) -> Statement:
    """Return the statement of a condition: flight on a wing, straight or in a manoeuvre; hover and steep flight."""
    u = craft.default_inputs()
    for name, value in condition.inputs.items():
        u[craft.input_index(name)] = value
    z = np.zeros(N_CHART + len(craft.tape.states))
    z[0], z[1], z[2], z[8] = condition.north, condition.east, condition.altitude, condition.heading
    # angles to the flow are singular in hover and across the nose; velocities along the body are not
    in_body = condition.is_steep or condition.is_headed or condition.is_sideways
    free, equations = _in_body_velocities(condition, z, u, craft) if in_body else _on_a_wing(condition, z, craft)
    # what the condition gives is a follower's value at once: from far away a limit in a law may hide every slope
    heading = math.remainder(condition.heading, 2.0 * math.pi)  # as the signals have it
    known = {"altitude": condition.altitude, "psi": heading, "track": heading}
    known |= {"north": condition.north, "east": condition.east, "airspeed": condition.airspeed}
    for name, spec in craft.inputs.items():
        if spec.follows:
            begin = min(max(known.get(spec.follows, spec.default), spec.low), spec.high)
            free.append(Free(name, begin, 1.0, spec.low, spec.high))
            equations.append(Equation(name, other=spec.follows))
        elif (spec.trim or name in condition.free) and name not in condition.inputs:
            span = spec.high - spec.low
            bounded = math.isfinite(span)
            # a throttle starts somewhat below the middle: at idle or at full many engines have no slope
            start = spec.low + 0.4 * span if bounded and spec.low >= 0.0 else spec.default
            free.append(Free(name, start, 0.5 * span if bounded else 1.0, spec.low, spec.high))
    add_states(craft, z, free, equations)
    free = _guessed(free, condition, craft)
    # a free sideslip or speed needs a control that is given instead: counted before it is solved
    is_sure = condition.sideslip is not None or condition.bank is not None or condition.is_coordinated
    is_checked = is_sure and not condition.is_speed_free
    return Statement(
        str(condition), "body" if in_body else "air", z, u, tuple(free), tuple(equations), is_checked,
        condition.is_momentary,
    )  # fmt: skip


def throttles_of(craft: Aircraft) -> dict[str, tuple[float, float]]:
    """Return the ranges of the inputs that trims move and whose range begins at zero or above: throttles."""
    return {
        name: (spec.low, spec.high) for name, spec in craft.inputs.items()
        if spec.trim and spec.low >= 0.0 and math.isfinite(spec.high)
    }  # fmt: skip


def has_level_thrust(craft: Aircraft, condition: Condition) -> bool:
    """Whether a condition is a pull on a wing, for which the thrust of level flight is kept."""
    kind = condition.manoeuvre
    return kind is not None and kind.kind == "pull" and not craft.definition.mixers


def add_states(craft: Aircraft, z: Floats, free: list[Free], equations: list[Equation]) -> None:
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
                f"this trim does not move {name}: a guess of it means nothing", where="guess",
                expected=", ".join(names),
                hint=nearest(name, names),
            )  # fmt: skip
        i = names.index(alias)
        own = found[i]
        number = in_si(value, kind_of_unit(craft.signal(alias).unit), where=f"guess {name}")
        found[i] = Free(alias, min(max(number, own.low), own.high), own.scale, own.low, own.high, own.hard)
    return found


def _on_a_wing(condition: Condition, z: Floats, craft: Aircraft) -> tuple[list[Free], list[Equation]]:
    """Return the unknowns and equations of the rigid body in airspeed, alpha and beta."""
    manoeuvre, load, bank, turning = condition.manoeuvre, 1.0, condition.bank or 0.0, 0.0
    if manoeuvre is not None:
        load, bank, turning = _first_guess(manoeuvre, condition)
    # 3 deg at one g: near enough to where wings fly for Newton's method
    alpha = 0.05 * load
    z[3], z[4], z[5], z[6] = condition.airspeed, alpha, condition.sideslip or 0.0, bank
    # the nose stands above the path by alpha, in a bank by its vertical part
    z[7] = condition.slope + alpha * math.cos(bank)
    free = [Free("alpha", alpha, 1.0, -1.4, 1.4), Free("theta", float(z[7]), 1.0, -1.55, 1.55)]
    # in a pull the thrust is that of level flight: the speed falls as it will
    rigid = _RIGID[1:] if has_level_thrust(craft, condition) else _RIGID
    equations = [Equation(name, is_rate=True) for name in rigid]
    equations += _path(condition, craft)
    if condition.is_speed_free:
        # hard: below zero the dynamic pressure would rise again, and a search would settle there
        free.append(Free("airspeed", condition.airspeed, 0.3 * condition.airspeed, 0.1, hard=True))
    if condition.track is not None:
        free.append(Free("psi", condition.track))
        equations.append(Equation("track", condition.track, is_direction=True))
    if manoeuvre is not None and manoeuvre.kind == "turn":
        if manoeuvre.by == "load_factor":
            manoeuvre = Manoeuvre("turn", "rate", _turn_rate(craft, condition, manoeuvre.value))
        _add_turn(manoeuvre, condition, free, equations, bank, turning)
    elif manoeuvre is not None and manoeuvre.kind == "roll":
        _add_roll(manoeuvre.value, condition, free, equations, craft)
    else:
        if manoeuvre is not None:
            z[10] = manoeuvre.value if manoeuvre.by == "rate" else _pull_rate(craft, condition, manoeuvre.value)
        if condition.bank is None:
            free.append(Free("phi", 0.0, 1.0, -1.5, 1.5))
        if condition.sideslip is None:
            free.append(Free("beta", 0.0, 1.0, -1.4, 1.4))
    return free, equations


def _path(condition: Condition, craft: Aircraft) -> list[Equation]:
    """Return the equation of the flight path; none where it is free."""
    blows = craft.configuration.world.wind.model_fields_set or any(n.startswith("wind_") for n in condition.inputs)
    if condition.flight_path == 0.0 and blows:
        # level flight said by its climb: over a fixed point in wind a path over the ground has no angle
        return [Equation("climb_rate", 0.0)]
    if condition.path_is_free:
        return []
    if condition.climb_rate is not None:
        return [Equation("climb_rate", condition.climb_rate)]
    if condition.manoeuvre is not None and condition.manoeuvre.kind == "turn":
        # in wind the path over the ground changes all along a turn, the rate of climb does not
        return [Equation("climb_rate", condition.airspeed * math.sin(condition.slope))]
    return [Equation("flight_path", condition.slope)]


def _first_guess(manoeuvre: Manoeuvre, condition: Condition) -> tuple[float, float, float]:
    """Return load factor, bank (rad) and rate of turn (rad/s) of a point mass in the manoeuvre."""
    speed, value = condition.airspeed, manoeuvre.value
    if manoeuvre.kind == "pull":
        load = value if manoeuvre.by == "load_factor" else 1.0 + value * speed / STANDARD_GRAVITY
        return load, 0.0, 0.0
    if manoeuvre.kind == "roll":
        return 1.0, condition.bank or 0.0, 0.0
    level = speed * math.cos(condition.slope)
    if manoeuvre.by == "bank":
        bank = value
    elif manoeuvre.by == "rate":
        bank = math.atan(value * level / STANDARD_GRAVITY)
    elif manoeuvre.by == "radius":
        bank = math.atan(level**2 / (STANDARD_GRAVITY * value))
    else:
        bank = math.copysign(math.acos(min(1.0, 1.0 / abs(value))), value)
    return 1.0 / math.cos(bank), bank, STANDARD_GRAVITY * math.tan(bank) / max(level, 1.0)


def _turn_rate(craft: Aircraft, condition: Condition, load: float) -> float:
    """Return the rate (rad/s) of a steady turn of a load factor: lift over weight, normal to the flight path.

    The lift carries the weight across the path and what the turn needs inwards: n^2 = cos^2 g + (V cos g w/gravity)^2.
    """
    level = math.cos(condition.slope)
    inwards = math.sqrt(max(load**2 - level**2, 0.0)) if abs(load) > 1.0 else 0.0
    return math.copysign(_gravity(craft) * inwards / (condition.airspeed * level), load)


def _pull_rate(craft: Aircraft, condition: Condition, load: float) -> float:
    """Return the pitch rate (rad/s) of a pull or push to a load factor: lift over weight, normal to the flight path."""
    return _gravity(craft) * (load - math.cos(condition.slope)) / condition.airspeed


def _gravity(craft: Aircraft) -> float:
    return float(craft.program.numbers[GRAVITY])


def _add_turn(
    manoeuvre: Manoeuvre, condition: Condition, free: list[Free], equations: list[Equation], bank: float, rate: float
) -> None:
    """Add a steady turn: attitude but for the heading is constant, and the rates follow from that."""
    # a turn about the vertical, seen in the body: mostly pitch and yaw rate, in a climb some roll rate
    start = (-rate * math.sin(condition.slope), rate * math.sin(bank), rate * math.cos(bank))
    free += [Free(name, value, 0.1) for name, value in zip("pqr", start, strict=True)]
    equations += [Equation(name, is_rate=True) for name in ("phi", "theta")]
    if manoeuvre.by != "bank":
        free.append(Free("phi", bank, 1.0, -1.55, 1.55))
    if manoeuvre.by in ("rate", "radius"):
        level = condition.airspeed * math.cos(condition.slope)
        turning = manoeuvre.value if manoeuvre.by == "rate" else level / manoeuvre.value
        equations.append(Equation("psi", turning, is_rate=True))
    if condition.sideslip is None:
        free.append(Free("beta", 0.0, 1.0, -1.4, 1.4))
        if condition.is_coordinated:
            equations.append(Equation("ny"))


def _add_roll(rate: float, condition: Condition, free: list[Free], equations: list[Equation], craft: Aircraft) -> None:
    """Add a steady roll about the velocity, coordinated, without pitch rate, as the bank passes the one given.

    Lift and weight balance at that bank; sideslip and yaw rate follow from the side forces of the roll.
    """
    # p b/2V about the stability axis, weighted back to rad/s so that its residual compares with the others
    half = 0.5 * craft.definition.reference.span / condition.airspeed
    free += [Free("p", rate, 0.1), Free("r", 0.0, 0.1), Free("beta", 0.0, 1.0, -1.4, 1.4)]
    equations.append(Equation("p_hat_stability", rate * half, weight=1.0 / half))
    equations.append(Equation("ny"))


def _in_body_velocities(
    condition: Condition, z: Floats, u: Floats, craft: Aircraft
) -> tuple[list[Free], list[Equation]]:
    """Return the unknowns and equations of the rigid body in u, v, w: hover, steep paths, a track across the nose."""
    path = condition.slope
    course = condition.heading if condition.track is None else condition.track
    if condition.is_sideways:
        # from the flow's direction: at a right angle the sideslip itself has no slope
        course = condition.heading + (condition.sideslip or 0.0)
    # relative to the air; the wind is added to each component below
    level = condition.airspeed * math.cos(path)
    wanted = [level * math.cos(course), level * math.sin(course), condition.airspeed * math.sin(path)]
    scale, across = max(1.0, condition.airspeed), course - condition.heading
    has_course = condition.is_headed or condition.is_sideways
    guess = (level * math.cos(across), level * math.sin(across), 0.0) if has_course else (0.0, 0.0, 0.0)
    free = [Free(name, value, scale) for name, value in zip("uvw", guess, strict=True)]
    free += [Free(name, 0.0, 1.0, -1.5, 1.5) for name in ("phi", "theta")]
    equations = [Equation(name, is_rate=True) for name in ("u", "v", "w", "p", "q", "r")]
    if condition.is_headed:
        equations += [Equation("airspeed", condition.airspeed), Equation("track", course, is_direction=True)]
        return free, [*equations, *_path(condition, craft)]
    air = craft.air_at((condition.north, condition.east, condition.altitude), u)
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
