"""Handling qualities of an aircraft at a trimmed point: all requirements that apply, and the level."""

from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from typing import Any, NamedTuple

from dravik.aircraft import Aircraft
from dravik.aircraft.air_of_point import in_air_of
from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.handling.agility import agility_criteria
from dravik.handling.comfort import ride_criteria
from dravik.handling.criteria import CATEGORIES, CLASSES, NONE, Assessment, Criterion
from dravik.handling.forces import PitchForce, force_per_g
from dravik.handling.hovering import LOW_SPEED, hover_criteria, no_hover
from dravik.handling.margins import margin_criteria
from dravik.handling.modal import load_factor_sensitivity, modal_criteria, shared_short_period
from dravik.handling.responses import pilot_input, pitch_equivalent, pitch_responses, roll_responses
from dravik.handling.rolling import roll_oscillation, roll_performance, told_oscillations
from dravik.handling.sideslip_and_failure import engine_failure, steady_sideslip
from dravik.handling.static import static_criteria
from dravik.linear import LinearModel, Modes
from dravik.linear.sampled_laws import linearise_as_run
from dravik.trimming import TrimPoint

__all__ = ["ON_A_WING", "SETS", "handling_qualities"]

#: What may be asked for: roots of the model; responses to the pilot's input; trims at other speeds; a flown roll; and
#: of rotorcraft at low speed the responses there.
SETS = ("modal", "responses", "static", "roll", "engine_out", "margins", "ride", "hover")
ON_A_WING = SETS[:5]
READ_STICKS = ("responses", "static", "roll", "engine_out", "hover")
AXES = {"pitch": "q", "roll": "p", "yaw": "r"}
OUTPUTS = ["nz", "q", "p", "r", "theta", "phi"]
Found = tuple[list[Criterion], dict[str, Any]]


def handling_qualities(
    craft: Aircraft, point: TrimPoint, *, aircraft_class: str = "II-L", category: str = "B",
    model: LinearModel | None = None, sets: Sequence[str] = ("modal",), sticks: Mapping[str, str] | None = None,
    force: PitchForce | str = "",
) -> Assessment:  # fmt: skip
    """Return the handling qualities of an aircraft at a trimmed point: each criterion's value, level and margin.

    Laws that are engaged are judged with the aircraft.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    point : TrimPoint
        The condition.
    aircraft_class : str, default "II-L"
        ``"I"``, ``"II-L"``, ``"II-C"``, ``"III"`` or ``"IV"``.
    category : str, default "B"
        Category of the flight phase: ``"A"``, ``"B"`` or ``"C"``.
    model : LinearModel, optional
        A model of one's own, with the outputs nz, q, p, r, theta, phi (modal: nz).
    sets : sequence of str, default ("modal",)
        ``"modal"`` (roots, MIL-F-8785C), ``"responses"`` to the pilot's input (equivalent systems, bandwidth, tracking,
        steps), ``"static"`` (flight path and stick by speed, straight sideslips), ``"roll"`` (time to bank, flown),
        ``"engine_out"`` (minimum control speeds), ``"margins"`` (of the loops that laws close), ``"ride"`` (in
        turbulence), ``"hover"`` (small, moderate and large attitude changes of rotorcraft).
    sticks : mapping of str to str, optional
        The pilot's inputs for pitch, roll and yaw. Those that trims move and that do most unless given.
    force : PitchForce or str, optional
        The signal of the stick's force, for force per g.

    Returns
    -------
    Assessment
        The criteria with levels 1 to 3 (4: worse), the worst of them, and what could not be judged.

    Raises
    ------
    DravikError
        For other names, and for requirements of flight on a wing in hover or steep flight, of which they do not speak.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> dv.handling_qualities(craft, dv.trim(craft, airspeed="62 m/s", altitude="300 m")).level
    1
    """
    require(craft, Aircraft, "what is judged")
    require(point, TrimPoint, "the point to judge at", "trim(craft, ...)")
    craft = in_air_of(craft, point.craft)
    asked = arguments.names(sets, "sets")
    arguments.word(aircraft_class, "class", CLASSES)
    arguments.word(category, "category", CATEGORIES)
    for name in asked:
        arguments.word(name, "set of criteria", SETS)
    if not asked:
        raise DravikError("sets names no set of criteria", expected="one of " + ", ".join(SETS))
    if point.coordinates == "body" and set(asked) & set(ON_A_WING):
        raise DravikError(f"MIL-F-8785C has no requirement for {point.title}", expected="flight on a wing")
    needed = OUTPUTS if set(asked) - {"modal"} else OUTPUTS[:1]
    if model is None:
        model = linearise_as_run(craft, point, outputs=needed)
    require(model, LinearModel, "the model", "linearise(craft, point, outputs=[...])")
    missing = [n for n in needed if n not in model.outputs]
    if missing:
        raise DravikError(f"the model has no {', '.join(missing)}", expected=f"outputs {', '.join(needed)}")
    criteria: list[Criterion] = []
    modes = model.modes()
    details: dict[str, Any] = {"modes": modes}
    case = _Case(
        craft, point, model, modes, aircraft_class, category, _checked(craft, {} if sticks is None else sticks),
        PitchForce.of(force) if force else None,
    )  # fmt: skip
    _refuse_unread(case, asked)
    for name in asked:
        found, more = _SETS[name](case)
        criteria += found
        details |= more
    return Assessment(f"{craft.name}, {point.title}", aircraft_class, category, criteria, details)


def _refuse_unread(case: "_Case", asked: Sequence[str]) -> None:
    """Raise DravikError for the pilot's inputs and force where no set of criteria that is asked for reads them."""
    if case.force is not None and "static" not in asked:
        raise DravikError("a pilot's force is given, and none of the criteria reads it", expected="the set 'static'")
    shared = "modal" in asked and shared_short_period(case.modes, case.craft.definition.controls)
    if case.sticks and not set(asked) & set(READ_STICKS) and not shared:
        raise DravikError(
            f"a pilot's input is given for {', '.join(case.sticks)}, and none of the criteria reads it",
            expected="one of the sets " + ", ".join(READ_STICKS),
        )  # fmt: skip


class _Case(NamedTuple):
    """What is judged: an aircraft at a point, its model, class and category, and the pilot's inputs that were named."""

    craft: Aircraft
    point: TrimPoint
    model: LinearModel
    modes: Modes
    aircraft_class: str
    category: str
    sticks: dict[str, str]
    force: PitchForce | None = None

    def stick(self, axis: str) -> str:
        """Return the pilot's input for an axis; raises DravikError where there is none."""
        return self.sticks.get(axis) or pilot_input(self.craft, self.model, AXES[axis])


def _checked(craft: Aircraft, given: Mapping[str, str]) -> dict[str, str]:
    sticks = arguments.mapping(given, "sticks")
    for axis, name in sticks.items():
        arguments.word(axis, "a stick's axis", AXES)
        arguments.names([name], "sticks")
    return {axis: craft.input_names[craft.input_index(name)] for axis, name in sticks.items()}


def _modal(case: _Case) -> Found:
    equivalent = None
    if shared_short_period(case.modes, case.craft.definition.controls):
        with suppress(DravikError):
            if "q" not in case.model.outputs:
                case = case._replace(model=linearise_as_run(case.craft, case.point, outputs=OUTPUTS))
            fit = pitch_equivalent(case.model, case.stick("pitch"))
            equivalent = fit if fit.is_close else None
    return modal_criteria(case.model, case.aircraft_class, case.category, equivalent=equivalent, modes=case.modes), {}


def _responses(case: _Case) -> Found:
    pitch, more = _with_input(
        case,
        "pitch",
        lambda stick: pitch_responses(case.craft, case.model, stick, case.point["airspeed"], case.category),
    )
    roll, most = _with_input(
        case, "roll", lambda stick: roll_responses(case.model, stick, case.aircraft_class, case.category)
    )
    return [*pitch, *roll], {**more, **most}


def _static(case: _Case) -> Found:
    along, _ = _with_input(
        case, "pitch", lambda stick: (static_criteria(case.craft, case.point, stick, case.category), {})
    )  # fmt: skip
    across, _ = _with_input(
        case, "roll",
        lambda stick: _with_input(
            case, "yaw", lambda pedal: (steady_sideslip(case.craft, case.point, pedal, stick), {})
        ),
    )  # fmt: skip
    if case.force is not None:
        along = [*along, force_per_g(case.craft, case.point, case.force, load_factor_sensitivity(case.model))]
    return [*along, *across], {}


def _engine_out(case: _Case) -> Found:
    return engine_failure(case.craft, case.point), {}


def _margins(case: _Case) -> Found:
    return margin_criteria(case.craft, case.point), {}


def _roll(case: _Case) -> Found:
    def judge(stick: str) -> Found:
        found, flown = roll_performance(case.craft, case.point, stick, case.aircraft_class, case.category)
        more = [roll_oscillation(case.model, stick, case.category), *told_oscillations(case.model, stick)]
        return [*found, *more], {"rolled": flown}

    return _with_input(case, "roll", judge)


def _hover(case: _Case) -> Found:
    if not case.craft.definition.mixers or case.point["airspeed"] > LOW_SPEED:
        return no_hover(f"{case.craft.name} at {case.point['airspeed']:.3g} m/s"), {}
    sticks = {}
    for axis in ("pitch", "roll"):
        with suppress(DravikError):
            sticks[axis] = case.stick(axis)
    found, more = hover_criteria(case.model, sticks)
    return [*found, *agility_criteria(case.craft, case.point, sticks, case.category)], more


def _ride(case: _Case) -> Found:
    return ride_criteria(case.craft, case.point)


def _with_input(case: _Case, axis: str, judge: Callable[[str], Found]) -> Found:
    """Return what is judged by the pilot's input for an axis; without one a line that says so."""
    try:
        stick = case.stick(axis)
    except DravikError as error:
        note = f"{error}: no level can be given"
        return [Criterion(f"{axis}, by the pilot", "-", float("nan"), "", NONE, judged=False, note=note)], {}
    return judge(stick)


_SETS = {
    "modal": _modal,
    "responses": _responses,
    "static": _static,
    "roll": _roll,
    "engine_out": _engine_out,
    "margins": _margins,
    "ride": _ride,
    "hover": _hover,
}
