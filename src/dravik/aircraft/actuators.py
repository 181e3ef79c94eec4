"""Effectors as formulas: dynamics, rate and stops between command and position, and what may go wrong there."""

import math
from collections.abc import Mapping
from dataclasses import replace

from dravik.aircraft.faults import Fault, Floating, Lost, Slow, Stuck
from dravik.effectors import RATE_KIND, Effector
from dravik.errors import DravikError
from dravik.formula import Node, choice_node, name_node, number_node, parse
from dravik.units import quantity

__all__ = ["effector_node"]

FOLLOW_TIME = 0.02  # s, of an effector with a rate limit but no lag of its own
UNLIMITED = 1e6  # rad/s or what it is: a rate that is none, but a number


def effector_node(name: str, effector: Effector, faults: Mapping[str, Fault]) -> Node:
    """Return the position of an effector as a formula of its command, with the faults that concern it.

    Raises DravikError for a slow control that has no rate.
    """
    node = _healthy(name, effector)
    for key, fault in faults.items():
        if getattr(fault, "control", None) != name:
            continue
        if isinstance(fault, Stuck):
            if fault.position is not None:
                quantity(fault.position, effector.kind, where=f"faults.{key}.position")
            node = choice_node(f"fault_{key}", name_node(f"held_{key}"), node)
        elif isinstance(fault, Floating):
            free = Node("call", 0, "lag", args=(parse(fault.position), number_node(fault.lag)))
            node = choice_node(f"fault_{key}", free, node)
        elif isinstance(fault, Lost):
            node = choice_node(f"fault_{key}", number_node(0.0), node)
        elif isinstance(fault, Slow):
            node = _slowed(key, fault, effector, node)
    return node


def _slowed(key: str, fault: Slow, effector: Effector, node: Node) -> Node:
    """Return an actuator with another rate once the fault has happened; one without a rate limit gets one."""
    if node.name not in ("actuator_1", "actuator_2"):
        raise DravikError(f"the control of fault {key} has no rate", hint="rate or lag in the control")
    place = 2 if node.name == "actuator_1" else 3
    rate = node.args[place]
    if rate.kind == "number" and math.isinf(rate.value):
        rate = number_node(UNLIMITED)
    slow = quantity(fault.rate, RATE_KIND[effector.kind], where=f"faults.{key}.rate")
    args = list(node.args)
    args[place] = choice_node(f"fault_{key}", number_node(slow), rate)
    return replace(node, args=tuple(args))


def _healthy(name: str, effector: Effector) -> Node:
    """Return the position of an effector: a state with dynamics, or its limited command without."""
    low, high = effector.range or (-math.inf, math.inf)
    command = name_node(f"{name}_command")
    rate = math.inf if effector.rate is None else effector.rate
    if effector.frequency is not None:
        parts = (effector.frequency, effector.damping, rate, low, high)
        return Node("call", 0, "actuator_2", args=(command, *(number_node(v) for v in parts)))
    if effector.lag is not None or effector.rate is not None:
        parts4 = (effector.lag or FOLLOW_TIME, rate, low, high)
        return Node("call", 0, "actuator_1", args=(command, *(number_node(v) for v in parts4)))
    if math.isinf(low) and math.isinf(high):
        return command
    return Node("op", 0, "travel", args=(command, number_node(low), number_node(high)))
