"""A flight with its page: ``dravik.live`` serves a session, a scenario or recordings, until it is stopped."""

import math
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any

import numpy as np

from dravik.aircraft import Aircraft
from dravik.errors import DravikError, require
from dravik.flight import Session
from dravik.guidance.route_log import drawn
from dravik.live_page.describe import describe, land_around, signal_table
from dravik.live_page.door import Door
from dravik.live_page.messages import COMMANDS
from dravik.live_page.solid import plain, solid
from dravik.real_time import FlightThread, LiveFlight, Replay
from dravik.recording import Recording

if TYPE_CHECKING:
    from dravik.guidance import Path as CoursePath
    from dravik.live_page.server import Server

__all__ = ["LivePage", "live"]

#: What flies, what the page is told of it, and the land around a place (north, east, half a side; m).
Served = tuple[FlightThread, dict[str, Any], Callable[[float, float, float], Mapping[str, Any]]]
PROTOCOL = 1  # version of the messages and frames
NARROWEST = 100.0  # m: the least land that is drawn around a recorded flight


class LivePage:
    """A flight that is served: its ``address``, the ``flight`` itself, and the ``server``; a notebook shows the page.

    Use it in a ``with`` statement, or ``stop`` it at the end.
    """

    def __init__(self, flight: FlightThread, server: "Server") -> None:
        self.flight, self.server = flight, server

    @property
    def address(self) -> str:
        """The address to open in a browser, with its token."""
        return self.server.address

    def stop(self) -> None:
        """End the flight and the server."""
        self.server.stop()
        self.flight.stop()

    def __enter__(self) -> "LivePage":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.stop()

    def _repr_html_(self) -> str:
        return f'<iframe src="{self.address}" width="100%" height="640" style="border:0" allow="gamepad"></iframe>'


def live(
    what: Session | Recording | Sequence[Recording], *, title: str = "", route: "CoursePath | None" = None,
    shape: Aircraft | None = None, door: Door | None = None, folder: str | Path = ".", speed: float = 1.0,
    devices: Sequence[Any] = (),
) -> LivePage:  # fmt: skip
    """Serve a session in real time, or recordings played back, as a page in the browser and to scripts.

    The flight begins paused, with the pilot's controls locked as they were trimmed. It is flown in a thread of its own.

    Parameters
    ----------
    what : Session, Recording or sequence of Recording
        What is flown, or played back side by side.
    title : str, default ""
        Title of the page; the aircraft's name unless given.
    route : Path, optional
        A route that is drawn on the map.
    shape : Aircraft, optional
        The aircraft whose drawing is shown for recordings, which have none.
    door : Door, optional
        Where it is served, and who may come in: on this machine alone, at a port that is free, unless given.
    folder : str or Path, default "."
        Where recordings are written that the page begins.
    speed : float, default 1
        Times real time.
    devices : sequence, optional
        What is given the signals of the first recording, such as the senders of a link; a session has its own.

    Returns
    -------
    LivePage
        With the ``address`` to open.

    Raises
    ------
    DravikError
        For a session of something that is no aircraft, a port that is taken, and where the server's package is missing.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> session = dv.Session(craft, start=dv.trim(craft, airspeed=62, altitude=300))
    >>> with dv.live(session) as page:
    ...     page.address.startswith("http://127.0.0.1:")
    True
    """
    try:
        from dravik.live_page.server import Server
    except ImportError:
        raise DravikError(
            "the page needs the package aiohttp, which is not installed", hint="pip install 'dravik[live]'"
        ) from None
    if isinstance(what, Session):
        served = _flown(what, speed)
    else:
        recordings = [what] if isinstance(what, Recording) else list(what)
        for run in recordings:
            require(run, Recording, "what is served", "a session, or recordings of read_recording")
        served = _played(recordings, speed, devices, shape)
    flight, told, land = served
    told |= {
        "hello": PROTOCOL, "title": title or told["title"],
        "route": drawn(route) if route is not None else told.get("route"),
        "can": [n for n in COMMANDS if (n in OF_REPLAY if "playback" in told else n != "go_to")],
    }  # fmt: skip
    try:
        server = Server(flight, door or Door(), told, land=land, folder=folder)
    except DravikError:
        flight.stop()
        raise
    flight.start()
    return LivePage(flight, server)


#: Commands that make sense for recordings.
OF_REPLAY = ("resume", "pause", "step", "reset", "speed", "go_to", "pilot", "watch", "land", "lateness")


def _flown(session: Session, speed: float) -> Served:
    craft = session.aircraft
    if craft is None:
        raise DravikError("the page shows aircraft, and this session flies another plant", expected="an aircraft")
    names = session.names
    sticks = [n for n, s in craft.inputs.items() if s.trim and math.isfinite(s.high - s.low)]
    flight = LiveFlight(session, signals=names, pilot=sticks, speed=speed)
    x, u = session.state, np.array([session[n] for n in craft.inputs])
    signals = signal_table({n: session.unit(n) for n in names}, {n: s.meaning for n, s in craft.signals.items()})
    told = {**describe(craft, x, u), "title": craft.name, "dt": session.dt, "signals": signals, "pilot": sticks}
    return flight, told, lambda north, east, half: land_around(craft, x, u, (north, east), half)


def _played(recordings: Sequence[Recording], speed: float, devices: Sequence[Any], shape: Aircraft | None) -> Served:
    replay = Replay(recordings, speed=speed, devices=devices)
    first = recordings[0].metadata
    modes, names = first.get("mode_logic") or {}, recordings[0].names
    span = 20.0 if shape is None else shape.definition.reference.span
    told = {
        "title": str(first.get("scenario") or first.get("aircraft") or "flight"), "dt": replay.dt,
        "aircraft": str(first.get("aircraft") or ""), "loading": str(first.get("loading") or ""),
        "signals": signal_table(replay.units), "playback": replay.as_told(), "route": first.get("route"), "inputs": [],
        "parameters": [], "controls": _recorded_controls(recordings[0]), "tanks": [], "pilot": [],
        "engines": [n.removeprefix("thrust_") for n in names if n.startswith("thrust_") and _is_engine(n, names)],
        "modes": {n: list((m or {}).get("modes", {})) for n, m in modes.items() if n in names},
        "span": span, "cg": [0.0, 0.0, 0.0] if shape is None else list(shape.loading.cg),
        "shape": plain(span, 0.1 * span, (0.0, 0.0, 0.0)) if shape is None else solid(shape),
    }  # fmt: skip
    return replay, told, lambda north, east, half: _recorded_land(recordings[0])


def _is_engine(thrust: str, names: Sequence[str]) -> bool:
    """Whether a signal is the thrust of an engine: what it is commanded, or how fast it turns, was recorded too."""
    engine = thrust.removeprefix("thrust_")
    return f"power_{engine}" in names or f"rpm_{engine}" in names


def _recorded_controls(run: Recording) -> list[dict[str, Any]]:
    found = []
    for name, (low, high) in (run.metadata.get("limits") or {}).items():
        if f"{name}_command" in run.names and name in run.names:
            table = signal_table({name: run.units[name]})[name]
            found.append({"name": name, "command": f"{name}_command", "low": low, "high": high, "sticks": {}, **table})
    return found


def _recorded_land(run: Recording) -> dict[str, Any]:
    """Return the land that a recording holds, on an even square grid."""
    land = run.metadata.get("terrain")
    if not land:
        level = float(np.median(run["ground_height"])) if "ground_height" in run.names else 0.0
        return {"level": level, "is_water": "ground_height" not in run.names}
    north, east = (np.array(land[k], dtype=float) for k in ("north_m", "east_m"))
    height = np.array(land["height_m"], dtype=float)
    half = 0.5 * max(np.ptp(north), np.ptp(east), NARROWEST)
    count = 65
    along = np.linspace(-half, half, count)
    rows = np.array([np.interp(0.5 * (east[0] + east[-1]) + along, east, row) for row in height])
    columns = [np.interp(0.5 * (north[0] + north[-1]) + along, north, rows[:, k]) for k in range(count)]
    return {
        "north": 0.5 * (north[0] + north[-1]) - half, "east": 0.5 * (east[0] + east[-1]) - half,
        "cell": 2.0 * half / (count - 1), "count": count, "height": np.array(columns).T.round(1).ravel().tolist(),
    }  # fmt: skip
