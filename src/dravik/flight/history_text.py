"""Control histories as text (``doublet(2 deg, at=1 s, width=2 s)``) and from files of measured values."""

import re
from collections.abc import Callable
from pathlib import Path

import numpy as np

from dravik.errors import DravikError, nearest
from dravik.flight.histories import (
    History,
    doublet,
    gust,
    pulse,
    pulses_3211,
    ramp,
    sine,
    step,
    sweep,
)
from dravik.tables import read_table

__all__ = ["from_csv", "parse_history"]


def from_csv(path: str | Path, *, column: str = "", absolute: bool = True) -> History:
    r"""Return measured values from a CSV file with a column ``time [s]``, straight between the rows.

    Parameters
    ----------
    path : str or Path
        The file.
    column : str, optional
        The column of the values. Needed where the file has several.
    absolute : bool, default True
        Whether the values stand in the place of the input's own; otherwise they are added to it.

    Returns
    -------
    History
        A function of time, for ``controls``.

    Raises
    ------
    DravikError
        With file and line.

    Examples
    --------
    >>> import os
    >>> import tempfile
    >>> import numpy as np
    >>> import dravik as dv
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = os.path.join(folder, "stick.csv")
    ...     with open(path, "w") as file:
    ...         _ = file.write("time [s],stick\n0,0\n2,1\n")
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

    Parameters
    ----------
    text : str
        The call of a history, times and values with their units.

    Returns
    -------
    History

    Raises
    ------
    DravikError
        Naming what is possible, for anything else.
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
