"""Loadings against the limits of the centre of gravity."""

import math
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.aero import Coefficients, centre_range, margin_unit, read_coefficients, static_margin
from dravik.aircraft import Aircraft
from dravik.mass.limits import limits_at
from dravik.performance.level import fuel_of

__all__ = [
    "ALPHA",
    "CentreLimits",
    "LoadingLoop",
    "LoadingRow",
    "aerodynamics_of",
    "centre_limits",
    "loading_loop",
    "loading_rows",
]

Floats = NDArray[np.float64]
ALPHA = 0.0349  # rad: angle of attack at which static margins are told


@dataclass(frozen=True)
class CentreLimits:
    """Limits of the centre of gravity: rows of mass (kg), forward and aft (station x, m; nan where not known)."""

    rows: tuple[tuple[float, float, float], ...]
    why: str

    def at(self, mass: float) -> tuple[float, float]:
        """Return the forward and aft limit at a mass."""
        return limits_at(self.rows, mass)

    @property
    def is_known(self) -> bool:
        """Whether there is an aft limit."""
        return not math.isnan(self.rows[0][2])

    @property
    def words(self) -> str:
        """The limits in words, at the least and the greatest mass where they depend on it."""
        if not self.is_known:
            return f"not known ({self.why})"
        parts = []
        for mass, forward, aft in (self.rows[0], self.rows[-1])[: len(self.rows)]:
            ahead = "not known (no tables of an elevator)" if math.isnan(forward) else f"{forward:.3f}"
            at = f" at {mass:.5g} kg" if len(self.rows) > 1 else ""
            parts.append(f"{ahead} to {aft:.3f} m{at}")
        return f"{', '.join(parts)} ({self.why})"

    def holds(self, x: float, mass: float) -> bool:
        """Whether a centre of gravity is inside at a mass; a limit that is not known is none."""
        forward, aft = self.at(mass)
        return not (x < forward or x > aft)


class LoadingRow(NamedTuple):
    """A loading: masses (kg), centre (station axes, m), inertia (kg m^2), static margin, and whether it is inside.

    ``zero_fuel`` is the mass without what tanks of fuel hold. ``too_much`` says what limits of mass are exceeded.
    """

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
    zero_fuel: float
    too_much: str


class LoadingLoop(NamedTuple):
    """Mass (kg) and centre (station x, m) while seats are taken: from the front, and from the back; shape (k, 2)."""

    from_front: Floats
    from_back: Floats

    @property
    def reach(self) -> tuple[float, float]:
        """The foremost and the rearmost centre."""
        every = np.concatenate([self.from_front, self.from_back])
        return float(every[:, 1].min()), float(every[:, 1].max())


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
        return CentreLimits(craft.definition.centre_limits, "as the file says")
    if aero is None:
        return CentreLimits(((0.0, math.nan, math.nan),), "no aerodynamics to tell them")
    found = centre_range(aero, margin=margin)
    why = f"full up elevator holds the stall; static margin {100 * margin:g} %"
    return CentreLimits(((0.0, found.forward, found.aft),), why)


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
        # without limits there is nothing to be inside of
        inside = ("inside" if limits.holds(x, entry.mass) else "OUTSIDE") if limits.is_known else "-"
        fuel = sum(fuel_of(craft.with_loading(name)).values())
        found.append(
            LoadingRow(
                name, entry.mass, x, y, z, entry.Ixx, entry.Iyy, entry.Izz, entry.Ixz, margin, inside,
                entry.mass - fuel, _too_much(craft, entry.mass, entry.mass - fuel),
            )
        )  # fmt: skip
    return found


def _too_much(craft: Aircraft, mass: float, zero_fuel: float) -> str:
    """Return which limits of mass a loading exceeds, in words; those of landing are for what is left of the fuel."""
    limits = craft.definition.mass_limits
    found = [
        f"{what} {value:.5g} over {limit:.5g} kg"
        for what, value, limit in (("take-off", mass, limits.take_off), ("zero fuel", zero_fuel, limits.zero_fuel))
        if limit is not None and value > limit
    ]
    if limits.landing is not None and zero_fuel > limits.landing:
        found.append(f"landing without fuel {zero_fuel:.5g} over {limits.landing:.5g} kg")
    return "; ".join(found)


def loading_loop(craft: Aircraft) -> LoadingLoop | None:
    """Return how the centre of gravity moves while the seats of the file are taken, on top of the loading.

    Those at the windows go first, then those next to them: each time from the front to the back, and for the other
    branch from the back to the front. None without ``[seats]``.

    Parameters
    ----------
    craft : Aircraft
        The aircraft, in a loading without anybody on its seats.

    Returns
    -------
    LoadingLoop or None

    Examples
    --------
    >>> import dravik as dv
    >>> loading_loop(dv.sample("tarn")) is None
    True
    """
    rows = sorted(craft.definition.seats.values(), key=lambda row: row.position[0])
    if not rows:
        return None
    branches = []
    for ordered in (rows, rows[::-1]):
        mass, moment = craft.loading.mass, craft.loading.mass * float(craft.loading.cg[0])
        points = [(mass, moment / mass)]
        for turn in range(max(-(-row.across // 2) for row in rows)):
            for row in ordered:
                # two at the windows, two beside them, and the one in the middle last
                taken = min(2, row.across - 2 * turn)
                if taken > 0:
                    mass, moment = mass + taken * row.mass, moment + taken * row.mass * row.position[0]
                    points.append((mass, moment / mass))
        branches.append(np.array(points))
    return LoadingLoop(*branches)
