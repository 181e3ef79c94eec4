"""Devices: what is called at a rate of its own during a flight, as the tasks of a flight control computer are.

A controller, a sensor, an estimator, guidance, a recorder, a link to the outside: all are objects with a ``rate`` (Hz)
and ``update(t, signals)``, which returns what they set. They are called in the order in which they are given.
"""

import math
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np
from numpy.typing import NDArray

from dravik.definition import arguments
from dravik.definition.settings import kind_of_setting
from dravik.errors import DravikError, nearest, require
from dravik.flight.body import Body
from dravik.systems import LinearSystem

if TYPE_CHECKING:
    from dravik.trimming import TrimPoint

__all__ = ["Device", "SystemDevice", "Task", "Tasks"]

Floats = NDArray[np.float64]
#: What a flight offers: one that sets a parameter, and one that sets inputs from which more follows.
Setters = tuple[Callable[[str, float], None], Callable[[Mapping[str, float]], None]]


class Device(Protocol):
    """An object that a flight calls ``rate`` times a second (Hz), beginning at its start.

    ``update`` gets the time (s) and the signals (SI, by name) at that instant, before any device has acted on it, and
    returns what it sets until its next call: inputs of the aircraft (an effector's name stands for what is added to its
    command), parameters, and values of its own, which the devices after it read in ``signals`` and recordings keep.

    What a flight saves of it is its plain attributes: numbers, text, lists, dicts, arrays, NumPy generators. Methods
    ``save()``, which returns such plain data, and ``restore(data)`` take the place of that.

    Attributes
    ----------
    rate : float
        Calls a second, Hz: a whole number of steps each. ``math.inf`` is in every step.
    name : str, optional
        What messages call it. The class's name unless given.
    reads, sets : sequence of str, optional
        Names that are checked before the flight.
    units : mapping of str to str, optional
        SI units of values of its own, which must be named in ``sets``.

    Examples
    --------
    >>> class Damper:
    ...     rate = 50.0
    ...     def update(self, t, signals):
    ...         return {"rudder": 0.4 * signals["r"]}
    """

    rate: float

    def update(self, t: float, signals: Mapping[str, float]) -> Mapping[str, float]:
        """Return what is set until the next call, by name, SI."""


class SystemDevice:
    """A linear system as a device: its inputs are signals it reads, its outputs what it sets.

    A continuous system runs at ``rate`` by the trapezoidal rule (Tustin); a sampled one at its own samples. About a
    trimmed point it reads deviations from there, and what it sets is added to the point's inputs; an effector's name
    stands for what is added to its command, as with every device.

    Parameters
    ----------
    system : LinearSystem
        The system: from signals to inputs, effectors, or names of its own.
    rate : float, optional
        Calls a second, Hz, of a continuous system.
    about : TrimPoint, optional
        The point that it is about; without one it reads and sets whole values.
    name : str, optional
        What messages call it.

    Raises
    ------
    DravikError
        For a continuous system without a rate, and a sampled one with another.

    Examples
    --------
    >>> import dravik as dv
    >>> damper = dv.LinearSystem.gain("elevator", {"q": 0.4})
    >>> craft = dv.sample("tarn")
    >>> point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
    >>> run = dv.fly(craft, start=point, duration=1, devices=[dv.SystemDevice(damper, 100.0, about=point)])
    >>> bool(abs(run["q"]).max() < 1e-6)
    True
    """

    def __init__(
        self, system: LinearSystem, rate: float | None = None, *, about: "TrimPoint | None" = None, name: str = ""
    ) -> None:  # fmt: skip
        require(system, LinearSystem, "the system")
        own = None if system.sample_time is None else 1.0 / system.sample_time
        if rate is None and own is None:
            raise DravikError("a continuous system as a device has no rate", expected="rate=..., in Hz")
        self.rate: float = arguments.number(own if rate is None else rate, "rate")
        if not 0.0 < self.rate < math.inf or (own is not None and abs(self.rate - own) > 1e-9 * own):
            raise DravikError(
                f"the rate cannot be {rate!r} Hz", expected="above zero" if own is None else f"{own:g} Hz"
            )
        self.name = name or system.title or "system"
        sampled = system if own is not None else system.discretised(1.0 / self.rate, method="bilinear")
        self.reads, self.sets = list(system.inputs), list(system.outputs)
        self.units = {n: u for n, u in system.units.items() if n in self.sets}
        self.matrices = [m.tolist() for m in (sampled.A, sampled.B, sampled.C, sampled.D)]
        self.state = [0.0] * len(sampled.states)
        self.at = {n: 0.0 if about is None else float(about[n]) for n in self.reads}
        # an effector's name stands for an increment, which is zero at the point; an input has a value there
        self.rest = {n: self._held(n, about) for n in self.sets}

    @staticmethod
    def _held(name: str, about: "TrimPoint | None") -> float:
        if about is None or name not in about.craft.inputs:
            return 0.0
        return float(about.inputs[about.craft.input_names.index(name)])

    def update(self, t: float, signals: Mapping[str, float]) -> dict[str, float]:
        """Return what it sets until its next call."""
        a, b, c, d = (np.array(m, dtype=float) for m in self.matrices)
        u = np.array([signals[n] - self.at[n] for n in self.reads])
        x = np.array(self.state)
        y = (c @ x if len(x) else np.zeros(len(self.sets))) + d @ u
        self.state = (a @ x + b @ u).tolist() if len(x) else []
        return {n: self.rest[n] + float(v) for n, v in zip(self.sets, y, strict=True)}


class Signals(Mapping[str, float]):
    """The signals by name, read where they stand in the registers, and the values that devices have set."""

    def __init__(self, body: Body, board: dict[str, float], allowed: Sequence[str] | None) -> None:
        self._body, self._board, self._allowed = body, board, allowed

    def __getitem__(self, name: str) -> float:
        # what it reads was checked before the flight: a name that slips in later would be found after hours
        if self._allowed is not None and name not in self._allowed:
            raise DravikError(f"{name!r} is not among what the device reads", expected=", ".join(self._allowed))
        if name in self._board:
            return self._board[name]
        self._body.signal(name)
        return float(self._body.work.registers[self._body.registers[name]])

    def __contains__(self, name: object) -> bool:
        return name in (self._body.signals if self._allowed is None else self._allowed) or (
            self._allowed is None and name in self._board
        )

    def get(self, name: str, default: Any = None) -> Any:
        """Return a signal, or the default for one that is not there."""
        if name not in self:
            return default
        return self[name]

    def __iter__(self) -> Iterator[str]:
        return iter([*self._body.signals, *self._board] if self._allowed is None else self._allowed)

    def __len__(self) -> int:
        return len(list(iter(self)))


class Task:
    """A device in a flight: its name, its beat in steps, and the places of what it sets."""

    def __init__(
        self, device: Device, body: Body, board: dict[str, float], dt: float,
        setters: Setters,
    ) -> None:  # fmt: skip
        if not callable(getattr(device, "update", None)) or not isinstance(getattr(device, "rate", None), int | float):
            raise DravikError(
                f"a {type(device).__name__} cannot be a device",
                expected="an object with a rate in Hz and update(t, signals)",
            )
        self.device = device
        self.name = str(getattr(device, "name", "") or type(device).__name__)
        # counted in steps: a beat by time would drift from the integrator's over an hour
        self.every = self._steps(float(device.rate), dt)
        given = {what: getattr(device, what, None) for what in ("sets", "reads")}
        lists = {n: None if v is None else arguments.names(v, f"{self.name}.{n}") for n, v in given.items()}
        self.sets, reads = lists["sets"], lists["reads"]
        self.units: dict[str, str] = arguments.mapping(getattr(device, "units", {}), f"{self.name}.units")
        self._places: dict[str, int] = {}
        self._board, self._body, (self._set_parameter, self._change) = board, body, setters
        for name in self.units:
            if name not in (self.sets or ()):
                raise DravikError(
                    f"{self.name} gives a unit of {name!r}", expected="one of what it sets (sets = [...])"
                )
        for name in self.sets or ():
            if not self._is_input(name) and name not in body.parameters:
                if name in body.signals or name in board:
                    taken = "a signal of the aircraft" if name in body.signals else "set by a device before it"
                    raise DravikError(f"{self.name} sets {name!r}, which is {taken}", hint="another name")
                # there from the beginning, so that a device before the first call of its sender reads zero and not an
                # error
                board[name] = 0.0
        for name in reads or ():
            if name not in board and name not in body.signals:
                raise DravikError(
                    f"{self.name} reads {name!r}, which is neither a signal nor set by a device before it",
                    hint=nearest(name, [*body.signals, *board]),
                )
        self._signals = Signals(body, board, reads)

    @property
    def own(self) -> list[str]:
        """What it sets that is no input of the aircraft."""
        return [n for n in self.sets or () if not self._is_input(n) and n not in self._body.parameters]

    def _is_input(self, name: str) -> bool:
        return any(n in self._body.inputs for n in (name, f"{name}_increment", f"{name}_command"))

    def _steps(self, rate: float, dt: float) -> int:
        if rate == math.inf:  # in every step, whatever its length
            return 1
        per_call = 1.0 / (rate * dt) if rate > 0.0 else 0.0
        # a call between two steps would see signals of neither
        if per_call < 1.0 - 1e-9 or abs(per_call - round(per_call)) > 1e-6:
            raise DravikError(
                f"{self.name} at {rate:g} Hz does not fit steps of {dt:g} s", expected="a whole number of steps a call"
            )
        return round(per_call)

    def call(self, t: float, inputs: Floats) -> None:
        """Call the device, and put what it sets into the inputs and among the values of devices."""
        found = self.device.update(t, self._signals)
        for name, given in ({} if found is None else arguments.mapping(found, f"what {self.name} sets")).items():
            # told with the device's name and the time: further on it would be a state that is not finite
            if isinstance(given, bool | int | float | np.number) and not math.isfinite(given):
                raise DravikError(f"{self.name} set {name} to {given} at {t:g} s")
            value = arguments.number(float(given) if isinstance(given, bool) else given, f"{self.name} set {name}")
            if self.sets is not None and name not in self.sets:
                raise DravikError(f"{self.name} set {name!r} at {t:g} s", expected=f"what it sets: {list(self.sets)}")
            if name in self._board:
                self._board[name] = float(value)
                continue
            if kind_of_setting(name, self._body.parameters) == "parameter":
                self._set_parameter(name, float(value))
                continue
            if name in self._body.switches:
                # only a change counts: a mode that is set to itself must not begin anew at each beat
                if inputs[self._body.input_index(name)] != value:
                    self._change({name: float(value)})  # a mode or a fault begins, a law takes over
                continue
            if name not in self._places:
                self._places[name] = self._body.input_index(name)
            inputs[self._places[name]] = value

    def save(self) -> Any:
        """Return the device's state as plain data; raises DravikError for one that has none."""
        own = getattr(self.device, "save", None)
        if callable(own):
            return own()
        return {k: _plain(v, f"{self.name}.{k}") for k, v in getattr(self.device, "__dict__", {}).items()}

    def restore(self, data: Any) -> None:
        """Restore a saved state of the device."""
        own = getattr(self.device, "restore", None)
        if callable(own):
            own(data)
            return
        for key, value in data.items():
            now = getattr(self.device, key, None)
            # the generator object stays the device's own, it only goes on from the saved place
            if isinstance(now, np.random.Generator):
                now.bit_generator.state = _generator_state(value)
            else:
                setattr(self.device, key, _like(now, value))


class Tasks:
    """All devices of a flight in their order, and the values that they set for each other."""

    def __init__(
        self, devices: Sequence[Device], body: Body, dt: float, setters: Setters
    ) -> None:  # fmt: skip
        self.board: dict[str, float] = {}
        if isinstance(devices, str) or not isinstance(devices, Iterable):
            raise DravikError(f"devices cannot be {arguments.shown(devices)}", expected="a list of them")
        self.list = [Task(device, body, self.board, dt, setters) for device in devices]
        names = [task.name for task in self.list]
        for name in names:
            if names.count(name) > 1:
                raise DravikError(f"two devices are called {name!r}", hint="a name of its own for each (name = ...)")

    @property
    def units(self) -> dict[str, str]:
        """SI units of the values of devices."""
        return {name: task.units.get(name, "") for task in self.list for name in task.own}

    def until_beat(self, step: int) -> int:
        """Return the number of steps to the next beat after this one; a huge number without devices."""
        return min((task.every - step % task.every for task in self.list), default=1 << 62)

    def due(self, step: int) -> list[Task]:
        """Return the tasks that beat at this step, in order."""
        return [task for task in self.list if step % task.every == 0]

    def save(self) -> dict[str, Any]:
        """Return states and values of all devices as plain data."""
        return {"states": {task.name: task.save() for task in self.list}, "values": dict(self.board)}

    def restore(self, data: Mapping[str, Any]) -> None:
        """Restore saved states and values; raises DravikError for those of other devices."""
        if "refused" in data:
            raise DravikError(f"the devices were not saved: {data['refused']}")
        states = data.get("states", {})
        # by name and order: a state in another device would be taken without a word
        if list(states) != [task.name for task in self.list]:
            raise DravikError(
                f"what was saved has the devices {list(states)}", expected=str([task.name for task in self.list])
            )
        for task in self.list:
            task.restore(states[task.name])
        self.board.update(data.get("values", {}))


def _plain(value: Any, place: str) -> Any:
    """Return a value as plain data, copied."""
    if value is None or isinstance(value, bool | int | float | str):
        return value
    if isinstance(value, np.generic):
        return value.item()
    if isinstance(value, np.ndarray):
        return value.tolist()
    if isinstance(value, np.random.Generator):
        return _plain(dict(value.bit_generator.state), place)
    if isinstance(value, Mapping):
        return {str(k): _plain(v, place) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(v, place) for v in value]
    raise DravikError(
        f"{place} is a {type(value).__name__}, which cannot be saved with the flight",
        expected="numbers, text, lists, dicts, arrays, NumPy generators; or methods save() and restore(data)",
    )


def _like(now: Any, value: Any) -> Any:
    """Return plain data converted to the type of the present attribute."""
    if isinstance(now, np.ndarray):
        return np.array(value, dtype=now.dtype)
    if isinstance(now, tuple):
        return tuple(value)
    return value


def _generator_state(value: Any) -> Any:
    """Return a generator's state from plain data: its arrays of whole numbers were written as lists."""
    if isinstance(value, list):
        return np.array(value, dtype=np.uint64)
    return {k: _generator_state(v) for k, v in value.items()} if isinstance(value, dict) else value
