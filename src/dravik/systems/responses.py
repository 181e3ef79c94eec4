"""Responses of one channel in time and frequency: steps, impulses, and the figures people read off them."""

import math
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError, require
from dravik.systems.exact_response import ExactResponse
from dravik.systems.matrices import NamedMatrices
from dravik.systems.system import LinearSystem
from dravik.units import in_si

__all__ = ["FrequencyResponse", "StepMetrics", "TimeResponse", "frequency_response", "time_response"]

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]
POINTS = 1200  # of a response in time
LASTS = 5.0  # time constants of the slowest root that are shown
SETTLES = 20.0  # time constants of the slowest root within which a response has settled
LONGEST = 60.0  # s, unless more is asked for: a phugoid is seen, a spiral is not waited for
LITTLE = 0.05  # of the root that adds most to a step: one that adds less is not waited for
APART = 1e10  # condition of the eigenvectors, above which roots are too close to tell their shares
SETTLED = 0.02  # of the end value: the band that a response stays in when it has settled
SLOWEST = 1e-4  # of the highest frequency shown: where the lowest is
BESIDE = np.linspace(-4.0, 4.0, 33)  # half widths of a resonance at which it is looked at besides
HALF_POWER = math.sqrt(0.5)


class StepMetrics(NamedTuple):
    """Figures of a step response.

    End value, rise time from 10 to 90 % (s), overshoot (share of the end value), peak time (s), and the time (s) after
    which it stays within 2 % of the end value; nan where there is none.
    """

    end: float
    rise: float
    overshoot: float
    peak_time: float
    settling: float


@dataclass(frozen=True)
class TimeResponse:
    """One channel's response in time to a unit step or impulse: ``time`` (s) and ``values``.

    ``curve`` is the same between and beyond these times; None of sampled systems and of values of one's own.
    """

    output: str
    input: str
    kind: str
    time: Floats
    values: Floats
    end: float
    curve: ExactResponse | None = field(default=None, repr=False, compare=False)

    def finely(self) -> tuple[Floats, Floats]:
        """Return times and values over the same time, as close as the channel's fastest root asks for."""
        return (self.time, self.values) if self.curve is None else self.curve.grid(float(self.time[-1]))

    def metrics(self) -> StepMetrics:
        """Return the figures of a step response, its crossings solved for; those that do not exist are nan.

        Of sampled systems, and of values without a ``curve``, they are by straight lines between the times, and all
        but the end nan where it has not settled within its time.
        """
        end, nan = self.end, math.nan
        if self.kind != "step" or not math.isfinite(end) or end == 0.0:
            return StepMetrics(end if self.kind == "step" else nan, nan, nan, nan, nan)
        return self._by_lines() if self.curve is None else self._by_curve(self.curve)

    def _by_curve(self, curve: ExactResponse) -> StepMetrics:
        # a root that grows and hardly takes part, as a spiral in pitch, is no matter of the time that is shown
        t, y = curve.grid(float(self.time[-1]) if curve.grows else curve.lasting(SETTLES))
        if not np.all(np.isfinite(y)):
            return StepMetrics(self.end, math.nan, math.nan, math.nan, math.nan)
        end, share = self.end, y / self.end
        low, high = (0.0 if share[0] >= part else curve.crossing(t, y, part * end) for part in (0.1, 0.9))
        k = int(np.argmax(share))
        peak = curve.top(t, k)
        over = max(curve.at(peak) / end - 1.0, 0.0)
        outside = np.flatnonzero(np.abs(share - 1.0) > SETTLED)
        settling = 0.0
        if len(outside):
            k = int(outside[-1])
            edge = end * (1.0 + math.copysign(SETTLED, share[k] - 1.0))
            settling = curve.crossing(t[k:], y[k:], edge) if k + 1 < len(t) else math.nan
        return StepMetrics(end, high - low, over, peak if over > 1e-6 else math.nan, settling)

    def _by_lines(self) -> StepMetrics:
        end, y, t, nan = self.end, self.values, self.time, math.nan
        share = y / end
        outside = np.flatnonzero(np.abs(share - 1.0) > SETTLED)
        settles = len(outside) == 0 or outside[-1] + 1 < len(t)
        settling = (
            nan if not settles else 0.0 if len(outside) == 0 else _crossing(t, np.abs(share - 1.0), SETTLED, last=True)
        )
        low, high = (_crossing(t, share, level) for level in (0.1, 0.9))
        peak = int(np.argmax(share))
        over = max(float(share[peak]) - 1.0, 0.0)
        return StepMetrics(end, high - low, over, float(t[peak]) if over > 1e-6 else nan, settling)


@dataclass(frozen=True)
class FrequencyResponse:
    """One channel over frequencies ``omega`` (rad/s): complex ``values``, and its static gain."""

    output: str
    input: str
    omega: Floats
    values: Complexes
    static: float

    @property
    def decibels(self) -> Floats:
        """Gains in dB."""
        found: Floats = 20.0 * np.log10(np.maximum(np.abs(self.values), 1e-300))
        return found

    @property
    def phase(self) -> Floats:
        """Phases in rad, without jumps over the frequencies; the first between -pi and pi."""
        found: Floats = np.unwrap(np.angle(self.values))
        return found

    def bandwidth(self) -> float:
        """Return the first frequency (rad/s) at which the gain is 3 dB below the static one; nan without."""
        if not math.isfinite(self.static) or self.static == 0.0:
            return math.nan
        return _crossing(self.omega, np.abs(self.values / self.static), HALF_POWER)

    def peak(self) -> tuple[float, float]:
        """Return the largest gain and its frequency (rad/s)."""
        at = int(np.argmax(np.abs(self.values)))
        return float(np.abs(self.values[at])), float(self.omega[at])


def time_response(
    system: LinearSystem, output: str, input: str, *, kind: Literal["step", "impulse"] = "step",
    duration: str | float | None = None,
) -> TimeResponse:  # fmt: skip
    """Return the response of one channel to a unit step or impulse, from rest, exact at its times.

    ``duration`` is five time constants of the slowest root of the channel unless given, at most a minute. Of a
    sampled system the impulse is a one at the first sample.

    Parameters
    ----------
    system : LinearSystem
        The linear system.
    output : str
        Name of the output.
    input : str
        Name of the input.
    kind : {"step", "impulse"}, default "step"
        Of what it is the response.
    duration : str or float, optional
        With its unit or in s.

    Returns
    -------
    TimeResponse

    Raises
    ------
    DravikError
        For another kind, and for an impulse into a channel that passes it on directly.

    Examples
    --------
    >>> import dravik as dv
    >>> lag = dv.LinearSystem.of([[-2.0]], [[2.0]], states=["x"], inputs=["u"], outputs=["y"], C=[[1.0]])
    >>> found = time_response(lag, "y", "u").metrics()
    >>> round(found.rise, 3), round(found.settling, 3)
    (1.099, 1.956)
    """
    require(system, NamedMatrices, "the system")
    if kind not in ("step", "impulse"):
        raise DravikError(f"there is no response to {kind!r}", expected="'step' or 'impulse'")
    channel = system.part(inputs=[input], outputs=[output])
    lasts = _lasting(channel) if duration is None else in_si(duration, "time", where="duration")
    if not 0.0 < lasts < math.inf:
        raise DravikError(f"the duration cannot be {duration!r}", expected="a time above zero")
    one = channel.minimal()
    end = float(channel.gains()[0, 0]) if kind == "step" and _settles(one) else math.nan
    if system.sample_time is not None:
        t = system.sample_time * np.arange(max(2, round(lasts / system.sample_time) + 1), dtype=np.float64)
        u = np.zeros((len(t), 1))
        u[: len(t) if kind == "step" else 1] = 1.0
        return TimeResponse(output, input, kind, t, one.response(t, u)[1][:, 0], end)
    if kind == "step":
        curve = ExactResponse(one, held=1.0)
        return TimeResponse(output, input, kind, *curve.even(lasts, POINTS), end, curve)
    if np.any(one.D != 0.0):
        raise DravikError(f"the impulse response of {output} to {input} begins with an impulse", hint="a step")
    curve = ExactResponse(one, start=one.B[:, 0])
    return TimeResponse(output, input, kind, *curve.even(lasts, POINTS), end, curve)


def frequency_response(system: LinearSystem, output: str, input: str, omega: Floats | None = None) -> FrequencyResponse:
    """Return one channel over frequencies: somewhat beyond its roots unless ``omega`` (rad/s) is given.

    Parameters
    ----------
    system : LinearSystem
        The linear system.
    output : str
        Name of the output.
    input : str
        Name of the input.
    omega : array of float, optional
        Frequencies, rad/s; somewhat beyond the roots unless given.

    Returns
    -------
    FrequencyResponse

    Examples
    --------
    >>> import dravik as dv
    >>> lag = dv.LinearSystem.of([[-2.0]], [[2.0]], states=["x"], inputs=["u"], outputs=["y"], C=[[1.0]])
    >>> round(frequency_response(lag, "y", "u").bandwidth(), 3)
    2.0
    """
    require(system, NamedMatrices, "the system")
    channel = system.part(inputs=[input], outputs=[output])
    if omega is None:
        transfer = channel.transfer(input, output)
        roots = np.concatenate([transfer.poles, transfer.zeros])
        if system.sample_time is not None:
            roots = np.log(roots[np.abs(roots) > 1e-6].astype(complex)) / system.sample_time
        sizes = np.abs(roots)
        sizes = sizes[sizes > 1e-4]
        low, high = (float(sizes.min()), float(sizes.max())) if len(sizes) else (1.0, 1.0)
        high = 4.0 * high if system.sample_time is None else math.pi / system.sample_time
        omega = np.geomspace(max(0.1 * min(low, high), SLOWEST * high), high, 800)
        # resonances are narrow: their frequencies, and those a fraction of their width beside, belong to the grid
        near = (np.abs(roots.imag) + BESIDE[:, None] * np.abs(roots.real)).ravel()
        near = np.concatenate([sizes, near])
        omega = np.unique(np.concatenate([omega, near[(near > omega[0]) & (near < omega[-1])]]))
    values = channel.frequency_response(omega)[:, 0, 0]
    return FrequencyResponse(output, input, np.asarray(omega, dtype=float), values, float(channel.gains()[0, 0]))


def _settles(system: LinearSystem) -> bool:
    """Whether every root decays."""
    return bool(np.all(system.poles().real < 0.0 if system.sample_time is None else np.abs(system.poles()) < 1.0))


def _lasting(channel: LinearSystem) -> float:
    """Return how long a channel's response is worth showing, s."""
    one = channel.minimal()
    poles, shares = _shares(one)
    if channel.sample_time is not None:
        kept = np.abs(poles) > 1e-9
        poles, shares = np.log(poles[kept].astype(complex)) / channel.sample_time, shares[kept]
    moving = np.abs(poles.real)
    moves = moving > 1e-9 * max(float(np.abs(poles).max(initial=0.0)), 1e-9)
    # a slow root that hardly takes part, as a spiral in pitch, does not stretch what is shown
    matters = moves & (shares >= LITTLE * float(shares[moves].max(initial=0.0)))
    return min(LASTS / float(moving[matters].min()), LONGEST) if np.any(matters) else 10.0


def _shares(channel: LinearSystem) -> tuple[Complexes, Floats]:
    """Return the poles of a minimal channel and how much each adds to a step; all the same where they are not apart."""
    if not len(channel.A):
        return np.zeros(0, dtype=np.complex128), np.zeros(0)
    poles, vectors = np.linalg.eig(channel.A)
    poles = np.asarray(poles, dtype=np.complex128)
    if np.linalg.cond(vectors) > APART:
        return poles, np.ones(len(poles))
    residues = (channel.C[0] @ vectors) * np.linalg.solve(vectors, channel.B[:, 0].astype(complex))
    away = np.abs(poles) if channel.sample_time is None else np.abs(poles - 1.0)
    return poles, np.asarray(np.abs(residues) / np.maximum(away, 1e-300), dtype=np.float64)


def _crossing(x: Floats, y: Floats, level: float, *, last: bool = False) -> float:
    """Return where y crosses a level for the first (or last) time, by a straight line between points; nan without."""
    at = np.flatnonzero((y[:-1] - level) * (y[1:] - level) <= 0.0)
    at = at[y[at] != y[at + 1]]
    if not len(at):
        return math.nan
    k = int(at[-1] if last else at[0])
    return float(x[k] + (level - y[k]) / (y[k + 1] - y[k]) * (x[k + 1] - x[k]))
