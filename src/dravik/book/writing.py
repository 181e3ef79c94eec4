"""A book of an aircraft, written: its chapters one after another, those that cannot be made with the reason."""

import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from dravik.aircraft import Aircraft
from dravik.book import flying, judging, missions, standing
from dravik.book.asked import BookRequest, Subject
from dravik.book.missions import flown
from dravik.errors import DravikError, nearest, require
from dravik.host.cores import cores, shared_out
from dravik.host.files import as_path
from dravik.report import Block, save_figure
from dravik.report.pages.book import picture_ending, write_drawn
from dravik.report.pages.page import block_from, block_text, figure_files

__all__ = ["CHAPTERS", "BookEntry", "write_aircraft_book"]

#: Each chapter by its name: its heading, and what makes it.
CHAPTERS: dict[str, tuple[str, Callable[[Subject], Block]]] = {
    "definition": ("Definition", standing.definition),
    "coefficients": ("Coefficients", standing.coefficients),
    "masses": ("Masses", standing.masses),
    "engines": ("Engines", flying.engines),
    "limits": ("Limits", flying.limits),
    "trims": ("Trims", flying.trims),
    "modes": ("Modes", judging.modes),
    "handling": ("Handling qualities", judging.handling),
    "loops": ("Loops", judging.loops),
    "flights": ("Flights", missions.none),
}


@dataclass(frozen=True)
class BookEntry:
    """A chapter as it was written: what it says, and whether that is good; None where nothing is judged."""

    heading: str
    verdict: str
    good: bool | None


def write_aircraft_book(
    craft: Aircraft, path: str | Path, request: BookRequest | None = None, *,
    told: Callable[[str, float], None] | None = None,
) -> list[BookEntry]:  # fmt: skip
    """Write a report over a whole aircraft: what it is, what it can do, how it flies, with figures.

    A chapter that cannot be made stands in the book with the reason.

    Parameters
    ----------
    craft : Aircraft
        The aircraft, in the loading and with the laws that the book is of.
    path : str or path
        An ``.html`` or ``.pdf`` file.
    request : BookRequest, optional
        Altitude, speeds, levels, plans, flights and chapters. Chosen by the aircraft's file unless given.
    told : callable, optional
        Called with what is being made and the share done, 0 to 1.

    Returns
    -------
    list of BookEntry
        The chapters with what they say.

    Raises
    ------
    DravikError
        For another ending of the file, a chapter that there is not, and a file that cannot be written.

    Examples
    --------
    >>> import dravik as dv
    >>> from dravik.book import BookRequest, write_aircraft_book
    >>> found = write_aircraft_book(dv.sample("pika"), "pika.html", BookRequest(chapters=["masses", "trims"]))
    >>> [entry.heading for entry in found]
    ['Masses', 'Trims']
    """
    require(craft, Aircraft, "what the book is of", "dv.load(file)")
    request = request or BookRequest()
    target = as_path(path)
    ending = picture_ending(target)
    subject = Subject(craft, request)
    subject.check()
    tasks = _tasks(subject)
    with tempfile.TemporaryDirectory() as folder:
        places = [Path(folder) / f"{k:02d}" for k in range(len(tasks))]

        def make(k: int, place: Path) -> None:
            if told is not None:
                told(tasks[k][0], k / len(tasks))
            block = _drawn(_made(*tasks[k]), place, ending)
            place.with_suffix(".block").write_text(block_text(block), "utf-8")

        def work(worker: int) -> None:
            for k, place in enumerate(places):
                try:
                    place.mkdir()  # whoever makes it takes the chapter
                except FileExistsError:
                    continue
                make(k, place)

        # a chapter with its figures is Python's work, which copies of this process share
        shared_out(work, range(cores()))
        for k, place in enumerate(places):  # what a copy failed in is done here, so that its error is raised here
            if not place.with_suffix(".block").exists():
                again = Path(tempfile.mkdtemp(dir=place))
                make(k, again)
                again.with_suffix(".block").rename(place.with_suffix(".block"))
        blocks: list[Block] = [block_from(place.with_suffix(".block").read_text("utf-8")) for place in places]
        subtitle = f"{craft.definition.description}; loading '{craft.loading_name}', {craft.loading.mass:g} kg"
        write_drawn(target, f"{craft.name}: the book of the aircraft", subtitle.removeprefix("; "), blocks)
    return [BookEntry(b.heading, b.verdict, b.good) for b in blocks]


def _tasks(subject: Subject) -> list[tuple[str, Callable[[], Block]]]:
    """Return the chapters asked for, each with its heading and what makes it; a flight is a chapter of its own."""
    found: list[tuple[str, Callable[[], Block]]] = []
    for name in list(subject.asked.chapters) or list(CHAPTERS):
        if name not in CHAPTERS:
            raise DravikError(
                f"there is no chapter {name!r}", expected=", ".join(CHAPTERS), hint=nearest(name, CHAPTERS)
            )
        heading, make = CHAPTERS[name]
        files = subject.files(subject.asked.scenarios, "scenarios") if name == "flights" else []
        if files:
            found += [(f"Flight: {file.stem}", partial(flown, subject, file)) for file in files]
        else:
            found.append((heading, partial(make, subject)))
    return found


def _drawn(block: Block, place: Path, ending: str) -> Block:
    """Draw the figures of a chapter into a folder; of one that cannot be drawn the chapter says why."""
    for what, (file, figure) in zip(list(block.figures), figure_files(block, place, ending).items(), strict=True):
        try:
            save_figure(figure(), file)
        except DravikError as error:
            block.texts.append(f"{what} is not drawn: {error}.")
            block.images = [image for image in block.images if image != file]
    return block


def _made(heading: str, make: Callable[[], Block]) -> Block:
    """Return a chapter; where it cannot be made, one that says why: what an aircraft does not have is no fault."""
    try:
        return make()
    except DravikError as error:
        return Block(heading, f"not in this book: {error}", good=None)
