"""The start where another flight has ended, or was last flushed: to fly on from there to the last bit the same."""

import math
from collections.abc import Sequence

import numpy as np

from dravik.aircraft import Aircraft
from dravik.errors import DravikError
from dravik.flight.snapshots import Start
from dravik.recording.recording import Recording

__all__ = ["resume"]


def resume(craft: Aircraft, run: Recording) -> Start:
    """Return the start where a recording ends, or where it was last flushed, for flying on to the last bit the same.

    Parameters
    ----------
    craft : Aircraft
        The aircraft that was flown, in the same configuration.
    run : Recording
        The recording, with its side file.

    Returns
    -------
    Start
        The start.

    Raises
    ------
    DravikError
        For another aircraft, loading, laws or script, and for a recording that does not say how it ended.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> run = dv.fly(craft, start=dv.trim(craft, airspeed=62, altitude=300), duration=1)
    >>> dv.resume(craft, run).time
    1.0
    """
    if not isinstance(run, Recording):
        raise DravikError(
            f"a {type(run).__name__} cannot be flown on from", expected="a recording, from read_recording"
        )
    end = run.metadata.get("end")
    if not isinstance(end, dict):
        raise DravikError("the recording does not say where it ended", hint="a recording of this version")
    try:
        state, inputs, gusts = dict(end["state"]), dict(end["inputs"]), end.get("gusts_for")
        if list(state) != craft.state_names or list(inputs) != craft.input_names:
            raise DravikError(
                f"the recording is of {run.metadata.get('aircraft')} ({run.metadata.get('loading')}) with other states",
                expected="the same aircraft, loading, laws and script",
            )
        found = Start(
            np.array(list(state.values()), dtype=float), np.array(list(inputs.values()), dtype=float),
            float(end["time_s"]), _five(gusts) if gusts else None,
            tuple((float(v), float(h)) for v, h in end.get("gust_segments", [])),
            tuple((str(name), float(t)) for name, t in end.get("begun", [])), dict(end.get("devices") or {}),
            {str(n): float(v) for n, v in (end.get("parameters") or {}).items()},
            {str(n): float(v) for n, v in (end.get("memory") or {}).items()},
            tuple((str(n), float(b), float(r), float(t), bool(a)) for n, b, r, t, a in end.get("following") or []),
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
