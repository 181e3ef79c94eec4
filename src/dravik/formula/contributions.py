"""What a part of an aircraft, such as an engine or a gear leg, turns into: formulas, loads, tables and events."""

from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np

from dravik.formula import Guard, Node
from dravik.frames import body_from_station
from dravik.tables import Table

__all__ = ["Contributions", "Entry", "Load", "moment_arm", "unit_vector"]

Vector = tuple[float, float, float]


class Entry(NamedTuple):
    """A formula, its unit (SI) and meaning, and the keys of the definition it comes from."""

    text: str | float | Node
    unit: str
    meaning: str
    keys: tuple[str, ...]


class Load(NamedTuple):
    """A load: the signal of its size, its direction in body axes, its station position, and its kind in the kernel."""

    size: str
    direction: Vector
    position: Vector
    kind: str


@dataclass
class Contributions:
    """Formulas by name, loads, tables, events (name: condition and words), and guards of several parts together."""

    formulas: dict[str, Entry] = field(default_factory=dict)
    loads: list[Load] = field(default_factory=list)
    tables: dict[str, Table] = field(default_factory=dict)
    events: dict[str, tuple[str, str]] = field(default_factory=dict)
    guards: list[Guard] = field(default_factory=list)

    def add(self, name: str, text: str | float | Node, unit: str, meaning: str, *keys: str) -> None:
        """Add a formula; ``keys`` name its place in the definition."""
        self.formulas[name] = Entry(text, unit, meaning, keys)

    def load(self, size: str, direction: Vector, position: Vector, kind: str = "force") -> None:
        """Add a load."""
        self.loads.append(Load(size, direction, position, kind))


def unit_vector(direction: Vector) -> Vector:
    """Return a direction of length one."""
    x, y, z = np.asarray(direction) / np.linalg.norm(direction)
    return float(x), float(y), float(z)


def moment_arm(position: Vector) -> tuple[str, str, str]:
    """Return the vector from the centre of gravity to a station position in body axes, as formulas."""
    x, y, z = (float(v) for v in body_from_station(np.array(position)))
    # body x points forward and z down, station x aft and z up: the centre is cg_x aft and cg_z up of the datum
    return f"({x!r} + cg_x)", f"({y!r} - cg_y)", f"({z!r} + cg_z)"
