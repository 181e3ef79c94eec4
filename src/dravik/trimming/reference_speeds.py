"""Speeds that the aircraft itself decides: the stall speed and its multiples, best glide, least sink."""

import math
from dataclasses import replace

import numpy as np

from dravik.aircraft import Aircraft
from dravik.errors import DravikError
from dravik.trimming.airspeeds import true_airspeed
from dravik.trimming.condition import Condition, ConditionKeys
from dravik.trimming.continuation import ConditionSeries
from dravik.trimming.named_conditions import throttles_of
from dravik.trimming.nearest import FeasibleLimit, limit_between

__all__ = ["glide_speed", "speed_of", "stall_limit", "stall_speed"]

USUAL_SPEED = 50.0  # m/s: where the search of a free speed begins without an envelope
FASTEST = 700.0  # m/s: from there downwards a speed at which the aircraft flies is looked for
RATIO = 1.06  # of neighbouring speeds that are looked at
GOLDEN = 0.5 * (math.sqrt(5.0) - 1.0)


def speed_of(
    craft: Aircraft, asked: ConditionKeys, altitude: float, inputs: dict[str, float]
) -> tuple[float, str]:  # fmt: skip
    """Return the true airspeed (m/s) that is asked for: a quantity, or words such as ``1.3 stall``, ``best glide``.

    With it, for such words, how it came about: the stall speed and what limits it.

    Raises DravikError for other words, and where the aircraft does not fly at all.
    """
    words = asked.get("airspeed")
    if words == "free":
        envelope = craft.definition.envelope
        return 0.5 * sum(envelope.airspeed) if envelope is not None else USUAL_SPEED, ""
    text = " ".join(words.split()) if isinstance(words, str) else ""
    if text in ("best glide", "least sink"):
        sought = "flight_path" if text == "best glide" else "climb_rate"
        return glide_speed(craft, altitude, inputs, quantity=sought), ""
    if text.endswith("stall"):
        number = text.removesuffix("stall").strip() or "1"
        try:
            ratio = float(number)
        except ValueError:
            ratio = math.nan
        if not 1.0 <= ratio < 100.0:
            raise DravikError(
                f"the airspeed {words!r} cannot be read", expected="a multiple of the stall speed such as '1.3 stall'"
            )
        stall = stall_limit(craft, altitude, inputs)
        return ratio * stall.value, f"{ratio:g} of the stall speed {stall.value:.4g} m/s, limited by: {stall.cause}"
    return true_airspeed(craft, asked, altitude), ""


def _gliding(craft: Aircraft, altitude: float, inputs: dict[str, float]) -> Condition:
    """Return a straight glide: throttles at their lower end unless they are given, the path free."""
    idle = {name: low for name, (low, _) in throttles_of(craft).items()}
    return Condition(1.0, altitude, flight_path=None, inputs={**idle, **inputs})


def _glides(craft: Aircraft, altitude: float, inputs: dict[str, float]) -> tuple[ConditionSeries, float]:
    """Return glides by airspeed, and a speed at which there is one."""
    base = _gliding(craft, altitude, inputs)
    family = ConditionSeries(craft, lambda speed: replace(base, airspeed=speed))
    envelope = craft.definition.envelope
    usual = np.linspace(*envelope.airspeed, 5)[1:] if envelope is not None else np.zeros(0)
    steps = np.arange(int(math.log(FASTEST / 3.0) / math.log(RATIO) / 3.0))
    speed = family.first_feasible([*usual, *(FASTEST / RATIO ** (3.0 * steps))])
    if math.isnan(speed):
        raise DravikError(
            f"{craft.name} glides at no speed at {altitude:g} m", where="airspeed", expected="a speed in m/s",
            hint="dravik check",
        )  # fmt: skip
    return family, speed


def stall_speed(craft: Aircraft, altitude: float, inputs: dict[str, float] | None = None) -> float:
    """Return the lowest airspeed (m/s) of a straight glide: below it no angle of attack carries the weight.

    ``inputs`` (SI) by their full name, such as a flap's lever; throttles are at idle unless given. It ends where
    the lift has its maximum, or a control its stop.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    altitude : float
        Geometric height, m.
    inputs : mapping of str to float, optional
        Values of inputs by name, SI.

    Returns
    -------
    float
        m/s.

    Raises
    ------
    DravikError
        Where the aircraft does not glide at all.
    """
    return stall_limit(craft, altitude, inputs).value


def stall_limit(craft: Aircraft, altitude: float, inputs: dict[str, float] | None = None) -> FeasibleLimit:
    """Return the stall speed with what limits it: the most lift, or a control at its stop.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    altitude : float
        Geometric height, m.
    inputs : mapping of str to float, optional
        Values of inputs by name, SI.

    Returns
    -------
    FeasibleLimit
        ``value`` is the speed, m/s, ``cause`` says in words what limits it, ``point`` is the flight there.

    Raises
    ------
    DravikError
        Where the aircraft does not glide at all.

    Examples
    --------
    >>> import dravik as dv
    >>> found = stall_limit(dv.sample("tarn"), 300.0)
    >>> round(found.value, 1), found.cause
    (46.5, 'no more lift')
    """
    family, speed = _glides(craft, altitude, inputs or {})
    while family.holds(speed / RATIO, starts=0):
        speed /= RATIO
        if speed < 0.05:
            raise DravikError(
                f"{craft.name} has no stall speed: it glides at any", where="airspeed", expected="a speed"
            )
    edge = limit_between(family, speed, speed / RATIO, "airspeed", speed / RATIO)
    if edge is None:
        raise DravikError(f"{craft.name} has no stall speed at {altitude:g} m", where="airspeed", expected="a speed")
    return edge


def glide_speed(
    craft: Aircraft, altitude: float, inputs: dict[str, float] | None = None, *, quantity: str = "flight_path"
) -> float:
    """Return the airspeed (m/s) of the flattest glide, or with ``climb_rate`` that of the least sink.

    ``inputs`` as for the stall speed.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    altitude : float
        Geometric height, m.
    inputs : mapping of str to float, optional
        Values of inputs by name, SI.
    quantity : str, default "flight_path"
        ``"flight_path"`` or ``"climb_rate"``.

    Returns
    -------
    float
        m/s.

    Raises
    ------
    DravikError
        Where the aircraft does not glide.
    """
    family, _ = _glides(craft, altitude, inputs or {})
    low = stall_speed(craft, altitude, inputs)

    def worth(speed: float) -> float:
        point = family.point(speed)
        return -math.inf if point is None else point[quantity]

    # bracket the maximum upwards from the stall, then shrink the bracket by the golden section
    speeds = [low, low * RATIO]
    values = [worth(s) for s in speeds]
    while values[-1] > values[-2] and speeds[-1] < FASTEST:
        speeds.append(speeds[-1] * RATIO)
        values.append(worth(speeds[-1]))
    a, b = speeds[max(len(speeds) - 3, 0)], speeds[-1]
    c, d = b - GOLDEN * (b - a), a + GOLDEN * (b - a)
    at_c, at_d = worth(c), worth(d)
    while b - a > 1e-6 * b:
        if at_c > at_d:
            b, d, at_d = d, c, at_c
            c = b - GOLDEN * (b - a)
            at_c = worth(c)
        else:
            a, c, at_c = c, d, at_d
            d = a + GOLDEN * (b - a)
            at_d = worth(d)
    return 0.5 * (a + b)
