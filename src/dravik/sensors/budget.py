"""The error budget of sensors: what each term adds to a sample, and the Allan deviation that is to be expected."""

import math
from collections.abc import Mapping
from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dravik.errors import DravikError
from dravik.sensors.compiling import RATIO, flicker_times, terms_of
from dravik.sensors.definition import Sensor
from dravik.sensors.errors import ErrorTerms

__all__ = ["BudgetRow", "allan_deviation", "error_budget", "expected_allan"]

Floats = NDArray[np.float64]


class BudgetRow(NamedTuple):
    """The errors of a sensor, SI: the largest of its outputs; ``after`` is the time of the random walk, s.

    ``noise`` is the standard deviation of a sample, ``density`` its two-sided density per root of a hertz,
    ``constant`` bias and turn-on bias, ``floor`` the flat part of the Allan deviation, ``rounding`` the step over the
    root of 12, ``walked`` the random walk after a time.
    """

    name: str
    kind: str
    unit: str
    rate: float | None
    late: float
    noise: float
    density: float
    constant: float
    floor: float
    rounding: float
    walked: float


def error_budget(sensors: Mapping[str, Sensor], units: Mapping[str, str], after: float = 3600.0) -> list[BudgetRow]:
    """Return what each term of each sensor's errors comes to.

    Parameters
    ----------
    sensors : mapping of str to Sensor
        The sensors by name.
    units : mapping of str to str
        SI units of the aircraft's signals.
    after : float, default 3600
        Time of the random walk, s.

    Returns
    -------
    list of BudgetRow

    Raises
    ------
    DravikError
        For errors that cannot be.

    Examples
    --------
    >>> from dravik.sensors import Sensor, error_budget
    >>> error_budget({"baro": Sensor(kind="static_pressure", noise="2 Pa", rate="25 Hz")}, {})[0].density
    0.4
    """
    found = []
    for name, sensor in sensors.items():
        terms, unit = terms_of(name, sensor, units)
        constant = max(math.hypot(b, t) for b, t in zip(terms.bias, terms.turn_on, strict=True))
        found.append(
            BudgetRow(
                name, sensor.kind, unit, terms.rate, terms.delay + terms.lag, max(terms.noise), max(terms.density),
                constant, max(terms.instability) * math.sqrt(2.0 * math.log(2.0) / math.pi),
                max(terms.resolution) / math.sqrt(12.0), max(terms.walk) * math.sqrt(after),
            )
        )  # fmt: skip
    return found


def expected_allan(terms: ErrorTerms, times: ArrayLike, output: int = 0) -> Floats:
    """Return the Allan deviation that the stated errors of an output give, at averaging times (s).

    White noise gives the density over the root of the time, bias instability nearly its flat part, random walk the root
    of a third of the time. Source: IEEE Std 952-1997, annex C.

    Parameters
    ----------
    terms : ErrorTerms
        The errors.
    times : array of float
        Averaging times, s.
    output : int, default 0
        Which of its outputs.

    Returns
    -------
    array of float

    Examples
    --------
    >>> from dravik.sensors import ErrorKeys, error_terms, expected_allan
    >>> terms = error_terms(ErrorKeys(noise="1 m/sqrt(Hz)", noise_density="two-sided", rate="4 Hz"), "length", 1)
    >>> float(expected_allan(terms, [4.0])[0])
    0.5
    """
    tau = np.asarray(times, dtype=float)
    variance = terms.density[output] ** 2 / tau + terms.walk[output] ** 2 * tau / 3.0
    variance = variance + terms.resolution[output] ** 2 / 12.0 * terms.period / tau
    if terms.instability[output]:
        size = terms.instability[output] ** 2 * math.log(RATIO) / math.pi
        for own in flicker_times(terms):
            share = tau / own
            variance = variance + size * 2.0 / share * (
                1.0 - (3.0 - 4.0 * np.exp(-share) + np.exp(-2.0 * share)) / (2.0 * share)
            )
    return np.asarray(np.sqrt(variance))


def allan_deviation(values: ArrayLike, period: float, times: ArrayLike) -> Floats:
    """Return the Allan deviation of readings at averaging times, by all overlapping pairs of means.

    Parameters
    ----------
    values : array of float
        Readings, one each period.
    period : float
        Time between two, s.
    times : array of float
        Averaging times, s.

    Returns
    -------
    array of float
        NaN for a time of which there are no two means.

    Raises
    ------
    DravikError
        For a period or a time that is not above zero.

    Examples
    --------
    >>> import numpy as np
    >>> from dravik.sensors import allan_deviation
    >>> float(allan_deviation([0.0, 2.0, 0.0, 2.0], 1.0, [1.0])[0].round(3))
    1.414
    """
    x, tau = np.asarray(values, dtype=float), np.atleast_1d(np.asarray(times, dtype=float))
    if not period > 0.0 or not np.all(tau > 0.0):
        raise DravikError("an Allan deviation needs a period and times above zero")
    summed = np.concatenate([[0.0], np.cumsum(x - x.mean())])
    found = np.full(len(tau), math.nan)
    for i, own in enumerate(tau):
        m = max(1, round(own / period))
        if len(x) >= 2 * m:
            steps = (summed[2 * m :] - 2.0 * summed[m:-m] + summed[: -2 * m]) / m
            found[i] = math.sqrt(0.5 * float(np.mean(steps**2)))
    return found
