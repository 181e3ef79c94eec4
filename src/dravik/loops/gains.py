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
from dravik.loops.locus import RootLocus, locus_over_gain
from dravik.loops.margins import TINY, Margins, margins
from dravik.loops.open_loop_response import OpenLoopResponse, least
from dravik.systems import LinearSystem
from dravik.units import in_si

__all__ = ["GainResult", "GainTarget", "gain_for"]

Floats = NDArray[np.float64]
MOST_FAILED = 12  # gains one after another that do not do, until larger ones are no longer tried
NOTHING = -1e9  # stands for a figure that a gain does not give
TRIED = 61  # gains, to find the most that can be had
AROUND = 1e4  # of the gain at which the loop's middle size is one, either way


class GainResult(NamedTuple):
    """A gain that multiplies the loop, with the margins of the loop it closes and the other gains that would do."""

    gain: float
    margins: Margins
    others: list[float]


class GainTarget(NamedTuple):
    """What a gain is to give.

    One of crossover (rad/s), phase margin (rad), gain margin (a factor), bandwidth (rad/s), or damping of the mode
    whose open-loop frequency is nearest to ``near`` (rad/s).
    """

    crossover: float | None = None
    phase_margin: float | None = None
    gain_margin: float | None = None
    bandwidth: float | None = None
    damping: float | None = None
    near: float | None = None


def gain_for(loop: LinearSystem, wish: GainTarget, *, delay: str | float = 0.0) -> GainResult:
    """Return the gain k such that the loop k L, closed with negative feedback, has what is wished.

    Of several gains the largest that closes the loop (of damping the smallest), as ``Margins.closes`` says: stably,
    but for a slow root that no gain moves; the others are listed. The sign is kept: k is positive.

    Parameters
    ----------
    loop : LinearSystem
        The open loop, closed with negative feedback.
    wish : GainTarget
        What the closed loop is to have.
    delay : str or float, default 0.0
        Dead time, with its unit or in s.

    Returns
    -------
    GainResult

    Raises
    ------
    DravikError
        For a wish that no gain fulfils, with the most that can be had, and for a loop that no such gain closes
        stably.

    Examples
    --------
    >>> import dravik as dv
    >>> loop = dv.LinearSystem.filtered("y", "u", [1.0], [1.0, 3.0, 2.0, 0.0])
    >>> round(gain_for(loop, GainTarget(gain_margin=2.0)).gain, 6)
    3.0
    """
    require(loop, LinearSystem, "the loop")
    require(wish, GainTarget, "the wish", "GainTarget(crossover=3.0)")
    asked = [(n, v) for n, v in zip(GainTarget._fields, wish, strict=True) if v is not None and n != "near"]
    if len(asked) != 1:
        raise DravikError(
            f"one gain cannot fulfil {len(asked)} wishes", expected="one of " + ", ".join(GainTarget._fields[:5])
        )
    name, value = asked[0][0], arguments.number(asked[0][1], asked[0][0])
    if not value > 0.0:
        raise DravikError(f"{name} = {value:g} is not above zero", expected="above zero")
    late = in_si(delay, "time", where="delay")
    loop = least(loop)  # what no gain moves does not decide
    curve = OpenLoopResponse(loop, late)
    if name == "damping":
        gains = _damping(loop, value, wish.near, late)
    else:
        gains = _GAINS[name](curve, value)
    good, failed = [], 0
    for g in sorted(gains):
        found = margins(_scaled(loop, g), delay=late)
        is_good = found.closes and _is_smallest(found, name, value)
        good += [(g, found)] if is_good else []
        # a delay turns the loop on and on: gains without end, all of them too large from some gain on
        failed = 0 if is_good else failed + 1
        if failed > MOST_FAILED:
            break
    if not good:
        raise DravikError(
            f"{name} {value:.4g}: " + (f"the loop is unstable, or another crossing has less, at {_some(gains)}" if gains
                                       else "no gain gives it"), hint=_most(curve, name, wish.near),
        )  # fmt: skip
    # of damping the smallest: with more gain a pair parts, and comes back with the same damping at a higher frequency
    gain, found = good[0] if name == "damping" else good[-1]
    return GainResult(gain, found, [g for g in sorted(gains) if g != gain])


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


def _crossover(curve: OpenLoopResponse, value: float) -> list[float]:
    size = float(np.abs(curve(value))[0])
    return [1.0 / size] if math.isfinite(size) and size > 0.0 else []


def _phase_margin(curve: OpenLoopResponse, value: float) -> list[float]:
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


def _gain_margin(curve: OpenLoopResponse, value: float) -> list[float]:
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


def _bandwidth(curve: OpenLoopResponse, value: float) -> list[float]:
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
        raise DravikError(
            "a gain for damping cannot be found with an exact delay",
            hint="loop.delayed(...), a Padé fraction, and no delay",
        )
    if value >= 1.0:
        raise DravikError(f"damping = {value:g} is not below 1", expected="below 1")
    locus = locus_over_gain(loop)
    own = locus.roots[:, _branch_near(locus, near)]
    found = []
    for c in locus.crossings(value):
        k = int(np.searchsorted(locus.gains, c.gain))
        if min(abs(c.root - own[max(k - 1, 0)]), abs(c.root.conjugate() - own[max(k - 1, 0)])) < 0.2 * abs(c.root):
            found.append(c.gain)
    return found


def _branch_near(locus: RootLocus, near: float | None) -> int:
    """Return the branch of the mode nearest to a frequency, or of the least damped one."""
    first = locus.roots[0]
    pairs = [k for k, r in enumerate(first) if r.imag > 1e-9 * abs(r)]
    if near is None and not pairs:
        raise DravikError("the open loop has no mode that oscillates", hint="near=..., the frequency of a real root")
    sizes = np.abs(first if locus.sample_time is None else np.log(first.astype(complex)) / locus.sample_time)
    if near is None:
        return min(pairs, key=lambda k: float(locus.damping()[0, k]))
    able = pairs or list(range(len(first)))
    return min(able, key=lambda k: abs(math.log(max(sizes[k], 1e-12) / near)))


def _most(curve: OpenLoopResponse, name: str, near: float | None) -> str:
    """Return the most that can be had of a wish, and at which gain."""
    if name == "damping":
        return _most_damping(curve.system, near)
    figures: dict[str, Callable[[Margins], float]] = {
        "phase_margin": lambda m: math.degrees(m.phase), "gain_margin": lambda m: m.gain_up,
        "crossover": lambda m: max((c.frequency for c in m.crossings if c.kind == "gain"), default=math.nan),
        "bandwidth": lambda m: m.bandwidth,
    }  # fmt: skip
    of, unit = figures[name], {"phase_margin": " deg", "gain_margin": ""}.get(name, " rad/s")
    size = float(np.median(np.abs(curve(curve.grid()))))

    def figure(log_gain: float) -> float:
        found = margins(_scaled(curve.system, math.exp(log_gain)), delay=curve.delay)
        value = of(found) if found.is_stable else math.nan
        return value if math.isfinite(value) else NOTHING

    return _largest(figure, np.linspace(-math.log(AROUND), math.log(AROUND), TRIED) - math.log(size or 1.0), unit)


def _most_damping(loop: LinearSystem, near: float | None) -> str:
    """Return the most damping that the mode takes, and at which gain; unstable gains do not count."""
    locus = locus_over_gain(loop)
    branch = _branch_near(locus, near)
    followed = locus.roots[:, branch]

    def figure(log_gain: float) -> float:
        roots = locus.at(math.exp(log_gain))
        k = int(np.clip(np.searchsorted(locus.gains, math.exp(log_gain)), 0, len(followed) - 1))
        own = roots[int(np.argmin(np.abs(roots - followed[k])))]
        s = own if locus.sample_time is None else np.log(complex(own)) / locus.sample_time
        is_stable = bool(np.all(roots.real < 0.0) if locus.sample_time is None else np.all(np.abs(roots) < 1.0))
        return float(-s.real / abs(s)) if is_stable and abs(s.imag) > 1e-6 * abs(s) else NOTHING

    return _largest(figure, np.log(locus.gains), " of the damping")


def _largest(figure: Callable[[float], float], places: Floats, unit: str) -> str:
    """Return the largest of a figure over logarithms of gains in words: of a grid, then between its neighbours."""
    from scipy.optimize import minimize_scalar

    values = [figure(float(x)) for x in places]
    k = int(np.argmax(values))
    if values[k] == NOTHING:
        return "no gain closes the loop stably: dravik.loops.locus_over_gain shows where its roots go"
    low, high = float(places[max(k - 1, 0)]), float(places[min(k + 1, len(places) - 1)])
    best = minimize_scalar(lambda x: -figure(float(x)), bounds=(low, high), method="bounded", options={"xatol": 1e-4})
    at, value = (float(best.x), -float(best.fun)) if -best.fun > values[k] else (float(places[k]), values[k])
    return f"the most is about {value:.3g}{unit}, at gain {math.exp(at):.4g}"


_GAINS: dict[str, Callable[[OpenLoopResponse, float], list[float]]] = {
    "crossover": _crossover,
    "phase_margin": _phase_margin,
    "gain_margin": _gain_margin,
    "bandwidth": _bandwidth,
}
