"""Linear systems joined: side by side, one after another, in a loop, by the names of their signals."""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.definition import arguments
from dravik.errors import DravikError, nearest, require
from dravik.systems.matrices import NamedMatrices

__all__ = ["beside", "wired", "with_gains"]

Floats = NDArray[np.float64]


def beside(*systems: NamedMatrices) -> Any:
    """Return systems side by side, as one; names must differ, and sample times be the same.

    Parameters
    ----------
    *systems : NamedMatrices
        Systems or models.

    Returns
    -------
    any

    Raises
    ------
    DravikError
        For a name that two of them have.
    """
    from scipy.linalg import block_diag

    if not systems:
        raise DravikError("there is no system to join")
    for system in systems:
        require(system, NamedMatrices, "what is joined")
    first = systems[0]
    for other in systems[1:]:
        if other.sample_time != first.sample_time:
            raise DravikError(
                f"systems with sample times of {first.sample_time} and {other.sample_time} s cannot be joined",
                hint="discretise, or continuous",
            )
    lists = [[n for s in systems for n in getattr(s, kind)] for kind in ("states", "inputs", "outputs")]
    for kind, names in zip(("state", "input", "output"), lists, strict=True):
        twice = sorted({n for n in names if names.count(n) > 1})
        if twice:
            raise DravikError(f"two systems have the {kind} {twice[0]!r}", hint="renamed({...}) for one of them")
    a, b, c, d = (block_diag(*(getattr(s, m) for s in systems)) for m in "ABCD")
    units: dict[str, str] = {}
    for system in systems:
        for name, unit in system.units.items():
            if units.setdefault(name, unit) != unit:
                raise DravikError(f"{name!r} is in {units[name]} in one system and in {unit} in another")
    return first.plain(A=a, B=b, C=c, D=d, names=lists, units=units)


def wired(
    *systems: NamedMatrices, inputs: Sequence[str], outputs: Sequence[str],
    sums: Mapping[str, Mapping[str, float]] | None = None,
) -> Any:  # fmt: skip
    """Return systems joined by name: an input takes the output of the same name, of whichever system has it.

    Parameters
    ----------
    *systems : LinearSystem
        The systems, all continuous or of one sample time.
    inputs : sequence of str
        What comes from outside; an input of a system that is also an output of another gets the sum of both.
    outputs : sequence of str
        Outputs of systems, sums, or inputs.
    sums : mapping, optional
        More signals: ``{"error": {"command": 1, "theta": -1}}`` lets inputs called error read command minus theta, each
        an output of a system or an external input.

    Returns
    -------
    LinearSystem
        The whole.

    Raises
    ------
    DravikError
        For names that lead nowhere, for joined signals of different units, and for a loop without a lag that has no
        solution.

    Examples
    --------
    >>> import dravik as dv
    >>> plant = dv.LinearSystem.filtered("speed", "force", [1.0], [1.0, 0.5])
    >>> law = dv.LinearSystem.gain("force", {"error": 4.0})
    >>> loop = dv.wired(plant, law, inputs=["wanted"], outputs=["speed"], sums={"error": {"wanted": 1, "speed": -1}})
    >>> round(float(loop.poles()[0].real), 9)
    -4.5
    """
    whole = beside(*systems)
    inputs, outputs = arguments.names(inputs, "inputs"), arguments.names(outputs, "outputs")
    sums = {name: _gains(parts, name) for name, parts in arguments.mapping(sums or {}, "sums").items()}
    outside = list(dict.fromkeys(inputs))
    signals = [*whole.outputs, *sums]
    for name in sums:
        if name in whole.outputs:
            raise DravikError(f"the sum {name!r} has the name of an output", hint="another name")
    rows = {name: _row(name, whole, sums, outside, ()) for name in [*signals, *outside]}
    m, r = len(whole.inputs), len(outside)
    inner, outer = np.zeros((m, len(whole.outputs))), np.zeros((m, r))
    for i, name in enumerate(whole.inputs):
        if name not in rows:
            continue  # held constant: no deviation
        inner[i], outer[i] = rows[name] if name not in signals else _source(rows, name, whole, outside)
    for name in outside:
        used = name in whole.inputs or any(name in parts for parts in sums.values())
        if not used:
            raise DravikError(f"no system has the input {name!r}", hint=nearest(name, [*whole.inputs, *sums]))
    for name in outputs:
        if name not in rows:
            raise DravikError(f"no system has the output {name!r}", hint=nearest(name, list(rows)))
    _check_units(whole, sums)
    system = _interconnected(whole, inner, outer, outside)
    # y = C x + D r are the outputs of the systems; the wanted outputs combine them with the external inputs
    mix = np.array([rows[n][0] for n in outputs]).reshape(len(outputs), len(whole.outputs))
    through = np.array([rows[n][1] for n in outputs]).reshape(len(outputs), r)
    return system.plain(
        A=system.A, B=system.B, C=mix @ system.C, D=mix @ system.D + through,
        names=[whole.states, outside, list(outputs)], units=whole.units,
    )  # fmt: skip


def _gains(parts: object, name: str) -> dict[str, float]:
    return {n: arguments.number(v, f"gain of {n}") for n, v in arguments.mapping(parts, name).items()}


def _source(
    rows: Mapping[str, tuple[Floats, Floats]], name: str, whole: NamedMatrices, outside: list[str]
) -> tuple[Floats, Floats]:
    inner, outer = rows[name]
    if name in outside:
        outer = outer.copy()
        outer[outside.index(name)] += 1.0
    return inner, outer


def _row(
    name: str, whole: NamedMatrices, sums: Mapping[str, Mapping[str, float]], outside: list[str], path: tuple[str, ...]
) -> tuple[Floats, Floats]:
    """Return a signal as a linear combination of the systems' outputs and the external inputs."""
    inner, outer = np.zeros(len(whole.outputs)), np.zeros(len(outside))
    if name in path:
        raise DravikError(f"the sums {' -> '.join([*path, name])} lead back to themselves")
    if name in whole.outputs:
        inner[whole.outputs.index(name)] = 1.0
    elif name in sums:
        for part, gain in sums[name].items():
            a, b = _row(part, whole, sums, outside, (*path, name))
            inner, outer = inner + gain * a, outer + gain * b
    elif name in outside:
        outer[outside.index(name)] = 1.0
    else:
        known = [*whole.outputs, *sums, *outside]
        raise DravikError(f"there is no signal {name!r} to join", expected=", ".join(known), hint=nearest(name, known))
    return inner, outer


def _check_units(whole: NamedMatrices, sums: Mapping[str, Mapping[str, float]]) -> None:
    for name, parts in sums.items():
        found = {whole.units[p]: p for p in [*parts, name] if whole.units.get(p)}
        if len(found) > 1:
            listed = ", ".join(f"{p} in {u}" for u, p in found.items())
            raise DravikError(f"the sum {name!r} joins signals of different units: {listed}")


def _interconnected(whole: NamedMatrices, inner: Floats, outer: Floats, inputs: list[str]) -> Any:
    """Return the system whose inputs are u = inner y + outer r."""
    loop = np.eye(len(whole.outputs)) - whole.D @ inner
    if np.linalg.cond(loop) > 1e12:
        raise DravikError("a loop without a lag has no solution", hint="a state (an actuator, a filter) in the loop")
    solved = np.linalg.inv(loop)
    c, d = solved @ whole.C, solved @ whole.D @ outer
    return whole.plain(
        A=whole.A + whole.B @ inner @ c, B=whole.B @ (outer + inner @ d), C=c, D=d,
        names=[whole.states, inputs, whole.outputs], units=whole.units,
    )  # fmt: skip


def with_gains(system: NamedMatrices, gains: Mapping[str, Mapping[str, float]]) -> Any:
    """Return a system with loops of constant gains: ``{"elevator": {"q": 0.5}}`` adds 0.5 q to the elevator.

    All inputs remain: their external values are added. Raises DravikError for unknown names.
    """
    inner = np.zeros((len(system.inputs), len(system.outputs)))
    for target, given in arguments.mapping(gains, "gains").items():
        parts = _gains(given, target)
        i = system.indices([target], "inputs")[0]
        for source, gain in parts.items():
            inner[i, system.indices([source], "outputs")[0]] += gain
    found = _interconnected(system, inner, np.eye(len(system.inputs)), system.inputs)
    return replace(system, A=found.A, B=found.B, C=found.C, D=found.D)
