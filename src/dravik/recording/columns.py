"""Rows of a recording turned into columns, in the units of people."""

import numpy as np
from numpy.typing import NDArray

from dravik.compiled import compiled

__all__ = ["as_columns"]

Floats = NDArray[np.float64]
BLOCK = 16  # rows and columns that are turned at once: what is read and what is written then stays in the cache


@compiled
def fill_columns(rows: Floats, factors: Floats, out: Floats) -> None:
    """Write rows (k, n), each column times its factor, into ``out`` (n, k)."""
    count, n = rows.shape
    for i in range(0, count, BLOCK):
        for j in range(0, n, BLOCK):
            for b in range(j, min(j + BLOCK, n)):
                for a in range(i, min(i + BLOCK, count)):
                    out[b, a] = rows[a, b] * factors[b]


def as_columns(rows: Floats, factors: Floats) -> Floats:
    """Return rows (k, n) as columns (n, k), each times its factor (n,). Other threads run meanwhile.

    >>> as_columns(np.array([[1.0, 2.0], [3.0, 4.0]]), np.array([1.0, 10.0])).tolist()
    [[1.0, 3.0], [20.0, 40.0]]
    """
    out = np.empty((rows.shape[1], rows.shape[0]))
    fill_columns(np.ascontiguousarray(rows), factors, out)
    return out
