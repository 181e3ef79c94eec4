"""Tables that were left while something was evaluated or flown: which, along which axis, how often, how far."""

from collections.abc import Mapping
from typing import NamedTuple

import numpy as np

from dravik.formula import Tape
from dravik.kernel import Workspace
from dravik.kernel.program import COUNTING, FLAGS
from dravik.tables import Table
from dravik.units import from_si

__all__ = ["TableExceedance", "count_visits", "message", "told", "visits", "visits_of"]


class TableExceedance(NamedTuple):
    """A table that a point lies outside of: along which axis, the argument there, the table's end, and the SI unit."""

    table: str
    axis: str
    value: float
    end: float
    unit: str

    def row(self) -> dict[str, str | float]:
        """Return it as plain data, in the unit shown to people."""
        unit, factor, _ = from_si(self.unit)
        return {
            "table": self.table, "axis": self.axis, "value": self.value * factor, "end": self.end * factor,
            "beyond": (self.value - self.end) * factor, "unit": unit,
        }  # fmt: skip


def told(left: "list[TableExceedance]") -> list[str]:
    """Return in words which tables were left and by how much, one line for each axis and end."""
    groups: dict[tuple[str, float, float, str], list[str]] = {}
    for one in left:
        groups.setdefault((one.axis, one.value, one.end, one.unit), []).append(one.table)
    lines = []
    for (axis, value, end, si), tables in groups.items():
        unit, factor, _ = from_si(si)
        names = ", ".join(tables[:3]) + (f" and {len(tables) - 3} more" if len(tables) > 3 else "")
        verb = "end" if len(tables) > 1 else "ends"
        lines.append(
            f"outside its tables: {axis} is {value * factor:.4g} {unit}, {names} {verb} at {end * factor:.4g}: "
            f"{abs(value - end) * factor:.3g} {unit} beyond"
        )
    return lines


def count_visits(w: Workspace) -> None:
    """Have the next evaluations note which tables they leave, those before forgotten."""
    w.counters[FLAGS:] = 0
    w.worst[:, 0], w.worst[:, 1] = np.inf, -np.inf
    w.counters[COUNTING] = 1


def visits_of(tape: Tape, tables: Mapping[str, Table], w: Workspace) -> list[TableExceedance]:
    """Return the tables that were left since ``count_visits``, and note no more."""
    w.counters[COUNTING] = 0
    if not w.counters[FLAGS:].any():
        return []
    found = []
    for table, axis, _, low, high in visits(tape, w):
        if table not in tables:
            continue
        span = next(a for a in tables[table].axes if a.name == axis)
        first, last = float(span.values[0]), float(span.values[-1])
        value, end = (low, first) if first - low > high - last else (high, last)
        found.append(TableExceedance(table, axis, value, end, span.unit))
    return found


def message(tape: Tape, tables: Mapping[str, Table], counter: int, value: float) -> str:
    """Return in words which table was left, on which axis, and at what value (SI)."""
    table, axis = tape.locates[counter][0]
    if table not in tables:  # a table that Dravik makes, such as a battery's
        return f"{axis} = {value:.6g} is outside table {table}"
    span = next(a for a in tables[table].axes if a.name == axis)
    return (
        f"{axis} = {value:.6g} {span.unit} is outside table {table}, "
        f"which covers {span.values[0]:.6g} to {span.values[-1]:.6g} {span.unit}"
    )


def visits(tape: Tape, w: Workspace) -> list[tuple[str, str, int, float, float]]:
    """Return table, axis, visits, lowest and highest argument (SI) for each axis that was left."""
    found: list[tuple[str, str, int, float, float]] = []
    for i, users in enumerate(tape.locates):
        count = int(w.counters[FLAGS + i])
        if count:
            found.extend((t, a, count, float(w.worst[i, 0]), float(w.worst[i, 1])) for t, a in users)
    return found
