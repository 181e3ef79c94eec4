"""Comfort of a ride: accelerations weighted as people feel them, by ISO 2631-1:1997."""

import math
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dravik.aircraft import Aircraft
from dravik.constants import STANDARD_GRAVITY
from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.handling.criteria import NONE, Criterion
from dravik.handling.limits import boundaries, limits
from dravik.handling.ride import Ride, ride
from dravik.trimming import TrimPoint

__all__ = ["WEIGHTINGS", "Discomfort", "discomfort", "felt", "ride_criteria"]

Floats = NDArray[np.float64]
#: Corner frequencies (Hz) and their qualities, ISO 2631-1:1997, annex A: of the transition (f3, f4, Q4) and of the
#: upward step (f5, Q5, f6, Q6), for vertical and for horizontal motion of a seated person.
WEIGHTINGS: dict[str, dict[str, float]] = {
    "vertical": {"f3": 12.5, "f4": 12.5, "q4": 0.63, "f5": 2.37, "q5": 0.91, "f6": 3.35, "q6": 0.91},
    "horizontal": {"f3": 2.0, "f4": 2.0, "q4": 0.63},
}
BAND = (0.4, 100.0)  # Hz: corners of the band limits, of second order with the quality of sqrt(1/2)


class Discomfort(NamedTuple):
    """Root mean square accelerations as people feel them, m/s^2: vertical, lateral, and both together."""

    vertical: float
    lateral: float
    total: float


def felt(omega: ArrayLike, direction: str = "vertical") -> Floats:
    """Return by what an acceleration of a frequency (rad/s) is weighted; ``direction`` is one of WEIGHTINGS.

    >>> felt(2 * np.pi * np.array([1.0, 8.0])).round(3).tolist()
    [0.482, 1.036]
    """
    data = WEIGHTINGS[arguments.word(direction, "a direction", tuple(WEIGHTINGS))]
    f: Floats = np.asarray(omega, dtype=np.float64) / (2.0 * math.pi)
    if np.any(f <= 0.0):
        raise DravikError("a frequency is zero or less", expected="frequencies above zero")
    s = 1j * f
    low, high = BAND
    q = math.sqrt(0.5)
    value: Any = s**2 / (s**2 + low / q * s + low**2) * high**2 / (s**2 + high / q * s + high**2)
    value = value * (1.0 + s / data["f3"]) / (1.0 + s / (data["q4"] * data["f4"]) + (s / data["f4"]) ** 2)
    if "f5" in data:
        below, above = data["f5"], data["f6"]
        step = (1.0 + s / (data["q5"] * below) + (s / below) ** 2) / (1.0 + s / (data["q6"] * above) + (s / above) ** 2)
        value = value * step * (below / above) ** 2
    return np.asarray(np.abs(value))


def discomfort(found: Ride) -> Discomfort:
    """Return the weighted accelerations of a ride that has spectra.

    Parameters
    ----------
    found : Ride
        A ride by spectra.

    Returns
    -------
    Discomfort

    Raises
    ------
    DravikError
        For one that was flown.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> rough = dv.handling.ride(craft, dv.trim(craft, airspeed="62 m/s", altitude="300 m"))
    >>> discomfort(rough).vertical < 9.81 * rough.vertical
    True
    """
    require(found, Ride, "a ride", "ride(craft, point)")
    if not len(found.omega):
        raise DravikError("the ride has no spectra", expected="ride(craft, point), which has them")
    sizes = [
        STANDARD_GRAVITY * math.sqrt(float(np.trapezoid(felt(found.omega, direction) ** 2 * spectrum, found.omega)))
        for direction, spectrum in (("vertical", found.vertical_spectrum), ("horizontal", found.lateral_spectrum))
    ]
    return Discomfort(sizes[0], sizes[1], math.hypot(*sizes))


def ride_criteria(craft: Aircraft, point: TrimPoint) -> tuple[list[Criterion], dict[str, Any]]:
    """Return the criterion of the ride in moderate turbulence at the centre of gravity, and the ride.

    The levels are the standard's words, graded here: up to "a little uncomfortable", "uncomfortable", "very".
    """
    data, name = boundaries("responses")["ride"], "ride in moderate turbulence"
    try:
        own = ride(craft, point)
    except DravikError as error:
        note = f"{error}: no level can be given"
        return [Criterion(name, data["paragraph"], math.nan, "m/s^2", NONE, note=note, judged=False)], {}
    found = discomfort(own)
    note = f"vertical {found.vertical:.3g}, lateral {found.lateral:.3g} m/s^2 as felt; the grades are Dravik's"
    line = Criterion(name, data["paragraph"], found.total, "m/s^2", NONE, limits(data["max"]), note, remembered=True)
    return [line], {"ride": own}
