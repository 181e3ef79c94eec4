"""Take-off and landing distances: the roll from rolling trims, the rest by arcs, as books on performance do it.

D. P. Raymer, Aircraft Design: A Conceptual Approach, 2nd ed., AIAA 1992, sections 17.8 and 17.9: the roll is the
integral of V/a, a rotation takes its time at the lift-off speed, arcs of constant load factor join the roll to the
climb and the approach to the ground.
"""

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.constants import STANDARD_GRAVITY
from dravik.definition import arguments
from dravik.errors import DravikError
from dravik.trimming import TrimPoint, on_ground, stall_limit, stall_speed, trim
from dravik.trimming.airspeeds import altitude_of
from dravik.trimming.named_conditions import throttles_of
from dravik.units import in_si

__all__ = ["Landing", "RunwayRules", "TakeOff", "away_from_ground", "landing", "take_off"]

STEEPEST = 0.1  # rad: of a runway
STRAIGHT = 1e-9  # m/s of wind across a runway that is none
SLOWEST = 0.05  # m/s: rolling trims need some airspeed
NODES = 14  # Gauss-Legendre: of a quantity as smooth as V/a this gives six digits
Inputs = Mapping[str, str | float] | None
Floats = NDArray[np.float64]


@dataclass(frozen=True)
class RunwayRules:
    """How a runway is used: speeds as multiples of the stall speed, times in s, heights in m, angles in rad.

    ``lift_off``, ``climb_out`` (mean speed of the arc and the climb), ``rotation`` time; ``screen`` height;
    ``recognition`` time from an engine's failure to the decision, ``reaction`` time from there to the brakes.
    ``approach`` speed and ``path`` (downwards), ``flare`` (mean speed of the arc), ``touchdown``, ``delay`` until the
    brakes act; ``load_factor`` of both arcs. Raises DravikError for figures out of order.

    >>> RunwayRules(screen=10.7).screen
    10.7
    """

    lift_off: float = 1.1
    climb_out: float = 1.15
    rotation: float = 1.0
    screen: float = 15.24
    recognition: float = 1.0
    reaction: float = 2.0
    approach: float = 1.3
    path: float = math.radians(3.0)
    flare: float = 1.23
    touchdown: float = 1.15
    delay: float = 2.0
    load_factor: float = 1.2

    def __post_init__(self) -> None:
        for name in self.__annotations__:
            arguments.number(getattr(self, name), name)
        for name in ("rotation", "screen", "delay", "recognition", "reaction"):
            if not 0.0 <= getattr(self, name) < math.inf:
                raise DravikError(f"{name} cannot be {getattr(self, name)!r}", expected="zero or more")
        if not (1.0 <= self.lift_off <= self.climb_out < 3.0 and 1.0 <= self.touchdown <= self.flare <= self.approach):
            raise DravikError(
                "the speeds are out of order",
                expected="1 <= lift_off <= climb_out, 1 <= touchdown <= flare <= approach",
            )
        if not (0.0 < self.path < 0.5 and 1.0 < self.load_factor < 3.0):
            raise DravikError(
                f"no arc has a path of {self.path:.3g} rad with a load factor of {self.load_factor:.3g}",
                expected="a path between 0 and 0.5 rad, a load factor between 1 and 3",
            )


class Strip(NamedTuple):
    """A runway: the aircraft over it, its height (m), direction (rad) and slope (rad, uphill positive)."""

    craft: Aircraft
    height: float
    course: float
    slope: float = 0.0


@dataclass(frozen=True)
class TakeOff:
    """A take-off: true airspeeds in m/s, distances over the ground in m, times in s, ``climb`` an angle in rad.

    ``stall_cause`` says what limits the stall speed: the most lift, or a control at its stop.
    """

    stall: float
    lift_off: float
    roll: float
    roll_time: float
    rotation: float
    airborne: float
    climb: float
    stall_cause: str

    @property
    def total(self) -> float:
        """From standstill to the height of the screen, m."""
        return self.roll + self.rotation + self.airborne


@dataclass(frozen=True)
class Landing:
    """A landing: true airspeeds in m/s, distances over the ground in m, time in s; ``stall_cause`` as of a take-off."""

    stall: float
    approach: float
    touchdown: float
    airborne: float
    delay: float
    roll: float
    roll_time: float
    stall_cause: str

    @property
    def total(self) -> float:
        """From the height of the screen to standstill, m."""
        return self.airborne + self.delay + self.roll


def take_off(
    craft: Aircraft, *, altitude: str | float, inputs: Inputs = None, heading: str | float = 0.0,
    slope: str | float = 0.0, rules: RunwayRules | None = None,
) -> TakeOff:  # fmt: skip
    """Return the take-off from a runway at an altitude, along a heading, in the wind of the aircraft's world.

    Throttles stand at their upper end, and the engines have run up, unless ``inputs`` (by name, with their unit or
    SI) say otherwise. Wind across the runway is left out. The roll is that of the free attitude on all wheels, with
    the legs' rolling friction; where the wing carries the aircraft before the lift-off speed, it gathers speed on
    as in flight.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    altitude : str or float
        Geometric height, with its unit or in m.
    inputs : mapping of str to str or float, optional
        Values of inputs by name, with their unit or in SI.
    heading : str or float, default 0.0
        Clockwise from north, with its unit or in rad.
    slope : str or float, default 0.0
        Of the runway, uphill positive: ``"1.5 %"``, an angle with its unit, or rad.
    rules : RunwayRules, optional
        Speeds, times and heights of the runway.

    Returns
    -------
    TakeOff

    Raises
    ------
    DravikError
        For an aircraft without gear, one that does not gather speed, and one that does not climb.

    Examples
    --------
    >>> import dravik as dv
    >>> found = take_off(dv.sample("tarn", loading="dropped"), altitude="480 m", inputs={"flap_lever": "15 deg"})
    >>> 100.0 < found.roll < found.total < 1000.0
    True
    """
    rules, course = rules or RunwayRules(), in_si(heading, "angle", where="heading")
    strip = on_runway(craft, altitude, course, slope)
    craft, height = strip.craft, strip.height
    given = craft.inputs_in_si(inputs or {})
    full = {name: high for name, (_, high) in throttles_of(craft).items()} | given
    limit = stall_limit(away_from_ground(craft, height), height, given)
    stall = limit.value
    lift_off, mean = rules.lift_off * stall, rules.climb_out * stall
    roll, time = _rolled(strip, full, lift_off)
    turned = rules.rotation * max(lift_off - headwind(strip, full), 0.0)
    airborne, path = to_the_screen(strip, full, mean, rules)
    return TakeOff(stall, lift_off, roll, time, turned, airborne, path, limit.cause)


def to_the_screen(
    strip: Strip, inputs: Mapping[str, float], speed: float, rules: RunwayRules
) -> tuple[float, float]:  # fmt: skip
    """Return the distance (m) from lift-off to the screen at a mean airspeed, an arc and a climb, and the climb (rad).

    Raises DravikError for an aircraft that does not climb away from the runway.
    """
    climb = _climb(strip, inputs, speed)
    path = math.asin(climb["climb_rate"] / speed)
    # what counts is the way from the runway's plane: uphill it rises too
    above = path - strip.slope
    if not above > 0.0:
        raise DravikError(
            f"{strip.craft.name} does not climb away at {speed:.4g} m/s and {strip.height:.4g} m",
            hint="less weight, or other flaps",
        )
    radius = speed**2 / ((rules.load_factor - 1.0) * STANDARD_GRAVITY)
    over = radius * (1.0 - math.cos(above))
    if over >= rules.screen:
        # the screen is passed within the arc
        airborne = math.sqrt(radius**2 - (radius - rules.screen) ** 2)
    else:
        airborne = radius * math.sin(above) + (rules.screen - over) / math.tan(above)
    return airborne * (1.0 - headwind(strip, inputs) / speed), path


def landing(
    craft: Aircraft, *, altitude: str | float, inputs: Inputs = None, braked: Inputs = None,
    heading: str | float = 0.0, slope: str | float = 0.0, rules: RunwayRules | None = None,
) -> Landing:  # fmt: skip
    """Return the landing on a runway at an altitude, along a heading, in the wind of the aircraft's world.

    ``inputs`` (by name, with their unit or SI) hold all through, such as flaps; ``braked`` besides on the ground,
    such as brakes, idle or reverse thrust: without it an input called ``brake`` fully on. Throttles stand at their
    lower end on the ground unless they are given.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    altitude : str or float
        Geometric height, with its unit or in m.
    inputs : mapping of str to str or float, optional
        Values of inputs by name, with their unit or in SI.
    braked : mapping of str to str or float, optional
        Inputs on the ground besides, by name.
    heading : str or float, default 0.0
        Clockwise from north, with its unit or in rad.
    slope : str or float, default 0.0
        Of the runway, uphill positive: ``"1.5 %"``, an angle with its unit, or rad.
    rules : RunwayRules, optional
        Speeds, times and heights of the runway.

    Returns
    -------
    Landing

    Raises
    ------
    DravikError
        For an aircraft without gear, an approach that is not held, and one that does not slow down.

    Examples
    --------
    >>> import dravik as dv
    >>> found = landing(dv.sample("tarn", loading="dropped"), altitude="480 m", inputs={"flap_lever": "35 deg"})
    >>> 100.0 < found.roll < found.total < 1000.0
    True
    """
    rules, course = rules or RunwayRules(), in_si(heading, "angle", where="heading")
    strip = on_runway(craft, altitude, course, slope)
    craft, height = strip.craft, strip.height
    given = craft.inputs_in_si(inputs or {})
    idle, brakes = braked_inputs(craft, given, braked)
    limit = stall_limit(away_from_ground(craft, height), height, given)
    stall = limit.value
    approach, touchdown = rules.approach * stall, rules.touchdown * stall
    # an approach that cannot be held is refused here, with the nearest one that can
    asked: dict[str, Any] = {"airspeed": approach, "altitude": height, "flight_path": -rules.path, "heading": course}
    trim(away_from_ground(craft, height), **asked, inputs=given)
    # the path meets the runway's plane at this angle: uphill more steeply
    meets = rules.path + strip.slope
    if not meets > 0.0:
        raise DravikError(
            f"a path of {math.degrees(rules.path):.3g} deg does not meet a runway that falls by as much",
            where="slope", expected="a steeper path in the rules",
        )  # fmt: skip
    radius = (rules.flare * stall) ** 2 / ((rules.load_factor - 1.0) * STANDARD_GRAVITY)
    flare = min(radius * (1.0 - math.cos(meets)), rules.screen)
    # the glide is one over the ground, whatever the wind: only the arc is flown through air that moves
    glide, arc = (rules.screen - flare) / math.tan(meets), radius * math.sin(meets)
    wind = headwind(strip, idle)
    roll, time = _rolled(strip, brakes, touchdown, slowing=True)
    airborne = glide + arc * (1.0 - wind / (rules.flare * stall))
    free = rules.delay * max(touchdown - wind, 0.0)
    return Landing(stall, approach, touchdown, airborne, free, roll, time, limit.cause)


def braked_inputs(
    craft: Aircraft, given: Mapping[str, float], braked: Inputs
) -> tuple[dict[str, float], dict[str, float]]:  # fmt: skip
    """Return inputs (SI) at idle, and those of a stop: idle and the brakes, or what is given for them."""
    idle = {name: low for name, (low, _) in throttles_of(craft).items()} | dict(given)
    own: dict[str, str | float] = {"brake": 1.0} if "brake" in craft.inputs and "brake" not in given else {}
    return idle, idle | craft.inputs_in_si(own if braked is None else braked)


def on_runway(craft: Aircraft, altitude: str | float, heading: float, slope: str | float = 0.0) -> Strip:
    """Return the aircraft over a runway at an altitude; of the wind what blows along it.

    Wind across changes a distance by the drag of the sideslip alone: it is left out, as in the books. Wind straight
    along stays as it is, with its profile. The slope acts by the weight along it; attitude and lift are those over
    level ground. Raises DravikError for an aircraft without gear, and for other units.
    """
    if not craft.definition.gear:
        raise DravikError(f"{craft.name} has no gear", expected="[gear.NAME] with its legs")
    height, rise = altitude_of(craft, altitude), _slope(slope)
    craft = craft.with_environment(ground=height)
    north, east, _ = _air(craft, height, craft.default_inputs())
    if abs(east * math.cos(heading) - north * math.sin(heading)) < STRAIGHT:
        return Strip(craft, height, heading, rise)
    along = north * math.cos(heading) + east * math.sin(heading)
    blows = heading if along < 0.0 else heading + math.pi
    wind = {"speed": abs(along), "blows_from": f"{math.degrees(blows)!r} deg"}
    return Strip(craft.with_environment(wind=wind), height, heading, rise)


def _slope(slope: str | float) -> float:
    """Return a slope as an angle, rad: given in per cent, or as an angle."""
    if isinstance(slope, str) and slope.strip().endswith("%"):
        found = math.atan(in_si(slope.strip()[:-1].strip(), "number", where="slope") / 100.0)
    else:
        found = in_si(slope, "angle", where="slope")
    if not abs(found) < STEEPEST:
        raise DravikError(f"the slope cannot be {slope!r}", where="slope", expected="less than 10 %, such as '1.5 %'")
    return found


def _air(craft: Aircraft, height: float, inputs: Floats) -> tuple[float, float, float]:
    """Return the velocity of the air (north, east, up) at the height of a wing above the runway."""
    return craft.air_at((0.0, 0.0, height + 2.0), inputs)


def away_from_ground(craft: Aircraft, height: float) -> Aircraft:
    """Return the aircraft in the same air, with the ground, where there is any for its legs, far below an altitude."""
    if not craft.configuration.legs:
        return craft
    return craft.with_environment(ground=height - 1000.0)


def headwind(strip: Strip, inputs: Mapping[str, float]) -> float:
    """Return the wind against the way along a runway, m/s."""
    north, east, _ = _air(strip.craft, strip.height, strip.craft.with_inputs(dict(inputs)))
    return -(north * math.cos(strip.course) + east * math.sin(strip.course))


def _rolled(
    strip: Strip, inputs: Mapping[str, float], speed: float, *, slowing: bool = False
) -> tuple[float, float]:  # fmt: skip
    """Return distance (m) and time (s) between standstill and an airspeed: integrals of V/a and 1/a."""
    wind = headwind(strip, inputs)
    most = speed - wind
    if most <= 0.0:
        return 0.0, 0.0
    nodes, weights = np.polynomial.legendre.leggauss(NODES)
    distance = time = 0.0
    sign = -1.0 if slowing else 1.0
    for node, weight in zip(0.5 * most * (nodes + 1.0), 0.5 * most * weights, strict=True):
        gained = sign * gathers(strip, inputs, float(node + wind))
        if not gained > 0.0:
            what = "slow down" if slowing else "gather speed"
            raise DravikError(
                f"{strip.craft.name} does not {what} at {node + wind:.4g} m/s on the ground", hint="other inputs"
            )
        distance += float(weight * node / gained)
        time += float(weight / gained)
    return distance, time


def gathers(strip: Strip, inputs: Mapping[str, float], speed: float) -> float:
    """Return the rate of airspeed, m/s^2, rolling; or in level flight where the wing carries all.

    In a tail wind it first rolls with the flow from behind, of which wing and propeller feel next to nothing: as in air
    at rest.
    """
    craft, height = strip.craft, strip.height
    speed, held_back = max(speed, SLOWEST), STANDARD_GRAVITY * math.sin(strip.slope)
    try:
        rolling = on_ground(craft, airspeed=speed, heading=strip.course, inputs=dict(inputs))
        return rolling["airspeed_dot"] - held_back
    except DravikError as error:
        if speed < 0.7 * stall_speed(away_from_ground(craft, height), height, dict(inputs)):
            raise
        try:
            return STANDARD_GRAVITY * _climb(strip, inputs, speed)["climb_rate"] / speed - held_back
        except DravikError:
            raise error from None


def _climb(strip: Strip, inputs: Mapping[str, float], speed: float) -> TrimPoint:
    """Return the straight flight at an airspeed with throttles as given, whose climb shows the excess of thrust."""
    asked: dict[str, Any] = {"flight_path": "free", "heading": strip.course, "inputs": dict(inputs)}
    return trim(away_from_ground(strip.craft, strip.height), airspeed=speed, altitude=strip.height, **asked)
