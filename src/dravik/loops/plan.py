"""Loops to be closed one after another, as a file: condition, loops in their order, elements, requirements."""

from collections.abc import Mapping
from pathlib import Path
from typing import Any, Literal

import numpy as np
from pydantic import Field, ValidationError

from dravik.aircraft import Aircraft, sample_names
from dravik.definition import arguments
from dravik.definition.fields import Angle, AngularRate, Duration, Model, PositiveAngularRate
from dravik.definition.signals import signed_names
from dravik.definition.toml import read_definition
from dravik.errors import DravikError
from dravik.host.files import as_path
from dravik.linear import LinearModel
from dravik.systems import LinearSystem

__all__ = [
    "Element", "LoopEntry", "LoopPlan", "Requirements", "ends_of", "inputs_moved", "read_loops", "summed",
]  # fmt: skip


class Element(Model):
    """One element behind the controller: ``lead`` (a phase), ``lag`` (a factor at rest), a ``notch`` or a ``washout``.

    ``at`` is its frequency: of the phase, of the lag's zero, of the notch, of the washout's corner.
    """

    lead: Angle | None = None  #: phase that a lead adds
    lag: float | None = Field(default=None, gt=0.0)  #: factor by which a lag raises the gain at rest
    notch: Literal[True] | None = None  #: whether it is a notch
    washout: Literal[True] | None = None  #: whether it is a washout
    at: PositiveAngularRate  #: frequency of the element
    depth: float = Field(default=0.05, ge=0.0, le=1.0)  #: gain of a notch at its frequency
    width: float = Field(default=0.5, gt=0.0, le=5.0)  #: relative width of a notch

    @property
    def kind(self) -> str:
        """Which of them it is; raises DravikError for none or several."""
        own = [n for n in ("lead", "lag", "notch", "washout") if getattr(self, n) is not None]
        if len(own) != 1:
            raise DravikError(
                f"the element has {' and '.join(own) or 'no key'}", expected="one of lead, lag, notch, washout"
            )
        return own[0]


class Requirements(Model):
    """What a loop is to have at least, or at most: margins, bandwidth, overshoot, steady-state error, settling."""

    gain_margin_dB: float | None = Field(default=None, ge=0.0)  #: least gain margin, dB
    phase_margin: Angle | None = None  #: least phase margin
    delay_margin: Duration | None = None  #: least delay margin
    disc: float | None = Field(default=None, ge=0.0, le=2.0)  #: least disc margin
    bandwidth: PositiveAngularRate | None = None  #: least bandwidth of the closed loop
    overshoot: float | None = Field(default=None, ge=0.0)  #: greatest overshoot of a step, as a share
    settling: Duration | None = None  #: longest settling time to 2 %
    steady_error: float | None = Field(default=None, ge=0.0)  #: greatest steady-state error of a step, as a share


class LoopEntry(Model):
    """One loop: what it ``measures`` and ``moves``, its ``command``, its controller given or designed.

    ``moves`` is an effector (what is added to its command), an input, a sum of these that move together or against
    each other (``"elevon_left + elevon_right"``), or the command of an earlier loop. Gains are
    given (``proportional``, ``integral``, ``derivative``, ``filter_time``), or found: ``controller`` with ``crossover``
    and ``phase_margin``, or for a proportional one any one of ``crossover``, ``phase_margin``, ``gain_margin_dB``,
    ``bandwidth``, ``damping`` (of the mode ``near`` a frequency). ``zero`` adds an integral whose zero lies there.
    In the law that is made ``wanted`` is a formula in the place of the command's input, and ``adds`` are the commands
    of effectors and engines that it adds to, where ``moves`` is an input.
    """

    name: str  #: name of the loop
    measures: str  #: signal that is fed back
    moves: str  #: effector, input, a sum of effectors, or command of an earlier loop
    command: str = ""  #: name of the loop's command
    wanted: str = ""  #: formula in the place of the command, in the law that is made
    adds: tuple[str, ...] = ()  #: commands that the law adds to, where `moves` is an input
    controller: Literal["P", "PI", "PD", "PID"] = "P"  #: structure of the controller
    proportional: float | None = None  #: proportional gain, where it is given
    integral: float = 0.0  #: integral gain, 1/s times the proportional gain's unit
    derivative: float = 0.0  #: derivative gain, s times the proportional gain's unit
    filter_time: Duration | None = None  #: time constant of the derivative's filter
    weight: float = 1.0  #: weight of the command in the proportional part
    crossover: PositiveAngularRate | None = None  #: crossover frequency that the gain is found for
    phase_margin: Angle | None = None  #: phase margin that the gain is found for
    gain_margin_dB: float | None = Field(default=None, gt=0.0)  #: gain margin that the gain is found for, dB
    bandwidth: PositiveAngularRate | None = None  #: bandwidth that the gain is found for
    damping: float | None = Field(default=None, gt=0.0, lt=1.0)  #: damping ratio of a mode that the gain is found for
    near: AngularRate | None = None  #: frequency of that mode
    zero: PositiveAngularRate | None = None  #: adds an integral whose zero lies at this frequency
    element: tuple[Element, ...] = ()  #: elements behind the controller
    delay: Duration | None = None  #: computing delay
    #: samples a second; margins are then those of the sampled loop
    rate: float | None = Field(default=None, gt=0.0, description="Hz, of a law that runs at samples")
    require: Requirements = Requirements()  #: what the loop is held against

    @property
    def asked(self) -> str:
        """The name of its command."""
        return self.command or f"{self.name}_command"


class LoopPlan(Model):
    """A file of loops: the aircraft with its laws at a condition, and the loops in the order in which they close."""

    format: Literal[1] = 1  #: version of the file's format
    name: str = ""  #: name, for titles
    aircraft: str = ""  #: aircraft file or sample; that of the command line unless given
    loading: str = ""  #: loading of the aircraft
    laws: tuple[str, ...] = ()  #: laws engaged already
    condition: dict[str, Any]  #: flight condition as `dravik trim` takes it
    hold: tuple[str, ...] = ()  #: states that are held: slow ones, of outer loops
    loop: tuple[LoopEntry, ...] = Field(min_length=1)  #: loops in the order in which they close

    def changed(self, changes: dict[str, Any]) -> "LoopPlan":
        """Return it with other values, ``{"hold.proportional": 2.0}``; raises DravikError for a loop or key it has not.

        >>> plan = LoopPlan(condition={"airspeed": 60.0}, loop=[{"name": "a", "measures": "q", "moves": "elevator"}])
        >>> plan.changed({"a.proportional": -0.5}).loop[0].proportional
        -0.5
        """
        loops = {entry.name: entry for entry in self.loop}
        for key, value in arguments.mapping(changes, "changes").items():
            name, _, field = key.partition(".")
            if name not in loops or field not in LoopEntry.model_fields:
                raise DravikError(
                    f"{key!r} is no value of a loop", expected="LOOP.KEY, with a loop of " + ", ".join(loops)
                )
            # validated with the new key alone: units are read, and what else the loop has is not judged here
            kept = {n: getattr(loops[name], n) for n in ("name", "measures", "moves")}
            try:
                one = LoopEntry.model_validate({**kept, field: value})
            except ValidationError as error:
                raise DravikError(f"{key} = {value!r}: {error.errors()[0]['msg']}") from None
            # another way to find the gain takes the place of the old one
            others: tuple[str, ...] = (
                DESIGNED if field == "proportional" else ("proportional",) if field in DESIGNED else ()
            )
            if field in DESIGNED and loops[name].controller == "P":
                others = ("proportional", *(n for n in DESIGNED if n != field))
            loops[name] = loops[name].model_copy(update={**dict.fromkeys(others), field: getattr(one, field)})
        return self.model_copy(update={"loop": tuple(loops.values())})


DESIGNED = ("crossover", "phase_margin", "gain_margin_dB", "bandwidth", "damping")


def read_loops(path: str | Path) -> LoopPlan:
    """Return the loops of a file.

    Its ``aircraft`` is a sample, or a path counted from the file's own folder.

    Parameters
    ----------
    path : str or path
        The loops' TOML file.

    Returns
    -------
    LoopPlan

    Raises
    ------
    DravikError
        Naming file and line, for what is wrong.

    Examples
    --------
    >>> import dravik as dv
    >>> read_loops(dv.aircraft.sample_path("tarn") / "loops" / "pitch.toml").loop[0].name
    'damper'
    """
    place = as_path(path)
    plan = read_definition(place, LoopPlan)[0]
    if not plan.aircraft or plan.aircraft in sample_names():
        return plan
    # from the file's own folder, so that a plan and its aircraft can be moved together
    return plan.model_copy(update={"aircraft": str(place.parent / plan.aircraft)})


def ends_of(craft: Aircraft, plan: LoopPlan) -> dict[str, str]:
    """Return by loop the effector or throttle at the end of the loops that it works through, where that has a state."""
    inner = {entry.asked: entry for entry in plan.loop}
    found: dict[str, str] = {}
    for entry in plan.loop:
        last = entry
        for _ in plan.loop:
            last = inner.get(last.moves, last)
        end = last.adds[0] if last.adds else last.moves
        if end in craft.state_names:
            found[entry.name] = end
    return found


def inputs_moved(craft: Aircraft, plan: LoopPlan, model: LinearModel) -> dict[str, dict[str, float]]:
    """Return what the loops move, as the plan names it: the model's inputs with their signs."""
    commands = {entry.asked for entry in plan.loop}
    found: dict[str, dict[str, float]] = {}
    for entry in plan.loop:
        if entry.moves in commands:
            continue
        terms = found.setdefault(entry.moves, {})
        for moved, sign in signed_names(entry.moves, f"{plan.name}: moves of {entry.name}").items():
            own = [n for n in (f"{moved}_increment", f"{moved}_command", moved) if n in model.inputs]
            if not own:
                raise DravikError(
                    f"the loop {entry.name!r} moves {entry.moves!r}", where=plan.name, expected="an effector ("
                    + ", ".join(craft.definition.controls) + "), an input, a sum of these such as "
                    "'elevon_left + elevon_right', or the command of an earlier loop",
                )  # fmt: skip
            terms[own[0]] = sign
    return found


def summed(plant: LinearSystem, moved: Mapping[str, Mapping[str, float]]) -> LinearSystem:
    """Return the plant with the plan's names for inputs, each of which moves one input or a sum of them."""
    mixed = np.array([[terms.get(n, 0.0) for terms in moved.values()] for n in plant.inputs])
    # the channel of one input is that input's own column, to the last bit
    mixed = mixed.reshape(len(plant.inputs), len(moved))
    return LinearSystem(
        plant.A, plant.B @ mixed, plant.C, plant.D @ mixed, plant.states, list(moved), plant.outputs, plant.units,
        plant.sample_time, plant.title,
    )  # fmt: skip
