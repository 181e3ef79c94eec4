"""What a trim is to hold: straight flight at an airspeed, an altitude, a flight-path angle."""

from dataclasses import dataclass, field

from dravik.errors import DravikError
from dravik.units import in_si

__all__ = ["Condition"]

Quantity = str | float


@dataclass(frozen=True)
class Condition:
    """Straight flight, in SI and rad.

    ``bank`` fixed leaves the sideslip free; otherwise ``sideslip`` is fixed and the bank is free.
    ``inputs`` sets inputs by name before the search; ``wind`` is the velocity of the air north, east, up.
    """

    airspeed: float
    altitude: float
    flight_path: float = 0.0
    heading: float = 0.0
    sideslip: float = 0.0
    bank: float | None = None
    inputs: dict[str, float] = field(default_factory=dict)

    @classmethod
    def of(
        cls,
        *,
        airspeed: Quantity,
        altitude: Quantity,
        flight_path: Quantity = "0 deg",
        heading: Quantity = "0 deg",
        sideslip: Quantity = "0 deg",
        bank: Quantity | None = None,
        inputs: dict[str, float] | None = None,
    ) -> "Condition":
        """Return a condition from quantities: strings with units, or numbers in SI and rad.

        Raises DravikError for wrong units, for an airspeed that is not above zero, and for a flight path
        of ±90° or beyond.
        """
        speed = in_si(airspeed, "speed", where="airspeed")
        if not speed > 0.0:
            raise DravikError(f"airspeed {airspeed!r}", expected="a speed above zero")
        path = in_si(flight_path, "angle", where="flight_path")
        if not abs(path) < 1.55:
            raise DravikError(f"flight_path {flight_path!r}", expected="between -88 deg and 88 deg")
        return cls(
            airspeed=speed,
            altitude=in_si(altitude, "length", where="altitude"),
            flight_path=path,
            heading=in_si(heading, "angle", where="heading"),
            sideslip=in_si(sideslip, "angle", where="sideslip"),
            bank=None if bank is None else in_si(bank, "angle", where="bank"),
            inputs=dict(inputs or {}),
        )

    def __str__(self) -> str:
        text = f"{self.airspeed:.4g} m/s at {self.altitude:.5g} m"
        if self.flight_path:
            text += f", flight path {self.flight_path * 57.29577951308232:.3g} deg"
        return text
