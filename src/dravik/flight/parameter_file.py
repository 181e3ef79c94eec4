"""Parameters from a file that is watched while it is flown: who saves it changes the flight."""

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import tomli

from dravik.definition import arguments
from dravik.definition.effectors import Parameter
from dravik.errors import DravikError, require
from dravik.host.files import as_path
from dravik.units import in_si, kind_of_unit

__all__ = ["WatchedParameters"]


class WatchedParameters:
    """A device that reads a TOML file of ``name = value`` whenever it has changed, and sets those parameters.

    ``parameters`` are those of what flies (``craft.configuration.parameters``), ``rate`` how often a second (Hz, of
    flight) it looks. Every change stands in the events of the flight. A file that cannot be read, or a value that does
    not fit, leaves what was set, and ``problem`` says what is wrong, so that a slip of the pen ends no flight; what
    stands there from the start must be right: it raises DravikError.

    >>> import tempfile, dravik as dv
    >>> law = dv.load_law(dv.aircraft.sample_path("tarn") / "laws" / "pilot.toml")
    >>> craft = dv.sample("tarn").with_law(*law)
    >>> with tempfile.NamedTemporaryFile("w", suffix=".toml") as file:
    ...     _ = file.write("pilot_bank = 1.1")
    ...     file.flush()
    ...     WatchedParameters(file.name, craft.configuration.parameters).update(0.0, {})
    {'pilot_bank': 1.1}
    """

    name = "watched parameters"

    def __init__(self, file: str | Path, parameters: Mapping[str, Parameter], *, rate: float = 5.0) -> None:
        require(parameters, Mapping, "the parameters", "craft.configuration.parameters")
        self.rate = arguments.number(rate, "rate")
        self.file, self.problem = str(as_path(file)), ""
        self._parameters = dict(parameters)
        self._text = self._read()
        self._values = self._checked(self._text)
        self._fresh = True

    def _read(self) -> str:
        try:
            return Path(self.file).read_text(encoding="utf-8")
        except (OSError, UnicodeDecodeError) as error:
            raise DravikError(f"the parameters cannot be read ({error})", where=self.file) from None

    def _checked(self, text: str) -> dict[str, float]:
        """Return the values of a text in SI; raises DravikError for what does not fit."""
        try:
            data = tomli.loads(text)
        except tomli.TOMLDecodeError as error:
            raise DravikError(f"this is not TOML ({error})", where=self.file) from None
        found = {}
        for name, value in data.items():
            if name not in self._parameters:
                known = ", ".join(self._parameters)
                raise DravikError(f"there is no parameter {name!r}", where=self.file, expected=known)
            spec = self._parameters[name]
            number = in_si(value, kind_of_unit(spec.unit), where=f"{self.file}: {name}")
            if spec.range is not None and not spec.range[0] <= number <= spec.range[1]:
                low, high = spec.range
                raise DravikError(
                    f"{name} = {value!r} is outside its range", where=self.file, expected=f"{low:g} to {high:g}"
                )
            found[name] = number
        return found

    def update(self, t: float, signals: Mapping[str, float]) -> dict[str, float]:
        """Return the values that have changed since the last look."""
        try:
            text = self._read()
            if text == self._text and not self._fresh:
                return {}
            values = self._checked(text)
        except DravikError as error:
            self.problem = str(error)
            return {}
        changed = {n: v for n, v in values.items() if self._fresh or self._values.get(n) != v}
        self._text, self._values, self._fresh, self.problem = text, values, False, ""
        return changed

    def save(self) -> dict[str, Any]:
        """Return nothing: the file is what it is."""
        return {}

    def restore(self, data: Mapping[str, Any]) -> None:
        """Look at the file anew."""
        self._fresh = True
