"""Linear models along a flight: one at each of some times."""

from collections.abc import Sequence
from typing import Unpack

import numpy as np

from dravik.aircraft import Aircraft
from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.flight.options import Options
from dravik.flight.session import Session
from dravik.flight.snapshots import Startable
from dravik.linear import LinearModel, linearise
from dravik.units import quantity

__all__ = ["linearise_along"]


@arguments.spelled_out
def linearise_along(
    craft: Aircraft, *, start: Startable, times: Sequence[str | float], outputs: Sequence[str] = (),
    coordinates: str = "air", **options: Unpack[Options],
) -> list[LinearModel]:  # fmt: skip
    """Return the linear model at each of some times of a flight.

    Nothing stands still there: each model has the rates of its states in ``drift``, and its operating point in ``x0``
    and ``u0``. Times are rounded to the flight's steps.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    start : TrimPoint or Start
        Where the flight begins.
    times : sequence of str or float
        Times, s, rising.
    outputs : sequence of str, optional
        Signals that are outputs. The states unless given.
    coordinates : str, default "air"
        ``"air"`` or ``"body"``.
    **options
        How it flies, by the keywords of ``fly`` from ``dt`` on.

    Returns
    -------
    list of LinearModel
        A model for each time.

    Raises
    ------
    DravikError
        For times that do not rise.
    FlightError
        Where the flight ends before the last of them.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
    >>> pulled = dv.step(0.2, at=1.0)
    >>> before, after = linearise_along(craft, start=point, times=[0.5, 4.0], controls={"pitch_stick": pulled})
    >>> theta = before.states.index("theta")
    >>> bool(before.x0[theta] < after.x0[theta])
    True
    """
    require(craft, Aircraft, "what is linearised", "linearise_plant for other plants")
    instants = [quantity(t, "time", where="times") if isinstance(t, str) else float(t) for t in times]
    if not instants or not np.all(np.isfinite(instants)) or np.any(np.diff(instants) <= 0.0):
        raise DravikError(f"the times {list(times)} do not rise", expected="rising times in s")
    found = []
    with Session(craft, start=start, **options) as session:
        if instants[0] < session.time:
            raise DravikError(f"{instants[0]:g} s is before the start", expected=f"times from {session.time:g} s on")
        for t in instants:
            steps = round((t - session.time) / session.dt)
            if steps:
                session.step(steps * session.dt)
            found.append(linearise(craft, session.instant(coordinates), outputs=outputs))
    return found
