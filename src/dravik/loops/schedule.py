"""Gains at many conditions and tables through them, with every loop's margins at the conditions and between them."""

import itertools
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.definition import arguments
from dravik.definition.condition_keys import overlaid
from dravik.errors import DravikError
from dravik.loops.law_text import law_of
from dravik.loops.plan import DESIGNED, LoopPlan
from dravik.loops.study import LoopStudy, study_loops
from dravik.trimming import TrimSweep, trim_sweep
from dravik.units import from_si

__all__ = ["GAINS", "GainSchedule", "schedule_gains", "with_gains"]

Floats = NDArray[np.float64]
Told = Callable[[float], None]
GAINS = ("proportional", "integral", "derivative")


@dataclass(frozen=True)
class GainSchedule:
    """Gains of a plan's loops over conditions: ``gains`` by LOOP_GAIN over the ``axes`` (SI), straight between them.

    ``studies`` are the designs at the conditions, ``between`` what the tables give in the middle of every cell.
    """

    plan: LoopPlan
    axes: dict[str, list[float]]
    units: dict[str, str]
    gains: dict[str, Floats]
    studies: list[LoopStudy]
    between: list[LoopStudy]

    @property
    def met(self) -> bool:
        """Whether every requirement is met, at the conditions and between them."""
        return all(s.met for s in (*self.studies, *self.between))

    def rows(self) -> list[dict[str, Any]]:
        """Return one record for each condition and loop: the place, whether it lies between, gains and margins."""
        return [
            {**{n: s.point[n] for n in self.axes}, "between": between, **loop.row()}
            for between, studies in ((False, self.studies), (True, self.between))
            for s in studies
            for loop in s.loops
        ]

    def unmet(self) -> list[str]:
        """Return what is not met, and where, in words."""
        found = []
        for s in (*self.studies, *self.between):
            place = ", ".join(f"{n} {s.point[n]:.4g}" for n in self.axes)
            for loop in s.loops:
                if not loop.margins.closes:
                    found.append(f"{place}: {loop.unstable_text()}")
                found += [
                    f"{place}: {loop.entry.name}, {c.name} {c.value:.3g} {c.unit} (asked {c.limit:.3g})"
                    for c in loop.checks if not c.met
                ]  # fmt: skip
        return found

    def least(self) -> dict[str, dict[str, float]]:
        """Return each loop's least margins anywhere: gain (dB, either way), phase (deg), disc."""
        found: dict[str, dict[str, float]] = {}
        for row in self.rows():
            own = found.setdefault(row["loop"], {"gain_dB": math.inf, "phase_deg": math.inf, "disc": math.inf})
            own["gain_dB"] = min(own["gain_dB"], row["gain_margin_dB"])
            own["phase_deg"] = min(own["phase_deg"], row["phase_margin_deg"])
            own["disc"] = min(own["disc"], row["disc"])
        return found

    def files(self, name: str = "law") -> dict[str, str]:
        """Return the law and the table of its gains as texts by file name: a gain that changes is read off the table.

        Raises DravikError for what makes no law (see ``law_of``).
        """
        # the law of the middle condition: its formulas are those of all, its parameters become tables
        text = law_of(self.studies[len(self.studies) // 2])
        file, over = f"{name}_gains.csv", ", ".join(f'"{n}"' for n in self.axes)
        tables, formulas, read = ["[tables]"], [], []
        for gain, values in self.gains.items():
            lines = [line for line in text.splitlines() if line.startswith(f"{gain} = ")]
            # a gain that is the same everywhere stays a parameter, which can still be set
            if not lines or np.ptp(values) <= 1e-9 * float(np.abs(values).max()):
                continue
            text = text.replace(lines[0] + "\n", "")
            read.append(gain)
            tables.append(f'{gain}_table = {{ file = "{file}", column = "{gain}", over = [{over}] }}')
            formulas.append(f'{gain} = {{ formula = "{gain}_table({", ".join(self.axes)})" }}')
        if not read:
            return {f"{name}.toml": text}
        text = text.replace("[formulas]\n", "\n".join(tables) + "\n\n[formulas]\n" + "\n".join(formulas) + "\n")
        return {f"{name}.toml": text.replace("[parameters]\n\n", ""), file: self._table(read)}

    def _table(self, read: Sequence[str]) -> str:
        heads, factors = [], []
        for name in self.axes:
            unit, factor, _ = from_si(self.units.get(name, ""))
            heads.append(f"{name} [{unit}]" if unit else name)
            factors.append(factor)
        rows = [",".join([*heads, *read])]
        columns = np.stack([self.gains[gain].ravel() for gain in read], 1)
        for place, values in zip(itertools.product(*self.axes.values()), columns, strict=True):
            own = [f"{v * f:.10g}" for v, f in zip(place, factors, strict=True)]
            rows.append(",".join([*own, *(f"{v:.6g}" for v in values)]))
        return "\n".join(rows) + "\n"


def schedule_gains(
    craft: Aircraft, plan: LoopPlan, over: Mapping[str, str | Sequence[str | float]], *, told: Told | None = None
) -> GainSchedule:  # fmt: skip
    """Return a plan's loops designed at every condition of some axes, and judged in the middle between them too.

    ``over`` gives one or two axes that are signals and keywords of a trim, such as ``{"airspeed": "50:90:5 m/s"}``;
    they take the place of those in the plan's condition. ``told`` is told the share done.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    plan : LoopPlan
        The loops to design.
    over : mapping of str to str or sequence of str or float
        One or two axes by name.
    told : callable, optional
        Called with the share done, 0 to 1.

    Returns
    -------
    GainSchedule

    Raises
    ------
    DravikError
        For other axes, and for a condition that is not held or where the design cannot be had.

    Examples
    --------
    >>> import dravik as dv
    >>> from dravik.loops import read_loops, schedule_gains
    >>> plan = read_loops(dv.aircraft.sample_path("tarn") / "loops" / "pitch.toml")
    >>> found = schedule_gains(dv.sample("tarn"), plan, {"airspeed": "55, 75 m/s"})
    >>> found.met, len(found.between), bool(abs(found.gains["damper_proportional"][0]) > 0.3)
    (True, 1, True)
    """
    over = arguments.mapping(over, "over")
    if not 1 <= len(over) <= 2:
        raise DravikError(
            f"a schedule cannot run over {len(over)} axes", expected="one or two, such as airspeed and altitude"
        )
    rest = overlaid(plan.condition, over)
    sweep = trim_sweep(craft, over, **rest)
    # in SI, as the law reads its signals
    axes = {n: [float(v) for v in values] for n, values in sweep.axes.items() if _is_axis(craft, n, values)}
    studies = [_at(craft, plan, sweep, k, None) for k in range(len(sweep.points))]
    whole = len(studies) + math.prod(len(v) - 1 for v in axes.values())
    if told is not None:
        told(len(studies) / whole)
    shape = tuple(len(v) for v in axes.values())
    gains = {
        f"{entry.name}_{gain}": np.array([getattr(s.loop(entry.name).pid, gain) for s in studies]).reshape(shape)
        for entry in plan.loop
        for gain in GAINS
    }
    return GainSchedule(plan, axes, dict(sweep.units), gains, studies, _between(craft, plan, axes, gains, rest))


def _is_axis(craft: Aircraft, name: str, values: Sequence[Any]) -> bool:
    """Whether an axis is one that a table can be read over; raises DravikError for others."""
    if name not in craft.signals or not all(isinstance(v, float) for v in values) or len(values) < 2:
        raise DravikError(
            f"a schedule cannot run over {name}",
            expected="a signal that trims take, with two values or more: airspeed, altitude",
        )
    return True


def _at(craft: Aircraft, plan: LoopPlan, sweep: TrimSweep, k: int, gains: Mapping[str, float] | None) -> LoopStudy:
    point = sweep.points[k]
    if point is None:
        place = list(itertools.product(*sweep.axes.values()))[k]
        text = ", ".join(f"{n} {v:.4g}" for n, v in zip(sweep.axes, place, strict=True))
        raise DravikError(f"{text} is not held", where="the schedule", expected="conditions that trims hold")
    try:
        return study_loops(craft, plan if gains is None else with_gains(plan, gains), point=point)
    except DravikError as error:
        raise DravikError(str(error), where=point.title) from None


def with_gains(plan: LoopPlan, gains: Mapping[str, float]) -> LoopPlan:
    """Return the plan with gains given instead of designed."""
    cleared: dict[str, Any] = {**dict.fromkeys((*DESIGNED, "zero")), "controller": "P"}
    loops = tuple(
        entry.model_copy(
            update={
                **cleared, **{g: gains[f"{entry.name}_{g}"] for g in GAINS},
                "filter_time": gains[f"{entry.name}_filter"] or None,
            }
        ) for entry in plan.loop
    )  # fmt: skip
    return plan.model_copy(update={"loop": loops})


def _between(
    craft: Aircraft, plan: LoopPlan, axes: Mapping[str, list[float]], gains: Mapping[str, Floats],
    rest: Mapping[str, Any],
) -> list[LoopStudy]:  # fmt: skip
    """Return what the tables give in the middle of every cell: gains straight between those of its corners."""
    # in the middle a straight line is furthest from what would have been designed there
    middles = {n: [0.5 * (a + b) for a, b in itertools.pairwise(v)] for n, v in axes.items()}
    sweep = trim_sweep(craft, middles, **rest)
    found = []
    for k, place in enumerate(np.ndindex(*(len(v) for v in middles.values()))):
        # the mean of the corners is what a linear table gives in the middle of its cell
        corners = list(itertools.product(*((i, i + 1) for i in place)))
        own = {n: float(np.mean([v[c] for c in corners])) for n, v in gains.items()}
        for entry in plan.loop:
            # the filter's time is not in a table: the first condition's
            crossover = entry.crossover or 1.0
            own[f"{entry.name}_filter"] = (
                (entry.filter_time or 0.1 / crossover) if own[f"{entry.name}_derivative"] else 0.0
            )
        found.append(_at(craft, plan, sweep, k, own))
    return found
