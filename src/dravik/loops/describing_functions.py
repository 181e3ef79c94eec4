"""Describing functions of limits, dead zone, backlash, steps and a relay, and the limit cycles they predict.

Sources: A. Gelb, W. E. Vander Velde, Multiple-Input Describing Functions and Nonlinear System Design (1968), appendix
B; of the rate limit D. Hanke, Phase Compensation, a Means of Preventing Aircraft-Pilot Coupling Caused by Rate
Limitation, DLR-FB 98-15, 1998, with the course between the first and the full saturation integrated.
"""

import itertools
import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.loops.open_loop_response import OpenLoopResponse, least
from dravik.systems import LinearSystem
from dravik.units import in_si

__all__ = ["KINDS", "LimitCycle", "Nonlinearity", "limit_cycles"]

Floats = NDArray[np.float64]
Gain = Callable[[float], complex]  # of the fundamental, by amplitude
KINDS = ("limit", "dead zone", "backlash", "steps", "relay", "rate limit")
FULL = 1.0 / math.sqrt(1.0 + 0.25 * math.pi**2)  # share from which on a rate limit makes a triangle of a sine
LARGEST_LAG = math.radians(0.99 * 90.0)
COUNT = 400  # amplitudes looked at
REACH = (1.0005, 1e3)  # of amplitudes, over the size


@dataclass(frozen=True)
class Nonlinearity:
    """A nonlinearity of slope one.

    A ``limit`` at +-size, a ``dead zone`` of +-size, ``backlash`` of +-size in all, ``steps`` of size (rounded to the
    nearest), a ``relay`` that gives +-size, or a ``rate limit`` of +-size a second, whose gain depends on the
    frequency too.

    >>> round(Nonlinearity("relay", 1.0).gain(2.0).real, 6) == round(2 / np.pi, 6)
    True
    """

    kind: Literal["limit", "dead zone", "backlash", "steps", "relay", "rate limit"]
    size: float

    def __post_init__(self) -> None:
        arguments.word(self.kind, "a nonlinearity", KINDS)
        if not arguments.number(self.size, "size") > 0.0:
            raise DravikError(f"a {self.kind} cannot have the size {self.size:g}", expected="above zero")

    def gain(self, amplitude: float, frequency: float | None = None) -> complex:
        """Return the gain of the fundamental of a sine of an amplitude that goes through it.

        Of a rate limit at a ``frequency`` (rad/s). Raises DravikError without one there, and for an amplitude of zero.

        >>> limited = Nonlinearity("rate limit", 0.5)
        >>> print(limited.gain(1.0, 0.4), abs(round(abs(limited.gain(1.0, 2.0)), 6)) == round(1.0 / np.pi, 6))
        (1+0j) True
        """
        a, d = arguments.number(amplitude, "amplitude"), self.size
        if not a > 0.0:
            raise DravikError(f"the amplitude cannot be {a:g}", expected="above zero")
        if self.kind == "rate limit":
            if frequency is None or not frequency > 0.0:
                raise DravikError("the gain of a rate limit has no frequency", expected="frequency=..., in rad/s")
            return _rate_gain(d / (a * frequency))
        if self.kind == "relay":
            return complex(4.0 * d / (math.pi * a))
        if self.kind == "steps":
            edges = np.arange(0.5, a / d, 1.0) * d
            return complex(4.0 * d / (math.pi * a) * float(np.sum(np.sqrt(1.0 - (edges / a) ** 2))))
        if a <= d:
            return complex(1.0 if self.kind == "limit" else 0.0)
        if self.kind == "limit":
            return complex(_part(d / a))
        if self.kind == "dead zone":
            return complex(1.0 - _part(d / a))
        g = d / a
        return complex(0.5 * (1.0 + _part(1.0 - 2.0 * g)), -4.0 / math.pi * g * (1.0 - g))

    def lag_frequency(self, amplitude: float, lag: str | float) -> float:
        """Return the frequency (rad/s) at which a rate limit delays a sine of an amplitude by an angle.

        It begins to delay at size/amplitude; 90 deg is what it tends to, at any frequency it is less: of 90 deg the
        answer is that at which 99 of its hundredths are there. Raises DravikError for other nonlinearities and angles.

        >>> round(Nonlinearity("rate limit", 1.0).lag_frequency(1.0, "45 deg"), 3)
        2.221
        """
        from scipy.optimize import brentq

        angle = in_si(lag, "angle", where="lag")
        if self.kind != "rate limit" or not 0.0 < angle <= 0.5 * math.pi + 1e-9:
            raise DravikError(f"a {self.kind} has no delay of {lag!r}", expected="a rate limit, 0 to 90 deg")
        angle = min(angle, LARGEST_LAG)
        full = math.cos(angle) / (0.5 * math.pi)
        share = full if full <= FULL else brentq(lambda s: -float(np.angle(_rate_gain(s))) - angle, FULL, 1.0)
        return self.size / (arguments.number(amplitude, "amplitude") * float(share))

    def values(self, x: Floats, step: float = 1.0) -> Floats:
        """Return what comes out of a course of values, ``step`` seconds apart; backlash begins in its middle."""
        d = self.size
        if self.kind == "limit":
            return np.asarray(np.clip(x, -d, d))
        if self.kind == "dead zone":
            return np.asarray(x - np.clip(x, -d, d))
        if self.kind == "steps":
            return np.asarray(d * np.round(x / d))
        if self.kind == "relay":
            return np.asarray(d * np.sign(x))
        out, now = np.empty(len(x)), float(x[0])
        for k, value in enumerate(x):
            now = self.after(float(value), now, step)
            out[k] = now
        return out

    def after(self, value: float, before: float, step: float = 1.0) -> float:
        """Return what comes out for one value, ``before`` being what came out last, ``step`` seconds ago.

        >>> Nonlinearity("backlash", 0.5).after(2.0, 0.0)
        1.5
        """
        if self.kind == "rate limit":
            return min(max(value, before - self.size * step), before + self.size * step)
        if self.kind == "backlash":
            return min(max(before, value - self.size), value + self.size)
        return float(self.values(np.array([value]))[0])


def _rate_gain(share: float) -> complex:
    """Return the gain of a rate limit at its size over amplitude times frequency."""
    if share >= 1.0:
        return complex(1.0)
    if share <= FULL:
        # a triangle: 4/pi of its height over a right angle of phase less what its height leaves
        return 4.0 * share / math.pi * complex(math.cos(t := math.acos(0.5 * math.pi * share)), -math.sin(t))
    from scipy.optimize import brentq

    # follows until the sine falls faster than it may, then straight down until it meets the sine again
    leaves = math.acos(-share)
    top = math.sin(leaves)
    meets = float(brentq(lambda t: math.sin(t) - top + share * (t - leaves), leaves + 1e-6, leaves + math.pi))
    nodes, weights = np.polynomial.legendre.leggauss(40)

    def part(begin: float, end: float, course: Callable[[Floats], Floats]) -> complex:
        t = 0.5 * (end - begin) * nodes + 0.5 * (end + begin)
        return complex(0.5 * (end - begin) * np.sum(weights * course(t) * (np.sin(t) + 1j * np.cos(t))))

    half = part(leaves, meets, lambda t: top - share * (t - leaves)) + part(meets, leaves + math.pi, np.sin)
    return 2.0 / math.pi * half


def _part(share: float) -> float:
    """Return the gain of a limit at a share of the amplitude, from -1 to 1."""
    s = min(max(share, -1.0), 1.0)
    return 2.0 / math.pi * (math.asin(s) + s * math.sqrt(1.0 - s * s))


class LimitCycle(NamedTuple):
    """An oscillation that keeps itself up.

    ``amplitude`` into the nonlinearity, ``frequency`` (rad/s), and whether it comes back after a small change of its
    amplitude.
    """

    amplitude: float
    frequency: float
    is_stable: bool


def limit_cycles(loop: LinearSystem, nonlinearity: Nonlinearity, *, delay: str | float = 0.0) -> list[LimitCycle]:
    """Return the limit cycles that a nonlinearity in a loop predicts, smallest first: L(j w) N(a) = -1.

    ``loop`` is closed with negative feedback, as in ``margins``. The prediction takes the loop as a filter that
    passes the fundamental alone.

    Parameters
    ----------
    loop : LinearSystem
        The open loop, closed with negative feedback.
    nonlinearity : Nonlinearity
        The nonlinearity in the loop.
    delay : str or float, default 0.0
        Dead time, with its unit or in s.

    Returns
    -------
    list of LimitCycle

    Raises
    ------
    DravikError
        For a loop of more than one channel.

    Examples
    --------
    >>> loop = LinearSystem.filtered("y", "u", [4.0], [1.0, 3.0, 2.0, 0.0])
    >>> cycle = limit_cycles(loop, Nonlinearity("relay", 1.0))[0]
    >>> print(round(cycle.frequency, 6), round(cycle.amplitude, 6))  # sqrt 2, and 4/pi of 4/6
    1.414214 0.848826
    """
    require(loop, LinearSystem, "the loop")
    require(nonlinearity, Nonlinearity, "the nonlinearity")
    if len(loop.inputs) != 1 or len(loop.outputs) != 1:
        raise DravikError(
            f"the loop has {len(loop.inputs)} inputs and {len(loop.outputs)} outputs", expected="one of each"
        )
    curve = OpenLoopResponse(least(loop), in_si(delay, "time", where="delay"))
    found: list[LimitCycle] = []
    if nonlinearity.kind == "rate limit":
        found = _limited(curve, nonlinearity)
    elif nonlinearity.kind == "backlash":
        found = _turning(curve, nonlinearity.gain, nonlinearity.size)
    else:
        for w in curve.roots_of(lambda v: v.imag / np.maximum(np.abs(v), 1e-300), curve.grid()):
            at = complex(curve(w)[0])
            if at.real < 0.0:
                found += [
                    LimitCycle(a, w, _stable(curve, nonlinearity.gain, a, w))
                    for a in _amplitudes(nonlinearity, 1.0 / abs(at))
                ]
    return sorted(found)


def _limited(curve: OpenLoopResponse, n: Nonlinearity) -> list[LimitCycle]:
    """Return the cycles with a rate limit, whose gain depends on amplitude times frequency alone.

    Along the courses of full delay the loop has to be at -1 over that gain: as backlash, by the share of saturation.
    """
    return [
        LimitCycle(cycle.amplitude * n.size / cycle.frequency, cycle.frequency, cycle.is_stable)
        for cycle in _turning(curve, lambda rate: _rate_gain(1.0 / rate), 1.0)
    ]


def _amplitudes(n: Nonlinearity, gain: float) -> list[float]:
    """Return the amplitudes at which a real describing function has a gain."""
    from scipy.optimize import brentq

    low = 0.5001 if n.kind == "steps" else (1e-6 if n.kind == "relay" else REACH[0])
    a = np.geomspace(low * n.size, REACH[1] * n.size, COUNT if n.kind != "steps" else 20 * COUNT)
    off = np.array([n.gain(float(v)).real - gain for v in a])
    return [
        float(brentq(lambda v: n.gain(v).real - gain, a[k], a[k + 1], rtol=1e-12))
        for k in np.flatnonzero(off[:-1] * off[1:] < 0.0)
    ]


def _turning(curve: OpenLoopResponse, gain_of: Gain, smallest: float) -> list[LimitCycle]:
    """Return the cycles with a nonlinearity that turns the phase: for each amplitude where the loop has that phase."""
    from scipy.optimize import brentq

    def off(a: float) -> list[tuple[float, float]]:
        gain = gain_of(a)
        places = curve.roots_of(lambda v: (v * gain).imag / np.maximum(np.abs(v * gain), 1e-300), curve.grid())
        return [(w, abs(complex(curve(w)[0]) * gain) - 1.0) for w in places if (complex(curve(w)[0]) * gain).real < 0.0]

    found: list[LimitCycle] = []
    amplitudes = np.geomspace(REACH[0] * smallest, 100.0 * smallest, 80)
    before = off(float(amplitudes[0]))
    for low, high in itertools.pairwise(amplitudes):
        after = off(float(high))
        for w, size in before:
            near = min(after, key=lambda p, w=w: abs(math.log(p[0] / w)), default=None)  # type: ignore[misc]
            if near is None or size * near[1] > 0.0 or abs(math.log(near[0] / w)) > 0.5:
                continue

            def figure(a: float, w: float = w) -> float:
                return min(off(a), key=lambda p: abs(math.log(p[0] / w)))[1]

            try:
                a = float(brentq(figure, low, high, rtol=1e-10))
            except ValueError:
                continue
            at = min(off(a), key=lambda p, w=w: abs(math.log(p[0] / w)))[0]  # type: ignore[misc]
            found.append(LimitCycle(a, at, _stable(curve, gain_of, a, at)))
        before = after
    return found


def _stable(curve: OpenLoopResponse, gain_of: Gain, amplitude: float, frequency: float) -> bool:
    """Whether a little less of an oscillation grows and a little more decays, and nothing else grows.

    Judged by the loop with the gain that the nonlinearity then has.
    """

    def grows(a: float) -> int:
        gain = gain_of(a)
        one = curve.system
        scaled = OpenLoopResponse(one.with_facts(C=abs(gain) * one.C, D=abs(gain) * one.D), curve.delay)
        if abs(gain.imag) > 1e-12:
            # a turned phase, as a delay at the cycle's own frequency would turn it
            late = max(-float(np.angle(gain)) / frequency, 0.0)
            scaled = OpenLoopResponse(scaled.system, curve.delay + late)
        return scaled.count_unstable()

    return grows(amplitude * 0.97) > 0 == grows(amplitude * 1.03)
