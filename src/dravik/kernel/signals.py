"""The signals every aircraft has, in the order of their registers."""

from typing import NamedTuple

__all__ = ["BASE_SIGNALS", "RIGID_STATES", "WIND_INPUTS", "BaseSignal"]


class BaseSignal(NamedTuple):
    """A signal that the kernel computes: SI unit, meaning, and level (0 states, 1 alpha_dot, 2 accelerations)."""

    name: str
    unit: str
    meaning: str
    level: int = 0


BASE_SIGNALS: tuple[BaseSignal, ...] = (
    BaseSignal("time", "s", "time since the start"),
    BaseSignal("north", "m", "position north of the origin; on the round Earth along its meridian at the origin"),
    BaseSignal("east", "m", "position east of the origin; on the round Earth along its parallel"),
    BaseSignal("altitude", "m", "geometric height above sea level"),
    BaseSignal("u", "m/s", "velocity along body x, relative to the ground"),
    BaseSignal("v", "m/s", "velocity along body y, relative to the ground"),
    BaseSignal("w", "m/s", "velocity along body z, relative to the ground"),
    BaseSignal("p", "rad/s", "roll rate relative to the Earth, right wing down positive"),
    BaseSignal("q", "rad/s", "pitch rate relative to the Earth, nose up positive"),
    BaseSignal("r", "rad/s", "yaw rate relative to the Earth, nose right positive"),
    BaseSignal("phi", "rad", "bank angle, right wing down positive"),
    BaseSignal("theta", "rad", "pitch angle, nose up positive"),
    BaseSignal("psi", "rad", "heading, clockwise from north"),
    BaseSignal("airspeed", "m/s", "true airspeed"),
    BaseSignal("alpha", "rad", "angle of attack, atan2(w, u) of the velocity relative to the air"),
    BaseSignal("beta", "rad", "sideslip angle, asin(v/V) of the velocity relative to the air"),
    BaseSignal("mach", "", "Mach number"),
    BaseSignal("dynamic_pressure", "Pa", "half density times airspeed squared"),
    BaseSignal("density", "kg/m^3", "air density"),
    BaseSignal("pressure", "Pa", "static pressure"),
    BaseSignal("temperature", "K", "static temperature"),
    BaseSignal("speed_of_sound", "m/s", "speed of sound"),
    BaseSignal("equivalent_airspeed", "m/s", "airspeed of the same dynamic pressure at sea level"),
    BaseSignal("p_hat", "", "p b / 2V, relative to the air"),
    BaseSignal("q_hat", "", "q c / 2V, relative to the air"),
    BaseSignal("r_hat", "", "r b / 2V, relative to the air"),
    BaseSignal("flight_path", "rad", "angle of the ground velocity above the horizon, climbing positive"),
    BaseSignal("track", "rad", "direction of the ground velocity, clockwise from north"),
    BaseSignal("ground_speed", "m/s", "horizontal speed over the ground"),
    BaseSignal("climb_rate", "m/s", "vertical speed, climbing positive"),
    BaseSignal("u_air", "m/s", "velocity along body x, relative to the air"),
    BaseSignal("v_air", "m/s", "velocity along body y, relative to the air"),
    BaseSignal("w_air", "m/s", "velocity along body z, relative to the air"),
    BaseSignal("air_north", "m/s", "velocity of the air here towards north: inputs and wind together"),
    BaseSignal("air_east", "m/s", "velocity of the air here towards east"),
    BaseSignal("air_up", "m/s", "velocity of the air here upwards"),
    BaseSignal("air_north_dot", "m/s^2", "how the wind of the place changes along the way: towards north"),
    BaseSignal("air_east_dot", "m/s^2", "how the wind of the place changes along the way: towards east"),
    BaseSignal("air_up_dot", "m/s^2", "how the wind of the place changes along the way: upwards"),
    BaseSignal("latitude", "rad", "geodetic latitude"),
    BaseSignal("longitude", "rad", "longitude, east positive"),
    BaseSignal("gravity_x", "m/s^2", "gravity along body x"),
    BaseSignal("gravity_y", "m/s^2", "gravity along body y"),
    BaseSignal("gravity_z", "m/s^2", "gravity along body z"),
    BaseSignal("earth_rate_x", "rad/s", "turning of the Earth along body x; a gyro measures p + earth_rate_x"),
    BaseSignal("earth_rate_y", "rad/s", "turning of the Earth along body y"),
    BaseSignal("earth_rate_z", "rad/s", "turning of the Earth along body z"),
    BaseSignal("transport_rate_x", "rad/s", "turning of the local axes over the Earth, along body x"),
    BaseSignal("transport_rate_y", "rad/s", "turning of the local axes over the Earth, along body y"),
    BaseSignal("transport_rate_z", "rad/s", "turning of the local axes over the Earth, along body z"),
    BaseSignal("down_x", "", "the vertical, downwards, along body x"),
    BaseSignal("down_y", "", "the vertical, downwards, along body y"),
    BaseSignal("down_z", "", "the vertical, downwards, along body z"),
    BaseSignal("alpha_dot", "rad/s", "rate of angle of attack", 1),
    BaseSignal("beta_dot", "rad/s", "rate of sideslip", 1),
    BaseSignal("alpha_dot_hat", "", "alpha_dot c / 2V", 1),
    BaseSignal("beta_dot_hat", "", "beta_dot b / 2V", 1),
    BaseSignal("u_dot", "m/s^2", "rate of u", 2),
    BaseSignal("v_dot", "m/s^2", "rate of v", 2),
    BaseSignal("w_dot", "m/s^2", "rate of w", 2),
    BaseSignal("p_dot", "rad/s^2", "roll acceleration", 2),
    BaseSignal("q_dot", "rad/s^2", "pitch acceleration", 2),
    BaseSignal("r_dot", "rad/s^2", "yaw acceleration", 2),
    BaseSignal("nx", "", "load factor along body x: force other than weight over weight at g0", 2),
    BaseSignal("ny", "", "load factor along body y", 2),
    BaseSignal("nz", "", "load factor upwards (along -z): 1 in level flight", 2),
    BaseSignal("airspeed_dot", "m/s^2", "rate of true airspeed", 2),
)

#: The rigid body's integrated states: attitude is the unit quaternion, local to body, scalar first.
RIGID_STATES: tuple[str, ...] = (
    # altitude upwards, not down: what is read most often needs no change of sign
    "north", "east", "altitude", "u", "v", "w", "q0", "q1", "q2", "q3", "p", "q", "r",
)  # fmt: skip

#: Inputs every aircraft has: wind at the aircraft, the direction it blows to, and how the air there turns.
WIND_INPUTS: tuple[BaseSignal, ...] = (
    BaseSignal("wind_north", "m/s", "velocity of the air towards north"),
    BaseSignal("wind_east", "m/s", "velocity of the air towards east"),
    BaseSignal("wind_up", "m/s", "velocity of the air upwards"),
    BaseSignal("gust_roll", "rad/s", "rotation of the air about body x"),
    BaseSignal("gust_pitch", "rad/s", "rotation of the air about body y"),
    BaseSignal("gust_yaw", "rad/s", "rotation of the air about body z"),
)
