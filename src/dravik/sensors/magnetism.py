"""The Earth's magnetic field as a tilted dipole.

Source: P. Alken and others, International Geomagnetic Reference Field: the thirteenth generation, Earth, Planets and
Space 73:49, 2021, coefficients of degree 1 for 2020.0. The dipole is off by some 10 to 20 per cent from the field of a
place; a file gives a better one as numbers (``[environment]``, ``magnetic_field``).
"""

import math

__all__ = ["dipole_field", "field_formulas"]

G10, G11, H11 = -29404.8e-9, -1450.9e-9, 4652.5e-9  # T
RADIUS = 6_371_200.0  # m, of the coefficients


def dipole_field(latitude: float, longitude: float, altitude: float) -> tuple[float, float, float]:
    """Return the field of the tilted dipole towards north, east and down, T.

    Parameters
    ----------
    latitude, longitude : float
        The place, rad; the latitude is taken as that from the centre of the Earth.
    altitude : float
        Height above sea level, m.

    Returns
    -------
    tuple of float

    Examples
    --------
    >>> [round(1e6*v, 1) for v in dipole_field(0.0, 0.0, 0.0)]
    [29.4, -4.7, 2.9]
    """
    size = (RADIUS / (RADIUS + altitude)) ** 3
    along = G11 * math.cos(longitude) + H11 * math.sin(longitude)
    across = G11 * math.sin(longitude) - H11 * math.cos(longitude)
    sine, cosine = math.sin(latitude), math.cos(latitude)
    return (
        size * (along * sine - G10 * cosine),
        size * across,
        -2.0 * size * (G10 * sine + along * cosine),
    )


def field_formulas() -> list[str]:
    """Return the same as formulas of the place.

    Returns
    -------
    list of str

    Examples
    --------
    >>> len(field_formulas())
    3
    """
    size = f"({RADIUS!r}/({RADIUS!r} + altitude))**3"
    along = f"({G11!r}*cos(longitude) + {H11!r}*sin(longitude))"
    across = f"({G11!r}*sin(longitude) - {H11!r}*cos(longitude))"
    return [
        f"{size}*({along}*sin(latitude) - {G10!r}*cos(latitude))",
        f"{size}*{across}",
        f"-2*{size}*({G10!r}*sin(latitude) + {along}*cos(latitude))",
    ]
