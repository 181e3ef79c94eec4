"""Flights from the command line: a scenario, or an aircraft with histories from text; progress, a summary, a figure."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import numpy as np
import typer

from dravik.cli.shared.common import (
    AsJson,
    Figure,
    emit,
    err,
    get_craft,
    input_settings,
    progress_bar,
    quantities,
    say,
    show_rows,
    written,
)
from dravik.cli.shared.conditions import ConditionOptions, CraftAndCondition, get_point
from dravik.cli.shared.groups import OptionGroup, grouped
from dravik.definition.condition_keys import SPEED_KEYS
from dravik.definition.settings import read_settings, refuse_inputs, sort_settings
from dravik.errors import DravikError, FlightError, nearest
from dravik.host.files import exists
from dravik.sensors import SEED
from dravik.units import from_si

if TYPE_CHECKING:
    from dravik.aircraft import Aircraft
    from dravik.flight import History, Start
    from dravik.flight.parameter_file import WatchedParameters
    from dravik.guidance import Path as CoursePath
    from dravik.recording import Event, Recording
    from dravik.scenarios import Scenario
    from dravik.trimming import TrimPoint

__all__ = ["craft_or_scenario", "draw", "fly", "is_scenario_name", "load_flown", "show_run", "told"]

USUAL = ("airspeed", "altitude", "alpha", "theta", "q", "phi", "elevator", "nz")


@dataclass(frozen=True)
class StartOptions(OptionGroup):
    """Where a flight begins, unless at a trimmed point."""

    rail: Annotated[str, typer.Option(metavar="ELEVATION", help="start on the launch rail, such as '85 deg'")] = ""
    begin: Annotated[str, typer.Option("--start", metavar="NAME", help="a start that the aircraft's file names")] = ""
    resume: Annotated[
        str, typer.Option(metavar="RECORDING", help="fly on from where a recording of the same flight ends")
    ] = ""

    def start(self, craft: "Aircraft", chosen: CraftAndCondition) -> "TrimPoint | Start":
        """Return the start; raises DravikError for options that it would leave out."""
        own = input_settings(craft, chosen.set_)
        condition = dict.fromkeys(replace(chosen.condition, air={}).given(), True)  # in its air it flies either way
        if self.resume:
            others = {**condition, "--rail": self.rail, "--start": self.begin, **{f"--set {n}": n for n in own}}
            _refuse_beside("--resume", others)
            return _resumed(craft, self.resume)
        if self.begin:
            from dravik.flight import start

            _refuse_beside("--start", {**condition, "--rail": self.rail})
            return start(craft, self.begin, **({"inputs": own} if own else {}))
        return _start(craft, chosen.condition, self.rail, chosen.set_)


@dataclass(frozen=True)
class FlightOptions(OptionGroup):
    """How an aircraft is flown that no scenario says it of."""

    duration: Annotated[str, typer.Option(help="how long, such as '30 s'")] = "30 s"
    control: Annotated[
        list[str] | None,
        typer.Option(
            metavar="NAME=HISTORY",
            help="input or effector: 'elevator=doublet(2 deg, at=1 s, width=2 s)'; also step, pulse, 3211, ramp, gust, "
            "sine, sweep",
        ),
    ] = None
    turbulence: Annotated[str, typer.Option(help="light, moderate or severe (MIL-F-8785C, Dryden)")] = ""
    seed: Annotated[int | None, typer.Option(help="seed of turbulence and sensors", min=0)] = None
    dt: Annotated[str, typer.Option(help="step of the integrator")] = "0.01 s"
    every: Annotated[str, typer.Option(metavar="TIME", help="time between recorded rows, such as '50 ms'")] = ""
    record: Annotated[str, typer.Option(help="signals to record, separated by commas (all unless given)")] = ""

    def run(self, craft: "Aircraft", start: "TrimPoint | Start", **more: Any) -> "Recording":
        """Fly it."""
        from dravik.flight import fly
        from dravik.surroundings.turbulence import Turbulence

        sensing = SEED in craft.parameters
        if self.seed is not None and not self.turbulence and not sensing:
            raise DravikError(
                "--seed needs --turbulence or --sensors", expected="--turbulence light, moderate or severe"
            )
        if self.seed is not None and sensing:
            craft = craft.with_parameters({SEED: self.seed})
        gusts = Turbulence(self.turbulence, seed=self.seed or 0) if self.turbulence else None
        names = [n.strip() for n in self.record.split(",") if n.strip()] or None
        return fly(
            craft, start=start, duration=self.duration, controls=_histories(self.control or []), dt=self.dt,
            record=names, turbulence=gusts, record_every=self.every or 1, **more,
        )  # fmt: skip


@dataclass(frozen=True)
class OutputOptions(OptionGroup):
    """What is kept and shown of a flight."""

    save: Annotated[
        str,
        written("recording to write while flying: .csv or .parquet", "--out"),
    ] = ""
    figure: Figure = ""
    signals: Annotated[str, typer.Option(help="signals in the figure, separated by commas")] = ""


@grouped
def fly(
    aircraft: Annotated[
        str,
        typer.Argument(
            metavar="SCENARIO|AIRCRAFT", help="scenario file, or the name of one such as fire_run; or an aircraft"
        ),
    ],
    chosen: CraftAndCondition,
    begun: StartOptions,
    flown: FlightOptions,
    kept: OutputOptions,
    watch: Annotated[
        str, typer.Option(metavar="FILE", help="TOML file of parameters that is read again whenever it is saved")
    ] = "",
    as_json: AsJson = False,
) -> None:
    """Fly a scenario; or an aircraft from a trimmed point or its rail, with control histories and laws. Record it.

    Exit code 1: the trim was not reached, or the flight ended before its time.
    """
    save = kept.save or None
    if is_scenario_name(aircraft):
        refused = {
            **dict.fromkeys(chosen.condition.given(), True), "--rail": begun.rail, "--loading": chosen.loading,
            "--law": chosen.law, "--control": flown.control, "--turbulence": flown.turbulence, "--record": flown.record,
            "--start": begun.begin, "--every": flown.every, "--duration": flown.duration != FlightOptions.duration,
            "--dt": flown.dt != FlightOptions.dt,
        }  # fmt: skip
        scenario = load_flown(aircraft, refused, read_settings(chosen.set_), chosen.sensing)
        craft, title = scenario.craft, f"{scenario.definition.name} ({scenario.craft.name})"
        if not as_json:
            _say_reach(scenario)

        def act(progress: Callable[[float], None]) -> "Recording":
            start = _resumed(craft, begun.resume) if begun.resume else scenario.start()
            devices = _watching(craft, watch)
            run = scenario.fly(save=save, seed=flown.seed, start=start, progress=progress, devices=devices)
            if scenario.course is not None and not as_json:
                _show_route(run, scenario.course)
            return run

    else:
        craft = chosen.craft(aircraft)
        title = f"{craft.name} ({craft.loading_name})"

        def act(progress: Callable[[float], None]) -> "Recording":
            start = begun.start(craft, chosen)
            return flown.run(craft, start, save=save, progress=progress, devices=_watching(craft, watch))

    try:
        with progress_bar(quiet=as_json) as progress:
            run = act(progress)
    except FlightError:
        if save:
            err.print(f"what was flown before it is in {save}")
        raise
    _finish(run, craft, title, kept, as_json=as_json)


def _finish(run: "Recording", craft: "Aircraft", title: str, kept: OutputOptions, *, as_json: bool) -> None:
    """Draw and print a flight; leaves with 1 where it was broken off."""
    if kept.figure:
        draw(run, kept.signals, kept.figure, title, craft.limits)
    if as_json:
        last = {n: float(run[n][-1]) for n in run.names}
        from dravik.validation import landing_in

        landing = landing_in(run)
        told = {"landing": landing.as_data()} if landing is not None else {}
        emit({"aircraft": craft.name, **run.summary(), **told, "recording": kept.save or None, "last": last})
    else:
        show_run(run, title, kept.save, kept.figure)
    if run.is_broken_off:
        raise typer.Exit(1)


def _refuse_beside(option: str, others: Mapping[str, object]) -> None:
    """Raise DravikError for options beside one that leaves nothing for them to say."""
    for other, given in others.items():
        if given:
            raise DravikError(f"{other} and {option} exclude each other", expected="one of them")


def _start(craft: "Aircraft", condition: ConditionOptions, rail: str, inputs: list[str] | None) -> "TrimPoint | Start":
    """Return where a flight starts: a trimmed point, or the launch rail at an elevation."""
    from dravik.flight import on_rail

    asked = {**({} if "pressure_altitude" in condition.asked else {"altitude": "0 m"}), **condition.asked}
    if rail:
        refused = [n for n in asked if n not in ("altitude", "heading")]
        if refused:
            raise DravikError(f"--rail and --{refused[0].replace('_', '-')} exclude each other", expected="one of them")
        own = quantities(craft, inputs)
        return on_rail(
            craft, elevation=rail, heading=asked.get("heading", 0.0), altitude=asked.get("altitude", 0.0), inputs=own
        )
    if not set(asked) & set(SPEED_KEYS):
        hint = "--rail '85 deg'" if craft.definition.rail is not None else "--airspeed '62 m/s' --altitude '300 m'"
        raise DravikError("there is no airspeed to trim at", hint=hint)
    return get_point(craft, replace(condition, asked=asked), inputs)


def is_scenario_name(name: str) -> bool:
    """Whether a user names a scenario; raises DravikError where there is neither such a scenario nor an aircraft."""
    from dravik.aircraft import sample_names
    from dravik.scenarios import is_scenario, scenario_names

    path, shipped = Path(name), list(scenario_names())
    known = [*shipped, *sample_names()]
    if not exists(path) and name not in known:
        what = f"there is no scenario or aircraft {name!r}"
        raise DravikError(what, expected="a file, or one of " + ", ".join(known), hint=nearest(name, known))
    return is_scenario(path) or (not exists(path) and name in shipped)


def load_flown(
    name: str, refused: Mapping[str, object], values: Mapping[str, str | float],
    sensing: tuple[str, str, str] = ("", "", ""),
) -> "Scenario":  # fmt: skip
    """Return a scenario with its sensors chosen and parameters set; options that only an aircraft takes are refused."""
    from dravik.scenarios import load_scenario

    for option, given in refused.items():
        if given:
            raise DravikError(
                f"{option} cannot be given beside a scenario", where=name, hint="write it into the scenario"
            )
    scenario = load_scenario(name)
    if any(sensing):
        sensors, reads, estimator = sensing
        scenario = scenario.with_sensors(sensors, reads=reads, estimator=estimator)
    known = scenario.craft.parameters
    refuse_inputs(sort_settings(values, known), known, "a scenario", name)
    return scenario.with_parameters(values) if values else scenario


def _say_reach(scenario: "Scenario") -> None:
    """Print the places that a shot can reach."""
    band = scenario.band
    if band is not None:
        say(f"reach at {band.altitude:.0f} m within {band.miss:g} m: {band}, unguided {band.middle:.0f} m")


def craft_or_scenario(name: str, loading: str, law: list[str] | None) -> "Aircraft":
    """Return the aircraft that a user names, or that of a scenario with its laws, its world and its script."""
    from dravik.scenarios import is_scenario, load_scenario, scenario_names

    path, shipped = Path(name), name in scenario_names()
    if (exists(path) and is_scenario(path)) or (shipped and not exists(path)):
        if loading or law:
            raise DravikError(
                "--loading and --law cannot be given beside a scenario", where=name, hint="write it into the scenario"
            )
        return load_scenario(name).craft
    return get_craft(name, loading, law)


def _watching(craft: "Aircraft", file: str) -> "list[WatchedParameters]":
    """Return the device that watches a file of parameters, if one is named."""
    from dravik.flight.parameter_file import WatchedParameters

    return [WatchedParameters(file, craft.configuration.parameters)] if file else []


def _show_route(run: "Recording", course: "CoursePath") -> None:
    """Print how near each point of a route was met."""
    from dravik.guidance.route_log import route_log

    log = route_log(run, course)
    rows = [
        (p, c, "yes" if met else "no", t, h, *([m] if m == m else []))
        for p, c, t, met, h, m in log.itertuples(index=False)
    ]
    heads = [
        "point",
        "closest [m]",
        "met",
        "time [s]",
        "height error [m]",
        *(["mass [kg]"] if log.mass_kg.notna().any() else []),
    ]
    show_rows(f"route {course.name}", heads, rows)


def _resumed(craft: "Aircraft", path: str) -> "Start":
    from dravik.flight import resume as fly_on
    from dravik.recording import read_recording

    return fly_on(craft, read_recording(path))


def _histories(controls: Sequence[str]) -> "dict[str, History]":
    """Return ``--control`` options as histories by input."""
    from dravik.flight import parse_history

    histories: dict[str, History] = {}
    for text in controls:
        name, equals, history = text.partition("=")
        if not equals:
            raise DravikError(
                f"--control {text!r} cannot be read", expected="NAME=HISTORY, such as 'elevator=step(1 deg, at=1 s)'"
            )
        histories[name.strip()] = parse_history(history)
    return histories


def draw(run: "Recording", signals: str, path: str, title: str, limits: Mapping[str, tuple[float, float]]) -> list[str]:
    """Draw the named signals, or the usual ones; return their names."""
    from dravik.report import figure_histories, save_figure

    names = [n.strip() for n in signals.split(",") if n.strip()]
    names = names or [n for n in USUAL if n in run.names] or [n for n in run.names if n != "time"][:6]
    save_figure(figure_histories(run, names, title=title, limits=limits), path)
    return names


def show_landing(run: "Recording") -> None:
    """Print the landing of a flight that has one, and what is wrong with it."""
    from dravik.validation import landing_in

    landing = landing_in(run)
    if landing is None:
        return
    say(f"landing: {landing}")
    for fault in landing.faults:
        say(f"not a clean landing: {fault}", "yellow")


def show_run(run: "Recording", title: str, save: str, figure: str) -> None:
    """Print what happened: ends and extremes of the usual signals, events, tables left."""
    rows = []
    for name in [n for n in USUAL if n in run.names] or run.names[1:9]:
        unit, k, _ = from_si(run.units[name])
        values = np.round(run.flowing(name) * k, 9) + 0.0  # + 0.0 turns -0.0 into 0.0
        rows.append((name, float(values[0]), float(values.min()), float(values.max()), float(values[-1]), unit))
    time = run.time[-1] if len(run.time) else 0.0
    show_rows(f"{title}: {time:g} s flown", ["signal", "start", "lowest", "highest", "end", "unit"], rows)
    wall = run.metadata.get("wall_time_s")
    if wall:
        say(f"{time / wall:.0f} times real time")
    if run.ended_by:
        asked = run.metadata.get("asked_s")
        colour = "red" if run.is_broken_off else "yellow"
        whole = f" of {asked:g} s" if asked else ""
        say(f"ended after {run.flown:.6g} s{whole}: {run.ended_by}", colour)
    shown = told(run.events)
    near = run.closest()
    if near:
        met = f", within {near['within_m']:g} m: {'met' if near['met'] else 'missed'}" if "met" in near else ""
        say(f"closest to the point aimed at: {near['miss_m']:.3g} m at {near['time_s']:.5g} s{met}")
    show_landing(run)
    for event in shown:
        say(f"{event.time:8.3f} s  {run.height_at(event):>8}  {event.text}", "yellow")
    if len(shown) < len(run.events):
        say(f"... and {len(run.events) - len(shown)} more events", "yellow")
    left: dict[str, list[tuple[str, int, float, float]]] = {}
    for table, axis, steps, low, high in run.outside:
        left.setdefault(axis, []).append((table, steps, low, high))
    for axis, visits in left.items():
        tables = list(dict.fromkeys(v[0] for v in visits))
        names = ", ".join(tables[:3]) + (f" and {len(tables) - 3} more" if len(tables) > 3 else "")
        steps, low, high = max(v[1] for v in visits), min(v[2] for v in visits), max(v[3] for v in visits)
        say(f"{axis} was outside table {names} in {steps} steps: {low:.4g} to {high:.4g} (SI)", "yellow")
    for path in filter(None, (save, figure)):
        say(f"written: {path}")


def told(events: "Sequence[Event]", most: int = 24) -> "list[Event]":
    """Return the events to print: all, or of a great many the first of each kind, phases and faults first of all."""
    if len(events) <= most:
        return list(events)
    firsts = {e.text: e for e in reversed(events)}
    weighty = [e for e in firsts.values() if e.text.startswith(("phase:", "fault:", "gust:", "crash"))]
    others = [e for e in firsts.values() if e not in weighty]
    kept = [*weighty[:most], *others[: max(0, most - len(weighty))]]
    return sorted(kept, key=lambda e: e.time)
