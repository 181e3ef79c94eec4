"""What happens once in a flight: at a time, or when a condition first becomes true."""

from pydantic import model_validator

from dravik.definition.fields import Formula, Model
from dravik.errors import DravikError
from dravik.units import quantity

__all__ = ["Timed"]

TIME_ROOM = 1e-9  # s: what happens at a step's time happens at that step


class Timed(Model):
    """Something that happens once: ``at`` a time, or ``when`` a formula first becomes true."""

    at: str | float | None = None  #: time of the flight at which it happens
    when: Formula | None = None  #: formula; it happens when that first becomes true

    @model_validator(mode="after")
    def _one_instant(self) -> "Timed":
        if (self.at is None) == (self.when is None):
            raise DravikError(
                "the event has neither at nor when, or both", expected='at = "60 s", or when = a condition'
            )
        if self.at is not None and not quantity(self.at, "time") >= 0.0:
            raise DravikError(f"at = {self.at!r} is no time of a flight", where="at", expected="a time, not below zero")
        return self

    @property
    def condition(self) -> str | float:
        """The instant as a formula."""
        if self.at is not None:
            return f"time >= {quantity(self.at, 'time') - TIME_ROOM!r}"
        assert self.when is not None
        return self.when
