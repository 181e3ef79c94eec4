"""Margins of every loop over conditions, gains as they are, and which condition is the worst."""

import itertools
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from dravik.aircraft import Aircraft
from dravik.definition import arguments
from dravik.definition.condition_keys import overlaid
from dravik.errors import DravikError, require
from dravik.host.notebooks import Shown, ShownAsTable, of_records
from dravik.loops.cut_loops import cut_loop
from dravik.loops.margins import Margins, margins
from dravik.loops.plan import LoopPlan
from dravik.loops.schedule import GAINS, with_gains
from dravik.loops.study import study_loops
from dravik.trimming import TrimPoint, TrimSweep, trim_sweep
from dravik.units import from_si

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["MarginSweep", "loops_closed", "margins_over", "plan_over"]


@dataclass(frozen=True, repr=False)
class MarginSweep(ShownAsTable):
    """Margins by condition and loop: ``found`` in the order of the conditions, None where one is not held."""

    name: str
    axes: dict[str, list[Any]]
    units: dict[str, str]
    found: list[dict[str, Margins] | None]

    def summary_table(self) -> Shown:
        """Return what a notebook shows: a row for each loop and condition."""
        return f"{self.name}: margins over {', '.join(self.axes)}", *of_records(self.rows())

    def places(self) -> list[dict[str, Any]]:
        """Return the conditions, SI, by the names of the axes."""
        return [dict(zip(self.axes, place, strict=True)) for place in itertools.product(*self.axes.values())]

    def rows(self) -> list[dict[str, Any]]:
        """Return one record for each loop and condition, loop by loop, SI."""
        rows: dict[str, list[dict[str, Any]]] = {}
        for place, loops in zip(self.places(), self.found, strict=True):
            for name, one in (loops or {}).items():
                rows.setdefault(name, []).append({
                    "loop": name, **place, "closes": one.closes, "stable": one.is_stable,
                    "gain_margin_dB": one.gain_decibels, "phase_margin_deg": math.degrees(one.phase),
                    "delay_margin_s": one.delay, "disc": one.disc, "bandwidth_rad_s": one.bandwidth,
                })  # fmt: skip
        return list(itertools.chain.from_iterable(rows.values()))

    def worst(self) -> dict[str, dict[str, Any]]:
        """Return for each loop the condition with the smallest disc: ``place`` in words, and the record there.

        A loop that is not stable is the worst of all; the disc counts both gain and phase.
        """
        found: dict[str, dict[str, Any]] = {}
        for row in self.rows():
            own = found.get(row["loop"])
            if own is None or (row["closes"], row["disc"]) < (own["closes"], own["disc"]):
                found[row["loop"]] = {**row, "place": self._words(row)}
        return found

    def _words(self, row: Mapping[str, Any]) -> str:
        parts = []
        for name in self.axes:
            unit, factor, _ = from_si(self.units.get(name, ""))
            value = row[name]
            parts.append(f"{name} {value * factor:.4g} {unit}".rstrip() if isinstance(value, float) else str(value))
        return ", ".join(parts)

    @property
    def table(self) -> "DataFrame":
        """The rows as a DataFrame."""
        import pandas as pd

        return pd.DataFrame(self.rows())


def loops_closed(craft: Aircraft, point: TrimPoint) -> list[str]:
    """Return the commands of effectors and engines at which a loop is closed by the laws that are engaged.

    Parameters
    ----------
    craft : Aircraft
        The aircraft with its laws.
    point : TrimPoint
        Where.

    Returns
    -------
    list of str
        Names of commands.
    """
    found = []
    for name, signal in craft.signals.items():
        if signal.kind != "command":
            continue
        try:
            cut_loop(craft, point, name)
        except DravikError:
            continue
        found.append(name)
    return found


def margins_over(
    craft: Aircraft, sweep: TrimSweep, at: Sequence[str] = (), *, delay: float = 0.0
) -> MarginSweep:  # fmt: skip
    """Return the margins of loops that are broken one at a time, at every trim of a sweep.

    Parameters
    ----------
    craft : Aircraft
        The aircraft with its laws.
    sweep : TrimSweep
        Trims over axes, of ``trim_sweep``.
    at : sequence of str, optional
        Where loops are broken: signals, or sums of signals. Every command that a law closes, unless given.
    delay : float, default 0
        More delay in each loop, s.

    Returns
    -------
    MarginSweep
        Margins by condition and loop; ``worst`` names the condition where each has the least.

    Raises
    ------
    DravikError
        Where nothing is held, and where no loop is closed.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn", laws=["pitch_hold"])
    >>> found = margins_over(craft, dv.trim_sweep(craft, {"airspeed": "55, 75 m/s"}, altitude=300))
    >>> found.worst()["elevator_command"]["place"]
    'airspeed 75 m/s'
    """
    require(sweep, TrimSweep, "the sweep", "trim_sweep(craft, ...)")
    first = next((p for p in sweep.points if p is not None), None)
    if first is None:
        raise DravikError("the sweep has no condition that is held, and so no loops", hint="dv.trim says why")
    names = list(arguments.names(at, "at")) or loops_closed(first.craft, first)
    if not names:
        raise DravikError(f"no law of {craft.name} closes a loop", expected="a law that does", hint="--law NAME")
    found = [
        None if p is None else {n: margins(cut_loop(p.craft, p, n).part(outputs=[n]), delay=delay) for n in names}
        for p in sweep.points
    ]
    return MarginSweep(sweep.name, sweep.axes, sweep.units, found)


def plan_over(
    craft: Aircraft, plan: LoopPlan, over: Mapping[str, str | Sequence[str | float]]
) -> MarginSweep:  # fmt: skip
    """Return the margins of a plan's loops over conditions, with the gains of its own condition kept.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    plan : LoopPlan
        The loops, designed at the plan's condition.
    over : mapping of str to str or sequence
        Axes by name, as ``trim_sweep`` takes them; they take the place of those in the plan's condition.

    Returns
    -------
    MarginSweep

    Raises
    ------
    DravikError
        For what cannot be designed or swept.
    """
    require(plan, LoopPlan, "the plan", "read_loops(file)")
    designed = study_loops(craft, plan)
    gains = {f"{one.entry.name}_{gain}": getattr(one.pid, gain) for one in designed.loops for gain in GAINS}
    gains |= {f"{one.entry.name}_filter": one.pid.filter_time for one in designed.loops}
    kept = with_gains(plan, gains)
    sweep = trim_sweep(craft, over, **overlaid(plan.condition, over))
    found = [
        None if p is None else {one.entry.name: one.margins for one in study_loops(p.craft, kept, point=p).loops}
        for p in sweep.points
    ]
    if not sweep.held:
        raise DravikError("the sweep has no condition that is held, and so no loops", hint="dv.trim says why")
    return MarginSweep(plan.name or craft.name, sweep.axes, sweep.units, found)
