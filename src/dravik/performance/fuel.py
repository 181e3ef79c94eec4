"""Fuel or energy, time and distance of a flight in legs, each integrated over trims of the lighter aircraft."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal, NamedTuple

import numpy as np
from pydantic import Field, ValidationError

from dravik.aircraft import Aircraft
from dravik.aircraft.description.loadings import parts_of
from dravik.aircraft.description.schema import Loading
from dravik.definition import arguments
from dravik.definition.fields import Altitude, Duration, Model, PositiveLength
from dravik.definition.toml import read_definition
from dravik.errors import DravikError, TrimError
from dravik.frames import station_from_body
from dravik.host.files import as_path
from dravik.kernel.program import GRAVITY
from dravik.mass import combine
from dravik.performance.level import fuel_of, store_of
from dravik.performance.runway import away_from_ground
from dravik.performance.stability import in_numbers
from dravik.trimming import TrimPoint, on_ground, trim
from dravik.trimming.airspeeds import altitude_of, true_airspeed
from dravik.trimming.named_conditions import throttles_of
from dravik.units import in_si

__all__ = ["FuelLeg", "FuelMission", "FuelUse", "LegUse", "fuel_for", "read_fuel_mission"]

STEPS = 3  # of the classical fourth-order method in each leg
SPEEDS = ("airspeed", "calibrated_airspeed", "equivalent_airspeed", "mach")
RISE = 5.0  # m to both sides, over which the change of true airspeed with height is taken
GOALS = ("climb_to", "descend_to", "distance", "time", "standing")
Told = Callable[[float], None]


class FuelLeg(Model):
    """One leg: where it ends, and how it is flown.

    One of ``climb_to`` and ``descend_to`` (altitudes), ``distance`` over the ground, ``time``, or ``standing`` on the
    ground for a time. ``airspeed`` as trims take it (``"62 m/s"``, ``"best glide"``), or another speed; ``inputs`` by
    name. A climb has the throttles at their upper end and a descent at their lower one, unless they are given, or there
    is a ``climb_rate``. Where a speed is another true airspeed at another height, as at a constant calibrated airspeed,
    the power that the change of speed takes is paid. ``loading`` is another one from here on, with the fuel that is
    left: water dropped, say.
    """

    name: str = ""  #: name of the leg
    climb_to: Altitude | None = None  #: altitude or flight level at which a climb ends
    descend_to: Altitude | None = None  #: altitude or flight level at which a descent ends
    distance: PositiveLength | None = None  #: length over the ground
    time: Duration | None = None  #: duration of the leg
    standing: Duration | None = None  #: duration on the ground
    airspeed: str | float | None = None  #: airspeed as trims take it
    calibrated_airspeed: str | float | None = None  #: calibrated airspeed, in the place of the true one
    equivalent_airspeed: str | float | None = None  #: equivalent airspeed, in the place of the true one
    mach: float | None = None  #: Mach number, in the place of an airspeed
    climb_rate: str | float | None = None  #: rate of climb, with the throttle found
    heading: str | float | None = None  #: heading, north unless given
    track: str | float | None = None  #: direction over the ground, with the heading that the wind asks for
    loading: str = ""  #: another loading from here on, with the fuel that is left
    inputs: dict[str, str | float] = Field(default_factory=dict)  #: inputs by name

    @property
    def goal(self) -> str:
        """What ends it."""
        return next(n for n in GOALS if getattr(self, n) is not None)

    @property
    def speeds(self) -> dict[str, str | float]:
        """The speeds that are given, by keyword."""
        return {n: value for n in SPEEDS if (value := getattr(self, n)) is not None}

    def check(self, where: str) -> None:
        """Raise DravikError unless it has one goal and, in flight, one speed."""
        goals = [n for n in GOALS if getattr(self, n) is not None]
        if len(goals) != 1:
            raise DravikError(
                f"the leg has {' and '.join(goals) or 'no end'}", where=where, expected="one of " + ", ".join(GOALS)
            )
        if len(self.speeds) != (0 if goals[0] == "standing" else 1):
            raise DravikError(
                f"the leg has {' and '.join(self.speeds) or 'no speed'}", where=where,
                expected="none on the ground, in flight one of " + ", ".join(SPEEDS),
            )  # fmt: skip
        if self.heading is not None and self.track is not None:
            raise DravikError("the leg has a heading and a track", where=where, expected="one of them")
        if self.climb_rate is not None and goals[0] not in ("climb_to", "descend_to"):
            raise DravikError(
                "the leg has a climb_rate, but it neither climbs nor descends",
                where=where,
                expected="climb_to or descend_to",
            )


class FuelMission(Model):
    """The legs of a flight, the altitude at which they begin, and the air, in the place of the aircraft's own."""

    format: Literal[1] = 1  #: version of the file's format
    altitude: Altitude  #: altitude or flight level at which the legs begin
    wind: str = ""  #: wind, such as "5 m/s from 270 deg"
    day: str = ""  #: temperature against the standard day: "ISA+15"
    leg: tuple[FuelLeg, ...] = Field(min_length=1)  #: legs in their order


class LegUse(NamedTuple):
    """What a leg takes: time (s), ground distance (m), fuel (kg) or energy (J); mass (kg) and altitude (m) then."""

    name: str
    time: float
    distance: float
    used: float
    left: float
    mass: float
    altitude: float


@dataclass(frozen=True)
class FuelUse:
    """What the legs of a flight take; ``unit`` is kg of fuel, or J from batteries."""

    legs: list[LegUse]
    unit: str

    @property
    def total(self) -> LegUse:
        """All legs together."""
        last = self.legs[-1]
        sums = [sum(getattr(leg, n) for leg in self.legs) for n in ("time", "distance", "used")]
        return LegUse("total", sums[0], sums[1], sums[2], last.left, last.mass, last.altitude)


def read_fuel_mission(path: str | Path) -> FuelMission:
    """Return the legs of a file.

    Parameters
    ----------
    path : str or path
        The mission's TOML file.

    Returns
    -------
    FuelMission

    Raises
    ------
    DravikError
        Naming file and line, for what is wrong.
    """
    return read_definition(as_path(path), FuelMission)[0]


def fuel_for(
    craft: Aircraft, mission: FuelMission | Sequence[Mapping[str, Any]], *, altitude: str | float = 0.0,
    wind: str = "", day: str = "", told: Told | None = None,
) -> FuelUse:  # fmt: skip
    """Return the fuel that a flight takes, leg by leg, from trims of the aircraft as it gets lighter.

    ``mission`` is a ``FuelMission``, or legs as mappings that begin at an ``altitude``. What lies between legs,
    such as turns and changes of speed, takes nothing.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    mission : FuelMission or sequence of mapping of str to any
        A ``FuelMission``, or legs as mappings.
    altitude : str or float, default 0.0
        Where legs given as mappings begin, with its unit or in m, or a flight level.
    wind : str, optional
        Steady wind, such as ``"5 m/s from 270 deg"``. That of the mission or of the aircraft unless given.
    day : str, optional
        Temperature against the standard day, such as ``"ISA+15"``. That of the mission or of the aircraft unless given.
    told : callable, optional
        Called with the share done, 0 to 1.

    Returns
    -------
    FuelUse

    Raises
    ------
    DravikError
        For wrong legs, for a leg that cannot be flown, and where the fuel ends.

    Examples
    --------
    >>> import dravik as dv
    >>> legs = [{"climb_to": "1500 m", "airspeed": "60 m/s"}, {"distance": "40 km", "airspeed": "70 m/s"}]
    >>> use = fuel_for(dv.sample("tarn"), legs, altitude="480 m")
    >>> use.unit, [leg.name for leg in use.legs], 20.0 < use.total.used < 100.0
    ('kg', ['climb to 1500 m', 'distance 40000 m'], True)
    """
    if not isinstance(mission, FuelMission):
        if isinstance(mission, str | Mapping) or not isinstance(mission, Sequence):
            raise DravikError(f"legs cannot be {arguments.shown(mission)}", expected="a list of legs")
        legs = [arguments.mapping(leg, f"leg {k + 1}") for k, leg in enumerate(mission)]
        try:
            mission = FuelMission.model_validate({"altitude": altitude, "leg": legs})
        except ValidationError as error:
            first = error.errors()[0]
            raise DravikError(first["msg"], where=".".join(str(k) for k in first["loc"])) from None
    air = {"wind": wind or mission.wind, "day": day or mission.day}
    flight = _Flight(craft.with_environment(**{n: v for n, v in air.items() if v}), mission.altitude)
    found = []
    for k, leg in enumerate(mission.leg):
        leg.check(f"leg {k + 1}")
        found.append(flight.fly(leg, f"leg {k + 1}"))
        if told is not None:
            told((k + 1) / len(mission.leg))
    return FuelUse(found, "J" if flight.is_electric else "kg")


class _Flight:
    """The aircraft on its way through the legs: what is left, and where it is."""

    def __init__(self, craft: Aircraft, altitude: str | float) -> None:
        self.craft, self.altitude = craft, altitude_of(craft, altitude)
        # watts of a battery, or kilograms a second of fuel: one integration serves both
        flow, self.store = store_of(craft)
        self.is_electric = flow == "W"
        if not self.store > 0.0:
            raise DravikError(
                f"{craft.name} has neither fuel nor a battery", where=craft.loading_name, hint="dravik mass"
            )
        self.left = self.store

    def fly(self, leg: FuelLeg, where: str) -> LegUse:
        """Return what a leg takes, and go on to its end."""
        if leg.loading:
            self.craft = self.craft.with_loading(leg.loading)
        goal = leg.goal
        climbs = goal in ("climb_to", "descend_to")
        end = altitude_of(self.craft, getattr(leg, goal), goal) if climbs else float(getattr(leg, goal))
        span = end - self.altitude if climbs else end
        # climb_to a height below would integrate backwards and give fuel back
        if climbs and (span > 0.0) != (goal == "climb_to"):
            raise DravikError(
                f"a leg at {self.altitude:g} m cannot {goal.replace('_', ' ')} {end:g} m",
                where=where,
                expected="the other way",
            )
        start, begun = self.altitude, self.left

        def rates(done: float, taken: np.ndarray[Any, Any]) -> np.ndarray[Any, Any]:
            """Return time, distance and fuel by what the leg runs over."""
            height = start + done if climbs else start
            # weight, and with it drag and thrust, follow what has been used within the leg
            point = self._point(leg, height, begun - float(taken[2]), where)
            flow = point["electric_power"] if self.is_electric else point["fuel_flow"]
            by_time = np.array([1.0, point["ground_speed"], flow])
            if goal in ("time", "standing"):
                return by_time
            per = point["climb_rate"] / self._speeding_up(leg, height) if climbs else point["ground_speed"]
            if not per * span > 0.0:
                raise DravikError(
                    f"{self.craft.name} does not {goal.replace('_', ' ')} {end:g} m: {per:.3g} m/s at {height:.5g} m",
                    where=where, hint="another airspeed or loading",
                )  # fmt: skip
            # by height or by distance, in the place of time: the leg then ends exactly where it is to end
            return by_time / per

        # classical Runge-Kutta: few trims, because what a leg burns changes slowly along it
        taken, h = np.zeros(3), span / STEPS
        for k in range(STEPS):
            a = rates(k * h, taken)
            b = rates((k + 0.5) * h, taken + 0.5 * h * a)
            c = rates((k + 0.5) * h, taken + 0.5 * h * b)
            taken = taken + h / 6.0 * (a + 2.0 * b + 2.0 * c + rates((k + 1.0) * h, taken + h * c))
        self.left = begun - float(taken[2])
        if not self.left >= 0.0:
            raise self._empty(where)
        self.altitude = end if climbs else start
        name = leg.name or f"{goal.replace('_', ' ')} {end:g} {'s' if goal in ('time', 'standing') else 'm'}"
        mass = self._lighter(self.left).loading.mass
        return LegUse(name, float(taken[0]), float(taken[1]), float(taken[2]), self.left, mass, self.altitude)

    def _speeding_up(self, leg: FuelLeg, height: float) -> float:
        """Return the power for climb and change of speed over that for the climb alone: 1 + V/g dV/dh.

        Of speeds that the aircraft itself decides, such as a multiple of the stall speed, the change is left out.
        """
        asked = leg.speeds
        if "airspeed" in asked:
            return 1.0
        low, here, high = (true_airspeed(self.craft, asked, height + k * RISE) for k in (-1.0, 0.0, 1.0))  # type: ignore[arg-type]
        return 1.0 + here / float(self.craft.program.numbers[GRAVITY]) * (high - low) / (2.0 * RISE)

    def _empty(self, where: str) -> DravikError:
        what = f"{self.store:.4g} {'J' if self.is_electric else 'kg'}"
        return DravikError(
            f"the {what} that {self.craft.name} holds are used up",
            where=where,
            hint="a shorter flight, or a loading that holds more",
        )

    def _point(self, leg: FuelLeg, height: float, left: float, where: str) -> TrimPoint:
        """Return the trim of a leg at an altitude with so much fuel left."""
        if not left >= 0.0:
            raise self._empty(where)
        craft, inputs = self._lighter(left), dict(leg.inputs)
        if leg.goal == "standing":
            # at idle unless the leg says otherwise: an engine that runs at a standstill still burns
            idle: dict[str, Any] = {n: low for n, (low, _) in throttles_of(craft).items()} | inputs
            way = leg.heading if leg.track is None else leg.track
            return on_ground(craft.with_environment(ground=height), inputs=idle, heading=way or 0.0)
        craft = away_from_ground(craft, height)
        way_said = {"heading": leg.heading or 0.0} if leg.track is None else {"track": leg.track}
        asked: dict[str, Any] = {"altitude": height, **way_said, **leg.speeds}
        if leg.climb_rate is not None:
            # what the change of speed takes is climbed besides, so that the throttle is the one that it needs
            asked["climb_rate"] = in_si(leg.climb_rate, "speed", where="climb_rate") * self._speeding_up(leg, height)
        elif leg.goal in ("climb_to", "descend_to"):
            # a climb at full power, a descent at idle, unless a rate of climb leaves the throttle free
            ends = {n: high if leg.goal == "climb_to" else low for n, (low, high) in throttles_of(craft).items()}
            asked["flight_path"], inputs = "free", {**ends, **inputs}
        try:
            return trim(craft, **asked, inputs=inputs)
        except TrimError as error:
            raise TrimError(
                str(error), result=error.result, where=f"{where}, {craft.loading.mass:.5g} kg", nearest=error.nearest
            ) from None

    def _lighter(self, left: float) -> Aircraft:
        """Return the aircraft with so much fuel left, shared among its tanks as it was."""
        craft = self.craft
        if self.is_electric:
            return craft
        held = fuel_of(craft)
        share = left / max(sum(held.values()), 1e-9)
        tanks = {**craft.loading.tanks, **{n: m * share for n, m in held.items()}}
        parts = parts_of(craft.definition, craft.loading.model_copy(update={"tanks": tanks}))
        whole = combine(list(parts.values()))
        x, y, z = station_from_body(whole.centre)
        (xx, yy, zz), (xy, xz, yz) = np.diag(whole.tensor), whole.products
        loading = Loading(
            mass=whole.mass, cg=(float(x), float(y), float(z)), Ixx=xx, Iyy=yy, Izz=zz, Ixy=xy, Ixz=xz, Iyz=yz
        )
        return in_numbers(craft, loading)
