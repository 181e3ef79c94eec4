"""Criteria of a step of the stick in time: delay, transient and rise of the pitch rate, and the C* envelope.

Delay, transient peak ratio and rise time as in MIL-STD-1797A, 4.2.1.2 (the criterion in time, after C. R. Chalk); C* as
in H. N. Tobie, E. M. Elliott, L. G. Malcom, A New Longitudinal Handling Qualities Criterion, NAECON 1966: the load
factor with the pitch rate at the crossover speed of 400 ft/s added to it.
"""

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.constants import FOOT, STANDARD_GRAVITY
from dravik.errors import DravikError, require
from dravik.handling.criteria import NONE, Criterion
from dravik.handling.limits import boundaries, limits
from dravik.linear import LinearModel
from dravik.systems import TimeResponse, time_response

__all__ = [
    "PitchStep", "anticipation", "anticipation_criterion", "c_star", "c_star_criterion", "pitch_step",
    "pitch_step_criteria",
]  # fmt: skip

Floats = NDArray[np.float64]
CROSSOVER = 400.0 * FOOT  # m/s: where load factor and pitch rate count alike
SHOWN = 3.0  # s: of the C* envelope
LONG = 30.0  # s
STEADY = 0.02  # of the end value: by how much the tail of the response may still move


class PitchStep(NamedTuple):
    """Figures of the pitch rate after a step.

    ``delay`` (s) is where its steepest tangent leaves zero, ``rise`` (s) that tangent's way from zero to the end;
    ``ratio`` the first undershoot over the first overshoot of the steady rate (zero without).
    """

    delay: float
    ratio: float
    rise: float


def pitch_step(step: TimeResponse) -> PitchStep:
    """Return delay, transient peak ratio and rise time of the pitch rate's response to a step, the airspeed held.

    Parameters
    ----------
    step : TimeResponse
        Pitch rate after a step of the stick.

    Returns
    -------
    PitchStep

    Raises
    ------
    DravikError
        Where the rate does not become steady.

    Examples
    --------
    >>> import dravik as dv
    >>> rate = dv.LinearSystem.filtered("q", "stick", [4.0], [1.0, 2.0, 4.0])
    >>> found = pitch_step(dv.systems.time_response(rate, "q", "stick", duration=20.0))
    >>> round(float(found.ratio / np.exp(-np.pi * 0.5 / np.sqrt(0.75))), 2)
    1.0
    """
    require(step, TimeResponse, "the pitch rate's response", "time_response(model, 'q', stick)")
    t, values = step.finely()
    end = float(values[-1])
    # the last fifth tells whether it is steady
    tail = values[int(0.8 * len(t)) :]
    if end == 0.0 or np.max(np.abs(tail / end - 1.0)) > STEADY:
        raise DravikError("the pitch rate does not become steady", hint="a longer response, of alpha and q alone")
    share = values / end
    peak = int(np.argmax(share))
    # the tangent of the first rise: after the peak a lightly damped rate is as steep again
    slope = np.gradient(share, t)[: max(peak, 1) + 1]
    k = int(np.argmax(slope))
    rise = 1.0 / float(slope[k])
    over = float(share[peak]) - 1.0
    # the first undershoot behind the peak
    under = 1.0 - float(np.min(share[peak:]))
    # what a settled response still moves by is no oscillation
    ratio = under / over if over > STEADY / 20.0 and under > 0.0 else 0.0
    return PitchStep(float(t[k] - share[k] * rise), ratio, rise)


def pitch_step_criteria(step: TimeResponse, airspeed: float, category: str) -> list[Criterion]:
    """Return the criteria of a step's pitch rate at a true airspeed (m/s): delay, transient peak ratio, rise time."""
    data, found = boundaries("responses")["pitch_step"], pitch_step(step)
    # the standard's rise times are over the airspeed in ft/s
    feet = airspeed / FOOT
    key = "terminal" if category == "C" else "other"
    over = {end: [v if isinstance(v, str) else v / feet for v in data[f"rise_{end}_{key}"]] for end in ("min", "max")}
    lines = (
        ("pitch rate, delay of a step", found.delay, "s", NONE, limits(data["delay_max"])),
        ("pitch rate, undershoot over overshoot", found.ratio, "", NONE, limits(data["ratio_max"])),
        ("pitch rate, rise time", found.rise, "s", limits(over["min"]), limits(over["max"])),
    )
    return [
        Criterion(name, data["paragraph"], value, unit, lows, highs, remembered=True)
        for name, value, unit, lows, highs in lines
    ]


def c_star(model: LinearModel, stick: str, *, duration: float = LONG) -> tuple[Floats, Floats]:
    """Return time (s) and C* after a step of an input, over its steady value; the model has outputs nz and q.

    C* = nz + (400 ft/s / g) q, in g.

    Parameters
    ----------
    model : LinearModel
        The linear model.
    stick : str
        The input that is stepped.
    duration : float, default 30.0
        With its unit or in s.

    Returns
    -------
    tuple (array of float, array of float)
        Time, s, and C* over its steady value.

    Raises
    ------
    DravikError
        Where it does not become steady.
    """
    load, rate = (time_response(model, n, stick, duration=duration) for n in ("nz", "q"))
    # C* weighs load factor and pitch rate so that both count alike at 400 ft/s
    values = load.values + CROSSOVER / STANDARD_GRAVITY * rate.values
    end = float(values[-1])
    if end == 0.0 or np.max(np.abs(values[int(0.8 * len(values)) :] / end - 1.0)) > STEADY:
        raise DravikError("C* does not become steady", hint="the airspeed held, as by model.part(states=[...])")
    return load.time, values / end


def anticipation(model: LinearModel, stick: str, *, duration: float = LONG) -> tuple[float, float]:
    """Return the control anticipation parameter, 1/(g s^2), and when its pitch acceleration is there, s.

    The greatest pitch acceleration after a step of an input, over the steady change of the load factor. With no
    actuator before the surface it is the initial one (W. Bihrle, A Handling Qualities Theory for Precise Flight Path
    Control, AFFDL-TR-65-198, 1966). The airspeed is to be held.

    Parameters
    ----------
    model : LinearModel
        A model with outputs nz and q, its airspeed held: ``model.part(states=[...])``.
    stick : str
        The input that is stepped.
    duration : float, default 30.0
        In which the load factor becomes steady, s.

    Returns
    -------
    tuple (float, float)
        The parameter and the time.

    Raises
    ------
    DravikError
        Where the load factor does not become steady.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> model = dv.linearise(craft, dv.trim(craft, airspeed="62 m/s", altitude="300 m"), outputs=["nz", "q"])
    >>> held = model.part(states=["alpha", "q", "elevator"])
    >>> 0.2 < anticipation(held, "pitch_stick")[0] < 1.0
    True
    """
    require(model, LinearModel, "the model", "linearise(craft, point, outputs=['nz', 'q'])")
    load, rate = (time_response(model, n, stick, duration=duration) for n in ("nz", "q"))
    end = float(load.values[-1])
    if end == 0.0 or np.max(np.abs(load.values[int(0.8 * len(load.values)) :] / end - 1.0)) > STEADY:
        raise DravikError("the load factor does not become steady", hint="the airspeed held, by model.part(states=...)")
    t, values = rate.finely()
    slope = np.gradient(values, t, edge_order=2) / end
    k = int(np.argmax(slope))
    return float(slope[k]), float(t[k])


def anticipation_criterion(model: LinearModel, stick: str, category: str) -> Criterion:
    """Return the criterion of the control anticipation parameter from the pitch acceleration itself.

    Its limits are those of the frequency squared over n/alpha, which it equals for an airframe alone.
    """
    data = boundaries("mil_f_8785c")["short_period_frequency"]
    own, name = data[category], "pitch acceleration over load factor"
    value, time = anticipation(model, stick)
    note = "at once" if time < 1e-3 else f"greatest {time:.3g} s after a step"
    return Criterion(
        name, data["paragraph"], value, "1/(g s^2)", limits(own["min"]), limits(own["max"]), note,
        document="MIL-F-8785C",
    )  # fmt: skip


def c_star_criterion(time: Floats, values: Floats) -> Criterion:
    """Return the criterion of C* over its steady value: how far it leaves the envelope, zero inside it.

    The envelope is a chart that was read coarsely: only what is further outside than its reading counts.
    """
    data = boundaries("responses")["c_star"]
    shown = time <= SHOWN
    outside, at = np.zeros(0), 0.0
    for bound, sign in (("upper", 1.0), ("lower", -1.0)):
        places, edge = np.array(data[bound]).T
        gone = sign * (values[shown] - np.interp(time[shown], places, edge))
        k = int(np.argmax(gone))
        if not len(outside) or gone[k] > outside.max():
            outside, at = gone, float(time[k])
    worst = max(float(outside.max()), 0.0)
    note = f"outside by {worst:.2g} at {at:.2g} s" if worst > 0.0 else "inside"
    return Criterion(
        "C*, outside its envelope", data["paragraph"], worst, "", NONE, (data["read_to"], math.inf, math.inf),
        f"{note}; a chart, read to {data['read_to']:g}: it counts as left beyond that", remembered=True,
    )  # fmt: skip
