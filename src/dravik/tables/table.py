"""A table as data: axes, values, how to interpolate, and what to do outside."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dravik.errors import DravikError, nearest
from dravik.tables import lookup

__all__ = ["METHODS", "OUTSIDE", "Axis", "Table", "interleaved_nodes"]

METHODS = ("linear", "smooth")
OUTSIDE = {"hold": lookup.HOLD, "extend": lookup.EXTEND, "error": lookup.ERROR}


@dataclass(frozen=True)
class Axis:
    """One independent variable: its name, its values in SI in rising order, and its SI unit."""

    name: str
    values: NDArray[np.float64]
    unit: str = ""

    @cached_property
    def rises(self) -> bool:
        """Whether the values are finite and rise from one to the next."""
        return bool(np.isfinite(self.values).all() and (self.values[1:] > self.values[:-1]).all())

    @cached_property
    def key(self) -> tuple[float, ...]:
        """The values: axes with equal ones are searched once."""
        return tuple(self.values.tolist())


@dataclass(frozen=True)
class Table:
    """Values on a full grid of one to four axes, all in SI.

    Parameters
    ----------
    name : str
        Its name, by which formulas call it.
    axes : tuple of Axis
        One to four, each with rising values.
    values : array
        One dimension for each axis, SI.
    unit : str, optional
        SI unit of the values.
    method : str, default "linear"
        ``"linear"``, or ``"smooth"``: cubic Hermite pieces, continuous in value and slope, whose slopes are limited so
        that between the grid's points the curve along each axis neither overshoots nor turns (F. N. Fritsch, J.
        Butland, SIAM J. Sci. Stat. Comput. 5 (1984), 300).
    outside : str, default "hold"
        ``"hold"`` the edge value, ``"extend"`` the edge slope, or ``"error"``.
    source : str, optional
        Where it comes from, for messages.
    along : tuple of str, optional
        The axes that are smooth. All unless given.

    Raises
    ------
    DravikError
        Where axes and values do not make such a grid.

    Examples
    --------
    >>> import numpy as np
    >>> from dravik.tables import Axis
    >>> import dravik as dv
    >>> lift = dv.Table("CL", (Axis("alpha", np.array([0.0, 0.1]), "rad"),), np.array([0.2, 0.7]))
    >>> lift.values.shape
    (2,)
    """

    name: str
    axes: tuple[Axis, ...]
    values: NDArray[np.float64]
    unit: str = ""
    method: str = "linear"
    outside: str = "hold"
    source: str = ""
    along: tuple[str, ...] = ()

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
            raise DravikError(f"the table has {len(self.axes)} axes", where=where, expected="one to four")
        shape = tuple(len(a.values) for a in self.axes)
        if self.values.shape != shape:
            raise DravikError(f"the values have the shape {self.values.shape}", where=where, expected=f"shape {shape}")
        if not np.all(np.isfinite(self.values)):
            raise DravikError("some values are not finite numbers", where=where)
        for axis in self.axes:
            if len(axis.values) < 2:
                raise DravikError(f"axis {axis.name} has one value", where=where, expected="two or more")
            if not axis.rises:
                raise DravikError(f"axis {axis.name} does not rise from value to value", where=where)
        for name in self.along:
            if name not in [a.name for a in self.axes]:
                raise DravikError(
                    f"there is no axis {name!r} to be smooth along", where=where,
                    expected="of " + ", ".join(a.name for a in self.axes),
                )  # fmt: skip

    @property
    def is_smooth(self) -> bool:
        """Whether the table is interpolated by cubic pieces."""
        return self.method == "smooth"

    @cached_property
    def smooth_axes(self) -> tuple[int, ...]:
        """Numbers of the axes that are interpolated by cubic pieces."""
        if not self.is_smooth:
            return ()
        return tuple(k for k, a in enumerate(self.axes) if not self.along or a.name in self.along)

    @cached_property
    def mask(self) -> int:
        """The smooth axes as bits."""
        return sum(1 << k for k in self.smooth_axes)

    @cached_property
    def strides(self) -> NDArray[np.int64]:
        """Steps in ``nodes`` from one grid point to the next along each axis."""
        block = 1 << len(self.smooth_axes)
        counts = [len(a.values) for a in self.axes]
        return np.array([block * math.prod(counts[k + 1 :]) for k in range(len(counts))], dtype=np.int64)

    @cached_property
    def nodes(self) -> NDArray[np.float64]:
        """What the look-up reads: values, and between them the slopes along smooth axes, one behind the other."""
        return interleaved_nodes([self])

    @cached_property
    def offsets(self) -> list[int]:
        """Where the numbers of a cell lie behind its first one."""
        return lookup.node_offsets([int(s) for s in self.strides], self.smooth_axes)

    def __call__(self, *coordinates: ArrayLike) -> NDArray[np.float64]:
        """Return the table's values at coordinates in SI, one argument for each axis, any common shape.

        Raises DravikError for a wrong number of arguments, and outside the axes when that is an error.
        """
        if len(coordinates) != len(self.axes):
            names = ", ".join(a.name for a in self.axes)
            raise DravikError(
                f"the table is given {len(coordinates)} coordinates", where=f"table {self.name}", expected=names
            )
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
            breaks, starts, sizes, self.nodes, self.strides, np.array(self.offsets), policy, self.mask, points, out,
            np.zeros(256),
        )  # fmt: skip
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


def interleaved_nodes(tables: Sequence[Table]) -> NDArray[np.float64]:
    """Return the numbers of tables on one grid, smooth along the same axes, as a look-up of all of them reads them.

    Grid point by grid point, with values and limited slopes (bit j of the index means along the j-th smooth axis), and
    for each of these the tables one behind the other, so that a corner's numbers are neighbours in memory.
    """
    first = tables[0]
    blocks = np.stack([t.values for t in tables], axis=-1)[..., np.newaxis, :]
    for k in first.smooth_axes:
        blocks = np.concatenate([blocks, limited_slopes(first.axes[k].values, blocks, k)], axis=-2)
    return blocks.ravel()


def limited_slopes(x: NDArray[np.float64], values: NDArray[np.float64], axis: int) -> NDArray[np.float64]:
    """Return slopes along an axis with which cubic Hermite pieces neither overshoot nor turn between the points.

    Inside, the weighted harmonic mean of the neighbouring chords, zero where they differ in sign (Fritsch and Butland);
    at the ends a one-sided three-point formula, held to the sign and three times the size of the chord.
    """
    y = values.swapaxes(axis, 0)
    h = (x[1:] - x[:-1]).reshape(-1, *[1] * (y.ndim - 1))
    chord = (y[1:] - y[:-1]) / h
    if len(x) == 2:
        return np.concatenate([chord, chord]).swapaxes(0, axis)
    slopes = np.empty_like(y)
    before, after, hb, ha = chord[:-1], chord[1:], h[:-1], h[1:]
    wb, wa = 2.0 * ha + hb, ha + 2.0 * hb
    # between nearly equal values the chords are too small to divide by; their harmonic mean tends to zero anyway
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        mean = (wb + wa) / (wb / before + wa / after)
    slopes[1:-1] = np.where((before * after > 0.0) & np.isfinite(mean), mean, 0.0)
    # both ends at once
    near, far, h0, h1 = chord[[0, -1]], chord[[1, -2]], h[[0, -1]], h[[1, -2]]
    end = ((2.0 * h0 + h1) * near - h0 * far) / (h0 + h1)
    end = np.where(np.sign(end) != np.sign(near), 0.0, end)
    steep = (np.sign(near) != np.sign(far)) & (np.abs(end) > 3.0 * np.abs(near))
    slopes[[0, -1]] = np.where(steep, 3.0 * near, end)
    return slopes.swapaxes(0, axis)
