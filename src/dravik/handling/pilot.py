"""A pilot in the loop: compensatory tracking of attitude, altitude and a lateral offset, flown, and how hard he works.

D. T. McRuer, H. R. Jex, A Review of Quasi-Linear Pilot Models, IEEE Trans. Human Factors in Electronics HFE-8 (1967),
231: about crossover pilot and aircraft together are an integral with a delay; the pilot is a gain, a lead or lag, and a
delay. Outer loops are closed a good deal slower than the attitude within them.
"""

import math
from collections import deque
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from dravik.aircraft import Aircraft
from dravik.aircraft.air_of_point import in_air_of
from dravik.constants import STANDARD_GRAVITY
from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.flight import fly
from dravik.handling.attitude import TrackingPilot, tracking_pilot
from dravik.handling.responses import SLOW, attitude_channel, pilot_input
from dravik.linear import linearise
from dravik.recording import Recording
from dravik.trimming import TrimPoint
from dravik.units import in_si

__all__ = ["TASKS", "FlownTask", "fly_task"]

#: What may be flown: the attitude it is flown by, the signal that is tracked, its kind of quantity, and the usual size.
TASKS = {
    "pitch": ("theta", "theta", "angle", math.radians(3.0)),
    "bank": ("phi", "phi", "angle", math.radians(15.0)),
    "altitude": ("theta", "altitude", "length", 20.0),
    "offset": ("phi", "offset", "length", 15.0),
}
RATE = 100.0  # Hz: of the pilot
ARM = 0.1  # s: the part of his delay that is a lag of arm and hand, and no waiting
TRIMMED = 0.1  # rate at which an altitude error is trimmed out, over the outer loop's bandwidth
INTERVALS = (2.0, 5.0, 3.0, 4.0, 6.0)  # s between the steps of a tracking task
STEPS = (1.0, 0.0, -0.6, 0.4, -1.0, 0.7, 0.0)  # of the size, one after the other
OUTER = 0.2  # bandwidth of an outer loop over that of the attitude within it
STEEPEST, MOST_BANK = math.radians(8.0), math.radians(25.0)  # that an outer loop asks for
DESIRED = 0.2  # of the task's size: the error that counts as desired performance
REVERSED = 0.02  # of the stick's range: a smaller movement back is no reversal


@dataclass(frozen=True)
class FlownTask:
    """A task flown: the run, the pilot, and his figures.

    ``error`` is the root mean square of the tracked signal's error (SI), ``desired`` the share of the time within a
    fifth of the task's size, ``stick`` the root mean square of the stick as a share of half its range, ``stick_rate``
    of its rate (1/s), ``reversals`` of the stick each second, ``at_stop`` the share of the time that it stood at a
    stop. In the run ``tracked_command`` is what was asked for, ``tracked`` what came of it, both from the start.
    """

    task: str
    pilot: TrackingPilot
    run: Recording
    size: float
    error: float
    desired: float
    stick: float
    stick_rate: float
    reversals: float
    at_stop: float

    def rows(self) -> list[tuple[str, float, str]]:
        """Return name, value and unit of the figures."""
        kind = TASKS[self.task][2]
        factor, unit = (180.0 / math.pi, "deg") if kind == "angle" else (1.0, "m")
        return [
            ("size of the task", self.size * factor, unit),
            ("error, root mean square", self.error * factor, unit),
            ("time within a fifth of the size", 100.0 * self.desired, "%"),
            ("stick, root mean square of half its range", 100.0 * self.stick, "%"),
            ("rate of the stick, the same", 100.0 * self.stick_rate, "%/s"),
            ("reversals of the stick", self.reversals, "1/s"),
            ("stick at a stop", 100.0 * self.at_stop, "% of the time"),
            ("the pilot's lead at his bandwidth", self.pilot.compensation, "deg"),
        ]


def fly_task(
    craft: Aircraft, point: TrimPoint, task: str = "pitch", *, size: str | float | None = None, bandwidth: float = 2.0,
    delay: float = 0.3, duration: str | float = 60.0, stick: str = "",
) -> FlownTask:  # fmt: skip
    """Return a tracking task flown by a simple pilot from a trimmed point.

    ``task``: ``"pitch"`` and ``"bank"`` track steps of attitude, ``"altitude"`` captures an altitude, ``"offset"``
    a lateral offset from the track, as behind another aircraft. ``size`` of the steps with its unit or SI. The
    pilot is the one of ``tracking_pilot`` with ``bandwidth`` (rad/s) and ``delay`` (s), made for the linear model
    and flown on the aircraft with its limits; everything that is not his stick stays.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    point : TrimPoint
        The trimmed point.
    task : str, default "pitch"
        ``"pitch"``, ``"bank"``, ``"altitude"`` or ``"offset"``.
    size : str or float, optional
        Size of the steps, with its unit or in SI.
    bandwidth : float, default 2.0
        That of the pilot's loop, rad/s.
    delay : float, default 0.3
        The pilot's, s.
    duration : str or float, default 60.0
        Length of the flight, with its unit or in s.
    stick : str, optional
        The input that the pilot moves. That which moves pitch or bank the most over its range unless given.

    Returns
    -------
    FlownTask

    Raises
    ------
    DravikError
        For another task, an aircraft without the input, and a loop that no such pilot closes.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> found = fly_task(craft, dv.trim(craft, airspeed="62 m/s", altitude="300 m"), "bank", duration=20.0)
    >>> found.at_stop < 0.2, found.desired > 0.3
    (True, True)
    """
    require(craft, Aircraft, "what is flown")
    require(point, TrimPoint, "the point to begin at", "trim(craft, ...)")
    craft = in_air_of(craft, point.craft)
    arguments.word(task, "a task", TASKS)
    duration = in_si(duration, "time", where="duration")
    attitude, _, kind, usual = TASKS[task]
    wanted = usual if size is None else in_si(size, kind, where="size")
    if not 0.0 < abs(wanted) < math.inf or not duration > 5.0:
        raise DravikError(
            f"a task of size {wanted:g} cannot be flown for {duration:g} s",
            expected="a size that is not zero, more than 5 s",
        )
    model = linearise(craft, point, outputs=[attitude, "q", "p"])
    stick = _stick(craft, stick, attitude) if stick else pilot_input(craft, model, "q" if attitude == "theta" else "p")
    # a pilot who tracks does not wait for speed and height: they are held
    fast = model.part(states=[n for n in model.states if n not in SLOW])
    omega, response = attitude_channel(fast, attitude, stick)
    pilot = tracking_pilot(omega, response, bandwidth=bandwidth, delay=delay)
    # the channel is turned about where the stick works the other way
    raw = fast.part(inputs=[stick], outputs=[attitude]).frequency_response([1.0])[0, 0, 0]
    sign = 1.0 if np.imag(raw) < 0.0 else -1.0
    hands = _Hands(craft, point, task, stick, pilot, sign, wanted)
    run = fly(
        craft.over_no_ground(), start=point, duration=duration, devices=[hands],
        record=[attitude, "altitude", "north", "east", "q", "p", "nz", "airspeed", stick, "tracked_command", "tracked"],
    )  # fmt: skip
    return _judged(craft, point, task, stick, pilot, run, wanted)


def _stick(craft: Aircraft, name: str, attitude: str) -> str:
    """Return the input of a name; raises DravikError for one without a range to both sides."""
    found = craft.input_names[craft.input_index(name)]
    spec = craft.inputs[found]
    if not (math.isfinite(spec.high - spec.low) and spec.low < 0.0 < spec.high):
        raise DravikError(
            f"a pilot cannot hold {attitude} with {found}",
            where="stick",
            expected="an input with a range to both sides",
        )
    return found


class _Hands:
    """The pilot as a device: he sees an error, and moves his stick a reaction time later."""

    rate = RATE

    def __init__(
        self, craft: Aircraft, point: TrimPoint, task: str, stick: str, pilot: TrackingPilot, sign: float, size: float
    ) -> None:  # fmt: skip
        self.name, self.task, self.stick, self.pilot = "pilot", task, stick, pilot
        self.sets = [stick, "tracked_command", "tracked"]
        unit = "rad" if TASKS[task][2] == "angle" else "m"
        self.units = {"tracked_command": unit, "tracked": unit}
        self.gain, self.size = sign * pilot.gain, size
        self.start = {n: point[n] for n in ("theta", "phi", "altitude", "airspeed", "track", "north", "east")}
        self.rest = float(point.inputs[craft.input_names.index(stick)])
        self.low, self.high = craft.inputs[stick].low, craft.inputs[stick].high
        # part of his delay is the arm's lag, the rest is time
        self.arm = min(ARM, 0.5 * pilot.delay)
        self.seen: deque[float] = deque([0.0] * max(1, round((pilot.delay - self.arm) * RATE)))
        self.before = self.filtered = self.moved = self.trimmed = 0.0

    def update(self, t: float, signals: Mapping[str, float]) -> Mapping[str, float]:
        """Return the stick, what is asked for, and what is tracked."""
        target, tracked, error = self._error(t, signals)
        self.seen.append(error)
        late = self.seen.popleft()
        # lead by the difference of what he sees, lag as a first-order filter, then his arm
        # a lead is a value plus its rate: the difference of two beats
        led = late + self.pilot.lead * (late - self.before) * RATE
        self.before = late
        self.filtered += _share(self.pilot.lag) * (led - self.filtered)
        self.moved += _share(self.arm) * (self.filtered - self.moved)
        stick = min(max(self.rest + self.gain * self.moved, self.low), self.high)
        return {self.stick: stick, "tracked_command": target, "tracked": tracked}

    def _error(self, t: float, signals: Mapping[str, float]) -> tuple[float, float, float]:
        """Return target, tracked value and the error of the attitude."""
        wanted = self.size * _profile(t)
        if self.task in ("pitch", "bank"):
            name = TASKS[self.task][0]
            value = _wrapped(signals[name] - self.start[name])
            return wanted, value, wanted - value
        # the outer loop is slower than the attitude loop by this share, so that they do not fight
        outer = OUTER * self.pilot.bandwidth
        wanted = self.size if t > INTERVALS[0] else 0.0
        if self.task == "altitude":
            value = signals["altitude"] - self.start["altitude"]
            # a flight path that closes the height error in the outer loop's time
            steep = outer * (wanted - value) / max(signals["airspeed"], 1.0)
            self.trimmed = min(max(self.trimmed + TRIMMED * outer * steep / RATE, -STEEPEST), STEEPEST)
            asked = min(max(steep + self.trimmed, -STEEPEST), STEEPEST)
            return wanted, value, asked - (signals["theta"] - self.start["theta"])
        track = self.start["track"]
        north, east = signals["north"] - self.start["north"], signals["east"] - self.start["east"]
        # offset to the right of the track
        value = east * math.cos(track) - north * math.sin(track)
        speed = signals["ground_speed"] * math.sin(_wrapped(signals["track"] - track))
        # a turn accelerates sideways by g tan(bank): a pair of damping 0.8 at the outer frequency
        leaned = (outer**2 * (wanted - value) - 1.6 * outer * speed) / STANDARD_GRAVITY
        asked = min(max(leaned, -MOST_BANK), MOST_BANK)
        return wanted, value, asked - (signals["phi"] - self.start["phi"])


def _share(lag: float) -> float:
    """Return the share of the way that a first-order lag (s) goes in one beat."""
    return 1.0 if lag <= 0.0 else 1.0 - math.exp(-1.0 / (lag * RATE))


def _wrapped(angle: float) -> float:
    return (angle + math.pi) % (2.0 * math.pi) - math.pi


def _profile(t: float) -> float:
    """Return the steps of a tracking task, as shares of its size: they begin after two seconds, and repeat."""
    left, k = t - INTERVALS[0], -1
    while left >= 0.0:
        k += 1
        left -= INTERVALS[k % len(INTERVALS)]
    return 0.0 if k < 0 else STEPS[k % len(STEPS)]


def _judged(
    craft: Aircraft, point: TrimPoint, task: str, stick: str, pilot: TrackingPilot, run: Recording, size: float
) -> FlownTask:  # fmt: skip
    """Return the figures of a flown task."""
    error = run["tracked_command"] - run["tracked"]
    low, high = craft.inputs[stick].low, craft.inputs[stick].high
    # stick in shares of half its travel, whatever its unit
    half = 0.5 * (high - low) if math.isfinite(high - low) else 1.0
    moved = (run[stick] - float(point.inputs[craft.input_names.index(stick)])) / half
    at_stop = (run[stick] <= low + 1e-9) | (run[stick] >= high - 1e-9)
    return FlownTask(
        task, pilot, run, size, float(np.sqrt(np.mean(error**2))), float(np.mean(np.abs(error) <= DESIRED * abs(size))),
        float(np.sqrt(np.mean(moved**2))), float(np.sqrt(np.mean(np.gradient(moved, run.time) ** 2))),
        _reversals(moved) / max(run.flown, 1e-9), float(np.mean(at_stop)),
    )  # fmt: skip


def _reversals(moved: "np.ndarray[tuple[int], np.dtype[np.float64]]") -> int:
    """Return how often the stick turns back by more than a fiftieth of its range."""
    count, direction, furthest = 0, 0.0, float(moved[0])
    for value in moved:
        gone = float(value) - furthest
        # still the same way: the furthest point moves along; a reversal counts from there
        if direction * gone >= 0.0:
            furthest = float(value) if direction or abs(gone) > REVERSED else furthest
            direction = direction or (math.copysign(1.0, gone) if abs(gone) > REVERSED else 0.0)
        elif abs(gone) > REVERSED:
            count, direction, furthest = count + 1, -direction, float(value)
    return count
