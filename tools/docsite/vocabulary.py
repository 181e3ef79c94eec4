"""Hold the words of outputs, helps, keys and signals to the nomenclature and the project's plain words.

``python -m tools.docsite.vocabulary`` lists words that stand in neither, with where each was found first; it exits with 1
where there are any. A new word is either a term of the trade, and gets its row in the nomenclature, or plain English, and
goes into ``docs/reference/plain-words.txt``; or it is a riddle, and another word is better.
"""

import re
import sys
from collections.abc import Iterator

import dravik as dv
from dravik.aircraft import sample_names
from tools.docsite import commands, files, terms
from tools.docsite.running import DOCS, KEPT

PLAIN = DOCS / "reference" / "plain-words.txt"
OUTPUT = re.compile(r"^```\{code-block\} text\n:class: output\n\n(.*?)^```", re.MULTILINE | re.DOTALL)
#: What is no word: names of signals and files, options, numbers with units, code.
CODE = re.compile(
    r"`[^`]*`|\S*[_/\\=|$<>{}\[\]@#*+^]\S*|--\S+|\S*\d\S*|\S+\.(?:csv|toml|png|json|html|gif|kml|pdf|npz)\b"
)
WORD = re.compile(r"[A-Za-zÀ-ÿ]+(?:['’-][A-Za-z]+)*")


def texts() -> Iterator[tuple[str, str]]:
    """Yield where a text stands, and the text."""
    for name, command in commands.commands():
        yield f"dravik {name}", command.help or ""
        for option in command.params:
            yield f"dravik {name} {option.name}", getattr(option, "help", None) or ""
    for model in files.sections():
        for key in files.keys_of(model):
            yield f"{model.__name__}.{key.name}", key.meaning
    for sample in sample_names():
        for signal in dv.sample(sample).signals.values():
            yield f"{sample} {signal.name}", signal.meaning
    for page in sorted(KEPT.rglob("page.md")):
        for body in OUTPUT.findall(page.read_text(encoding="utf-8")):
            yield f"output on {page.parent.name}", body


def words_of(text: str) -> set[str]:
    """Return the words of a text in small letters, without names, numbers and code."""
    return {w.lower() for w in WORD.findall(CODE.sub(" ", text)) if len(w) > 2}


def known() -> set[str]:
    """Return the words of the nomenclature and the plain words."""
    found = set(PLAIN.read_text(encoding="utf-8").split()) if PLAIN.exists() else set()
    for _, rows in terms.groups():
        for row in rows:
            found |= words_of(" ".join(row).replace("`", " "))
    return found


def unknown() -> dict[str, str]:
    """Return the words that stand nowhere, with where each was found first."""
    listed, found = known(), dict[str, str]()
    for place, text in texts():
        for word in words_of(text) - listed:
            stems = (word.removesuffix("s"), word.removesuffix("es"), word.removesuffix("'s"))
            if not any(stem in listed for stem in stems):
                found.setdefault(word, place)
    return found


def main() -> int:
    """Print the unknown words; return 1 where there are any."""
    found = unknown()
    for word, place in sorted(found.items()):
        print(f"{word:24} {place}")
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
