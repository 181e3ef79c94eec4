"""Functions with states: what value each gives, and at what rate its states move.

They compile to ordinary instructions, so trimming, linearising and the
integrator see one kind of state. ``actuator_1`` and ``actuator_2`` are not for formulas: the
aircraft's effectors and engines are made of them; ``random``, ``reading`` and ``ticks`` of its sensors.
"""

from typing import NoReturn, Protocol

import numpy as np

from dravik.formula.functions import FUNCTIONS
from dravik.formula.layout import StateSlot
from dravik.formula.parse import Node

__all__ = ["STATEFUL", "direct_names", "rates", "value"]

#: Each function with states, and the arguments its value needs at the same instant.
STATEFUL: dict[str, tuple[int, ...]] = {
    **{name: f.through for name, f in FUNCTIONS.items() if f.stateful},  # with memory functions
    "actuator_1": (),  # command, time constant, rate, low, high
    "actuator_2": (),  # command, frequency, damping, rate, low, high
    "random": (),  # seed, stream, period, share kept, scale, scale at first
    "reading": (0, 1, 2),  # x, x outside a flight, condition under which no sample is taken, period, delay
    "ticks": (0,),  # condition under which no sample is taken, period
}


class Builder(Protocol):
    """What these functions write to: a tape while it is made."""

    values: list[float]
    ranks: list[int]

    def compile(self, node: Node) -> int:
        """Return the register that holds a node's value."""

    def emit(self, op: str, *args: int, position: int = 0) -> int:
        """Append an instruction; return its register."""

    def constant(self, value: float) -> int:
        """Return the register of a constant."""

    def is_constant(self, register: int) -> bool:
        """Whether a register holds a constant."""

    def new_state(self, suffix: str, node: Node, *, partner: StateSlot | None = None) -> StateSlot:
        """Add a state for a function in the formula being compiled."""

    def fail(self, what: str, position: int = 0, hint: str = "") -> NoReturn:
        """Raise a FormulaError at a character of the formula being compiled."""


def direct_names(node: Node) -> list[str]:
    """Return the names that a formula's value needs at the same instant.

    Parameters
    ----------
    node : Node
        The formula's tree.

    Returns
    -------
    list of str
    """
    found, stack = [], [node]
    while stack:
        current = stack.pop()
        if current.kind == "name":
            found.append(current.name)
        # a state stands between the other arguments and the value: they move it later, so no loop closes through them
        elif current.kind == "call" and current.name in STATEFUL:
            stack.extend(current.args[i] for i in STATEFUL[current.name])
        else:
            stack.extend(current.args)
    return found


def _argument(builder: Builder, node: Node, i: int, *, positive: bool = False) -> int:
    register = builder.compile(node.args[i])
    # a time constant that is a formula can only be watched in flight; a constant one is refused at once
    if positive and builder.is_constant(register) and not builder.values[register] > 0.0:
        name = FUNCTIONS[node.name].arguments[i] if node.name in FUNCTIONS else "value"
        builder.fail(f"{node.name} needs a {name} above zero", node.args[i].position)
    return register


def value(builder: Builder, node: Node) -> int:
    """Add the states of one call and return the register of its value."""
    match node.name:
        case "actuator_1":
            return builder.new_state("", node).register
        case "actuator_2":
            slot = builder.new_state("", node)
            builder.new_state("rate", node, partner=slot)
            return slot.register
        case "second_order" | "delay":
            slot = builder.new_state(node.name, node)
            rate = builder.new_state(f"{node.name}_rate", node, partner=slot)
            if node.name == "second_order":
                return slot.register
            # second-order Padé approximation of exp(-s T), written as 1 - (12/T) s / (s**2 + (6/T) s + 12/T**2)
            x = _argument(builder, node, 0)
            gain = builder.emit("div", builder.constant(12.0), _argument(builder, node, 1, positive=True))
            return builder.emit("sub", x, builder.emit("mul", gain, rate.register))
        case "integral" | "integral_while" | "state":
            slot = builder.new_state("" if node.name == "state" else "integral", node)
            k = 3 if node.name == "integral_while" else 1
            start = _argument(builder, node, k)
            if not builder.is_constant(start):
                builder.fail(f"the initial value of {node.name} must be a constant", node.args[k].position)
            slot.initial, slot.is_integral = builder.values[start], node.name != "state"
            # the integrator clamps states only after a step: clamp the value too, for the Runge-Kutta stages within
            low, high = _argument(builder, node, k + 1), _argument(builder, node, k + 2)
            unlimited = _limits(builder, low, high) == (-1, -1)
            return slot.register if unlimited else builder.emit("limit", slot.register, low, high)
    slot = builder.new_state(node.name, node)
    if node.name in ("lag", "rate_limit"):
        return slot.register
    # washout and lead-lag pass their argument directly, so they are part of an algebraic loop through it
    x = _argument(builder, node, 0)
    passed = builder.emit("sub", x, slot.register)
    if node.name == "washout":
        return passed
    ratio = builder.emit("div", _argument(builder, node, 1), _argument(builder, node, 2, positive=True))
    return builder.emit("add", slot.register, builder.emit("mul", ratio, passed))


def rates(b: Builder, slot: StateSlot, node: Node) -> None:
    """Compile the rate of one state of a call, and its limits if it has any."""
    match node.name:
        case "lag" | "washout":
            slot.rate = _first_order(b, slot, node, 1)
        case "lead_lag":
            slot.rate = _first_order(b, slot, node, 2)
        case "rate_limit":
            # the lag gives the rate something to be limited: without it the wish would be a step of infinite rate
            wish = _first_order(b, slot, node, 2)
            slot.rate = b.emit("rate_clip", wish, _argument(b, node, 1, positive=True), position=node.position)
        case "integral" | "integral_while" | "state":
            k = 3 if node.name == "integral_while" else 1
            x, low, high = _argument(b, node, 0), _argument(b, node, k + 1), _argument(b, node, k + 2)
            if b.is_constant(low) and b.is_constant(high) and b.values[low] >= b.values[high]:
                b.fail(f"the lower limit of {node.name} is not below its upper limit", node.args[k + 1].position)
            if node.name == "integral_while":
                start, time = _argument(b, node, k), _argument(b, node, 2, positive=True)
                # while the condition is false the value fades to where it starts, so that the next run begins without a
                # jump
                back = b.emit("div", b.emit("sub", start, slot.register), time)
                x = b.emit("if_else", _argument(b, node, 1), x, back)
            slot.rate = b.emit("hold_at_limit", x, slot.register, low, high, position=node.position)
            slot.low, slot.high = _limits(b, low, high)
        case "second_order" | "delay":
            _second_order(b, slot, node)
        case "actuator_1":
            command, low, high = _argument(b, node, 0), _argument(b, node, 3), _argument(b, node, 4)
            reached = b.emit("position_limit", command, low, high)
            wish = b.emit("div", b.emit("sub", reached, slot.register), _argument(b, node, 1))
            slot.rate = b.emit("rate_clip", wish, _argument(b, node, 2))
            slot.low, slot.high = _limits(b, low, high)
        case "actuator_2":
            _actuator_second_order(b, slot, node)


def _limits(b: Builder, low: int, high: int) -> tuple[int, int]:
    def kept(register: int) -> int:
        # no limit at all costs less than one that is never reached
        return -1 if b.is_constant(register) and np.isinf(b.values[register]) else register

    return kept(low), kept(high)


def _first_order(b: Builder, slot: StateSlot, node: Node, time_constant: int) -> int:
    error = b.emit("sub", _argument(b, node, 0), slot.register, position=node.position)
    return b.emit("div", error, _argument(b, node, time_constant, positive=True), position=node.position)


def _second_order(b: Builder, slot: StateSlot, node: Node) -> None:
    assert slot.partner is not None
    # the rate of the position is the rate state itself
    if not slot.is_rate:
        slot.rate = slot.partner.register
        return
    position, rate = slot.partner, slot
    x = _argument(b, node, 0)
    first = _argument(b, node, 1, positive=True)
    if node.name == "second_order":
        stiffness = b.emit("mul", first, first)
        error = b.emit("sub", x, position.register)
        spring = b.emit("mul", stiffness, error)
        friction = b.emit("mul", b.emit("mul", b.constant(2.0), _argument(b, node, 2)), first)
    else:
        # the same Padé fraction as in value: x_dot_dot = input - (6/T) x_dot - (12/T^2) x
        stiffness = b.emit("div", b.constant(12.0), b.emit("mul", first, first))
        spring = b.emit("sub", x, b.emit("mul", stiffness, position.register))
        friction = b.emit("div", b.constant(6.0), first)
    slot.rate = b.emit("sub", spring, b.emit("mul", friction, rate.register))


def _actuator_second_order(b: Builder, slot: StateSlot, node: Node) -> None:
    assert slot.partner is not None
    command, frequency, damping, limit, low, high = (_argument(b, node, i) for i in range(6))
    # the rate limit acts on the motion, not on the spring: the actuator accelerates as if it were free
    if not slot.is_rate:
        slot.rate = b.emit("rate_clip", slot.partner.register, limit)
        slot.low, slot.high = _limits(b, low, high)
        return
    position, rate = slot.partner, slot
    reached = b.emit("position_limit", command, low, high)
    spring = b.emit("mul", b.emit("mul", frequency, frequency), b.emit("sub", reached, position.register))
    friction = b.emit("mul", b.emit("mul", b.constant(2.0), damping), frequency)
    slot.rate = b.emit("sub", spring, b.emit("mul", friction, rate.register))
    # without this the second-order actuator's rate state would wind up while its rate is limited
    slot.high = _limits(b, limit, limit)[1]
    slot.low = b.emit("neg", limit) if slot.high >= 0 else -1
