"""Low-order equivalent systems: the simple aircraft that a pilot would take an augmented one for.

J. Hodgkinson, W. J. LaManna, J. L. Heyde, Handling Qualities of Aircraft with Stability and Control Augmentation
Systems, J. Royal Aeronautical Society, February 1976; MIL-STD-1797A, appendix A, 4.2.1.2: gain and phase of the
response are matched between 0.1 and 10 rad/s, a degree of phase counting as much as 0.132 dB (its square by 0.0175).
"""

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dravik.definition import arguments
from dravik.definition.arguments import LARGEST
from dravik.errors import DravikError

__all__ = ["FORMS", "EquivalentSystem", "fit_equivalent", "mismatch_envelopes"]

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]
Form = Literal["pitch", "roll", "lag", "sideslip"]
#: The numbers of each form beside gain and delay, in their order; dampings may be negative, others are positive.
_PARTS = {
    "pitch": ("damping", "frequency", "lead"),
    "roll": ("damping", "frequency", "zero_damping", "zero_frequency", "time_constant"),
    "lag": ("time_constant",),
    "sideslip": ("damping", "frequency"),
}
FORMS = tuple(_PARTS)
BAND = (0.1, 10.0)  # rad/s
PHASE_WEIGHT = 0.0175  # of a squared degree against a squared dB
GOOD_COST = 10.0  # below this cost pilots notice no difference: a rule of thumb of the report above
LONGEST_DELAY = 1.0  # s
MOST_STARTS, FINE = 4, 1.0  # starts of a search at most, and the cost below which no other is tried
POINTS = 20  # the cost is that of so many frequencies


@dataclass(frozen=True)
class EquivalentSystem:
    """A response fitted by a simple one with a delay.

    With Q(d, w) = s^2 + 2 d w s + w^2: ``pitch`` is gain (s + lead) e^(-delay s) / Q(damping, frequency), of the pitch
    rate by the stick; ``roll`` gain Q(zero_damping, zero_frequency) e^(-delay s) / (s + 1/time_constant) / Q(damping,
    frequency), of the roll rate with its Dutch roll; ``lag`` gain e^(-delay s) / (s + 1/time_constant); ``sideslip``
    gain e^(-delay s) / Q(damping, frequency). rad/s and s; what a form does not have is nan. ``cost`` is the sum of
    squared differences (dB, and degrees with their weight) for twenty frequencies; ``noticed`` the share of
    frequencies at which the difference lies outside the envelopes of dynamics that pilots do not notice.
    """

    form: str
    gain: float
    lead: float
    damping: float
    frequency: float
    time_constant: float
    zero_damping: float
    zero_frequency: float
    delay: float
    cost: float
    noticed: float
    omega: Floats
    values: Complexes

    @property
    def is_close(self) -> bool:
        """Whether the fit is good enough to be judged by: a cost of at most 10."""
        return self.cost <= GOOD_COST

    def response(self, omega: ArrayLike) -> Complexes:
        """Return its frequency response at frequencies in rad/s."""
        parts = [getattr(self, name) for name in _PARTS[self.form]]
        return self.gain * _shape(self.form, np.asarray(omega, dtype=float), *parts, delay=self.delay)


def fit_equivalent(
    omega: ArrayLike, response: ArrayLike, *, form: Form = "pitch", lead: float | None = None,
    band: tuple[float, float] = BAND,
) -> EquivalentSystem:  # fmt: skip
    """Return the equivalent system of a frequency response, by least squares over gain and phase.

    ``omega`` in rad/s, ``response`` complex. ``lead`` holds the zero of the pitch form (1/s), such as the
    aircraft's own L_alpha, and is free unless given; ``band`` is that of the match.

    Parameters
    ----------
    omega : array-like
        Frequencies, rad/s, rising.
    response : array-like
        Complex response at each frequency.
    form : Form, default "pitch"
        The form that is fitted, such as ``"pitch"``.
    lead : float, optional
        Zero of the pitch form, 1/s; free unless given.
    band : tuple (float, float), default (0.1, 10.0)
        Frequencies of the match, rad/s.

    Returns
    -------
    EquivalentSystem

    Raises
    ------
    DravikError
        For an unknown form, fewer than five frequencies in the band, and responses that are zero or no number.

    Examples
    --------
    >>> w = np.geomspace(0.1, 10, 30)
    >>> fit = fit_equivalent(w, 2.0 * np.exp(-0.12j * w) * (1j * w + 0.7) / (6.25 - w**2 + 2.5j * w))
    >>> round(fit.delay, 4), round(fit.frequency, 4), round(fit.damping, 4)
    (0.12, 2.5, 0.5)
    """
    arguments.word(form, "form", FORMS)
    w, values = arguments.curve(omega, response, "frequencies", 1)
    lead = None if lead is None else arguments.number(lead, "lead")
    if len(arguments.numbers(band, "band").ravel()) != 2:
        raise DravikError(f"the band cannot be {arguments.shown(band)}", expected="two frequencies, rad/s")
    # the standard's band: slower motions are the phugoid's, faster ones actuators and structure
    inside = (w >= band[0] * (1.0 - 1e-9)) & (w <= band[1] * (1.0 + 1e-9))
    w, values = w[inside], values[inside]
    if len(w) < 5 or not np.all(np.isfinite(values)) or np.any(np.abs(values) < 1.0 / LARGEST):
        raise DravikError(
            f"there are {len(w)} usable responses between {band[0]:g} and {band[1]:g} rad/s",
            expected="five or more, none zero",
        )
    starts = [
        (_misfit(form, w, values, sign, x, lead), sign, x) for sign in (1.0, -1.0) for x in _starts(form, w, lead)
    ]
    # of several starts, because the cost has side minima: a fast pair can pose as a delay
    cost, sign, x = math.inf, 1.0, np.zeros(0)
    # the nearest starts first, until a fit is as good as it can be
    for _, own, start in sorted(starts, key=lambda s: s[0])[:MOST_STARTS]:
        found, unknowns = _fitted(form, w, values, own, start, lead)
        if found < cost:
            cost, sign, x = found, own, unknowns
        if cost < FINE:
            break
    parts = _parts(form, x, lead)
    # the search's unknown is the logarithm of the gain, which cannot change sign
    gain = sign * math.exp(x[0])
    fitted = gain * _shape(form, w, *parts.values(), delay=float(x[-1]))
    named = dict.fromkeys(("lead", "damping", "frequency", "time_constant", "zero_damping", "zero_frequency"), math.nan)
    return EquivalentSystem(
        form, gain, **(named | parts), delay=float(x[-1]), cost=cost, noticed=_noticed(w, values / fitted), omega=w,
        values=values,
    )  # fmt: skip


def _shape(form: str, w: Floats, *parts: float, delay: float) -> Complexes:
    s = 1j * w
    found = np.exp(-delay * s)
    if form == "lag":
        return np.asarray(found / (s + 1.0 / parts[0]), dtype=np.complex128)
    damping, frequency, *more = parts
    found = found / (s**2 + 2.0 * damping * frequency * s + frequency**2)
    if form == "pitch":
        found = found * (s + more[0])
    elif form == "roll":
        zero_damping, zero, time = more
        found = found * (s**2 + 2.0 * zero_damping * zero * s + zero**2) / (s + 1.0 / time)
    return np.asarray(found, dtype=np.complex128)


def _parts(form: str, x: Floats, lead: float | None) -> dict[str, float]:
    """Return the named numbers of a search's unknowns: log gain, the form's own, the delay last."""
    values = iter(x[1:-1])
    found = {}
    for name in _PARTS[form]:
        if name == "lead" and lead is not None:
            found[name] = lead
        else:
            value = float(next(values))
            # logarithms keep frequencies and times positive; a damping may be negative
            found[name] = value if "damping" in name else math.exp(value)
    return found


def _starts(form: str, w: Floats, lead: float | None) -> list[Floats]:
    """Return where the search begins: several frequencies, one damping and delay."""
    quick, usual = [math.log(v) for v in (0.3, 1.0)], [math.log(v) for v in (1.0, 2.5, 6.0)]
    if form == "lag":
        return [np.array([0.0, t, 0.05]) for t in quick]
    if form == "roll":
        return [np.array([0.0, 0.3, f, 0.31, f + 0.05, t, 0.05]) for t in quick for f in usual]
    free = [0.0] if form == "pitch" and lead is None else []
    return [np.array([0.0, 0.6, f, *free, 0.05]) for f in usual]


def _left(
    form: str, w: Floats, values: Complexes, sign: float, x: Floats, lead: float | None
) -> Floats:  # fmt: skip
    """Return the weighted differences in gain (dB) and phase (deg) of twenty frequencies."""
    ratio = sign * math.exp(x[0]) * _shape(form, w, *_parts(form, x, lead).values(), delay=float(x[-1])) / values
    # gain in dB and phase in degrees with its weight, as the military standard adds them
    both = np.concatenate([20.0 * np.log10(np.abs(ratio)), math.sqrt(PHASE_WEIGHT) * np.degrees(np.angle(ratio))])
    return np.asarray(both * math.sqrt(POINTS / len(w)), dtype=float)


def _with_gain(form: str, w: Floats, values: Complexes, start: Floats, lead: float | None) -> Floats:
    """Return a start with the gain that fits there on average."""
    first = start.copy()
    shape = _shape(form, w, *_parts(form, first, lead).values(), delay=float(first[-1]))
    # in logarithms the best gain for a shape is the mean difference
    first[0] = float(np.mean(np.log(np.abs(values / shape))))
    return first


def _misfit(form: str, w: Floats, values: Complexes, sign: float, start: Floats, lead: float | None) -> float:
    return float(np.sum(_left(form, w, values, sign, _with_gain(form, w, values, start, lead), lead) ** 2))


def _fitted(
    form: str, w: Floats, values: Complexes, sign: float, start: Floats, lead: float | None
) -> tuple[float, Floats]:
    """Return cost and unknowns of one search."""
    from scipy.optimize import least_squares

    first = _with_gain(form, w, values, start, lead)
    low, high = np.full(len(first), -math.inf), np.full(len(first), math.inf)
    # a delay below zero would be a lead that no equivalent system has
    low[-1], high[-1] = 0.0, LONGEST_DELAY
    dampings = [k + 1 for k, name in enumerate(_PARTS[form]) if "damping" in name]
    low[dampings], high[dampings] = -1.0, 5.0
    # logarithms of what lies far outside the band make no difference there
    rest = [k for k in range(1, len(first) - 1) if k not in dampings]
    low[rest], high[rest] = math.log(1e-3), math.log(1e3)

    def left(x: Floats) -> Floats:
        return _left(form, w, values, sign, x, lead)

    found = least_squares(
        left, first, bounds=(low, high), xtol=1e-10, ftol=1e-10, gtol=1e-10,
        max_nfev=100, x_scale="jac",
    )  # fmt: skip
    return float(2.0 * found.cost), np.asarray(found.x, dtype=float)


def mismatch_envelopes(omega: ArrayLike) -> tuple[Floats, Floats, Floats, Floats]:
    """Return the bounds of added dynamics that pilots do not notice: gain up and down (dB), phase up and down (deg).

    J. R. Wood, J. Hodgkinson, Definition of Acceptable Levels of Mismatch for Equivalent Systems of Augmented CTOL
    Aircraft, McDonnell report MDC A6792, 1980, as MIL-STD-1797A gives them; from memory, not compared with a copy.

    Parameters
    ----------
    omega : array-like
        Frequencies, rad/s, rising.

    Returns
    -------
    tuple (array of float, array of float, array of float, array of float)
        Gain up, gain down (dB), phase up, phase down (deg).

    Examples
    --------
    >>> up, down, lead, lag = mismatch_envelopes([1.0])
    >>> bool(up[0] > 0.0 > down[0] and lead[0] > 0.0 > lag[0])
    True
    """
    w = np.atleast_1d(arguments.numbers(omega, "omega"))
    if np.any(np.abs(w) > 1e6):
        raise DravikError("a frequency is beyond 1e6 rad/s", where="omega", expected="those of an aircraft")
    s = 1j * w
    # bounds as transfer functions: no table to interpolate
    up = (3.16 * s**2 + 31.61 * s + 22.79) / (s**2 + 27.14 * s + 1.84)
    down = (0.0955 * s**2 + 9.92 * s + 2.15) / (s**2 + 11.6 * s + 4.95)
    lead = (68.89 * s**2 + 1100.12 * s - 275.22) / (s**2 + 39.94 * s + 9.99) * np.exp(0.0059 * s)
    lag = (475.32 * s**2 + 184100.0 * s + 29456.1) / (s**2 + 11.66 * s + 0.0389) * np.exp(-0.0072 * s)
    gains = [20.0 * np.log10(np.abs(bound)) for bound in (up, down)]
    phases = [np.degrees(np.angle(bound)) for bound in (lead, lag)]
    return gains[0], gains[1], phases[0], phases[1]


def _noticed(w: Floats, ratio: Complexes) -> float:
    """Return the share of frequencies at which the response over its fit lies outside the envelopes."""
    up, down, lead, lag = mismatch_envelopes(w)
    decibels, degrees = 20.0 * np.log10(np.abs(ratio)), np.degrees(np.angle(ratio))
    outside = (decibels > up) | (decibels < down) | (degrees > lead) | (degrees < lag)
    return float(np.mean(outside))
