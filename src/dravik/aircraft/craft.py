"""The compiled aircraft: names, values, derivatives; ready for trim, linear models and flight."""

from collections.abc import Mapping, Sequence
from copy import copy
from dataclasses import replace
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import table_limits as outside
from dravik.aircraft.compiling.build import build
from dravik.aircraft.compiling.compiled_aircraft import CompiledAircraft
from dravik.aircraft.description.configuration import Configuration
from dravik.aircraft.description.faults import Fault
from dravik.aircraft.description.overrides import SignalOverride, checked
from dravik.aircraft.description.schema import AircraftDefinition, LawDefinition, Loading
from dravik.aircraft.description.sensing import sensing_of
from dravik.aircraft.integrated_state import integrated_state
from dravik.aircraft.parameters import with_values
from dravik.aircraft.plant import COORDINATES, AircraftPlant
from dravik.aircraft.tank_release import with_tank
from dravik.contact import contact_states
from dravik.contact.crash import GROUND_EVENT
from dravik.definition.signals import EventSpec, InputSpec, Signal
from dravik.definition.toml import KeyLines
from dravik.definition.values import inputs_in_si
from dravik.errors import DravikError, nearest
from dravik.formula import Tape
from dravik.kernel import RIGID_STATES, Program, Workspace, new_workspace
from dravik.kernel.program import EVERYTHING, OUTSIDE_TABLE
from dravik.mode_logic.modes import ModeLogic, Phase
from dravik.motion.equations import evaluate
from dravik.surroundings.air_data import air_at_minimal
from dravik.surroundings.discrete_gusts import DiscreteGust
from dravik.tables import Table

__all__ = ["Aircraft", "AircraftPlant", "InputSpec", "Signal"]

Floats = NDArray[np.float64]
Triple = tuple[str | float, str | float, str | float]


class Aircraft:
    """An aircraft compiled for the kernel; immutable, so that it can be shared between runs.

    Made by ``load``, ``sample``, or from a definition in Python. ``with_loading``, ``with_law`` and their like return
    changed copies.

    Parameters
    ----------
    definition : AircraftDefinition or Configuration
        The aircraft as data.
    tables : mapping of str to Table, optional
        The tables that its formulas call.
    path : Path, optional
        The file it came from.
    places : KeyLines, optional
        Where its keys stand, for messages.
    loading : str, optional
        Name of a loading. The default unless given.
    law_places : mapping of str to KeyLines, optional
        Where keys of laws stand.
    compiled : bool, default True
        Whether formulas are compiled now; otherwise when it is first used.

    Examples
    --------
    >>> import dravik as dv
    >>> dv.sample("tarn").with_loading("dropped").loading_name
    'dropped'
    """

    def __init__(
        self, definition: AircraftDefinition | Configuration, tables: Mapping[str, Table] | None = None, *,
        path: Path | None = None, places: KeyLines | None = None, loading: str = "",
        law_places: Mapping[str, KeyLines] | None = None, compiled: bool = True,
    ) -> None:  # fmt: skip
        self.tables = dict(tables or {})
        self.path = path
        self._places = places or KeyLines("", definition.name)
        self._law_places = dict(law_places or {})
        if isinstance(definition, AircraftDefinition):
            definition = Configuration.of(definition, "", self.where)
        self.configuration = definition.loaded(loading)
        self._compiled = compiled
        if compiled:
            self.compiled()

    @cached_property
    def _built(self) -> CompiledAircraft:
        return build(self.configuration, self.tables, self.where)

    def compiled(self) -> "Aircraft":
        """Return this aircraft, compiled; raises DravikError and FormulaError for what is wrong in its formulas."""
        _ = self._built
        return self

    @property
    def derived(self) -> dict[str, Any]:
        """What has been worked out once of its formulas and limits, by name."""
        return self._built.derived

    def where(self, *keys: str) -> str:
        """Return file, line and key path for messages."""
        # a key of a law stands in the law's file, and a message has to lead there
        if len(keys) > 1 and f"{keys[0]}.{keys[1]}" in self._law_places:
            return self._law_places[f"{keys[0]}.{keys[1]}"].place(keys)
        return self._places.place(keys)

    # -- what it consists of -------------------------------------------------------------------

    @property
    def definition(self) -> AircraftDefinition:
        """The aircraft as its file gives it, without laws, world and script, which its ``configuration`` has."""
        return self.configuration.aircraft

    @property
    def loading_name(self) -> str:
        """Name of the loading in use."""
        return self.configuration.loading_name

    @property
    def name(self) -> str:
        """The aircraft's name."""
        return self.definition.name

    @property
    def loading(self) -> Loading:
        """Mass, centre of gravity and inertia in use."""
        return self.configuration.loading

    @property
    def tape(self) -> Tape:
        """The compiled formulas."""
        return self._built.tape

    @property
    def program(self) -> Program:
        """The aircraft as the kernel sees it."""
        return self._built.program

    @property
    def signals(self) -> dict[str, Signal]:
        """Every signal by name, with unit and meaning."""
        return self._built.signals

    @property
    def inputs(self) -> dict[str, InputSpec]:
        """Every input by name, in the kernel's order."""
        return self._built.inputs

    @property
    def sources(self) -> Mapping[str, str]:
        """What stands for the signals that laws read (truth, sensor, estimate), where it is not the truth of all."""
        return self._built.sources

    @property
    def events(self) -> list[EventSpec]:
        """Conditions that the kernel watches."""
        return self._built.events

    @property
    def limits(self) -> dict[str, tuple[float, float]]:
        """Ranges of effectors and engine throttles, SI."""
        return self._built.limits

    @property
    def input_names(self) -> list[str]:
        """Names of the inputs, in the kernel's order."""
        return list(self.inputs)

    @cached_property
    def function_states(self) -> list[str]:
        """Names of the states beyond the rigid body's: actuators, engines, stateful functions."""
        return [s.name for s in self.tape.states]

    def resting_states(self, x: Floats, u: Floats) -> list[str]:
        """Return the states that do not take part here: those of legs away from the ground."""
        names = contact_states(self.configuration.legs)
        # away from the ground the legs' states rest at zero: a linear model would have their roots for nothing
        return [] if not names or self.values(x, u, ["near_ground"])["near_ground"] else names

    @property
    def state_names(self) -> list[str]:
        """Names of the integrated states, quaternion and all."""
        return [*RIGID_STATES, *self.function_states]

    def default_inputs(self) -> Floats:
        """Return every input at its default."""
        return np.array([i.default for i in self.inputs.values()])

    def with_tank(self, x: Floats, tank: str, mass: str | float) -> Floats:
        """Return a state with another mass (kg) in a tank, changed instantly; velocities of what remains are unchanged.

        Position and velocity become those of the new centre of gravity; the mass dropped carries off the difference of
        momentum. Raises DravikError for a tank that does not flow in this loading, or a mass beyond what it holds.
        """
        return with_tank(self, x, tank, mass)

    def signal(self, name: str) -> Signal:
        """Return a signal; raises DravikError, naming the nearest, when there is none of that name."""
        if name not in self.signals:
            hint = nearest(name, self.signals) or "dravik signals"
            raise DravikError(f"{self.name} has no signal {name!r}", hint=hint)
        return self.signals[name]

    def input_index(self, name: str) -> int:
        """Return the place of an input; an effector's name stands for what is added to its command."""
        # people say elevator: what they move is its increment where a law commands it, its command otherwise
        for candidate in (name, f"{name}_increment", f"{name}_command"):
            if candidate in self.inputs:
                return self.input_names.index(candidate)
        engines = self.definition.engines
        if name.startswith("fail_") and engines:
            engine = name.removeprefix("fail_")
            raise DravikError(
                f"there is no engine {engine!r}", expected="one of " + ", ".join(engines), hint=nearest(engine, engines)
            )
        hint = nearest(name, [*self.inputs, *self._built.effectors, *self.parameters])
        # with a name that is near the list of all would only push the hint out of sight
        known = "an input or a parameter" if hint else "one of " + ", ".join([*self.inputs, *self.parameters])
        raise DravikError(f"{self.name} has no input {name!r}", expected=known, hint=hint)

    def inputs_in_si(
        self, values: Mapping[str, str | float], *, bare_angles: bool = True, place: str = "input "
    ) -> dict[str, float]:
        """Return inputs by their full name in SI: strings with their unit, or numbers in SI.

        Not with ``bare_angles``, as in files, an angle needs its unit. Raises DravikError for names that are not there,
        wrong units, and values outside an input's range; ``place`` and the name tell where.
        """
        return inputs_in_si(self, values, bare_angles, place)

    def with_inputs(self, values: Mapping[str, str | float]) -> Floats:
        """Return every input at its default but for some, as ``inputs_in_si`` takes them."""
        u, own = self.default_inputs(), self.inputs_in_si(values)
        u[[self.input_names.index(name) for name in own]] = list(own.values())
        return u

    # -- changed copies ---------------------------------------------------------------------------

    def _made(self, **changes: Any) -> "Aircraft":
        """Return an aircraft made like this one, with some arguments changed."""
        made: dict[str, Any] = {
            "definition": self.configuration, "tables": self.tables, "path": self.path, "places": self._places,
            "law_places": self._law_places, "compiled": self._compiled,
        }  # fmt: skip
        return Aircraft(**made | changes)

    def _copy(self, **changes: Any) -> "Aircraft":
        return self._made(definition=replace(self.configuration, **changes))

    def with_loading(self, name: str) -> "Aircraft":
        """Return the aircraft in another of its loadings."""
        return self._made(loading=name)

    def with_environment(self, **changes: object) -> "Aircraft":
        """Return the aircraft with keys of its environment changed, such as ``earth="wgs84"`` or ``wind={...}``.

        Raises DravikError for keys and values that an environment cannot have.
        """
        return self._copy(world=self.configuration.world.changed(**changes))

    def with_law(
        self, law: LawDefinition, tables: Mapping[str, Table] | None = None, places: KeyLines | None = None
    ) -> "Aircraft":
        """Return the aircraft with a control law engaged: its inputs, formulas, and additions to commands.

        Raises DravikError when a name of the law is taken already, or a control it adds to is not there.
        """
        engaged = self.configuration.engaging(law)
        law_places = dict(self._law_places)
        if places is not None:
            for section in ("inputs", "parameters", "formulas", "events", "add", "mode_logic"):
                law_places.update({f"{section}.{name}": places for name in getattr(law, section)})
        return self._made(definition=engaged, tables={**self.tables, **(tables or {})}, law_places=law_places)

    def with_parameters(self, values: Mapping[str, str | float]) -> "Aircraft":
        """Return the aircraft with other values of its parameters (SI, or with their unit); nothing is compiled anew.

        Raises DravikError for names that are not there, wrong units, and values outside their range.
        """
        found = copy(self)
        found.configuration, built = with_values(self.configuration, self.__dict__.get("_built"), values)
        return found if built is None else found._with(built)

    def _with(self, built: CompiledAircraft) -> "Aircraft":
        self.__dict__["_built"] = built
        return self

    @property
    def parameters(self) -> dict[str, float]:
        """Values of the parameters, SI."""
        return {name: spec.value for name, spec in self.configuration.parameters.items()}

    def with_overrides(self, *overrides: SignalOverride) -> "Aircraft":
        """Return the aircraft with signals overridden for their readers: cut, disturbed, or replaced by formulas.

        Raises DravikError for signals and readers that are not there, FormulaError for formulas.
        """
        return self._copy(overrides=(*self.configuration.overrides, *(checked(o) for o in overrides)))

    def with_sensors(
        self, name: str = "", *, reads: str | Mapping[str, str] = "truth", estimator: str = "", fed: Sequence[str] = (),
        observing: Sequence[str] = (),
    ) -> "Aircraft":  # fmt: skip
        """Return the aircraft with a set of its sensors on board (``"none"``: without), and what its laws read.

        ``reads``: truth, sensors or estimates (of an ``estimator``), for all signals or as in ``"q=sensors,p=truth"``.
        Sensors that are ``fed`` may be replaced or added to by inputs; laws named in ``observing`` read the truth.
        """
        return self._copy(sensing=sensing_of(self.definition, name, reads, estimator, (tuple(fed), tuple(observing))))

    def with_places(self, places: KeyLines, keys: Sequence[str]) -> "Aircraft":
        """Return the aircraft with some keys, such as ``environment.wind``, said to stand in another file."""
        return self._made(law_places={**self._law_places, **dict.fromkeys(keys, places)})

    def with_script(
        self, faults: Mapping[str, Fault] | None = None, phases: Sequence[Phase] = (),
        mode_logic: Mapping[str, ModeLogic] | None = None, gusts: Mapping[str, DiscreteGust] | None = None,
    ) -> "Aircraft":  # fmt: skip
        """Return the aircraft with faults and gusts (by name) to come, phases of its flight, mode logic beside them.

        Raises DravikError for faults of what is not there, FormulaError for their conditions.
        """
        return self._copy(
            script=self.configuration.script.extended(faults or {}, phases, mode_logic or {}, gusts or {})
        )

    def with_machine_code(self) -> "Aircraft":
        """Return the aircraft with its formulas as machine code: the same bits, two to four times as fast."""
        return copy(self)._with(self._built.with_machine_code())

    @property
    def is_machine_code(self) -> bool:
        """Whether its formulas run as machine code."""
        return self._built.code is not None

    def over_no_ground(self) -> "Aircraft":
        """Return the aircraft whose flights, for proofs of its motion, do not end below ground or sea."""
        return copy(self)._with(self._built.never_ending_by(GROUND_EVENT))

    # -- values --------------------------------------------------------------------------------------

    def workspace(self) -> Workspace:
        """Return a fresh workspace; one for each run or thread."""
        return new_workspace(self.program, self.tape)

    def state(
        self, *, position: Triple = (0.0, 0.0, 0.0), velocity: Triple, attitude: Triple = (0.0, 0.0, 0.0),
        rates: Triple = (0.0, 0.0, 0.0), functions: Mapping[str, str | float] | None = None,
    ) -> Floats:  # fmt: skip
        """Return an integrated state from north, east, altitude; u, v, w; phi, theta, psi; p, q, r (SI, or text).

        ``functions`` sets states of actuators, engines and functions by name, with their unit or in SI; the others are
        at their initial value. Raises DravikError, naming the nearest, for a state that is not there.
        """
        return integrated_state(self, (position, velocity, attitude, rates), functions or {})

    def air_at(self, position: tuple[float, float, float], u: Floats) -> tuple[float, float, float]:
        """Return the velocity of the air (north, east, up) at a place north, east, altitude."""
        return air_at_minimal(self.program, self.workspace(), 0.0, np.array(position), u)

    def registers(
        self, x: Floats, u: Floats, t: float = 0.0, workspace: Workspace | None = None, *, refusing: bool = True
    ) -> Workspace:
        """Evaluate everything at one state and input, refusing left tables that do not allow it; read the registers."""
        w = workspace or self.workspace()
        w.counters[OUTSIDE_TABLE] = 0
        evaluate(self.program, w, t, x, u, np.empty(len(x)), False, EVERYTHING)
        return self.refuse_outside(w) if refusing else w

    def values(
        self, x: Floats, u: Floats, names: list[str] | None = None, t: float = 0.0,
        workspace: Workspace | None = None, *, refusing: bool = True,
    ) -> dict[str, float]:  # fmt: skip
        """Return signals by name (all unless named) at one state and input; see ``registers`` for ``refusing``."""
        r = self.registers(x, u, t, workspace, refusing=refusing).registers
        if names is None:
            return dict(zip(self.signals, r[self._built.signal_registers].tolist(), strict=True))
        return {n: float(r[self.tape.names[n]]) for n in names}

    def refuse_outside(self, w: Workspace) -> Workspace:
        """Raise DravikError when the last evaluation left a table whose policy makes that an error."""
        if (counter := int(w.counters[OUTSIDE_TABLE]) - 1) >= 0:
            raise DravikError(outside.message(self.tape, self.tables, counter, float(w.worst[counter, 2])))
        return w

    def plant(self, coordinates: str = "air") -> "AircraftPlant":
        """Return the aircraft as a plant in Euler angles and ``"air"`` (airspeed, alpha, beta) or ``"body"`` (u, v, w).

        Raises DravikError for other coordinates.
        """
        if coordinates not in COORDINATES:
            raise DravikError(f"there are no coordinates {coordinates!r}", expected="'air' or 'body'")
        return AircraftPlant(self._built, coordinates)
