"""Loops closed one after another around a linear system, and taken away again: each by its controller and its name."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import NamedTuple, cast

import numpy as np

from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.loops.elements import PID
from dravik.loops.open_loop_response import count_growing, least
from dravik.systems import LinearSystem, wired

__all__ = ["ClosedLoops", "SteadyErrors", "closed_pid", "steady_errors"]

AT_REST = 1e-9  # of the largest root: an integral


@dataclass(frozen=True)
class ClosedLoops:
    """A plant with the loops that are closed around it, in their order.

    Each loop is a controller that reads outputs of the plant, commands from outside, or what an outer loop gives, and
    adds to inputs of the plant or gives the command of an inner loop. Nothing changes it: every method returns another.

    >>> import dravik as dv
    >>> plant = dv.LinearSystem.filtered("theta", "elevator", [1.0], [1.0, 0.5, 0.0])
    >>> inner = ClosedLoops(plant).close("attitude", PID(4.0).system("elevator", command="wanted", measured="theta"))
    >>> round(float(inner.system().gains()[0, -1]), 9)
    1.0
    """

    plant: LinearSystem
    loops: dict[str, LinearSystem] = field(default_factory=dict)

    def __post_init__(self) -> None:
        require(self.plant, LinearSystem, "the plant")

    def close(self, name: str, controller: LinearSystem) -> "ClosedLoops":
        """Return it with one more loop, the earlier ones kept; raises DravikError for a name that is taken."""
        require(controller, LinearSystem, f"the controller of {name}")
        if name in self.loops:
            raise DravikError(f"the loop {name!r} is closed already", hint="without(name) first")
        known = {*self.plant.inputs, *(i for c in self.loops.values() for i in c.inputs)}
        if not set(controller.outputs) & known:
            raise DravikError(
                f"nothing reads {', '.join(controller.outputs)} of the loop {name!r}", expected=", ".join(sorted(known))
            )
        return ClosedLoops(self.plant, {**self.loops, name: controller})

    def without(self, name: str) -> "ClosedLoops":
        """Return it without one of its loops; raises DravikError for a name that it does not have."""
        if name not in self.loops:
            raise DravikError(f"there is no loop {name!r}", expected=", ".join(self.loops) or "none is closed")
        return ClosedLoops(self.plant, {n: c for n, c in self.loops.items() if n != name})

    def system(self, outputs: Sequence[str] = ()) -> LinearSystem:
        """Return the closed system: its inputs are those of the plant and all commands, added to what loops give there.

        ``outputs`` are the plant's unless given; what controllers give may be asked for too, by its name with
        ``_from_`` and the loop's name.
        """
        parts, sums, commands = self._parts()
        inputs = [*self.plant.inputs, *commands]
        wanted = arguments.names(outputs, "outputs") or list(self.plant.outputs)
        return cast(LinearSystem, wired(*parts, inputs=inputs, outputs=wanted, sums=sums))

    def loop(self, name: str) -> LinearSystem:
        """Return the open loop of one of them, the others closed: what comes back of what it gives, sign turned.

        Broken where the controller's output goes, if it gives one thing. Raises DravikError for several.
        """
        if name not in self.loops:
            raise DravikError(f"there is no loop {name!r}", expected=", ".join(self.loops) or "none is closed")
        controller = self.loops[name]
        if len(controller.outputs) != 1:
            raise DravikError(f"the loop {name!r} moves {', '.join(controller.outputs)}", expected="one, for one break")
        parts, sums, commands = self._parts(cut=name)
        gives = f"{controller.outputs[0]}_from_{name}"
        found = wired(
            *parts, inputs=[*self.plant.inputs, *commands, "injected"], outputs=[gives], sums=sums
        ).part(inputs=["injected"])  # fmt: skip
        return LinearSystem(
            found.A, found.B, -found.C, -found.D, found.states, ["injected"], [controller.outputs[0]], {},
            found.sample_time, f"loop {name}",
        )  # fmt: skip

    def _parts(self, cut: str = "") -> tuple[list[LinearSystem], dict[str, dict[str, float]], list[str]]:
        """Return the systems with names that do not meet, the sums of what moves each input, the outer commands."""
        given: dict[str, list[str]] = {}
        parts: list[LinearSystem] = []
        for name, controller in self.loops.items():
            own = {n: f"{n}_from_{name}" for n in controller.outputs}
            states = {n: f"{name}_{n}" for n in controller.states}
            parts.append(controller.renamed({**own, **states}))
            for n, mine in own.items():
                given.setdefault(n, []).append("injected" if name == cut else mine)
        moved = {n: f"{n} moved" for n in self.plant.inputs if n in given}
        sums: dict[str, dict[str, float]] = {
            moved[n]: {n: 1.0, **dict.fromkeys(given[n], 1.0)} for n in moved
        }  # fmt: skip
        plant = self.plant.renamed(moved)
        commands: list[str] = []
        for k, (name, controller) in enumerate(self.loops.items()):
            # each loop's inputs have names of their own: several may read the same signal
            fed = {n: f"{n} into {name}" for n in controller.inputs}
            parts[k] = parts[k].renamed(fed)
            for n in controller.inputs:
                inner = given[n] if n in given and n not in moved and n not in self.plant.outputs else []
                sums[fed[n]] = {n: 1.0, **dict.fromkeys(inner, 1.0)}
                if n not in self.plant.outputs and n not in commands:
                    commands.append(n)
        return [plant, *parts], sums, commands


def closed_pid(plant: LinearSystem, pid: PID) -> LinearSystem:
    """Return a plant of one channel under a PID: from ``command`` to what is measured, and to what the PID gives."""
    name, seen = plant.inputs[0], plant.outputs[0]
    controller = pid.system(name, command="command", measured=seen)
    if plant.sample_time is not None:
        controller = controller.discretised(plant.sample_time, method="bilinear")
    whole = ClosedLoops(plant).close("pid", controller)
    return whole.system([seen, f"{name}_from_pid"]).part(inputs=["command"])


class SteadyErrors(NamedTuple):
    """What a loop leaves: its ``type`` (pure integrals), the steady-state error of a unit ``step`` and ``ramp`` (s).

    A loop of type 0 leaves a step error and loses a ramp (inf); type 1 leaves a ramp error, type 2 none of both. An
    unstable loop leaves neither: both are nan.
    """

    type: int
    step: float
    ramp: float


def steady_errors(loop: LinearSystem) -> SteadyErrors:
    """Return the type of a loop, closed with negative feedback, and what is left of steps and ramps of its command.

    Parameters
    ----------
    loop : LinearSystem
        The open loop, closed with negative feedback.

    Returns
    -------
    SteadyErrors

    Examples
    --------
    >>> steady_errors(LinearSystem.filtered("y", "u", [8.0], [1.0, 2.0, 0.0]))
    SteadyErrors(type=1, step=0.0, ramp=0.25)
    """
    require(loop, LinearSystem, "the loop")
    if len(loop.inputs) != 1 or len(loop.outputs) != 1:
        raise DravikError(
            f"the loop has {len(loop.inputs)} inputs and {len(loop.outputs)} outputs", expected="one of each"
        )
    one = least(loop)
    through = 1.0 + float(one.D[0, 0])
    if loop.sample_time is not None:
        # (z - 1)/sample_time instead of z: integrals are then at zero, where rounding is smallest, not at one
        one = replace(
            one, A=(one.A - np.eye(len(one.A))) / loop.sample_time, B=one.B / loop.sample_time, sample_time=None
        )
    channel = one.transfer(one.inputs[0], one.outputs[0]) if len(one.states) else None
    poles, zeros = (channel.poles, channel.zeros) if channel else (np.zeros(0), np.zeros(0))
    gain = channel.gain if channel else float(one.D[0, 0])
    still = AT_REST * float(np.abs(poles).max(initial=0.0))
    kind = int(np.sum(np.abs(poles) <= still)) - int(np.sum(np.abs(zeros) <= still))
    closed = loop.A - loop.B @ loop.C / through if through != 0.0 else loop.A
    if through == 0.0 or count_growing(closed, loop.sample_time):
        return SteadyErrors(max(kind, 0), math.nan, math.nan)
    # to twelve digits: products of roots differ in the last
    gain *= float(np.prod(-zeros[np.abs(zeros) > still]).real) / float(np.prod(-poles[np.abs(poles) > still]).real)
    gain = float(f"{gain:.12g}")
    if kind < 0:
        return SteadyErrors(0, 1.0, math.inf)
    step = 1.0 / (1.0 + gain) if kind == 0 and gain != -1.0 else (0.0 if kind else math.inf)
    ramp = math.inf if kind == 0 else (1.0 / gain if kind == 1 and gain else 0.0)
    return SteadyErrors(kind, step, ramp)
