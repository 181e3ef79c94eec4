"""A thread that goes step by step by the clock; whatever is done to it happens between two of its steps.

Whoever watches reads what was published last, and never what flies itself: a slow reader delays nothing.
"""

import threading
from collections import deque
from collections.abc import Callable
from concurrent.futures import Future
from dataclasses import dataclass
from types import TracebackType
from typing import Any, Self, TypeVar

import numpy as np
from numpy.typing import NDArray

from dravik.errors import DravikError
from dravik.real_time.pacing import Lateness, Pacer
from dravik.recording.recording import Event

__all__ = ["FlightThread", "Published"]

T = TypeVar("T")
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


class FlightThread:
    """What flies by the clock: commands from any thread, paused, stepped, faster and slower.

    Whoever derives from it gives ``_step``, ``_picture``, ``resume``, ``reset`` and ``events``.
    """

    signals: tuple[str, ...] = ()
    published: Published

    def __init__(self, pacer: Pacer) -> None:
        self._pacer = pacer
        self._commands: deque[tuple[Callable[[], Any], Future[Any], bool]] = deque()
        self._wake = threading.Event()
        self._thread: threading.Thread | None = None
        self._stopping = self._running = False
        self._steps = self._applied = 0
        self.why = ""  # what ended the flight
        self.pause_at: int | None = None  # step at which it stands still

    def resume(self) -> None:
        """Go on by the clock."""
        raise NotImplementedError

    def reset(self) -> None:
        """Go back to the start."""
        raise NotImplementedError

    def events(self) -> list[Event]:
        """Return what has happened so far."""
        raise NotImplementedError

    def _step(self) -> None:
        raise NotImplementedError

    def _picture(self) -> Published:
        raise NotImplementedError

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
        return self._put(what, arguments, is_counted=True)

    def look(self, what: Callable[..., T], *arguments: Any) -> "Future[T]":
        """Have something read between two steps, as ``ask`` does, which does not count among the commands."""
        return self._put(what, arguments, is_counted=False)

    def _put(self, what: Callable[..., T], arguments: tuple[Any, ...], *, is_counted: bool) -> "Future[T]":
        future: Future[T] = Future()
        if len(self._commands) >= MOST_WAITING:
            future.set_exception(DravikError(f"{MOST_WAITING} commands are waiting already; this one was dropped"))
            return future
        self._commands.append((lambda: what(*arguments), future, is_counted))
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
        for _, future, _ in self._commands:
            future.cancel()
        self._commands.clear()

    @property
    def dt(self) -> float:
        """The step, s."""
        return self._pacer.dt

    @property
    def lateness(self) -> Lateness:
        """How late the steps were."""
        return self._pacer.lateness

    @property
    def is_running(self) -> bool:
        """Whether it flies by the clock now."""
        return self._running

    # -- commands: only by ``do`` and ``ask`` --------------------------------------------------------------------------

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

    def at_speed(self, speed: float) -> None:
        """Run so many times real time from now on; raises DravikError for a speed that cannot be."""
        self._pacer.at_speed(speed)

    # -- the thread ----------------------------------------------------------------------------------------------------

    def run(self, steps: int | None = None) -> None:
        """Fly in this thread until ``stop``, or for so many steps by the clock."""
        end = None if steps is None else self._steps + steps
        while not self._stopping and (end is None or self._steps < end):
            self._wake.clear()
            self._carry_out()
            if not self._running:
                self._wake.wait(0.05)
                if end is not None and self.why:
                    break
                continue
            due = self._pacer.due()
            if not due:
                self._pacer.wait(wake=self._wake.wait)  # a command need not wait for the next step
                continue
            for _ in range(min(due, AT_ONCE, end - self._steps if end is not None else AT_ONCE)):
                if not self._running:
                    break
                self._step()
                self._pacer.flown()
                self._running = self._running and self._steps != self.pause_at
            self.published = self._picture()

    def _carry_out(self) -> None:
        """Carry out the commands that wait; what they raise is theirs, and stops nothing."""
        while self._commands:
            command, future, is_counted = self._commands.popleft()
            if not future.set_running_or_notify_cancel():
                continue
            result, error = None, None
            try:
                result = command()
            except Exception as found:
                error = found
            self._applied += is_counted
            self.published = self._picture()  # before the answer: who asked sees what it did
            if error is not None:
                future.set_exception(error)
            else:
                future.set_result(result)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.stop()
