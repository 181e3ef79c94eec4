"""What a trim is to hold: straight flight at an airspeed, an altitude, a flight-path angle."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, field

from dravik.errors import DravikError
from dravik.units import in_si

__all__ = ["Condition"]

Quantity = str | float
HOVER = 0.01  # m/s: slower conditions count as hover
STEEP = 1.4  # rad


@dataclass(frozen=True)
class Condition:
    """Straight flight, or hover, in SI and rad.

    ``flight_path`` None leaves the climb to what the inputs give; it may be ±90°, and the airspeed may be zero.
    ``bank`` fixed leaves the sideslip free; otherwise ``sideslip`` is fixed and the bank is free.
    ``inputs`` sets inputs by name before the search; ``north`` and ``east`` are the place;
    ``guess`` is where the search starts, by name of what it moves (alpha, a lever, an engine's state).
    """

    airspeed: float
    altitude: float
    flight_path: float | None = 0.0
    heading: float = 0.0
    sideslip: float = 0.0
    bank: float | None = None
    inputs: dict[str, float] = field(default_factory=dict)
    north: float = 0.0
    east: float = 0.0
    guess: dict[str, Quantity] = field(default_factory=dict)

    @classmethod
    def of(
        cls,
        *,
        airspeed: Quantity,
        altitude: Quantity,
        flight_path: Quantity | None = "0 deg",
        heading: Quantity = "0 deg",
        sideslip: Quantity | None = None,
        bank: Quantity | None = None,
        inputs: dict[str, float] | None = None,
        north: Quantity = 0.0,
        east: Quantity = 0.0,
        guess: Mapping[str, Quantity] | None = None,
    ) -> "Condition":
        """Return a condition from quantities: strings with units, or numbers in SI and rad.

        Raises DravikError for wrong units, for an airspeed below zero, a flight path beyond ±90°, for a bank together
        with a sideslip, of which one follows from the other, and for either of them, or a free flight path, in hover
        and beyond a steep path, where the attitude follows from the balance of forces.
        """
        speed = in_si(airspeed, "speed", where="airspeed")
        if not speed >= 0.0:
            raise DravikError(f"airspeed {airspeed!r}", expected="a speed, or zero for hover")
        path = None if flight_path in (None, "free") else in_si(flight_path, "angle", where="flight_path")
        if path is not None and not abs(path) <= 0.5 * math.pi + 1e-9:
            raise DravikError(f"flight_path {flight_path!r}", expected="between -90 deg and 90 deg")
        if speed < HOVER and (path is None or bank is not None or sideslip is not None):
            raise DravikError("hover with a bank, a sideslip or a free flight path", hint="an airspeed above zero")
        if path is not None and abs(path) > STEEP and (bank is not None or sideslip is not None):
            raise DravikError(
                f"a bank or a sideslip at a flight path of {math.degrees(path):.4g} deg", where="flight_path",
                expected=f"at most {math.degrees(STEEP):.3g} deg, or neither of them",
            )  # fmt: skip
        if bank is not None and sideslip is not None:
            raise DravikError(
                "both a bank and a sideslip", expected="one of them: straight flight then gives the other"
            )
        return cls(
            airspeed=speed,
            altitude=in_si(altitude, "length", where="altitude"),
            flight_path=path,
            heading=in_si(heading, "angle", where="heading"),
            sideslip=0.0 if sideslip is None else in_si(sideslip, "angle", where="sideslip"),
            bank=None if bank is None else in_si(bank, "angle", where="bank"),
            inputs=dict(inputs or {}),
            north=in_si(north, "length", where="north"),
            east=in_si(east, "length", where="east"),
            guess=dict(guess or {}),
        )

    @property
    def is_steep(self) -> bool:
        """Whether angles to the flow mean nothing or are singular: in hover, and straight up or down."""
        return self.airspeed < HOVER or (self.flight_path is not None and abs(self.flight_path) > STEEP)

    def __str__(self) -> str:
        if self.airspeed < HOVER:
            return f"hover at {self.altitude:.5g} m"
        text = f"{self.airspeed:.4g} m/s at {self.altitude:.5g} m"
        if self.flight_path:
            text += f", flight path {self.flight_path * 57.29577951308232:.3g} deg"
        return text
