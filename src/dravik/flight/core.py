"""The flying core: a flight from beat to beat, saved and restored; ``fly`` and ``Session`` are thin over it."""

import math
import time as clock
from collections.abc import Callable, Mapping
from contextlib import suppress
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.aircraft.air_of_point import in_air_of
from dravik.definition.values import parameter_in_si
from dravik.errors import DravikError, FlightError, require
from dravik.flight import pauses
from dravik.flight.aircraft_body import AircraftBody
from dravik.flight.body import body_of
from dravik.flight.devices import Tasks
from dravik.flight.options import Options, check_options, steps_between
from dravik.flight.provenance import ending, origin
from dravik.flight.row_buffer import NEVER, RowBuffer
from dravik.flight.schedule import Schedule
from dravik.flight.snapshots import SavedFlight, Start, Startable, following_of, restore, saved_of
from dravik.kernel.program import EVENT_COUNT, NOT_FINITE, OUTSIDE_TABLE, PAUSED, STOP_EVENT
from dravik.motion.integration import LAST_EVALUATED, LAST_RECORDED, LAST_UNTOUCHED
from dravik.plants import Plant
from dravik.recording.recording import Event, Recording, event_rows
from dravik.recording.writing import RecordingWriter
from dravik.surroundings.gusts import PERIOD
from dravik.trimming import PlantTrim, TrimPoint
from dravik.units import from_si, quantity

__all__ = ["Flight"]

Floats = NDArray[np.float64]
LONGEST = 5.0  # s of flight: longest stretch before progress is reported and an interrupt can act
CLOCK = 0.2  # s of wall-clock time, the same
MOST_STEPS = 1e15  # beyond, the times of neighbouring steps are the same number
MOST_TURNS = 50  # changes of mode of one mode logic at one instant
FIRST_STEPS = 50  # length of the first stretch: short, because the speed of this machine is not known yet


class Flight:
    """One flight: state, inputs, schedule, workspace and devices. Steps are counted from time nought.

    Nothing is shared between flights: any number may fly side by side.
    """

    def __init__(self, what: Aircraft | Plant, start: Startable, options: Options) -> None:
        """Begin at a trimmed point or a start; raises DravikError for names, quantities and starts that do not fit."""
        check_options(options)
        if isinstance(what, Aircraft) and isinstance(start, TrimPoint):
            what = in_air_of(what, start.craft)
        self.body = body = body_of(what)
        made_by = "trim, on_ground, on_rail, resume, or Start(state, inputs)"
        require(start, (TrimPoint, PlantTrim, Start), "the start", made_by)
        self.note = dict(options.get("note") or {})
        self.dt = quantity(options.get("dt", 0.01), "time", where="dt")
        if not 0.0 < self.dt < math.inf:
            raise DravikError(f"the step dt cannot be {options.get('dt')!r}", expected="a time above zero")
        begins = start.time if isinstance(start, Start) else 0.0
        if not 0.0 <= begins / self.dt < MOST_STEPS:
            text = f"a flight in steps of {self.dt:g} s cannot start at {begins:g} s"
            raise DravikError(text, expected="zero to 1e15 steps")
        self.first = self.step = round(begins / self.dt)
        self.offset = begins - self.first * self.dt
        self.work = body.work
        self.notes: list[Event] = []
        self.begun_gusts: list[tuple[str, float]] = []
        self.parameters_begun = {n: float(self.work.registers[body.registers[n]]) for n in body.parameters}
        if isinstance(start, Start):
            for name, value in start.parameters.items():
                self.work.registers[body.registers[name]] = parameter_in_si(body.parameters, name, value)
        change = self._begin(start)
        for name, number in change.parameters:
            self.set_parameter(name, number)
        self.x = change.state
        made = start.gust_segments if isinstance(start, Start) else ()
        controls = options.get("controls") or {}
        self.schedule = Schedule(body, change.inputs, controls, options.get("turbulence"), self.dt, self.offset, made)
        self.schedule.histories.extend(change.histories)
        self.schedule.followers = following_of(body, start, change.inputs, controls, self.offset)
        self.schedule.gusts_for = start.gusts_for if isinstance(start, Start) else None
        self.start_inputs = dict(zip(body.inputs, change.inputs.tolist(), strict=True))
        self.tasks = Tasks(options.get("devices", ()), body, self.dt, (self.set_parameter, self.change))
        if isinstance(start, Start) and start.devices:
            self.tasks.restore(start.devices)
        self.called = -1  # the step for which devices were called last
        self._infinite: set[str] = set()  # signals recorded without a finite value
        self._turns: dict[tuple[str, int], int] = {}
        self._most = FIRST_STEPS
        self._stretch = max(1, round((PERIOD if self.schedule.follows else LONGEST) / self.dt))
        record = options.get("record")
        for name in record or ():
            if name not in self.tasks.board:
                body.signal(name)
        usual = [n for n in body.signals if n not in body.parameters]
        names = [*usual, *self.tasks.board] if record is None else record
        every = steps_between(options.get("record_every", 1), self.dt)
        self.rows = RowBuffer(body, names, self.tasks.units, every)
        self.begun = clock.perf_counter()
        self.asked = 0.0
        self.evaluate()
        if self.first == 0:
            # clamp states that a start puts outside their limits, which would jump at the first step; not in a resumed
            # flight, which is within them and whose quaternion must keep its last bit
            body.clamp(self.x)
            self.evaluate()
        held = start.memory if isinstance(start, Start) else {}
        now = self.schedule.steps(self.step, 1, self.x)[0, 0].copy() if body.memory() else self.schedule.inputs
        body.begin_memory(self.time, self.x, now, self.dt, held)
        self.writer: RecordingWriter | None = None
        # while the kernel flies: the rows before, and what it changes, as that was
        self._before: tuple[int, tuple[NDArray[Any], ...]] | None = None
        self._is_untold = False  # whether the writer has not been given the state at the end of the rows
        self.save_to = options.get("save")
        self.rows_aside: RowBuffer | None = None  # those of the flight, while a part of it is recorded to a file

    def _begin(self, start: Startable) -> pauses.Change:
        """Return state, inputs and gusts at the start, with the script's first phase and faults."""
        body = self.body
        x, inputs = np.array(start.state, dtype=float), np.array(start.inputs, dtype=float)
        if x.shape != (len(body.state_names),) or inputs.shape != (len(body.inputs),):
            raise DravikError(
                f"the start has {x.size} states and {inputs.size} inputs, {body.name} has "
                f"{len(body.state_names)} and {len(body.inputs)}",
                hint="trim the aircraft that is flown, with its laws and its script",
            )
        if not (np.all(np.isfinite(x)) and np.all(np.isfinite(inputs))):
            raise DravikError("the start holds values that are not finite")
        if self.first == 0:
            change, self.notes = body.begin(x, inputs)
            return change
        assert isinstance(start, Start)
        self.begun_gusts = list(start.begun)
        craft = body.craft if isinstance(body, AircraftBody) else None
        return pauses.Change(
            x, inputs, [pauses.gust_of(craft, n, t) for n, t in start.begun] if craft is not None else []
        )

    def evaluate(self) -> None:
        """Put every signal at the present state and inputs into the registers."""
        self.body.evaluate(self.time, self.x, self.schedule.inputs)

    # -- reading ------------------------------------------------------------------------------------------------------

    def time_of(self, step: int) -> float:
        """Return the time of a step, s."""
        return self.offset + step * self.dt

    @property
    def time(self) -> float:
        """The time reached, s; where an event has ended the flight, the instant of that event."""
        return float(self.work.registers[0]) if self.ended else self.time_of(self.step)

    @property
    def ended(self) -> bool:
        """Whether an event has ended the flight."""
        return int(self.work.counters[STOP_EVENT]) != 0

    @property
    def events(self) -> list[Event]:
        """What has happened so far, in order of time."""
        return sorted([*self.notes, *self.body.events(), *self.schedule.held.values()], key=lambda e: e.time)

    def read(self, name: str) -> float:
        """Return a signal or a device's value now, SI; raises DravikError, naming the nearest, for an unknown name."""
        if name in self.tasks.board:
            return self.tasks.board[name]
        self.body.signal(name)
        return float(self.work.registers[self.body.registers[name]])

    def recording(self, *, present: bool = False, copied: bool = True) -> Recording:
        """Return what has been recorded so far; with ``present`` also the row of this instant, if it is due.

        Not ``copied``, the rows are this flight's own, for one that flies no further.
        """
        body, names, rows = self.body, self.rows.names, self.rows
        values = rows.values.copy() if copied else rows.values
        if present and not self.ended and self.step % rows.every == 0 and rows.every != NEVER:
            values = np.concatenate([values, rows.present(self.work.registers, self.tasks.board)])
        metadata = {**origin(self), "complete": True, "end": ending(self), "ended_by": body.ended_by()}
        metadata |= body.afterwards(self.x, self.schedule.inputs, names, values)
        return Recording(names, self.rows.units, values, self.events, metadata, body.outside())

    def set_parameter(self, name: str, value: str | float) -> None:
        """Set a parameter from now on, SI or with its unit, and log that; raises DravikError for what does not fit."""
        number, register = parameter_in_si(self.body.parameters, name, value), self.body.registers[name]
        before = float(self.work.registers[register])
        if number != before:
            self.work.registers[register] = number
            unit, factor, _ = from_si(self.body.parameters[name].unit)
            text = f"parameter {name}: {before * factor:.6g} to {number * factor:.6g} {unit}".rstrip()
            self.notes.append(Event(self.time_of(self.step), text))

    def note_held(self, name: str) -> None:
        """Log, once, that an input was asked beyond its range and is held."""
        self.schedule.note_held(name, self.time_of(self.step))

    def change(self, values: Mapping[str, float]) -> None:
        """Set inputs by their full name, SI, from now on; begin modes and faults, engage laws, and log that."""
        inputs = self.schedule.inputs
        if self.body.switches.isdisjoint(values):
            for name, number in values.items():
                inputs[self.body.input_index(name)] = number
            return
        before = inputs.copy()
        for name, value in self.body.change(values, inputs, self.read):
            self.set_parameter(name, value)
        self.notes += self.body.switched(before, self.schedule.inputs, self.time_of(self.step))

    # -- flying -------------------------------------------------------------------------------------------------------

    def advance(
        self, steps: int, *, record_last: bool = False, progress: Callable[[float], None] | None = None
    ) -> None:
        """Fly on by a number of steps, or to the event that ends the flight.

        The row of a step is recorded when the flight goes on from there; with ``record_last`` that of the last one too.
        ``progress`` is told the share flown. Raises FlightError, with the recording so far, where a value stops being
        finite, a table is left where that is an error, or the recording cannot be written.
        """
        begin, end = self.step, self.step + steps
        if self.save_to is not None and self.writer is None:
            self.writer = RecordingWriter(self.save_to, self.rows.names, self.rows.units, origin(self), ending(self))
        last = LAST_RECORDED if record_last else LAST_EVALUATED
        try:
            while self.step < end and not self.ended:
                self._stretch_to(end, last)
                if progress is not None:
                    progress((self.step - begin) / steps)
        except BaseException:
            if self.writer is not None:
                self._give_up(self.writer)
            raise
        if not record_last and not self.ended and self.body.is_sensing:
            # who reads now reads the samples and the estimates of this instant, as a row of it will have them
            now = self.schedule.steps(self.step, 1, self.x)[0, 0]
            self.body.look_ahead(self.time, self.x, now, self.dt, self.step)
            self.body.look_back()

    def _give_up(self, writer: RecordingWriter) -> None:
        """Close the file with the state at the end of its rows, also where the kernel was interrupted beyond them."""
        if self._before is not None:
            count, (self.x[...], self.work.registers[...], self.work.counters[...]) = self._before
            self.rows.go_back(count)
        if self._is_untold:
            with suppress(DravikError):
                self._keep(self.rows.values)
        writer.abandon()
        self.writer = self.save_to = None

    def _stretch_to(self, end: int, last: int) -> None:
        """Fly to the next call of a device, period of gusts or report of progress; then handle faults and phases."""
        begun, step, work = clock.perf_counter(), self.step, self.work
        count = min(self._stretch - step % self._stretch, end - step, self._most)
        if self.tasks.list:
            count = min(count, self.tasks.until_beat(step))
            if step != self.called:
                self._call_devices(step)
        logged = int(work.counters[EVENT_COUNT])
        free = self.rows.free(count)
        if self.writer is not None:
            self._before = self.rows.count, (self.x.copy(), work.registers.copy(), work.counters.copy())
        done, rows = self.body.steps(
            self.x, (self.offset, self.dt, step), self.schedule.steps(step, count, self.x), self.rows.every,
            self.rows.picks, free, last if step + count == end else LAST_UNTOUCHED,
        )  # fmt: skip
        self.body.settle_inputs(self.schedule.inputs)
        self._note_infinite(self.rows.take(rows, self.tasks.board))
        self.step += done
        self._before, self._is_untold = None, True
        if count > self._most // 4:  # long enough to tell how fast this machine is
            spent = clock.perf_counter() - begun
            self._most = max(1, min(self._stretch, int(max(done, 1) * min(CLOCK / max(spent, 1e-6), 4.0))))
        paused = work.counters[PAUSED] != 0
        work.counters[PAUSED] = 0
        failed = (done < count and not paused) or work.counters[OUTSIDE_TABLE] or work.counters[NOT_FINITE]
        # devices and what follows a pause may fail while they change what a flight is: it is told before
        if self.writer is not None and (paused or self.tasks.list or self.writer.is_due(self.rows.count)):
            self._keep(self.rows.values)
        if self.ended:
            return
        if failed:
            self.fail(self.time_of(self.step))
        if paused:
            self._follow(logged)

    def _note_infinite(self, rows: Floats) -> None:
        """Log, once of each, the signals that are recorded without a finite value: nothing that moves reads them."""
        if np.isfinite(rows).all():
            return
        for k in np.flatnonzero(~np.isfinite(rows).all(axis=0)):
            name = self.rows.names[k]
            if name not in self._infinite:
                self._infinite.add(name)
                at = int(np.argmin(np.isfinite(rows[:, k])))
                self.notes.append(Event(float(rows[at, 0]), f"{name} is {rows[at, k]}, and only recorded"))

    def _call_devices(self, step: int) -> None:
        """Call the devices that beat at this step, all on the signals of this instant."""
        due = self.tasks.due(step)
        if not due:
            return
        t = self.time_of(step)
        # samples of this instant are taken for the devices, and once more when the flight goes on from here
        self.body.look_ahead(t, self.x, self.schedule.steps(step, 1, self.x)[0, 0], self.dt, step)
        self.body.settle_inputs(self.schedule.inputs)
        for task in due:
            try:
                task.call(t, self.schedule.inputs)
            except Exception as error:  # a device is somebody's own code: whatever it raises ends the flight in words
                own = error if isinstance(error, DravikError) else None
                what = own.what if own is not None else f"{type(error).__name__}: {error}"
                raise FlightError(
                    f"the device {task.name} failed at {t:.6g} s: {what}", time=t, recording=self.recording(),
                    where=self.body.name, hint=own.hint if own is not None else "",
                ) from error  # fmt: skip
        self.body.look_back()
        self.called = step  # devices have been called for this step: a pause at it does not call them again

    def _follow(self, logged: int) -> None:
        """Handle the faults and phases whose conditions were logged since then."""
        t = self.time_of(self.step)
        now = self.schedule.steps(self.step, 1, self.x)[0, 0].copy()
        for then in self.body.happened(logged):
            before = self.schedule.inputs.copy()
            change = self.body.follow(then, t, self.x, self.schedule.inputs, now)
            self.notes += self.body.switched(before, change.inputs, t, then[1])
            self._refuse_unrest(then)
            if change.histories:
                self.begun_gusts.append((then[1], t))
            self.x = change.state
            for name, value in change.parameters:
                self.set_parameter(name, value)
            self.schedule.histories.extend(change.histories)
        self.evaluate()

    def _refuse_unrest(self, then: tuple[str, ...]) -> None:
        """Refuse mode logic that goes from mode to mode without an end at one instant."""
        self._turns = {k: n for k, n in self._turns.items() if k[1] == self.step}
        key = (then[1], self.step)
        self._turns[key] = self._turns.get(key, 0) + 1
        if self._turns[key] > MOST_TURNS:
            what = f"at {self.time_of(self.step):.6g} s {then[1]} goes from mode to mode without an end"
            raise FlightError(what, time=self.time_of(self.step), recording=self.recording(), where=self.body.name)

    def _keep(self, rows: Floats, whole: Recording | None = None) -> None:
        """Have all rows so far written to the file, and end it with the ``whole`` recording.

        An error of writing carries the recording so far.
        """
        assert self.writer is not None
        self._is_untold = False
        try:
            self.writer.write(rows, ending(self), event_rows(self.events))
            if whole is not None:
                self.writer.close(whole)
        except DravikError as error:
            values = self.rows.values
            t = float(values[-1, 0]) if len(values) else self.time_of(self.first)
            raise FlightError(error.what, time=t, recording=self.recording(), where=error.where) from error

    def fail(self, t: float) -> None:
        """Raise FlightError that says why the kernel could not go on."""
        t, what = self.body.failure(t, self.dt)
        raise FlightError(f"at {t:.6g} s {what}", time=t, recording=self.recording(), where=self.body.name)

    def finish(self, *, present: bool = False) -> Recording:
        """Return the recording, its file closed where it was written to one."""
        recording = self.recording(present=present, copied=False)
        if self.writer is not None:
            self.close_file(recording)
        return recording

    def close_file(self, whole: Recording) -> None:
        """End the file with a recording; an error of writing carries it."""
        self._keep(whole.values, whole)

    # -- saving -------------------------------------------------------------------------------------------------------

    def save(self) -> SavedFlight:
        """Return all that the flight is now; raises DravikError for a device whose state is no plain data."""
        return saved_of(self)

    def restore(self, saved: SavedFlight) -> None:
        """Restore a saved flight, to the last bit; raises DravikError for another aircraft, loading, step, device."""
        restore(self, saved)
