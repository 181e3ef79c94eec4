"""Pages of blocks: a verdict, sentences, tables and figures, in one self-contained HTML file or as a PDF."""

import base64
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from jinja2 import Environment, FileSystemLoader

from dravik.host.files import write_text
from dravik.report.pages.text import cell_text
from dravik.version import __version__

if TYPE_CHECKING:
    from matplotlib.figure import Figure

__all__ = ["Block", "Sheet", "figure_files", "write_page"]


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
    figures: "Mapping[str, Callable[[], Figure]]" = field(default_factory=dict)
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
            "tables": [
                {
                    "title": sheet.title,
                    "columns": sheet.columns,
                    "rows": [[_cell(c) for c in row] for row in sheet.rows],
                }
                for sheet in b.tables
                if sheet.rows
            ],
            "images": [{"name": p.stem, "data": base64.b64encode(p.read_bytes()).decode()} for p in b.images],
        }
        for b in blocks
    ]
    text = rendered("page.html", title=title, subtitle=subtitle, blocks=prepared, version=__version__)
    return write_text(path, text, what="page")


def _cell(value: object) -> dict[str, object]:
    return {"text": cell_text(value), "numeric": isinstance(value, int | float)}


def figure_files(block: Block, folder: Path, ending: str) -> "dict[Path, Callable[[], Figure]]":
    """Return what makes the figures of a block by the file each goes to, in order; they are its images from now on."""
    # a number, so that figures of the same heading stay apart
    begun = len(list(folder.iterdir()))
    block.images = [folder / f"{begun + k:03d}" / f"{_file_name(what)}{ending}" for k, what in enumerate(block.figures)]
    for file in block.images:
        file.parent.mkdir()
    found = dict(zip(block.images, block.figures.values(), strict=True))
    block.figures = {}
    return found


def _file_name(text: str) -> str:
    return "".join(c if c.isalnum() else " " for c in text)[:60]
