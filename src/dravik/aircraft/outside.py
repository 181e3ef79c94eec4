"""Tables that were left while something was evaluated or flown: which, along which axis, how often, how far."""

from collections.abc import Mapping

from dravik.formula import Tape
from dravik.kernel import Workspace
from dravik.kernel.program import FLAGS
from dravik.tables import Table

__all__ = ["message", "visits"]


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
