"""On the ground: standing on the gear, rolling along, and with the nose up before lift-off."""

import math
from collections.abc import Mapping
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.constants import STANDARD_GRAVITY
from dravik.errors import DravikError
from dravik.frames import body_from_station
from dravik.motion.minimal_coordinates import N_CHART
from dravik.trimming.condition import Quantity
from dravik.trimming.named_conditions import add_states
from dravik.trimming.outcomes import at_stop, report
from dravik.trimming.residuals import aircraft_search
from dravik.trimming.result import TrimPoint
from dravik.trimming.statement import Equation, Free, Statement, coordinates_of
from dravik.units import in_si

__all__ = ["on_ground"]

Floats = NDArray[np.float64]
MOST_TILT = 0.5  # rad: largest pitch or bank of an aircraft that counts as standing or rolling
HELD = 1e-6  # largest residual of an aircraft on the ground, m/s^2 and rad/s^2
RUNNING = 0.05  # 1/s: rate of an engine's scaled states below which it counts as settled in a roll that goes on anyway
PRESSED = (2.0, 1.0, 0.5, 4.0)  # of what the weight presses the feet in: where the search for standing begins
SLIDING = 1.0  # m: deflection of a rolling foot along its wheel, beyond any that friction can hold
STANDING = 1e-3  # m/s: slower is standing


def on_ground(
    craft: Aircraft, *, airspeed: Quantity = 0.0, pitch: Quantity | None = None, heading: Quantity = 0.0,
    north: Quantity = 0.0, east: Quantity = 0.0, inputs: Mapping[str, Quantity] | None = None,
) -> TrimPoint:  # fmt: skip
    """Return the aircraft on its gear, pressed in as far as the weight less the lift does, engines settled.

    At an airspeed it gathers or loses speed as ``airspeed_dot`` says, while pitch, bank and height stand still.

    Parameters
    ----------
    craft : Aircraft
        The aircraft, with gear, in a world with ground.
    airspeed : str or float, default 0
        Airspeed of a roll straight ahead, m/s.
    pitch : str or float, optional
        Pitch angle, rad, such as that of lift-off: the control that pitches it most is found too.
    heading : str or float, default 0
        Heading, rad.
    north, east : str or float, default 0
        The place, m from the origin.
    inputs : mapping of str to str or float, optional
        Inputs by name, with their unit or SI.

    Returns
    -------
    TrimPoint
        The point.

    Raises
    ------
    DravikError
        Without gear or ground, for gear it does not stand on, and where it would have left the ground.

    Examples
    --------
    >>> import dravik as dv
    >>> tarn = dv.sample("tarn").with_environment(ground="480 m")
    >>> round(dv.on_ground(tarn)["airspeed"], 9)
    0.0
    >>> dv.on_ground(tarn, airspeed="30 m/s", inputs={"throttle": 1.0})["airspeed_dot"] > 1.0
    True
    """
    if not craft.definition.gear:
        raise DravikError(f"{craft.name} has no gear", expected="[gear.NAME] with its legs")
    if not craft.configuration.legs:
        raise DravikError("there is no ground to stand on", hint="ground = 0 in [environment], or its height")
    place = in_si(north, "length", where="north"), in_si(east, "length", where="east")
    course, speed = in_si(heading, "angle", where="heading"), in_si(airspeed, "speed", where="airspeed")
    u = craft.with_inputs(inputs or {})
    if speed > STANDING:
        tilt = None if pitch is None else in_si(pitch, "angle", where="pitch")
        return _rolling(craft, speed, tilt, (*place, course), u, list(inputs or {}))
    if pitch is not None or speed < 0.0:
        raise DravikError(
            "an aircraft at rest cannot be given a pitch"
            if pitch is not None
            else f"the airspeed cannot be {airspeed!r}",
            expected="an airspeed above zero",
        )
    found = []
    for times in PRESSED:
        point, _ = _solved(craft, _standing(craft, place, course, u, times))
        if _is_held(point):
            return point
        found.append(point)
    raise DravikError(f"{craft.name} does not stand on its gear", hint="three legs around the centre of gravity")


def _solved(craft: Aircraft, statement: Statement) -> tuple[TrimPoint, bool]:
    """Return the point of a statement, and whether an unknown stands at a stop."""
    search, field = aircraft_search(craft, statement)
    # thrust depends on the engines' states, so they are settled at these throttles first
    start = search.settled(search.start, longest=1.0, most=60)
    v, reached = search.solve_from(start)
    if not reached and statement.is_momentary:
        v = search.solve_apart(start)
        left = np.abs(field.residual(v, steady=False))
        rates = [name.endswith("_rate_of_change") for name in search.names]
        reached = bool(np.all(np.where(rates, left * HELD / RUNNING, left) < HELD))
    point = report(craft, statement, search, field, v, reached)
    return point, bool(at_stop(craft, search, field, v))


def _is_held(point: TrimPoint) -> bool:
    """Whether an aircraft stands still, and upright."""
    left = max((abs(r) for r in point.residuals.values()), default=0.0)
    return max(abs(point["phi"]), abs(point["theta"])) < MOST_TILT and left < HELD


def _feet(craft: Aircraft, place: tuple[float, float], heading: float, inputs: Floats) -> tuple[float, float]:
    """Return the altitude at which the lowest foot just touches level ground, and how far the weight presses (m)."""
    legs = craft.definition.gear.values()
    centre = body_from_station(np.array(craft.loading.cg))
    lowest = max(float(body_from_station(np.array(leg.position))[2] - centre[2]) for leg in legs)
    pressed = craft.loading.mass * STANDARD_GRAVITY / sum(leg.stiffness for leg in legs)
    state = craft.state(position=(*place, 0.0), velocity=(0.0, 0.0, 0.0), attitude=(0.0, 0.0, heading))
    return craft.values(state, inputs, ["ground_height"])["ground_height"] + lowest, pressed


def _standing(craft: Aircraft, place: tuple[float, float], heading: float, inputs: Floats, times: float) -> Statement:
    """Return the statement of an aircraft at rest on its gear, legs compressed and attitude tilted by its weight.

    ``place`` is north and east (m). The search starts with the feet pressed in some ``times`` as far as the weight
    would.
    """
    touching, pressed = _feet(craft, place, heading, inputs)
    z = np.zeros(N_CHART + len(craft.tape.states))
    z[0], z[1], z[2], z[8] = *place, touching - times * pressed, heading
    free = [
        Free("altitude", float(z[2]), pressed),
        Free("theta", 0.0, 1.0, -1.5, 1.5),
        Free("phi", 0.0, 1.0, -1.5, 1.5),
    ]
    equations = [Equation(name, is_rate=True) for name in ("w", "q", "p")]
    add_states(craft, z, free, equations)
    return Statement("at rest on the ground", "body", z, inputs, tuple(free), tuple(equations), True)


def _rolling(
    craft: Aircraft, speed: float, pitch: float | None, place: tuple[float, float, float], inputs: Floats,
    given: list[str],
) -> TrimPoint:  # fmt: skip
    """Return the aircraft rolling straight ahead, its attitude and height steady; ``place`` north, east, heading."""
    statement = _rolls(craft, speed, pitch, place, inputs)
    control = ""
    if pitch is not None:
        control = _pitching_input(craft, statement, given)
        statement = statement.freeing(craft, control)
    point, is_stopped = _solved(craft, statement)
    touching = any(point[f"normal_{name}"] > 0.0 for name in craft.configuration.legs)
    if point.reached and touching and not (control and is_stopped):
        return point
    held = f" at a pitch of {math.degrees(pitch):.4g} deg" if pitch is not None else ""
    text = f"{craft.name} does not roll at {speed:.4g} m/s{held}"
    if control:
        why = ", ".join(point.at_stop) or f"no {control.removesuffix('_command')} holds that"
        raise DravikError(f"{text}: {why}", hint="another speed, or less pitch")
    raise DravikError(f"{text}: its gear does not carry it, or the wing does", hint="a slower speed")


def _rolls(
    craft: Aircraft, speed: float, pitch: float | None, place: tuple[float, float, float], inputs: Floats
) -> Statement:
    """Return the statement of rolling along: height and pitch rate stand still, the speed does not."""
    north, east, heading = place
    touching, pressed = _feet(craft, (north, east), heading, inputs)
    names = coordinates_of(craft, "air")
    z = np.zeros(len(names))
    z[0], z[1], z[2], z[3], z[8] = north, east, touching - 2.0 * pressed, speed, heading
    z[4] = z[7] = pitch or 0.0
    free = [Free("altitude", float(z[2]), pressed), Free("alpha", float(z[4]), 1.0, -1.4, 1.4)]
    wind = craft.air_at((north, east, float(z[2])), inputs)
    across = wind[1] * math.cos(heading) - wind[0] * math.sin(heading)
    if not abs(across) < speed:
        raise DravikError(
            f"an aircraft cannot roll along at {speed:.4g} m/s in a wind of {abs(across):.4g} m/s across",
            expected="a faster airspeed",
        )
    z[5] = -math.asin(across / speed)
    free += [Free("beta", float(z[5]), 1.0, -1.4, 1.4), Free("phi", 0.0, 1.0, -1.5, 1.5)]
    equations = [Equation(name, is_rate=True) for name in ("alpha", "q", "p")]
    # a sloped ground is followed: the rate of climb is that of the ground ahead
    is_sloped = "uphill_ahead" in craft.signals
    x = craft.plant("air").to_state(z, inputs)
    rise = craft.values(x, inputs, ["uphill_ahead"])["uphill_ahead"] if is_sloped else 0.0
    equations.append(Equation("climb_rate", speed * math.sin(math.atan(rise))))
    equations.append(Equation("track", heading, is_direction=True))
    if pitch is None:
        free.append(Free("theta", 0.0, 1.0, -1.5, 1.5))
    add_states(craft, z, free, equations)
    for leg in craft.configuration.legs:
        # along the wheel friction is at its limit; across it the tyre's string has settled
        z[names.index(f"bristle_{leg}")] = SLIDING
        free.append(Free(f"tyre_{leg}", 0.0, 0.01))
        equations.append(Equation(f"tyre_{leg}", is_rate=True, weight=0.01))
    title = f"rolling at {speed:.4g} m/s" + ("" if pitch is None else f", pitch {math.degrees(pitch):.4g} deg")
    return Statement(title, "air", z, inputs, tuple(free), tuple(equations), True, True)


def _pitching_input(craft: Aircraft, statement: Statement, given: list[str]) -> str:
    """Return the input that trims move, both ways, that pitches the aircraft most over its range."""
    taken = {craft.input_names[craft.input_index(name)] for name in given}
    able = [n for n, s in craft.inputs.items() if s.trim and s.low < 0.0 < s.high and n not in taken]
    best, most = "", 0.0
    for name in able:
        rates = [
            _pitch_acceleration(craft, statement, name, end)
            for end in (craft.inputs[name].low, craft.inputs[name].high)
        ]
        if abs(rates[1] - rates[0]) > most:
            best, most = name, abs(rates[1] - rates[0])
    if not best:
        raise DravikError(f"{craft.name} has no free control that pitches it", where="pitch", expected="trim = true")
    return best


def _pitch_acceleration(craft: Aircraft, statement: Statement, name: str, value: float) -> float:
    """Return the pitch acceleration where a statement starts, with an input at a value and the actuators settled."""
    u = statement.inputs.copy()
    u[craft.input_names.index(name)] = value
    search, field = aircraft_search(craft, replace(statement, inputs=u))
    left = field.residual(search.settled(search.start, longest=1.0, most=60))
    return float(left[search.names.index("q_dot")])
