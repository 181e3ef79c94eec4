"""Flights by the clock from the command line: a line of figures while they fly, and how late the steps were."""

import time
from contextlib import nullcontext, suppress
from typing import TYPE_CHECKING, Annotated, Any

import typer

from dravik.cli.flying import is_scenario_name, load_flown
from dravik.cli.shared.common import AsJson, emit, err, say, show_rows, written
from dravik.cli.shared.conditions import CraftAndCondition
from dravik.cli.shared.groups import grouped
from dravik.definition.settings import read_settings
from dravik.errors import DravikError
from dravik.host.files import exists
from dravik.units import from_si, quantity

if TYPE_CHECKING:
    from dravik.flight import Session
    from dravik.real_time import LiveFlight, Published

__all__ = ["live"]

SHOWN = ("airspeed", "altitude", "climb_rate", "theta", "phi", "psi", "nz")
LOOKS = 0.2  # s between two looks at the flight


@grouped
def live(
    aircraft: Annotated[
        str,
        typer.Argument(
            metavar="SCENARIO|AIRCRAFT", help="scenario file, or the name of one such as fire_run; or an aircraft"
        ),
    ],
    chosen: CraftAndCondition,
    speed: Annotated[float, typer.Option(help="times real time: 0.01 to 1000")] = 1.0,
    duration: Annotated[str, typer.Option(help="how long, such as '30 s'; until it is stopped unless given")] = "",
    link: Annotated[
        str, typer.Option(metavar="FILE", help="link file: datagrams to pictures, and inputs from elsewhere")
    ] = "",
    save: Annotated[str, written("recording to write while flying: .csv or .parquet", "--out")] = "",
    as_json: AsJson = False,
) -> None:
    """Fly in real time, or faster or slower, and say how late the steps were; datagrams go out and come in by a link.

    Stop it by Ctrl-C. Exit code 1: the trim was not reached, or an event ended the flight.
    """
    from dravik.link import Link, read_link
    from dravik.real_time import LiveFlight

    if link and not exists(link):
        raise DravikError("there is no such file", where=link, expected="a link file")
    seconds = quantity(duration, "time", where="--duration") if duration else None
    if seconds is not None and not seconds > 0.0:
        raise DravikError(f"--duration {duration!r} cannot be flown", expected="a time above zero")
    with Link(read_link(link)) if link else nullcontext() as linked:
        devices = linked.devices if linked is not None else []
        session, title = _session(aircraft, chosen, save, devices)
        names = [n for n in SHOWN if n in session.names]
        with LiveFlight(session, signals=names, speed=speed) as flight:
            _fly(
                flight,
                {n: session.unit(n) for n in names},
                None if seconds is None else round(seconds / session.dt),
                quiet=as_json,
            )
            _tell(flight, title, linked, save, as_json=as_json)
            ended = bool(flight.why)
    if ended:
        raise typer.Exit(1)


def _session(aircraft: str, chosen: CraftAndCondition, save: str, devices: list[Any]) -> "tuple[Session, str]":
    """Return what flies, and its title: a scenario, or an aircraft at the condition that is asked for."""
    from dravik.flight import Session

    if is_scenario_name(aircraft):
        refused = {**dict.fromkeys(chosen.condition.given(), True), "--loading": chosen.loading, "--law": chosen.law}
        scenario = load_flown(aircraft, refused, read_settings(chosen.set_))
        return scenario.session(
            save=save or None, devices=devices
        ), f"{scenario.definition.name} ({scenario.craft.name})"
    craft = chosen.craft(aircraft)
    options: Any = {"save": save} if save else {}
    point = chosen.point(craft)
    return Session(point.craft, start=point, devices=devices, **options), f"{craft.name} ({craft.loading_name})"


def _fly(flight: "LiveFlight", units: dict[str, str], steps: int | None, *, quiet: bool) -> None:
    """Fly until the end, an interrupt or an event; a line of figures stands while it flies."""
    flight.do(flight.resume)
    flight.start(steps)
    shows = not quiet and err.is_terminal
    with suppress(KeyboardInterrupt):
        while flight.is_flying and flight.published.state != "ended":
            if shows:
                err.print(_line(flight.published, units), end="\r")
            time.sleep(LOOKS)
    if shows:
        err.print()
    flight.stop()


def _line(picture: "Published", units: dict[str, str]) -> str:
    parts = [f"{picture.time:9.2f} s"]
    for name, value in zip(units, picture.values.tolist(), strict=True):
        unit, factor, _ = from_si(units[name])
        parts.append(f"{name} {value * factor:.4g} {unit}".rstrip())
    return "  ".join(parts)


def _tell(flight: "LiveFlight", title: str, linked: Any, save: str, *, as_json: bool) -> None:
    found, picture = flight.lateness, flight.published
    links = []
    if linked is not None:
        links = [(s.name, s.sent, s.failed, s.last_error) for s in linked.senders]
        links += [(r.name, r.taken, r.refused, r.last_error) for r in linked.receivers]
    if as_json:
        emit(
            {
                "flight": title, "flown_s": picture.time, "speed": picture.speed,
                "steps": found.steps, "missed_steps": found.missed,
                "late_steps": found.late, "on_time": found.on_time, "mean_lateness_s": found.mean,
                "worst_lateness_s": found.worst, "ended_by": flight.why or None, "recording": save or None,
                "links": [dict(zip(("name", "good", "bad", "last_error"), row, strict=True)) for row in links],
                "events": [{"time_s": e.time, "text": e.text} for e in flight.events()],
            }
        )  # fmt: skip
        return
    rows = [
        ("speed", picture.speed, "times real time"),
        ("steps flown", found.steps, ""),
        ("missed", found.missed, ""),
        ("late by a step or more", found.late, ""),
        ("on time", 100.0 * found.on_time, "%"),
        ("mean lateness", 1e3 * found.mean, "ms"),
        ("worst lateness", 1e3 * found.worst, "ms"),
    ]
    show_rows(f"{title}: {picture.time:g} s flown by the clock", ["what", "value", "unit"], rows)
    if links:
        show_rows("links", ["link", "datagrams", "dropped", "why the last one was"], links)
    if flight.why:
        say(f"ended: {flight.why}", "yellow")
    if save:
        say(f"written: {save}")
