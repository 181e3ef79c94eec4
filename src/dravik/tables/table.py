"""A table as data: axes, values, how to interpolate, and what to do outside."""

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dravik.errors import DravikError, nearest
from dravik.tables import lookup

__all__ = ["METHODS", "OUTSIDE", "Axis", "Table"]

METHODS = ("linear", "smooth")
OUTSIDE = {"hold": lookup.HOLD, "extend": lookup.EXTEND, "error": lookup.ERROR}


@dataclass(frozen=True)
class Axis:
    """One independent variable: its name, its values in SI in rising order, and its SI unit."""

    name: str
    values: NDArray[np.float64]
    unit: str = ""


@dataclass(frozen=True)
class Table:
    """Values on a full grid of one to four axes, all in SI.

    ``values`` has one dimension for each axis. ``method``: ``"linear"``, or ``"smooth"``: cubic
    Hermite pieces, continuous in value and slope, whose slopes are limited so that between the grid's
    points the curve along each axis neither overshoots nor turns (F. N. Fritsch, J. Butland, SIAM J. Sci.
    Stat. Comput. 5 (1984), 300). ``outside``: ``"hold"`` the edge value, ``"extend"`` the edge
    slope, or ``"error"``. Raises DravikError when axes and values do not make such a grid.
    """

    name: str
    axes: tuple[Axis, ...]
    values: NDArray[np.float64]
    unit: str = ""
    method: str = "linear"
    outside: str = "hold"
    source: str = ""
    nodes: NDArray[np.float64] = field(init=False, repr=False, compare=False)

    def __post_init__(self) -> None:
        where = f"table {self.name}"
        for value, choices, what in (
            (self.method, METHODS, "method"),
            (self.outside, tuple(OUTSIDE), "outside"),
        ):
            if value not in choices:
                raise DravikError(
                    f"{what} {value!r} is unknown",
                    where=where,
                    expected="one of " + ", ".join(choices),
                    hint=nearest(value, choices),
                )
        if not 1 <= len(self.axes) <= 4:
            raise DravikError(f"{len(self.axes)} axes", where=where, expected="one to four")
        shape = tuple(len(a.values) for a in self.axes)
        if self.values.shape != shape:
            raise DravikError(f"values of shape {self.values.shape}", where=where, expected=f"shape {shape}")
        if not np.all(np.isfinite(self.values)):
            raise DravikError("values that are not finite numbers", where=where)
        for axis in self.axes:
            if len(axis.values) < 2:
                raise DravikError(f"axis {axis.name} has one value", where=where, expected="two or more")
            if not (np.all(np.isfinite(axis.values)) and np.all(np.diff(axis.values) > 0)):
                raise DravikError(f"axis {axis.name} does not rise from value to value", where=where)
        object.__setattr__(self, "nodes", _smooth_nodes(self) if self.is_smooth else self.values.ravel())

    @property
    def is_smooth(self) -> bool:
        """Whether the table is interpolated by cubic pieces."""
        return self.method == "smooth"

    @property
    def strides(self) -> NDArray[np.int64]:
        """Steps in ``nodes`` from one grid point to the next along each axis."""
        block = 1 << len(self.axes) if self.is_smooth else 1
        counts = [len(a.values) for a in self.axes]
        return np.array([block * int(np.prod(counts[k + 1 :])) for k in range(len(counts))], dtype=np.int64)

    def __call__(self, *coordinates: ArrayLike) -> NDArray[np.float64]:
        """Return the table's values at coordinates in SI, one argument for each axis, any common shape.

        Raises DravikError for a wrong number of arguments, and outside the axes when that is an error.
        """
        if len(coordinates) != len(self.axes):
            names = ", ".join(a.name for a in self.axes)
            raise DravikError(f"{len(coordinates)} coordinates", where=f"table {self.name}", expected=names)
        arrays = np.broadcast_arrays(*(np.asarray(c, dtype=float) for c in coordinates))
        points = np.stack([a.ravel() for a in arrays], axis=-1)
        if self.outside == "error":
            self._refuse_outside(points)
        sizes = np.array([len(a.values) for a in self.axes], dtype=np.int64)
        starts = np.concatenate([[0], np.cumsum(sizes)[:-1]]).astype(np.int64)
        breaks = np.concatenate([a.values for a in self.axes])
        out = np.empty(len(points))
        policy = OUTSIDE[self.outside]
        lookup.table_values(
            breaks, starts, sizes, self.nodes, self.strides, policy, self.is_smooth, points, out, np.zeros(20)
        )
        return out.reshape(arrays[0].shape)

    def _refuse_outside(self, points: NDArray[np.float64]) -> None:
        for k, axis in enumerate(self.axes):
            bad = points[(points[:, k] < axis.values[0]) | (points[:, k] > axis.values[-1]), k]
            if bad.size:
                raise DravikError(
                    f"{axis.name} = {bad[0]:g} {axis.unit} is outside the table",
                    where=f"table {self.name}",
                    expected=f"{axis.values[0]:g} to {axis.values[-1]:g} {axis.unit}",
                )


def _smooth_nodes(table: Table) -> NDArray[np.float64]:
    """Return values and limited slopes, 2**n a grid point: bit k of the index means the slope along axis k."""
    from scipy.interpolate import PchipInterpolator

    n = len(table.axes)
    blocks = {0: table.values}
    for bits in range(1, 1 << n):
        k = bits.bit_length() - 1
        below = blocks[bits ^ (1 << k)]
        # the slope between nearly equal values may be too small to divide by: the limited slope is then zero
        with np.errstate(over="ignore"):
            blocks[bits] = PchipInterpolator(table.axes[k].values, below, axis=k)(table.axes[k].values, nu=1)
    return np.ascontiguousarray(np.stack([blocks[b] for b in range(1 << n)], axis=-1)).ravel()
