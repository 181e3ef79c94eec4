"""Take-off with an engine that fails on the roll: accelerate-stop, accelerate-go, and the speed that balances both.

Sources: CS-25.107 and 25.109, amendment 27, on which speeds and times are meant (as remembered); B. W. McCormick,
Aerodynamics, Aeronautics and Flight Mechanics, 1979, chapter 7, on rolls as integrals.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.polynomial import Chebyshev

from dravik.aircraft import Aircraft
from dravik.definition import arguments
from dravik.errors import DravikError, nearest
from dravik.performance.runway import (
    Inputs,
    RunwayRules,
    Strip,
    away_from_ground,
    braked_inputs,
    gathers,
    headwind,
    on_runway,
    to_the_screen,
)
from dravik.trimming import stall_limit
from dravik.trimming.named_conditions import throttles_of
from dravik.units import in_si

__all__ = ["BalancedField", "balanced_field"]

NODES = 11  # speeds at which accelerations are found; between them a polynomial
SWING = 0.5  # of the least acceleration, by which the polynomial may leave straight lines between the speeds
PARTS = 400  # of a roll's integral, by Simpson's rule


@dataclass(frozen=True)
class BalancedField:
    """A take-off with an engine that fails: true airspeeds in m/s, distances over the ground in m, ``climb`` in rad.

    The engine fails at ``engine_failure`` and the decision falls at ``decision``. ``accelerate_stop`` ends at rest,
    ``accelerate_go`` over the screen. Where ``is_balanced`` both are equal; otherwise the decision is at lift-off (the
    stop is the shorter one even there) or as slow as can be, and the longer of both is what is needed.
    """

    failed: tuple[str, ...]
    stall: float
    stall_cause: str
    engine_failure: float
    decision: float
    lift_off: float
    accelerate_stop: float
    accelerate_go: float
    climb: float
    is_balanced: bool

    @property
    def length(self) -> float:
        """The runway that is needed, m."""
        return max(self.accelerate_stop, self.accelerate_go)


class _Roll(NamedTuple):
    """A roll: acceleration (m/s^2) over airspeed, as a polynomial between standstill and the last speed."""

    rate: Chebyshev
    wind: float

    def way(self, begin: float, end: float) -> float:
        """Return the distance over the ground between two airspeeds, m."""
        v, weights = _simpson(begin, end)
        return float(np.sum(weights * (v - self.wind) / self.rate(v)))

    def time(self, begin: float, end: float) -> float:
        """Return the time between two airspeeds, s."""
        v, weights = _simpson(begin, end)
        return float(np.sum(weights / self.rate(v)))


def balanced_field(
    craft: Aircraft, *, failed: str | Sequence[str], altitude: str | float, inputs: Inputs = None,
    braked: Inputs = None, heading: str | float = 0.0, slope: str | float = 0.0, rules: RunwayRules | None = None,
) -> BalancedField:  # fmt: skip
    """Return the take-off in which an engine fails at the speed that makes stopping and going on equally long.

    All engines run up to the failure; for ``rules.recognition`` seconds the others go on alone; then the decision:
    ``rules.reaction`` seconds at that speed and a braked stop with the engines at idle, or on to lift-off, rotation and
    the screen with the others at full power. The failed engine stands at once, and pedals are taken to hold the
    direction on the ground: whether they can is a matter of ``minimum_control_speeds``.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    failed : str or sequence of str
        The engine that fails, or several at once.
    altitude : str or float
        Of the runway, with its unit or in m.
    inputs : mapping of str to str or float, optional
        Values of inputs by name, with their unit or in SI.
    braked : mapping of str to str or float, optional
        Inputs of the stop besides, such as brakes and reversers; an input called ``brake`` fully on unless given.
    heading : str or float, default 0.0
        Clockwise from north, with its unit or in rad.
    slope : str or float, default 0.0
        Of the runway, uphill positive: ``"1.5 %"``, an angle with its unit, or rad.
    rules : RunwayRules, optional
        Speeds, times and heights of the runway.

    Returns
    -------
    BalancedField

    Raises
    ------
    DravikError
        For engines that are not there, and an aircraft that does not gather speed, stop or climb away without one.

    Examples
    --------
    >>> import dravik as dv
    >>> light = dv.sample("tarn", loading="dropped")
    >>> found = balanced_field(light, failed="right", altitude="480 m")
    >>> found.is_balanced, abs(found.accelerate_stop - found.accelerate_go) < 1e-3
    (True, True)
    """
    rules, course = rules or RunwayRules(), in_si(heading, "angle", where="heading")
    gone = arguments.names([failed] if isinstance(failed, str) else failed, "failed")
    for name in gone:
        if name not in craft.definition.engines:
            raise DravikError(
                f"there is no engine {name!r}", where="failed", expected=", ".join(craft.definition.engines),
                hint=nearest(name, craft.definition.engines),
            )  # fmt: skip
    if not gone:
        raise DravikError("no engine fails", where="failed", expected=", ".join(craft.definition.engines))
    strip = on_runway(craft, altitude, course, slope)
    given = strip.craft.inputs_in_si(inputs or {})
    full = {name: high for name, (_, high) in throttles_of(strip.craft).items()} | given
    out = full | {f"fail_{name}": 1.0 for name in gone}
    brakes = braked_inputs(strip.craft, given, braked)[1] | {f"fail_{name}": 1.0 for name in gone}
    limit = stall_limit(away_from_ground(strip.craft, strip.height), strip.height, given)
    lift_off = rules.lift_off * limit.value
    airborne, climb = to_the_screen(strip, out, rules.climb_out * limit.value, rules)
    all_run = _roll(strip, full, lift_off, "gathers no speed")
    one_out = _roll(strip, out, lift_off, f"gathers no speed without {' and '.join(gone)}")
    stopping = _roll(strip, brakes, lift_off, "does not slow down", sign=-1.0)
    wind = all_run.wind
    after = airborne + rules.rotation * max(lift_off - wind, 0.0)

    def both(decision: float) -> tuple[float, float, float]:
        """Return where the engine fails, and the distances of the stop and of going on."""
        failure = _failure(one_out, max(wind, 0.0), decision, rules.recognition)
        before = all_run.way(max(wind, 0.0), failure)
        aware = before + one_out.way(failure, decision)
        stop = aware + rules.reaction * (decision - wind) + stopping.way(max(wind, 0.0), decision)
        return failure, stop, before + one_out.way(failure, lift_off) + after

    return _balanced(both, (_slowest(one_out, max(wind, 0.0), rules.recognition), lift_off),
                     (tuple(gone), limit.value, limit.cause), climb)  # fmt: skip


def _balanced(
    both: Callable[[float], tuple[float, float, float]], ends: tuple[float, float],
    facts: tuple[tuple[str, ...], float, str], climb: float,
) -> BalancedField:  # fmt: skip
    """Return the take-off whose decision speed makes both distances equal, or lies at an end where none does."""
    from scipy.optimize import brentq

    low, high = ends

    def longer(decision: float) -> float:
        _, stop, go = both(decision)
        return stop - go

    is_balanced = longer(low) < 0.0 < longer(high)
    decision = float(brentq(longer, low, high, xtol=1e-10)) if is_balanced else high if longer(high) <= 0.0 else low
    failure, stop, go = both(decision)
    return BalancedField(*facts, failure, decision, high, stop, go, climb, is_balanced)


def _roll(
    strip: Strip, inputs: Mapping[str, float], last: float, what: str, *, sign: float = 1.0
) -> _Roll:  # fmt: skip
    """Return a roll up to the last airspeed; raises DravikError where it gains (or, with ``sign`` -1, loses) none."""
    wind = headwind(strip, inputs)
    begin = max(wind, 0.0)
    if not last > begin:
        raise DravikError(f"a wind of {wind:.4g} m/s carries {strip.craft.name} by itself", expected="less wind")
    half = 0.5 * (last - begin)
    speeds = begin + half * (1.0 - np.cos(np.pi * (np.arange(NODES) + 0.5) / NODES))
    rates = np.array([sign * gathers(strip, inputs, float(v)) for v in speeds])
    if not np.all(rates > 0.0):
        at = float(speeds[int(np.argmin(rates))])
        raise DravikError(f"{strip.craft.name} {what} at {at:.4g} m/s on the ground", hint="less weight, other inputs")
    found = Chebyshev.fit(speeds, rates, NODES - 1, domain=[begin, last])
    # where the acceleration jumps a polynomial swings, and may pass zero between the speeds
    between = 0.5 * (speeds[1:] + speeds[:-1])
    if float(np.max(np.abs(found(between) - np.interp(between, speeds, rates)))) > SWING * float(rates.min()):
        raise DravikError(
            f"the acceleration of {strip.craft.name} jumps on the roll: its distances cannot be relied on",
            hint="dravik check; tables without steps over speed",
        )
    return _Roll(found, wind)


def _failure(roll: _Roll, begin: float, decision: float, late: float) -> float:
    """Return the airspeed so many seconds before the decision, with the engine failed."""
    from scipy.optimize import brentq

    if late <= 0.0 or roll.time(begin, decision) <= late:
        return decision if late <= 0.0 else begin
    return float(brentq(lambda v: roll.time(v, decision) - late, begin, decision, xtol=1e-11))


def _slowest(roll: _Roll, begin: float, late: float) -> float:
    """Return the slowest decision: that of an engine that fails at the very beginning."""
    from scipy.optimize import brentq

    last = float(roll.rate.domain[1])
    if late <= 0.0:
        return begin + 1e-6 * (last - begin)
    if roll.time(begin, last) <= late:
        return last
    return float(brentq(lambda v: roll.time(begin, v) - late, begin + 1e-9, last, xtol=1e-11))


def _simpson(begin: float, end: float) -> tuple[np.ndarray, np.ndarray]:
    v = np.linspace(begin, end, PARTS + 1)
    weights = np.ones(PARTS + 1)
    weights[1:-1:2], weights[2:-1:2] = 4.0, 2.0
    return v, weights * (end - begin) / (3.0 * PARTS)
