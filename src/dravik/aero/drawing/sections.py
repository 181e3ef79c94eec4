"""Section shapes: the NACA four- and five-digit families, or coordinates from a file.

Source: I. H. Abbott, A. E. von Doenhoff, Theory of Wing Sections, Dover 1959, sections 6.4 (four digits) and
6.5 (five digits, table of m and k1).
"""

from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dravik.errors import DravikError
from dravik.host.files import read_text

__all__ = ["Profile", "naca_profile", "profile_of", "read_profile"]

Floats = NDArray[np.float64]

# Five digits: second and third digit (ten times twice the place of the highest camber) to m and k1 (simple camber).
_FIVE = {10: (0.0580, 361.4), 20: (0.1260, 51.64), 30: (0.2025, 15.957), 40: (0.2900, 6.643), 50: (0.3910, 3.230)}


@dataclass(frozen=True)
class Profile:
    """Camber line and thickness at stations ``x`` from 0 (nose) to 1, all in chords; ``name`` for messages."""

    name: str
    x: Floats
    camber: Floats
    thickness: Floats

    def slope(self, x: ArrayLike) -> Floats:
        """Return the slope of the camber line at stations ``x``, any shape."""
        at = np.asarray(x, dtype=float)
        middle = 0.5 * (self.x[1:] + self.x[:-1])
        slopes = np.diff(self.camber) / np.diff(self.x)
        found: Floats = np.interp(at, middle, slopes)
        return found

    def height(self, x: ArrayLike) -> Floats:
        """Return the camber line's height at stations ``x``."""
        found: Floats = np.interp(np.asarray(x, dtype=float), self.x, self.camber)
        return found

    def zero_lift_angle(self) -> float:
        """Return the angle of attack of no lift, rad, of a thin aerofoil (Abbott and von Doenhoff, section 4.3)."""
        angle = np.linspace(0.0, np.pi, 2001)
        return float(np.trapezoid(self.slope(0.5 * (1.0 - np.cos(angle))) * (1.0 - np.cos(angle)), angle) / np.pi)

    @property
    def largest_thickness(self) -> float:
        """The largest thickness over the chord."""
        return float(np.max(self.thickness))


def _stations(n: int = 401) -> Floats:
    # cosine spacing: more points at nose and tail, where curvature is high
    stations: Floats = 0.5 * (1.0 - np.cos(np.linspace(0.0, np.pi, n)))
    return stations


def naca_profile(digits: str) -> Profile:
    """Return a NACA section of four digits (``2412``) or five (``23012``).

    Parameters
    ----------
    digits : str
        Four digits or five.

    Returns
    -------
    Profile

    Raises
    ------
    DravikError
        For other text, and for five digits with reflexed or unknown camber lines.
    """
    if not (digits.isdigit() and len(digits) in (4, 5)):
        raise DravikError(f"{digits!r} is no NACA section", expected="four or five digits, such as 2412 or 23012")
    x = _stations()
    thick = int(digits[-2:]) / 100.0
    thickness = 10.0 * thick * (0.2969 * np.sqrt(x) - 0.1260 * x - 0.3516 * x**2 + 0.2843 * x**3 - 0.1015 * x**4)
    if len(digits) == 4:
        m, p = int(digits[0]) / 100.0, int(digits[1]) / 10.0
        if (m > 0.0) != (p > 0.0):
            raise DravikError(f"NACA {digits}: camber and its place must both be zero or both not")
        camber = np.zeros_like(x)
        if m > 0.0:
            fore = m / p**2 * (2.0 * p * x - x**2)
            aft = m / (1.0 - p) ** 2 * (1.0 - 2.0 * p + 2.0 * p * x - x**2)
            camber = np.where(x < p, fore, aft)
    else:
        place = int(digits[1:3])
        if place not in _FIVE:
            raise DravikError(
                f"NACA {digits}: camber line {digits[:3]} is unknown", expected="second and third digit 10 to 50"
            )
        m, k1 = _FIVE[place]
        k1 *= int(digits[0]) / 2.0  # the first digit is the design lift, 2 for 0.3
        camber = np.where(x < m, k1 / 6.0 * (x**3 - 3.0 * m * x**2 + m**2 * (3.0 - m) * x), k1 / 6.0 * m**3 * (1.0 - x))
    return Profile(f"NACA {digits}", x, camber, thickness)


def read_profile(path: str | Path) -> Profile:
    """Return a section from a file of x and z in chords, from the tail over the top to the nose and back below.

    Lines that are no two numbers (a title) are passed over.

    Parameters
    ----------
    path : str or path
        A text file of two columns.

    Returns
    -------
    Profile

    Raises
    ------
    DravikError
        For a missing file or a shape that does not run from tail to nose and back.
    """
    lines = read_text(path, what="section file").splitlines()
    points = []
    for line in lines:
        cells = line.replace(",", " ").split()
        try:
            points.append((float(cells[0]), float(cells[1])))
        except (ValueError, IndexError):
            continue
    shape = np.array(points, dtype=float).reshape(-1, 2)
    nose = int(np.argmin(shape[:, 0])) if len(shape) else 0
    upper, lower = shape[: nose + 1][::-1], shape[nose:]
    if len(upper) < 3 or len(lower) < 3 or np.any(np.diff(upper[:, 0]) < 0) or np.any(np.diff(lower[:, 0]) < 0):
        raise DravikError(
            "the points do not run from the tail over the top to the nose and back below", where=str(path)
        )
    scale, start = float(np.ptp(shape[:, 0])), float(shape[nose, 0])
    x = _stations()
    top = np.interp(x, (upper[:, 0] - start) / scale, upper[:, 1] / scale)
    bottom = np.interp(x, (lower[:, 0] - start) / scale, lower[:, 1] / scale)
    return Profile(Path(path).stem, x, 0.5 * (top + bottom), top - bottom)


def profile_of(text: str, folder: Path) -> Profile:
    """Return a section from what stands in a geometry file: ``flat``, NACA digits, or a file in ``folder``.

    Parameters
    ----------
    text : str
        ``flat``, NACA digits, or the name of a file.
    folder : Path
        Where the files that the drawing names are looked for.

    Returns
    -------
    Profile
    """
    if text == "flat":
        x = _stations()
        return Profile("flat", x, np.zeros_like(x), np.zeros_like(x))
    return naca_profile(text) if text.isdigit() else read_profile(folder / text)
