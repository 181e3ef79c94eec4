"""Errors of a definition whose keys are well formed: unknown names, formulas in an impossible order."""

from collections.abc import Iterable, Mapping, Sequence

from dravik.aircraft.description.configuration import Configuration
from dravik.aircraft.description.overrides import SignalOverride
from dravik.definition.effectors import Effector, Input
from dravik.definition.signals import Signal, Where
from dravik.errors import DravikError, FormulaError, nearest
from dravik.formula import Tape, TapeBuilder
from dravik.formula.arrange import reachable
from dravik.surroundings.wind import WIND_READS


def adds(added: Iterable[str], effectors: Mapping[str, Effector], inputs: Iterable[str], where: Where) -> None:
    """Refuse additions to controls and inputs that are not there, or that have no command to add to."""
    known = [*effectors, *inputs]
    for name in added:
        place = where("add", name)
        if name in inputs:
            continue
        if name not in effectors:
            raise DravikError(f"there is no control {name!r}", where=place, hint=nearest(name, known))
        if effectors[name].command is None:
            raise DravikError(f"the command of {name} is an input", where=place, hint=f"{name}_command, which it is")


def follows(inputs: Mapping[str, Input], signals: Mapping[str, Signal], where: Where) -> None:
    """Refuse inputs that follow a signal which is not there."""
    for name, entry in inputs.items():
        if entry.follows and entry.follows not in signals:
            hint = nearest(entry.follows, signals)
            raise DravikError(
                f"there is no signal {entry.follows!r}", where=where("inputs", name, "follows"), hint=hint
            )


def table_axes(builder: TapeBuilder, signals: Mapping[str, Signal], where: Where) -> None:
    """Refuse a table whose axis has a signal's name but another kind of unit."""
    for name, table in builder.tables.items():
        for axis in table.axes:
            signal = signals.get(axis.name)
            if signal is not None and signal.unit != axis.unit:
                raise DravikError(
                    f"column {axis.name} is in {axis.unit or 'no unit'}, the signal in {signal.unit or 'none'}",
                    where=f"{where('tables', name)}: {table.source}",
                    hint=f"a header such as '{axis.name} [{'deg' if signal.unit == 'rad' else signal.unit}]'",
                )


def wind(builder: TapeBuilder, names: Sequence[str], inputs: Iterable[str]) -> None:
    """Refuse formulas of the wind that read what is not known before the air is."""
    for name, foreign in _foreign(builder, names, [*WIND_READS, *inputs]).items():
        _, place, text = builder.nodes[name]
        hint = ", ".join(WIND_READS) + ", inputs and tables"
        raise FormulaError(f"the wind and the air cannot depend on {foreign}", text=text, where=place, hint=hint)


def _foreign(builder: TapeBuilder, names: Sequence[str], known: Sequence[str]) -> dict[str, str]:
    """Return, for each of some compiled formulas, a signal or state it needs that is not among ``known``."""
    allowed = {builder.names[n] for n in known if n in builder.names}
    written = {row.result for row in builder.code}
    by_register = {r: n for n, r in builder.names.items()}
    found = {}
    for name in names:
        needs = reachable(builder.code, [builder.names[name]]) | {builder.names[name]}
        reads = {a for row in builder.code if row.result in needs for a in row.reads} | {builder.names[name]}
        for register in sorted(reads - written - allowed):
            if not builder.is_constant(register) and register in by_register:
                found[name] = by_register[register]
    return found


def levels(builder: TapeBuilder, tape: Tape, names: Sequence[str]) -> None:
    """Refuse forces that need accelerations, or alpha_dot and beta_dot other than linearly."""
    for name in names:
        register = tape.names[name]
        level, degree = builder.levels[register], builder.degrees[register]
        _, place, text = builder.nodes[name]
        if level > 1:
            raise FormulaError(
                f"{name} needs an acceleration, which in turn needs {name}", text=text, where=place,
                hint="alpha_dot or beta_dot, which forces may contain; or a lag in between",
            )  # fmt: skip
        if level == 1 and degree > 1:
            raise FormulaError(
                f"{name} is not linear in alpha_dot and beta_dot", text=text, where=place,
                hint="give the part without them a name of its own and use that, as in CL_steady for a drag polar",
            )  # fmt: skip


def override(asked: SignalOverride, signals: Mapping[str, Signal], where: Where) -> None:
    """Refuse to override a signal that is not there, or that nothing could stand in for."""
    name = asked.signal
    if name not in signals:
        hint = (
            nearest(name, signals) or "the state of a function within a formula is overridden with a formula of its own"
        )
        raise DravikError(f"there is no signal {name!r} to override", where=where("overrides", name), hint=hint)
    if signals[name].kind in ("event", "parameter") or name == "time":
        raise DravikError(f"{name} cannot be overridden", where=where("overrides", name), expected="a signal")


def script(configuration: Configuration, effectors: Iterable[str], signals: Iterable[str], where: Where) -> None:
    """Refuse faults and gusts of what is not there; ``signals`` are those that no formula of the user's makes."""
    definition, controls = configuration.aircraft, list(effectors)
    written = [*configuration.formulas, *(n for formulas in definition.laws.values() for n in formulas)]
    sensors = [n for name, s in configuration.sensors.items() for n in (name, *s.outputs(name))]
    known = {
        "engine": list(definition.engines), "control": ["", *controls],
        "signal": ["", *signals, *written, *controls, *sensors],
        "tank": list(definition.tanks),
    }  # fmt: skip
    configuration.script.check(known, where)
