"""The modes over conditions: a row for each mode at each trim of a sweep."""

import itertools
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from dravik.errors import require
from dravik.host.notebooks import Shown, ShownAsTable, of_records
from dravik.linear.linearising import linearise
from dravik.linear.modes import Modes, is_body_mode
from dravik.trimming import TrimSweep

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["ModeSweep", "mode_sweep"]


@dataclass(frozen=True, repr=False)
class ModeSweep(ShownAsTable):
    """Modes over the axes of a sweep: ``modes`` in the order of its points, None where a condition is not held."""

    name: str
    axes: dict[str, list[Any]]
    units: dict[str, str]
    modes: list[Modes | None]

    def summary_table(self) -> Shown:
        """Return what a notebook shows: a row for each mode and condition."""
        return f"{self.name}: modes over {', '.join(self.axes)}", *of_records(self.rows())

    def rows(self, *, body: bool = True) -> list[dict[str, Any]]:
        """Return one record for each mode at each condition, mode by mode, SI.

        Without ``body`` those of actuators and engines too. Each has the axes' values, ``mode``, frequency, damping,
        time to half or double amplitude, and ``phi_over_beta`` of an oscillation with sideslip.
        """
        found: dict[str, list[dict[str, Any]]] = {}
        for place, modes in zip(itertools.product(*self.axes.values()), self.modes, strict=True):
            for mode in modes or ():
                if body and not is_body_mode(mode.name):
                    continue
                found.setdefault(mode.name, []).append({
                    "mode": mode.name, **dict(zip(self.axes, place, strict=True)),
                    "real_1_s": mode.eigenvalue.real, "imag_1_s": mode.eigenvalue.imag,
                    "frequency_rad_s": mode.frequency, "damping": mode.damping if mode.is_oscillatory else None,
                    "time_to_half_s": mode.time_to_half if mode.eigenvalue.real < 0.0 else None,
                    "time_to_double_s": mode.time_to_double if mode.eigenvalue.real > 0.0 else None,
                    "phi_over_beta": mode.phi_over_beta,
                })  # fmt: skip
        return list(itertools.chain.from_iterable(found.values()))

    @property
    def table(self) -> "DataFrame":
        """The rows as a DataFrame."""
        import pandas as pd

        return pd.DataFrame(self.rows())


def mode_sweep(sweep: TrimSweep) -> ModeSweep:
    """Return the modes of the linear model at each trim of a sweep, over any axes.

    Parameters
    ----------
    sweep : TrimSweep
        Trims over axes, of ``trim_sweep``.

    Returns
    -------
    ModeSweep
        Modes by condition, with ``rows`` and a ``table``.

    Raises
    ------
    DravikError
        For something other than a sweep.

    Examples
    --------
    >>> import dravik as dv
    >>> swept = dv.trim_sweep(dv.sample("tarn"), {"loading": "loaded, dropped", "airspeed": "60, 75 m/s"}, altitude=300)
    >>> found = mode_sweep(swept)
    >>> [round(row["damping"], 2) for row in found.rows() if row["mode"] == "Dutch roll"]
    [0.2, 0.21, 0.22, 0.23]
    """
    require(sweep, TrimSweep, "the sweep of modes", "trim_sweep(craft, ...)")
    found = [None if point is None else linearise(point.craft, point).modes() for point in sweep.points]
    return ModeSweep(sweep.name, sweep.axes, sweep.units, found)
