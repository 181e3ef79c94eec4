"""Registers of the signals that the kernel computes; of vectors the first component."""

from dravik.kernel.signals import BASE_SIGNALS

# compiled code reads plain numbers: names are looked up once, here
_INDEX = {s.name: i for i, s in enumerate(BASE_SIGNALS)}
TIME, NORTH, U, P, PHI = (_INDEX[n] for n in ("time", "north", "u", "p", "phi"))
AIRSPEED, ALPHA, BETA, MACH, QBAR = (_INDEX[n] for n in ("airspeed", "alpha", "beta", "mach", "dynamic_pressure"))
DENSITY, PRESSURE, TEMPERATURE, SOUND, EAS = (
    _INDEX[n] for n in ("density", "pressure", "temperature", "speed_of_sound", "equivalent_airspeed")
)
P_HAT, FLIGHT_PATH, ALPHA_DOT, U_DOT = (_INDEX[n] for n in ("p_hat", "flight_path", "alpha_dot", "u_dot"))
P_DOT, NX, AIRSPEED_DOT, U_AIR, DOWN = (_INDEX[n] for n in ("p_dot", "nx", "airspeed_dot", "u_air", "down_x"))
AIR, AIR_DOT = _INDEX["air_north"], _INDEX["air_north_dot"]
LATITUDE, GRAVITY_X = _INDEX["latitude"], _INDEX["gravity_x"]
EARTH_RATE, TRANSPORT = _INDEX["earth_rate_x"], _INDEX["transport_rate_x"]
