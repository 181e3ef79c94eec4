"""Boundaries of criteria, from their data files; and whether anybody could compare them with a copy."""

import math
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
import tomli

__all__ = ["Limits", "along", "boundaries", "limits"]

Limits = tuple[float | None, float | None, float | None]
FOLDER = Path(__file__).parent


@lru_cache(maxsize=8)
def boundaries(name: str) -> dict[str, Any]:
    """Return the content of a data file beside this module."""
    return tomli.loads((FOLDER / f"{name}.toml").read_text(encoding="utf-8"))


def limits(values: list[float | str]) -> Limits:
    """Return limits for levels 1 to 3 as numbers; None for ``"none"``."""
    a, b, c = (None if isinstance(v, str) else float(v) for v in values)
    return a, b, c


def along(curves: list[list[list[float]]], at: float) -> Limits:
    """Return the limits of levels 1 and 2 at a place along boundaries that are drawn over another quantity.

    Each curve is a list of points (place, limit). Beyond a curve's last point its last slope goes on. No place (nan)
    counts as the first.
    """
    found: list[float | None] = []
    for curve in curves:
        x, y = (np.array([p[i] for p in curve]) for i in (0, 1))
        if not at > x[-1]:
            at = float(x[0]) if math.isnan(at) else at
            found.append(float(np.interp(at, x, y)))
        else:
            slope = (y[-1] - y[-2]) / (x[-1] - x[-2])
            found.append(float(y[-1] + max(slope, 0.0) * (at - x[-1])))
    return found[0], found[1] if len(found) > 1 else None, None
