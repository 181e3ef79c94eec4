"""The law that the loops of a study make, as the text of a law file: gains as parameters, formulas, what is added."""

import math

from dravik.aircraft import Aircraft
from dravik.definition.signals import signed_names
from dravik.errors import DravikError, require
from dravik.loops.plan import Element, LoopEntry
from dravik.loops.root_assignment import Regulator
from dravik.loops.study import ClosedLoop, LoopStudy
from dravik.trimming import TrimPoint

__all__ = ["law_of", "law_of_regulator"]


def law_of(study: LoopStudy) -> str:
    """Return the text of a law file with the loops of a study: engaged, it is what was studied, but for the delays.

    The outermost commands are inputs that follow what is measured, so that engaging takes over the present value;
    an integral is held where its effector would stop.

    Parameters
    ----------
    study : LoopStudy
        The loops as designed.

    Returns
    -------
    str
        The text of a law's TOML file.

    Raises
    ------
    DravikError
        For a notch, which no formula makes, and for a loop that moves an input.

    Examples
    --------
    >>> import dravik as dv
    >>> from dravik.loops import read_loops, study_loops
    >>> study = study_loops(dv.sample("tarn"), read_loops(dv.aircraft.sample_path("tarn") / "loops" / "pitch.toml"))
    >>> "[inputs.theta_command]" in law_of(study)
    True
    """
    # a loop whose command another one gives is no input of the law
    inner = {entry.asked: entry.name for entry in study.plan.loop}
    outer = {entry.moves for entry in study.plan.loop}
    lines = ["format = 1", f'name = "{study.plan.name or "Loops"}"', f'description = "{_described(study)}"', ""]
    for found in study.loops:
        if found.entry.asked not in outer and not found.entry.wanted:
            lines += _input(study, found.entry)
    lines += ["[parameters]"]
    for found in study.loops:
        lines += _parameters(found)
    lines += ["", "[formulas]"]
    adds: dict[str, list[str]] = {}
    # outermost first, as a reader follows them: from the command to the effector
    for found in reversed(study.loops):
        entry = found.entry
        lines += _formulas(study, found)
        if entry.adds:
            for moved in entry.adds:
                adds.setdefault(moved, []).append(entry.name)
        elif entry.moves not in inner:
            terms = signed_names(entry.moves)
            if not set(terms) <= set(study.craft.definition.controls):
                raise DravikError(
                    f"the loop {entry.name!r} moves the input {entry.moves!r}",
                    expected="an effector", hint="adds = [...], the commands that the law is to add to",
                )  # fmt: skip
            for moved, sign in terms.items():
                adds.setdefault(moved, []).append(entry.name if sign > 0.0 else f"-{entry.name}")
    lines += [
        "",
        "[add]",
        *(f'{moved} = "{" + ".join(names).replace("+ -", "- ")}"' for moved, names in adds.items()),
        "",
    ]
    return "\n".join(lines)


def _described(study: LoopStudy) -> str:
    return f"designed at {study.point.title}: " + ", ".join(
        f"{f.entry.name} {math.degrees(f.margins.phase):.0f} deg" if math.isfinite(f.margins.phase) else f.entry.name
        for f in study.loops
    )


def _input(study: LoopStudy, entry: LoopEntry) -> list[str]:
    unit = study.craft.signal(entry.measures).unit
    kind = {"rad": "angle", "rad/s": "angular rate", "m": "length", "m/s": "speed"}.get(unit)
    lines = [f"[inputs.{entry.asked}]", f'description = "what {entry.measures} is to be"']
    lines += [f'kind = "{kind}"'] if kind else []
    return [*lines, f'follows = "{entry.measures}"', ""]


def _parameters(found: ClosedLoop) -> list[str]:
    pid, name = found.pid, found.entry.name
    own = [("proportional", pid.proportional), ("integral", pid.integral), ("derivative", pid.derivative)]
    return [f"{name}_{what} = {{ value = {value:.6g} }}" for what, value in own if value or what == "proportional"]


def _formulas(study: LoopStudy, found: ClosedLoop) -> list[str]:
    entry, pid = found.entry, found.pid
    name, error = entry.name, f"({entry.asked} - {entry.measures})"
    term = error if pid.weight == 1.0 else f"({pid.weight:.6g}*{entry.asked} - {entry.measures})"
    text = f"{name}_proportional*{term}"
    if pid.integral:
        bounds = _bounds(study, entry)
        text += f" + integral({name}_integral*{error}{bounds})"
    if pid.derivative:
        # the command has no part in the derivative: a step would be a blow
        text += f" - {name}_derivative*washout({entry.measures}, {pid.filter_time:.6g})/{pid.filter_time:.6g}"
    for element in entry.element:
        text = _shaped(element, text)
    end = next(iter(signed_names(entry.moves)))
    unit = study.craft.signal(end).unit if end in study.craft.signals else ""
    of = f', unit = "{unit}"' if unit else ""
    lines = [f'{name} = {{ formula = "{text}"{of} }}']
    # what an inner loop reads as its command
    given = [f.entry.name for f in study.loops if f.entry.moves == entry.asked]
    if entry.wanted:
        unit = study.craft.signal(entry.measures).unit
        of = f', unit = "{unit}"' if unit else ""
        lines.insert(0, f'{entry.asked} = {{ formula = "{entry.wanted}"{of} }}')
    if given:
        lines.insert(0, f'{entry.asked} = {{ formula = "{" + ".join(given)}" }}')
    return lines


def _bounds(study: LoopStudy, entry: LoopEntry) -> str:
    """Return where an integral is held: where its effector stops, from where it is trimmed, through the inner loops.

    An engine's throttle is trimmed anywhere in its range, so its whole range is left to the integral either way.
    """
    moved, gain = entry.moves, 1.0
    inner = {e.asked: study.loop(e.name) for e in study.plan.loop}
    while moved in inner:
        # a bound on the effector, seen through the inner loops' gains, is the outer integral's
        gain *= inner[moved].pid.proportional or 1.0
        moved = inner[moved].entry.moves
    moved = entry.adds[0] if entry.adds else next(iter(signed_names(moved)))
    if moved not in study.craft.limits:
        return ""
    low, high = study.craft.limits[moved]
    is_throttle = moved not in study.craft.definition.controls
    ends = (low - high, high - low) if is_throttle else tuple(end - study.point[moved] for end in (low, high))
    # a negative gain turns the lower end into the upper one
    below, above = sorted(end / gain for end in ends)
    return f", low={below:.4g}, high={above:.4g}" if math.isfinite(above - below) else ""


def _shaped(element: Element, text: str) -> str:
    if element.kind == "notch":
        raise DravikError("a notch cannot be written as a formula of a law", hint="state(...) twice, by hand")
    if element.washout:
        return f"washout({text}, {1.0 / element.at:.6g})"
    if element.lead is not None:
        # the lead of (r s + 1)/(s/r + 1) at its middle frequency is 2 atan(r) - 90 deg
        ratio = math.tan(0.25 * math.pi + 0.5 * element.lead)
        return f"lead_lag({text}, {ratio / element.at:.6g}, {1.0 / (ratio * element.at):.6g})/{ratio:.6g}"
    assert element.lag is not None
    return f"{element.lag:.6g}*lead_lag({text}, {1.0 / element.at:.6g}, {element.lag / element.at:.6g})"


def law_of_regulator(regulator: Regulator, point: TrimPoint, *, name: str = "Regulator") -> str:
    """Return state or output feedback as the text of a law file: each gain a parameter, deviations from a point.

    What the feedback moves is added to the commands of effectors; NAME_integral becomes an integral of NAME's
    deviation.

    Parameters
    ----------
    regulator : Regulator
        Feedback from ``optimal_states``, ``optimal_outputs``, ``assign_roots`` or ``assign_mode``.
    point : TrimPoint
        The point that its model is about.
    name : str, default "Regulator"
        Name of the law.

    Returns
    -------
    str
        The text of a law's TOML file.

    Raises
    ------
    DravikError
        For a sampled regulator, and for quantities that are no signals or no effectors of the aircraft.

    Examples
    --------
    >>> import dravik as dv
    >>> from dravik.loops import optimal_states
    >>> craft = dv.sample("tarn")
    >>> point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
    >>> fast = dv.linearise(craft, point).part(states=["alpha", "q"], inputs=["elevator_increment"])
    >>> found = optimal_states(fast, worst={"alpha": "2 deg", "q": "5 deg/s"}, use={"elevator_increment": "5 deg"})
    >>> [line for line in law_of_regulator(found, point).splitlines() if line.startswith("elevator =")]
    ['elevator = "elevator_feedback"']
    """
    require(regulator, Regulator, "the regulator", "optimal_states(...)")
    require(point, TrimPoint, "the point", "trim(craft, ...)")
    if regulator.plant.sample_time is not None:
        raise DravikError("a sampled regulator is no law of formulas", hint="dv.SystemDevice(regulator.controller())")
    craft, parameters, formulas, adds = point.craft, [], [], []
    for moved, row in zip(regulator.inputs, regulator.gains, strict=True):
        end = moved.removesuffix("_increment").removesuffix("_command")
        if end not in craft.definition.controls:
            known = ", ".join(craft.definition.controls)
            raise DravikError(f"the regulator moves {moved}", expected=f"an effector: {known}")
        terms = []
        for measured, gain in zip(regulator.measured, row, strict=True):
            if gain == 0.0:
                continue
            parameter = f"{end}_by_{measured}"
            parameters.append(f"{parameter} = {{ value = {-float(gain)!r} }}")
            terms.append(f"{parameter}*{_deviation(craft, point, measured)}")
        unit = craft.signal(end).unit
        of = f', unit = "{unit}"' if unit else ""
        formulas.append(f'{end}_feedback = {{ formula = "{" + ".join(terms) or "0"}"{of} }}')
        adds.append(f'{end} = "{end}_feedback"')
    head = ["format = 1", f'name = "{name}"', f'description = "feedback about {point.title}"']
    return "\n".join([*head, "", "[parameters]", *parameters, "", "[formulas]", *formulas, "", "[add]", *adds, ""])


def _deviation(craft: Aircraft, point: TrimPoint, measured: str) -> str:
    """Return the deviation of a signal from a point as a formula, or its integral."""
    base = measured.removesuffix("_integral")
    integrated = base != measured and measured not in craft.signals
    signal = craft.signal(base if integrated else measured).name
    at = float(point[signal])
    # what rounding has left of zero is none
    text = f"({signal} - {at!r})".replace("- -", "+ ") if abs(at) > 1e-12 else f"({signal})"
    return f"integral{text}" if integrated else text
