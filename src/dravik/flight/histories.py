"""Control time histories: step, pulse, doublet, 3-2-1-1, ramp, gust, sine, frequency sweep, or measured values.

A history is added to the input's value at the start, unless it is ``absolute``. Sizes are quantities
(``"2 deg"``) or SI numbers; times are quantities or seconds.
"""

import math
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError, nearest
from dravik.tables import read_table
from dravik.units import KINDS, kind_of_unit, quantity

__all__ = [
    "History", "doublet", "from_csv", "gust", "parse_history", "pulse", "pulses_3211", "ramp", "sine", "step", "sweep",
]  # fmt: skip

Floats = NDArray[np.float64]
Quantity = str | float


@dataclass(frozen=True)
class History:
    """Values over time: ``function`` takes times (s, any shape); ``unit`` is the SI unit, or None for bare numbers.

    ``corners`` are the times at which values or slopes jump; ``text`` says what it is.
    """

    function: Callable[[Floats], Floats]
    corners: tuple[float, ...]
    unit: str | None
    text: str
    absolute: bool = False

    def __call__(self, t: Floats) -> Floats:
        """Return the values at times ``t``."""
        return self.function(np.asarray(t, dtype=float))


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
        raise DravikError(f"{name} = {value!r}", expected="a time above zero" if positive else "a time not below zero")
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
    """Return a step of ``size`` at a time; raises DravikError for wrong units or a negative time.

    >>> import numpy as np
    >>> import dravik as dv
    >>> dv.step(0.5, at=1.0)(np.array([0.0, 2.0])).tolist()
    [0.0, 0.5]
    """
    return _pulses("step", size, at, [0.0], [1.0])


def pulse(size: Quantity, *, at: Quantity = 1.0, width: Quantity = 0.1) -> History:
    """Return one pulse of ``size``, ``width`` long: as short as a step of the flight it is an impulse.

    >>> import numpy as np
    >>> import dravik as dv
    >>> dv.pulse(0.5, at=1.0, width=2.0)(np.array([0.0, 2.0, 4.0])).tolist()
    [0.0, 0.5, 0.0]
    """
    w = _time(width, "width", positive=True)
    return _pulses("pulse", size, at, [0.0, w], [1.0, 0.0])


def doublet(size: Quantity, *, at: Quantity = 1.0, width: Quantity = 1.0) -> History:
    """Return two pulses of opposite sign, ``width`` each.

    >>> import dravik as dv
    >>> dv.doublet("2 deg", at=1, width=2).text
    'doublet of 2 deg at 1 s'
    """
    w = _time(width, "width", positive=True)
    return _pulses("doublet", size, at, [0.0, w, 2 * w], [1.0, -1.0, 0.0])


def pulses_3211(size: Quantity, *, at: Quantity = 1.0, width: Quantity = 1.0) -> History:
    """Return the 3-2-1-1 input: pulses of alternating sign, 3, 2, 1 and 1 times ``width`` long.

    >>> import dravik as dv
    >>> dv.pulses_3211("1 deg", at=1.0, width=0.5).unit
    'rad'
    """
    w = _time(width, "width", positive=True)
    return _pulses("3-2-1-1", size, at, [0.0, 3 * w, 5 * w, 6 * w, 7 * w], [1.0, -1.0, 1.0, -1.0, 0.0])


def ramp(size: Quantity, *, at: Quantity = 1.0, width: Quantity = 1.0) -> History:
    """Return a straight rise to ``size`` over ``width``, held afterwards.

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
    """Return a gust of the shape 1 - cosine: ``size`` in its middle, ``width`` from nothing to nothing.

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
    """Return a sine of amplitude ``size`` from a time on; ``frequency`` in Hz, or with its unit.

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
    """Return a sine of amplitude ``size`` whose frequency grows from ``low`` to ``high`` (Hz), by equal factors.

    >>> import dravik as dv
    >>> dv.sweep("1 deg", low="0.1 Hz", high="2 Hz", width="20 s").unit
    'rad'
    """
    amplitude, unit = _size(size)
    start, w = _time(at, "at"), _time(width, "width", positive=True)
    f0, f1 = _frequency(low), _frequency(high)
    if not 0.0 < f0 < f1:
        raise DravikError(f"a sweep from {low!r} to {high!r}", expected="0 < low < high")
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


def from_csv(path: str | Path, *, column: str = "", absolute: bool = True) -> History:
    """Return measured values from a CSV file with a column ``time [s]``, straight between the rows.

    ``column`` names the values where the file has several. Raises DravikError with file and line.

    >>> import os
    >>> import tempfile
    >>> import numpy as np
    >>> import dravik as dv
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = os.path.join(folder, "stick.csv")
    ...     with open(path, "w") as file:
    ...         _ = file.write("time [s],stick\\n0,0\\n2,1\\n")
    ...     dv.from_csv(path)(np.array([1.0])).tolist()
    [0.5]
    """
    table = read_table(path, column=column, over=("time",))
    times, values = table.axes[0].values, table.values
    return History(
        lambda t: np.interp(t, times, values),
        tuple(float(v) for v in times),
        table.unit or None,
        f"values of {path}",
        absolute,
    )


_MAKERS: dict[str, Callable[..., History]] = {
    "step": step,
    "pulse": pulse,
    "doublet": doublet,
    "3211": pulses_3211,
    "ramp": ramp,
    "gust": gust,
    "sine": sine,
    "sweep": sweep,
    "csv": from_csv,
}
_CALL = re.compile(r"\s*(\w+)\s*\((.*)\)\s*$", re.DOTALL)


def parse_history(text: str) -> History:
    """Return a history from text such as ``doublet(2 deg, at=1 s, width=2 s)``.

    Raises DravikError, naming what is possible, for anything else.
    """
    match = _CALL.match(text)
    kinds = ", ".join(_MAKERS)
    if match is None:
        raise DravikError(f"{text!r} is no control history", expected="such as 'doublet(2 deg, at=1 s, width=2 s)'")
    if match[1] not in _MAKERS:
        raise DravikError(f"there is no control history {match[1]!r}", expected=kinds, hint=nearest(match[1], _MAKERS))
    positional: list[str] = []
    named: dict[str, str] = {}
    for part in filter(None, (p.strip() for p in match[2].split(","))):
        key, equals, value = part.partition("=")
        if equals:
            named[key.strip()] = value.strip()
        else:
            positional.append(part)
    try:
        return _MAKERS[match[1]](*positional, **named)
    except TypeError as error:
        detail = str(error).split(") ", 1)[-1]
        raise DravikError(f"{text!r}: {detail}", hint="doublet(2 deg, at=1 s, width=2 s)") from None
