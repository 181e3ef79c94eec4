"""Which line of a TOML file a key stands on: the standard parser does not keep that."""

import re
from collections.abc import Sequence

__all__ = ["KeyLines"]

_HEADER = re.compile(r"^\s*\[\[?\s*([^\[\]]+?)\s*\]\]?\s*(?:#.*)?$")
_KEY = re.compile(r"""^\s*((?:"[^"]*"|'[^']*'|[\w-]+)(?:\s*\.\s*(?:"[^"]*"|'[^']*'|[\w-]+))*)\s*=""")
_PART = re.compile(r""""[^"]*"|'[^']*'|[\w-]+""")


class KeyLines:
    """The lines of a TOML text by key path; ``file`` is its name."""

    def __init__(self, text: str, file: str) -> None:
        self.file = file
        self.lines: dict[tuple[str, ...], int] = {}
        section: tuple[str, ...] = ()
        for number, line in enumerate(text.splitlines(), start=1):
            header = _HEADER.match(line)
            if header:
                section = self._parts(header[1])
                self.lines.setdefault(section, number)
                continue
            key = _KEY.match(line)
            if key:
                self.lines.setdefault(section + self._parts(key[1]), number)

    @staticmethod
    def _parts(text: str) -> tuple[str, ...]:
        return tuple(part.strip("\"'") for part in _PART.findall(text))

    def has(self, keys: Sequence[str]) -> bool:
        """Whether this very key path stands in the file."""
        return tuple(keys) in self.lines

    def place(self, keys: Sequence[str]) -> str:
        """Return ``file:line: key.path``; the line is that of the nearest key above when need be."""
        path = tuple(keys)
        dotted = ".".join(path)
        while path and path not in self.lines:
            path = path[:-1]
        line = f":{self.lines[path]}" if path else ""
        return f"{self.file}{line}: {dotted}" if dotted else f"{self.file}{line}"
