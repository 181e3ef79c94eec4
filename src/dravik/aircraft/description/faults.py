"""What goes wrong in flight, and when: faults of engines, controls and sensors, masses dropped.

Each kind is one class: its keys, the inputs it adds, what it rewrites, and what it does at its instant.
"""

import math
from collections.abc import Callable
from dataclasses import replace
from typing import Annotated, ClassVar, Literal

from pydantic import Discriminator, Tag, model_validator

from dravik.aircraft.description.fault_kind import Effect, FaultKind
from dravik.aircraft.description.signal_faults import BiasedSignal, DelayedSignal, FrozenSignal, NoisySignal
from dravik.definition.effectors import RATE_KIND, Effector
from dravik.definition.fields import Duration, Formula, Frequency, Mass
from dravik.definition.toml import kind_tag
from dravik.errors import DravikError
from dravik.formula import Node, choice_node, name_node, number_node, parse
from dravik.units import in_si, kind_of_unit, quantity

__all__ = [
    "BiasedSignal",
    "DelayedSignal",
    "Effect",
    "EngineFailure",
    "Fault",
    "FloatingControl",
    "FrozenSignal",
    "LostControl",
    "MassDrop",
    "NoisySignal",
    "OscillatingControl",
    "RunawayControl",
    "SlowControl",
    "StuckControl",
]

UNLIMITED = 1e6  # rate per second that stands for "no rate limit" where the tape needs a finite number


class EngineFailure(FaultKind):
    """An engine fails."""

    kind: Literal["engine_out"]  #: an engine fails
    engine: str  #: its name

    def effect(self, name: str, unit_of: Callable[[str], str]) -> Effect:
        """Fail the engine."""
        return Effect({f"fail_{self.engine}": 1.0})


class StuckControl(FaultKind):
    """A control stays where it is, or jumps to a ``position`` and stays there."""

    has_switch: ClassVar[bool] = True
    holds_value: ClassVar[bool] = True

    kind: Literal["stuck"]  #: a control stays where it is, or jumps to a position and stays
    control: str  #: its name
    position: str | float | None = None  #: where it jumps to, with its unit

    def control_node(self, name: str, effector: Effector, healthy: Node) -> Node:
        """Hold it; raises DravikError for a position that is not the control's kind of quantity."""
        if self.position is not None:
            quantity(self.position, effector.kind, where=f"faults.{name}.position")
        return choice_node(f"fault_{name}", name_node(f"held_{name}"), healthy)

    def effect(self, name: str, unit_of: Callable[[str], str]) -> Effect:
        """Hold where it is, unless the file says where."""
        switch = {f"fault_{name}": 1.0}
        if self.position is None:
            return Effect(switch, hold=(f"held_{name}", self.control))
        kind = kind_of_unit(unit_of(self.control))
        return Effect(switch | {f"held_{name}": in_si(self.position, kind, where=f"faults.{name}.position")})


class FloatingControl(FaultKind):
    """A control is free: it goes to a ``position`` that the air gives it, a formula (SI), within the time of a lag."""

    has_switch: ClassVar[bool] = True
    holds_value: ClassVar[bool] = True

    kind: Literal["floating"]  #: a control goes where the air pushes it
    control: str  #: its name
    position: Formula = 0.0  #: formula of where the air pushes it, SI
    lag: Duration = 0.05  #: time constant with which it goes there

    def control_node(self, name: str, effector: Effector, healthy: Node) -> Node:
        """Let it float."""
        switch, held = name_node(f"fault_{name}"), name_node(f"held_{name}")
        # the lag begins at rest where the control stood: of nothing before the fault, then of the rest
        rest = Node("op", 0, "mul", args=(switch, Node("op", 0, "sub", args=(parse(self.position), held))))
        free = Node("op", 0, "add", args=(held, Node("call", 0, "lag", args=(rest, number_node(self.lag)))))
        return choice_node(f"fault_{name}", free, healthy)

    def effect(self, name: str, unit_of: Callable[[str], str]) -> Effect:
        """Begin where the control is."""
        return Effect({f"fault_{name}": 1.0}, hold=(f"held_{name}", self.control))


class RunawayControl(FaultKind):
    """A control runs away: from where it stands it moves at a ``rate`` to the end of its range and stays there."""

    has_switch: ClassVar[bool] = True
    holds_value: ClassVar[bool] = True

    kind: Literal["runaway"]  #: a control moves at a rate to the end of its range, and stays there
    control: str  #: its name
    rate: str | float  #: how fast, with its unit; below zero towards the lower end
    position: str | float | None = None  #: where it stops, with its unit; the end of its range unless given

    def control_node(self, name: str, effector: Effector, healthy: Node) -> Node:
        """Let it run; raises DravikError for a rate of zero, and where nothing says where it ends."""
        rate = quantity(self.rate, RATE_KIND[effector.kind], where=f"faults.{name}.rate")
        if rate == 0.0:
            raise DravikError(
                "the rate is zero", where=f"faults.{name}.rate", expected='one of either sign: "-20 deg/s"'
            )
        if self.position is not None:
            end = quantity(self.position, effector.kind, where=f"faults.{name}.position")
        elif effector.range is not None:
            end = effector.range[1 if rate > 0.0 else 0]
        else:
            raise DravikError(
                "the control has no range to run to", where=f"faults.{name}", hint="position in the fault"
            )
        ran = f"held_{name} + integral(fault_{name}*({rate!r}))"
        # beyond the end already, it stays where it is
        stop = f"min({ran}, max({end!r}, held_{name}))" if rate > 0.0 else f"max({ran}, min({end!r}, held_{name}))"
        return choice_node(f"fault_{name}", parse(stop), healthy)

    def effect(self, name: str, unit_of: Callable[[str], str]) -> Effect:
        """Begin where the control is."""
        return Effect({f"fault_{name}": 1.0}, hold=(f"held_{name}", self.control))


class OscillatingControl(FaultKind):
    """A control swings by itself: added to what it is commanded, or in its place about where it stood."""

    has_switch: ClassVar[bool] = True
    holds_value: ClassVar[bool] = True

    kind: Literal["oscillating"]  #: a control swings by itself
    control: str  #: its name
    amplitude: str | float  #: how far to each side, with its unit
    frequency: Frequency  #: how many times a second
    deaf: bool = False  #: whether it no longer follows its command, and swings about where it stood

    def control_node(self, name: str, effector: Effector, healthy: Node) -> Node:
        """Let it swing within its range; raises DravikError for an amplitude or a frequency that is none."""
        size = quantity(self.amplitude, effector.kind, where=f"faults.{name}.amplitude")
        for key, value in (("amplitude", size), ("frequency", self.frequency)):
            if not value > 0.0:
                raise DravikError(f"the {key} is {value:g}", where=f"faults.{name}.{key}", expected="above zero")
        swing = parse(f"fault_{name}*({size!r})*sin(2*pi*integral(fault_{name}*({self.frequency!r})))")
        about = name_node(f"held_{name}") if self.deaf else healthy
        moved = Node("op", 0, "add", args=(about, swing))
        if effector.range is not None:
            low, high = (number_node(v) for v in effector.range)
            moved = Node("op", 0, "min", args=(Node("op", 0, "max", args=(moved, low)), high))
        return choice_node(f"fault_{name}", moved, healthy)

    def effect(self, name: str, unit_of: Callable[[str], str]) -> Effect:
        """Begin where the control is."""
        return Effect({f"fault_{name}": 1.0}, hold=(f"held_{name}", self.control))


class SlowControl(FaultKind):
    """A control moves at no more than another ``rate``."""

    has_switch: ClassVar[bool] = True

    kind: Literal["slow"]  #: a control moves more slowly
    control: str  #: its name
    rate: str | float  #: its greatest rate, with its unit

    def control_node(self, name: str, effector: Effector, healthy: Node) -> Node:
        """Give the actuator the other rate; raises DravikError for a control without dynamics."""
        place = {"actuator_1": 2, "actuator_2": 3}.get(healthy.name)
        if place is None:
            raise DravikError(f"the control of fault {name} has no rate", hint="rate or lag in the control")
        # infinite limits are left out of the tape; a choice between two rates needs a finite number for both
        rate = healthy.args[place]
        if rate.kind == "number" and math.isinf(rate.value):
            rate = number_node(UNLIMITED)
        slow = quantity(self.rate, RATE_KIND[effector.kind], where=f"faults.{name}.rate")
        args = list(healthy.args)
        args[place] = choice_node(f"fault_{name}", number_node(slow), rate)
        return replace(healthy, args=tuple(args))


class LostControl(FaultKind):
    """A control has no effect any more, as if it stood at zero; or a sensor gives no more samples: its last stays."""

    has_switch: ClassVar[bool] = True

    kind: Literal["lost"]  #: a control acts as if its position were zero; a sensor gives no more samples
    control: str = ""  #: name of the control
    signal: str = ""  #: name of the sensor, in place of a control

    @model_validator(mode="after")
    def _one_of_both(self) -> "LostControl":
        if bool(self.control) == bool(self.signal):
            raise DravikError("the fault concerns nothing" if not self.control else "the fault concerns both",
                              where="control", expected="a control, or a sensor as signal")  # fmt: skip
        return self

    def signal_node(self, name: str, unit: str, true: Node) -> Node | None:
        """Refuse a signal that is no sensor's: what it would read then is not said."""
        raise DravikError(
            f"the fault {name} loses {self.signal}, which is no sensor", where=f"faults.{name}.signal",
            expected="a sensor on board", hint='kind = "frozen" or "biased"',
        )  # fmt: skip

    def control_node(self, name: str, effector: Effector, healthy: Node) -> Node:
        """Let it stand at zero."""
        return choice_node(f"fault_{name}", number_node(0.0), healthy)


class MassDrop(FaultKind):
    """A tank loses what it holds at once, but for what is ``left``."""

    kind: Literal["mass_dropped"]  #: a tank loses what it holds at once
    tank: str  #: its name
    left: Mass = 0.0  #: mass that stays in it

    def effect(self, name: str, unit_of: Callable[[str], str]) -> Effect:
        """Empty the tank."""
        return Effect({}, tank=(self.tank, self.left))


Fault = Annotated[
    Annotated[EngineFailure, Tag("(engine_out)")]
    | Annotated[StuckControl, Tag("(stuck)")]
    | Annotated[FloatingControl, Tag("(floating)")]
    | Annotated[RunawayControl, Tag("(runaway)")]
    | Annotated[OscillatingControl, Tag("(oscillating)")]
    | Annotated[SlowControl, Tag("(slow)")]
    | Annotated[LostControl, Tag("(lost)")]
    | Annotated[FrozenSignal, Tag("(frozen)")]
    | Annotated[BiasedSignal, Tag("(biased)")]
    | Annotated[NoisySignal, Tag("(noisy)")]
    | Annotated[DelayedSignal, Tag("(delayed)")]
    | Annotated[MassDrop, Tag("(mass_dropped)")],
    Discriminator(kind_tag),
]
