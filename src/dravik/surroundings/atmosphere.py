"""The US Standard Atmosphere 1976 to 86 km, with a temperature offset, density altitude and viscosity.

Source: U.S. Standard Atmosphere, 1976, NOAA-S/T 76-1562, Washington 1976: layers of table 4,
equations 18 (geopotential), 23 and 33 (temperature and pressure), 42 (density), 50 (sound), 51 (viscosity).
"""

from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dravik.constants import SEA_LEVEL_PRESSURE, SEA_LEVEL_TEMPERATURE
from dravik.errors import DravikError
from dravik.units import in_si, quantity

__all__ = ["Air", "air_at", "density_altitude", "standard_air"]

GRAVITY = 9.80665  # m/s^2, section 1.2
EARTH_RADIUS = 6356766.0  # m, effective radius of section 1.2.4
GAS_CONSTANT = 8314.32 / 28.9644  # J/(kg K), table 2: R* over M0
HEAT_RATIO = 1.4
TOP = 86000.0  # m, geometric
BOTTOM = -5000.0  # m, geometric: the tables of the standard begin there

# Table 4: base geopotential height (m), molecular temperature (K) there, gradient (K/m). The base
# pressures follow from 101325 Pa by equations 33a and 33b.
_BASE = (0.0, 11000.0, 20000.0, 32000.0, 47000.0, 51000.0, 71000.0)
_LAPSE = (-0.0065, 0.0, 0.001, 0.0028, 0.0, -0.0028, -0.002)


def _base_values() -> tuple[tuple[float, ...], tuple[float, ...]]:
    temperatures, pressures = [SEA_LEVEL_TEMPERATURE], [SEA_LEVEL_PRESSURE]
    for i in range(1, len(_BASE)):
        step, t0, lapse = _BASE[i] - _BASE[i - 1], temperatures[-1], _LAPSE[i - 1]
        t1 = t0 + lapse * step
        if lapse == 0.0:
            ratio = float(np.exp(-GRAVITY * step / (GAS_CONSTANT * t0)))
        else:
            ratio = float((t0 / t1) ** (GRAVITY / (GAS_CONSTANT * lapse)))
        temperatures.append(t1)
        pressures.append(pressures[-1] * ratio)
    return tuple(temperatures), tuple(pressures)


_TEMPERATURE, _PRESSURE = _base_values()
#: The layers upwards: base geopotential height (m), temperature there (K), gradient (K/m), pressure there (Pa).
LAYERS = tuple(zip(_BASE, _TEMPERATURE, _LAPSE, _PRESSURE, strict=True))

# Table 8: ratio of molecular weight to its sea-level value every 500 m from 80 to 86 km.
_RATIO_START, _RATIO_STEP = 80000.0, 500.0
_RATIO = (
    1.0, 0.999996, 0.999989, 0.999971, 0.999941, 0.999909, 0.999870,
    0.999829, 0.999786, 0.999741, 0.999694, 0.999641, 0.999579,
)  # fmt: skip


class Air(NamedTuple):
    """State of the air: K, Pa, kg/m^3, m/s, Pa s; scalars or arrays of one shape."""

    temperature: NDArray[np.float64]
    pressure: NDArray[np.float64]
    density: NDArray[np.float64]
    speed_of_sound: NDArray[np.float64]
    viscosity: NDArray[np.float64]


def standard_air(altitude: float, temperature_offset: float) -> tuple[float, float, float, float]:
    """Return temperature, pressure, density and speed of sound at one geometric altitude in m.

    Pressure follows the standard; the offset in K changes temperature, and density with it. Outside
    -5 km to 86 km the nearest end's layer is continued. The kernel compiles this same function.
    """
    height = EARTH_RADIUS * altitude / (EARTH_RADIUS + altitude)
    layer = 0
    while layer < 6 and height >= _BASE[layer + 1]:
        layer += 1
    base_temperature, lapse = _TEMPERATURE[layer], _LAPSE[layer]
    molecular = base_temperature + lapse * (height - _BASE[layer])
    if lapse == 0.0:
        pressure = _PRESSURE[layer] * np.exp(-GRAVITY * (height - _BASE[layer]) / (GAS_CONSTANT * molecular))
    else:
        pressure = _PRESSURE[layer] * (base_temperature / molecular) ** (GRAVITY / (GAS_CONSTANT * lapse))
    molecular += temperature_offset
    density = pressure / (GAS_CONSTANT * molecular)
    sound = np.sqrt(HEAT_RATIO * GAS_CONSTANT * molecular)
    temperature = molecular
    if altitude > _RATIO_START:
        position = min((altitude - _RATIO_START) / _RATIO_STEP, 11.999999)
        i = int(position)
        temperature = molecular * (_RATIO[i] + (position - i) * (_RATIO[i + 1] - _RATIO[i]))
    return temperature, pressure, density, sound


def air_at(altitude: ArrayLike | str, *, temperature_offset: float | str = 0.0) -> Air:
    """Return the air of the US Standard Atmosphere 1976.

    Parameters
    ----------
    altitude : array_like, or str
        Geometric altitude, m or with its unit, any shape, from -5 km to 86 km.
    temperature_offset : float or str, default 0
        Added to the standard temperature at the same pressure, K.

    Returns
    -------
    Air
        Temperature (K), pressure (Pa), density (kg/m^3), speed of sound (m/s) and viscosity (Pa s), in the shape of
        ``altitude``.

    Raises
    ------
    DravikError
        Outside the range of the standard.

    Examples
    --------
    >>> round(float(air_at("10000 ft").density), 4)
    0.9048
    """
    if isinstance(altitude, str):
        altitude = quantity(altitude, "length", where="altitude")
    temperature_offset = in_si(temperature_offset, "temperature difference", where="temperature_offset")
    heights = np.asarray(altitude, dtype=float)
    outside = heights[~((heights >= BOTTOM) & (heights <= TOP))]
    if outside.size:
        raise DravikError(
            f"altitude {outside.flat[0]:g} m is outside the standard atmosphere",
            expected=f"{BOTTOM:g} m to {TOP:g} m",
        )
    rows = np.array([standard_air(float(h), temperature_offset) for h in heights.flat]).reshape(-1, 4)
    temperature, pressure, density, sound = (rows[:, i].reshape(heights.shape) for i in range(4))
    viscosity = 1.458e-6 * temperature**1.5 / (temperature + 110.4)
    return Air(temperature, pressure, density, sound, viscosity)


def density_altitude(density: ArrayLike) -> NDArray[np.float64]:
    """Return the geometric altitude in m, any shape, at which the standard air has this density in kg/m^3.

    Raises DravikError for a density that the standard atmosphere has nowhere.
    """
    from scipy.optimize import brentq

    def solve(value: float) -> float:
        if not standard_air(TOP, 0.0)[2] <= value <= standard_air(BOTTOM, 0.0)[2]:
            raise DravikError(f"density {value:g} kg/m^3 occurs nowhere in the standard atmosphere")
        return float(brentq(lambda h: standard_air(h, 0.0)[2] - value, BOTTOM, TOP, xtol=1e-9))

    values = np.asarray(density, dtype=float)
    return np.array([solve(float(v)) for v in values.flat]).reshape(values.shape)
