"""A linear model in other coordinates of its motion: air, body or stability axes."""

import math
from collections.abc import Callable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft.plant import COORDINATES
from dravik.errors import DravikError, require
from dravik.linear.model import LinearModel
from dravik.linear.operating_point import OperatingInstant
from dravik.motion.minimal_coordinates import N_CHART
from dravik.trimming import TrimPoint

__all__ = ["AXES", "in_axes"]

Floats = NDArray[np.float64]
AXES = ("air", "body", "stability")
STEP = 1e-3  # of the coordinates; extrapolated, so that the error goes with its fourth power
SOON = 1e-3  # s: for the rate at which a wind turns against a turning aircraft
SLOW = 1.0  # m/s: below, angles to the flow are not used
APART = 1e-6  # of the largest entry: below, a coordinate that is left out does not matter
_BODY = COORDINATES["body"][1]
_PAIRS = {"airspeed": "u", "alpha": "w", "beta": "v", "u": "airspeed", "w": "alpha", "v": "beta"}


def in_axes(model: LinearModel, point: TrimPoint | OperatingInstant, axes: str) -> LinearModel:
    """Return a model in other coordinates of its motion; ``point`` is what it was made about.

    ``"air"`` has airspeed, alpha, beta; ``"body"`` u, v, w along the body's axes; ``"stability"`` the same letters
    in axes turned by the operating point's alpha about y, so that w and its rate are across the flow, and p and r
    about axes along and across it. Euler angles stay those of the body: where textbooks have the bank of the
    stability axes, it is the body's times cos(theta)/cos(flight path) in level-winged flight. Outputs that are the
    states follow them; others stay.

    Parameters
    ----------
    model : LinearModel
        The linear model.
    point : TrimPoint or OperatingInstant
        What the model was made about.
    axes : str
        ``"air"``, ``"body"`` or ``"stability"``.

    Returns
    -------
    LinearModel

    Raises
    ------
    DravikError
        For other axes, a model without them, and one whose part of the states does not determine the new ones.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
    >>> model = in_axes(dv.linearise(craft, point), point, "stability")
    >>> model.axes, model.states[3:6], bool(abs(model.x0[5]) < 1e-9)
    ('stability', ['u', 'v', 'w'], True)
    """
    require(model, LinearModel, "the model")
    if axes not in AXES:
        raise DravikError(f"there are no axes {axes!r}", expected="'air', 'body' or 'stability'")
    if model.axes not in AXES:
        raise DravikError("a model of no aircraft has no axes", expected="a model of linearise")
    # the transformation, and itself a little later and earlier: in a turn it changes with the heading
    whole, after, before = (
        _to_body(point, axes, later, into=False) @ _to_body(point, model.axes, later, into=True)
        for later in (0.0, SOON, -SOON)
    )
    old, new = (_names(a) for a in (model.axes, axes))
    # a model of some states only can change axes if these determine each other
    kept = [old.index(n) for n in model.states if n in old]
    # alpha goes with w and beta with v; the new velocities stand in the order of their axes
    pairs = _PAIRS if "air" in (axes, model.axes) and axes != model.axes else {}
    rows = [new.index(pairs.get(old[i], old[i])) for i in kept]
    velocities = iter(sorted(i for i in rows if new[i] in _PAIRS))
    rows = [next(velocities) if new[i] in _PAIRS else i for i in rows]
    left = [i for i in range(len(old)) if i not in kept]
    # what the new coordinates take of states that the model does not have: it must be nothing
    part, beside = whole[np.ix_(rows, kept)], np.abs(whole[np.ix_(rows, left)])
    if left and np.max(beside) > APART * np.max(np.abs(part)):
        missing = [old[i] for k, i in enumerate(left) if np.max(beside[:, k]) > APART * np.max(np.abs(part))]
        raise DravikError(
            f"the model has no {', '.join(missing)}, which other axes need", hint="the model of all states"
        )
    at, states = [model.states.index(old[i]) for i in kept], list(model.states)
    for k, i in zip(at, rows, strict=True):
        states[k] = new[i]
    # all other states stay as they are
    turn = np.eye(len(states))
    turn[np.ix_(at, at)] = part
    back = np.linalg.inv(turn)
    # a steady wind moves the one velocity against the other, z_new = T z_old + E u; T and E turn with the heading
    direct, turning = np.zeros_like(model.B), np.zeros_like(model.B)
    by_wind = [
        (_by_inputs(point, axes, later) - whole @ _by_inputs(point, model.axes, later))[rows][:, _columns(model, point)]
        for later in (0.0, SOON, -SOON)
    ]
    direct[at], turning[at] = by_wind[0], (by_wind[1] - by_wind[2]) / (2.0 * SOON)
    # z_new = T z: A_new = T A T^-1, plus the rate of T where it turns
    a = turn @ model.A @ back
    a[np.ix_(at, at)] += ((after - before)[np.ix_(rows, kept)] / (2.0 * SOON)) @ back[np.ix_(at, at)]
    is_state = model.outputs == model.states
    # outputs that are the states stay the states; others read the old ones through T^-1
    c, d = (np.eye(len(states)), model.D) if is_state else (model.C @ back, model.D - model.C @ back @ direct)
    x0 = _values(model, point, axes, states) if model.x0.size else model.x0
    units = {**model.units, **{n: "rad" if n in ("alpha", "beta") else "m/s" for n in states if n in new[3:6]}}
    return replace(
        model, A=a, B=turn @ model.B - a @ direct + turning, C=c, D=d, states=states, units=units, x0=x0,
        outputs=list(states) if is_state else model.outputs, y0=x0 if is_state else model.y0,
        drift=turn @ model.drift if model.drift.size else model.drift, axes=axes,
    )  # fmt: skip


def _names(axes: str) -> list[str]:
    """Return the coordinates of the rigid body in some axes."""
    return list(COORDINATES["air"][1] if axes == "air" else _BODY)


def _values(model: LinearModel, point: TrimPoint | OperatingInstant, axes: str, states: list[str]) -> Floats:
    """Return the operating point in the new coordinates, other states as they were."""
    plant = point.craft.plant("air" if axes == "air" else "body")
    z = plant.from_state(point.state, np.array(point.inputs, dtype=float), _time(point))[:N_CHART]
    if axes == "stability":
        z = _turned(point) @ z
    known = dict(zip(model.states, model.x0, strict=True)) | dict(zip(_names(axes), z, strict=True))
    return np.array([known[n] for n in states])


def _columns(model: LinearModel, point: TrimPoint | OperatingInstant) -> list[int]:
    """Return the places of the model's inputs among those of the aircraft; raises DravikError for others."""
    known = point.craft.input_names
    for name in model.inputs:
        if name not in known:
            raise DravikError(
                f"the model has the input {name!r}, and the point has not",
                expected="the point the model was made about",
            )
    return [known.index(n) for n in model.inputs]


def _by_inputs(point: TrimPoint | OperatingInstant, axes: str, later: float) -> Floats:
    """Return the slopes of some axes' coordinates by the inputs, while the aircraft moves on as it does: by winds.

    ``later`` (s) the aircraft has turned to another heading.
    """
    # velocities over the Earth do not change with the wind; those through the air do
    slopes = np.zeros((N_CHART, len(point.craft.input_names)))
    if axes != "air":
        return slopes
    air, u, x = point.craft.plant("air"), np.array(point.inputs, dtype=float), _state(point, later)
    for k, unit in enumerate(np.eye(len(u))):
        slopes[:, k] = _slope(lambda step, e=unit: air.from_state(x, u + step * e, _time(point)))  # type: ignore[misc]
    return slopes


def _state(point: TrimPoint | OperatingInstant, later: float) -> Floats:
    """Return the state of the point, turned in the air to the heading that a turn has ``later`` (s)."""
    u, s = np.array(point.inputs, dtype=float), point.signals
    # psi_dot of the Euler angles
    turning = (s["q"] * math.sin(s["phi"]) + s["r"] * math.cos(s["phi"])) / math.cos(s["theta"])
    if not later * turning:
        return np.array(point.state, dtype=float)
    plant = point.craft.plant("air" if s["airspeed"] > SLOW else "body")
    z = plant.from_state(np.array(point.state, dtype=float), u, _time(point))
    # the heading stands behind the attitude's two other angles
    z[8] += later * turning
    return plant.to_state(z, u)


def _time(point: TrimPoint | OperatingInstant) -> float:
    return point.time if isinstance(point, OperatingInstant) else 0.0


def _turned(point: TrimPoint | OperatingInstant) -> Floats:
    """Return the matrix from body to stability axes for velocities and rates; angles and place stay."""
    cosine, sine = math.cos(point.signals["alpha"]), math.sin(point.signals["alpha"])
    # a turn by alpha about y: x then points along the flow
    turn = np.array([[cosine, 0.0, sine], [0.0, 1.0, 0.0], [-sine, 0.0, cosine]])
    whole = np.eye(N_CHART)
    whole[3:6, 3:6] = whole[9:12, 9:12] = turn
    return whole


def _to_body(point: TrimPoint | OperatingInstant, axes: str, later: float, *, into: bool) -> Floats:
    """Return the slopes of body coordinates by those of some axes (``into``), or the other way round."""
    if axes == "body":
        return np.eye(N_CHART)
    if axes == "stability":
        turn = _turned(point)
        return turn.T if into else turn
    air, body = point.craft.plant("air"), point.craft.plant("body")
    u, t = np.array(point.inputs, dtype=float), _time(point)
    start, end = (air, body) if into else (body, air)
    z = start.from_state(_state(point, later), u, t)
    slopes = np.empty((N_CHART, N_CHART))
    for k, unit in enumerate(np.eye(len(z))[:N_CHART]):
        slopes[:, k] = _slope(lambda step, e=unit: end.from_state(start.to_state(z + step * e, u), u, t))  # type: ignore[misc]
    return slopes


def _slope(of: Callable[[float], Floats]) -> Floats:
    """Return the slope of coordinates by a step: central differences whose error goes with its square, extrapolated."""
    wide, narrow = ((of(h) - of(-h))[:N_CHART] / (2.0 * h) for h in (STEP, 0.5 * STEP))
    return np.asarray((4.0 * narrow - wide) / 3.0)
