"""Limits of mass and of the centre of gravity, and seats, as an aircraft's file gives them."""

from collections.abc import Sequence
from typing import Annotated, Any

import numpy as np
from pydantic import BeforeValidator, Field

from dravik.definition.fields import Model, Position, PositiveMass
from dravik.errors import DravikError
from dravik.units import quantity

__all__ = ["CentreRows", "MassLimits", "Seats", "limits_at"]

EXPECTED = '["9.0 m", "9.5 m"], or rows of mass and both: [["5 t", "9.0 m", "9.5 m"], ...]'


def _rows(value: Any) -> tuple[tuple[float, float, float], ...]:
    """Return rows of mass (kg), forward and aft limit (station x, m); a pair holds at any mass."""
    if not isinstance(value, list | tuple) or not value:
        raise DravikError(f"{value!r} are no limits", expected=EXPECTED)
    rows: list[tuple[float, float, float]] = []
    for row in value if isinstance(value[0], list | tuple) else [[0.0, *value]]:
        if not isinstance(row, list | tuple) or len(row) != 3:
            raise DravikError(f"{row!r} is no row of limits", expected=EXPECTED)
        mass = row[0] if isinstance(row[0], float) else quantity(row[0], "mass")
        forward, aft = (v if isinstance(v, float) else quantity(v, "length") for v in row[1:])
        if not forward < aft:
            raise DravikError(f"the limits {forward:g} and {aft:g} m do not rise", expected="the forward limit first")
        if rows and not mass > rows[-1][0]:
            raise DravikError(
                f"the masses {rows[-1][0]:g} and {mass:g} kg do not rise", expected="the least mass first"
            )
        rows.append((mass, forward, aft))
    return tuple(rows)


CentreRows = Annotated[tuple[tuple[float, float, float], ...], BeforeValidator(_rows)]


def limits_at(rows: Sequence[tuple[float, float, float]], mass: float) -> tuple[float, float]:
    """Return the forward and aft limit (m) at a mass (kg): straight lines between rows, the ends held beyond.

    >>> limits_at([(5000.0, 9.0, 9.5), (7000.0, 9.1, 9.5)], 6000.0)
    (9.05, 9.5)
    """
    table = np.array(rows, dtype=float)
    return float(np.interp(mass, table[:, 0], table[:, 1])), float(np.interp(mass, table[:, 0], table[:, 2]))


class MassLimits(Model):
    """The most that an aircraft may weigh, by what it is about to do."""

    take_off: PositiveMass | None = None  #: greatest mass at take-off
    landing: PositiveMass | None = None  #: greatest mass at landing
    zero_fuel: PositiveMass | None = None  #: greatest mass without what tanks of fuel hold


class Seats(Model):
    """A row of seats: where it is, how many sit in it, and what each of them weighs."""

    position: Position  #: middle of the row, station axes
    across: Annotated[int, Field(ge=1, le=12)]  #: seats in the row
    mass: PositiveMass  #: mass of each who sits there, with what he carries
