"""Handling qualities of an aircraft at a trimmed point: all requirements that apply, and the level."""

from collections.abc import Callable, Sequence
from typing import Any

from dravik.aircraft import Aircraft
from dravik.definition import arguments
from dravik.errors import DravikError, nearest, require
from dravik.handling.criteria import CATEGORIES, CLASSES, NONE, Assessment, Criterion
from dravik.handling.modal import modal_criteria
from dravik.handling.responses import pilot_input, pitch_responses, roll_responses
from dravik.handling.rolling import roll_performance
from dravik.handling.static import static_criteria
from dravik.linear import LinearModel, linearise
from dravik.trimming import TrimPoint

__all__ = ["SETS", "handling_qualities"]

#: What may be asked for: roots of the model; responses to the pilot's input; trims at other speeds; a flown roll.
SETS = ("modal", "responses", "static", "roll")
OUTPUTS = ["nz", "q", "p", "theta", "phi"]
Found = tuple[list[Criterion], dict[str, Any]]


def handling_qualities(
    craft: Aircraft, point: TrimPoint, *, aircraft_class: str = "II-L", category: str = "B",
    model: LinearModel | None = None, sets: Sequence[str] = ("modal",),
) -> Assessment:  # fmt: skip
    """Return the handling qualities of an aircraft at a trimmed point: each criterion's value, level and margin.

    ``aircraft_class`` is one of CLASSES, ``category`` (of the flight phase) one of CATEGORIES. ``sets`` of SETS:
    ``"modal"`` (roots, MIL-F-8785C), ``"responses"`` to the pilot's input (equivalent systems, bandwidth, tracking,
    dropback), ``"static"`` (flight path and stick by speed), ``"roll"`` (time to bank, flown). Laws that are engaged
    are judged with the aircraft. A ``model`` of one's own has the outputs nz, q, p, theta, phi (modal: nz). Raises
    DravikError for others, and in hover or steep flight, of which these requirements do not speak.

    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> dv.handling_qualities(craft, dv.trim(craft, airspeed="62 m/s", altitude="300 m")).level
    1
    """
    require(craft, Aircraft, "what is judged")
    require(point, TrimPoint, "the point to judge at", "trim(craft, ...)")
    asked = arguments.names(sets, "sets")
    for values, choices, what in (
        ([aircraft_class], CLASSES, "class"), ([category], CATEGORIES, "category"), (asked, SETS, "set of criteria"),
    ):  # fmt: skip
        for value in values:
            if value not in choices:
                hint = nearest(value.lower() if choices is SETS else value.upper(), choices)
                raise DravikError(f"{what} {value!r}", expected="one of " + ", ".join(choices), hint=hint)
    if not asked:
        raise DravikError("no set of criteria", expected="one of " + ", ".join(SETS))
    if point.coordinates == "body":
        raise DravikError(f"no requirement of MIL-F-8785C at {point.title}", expected="flight on a wing")
    needed = OUTPUTS if set(asked) - {"modal"} else OUTPUTS[:1]
    if model is None:
        model = linearise(craft, point, outputs=needed)
    missing = [n for n in needed if n not in model.outputs]
    if missing:
        raise DravikError(f"a model without {', '.join(missing)}", expected=f"outputs {', '.join(needed)}")
    criteria: list[Criterion] = []
    details: dict[str, Any] = {"modes": model.modes()}
    for name in asked:
        found, more = _SETS[name](craft, point, model, aircraft_class, category)
        criteria += found
        details |= more
    return Assessment(f"{craft.name}, {point.title}", aircraft_class, category, criteria, details)


def _modal(craft: Aircraft, point: TrimPoint, model: LinearModel, aircraft_class: str, category: str) -> Found:
    return modal_criteria(model, aircraft_class, category), {}


def _responses(craft: Aircraft, point: TrimPoint, model: LinearModel, aircraft_class: str, category: str) -> Found:
    pitch, more = _with_input(craft, model, "q", "pitch", lambda stick: pitch_responses(model, stick, category))
    roll, most = _with_input(
        craft, model, "p", "roll", lambda stick: roll_responses(model, stick, aircraft_class, category)
    )
    return [*pitch, *roll], {**more, **most}


def _static(craft: Aircraft, point: TrimPoint, model: LinearModel, aircraft_class: str, category: str) -> Found:
    return _with_input(
        craft, model, "q", "pitch", lambda stick: (static_criteria(craft, point, stick, category), {})
    )  # fmt: skip


def _roll(craft: Aircraft, point: TrimPoint, model: LinearModel, aircraft_class: str, category: str) -> Found:
    def judge(stick: str) -> Found:
        criterion, flown = roll_performance(craft, point, stick, aircraft_class, category)
        return [criterion], {"rolled": flown}

    return _with_input(craft, model, "p", "roll", judge)


def _with_input(
    craft: Aircraft, model: LinearModel, rate: str, what: str, judge: Callable[[str], Found]
) -> Found:  # fmt: skip
    """Return what is judged by the pilot's input for a rate; without one a line that says so."""
    try:
        stick = pilot_input(craft, model, rate)
    except DravikError as error:
        note = f"{error}: no level can be given"
        return [Criterion(f"{what}, by the pilot", "-", float("nan"), "", NONE, judged=False, note=note)], {}
    return judge(stick)


_SETS = {"modal": _modal, "responses": _responses, "static": _static, "roll": _roll}
