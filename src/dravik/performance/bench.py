"""What the engines give at a speed and a throttle, the aircraft held along the flow as on a bench."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.constants import STANDARD_GRAVITY
from dravik.errors import DravikError
from dravik.kernel.program import N_RIGID
from dravik.propulsion import PropellerEngine, SolidMotor, check_thrust_curve
from dravik.trimming import settle
from dravik.trimming.airspeeds import altitude_of
from dravik.units import in_si

__all__ = ["EnginePoint", "MotorFacts", "engine_points", "motor_facts", "throttle_inputs", "thrust_by_direction"]

Floats = NDArray[np.float64]
ROUNDED = 1e-9  # of the largest thrust: none
NO_FLOW = 1e-12  # kg/s
ALONG = 0.9  # cosine of the angle to an axis within which an engine points along it


@dataclass(frozen=True)
class EnginePoint:
    """All engines together at an airspeed (m/s), an altitude (m) and a throttle (share of its range), settled.

    Where they do not settle all is nan, and ``reason`` says why.

    ``thrust`` N: the size of the sum of all thrusts as forces, ``thrusts`` those of engines that point the same way, by
    that (``ahead``, ``up``, ...), where they point several; ``shaft_power``, ``electric_power`` W and ``fuel_flow``
    kg/s (nan where there is none); ``efficiency``: thrust work over shaft power, at rest the figure of merit of the
    discs; ``speeds`` of the shafts, rad/s.
    """

    airspeed: float
    altitude: float
    throttle: float
    thrust: float
    shaft_power: float
    electric_power: float
    fuel_flow: float
    efficiency: float
    speeds: dict[str, float]
    reason: str = ""
    thrusts: dict[str, float] = field(default_factory=dict)

    def row(self) -> dict[str, float | str]:
        """Return the point as one flat row, SI; with the reason where there is nothing else to tell."""
        plain: dict[str, float | str] = {n: float(getattr(self, n)) for n in ENGINE_COLUMNS}
        plain |= {f"speed_{n}": v for n, v in self.speeds.items()}
        plain |= {f"thrust_{direction}": v for direction, v in self.thrusts.items()}
        return plain | ({"reason": self.reason} if self.reason else {})


ENGINE_COLUMNS = (
    "airspeed", "altitude", "throttle", "thrust", "shaft_power", "electric_power", "fuel_flow", "efficiency"
)  # fmt: skip


def throttle_inputs(craft: Aircraft, given: Iterable[str] = ()) -> list[str]:
    """Return the inputs that command the power of all engines, most often one: ``throttle``.

    It is the input that moves the sum of the throttles most; or each engine's own command where none moves several.
    Inputs that are ``given`` values stay at them: of the others.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    given : iterable of str, default ()
        Inputs that keep their values.

    Returns
    -------
    list of str

    Raises
    ------
    DravikError
        For an aircraft without engines or without such an input.
    """
    taken = {craft.input_names[craft.input_index(name)] for name in given}
    throttles = [f"power_{n}_command" for n in craft.definition.engines]
    own = [n for n in throttles if n in craft.inputs and n not in taken]
    if own:
        return own
    x, u = craft.state(velocity=(0.0, 0.0, 0.0)), craft.default_inputs()
    found: dict[str, float] = {}
    for i, (name, spec) in enumerate(craft.inputs.items()):
        if name in taken:
            continue
        if name.startswith(("wind_", "gust_", "fail_", "rail_")) or name.endswith("_increment") or not spec.low >= 0.0:
            continue
        sums = []
        for value in (0.45, 0.55):
            moved = u.copy()
            moved[i] = spec.low + value * (spec.high - spec.low) if np.isfinite(spec.high) else value
            sums.append(sum(craft.values(x, moved, throttles).values()))
        found[name] = sums[1] - sums[0]
    best = max(found, key=lambda n: found[n], default="")
    if not throttles or not best or not found[best] > 0.0:
        held = f" beside {', '.join(sorted(taken))}, which {'is' if len(taken) == 1 else 'are'} given" if taken else ""
        raise DravikError(f"{craft.name} has no input that commands its engines{held}", hint="command = 'throttle'")
    return [best]


def in_m_s(airspeeds: Sequence[str | float]) -> list[float]:
    """Return airspeeds in m/s."""
    return [in_si(v, "speed", where="airspeeds") for v in airspeeds]


def engine_points(
    craft: Aircraft, *, airspeeds: Sequence[str | float], throttles: Sequence[float] = (1.0,),
    altitude: str | float = 0.0, inputs: Mapping[str, str | float] | None = None,
) -> list[EnginePoint]:  # fmt: skip
    """Return what the engines give at each throttle and airspeed (m/s), the aircraft held with its axis in the flow.

    ``inputs`` by name are set besides, such as a failed engine; in hover the flow is that of a rotor at rest. A
    point at which the engines do not settle says so and the others stand.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    airspeeds : sequence of str or float
        True airspeeds, with their unit or in m/s.
    throttles : sequence of float, default (1.0,)
        Shares of the range, 0 to 1.
    altitude : str or float, default 0.0
        Geometric height, with its unit or in m.
    inputs : mapping of str to str or float, optional
        Values of inputs by name, with their unit or in SI.

    Returns
    -------
    list of EnginePoint

    Raises
    ------
    DravikError
        For unknown inputs.
    """
    names = throttle_inputs(craft, inputs or {})
    points = []
    airspeeds, altitude = in_m_s(airspeeds), altitude_of(craft, altitude)
    for throttle in throttles:
        state = None
        for airspeed in airspeeds:
            u = craft.with_inputs(inputs or {})
            for name in names:
                spec = craft.inputs[name]
                u[craft.input_index(name)] = spec.low + throttle * (spec.high - spec.low)
            start = craft.state(position=(0.0, 0.0, altitude), velocity=(airspeed, 0.0, 0.0))
            if state is not None:
                start[N_RIGID:] = state[N_RIGID:]
            try:
                state = settle(craft, start, u)
                points.append(_point(craft, state, u, airspeed, altitude, throttle))
            except DravikError as error:
                state, nothing = None, (np.nan,) * 5
                speeds = {n: np.nan for n in craft.definition.engines if f"speed_{n}" in craft.signals}
                points.append(EnginePoint(airspeed, altitude, throttle, *nothing, speeds, error.what))
    return points


def _point(craft: Aircraft, x: Floats, u: Floats, airspeed: float, altitude: float, throttle: float) -> EnginePoint:
    signals = craft.values(x, u)
    thrusts, total = thrust_by_direction(craft, signals)
    shaft = signals.get("shaft_power", np.nan)
    work = _useful_power(craft, signals, airspeed)
    efficiency = work / shaft if shaft > 0.0 and signals["thrust"] > 0.0 else np.nan
    speeds = {n: signals[f"speed_{n}"] for n in craft.definition.engines if f"speed_{n}" in signals}
    return EnginePoint(
        airspeed, altitude, throttle, total, shaft, signals.get("electric_power", np.nan),
        _flow_or_zero(signals.get("fuel_flow", np.nan)), efficiency, speeds, "", thrusts if len(thrusts) > 1 else {},
    )  # fmt: skip


def thrust_by_direction(craft: Aircraft, signals: dict[str, float]) -> tuple[dict[str, float], float]:
    """Return the thrust of engines that point the same way, by that, and the size of all together as forces."""
    directions = {n: np.asarray(e.direction) / np.linalg.norm(e.direction) for n, e in craft.definition.engines.items()}
    labels = {n: _direction_name(direction) for n, direction in directions.items()}
    found: dict[str, float] = {}
    for name, label in labels.items():
        found[label] = found.get(label, 0.0) + signals[f"thrust_{name}"]
    most = max(map(abs, found.values()), default=0.0)
    found = {direction: v if abs(v) > ROUNDED * most else 0.0 for direction, v in found.items()}
    if len(found) < 2:
        return found, signals["thrust"]
    return found, float(np.linalg.norm(sum(signals[f"thrust_{n}"] * direction for n, direction in directions.items())))


def _direction_name(direction: Floats) -> str:
    """Return a direction (body axes, of length one) in a word, or by its components."""
    names = (("ahead", "backwards"), ("right", "left"), ("down", "up"))
    k = int(np.argmax(np.abs(direction)))
    if abs(direction[k]) > ALONG:
        return names[k][0 if direction[k] > 0.0 else 1]
    return "({:.2g}, {:.2g}, {:.2g})".format(*direction)


def _flow_or_zero(flow: float) -> float:
    """Return a flow, kg/s, or zero for what a spool has left after a long time at rest."""
    return 0.0 if abs(flow) < NO_FLOW else flow


def _useful_power(craft: Aircraft, signals: dict[str, float], airspeed: float) -> float:
    """Return the work of the thrusts along the discs' own flow; at rest the least that they need; else nan."""
    if airspeed < 0.5:
        return _ideal_power(craft, signals)
    if craft.definition.mixers:
        return float("nan")  # cross-flow: advance ratio and efficiency mean nothing
    return sum(signals[f"thrust_{n}"] * signals.get(f"axial_speed_{n}", airspeed) for n in craft.definition.engines)


def _ideal_power(craft: Aircraft, signals: dict[str, float]) -> float:
    """Return the least power that discs of this size need for their thrust at rest: T sqrt(T/(2 rho A))."""
    total = 0.0
    for name, engine in craft.definition.engines.items():
        if isinstance(engine, PropellerEngine):
            area = 0.25 * np.pi * craft.definition.propellers[engine.propeller].diameter ** 2
            thrust = max(signals[f"thrust_{name}"], 0.0)
            total += thrust * np.sqrt(thrust / (2.0 * signals["density"] * area))
    return float(total) if total else np.nan


@dataclass(frozen=True)
class MotorFacts:
    """A solid motor: impulse N s, burning time s, mean and greatest thrust N, propellant kg, exhaust speed m/s."""

    name: str
    impulse: float
    burning: float
    mean_thrust: float
    greatest_thrust: float
    propellant: float
    exhaust_speed: float

    @property
    def specific_impulse(self) -> float:
        """Exhaust speed over standard gravity, s."""
        return self.exhaust_speed / STANDARD_GRAVITY


def motor_facts(craft: Aircraft) -> list[MotorFacts]:
    """Return the facts of each solid motor of an aircraft.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.

    Returns
    -------
    list of MotorFacts
    """
    found = []
    for name, motor in craft.definition.engines.items():
        if isinstance(motor, SolidMotor):
            curve = craft.tables[f"thrust_curve_{name}"]
            impulse, end = check_thrust_curve(curve, curve.source)
            mass = craft.definition.tanks[motor.grain].capacity
            found.append(MotorFacts(name, impulse, end, impulse / end, float(curve.values.max()), mass, impulse / mass))
    return found
