"""What a notebook and a console show of a result: a line that says what it is, and a table."""

from collections.abc import Iterable, Sequence
from html import escape
from typing import Any

__all__ = ["Shown", "ShownAsTable", "of_records"]

Shown = tuple[str, Sequence[str], Iterable[Sequence[object]]]  # a title, columns, rows

MOST_ROWS = 60  # of a table that is shown; a result has all of them


class ShownAsTable:
    """The base of results that show themselves in a notebook as a table, and in a console as a line.

    Who derives from it says in ``summary_table`` what it is, and gives the columns and rows of its table.

    >>> class Weights(ShownAsTable):
    ...     def summary_table(self):
    ...         return "two weights", ("part", "kg"), [("wing", 210.0), ("tail", 38.5)]
    >>> Weights()
    <Weights: two weights>
    >>> Weights()._repr_html_().count("<tr>")
    3
    """

    def summary_table(self) -> Shown:
        """Return a title, the columns, and the rows."""
        raise NotImplementedError

    def __repr__(self) -> str:
        """Return one line: what it is."""
        return f"<{type(self).__name__}: {self.summary_table()[0]}>"

    def _repr_html_(self) -> str:
        """Return the table as HTML, for notebooks."""
        title, columns, rows = self.summary_table()
        head = "".join(f"<th>{escape(name)}</th>" for name in columns)
        listed = list(rows)
        body = "".join(f"<tr>{''.join(_cell(v) for v in row)}</tr>" for row in listed[:MOST_ROWS])
        more = f"<p>... and {len(listed) - MOST_ROWS} rows more</p>" if len(listed) > MOST_ROWS else ""
        return f"<p>{escape(title)}</p><table><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table>{more}"


def _cell(value: Any) -> str:
    """Return a cell: numbers to five digits, nothing for None and nan."""
    if value is None or value != value:
        return "<td></td>"
    if isinstance(value, bool | str):
        return f"<td>{escape(str(value))}</td>"
    if isinstance(value, dict):
        return f"<td>{escape(', '.join(f'{k} {v:.2g}' for k, v in value.items()))}</td>"
    try:
        return f'<td style="text-align: right">{value:.5g}</td>'
    except (TypeError, ValueError):
        return f"<td>{escape(str(value))}</td>"


def of_records(rows: Sequence[dict[str, Any]]) -> tuple[Sequence[str], Iterable[Sequence[object]]]:
    """Return columns and rows of records with the same keys."""
    columns = list(rows[0]) if rows else []
    return columns, [list(row.values()) for row in rows]
