"""A trim as a statement: equations that must hold, and what is free to make them hold."""

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.aircraft.plant import COORDINATES
from dravik.contact import contact_states
from dravik.definition import arguments
from dravik.errors import DravikError, nearest
from dravik.formula import StateSlot
from dravik.motion.minimal_coordinates import N_CHART
from dravik.units import in_si, kind_of_unit

__all__ = ["Equation", "Free", "Statement", "coordinates_of"]

Floats = NDArray[np.float64]
Quantity = str | float
RATE_OF = "rate of "


class Free(NamedTuple):
    """Something that may move: a coordinate, a state or an input.

    Parameters
    ----------
    name : str
        Its name.
    start : float, default 0
        Where the search begins, SI.
    scale : float, default 1
        A typical change of it, SI.
    low, high : float
        Its limits, SI. None unless given.
    hard : bool, default False
        Whether the limits are never exceeded during the search, because formulas may be undefined beyond them.

    Examples
    --------
    >>> import dravik as dv
    >>> dv.Free("throttle", start=0.4, low=0.0, high=0.8).high
    0.8
    """

    name: str
    start: float = 0.0
    scale: float = 1.0
    low: float = -math.inf
    high: float = math.inf
    hard: bool = False


class Equation(NamedTuple):
    """A signal, or the rate of a state, equals a value, or another signal plus it.

    Parameters
    ----------
    of : str
        The signal, or the state whose rate is meant.
    value : float, default 0
        The value, SI.
    other : str, optional
        Another signal, to which the value is added.
    is_rate : bool, default False
        Whether the rate of a state is meant.
    weight : float, default 1
        Multiplies the residual.
    label : str, optional
        What reports call it.
    is_direction : bool, default False
        Whether it is an angle on the full circle, such as a track, whose difference is taken the shorter way.

    Examples
    --------
    >>> import dravik as dv
    >>> dv.Equation("alpha", is_rate=True).name, dv.Equation("theta", other="alpha").name
    ('alpha_dot', 'theta - alpha')
    """

    of: str
    value: float = 0.0
    other: str = ""
    is_rate: bool = False
    weight: float = 1.0
    label: str = ""
    is_direction: bool = False

    @property
    def name(self) -> str:
        """What it is called in reports."""
        if self.label:
            return self.label
        return f"{self.of}_dot" if self.is_rate else f"{self.of} - {self.other}" if self.other else self.of


@dataclass(frozen=True)
class Statement:
    """The equations, the unknowns, and a point: everything that is not free keeps its value there.

    Parameters
    ----------
    title : str
        What it says, in words.
    coordinates : str
        ``"air"`` (airspeed, alpha, beta) or ``"body"`` (u, v, w).
    state : array, shape (n,)
        North, east, altitude; those; phi, theta, psi; p, q, r; then the states of actuators, engines and formulas. SI.
    inputs : array, shape (m,)
        Inputs in the kernel's order, SI.
    free : tuple of Free
        What may move.
    equations : tuple of Equation
        What must hold.
    is_checked : bool, default False
        Made by Dravik itself; other statements are checked before they are solved.
    is_momentary : bool, default False
        It holds at one instant only, as a pull-up does.

    Examples
    --------
    >>> import dravik as dv
    >>> level = dv.steady(dv.sample("tarn"), airspeed="62 m/s", altitude="300 m")
    >>> len(level.equations) == len(level.free)
    True
    """

    title: str
    coordinates: str
    state: Floats
    inputs: Floats
    free: tuple[Free, ...]
    equations: tuple[Equation, ...]
    is_checked: bool = False
    is_momentary: bool = False

    @classmethod
    def of(
        cls, craft: Aircraft, *, equations: Mapping[str, Quantity], free: Sequence[str | Free],
        start: Mapping[str, Quantity] | None = None, coordinates: str = "air", settled: bool = True,
    ) -> "Statement":  # fmt: skip
        """Return a statement from names: what equals what, what may move, and the point where it starts.

        ``equations`` map a signal to a value (SI, or text with a unit) or to the name of another signal; the key
        ``"rate of NAME"`` stands for the rate of a state. ``free`` names coordinates, states and inputs, or gives
        ``Free`` with limits of its own. ``start`` gives coordinates, states and inputs. ``settled`` adds actuators,
        engines and formulas with states: free, and standing still. Raises DravikError for names that are not there.

        >>> import dravik as dv
        >>> craft = dv.sample("tarn")
        >>> rates = {f"{n}_dot": 0.0 for n in ("airspeed", "alpha", "beta", "p", "q", "r")}
        >>> level = dv.Statement.of(
        ...     craft, equations={**rates, "flight_path": 0.0, "nz": 1.0},
        ...     free=["alpha", "theta", "phi", "airspeed", "pitch_stick", "roll_stick", "pedal", "throttle"],
        ...     start={"altitude": "300 m", "airspeed": "60 m/s", "alpha": "4 deg", "theta": "4 deg", "throttle": 0.4},
        ... )
        >>> dv.trim(craft, level, strict=False).unknowns[:2]
        ['alpha', 'theta']
        """
        names = coordinates_of(craft, coordinates)
        z = np.zeros(len(names))
        # states of functions start where a flight would start them
        z[N_CHART:] = [slot.initial for slot in craft.tape.states]
        u = craft.default_inputs()
        for name, value in arguments.mapping(start or {}, "start").items():
            if name in names:
                i = names.index(name)
                z[i] = in_si(value, kind_of_unit(craft.signal(name).unit), where=f"start {name}")
            else:
                i = craft.input_index(name)
                u[i] = craft.inputs_in_si({name: value})[craft.input_names[i]]
        # an actuator or a shaft that is forgotten would make the trim depend on where it happened to stand
        slots = [(f, e) for f, e in states_at_rest(craft) if settled]
        made = [_moving(craft, item, names, z, u) for item in _listed(free)]
        taken = {f.name for f in made}
        # what the statement frees itself keeps the limits it gave, and no second equation
        moving = [(f, e) for f, e in slots if f.name not in taken]
        given = arguments.mapping(equations, "equations")
        held = [_equation(craft, key, value, names) for key, value in given.items()]
        title = ", ".join(f"{key} = {value}" for key, value in given.items() if value not in (0, 0.0))
        return cls(
            title or "equilibrium",
            coordinates,
            z,
            u,
            (*made, *(f for f, _ in moving)),
            (*held, *(e for _, e in moving)),
        )

    def holding(self, craft: Aircraft, equations: Mapping[str, Quantity]) -> "Statement":
        """Return the statement with more equations, as ``of`` takes them."""
        names = coordinates_of(craft, self.coordinates)
        given = arguments.mapping(equations, "equations")
        more = tuple(_equation(craft, key, value, names) for key, value in given.items())
        return replace(self, equations=(*self.equations, *more), is_checked=False)

    def freeing(self, craft: Aircraft, *free: str | Free) -> "Statement":
        """Return the statement with more that is free."""
        names = coordinates_of(craft, self.coordinates)
        made = [_moving(craft, item, names, self.state, self.inputs) for item in free]
        kept = [f for f in self.free if f.name not in {m.name for m in made}]
        return replace(self, free=(*kept, *made), is_checked=False)

    def without(self, *names: str) -> "Statement":
        """Return the statement without some of its equations (by name), or of what is free.

        Raises DravikError for a name that is neither.
        """
        known = [*(e.name for e in self.equations), *(f.name for f in self.free)]
        for name in arguments.names(names, "names"):
            if name not in known:
                raise DravikError(f"{name!r} is no equation of the trim, and not free", hint=nearest(name, known))
        free = tuple(f for f in self.free if f.name not in names)
        return replace(
            self, free=free, equations=tuple(e for e in self.equations if e.name not in names), is_checked=False
        )

    def check(self) -> None:
        """Raise DravikError for duplicates, and where the numbers of equations and unknowns differ."""
        for what, names in (("is free", [f.name for f in self.free]), ("is held", [e.name for e in self.equations])):
            twice = [n for n in dict.fromkeys(names) if names.count(n) > 1]
            if twice:
                raise DravikError(f"{twice[0]} {what} twice", where=self.title)
        more = len(self.equations) - len(self.free)
        if more:
            how = f"{abs(more)} too {'many' if more > 0 else 'few'}"
            text = f"{len(self.equations)} equations for {len(self.free)} unknowns: {how}"
            hint = "free an input or a coordinate, or take an equation away"
            raise DravikError(
                text, where=self.title, hint=hint if more > 0 else "another equation, or less that is free"
            )


def coordinates_of(craft: Aircraft, coordinates: str) -> list[str]:
    """Return the names of all that a trim's state holds; raises DravikError for other than ``air`` and ``body``."""
    if coordinates not in COORDINATES:
        raise DravikError(f"there are no coordinates {coordinates!r}", expected="'air' or 'body'")
    return [*COORDINATES[coordinates][1], *craft.function_states]


def states_at_rest(craft: Aircraft) -> list[tuple[Free, Equation]]:
    """Return each state of an actuator, engine or formula that a trim finds, with the equation that it stands still.

    Integrals are left out, and so are the states of legs, which are steady at any deflection when nothing moves.
    """
    kept: list[tuple[Free, Equation]] | None = craft.derived.get("states at rest")
    if kept is not None:
        return kept
    limits, legs, found = craft.limits, contact_states(craft.configuration.legs), list[tuple[Free, Equation]]()
    for slot in craft.tape.states:
        if slot.is_integral or slot.name in legs:
            continue
        low, high = limits.get(slot.name, (-math.inf, math.inf))
        # at rest where its range allows that, else at its lower end: a governor's pitch starts at fine
        start = low if math.isfinite(high) and not low <= 0.0 <= high else slot.initial
        hard = slot.name not in limits
        if hard:
            low, high = constant_limits(craft, slot)
        # shaft speeds are hundreds of rad/s: scale them and their rates to order one
        size = max(1.0, abs(slot.initial))
        still = Equation(slot.name, is_rate=True, weight=1.0 / size, label=f"{slot.name}_rate_of_change")
        found.append((Free(slot.name, min(max(start, low), high), size, low, high, hard), still))
    craft.derived["states at rest"] = found
    return found


def constant_limits(craft: Aircraft, slot: StateSlot) -> tuple[float, float]:
    """Return the limits of a state where they are constants: its formula may be undefined beyond them."""
    # registers of limits: -1 is none
    if slot.low < 0 and slot.high < 0:
        return -math.inf, math.inf
    registers, written = craft.tape.registers, craft.tape.code[:, 1]
    low = float(registers[slot.low]) if slot.low >= 0 and slot.low not in written else -math.inf
    high = float(registers[slot.high]) if slot.high >= 0 and slot.high not in written else math.inf
    return (low, high) if low < high else (-math.inf, math.inf)


def _equation(craft: Aircraft, key: str, value: Quantity, names: Sequence[str]) -> Equation:
    if key.startswith(RATE_OF):
        of = key.removeprefix(RATE_OF)
        if of not in names:
            raise DravikError(f"there is no state {of!r}", where=key, hint=nearest(of, names))
        return Equation(of, arguments.number(value, key), is_rate=True)
    unit = craft.signal(key).unit
    if isinstance(value, str) and value in craft.signals:
        return Equation(key, other=value)
    return Equation(key, in_si(value, kind_of_unit(unit), where=key))


def _listed(free: object) -> list[object]:
    if isinstance(free, str) or not isinstance(free, Iterable):
        raise DravikError(f"free cannot be {arguments.shown(free)}", expected="a list of names, or of Free")
    return list(free)


def _moving(craft: Aircraft, item: object, names: Sequence[str], z: Floats, u: Floats) -> Free:
    """Return what may move, from a name or as it is given."""
    if not isinstance(item, Free):
        return _free(craft, arguments.names([item], "free")[0], names, z, u)
    start, scale = (arguments.number(getattr(item, n), f"{n} of {item.name}") for n in ("start", "scale"))
    limits = item.low, item.high
    if not all(isinstance(v, int | float) for v in limits) or not item.low < item.high or not scale > 0.0:
        raise DravikError(
            f"{item.name} cannot move between {item.low!r} and {item.high!r}",
            expected="limits that rise, a scale above zero",
        )
    known = [*names, *craft.inputs]
    if item.name not in known:
        raise DravikError(f"there is no {item.name!r} to move", hint=nearest(item.name, known))
    return item._replace(start=min(max(start, item.low), item.high))


def _free(craft: Aircraft, name: str, names: Sequence[str], z: Floats, u: Floats) -> Free:
    """Return what may move with the limits that it has in the aircraft, starting where it stands."""
    if name in names:
        low, high = craft.limits.get(name, (-math.inf, math.inf))
        # short of the right angle, where Euler angles and angles to the flow lose their meaning
        wide = {"theta": 1.55, "phi": 1.5, "alpha": 1.4, "beta": 1.4}.get(name, math.inf)
        # a step of one: 10 m/s, 100 m or a radian, so that a search moves all of them alike
        scale = {"airspeed": 10.0, "altitude": 100.0, "u": 10.0, "v": 10.0, "w": 10.0}.get(name, 1.0)
        return Free(name, float(z[names.index(name)]), scale, max(low, -wide), min(high, wide))
    i = craft.input_index(name)
    spec = list(craft.inputs.values())[i]
    span = spec.high - spec.low
    return Free(spec.name, float(u[i]), 0.5 * span if math.isfinite(span) else 1.0, spec.low, spec.high)
