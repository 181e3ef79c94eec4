"""The nomenclature: one table of words, symbols, units and signs, from ``docs/reference/nomenclature.toml``."""

import tomllib
from pathlib import Path

from tools.docsite.markdown import table
from tools.docsite.running import DOCS

FILE = DOCS / "reference" / "nomenclature.toml"
HEADER = ("term", "symbol or signal", "SI unit", "what it is, with its sign", "source")


def groups() -> list[tuple[str, list[tuple[str, ...]]]]:
    """Return the groups of terms: a title, and rows as in the header."""
    data = tomllib.loads(FILE.read_text(encoding="utf-8"))
    return [(g["title"], [tuple(row) for row in g["rows"]]) for g in data["groups"]]


def write(folder: Path) -> None:
    """Write the page."""
    lines = [
        "# Nomenclature",
        "",
        'Every term once. "Practice" is what textbooks and colleagues say; "Dravik" is a word of our own.',
        "",
    ]
    lines += [
        "Axes and signs are explained in [Conventions](conventions.md); all signals of each sample are in [Signals](signals/index.md).",
        "",
    ]
    for title, rows in groups():
        lines += [f"## {title}", "", *table(HEADER, rows)]
    (folder / "nomenclature.md").write_text("\n".join(lines), encoding="utf-8")
