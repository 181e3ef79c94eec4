"""Blocks of a page as a PDF: pages of text and tables, then a page for each figure, with an outline to jump by."""

import tempfile
from collections.abc import Callable, Iterator, Sequence
from functools import partial
from pathlib import Path
from textwrap import wrap
from typing import NamedTuple

import matplotlib
from matplotlib.figure import Figure

from dravik.host.files import replace_file, saved
from dravik.report.figures import SIZE, new_figure, save_figures
from dravik.report.pages.layout import lines_of
from dravik.report.pages.page import Block
from dravik.report.style import INK, SOFT, STYLE

__all__ = ["write_pdf"]

LINES = 46  # on a page of text
WIDTH = 138  # letters of one width on a line
WORDS = 150  # letters of a sentence on a line, in type that is narrower
COLOURS = {True: "#14613f", False: "#9b3a10", None: SOFT}


class Line(NamedTuple):
    """A line of a page: its text and how it looks."""

    text: str
    colour: str = INK
    is_table: bool = False
    is_bold: bool = False


def write_pdf(path: Path, title: str, subtitle: str, blocks: Sequence[Block]) -> Path:
    """Write blocks, their images PDF files of a page, as one PDF; raises DravikError where it cannot be written."""
    from pypdf import PdfReader, PdfWriter

    parts: list[tuple[str, Path | Callable[[], Figure]]] = []
    has_contents = len(blocks) > 3
    for block in blocks:
        begun = len(parts)
        if has_contents and not (block.texts or block.tables or block.images):
            continue  # all that it says stands on the first page
        for k, lines in enumerate(_broken(list(_lines(block)))):
            parts.append((block.heading if k == 0 else "", partial(_text_page, block.heading, lines, title)))
        for file in block.images:
            parts.append((block.heading if len(parts) == begun else "", file))
    if has_contents:
        first = _broken(_contents(blocks, subtitle))
        parts = [*(("", partial(_text_page, title, lines, "")) for lines in first), *parts]
    with tempfile.TemporaryDirectory() as folder, PdfWriter() as book:
        texts = {Path(folder) / f"{i}.pdf": make for i, (_, make) in enumerate(parts) if not isinstance(make, Path)}
        numbers = {Path(folder) / f"number_{i}.pdf": partial(_number, i + 1) for i in range(len(parts))}
        save_figures({**texts, **numbers})
        for i, (heading, part) in enumerate(parts):
            page = book.add_page(PdfReader(part if isinstance(part, Path) else Path(folder) / f"{i}.pdf").pages[0])
            page.merge_page(PdfReader(Path(folder) / f"number_{i}.pdf").pages[0])
            if heading:
                book.add_outline_item(title=heading, page_number=i)
        book.add_metadata({"/Title": title, "/Creator": "Dravik"})
        book.compress_identical_objects()  # each page brings its own fonts
        saved(lambda: replace_file(path, book.write), path, what="book")
    return path


def _contents(blocks: Sequence[Block], subtitle: str) -> list[Line]:
    """Return the first page: what the book is of, and what its parts say."""
    lines = [Line(text) for text in wrap(subtitle, WORDS)] + [Line("")]
    for block in blocks:
        lines.append(Line(block.heading, is_bold=True))
        lines += [Line(f"    {text}", COLOURS[block.good]) for text in wrap(block.verdict, WORDS - 4)[:3]]
    return lines


def _lines(block: Block) -> Iterator[Line]:
    """Yield the text of a block, line by line; nothing for a block of pictures alone."""
    for text in wrap(block.verdict, WORDS):
        yield Line(text, COLOURS[block.good], is_bold=True)
    for paragraph in block.texts:
        yield from (Line(text) for text in wrap(paragraph, WORDS))
    for sheet in block.tables:
        for k, lines in enumerate(lines_of(sheet.columns, sheet.rows, WIDTH) if sheet.rows else ()):
            yield Line("")
            if sheet.title and k == 0:
                yield Line(sheet.title, is_bold=True)
            yield from (Line(text, is_table=True) for text in lines)


def _broken(lines: list[Line]) -> Iterator[list[Line]]:
    """Yield pages of lines; a table that goes on begins again with its headings."""
    while lines:
        page, lines = lines[:LINES], lines[LINES:]
        if lines and lines[0].is_table and page[-1].is_table:
            rule = next((k for k in range(len(page) - 1, 0, -1) if set(page[k].text) == {"-"}), 0)
            first = rule
            while first and page[first - 1].is_table:
                first -= 1
            if rule and first + 2 < len(page) and rule < len(page) - 1:
                lines = [*page[first : rule + 1], *lines]
            elif first:  # only headings would stand here: the table begins on the next page
                page, lines = page[:first], [*page[first:], *lines]
        while lines and not lines[0].text:
            lines = lines[1:]
        yield page


def _text_page(heading: str, lines: Sequence[Line], below: str) -> Figure:
    """Return a page of text."""
    figure = new_figure(heading, fitted=False)
    with matplotlib.rc_context(STYLE):
        step = 0.9 / LINES
        for k, line in enumerate(lines):
            figure.text(
                0.02, 0.945 - (k + 1) * step, line.text, color=line.colour, fontsize=8.6 if line.is_table else 9.5,
                family="DejaVu Sans Mono" if line.is_table else "DejaVu Sans",
                weight="bold" if line.is_bold else "normal",
            )  # fmt: skip
        figure.text(0.02, 0.006, below, color=SOFT, fontsize=8)
    return figure


def _number(number: int) -> Figure:
    """Return an empty page with its number."""
    figure = Figure(figsize=SIZE)
    figure.patch.set_alpha(0.0)
    figure.text(0.99, 0.006, f"{number}", ha="right", color=SOFT, fontsize=8)
    return figure
