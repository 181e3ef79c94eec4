"""Margins of a loop: every crossing, the smallest of each kind, peaks of sensitivity, the disc, and Nyquist's count.

The loop is L, closed with negative feedback: 1/(1 + L) is the sensitivity S, L/(1 + L) the complementary one, T. Disc
margin: P. Seiler, A. Packard, P. Gahinet, An Introduction to Disk Margins, IEEE Control Systems 40 (2020), 78.
"""

import math
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError, require
from dravik.host.notebooks import Shown, ShownAsTable, of_records
from dravik.loops.growing_roots import GrowingRoot, count_closed, growing_roots, without
from dravik.loops.open_loop_response import INFINITE, UNBOUNDED, OpenLoopResponse, count_growing, least
from dravik.systems import LinearSystem
from dravik.units import in_si

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["Crossing", "Margins", "margins"]

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]
HALF_POWER = math.sqrt(0.5)
THROUGH = 1e7  # peak of the sensitivity of a loop that passes through -1
ZOOMS, WIDE = 5, 33  # into a peak at most, and points of each; then a quartic: its place to 1e-7, its height to 1e-12
FLAT = 1e-6  # of a peak: what five points of it differ by when the quartic may be drawn
STEPS = np.linspace(0.0, 1.0, WIDE)
#: Sensitivity, complementary sensitivity, and what the disc margin is made of.
FIGURES: tuple[Callable[[Complexes], Complexes], ...] = (
    lambda v: 1.0 / (1.0 + v), lambda v: v / (1.0 + v), lambda v: 0.5 * (1.0 - v) / (1.0 + v),
)  # fmt: skip
SMALLEST = 1e-9  # a crossing of the real axis with less gain than this is none worth a margin
WITH_DELAY = 3e-3  # the same with a delay, of the loop's largest gain up to one: it crosses again and again
SLOW_ENOUGH = 20.0  # s: the least time to double of a spiral of level 1 (MIL-F-8785C, 3.3.1.3, category B)
TINY = 1e-300  # a loop may be zero to the last bit at high frequencies
AT_REST = 1e-6  # of the lowest frequency of the grid: where the closed loop's low-frequency value is taken


class Crossing(NamedTuple):
    """A frequency (rad/s) at which the loop crosses the unit circle or the negative real axis.

    Of the first (``kind`` ``"gain"``) its ``phase`` margin (rad) and ``delay`` margin (s). Of the second (``"phase"``)
    its ``gain`` margin, the factor that brings it onto -1: above one more gain, below one less. What does not belong is
    nan.
    """

    kind: str
    frequency: float
    gain: float
    phase: float
    delay: float


class DiscFigures:
    """What a ``disc`` margin allows: gain and phase, of one loop or of each of several at once."""

    disc: float

    @property
    def disc_gain(self) -> tuple[float, float]:
        """The factors of gain, down and up, that the disc allows with no change of phase."""
        half = 0.5 * self.disc
        if math.isinf(half):
            return -1.0, math.inf
        return (1.0 - half) / (1.0 + half), (1.0 + half) / (1.0 - half) if half < 1.0 else math.inf

    @property
    def disc_phase(self) -> float:
        """The change of phase (rad) that the disc allows with no change of gain."""
        return 2.0 * math.atan(0.5 * self.disc)


@dataclass(frozen=True, repr=False)
class Margins(ShownAsTable, DiscFigures):
    """The margins of one loop; angles in rad, times in s, gains as factors.

    ``crossings`` are all of them; ``gain_up`` and ``gain_down`` the factors nearest to one from above and below (inf,
    0: none), ``phase`` the smallest phase margin (inf: the gain never crosses one), ``delay`` the least delay that
    makes it unstable (inf: none). Of an unstable loop that is past -1 ``phase`` and ``gain_decibels`` are below zero,
    what is missing; ``delay`` is nan and the disc margin zero. ``sensitivity`` and ``complementary`` are peaks with
    their frequencies, ``modulus`` the nearest that the loop comes to -1, ``disc`` the disc margin with its gain factors
    and phase. ``bandwidth`` of the closed loop: 3 dB below its low-frequency value. ``unstable_roots`` are closed-loop
    roots by eigenvalues (None with a delay), ``unstable_count`` by Nyquist's count and what the loop does not see;
    ``growing`` are those roots, each with the state that moves most in it, also where the loop does not move or see
    them.
    """

    crossings: list[Crossing]
    gain_up: float
    gain_down: float
    phase: float
    delay: float
    sensitivity: tuple[float, float]
    complementary: tuple[float, float]
    disc: float
    bandwidth: float
    unstable_roots: int | None
    unstable_count: int
    growing: list[GrowingRoot] = field(default_factory=list)
    gain_is_missing: bool = False

    def summary_table(self) -> Shown:
        """Return what a notebook shows: the smallest margins, and a row for each crossing."""
        found = f"{self.gain_decibels:.3g} dB, {math.degrees(self.phase):.3g} deg, disc {self.disc:.3g}"
        return f"{'stable' if self.is_stable else 'not stable'}: {found}", *of_records(self.rows())

    @property
    def is_stable(self) -> bool:
        """Whether the closed loop is stable, by both counts where there are two, and does not pass through -1."""
        return self.unstable_count == 0 and self.unstable_roots in (0, None) and self.sensitivity[0] < THROUGH

    @property
    def closes(self) -> bool:
        """Whether the loop closes stably; a root that it does not touch may double in SLOW_ENOUGH seconds or more.

        That is for judging one loop after another: a slow spiral is none of a pitch loop's.
        """
        hidden = [g for g in self.growing if g.is_hidden]
        own = self.unstable_count - sum(2 if g.root.imag else 1 for g in hidden)
        is_closed = own == 0 and self.agree and self.sensitivity[0] < THROUGH
        return is_closed and all(g.doubles >= SLOW_ENOUGH for g in hidden)

    @property
    def agree(self) -> bool:
        """Whether Nyquist's count and the closed loop's roots say the same."""
        return self.unstable_roots is None or self.unstable_roots == self.unstable_count

    @property
    def gain_decibels(self) -> float:
        """The smallest gain margin, either way, dB; below zero where the loop is past it."""
        size = min(self.gain_decibels_up(), self.gain_decibels_down())
        return -size if self.gain_is_missing else size

    def gain_decibels_up(self) -> float:
        """Return the change of gain upwards to the nearest crossing, dB; infinite without one."""
        return 20.0 * math.log10(self.gain_up) if math.isfinite(self.gain_up) else math.inf

    def gain_decibels_down(self) -> float:
        """Return the change of gain downwards to the nearest crossing, dB, as a positive number."""
        return -20.0 * math.log10(self.gain_down) if self.gain_down > 0.0 else math.inf

    @property
    def modulus(self) -> float:
        """The smallest distance of the loop from -1."""
        return 1.0 / self.sensitivity[0]

    def rows(self) -> list[dict[str, object]]:
        """Return one record for each crossing, in dB and deg."""
        return [
            {
                "kind": c.kind, "rad_s": c.frequency,
                "gain_margin_dB": None if math.isnan(c.gain) else 20.0 * math.log10(c.gain),
                "phase_margin_deg": None if math.isnan(c.phase) else math.degrees(c.phase),
                "delay_margin_s": None if math.isnan(c.delay) else c.delay,
            }
            for c in self.crossings
        ]  # fmt: skip

    @property
    def table(self) -> "DataFrame":
        """The crossings as a DataFrame."""
        import pandas as pd

        return pd.DataFrame(self.rows())


def margins(loop: LinearSystem, *, delay: str | float = 0.0) -> Margins:
    """Return the margins of a loop with one input and one output, closed with negative feedback.

    ``loop`` is the open loop L, continuous or sampled; ``delay`` (s) is worked in exactly. A closed loop that is
    unstable has negative margins where it is past -1. A mode that the loop does not move or see and that grows
    makes it unstable.

    Parameters
    ----------
    loop : LinearSystem
        The open loop of one input and output, continuous or sampled.
    delay : str or float, default 0.0
        Dead time, with its unit or in s.

    Returns
    -------
    Margins

    Raises
    ------
    DravikError
        For a system of more than one channel, and a delay below zero.

    Examples
    --------
    >>> import dravik as dv
    >>> loop = dv.LinearSystem.filtered("y", "u", [1.0], [1.0, 2.0, 1.0, 0.0])
    >>> found = margins(loop)
    >>> round(found.gain_up, 6), round(found.phase, 4), found.is_stable
    (2.0, 0.3733, True)
    """
    require(loop, LinearSystem, "the loop", "a LinearSystem of one input and output")
    if len(loop.inputs) != 1 or len(loop.outputs) != 1:
        raise DravikError(
            f"the loop has {len(loop.inputs)} inputs and {len(loop.outputs)} outputs", expected="one channel: part(...)"
        )
    late = in_si(delay, "time", where="delay")
    if not 0.0 <= late < math.inf:
        raise DravikError(f"the delay cannot be {delay!r}", expected="zero or more")
    if not late and abs(1.0 + loop.D[0, 0]) < 1e-12:
        raise DravikError(
            "the loop is -1 at infinite frequency: closed, it has no solution", hint="an actuator's lag, or a delay"
        )
    one = least(loop)
    hidden = count_growing(loop.A, loop.sample_time) - count_growing(one.A, one.sample_time)
    curve = OpenLoopResponse(one, late)
    w = curve.grid()
    found = sorted([*_gain_crossings(curve, w), *_phase_crossings(curve, w)], key=lambda c: c.frequency)
    gains = [c.gain for c in found if c.kind == "phase"]
    phases = [abs(c.phase) for c in found if c.kind == "gain"]
    s_peak, t_peak, (half, _) = _peaks(curve, w)
    late_by = min((c.delay for c in found if c.kind == "gain"), default=math.inf)
    up, down = min((g for g in gains if g > 1.0), default=math.inf), max((g for g in gains if g < 1.0), default=0.0)
    unseen = max(hidden, 0)
    roots = count_closed(one, late)
    own = Margins(
        found, up, down, min(phases, default=math.inf), late_by, s_peak, t_peak, 1.0 / half if half else math.inf,
        _bandwidth(curve, w),
        None if roots is None else roots + unseen, curve.count_unstable() + unseen,
    )  # fmt: skip
    if own.is_stable:
        return own
    return _missing(own, curve, growing_roots(loop, late, without(loop.poles(), one.poles())))


def _missing(own: Margins, curve: OpenLoopResponse, growing: list[GrowingRoot]) -> Margins:
    """Return the margins of an unstable loop: below zero where it is past the crossing that is nearest.

    Where other roots grow than those that the loop turns about -1, such as a slow spiral, the margins are those of a
    loop that becomes no worse up to there.
    """
    phase = min((c.phase for c in own.crossings if c.kind == "gain"), key=abs, default=math.inf)
    nearest = own.gain_up if own.gain_decibels_up() <= own.gain_decibels_down() else own.gain_down
    is_missing = False
    if math.isfinite(nearest) and nearest > 0.0:
        past = nearest ** (1.0 + 1e-3)
        one = curve.system
        other = OpenLoopResponse(one.with_facts(C=past * one.C, D=past * one.D), curve.delay)
        is_missing = other.count_unstable() < curve.count_unstable()
    past_it = is_missing or phase < 0.0
    return replace(
        own, phase=phase, delay=math.nan if past_it else own.delay, disc=0.0 if past_it else own.disc,
        gain_is_missing=is_missing, growing=growing,
    )  # fmt: skip


def _gain_crossings(curve: OpenLoopResponse, w: Floats) -> list[Crossing]:
    found = []
    for at in curve.roots_of(lambda v: np.log(np.maximum(np.abs(v), TINY)), w):
        phase = float(np.angle(-curve(at)[0]))
        found.append(Crossing("gain", at, math.nan, phase, (phase % (2.0 * math.pi)) / at))
    return found


def _phase_crossings(curve: OpenLoopResponse, w: Floats) -> list[Crossing]:
    found = []
    # where the loop is next to nothing, as a delay turns it on and on, no crossing is worth its search
    sizes = np.abs(curve(w))
    smallest = SMALLEST if not curve.delay else WITH_DELAY * min(1.0, float(sizes[np.isfinite(sizes)].max(initial=0.0)))
    felt = w[sizes > 0.3 * smallest]
    for at in curve.roots_of(lambda v: v.imag / np.maximum(np.abs(v), TINY), felt):
        value = complex(curve(at)[0])
        if value.real < 0.0 and abs(value) > smallest:
            found.append(Crossing("phase", at, 1.0 / abs(value), math.nan, math.nan))
    # the real axis is also crossed at rest, and at half the sampling rate
    for at in [0.0] if curve.sample_time is None else [0.0, math.pi / curve.sample_time]:
        value = complex(curve.at(curve.points(at))[0])
        is_real = np.isfinite(value) and abs(value.imag) < 1e-9 * abs(value)
        if is_real and value.real < 0.0 and smallest < abs(value) < UNBOUNDED:
            found.append(Crossing("phase", at, 1.0 / abs(value), math.nan, math.nan))
    # and at infinite frequency, where what the input moves at once is left
    direct = float(curve.system.D[0, 0])
    if curve.sample_time is None and not curve.delay and direct < -smallest:
        found.append(Crossing("phase", math.inf, -1.0 / direct, math.nan, math.nan))
    return found


def _peaks(curve: OpenLoopResponse, w: Floats) -> list[tuple[float, float]]:
    """Return the largest size of each of ``FIGURES`` over all frequencies, and where it is; all are sought at once."""
    with np.errstate(divide="ignore", invalid="ignore"):  # a loop may pass through -1 itself
        whole, ends = _bounded(curve(w)), curve.ends()
        found: list[tuple[float, float]] = []
        ranges: dict[int, tuple[float, float]] = {}
        tops: dict[int, float] = {}
        for n, of in enumerate(FIGURES):
            sizes = np.abs(of(whole))
            last = [(float(np.abs(of(np.array([value])))[0]), at) for at, value in ends]
            k = int(np.argmax(sizes))
            if last and max(last)[0] >= float(sizes[k]):
                found.append(max(last))
                continue
            found.append((float(sizes[k]), float(w[k])))
            if np.isfinite(sizes[k]) and 0 < k < len(w) - 1:
                ranges[n] = math.log(w[k - 1]), math.log(w[k + 1])
        for _ in range(ZOOMS if ranges else 0):
            # many points at once, then the two intervals beside the largest: a sixteenth of the range each time
            places = np.array([low + (high - low) * STEPS for low, high in ranges.values()])
            values = _bounded(curve(np.exp(places.ravel()))).reshape(places.shape)
            is_flat = True
            for row, n in enumerate(list(ranges)):
                sizes = np.abs(FIGURES[n](values[row]))
                sizes[np.isnan(sizes)] = np.inf
                best = min(max(int(np.argmax(sizes)), 1), WIDE - 2)
                ranges[n] = float(places[row, best - 1]), float(places[row, best + 1])
                first = min(max(best - 2, 0), WIDE - 5)
                near = sizes[first : first + 5]
                tops[n] = _top(places[row, first : first + 5], near)
                is_flat &= bool(near.max() < (1.0 + FLAT) * near.min())
            if is_flat:
                break
        for n, top in tops.items():
            at = math.exp(top)
            found[n] = max(float(np.abs(FIGURES[n](curve(at)))[0]), found[n][0]), at
    return found


def _bounded(values: Complexes) -> Complexes:
    """Return values of a loop with a huge number in the place of infinity, at a root on the axis."""
    return np.where(np.isfinite(values), values, INFINITE)


def _top(places: Floats, sizes: Floats) -> float:
    """Return where a peak is, by five sizes about it: the inverse square is smooth even where it is infinite."""
    a, b, c, d, e = (0.0 if math.isinf(size) else 1.0 / (size * size) for size in sizes.tolist())
    # slope, bend and its change in steps between the points, of the quartic through all five
    slope, bend = (a - 8.0 * b + 8.0 * d - e) / 12.0, (16.0 * (b + d) - a - e - 30.0 * c) / 12.0
    change = 0.5 * (e - 2.0 * d + 2.0 * b - a)
    # at the end of a range, or level to the last digits, the middle is as good
    moved = -slope / bend * (1.0 + 0.5 * slope * change / (bend * bend)) if bend > 0.0 else 0.0
    return float(places[2] + min(max(moved, -2.0), 2.0) * (places[3] - places[2]))


def _bandwidth(curve: OpenLoopResponse, w: Floats) -> float:
    """Return the first frequency at which the closed loop is 3 dB below its low-frequency value; nan without one."""
    first = curve(w[0] * AT_REST)[0] if curve.sample_time is None else curve(w[0] * 1e-3)[0]
    rest = 1.0 if not np.isfinite(first) else abs(first / (1.0 + first))
    if not rest > 0.0:
        return math.nan
    found = curve.roots_of(lambda v: np.abs(v / (1.0 + v)) - HALF_POWER * rest, w)
    return found[0] if found else math.nan
