"""What every kind of fault has: the inputs it adds, what it rewrites, and what it does at its instant."""

from collections.abc import Callable
from typing import ClassVar, NamedTuple

from dravik.definition.effectors import Effector
from dravik.definition.signals import InputSpec
from dravik.definition.timed import Timed
from dravik.formula import Node

__all__ = ["Effect", "FaultKind"]


class Effect(NamedTuple):
    """What a flight does when a fault happens.

    ``inputs`` are set (SI); ``hold`` is an input and the signal whose present value it takes over; ``tank`` is a name
    and the mass left in it, kg.
    """

    inputs: dict[str, float]
    hold: tuple[str, str] | None = None
    tank: tuple[str, float] | None = None


class FaultKind(Timed):
    """A fault, which happens once.

    A kind says what it concerns by one of the keys ``engine``, ``control``, ``signal`` and ``tank``. The methods get
    the fault's name, which is not among its keys.
    """

    has_switch: ClassVar[bool] = False  # whether the input fault_NAME becomes 1 when it happens
    holds_value: ClassVar[bool] = False  # whether the input held_NAME takes over a value then

    def inputs(self, name: str) -> list[InputSpec]:
        """Return the inputs that tell the tape whether it has happened, and what it holds."""
        found = []
        if self.has_switch:
            found.append(InputSpec(f"fault_{name}", "", 0.0, 1.0, meaning=f"1: fault {name} has happened"))
        if self.holds_value:
            found.append(InputSpec(f"held_{name}", "", meaning=f"where fault {name} holds it"))
        return found

    def control_node(self, name: str, effector: Effector, healthy: Node) -> Node:
        """Return the position of the control it concerns, from that of a healthy one."""
        return healthy

    def signal_node(self, name: str, unit: str, true: Node) -> Node | None:
        """Return what laws and commands read of the signal it concerns; None where it concerns no sensor."""
        return None

    def sensor_node(self, name: str, output: tuple[str, str], healthy: Node, period: float) -> Node:
        """Return what an output of the sensor it concerns (name, unit) reads, from that of a healthy one.

        Raises DravikError for quantities that do not fit.
        """
        return healthy

    def check(self, place: Callable[[str], str]) -> None:
        """Raise DravikError for quantities that do not fit; ``place`` names a key of the fault in messages."""

    def effect(self, name: str, unit_of: Callable[[str], str]) -> Effect:
        """Return what the flight does at its instant; ``unit_of`` gives the SI unit of a signal."""
        return Effect({f"fault_{name}": 1.0} if self.has_switch else {})
