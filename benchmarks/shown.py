"""Show a table of measurements; with ``--write`` also put it into the page of benchmarks, between its marks."""

import re
import sys
from collections.abc import Sequence
from pathlib import Path

from rich.console import Console
from rich.table import Table

PAGE = Path(__file__).resolve().parents[1] / "docs" / "background" / "benchmarks.md"


def show(name: str, header: Sequence[str], rows: Sequence[Sequence[str]]) -> None:
    """Print rows; write them between ``<!-- benchmark: NAME -->`` and ``<!-- end -->`` where that is asked for."""
    table = Table(*header, box=None)
    for row in rows:
        table.add_row(*row)
    Console(width=140).print(table)
    if "--write" not in sys.argv:
        return
    lines = ["| " + " | ".join(cells) + " |" for cells in (header, *rows)]
    lines.insert(1, "|" + "---|" * len(header))
    text = PAGE.read_text(encoding="utf-8")
    mark = re.compile(rf"(<!-- benchmark: {re.escape(name)} -->\n).*?(<!-- end -->)", re.DOTALL)
    if not mark.search(text):
        raise SystemExit(f"{PAGE.name} has no marks for the benchmark {name!r}")
    PAGE.write_text(mark.sub(lambda m: m[1] + "\n".join(lines) + "\n" + m[2], text), encoding="utf-8")
