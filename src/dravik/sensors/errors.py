"""The errors of a sensor as a file gives them, and as numbers in SI.

Sources: IEEE Std 952-1997, Specification Format Guide and Test Procedure for Single-Axis Interferometric Fiber Optic
Gyros, annex C (angle random walk, bias instability and rate random walk by the Allan variance).
"""

import math
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BeforeValidator, Field

from dravik.definition.fields import Duration, Formula, Frequency, Model
from dravik.errors import DravikError
from dravik.units import KINDS, quantity

__all__ = ["DEFAULT_RATE", "ErrorKeys", "ErrorTerms", "error_terms", "per_root_second"]

Floats = NDArray[np.float64]
DEFAULT_RATE = 100.0  # Hz, of a sensor whose errors need samples and that has no rate of its own
_PER_ROOT_HERTZ = re.compile(r"\s*/\s*(?:sqrt\(\s*Hz\s*\)|√Hz|Hz\^0\.5)\s*$")
_PER_ROOT_SECOND = re.compile(r"\s*/\s*(?:sqrt\(\s*s\s*\)|√s|s\^0\.5)\s*$")
ROTATION = 1e-6  # how far a matrix may be from a rotation

#: A quantity of the sensor's own kind, or one for each of its axes.
Amount = str | float | tuple[str | float, ...]
Delay = Annotated[float, BeforeValidator(lambda v: quantity(v, "time")), Field(ge=0.0)]
Rows = tuple[tuple[float, float, float], tuple[float, float, float], tuple[float, float, float]]


class ErrorKeys(Model):
    """The errors of a sensor: each is off unless it is given, and may be one value or one for each axis.

    The first two to give are ``bias`` and ``noise``. What is measured is turned by ``misalignment`` and ``cross_axis``,
    lags, is multiplied by 1 + ``scale_factor``, shifted by all biases and the noise, held in ``range``, rounded to
    ``resolution``, and sampled at ``rate``; a sample comes ``delay`` later.
    """

    bias: Amount | None = None  #: constant error
    #: white noise: a density such as "0.005 deg/s/sqrt(Hz)", or the standard deviation of a sample such as "0.1 deg/s"
    noise: Amount | None = None
    noise_density: Literal["one-sided", "two-sided"] = "one-sided"  #: which density the noise is given by
    turn_on_bias: Amount | None = None  #: standard deviation of a constant error that is drawn for each flight
    bias_instability: Amount | None = None  #: coefficient of the flicker noise, by the Allan variance
    correlation_time: Duration = 1000.0  #: longest correlation time of the bias instability
    random_walk: Amount | None = None  #: coefficient of the random walk of the bias, such as "0.001 deg/s/sqrt(s)"
    scale_factor: float | tuple[float, ...] | None = None  #: relative error of the scale
    #: how the sensor is turned from its place on paper: three small angles about its axes, or a rotation matrix
    misalignment: tuple[str | float, str | float, str | float] | Rows | None = None
    cross_axis: float | Rows | None = None  #: share of each other axis that an axis measures: a number or a matrix
    range: Amount | None = None  #: largest reading to either side, or two limits
    resolution: Amount | None = None  #: step of the readings
    lag: Duration | None = None  #: time constant of a first-order lag
    rate: Frequency | None = None  #: samples a second; 100 Hz unless given where an error needs samples
    jitter: Duration | None = None  #: standard deviation of the time of a sample
    delay: Delay = 0.0  #: time from a sample to its reading
    dropouts: Annotated[float, Field(ge=0.0, lt=1.0)] = 0.0  #: share of the samples that are missing
    #: of a gyro: what an acceleration adds, such as "0.02 deg/s/g"
    acceleration_sensitivity: str | float | None = None
    position_error: Formula | None = None  #: of a pressure: what its place adds, a formula in Pa


@dataclass(frozen=True)
class ErrorTerms:
    """Errors in SI, one number for each output; ``matrix`` is what the axes measure of the nominal axes.

    ``noise`` is the standard deviation of a sample, ``density`` the two-sided density of the same noise.
    """

    bias: tuple[float, ...]
    noise: tuple[float, ...]
    density: tuple[float, ...]
    turn_on: tuple[float, ...]
    instability: tuple[float, ...]
    walk: tuple[float, ...]
    scale: tuple[float, ...]
    low: tuple[float, ...]
    high: tuple[float, ...]
    resolution: tuple[float, ...]
    matrix: Floats
    sensitivity: float
    rate: float | None
    delay: float
    lag: float
    jitter: float
    dropouts: float
    correlation_time: float

    @property
    def period(self) -> float:
        """Time between two samples, s; 0 of a sensor without samples."""
        return 0.0 if self.rate is None else 1.0 / self.rate


def _amounts(value: object, count: int, convert: Callable[[object], float], key: str) -> tuple[float, ...]:
    """Return one number for each output; raises DravikError with the key for values that cannot be."""
    if value is None:
        return (0.0,) * count
    try:
        found = tuple(convert(v) for v in value) if isinstance(value, tuple | list) else (convert(value),) * count
    except DravikError as error:
        raise error.at(key) from None
    if len(found) != count:
        raise DravikError(
            f"{len(found)} values for {count} output{'s' if count > 1 else ''}", where=key,
            expected="one value, or one for each output",
        )  # fmt: skip
    return found


def _of_kind(kind: str) -> Callable[[object], float]:
    def convert(value: object) -> float:
        number = 0.0 if value == 0 else quantity(value, kind)
        if not math.isfinite(number):
            raise DravikError(f"{value!r} is not finite")
        return number

    return convert


def _above(kind: str) -> Callable[[object], float]:
    def convert(value: object) -> float:
        number = _of_kind(kind)(value)
        if number < 0.0:
            raise DravikError(f"{value!r} is below zero", expected="zero or more")
        return number

    return convert


def per_root_second(kind: str) -> Callable[[object], float]:
    """Return a converter of random walks: quantities of a kind per root of a second.

    Parameters
    ----------
    kind : str
        Kind of quantity.

    Returns
    -------
    callable
        It raises DravikError for a quantity of another unit, and below zero.

    Examples
    --------
    >>> per_root_second("speed")("0.1 m/s/sqrt(s)")
    0.1
    """

    def convert(value: object) -> float:
        if value == 0:
            return 0.0
        if not isinstance(value, str) or _PER_ROOT_SECOND.search(value) is None:
            raise DravikError(f"{value!r} is no random walk", expected=f'"... {KINDS[kind][0]}/sqrt(s)"')
        return _above(kind)(_PER_ROOT_SECOND.sub("", value))

    return convert


def _noise(keys: ErrorKeys, kind: str, rate: float, count: int) -> tuple[float, ...]:
    """Return the standard deviation of a sample.

    A density is that of the power at frequencies above zero (one-sided), which fills half the rate, or at all
    (two-sided), which fills the whole rate.
    """
    band = rate if keys.noise_density == "two-sided" else 0.5 * rate

    def convert(value: object) -> float:
        if isinstance(value, str) and _PER_ROOT_HERTZ.search(value):
            return _above(kind)(_PER_ROOT_HERTZ.sub("", value)) * math.sqrt(band)
        return _above(kind)(value)

    return _amounts(keys.noise, count, convert, "noise")


def _limits(keys: ErrorKeys, kind: str, count: int) -> tuple[tuple[float, ...], tuple[float, ...]]:
    """Return the lowest and the highest reading of each output."""
    value = keys.range
    # of an error in degrees Celsius only the size counts, of a limit its place on the scale
    kind = "temperature" if kind == "temperature difference" else kind
    if value is None:
        return (-math.inf,) * count, (math.inf,) * count
    if isinstance(value, tuple):
        low, *high = _amounts(value, 2, _of_kind(kind), "range")
    else:
        high = list(_amounts(value, 1, _of_kind(kind), "range"))
        low = -high[0]
    if not low < high[0]:
        raise DravikError(f"the range {value!r} does not rise", where="range", expected="the lower limit first")
    return (low,) * count, (high[0],) * count


def _turned(keys: ErrorKeys) -> Floats:
    """Return what turns nominal axes into those of the sensor as it is; raises DravikError for what is no rotation."""
    value = keys.misalignment
    if value is None:
        return np.eye(3)
    if isinstance(value[0], tuple):
        matrix = np.array(value, dtype=float)
        if not np.allclose(matrix @ matrix.T, np.eye(3), atol=ROTATION) or not np.linalg.det(matrix) > 0.0:
            raise DravikError(
                "the matrix is no rotation", where="misalignment",
                expected="rows at right angles, of length 1, determinant +1; or three small angles",
                hint="axes that are not at right angles are the matter of cross_axis",
            )  # fmt: skip
        return matrix
    x, y, z = _amounts(value, 3, _of_kind("angle"), "misalignment")
    angle = math.sqrt(x * x + y * y + z * z)
    if angle == 0.0:
        return np.eye(3)
    # Rodrigues' formula; transposed, as the axes turn and not the vector
    k = np.array([[0.0, -z, y], [z, 0.0, -x], [-y, x, 0.0]]) / angle
    found: Floats = np.eye(3) - math.sin(angle) * k + (1.0 - math.cos(angle)) * (k @ k)
    return found


def _crossed(keys: ErrorKeys) -> Floats:
    """Return what each axis measures of all: 1 of its own."""
    value = keys.cross_axis
    if value is None:
        return np.eye(3)
    if isinstance(value, tuple):
        matrix = np.array(value, dtype=float)
        if np.any(np.diag(matrix) != 0.0):
            raise DravikError(
                "the matrix has numbers on its diagonal", where="cross_axis", expected="zeros there: the share of "
                "others", hint="an axis's own error is its scale_factor",
            )  # fmt: skip
        return np.asarray(np.eye(3) + matrix)
    return np.eye(3) + value * (np.ones((3, 3)) - np.eye(3))


def _sensitivity(value: str | float | None) -> float:
    """Return rad/s for each m/s^2."""
    if value is None:
        return 0.0
    if not isinstance(value, str):
        return float(value)
    head, slash, unit = value.rpartition("/")
    unit = {"g": "9.80665 m/s^2"}.get(unit.strip(), f"1 {unit}") if slash else ""
    try:
        return quantity(head, "angular rate") / quantity(unit, "acceleration")
    except DravikError:
        raise DravikError(
            f"{value!r} is no rate over an acceleration", where="acceleration_sensitivity",
            expected='such as "0.02 deg/s/g"',
        ) from None  # fmt: skip


def error_terms(keys: ErrorKeys, kind: str, count: int) -> ErrorTerms:
    """Return the errors in SI of a sensor that measures a ``kind`` of quantity by ``count`` outputs.

    Parameters
    ----------
    keys : ErrorKeys
        The errors as a file gives them.
    kind : str
        Kind of quantity.
    count : int
        How many outputs the sensor has.

    Returns
    -------
    ErrorTerms

    Raises
    ------
    DravikError
        With the key, for what cannot be: negative noise, a matrix that is no rotation, wrong units.

    Examples
    --------
    >>> from dravik.sensors import ErrorKeys, error_terms
    >>> terms = error_terms(ErrorKeys(noise="0.01 deg/s/sqrt(Hz)", rate="50 Hz"), "angular rate", 3)
    >>> round(float(np.degrees(terms.noise[0])), 6)
    0.05
    """
    needing = (keys.noise, keys.bias_instability, keys.random_walk, keys.jitter, keys.resolution, keys.dropouts or None)
    rate = keys.rate
    if rate is None and (keys.delay or any(v is not None for v in needing)):
        rate = DEFAULT_RATE
    steps: Sequence[tuple[str, Callable[[object], float]]] = (
        ("bias", _of_kind(kind)), ("turn_on_bias", _above(kind)), ("bias_instability", _above(kind)),
        ("random_walk", per_root_second(kind)), ("scale_factor", _of_kind("number")),
        ("resolution", _above(kind)),
    )  # fmt: skip
    found = {key: _amounts(getattr(keys, key), count, convert, key) for key, convert in steps}
    if count != 3 and (keys.misalignment is not None or keys.cross_axis is not None):
        key = "misalignment" if keys.misalignment is not None else "cross_axis"
        raise DravikError("the sensor has no three axes", where=key)
    low, high = _limits(keys, kind, count)
    noise = _noise(keys, kind, rate or DEFAULT_RATE, count)
    return ErrorTerms(
        bias=found["bias"], noise=noise, density=tuple(n / math.sqrt(rate or DEFAULT_RATE) for n in noise),
        turn_on=found["turn_on_bias"], instability=found["bias_instability"], walk=found["random_walk"],
        scale=found["scale_factor"], low=low, high=high, resolution=found["resolution"],
        matrix=_crossed(keys) @ _turned(keys) if count == 3 else np.eye(count),
        sensitivity=_sensitivity(keys.acceleration_sensitivity), rate=rate, delay=keys.delay, lag=keys.lag or 0.0,
        jitter=keys.jitter or 0.0, dropouts=keys.dropouts, correlation_time=keys.correlation_time,
    )  # fmt: skip
