"""Control time histories: step, pulse, doublet, 3-2-1-1, ramp, gust, sine, frequency sweep, or measured values.

A history is added to the input's value at the start, unless it is ``absolute``. Sizes are quantities
(``"2 deg"``) or SI numbers; times are quantities or seconds.
"""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError
from dravik.units import KINDS, kind_of_unit, quantity

__all__ = [
    "History", "doublet", "gust", "pulse", "pulses_3211", "ramp", "sine", "step", "sweep",
]  # fmt: skip

Floats = NDArray[np.float64]
Quantity = str | float


@dataclass(frozen=True)
class History:
    """Values over time: ``function`` takes times (s, any shape); ``unit`` is the SI unit, or None for bare numbers.

    ``corners`` are the times at which values or slopes jump; ``text`` says what it is. Histories of one unit add up.

    >>> import numpy as np
    >>> (step("2 deg", at=1) + step("-2 deg", at=3))(np.array([0.0, 2.0, 4.0])).round(4).tolist()
    [0.0, 0.0349, 0.0]
    """

    function: Callable[[Floats], Floats]
    corners: tuple[float, ...]
    unit: str | None
    text: str
    absolute: bool = False

    def __call__(self, t: Floats) -> Floats:
        """Return the values at times ``t``."""
        return self.function(np.asarray(t, dtype=float))

    def __add__(self, other: "History") -> "History":
        """Return the sum of two histories; raises DravikError for two units, and for measured (absolute) values."""
        if self.unit != other.unit or self.absolute or other.absolute:
            raise DravikError(
                f"{self.text} and {other.text} do not add up", expected="histories of one unit, not from files"
            )
        corners = tuple(sorted({*self.corners, *other.corners}))
        return History(lambda t: self(t) + other(t), corners, self.unit, f"{self.text}, {other.text}")


def _size(value: Quantity) -> tuple[float, str | None]:
    """Return a size in SI and its unit; None when it came without one."""
    if not isinstance(value, str):
        return quantity(value, "number"), None
    unit = value.strip().lstrip("+-0123456789.eE").strip()
    kind = kind_of_unit(unit)
    return quantity(value, kind), KINDS[kind][0] if unit else None


def _time(value: Quantity, name: str, *, positive: bool = False) -> float:
    seconds = quantity(value, "time", where=name)
    if seconds < 0.0 or (positive and seconds == 0.0):
        raise DravikError(
            f"{name} cannot be {value!r}", expected="a time above zero" if positive else "a time not below zero"
        )
    return seconds


def _pulses(name: str, size: Quantity, at: Quantity, edges: Sequence[float], levels: Sequence[float]) -> History:
    """Return levels (times size) that change at ``at`` plus the edges."""
    amplitude, unit = _size(size)
    start = _time(at, "at")
    times = np.array([start + e for e in edges])
    values = amplitude * np.array([0.0, *levels])
    return History(
        lambda t: values[np.searchsorted(times, t, side="right")],
        tuple(times),
        unit,
        f"{name} of {size} at {start:g} s",
    )


def step(size: Quantity, *, at: Quantity = 1.0) -> History:
    """Return a step at a time.

    Parameters
    ----------
    size : str or float
        Its height, with its unit or in SI of the input.
    at : str or float, default 1
        When it begins, s.

    Returns
    -------
    History
        A function of time, for ``controls``.

    Raises
    ------
    DravikError
        For wrong units and negative times.

    Examples
    --------
    >>> import numpy as np
    >>> import dravik as dv
    >>> dv.step(0.5, at=1.0)(np.array([0.0, 2.0])).tolist()
    [0.0, 0.5]
    """
    return _pulses("step", size, at, [0.0], [1.0])


def pulse(size: Quantity, *, at: Quantity = 1.0, width: Quantity = 0.1) -> History:
    """Return one pulse: as short as a step of the flight it is an impulse.

    Parameters
    ----------
    size : str or float
        Its height, with its unit or in SI of the input.
    at : str or float, default 1
        When it begins, s.
    width : str or float, default 0.1
        How long it is, s.

    Returns
    -------
    History
        A function of time, for ``controls``.

    Raises
    ------
    DravikError
        For wrong units and negative times.

    Examples
    --------
    >>> import numpy as np
    >>> import dravik as dv
    >>> dv.pulse(0.5, at=1.0, width=2.0)(np.array([0.0, 2.0, 4.0])).tolist()
    [0.0, 0.5, 0.0]
    """
    w = _time(width, "width", positive=True)
    return _pulses("pulse", size, at, [0.0, w], [1.0, 0.0])


def doublet(size: Quantity, *, at: Quantity = 1.0, width: Quantity = 1.0) -> History:
    """Return two pulses of opposite sign.

    Parameters
    ----------
    size : str or float
        Their height, with its unit or in SI of the input.
    at : str or float, default 1
        When it begins, s.
    width : str or float, default 1
        How long each is, s.

    Returns
    -------
    History
        A function of time, for ``controls``.

    Raises
    ------
    DravikError
        For wrong units and negative times.

    Examples
    --------
    >>> import dravik as dv
    >>> dv.doublet("2 deg", at=1, width=2).text
    'doublet of 2 deg at 1 s'
    """
    w = _time(width, "width", positive=True)
    return _pulses("doublet", size, at, [0.0, w, 2 * w], [1.0, -1.0, 0.0])


def pulses_3211(size: Quantity, *, at: Quantity = 1.0, width: Quantity = 1.0) -> History:
    """Return the 3-2-1-1 input: pulses of alternating sign, 3, 2, 1 and 1 times ``width`` long.

    Parameters
    ----------
    size : str or float
        Their height, with its unit or in SI of the input.
    at : str or float, default 1
        When it begins, s.
    width : str or float, default 1
        How long the shortest is, s.

    Returns
    -------
    History
        A function of time, for ``controls``.

    Raises
    ------
    DravikError
        For wrong units and negative times.

    Examples
    --------
    >>> import dravik as dv
    >>> dv.pulses_3211("1 deg", at=1.0, width=0.5).unit
    'rad'
    """
    w = _time(width, "width", positive=True)
    return _pulses("3-2-1-1", size, at, [0.0, 3 * w, 5 * w, 6 * w, 7 * w], [1.0, -1.0, 1.0, -1.0, 0.0])


def ramp(size: Quantity, *, at: Quantity = 1.0, width: Quantity = 1.0) -> History:
    """Return a straight rise, held afterwards.

    Parameters
    ----------
    size : str or float
        Its height, with its unit or in SI of the input.
    at : str or float, default 1
        When it begins, s.
    width : str or float, default 1
        How long it rises, s.

    Returns
    -------
    History
        A function of time, for ``controls``.

    Raises
    ------
    DravikError
        For wrong units and negative times.

    Examples
    --------
    >>> import numpy as np
    >>> import dravik as dv
    >>> dv.ramp(1.0, at=0.0, width=4.0)(np.array([1.0, 8.0])).tolist()
    [0.25, 1.0]
    """
    amplitude, unit = _size(size)
    start, w = _time(at, "at"), _time(width, "width", positive=True)
    return History(
        lambda t: amplitude * np.clip((t - start) / w, 0.0, 1.0),
        (start, start + w),
        unit,
        f"ramp to {size} at {start:g} s",
    )


def gust(size: Quantity, *, at: Quantity = 1.0, width: Quantity = 1.0) -> History:
    """Return a gust of the shape 1 - cosine.

    Parameters
    ----------
    size : str or float
        Its height in the middle, with its unit or in SI of the input.
    at : str or float, default 1
        When it begins, s.
    width : str or float, default 1
        From nothing to nothing, s.

    Returns
    -------
    History
        A function of time, for ``controls``.

    Raises
    ------
    DravikError
        For wrong units and negative times.

    Examples
    --------
    >>> import numpy as np
    >>> import dravik as dv
    >>> round(float(dv.gust("6 m/s", at=0.0, width=2.0)(np.array([1.0]))[0]), 9)
    6.0
    """
    amplitude, unit = _size(size)
    start, w = _time(at, "at"), _time(width, "width", positive=True)
    return History(
        lambda t: 0.5 * amplitude * (1.0 - np.cos(2.0 * math.pi * np.clip((t - start) / w, 0.0, 1.0))),
        (start, start + w),
        unit,
        f"gust of {size} at {start:g} s",
    )


def sine(size: Quantity, *, frequency: Quantity, at: Quantity = 0.0) -> History:
    """Return a sine from a time on.

    Parameters
    ----------
    size : str or float
        Its amplitude, with its unit or in SI of the input.
    frequency : str or float
        Frequency, Hz or with its unit.
    at : str or float, default 0
        When it begins, s.

    Returns
    -------
    History
        A function of time, for ``controls``.

    Raises
    ------
    DravikError
        For wrong units and negative times.

    Examples
    --------
    >>> import dravik as dv
    >>> dv.sine("1 deg", frequency="0.5 Hz").unit
    'rad'
    """
    amplitude, unit = _size(size)
    start, hertz = _time(at, "at"), _frequency(frequency)
    return History(
        lambda t: np.where(t < start, 0.0, amplitude * np.sin(2.0 * math.pi * hertz * (t - start))), (start,), unit,
        f"sine of {size} at {hertz:g} Hz",
    )  # fmt: skip


def sweep(size: Quantity, *, low: Quantity, high: Quantity, at: Quantity = 0.0, width: Quantity = 60.0) -> History:
    """Return a sine whose frequency grows by equal factors.

    Parameters
    ----------
    size : str or float
        Its amplitude, with its unit or in SI of the input.
    low, high : str or float
        The first and the last frequency, Hz or with its unit.
    at : str or float, default 0
        When it begins, s.
    width : str or float, default 60
        How long it is, s.

    Returns
    -------
    History
        A function of time, for ``controls``.

    Raises
    ------
    DravikError
        For wrong units and negative times.

    Examples
    --------
    >>> import dravik as dv
    >>> dv.sweep("1 deg", low="0.1 Hz", high="2 Hz", width="20 s").unit
    'rad'
    """
    amplitude, unit = _size(size)
    start, w = _time(at, "at"), _time(width, "width", positive=True)
    f0, f1 = _frequency(low), _frequency(high)
    if not 0.0 < f0 < f1:
        raise DravikError(f"a sweep cannot go from {low!r} to {high!r}", expected="0 < low < high")
    growth = math.log(f1 / f0)

    def values(t: Floats) -> Floats:
        s = np.clip((t - start) / w, 0.0, 1.0)
        wave = amplitude * np.sin(2.0 * math.pi * f0 * w / growth * (np.exp(growth * s) - 1.0))
        return np.where((t < start) | (t > start + w), 0.0, wave)

    return History(values, (start, start + w), unit, f"sweep of {size} from {f0:g} to {f1:g} Hz")


def _frequency(value: Quantity) -> float:
    if isinstance(value, str):
        try:
            return quantity(value, "angular rate") / (2.0 * math.pi)
        except DravikError:
            return quantity(value, "frequency", where="frequency")
    return float(value)
