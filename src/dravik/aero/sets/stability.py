"""What the coefficients say about stability: neutral point, static margin, how far the centre of gravity may move."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dravik.aero.sets.coefficients import Coefficients
from dravik.errors import DravikError
from dravik.surroundings.atmosphere import air_at
from dravik.units import in_si

__all__ = [
    "CentreRange",
    "centre_range",
    "lengthwise_controls",
    "margin_unit",
    "signals_in_air",
    "signals_of",
    "static_margin",
]

Floats = NDArray[np.float64]
MOTIONS = ("alpha", "beta", "p_hat", "q_hat", "r_hat", "alpha_dot_hat")


@dataclass(frozen=True)
class CentreRange:
    """Station x (m) of the foremost and aftmost centre of gravity, and the angles (rad) that set them.

    ``forward`` is where full up elevator just holds the highest lift, nan without an elevator; ``aft`` keeps the wanted
    static margin to the foremost neutral point below the stall.
    """

    forward: float
    aft: float
    stall: float
    critical: float


def static_margin(set_: Coefficients, centre: str | float, **signals: str | float) -> float:
    """Return how far (chords) a centre of gravity at station x lies ahead of the neutral point.

    Parameters
    ----------
    set_ : Coefficients
        The tables and formulas.
    centre : str or float
        Station x of the centre of gravity, m.
    **signals : str or float
        Where it is taken, SI: ``alpha``, ``mach``, controls.

    Returns
    -------
    float
        In chords, positive ahead of the neutral point.
    """
    return (float(set_.neutral_point(**signals)) - in_si(centre, "length", where="centre")) / set_.chord


def margin_unit(set_: Coefficients) -> tuple[str, float]:
    """Return the unit in which a static margin is told, and the factor onto it from chords.

    A finned body, whose forces are in body axes, has its calibre for a chord, and its margin in calibres.

    Parameters
    ----------
    set_ : Coefficients
        The tables and formulas.

    Returns
    -------
    tuple (str, float)
        The unit, and the factor onto it from chords.
    """
    return ("calibres", 1.0) if set_.axes == "body" else ("% of the chord", 100.0)


def centre_range(
    set_: Coefficients,
    *,
    margin: float = 0.05,
    elevator: str = "elevator",
    low: float = 0.0,
    high: float = 0.5,
    flow: Mapping[str, float] | None = None,
) -> CentreRange:
    """Return the range of the centre of gravity between ``low`` and the stall; the centre's height is left out.

    The stall is taken at the first highest lift between ``low`` and ``high`` (rad).

    Parameters
    ----------
    set_ : Coefficients
        The tables and formulas.
    margin : float, default 0.05
        Static margin that is kept, chords.
    elevator : str, default "elevator"
        The control that holds the nose up.
    low : float, default 0.0
        Least angle of attack, rad.
    high : float, default 0.5
        Greatest angle of attack, rad.
    flow : mapping of str to float, optional
        Signals of the air, SI, such as ``mach``: what ``signals_in_air`` returns.

    Returns
    -------
    CentreRange
    """
    alphas, signals = np.linspace(low, high, 101), dict(flow or {})
    lift = set_.at(alpha=alphas, **signals)["CL"]
    top = int(np.argmax(lift))
    below = alphas[: max(top - 5, 2)]
    points = set_.neutral_point(alpha=below, **signals)
    forward = float("nan")
    if elevator in set_.ranges:
        at = set_.at(alpha=alphas[top], **signals, **{elevator: set_.ranges[elevator][0]})
        normal = float(at["CL"] * np.cos(alphas[top]) + at["CD"] * np.sin(alphas[top]))
        forward = set_.moment_point[0] - float(at["Cm"]) / normal * set_.chord
    worst = int(np.argmin(points))
    return CentreRange(forward, float(points[worst]) - margin * set_.chord, float(alphas[top]), float(below[worst]))


def signals_in_air(set_: Coefficients, *, mach: str | float = "", altitude: str | float = "") -> dict[str, float]:
    """Return the signals of the air (SI) that a set of tables may run over, at a Mach number and an altitude.

    Of the standard atmosphere; with an altitude alone at rest, with a Mach number alone that number alone.

    Parameters
    ----------
    set_ : Coefficients
        The tables and formulas; for a set that has neither, asking is an error.
    mach : str or float, optional
        Mach number.
    altitude : str or float, optional
        Geometric altitude, with its unit or in m.

    Returns
    -------
    dict of str to float
        ``mach``, ``altitude`` and what follows from both.

    Raises
    ------
    DravikError
        Where nothing in the set depends on what is asked for.
    """
    found: dict[str, float] = {}
    if mach != "":
        found["mach"] = in_si(mach, "number", where="mach")
        if not found["mach"] >= 0.0:
            raise DravikError(f"the Mach number cannot be {mach!r}", where="mach", expected="zero or more")
    if altitude != "":
        height = in_si(altitude, "length", where="altitude")
        air = air_at(height)
        found |= {"altitude": height, "density": float(air.density), "pressure": float(air.pressure)}
        found |= {"temperature": float(air.temperature), "speed_of_sound": float(air.speed_of_sound)}
        if mach != "":
            found["airspeed"] = found["mach"] * found["speed_of_sound"]
            found["dynamic_pressure"] = 0.5 * found["density"] * found["airspeed"] ** 2
    read = {a.name for t in set_.tables.values() for a in t.axes} | set_.names
    for word, names in (("mach", {"mach", "airspeed", "dynamic_pressure"}), ("altitude", set(found) - {"mach"})):
        if word in found and not read & names:
            raise DravikError(
                f"nothing in {set_.name} depends on {'a Mach number' if word == 'mach' else 'the altitude'}",
                where=word, expected="a table over it, or a formula of it", hint=f"leave {word} out",
            )  # fmt: skip
    return found


def signals_of(set_: Coefficients) -> tuple[list[str], list[str]]:
    """Return the motions (angles and rates) and the controls that the tables or formulas of a set run over.

    Parameters
    ----------
    set_ : Coefficients
        The tables and formulas.

    Returns
    -------
    tuple (list of str, list of str)
        Names of motions, and of controls.
    """
    names = {a.name for t in set_.tables.values() for a in t.axes} | set_.names
    motions = [n for n in MOTIONS if n in names]
    controls = [n for n in set_.ranges if n not in MOTIONS and set_.is_angle(n)]
    return motions, controls


def lengthwise_controls(set_: Coefficients, controls: list[str], alpha: float = 0.05) -> list[str]:
    """Return the controls that work in the plane of symmetry.

    Parameters
    ----------
    set_ : Coefficients
        The tables and formulas.
    controls : list of str
        Names to choose from.
    alpha : float, default 0.05
        Angle of attack at which they are tried, rad.

    Returns
    -------
    list of str
        Their names.
    """
    found = []
    for name in controls:
        low, high = set_.ranges[name]
        by = set_.slopes(name, alpha=alpha, **{name: 0.5 * (low + high)})
        if abs(by["CL"]) + abs(by["Cm"]) > abs(by["Cl"]) + abs(by["Cn"]):
            found.append(name)
    return found
