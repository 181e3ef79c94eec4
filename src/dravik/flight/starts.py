"""Starts without a trim: on a launch rail, on the ground, where another flight has ended."""

import math
from collections.abc import Mapping, Sequence

import numpy as np

from dravik.aircraft import Aircraft
from dravik.errors import DravikError
from dravik.flight.core import Start
from dravik.flight.recording import Recording
from dravik.frames import body_from_station
from dravik.trimming import settle
from dravik.units import in_si

__all__ = ["on_ground", "on_rail", "resume"]

MOST_TILT = 0.5  # rad: what leans further does not stand


def resume(craft: Aircraft, run: Recording) -> Start:
    """Return the start where a recording ends, or where it was last flushed, for flying on to the last bit the same.

    Raises DravikError for another aircraft, loading, laws or plan, or a recording that does not say how it ended.
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
            tuple((float(v), float(h)) for v, h in end.get("gusts_made", [])),
            tuple((str(name), float(t)) for name, t in end.get("begun", [])), dict(end.get("devices") or {}),
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


def on_ground(
    craft: Aircraft, *, heading: str | float = 0.0, north: float = 0.0, east: float = 0.0,
    inputs: Mapping[str, str | float] | None = None,
) -> Start:  # fmt: skip
    """Return the start at rest on the gear, pressed in as far as the weight does, engines settled; ``inputs`` with
    unit or SI.

    Raises DravikError for an aircraft without gear, and for gear it does not stand on.
    """
    from scipy.optimize import root

    if not craft.definition.gear:
        raise DravikError(f"{craft.name} has no gear", expected="[gear.NAME] with its legs")
    if not craft.definition.legs:
        raise DravikError("there is no ground to stand on", hint="ground = 0 in [environment], or its height")
    u = craft.with_inputs(inputs or {})
    course = in_si(heading, "angle", where="heading")

    settled: dict[str, float] = {}

    def state(v: np.ndarray) -> np.ndarray:
        return craft.state(
            position=(north, east, float(v[0])), velocity=(0.0, 0.0, 0.0), attitude=(float(v[2]), float(v[1]), course),
            functions=settled,
        )  # fmt: skip

    def left_over(v: np.ndarray) -> np.ndarray:
        found = craft.values(state(v), u, ["w_dot", "q_dot", "p_dot"])
        return np.array(list(found.values()))

    feet = [body_from_station(np.array(leg.position)) for leg in craft.definition.gear.values()]
    centre = body_from_station(np.array(craft.loading.cg))
    lowest = max(float(f[2] - centre[2]) for f in feet)
    pressed = craft.loading.mass * 9.80665 / sum(leg.stiffness for leg in craft.definition.gear.values())
    ground = craft.values(state(np.zeros(3)), u, ["ground_height"])["ground_height"]
    guess = np.array([ground + lowest - 2.0 * pressed, 0.0, 0.0])
    # engines push as they run with these levers here, which is known once they have settled
    x = settle(craft, state(guess), u)
    settled.update(zip(craft.function_states, x[13:].tolist(), strict=True))
    found = root(left_over, guess, tol=1e-12)
    upright = max(abs(found.x[1]), abs(found.x[2])) < MOST_TILT
    if not (upright and np.max(np.abs(left_over(found.x))) < 1e-6):
        raise DravikError(f"{craft.name} does not stand on its gear", hint="three legs around the centre of gravity")
    return Start(settle(craft, state(found.x), u), u)
