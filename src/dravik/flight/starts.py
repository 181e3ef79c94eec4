"""Starts without a trim: on a launch rail."""

import numpy as np

from dravik.aircraft import Aircraft
from dravik.errors import DravikError
from dravik.flight.flying import Start
from dravik.units import in_si

__all__ = ["on_rail"]


def on_rail(
    craft: Aircraft, *, elevation: str | float, heading: str | float = 0.0, altitude: str | float = 0.0,
    inputs: dict[str, float] | None = None,
) -> Start:  # fmt: skip
    """Return the start at rest on the aircraft's launch rail.

    ``elevation`` of the rail above the horizon and ``heading`` it points to, ``altitude`` of its lower end; ``inputs``
    by name, SI. Raises DravikError for an aircraft without a rail, and for an elevation that is not above the horizon.
    """
    if craft.definition.rail is None:
        raise DravikError(f"{craft.name} has no launch rail", expected="[rail] with its length")
    angle = in_si(elevation, "angle", where="elevation")
    if not 0.0 < angle <= 0.5 * np.pi + 1e-9:
        raise DravikError(f"elevation {elevation!r}", expected="above 0 deg, at most 90 deg")
    height = in_si(altitude, "length", where="altitude")
    u = craft.default_inputs()
    for name, value in {"rail_altitude": height, **(inputs or {})}.items():
        u[craft.input_index(name)] = value
    x = craft.state(
        position=(0.0, 0.0, height), velocity=(0.0, 0.0, 0.0),
        attitude=(0.0, angle, in_si(heading, "angle", where="heading")),
    )  # fmt: skip
    return Start(x, u)
