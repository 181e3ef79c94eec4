"""A session that runs by the clock in a thread of its own; all that is done to it happens between two of its steps.

Whoever watches reads what was published last, and never the flight itself: a slow reader delays nothing.
"""

import threading
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Future
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError, FlightError
from dravik.flight.session import Session
from dravik.flight.snapshots import SavedFlight
from dravik.real_time.pacing import Lateness, Pacer
from dravik.recording.recording import Event
from dravik.surroundings.turbulence import Turbulence

__all__ = ["LiveFlight", "Published"]

T = TypeVar("T")
MOST_STATES = 16  # saved states, at most
LONGEST_NAME = 40  # letters of a saved state's name
MOST_WAITING = 1000  # commands that wait to be done, at most
AT_ONCE = 20  # steps that are caught up before commands are looked at again


@dataclass(frozen=True)
class Published:
    """What a live flight shows of itself after a step: signals in the order of their names, SI.

    ``applied`` counts the commands that were carried out: a short press vanishes in signals, not in it. ``state`` is
    ``running``, ``paused`` or ``ended``.
    """

    step: int
    time: float
    values: NDArray[np.float64]
    applied: int
    state: str
    is_locked: bool
    speed: float
    events: int = 0  # how many there are
    recording: str = ""  # the file that is written


class LiveFlight:
    """A session flown in real time, or faster or slower; paused, stepped, reset, saved and restored from any thread.

    It begins paused, with the pilot's controls locked: they stay as they were trimmed until ``hand_over``.

    Parameters
    ----------
    session : Session
        What flies. From now on it belongs to the live flight alone.
    signals : sequence of str
        What is published.
    pilot : sequence of str
        Inputs that are the pilot's, and are locked at the start.
    speed : float
        Times real time.
    pacer : Pacer
        Another clock, for tests.

    Raises
    ------
    DravikError
        For signals and inputs that are not there.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> session = dv.Session(craft, start=dv.trim(craft, airspeed=62, altitude=300))
    >>> with LiveFlight(session, signals=["theta"], pilot=["pitch_stick"]) as live:
    ...     live.do(live.step_on, 5)
    ...     live.published.step
    5
    """

    def __init__(
        self, session: Session, *, signals: Sequence[str], pilot: Sequence[str] = (), speed: float = 1.0,
        pacer: Pacer | None = None,
    ) -> None:  # fmt: skip
        self.signals, self.pilot = tuple(signals), tuple(pilot)
        self._first = session
        self._fly_on_with(session)
        self._at_trim = {name: session[name] for name in self.pilot}
        self._pacer = pacer or Pacer(session.dt, speed)
        self._commands: deque[tuple[Callable[[], Any], Future[Any]]] = deque()
        self._wake = threading.Event()
        self._thread: threading.Thread | None = None
        self._stopping = False
        self._running, self._locked = False, True
        self._steps = self._applied = 0
        self._saved: dict[str, tuple[Session, SavedFlight, int, list[Event]]] = {}
        self._before: list[Event] = []  # what happened in another loading
        self._file = ""
        self.why = ""  # what ended the flight
        self.published = self._picture()

    # -- from any thread ----------------------------------------------------------------------------------------------

    def do(self, what: Callable[..., T], *arguments: Any, timeout: float = 5.0) -> T:
        """Have a command of this flight carried out between two steps, and return what it gives.

        Raises what the command raises, and DravikError where the flight does not answer within the time (s).
        """
        future = self.ask(what, *arguments)
        if self._thread is None:
            self._carry_out()
        try:
            return future.result(timeout)
        except TimeoutError:
            future.cancel()
            raise DravikError(f"the flight did not answer within {timeout:g} s") from None

    def ask(self, what: Callable[..., T], *arguments: Any) -> "Future[T]":
        """Have a command carried out between two steps; its result, or what it raises, is in the future."""
        future: Future[T] = Future()
        if len(self._commands) >= MOST_WAITING:
            future.set_exception(DravikError(f"{MOST_WAITING} commands are waiting already; this one was dropped"))
            return future
        self._commands.append((lambda: what(*arguments), future))
        self._wake.set()
        return future

    def start(self, steps: int | None = None) -> None:
        """Fly in a thread of its own from now on, until ``stop`` or for so many steps."""
        if self._thread is None:
            self._stopping = False
            self._thread = threading.Thread(target=self.run, args=(steps,), name="dravik live", daemon=True)
            self._thread.start()

    @property
    def is_flying(self) -> bool:
        """Whether its thread goes on; paused too."""
        return self._thread is not None and self._thread.is_alive()

    def stop(self) -> None:
        """Fly no further, and wait for the thread to end."""
        self._stopping = True
        self._wake.set()
        if self._thread is not None and self._thread is not threading.current_thread():
            self._thread.join()
        self._thread = None
        for _, future in self._commands:
            future.cancel()
        self._commands.clear()

    @property
    def session(self) -> Session:
        """The session that flies now; its own thread alone may touch it."""
        return self._session

    @property
    def lateness(self) -> Lateness:
        """How late the steps were."""
        return self._pacer.lateness

    @property
    def is_running(self) -> bool:
        """Whether it flies by the clock now."""
        return self._running

    # -- commands: only by ``do`` and ``ask`` --------------------------------------------------------------------------

    def set(self, values: Mapping[str, str | float]) -> None:
        """Set inputs and parameters; raises DravikError for names and values, and for controls that are locked."""
        locked = [n for n in values if self._locked and n in self.pilot]
        if locked:
            raise DravikError(f"{locked[0]} is locked", hint="hand the controls over first")
        self._session.set(**values)

    def hand_over(self) -> None:
        """Give the controls to the pilot, as they stand."""
        self._locked = False

    def lock(self) -> None:
        """Lock the pilot's controls where they stand."""
        self._locked = True

    def to_trim(self) -> None:
        """Put the pilot's controls back to where they were at the start, and lock them."""
        self._session.set(**self._at_trim)
        self._locked = True

    def resume(self) -> None:
        """Fly on by the clock; raises FlightError where an event has ended the flight."""
        if self._session.ended:
            raise FlightError("the flight has ended", time=self._session.time, recording=None, where="live")
        if not self._running:
            self._pacer.begin()
            self._running, self.why = True, ""

    def pause(self) -> None:
        """Stand still."""
        self._running = False

    def step_on(self, steps: int = 1) -> None:
        """Fly some steps at once, paused afterwards; raises DravikError for a number below one or above 100 000."""
        if isinstance(steps, bool) or not isinstance(steps, int) or not 1 <= steps <= 100_000:
            raise DravikError(f"{steps!r} steps cannot be flown", expected="1 to 100 000")
        self._running = False
        for _ in range(steps):
            if self.why:
                break
            self._step()

    def reset(self) -> None:
        """Go back to the start, to the last bit: controls locked as they were trimmed, running if it ran.

        A recording ends before; another loading gives way to that of the start.
        """
        self.end_recording()
        self._first.reset()
        self._fly_on_with(self._first)
        self._steps, self.why, self._locked, self._before = 0, "", True, []
        self._pacer.begin()

    def keep(self, name: str) -> None:
        """Save the state under a name; raises DravikError where there are too many."""
        if not name or len(name) > LONGEST_NAME:
            raise DravikError(f"a state cannot be called {name[:50]!r}", expected=f"1 to {LONGEST_NAME} letters")
        if name not in self._saved and len(self._saved) >= MOST_STATES:
            raise DravikError(f"{MOST_STATES} states are saved already", hint="save over one of them")
        self._saved[name] = (self._session, self._session.save(), self._steps, list(self._before))

    @property
    def kept(self) -> list[str]:
        """Names of the states that were saved."""
        return list(self._saved)

    def go_back(self, name: str) -> None:
        """Be again what was saved under a name; raises DravikError for one that is not there. A recording ends."""
        if name not in self._saved:
            raise DravikError(f"there is no saved state {name!r}", expected=", ".join(self._saved) or "save one first")
        self.end_recording()
        session, saved, self._steps, before = self._saved[name]
        session.restore(saved)
        self._fly_on_with(session)
        self.why, self._before = "", list(before)
        self._pacer.begin()

    def begin_recording(self, path: str | Path) -> None:
        """Record every signal in each step from now on; raises DravikError where it is recorded already."""
        self._session.begin_recording(path)
        self._file = str(path)

    def end_recording(self) -> str:
        """End the recording, and return its file; an empty name where nothing was recorded."""
        file, self._file = self._file, ""
        if self._session.is_recording:
            self._session.end_recording()
        return file

    def fill_tank(self, tank: str, mass: str | float) -> None:
        """Put a mass (kg) into a tank at once; raises DravikError as ``Session.fill_tank`` does."""
        self._session.fill_tank(tank, mass)

    def in_turbulence(self, turbulence: Turbulence | None) -> None:
        """Fly in other turbulence from now on, or in none."""
        self._session.set_turbulence(turbulence)

    def in_loading(self, loading: str) -> None:
        """Go on in another loading; raises DravikError for one that is not there. A recording ends."""
        session = self._session.in_loading(loading)
        self.end_recording()
        self._before = [*self.events(), Event(session.time, f"loading: {loading} (set)")]
        self._fly_on_with(session)

    def _fly_on_with(self, session: Session) -> None:
        self._session = session
        self._look = session.reader(*self.signals) if self.signals else (lambda: np.empty(0))

    def at_speed(self, speed: float) -> None:
        """Run so many times real time from now on; raises DravikError for a speed that cannot be."""
        self._pacer.at_speed(speed)

    def events(self) -> list[Event]:
        """Return what has happened so far."""
        return [*self._before, *self._session.events]

    # -- the thread ----------------------------------------------------------------------------------------------------

    def run(self, steps: int | None = None) -> None:
        """Fly in this thread until ``stop``, or for so many steps by the clock."""
        end = None if steps is None else self._steps + steps
        while not self._stopping and (end is None or self._steps < end):
            self._carry_out()
            if not self._running:
                self._wake.wait(0.05)
                self._wake.clear()
                if end is not None and self.why:
                    break
                continue
            due = self._pacer.due()
            if not due:
                self._pacer.wait()
                continue
            for _ in range(min(due, AT_ONCE, end - self._steps if end is not None else AT_ONCE)):
                if not self._running:
                    break
                self._step()
                self._pacer.flown()
            self.published = self._picture()

    def _step(self) -> None:
        """Fly one step; what ends the flight stops it, and is told."""
        try:
            self._session.step()
            self._steps += 1
        except DravikError as error:
            self.why, self._running = str(error), False
            return
        if self._session.ended:
            self._running = False
            self.why = self._session.events[-1].text if self._session.events else "an event"
            self.end_recording()

    def _carry_out(self) -> None:
        """Carry out the commands that wait; what they raise is theirs, and stops nothing."""
        while self._commands:
            command, future = self._commands.popleft()
            if not future.set_running_or_notify_cancel():
                continue
            result, error = None, None
            try:
                result = command()
            except Exception as found:
                error = found
            self._applied += 1
            self.published = self._picture()  # before the answer: who asked sees what it did
            if error is not None:
                future.set_exception(error)
            else:
                future.set_result(result)

    def _picture(self) -> Published:
        session = self._session
        state = "ended" if self.why or session.ended else "running" if self._running else "paused"
        return Published(
            self._steps, session.time, self._look().copy(), self._applied, state, self._locked, self._pacer.speed,
            len(self._before) + session.event_count, self._file,
        )  # fmt: skip

    def __enter__(self) -> "LiveFlight":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.stop()
        self._session.close()
