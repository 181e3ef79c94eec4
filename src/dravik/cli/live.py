"""Flights by the clock from the command line: with a page in the browser or without, and how late the steps were."""

import time
from contextlib import ExitStack, suppress
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated, Any, NamedTuple

import typer

from dravik.cli.flying import is_scenario_name, load_flown
from dravik.cli.shared.common import AsJson, emit, err, say, show_rows, written
from dravik.cli.shared.conditions import CraftAndCondition
from dravik.cli.shared.groups import OptionGroup, grouped
from dravik.definition.settings import read_settings
from dravik.errors import DravikError
from dravik.host.files import exists
from dravik.units import from_si, quantity

if TYPE_CHECKING:
    from dravik.flight import Session
    from dravik.real_time import FlightThread, Published
    from dravik.recording import Recording

__all__ = ["live"]

SHOWN = ("airspeed", "altitude", "climb_rate", "theta", "phi", "psi", "nz")
PORT, HOST = 8321, "127.0.0.1"
LOOKS = 0.2  # s between two looks at the flight


class Served(NamedTuple):
    """What flies: a session or recordings, its title, and a route to draw."""

    what: "Session | list[Recording]"
    title: str
    route: Any = None


@dataclass(frozen=True)
class PageOptions(OptionGroup):
    """Whether and where the page is served, and what it shows and writes."""

    page: Annotated[bool, typer.Option("--page", help="serve the page for a browser; needs dravik[live]")] = False
    port: Annotated[int, typer.Option(help="port of the page; 0 takes one that is free")] = PORT
    host: Annotated[
        str, typer.Option(help="address of the page; beyond this machine a token is needed, and made unless given")
    ] = HOST
    token: Annotated[str, typer.Option(help="letters and digits that the page's address must carry")] = ""
    folder: Annotated[str, typer.Option(metavar="FOLDER", help="where recordings are written that the page begins")] = (
        "."
    )
    shape: Annotated[str, typer.Option(metavar="AIRCRAFT", help="aircraft whose drawing is shown for recordings")] = ""

    def refuse_alone(self) -> None:
        """Raise DravikError for an option of the page without the page."""
        given = {
            "--port": self.port != PORT, "--host": self.host != HOST, "--token": self.token,
            "--folder": self.folder != ".",
        }  # fmt: skip
        for option, value in given.items():
            if value and not self.page:
                raise DravikError(f"{option} is of the page", hint="--page")


@grouped
def live(
    aircraft: Annotated[
        list[str],
        typer.Argument(
            metavar="SCENARIO|AIRCRAFT|RECORDING...",
            help="scenario file, or the name of one such as fire_run; or an aircraft; or recordings to play back",
        ),
    ],
    chosen: CraftAndCondition,
    served_at: PageOptions,
    speed: Annotated[float, typer.Option(help="times real time: 0.01 to 1000")] = 1.0,
    duration: Annotated[str, typer.Option(help="how long, such as '30 s'; until it is stopped unless given")] = "",
    link: Annotated[
        str, typer.Option(metavar="FILE", help="link file: datagrams to pictures, and inputs from elsewhere")
    ] = "",
    pose: Annotated[
        bool, typer.Option("--pose", help="send a pose that stands still by the link, to check a picture's signs")
    ] = False,
    save: Annotated[str, written("recording to write while flying: .csv or .parquet", "--out")] = "",
    as_json: AsJson = False,
) -> None:
    """Fly in real time, or faster or slower, with a page in the browser or without, and say how late the steps were.

    With --page it begins paused, with the controls locked, unless --duration is given. Recordings are played back, one
    or several side by side. Stop it by Ctrl-C. Exit code 1: the trim was not reached, or an event ended the flight.
    """
    from dravik.link import Link, read_link

    if link and not exists(link):
        raise DravikError("there is no such file", where=link, expected="a link file")
    seconds = quantity(duration, "time", where="--duration") if duration else None
    if seconds is not None and not seconds > 0.0:
        raise DravikError(f"--duration {duration!r} cannot be flown", expected="a time above zero")
    served_at.refuse_alone()
    with ExitStack() as open_:
        linked = open_.enter_context(Link(read_link(link))) if link else None
        devices = linked.devices if linked is not None else []
        served = _served(aircraft, chosen, devices, served_at.shape, save)
        if linked is not None and not isinstance(served.what, list) and served.what.aircraft is not None:
            linked.learn({n: (i.low, i.high) for n, i in served.what.aircraft.inputs.items()})
        if pose:
            _stand(served, linked, seconds, as_json=as_json)
            return
        if served_at.page:
            from dravik.live_page import Door
            from dravik.live_page import live as serve

            made = serve(
                served.what, title=served.title, route=served.route, folder=served_at.folder, speed=speed,
                shape=chosen.craft(served_at.shape) if served_at.shape else None, devices=_senders(served, linked),
                door=Door.at(served_at.host, served_at.port, served_at.token),
            )  # fmt: skip
            flight = open_.enter_context(made).flight
            told = f"the page: {made.address}"
            err.print(told, markup=False, soft_wrap=True) if as_json else say(told)
        else:
            flight = open_.enter_context(_without_page(served, speed, linked))
        if save:
            record: Any = flight
            flight.do(record.begin_recording, save)
        steps = None if seconds is None else round(seconds / flight.dt)
        _fly(flight, served, steps, begins=not served_at.page or seconds is not None, quiet=as_json)
        flight.stop()
        _tell(flight, served.title, linked, save, as_json=as_json)
        ended = bool(flight.why)
    if ended:
        raise typer.Exit(1)


def _stand(served: Served, linked: Any, seconds: float | None, *, as_json: bool) -> None:
    """Send the pose by the clock, and say what a right picture shows."""
    from dravik.link import still_pose, what_is_seen

    if linked is None or not linked.senders or isinstance(served.what, list) or served.what.aircraft is None:
        raise DravikError("--pose needs an aircraft and a link that sends", expected="--link FILE with [[send]]")
    session, limits = served.what, served.what.aircraft.limits
    signals = still_pose({n: session[n] for n in session.names}, limits)
    rows = what_is_seen(limits, dict.fromkeys(n for s in linked.senders for n in s.reads))
    if not as_json:
        show_rows(f"{served.title}: a pose that stands still", ["what", "a right picture shows"], rows)
    begun = time.monotonic()
    with suppress(KeyboardInterrupt):
        while seconds is None or time.monotonic() - begun < seconds:
            for sender in linked.senders:
                sender.update(time.monotonic() - begun, signals)
            time.sleep(0.005)
    if as_json:
        emit({"pose": dict(rows), "sent": sum(s.sent for s in linked.senders)})


def _served(names: list[str], chosen: CraftAndCondition, devices: list[Any], shape: str, save: str) -> Served:
    """Return what flies: a scenario, an aircraft at the condition that is asked for, or recordings."""
    from dravik.flight import Session

    refused = {**dict.fromkeys(chosen.condition.given(), True), "--loading": chosen.loading, "--law": chosen.law}
    if all(n.endswith((".csv", ".parquet")) for n in names):
        for option, given in {**refused, "--set": chosen.set_, "--out": save}.items():
            if given:
                raise DravikError(f"{option} cannot be given beside recordings", expected="what was flown")
        from dravik.recording import read_recording

        runs = [read_recording(n) for n in names]
        return Served(runs, ", ".join(names))
    if shape:
        raise DravikError("--shape is of recordings", expected="recordings to play back")
    if len(names) > 1:
        raise DravikError(f"{len(names)} flights at once", expected="one aircraft or scenario, or several recordings")
    if is_scenario_name(names[0]):
        scenario = load_flown(names[0], refused, read_settings(chosen.set_), chosen.sensing)
        title = f"{scenario.definition.name} ({scenario.craft.name})"
        return Served(scenario.session(devices=devices), title, scenario.course)
    craft = chosen.craft(names[0])
    point = chosen.point(craft)
    return Served(Session(point.craft, start=point, devices=devices), f"{craft.name} ({craft.loading_name})")


def _senders(served: Served, linked: Any) -> list[Any]:
    """Return what of a link a recording is sent by: nothing comes in to what was flown."""
    return list(linked.senders) if linked is not None and isinstance(served.what, list) else []


def _without_page(served: Served, speed: float, linked: Any) -> "FlightThread":
    from dravik.real_time import LiveFlight, Replay

    if isinstance(served.what, list):
        return Replay(served.what, speed=speed, devices=_senders(served, linked))
    return LiveFlight(served.what, signals=[n for n in SHOWN if n in served.what.names], speed=speed)


def _fly(flight: "FlightThread", served: Served, steps: int | None, *, begins: bool, quiet: bool) -> None:
    """Fly until the end, an interrupt or an event; a line of figures stands while it flies."""
    flight.pause_at = steps
    if begins:
        flight.do(flight.resume)
    flight.start(steps)
    shows = not quiet and err.is_terminal
    places = {n: flight.signals.index(n) for n in SHOWN if n in flight.signals}
    is_playback = isinstance(served.what, list)
    with suppress(KeyboardInterrupt):
        while flight.is_flying and not (begins and flight.published.state == "ended"):
            shown = flight.published
            if steps is not None and shown.step >= steps:
                break
            if begins and is_playback and shown.state == "paused":
                break
            if shows:
                err.print(_line(shown, places, served), end="\r")
            time.sleep(LOOKS)
    if shows:
        err.print()


def _line(shown: "Published", places: dict[str, int], served: Served) -> str:
    parts = [f"{shown.time:9.2f} s"]
    for name, place in places.items():
        unit = served.what[0].units[name] if isinstance(served.what, list) else served.what.unit(name)
        unit, factor, _ = from_si(unit)
        parts.append(f"{name} {float(shown.values[place]) * factor:.4g} {unit}".rstrip())
    return "  ".join(parts)


def _tell(flight: "FlightThread", title: str, linked: Any, save: str, *, as_json: bool) -> None:
    found, shown = flight.lateness, flight.published
    links = []
    if linked is not None:
        links = [(s.name, s.sent, s.failed, s.last_error) for s in linked.senders]
        links += [(r.name, r.taken, r.refused, r.last_error) for r in linked.receivers]
    if as_json:
        emit(
            {
                "flight": title, "flown_s": shown.time, "speed": shown.speed,
                "steps": found.steps, "missed_steps": found.missed,
                "late_steps": found.late, "on_time": found.on_time, "mean_lateness_s": found.mean,
                "worst_lateness_s": found.worst, "ended_by": flight.why or None, "recording": save or None,
                "links": [dict(zip(("name", "good", "bad", "last_error"), row, strict=True)) for row in links],
                "events": [{"time_s": e.time, "text": e.text} for e in flight.events()],
            }
        )  # fmt: skip
        return
    rows = [
        ("speed", shown.speed, "times real time"),
        ("steps flown", found.steps, ""),
        ("missed", found.missed, ""),
        ("late by a step or more", found.late, ""),
        ("on time", 100.0 * found.on_time, "%"),
        ("mean lateness", 1e3 * found.mean, "ms"),
        ("worst lateness", 1e3 * found.worst, "ms"),
    ]
    show_rows(f"{title}: {shown.time:g} s flown by the clock", ["what", "value", "unit"], rows)
    if links:
        show_rows("links", ["link", "datagrams", "dropped", "why the last one was"], links)
    if flight.why:
        say(f"ended: {flight.why}", "yellow")
    if save:
        say(f"written: {save}")
