"""One self-contained HTML page: blocks with a verdict, a table, and figures inside the file."""

import base64
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

from jinja2 import Environment, FileSystemLoader

from dravik.host.files import write_text
from dravik.report.text import cell_text
from dravik.version import __version__

__all__ = ["Block", "write_page"]


@dataclass
class Block:
    """A part of a page: heading, verdict (good or not), sentences, a table, and pictures below or beside it."""

    heading: str
    verdict: str = ""
    good: bool = True
    texts: list[str] = field(default_factory=list)
    columns: Sequence[str] = ()
    rows: Sequence[Sequence[object]] = ()
    images: Sequence[Path] = ()
    beside: bool = False


def rendered(template: str, **values: object) -> str:
    """Return a page of this folder with values filled in; what they hold is text, never markup."""
    environment = Environment(loader=FileSystemLoader(Path(__file__).parent), autoescape=True)
    return environment.get_template(template).render(**values)


def write_page(path: str | Path, title: str, subtitle: str, blocks: Sequence[Block]) -> Path:
    """Write the page.

    Parameters
    ----------
    path : str or path
        The HTML file.
    title : str
        The title of the page.
    subtitle : str
        What stands below it.
    blocks : sequence of Block
        What is on the page, in order.

    Returns
    -------
    Path

    Raises
    ------
    DravikError
        When the file cannot be written.
    """
    prepared = [
        {
            "heading": b.heading,
            "verdict": b.verdict,
            "good": b.good,
            "texts": b.texts,
            "beside": b.beside,
            "columns": b.columns,
            "rows": [[{"text": cell_text(c), "numeric": isinstance(c, int | float)} for c in row] for row in b.rows],
            "images": [{"name": p.stem, "data": base64.b64encode(p.read_bytes()).decode()} for p in b.images],
        }
        for b in blocks
    ]
    text = rendered("page.html", title=title, subtitle=subtitle, blocks=prepared, version=__version__)
    return write_text(path, text, what="page")
