"""Hold the pages to what is understood at first reading: short sentences, paragraphs and pages.

``python -m tools.docsite.prose`` lists what is too long, and exits with 1 where there is any.
"""

import re
import sys
from collections.abc import Iterator
from pathlib import Path

from tools.docsite.running import DOCS, ROOT

MOST_OF_A_SENTENCE, MOST_OF_A_PARAGRAPH, MOST_OF_A_PAGE = 40, 120, 250  # words, words, lines
FENCED = re.compile(r"^(```|~~~|\$\$).*?^\1[^\n]*$", re.MULTILINE | re.DOTALL)
CODE = re.compile(r"``?[^`]*``?|\$[^$\n]+\$")
LINK = re.compile(r"!?\[([^\]]*)\]\([^)]*\)")
ITEM = re.compile(r"\s*(?:[-*]|\d+\.) ")
#: A sentence ends with a full stop and a capital letter, code or a mark of emphasis after it.
END = re.compile(r"(?<=[.!?:])[*_)\"”]*\s+(?=[A-Z*(\"“]|CODE)")


def pages() -> list[Path]:
    """Return the pages that are held: all of the docs, the README and what stands beside it."""
    return [*sorted(DOCS.rglob("*.md")), *(ROOT / name for name in ("README.md", "CONTRIBUTING.md", "CHANGELOG.md"))]


def paragraphs(text: str) -> Iterator[tuple[int, str]]:
    """Yield every paragraph, item of a list and cell of a table with its line, without code, links and headings."""
    plain = FENCED.sub(lambda block: "\n" * block[0].count("\n"), text)
    begun, gathered = 0, list[str]()
    for number, line in enumerate([*plain.splitlines(), ""], start=1):
        apart = not line.strip() or line.startswith(("#", "|", ":::", "<!--", "(")) or ITEM.match(line)
        if apart and gathered:
            yield begun, " ".join(gathered)
            gathered = []
        if line.startswith("|"):
            yield from ((number, cell) for cell in line.strip("|").split("|"))
        elif ITEM.match(line):
            begun, gathered = number, [ITEM.sub("", line, count=1)]
        elif not apart:
            begun, gathered = (begun if gathered else number), [*gathered, line.strip()]


def words(text: str) -> int:
    """Return the number of words of a text."""
    return sum(1 for word in text.split() if re.search(r"\w", word))


def sentences(paragraph: str) -> list[str]:
    """Return the sentences of a paragraph; a piece of code is one word."""
    return END.split(LINK.sub(r"\1", CODE.sub("CODE", paragraph)))


def findings(page: Path) -> Iterator[str]:
    """Yield what is too long on a page."""
    text = page.read_text(encoding="utf-8")
    name = page.relative_to(ROOT) if page.is_relative_to(ROOT) else page
    if (lines := text.count("\n")) > MOST_OF_A_PAGE:
        yield f"{name}: {lines} lines, {MOST_OF_A_PAGE} at most"
    for line, paragraph in paragraphs(text):
        told = LINK.sub(r"\1", CODE.sub("CODE", paragraph))
        if (count := words(told)) > MOST_OF_A_PARAGRAPH:
            yield f"{name}:{line}: a paragraph of {count} words, {MOST_OF_A_PARAGRAPH} at most"
        for sentence in sentences(paragraph):
            if (count := words(sentence)) > MOST_OF_A_SENTENCE:
                yield f"{name}:{line}: a sentence of {count} words: {sentence[:60]} ..."


def main() -> int:
    """Print the findings; return 1 where there are any."""
    found = [finding for page in pages() for finding in findings(page)]
    print("\n".join(found) or "no sentence, paragraph or page is too long")
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
