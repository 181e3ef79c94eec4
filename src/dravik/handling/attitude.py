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
from dravik.systems import TimeResponse

__all__ = ["Bandwidth", "Dropback", "TrackingPilot", "bandwidth", "dropback", "tracking_pilot"]

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]
GAIN_MARGIN = 10.0 ** (6.0 / 20.0)  # 6 dB
DROOP = 10.0 ** (-3.0 / 20.0)  # lowest closed-loop gain below the bandwidth: -3 dB
PILOT_DELAY = 0.3  # s
LEAD = math.radians(89.9)  # the most compensation at the bandwidth that a pilot is tried with


class Bandwidth(NamedTuple):
    """Attitude bandwidth, and the phase beyond it.

    The bandwidth (rad/s) is the lesser of those by phase and by gain. Phase delay (s) and average phase rate (s: rad
    per rad/s) run from the frequency of -180 deg to its double. By gain it is nan where the gain is never 6 dB above
    that at -180 deg; by phase nan, and with it the bandwidth, where no frequency leaves 45 deg to a loop that is stable
    (then all are); frequencies are infinite where the phase never comes that low.
    """

    value: float
    by_phase: float
    by_gain: float
    neutral: float
    phase_delay: float
    phase_rate: float


def bandwidth(omega: ArrayLike, response: ArrayLike) -> Bandwidth:
    """Return bandwidth and phase delay of an attitude response: attitude by stick, positive for positive at rest.

    By phase it is the highest frequency at which 45 deg of phase are left to -180 deg and a pilot who closes the
    loop there with a gain keeps it stable; by gain that at which the gain is 6 dB above the gain at -180 deg.
    ``omega`` rises, in rad/s, and reaches twice the frequency of -180 deg; ``response`` is complex. A response that
    grows by itself, as its phase tells that rises between its ends, has its phase a turn lower for each two roots
    that grow.

    Parameters
    ----------
    omega : array-like
        Frequencies, rad/s, rising.
    response : array-like
        Attitude by the stick at each frequency, complex.

    Returns
    -------
    Bandwidth

    Raises
    ------
    DravikError
        Where the frequencies do not reach far enough.

    Examples
    --------
    >>> w = np.geomspace(0.05, 60, 4000)
    >>> found = bandwidth(w, np.exp(-0.1j * w) / (1j * w * (1j * w / 3.0 + 1.0)))
    >>> round(found.by_phase, 2), round(found.phase_delay, 3)
    (1.99, 0.073)
    """
    w, values = arguments.curve(omega, response, "frequencies")
    if w[0] <= 0.0 or np.any(values == 0.0):
        raise DravikError("a frequency or a response is zero", where="bandwidth", expected="frequencies above zero")
    gain = np.abs(values)
    phase, growing = _from_above(np.unwrap(np.angle(values))), _growing(w, values)
    by_phase = _by_phase(w, gain, phase, growing)
    # each pair of roots that grow puts the true phase a whole turn below the principal one
    phase = phase - growing // 2 * 2.0 * math.pi
    if math.isnan(by_phase):
        return Bandwidth(math.nan, math.nan, math.nan, math.nan, math.nan, math.nan)
    # where the attitude is opposite to the stick: a pilot with any gain drives it there
    neutral = _falls_to(w, phase, -math.pi, beyond=by_phase)
    if not math.isfinite(neutral):
        return Bandwidth(by_phase, by_phase, math.nan, math.inf, 0.0, 0.0)
    if 2.0 * neutral > w[-1] * (1.0 + 1e-9):
        raise DravikError(
            f"the frequencies end at {w[-1]:.3g} rad/s", where="bandwidth", expected=f"up to {2.0 * neutral:.3g} rad/s"
        )
    log_w = np.log(w)
    # on logarithmic scales the curves are nearly straight between two frequencies
    level = float(np.exp(np.interp(math.log(neutral), log_w, np.log(gain)))) * GAIN_MARGIN
    by_gain = _last_above(w, gain, level, neutral)
    # phase delay: how fast phase is lost beyond, from -180 deg to twice that frequency
    beyond = float(np.interp(math.log(2.0 * neutral), log_w, phase))
    lost = -(beyond + math.pi)
    value = min(by_phase, by_gain) if math.isfinite(by_gain) else by_phase
    return Bandwidth(value, by_phase, by_gain, neutral, lost / (2.0 * neutral), lost / neutral)


def _from_above(phase: Floats) -> Floats:
    """Return a phase that begins between -270 and +90 deg: minus an integral begins at +90 deg, the same as -270."""
    found: Floats = phase - 2.0 * math.pi * np.ceil((phase[0] - 0.5 * math.pi) / (2.0 * math.pi) - 1e-9)
    return found


def _growing(w: Floats, values: Complexes) -> int:
    """Return how many roots of a response grow, by the phase between its ends; 0 where they are not reached.

    A response of k more poles than zeros that decays ends at -90 k deg less its delay. Each root that grows takes 180
    deg off the fall of the phase, each zero to the right adds as much.
    """
    u, values = w[-max(len(w) // 20, 8) :], np.asarray(values)
    if len(w) < 32:
        return 0
    phase = _from_above(np.unwrap(np.angle(values)))[-len(u) :]
    # slope of the gain at the end: its order of fall, poles less zeros
    fall = -float(np.polyfit(np.log(u), np.log(np.abs(values[-len(u) :])), 1)[0])
    k = round(fall)
    # phase = -90 k deg - delay w + (what the slower roots still lack) / w
    parts = np.linalg.lstsq(np.stack([np.ones_like(u), -u, 1.0 / u], axis=1), phase, rcond=None)[0]
    # what the phase has beyond that of a response that decays, in half turns: one for each growing root
    halves = (float(parts[0]) + 0.5 * math.pi * k) / math.pi
    # no whole number: the frequencies do not reach to where poles and zeros have had their say
    if abs(fall - k) > 0.1 or abs(halves - round(halves)) > 0.1:
        return 0
    return max(round(halves), 0)


def _by_phase(w: Floats, gain: Floats, phase: Floats, growing: int) -> float:
    """Return the highest frequency at which the phase falls through -135 deg and a loop closed there is stable.

    Nan where it only rises through that, infinite where it stays above.
    """
    level = growing // 2 * 2.0 * math.pi - 0.75 * math.pi
    above = phase > level
    falls = np.flatnonzero(above[:-1] & ~above[1:])
    # from the highest frequency down: the highest that can be flown is the bandwidth
    for k in falls[::-1]:
        # the gain at the crossing, geometric mean of its neighbours: there the pilot makes it one
        there = math.sqrt(gain[k] * gain[k + 1])
        if growing + 2 * _encircled(gain / there, phase) == 0:
            share = (phase[k] - level) / (phase[k] - phase[k + 1])
            return float(np.exp(np.log(w[k]) + share * (np.log(w[k + 1]) - np.log(w[k]))))
    return math.inf if growing == 0 and bool(np.all(above)) else math.nan


def _encircled(gain: Floats, phase: Floats) -> int:
    """Return how often more the phase falls through -180 deg (and whole turns below) than it rises, at gains above 1.

    A phase that begins below -180 deg has fallen through it.
    """
    # on which sheet of 360 deg the phase is, -180 deg being its edge
    turn = np.floor((phase + math.pi) / (2.0 * math.pi)).astype(int)
    # only crossings at gains above one count: those encircle -1
    large = np.sqrt(gain[:-1] * gain[1:]) > 1.0
    first = int(turn[0]) if gain[0] > 1.0 else 0
    return -(first + int(np.sum(np.diff(turn)[large])))


def _falls_to(w: Floats, phase: Floats, level: float, beyond: float = 0.0) -> float:
    """Return the first frequency beyond another at which a phase has fallen to a level; infinite without one."""
    below = np.flatnonzero((phase <= level) & (w > beyond))
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
    """How far the attitude drops back after the stick is let go.

    Dropback over the steady pitch rate (s; negative: the attitude goes on), the largest pitch rate over the steady one,
    and the steady pitch rate of a unit step.
    """

    value: float
    peak_ratio: float
    steady: float


def dropback(step: TimeResponse, *, hold: float | None = None) -> Dropback:
    """Return dropback and pitch-rate overshoot from the pitch rate's response to a step of the stick.

    The stick is held for ``hold`` seconds (half of the response's time unless given) and let go; the attitude then
    comes to rest at what the rate's integral loses or gains: in the linear case the integral of the steady rate
    less the rate's response. The slow phugoid has to be kept out of the model.

    Parameters
    ----------
    step : TimeResponse
        Pitch rate after a step of the stick.
    hold : float, optional
        For how long the stick is held, s: half of the response's time unless given.

    Returns
    -------
    Dropback

    Raises
    ------
    DravikError
        Where no rate is steady.

    Examples
    --------
    >>> import dravik as dv
    >>> rate = dv.LinearSystem.filtered("q", "stick", [4.0, 4.0], [1.0, 2.8, 4.0])
    >>> round(dropback(dv.systems.time_response(rate, "q", "stick", duration=12.0)).value, 3)
    0.3
    """
    require(step, TimeResponse, "the pitch rate's response", "time_response(model, 'q', stick)")
    t, rate = step.finely()
    hold = None if hold is None else arguments.number(hold, "hold")
    held = int(np.searchsorted(t, 0.5 * t[-1] if hold is None else hold))
    steady = float(rate[-1])
    tail = rate[int(0.8 * len(rate)) :]
    if steady == 0.0 or np.max(np.abs(tail / steady - 1.0)) > 0.02:
        raise DravikError("the pitch rate does not become steady", hint="a longer response, of alpha and q alone")
    # after letting go: the integral of the step's response from then on, less itself delayed
    # what the attitude lags a straight ramp by while the stick is held
    lost = float(np.trapezoid(steady - rate[: held + 1], t[: held + 1])) / steady
    return Dropback(-lost, float(np.max(rate / steady)), steady)


@dataclass(frozen=True)
class TrackingPilot:
    """A pilot who tracks an attitude with a given closed-loop bandwidth: his gain, lead and lag, and what results.

    ``compensation`` is his phase at the bandwidth without the delay (deg: positive is lead), ``resonance`` the largest
    closed-loop gain (dB). ``is_limiting``: the more compensation the better, up to 90 deg; he is the one of 89.9 deg,
    whom no pilot can be.
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

    @property
    def is_limiting(self) -> bool:
        """Whether more compensation would be better still."""
        return abs(self.compensation) > math.degrees(LEAD) - 0.01


def tracking_pilot(
    omega: ArrayLike, response: ArrayLike, *, bandwidth: float = 3.5, delay: float = PILOT_DELAY
) -> TrackingPilot:  # fmt: skip
    """Return the pilot K e^(-delay s) (lead s + 1)/(lag s + 1) who closes an attitude loop with the least resonance.

    Of all gains and leads (or lags) with which the closed loop has -90 deg of phase at ``bandwidth`` (rad/s) and at
    most 3 dB of droop below it, the one with the lowest resonance. ``omega`` (rad/s) rises and encloses the
    bandwidth; ``response`` is the attitude by the stick, complex.

    Parameters
    ----------
    omega : array-like
        Frequencies, rad/s, rising.
    response : array-like
        Attitude by the stick at each frequency, complex.
    bandwidth : float, default 3.5
        Frequency of -90 deg of the closed loop, rad/s.
    delay : float, default 0.3
        The pilot's, s.

    Returns
    -------
    TrackingPilot

    Raises
    ------
    DravikError
        Where no such pilot closes the loop stably.

    Examples
    --------
    >>> w = np.geomspace(0.05, 60, 2000)
    >>> found = tracking_pilot(w, 1.0 / (1j * w), bandwidth=2.5)
    >>> round(found.compensation), abs(found.resonance) < 0.1
    (8, True)
    """
    w, values = arguments.curve(omega, response, "frequencies")
    bandwidth, delay = arguments.number(bandwidth, "bandwidth"), arguments.number(delay, "delay")
    if not 0.0 <= delay <= 5.0:
        raise DravikError(f"a pilot cannot have a delay of {delay:g} s", expected="zero to 5 s")
    if not w[0] < bandwidth < w[-1]:
        raise DravikError(
            f"a bandwidth of {bandwidth:g} rad/s is outside the frequencies",
            expected=f"between {w[0]:.3g} and {w[-1]:.3g} rad/s",
        )
    tried = _Tracking(w, values, bandwidth, delay, _growing(w, values))
    best = tried.best()
    if best is None:
        raise DravikError(
            f"no pilot closes this loop to {bandwidth:g} rad/s", expected="a lower bandwidth", where="tracking pilot"
        )
    return best


class _Tracking(NamedTuple):
    """The pilots of one response at one bandwidth, by their phase there; ``growing`` roots the response has itself."""

    w: Floats
    values: Complexes
    bandwidth: float
    delay: float
    growing: int

    def best(self) -> TrackingPilot | None:
        """Return the pilot of the least resonance: a grid of phases first, finer about the best of it."""
        # a grid, because the resonance has several minima; three refinements then reach 0.01 deg
        angles, span = np.linspace(-LEAD, LEAD, 359), math.radians(0.5)
        best: TrackingPilot | None = None
        for _ in range(4):
            found = [p for angle in angles if (p := self.pilot(float(angle))) is not None]
            best = min([*found, *([] if best is None else [best])], key=lambda p: p.resonance, default=None)
            if best is None:
                return None
            middle = math.radians(best.compensation)
            angles = np.clip(np.linspace(middle - span, middle + span, 41), -LEAD, LEAD)
            span /= 20.0
        return best

    def pilot(self, angle: float) -> TrackingPilot | None:
        """Return the pilot of one phase; None where he droops by more than 3 dB, or the loop is not stable."""
        # the whole compensation as one lead or lag, its other corner far away
        corner = math.tan(angle) / self.bandwidth
        lead, lag = (corner, 0.0) if angle > 0.0 else (0.0, -corner)
        w = self.w
        # the pilot's delay is exact in frequency: no fraction stands for it
        open_loop = self.values * np.exp(-1j * self.delay * w) * (1.0 + 1j * lead * w) / (1.0 + 1j * lag * w)
        for gain in _gains(w, open_loop, self.bandwidth):
            closed = gain * open_loop / (1.0 + gain * open_loop)
            # droop: how far the closed loop falls below the command under the bandwidth
            below = np.abs(closed[w <= self.bandwidth])
            if float(below.min()) < DROOP * (1.0 - 1e-9) or not self.holds(gain * open_loop):
                continue
            resonance = 20.0 * math.log10(float(np.abs(closed).max()))
            degrees = math.degrees(angle)
            return TrackingPilot(gain, lead, lag, self.delay, self.bandwidth, degrees, resonance, w, closed)
        return None

    def holds(self, open_loop: Complexes) -> bool:
        """Whether the closed loop is stable, by Nyquist's count, and the frequencies reach to where that is decided."""
        gain, phase = np.abs(open_loop), _from_above(np.unwrap(np.angle(open_loop)))
        return bool(gain[-1] < 1.0) and self.growing + 2 * _encircled(gain, phase) == 0


def _gains(w: Floats, open_loop: Complexes, bandwidth: float) -> list[float]:
    """Return the gains with which the closed loop has -90 deg of phase at the bandwidth.

    k L/(1 + k L) has no real part there: k |L|^2 + Re L = 0.
    """
    real = float(np.interp(bandwidth, w, open_loop.real))
    imag = float(np.interp(bandwidth, w, open_loop.imag))
    # solving the closed loop's real part for the gain, with L at the bandwidth between two frequencies
    size = real**2 + imag**2
    gain = -real / size if size > 0.0 else -1.0
    return [gain] if gain > 0.0 and imag < 0.0 else []
