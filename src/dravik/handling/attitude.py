"""Attitude responses to the pilot's input: bandwidth and phase delay, average phase rate, dropback; a pilot who tracks.

Bandwidth and phase delay as in MIL-STD-1797A, 4.2.1.2, and ADS-33E-PRF, 3.3.2.1; average phase rate and dropback as in
J. C. Gibson, Piloted Handling Qualities Design Criteria for High Order Flight Control Systems, AGARD CP-333, 1982; the
pilot who tracks as in T. P. Neal, R. E. Smith, A Flying Qualities Criterion for the Design of Fighter Flight-Control
Systems, J. Aircraft 8 (1971), 803.
"""

import math
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.linear import Answer

__all__ = ["Bandwidth", "Dropback", "TrackingPilot", "bandwidth", "dropback", "tracking_pilot"]

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]
GAIN_MARGIN = 10.0 ** (6.0 / 20.0)  # 6 dB
DROOP = 10.0 ** (-3.0 / 20.0)  # lowest closed-loop gain below the bandwidth: -3 dB
PILOT_DELAY = 0.3  # s
SEARCHED = 400  # gains looked at for a pilot
LEADS = np.radians(np.linspace(-75.0, 85.0, 81))  # compensation at the bandwidth that a pilot is tried with


class Bandwidth(NamedTuple):
    """Bandwidth (rad/s, the lesser of the two by phase and by gain), the frequency of -180 deg, and what lies beyond:

    phase delay (s) and average phase rate (s: rad per rad/s) from there to its double. By gain it is nan where the gain
    is never 6 dB above that at -180 deg; frequencies are infinite where the phase never comes that low.
    """

    value: float
    by_phase: float
    by_gain: float
    neutral: float
    phase_delay: float
    phase_rate: float


def bandwidth(omega: ArrayLike, response: ArrayLike) -> Bandwidth:
    """Return bandwidth and phase delay of an attitude response: attitude by stick, positive for positive at rest.

    By phase it is the frequency at which 45 deg of phase are left to -180 deg, by gain that at which the gain is 6 dB
    above the gain at -180 deg. ``omega`` rises, in rad/s, and reaches twice the frequency of -180 deg; ``response`` is
    complex. Raises DravikError where the response begins below -180 deg, or the frequencies do not reach far enough.

    >>> w = np.geomspace(0.05, 60, 4000)
    >>> found = bandwidth(w, np.exp(-0.1j * w) / (1j * w * (1j * w / 3.0 + 1.0)))
    >>> round(found.by_phase, 2), round(found.phase_delay, 3)
    (1.99, 0.073)
    """
    w, values = arguments.curve(omega, response, "frequencies")
    if w[0] <= 0.0 or np.any(values == 0.0):
        raise DravikError("a frequency or a response of zero", where="bandwidth", expected="frequencies above zero")
    phase, gain = np.unwrap(np.angle(values)), np.abs(values)
    # a response that is minus an integral at low frequencies begins at +90 deg: it is the same as at -270 deg
    phase = phase - 2.0 * math.pi * np.ceil((phase[0] - 0.5 * math.pi) / (2.0 * math.pi))
    if phase[0] < -math.pi:
        raise DravikError(
            f"the phase begins at {math.degrees(phase[0]):.0f} deg", where="bandwidth",
            expected="a response that follows the stick at low frequencies; or the other sign",
        )  # fmt: skip
    neutral = _falls_to(w, phase, -math.pi)
    by_phase = _falls_to(w, phase, -0.75 * math.pi)
    if not math.isfinite(neutral):
        return Bandwidth(by_phase, by_phase, math.nan, math.inf, 0.0, 0.0)
    if 2.0 * neutral > w[-1] * (1.0 + 1e-9):
        raise DravikError(
            f"frequencies up to {w[-1]:.3g} rad/s", where="bandwidth", expected=f"up to {2.0 * neutral:.3g} rad/s"
        )
    log_w = np.log(w)
    level = float(np.exp(np.interp(math.log(neutral), log_w, np.log(gain)))) * GAIN_MARGIN
    by_gain = _last_above(w, gain, level, neutral)
    beyond = float(np.interp(math.log(2.0 * neutral), log_w, phase))
    lost = -(beyond + math.pi)
    value = min(by_phase, by_gain) if math.isfinite(by_gain) else by_phase
    return Bandwidth(value, by_phase, by_gain, neutral, lost / (2.0 * neutral), lost / neutral)


def _falls_to(w: Floats, phase: Floats, level: float) -> float:
    """Return the first frequency at which a phase has fallen to a level; infinite where it never does."""
    below = np.flatnonzero(phase <= level)
    if not len(below):
        return math.inf
    k = int(below[0])
    if k == 0:
        return float(w[0])
    share = (phase[k - 1] - level) / (phase[k - 1] - phase[k])
    return float(np.exp(np.log(w[k - 1]) + share * (np.log(w[k]) - np.log(w[k - 1]))))


def _last_above(w: Floats, gain: Floats, level: float, below: float) -> float:
    """Return the highest frequency below another at which a gain falls through a level; nan where there is none."""
    inside = np.flatnonzero((w < below) & (gain >= level))
    if not len(inside) or inside[-1] + 1 >= len(w):
        return math.nan
    k = int(inside[-1])
    share = math.log(gain[k] / level) / math.log(gain[k] / gain[k + 1])
    return float(np.exp(np.log(w[k]) + share * (np.log(w[k + 1]) - np.log(w[k]))))


class Dropback(NamedTuple):
    """How far the attitude drops back (negative: goes on) after the stick is let go, over the steady pitch rate, s;

    the largest pitch rate over the steady one; and the steady pitch rate of a unit step.
    """

    value: float
    peak_ratio: float
    steady: float


def dropback(step: Answer, *, hold: float | None = None) -> Dropback:
    """Return dropback and pitch-rate overshoot from the pitch rate's answer to a step of the stick.

    The stick is held for ``hold`` seconds (half of the answer's time unless given) and let go; the attitude then comes
    to rest at what the rate's integral loses or gains: in the linear case the integral of the steady rate less the
    rate's answer. The slow phugoid has to be kept out of the model. Raises DravikError where no rate is steady.

    >>> import dravik as dv
    >>> rate = dv.LinearSystem.filtered("q", "stick", [4.0, 4.0], [1.0, 2.8, 4.0])
    >>> round(dropback(dv.linear.answer(rate, "q", "stick", duration=12.0)).value, 3)
    0.3
    """
    require(step, Answer, "the pitch rate's answer", "answer(model, 'q', stick)")
    t, rate = step.time, step.values
    hold = None if hold is None else arguments.number(hold, "hold")
    held = int(np.searchsorted(t, 0.5 * t[-1] if hold is None else hold))
    steady = float(rate[-1])
    tail = rate[int(0.8 * len(rate)) :]
    if steady == 0.0 or np.max(np.abs(tail / steady - 1.0)) > 0.02:
        raise DravikError("the pitch rate does not become steady", hint="a longer answer, of alpha and q alone")
    # after letting go: the integral of the step's answer from then on, less itself delayed
    lost = float(np.trapezoid(steady - rate[: held + 1], t[: held + 1])) / steady
    return Dropback(-lost, float(np.max(rate / steady)), steady)


@dataclass(frozen=True)
class TrackingPilot:
    """A pilot who tracks an attitude with a given closed-loop bandwidth: his gain, lead and lag, and what results.

    ``compensation`` is his phase at the bandwidth without the delay (deg: positive is lead), ``resonance`` the largest
    closed-loop gain (dB).
    """

    gain: float
    lead: float
    lag: float
    delay: float
    bandwidth: float
    compensation: float
    resonance: float
    omega: Floats
    closed: Complexes


def tracking_pilot(
    omega: ArrayLike, response: ArrayLike, *, bandwidth: float = 3.5, delay: float = PILOT_DELAY
) -> TrackingPilot:  # fmt: skip
    """Return the pilot K e^(-delay s) (lead s + 1)/(lag s + 1) who closes an attitude loop with the least resonance.

    Of all gains and leads (or lags) with which the closed loop has -90 deg of phase at ``bandwidth`` (rad/s) and at
    most 3 dB of droop below it, the one with the lowest resonance. ``omega`` (rad/s) rises and encloses the bandwidth;
    ``response`` is the attitude by the stick, complex. Raises DravikError where no such pilot closes the loop stably.

    >>> w = np.geomspace(0.05, 60, 2000)
    >>> found = tracking_pilot(w, 1.0 / (1j * w), bandwidth=2.5)
    >>> round(found.compensation), abs(found.resonance) < 0.1
    (7, True)
    """
    w, values = arguments.curve(omega, response, "frequencies")
    bandwidth, delay = arguments.number(bandwidth, "bandwidth"), arguments.number(delay, "delay")
    if not 0.0 <= delay <= 5.0:
        raise DravikError(f"a delay of {delay:g} s", expected="zero to 5 s")
    if not w[0] < bandwidth < w[-1]:
        raise DravikError(f"a bandwidth of {bandwidth:g} rad/s", expected=f"between {w[0]:.3g} and {w[-1]:.3g} rad/s")
    best: TrackingPilot | None = None
    for angle in LEADS:
        # the whole compensation as one lead or lag, its other corner far away
        lead, lag = (math.tan(angle) / bandwidth, 0.0) if angle > 0.0 else (0.0, -math.tan(angle) / bandwidth)
        open_loop = values * np.exp(-1j * delay * w) * (1.0 + 1j * lead * w) / (1.0 + 1j * lag * w)
        for gain in _gains(w, open_loop, bandwidth):
            closed = gain * open_loop / (1.0 + gain * open_loop)
            below = np.abs(closed[w <= bandwidth])
            if float(below.min()) < DROOP * (1.0 - 1e-9) or not _is_stable(gain * open_loop):
                continue
            resonance = 20.0 * math.log10(float(np.abs(closed).max()))
            if best is None or resonance < best.resonance:
                best = TrackingPilot(gain, lead, lag, delay, bandwidth, float(np.degrees(angle)), resonance, w, closed)
    if best is None:
        raise DravikError(
            f"no pilot closes this loop to {bandwidth:g} rad/s", expected="a lower bandwidth", where="tracking pilot"
        )
    return best


def _gains(w: Floats, open_loop: Complexes, bandwidth: float) -> list[float]:
    """Return the gains with which the closed loop has -90 deg of phase at the bandwidth.

    k L/(1 + k L) has no real part there: k |L|^2 + Re L = 0.
    """
    real = float(np.interp(bandwidth, w, open_loop.real))
    imag = float(np.interp(bandwidth, w, open_loop.imag))
    size = real**2 + imag**2
    gain = -real / size if size > 0.0 else -1.0
    return [gain] if gain > 0.0 and imag < 0.0 else []


def _is_stable(open_loop: Complexes) -> bool:
    """Whether the curve leaves -1 on its left: where its phase first falls to -180 deg, its gain is below one."""
    phase = np.unwrap(np.angle(open_loop))
    phase = phase - 2.0 * math.pi * round((phase[0] + 0.5 * math.pi) / (2.0 * math.pi))
    crossed = np.flatnonzero((phase[:-1] > -math.pi) & (phase[1:] <= -math.pi))
    return all(abs(open_loop[k]) < 1.0 for k in crossed[:1]) and bool(phase[0] > -math.pi)
