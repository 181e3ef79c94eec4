"""Propeller maps: thrust and power coefficients over advance ratio and blade angle, as tables for an aircraft."""

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from numpy.typing import ArrayLike

from dravik.errors import DravikError
from dravik.propulsion.blades import Blades
from dravik.propulsion.elements import rotor_loads
from dravik.tables import Axis, Table, write_columns

__all__ = ["propeller_map", "write_map"]


def propeller_map(
    blades: Blades, advance_ratios: ArrayLike, angles: ArrayLike, *, tip_mach: float = 0.5, count: int = 40
) -> tuple[Table, Table]:
    """Return CT and CP as tables over ``advance_ratio`` and ``blade_angle`` (rad; over the first alone for one angle).

    ``tip_mach`` is the Mach number of the tips' rotation the sections are taken at.

    Parameters
    ----------
    blades : Blades
        The blades.
    advance_ratios : array-like
        Flow along the axis over n D, rising.
    angles : array-like
        Blade angles at the reference station, rad.
    tip_mach : float, default 0.5
        Mach number of the tips' rotation.
    count : int, default 40
        Stations along a blade.

    Returns
    -------
    tuple (Table, Table)

    Raises
    ------
    DravikError
        For axes that do not rise, and where no flow balances the blade.
    """
    ratios, beta = np.asarray(advance_ratios, dtype=float), np.atleast_1d(np.asarray(angles, dtype=float))
    for name, values in (("advance_ratios", ratios), ("angles", beta)):
        if not np.all(np.diff(values) > 0.0):
            raise DravikError(f"{values.tolist()} does not rise", where=name, expected="rising values")
    rotation = tip_mach * 340.0 / blades.radius
    speed = ratios * rotation / (2.0 * np.pi) * 2.0 * blades.radius
    loads = rotor_loads(blades, speed=speed[:, None], rotation=rotation, angle=beta[None, :], count=count)
    axes = [Axis("advance_ratio", ratios), Axis("blade_angle", beta, "rad")]
    one = len(beta) == 1
    return (
        Table("CT", tuple(axes[:1] if one else axes), loads.ct[:, 0] if one else loads.ct, method="smooth"),
        Table("CP", tuple(axes[:1] if one else axes), loads.cp[:, 0] if one else loads.cp, method="smooth"),
    )


def write_map(tables: Sequence[Table], path: str | Path, *, note: str = "") -> None:
    """Write a map as one tidy CSV file.

    Parameters
    ----------
    tables : sequence of Table
        The tables.
    path : str or path
        The CSV file to write.
    note : str, default ""
        A comment at the head of the file.

    Raises
    ------
    DravikError
        When that cannot be done.
    """
    try:
        write_columns(tables, path, note=note)
    except OSError as error:
        raise DravikError(f"the map cannot be written ({error.strerror})", where=str(path)) from None
