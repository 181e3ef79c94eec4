"""Loadings against the limits of the centre of gravity."""

import math
from typing import NamedTuple

from dravik.aero import Coefficients, centre_range, margin_unit, read_coefficients, static_margin
from dravik.aircraft import Aircraft

__all__ = ["ALPHA", "CentreLimits", "LoadingRow", "aerodynamics_of", "centre_limits", "loading_rows"]

ALPHA = 0.0349  # rad: angle of attack at which static margins are told


class CentreLimits(NamedTuple):
    """Forward and aft limit of the centre of gravity (station x, m; nan where not known), and where they come from."""

    forward: float
    aft: float
    why: str


class LoadingRow(NamedTuple):
    """A loading: mass (kg), centre (station axes, m), inertia (kg m^2), static margin, and whether it is inside."""

    loading: str
    mass: float
    x: float
    y: float
    z: float
    Ixx: float
    Iyy: float
    Izz: float
    Ixz: float
    static_margin: float
    inside: str


def aerodynamics_of(craft: Aircraft) -> Coefficients | None:
    """Return the coefficients of an aircraft's file; None for one without, or one that is made in memory."""
    if craft.definition.aero is None or craft.path is None:
        return None
    return read_coefficients(craft.path)


def centre_limits(craft: Aircraft, aero: Coefficients | None, margin: float) -> CentreLimits:
    """Return the limits of the centre of gravity: those of the file, or what the coefficients allow.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    aero : Coefficients or None
        Its coefficients.
    margin : float
        Least static margin, chords.

    Returns
    -------
    CentreLimits
    """
    if craft.definition.centre_limits is not None:
        return CentreLimits(*craft.definition.centre_limits, "as the file says")
    if aero is None:
        return CentreLimits(math.nan, math.nan, "no aerodynamics to tell them")
    found = centre_range(aero, margin=margin)
    return CentreLimits(found.forward, found.aft, f"full up elevator holds the stall; static margin {100 * margin:g} %")


def loading_rows(craft: Aircraft, aero: Coefficients | None, limits: CentreLimits) -> list[LoadingRow]:
    """Return every loading of an aircraft, with its static margin in the unit of ``margin_unit``.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    aero : Coefficients or None
        Its coefficients; margins are nan without.
    limits : CentreLimits
        Between which its centre may lie.

    Returns
    -------
    list of LoadingRow
    """
    found = []
    for name, entry in craft.definition.loadings.items():
        x, y, z = (float(v) for v in entry.cg)
        margin = math.nan if aero is None else margin_unit(aero)[1] * static_margin(aero, x, alpha=ALPHA)
        # a limit that is not known is none
        is_outside = x < limits.forward or x > limits.aft
        inside = "OUTSIDE" if is_outside else "inside"
        found.append(LoadingRow(name, entry.mass, x, y, z, entry.Ixx, entry.Iyy, entry.Izz, entry.Ixz, margin, inside))
    return found
