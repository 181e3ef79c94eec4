"""Tables laid out in a width: numbers whole and to the right, texts folded, too many columns below one another."""

import re
from collections.abc import Sequence
from dataclasses import dataclass
from textwrap import wrap

from dravik.errors import readable
from dravik.report.pages.text import cell_text
from dravik.report.shown_units import rows_in_units

__all__ = ["GAP", "Laid", "laid_out", "lines_of"]

_NUMBER = re.compile(r"[-+]?[\d.]+(e[-+]?\d+)?( ± [\d.]+(e[-+]?\d+)? i)?( [A-Za-z%/^*\d]+)?|-|inf|-inf")
GAP = 2  # between columns of a printed table
LONGEST_WORD = 24  # of text in it that is not broken


@dataclass(frozen=True)
class Laid:
    """Columns that stand side by side: headings, cells by row, widths, and which of them are numbers."""

    heads: list[str]
    rows: list[list[str]]
    widths: list[int]
    numeric: list[bool]

    @property
    def width(self) -> int:
        """How wide they are together."""
        return sum(self.widths) + GAP * (len(self.widths) - 1)


def laid_out(columns: Sequence[str], rows: Sequence[Sequence[object]], room: int) -> list[Laid]:
    """Return a table in a width; what is too wide as several below one another, each with the first column."""
    numeric = [any(isinstance(r[i], float) for r in rows if i < len(r)) for i in range(len(columns))]
    cells = [[*map(cell_text, row), *[""] * (len(columns) - len(row))] for row in rows]
    heads = [readable(c) for c in columns]
    # numbers with their unit, and complex ones, are texts that are not broken either
    numeric = [n or _are_numbers([r[i] for r in cells]) for i, n in enumerate(numeric)]
    least = [_least_width(heads[i], [r[i] for r in cells], whole=numeric[i] or i == 0) for i in range(len(columns))]
    natural = [max(len(t) for t in (heads[i], *(r[i] for r in cells))) for i in range(len(columns))]
    return [
        Laid(
            [heads[i] for i in block], [[row[i] for i in block] for row in cells],
            _fitted([natural[i] for i in block], [least[i] for i in block], room), [numeric[i] for i in block],
        )
        for block in _blocks(least, room)
    ]  # fmt: skip


def lines_of(columns: Sequence[str], rows: Sequence[Sequence[object]], room: int) -> list[list[str]]:
    """Return a table as lines of text of one width for each letter; its headings first, for each part of it."""
    found = []
    for part in laid_out(*rows_in_units(columns, rows), room):
        head = _folded(part.heads, part)
        lines = [line for row in part.rows for line in _folded(row, part)]
        found.append([*head, "-" * part.width, *lines])
    return found


def _folded(cells: Sequence[str], part: Laid) -> list[str]:
    """Return one row as lines: texts that are too long for their column go on below."""
    broken = [wrap(text, max(width, 1)) or [""] for text, width in zip(cells, part.widths, strict=True)]
    lines = []
    for k in range(max(len(b) for b in broken)):
        texts = [b[k] if k < len(b) else "" for b in broken]
        sided = [
            t.rjust(w) if right else t.ljust(w)
            for t, w, right in zip(texts, part.widths, part.numeric, strict=True)
        ]  # fmt: skip
        lines.append((" " * GAP).join(sided).rstrip())
    return lines


def _fitted(natural: list[int], least: list[int], room: int) -> list[int]:
    """Return widths of columns that fit, each between its least and its natural one; the widest give way first."""
    widths = list(natural)
    while sum(widths) + GAP * (len(widths) - 1) > room:
        spare = [w - low for w, low in zip(widths, least, strict=True)]
        if max(spare) <= 0:
            break
        # of those that can give way the one that is the widest: headings break at words, text folds
        widths[max((k for k, s in enumerate(spare) if s > 0), key=lambda k: widths[k])] -= 1
    return widths


def _are_numbers(cells: Sequence[str]) -> bool:
    """Whether every cell that says something is a number, perhaps complex or with a unit."""
    said = [c for c in cells if c]
    return bool(said) and all(_NUMBER.fullmatch(c) for c in said)


def _least_width(head: str, cells: Sequence[str], *, whole: bool) -> int:
    """Return how wide a column must be: for its cells as a whole, or for their longest words up to some length."""
    words = [word for text in (head, *([] if whole else cells)) for word in text.split()]
    return max([len(w) if whole else min(len(w), LONGEST_WORD) for w in words] + [len(c) for c in cells if whole] + [1])


def _blocks(widths: Sequence[int], room: int) -> list[list[int]]:
    """Return which columns stand side by side in the room that there is; the first stands in each block."""
    found: list[list[int]] = [[0]] if widths else []
    for i in range(1, len(widths)):
        taken = sum(widths[k] + GAP for k in found[-1])
        if len(found[-1]) > 1 and taken + widths[i] > room:
            found.append([0])
        found[-1].append(i)
    return found
