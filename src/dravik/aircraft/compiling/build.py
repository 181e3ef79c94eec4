"""From a definition to a tape and a program: which formulas exist, and which registers the kernel reads."""

import math
from collections.abc import Mapping
from functools import cache

from dravik.aircraft.compiling import refusals
from dravik.aircraft.compiling.actuators import effector_node
from dravik.aircraft.compiling.compiled_aircraft import CompiledAircraft
from dravik.aircraft.compiling.inputs import effectors_of, input_specs
from dravik.aircraft.compiling.mass_signals import add_mass
from dravik.aircraft.compiling.rewiring import Rewiring
from dravik.aircraft.compiling.rigid_body import point_loads, rigid_body
from dravik.aircraft.compiling.table_adjustments import table_adjustments
from dravik.aircraft.description.configuration import Configuration
from dravik.aircraft.description.laws import law_parts
from dravik.aircraft.description.loadings import mass_formulas
from dravik.aircraft.description.overrides import Wiring
from dravik.aircraft.description.schema import NamedFormula
from dravik.contact import add_ground, add_leg, guard
from dravik.contact.crash import crash_conditions
from dravik.definition.signals import COEFFICIENTS, EventSpec, Signal, Where
from dravik.errors import DravikError, nearest
from dravik.formula import CONSTANTS, Node, TapeBuilder, name_node, number_node, parse
from dravik.formula.contributions import Contributions
from dravik.kernel import BASE_SIGNALS, build_program
from dravik.mode_logic.conditions import mode_signals, watches
from dravik.mode_logic.refusals import refuse_modes
from dravik.propulsion import SolidMotor, powerplant
from dravik.surroundings.pitot_static import PRESSURE_SIGNALS, pressure_formulas
from dravik.surroundings.place_formulas import AIR, ground_and_wind
from dravik.tables import Table
from dravik.units import KINDS

__all__ = ["build"]

FAR = 100.0  # spans above the ground, where there is none


class _Assembly:
    """Gathers formulas, signals and inputs of one aircraft; a builder that is used once."""

    def __init__(self, configuration: Configuration, tables: Mapping[str, Table], where: Where) -> None:
        self.configuration = configuration
        self.definition = definition = configuration.aircraft
        self.where = where
        self.loading = configuration.loading
        self.effectors = effectors_of(definition)
        self.inputs = input_specs(configuration, self.effectors, where)
        self.signals = {s.name: Signal(s.name, s.unit, s.meaning, "motion") for s in BASE_SIGNALS}
        for spec in self.inputs.values():
            self.signals[spec.name] = Signal(spec.name, spec.unit, spec.meaning, "input")
        reference = definition.reference
        constants = {
            "reference_area": reference.area,
            "reference_chord": reference.chord,
            "reference_span": reference.span,
            "gravity": configuration.world.gravity_here,
        }
        base = {s.name: s.level for s in BASE_SIGNALS}
        self.mass = mass_formulas(definition, self.loading)
        self.powerplant = self._powerplant(tables)
        self.world, self.wind = ground_and_wind(
            configuration.world,
            {n: f.formula for n, f in configuration.formulas.items()},
            sloped=bool(configuration.legs),
        )
        every = {**tables, **self.world.tables, **self.powerplant.tables, **(self.mass.tables if self.mass else {})}
        values = {name: entry.value for name, entry in configuration.parameters.items()}
        self.builder = TapeBuilder(
            base, list(self.inputs), every, constants, values, table_adjustments(configuration, where)
        )
        for name, entry in configuration.parameters.items():
            self.signals[name] = Signal(name, entry.unit, entry.description or "parameter", "parameter")
        unchanging = {*constants, *CONSTANTS, *every, *configuration.parameters}
        self.laws = law_parts(configuration.laws, unchanging, where)
        self.needed: list[str] = []
        self.events: list[EventSpec] = []
        self.event_names: list[str] = []

    def _powerplant(self, tables: Mapping[str, Table]) -> Contributions:
        d = self.definition
        # the grain of a solid motor is a tank: its mass leaves through the nozzle as fuel does
        grains = {n: t.capacity for n, t in d.tanks.items()}
        for name, engine in d.engines.items():
            if isinstance(engine, SolidMotor) and engine.grain not in grains:
                place = self.where("engines", name, "grain")
                hint = nearest(engine.grain, grains)
                raise DravikError(f"there is no tank {engine.grain!r}", where=place, expected="a grain", hint=hint)
        given = powerplant(d.engines, d.propellers, d.drives, d.batteries, d.mixers, tables, grains, self.where)
        legs = self.configuration.legs
        if legs:
            sloped = isinstance(self.configuration.world.ground, str)
            surface = add_ground(given, legs, self.loading.cg, sloped=sloped)
            for name, leg in legs.items():
                add_leg(given, name, leg, surface)
            given.guards.append(guard(legs, sloped=sloped))
        return given

    def define(
        self, name: str, formula: str | float | Node, keys: tuple[str, ...], unit: str = "", meaning: str = "",
        kind: str = "formula",
    ) -> None:  # fmt: skip
        """Add a formula and the signal that it makes."""
        self.builder.define(name, formula, where=self.where(*keys))
        self.signals[name] = Signal(name, unit, meaning, kind)

    def add_formulas(self) -> None:
        """Add the formulas of the aero section, the laws, and the formulas section."""
        definition = self.definition
        if definition.aero is not None:
            added = self._add_increments()
            for name, entry in definition.aero.formulas.items():
                meaning = entry.description or COEFFICIENTS.get(name, "")
                self.define(name, entry.formula, ("aero", name), entry.unit, meaning, "aero")
                if name in added:
                    # the coefficient's own text stays, so that a message shows what stands in the file
                    node, where, text = self.builder.nodes[name]
                    for more in added[name]:
                        node = Node("op", 0, "add", args=(node, name_node(more)))
                    self.builder.nodes[name] = (node, where, text)
            self.needed.extend(definition.aero.coefficients)
        for law, formulas in definition.laws.items():
            for name, entry in formulas.items():
                self._define_law(name, entry, ("laws", law, name))
        for name, entry in self.configuration.formulas.items():
            if name in self.laws.formulas:
                node = self.laws.formulas[name]
                self.define(name, node, ("formulas", name), entry.unit, entry.description, "law")
                # sampled by a rate the formula is another one; a message still shows what the law's file says
                self.builder.nodes[name] = (*self.builder.nodes[name][:2], str(entry.formula))
            else:
                self.define(name, entry.formula, ("formulas", name), entry.unit, entry.description)

    def add_modes(self) -> None:
        """Add a signal for each mode, and those that laws with a rate sample."""
        for name, (node, meaning) in mode_signals(self.configuration.mode_logic).items():
            self.define(name, node, ("mode_logic",), "", meaning, "mode")
        for name, (node, signal) in self.laws.sampled.items():
            unit = self.signals[signal].unit if signal in self.signals else ""
            self.define(name, node, ("formulas",), unit, f"{signal} as it is sampled", "law")
        for name, (node, target) in self.laws.held.items():
            effector = self.effectors.get(target)
            unit = KINDS[effector.kind][0] if effector else self.inputs[target].unit if target in self.inputs else ""
            self.define(name, node, ("add", target), unit, f"what the law adds to {target}, held", "law")

    def _add_increments(self) -> dict[str, list[str]]:
        """Add what the file adds to coefficients, each a signal of its own; return their names by coefficient."""
        aero, added = self.definition.aero, dict[str, list[str]]()
        for group, formulas in self.definition.increments.items():
            for coefficient, entry in formulas.items():
                keys = ("increments", group, coefficient)
                if aero is None or coefficient not in aero.coefficients:
                    known = ", ".join(aero.coefficients) if aero is not None else "[aero] first"
                    raise DravikError(
                        f"there is no {coefficient} to which the increment could be added",
                        where=self.where(*keys),
                        expected=known,
                    )
                name = f"{coefficient}_{group}"
                meaning = entry.description or f"what {group} adds to {coefficient}"
                self.define(name, entry.formula, keys, entry.unit, meaning, "aero")
                added.setdefault(coefficient, []).append(name)
        return added

    def add_motion(self) -> None:
        """Add what follows from the motion alone: rates about the stability axes, non-dimensional."""
        for name, text, meaning in (
            (
                "p_hat_stability",
                "p_hat*cos(alpha) + r_hat*sin(alpha)",
                "p b / 2V about the x axis of the stability axes",
            ),
            (
                "r_hat_stability",
                "r_hat*cos(alpha) - p_hat*sin(alpha)",
                "r b / 2V about the z axis of the stability axes",
            ),
        ):
            self.define(name, text, ("aero",), "", meaning, "motion")
        self._add_unless_own()
        for name, part in self.definition.spinning.items():
            keys = ("spinning", name, "momentum")
            meaning = part.description or f"angular momentum of {name}"
            self.define(f"spinning_{name}", part.momentum, keys, "N*m*s", meaning, "motion")
            self.needed.append(f"spinning_{name}")

    def _add_unless_own(self) -> None:
        """Add height over span and what pitot and static pressure tell, but for what the file defines itself."""
        definition, configuration = self.definition, self.configuration
        own = {*configuration.formulas, *configuration.inputs, *configuration.parameters}
        own |= set(definition.aero.formulas) if definition.aero is not None else set()
        own |= {name for law in definition.laws.values() for name in law}
        # ground effect is a matter of this ratio; without ground it is one at which nothing is felt of any
        above = "(altitude - ground_height)/reference_span" if configuration.world.ground is not None else FAR
        if "height_over_span" not in own:
            meaning = "height of the centre of gravity above the ground over the span; 100 where there is no ground"
            self.define("height_over_span", above, ("environment",), "", meaning, "motion")
        for name, node in _pressure_nodes().items():
            if name in PRESSURE_SIGNALS and name not in own:
                unit, meaning = PRESSURE_SIGNALS[name]
                self.define(name, node, ("environment",), unit, meaning, "motion")
            elif name not in PRESSURE_SIGNALS:
                self.builder.define(name, node, where=self.where("environment"))

    def _define_law(self, name: str, entry: NamedFormula, keys: tuple[str, ...]) -> None:
        """Add a formula of a law, which reads what sensors say."""
        self.define(name, entry.formula, keys, entry.unit, entry.description, "law")

    def add_effectors(self) -> None:
        """Add each effector's command and its position."""
        for name, effector in self.effectors.items():
            engine = name.removeprefix("power_")
            keys = ("engines", engine) if engine != name and engine in self.definition.engines else ("controls", name)
            unit = KINDS[effector.kind][0]
            if effector.command is not None:
                where = self.where(*keys, "command")
                command = self._sum(effector.command, where, name)
                self.builder.nodes[f"{name}_command"] = (command, where, str(effector.command))
                self.signals[f"{name}_command"] = Signal(f"{name}_command", unit, f"command of {name}", "command")
            low, high = effector.range or (-math.inf, math.inf)
            meaning = effector.description or f"position of {name}"
            node = effector_node(name, effector, self.configuration.script.faults)
            self.define(name, node, keys, unit, meaning, "effector")
            if effector.range is not None:
                # a command that stands on its stop to the last bit is not beyond it
                slack = 1e-9 * (high - low)
                self._watch(
                    f"{name}_command < {low - slack!r} or {name}_command > {high + slack!r}",
                    EventSpec(f"{name} is commanded beyond its stop"),
                    f"{name}_at_stop",
                )

    def _sum(self, command: str | float, where: str, name: str) -> Node:
        node = Node("op", 0, "add", args=(parse(command, where=where), name_node(f"{name}_increment")))
        for extra in self.laws.added.get(name, ()):
            node = Node("op", 0, "add", args=(node, extra))
        return node

    def _add_to_inputs(self) -> None:
        """Let formulas read an input plus what laws add to it, limited to its range; laws read the input itself."""
        for name, extras in self.laws.added.items():
            if name not in self.inputs:
                continue
            spec, total = self.inputs[name], f"{name}_with_laws"
            node = name_node(name)
            for extra in extras:
                node = Node("op", 0, "add", args=(node, extra))
            # limited to the input's own range: a law must not move a lever further than a hand can
            node = Node("op", 0, "limit", args=(node, number_node(spec.low), number_node(spec.high)))
            laws = self.configuration.law_formulas
            Wiring(self.builder, (), set()).rewire(name, total, [n for n in self.builder.nodes if n not in laws])
            self.define(total, node, ("add", name), spec.unit, f"{name} with what laws add to it", "command")

    def _watch(self, condition: str | float | Node, event: EventSpec, name: str, keys: tuple[str, ...] = ()) -> None:
        self.builder.define(name, condition, where=self.where(*keys))
        self.event_names.append(name)
        self.events.append(event._replace(name=name))

    def add_engines(self) -> None:
        """Add the formulas of the engines, and the events that they bring."""
        for name, entry in self.powerplant.formulas.items():
            if name in self.inputs:
                raise DravikError(
                    f"the name {name!r} is that of a signal of the engines", where=self.where("inputs", name)
                )
            if name in ("thrust", "fuel_flow", "shaft_power", "thrust_coefficient") and name in self.signals:
                continue  # the file defines this signal itself
            # gear and world bring their formulas the same way, and are listed by what they are
            kind = "engine" if entry.keys[0] not in ("gear", "environment") else "ground"
            self.define(name, entry.text, entry.keys, entry.unit, entry.meaning, kind)
        self.needed.extend(load.size for load in self.powerplant.loads)
        for name, (condition, words) in self.powerplant.events.items():
            self._watch(condition, EventSpec(words), name, ("engines",))

    def _add_rail(self, length: float) -> None:
        # along the rail in space, not over the ground: a steep rail is left as high as it is long
        way = "north**2 + east**2 + (altitude - rail_altitude)**2"
        self.define("on_rail", f"{way} < {length**2!r}", ("rail",), "", "whether the rail holds it", "motion")
        self.needed.append("on_rail")
        self._watch("on_rail == 0", EventSpec("leaves the rail"), "leaves_rail", ("rail",))

    def assemble(self) -> CompiledAircraft:
        """Compile everything."""
        configuration, definition = self.configuration, self.definition
        # first, because formulas of the file may read mass and centre of gravity
        mass, following = add_mass(self.builder, self.define, self.loading, self.mass)
        self.needed.extend(following)
        self.add_world()
        self.add_motion()
        refusals.script(self.configuration, self.effectors, [*self.signals, *self.powerplant.formulas], self.where)
        self.add_formulas()
        self.add_engines()
        if definition.rail is not None:
            self._add_rail(definition.rail.length)
        self.add_effectors()
        self.add_modes()
        refusals.adds(configuration.added, self.effectors, self.inputs, self.where)
        self._add_to_inputs()
        rewiring = Rewiring(configuration, self.builder, self.signals, self.inputs, self.define, self.where)
        rewiring.add_sensors()
        rewiring.add_estimator()
        refusals.follows(configuration.inputs, self.signals, self.where)
        refuse_modes(configuration.mode_logic, self.inputs, configuration.parameters, self.signals, self.where)
        refusals.table_axes(self.builder, self.signals, self.where)
        self.add_endings()
        for name, event in configuration.events.items():
            self._watch_user_event(name, event.when, event.stop)
        # last of all formulas: only now is it known who reads a signal
        rewiring.read_sensors()
        rewiring.sense_faults()
        rewiring.override(self.needed)
        self.air = list(AIR) if configuration.world.air is not None else []
        tape = self.builder.build(self.needed, [*self.wind, *self.air], self.powerplant.guards)
        # what depends on an acceleration is known when everything has been ordered
        refusals.levels(self.builder, tape, self.needed)
        refusals.wind(self.builder, [*self.wind, *self.air], self.inputs)
        for slot in tape.states:
            if slot.name not in self.signals:
                self.signals[slot.name] = Signal(slot.name, "", "state of a function in a formula", "state")
        loads = point_loads(configuration, tape, self.powerplant.loads, self.mass)
        events = list(zip(self.event_names, self.events, strict=True))
        body = rigid_body(configuration, tape, mass, loads, events, (list(self.wind), self.air), len(self.inputs))
        program = build_program(tape, body)
        return CompiledAircraft(
            tape, program, self.signals, self.inputs, self.events, self.effectors, sources=rewiring.sources
        )

    def add_world(self) -> None:
        """Add the ground and the wind."""
        for name, entry in self.world.formulas.items():
            self.define(name, entry.text, entry.keys, entry.unit, entry.meaning, entry.keys[1])

    def add_endings(self) -> None:
        """Add what ends a run on the ground, and the pauses for faults and phases."""
        for name, (condition, words, keys) in crash_conditions(
            self.definition.crash, self.configuration.legs, has_ground=self.configuration.world.ground is not None
        ).items():
            self._watch(condition, EventSpec(words, "end"), name, keys)
        for name, (when, event, keys) in self.configuration.script.watches().items():
            self._watch(when, event, name, keys)
        for name, (condition_, event, keys) in watches(self.configuration.mode_logic).items():
            self._watch(condition_, event, name, keys)

    def _watch_user_event(self, name: str, when: str | float, stop: bool) -> None:
        node = parse(when, where=self.where("events", name, "when"))
        self._watch_node(name, node, str(when), stop)

    def _watch_node(self, name: str, node: Node, text: str, stop: bool) -> None:
        keys = ("events", name, "when")
        # the kernel looks for a change from 0 to 1: a condition that is any number is made one of these
        condition = Node("op", node.position, "ne", args=(node, number_node(0.0)))
        self.builder.define(name, condition, where=self.where(*keys))
        self.builder.nodes[name] = (condition, self.where(*keys), text)
        self.event_names.append(name)
        self.events.append(EventSpec(name, "end" if stop else "log", name=name))


@cache
def _pressure_nodes() -> dict[str, Node]:
    # the same for every aircraft: parsed once
    return {name: parse(text, where=name) for name, text in pressure_formulas().items()}


def build(configuration: Configuration, tables: Mapping[str, Table], where: Where) -> CompiledAircraft:
    """Compile a configuration; ``where(*keys)`` names the place of a key in messages.

    Raises DravikError for names that clash or do not exist, FormulaError for formulas.
    """
    return _Assembly(configuration, tables, where).assemble()
