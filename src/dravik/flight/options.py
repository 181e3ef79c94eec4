"""What a flight takes beside an aircraft and a start."""

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, TypedDict

from dravik.errors import DravikError, nearest
from dravik.flight.devices import Device
from dravik.flight.histories import History
from dravik.surroundings.turbulence import Turbulence
from dravik.units import quantity

__all__ = ["Options", "check_options", "steps_between"]


class Options(TypedDict, total=False):
    """What ``fly``, ``Session`` and ``Flight`` take beside an aircraft and a start, all by keyword.

    ``dt``: the integrator's step, 10 ms unless said. ``controls``: histories by input or effector. ``devices``: what is
    called at its own rate, in this order (see ``Device``). ``turbulence`` adds its gusts to the wind. ``record``:
    signals that are recorded, and ``record_every``: each so many steps, or so much time such as ``"50 ms"``.
    ``save``: a file to which the recording is written while it is flown (with the adaptive method, afterwards).
    ``note`` goes into its metadata.
    """

    dt: str | float
    controls: Mapping[str, History] | None
    devices: Sequence[Device]
    turbulence: Turbulence | None
    record: Sequence[str] | None
    record_every: str | int
    save: str | Path | None
    note: Mapping[str, Any] | None


def check_options(options: Options) -> None:
    """Raise DravikError, naming the nearest, for an option that there is not."""
    known = list(Options.__annotations__)
    for name in options:
        if name not in known:
            raise DravikError(f"a flight takes no {name!r}", expected=", ".join(known), hint=nearest(name, known))


def steps_between(value: str | int, dt: float) -> int:
    """Return every how many steps a row is recorded, from a number of steps or a time."""
    if isinstance(value, str):
        seconds = quantity(value, "time", where="record_every")
        count = round(seconds / dt)
        if count < 1 or abs(count * dt - seconds) > 1e-6 * seconds:
            raise DravikError(
                f"record_every = {value!r} is no whole number of steps of {dt:g} s", expected="a whole number of steps"
            )
        return count
    if isinstance(value, bool) or not isinstance(value, int) or value < 1:
        raise DravikError(f"record_every cannot be {value!r}", expected="1 or more steps, or a time such as '50 ms'")
    return value
