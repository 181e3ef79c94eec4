"""Faults of what laws and commands read: of a signal, or of a sensor on board."""

from collections.abc import Callable
from typing import ClassVar, Literal

from dravik.aircraft.description.fault_kind import Effect, FaultKind
from dravik.definition.fields import Duration, Frequency
from dravik.errors import DravikError
from dravik.formula import Node, choice_node, name_node, number_node
from dravik.kernel.random_numbers import stream_of
from dravik.sensors import SEED
from dravik.units import kind_of_unit, quantity

__all__ = ["BiasedSignal", "DelayedSignal", "FrozenSignal", "NoisySignal"]


class FrozenSignal(FaultKind):
    """What laws and commands read of a signal stays as it is."""

    has_switch: ClassVar[bool] = True
    holds_value: ClassVar[bool] = True

    kind: Literal["frozen"]  #: what laws and commands read of a signal stays as it is
    signal: str  #: its name

    def signal_node(self, name: str, unit: str, true: Node) -> Node | None:
        """Read the value held."""
        return choice_node(f"fault_{name}", name_node(f"held_{name}"), true)

    def sensor_node(self, name: str, output: tuple[str, str], healthy: Node, period: float) -> Node:
        """Hold the last reading."""
        return Node("call", 0, "hold_while", args=(healthy, name_node(f"fault_{name}")))

    def effect(self, name: str, unit_of: Callable[[str], str]) -> Effect:
        """Hold the signal's present value."""
        return Effect({f"fault_{name}": 1.0}, hold=(f"held_{name}", self.signal))


class BiasedSignal(FaultKind):
    """What laws and commands read of a signal is the signal + ``by``."""

    has_switch: ClassVar[bool] = True

    kind: Literal["biased"]  #: sensor bias: laws and commands read the signal plus `by`
    signal: str  #: its name; or a sensor's, which reads `by` too much
    by: str | float  #: the bias, with its unit

    def sensor_node(self, name: str, output: tuple[str, str], healthy: Node, period: float) -> Node:
        """Add the bias."""
        found = self.signal_node(name, output[1], healthy)
        return healthy if found is None else found

    def signal_node(self, name: str, unit: str, true: Node) -> Node | None:
        """Add the bias."""
        by = quantity(self.by, kind_of_unit(unit), where=f"faults.{name}.by")
        # the switch as a factor: 0 before the fault, 1 after, and no branch in the tape
        shift = Node("op", 0, "mul", args=(name_node(f"fault_{name}"), number_node(by)))
        return Node("op", 0, "add", args=(true, shift))


class NoisySignal(FaultKind):
    """What laws and commands read of a signal, or what a sensor reads, has noise besides."""

    has_switch: ClassVar[bool] = True

    kind: Literal["noisy"]  #: a signal or a sensor has noise besides
    signal: str  #: name of the signal or the sensor
    by: str | float  #: standard deviation of the noise, with its unit
    rate: Frequency = 100.0  #: how often it changes, of a signal; a sensor's changes with its samples

    def signal_node(self, name: str, unit: str, true: Node) -> Node | None:
        """Add noise that changes at the rate."""
        return self._noisy(name, (self.signal, unit), true, (number_node(0.0), 1.0 / self.rate))

    def sensor_node(self, name: str, output: tuple[str, str], healthy: Node, period: float) -> Node:
        """Add noise that changes with the samples."""
        return self._noisy(name, output, healthy, (name_node(SEED), period or 1.0 / self.rate))

    def _noisy(self, name: str, output: tuple[str, str], healthy: Node, drawn: tuple[Node, float]) -> Node:
        place = f"faults.{name}.by"
        by = quantity(self.by, kind_of_unit(output[1]), where=place)
        if not by > 0.0:
            raise DravikError(f"the noise is {by:g}", where=place, expected="a standard deviation above zero")
        # where no sensor is on board there is no seed of theirs: the noise of a signal has the seed 0
        seed, period = drawn
        stream = float(stream_of(f"fault {name} of {output[0]}"))
        noise = Node("call", 0, "random", args=(seed, *(number_node(v) for v in (stream, period, 0.0, by, 0.0))))
        shift = Node("op", 0, "mul", args=(name_node(f"fault_{name}"), noise))
        return Node("op", 0, "add", args=(healthy, shift))


class DelayedSignal(FaultKind):
    """What laws and commands read of a signal, or what a sensor reads, comes later."""

    has_switch: ClassVar[bool] = True

    kind: Literal["delayed"]  #: a signal or a sensor comes later
    signal: str  #: name of the signal or the sensor
    delay: Duration  #: how much later: a whole number of the flight's steps
    rate: Frequency = 100.0  #: samples of a signal that are kept meanwhile; of a sensor those it has

    def signal_node(self, name: str, unit: str, true: Node) -> Node | None:
        """Read a sample from before."""
        return self.sensor_node(name, (self.signal, unit), true, 1.0 / self.rate)

    def sensor_node(self, name: str, output: tuple[str, str], healthy: Node, period: float) -> Node:
        """Read a sample from before."""
        numbers = (number_node(v) for v in (0.0, period or 1.0 / self.rate, self.delay))
        late = Node("call", 0, "reading", args=(healthy, healthy, *numbers))
        return choice_node(f"fault_{name}", late, healthy)
