"""What laws and commands read in place of signals: sensors, estimates, faults, cut and disturbed signals."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

from dravik.aircraft.compiling import refusals
from dravik.aircraft.description.configuration import Configuration
from dravik.aircraft.description.overrides import Wiring, renamed
from dravik.definition.signals import InputSpec, Signal, Where
from dravik.errors import DravikError, nearest
from dravik.formula import Node, TapeBuilder, name_node, parse
from dravik.mode_logic.conditions import watches
from dravik.sensors import Setting, sensor_formulas, stand_ins
from dravik.sensors.estimators import MEASURED_AIRSPEED, MEASURED_ALTITUDE, taken_sensors
from dravik.sensors.standing_in import air_data

__all__ = ["Rewiring", "sensor_setting"]

GUIDED = ("north", "east", "track", "ground_speed")
Define = Callable[[str, str | float | Node, tuple[str, ...], str, str, str], None]


def sensor_setting(configuration: Configuration, units: Mapping[str, str]) -> Setting:
    """Return what the sensors of a configuration need to know of it."""
    faults = configuration.script.faults

    def faulty(name: str, output: str, unit: str, node: Node, period: float) -> Node:
        for key, fault in faults.items():
            asked = getattr(fault, "signal", "")
            if fault.kind == "lost" and asked == output != name:
                raise DravikError(
                    f"{output} is one output of {name}", where=f"faults.{key}.signal", expected=f"the sensor {name!r}",
                    hint='a single output may be "frozen"',
                )  # fmt: skip
            if asked in (name, output):
                node = fault.sensor_node(key, (output, unit), node, period)
        return node

    def lost(name: str) -> Node | None:
        found = [k for k, f in faults.items() if getattr(f, "signal", "") == name and f.kind == "lost"]
        return name_node(f"fault_{found[0]}") if found else None

    world = configuration.world
    return Setting(world.earth == "wgs84", world.magnetic_field, units, faulty, lost, configuration.sensing.fed)


@dataclass
class Rewiring:
    """Who reads what, of one aircraft while it is compiled; ``inner`` is under which name laws read a signal.

    ``sources`` tells what stands for each signal that laws read: ``truth``, ``sensor`` or ``estimate``.
    """

    configuration: Configuration
    builder: TapeBuilder
    signals: dict[str, Signal]
    inputs: dict[str, InputSpec]
    define: Define
    where: Where
    inner: dict[str, str] = field(default_factory=dict)
    sources: dict[str, str] = field(default_factory=dict)

    def add_sensors(self) -> None:
        """Add the formulas of the sensors on board."""
        sensors = self.configuration.sensors
        units = {n: s.unit for n, s in self.signals.items()}
        try:
            found = sensor_formulas(sensors, sensor_setting(self.configuration, units))
        except DravikError as error:
            inner, error.where = error.where, ""
            raise error.at(self.where(*inner.split("."))) from None
        for name, entry in found.formulas.items():
            if name in self.signals or name in self.builder.nodes:
                raise DravikError(
                    f"the aircraft has a signal {name!r} already", where=self.where(*entry.keys),
                    hint="another name of the sensor",
                )  # fmt: skip
            self.define(name, entry.text, entry.keys, entry.unit, entry.meaning, "sensor")
            # only now is known what a sensor of a signal or a control is measured in
            for given in (f"{name}_given", f"{name}_added"):
                if given in self.inputs:
                    self.inputs[given] = replace(self.inputs[given], unit=entry.unit)
                    self.signals[given] = self.signals[given]._replace(unit=entry.unit)

    def add_estimator(self) -> None:
        """Add what an estimator reads besides the sensors: altitude and airspeed by pressures, what it ignores."""
        name, sensors = self.configuration.sensing.estimator, self.configuration.sensors
        if not name:
            return
        keys = self.configuration.aircraft.estimators[name]
        used = taken_sensors(keys, sensors, self.where("estimators", name))
        thermometers = [n for n, s in sensors.items() if s.kind == "temperature"]
        signals, steps = air_data({n: sensors[n] for n in [*used, *thermometers[:1]]})
        for step, text in steps.items():
            self.builder.define(step.replace("air_data", "filter_air_data"),
                                str(text).replace("air_data", "filter_air_data"), where="air data")  # fmt: skip
        for signal, measured, unit in (("altitude", MEASURED_ALTITUDE, "m"), ("airspeed", MEASURED_AIRSPEED, "m/s")):
            if signal in signals:
                text = str(signals[signal]).replace("air_data", "filter_air_data")
                meaning = f"{signal} by the pressures that the estimator takes"
                self.define(measured, text, ("estimators", name), unit, meaning, "sensor")
        for sensor, condition in keys.ignore.items():
            key = ("estimators", name, "ignore", sensor)
            meaning = f"whether {name} does not take {sensor}"
            # a law's formula: it reads what laws read
            self.define(f"{name}_ignores_{sensor}", condition, key, "", meaning, "law")

    def _laws(self) -> set[str]:
        return {n for n, s in self.signals.items() if s.kind in ("law", "command")}

    def _reading_laws(self) -> list[str]:
        """Return the formulas that read what sensors say: of laws, commands, and the conditions of laws' modes."""
        laws = [law for law in self.configuration.laws if law.name not in self.configuration.sensing.observing]
        conditions = {n for law in laws for n in watches(law.mode_logic)}
        observers = [law for law in self.configuration.laws if law.name in self.configuration.sensing.observing]
        truthful = {n for law in observers for n in law.formulas}
        return [n for n in self.builder.nodes if n in (self._laws() - truthful) | conditions]

    def read_sensors(self) -> None:
        """Let laws read sensors and estimates in place of signals, as the switch says."""
        sensing = self.configuration.sensing
        if not any(source != "truth" for source in sensing.reads.values()):
            return
        readers = self._reading_laws()
        # guidance, which is no law, reads these
        read = {name for r in readers for name in _names(self.builder.nodes[r][0])} | set(GUIDED)
        instead, steps = stand_ins(self.configuration.sensors)
        for name in sensing.reads:
            if name == "all":
                continue
            if name not in self.signals:
                raise DravikError(f"there is no signal {name!r} to read", hint=nearest(name, self.signals))
            if name not in read:
                known = sorted(read & set(self.signals))
                raise DravikError(f"no law reads {name}", expected="one of " + ", ".join(known))
        used = []
        for signal in [n for n in self.signals if n in read]:
            source = sensing.source(signal)
            if source == "estimates" and f"estimated_{signal}" in self.inputs:
                estimate = Node("op", 0, "remembered", args=(name_node(f"estimated_{signal}"), name_node(signal)))
                self._let_read(signal, estimate, readers, "estimate")
            elif source != "truth" and signal in instead:
                used.append(str(instead[signal]))
                self._let_read(signal, parse(instead[signal], where=f"{signal} by sensors"), readers, "sensor")
            elif source != "truth" and sensing.reads.get(signal) == source:
                raise DravikError(
                    f"no {source.removesuffix('s')} stands for {signal}",
                    expected="one of " + ", ".join(sorted(instead)) if instead else "a sensor",
                    hint=f"stands_for = {{ {signal} = \"...\" }} of a sensor",
                )  # fmt: skip
        for signal in sorted(read & set(self.signals)):
            if self.signals[signal].kind == "motion" and signal != "time":
                self.sources.setdefault(signal, "truth")
        if any("air_data_" in text for text in used):
            for name, text in steps.items():
                self.builder.define(name, text, where="air data")

    def _let_read(self, signal: str, node: Node, readers: list[str], what: str) -> None:
        name, unit = f"read_{signal}", self.signals[signal].unit
        self.define(name, node, ("sensors",), unit, f"{signal} as laws read it: by {what}s", "sensor")
        wiring = Wiring(self.builder, (), set())
        wiring.rewire(signal, name, readers)
        self.inner[signal], self.sources[signal] = name, what

    def sense_faults(self) -> None:
        """Let laws and commands read what faulty signals say."""
        units = {n: s.unit for n, s in self.signals.items()}
        on_board = {n for name, s in self.configuration.sensors.items() for n in (name, *s.outputs(name))}
        laws = self._laws()
        for name, (node, unit) in self.configuration.script.sensed(units, on_board).items():
            before = self.inner.get(name, name)
            self.inner[name] = f"sensed_{name}"
            node = renamed(node, {name: before}) if before != name else node
            self.define(self.inner[name], node, ("faults",), unit, f"{name} as laws read it", "sensor")
            # a faulty sensor deceives laws and commands alone: the air and the mass go by the true signal
            Wiring(self.builder, (), laws).rewire(
                before, self.inner[name], [n for n in self.builder.nodes if n in laws]
            )

    def override(self, needed: list[str]) -> None:
        """Put overrides in the place of signals; ``needed`` are the signals that the kernel reads by their register."""
        units = {n: s.unit for n, s in self.signals.items()}
        wiring = Wiring(self.builder, {n for n, s in self.signals.items() if s.kind == "motion"}, self._laws())
        for override in self.configuration.overrides:
            name, instead = override.signal, f"override_{override.signal}"
            refusals.override(override, self.signals, self.where)
            read = self.inner.get(name, name)
            readers = wiring.readers(override)
            node = wiring.replaced(override, read, self.where("overrides", name))
            if override.input:
                self.inputs[override.input] = replace(self.inputs[override.input], unit=units[name])
                self.signals[override.input] = self.signals[override.input]._replace(unit=units[name])
            self.define(instead, node, ("overrides", name), units[name], f"{name} as it is read", "sensor")
            # the kernel reads some signals by their register: it has to be told of the one that stands in their place
            if name in needed and not override.readers:
                needed.append(instead)
            for known_as in {name, read}:  # laws read a faulty sensor's signal, everything else the true one
                wiring.rewire(known_as, instead, readers)


def _names(node: Node) -> list[str]:
    """Return all names in a formula, those behind states too."""
    found, stack = [], [node]
    while stack:
        current = stack.pop()
        if current.kind == "name":
            found.append(current.name)
        stack.extend(current.args)
    return found
