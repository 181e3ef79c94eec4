"""Gains of one loop by what it is to do: crossover, phase or gain margin, damping of a mode, bandwidth.

Each design says what can be had at most where it cannot be had.
"""

import math
from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.linear import LinearSystem
from dravik.loops.curve import LoopCurve, least
from dravik.loops.locus import root_locus
from dravik.loops.margins import TINY, Margins, margins
from dravik.units import in_si

__all__ = ["FoundGain", "Wish", "gain_for"]

Floats = NDArray[np.float64]


class FoundGain(NamedTuple):
    """A gain that multiplies the loop, with the margins of the loop it closes and the other gains that would do."""

    gain: float
    margins: Margins
    others: list[float]


class Wish(NamedTuple):
    """What a gain is to give: one of crossover (rad/s), phase margin (rad), gain margin (a factor), bandwidth (rad/s),

    or damping of the mode whose open-loop frequency is nearest to ``near`` (rad/s).
    """

    crossover: float | None = None
    phase_margin: float | None = None
    gain_margin: float | None = None
    bandwidth: float | None = None
    damping: float | None = None
    near: float | None = None


def gain_for(loop: LinearSystem, wish: Wish, *, delay: str | float = 0.0) -> FoundGain:
    """Return the gain k such that the loop k L, closed with negative feedback, has what is wished.

    Of several gains the largest that closes the loop stably (of damping the smallest); the others are listed. The sign
    is kept: k is positive. Raises DravikError for a wish that no gain fulfils, with the most that can be had, and for a
    loop that no such gain closes stably.

    >>> import dravik as dv
    >>> loop = dv.LinearSystem.filtered("y", "u", [1.0], [1.0, 3.0, 2.0, 0.0])
    >>> round(gain_for(loop, Wish(gain_margin=2.0)).gain, 6)
    3.0
    """
    require(loop, LinearSystem, "the loop")
    require(wish, Wish, "the wish", "Wish(crossover=3.0)")
    asked = [(n, v) for n, v in zip(Wish._fields, wish, strict=True) if v is not None and n != "near"]
    if len(asked) != 1:
        raise DravikError(f"{len(asked)} wishes for one gain", expected="one of " + ", ".join(Wish._fields[:5]))
    name, value = asked[0][0], arguments.number(asked[0][1], asked[0][0])
    if not value > 0.0:
        raise DravikError(f"{name} of {value:g}", expected="above zero")
    late = in_si(delay, "time", where="delay")
    curve = LoopCurve(least(loop), late)
    if name == "damping":
        gains = _damping(least(loop), value, wish.near, late)
    else:
        gains = _GAINS[name](curve, value)
    good = [
        (g, found)
        for g in sorted(gains)
        if (found := margins(_scaled(loop, g), delay=late)).is_stable and _is_smallest(found, name, value)
    ]
    if not good:
        raise DravikError(
            f"{name} {value:.4g}: " + (f"the loop is unstable, or another crossing has less, at {_some(gains)}" if gains
                                       else "no gain gives it"), hint=_most(curve, name),
        )  # fmt: skip
    # of damping the smallest: with more gain a pair parts, and comes back with the same damping at a higher frequency
    gain, found = good[0] if name == "damping" else good[-1]
    return FoundGain(gain, found, [g for g in sorted(gains) if g != gain])


def _is_smallest(found: Margins, name: str, value: float) -> bool:
    """Whether the margin that is wished is the smallest of its kind: of several crossings another may have less."""
    if name == "phase_margin":
        return found.phase > value * (1.0 - 1e-6)
    return name != "gain_margin" or found.gain_up > value * (1.0 - 1e-6)


def _some(gains: list[float]) -> str:
    """Return the smallest gains in words."""
    text = ", ".join(f"{g:.4g}" for g in sorted(gains)[:3])
    return f"the gain {text}" if len(gains) == 1 else f"the gains {text}{', ...' if len(gains) > 3 else ''}"


def _scaled(loop: LinearSystem, gain: float) -> LinearSystem:
    return loop.with_facts(C=gain * loop.C, D=gain * loop.D)


def _crossover(curve: LoopCurve, value: float) -> list[float]:
    size = float(np.abs(curve(value))[0])
    return [1.0 / size] if math.isfinite(size) and size > 0.0 else []


def _phase_margin(curve: LoopCurve, value: float) -> list[float]:
    """Return the gains that put a crossing of the unit circle where the phase is that far from -180 deg."""
    if value >= math.pi:
        return []
    found = []
    for sign in (1.0, -1.0):
        turned = np.exp(-1j * (-math.pi + sign * value))

        def figure(v: NDArray[np.complex128], turned: complex = turned) -> Floats:
            return np.asarray((v * turned).imag / np.maximum(np.abs(v), TINY))

        for w in curve.roots_of(figure, curve.grid()):
            at = complex(curve(w)[0])
            if (at * turned).real > 0.0:
                found.append(1.0 / abs(at))
    return found


def _gain_margin(curve: LoopCurve, value: float) -> list[float]:
    places = [
        w
        for w in curve.roots_of(lambda v: v.imag / np.maximum(np.abs(v), TINY), curve.grid())
        if complex(curve(w)[0]).real < 0.0
    ]
    sizes = [abs(complex(curve(w)[0])) for w in places]
    # at rest too, where more gain makes a slow root grow
    rest = curve.ends()[0][1]
    sizes += [abs(rest)] if rest.real < 0.0 and abs(rest) < 1e6 else []
    return [1.0 / (size * value) for size in sizes if size > 0.0]


def _bandwidth(curve: LoopCurve, value: float) -> list[float]:
    """Return the gains whose closed loop is 3 dB below its low-frequency value at a frequency: by bisection."""
    from scipy.optimize import brentq

    low = complex(curve(curve.grid()[0] * 1e-6)[0])
    at = complex(curve(value)[0])

    def ratio(gain: float) -> float:
        rest = abs(gain * low / (1.0 + gain * low)) if math.isfinite(abs(low)) else 1.0
        return abs(gain * at / (1.0 + gain * at)) / rest - math.sqrt(0.5)

    gains = np.geomspace(1e-4, 1e4, 400) / max(abs(at), 1e-12)
    values = np.array([ratio(g) for g in gains])
    return [
        float(brentq(ratio, gains[k], gains[k + 1], rtol=1e-13)) for k in np.flatnonzero(values[:-1] * values[1:] < 0.0)
    ]


def _damping(loop: LinearSystem, value: float, near: float | None, late: float) -> list[float]:
    """Return the gains at which the branch of one mode has a damping."""
    if late:
        raise DravikError("damping with an exact delay", hint="loop.delayed(...), a Padé fraction, and no delay")
    if value >= 1.0:
        raise DravikError(f"a damping of {value:g}", expected="below 1")
    locus = root_locus(loop)
    first = locus.roots[0]
    pairs = [k for k, r in enumerate(first) if r.imag > 1e-9 * abs(r)]
    if near is None and not pairs:
        raise DravikError("the open loop has no mode that oscillates", hint="near=..., the frequency of a real root")
    sizes = np.abs(first if locus.dt is None else np.log(first.astype(complex)) / locus.dt)
    if near is None:
        branch = min(pairs, key=lambda k: float(locus.damping()[0, k]))
    else:
        able = pairs or list(range(len(first)))
        branch = min(able, key=lambda k: abs(math.log(max(sizes[k], 1e-12) / near)))
    own = locus.roots[:, branch]
    found = []
    for c in locus.crossings(value):
        k = int(np.searchsorted(locus.gains, c.gain))
        if min(abs(c.root - own[max(k - 1, 0)]), abs(c.root.conjugate() - own[max(k - 1, 0)])) < 0.2 * abs(c.root):
            found.append(c.gain)
    return found


def _most(curve: LoopCurve, name: str) -> str:
    """Return what can be had: the largest phase margin, and at which gain."""
    if name == "phase_margin":
        w = curve.grid()
        values = curve(w)
        stable = [
            (abs(float(np.angle(-v))), float(f), 1.0 / float(abs(v)))
            for f, v in zip(w[:: max(1, len(w) // 60)], values[:: max(1, len(w) // 60)], strict=True)
            if v != 0.0 and margins(_scaled(curve.system, 1.0 / abs(v)), delay=curve.delay).is_stable
        ]
        if stable:
            angle, f, gain = max(stable)
            return f"the most is about {math.degrees(angle):.3g} deg, at {f:.3g} rad/s with gain {gain:.3g}"
    return "dravik.loops.root_locus and margins show which gains close it stably"


_GAINS: dict[str, Callable[[LoopCurve, float], list[float]]] = {
    "crossover": _crossover,
    "phase_margin": _phase_margin,
    "gain_margin": _gain_margin,
    "bandwidth": _bandwidth,
}
