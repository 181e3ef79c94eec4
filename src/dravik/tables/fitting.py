"""Least squares with intervals, for whatever is reduced from measurement."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError

__all__ = ["fit", "half_width"]

Floats = NDArray[np.float64]
CONFIDENCE = 0.95


def half_width(deviation: float, degrees: int) -> float:
    """Return half of the 95 % interval of something with this standard deviation and degrees of freedom (Student)."""
    from scipy.special import stdtrit

    return float(stdtrit(degrees, 0.5 + 0.5 * CONFIDENCE)) * deviation


def fit(columns: Sequence[Floats], values: Floats, *, constant: bool = True) -> tuple[Floats, Floats, int]:
    """Return least-squares coefficients of columns (and a constant, last), half their 95 % intervals, and freedoms.

    Raises DravikError for fewer points than unknowns, or columns that are not independent.
    """
    matrix = np.stack([*columns, *([np.ones_like(values)] if constant else [])], axis=1)
    degrees = len(values) - matrix.shape[1]
    if degrees < 1 or np.linalg.matrix_rank(matrix) < matrix.shape[1]:
        raise DravikError(f"{len(values)} points are too few, or all at one setting", expected="a sweep in the range")
    found, *_ = np.linalg.lstsq(matrix, values, rcond=None)
    variance = float(np.sum((values - matrix @ found) ** 2)) / degrees
    spread = np.sqrt(np.diag(np.linalg.inv(matrix.T @ matrix)) * variance)
    return np.asarray(found, dtype=float), np.array([half_width(float(s), degrees) for s in spread]), degrees
