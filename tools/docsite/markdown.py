"""Tables and cells of Markdown pages that are written by the tools."""

from collections.abc import Iterable, Sequence


def cell(text: str) -> str:
    """Return text for a cell of a table: on one line, bars escaped, double backticks single."""
    return " ".join(text.split()).replace("``", "`").replace("|", "\\|")


def table(header: Sequence[str], rows: Iterable[Sequence[str]]) -> list[str]:
    """Return the lines of a table, and an empty one."""
    lines = [f"| {' | '.join(header)} |", "|" + "---|" * len(header)]
    lines += [f"| {' | '.join(cell(c) for c in row)} |" for row in rows]
    return [*lines, ""]


def toctree(names: Iterable[str], caption: str = "") -> list[str]:
    """Return the lines of a list of pages."""
    options = [":maxdepth: 1", *([f":caption: {caption}"] if caption else []), ""]
    return ["```{toctree}", *options, *names, "```", ""]
