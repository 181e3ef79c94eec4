"""What a criterion is, whatever its source: a value, limits for each level, and the level that follows."""

import math
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from dravik.host.notebooks import Shown, ShownAsTable, of_records

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["CATEGORIES", "CLASSES", "Assessment", "Criterion"]

CLASSES = ("I", "II-L", "II-C", "III", "IV")
CATEGORIES = ("A", "B", "C")
UNACCEPTABLE = 4
NONE: tuple[None, None, None] = (None, None, None)


@dataclass(frozen=True)
class Criterion:
    """One requirement: ``value`` with ``lows`` and ``highs`` for levels 1 to 3 (None for no limit).

    ``margin`` is the distance to the nearest level 1 limit as a share of that limit: negative outside it. ``modes`` are
    the names of the modes that it judges. Not ``judged``, it says what no requirement could be applied to: a mode that
    is missing, or one that grows and that nothing speaks of; its level is then None. ``remembered``: its limits are
    quoted from memory and were not compared with a copy of the document. ``document`` is empty where the paragraph
    names it. What ``is_told`` is a figure of the document that is held against no limits here, and has no level.
    """

    name: str
    paragraph: str
    value: float
    unit: str
    lows: tuple[float | None, float | None, float | None]
    highs: tuple[float | None, float | None, float | None] = (None, None, None)
    note: str = ""
    modes: tuple[str, ...] = ()
    judged: bool = True
    remembered: bool = False
    document: str = ""
    is_told: bool = False

    @property
    def source(self) -> str:
        """The document and its paragraph."""
        return f"{self.document} {self.paragraph}".strip()

    @property
    def level(self) -> int | None:
        """1 to 3, or 4 for worse than level 3 or no value at all; None where no level can be given."""
        if not self.judged or self.is_told:
            return None
        if math.isnan(self.value):
            return UNACCEPTABLE
        for level in range(3):
            low, high = self.lows[level], self.highs[level]
            if (low is None or self.value >= low) and (high is None or self.value <= high):
                return level + 1
        return UNACCEPTABLE

    @property
    def margin(self) -> float | None:
        """Distance to the nearest level 1 limit over that limit, or None without one."""
        sides = []
        if math.isnan(self.value):
            return None
        if self.lows[0] is not None:
            sides.append((self.value - self.lows[0]) / (abs(self.lows[0]) or 1.0))
        if self.highs[0] is not None:
            sides.append((self.highs[0] - self.value) / (abs(self.highs[0]) or 1.0))
        return min(sides) if sides else None

    @property
    def requirement(self) -> str:
        """The level 1 limits in words."""
        low, high = self.lows[0], self.highs[0]
        if low is None and high is None:
            return "told" if self.is_told else "no limit" if self.judged else "unjudged"
        if math.inf in (low, -(high or 0.0)):
            return "not allowed"
        if low is None:
            return f"at most {high:.4g}"
        return f"at least {low:.4g}" if high is None else f"{low:.4g} to {high:.4g}"


@dataclass(frozen=True, repr=False)
class Assessment(ShownAsTable):
    """All criteria of one flight condition; ``level`` is the worst of them.

    ``unjudged`` says in words what no requirement could be applied to; no level can be given then. ``details`` is what
    charts are drawn from, by name.
    """

    title: str
    aircraft_class: str
    category: str
    criteria: list[Criterion]
    details: dict[str, Any] = field(default_factory=dict, compare=False)

    def summary_table(self) -> Shown:
        """Return what a notebook shows: the level, and a row for each criterion."""
        level = "not judged" if self.level is None else f"level {self.level}"
        title = f"{self.title}: class {self.aircraft_class}, category {self.category}, {level}"
        return title, *of_records(self.rows())

    @property
    def limiting(self) -> list[Criterion]:
        """The criteria at the worst level, the smallest margin first; those that cannot be judged before them."""
        open_ones = [c for c in self.criteria if c.level is None and not c.is_told]
        levels = [c.level for c in self.criteria if c.level is not None]
        worst = [c for c in self.criteria if levels and c.level == max(levels)]
        return [*open_ones, *sorted(worst, key=lambda c: math.inf if c.margin is None else c.margin)]

    @property
    def remembered(self) -> list[str]:
        """The paragraphs whose limits are from memory and were not compared with a copy of the document."""
        return list(dict.fromkeys(c.source for c in self.criteria if c.remembered))

    @property
    def unjudged(self) -> list[str]:
        """What no requirement could be applied to, in words."""
        return [f"{c.name}: {c.note}" for c in self.criteria if not c.judged]

    @property
    def level(self) -> int | None:
        """The worst level, 4 being worse than level 3; None where something is unjudged, or nothing was judged."""
        levels = [c.level for c in self.criteria if not c.is_told]
        found = [level for level in levels if level is not None]
        return max(found) if found and len(found) == len(levels) else None

    def rows(self) -> list[dict[str, object]]:
        """Return one plain record for each criterion."""
        return [
            {
                "document": c.document,
                "paragraph": c.paragraph,
                "requirement": c.name,
                "value": c.value if math.isfinite(c.value) else None,
                "unit": c.unit,
                "level_1": c.requirement,
                "level": c.level,
                "margin": None if c.margin is None or not math.isfinite(c.margin) else c.margin,
                "note": c.note,
                "remembered": c.remembered,
            }
            for c in self.criteria
        ]

    @property
    def table(self) -> "DataFrame":
        """The criteria as a DataFrame."""
        import pandas as pd

        return pd.DataFrame(self.rows()).set_index("paragraph")
