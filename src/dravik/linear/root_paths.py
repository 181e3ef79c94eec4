"""Roots over a sweep of trims: a linear model at each, and the branches of its roots followed from one to the next."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError, require
from dravik.host.notebooks import Shown, ShownAsTable, of_records
from dravik.linear.linearising import linearise
from dravik.linear.modes import is_body_mode
from dravik.trimming import TrimSweep

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["RootSweep", "matched", "root_sweep"]

Complexes = NDArray[np.complex128]
FAR = 1e6  # a distance beyond all others


@dataclass(frozen=True, repr=False)
class RootSweep(ShownAsTable):
    """Roots (1/s) along an axis: ``roots`` (values, branches), nan where the condition is not held.

    ``names`` are the modes' names of each branch at the first value that is held.
    """

    name: str
    axis: str
    values: list[float]
    unit: str
    roots: Complexes
    names: list[str]

    def summary_table(self) -> Shown:
        """Return what a notebook shows: a row for each value and branch."""
        return f"{self.name}: roots over {self.axis}", *of_records(self.rows())

    def branch(self, name: str) -> Complexes:
        """Return the roots of one branch; raises DravikError for another name."""
        if name not in self.names:
            raise DravikError(f"there is no branch {name!r}", expected=", ".join(dict.fromkeys(self.names)))
        return self.roots[:, self.names.index(name)]

    def rows(self) -> list[dict[str, Any]]:
        """Return one record for each value and branch, SI."""
        return [
            {self.axis: value, "mode": name, "real_1_s": float(root.real), "imag_1_s": float(root.imag)}
            for value, row in zip(self.values, self.roots, strict=True)
            for name, root in zip(self.names, row, strict=True)
        ]

    @property
    def table(self) -> "DataFrame":
        """The rows as a DataFrame."""
        import pandas as pd

        return pd.DataFrame(self.rows())


def root_sweep(sweep: TrimSweep) -> RootSweep:
    """Return the roots of the linear model at each trim of a sweep over one numeric axis, branch by branch.

    A mode of a name is that mode at each value, as ``modes()`` names it there. The others, and where a name is missing,
    are followed by continuity: each root goes on to the one nearest to where the last two led, all of them at once such
    that the distances are least together.

    Parameters
    ----------
    sweep : TrimSweep
        Trims over one numeric axis, of ``trim_sweep``.

    Returns
    -------
    RootSweep
        Roots, 1/s, by branch and value; gaps where a trim is not held.

    Raises
    ------
    DravikError
        For more than one axis, one that is text, and a sweep in which nothing is held.

    Examples
    --------
    >>> import dravik as dv
    >>> found = dv.root_sweep(dv.trim_sweep(dv.sample("tarn"), {"airspeed": "55:75:5 m/s"}, altitude="300 m"))
    >>> bool((abs(found.branch("short period"))[1:] > abs(found.branch("short period"))[:-1]).all())
    True
    """
    require(sweep, TrimSweep, "the sweep of roots", "trim_sweep(craft, ...)")
    if len(sweep.axes) != 1 or not all(isinstance(v, float) for values in sweep.axes.values() for v in values):
        raise DravikError(f"roots cannot be followed over {' and '.join(sweep.axes)}", expected="one axis of numbers")
    ((axis, values),) = sweep.axes.items()
    models = [None if point is None else linearise(point.craft, point) for point in sweep.points]
    first = next((m for m in models if m is not None), None)
    if first is None:
        raise DravikError("the sweep has no condition that is held, and so no roots", hint="dv.trim says why")
    count, names = len(first.states), [""] * len(first.states)
    roots = np.full((len(models), count), np.nan + 0j)
    held: list[int] = []
    for k, model in enumerate(models):
        # gaps stay gaps: legs that leave the ground change the number of states
        if model is None or len(model.states) != count:
            continue
        own = np.asarray(np.linalg.eigvals(model.A), dtype=complex)
        if not held:
            roots[k] = own
            names = _named(first.modes(), own)
        else:
            before = roots[held[-1]]
            # straight on from the last two values, if there is no gap between
            led = before + (before - roots[held[-2]]) if len(held) > 1 and held[-1] - held[-2] == 1 else before
            roots[k] = own[matched(led, own, names, _named(model.modes(), own))]
        held.append(k)
    # branches in the order of the first value, fastest first
    order = np.argsort(-np.abs(roots[held[0]]), kind="stable")
    return RootSweep(sweep.name, axis, list(values), sweep.units[axis], roots[:, order], [names[i] for i in order])


def matched(
    led: Complexes, own: Complexes, names: Sequence[str] = (), own_names: Sequence[str] = ()
) -> NDArray[np.int64]:
    """Return which root belongs to each branch, such that the distances are least together.

    With ``names`` of the branches and ``own_names`` of the roots, those of one name, had by one of each, belong
    together.
    """
    from scipy.optimize import linear_sum_assignment

    # relative distances: a slow root that moves by its own size has moved far
    distance = np.abs(led[:, None] - own[None, :]) / (np.abs(led[:, None]) + 1e-3)
    for k, name in enumerate(names):
        is_sure = is_body_mode(name.removesuffix("'")) and list(names).count(name) == list(own_names).count(name) == 1
        if is_sure:
            distance[k, list(own_names).index(name)] = -FAR
    return np.asarray(linear_sum_assignment(distance)[1])


def _named(modes: Any, own: Complexes) -> list[str]:
    """Return the mode's name of each root; the lower one of a pair has a prime."""
    left, found = list(range(len(own))), [""] * len(own)
    for mode in modes:
        for root, name in ((mode.eigenvalue, mode.name), (np.conj(mode.eigenvalue), f"{mode.name}'")):
            if name.endswith("'") and mode.eigenvalue.imag == 0.0:
                continue
            k = min(left, key=lambda i, r=root: abs(own[i] - r))  # type: ignore[misc]
            found[k] = name
            left.remove(k)
    return found
