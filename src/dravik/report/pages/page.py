"""Pages of blocks: a verdict, sentences, tables and figures, in one self-contained HTML file or as a PDF."""

import base64
import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from jinja2 import Environment, FileSystemLoader

from dravik.host.files import write_text
from dravik.report.pages.text import cell_text
from dravik.report.shown_units import rows_in_units
from dravik.version import __version__

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    Maker = Callable[[], Figure]
else:
    Maker = Callable  # what makes a figure, when the page is written

__all__ = ["Block", "Maker", "Sheet", "block_from", "block_text", "figure_files", "write_page"]


@dataclass(frozen=True)
class Sheet:
    """A table of a page: its columns, its rows, and what stands above it."""

    columns: Sequence[str]
    rows: Sequence[Sequence[object]]
    title: str = ""


@dataclass
class Block:
    """A part of a page: heading, verdict, sentences, tables, and pictures below or beside them.

    ``good`` colours the verdict; None leaves it without. ``images`` are pictures that are there already, ``figures``
    are made when the page is written, by what they show.
    """

    heading: str
    verdict: str = ""
    good: bool | None = True
    texts: list[str] = field(default_factory=list)
    tables: Sequence[Sheet] = ()
    images: Sequence[Path] = ()
    figures: "Mapping[str, Maker]" = field(default_factory=dict)
    beside: bool = False


def rendered(template: str, **values: object) -> str:
    """Return a page of this folder with values filled in; what they hold is text, never markup."""
    environment = Environment(loader=FileSystemLoader(Path(__file__).parent), autoescape=True)
    return environment.get_template(template).render(**values)


def write_page(path: str | Path, title: str, subtitle: str, blocks: Sequence[Block]) -> Path:
    """Write the page of blocks whose pictures are there already.

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
            "colour": {True: "yes", False: "no", None: "soft"}[b.good],
            "texts": b.texts,
            "beside": b.beside,
            "tables": [_table(sheet) for sheet in b.tables if sheet.rows],
            "images": [{"name": p.stem, "data": base64.b64encode(p.read_bytes()).decode()} for p in b.images],
        }
        for b in blocks
    ]
    text = rendered("page.html", title=title, subtitle=subtitle, blocks=prepared, version=__version__)
    return write_text(path, text, what="page")


def _table(sheet: Sheet) -> dict[str, object]:
    columns, rows = rows_in_units(sheet.columns, sheet.rows)
    return {"title": sheet.title, "columns": columns, "rows": [[_cell(c) for c in row] for row in rows]}


def _cell(value: object) -> dict[str, object]:
    return {"text": cell_text(value), "numeric": isinstance(value, int | float)}


def figure_files(block: Block, folder: Path, ending: str) -> dict[Path, Maker]:
    """Return what makes the figures of a block by the file each goes to, in order; they are its images from now on."""
    # a number, so that figures of the same heading stay apart
    begun = len(list(folder.iterdir()))
    block.images = [folder / f"{begun + k:03d}" / f"{_file_name(what)}{ending}" for k, what in enumerate(block.figures)]
    for file in block.images:
        file.parent.mkdir()
    found = dict(zip(block.images, block.figures.values(), strict=True))
    block.figures = {}
    return found


def block_text(block: Block) -> str:
    """Return a block whose pictures are there as text, which another process reads."""
    tables = [(sheet.columns, sheet.rows, sheet.title) for sheet in block.tables]
    images = [str(image) for image in block.images]
    return json.dumps([block.heading, block.verdict, block.good, block.texts, tables, images, block.beside])


def block_from(text: str) -> Block:
    """Return the block of such a text."""
    heading, verdict, good, texts, tables, images, beside = json.loads(text)
    sheets = [Sheet(*sheet) for sheet in tables]
    return Block(heading, verdict, good, texts, sheets, [Path(image) for image in images], beside=beside)


def _file_name(text: str) -> str:
    return "".join(c if c.isalnum() else " " for c in text)[:60]
