"""The rotating ellipsoid WGS-84: radii of curvature, gravity with J2, and places on it.

Source: National Imagery and Mapping Agency, Department of Defense World Geodetic System 1984, TR8350.2, 3rd ed. 2000,
tables 3.1 and 3.3 (constants); B. L. Stevens, F. L. Lewis, Aircraft Control and Simulation, 2nd ed., Wiley 2003,
section 1.4 (radii, gravitation with J2). Latitudes are geodetic; all angles in rad. The kernel compiles the same
functions of single numbers.
"""

import math

import numpy as np
from numpy.typing import ArrayLike, NDArray

__all__ = [
    "FLATTENING",
    "J2",
    "MU",
    "ROTATION",
    "SEMI_MAJOR",
    "curvature_radii",
    "ecef_from_geodetic",
    "geodetic_from_ecef",
    "gravity_components",
]

Floats = NDArray[np.float64]
SEMI_MAJOR = 6378137.0  # m
FLATTENING = 1.0 / 298.257223563
MU = 3.986004418e14  # m^3/s^2, with the air
ROTATION = 7.292115e-5  # rad/s
J2 = 1.082629821313e-3
ECCENTRICITY_2 = FLATTENING * (2.0 - FLATTENING)


def curvature_radii(latitude: float) -> tuple[float, float]:
    """Return the radii of curvature (m) of the meridian and across it, at the ellipsoid."""
    sine = np.sin(latitude)
    square = 1.0 - ECCENTRICITY_2 * sine * sine
    across = SEMI_MAJOR / np.sqrt(square)
    return across * (1.0 - ECCENTRICITY_2) / square, across


def gravity_components(latitude: float, height: float) -> tuple[float, float]:
    """Return gravity (m/s^2) towards north and down at a height (m) above the ellipsoid, for a body that turns along.

    The gravitation of the mass with its J2, less what the Earth's rotation takes.
    """
    sine, cosine = np.sin(latitude), np.cos(latitude)
    across = SEMI_MAJOR / np.sqrt(1.0 - ECCENTRICITY_2 * sine * sine)
    out, up = (across + height) * cosine, (across * (1.0 - ECCENTRICITY_2) + height) * sine
    square = out * out + up * up
    pull = MU / (square * np.sqrt(square))
    bulge = 1.5 * J2 * SEMI_MAJOR * SEMI_MAJOR / square
    polar = 5.0 * up * up / square
    outwards = (ROTATION * ROTATION - pull * (1.0 + bulge * (1.0 - polar))) * out
    northwards = -pull * (1.0 + bulge * (3.0 - polar)) * up
    return cosine * northwards - sine * outwards, -cosine * outwards - sine * northwards


def ecef_from_geodetic(latitude: ArrayLike, longitude: ArrayLike, height: ArrayLike) -> Floats:
    """Return Earth-centred, Earth-fixed places, shape (..., 3), m: x to the equator at Greenwich, z to the north."""
    lat, lon, h = np.broadcast_arrays(*(np.asarray(v, dtype=float) for v in (latitude, longitude, height)))
    across = SEMI_MAJOR / np.sqrt(1.0 - ECCENTRICITY_2 * np.sin(lat) ** 2)
    out = (across + h) * np.cos(lat)
    return np.stack(
        [out * np.cos(lon), out * np.sin(lon), (across * (1.0 - ECCENTRICITY_2) + h) * np.sin(lat)], axis=-1
    )


def geodetic_from_ecef(place: ArrayLike) -> tuple[Floats, Floats, Floats]:
    """Return latitude, longitude and height of Earth-fixed places, shape (..., 3), by iteration to rounding."""
    x, y, z = np.moveaxis(np.asarray(place, dtype=float), -1, 0)
    out = np.hypot(x, y)
    latitude = np.arctan2(z, out * (1.0 - ECCENTRICITY_2))
    for _ in range(8):
        across = SEMI_MAJOR / np.sqrt(1.0 - ECCENTRICITY_2 * np.sin(latitude) ** 2)
        latitude = np.arctan2(z + ECCENTRICITY_2 * across * np.sin(latitude), out)
    across = SEMI_MAJOR / np.sqrt(1.0 - ECCENTRICITY_2 * np.sin(latitude) ** 2)
    # height along the ellipsoid's normal: a form without cancellation at the poles
    height = out * np.cos(latitude) + z * np.sin(latitude) - SEMI_MAJOR**2 / across
    return latitude, np.arctan2(y, x), height


def wrapped(angle: float) -> float:
    """Return an angle in rad within half a turn of zero."""
    return angle - 2.0 * math.pi * math.floor((angle + math.pi) / (2.0 * math.pi))
