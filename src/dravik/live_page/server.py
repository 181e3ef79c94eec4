"""The server of a live flight: the page's files, and a web socket for it and for scripts, on a loop of its own thread.

It reads what the flight has published and asks it for commands; it never waits in the flight's thread, and what a
client does not take is dropped: a page that hangs delays nothing.
"""

import asyncio
import contextlib
import hmac
import math
import socket
import threading
import time
from collections.abc import Callable, Mapping
from concurrent.futures import Future
from importlib.resources import files
from pathlib import Path
from typing import Any

import numpy as np
from aiohttp import WSMsgType, web

from dravik.errors import DravikError
from dravik.live_page import client as client_limits
from dravik.live_page.client import Client
from dravik.live_page.door import Door, is_loopback
from dravik.live_page.frames import frame_of
from dravik.live_page.messages import COMMANDS, LARGEST, Message, read_message
from dravik.real_time import FlightThread
from dravik.surroundings.gusts import GustStream
from dravik.surroundings.turbulence import Turbulence

__all__ = ["Server"]

MOST_CLIENTS = 8
LAND_REST = 0.4  # s between two pieces of land that are worked out
MOST_WAITING = 1 << 15  # octets that a client has not taken: further frames to it are dropped
TOLD_EVENTS = 300  # the newest events that are told
TYPES = {".html": "text/html", ".js": "text/javascript", ".css": "text/css", ".svg": "image/svg+xml"}
POLICY = "default-src 'self'; connect-src 'self' ws: wss:; img-src 'self' data:; style-src 'self' 'unsafe-inline'"


class Server:
    """Serves a flight at a door until ``stop``.

    ``hello`` is what a client is told first; ``land`` gives the land around a place; ``folder`` takes recordings.
    Raises DravikError where the port is taken.
    """

    def __init__(
        self, flight: FlightThread, door: Door, hello: Mapping[str, Any], *,
        land: Callable[[float, float, float], Mapping[str, Any]], folder: str | Path = ".",
    ) -> None:  # fmt: skip
        self.flight, self.door, self.folder = flight, door, Path(folder)
        self._hello, self._land = dict(hello), land
        self._clients: list[Client] = []
        self._pilot: Client | None = None
        self.dropped = 0  # messages that were bad, of all clients
        self._land_at = 0.0  # when land may be asked for again
        self.port = door.port
        self._loop = asyncio.new_event_loop()
        self._ready = threading.Event()
        self._failed: DravikError | None = None
        self._thread = threading.Thread(target=self._serve, name="dravik page", daemon=True)
        self._thread.start()
        self._ready.wait(10.0)
        if self._failed is not None:
            raise self._failed

    @property
    def address(self) -> str:
        """The address to open, with its token."""
        host = f"[{self.door.host}]" if ":" in self.door.host.strip("[]") else self.door.host
        if host in ("0.0.0.0", "[::]"):
            host = "127.0.0.1"
        return f"http://{host}:{self.port}/" + (f"?token={self.door.token}" if self.door.token else "")

    @property
    def clients(self) -> int:
        """How many are there now."""
        return len(self._clients)

    def stop(self) -> None:
        """Close every connection, and end the thread."""
        if self._thread.is_alive():
            self._loop.call_soon_threadsafe(self._loop.stop)
            self._thread.join(5.0)

    # -- the thread ---------------------------------------------------------------------------------------------------

    def _serve(self) -> None:
        asyncio.set_event_loop(self._loop)
        application = web.Application(client_max_size=LARGEST)
        application.router.add_get("/socket", self._socket)
        application.router.add_get("/{name:[a-z_]*\\.?[a-z]*}", self._file)
        runner = web.AppRunner(application, access_log=None, shutdown_timeout=0.5)
        try:
            self._loop.run_until_complete(runner.setup())
            site = web.TCPSite(runner, self.door.host, self.door.port)
            self._loop.run_until_complete(site.start())
            self.port = int(runner.addresses[0][1])
        except OSError as error:
            self._failed = DravikError(
                f"the page cannot be served at {self.door.host}:{self.door.port} ({error.strerror or error})",
                expected="an address of this machine and a port that is free", hint="--port 0 takes one that is free",
            )  # fmt: skip
        self._ready.set()
        try:
            if self._failed is None:
                self._loop.run_forever()
        finally:
            with contextlib.suppress(Exception):
                self._loop.run_until_complete(self._close(runner))
            self._loop.close()

    async def _close(self, runner: web.AppRunner) -> None:
        for client in list(self._clients):
            with contextlib.suppress(Exception):
                await asyncio.wait_for(client.socket.close(code=1001, message=b"the flight has ended"), 0.3)
        await runner.cleanup()

    def _refused(self, request: web.Request) -> str:
        """Return why a request may not come in; empty where it may."""
        host = request.headers.get("Host", "")
        if not self.door.token and not is_loopback(host.rpartition(":")[0] or host):
            return "this address is not of this machine"  # another name that leads here is no friend's
        origin = request.headers.get("Origin")
        if origin is not None and origin.partition("://")[2] != host:
            return f"a page of {origin[:100]} may not come in"
        return ""

    async def _file(self, request: web.Request) -> web.Response:
        """Send a file of the page; nothing in them is secret."""
        name = request.match_info["name"] or "index.html"
        place = files("dravik.live_page") / "page" / name
        suffix = "." + name.rpartition(".")[2]
        if why := self._refused(request):
            raise web.HTTPForbidden(text=why)
        if suffix not in TYPES or not place.is_file():
            raise web.HTTPNotFound(text="there is no such file")
        headers = {"Content-Security-Policy": POLICY, "X-Content-Type-Options": "nosniff", "Cache-Control": "no-cache"}
        return web.Response(
            body=place.read_bytes(), content_type=TYPES[suffix], charset="utf-8", headers=headers
        )  # fmt: skip

    async def _socket(self, request: web.Request) -> web.StreamResponse:
        if why := self._refused(request):
            raise web.HTTPForbidden(text=why)
        if self.door.token and not hmac.compare_digest(
            request.query.get("token", "").encode(), self.door.token.encode()
        ):
            raise web.HTTPForbidden(text="the token is missing or wrong: use the address that dravik live has printed")
        if len(self._clients) >= MOST_CLIENTS:
            raise web.HTTPServiceUnavailable(text=f"{MOST_CLIENTS} clients are here already")
        answer = web.WebSocketResponse(max_msg_size=LARGEST, heartbeat=20.0, compress=False)
        await answer.prepare(request)
        transport = request.transport
        assert transport is not None
        with contextlib.suppress(AttributeError, OSError):
            # what lies in the machine's own buffers comes late: a slow page shall lose frames instead
            transport.get_extra_info("socket").setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, MOST_WAITING)
        client = Client(answer, transport, np.zeros(0, dtype=np.intp))
        self._clients.append(client)
        feed = asyncio.ensure_future(self._feed(client))
        try:
            await answer.send_json({**self._hello, "role": "viewer", "pilot_is_there": self._pilot is not None})
            await self._listen(client)
        except (ConnectionError, RuntimeError):  # gone while it was told something
            pass
        finally:
            feed.cancel()
            self._clients.remove(client)
            if self._pilot is client:
                self._pilot = None
                await self._tell_all({"pilot_is_there": False})
        return answer

    async def _listen(self, client: Client) -> None:
        async for incoming in client.socket:
            if not client.may_send():
                client.dropped, self.dropped = client.dropped + 1, self.dropped + 1
                await self._warn(client)
                continue
            try:
                if incoming.type is not WSMsgType.TEXT:
                    raise DravikError("a message of octets", expected="text: JSON")
                message = read_message(incoming.data)
                answer = await self._answer(client, message)
            except (ConnectionError, RuntimeError):  # the client has gone
                raise
            except Exception as error:  # whatever is wrong with a message is told to who sent it, and stops nothing
                client.dropped, self.dropped = client.dropped + 1, self.dropped + 1
                text = str(error) if isinstance(error, DravikError) else f"{type(error).__name__}: {error}"
                await client.socket.send_json({"answer": getattr(error, "number", None), "error": text})
                continue
            if message.id is not None:
                await client.socket.send_json({"answer": message.id, **answer})

    async def _warn(self, client: Client) -> None:
        """Tell who sends too much, once a second, and read the rest more slowly."""
        if client.heard - client.warned > 1.0:
            client.warned = client.heard
            await client.socket.send_json(
                {
                    "answer": None,
                    "error": f"more than {client_limits.MOST_A_SECOND} messages a second: the others are dropped",
                }
            )
        await asyncio.sleep(0.002)

    async def _answer(self, client: Client, message: Message) -> dict[str, Any]:
        """Do what a message asks; raises DravikError for what cannot be, with the number to answer to."""
        command = COMMANDS[message.do]
        try:
            if not command.is_for_all and client is not self._pilot:
                raise DravikError(
                    f"a viewer cannot {message.do}", expected="the pilot", hint='{"do": "pilot", "take": true}'
                )
            if command.call is None:
                own: Any = getattr(self, f"_do_{message.do}")
                found: dict[str, Any] = await own(client, message.fields)
                return found
            try:
                what, *arguments = command.call(self.flight, message.fields)
            except AttributeError:
                raise DravikError(f"this flight cannot {message.do}", expected="what hello lists under can") from None
            result = await self._ask(what, *arguments)
            client.wake.set()
            return {} if result is None else {"result": result}
        except DravikError as error:
            error.number = message.id  # type: ignore[attr-defined]
            raise

    async def _ask(self, what: Callable[..., Any], *arguments: Any) -> Any:
        """Have the flight do something between two steps, without waiting for it here."""
        return await self._answered(self.flight.ask(what, *arguments))

    async def _answered(self, future: "Future[Any]") -> Any:
        try:
            return await asyncio.wait_for(asyncio.wrap_future(future), 5.0)
        except TimeoutError:
            raise DravikError("the flight did not answer within 5 s") from None

    # -- what the server answers by itself ----------------------------------------------------------------------------

    async def _do_pilot(self, client: Client, fields: Mapping[str, Any]) -> dict[str, Any]:
        if fields["take"]:
            if self._pilot not in (None, client):
                raise DravikError("there is a pilot already", hint="wait until the controls are given up")
            self._pilot = client
        elif self._pilot is client:
            self._pilot = None
        await self._tell_all({"pilot_is_there": self._pilot is not None})
        return {"role": "pilot" if self._pilot is client else "viewer"}

    async def _do_watch(self, client: Client, fields: Mapping[str, Any]) -> dict[str, Any]:
        known = {n: k for k, n in enumerate(self.flight.signals)}
        for name in fields["signals"]:
            if name not in known:
                raise DravikError(f"there is no signal {name!r}", expected="names that hello lists under signals")
        client.places = np.array([known[n] for n in fields["signals"]], dtype=np.intp)
        client.number, client.rate = client.number + 1, fields.get("rate", client.rate)
        return {"watched": client.number}

    async def _do_land(self, client: Client, fields: Mapping[str, Any]) -> dict[str, Any]:
        # it takes a tenth of a second: one at a time with a rest, so that nobody's asking costs the flight its cores
        if self._land_at > self._loop.time():
            raise DravikError("other land is being worked out", hint="ask again in a second")
        self._land_at = math.inf
        try:
            place = fields["north"], fields["east"], fields["half"]
            return {"land": await self._loop.run_in_executor(None, self._land, *place)}
        finally:
            self._land_at = self._loop.time() + LAND_REST

    async def _do_loading(self, client: Client, fields: Mapping[str, Any]) -> dict[str, Any]:
        flight: Any = self.flight
        if not hasattr(flight, "in_loading"):
            raise DravikError("this flight cannot change its loading", expected="a live flight")
        # it is compiled here: the flight goes on meanwhile
        craft = flight.session.aircraft
        made = await self._loop.run_in_executor(None, lambda: craft.with_loading(fields["name"]).compiled())
        await self._ask(flight.in_loading, made)
        return {}

    async def _do_turbulence(self, client: Client, fields: Mapping[str, Any]) -> dict[str, Any]:
        flight: Any = self.flight
        if not hasattr(flight, "in_turbulence"):
            raise DravikError("this flight has no turbulence of its own", expected="a live flight")
        severity = fields["severity"]
        found = None if severity == "none" else Turbulence(severity=severity, seed=fields.get("seed", 0))
        if found is not None:  # what makes gusts is loaded here, once: that takes up to a second
            gusts = GustStream(found, float(self._hello["span"]))
            await self._loop.run_in_executor(None, lambda: gusts(60.0, 300.0, np.array([0.0, 1.0])))
        await self._ask(flight.in_turbulence, found)
        return {}

    async def _do_lateness(self, client: Client, fields: Mapping[str, Any]) -> dict[str, Any]:
        found = self.flight.lateness
        return {
            "steps": found.steps, "late": found.late, "missed": found.missed, "mean": found.mean, "worst": found.worst,
            "clients": len(self._clients), "dropped": self.dropped, "lost": client.lost,
        }  # fmt: skip

    async def _do_record(self, client: Client, fields: Mapping[str, Any]) -> dict[str, Any]:
        flight: Any = self.flight
        if not hasattr(flight, "begin_recording"):
            raise DravikError("this flight cannot record", expected="a live flight")
        if not fields["on"]:
            return {"file": Path(await self._ask(flight.end_recording)).name}
        # names are the server's own: a page chooses no place on this machine
        stem, kind = time.strftime("flight-%Y%m%d-%H%M%S"), fields.get("kind", "csv")
        place, k = self.folder / f"{stem}.{kind}", 1
        while place.exists():
            k += 1
            place = self.folder / f"{stem}-{k}.{kind}"
        await self._ask(flight.begin_recording, place)
        return {"file": place.name}

    # -- what clients are told ----------------------------------------------------------------------------------------

    async def _tell_all(self, what: Mapping[str, Any]) -> None:
        for client in list(self._clients):
            with contextlib.suppress(ConnectionError, RuntimeError):
                if self._is_taking(client):
                    await client.socket.send_json(what)

    def _is_taking(self, client: Client) -> bool:
        """Whether a client takes what it is sent; frames that it would leave lying are dropped."""
        waiting = getattr(client.transport, "get_write_buffer_size", lambda: 0)()
        if waiting > MOST_WAITING:
            client.lost += 1
            return False
        return True

    async def _feed(self, client: Client) -> None:
        """Send frames at a client's rate, each only when something has changed or half a second is over."""
        before: tuple[Any, ...] = ()
        due, sent = self._loop.time(), 0.0
        with contextlib.suppress(ConnectionError, RuntimeError):
            while not client.socket.closed:
                # who asks for much is sent more frames than its rate: the next one is due no later for that
                due = min(max(due + 1.0 / client.rate, self._loop.time() - 0.25), self._loop.time() + 1.0 / client.rate)
                with contextlib.suppress(TimeoutError):
                    await asyncio.wait_for(client.wake.wait(), max(0.001, due - self._loop.time()))
                client.wake.clear()
                shown, now = self.flight.published, self._loop.time()
                state = (shown.step, shown.applied, shown.state, shown.is_locked, shown.recording, client.number)
                if (state == before and now - sent < 0.5) or not self._is_taking(client):
                    continue
                before, sent = state, now
                await client.socket.send_bytes(frame_of(shown, client.number, client.places, time.perf_counter()))
                if shown.events != client.events and now - client.told > 0.2:
                    client.told = now
                    with contextlib.suppress(DravikError):  # the flight is busy: they are told later
                        await self._tell_events(client)
                        client.events = shown.events

    async def _tell_events(self, client: Client) -> None:
        flight: Any = self.flight
        events = (await self._answered(self.flight.look(flight.events)))[-TOLD_EVENTS:]
        told = {
            "events": [[round(e.time, 6), e.text] for e in events], "why": self.flight.why,
            "recording": Path(self.flight.published.recording).name,
            "kept": list(getattr(flight, "kept", [])), "speed": self.flight.published.speed,
            "loading": getattr(flight, "loading", ""),
        }  # fmt: skip
        await client.socket.send_json(told)
