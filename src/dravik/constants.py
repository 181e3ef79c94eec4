"""Constants of nature and of the standards, each once, with its source."""

__all__ = [
    "FOOT", "KNOT", "POUND_FORCE", "SEA_LEVEL_DENSITY", "SEA_LEVEL_PRESSURE", "SEA_LEVEL_TEMPERATURE",
    "STANDARD_GRAVITY",
]  # fmt: skip

STANDARD_GRAVITY = 9.80665  # m/s^2: 3rd General Conference on Weights and Measures (1901); ISO 2533, 2.1
SEA_LEVEL_DENSITY = 1.225  # kg/m^3: ISO 2533:1975, table 1
SEA_LEVEL_PRESSURE = 101325.0  # Pa: ISO 2533:1975, table 1
SEA_LEVEL_TEMPERATURE = 288.15  # K: the same
KNOT = 1852.0 / 3600.0  # m/s: international nautical mile an hour
FOOT = 0.3048  # m: international yard and pound agreement (1959)
POUND_FORCE = 0.45359237 * STANDARD_GRAVITY  # N: the same agreement
