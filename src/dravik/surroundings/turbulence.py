"""Continuous turbulence: Dryden's and von Karman's spectra as filtered noise, discretised exactly.

Spectra, scale lengths and intensities are those of MIL-F-8785C, 3.7.2 and 3.7.3 (1980); von Karman's are met by the
rational filters of C. W. Campbell, J. Guidance 9 (1986). Between two samples a filter's state moves by the matrix
exponential, and its noise has just the covariance that the continuous filter gathers (C. F. Van Loan, IEEE Trans.
Automatic Control 23 (1978), 395): the variance does not depend on the interval.
"""

import math
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dravik.compiled import compiled
from dravik.constants import FOOT
from dravik.errors import DravikError
from dravik.systems import LinearSystem
from dravik.systems.exact_steps import noise_step
from dravik.units import in_si, quantity

__all__ = [
    "COMPONENTS",
    "Turbulence",
    "gust_filter",
    "intensities",
    "sampled_noise",
    "scale_lengths",
    "spectrum",
    "steady_root",
]

Floats = NDArray[np.float64]
KNOT = 0.514444
#: Gust velocities along, right and down (m/s) and rotations of the air about body x, y, z (rad/s).
COMPONENTS = ("u", "v", "w", "p", "q", "r")
#: Wind at 20 ft, m/s, and intensity above 2000 ft, m/s, that words stand for; the latter read off a figure.
SEVERITIES = {
    "light": (15 * KNOT, 5 * FOOT), "moderate": (30 * KNOT, 10 * FOOT), "severe": (45 * KNOT, 20 * FOOT)
}  # fmt: skip
LOW, HIGH = 1000 * FOOT, 2000 * FOOT
LOWEST = 10 * FOOT

Spectrum = Literal["dryden", "von_karman"]


def scale_lengths(height: float, model: Spectrum = "dryden") -> tuple[float, float, float]:
    """Return Lu, Lv, Lw in m at a height above ground, m: MIL-F-8785C, 3.7.3.2 and 3.7.2.1, joined between."""
    aloft = (1750.0 if model == "dryden" else 2500.0) * FOOT

    def low(h: float) -> tuple[float, float, float]:
        feet = max(h, LOWEST) / FOOT
        along = feet / (0.177 + 0.000823 * feet) ** 1.2 * FOOT
        return along, along, feet * FOOT

    if height <= LOW:
        return low(height)
    share = min((height - LOW) / (HIGH - LOW), 1.0)
    a, b, c = (x + share * (aloft - x) for x in low(LOW))
    return a, b, c


def intensities(height: float, wind_20ft: float, aloft: float) -> tuple[float, float, float]:
    """Return the standard deviations of u, v, w in m/s at a height above ground, m; ``aloft`` is that above 2000 ft."""

    def low(h: float) -> tuple[float, float, float]:
        feet = max(h, LOWEST) / FOOT
        vertical = 0.1 * wind_20ft
        along = vertical / (0.177 + 0.000823 * feet) ** 0.4
        return along, along, vertical

    if height <= LOW:
        return low(height)
    share = min((height - LOW) / (HIGH - LOW), 1.0)
    a, b, c = (x + share * (aloft - x) for x in low(LOW))
    return a, b, c


def spectrum(
    component: str, omega: Floats, *, airspeed: float, height: float, span: float, wind_20ft: float, aloft: float,
    model: Spectrum = "dryden",
) -> Floats:  # fmt: skip
    """Return the standard's one-sided spectrum over frequencies omega (rad/s): its integral is the variance."""
    lengths, sigmas = scale_lengths(height, model), intensities(height, wind_20ft, aloft)
    number = np.asarray(omega, dtype=float) / airspeed  # waves: rad/m

    def velocity(axis: int) -> Floats:
        length, variance = lengths[axis], sigmas[axis] ** 2
        x = length * number
        if model == "dryden":
            shape = 2.0 / (1.0 + x**2) if axis == 0 else (1.0 + 3.0 * x**2) / (1.0 + x**2) ** 2
        else:
            y = (1.339 * x) ** 2
            shape = 2.0 * (1.0 + y) ** (-5 / 6) if axis == 0 else (1.0 + 8 / 3 * y) * (1.0 + y) ** (-11 / 6)
        found: Floats = variance * length / (math.pi * airspeed) * shape
        return found

    if component in "uvw":
        return velocity("uvw".index(component))
    if component == "p":
        lift = 0.8 * (math.pi * lengths[2] / (4.0 * span)) ** (1 / 3)
        damped = 1.0 + (4.0 * span * number / math.pi) ** 2
        roll: Floats = sigmas[2] ** 2 / (airspeed * lengths[2]) * lift / damped
        return roll
    width, axis = (4.0, 2) if component == "q" else (3.0, 1)
    turn: Floats = number**2 / (1.0 + (width * span * number / math.pi) ** 2) * velocity(axis)
    return turn


def sampled_noise(gusts: LinearSystem, interval: float) -> tuple[Floats, Floats]:
    """Return the transition of a filter's states over an interval, s, and a factor of the noise's covariance."""
    transition, covariance = noise_step(gusts.A, gusts.B @ gusts.B.T, interval)
    return transition, _root(covariance)


def steady_root(gusts: LinearSystem) -> Floats:
    """Return a factor of the states' covariance in the steady state, to begin in it."""
    return _root(replace(gusts, C=np.eye(len(gusts.A)), D=np.zeros_like(gusts.B), outputs=gusts.states).covariance())


def _root(covariance: Floats) -> Floats:
    """Return the lower triangular factor (Cholesky) of a covariance that may be singular.

    Not eigenvectors: their signs and order are anybody's, and the same seed would give other gusts on another machine.
    """
    found = np.zeros(covariance.shape)
    _fill_root(covariance, found)
    return found


@compiled
def _fill_root(covariance: Floats, found: Floats) -> None:
    n = covariance.shape[0]
    for j in range(n):
        left = covariance[j, j]
        for k in range(j):
            left -= found[j, k] * found[j, k]
        if left <= 1e-13 * covariance[j, j]:
            continue  # zero variance but for rounding: this state has no noise of its own
        found[j, j] = math.sqrt(left)
        for i in range(j + 1, n):
            total = covariance[i, j]
            for k in range(j):
                total -= found[i, k] * found[j, k]
            found[i, j] = total / found[j, j]


def gust_filter(
    *, airspeed: float, height: float, span: float, wind_20ft: float, aloft: float, model: Spectrum = "dryden",
    shortest: float = 0.0,
) -> LinearSystem:  # fmt: skip
    """Return the filter whose outputs have the standard's spectra at an airspeed and a height; SI.

    ``shortest`` (s) is the least lag of the rotations: samples that far apart cannot tell faster ones, whose power
    would turn up at low frequencies instead. A small span at high speed turns with eddies that pass in less than that.
    """
    lengths, sigmas = scale_lengths(height, model), intensities(height, wind_20ft, aloft)
    times = [length / airspeed for length in lengths]
    one, two = (([1.0], [1.0, 1.0]), ([math.sqrt(3.0), 1.0], [1.0, 2.0, 1.0]))
    if model == "von_karman":
        one = ([0.25, 1.0], [0.1987, 1.357, 1.0])
        two = ([0.3398, 2.7478, 1.0], [0.1539, 1.9754, 2.9958, 1.0])
    sizes = (sigmas[0] * math.sqrt(2.0 * times[0]), *(sigmas[k] * math.sqrt(times[k]) for k in (1, 2)))
    velocities = [_companion(shape, t, s) for shape, t, s in zip((one, two, two), times, sizes, strict=True)]
    roll_size = sigmas[2] * math.sqrt(0.8 * math.pi / (airspeed * lengths[2]))
    roll_size *= (math.pi * lengths[2] / (4.0 * span)) ** (1 / 6)
    roll = _companion(([1.0], [1.0, 1.0]), max(4.0 * span / (math.pi * airspeed), shortest), roll_size)
    blocks = [*velocities, roll]
    count = sum(len(a) for a, _, _ in blocks)
    n = count + 2
    a, b, c = np.zeros((n, n)), np.zeros((n, 4)), np.zeros((6, n))
    at = 0
    for k, (own, drive, out) in enumerate(blocks):
        m = len(own)
        a[at : at + m, at : at + m], b[at : at + m, k], c[k, at : at + m] = own, drive, out
        at += m
    # a frozen field carried past at V turns at -dw/dx about body y and at +dv/dx about body z, and d/dx is 1/V d/dt:
    # the air ahead of the aircraft is the air that it meets later
    for row, source, width, sign in ((4, 2, 4.0, -1.0), (5, 1, 3.0, 1.0)):
        lag = max(width * span / (math.pi * airspeed), shortest)
        a[count + row - 4] += c[source] / lag
        a[count + row - 4, count + row - 4] -= 1.0 / lag
        c[row] = sign / (airspeed * lag) * c[source]
        c[row, count + row - 4] -= sign / (airspeed * lag)
    states = [f"{name}_{k + 1}" for name, (own, _, _) in zip("uvwp", blocks, strict=True) for k in range(len(own))]
    units = dict(zip(COMPONENTS, ("m/s",) * 3 + ("rad/s",) * 3, strict=True))
    noises = [f"{name}_noise" for name in "uvwp"]
    return LinearSystem(a, b, c, np.zeros((6, 4)), [*states, "q_lag", "r_lag"], noises, list(COMPONENTS), units)


def _companion(shape: tuple[list[float], list[float]], time: float, gain: float) -> tuple[Floats, Floats, Floats]:
    """Return state space of gain times a fraction of polynomials in (time s), highest powers first."""
    over, under = (np.array(side) for side in shape)
    n = len(under) - 1
    leading = under[0]
    under, over = under / leading, np.concatenate([np.zeros(n - len(over)), over]) / leading
    a = np.zeros((n, n))
    a[0] = -under[1:]
    a[1:, :-1] = np.eye(n - 1)
    b = np.zeros(n)
    b[0] = 1.0
    return a / time, b / time, gain * over


@dataclass
class Turbulence:
    """Gusts along a flight, the same for the same seed whatever the aircraft does and the integrator's step is.

    Parameters
    ----------
    severity : str, default "moderate"
        ``"light"``, ``"moderate"`` or ``"severe"`` (MIL-F-8785C).
    seed : int, default 0
        Of the random numbers.
    model : str, default "dryden"
        ``"dryden"`` or ``"von_karman"``: the spectra.
    wind_20ft : str or float, optional
        The wind at 20 ft, m/s, which sets the intensity below 1000 ft in the place of the severity.
    aloft : str or float, optional
        The intensity above 2000 ft, m/s, in the place of the severity.
    interval : float, default 0.01
        Of the samples, s, between which the gusts run straight.
    follow : bool, default True
        Whether airspeed, height above the ground and heading are those of every second, joined without a jump; the
        gusts then depend on the flight a little. Otherwise they are those of the start for the whole flight.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> start = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
    >>> run = dv.fly(craft, start=start, duration=5, turbulence=dv.Turbulence("light", seed=2))
    >>> bool(run["nz"].std() > 0.01)
    True
    """

    severity: str = "moderate"
    seed: int = 0
    model: Spectrum = "dryden"
    wind_20ft: str | float | None = None
    aloft: str | float | None = None
    interval: float = 0.01
    follow: bool = True
    strengths: tuple[float, float] = field(init=False)

    def __post_init__(self) -> None:
        if not isinstance(self.severity, str) or self.severity not in SEVERITIES:
            raise DravikError(f"there is no turbulence {self.severity!r}", expected=", ".join(SEVERITIES))
        if isinstance(self.seed, bool) or not isinstance(self.seed, int) or self.seed < 0:
            raise DravikError(f"the seed cannot be {self.seed!r}", expected="a whole number, not below zero")
        if self.model not in ("dryden", "von_karman"):
            raise DravikError(f"there is no spectrum {self.model!r}", expected="dryden or von_karman")
        self.interval = quantity(self.interval, "time", where="interval")
        if not 0.0 < self.interval <= 1.0:
            raise DravikError(f"the interval cannot be {self.interval:g} s", expected="above zero, at most 1 s")
        usual = SEVERITIES[self.severity]
        near, far = (
            u if v is None else in_si(v, "speed", where=n)
            for u, v, n in zip(usual, (self.wind_20ft, self.aloft), ("wind_20ft", "aloft"), strict=True)
        )
        self.strengths = (near, far)
