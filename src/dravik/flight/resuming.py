"""The start where another flight has ended, or was last flushed: to fly on from there to the last bit the same."""

import math
from collections.abc import Mapping, Sequence
from typing import Any, Literal

import numpy as np

from dravik.aircraft import Aircraft
from dravik.errors import DravikError
from dravik.flight.snapshots import Start
from dravik.recording.recording import Recording

__all__ = ["resume", "start_of"]


def resume(craft: Aircraft, run: Recording, *, at: Literal["end", "begin"] = "end") -> Start:
    """Return the start where a recording ends, or where it was last flushed, for flying on to the last bit the same.

    Parameters
    ----------
    craft : Aircraft
        The aircraft that was flown, in the same configuration.
    run : Recording
        The recording, with its side file.
    at : {"end", "begin"}, default "end"
        ``"begin"``: where a recording begins that was begun in flight, to fly it again.

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
    if at not in ("end", "begin"):
        raise DravikError(f"a recording has no {at!r} to fly on from", expected='"end" or "begin"')
    instant = run.metadata.get(at)
    if not isinstance(instant, dict):
        what, which = ("ended", "of this version") if at == "end" else ("began", "that was begun in flight")
        raise DravikError(f"the recording does not say where it {what}", hint=f"a recording {which}")
    try:
        if list(instant["state"]) != craft.state_names or list(instant["inputs"]) != craft.input_names:
            raise DravikError(
                f"the recording is of {run.metadata.get('aircraft')} ({run.metadata.get('loading')}) with other states",
                expected="the same aircraft, loading, laws and script",
            )
        found = start_of(instant)
    except DravikError:
        raise
    except (KeyError, TypeError, ValueError, OverflowError) as error:
        raise DravikError(f"the recording's side file is damaged: no {at} to fly on from ({error})") from None
    if not (np.all(np.isfinite(found.state)) and np.all(np.isfinite(found.inputs)) and math.isfinite(found.time)):
        raise DravikError(f"the recording's {at} holds values that are not finite")
    return found


def start_of(instant: Mapping[str, Any]) -> Start:
    """Return the start that a flight's instant stands for, as ``provenance.ending`` tells it."""
    state, inputs, gusts = dict(instant["state"]), dict(instant["inputs"]), instant.get("gusts_for")
    return Start(
        np.array(list(state.values()), dtype=float), np.array(list(inputs.values()), dtype=float),
        float(instant["time_s"]), _five(gusts) if gusts else None,
        tuple((float(v), float(h)) for v, h in instant.get("gust_segments", [])),
        tuple((str(name), float(t)) for name, t in instant.get("begun", [])), dict(instant.get("devices") or {}),
        {str(n): float(v) for n, v in (instant.get("parameters") or {}).items()},
        {str(n): float(v) for n, v in (instant.get("memory") or {}).items()},
        tuple((str(n), float(b), float(r), float(t), bool(a)) for n, b, r, t, a in instant.get("following") or []),
    )  # fmt: skip


def _five(values: Sequence[float]) -> tuple[float, float, float, float, float]:
    a, b, c, d, e = (float(v) for v in values)
    return a, b, c, d, e
