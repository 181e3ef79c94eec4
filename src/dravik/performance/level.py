"""Performance in steady flight: available against required, climb, ceiling, endurance and range, all from trims."""

import itertools
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, fields
from typing import NamedTuple

import numpy as np

from dravik.aircraft import Aircraft
from dravik.errors import DravikError
from dravik.performance.bench import engine_points, in_m_s, throttle_inputs
from dravik.trimming import TrimPoint, trim
from dravik.trimming.airspeeds import altitude_of
from dravik.units import in_si

__all__ = ["Ceiling", "Performance", "SpeedPoint", "ceiling", "fuel_of", "performance", "store_of"]

Told = Callable[[float], None]
STEP = 10.0  # m: to which a ceiling is found
OTHERS = (0.8, 0.9, 1.1, 1.25, 1.5, 2.0)  # of the least and the greatest airspeed given, whether these climb better


@dataclass(frozen=True)
class SpeedPoint:
    """Level flight at an airspeed, and the climb at full throttle, SI; nan where the one or the other cannot be held.

    ``thrust_required`` is the thrust of level flight (along the flow), ``thrust_available`` that of the steady climb at
    full throttle; powers are by the airspeed, for rotors those at the shafts. ``flow`` is fuel (kg/s) or electric power
    (W). ``endurance`` (s) and ``range`` (m) at this weight, with what the loading holds.
    """

    airspeed: float
    alpha: float
    throttle: float
    thrust_required: float
    power_required: float
    thrust_available: float
    power_available: float
    climb_rate: float
    flow: float
    endurance: float
    range: float


@dataclass(frozen=True)
class Performance:
    """Performance over airspeeds at one altitude (m)."""

    name: str
    loading: str
    altitude: float
    points: list[SpeedPoint]
    flow_unit: str
    store: float

    def best(self, quantity: str) -> SpeedPoint | None:
        """Return the point at which a quantity (``climb_rate``, ``endurance``, ``range``) is largest; None without."""
        there = [p for p in self.points if math.isfinite(getattr(p, quantity))]
        return max(there, key=lambda p: float(getattr(p, quantity)), default=None)

    @property
    def fastest(self) -> float:
        """The airspeed at which full throttle just holds level flight, by linear interpolation; nan without."""
        for a, b in zip(self.points, self.points[1:], strict=False):
            if a.climb_rate >= 0.0 > b.climb_rate:
                return a.airspeed + a.climb_rate / (a.climb_rate - b.climb_rate) * (b.airspeed - a.airspeed)
        return math.nan

    def rows(self) -> list[dict[str, float]]:
        """Return the points as rows, SI."""
        return [{f.name: float(getattr(p, f.name)) for f in fields(p)} for p in self.points]


def performance(
    craft: Aircraft, *, airspeeds: Sequence[str | float], altitude: str | float,
    inputs: dict[str, float] | None = None, told: Told | None = None,
) -> Performance:  # fmt: skip
    """Return level flight and climb at each airspeed (m/s, or with a unit) by trims.

    ``inputs`` by name (SI) are set besides; ``told`` is told the share done.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    airspeeds : sequence of str or float
        True airspeeds, with their unit or in m/s.
    altitude : str or float
        Geometric height, with its unit or in m.
    inputs : mapping of str to float, optional
        Values of inputs by name, with their unit or in SI.
    told : callable, optional
        Called with the share done, 0 to 1.

    Returns
    -------
    Performance

    Raises
    ------
    DravikError
        For an aircraft without a throttle, and for unknown inputs.
    """
    for name in inputs or {}:
        craft.input_index(name)
    unit, store = store_of(craft)
    points = []
    airspeeds, altitude = in_m_s(airspeeds), altitude_of(craft, altitude)
    for i, airspeed in enumerate(airspeeds):
        points.append(_speed_point(craft, airspeed, altitude, dict(inputs or {}), unit, store))
        if told is not None:
            told((i + 1) / len(airspeeds))
    return Performance(craft.name, craft.loading_name, altitude, points, unit, store)


def store_of(craft: Aircraft) -> tuple[str, float]:
    """Return the unit of what flows, and how much of it the loading holds: J of batteries, or kg of fuel."""
    if craft.definition.batteries:
        start = craft.values(craft.state(velocity=(0.0, 0.0, 0.0)), craft.default_inputs())
        return "W", sum(start[f"energy_left_{n}"] for n in craft.definition.batteries)
    return "kg/s", sum(fuel_of(craft).values())


def fuel_of(craft: Aircraft) -> dict[str, float]:
    """Return what the tanks hold whose flow is one of fuel, kg."""
    held = craft.loading.tanks
    return {n: held.get(n, 0.0) for n, t in craft.definition.tanks.items() if "fuel_flow" in str(t.flow)}


def _trimmed(
    craft: Aircraft, airspeed: float, altitude: float, path: float | None, inputs: dict[str, float]
) -> TrimPoint | None:
    try:
        point = trim(
            craft, airspeed=airspeed, altitude=altitude, flight_path=path, inputs={**inputs}, strict=False,
        )  # fmt: skip
    except DravikError:
        return None
    return point if point.reached else None


def _speed_point(
    craft: Aircraft, airspeed: float, altitude: float, inputs: dict[str, float], unit: str, store: float
) -> SpeedPoint:
    throttles = throttle_inputs(craft, inputs)
    level = _trimmed(craft, airspeed, altitude, 0.0, inputs)
    full = {n: craft.inputs[n].high for n in throttles}
    climb = None
    if airspeed >= 0.5 and not craft.definition.mixers:
        climb = _trimmed(craft, airspeed, altitude, None, inputs | full)
    nan = math.nan
    alpha = throttle = required = flow = endurance = reach = available = rate = nan
    hovers = bool(craft.definition.mixers)
    power = most = nan
    if level is not None:
        alpha, throttle = level["alpha"], level[throttles[0]]
        required = _along_flow(level)
        power = level.signals.get("shaft_power", nan) if hovers else required * airspeed
        flow = level["electric_power"] if unit == "W" else level.signals.get("fuel_flow", nan)
        if flow > 0.0 and store > 0.0:
            endurance = store / flow
            # over the ground, along the heading
            reach = endurance * level["ground_speed"] * math.cos(level["track"] - level["psi"])
    if climb is not None:
        available, rate = _along_flow(climb), climb["climb_rate"]
        most = available * airspeed
    if hovers:
        most = engine_points(craft, airspeeds=[airspeed], altitude=altitude, inputs=inputs)[0].shaft_power
    return SpeedPoint(
        airspeed, alpha, throttle, required, power, available, most, rate, flow, endurance, reach
    )  # fmt: skip


def _along_flow(point: TrimPoint) -> float:
    """Return the thrust's share along the flow of a trimmed point: the drag and what of the weight it carries."""
    craft, total = point.craft, 0.0
    flow = np.array([point["u_air"], point["v_air"], point["w_air"]])
    flow /= max(float(np.linalg.norm(flow)), 1e-9)
    for name, engine in craft.definition.engines.items():
        direction = np.asarray(engine.direction) / np.linalg.norm(engine.direction)
        total += point[f"thrust_{name}"] * float(direction @ flow)
    return total


class Ceiling(NamedTuple):
    """The altitude (m) up to which an aircraft climbs well enough, the airspeed (m/s) there, and what ended it.

    ``ended_by``: ``climb``, the rate of climb itself; ``speeds``, the airspeeds that were given, where another climbs
    better; ``highest``, the altitude looked up to; empty where it does not climb so at sea level.
    """

    altitude: float
    airspeed: float
    ended_by: str = ""
    better: float = math.nan

    @property
    def why(self) -> str:
        """What ended it, in words."""
        return {
            "speeds": f"the given speeds ended it: at {self.better:.4g} m/s it still climbs so",
            "highest": "the altitude looked up to, or higher", "climb": "the climb ended it",
        }.get(self.ended_by, "it does not climb so at sea level")  # fmt: skip


def ceiling(
    craft: Aircraft, *, airspeeds: Sequence[str | float], climb: str | float = 0.5, highest: str | float | None = None,
    inputs: dict[str, float] | None = None,
) -> Ceiling:  # fmt: skip
    """Return the altitude (m) up to which the aircraft climbs at ``climb`` m/s or better, and the airspeed there.

    The best of ``airspeeds`` counts at each altitude; the search halves to 10 m. nan where it does not climb so at
    sea level. Where it still does at ``highest`` (the envelope's top unless said: the data reach no further), that.
    What ended it is in the result.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    airspeeds : sequence of str or float
        True airspeeds, with their unit or in m/s.
    climb : str or float, default 0.5
        Least rate of climb, with its unit or in m/s.
    highest : str or float, optional
        How far up is looked, with its unit or in m.
    inputs : mapping of str to float, optional
        Values of inputs by name, with their unit or in SI.

    Returns
    -------
    Ceiling
    """
    if highest is None:
        envelope = craft.definition.envelope
        highest = envelope.altitude[1] if envelope is not None else 20000.0
    for name in inputs or {}:
        craft.input_index(name)
    airspeeds, climb = in_m_s(airspeeds), in_si(climb, "speed", where="climb")
    highest = in_si(highest, "length", where="highest")
    throttles = throttle_inputs(craft, inputs or {})
    full = dict(inputs or {}) | {n: craft.inputs[n].high for n in throttles}

    def best(altitude: float, speeds: Sequence[float] = airspeeds) -> tuple[float, float]:
        found = [(p["climb_rate"], v) for v in speeds if (p := _trimmed(craft, v, altitude, None, full)) is not None]
        return max(found, default=(-math.inf, math.nan))

    low, high = 0.0, highest
    if best(low)[0] < climb:
        return Ceiling(math.nan, math.nan)
    if best(high)[0] >= climb:
        return Ceiling(highest, best(high)[1], "highest")
    while high - low > STEP:
        middle = 0.5 * (low + high)
        low, high = (middle, high) if best(middle)[0] >= climb else (low, middle)
    # does the aircraft end there, or only the speeds that were asked about?
    others = [v * f for f in OTHERS for v in (min(airspeeds), max(airspeeds))]
    others += [0.5 * (a + b) for a, b in itertools.pairwise(sorted(airspeeds))]
    rate, speed = best(high + STEP, others)
    ended = ("speeds", speed) if rate >= climb else ("climb", math.nan)
    return Ceiling(low, best(low)[1], *ended)
