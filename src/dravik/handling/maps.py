"""Levels over a sweep of trims: the envelope, loadings, gains; what limits each point; two configurations compared."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError, require
from dravik.handling.assessment import handling_qualities
from dravik.handling.criteria import Assessment, Criterion
from dravik.handling.forces import PitchForce
from dravik.trimming import TrimSweep

__all__ = ["HandlingMap", "compare_handling", "handling_map"]

Floats = NDArray[np.float64]
Told = Callable[[float], None]


@dataclass(frozen=True)
class HandlingMap:
    """The assessments over a sweep, in its order; None where the condition is not held."""

    sweep: TrimSweep
    aircraft_class: str
    category: str
    found: list[Assessment | None]

    @property
    def levels(self) -> Floats:
        """Levels over the axes: 1 to 4, 0 where no level can be given, nan where the condition is not held."""
        values = [np.nan if a is None else float(a.level or 0) for a in self.found]
        return np.array(values).reshape(self.sweep.shape)

    def values(self, name: str) -> Floats:
        """Return a criterion's value over the axes; nan where it is missing. Raises DravikError for an unknown name."""
        known = dict.fromkeys(c.name for a in self.found if a is not None for c in a.criteria)
        if name not in known:
            raise DravikError(f"there is no criterion {name!r}", expected=", ".join(known))
        found = []
        for assessment in self.found:
            criteria = [] if assessment is None else [c for c in assessment.criteria if c.name == name]
            found.append(criteria[0].value if criteria else np.nan)
        return np.array(found).reshape(self.sweep.shape)

    def limiting(self) -> list[str]:
        """Return what limits each point: the worst criterion's name; empty at level 1 and where nothing is held."""
        found = []
        for assessment in self.found:
            if assessment is None or assessment.level == 1 or not assessment.limiting:
                found.append("")
            else:
                found.append(assessment.limiting[0].name)
        return found

    def rows(self) -> list[dict[str, Any]]:
        """Return one record for each point: the axes, the level, what limits it, and each criterion's value."""
        records = []
        for row, assessment, name in zip(self.sweep.rows(["alpha"]), self.found, self.limiting(), strict=True):
            record = {k: v for k, v in row.items() if k != "alpha_deg"}
            record |= {"level": None if assessment is None else assessment.level, "limited_by": name}
            for c in () if assessment is None else assessment.criteria:
                record[c.name] = c.value
            records.append(record)
        return records


def handling_map(
    sweep: TrimSweep, *, aircraft_class: str = "II-L", category: str = "B", sets: Sequence[str] = ("modal",),
    sticks: Mapping[str, str] | None = None, force: PitchForce | str = "", told: Told | None = None,
) -> HandlingMap:  # fmt: skip
    """Return the handling qualities at every point of a sweep that is held.

    Takes what ``handling_qualities`` takes; ``told`` is told the share done.

    Parameters
    ----------
    sweep : TrimSweep
        The trims over the product of axes.
    aircraft_class : str, default "II-L"
        ``"I"``, ``"II-L"``, ``"II-C"``, ``"III"`` or ``"IV"``.
    category : str, default "B"
        Category of the flight phase: ``"A"``, ``"B"`` or ``"C"``.
    sets : sequence of str, default ("modal",)
        Sets of criteria, as for ``handling_qualities``.
    sticks : mapping of str to str, optional
        The pilot's inputs for pitch, roll and yaw.
    force : PitchForce or str, default ""
        The signal of the stick's force.
    told : callable, optional
        Called with the share done, 0 to 1.

    Returns
    -------
    HandlingMap

    Raises
    ------
    DravikError
        Where nothing is held.

    Examples
    --------
    >>> import dravik as dv
    >>> sweep = dv.trim_sweep(dv.sample("tarn"), {"airspeed": "50:80:4 m/s"}, altitude="300 m")
    >>> handling_map(sweep).levels.tolist()
    [1.0, 1.0, 1.0, 1.0]
    """
    require(sweep, TrimSweep, "what is judged", "trim_sweep(craft, ...)")
    if not sweep.held:
        raise DravikError("no condition of the sweep is held", expected="a sweep of trims")
    found: list[Assessment | None] = []
    for k, point in enumerate(sweep.points):
        found.append(
            None if point is None
            else handling_qualities(
                point.craft, point, aircraft_class=aircraft_class, category=category, sets=sets, sticks=sticks,
                force=force,
            )
        )  # fmt: skip
        if told is not None:
            told((k + 1) / len(sweep.points))
    return HandlingMap(sweep, aircraft_class, category, found)


def compare_handling(before: Assessment, after: Assessment) -> list[dict[str, Any]]:
    """Return the criteria of two assessments side by side, by name: values, levels, margins, and what became of them.

    Parameters
    ----------
    before : Assessment
        The first assessment.
    after : Assessment
        The second.

    Returns
    -------
    list of mapping of str to any

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> slow, fast = (dv.trim(craft, airspeed=v, altitude="300 m") for v in ("50 m/s", "70 m/s"))
    >>> rows = compare_handling(dv.handling_qualities(craft, slow), dv.handling_qualities(craft, fast))
    >>> rows[0]["requirement"]
    'phugoid damping'
    """
    first, second = ({c.name: c for c in a.criteria} for a in (before, after))
    rows = []
    for name in dict.fromkeys([*first, *second]):
        a, b = first.get(name), second.get(name)
        one = a or b
        assert one is not None
        rows.append(
            {
                "requirement": name, "paragraph": one.source, "unit": one.unit, "before": _value(a),
                "after": _value(b), "level_before": None if a is None else a.level,
                "level_after": None if b is None else b.level, "change": _change(a, b),
            }
        )  # fmt: skip
    return rows


def _value(criterion: Criterion | None) -> float | None:
    return None if criterion is None or not np.isfinite(criterion.value) else criterion.value


def _change(before: Criterion | None, after: Criterion | None) -> str:
    """Return in a word what became of a criterion."""
    if before is None or after is None:
        return "new" if before is None else "gone"
    if before.level is None or after.level is None:
        return "the same" if before.level == after.level else "not judged any more" if before.level else "judged now"
    if before.level != after.level:
        return "better" if after.level < before.level else "worse"
    return "the same level"
