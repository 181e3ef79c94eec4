"""Measured frequency responses as loops: read from a table, in series with systems, their margins and how far to
believe them.

Between the points the logarithm of the response runs by cubic splines over the logarithm of the frequency. Random
errors by coherence: J. S. Bendat, A. G. Piersol, Random Data, 3rd edition, 2000, table 9.6.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dravik.definition import arguments
from dravik.errors import DravikError
from dravik.host.files import as_path, exists
from dravik.host.notebooks import Shown, ShownAsTable
from dravik.systems.responses import frequency_response
from dravik.systems.system import LinearSystem
from dravik.units import in_si, split_column

if TYPE_CHECKING:
    from scipy.interpolate import CubicSpline

__all__ = ["MeasuredLoop", "MeasuredMargins", "ResponseCrossing", "read_response"]

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]
FEWEST = 8  # points of a loop
FINE = 24  # points between two neighbours, for peaks
SURE_STEP = math.radians(120.0)  # of phase between neighbours: beyond it a turn may have been missed
GONE = 0.3  # size of the loop at its last point, above which what follows may matter
OFF_SLOPE = 0.2  # of a power of the frequency, from which on the loop at rest is uncertain
HALF_TURN = math.radians(25.0)  # by which the count of turns may be off a whole number and still be one


class ResponseCrossing(NamedTuple):
    """A frequency (rad/s) at which a loop crosses the unit circle (``phase`` and ``delay`` margin) or the negative real
    axis (``gain`` margin as a factor); what does not belong is nan."""

    kind: str
    frequency: float
    gain: float
    phase: float
    delay: float


@dataclass(frozen=True, repr=False)
class MeasuredMargins(ShownAsTable):
    """Margins of a measured loop: factors, rad, s; ``closes`` None where the points cannot tell.

    ``doubt_decibels`` and ``doubt_degrees`` are how far the smallest margins are believed: twice by how much they
    change with every other point left out, and the random error that the coherence leaves. ``notes`` say what the range
    of the points leaves open.
    """

    crossings: list[ResponseCrossing]
    gain_up: float
    gain_down: float
    phase: float
    delay: float
    disc: float
    closes: bool | None
    doubt_decibels: float = math.nan
    doubt_degrees: float = math.nan
    notes: list[str] = field(default_factory=list)

    @property
    def gain_decibels(self) -> float:
        """The smallest gain margin either way, dB."""
        up = 20.0 * math.log10(self.gain_up) if math.isfinite(self.gain_up) else math.inf
        down = -20.0 * math.log10(self.gain_down) if self.gain_down > 0.0 else math.inf
        return min(up, down)

    def summary_table(self) -> Shown:
        """Return what a notebook shows."""
        rows = [
            ("gain margin", self.gain_decibels, self.doubt_decibels, "dB"),
            ("phase margin", math.degrees(self.phase), self.doubt_degrees, "deg"),
            ("delay margin", self.delay, math.nan, "s"), ("disc margin", self.disc, math.nan, ""),
        ]  # fmt: skip
        word = {True: "closes stably", False: "does not close stably", None: "stability not told by the points"}
        return word[self.closes], ("what", "value", "±", "unit"), rows


@dataclass(frozen=True, repr=False)
class MeasuredLoop(ShownAsTable):
    """A response at frequencies, rad/s: measured, or computed elsewhere; ``deviation`` (share) of each, if known.

    Attributes
    ----------
    omega : array, shape (k,)
        Frequencies, rad/s, rising.
    values : array, shape (k,)
        The complex response there.
    name : str
        What it is called.
    deviation : array, shape (k,), or None
        Standard deviation over the size of the response, from coherence and averages.

    Examples
    --------
    >>> import dravik as dv
    >>> w = np.geomspace(0.05, 50.0, 200)
    >>> loop = MeasuredLoop(w, 4.0 / (1j * w * (1j * w + 1.0) * (0.1j * w + 1.0)))
    >>> found = loop.margins()
    >>> round(found.gain_decibels, 2), found.closes, found.doubt_decibels < 0.1
    (8.79, True, True)
    """

    omega: Floats
    values: Complexes
    name: str = "loop"
    deviation: Floats | None = None

    def __post_init__(self) -> None:
        w = np.asarray(arguments.numbers(self.omega, "frequencies"), dtype=np.float64)
        values = np.asarray(self.values, dtype=np.complex128)
        if w.ndim != 1 or values.shape != w.shape or len(w) < FEWEST:
            raise DravikError(
                f"the response has {w.shape} frequencies and {values.shape} values",
                expected=f"as many of both, {FEWEST} or more",
            )
        if not np.all(np.diff(w) > 0.0) or not w[0] > 0.0:
            raise DravikError("the frequencies do not rise from above zero", expected="rising, in rad/s")
        if not np.all(np.isfinite(values)) or np.any(values == 0.0):
            raise DravikError("the response has values that are zero or not finite", where=self.name)
        object.__setattr__(self, "omega", w)
        object.__setattr__(self, "values", values)

    def summary_table(self) -> Shown:
        """Return what a notebook shows: frequency, gain and phase."""
        rows = zip(self.omega, 20.0 * np.log10(np.abs(self.values)), np.degrees(self.phase), strict=True)
        return f"{self.name}: {len(self.omega)} points", ("rad/s", "dB", "deg"), list(rows)

    @property
    def phase(self) -> Floats:
        """Phases, rad, without jumps."""
        return np.asarray(np.unwrap(np.angle(self.values)), dtype=np.float64)

    def __mul__(self, other: "LinearSystem | MeasuredLoop | complex") -> "MeasuredLoop":
        """Return this response times another, a number, or a system of one channel at the same frequencies."""
        if isinstance(other, MeasuredLoop):
            if not np.array_equal(self.omega, other.omega):
                raise DravikError("two responses are measured at other frequencies", expected="the same")
            factor: Any = other.values
        elif isinstance(other, LinearSystem):
            if other.D.shape != (1, 1):
                raise DravikError("a loop is of one channel", expected="a system of one input and one output")
            factor = frequency_response(other, other.outputs[0], other.inputs[0], self.omega).values
        else:
            factor = complex(other)
        return replace(self, values=self.values * factor)

    __rmul__ = __mul__

    # -- margins ---------------------------------------------------------------------------------------------------

    def margins(self, *, delay: str | float = 0.0, unstable: int = 0) -> MeasuredMargins:
        """Return the margins of the loop, closed with negative feedback, and how far to believe them.

        Parameters
        ----------
        delay : str or float, default 0
            More dead time in the loop, with its unit or in s.
        unstable : int, default 0
            How many roots of the open loop grow: a response does not tell that, and without it nothing is said of
            stability that holds.

        Returns
        -------
        MeasuredMargins

        Raises
        ------
        DravikError
            For a delay below zero.
        """
        late = in_si(delay, "time", where="delay")
        if not 0.0 <= late < math.inf:
            raise DravikError(f"the delay cannot be {delay!r}", expected="zero or more")
        loop = replace(self, values=self.values * np.exp(-1j * self.omega * late))
        found, notes = loop._found(), []
        steps = np.abs(np.diff(loop.phase))
        if float(steps.max()) > SURE_STEP:
            k = int(np.argmax(steps))
            notes.append(f"the phase turns by {math.degrees(steps[k]):.3g} deg from {loop.omega[k]:.4g} to "
                         f"{loop.omega[k + 1]:.4g} rad/s: points between are missing")  # fmt: skip
        closes, more = loop._closes(unstable)
        doubt = _doubt(found, loop._coarser()._found()) if len(self.omega) >= 2 * FEWEST else (math.inf, math.inf)
        random = loop._random(found)
        if notes:
            doubt, closes = (math.inf, math.inf), None
        disc = 0.0 if closes is False else found.disc
        found = replace(found, closes=closes, disc=disc, notes=[*notes, *more])
        decibels, degrees = (math.hypot(d, r) for d, r in zip(doubt, random, strict=True))
        return replace(found, doubt_decibels=decibels, doubt_degrees=degrees)

    def _curve(self) -> "CubicSpline":
        from scipy.interpolate import CubicSpline

        return CubicSpline(np.log(self.omega), np.stack([np.log(np.abs(self.values)), self.phase], axis=1))

    def _coarser(self) -> "MeasuredLoop":
        keep = np.unique([*range(0, len(self.omega), 2), len(self.omega) - 1])
        return MeasuredLoop(self.omega[keep], self.values[keep], self.name)

    def _found(self) -> MeasuredMargins:
        """Return crossings and margins by the splines, without a word on stability and doubt."""
        from scipy.interpolate import CubicSpline

        both, x = self._curve(), np.log(self.omega)
        size, phase = CubicSpline(x, both(x)[:, 0]), CubicSpline(x, both(x)[:, 1])
        crossings: list[ResponseCrossing] = []
        for at in _inside(size.solve(0.0), x):
            margin = math.remainder(float(phase(at)) + math.pi, 2.0 * math.pi)
            w = math.exp(at)
            crossings.append(ResponseCrossing("gain", w, math.nan, margin, margin % (2.0 * math.pi) / w))
        below, above = (float(f(self.phase)) + math.pi for f in (np.min, np.max))
        turns = range(math.floor(below / (2.0 * math.pi)), math.ceil(above / (2.0 * math.pi)) + 1)
        places = [at for turn in turns for at in _inside(phase.solve(2.0 * math.pi * turn - math.pi), x)]
        real = [(math.exp(at), math.exp(-float(size(at)))) for at in places]
        if self._integrals() == 0 and abs(float(np.angle(-self.values[0]))) < HALF_TURN:
            real.append((0.0, 1.0 / float(abs(self.values[0]))))  # at rest, where a loop is real
        crossings += [ResponseCrossing("phase", w, gain, math.nan, math.nan) for w, gain in real]
        crossings.sort(key=lambda c: c.frequency)
        sides = [c for c in crossings if c.kind == "gain"]
        value = self._finely()[1]
        peak = float(np.max(np.abs((1.0 - value) / (1.0 + value))))
        return MeasuredMargins(
            crossings, min((g for _, g in real if g >= 1.0), default=math.inf),
            max((g for _, g in real if g < 1.0), default=0.0),
            min((c.phase for c in sides), key=abs, default=math.inf), min((c.delay for c in sides), default=math.inf),
            min(2.0 / peak, 2.0), None,
        )  # fmt: skip

    def _finely(self) -> tuple[Floats, Complexes]:
        """Return logarithms of frequencies and the loop there, FINE for each interval."""
        x, both = np.log(self.omega), self._curve()
        fine = np.unique(np.concatenate([np.linspace(a, b, FINE) for a, b in pairwise(x)]))
        return fine, np.exp(both(fine)[:, 0] + 1j * both(fine)[:, 1])

    def _slope(self) -> float:
        """Return by what power of the frequency the loop falls at its first point."""
        return -float(self._curve()(math.log(self.omega[0]), 1)[0])

    def _integrals(self) -> int:
        """Return how many integrals the loop is taken to have below its first point."""
        return max(round(self._slope()), 0) if abs(self.values[0]) > 1.0 else 0

    def _closes(self, unstable: int) -> tuple[bool | None, list[str]]:
        """Return whether the closed loop is stable by Nyquist's count, and what the range leaves open."""
        loop = self._finely()[1]
        turned = np.unwrap(np.angle(1.0 + loop))
        notes, last, integrals = [], float(abs(self.values[-1])), self._integrals()
        if last > GONE:
            notes.append(f"the loop is {last:.3g} at the last point: what follows may cross -1")
        if integrals and abs(self._slope() - integrals) > OFF_SLOPE:
            notes.append(f"below {self.omega[0]:.4g} rad/s the loop is taken for one of {integrals} integrals")
        # from s just above zero, where the loop is real, each integral turns by a quarter up to the first point
        start = float(turned[0])
        first = -0.5 * math.pi * integrals if integrals else start - math.pi * round(start / math.pi)
        # the last step is the way to no gain at all
        turns = (2.0 * math.pi * round(float(turned[-1]) / (2.0 * math.pi)) - start + first) / math.pi
        if abs(turns - round(turns)) * math.pi > HALF_TURN or last > GONE:
            return None, [*notes, "whether the closed loop is stable cannot be told from this range"]
        return unstable - round(turns) == 0, notes

    def _random(self, found: MeasuredMargins) -> tuple[float, float]:
        """Return the random errors (dB, deg) at the crossings that give the margins."""
        if self.deviation is None:
            return 0.0, 0.0

        def share(kind: str) -> float:
            ones = [c.frequency for c in found.crossings if c.kind == kind]
            spread = [float(np.interp(math.log(w), np.log(self.omega), self.deviation)) for w in ones]  # type: ignore[arg-type]
            return max(spread, default=0.0)

        return 20.0 * math.log10(1.0 + share("phase")), math.degrees(share("gain"))


def _inside(places: ArrayLike, x: Floats) -> list[float]:
    return [float(v) for v in np.atleast_1d(places) if x[0] <= v <= x[-1]]


def _doubt(found: MeasuredMargins, coarse: MeasuredMargins) -> tuple[float, float]:
    """Return twice by how much the smallest margins change with half the points; infinite where one is gone with them.

    Twice, because a resonance that few points describe is not yet where the error falls with their number.
    """
    gain, other = found.gain_decibels, coarse.gain_decibels
    decibels = 0.0 if gain == other else 2.0 * abs(gain - other)
    degrees = 0.0 if found.phase == coarse.phase else 2.0 * abs(math.degrees(found.phase - coarse.phase))
    return decibels if not math.isnan(decibels) else math.inf, degrees if not math.isnan(degrees) else math.inf


def read_response(path: str | Path, *, averages: int = 0) -> MeasuredLoop:
    """Return the frequency response in a CSV file.

    Columns: ``frequency [rad/s]`` or ``[Hz]``; ``gain [dB]`` or ``gain`` and ``phase [deg]``, or ``real`` and
    ``imag``; and ``coherence`` if there is one.

    Parameters
    ----------
    path : str or path
        The file.
    averages : int, default 0
        Averages that the coherence comes from; with both the random error is known.

    Returns
    -------
    MeasuredLoop

    Raises
    ------
    DravikError
        Naming file and column, for what is missing or wrong.
    """
    import pandas as pd

    file = as_path(path)
    if not exists(file):
        raise DravikError("there is no such file", where=str(file), expected="a table of a frequency response")
    try:
        frame = pd.read_csv(file, comment="#", skipinitialspace=True)
        columns = {split_column(str(c), where=str(file)): frame[c].to_numpy(dtype=float) for c in frame.columns}
    except (ValueError, UnicodeDecodeError) as error:
        raise DravikError(f"it cannot be read: {error}", where=str(file), expected="numbers under headings") from None
    named = {name: (unit, values) for (name, unit), values in columns.items()}
    unit, w = _column(named, "frequency", ("rad/s", "Hz"), file)
    omega = 2.0 * math.pi * w if unit == "Hz" else w
    if "real" in named:
        values = _column(named, "real", ("", "-"), file)[1] + 1j * _column(named, "imag", ("", "-"), file)[1]
    else:
        unit, gain = _column(named, "gain", ("dB", "", "-"), file)
        turn, phase = _column(named, "phase", ("deg", "rad"), file)
        values = (10.0 ** (gain / 20.0) if unit == "dB" else gain) * np.exp(
            1j * (np.radians(phase) if turn == "deg" else phase)
        )
    deviation = None
    if "coherence" in named and averages:
        seen = np.clip(_column(named, "coherence", ("", "-"), file)[1], 1e-6, 1.0)
        deviation = np.sqrt((1.0 - seen) / (2.0 * arguments.number(averages, "averages") * seen))
    return MeasuredLoop(omega, values, file.stem, deviation)


def _column(
    named: dict[str, tuple[str, Floats]], name: str, units: Sequence[str], file: Path
) -> tuple[str, Floats]:  # fmt: skip
    if name not in named or named[name][0] not in units:
        known = ", ".join(f"{n} [{u}]" if u else n for n, (u, _) in named.items())
        expected = " or ".join(f"{name} [{u}]" if u else name for u in units if u != "-")
        raise DravikError(f"there is no column {name} among {known}", where=str(file), expected=expected)
    return named[name]
