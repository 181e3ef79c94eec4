"""Root locus: the closed loop's roots over a gain, its branches, and the gains at which they cross a border."""

import itertools
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.aircraft.air_of_point import in_air_of
from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.linear import OperatingInstant, linearise
from dravik.linear.root_paths import matched
from dravik.loops.margins import margins
from dravik.loops.open_loop_response import least
from dravik.systems import LinearSystem
from dravik.systems.reduction import transmission_zeros
from dravik.trimming import TrimPoint

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["LocusCrossing", "RootLocus", "locus_of_roots", "locus_over_gain", "locus_over_parameter"]

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]
COUNT, MOST = 200, 1000
DECADES = (-3.0, 2.0)  # of gains that are shown, about the one at which the loop's own gain is felt
HARDLY = 1e-3  # of a root: a change that is none
ROUNDED = 1e-9  # of the largest root: what stands still
SPLITS = 7  # how often an interval is halved in which a branch goes too far to be followed


class LocusCrossing(NamedTuple):
    """A gain at which a root crosses a border, the root (1/s, or of z), and whether it becomes worse with more gain."""

    gain: float
    root: complex
    worse: bool


@dataclass(frozen=True)
class RootLocus:
    """Roots over gains: ``roots`` (gains, branches), open-loop ``zeros``, ``sample_time`` (s) of a sampled loop.

    ``at`` gives the roots at any gain.
    """

    gains: Floats
    roots: Complexes
    zeros: Complexes
    at: Callable[[float], Complexes]
    sample_time: float | None = None

    def crossings(self, damping: float = 0.0) -> list[LocusCrossing]:
        """Return the gains at which a root crosses the border of stability, or a line of damping, solved for.

        A damping of zero is the imaginary axis (sampled: the unit circle), real roots included; of a sampled loop the
        damping is that of log(z)/sample_time. Raises DravikError for a damping of one or more.
        """
        ratio = arguments.number(damping, "damping")
        if not -1.0 < ratio < 1.0:
            raise DravikError(f"there is no line of damping {ratio:g}", expected="between -1 and 1")

        def border(root: Complexes) -> Floats:
            s = _continuous(root, self.sample_time)
            # linear in s, so that it has no kink at the origin
            return np.asarray(s.real + ratio * np.abs(s.imag) / math.sqrt(1.0 - ratio**2))

        sizes = border(self.roots)
        # a root at rest, such as a heading's, has a sign by rounding alone
        largest = np.abs(_continuous(self.roots, self.sample_time))
        rounded = ROUNDED * float(largest[np.isfinite(largest)].max(initial=0.0))
        found: list[LocusCrossing] = []
        for branch in range(self.roots.shape[1]):
            own = sizes[:, branch]
            moves = np.maximum(np.abs(own[:-1]), np.abs(own[1:])) > rounded
            for k in np.flatnonzero(((own[:-1] < 0.0) != (own[1:] < 0.0)) & moves):
                found += self._solved(int(k), branch, border)
        found.sort(key=lambda c: (c.gain, -c.root.imag))
        # the lower one of a pair crosses with the upper one
        kept: list[LocusCrossing] = []
        for c in found:
            if c.root.imag >= -1e-9 * abs(c.root) and not any(
                abs(c.gain - o.gain) < 1e-9 * abs(o.gain) and abs(c.root - o.root) < 1e-6 * abs(o.root) + 1e-12
                for o in kept
            ):
                kept.append(c)
        return kept

    def _solved(self, k: int, branch: int, border: Callable[[Complexes], Floats]) -> list[LocusCrossing]:
        from scipy.optimize import brentq

        low, high = float(self.gains[k]), float(self.gains[k + 1])
        a, b = self.roots[k, branch], self.roots[k + 1, branch]

        def figure(gain: float) -> float:
            share = (gain - low) / (high - low)
            return float(border(self._near(gain, a + share * (b - a)))[0])

        if figure(low) * figure(high) > 0.0:
            return []
        gain = float(brentq(figure, low, high, xtol=1e-15, rtol=1e-14))
        root = complex(self._near(gain, a + (gain - low) / (high - low) * (b - a))[0])
        return [LocusCrossing(gain, root, bool(figure(high) > figure(low)) == (abs(high) > abs(low)))]

    def _near(self, gain: float, where: complex) -> Complexes:
        own = self.at(gain)
        return own[[int(np.argmin(np.abs(own - where)))]]

    def damping(self) -> Floats:
        """Return the damping of every root; 1 of a real one that decays."""
        s = _continuous(self.roots, self.sample_time)
        with np.errstate(invalid="ignore", divide="ignore"):
            found = np.where(np.abs(s) > 0.0, -s.real / np.abs(s), 1.0)
        return np.asarray(found)

    @property
    def table(self) -> "DataFrame":
        """One row for each gain and branch."""
        import pandas as pd

        return pd.DataFrame(
            [
                {"gain": gain, "branch": k, "real_1_s": root.real, "imag_1_s": root.imag}
                for gain, row in zip(self.gains, self.roots, strict=True)
                for k, root in enumerate(row)
            ]
        )


def locus_over_gain(loop: LinearSystem, gains: Sequence[float] | None = None) -> RootLocus:
    """Return the roots of a loop closed with negative feedback over a gain that multiplies it.

    ``loop`` is the open loop L of one input and output (1 + gain L = 0); ``gains`` rise, and reach from a
    thousandth to a hundred times the gain at which L is felt unless given. Negative gains are positive feedback.

    Parameters
    ----------
    loop : LinearSystem
        The open loop, closed with negative feedback.
    gains : sequence of float, optional
        Rising; chosen by the loop unless given.

    Returns
    -------
    RootLocus

    Raises
    ------
    DravikError
        For gains that do not rise, and where 1 + gain D is zero.

    Examples
    --------
    >>> import dravik as dv
    >>> loop = dv.LinearSystem.filtered("y", "u", [1.0], [1.0, 3.0, 2.0, 0.0])
    >>> round(locus_over_gain(loop).crossings()[0].gain, 6)
    6.0
    """
    require(loop, LinearSystem, "the loop")
    if len(loop.inputs) != 1 or len(loop.outputs) != 1:
        raise DravikError(
            f"the loop has {len(loop.inputs)} inputs and {len(loop.outputs)} outputs", expected="one of each"
        )
    loop = least(loop)
    a, b, c, d = loop.A, loop.B, loop.C, float(loop.D[0, 0])

    def roots(gain: float) -> Complexes:
        if abs(1.0 + gain * d) < 1e-12:
            raise DravikError(f"at gain {gain:g} the loop has no solution", expected="1 + gain D other than zero")
        return np.asarray(np.linalg.eigvals(a - b @ c * (gain / (1.0 + gain * d))), dtype=complex)

    zeros = transmission_zeros(a, b, c, loop.D)
    return locus_of_roots(roots, _gains(loop) if gains is None else gains, zeros=zeros, sample_time=loop.sample_time)


def locus_of_roots(
    roots: Callable[[float], Complexes], gains: Sequence[float] | Floats, *, zeros: Complexes | None = None,
    sample_time: float | None = None,
) -> RootLocus:  # fmt: skip
    """Return a locus over any parameter: ``roots`` gives as many roots (1/s, or of z) for each of its values.

    Branches are followed by continuity; where one goes too far between two values, values between them are added
    for the following.

    Parameters
    ----------
    roots : callable
        Gives the roots for a value.
    gains : sequence of float or array of float
        The values, rising.
    zeros : array of complex, optional
        Where branches end, 1/s or of z.
    sample_time : float, optional
        Sample time, s: a continuous loop without.

    Returns
    -------
    RootLocus

    Raises
    ------
    DravikError
        For values that do not rise.

    Examples
    --------
    >>> found = locus_of_roots(lambda k: np.roots([1.0, 2.0, k]).astype(complex), [0.0, 0.5, 2.0])
    >>> found.roots.shape
    (3, 2)
    """
    values = arguments.numbers(gains, "gains")
    if values.ndim != 1 or len(values) < 2 or np.any(np.diff(values) <= 0.0):
        raise DravikError("the gains do not rise", expected="two or more, each above the one before")
    rows = [roots(float(values[0]))]
    for low, high in itertools.pairwise(values):
        rows.append(_followed(roots, rows[-1], float(low), float(high), SPLITS))
    return RootLocus(values, np.array(rows), np.zeros(0, dtype=complex) if zeros is None else zeros, roots, sample_time)


def locus_over_parameter(
    craft: Aircraft, point: TrimPoint, name: str, values: Sequence[float], *, states: Sequence[str] = ()
) -> RootLocus:  # fmt: skip
    """Return the roots of an aircraft with its laws over a parameter of its files, at a trimmed point that stays.

    ``values`` rise, in SI. The point is that of the present value: gains of laws do not move it, other parameters
    may, and then it is no trim. ``states`` keeps only some.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    point : TrimPoint
        The trimmed point.
    name : str
        The parameter.
    values : sequence of float
        Its values, SI, rising.
    states : sequence of str, default ()
        The states that are kept; all unless given.

    Returns
    -------
    RootLocus

    Raises
    ------
    DravikError
        For a name that is no parameter.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn", laws=["yaw_damper"])
    >>> point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
    >>> found = locus_over_parameter(craft, point, "yaw_damper_gain", [0.0, 0.3, 0.6, 0.9])
    >>> found.roots.shape[0]
    4
    """
    require(craft, Aircraft, "the aircraft")
    require(point, TrimPoint, "the point", "trim(craft, ...)")
    craft = in_air_of(craft, point.craft)
    if arguments.names([name], "parameter")[0] not in craft.parameters:
        raise DravikError(f"{craft.name} has no parameter {name!r}", expected=", ".join(craft.parameters) or "none")

    def roots(value: float) -> Complexes:
        changed = craft.with_parameters({name: value})
        instant = OperatingInstant.of(changed, point.state, point.inputs)
        model = linearise(changed, instant, coordinates=point.coordinates)
        kept = model.part(states=list(states)) if states else model
        return np.asarray(np.linalg.eigvals(kept.A), dtype=complex)

    return locus_of_roots(roots, values)


def _followed(
    roots: Callable[[float], Complexes], before: Complexes, low: float, high: float, splits: int
) -> Complexes:  # fmt: skip
    """Return the roots at ``high`` in the order of those at ``low``."""
    own = roots(high)
    order = matched(before, own)
    after = own[order]
    moved = np.abs(after - before)
    # far: further than half of the way to another root of the same instant
    apart = np.abs(after[:, None] - after[None, :]) + np.diag(np.full(len(after), np.inf))
    # roots that hardly move, such as those at rest, are not mistaken for each other
    moves = moved > HARDLY * np.abs(after) + HARDLY * HARDLY * float(np.abs(after).max(initial=0.0))
    if splits and len(after) > 1 and bool(np.any(moves & (moved > 0.5 * apart.min(axis=1)))):
        middle = 0.5 * (low + high) if low * high <= 0.0 else math.copysign(math.sqrt(low * high), high)
        first = _followed(roots, before, low, middle, splits - 1) if splits > 1 else before
        return own[matched(first, own)] if splits == 1 else _followed(roots, first, middle, high, splits - 1)
    return after


def _continuous(roots: Complexes, sample_time: float | None) -> Complexes:
    if sample_time is None:
        return np.asarray(roots)
    return np.asarray(np.log(np.where(roots == 0.0, 1e-30, roots).astype(complex)) / sample_time)


def _gains(loop: LinearSystem) -> Floats:
    """Return gains about the one at which the loop is felt: where its middle gain away from its roots is one."""
    sizes = np.abs(loop.poles())
    if loop.sample_time is not None:
        w = np.linspace(0.02, 1.0, 30) * math.pi / loop.sample_time
    else:
        sizes = sizes[sizes > 1e-6 * max(float(sizes.max(initial=0.0)), 1e-9)]
        middle = (float(sizes.min()), float(sizes.max())) if len(sizes) else (1.0, 1.0)
        w = np.geomspace(0.3 * middle[0], 3.0 * middle[1], 30)
    size = float(np.median(np.abs(loop.frequency_response(w)[:, 0, 0])))
    low, high = (10.0**k / max(size, 1e-12) for k in DECADES)
    # the gains at which the loop becomes unstable, or stable, are in it
    crossed = [c.gain for c in margins(loop).crossings if c.kind == "phase" and math.isfinite(c.frequency)]
    low, high = min([low, *(0.3 * g for g in crossed)]), max([high, *(3.0 * g for g in crossed)])
    count = COUNT / (DECADES[1] - DECADES[0]) * math.log10(high / low)
    return np.geomspace(low, high, min(round(count), MOST))
