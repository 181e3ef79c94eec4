"""Coefficients as functions of plain signals: what tables and formulas say, whatever they are called."""

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray
from pydantic import BaseModel, ConfigDict

from dravik.aero.drawing.geometry import Reference
from dravik.definition.effectors import Effector, Parameter
from dravik.definition.toml import read_definition
from dravik.formula import CONSTANTS, Node, parse
from dravik.formula.evaluate import value_of
from dravik.host.files import is_folder
from dravik.tables import Table
from dravik.tables.entries import TableEntries, read_tables
from dravik.units import in_si

__all__ = ["COEFFICIENTS", "Coefficients", "read_coefficients"]

Floats = NDArray[np.float64]
COEFFICIENTS = ("CL", "CD", "CY", "Cl", "Cm", "Cn")
# rad: far above the rounding of six printed digits, far below the spacing of any table
STEP = 1e-3


@dataclass(frozen=True)
class Coefficients:
    """Tables and formulas of the six coefficients in their ``axes``, with the reference lengths (SI)."""

    name: str
    tables: Mapping[str, Table]
    formulas: Mapping[str, str | float]
    axes: str
    moment_axes: str
    area: float
    chord: float
    span: float
    moment_point: tuple[float, float, float]
    controls: Mapping[str, tuple[float, float]] = field(default_factory=dict)

    @cached_property
    def _nodes(self) -> dict[str, Node]:
        return {n: parse(f, where=f"{self.name}: {n}") for n, f in self.formulas.items()}

    @cached_property
    def ranges(self) -> dict[str, tuple[float, float]]:
        """How far the tables reach along each of their axes, SI, the widest table counting; and controls in formulas.

        What a formula of the set gives, such as an incidence, is no setting, though a table runs over it.
        """
        found: dict[str, tuple[float, float]] = {n: r for n, r in self.controls.items() if n in self.names}
        for table in self.tables.values():
            # the widest, not what all cover: beyond its own axis a table holds its last value, as in flight
            for axis in (a for a in table.axes if a.name not in self.formulas):
                low, high = found.get(axis.name, (np.inf, -np.inf))
                found[axis.name] = min(low, float(axis.values[0])), max(high, float(axis.values[-1]))
        return found

    @cached_property
    def names(self) -> set[str]:
        """Every name that stands in a formula."""
        return _names_in(self._nodes.values())

    def is_angle(self, name: str) -> bool:
        """Whether a control, or a table's axis of this name, is an angle."""
        return name in self.controls or any(
            a.unit == "rad" for t in self.tables.values() for a in t.axes if a.name == name
        )

    def _si(self, name: str, value: ArrayLike) -> Floats:
        """Return a signal's values in SI: text carries its unit, an angle's where the signal is one."""
        if isinstance(value, str):
            # "3 deg" for an angle, "0.3" for a Mach number: the unit is checked against what the signal is
            angle = name in ("alpha", "beta") or self.is_angle(name)
            return np.asarray(in_si(value, "angle" if angle else "number", where=name))
        return np.asarray(value, dtype=float)

    def at(self, **signals: ArrayLike) -> dict[str, Floats]:
        """Return CL, CD in stability axes, CY, and Cl, Cm, Cn in body axes, at signals of any common shape.

        Signals are in SI and rad, or text with a unit; those that are not given are zero. Raises FormulaError for a
        formula with states.
        """
        given = {n: self._si(n, v) for n, v in signals.items()}
        known: dict[str, Floats] = {
            **{n: np.asarray(v) for n, v in CONSTANTS.items()},
            "reference_area": np.asarray(self.area), "reference_chord": np.asarray(self.chord),
            "reference_span": np.asarray(self.span),
            # rates turn about the moment point unless a centre of gravity is given
            **{f"cg_{a}": np.asarray(v) for a, v in zip("xyz", self.moment_point, strict=True)},
            **given,
        }  # fmt: skip

        def value(name: str) -> Floats:
            # evaluated when first read and kept: formulas name each other in any order
            if name not in known:
                node = self._nodes.get(name)
                known[name] = value_of(node, value, self.tables) if node is not None else np.asarray(0.0)
            return known[name]

        found = self._to_common(value)
        shape = np.broadcast_shapes(*(v.shape for v in given.values()), *(v.shape for v in found.values()))
        return {n: np.broadcast_to(v, shape) + 0.0 for n, v in found.items()}

    def _to_common(self, value: Callable[[str], Floats]) -> dict[str, Floats]:
        alpha, beta = value("alpha"), value("beta")
        ca, sa = np.cos(alpha), np.sin(alpha)
        side = value("CY")
        if self.axes == "body":
            x, z = value("CX"), value("CZ")
            # CX forward and CZ down along the body; lift up and drag back along the wind
            lift, drag = x * sa - z * ca, -x * ca - z * sa
        else:
            lift, drag = value("CL"), value("CD")
            if self.axes == "wind":
                cb, sb = np.cos(beta), np.sin(beta)
                # wind axes are turned by the sideslip too; stability axes by alpha alone
                drag, side = drag * cb + side * sb, side * cb - drag * sb
        roll, pitch, yaw = value("Cl"), value("Cm"), value("Cn")
        # rolling and yawing moment turn with alpha, the pitching axis is the same
        if self.moment_axes == "stability":
            roll, yaw = roll * ca - yaw * sa, roll * sa + yaw * ca
        return {"CL": lift, "CD": drag, "CY": side, "Cl": roll, "Cm": pitch, "Cn": yaw}

    def slopes(self, by: str, *, step: float = STEP, **signals: ArrayLike) -> dict[str, Floats]:
        """Return the derivatives of the six coefficients by a signal (1/rad, or one of its unit), by differences.

        Central ones; at an edge of a table along that signal the difference to the side that the table covers.
        """
        middle = self._si(by, signals.get(by, 0.0))
        low, high = self._within(by, middle, step)
        moved: list[dict[str, Any]] = [{**signals, by: side} for side in (high, low)]
        up, down = (self.at(**m) for m in moved)
        return {n: (up[n] - down[n]) / (high - low) for n in COEFFICIENTS}

    def _within(self, by: str, middle: Floats, step: float) -> tuple[Floats, Floats]:
        """Return the places below and above, a step away but not across an edge of a table that has the middle."""
        low, high = middle - step, middle + step
        tiny = 1e-9
        for axis in (a for t in self.tables.values() for a in t.axes if a.name == by):
            first, last = float(axis.values[0]), float(axis.values[-1])
            inside = (middle >= first - tiny) & (middle <= last + tiny)
            low = np.where(inside, np.maximum(low, first), low)
            high = np.where(inside, np.minimum(high, last), high)
        flat = high - low < tiny  # the ranges of the two tables only touch
        return np.where(flat, middle - step, low), np.where(flat, middle + step, high)

    def one_sided(self, control: str) -> tuple[float, float] | None:
        """Return the range of a control that the tables cover on one side of neutral only; else None."""
        if control not in self.ranges:
            return None
        low, high = self.ranges[control]
        return (low, high) if low >= 0.0 or high <= 0.0 else None

    def neutral_point(self, **signals: ArrayLike) -> Floats:
        """Return the neutral point with fixed controls, as station x in m: where a change of normal force acts.

        The normal force is that across the body's x axis: it alone turns the aircraft about a point on that axis.
        """
        given: dict[str, Any] = dict(signals)
        alpha = self._si("alpha", signals.get("alpha", 0.0))
        at, by = self.at(**given), self.slopes("alpha", **given)
        normal = np.cos(alpha) * (by["CL"] + at["CD"]) + np.sin(alpha) * (by["CD"] - at["CL"])
        force = np.where(normal == 0.0, np.nan, normal)  # no normal force, no neutral point
        found: Floats = self.moment_point[0] - by["Cm"] / force * self.chord
        return found


class _Set(BaseModel):
    """What of a set's file matters here; an aircraft's file is read by the aircraft."""

    model_config = ConfigDict(extra="ignore", frozen=True)
    name: str = ""
    reference: Reference
    tables: TableEntries = {}
    aero: dict[str, object]
    increments: dict[str, dict[str, object]] = {}
    controls: dict[str, object] = {}
    formulas: dict[str, object] = {}
    parameters: dict[str, Parameter] = {}


def read_coefficients(path: str | Path) -> Coefficients:
    """Return the set of tables in a folder (its ``aero.toml``), or in a file such as an aircraft's.

    Parameters
    ----------
    path : str or path
        A folder with an ``aero.toml``, or a file.

    Returns
    -------
    Coefficients

    Raises
    ------
    DravikError
        With file, line and key, for what is missing or wrong.
    """
    file = Path(path)
    if is_folder(file):
        file = file / "aero.toml"
    found, lines = read_definition(file, _Set)
    tables = read_tables(found.tables, lines)
    formulas: dict[str, str | float] = {}
    for name, value in found.aero.items():
        if name not in ("axes", "moment_axes"):
            formulas[name] = _text_of(value)
    for group, more in found.increments.items():
        for coefficient, value in more.items():
            formulas[f"{coefficient}_{group}"] = _text_of(value)
            # in brackets: the base may be a sum, and an increment must not bind to its last term
            formulas[coefficient] = f"({formulas.get(coefficient, 0)}) + {coefficient}_{group}"
    _add_what_is_read(formulas, found, where=file.name)
    axes = str(found.aero.get("axes", "stability"))
    moment_axes = str(found.aero.get("moment_axes", "body" if axes == "wind" else axes))
    ref = found.reference
    return Coefficients(
        found.name or file.resolve().parent.name,
        tables,
        formulas,
        axes,
        moment_axes,
        ref.area,
        ref.chord,
        ref.span,
        ref.moment_point,
        _controls(found.controls),
    )


def _text_of(value: object) -> str | float:
    """Return a formula as a file gives it, alone or with unit and meaning."""
    text = value["formula"] if isinstance(value, dict) else value
    return text if isinstance(text, float) else str(text)


def _add_what_is_read(formulas: dict[str, str | float], found: _Set, where: str) -> None:
    """Add the file's other formulas, and its parameters, that these read by name."""
    fresh = list(formulas)
    while fresh:
        read = _names_in(parse(formulas[n], where=f"{where}: {n}") for n in fresh) - set(formulas)
        fresh = [n for n in read if n in found.formulas]
        formulas |= {n: _text_of(found.formulas[n]) for n in fresh}
        formulas |= {n: found.parameters[n].value for n in read if n in found.parameters}


def _names_in(nodes: Iterable[Node]) -> set[str]:
    """Return every name that stands in formulas."""
    found: set[str] = set()
    stack = list(nodes)
    while stack:
        node = stack.pop()
        if node.kind == "name":
            found.add(node.name)
        stack.extend(node.args)
    return found


def _controls(entries: Mapping[str, object]) -> dict[str, tuple[float, float]]:
    """Return the ranges (rad) of an aircraft's surfaces: those of controls that are angles."""
    found = {}
    for name, entry in entries.items():
        effector = Effector.model_validate(entry)
        if effector.kind == "angle":
            found[name] = effector.range or (-0.35, 0.35)
    return found
