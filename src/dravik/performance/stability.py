"""Neutral and manoeuvre points, stick fixed, and elevator and stick per g: from trims at several centres of gravity."""

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.aircraft.description.schema import Loading
from dravik.errors import DravikError
from dravik.trimming import ConditionSeries, TrimPoint, trim
from dravik.trimming.continuation import Continuation
from dravik.trimming.solve import condition_of

__all__ = ["StaticStability", "StickForce", "in_numbers", "static_stability"]

Floats = NDArray[np.float64]
SHIFTS = (-0.05, 0.0, 0.05)  # of the chord: centres of gravity at which trims are taken
SPEED_STEP, LOAD_STEP = 0.02, 0.05  # relative; of the load factor


@dataclass(frozen=True)
class StickForce:
    """What the pilot's force (N) does, its points stick free (station x, m) and their margins in chords.

    ``per_g`` in N, ``by_speed`` in N s/m about level flight, the trimmed force (N); neutral and manoeuvre points where
    the force does not change with the lift (over dynamic pressure), and with the load factor.
    """

    signal: str
    trimmed: float
    per_g: float
    by_speed: float
    neutral_point: float
    manoeuvre_point: float
    static_margin: float
    manoeuvre_margin: float


@dataclass(frozen=True)
class StaticStability:
    """Static stability at a condition, stick fixed; station x in m, margins in chords, positive for a stable aircraft.

    ``control`` is the effector, ``stick`` the input that moves it; slopes in rad, or the input's unit: by the load
    factor in a pull with the thrust of level flight, and by the lift coefficient in level flight.
    """

    point: TrimPoint
    control: str
    stick: str
    control_per_g: float
    stick_per_g: float
    control_per_lift: float
    centre: float
    neutral_point: float
    manoeuvre_point: float
    static_margin: float
    manoeuvre_margin: float
    force: StickForce | None = None

    def rows(self) -> list[tuple[str, float, str]]:
        """Return name, value and unit."""
        return [
            (f"{self.control} per g", float(np.degrees(self.control_per_g)), "deg"),
            (f"{self.stick} per g", self.stick_per_g, ""),
            (f"{self.control} by CL", float(np.degrees(self.control_per_lift)), "deg"),
            ("centre of gravity", self.centre, "m"),
            ("neutral point, stick fixed", self.neutral_point, "m"),
            ("manoeuvre point, stick fixed", self.manoeuvre_point, "m"),
            ("static margin", 100.0 * self.static_margin, "% chord"),
            ("manoeuvre margin", 100.0 * self.manoeuvre_margin, "% chord"),
            *self._force_rows(),
        ]

    def _force_rows(self) -> list[tuple[str, float, str]]:
        f = self.force
        if f is None:
            return []
        return [
            (f"{f.signal}, trimmed", f.trimmed, "N"),
            (f"{f.signal} per g", f.per_g, "N"),
            (f"{f.signal} by airspeed", f.by_speed, "N s/m"),
            ("neutral point, stick free", f.neutral_point, "m"),
            ("manoeuvre point, stick free", f.manoeuvre_point, "m"),
            ("static margin, stick free", 100.0 * f.static_margin, "% chord"),
            ("manoeuvre margin, stick free", 100.0 * f.manoeuvre_margin, "% chord"),
        ]


def static_stability(
    craft: Aircraft, *, airspeed: str | float, altitude: str | float, inputs: dict[str, Any] | None = None,
    force: str = "",
) -> StaticStability:  # fmt: skip
    """Return neutral and manoeuvre point, and control per g, from trims at three centres of gravity.

    ``force`` names a signal that is the pilot's pull (N, positive aft), such as a formula of hinge moments and
    gearing: with it the points stick free, and the force per g and by airspeed.

    The neutral point is where the control does not change with the lift in level flight, the manoeuvre point where
    it does not change with the load factor: both by a parabola over the centre of gravity.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    airspeed : str or float
        True airspeed, with its unit or in m/s.
    altitude : str or float
        Geometric height, with its unit or in m.
    inputs : mapping of str to any, optional
        Values of inputs by name, with their unit or in SI.
    force : str, default ""
        The signal that is the pilot's pull, N; stick fixed alone without.

    Returns
    -------
    StaticStability

    Raises
    ------
    DravikError
        Where level flight or small pulls are not held, and for an aircraft without a pitch control.

    Examples
    --------
    >>> import dravik as dv
    >>> found = static_stability(dv.sample("tarn"), airspeed="62 m/s", altitude="300 m")
    >>> found.control, 0.0 < found.static_margin < found.manoeuvre_margin
    ('elevator', True)
    """
    asked: dict[str, Any] = {"airspeed": airspeed, "altitude": altitude, "inputs": inputs or {}}
    point = trim(craft, **asked)
    # slopes are by one control: with two of them a trim would share the turn between them
    asked = _one_pitch_input(craft, asked, point)
    chord = craft.definition.reference.chord
    if force and craft.signal(force).unit not in ("N", ""):
        raise DravikError(f"{force} is in {craft.signal(force).unit}", where="force", expected="a force, N")
    per_lift, per_g, stick_per_g, pulls = [], [], [], []
    control, stick = _pitch_control(craft, asked, point)
    for shift in SHIFTS:
        moved = _with_centre(craft, point, shift * chord)
        # level flight at two speeds: the lift coefficient changes, the load factor does not
        by_speed = [
            _held(moved, {**asked, "airspeed": point["airspeed"] * (1.0 + s)}) for s in (-SPEED_STEP, SPEED_STEP)
        ]
        # two pulls at one speed: pitch rate and load factor change together, as in a real pull
        by_load = [_held(moved, {**asked, "pull": f"{1.0 + s!r}"}) for s in (-LOAD_STEP, LOAD_STEP)]
        per_lift.append(_ratio(by_speed, control, "CL"))
        per_g.append(_ratio(by_load, control, "nz"))
        stick_per_g.append(_ratio(by_load, stick, "nz"))
        if force:
            pulls.append(_pulls(force, by_speed, by_load))
    # three centres of gravity: the curve of a real aircraft over them is no straight line
    places = point["cg_x"] + np.array(SHIFTS) * chord
    neutral, manoeuvre = (_crossing(places, np.array(values)) for values in (per_lift, per_g))
    return StaticStability(
        point, control, stick, per_g[1], stick_per_g[1], per_lift[1], point["cg_x"], neutral, manoeuvre,
        (neutral - point["cg_x"]) / chord, (manoeuvre - point["cg_x"]) / chord,
        _stick_force(force, point, places, np.array(pulls), chord) if force else None,
    )  # fmt: skip


def _pulls(force: str, by_speed: list[TrimPoint], by_load: list[TrimPoint]) -> tuple[float, float, float]:
    """Return the slopes of the force over dynamic pressure by lift, of the force by load factor, and by airspeed."""
    # force over dynamic pressure: at the stick-free neutral point the hinge moment coefficient does not change
    over = [p[force] / p["dynamic_pressure"] for p in by_speed]
    by_lift = (over[1] - over[0]) / (by_speed[1]["CL"] - by_speed[0]["CL"])
    return by_lift, _ratio(by_load, force, "nz"), _ratio(by_speed, force, "airspeed")


def _stick_force(force: str, point: TrimPoint, places: Floats, pulls: Floats, chord: float) -> StickForce:
    neutral, manoeuvre = _crossing(places, pulls[:, 0]), _crossing(places, pulls[:, 1])
    margins = (neutral - point["cg_x"]) / chord, (manoeuvre - point["cg_x"]) / chord
    return StickForce(force, point[force], float(pulls[1, 1]), float(pulls[1, 2]), neutral, manoeuvre, *margins)


def _with_centre(craft: Aircraft, point: TrimPoint, by: float) -> Aircraft:
    """Return the aircraft with its present masses as numbers, their centre moved aft by some metres."""
    own = craft.loading
    centre = (point["cg_x"] + by, point["cg_y"], point["cg_z"])
    moments = {n: getattr(own, n) for n in ("Ixx", "Iyy", "Izz", "Ixy", "Ixz", "Iyz")}
    return in_numbers(craft, Loading(mass=point["mass"], cg=centre, **moments))


def in_numbers(craft: Aircraft, loading: Loading) -> Aircraft:
    """Return the aircraft with one loading, given in numbers, in the place of its own."""
    name = craft.loading_name
    changed = craft.definition.model_copy(update={"loadings": {name: loading}, "default_loading": name})
    return Aircraft(replace(craft.configuration, aircraft=changed), craft.tables)


def _held(craft: Aircraft, asked: dict[str, Any]) -> TrimPoint:
    condition = condition_of(craft, asked)  # type: ignore[arg-type]
    point = ConditionSeries(craft, lambda _: condition).point(0.0)
    if point is None:
        raise DravikError(f"{condition} is not held", expected="a condition further from the limits")
    return point


def _one_pitch_input(craft: Aircraft, asked: dict[str, Any], level: TrimPoint) -> dict[str, Any]:
    """Return what is asked with one free input of those that can stand for each other, the others as they are trimmed.

    A stick and a stabiliser's wheel both turn the nose, and a trim shares them anew at each speed: slopes of such a
    mixture tell nothing. The one stays free with which a pull takes the least share of its range.
    """
    condition = condition_of(craft, asked)  # type: ignore[arg-type]
    found = Continuation().find(craft, condition)
    names = found[0].interchangeable(found[2]) if found is not None else []
    best, least = asked, math.inf
    for name in names:
        others = {n: level[n] for n in names if n != name}
        held = {**asked, "inputs": {**asked["inputs"], **others}}
        try:
            pulled = _held(craft, {**held, "pull": f"{1.0 + LOAD_STEP!r}"})
        except DravikError:
            continue
        spec = craft.inputs[name]
        share = abs(pulled[name] - level[name]) / (spec.high - spec.low)
        if 1e-9 < share < least:
            best, least = held, share
    return best


def _pitch_control(craft: Aircraft, asked: dict[str, Any], level: TrimPoint) -> tuple[str, str]:
    """Return the effector and the input that a pull moves most, as shares of their ranges."""
    pulled = _held(craft, {**asked, "pull": f"{1.0 + LOAD_STEP!r}"})
    ranges = {n: (s.low, s.high) for n, s in craft.inputs.items() if s.trim and s.low < 0.0}
    found = []
    for known in (craft.limits, ranges):
        moved = {n: abs(pulled[n] - level[n]) / min(hi - lo, 10.0) for n, (lo, hi) in known.items() if lo < 0.0}
        best = max(moved, key=lambda n, m=moved: m[n], default="")  # type: ignore[misc]
        if not best or moved[best] < 1e-9:
            raise DravikError(
                f"{craft.name} has no pitch control that a pull moves", expected="an elevator with a range"
            )
        found.append(best)
    return found[0], found[1]


def _ratio(points: list[TrimPoint], of: str, by: str) -> float:
    below, above = points
    return (above[of] - below[of]) / (above[by] - below[by])


def _crossing(places: Floats, values: Floats) -> float:
    """Return where the parabola through three values is zero, the nearer root to the middle; the line's without one."""
    # about the middle place, so that small differences of station x keep their digits
    curve = np.polyfit(places - places[1], values, 2)
    roots = np.roots(curve) if abs(curve[0]) > 1e-9 * abs(curve[1]) else np.array([-curve[2] / curve[1]])
    real = roots[np.abs(np.imag(roots)) < 1e-9].real
    nearest = real[np.argmin(np.abs(real))] if len(real) else -curve[2] / curve[1]
    return float(places[1] + nearest)
