"""What would move a criterion that limits the level: which derivative or parameter, and by how much."""

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from typing import NamedTuple

from dravik.errors import DravikError, require
from dravik.handling.criteria import Assessment, Criterion
from dravik.handling.modal import modal_criteria
from dravik.linear import LinearModel, linearise
from dravik.linear.root_sensitivity import DerivativeChange, derivative_changes
from dravik.trimming import TrimPoint, trim

__all__ = ["LevelSensitivity", "sensitivities_of_level"]

MOST = 3.0  # relative changes beyond this are no sensitivity
TRIED = 0.01  # relative change that shows what a sensitivity does
CHECKED = 1e-5  # more change than it takes, at which the level has to be better
SECANTS = 25


class LevelSensitivity(NamedTuple):
    """A derivative or parameter that brings a criterion to its next level: the relative change it takes.

    0.2 is a fifth more of it.
    """

    criterion: str
    of: str
    value: float
    change: float
    wanted: float


class _Variation(NamedTuple):
    """A derivative or parameter, its value, and the model with that changed by a share of it; None without a trim."""

    of: str
    value: float
    moved: Callable[[float], LinearModel | None]


def sensitivities_of_level(point: TrimPoint, assessment: Assessment, *, most: int = 4) -> list[LevelSensitivity]:
    """Return what would bring criteria that are not at level 1 to their next level: worst first, least change first.

    For criteria of single modes: the coefficients' derivatives at the same trim, and the aircraft's parameters with
    the trim following. Each change is applied, solved for and checked, with everything of the criterion that moves
    with it; one of an equivalent system has none. Empty at level 1, and where no single change of less than three
    times would do.

    Parameters
    ----------
    point : TrimPoint
        The trimmed point.
    assessment : Assessment
        The criteria at this point.
    most : int, default 4
        How many changes are told for a criterion.

    Returns
    -------
    list of LevelSensitivity

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
    >>> strict = dv.handling_qualities(craft, point, category="A")
    >>> [sensitivity.criterion for sensitivity in sensitivities_of_level(point, strict)][:1]
    ['Dutch roll damping times frequency']
    """
    require(point, TrimPoint, "the point of the assessment", "trim(craft, ...)")
    require(assessment, Assessment, "the assessment", "handling_qualities(craft, point)")
    limiting = [c for c in assessment.criteria if c.level is not None and c.level > 1 and c.modes]
    limiting.sort(key=lambda c: -(c.level or 0))
    if not limiting:
        return []
    model = linearise(point.craft, point, outputs=["nz"])
    variations = [*_derivatives(point, model), *_parameters(point, model)]
    found: list[LevelSensitivity] = []
    for criterion in limiting:
        own = [
            sensitivity
            for variation in variations
            if (sensitivity := _sensitivity(criterion, variation, assessment)) is not None
        ]
        found += sorted(own, key=lambda sensitivity: abs(sensitivity.change))[:most]
    return found


def _derivatives(point: TrimPoint, model: LinearModel) -> Iterator[_Variation]:
    for one in derivative_changes(point.craft, point, model):

        def moved(share: float, one: DerivativeChange = one) -> LinearModel | None:
            more = share * one.value
            return replace(model, A=model.A + more * one.A, C=model.C + more * one.C)

        if one.value:
            yield _Variation(one.of, one.value, moved)


def _parameters(point: TrimPoint, model: LinearModel) -> Iterator[_Variation]:
    craft = point.craft
    for name, value in craft.parameters.items():

        def moved(share: float, name: str = name, value: float = value) -> LinearModel | None:
            try:
                changed = craft.with_parameters({name: value * (1.0 + share)})
                return linearise(changed, trim(changed, point.statement), states=model.states, outputs=["nz"])
            except DravikError:
                return None

        if value:
            yield _Variation(name, value, moved)


def _sensitivity(criterion: Criterion, variation: _Variation, assessment: Assessment) -> LevelSensitivity | None:
    """Return what a derivative or parameter does for a criterion; None where it does too little."""
    level = criterion.level
    assert level is not None

    def there(share: float) -> Criterion | None:
        model = variation.moved(share)
        lines = [] if model is None else modal_criteria(model, assessment.aircraft_class, assessment.category)
        return next((c for c in lines if c.name == criterion.name and math.isfinite(c.value)), None)

    def short_of(share: float) -> float:
        """By how much the value is above what is wanted; nan without one."""
        found = there(share)
        wanted = None if found is None else _wanted(criterion, found)
        return math.nan if found is None or wanted is None else found.value - wanted

    if there(0.0) is None or abs(short_of(0.0) - (criterion.value - (_wanted(criterion, criterion) or math.nan))) > (
        1e-6 * abs(criterion.value)
    ):
        return None
    change = _solved(short_of)
    if change is None:
        return None
    better = there(change + math.copysign(CHECKED, change))
    if better is None or better.level is None or better.level >= level:
        return None
    return LevelSensitivity(
        criterion.name, variation.of, variation.value, change, _wanted(criterion, better) or math.nan
    )


def _wanted(criterion: Criterion, there: Criterion) -> float | None:
    """Return the next level's limit as it is there, on the side on which the criterion is outside; None without."""
    assert criterion.level is not None
    better = criterion.level - 2
    is_low = criterion.lows[better] is not None and criterion.value < (criterion.lows[better] or 0.0)
    wanted = there.lows[better] if is_low else there.highs[better]
    return wanted if wanted is not None and math.isfinite(wanted) else None


def _solved(short_of: Callable[[float], float]) -> float | None:
    """Return the least relative change at which a value is as wanted, by secants; None beyond the most, or without."""
    before, at = -TRIED, TRIED
    below, here = short_of(before), short_of(at)
    size = max(abs(below), abs(here))
    for _ in range(SECANTS):
        if not math.isfinite(here - below) or abs(here - below) < 1e-9 * size:
            return None
        # no step goes further than twice the most: where it began to bend is tried first
        step = min(max(-here * (at - before) / (here - below), -MOST), MOST)
        before, below, at = at, here, at + step
        if abs(at) > MOST:
            return None
        here = short_of(at)
        if abs(here) <= 1e-9 * size or abs(step) < 1e-9:
            return at
    return None


def words(sensitivities: Sequence[LevelSensitivity]) -> list[str]:
    """Return sensitivities in words."""
    return [
        f"{m.criterion}: {100.0 * m.change:+.0f} % of {m.of} (now {m.value:.4g}) brings it to {m.wanted:g}"
        for m in sensitivities
    ]
