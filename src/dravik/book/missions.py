"""Chapters of flights: a scenario of the aircraft, flown, with where it went and what happened."""

from functools import partial
from pathlib import Path

from dravik.book.asked import Subject
from dravik.errors import DravikError
from dravik.report import Block, Sheet, figure_histories, figure_overhead, figure_track, marked_events
from dravik.scenarios import Scenario, load_scenario
from dravik.validation import landing_in

__all__ = ["flown", "none"]

SHOWN = ("airspeed", "altitude", "climb_rate", "phi", "alpha", "nz", "throttle", "mass")
EVENTS = 30


def none(subject: Subject) -> Block:
    """Say that there is nothing to fly."""
    raise DravikError(f"the folder of {subject.craft.name} holds no scenarios", hint="--scenario FILE")


def flown(subject: Subject, file: Path) -> Block:
    """Return a flight, flown; where it cannot be, why."""
    try:
        scenario = load_scenario(file)
        if scenario.craft.name != subject.craft.name:
            raise DravikError(f"it is a flight of {scenario.craft.name}", expected=f"one of {subject.craft.name}")
        return _flown(scenario)
    except DravikError as error:
        return Block(f"Flight: {file.stem}", f"not flown: {error}", good=False)


def _flown(scenario: Scenario) -> Block:
    """Fly a scenario and say how it went."""
    run = scenario.fly()
    name = scenario.definition.name
    events = [(e.time, e.text) for e in marked_events(run)]
    seconds = float(run.time[-1] - run.time[0])
    verdict = f"{seconds:.4g} s flown" + (f", ended by {run.ended_by}" if run.ended_by else "")
    landing = landing_in(run)
    texts = [scenario.definition.description] if scenario.definition.description else []
    good = not run.is_broken_off
    if landing is not None:
        verdict += f"; {landing}"
        good = good and not landing.faults
        texts += [f"Not a clean landing: {'; '.join(landing.faults)}."] if landing.faults else []
    title = f"{name}: {scenario.craft.name}"
    shown = [n for n in SHOWN if n in run.names]
    return Block(
        f"Flight: {name}", verdict, good, texts, [Sheet(("time [s]", "what"), events[:EVENTS], "Events")],
        figures={
            f"{name}: from above": partial(figure_overhead, run, title=f"{title}, from above, and the profile"),
            f"{name}: in space": partial(figure_track, run, title=f"{title}, in space"),
            f"{name}: over time": partial(figure_histories, run, shown, title=title, limits=scenario.craft.limits),
        },
    )  # fmt: skip
