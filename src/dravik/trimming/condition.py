"""What a trim is to hold, as people say it: speed, altitude, path, direction, bank, turns, pull-ups and rolls."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple, TypedDict

from dravik.definition import arguments
from dravik.errors import DravikError, nearest
from dravik.units import in_si, kind_of_quantity

__all__ = ["Condition", "ConditionKeys", "Manoeuvre", "Quantity", "check_names"]

Quantity = str | float
HOVER = 0.01  # m/s: slower conditions count as hover
STEEP = 1.4  # rad: steeper paths are posed in body velocities, because Euler angles are singular at 90 deg


class ConditionKeys(TypedDict, total=False):
    """What ``trim`` takes by keyword: text with units, or numbers in SI.

    **Speed**, one of ``airspeed`` (true; zero is hover; also words such as ``"1.3 stall"``, ``"best glide"``,
    ``"least sink"``, and ``"free"`` with a throttle that is given), ``calibrated_airspeed``, ``equivalent_airspeed``,
    ``mach`` and ``dynamic_pressure``; and the ``altitude`` (a flight level such as ``"FL100"`` too) or the
    ``pressure_altitude``.

    **Path**: ``flight_path`` (level unless given; None or ``"free"`` leaves it to inputs that are given, such as a
    throttle) or ``climb_rate``.

    **Direction**: ``heading``, or ``track`` over the ground, with a crab in wind; both of them make the aircraft slip.

    **Lateral**: ``sideslip`` (zero unless given; ``"free"`` with a control that is given) or ``bank``.

    **Manoeuvre**, one of ``turn``: a bank (``"30 deg"``), a rate (``"3 deg/s"``), a radius (``"400 m"``) or a load
    factor (``"1.4"``), to the right unless negative or followed by ``left``; coordinated (no side force) unless a
    sideslip is given. ``pull``: a load factor or a pitch rate in the vertical plane. ``roll``: a rate about the
    velocity. Pull and roll hold at one instant only.

    **Air**: ``wind``, such as ``"5 m/s from 270 deg"``, and ``day``, such as ``"ISA+15"``, in the place of those of the
    aircraft's environment; the point's aircraft is then in that air.

    ``inputs`` are set by name; ``free`` names inputs that the trim moves besides those marked so in the file, such as
    the stick where the stabiliser is set; ``guess`` is where the search starts, by name; ``north``, ``east`` the place.
    """

    airspeed: Quantity
    calibrated_airspeed: Quantity
    equivalent_airspeed: Quantity
    mach: Quantity
    dynamic_pressure: Quantity
    altitude: Quantity
    pressure_altitude: Quantity
    flight_path: Quantity | None
    climb_rate: Quantity
    heading: Quantity
    track: Quantity
    sideslip: Quantity | None
    bank: Quantity | None
    turn: Quantity
    pull: Quantity
    roll: Quantity
    wind: str
    day: str
    inputs: Mapping[str, Quantity] | None
    free: str | Sequence[str]
    north: Quantity
    east: Quantity
    guess: Mapping[str, Quantity] | None


class Manoeuvre(NamedTuple):
    """A turn, pull or roll: ``by`` bank, rate, radius or load_factor; ``value`` in SI, negative to the left."""

    kind: str
    by: str
    value: float

    def __str__(self) -> str:
        shown = {
            "bank": f"{math.degrees(self.value):.4g} deg of bank",
            "rate": f"{math.degrees(self.value):.4g} deg/s",
            "radius": f"{self.value:.4g} m radius",
            "load_factor": f"load factor {abs(self.value):.4g}" + (" to the left" if self.value < 0.0 else ""),
        }
        names = {
            "turn": "a turn of",
            "pull": "a pull to" if self.by == "load_factor" else "a pull of",
            "roll": "a roll of",
        }
        return f"{names[self.kind]} {shown[self.by]}"


#: What measures a manoeuvre, by the kind of quantity that is given.
_MEASURES = {
    "turn": {"angle": "bank", "angular rate": "rate", "length": "radius", "number": "load_factor"},
    "pull": {"angular rate": "rate", "number": "load_factor"},
    "roll": {"angular rate": "rate"},
}
_EXAMPLES = {
    "turn": "a bank '30 deg', a rate '3 deg/s', a radius '400 m' or a load factor '1.4'",
    "pull": "a load factor '1.8' or a rate '5 deg/s'",
    "roll": "a rate such as '20 deg/s'",
}


@dataclass(frozen=True)
class Condition:
    """A steady flight in SI and rad, its speed resolved to true airspeed.

    ``flight_path`` None leaves the climb to what the inputs give, unless there is a ``climb_rate``. ``sideslip`` None
    is free; ``bank`` None is free too. Where the speed is free, ``airspeed`` is where its search begins. With
    ``track`` the heading is free unless ``is_headed``.
    """

    airspeed: float
    altitude: float
    is_speed_free: bool = False
    flight_path: float | None = 0.0
    climb_rate: float | None = None
    heading: float = 0.0
    track: float | None = None
    is_headed: bool = False
    sideslip: float | None = 0.0
    bank: float | None = None
    is_coordinated: bool = False
    manoeuvre: Manoeuvre | None = None
    inputs: dict[str, float] = field(default_factory=dict)
    free: tuple[str, ...] = ()
    north: float = 0.0
    east: float = 0.0
    guess: dict[str, Quantity] = field(default_factory=dict)
    airspeed_from: str = ""  # how an airspeed that the aircraft itself decides came about

    @classmethod
    def of(
        cls, asked: ConditionKeys, airspeed: tuple[float, str], altitude: float, inputs: Mapping[str, float]
    ) -> "Condition":  # fmt: skip
        """Return a condition from what was asked, its true airspeed (m/s), altitude (m) and inputs (SI) found already.

        With the airspeed stands how it came about.

        Raises DravikError for wrong units, and for what cannot be asked together: a bank with a sideslip in straight
        flight, of which one follows from the other; either of them, a manoeuvre or a free path in hover and on a steep
        path, where the attitude follows from the balance of forces; two manoeuvres.
        """
        manoeuvre = _manoeuvre(asked)
        path, climb = _path(asked, airspeed[0])
        bank, sideslip = asked.get("bank"), asked.get("sideslip")
        is_turn = manoeuvre is not None and manoeuvre.kind == "turn"
        heading, track = asked.get("heading"), asked.get("track")
        found = cls(
            airspeed=airspeed[0],
            airspeed_from=airspeed[1],
            altitude=altitude,
            is_speed_free=asked.get("airspeed") == "free",
            flight_path=path,
            climb_rate=climb,
            heading=0.0 if heading is None else in_si(heading, "angle", where="heading"),
            track=None if track is None else in_si(track, "angle", where="track"),
            is_headed=heading is not None and track is not None,
            sideslip=_sideslip(sideslip, free=bank is not None or is_turn),
            bank=None if bank is None else in_si(bank, "angle", where="bank"),
            # a turn without a sideslip that is given has no side force; the sideslip then follows
            is_coordinated=is_turn and sideslip is None,
            manoeuvre=manoeuvre,
            inputs=dict(inputs),
            north=in_si(asked.get("north", 0.0), "length", where="north"),
            east=in_si(asked.get("east", 0.0), "length", where="east"),
            guess=arguments.mapping(asked.get("guess") or {}, "guess"),
        )
        found._check(asked)
        return found

    def _check(self, asked: ConditionKeys) -> None:
        """Refuse what cannot be asked together."""
        lateral = [n for n in ("bank", "sideslip", "turn", "pull", "roll") if asked.get(n) is not None]
        # in hover there is no flow to have an angle to; the attitude follows from the balance of forces alone
        if self.airspeed < HOVER and (lateral or self.path_is_free):
            raise DravikError(
                f"hover cannot have {'a ' + lateral[0] if lateral else 'a free flight path'}",
                hint="an airspeed above zero",
            )
        if self.is_steep and lateral:
            raise DravikError(
                f"a {lateral[0]} cannot be held at a flight path of {math.degrees(self.flight_path or 0.0):.4g} deg",
                where="flight_path", expected=f"at most {math.degrees(STEEP):.3g} deg, or neither of them",
            )  # fmt: skip
        # turn with sideslip and bank with roll are two things; of any other pair one follows from the other
        if len(lateral) > 1 and set(lateral) not in ({"sideslip", "turn"}, {"bank", "roll"}):
            raise DravikError(
                f"both a {lateral[0]} and a {lateral[1]} are given",
                expected="one of them: the flight then gives the other",
            )
        if self.is_headed and (lateral or self.is_steep):
            raise DravikError(
                "a heading and a track" + (f", and a {lateral[0]}" if lateral else "") + " are given",
                expected="one of the two, which leaves the other to the wind",
            )
        kind = self.manoeuvre
        if self.is_speed_free and (kind is not None or self.is_headed or self.is_steep or self.climb_rate is not None):
            raise DravikError("a free airspeed needs a straight path", expected="a given airspeed")
        if kind is not None and self.track is not None and kind.kind == "turn":
            raise DravikError("a turn cannot have a track", expected="a heading, which the turn passes through")
        # a radius is over the ground plane: with a free path neither the speed in it nor the bank is known
        if kind is not None and kind.by == "radius" and self.path_is_free:
            raise DravikError(
                "a turn cannot have a radius and a free flight path", expected="its bank, rate or load factor"
            )

    @property
    def path_is_free(self) -> bool:
        """Whether the climb is left to what the inputs give."""
        return self.flight_path is None and self.climb_rate is None

    @property
    def slope(self) -> float:
        """The flight path relative to the air that is asked for, rad; zero where it is free."""
        if self.climb_rate is not None:
            # held within the sine's range: a search may ask at a speed below the rate of climb
            return math.asin(min(max(self.climb_rate / max(self.airspeed, 1e-9), -1.0), 1.0))
        return self.flight_path or 0.0

    @property
    def is_steep(self) -> bool:
        """Whether angles to the flow mean nothing or are singular: in hover, and straight up or down."""
        return self.airspeed < HOVER or (self.flight_path is not None and abs(self.flight_path) > STEEP)

    @property
    def is_sideways(self) -> bool:
        """Whether it flies nearly across its nose: alpha means little there, and sideslip is at its range's end."""
        return self.sideslip is not None and abs(self.sideslip) > STEEP and not self.is_steep and self.bank is None

    @property
    def is_momentary(self) -> bool:
        """Whether it holds at one instant only, as at the bottom of a pull-up."""
        return self.manoeuvre is not None and self.manoeuvre.kind != "turn"

    def __str__(self) -> str:
        if self.airspeed < HOVER:
            return f"hover at {self.altitude:.5g} m"
        speed = "any speed" if self.is_speed_free else f"{self.airspeed:.4g} m/s"
        text = f"{speed} at {self.altitude:.5g} m"
        if self.flight_path:
            text += f", flight path {math.degrees(self.flight_path):.3g} deg"
        if self.climb_rate is not None:
            text += f", climbing {self.climb_rate:.4g} m/s"
        if self.track is not None:
            text += f", track {math.degrees(self.track):.4g} deg"
        if self.north or self.east:
            text += f", {self.north:.6g} m north and {self.east:.6g} m east"
        return f"{text}, {self.manoeuvre}" if self.manoeuvre is not None else text


def _sideslip(given: Quantity | None, *, free: bool) -> float | None:
    if given is None:
        # without a word no sideslip, unless a bank or a turn makes it an unknown
        return None if free else 0.0
    if given == "free":
        return None
    found = in_si(given, "angle", where="sideslip")
    if not abs(found) <= 0.5 * math.pi + 1e-9:
        raise DravikError(
            f"a sideslip of {math.degrees(found):.4g} deg is outside its range", expected="-90 deg to 90 deg",
            hint="a heading and a track, for flight backwards",
        )  # fmt: skip
    return found


def _path(asked: ConditionKeys, airspeed: float) -> tuple[float | None, float | None]:
    """Return flight path (rad) and rate of climb (m/s), of which one at most is given."""
    path, climb = asked.get("flight_path", 0.0), asked.get("climb_rate")
    if climb is not None:
        # level is what goes without saying: it does not contradict a rate of climb
        if "flight_path" in asked and path is not None:
            raise DravikError("both a flight path and a climb rate are given", expected="one of them")
        rate = in_si(climb, "speed", where="climb_rate")
        if not abs(rate) <= airspeed * math.sin(STEEP):
            raise DravikError(
                f"climb_rate = {climb!r} cannot be flown at {airspeed:.4g} m/s",
                expected="well below the airspeed; or a flight_path",
            )
        return None, rate
    if path in (None, "free"):
        return None, None
    found = in_si(path, "angle", where="flight_path")
    if not abs(found) <= 0.5 * math.pi + 1e-9:
        raise DravikError(f"flight_path cannot be {path!r}", expected="between -90 deg and 90 deg")
    return found, None


def _manoeuvre(asked: ConditionKeys) -> Manoeuvre | None:
    """Return the turn, pull or roll that is asked for; raises DravikError for two, and for impossible sizes."""
    given: dict[str, Quantity] = {n: v for n in _MEASURES if (v := asked.get(n)) is not None}  # type: ignore[misc]
    if len(given) > 1:
        raise DravikError(f"both a {' and a '.join(given)} are given", expected="one manoeuvre")
    for kind, value in given.items():
        text, sign = (value, 1.0)
        if isinstance(value, str) and kind == "turn":
            words = value.split()
            # "20 deg left" as a pilot says it; a minus sign means the same
            if words and words[-1] in ("left", "right"):
                text, sign = " ".join(words[:-1]), -1.0 if words[-1] == "left" else 1.0
        measure = kind_of_quantity(text, where=kind)
        if measure not in _MEASURES[kind]:
            raise DravikError(f"{value!r} is a {measure}", where=kind, expected=_EXAMPLES[kind])
        # the unit tells what is meant: degrees are a bank, degrees a second a rate, metres a radius
        by, size = _MEASURES[kind][measure], sign * in_si(text, measure, where=kind)
        if by == "bank" and not abs(size) < 1.5:
            raise DravikError(f"a bank of {value!r} is too steep", where=kind, expected="a bank of less than 85 deg")
        if kind == "turn" and by == "load_factor" and not abs(size) >= 1.0:
            raise DravikError(
                f"a load factor of {value!r} makes no turn", where=kind, expected="a load factor of 1 or more"
            )
        if by == "radius" and not abs(size) > 1e-3:
            raise DravikError(f"a radius of {value!r} makes no turn", where=kind, expected="a radius above zero")
        return Manoeuvre(kind, by, size)
    return None


def check_names(asked: Mapping[str, object]) -> None:
    """Raise DravikError, naming the nearest, for what no trim takes."""
    known = ConditionKeys.__annotations__
    for name in asked:
        if name not in known:
            raise DravikError(f"a trim takes no {name!r}", expected=", ".join(known), hint=nearest(name, known))
