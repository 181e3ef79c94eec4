"""Starts without a trim: on a launch rail, where another flight has ended."""

import math
from collections.abc import Mapping, Sequence

import numpy as np

from dravik.aircraft import Aircraft
from dravik.errors import DravikError
from dravik.flight.core import Start
from dravik.flight.recording import Recording
from dravik.units import in_si

__all__ = ["on_rail", "resume"]


def resume(craft: Aircraft, run: Recording) -> Start:
    """Return the start where a recording ends, or where it was last flushed, for flying on to the last bit the same.

    Raises DravikError for another aircraft, loading, laws or plan, or a recording that does not say how it ended.

    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> run = dv.fly(craft, start=dv.trim(craft, airspeed=62, altitude=300), duration=1)
    >>> dv.resume(craft, run).time
    1.0
    """
    if not isinstance(run, Recording):
        raise DravikError(f"a {type(run).__name__} to fly on from", expected="a recording, from read_recording")
    end = run.metadata.get("end")
    if not isinstance(end, dict):
        raise DravikError("the recording does not say where it ended", hint="a recording of this version")
    try:
        state, inputs, gusts = dict(end["state"]), dict(end["inputs"]), end.get("gusts_for")
        if list(state) != craft.state_names or list(inputs) != craft.input_names:
            raise DravikError(
                f"the recording is of {run.metadata.get('aircraft')} ({run.metadata.get('loading')}) with other states",
                expected="the same aircraft, loading, laws and plan",
            )
        found = Start(
            np.array(list(state.values()), dtype=float), np.array(list(inputs.values()), dtype=float),
            float(end["time_s"]), _five(gusts) if gusts else None,
            tuple((float(v), float(h)) for v, h in end.get("gust_segments", [])),
            tuple((str(name), float(t)) for name, t in end.get("begun", [])), dict(end.get("devices") or {}),
            {str(n): float(v) for n, v in (end.get("parameters") or {}).items()},
        )  # fmt: skip
    except DravikError:
        raise
    except (KeyError, TypeError, ValueError, OverflowError) as error:
        raise DravikError(f"the recording's side file is damaged: no end to fly on from ({error})") from None
    if not (np.all(np.isfinite(found.state)) and np.all(np.isfinite(found.inputs)) and math.isfinite(found.time)):
        raise DravikError("the recording's end holds values that are not finite")
    return found


def _five(values: Sequence[float]) -> tuple[float, float, float, float, float]:
    a, b, c, d, e = (float(v) for v in values)
    return a, b, c, d, e


def on_rail(
    craft: Aircraft, *, elevation: str | float, heading: str | float = 0.0, altitude: str | float = 0.0,
    inputs: Mapping[str, str | float] | None = None,
) -> Start:  # fmt: skip
    """Return the start at rest on the aircraft's launch rail.

    ``elevation`` of the rail above the horizon and ``heading`` it points to, ``altitude`` of its lower end; ``inputs``
    by name, with their unit or SI. Raises DravikError for an aircraft without a rail, and for an elevation that is not
    above the horizon.

    >>> import dravik as dv
    >>> hail = dv.sample("hail")
    >>> start = dv.on_rail(hail, elevation="85 deg")
    >>> float(start.state[3])
    0.0
    """
    if craft.definition.rail is None:
        raise DravikError(f"{craft.name} has no launch rail", expected="[rail] with its length")
    angle = in_si(elevation, "angle", where="elevation")
    if not 0.0 < angle <= 0.5 * np.pi + 1e-9:
        raise DravikError(f"elevation {elevation!r}", expected="above 0 deg, at most 90 deg")
    height = in_si(altitude, "length", where="altitude")
    u = craft.with_inputs({"rail_altitude": height, **(inputs or {})})
    x = craft.state(
        position=(0.0, 0.0, height), velocity=(0.0, 0.0, 0.0),
        attitude=(0.0, angle, in_si(heading, "angle", where="heading")),
    )  # fmt: skip
    return Start(x, u)
