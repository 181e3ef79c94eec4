"""Errors that say what was wrong, where, what was expected, and what to try."""

from collections.abc import Iterable, Sequence
from difflib import get_close_matches

__all__ = [
    "DefinitionError",
    "DravikError",
    "FlightError",
    "FormulaError",
    "OutputError",
    "TrimError",
    "nearest",
    "readable",
    "require",
]

LONGEST_LINE, MOST_LINES = 400, 40
COMPARED = 1000  # names that one is compared with, at most


def readable(text: str) -> str:
    """Return text safe to show: control characters become ``?``, and long text is cut.

    >>> readable("a\x1b[2Jb")
    'a?[2Jb'
    """
    lines = text.split("\n")
    shown = ["".join(c if c.isprintable() else "?" for c in line[: LONGEST_LINE + 1]) for line in lines[:MOST_LINES]]
    shown = [line if len(line) <= LONGEST_LINE else f"{line[:LONGEST_LINE]} ..." for line in shown]
    if len(lines) > MOST_LINES:
        shown.append(f"... and {len(lines) - MOST_LINES} more lines")
    return "\n".join(shown)


class DravikError(ValueError):
    """Any wrong input that Dravik found.

    The message reads ``where: what; expected ...; try: ...``.

    Attributes
    ----------
    what : str
        What was wrong.
    where : str
        File, line and key, or the argument.
    expected : str
        What would have been right.
    hint : str
        What to try.

    Examples
    --------
    >>> import dravik as dv
    >>> try:
    ...     dv.sample("tarn").signal("alhpa")
    ... except dv.DravikError as error:
    ...     print(error)
    Tarn has no signal 'alhpa'; try: did you mean alpha?
    """

    def __init__(self, what: str, *, where: str = "", expected: str = "", hint: str = "") -> None:
        self.what = what
        self.where = where
        self.expected = expected
        self.hint = hint
        super().__init__(str(self))

    def __str__(self) -> str:
        text = f"{self.where}: {self.what}" if self.where else self.what
        if self.expected:
            text += f"; expected {self.expected}"
        if self.hint:
            text += f"; try: {self.hint}"
        return readable(text)

    def at(self, where: str) -> "DravikError":
        """Return the same error with ``where`` in front of the place it already names."""
        place = f"{where}: {self.where}" if self.where else where
        copy = type(self).__new__(type(self))
        copy.__dict__.update(self.__dict__)
        copy.where = place
        copy.args = (str(copy),)
        return copy


class OutputError(DravikError):
    """Output that the system would not take: a full disk, a device that fails, a reader that has gone."""


class DefinitionError(DravikError):
    """One or several things wrong in a definition file; ``problems`` holds a line for each."""

    def __init__(self, problems: Iterable[str]) -> None:
        self.problems = [readable(p) for p in problems]
        super().__init__("\n".join(self.problems))


class FormulaError(DravikError):
    """A formula that cannot be used.

    Attributes
    ----------
    text : str
        The formula.
    position : int
        The character that the message points at.

    Examples
    --------
    >>> import dravik as dv
    >>> issubclass(dv.FormulaError, dv.DravikError)  # its text points at the character
    True
    """

    def __init__(self, what: str, *, text: str = "", position: int = 0, where: str = "", hint: str = "") -> None:
        self.text = text
        self.position = position
        super().__init__(what, where=where, hint=hint)

    def __str__(self) -> str:
        head = super().__str__()
        if not self.text:
            return head
        start = max(0, self.position - 50)
        snippet = readable(self.text[start : start + 100].replace("\n", " "))
        return f"{head}\n  {snippet}\n  {' ' * (self.position - start)}^"


class TrimError(DravikError):
    """A trim that was not reached.

    Attributes
    ----------
    result : TrimPoint or PlantTrim
        The best point found.
    nearest : sequence
        Conditions that can be held, nearest to the one that was asked for.

    Examples
    --------
    >>> import dravik as dv
    >>> try:
    ...     dv.trim(dv.sample("tarn"), airspeed="20 m/s", altitude="300 m")
    ... except dv.TrimError as error:
    ...     print(error.result.reached)
    False
    """

    def __init__(
        self, what: str, *, result: object, where: str = "", hint: str = "", nearest: Sequence[object] = ()
    ) -> None:
        self.result, self.nearest = result, list(nearest)
        super().__init__(what, where=where, hint=hint)


class FlightError(DravikError):
    """A run that had to stop.

    Attributes
    ----------
    time : float
        When, s.
    recording : Recording
        All that was flown before it.

    Examples
    --------
    >>> import dravik as dv
    >>> issubclass(dv.FlightError, dv.DravikError)  # error.recording holds what was flown before
    True
    """

    def __init__(self, what: str, *, time: float, recording: object = None, where: str = "", hint: str = "") -> None:
        self.time = time
        self.recording = recording
        super().__init__(what, where=where, hint=hint)


def require(value: object, kinds: type | tuple[type, ...], what: str, hint: str = "") -> None:
    """Raise DravikError where an argument of a Python call is of another kind than it must be; ``what`` names it."""
    if not isinstance(value, kinds):
        names = " or ".join(k.__name__ for k in (kinds if isinstance(kinds, tuple) else (kinds,)))
        raise DravikError(f"{what} is a {type(value).__name__}", expected=names, hint=hint)


def nearest(name: str, candidates: Iterable[str]) -> str:
    """Return a hint naming the candidates closest to ``name``, or an empty string."""
    if not isinstance(name, str):
        return ""
    candidates = list(candidates)
    if len(candidates) > COMPARED:  # each comparison takes its time: of very many only those that begin alike
        candidates = [c for c in candidates if c[:1].lower() == name[:1].lower()][:COMPARED]
    found = get_close_matches(name[:LONGEST_LINE], candidates, n=3, cutoff=0.6)
    if not found:
        lowered = {c.lower(): c for c in candidates}
        found = [lowered[name.lower()]] if name.lower() in lowered else []
    return "did you mean " + " or ".join(found) + "?" if found else ""
