"""A session that runs by the clock in a thread of its own; all that is done to it happens between two of its steps.

Whoever watches reads what was published last, and never the flight itself: a slow reader delays nothing.
"""

from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.errors import DravikError, FlightError
from dravik.flight.session import Session
from dravik.flight.snapshots import SavedFlight
from dravik.real_time.pacing import Pacer
from dravik.real_time.thread import FlightThread, Published
from dravik.recording.recording import Event
from dravik.surroundings.turbulence import Turbulence

__all__ = ["LiveFlight"]

Floats = NDArray[np.float64]
MOST_STATES = 16  # saved states, at most
LONGEST_NAME = 40  # letters of a saved state's name


class LiveFlight(FlightThread):
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
        super().__init__(pacer or Pacer(session.dt, speed))
        self._locked = True
        self._saved: dict[str, tuple[Session, SavedFlight, int, list[Event]]] = {}
        self._before: list[Event] = []  # what happened in another loading
        self._file = ""
        self.published = self._picture()

    @property
    def session(self) -> Session:
        """The session that flies now; its own thread alone may touch it."""
        return self._session

    # -- commands: only by ``do`` and ``ask`` --------------------------------------------------------------------------

    def set(self, values: Mapping[str, str | float]) -> None:
        """Set inputs and parameters; raises DravikError for names and values, and for controls that are locked."""
        locked = [n for n in values if self._locked and n in self.pilot]
        if locked:
            raise DravikError(f"{locked[0]} is locked", hint="hand the controls over first")
        self._session.set(**values)
        if not self._running and not self._session.ended:
            self._session.refresh()  # who looks at a flight that stands still sees what was set

    def hand_over(self) -> None:
        """Give the controls to the pilot, as they stand."""
        self._locked = False

    def lock(self) -> None:
        """Lock the pilot's controls where they stand."""
        self._locked = True

    def to_trim(self) -> None:
        """Put the pilot's controls back to where they were at the start, and lock them."""
        self._locked = False
        self.set(self._at_trim)
        self._locked = True

    def resume(self) -> None:
        """Fly on by the clock; raises FlightError where an event has ended the flight."""
        if self._session.ended:
            raise FlightError("the flight has ended", time=self._session.time, recording=None, where="live")
        if not self._running:
            self._pacer.begin()
            self._running, self.why = True, ""

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
        self._fly_on_with(session, lenient=True)
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

    def in_loading(self, loading: str | Aircraft) -> None:
        """Go on in another loading, by name or compiled already; raises DravikError as ``Session.in_loading`` does.

        A recording ends.
        """
        session = self._session.in_loading(loading)
        self.end_recording()
        name = loading if isinstance(loading, str) else loading.loading_name
        self._before = [*self.events(), Event(session.time, f"loading: {name} (set)")]
        self._fly_on_with(session, lenient=True)

    @property
    def loading(self) -> str:
        """Name of the loading that flies now; empty for a plant that is no aircraft."""
        craft = self._session.aircraft
        return "" if craft is None else craft.loading_name

    def _fly_on_with(self, session: Session, *, lenient: bool = False) -> None:
        """Fly this session from now on; ``lenient``, signals that it does not have are NaN."""
        known = set(session.names) if lenient else set(self.signals)
        names = [n for n in self.signals if n in known]
        look = session.reader(*names) if names else (lambda: np.empty(0))
        if len(names) < len(self.signals):
            places, values, some = [self.signals.index(n) for n in names], np.full(len(self.signals), np.nan), look

            def look() -> Floats:
                values[places] = some()
                return values

        self._session, self._look = session, look

    def events(self) -> list[Event]:
        """Return what has happened so far."""
        return [*self._before, *self._session.events]

    def _step(self) -> None:
        """Fly one step; what ends the flight stops it, and is told."""
        try:
            self._session.step()
            self._steps += 1
        except Exception as error:  # whatever ends the flight is told; the thread goes on and takes commands
            text = str(error) if isinstance(error, DravikError) else f"{type(error).__name__}: {error}"
            self.why, self._running = text, False
            return
        if self._session.ended:
            self._running = False
            self.why = self._session.events[-1].text if self._session.events else "an event"
            self.end_recording()

    def _picture(self) -> Published:
        session = self._session
        state = "ended" if self.why or session.ended else "running" if self._running else "paused"
        return Published(
            self._steps, session.time, self._look().copy(), self._applied, state, self._locked, self._pacer.speed,
            len(self._before) + session.event_count, self._file,
        )  # fmt: skip

    def stop(self) -> None:
        """Fly no further; a recording ends."""
        super().stop()
        self._session.close()
