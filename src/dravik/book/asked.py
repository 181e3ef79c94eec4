"""What a book is asked to show: conditions, levels, plans of loops, flights; and what its chapters share."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import numpy as np

from dravik.aero import Coefficients
from dravik.aircraft import Aircraft
from dravik.definition import arguments
from dravik.errors import DravikError
from dravik.handling.criteria import CATEGORIES, CLASSES
from dravik.host.files import is_folder
from dravik.performance import EnvelopeRow, flight_envelope
from dravik.performance.weights import aerodynamics_of
from dravik.trimming import TrimSweep, trim_sweep
from dravik.trimming.airspeeds import altitude_of
from dravik.trimming.named_conditions import throttles_of
from dravik.units import in_si

__all__ = ["BookRequest", "Subject"]

SPEEDS, HEIGHTS = 12, 6  # of sweeps
SHARE = 0.1  # of the way from the lowest altitude of the envelope to the highest: where most chapters look


@dataclass(frozen=True)
class BookRequest:
    """What a book shows; what is empty is chosen by the aircraft's file.

    Attributes
    ----------
    altitude : str or float
        Altitude of the chapters that look at one, with its unit or in m. A tenth up the envelope unless given.
    airspeeds : sequence of str or float
        Airspeeds of trims and modes, with their unit or in m/s. From the slowest to the fastest level flight within
        the file's envelope unless given.
    aircraft_class : str
        Of handling qualities, ``"I"``, ``"II-L"``, ``"II-C"``, ``"III"`` or ``"IV"``.
    category : str
        Of the flight phase, ``"A"``, ``"B"`` or ``"C"``.
    plans : sequence of str or Path
        Files of loops. Those of the aircraft's folder ``loops`` unless given.
    scenarios : sequence of str or Path
        Files of flights. Those of the aircraft's folder ``scenarios`` unless given.
    chapters : sequence of str
        Which chapters, in this order. All of them unless given.
    """

    altitude: str | float = ""
    airspeeds: Sequence[str | float] = ()
    aircraft_class: str = "II-L"
    category: str = "B"
    plans: Sequence[str | Path] = ()
    scenarios: Sequence[str | Path] = ()
    chapters: Sequence[str] = ()


@dataclass(frozen=True)
class Subject:
    """An aircraft with what is asked of its book, and what several chapters need, found once."""

    craft: Aircraft
    asked: BookRequest

    def check(self) -> None:
        """Raise DravikError for altitudes, airspeeds and levels that are none: no fault of the aircraft."""
        request = self.asked
        altitude_of(self.craft, self.altitude)
        for value in request.airspeeds:
            in_si(value, "speed", where="airspeeds")
        arguments.word(request.aircraft_class, "class", CLASSES)
        arguments.word(request.category, "category", CATEGORIES)

    @cached_property
    def altitude(self) -> float:
        """The altitude of most chapters, m."""
        if self.asked.altitude != "":
            return altitude_of(self.craft, self.asked.altitude)
        low, high = self.heights_of_file
        return round(low + SHARE * (high - low), -1)

    @property
    def heights_of_file(self) -> tuple[float, float]:
        """Lowest and highest altitude of the file's envelope, m; from the ground to 3000 m without one."""
        own = self.craft.definition.envelope
        return own.altitude if own is not None else (0.0, 3000.0)

    @cached_property
    def heights(self) -> list[float]:
        """Altitudes from the lowest to the highest, m."""
        return [float(v) for v in np.linspace(*self.heights_of_file, HEIGHTS)]

    @cached_property
    def level(self) -> list[EnvelopeRow]:
        """Slowest and fastest level flight over the altitudes, and at the chapters' altitude, which is the last."""
        return flight_envelope(self.craft, altitudes=[*self.heights, self.altitude])

    @cached_property
    def speeds(self) -> list[float]:
        """Airspeeds of sweeps, m/s; raises DravikError where no level flight is held."""
        if self.asked.airspeeds:
            return [in_si(v, "speed", where="airspeeds") for v in self.asked.airspeeds]
        own, here = self.craft.definition.envelope, self.level[-1]
        low = here.slowest * 1.001 if np.isfinite(here.slowest) else 0.0
        high = here.fastest * 0.999
        if own is not None:
            low, high = max(low, own.airspeed[0]), min(high, own.airspeed[1])
        if not (np.isfinite(high) and high > low):
            raise DravikError(
                f"no level flight is held at {self.altitude:g} m within the envelope",
                expected="a range of airspeeds", hint="--airspeeds, --altitude, or dravik trim, which says why",
            )  # fmt: skip
        return [float(v) for v in np.linspace(low, high, SPEEDS)]

    @cached_property
    def is_flown_level(self) -> bool:
        """Whether it is made for level flight: with a throttle that trims move."""
        return bool(throttles_of(self.craft))

    @cached_property
    def over_speed(self) -> TrimSweep:
        """Trims of every loading over the airspeeds."""
        loadings = list(self.craft.definition.loadings)[:4]
        return trim_sweep(self.craft, {"loading": loadings, "airspeed": self.speeds}, altitude=self.altitude)

    @cached_property
    def over_envelope(self) -> TrimSweep:
        """Trims over altitude and airspeed."""
        return trim_sweep(self.craft, {"altitude": self.heights, "airspeed": self.speeds})

    @cached_property
    def aero(self) -> Coefficients | None:
        """The coefficients of its file, where there are any."""
        return aerodynamics_of(self.craft)

    def files(self, given: Sequence[str | Path], folder: str) -> list[Path]:
        """Return the files that are given, or those of a folder of the aircraft's."""
        if given or self.craft.path is None:
            return [Path(g) for g in given]
        own = self.craft.path.parent / folder
        return sorted(own.glob("*.toml")) if is_folder(own) else []
