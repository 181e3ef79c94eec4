"""What would move a criterion that limits the level: which derivative or parameter, and by how much."""

from collections.abc import Sequence
from typing import NamedTuple

from dravik.errors import require
from dravik.handling.criteria import Assessment, Criterion
from dravik.linear import RootSensitivity, root_sensitivities
from dravik.trimming import TrimPoint

__all__ = ["Lever", "levers_of_level"]

MOST = 3.0  # relative changes beyond this are no lever


class Lever(NamedTuple):
    """A derivative or parameter that would bring a criterion to its next level: the relative change it takes.

    To first order: 0.2 is a fifth more of it.
    """

    criterion: str
    of: str
    value: float
    change: float
    wanted: float


def levers_of_level(point: TrimPoint, assessment: Assessment, *, most: int = 4) -> list[Lever]:
    """Return what would bring criteria that are not at level 1 to their next level: worst first, least change first.

    For criteria of damping, frequency and time constants of single modes, from the sensitivities of the roots to the
    coefficients' derivatives and the aircraft's parameters. Empty at level 1, and where no single change of less than
    three times would do.

    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
    >>> strict = dv.handling_qualities(craft, point, category="A")
    >>> [lever.criterion for lever in levers_of_level(point, strict)][:1]
    ['Dutch roll damping times frequency']
    """
    require(point, TrimPoint, "the point of the assessment", "trim(craft, ...)")
    require(assessment, Assessment, "the assessment", "handling_qualities(craft, point)")
    limiting = [c for c in assessment.criteria if c.level is not None and c.level > 1]
    limiting.sort(key=lambda c: -(c.level or 0))
    if not limiting:
        return []
    moved = root_sensitivities(point.craft, point)
    found: list[Lever] = []
    for criterion in limiting:
        own = [lever for s in moved if (lever := _lever(criterion, s)) is not None]
        found += sorted(own, key=lambda lever: abs(lever.change))[:most]
    return found


def _lever(criterion: Criterion, s: RootSensitivity) -> Lever | None:
    """Return what a derivative does for a criterion; None where it is not its mode, or does too little."""
    level = criterion.level
    if s.mode not in criterion.modes or level is None or level < 2:
        return None
    better = level - 2
    low, high = criterion.lows[better], criterion.highs[better]
    wanted = low if low is not None and criterion.value < low else high
    if wanted is None or wanted in (float("inf"), float("-inf")):
        return None
    slope = _slope(criterion, s)
    if slope is None or abs(slope) < 1e-12:
        return None
    change = (wanted - criterion.value) / slope
    return Lever(criterion.name, s.of, s.value, change, wanted) if abs(change) <= MOST else None


def _slope(criterion: Criterion, s: RootSensitivity) -> float | None:
    """Return the change of the criterion's value by a relative change of one; sensitivities are for a tenth more."""
    name, value = criterion.name, criterion.value
    if "damping times frequency" in name:
        # minus the real part
        return -s.slope.real * s.value
    if "damping" in name:
        return 10.0 * s.damping_change
    if "time constant" in name:
        return -10.0 * s.frequency_change * value
    if "frequency^2" in name:
        return 20.0 * s.frequency_change * value
    return 10.0 * s.frequency_change * value if "frequency" in name else None


def words(levers: Sequence[Lever]) -> list[str]:
    """Return levers in words."""
    return [
        f"{m.criterion}: {100.0 * m.change:+.0f} % of {m.of} (now {m.value:.4g}) brings it to {m.wanted:g}"
        for m in levers
    ]
