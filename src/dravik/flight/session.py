"""A flight in steps, for a loop of one's own: step, read, set, save, restore, start again."""

import math
from collections.abc import Callable, Sequence
from pathlib import Path
from types import TracebackType
from typing import Any, Unpack

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.definition import arguments
from dravik.definition.settings import kind_of_setting
from dravik.errors import DravikError, FlightError
from dravik.flight.aircraft_body import AircraftBody
from dravik.flight.changes import begin_recording, end_recording, fill_tank, set_turbulence, start_in
from dravik.flight.core import MOST_STEPS, Flight
from dravik.flight.options import Options, steps_between
from dravik.flight.snapshots import SavedFlight, Startable
from dravik.kernel.program import EVENT_COUNT
from dravik.linear import OperatingInstant
from dravik.plants import Plant
from dravik.recording.recording import Event, Recording
from dravik.surroundings.turbulence import Turbulence
from dravik.units import in_si, kind_of_unit, quantity

__all__ = ["Session"]

Floats = NDArray[np.float64]
NUMBERS = (int, float, np.integer, np.floating)


class Session:
    """A flight that goes on when it is told to, with all that a flight can have: histories, devices, gusts, a script.

    Inputs are held from one step to the next. Nothing is shared between sessions: any number may fly side by side.
    Nothing is recorded unless ``record`` says what; ``recording()`` returns it. With ``save`` use it in a ``with``
    statement, or ``close`` it at the end.

    Parameters
    ----------
    what : Aircraft or Plant
        What flies.
    start : TrimPoint, PlantTrim or Start
        Where it begins.
    dt : str or float
        Step of the integrator, s. 0.01 unless given.
    controls : mapping of str to History
        Histories by input or effector; an effector's name stands for what is added to its command.
    devices : sequence of Device
        What is called at its own rate, in this order.
    turbulence : Turbulence
        Gusts that are added to the wind.
    record : sequence of str
        Signals that are recorded.
    record_every : str or int
        A row each so many steps, or so much time such as ``"50 ms"``. 1 unless given.
    save : str or Path
        File (.csv or .parquet) that is written while it is flown.
    note : mapping
        What goes into the recording's metadata besides.

    Raises
    ------
    DravikError
        For wrong names, units and times.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
    >>> session = dv.Session(craft, start=point)
    >>> session.step(1.0, pitch_stick=0.1)
    >>> session["theta"] > point["theta"]
    True
    """

    @arguments.spelled_out
    def __init__(self, what: Aircraft | Plant, *, start: Startable, **options: Unpack[Options]) -> None:
        """Begin at a trimmed point or a start, with options as ``fly`` takes them.

        Raises DravikError for what does not fit.
        """
        self._options = dict(options)
        if not options.get("save"):
            options.setdefault("record", ())  # a file holds all that is not named otherwise; memory, nothing
        self._flight = Flight(what, start, options)
        self._body, self.dt = self._flight.body, self._flight.dt
        self._specs = list(self._body.inputs.values())
        self._at_start: SavedFlight | None = None
        self._closed = False
        self._asked, self._advanced = 0.0, 0  # of ``advance``: seconds in all, steps flown for them
        try:
            self._at_start = self._flight.save()
        except DravikError as error:
            self._why_no_reset = str(error)

    def __enter__(self) -> "Session":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def reset(self) -> None:
        """Go back to the start; raises DravikError where a device could not be saved there."""
        if self._at_start is None:
            raise DravikError(f"the session cannot go back to its start: {self._why_no_reset}")
        self._flight.restore(self._at_start)
        self._asked, self._advanced = 0.0, 0

    @property
    def time(self) -> float:
        """The time reached, s; where an event has ended the flight, the instant of that event."""
        return self._flight.time

    @property
    def ended(self) -> bool:
        """Whether an event has ended the flight; ``step`` then raises FlightError."""
        return self._flight.ended

    @property
    def events(self) -> list[Event]:
        """What has happened so far, in order of time."""
        return self._flight.events

    @property
    def names(self) -> list[str]:
        """Names of the signals that can be read, those that devices set among them."""
        return [*self._body.signals, *self._flight.tasks.board]

    def unit(self, name: str) -> str:
        """Return the SI unit of a signal; raises DravikError for one that is not there."""
        if name in self._flight.tasks.board:
            return self._flight.tasks.units[name]
        return str(self._body.signal(name).unit)

    @property
    def event_count(self) -> int:
        """How many events there are; counted at less cost than ``events``."""
        flight = self._flight
        return len(flight.notes) + len(flight.schedule.held) + int(flight.work.counters[EVENT_COUNT])

    @property
    def aircraft(self) -> Aircraft | None:
        """The aircraft that flies, and None for another plant."""
        return self._body.craft if isinstance(self._body, AircraftBody) else None

    def __getitem__(self, name: str) -> float:
        """Return a signal at this instant, SI; raises DravikError, naming the nearest, for one that is not there."""
        return self._flight.read(name)

    def reader(self, *names: str) -> Callable[[], Floats]:
        """Return what reads some signals at once, SI, in the order of their names: for loops that run at a high rate.

        It returns the same array each time, with the values of that instant. Raises DravikError for unknown names.

        >>> import dravik as dv
        >>> craft = dv.sample("tarn")
        >>> session = dv.Session(craft, start=dv.trim(craft, airspeed=62, altitude=300))
        >>> look = session.reader("airspeed", "altitude")
        >>> look().round(6).tolist()
        [62.0, 300.0]
        """
        board = self._flight.tasks.board
        own = [(k, n) for k, n in enumerate(arguments.names(names, "signals")) if n in board]
        for name in names:
            if name not in board:
                self._body.signal(name)
        places = np.array([0 if n in board else self._body.registers[n] for n in names], dtype=np.intp)
        registers, found = self._flight.work.registers, np.empty(len(names))

        def look() -> Floats:
            registers.take(places, out=found)
            return found

        def look_at_both() -> Floats:
            registers.take(places, out=found)
            for k, name in own:
                found[k] = board[name]
            return found

        return look_at_both if own else look

    @property
    def state(self) -> Floats:
        """The integrated state, in the order of its state names; a copy."""
        return self._flight.x.copy()

    def set(self, **inputs: str | float) -> None:
        """Set inputs and parameters by name, SI or with their unit, until they are set again.

        An effector's name stands for what is added to its command. Values beyond an input's range are held at it, which
        is an event; so is a fault that is set (``fault_NAME=1``), a mode or a law.
        Raises DravikError for names that are not there, and for values that are not finite.
        """
        numbers = {}
        for name, value in inputs.items():
            if kind_of_setting(name, self._body.parameters) == "parameter":
                self._flight.set_parameter(name, value)
                continue
            spec = self._specs[self._body.input_index(name)]
            if isinstance(value, str):
                value = spec.words[value] if value in spec.words else in_si(value, kind_of_unit(spec.unit), where=name)
            try:
                number = float(value) if isinstance(value, NUMBERS) else math.nan
            except OverflowError:  # a whole number beyond all others
                number = math.inf
            if not math.isfinite(number):
                raise DravikError(f"{name} cannot be set to {arguments.shown(value)}", expected="a finite number")
            numbers[spec.name] = min(max(number, spec.low), spec.high)
            if numbers[spec.name] != number:
                self._flight.note_held(spec.name)
        self._flight.change(numbers)

    def refresh(self) -> None:
        """Make signals those of the inputs as they are now, which otherwise the next step does; nothing moves."""
        flight = self._flight
        now = flight.schedule.steps(flight.step, 1, flight.x)[0, 0]
        self._body.evaluate(flight.time, flight.x, now)

    def step(self, duration: str | float | None = None, **inputs: str | float) -> None:
        """Set inputs and fly on for ``duration`` seconds (one integrator step unless said).

        Raises DravikError for a duration that is no whole number of steps, and FlightError where a value stops being
        finite, a table is left where that is an error, or an event has ended the flight before.
        """
        if inputs:
            self.set(**inputs)
        count = 1
        if duration is not None:
            seconds = _seconds(duration, "duration")
            if not 0.0 < seconds / self.dt < MOST_STEPS:
                raise DravikError(
                    f"{seconds:g} s cannot be flown in steps of {self.dt:g} s",
                    expected="above zero, and below 1e15 steps",
                )
            count = round(seconds / self.dt)
            if count < 1 or abs(count * self.dt - seconds) > 1e-9 * max(1.0, seconds):
                raise DravikError(
                    f"{seconds} s is no whole number of steps of {self.dt:g} s", expected="a whole number of steps",
                    hint="session.advance(seconds), which keeps the remainder",
                )  # fmt: skip
        self._fly(count)

    def advance(self, seconds: str | float, **inputs: str | float) -> int:
        """Set inputs and fly on for any time, such as that since the last frame; return how many steps were flown.

        What is no whole number of steps is kept for the next call: after all calls as many steps are flown as fit into
        the sum of their times. Raises DravikError for a time that is below zero or not finite, and FlightError as
        ``step`` does.

        >>> import dravik as dv
        >>> craft = dv.sample("tarn")
        >>> session = dv.Session(craft, start=dv.trim(craft, airspeed=62, altitude=300), dt=0.01)
        >>> [session.advance(1 / 60) for _ in range(3)]
        [1, 2, 2]
        """
        if inputs:
            self.set(**inputs)
        number = _seconds(seconds, "seconds")
        if not 0.0 <= number / self.dt < MOST_STEPS:
            raise DravikError(f"{number:g} s cannot be flown", expected="zero or more, and below 1e15 steps")
        asked = self._asked + number
        # a sum of tenths that falls short of a whole number of steps by rounding alone is that number
        count = math.floor(asked / self.dt * (1.0 + 1e-12) + 1e-9) - self._advanced
        if count:
            self._fly(count)
        self._asked, self._advanced = asked, self._advanced + count
        return count

    def _fly(self, count: int) -> None:
        """Fly some steps; raises FlightError where the session has come to its end."""
        if self._closed:
            raise FlightError(
                "the session's recording is closed", time=self.time, recording=None, where=self._body.name
            )
        if self.ended:
            raise FlightError("the flight has ended", time=self.time, recording=None, where=self._body.name)
        self._flight.advance(count)

    def instant(self, coordinates: str = "air") -> OperatingInstant:
        """Return this instant, to linearise about: state, inputs as they are now, and parameters as they were set.

        Raises DravikError for a plant, which ``linearise_plant`` takes at its ``state``.
        """
        body = self._body
        if not isinstance(body, AircraftBody):
            raise DravikError(f"{body.name} is no aircraft", hint="linearise_plant(plant, session.state, inputs)")
        now = {name: self._flight.read(name) for name in body.parameters}
        craft = body.craft.with_parameters(now) if now else body.craft
        inputs = [self._flight.read(name) for name in body.inputs]
        return OperatingInstant.of(craft, self.state, inputs, time=self.time, coordinates=coordinates)

    def save(self) -> SavedFlight:
        """Return all that the session is now; the session may fly on and come back to it."""
        return self._flight.save()

    def restore(self, saved: SavedFlight) -> None:
        """Be again what was saved, to the last bit; raises DravikError for another aircraft, loading or step."""
        self._flight.restore(saved)
        self._asked, self._advanced = 0.0, 0

    def begin_recording(self, path: str | Path, *, signals: Sequence[str] | None = None, every: str | int = 1) -> None:
        """Record to a file (.csv or .parquet) from now on: all signals unless named, a row each so many steps.

        The flight can be flown again from there: ``resume(craft, run, at="begin")``. Raises DravikError where it is
        recorded already, for names that are not there, and for a file that cannot be written.

        >>> import dravik as dv
        >>> craft = dv.sample("tarn")
        >>> session = dv.Session(craft, start=dv.trim(craft, airspeed=62, altitude=300))
        >>> session.begin_recording("part.csv", signals=["theta"])
        >>> session.step(1.0)
        >>> len(session.end_recording().time)
        101
        """
        begin_recording(self._flight, path, signals, steps_between(every, self.dt))

    def end_recording(self) -> Recording:
        """End the recording that was begun in flight; return it. Raises DravikError where there is none."""
        return end_recording(self._flight)

    @property
    def is_recording(self) -> bool:
        """Whether a recording that was begun in flight goes on."""
        return self._flight.rows_aside is not None

    def fill_tank(self, tank: str, mass: str | float) -> None:
        """Put a mass (kg) into a tank at once, which moves the centre of gravity.

        Raises DravikError for a tank that does not flow in this loading, and for a mass beyond what it holds.
        """
        fill_tank(self._flight, tank, mass)

    def set_turbulence(self, turbulence: Turbulence | None) -> None:
        """Fly in other turbulence from now on, or in none; raises DravikError for a plant that is no aircraft."""
        set_turbulence(self._flight, turbulence)

    def in_loading(self, loading: str | Aircraft) -> "Session":
        """Return a session that goes on from here in another loading; raises DravikError for one that is not there.

        States keep their values; position and velocity become those of the new centre of gravity. This session stays.
        An aircraft in that loading stands for its name: compiled before, it costs the flight no time.
        """
        if self.aircraft is None:
            raise DravikError(f"{self._body.name} is no aircraft", expected="an aircraft")
        craft = self.aircraft.with_loading(loading) if isinstance(loading, str) else loading
        options: dict[str, Any] = {n: v for n, v in self._options.items() if n not in ("save", "turbulence", "record")}
        return Session(
            craft, start=start_in(self._flight, craft), turbulence=self._flight.schedule.turbulence, **options
        )

    def recording(self) -> Recording:
        """Return what has been recorded so far, this instant included; it can be resumed like that of ``fly``."""
        return self._flight.recording(present=True)

    def close(self) -> None:
        """End the file of a session with ``save``, which flies no further, or a recording that was begun in flight."""
        if self.is_recording:
            self.end_recording()
        if self._flight.writer is not None and not self._closed:
            self._flight.finish(present=True)
            self._closed = True


def _seconds(value: str | float, name: str) -> float:
    """Return a time in s, given with its unit or as a number; raises DravikError for one that is not finite."""
    if isinstance(value, str):
        return quantity(value, "time", where=name)
    number = math.nan if isinstance(value, bool) else arguments.number(value, name)
    if not math.isfinite(number):
        raise DravikError(f"{name} cannot be {arguments.shown(value)}", expected="a time, in s or with its unit")
    return number
