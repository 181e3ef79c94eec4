"""Units that people asked for in tables and figures: speeds in knots, heights in feet, climb in feet a minute."""

import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from typing import TYPE_CHECKING, Any

import numpy as np

from dravik.constants import FOOT, KNOT
from dravik.definition import arguments

if TYPE_CHECKING:
    from matplotlib.axis import Axis
    from matplotlib.figure import Figure

__all__ = ["UNITS", "axes_in_units", "heading_in_units", "in_units", "rows_in_units", "value_in_units"]

UNITS = ("SI", "aviation")
_chosen: ContextVar[str] = ContextVar("shown_units", default="SI")
#: What is shown otherwise: words that stand in its name, the unit it comes in, the one it is shown in, the factor.
RULES = (
    (re.compile(r"climb|sink|descent", re.IGNORECASE), "m/s", "ft/min", 60.0 / FOOT),
    (
        re.compile(r"airspeed|ground.speed|slowest|fastest|\bwind|head.?wind|\bspeed\b", re.IGNORECASE),
        "m/s",
        "kt",
        1.0 / KNOT,
    ),
    (re.compile(r"altitude|height(?! above the moment)|ceiling", re.IGNORECASE), "m", "ft", 1.0 / FOOT),
)
_HEADING = re.compile(r"^(?P<name>.*?)(?P<gap>\s*)\[(?P<unit>m|m/s)\](?P<rest>.*)$", re.DOTALL)


@contextmanager
def in_units(name: str) -> Iterator[None]:
    """Show tables and figures in other units within a block: ``"SI"`` or ``"aviation"`` (kt, ft, ft/min).

    What programs read stays in SI: JSON, recordings, and every value in Python.

    Parameters
    ----------
    name : str
        ``"SI"`` or ``"aviation"``.

    Returns
    -------
    context manager

    Raises
    ------
    DravikError
        For another word.

    Examples
    --------
    >>> with in_units("aviation"):
    ...     heading_in_units("airspeed [m/s]")[0]
    'airspeed [kt]'
    """
    arguments.word(name, "units", UNITS)
    before = _chosen.set(name)
    try:
        yield
    finally:
        _chosen.reset(before)


def value_in_units(name: str, unit: str) -> tuple[str, float]:
    """Return the unit in which a quantity of a name is shown, and the factor onto it; its own and one otherwise."""
    if _chosen.get() == "aviation":
        for words, own, shown, factor in RULES:
            if unit == own and words.search(name):
                return shown, factor
    return unit, 1.0


def heading_in_units(heading: str) -> tuple[str, float]:
    """Return the heading of a column, or the label of an axis, such as ``airspeed [m/s]``, and the factor of values."""
    found = _HEADING.match(heading)
    if found is None:
        return heading, 1.0
    unit, factor = value_in_units(found["name"].replace("_", " "), found["unit"])
    return f"{found['name']}{found['gap']}[{unit}]{found['rest']}", factor


def rows_in_units(
    columns: Sequence[str], rows: Sequence[Sequence[object]]
) -> tuple[list[str], list[list[object]]]:  # fmt: skip
    """Return a table's headings and rows as they are shown: by headings, or by a column of units beside the names."""
    heads = [heading_in_units(c) for c in columns]
    found = [
        [v * heads[i][1] if isinstance(v, float) and i < len(heads) else v for i, v in enumerate(row)] for row in rows
    ]
    if "unit" in columns:
        k = list(columns).index("unit")
        for row in found:
            if len(row) > k and any(isinstance(v, float) for v in row):
                unit, factor = value_in_units(str(row[0]).replace("_", " "), str(row[k]))
                row[:] = [v * factor if isinstance(v, float) else unit if i == k else v for i, v in enumerate(row)]
    return [name for name, _ in heads], found


def axes_in_units(figure: "Figure") -> None:
    """Label the axes of a figure in the units that were asked for; what is drawn stays where it is."""
    if _chosen.get() == "SI":
        return
    for axes in figure.axes:
        for axis in (axes.xaxis, axes.yaxis):
            label, factor = heading_in_units(axis.get_label_text())
            if factor != 1.0:
                axis.set_label_text(label)
                _scaled(axis, factor)
        # small panels have what they show in their title
        for side in ("left", "center"):
            title, factor = heading_in_units(axes.get_title(loc=side))
            if factor != 1.0 and not axes.yaxis.get_label_text():
                axes.set_title(title, loc=side, fontsize=axes.title.get_fontsize())
                _scaled(axes.yaxis, factor)


def _scaled(axis: "Axis", factor: float) -> None:
    """Put round figures of another unit on an axis."""
    from matplotlib.ticker import AutoLocator, FuncFormatter

    class Rounded(AutoLocator):
        """Ticks at round figures of the unit that is shown."""

        def tick_values(self, vmin: float, vmax: float) -> Any:
            return np.asarray(super().tick_values(vmin * factor, vmax * factor)) / factor

    axis.set_major_locator(Rounded())
    axis.set_major_formatter(FuncFormatter(lambda value, _: f"{value * factor:.6g}"))
