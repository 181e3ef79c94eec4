"""What sensors would read without errors, as formulas of the motion: kinematics at their place, in their axes.

Sources: D. H. Titterton, J. L. Weston, Strapdown Inertial Navigation Technology, 2nd edition, 2004 (specific force and
rates against inertial space); NACA Report 1135, 1953 (pressure in a pitot tube).
"""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from dravik.constants import SEA_LEVEL_PRESSURE, STANDARD_GRAVITY
from dravik.formula.contributions import moment_arm
from dravik.frames import dcm_from_euler
from dravik.sensors.definition import Sensor
from dravik.sensors.magnetism import field_formulas

__all__ = ["ideal_formulas", "turned"]

Vector = tuple[str, str, str]
#: From local axes (north, east, down) to body axes, row by row.
TO_BODY: tuple[Vector, Vector, Vector] = (
    ("cos(theta)*cos(psi)", "cos(theta)*sin(psi)", "-sin(theta)"),
    (
        "(sin(phi)*sin(theta)*cos(psi) - cos(phi)*sin(psi))",
        "(sin(phi)*sin(theta)*sin(psi) + cos(phi)*cos(psi))",
        "sin(phi)*cos(theta)",
    ),
    (
        "(cos(phi)*sin(theta)*cos(psi) + sin(phi)*sin(psi))",
        "(cos(phi)*sin(theta)*sin(psi) - sin(phi)*cos(psi))",
        "cos(phi)*cos(theta)",
    ),
)
IMPACT = f"pitot_impact_ratio_sea*{SEA_LEVEL_PRESSURE!r}"  # Pa, by the formulas of pitot and static pressure


def turned(matrix: NDArray[np.float64], vector: Sequence[str]) -> Vector:
    """Return the formulas of a matrix times a vector of formulas, without what is multiplied by zero.

    Parameters
    ----------
    matrix : array
        Of shape (3, 3).
    vector : sequence of str
        Three formulas.

    Returns
    -------
    tuple of str
        Three formulas.

    Examples
    --------
    >>> import numpy as np
    >>> turned(np.eye(3), ("p", "q", "r"))
    ('p', 'q', 'r')
    """
    rows = []
    # a right angle's cosine is 6e-17 in floating point
    for row in np.where(np.abs(matrix) < 1e-15, 0.0, matrix):
        parts = [(float(m), v) for m, v in zip(row, vector, strict=True) if m != 0.0]
        if [m for m, _ in parts] == [1.0]:
            rows.append(parts[0][1])
        else:
            rows.append(" + ".join(f"{m!r}*({v})" for m, v in parts) or "0")
    return rows[0], rows[1], rows[2]


def _cross(a: Sequence[str], b: Sequence[str]) -> Vector:
    return (
        f"(({a[1]})*({b[2]}) - ({a[2]})*({b[1]}))",
        f"(({a[2]})*({b[0]}) - ({a[0]})*({b[2]}))",
        f"(({a[0]})*({b[1]}) - ({a[1]})*({b[0]}))",
    )


def _sum(*vectors: Sequence[str]) -> Vector:
    x, y, z = (" + ".join(parts) for parts in zip(*vectors, strict=True))
    return x, y, z


def _to_local(vector: Sequence[str]) -> Vector:
    """Return a vector of body axes along north, east and down."""
    north, east, down = ("(" + " + ".join(f"{TO_BODY[i][k]}*({vector[i]})" for i in range(3)) + ")" for k in range(3))
    return north, east, down


def _rates(*, is_round: bool) -> Vector:
    """Return the angular rate against inertial space."""
    if is_round:
        return "(p + earth_rate_x)", "(q + earth_rate_y)", "(r + earth_rate_z)"
    return "p", "q", "r"


def _specific_force(arm: Vector | None, *, is_round: bool) -> Vector:
    """Return the specific force along body axes at a place: that of the centre + alpha x r + omega x (omega x r)."""
    g = repr(STANDARD_GRAVITY)
    centre = f"nx*{g}", f"ny*{g}", f"-nz*{g}"
    if arm is None:
        return centre
    rates = _rates(is_round=is_round)
    turning: Vector = ("p_dot", "q_dot", "r_dot")
    if is_round:
        # the Earth's rate stands still in space, so along turning axes it changes
        earth = ("earth_rate_x", "earth_rate_y", "earth_rate_z")
        turning = _sum(turning, _cross(earth, ("p", "q", "r")))
    return _sum(centre, _cross(turning, arm), _cross(rates, _cross(rates, arm)))


def ideal_formulas(sensor: Sensor, *, is_round: bool, field: tuple[float, float, float] | None) -> list[str]:
    """Return what each output of a sensor would read without errors, as a formula.

    Parameters
    ----------
    sensor : Sensor
        The sensor.
    is_round : bool
        Whether the Earth is round and turns.
    field : tuple of float, optional
        The magnetic field towards north, east and down, T; a tilted dipole's unless given.

    Returns
    -------
    list of str
        In the order of the sensor's outputs.

    Examples
    --------
    >>> from dravik.sensors import Sensor
    >>> ideal_formulas(Sensor(kind="rate_gyro"), is_round=False, field=None)
    ['p', 'q', 'r']
    """
    arm = None if sensor.place is None else moment_arm(sensor.place)
    axes = np.asarray(dcm_from_euler(*sensor.orientation))
    match sensor.kind:
        case "rate_gyro":
            return list(turned(axes, _rates(is_round=is_round)))
        case "accelerometer":
            return list(turned(axes, _specific_force(arm, is_round=is_round)))
        case "magnetometer":
            local = field_formulas() if field is None else [repr(v) for v in field]
            body = [" + ".join(f"{c}*({v})" for c, v in zip(row, local, strict=True)) for row in TO_BODY]
            return list(turned(axes, body))
        case "static_pressure" | "total_pressure" | "differential_pressure":
            text = {"static_pressure": "pressure", "total_pressure": f"pressure + {IMPACT}"}.get(sensor.kind, IMPACT)
            return [text if sensor.position_error is None else f"{text} + ({sensor.position_error})"]
        case "alpha_vane" | "beta_vane":
            return [_vane(sensor, arm)]
        case "satellite_position" | "satellite_velocity":
            return _satellite(sensor, arm)
        case "radio_height":
            down = "0" if arm is None else f"(down_x*{arm[0]} + down_y*{arm[1]} + down_z*{arm[2]})"
            return [f"altitude - ground_height - {down}"]
    return [_of_subject(sensor)]


def _vane(sensor: Sensor, arm: Vector | None) -> str:
    """Return the angle of the flow at a vane, which its own place turns and the body's upwash enlarges."""
    flow: Vector = ("u_air", "v_air", "w_air")
    if arm is not None:
        # the air turns with a gust: what counts is the rate against it
        rates = ("p - gust_roll", "q - gust_pitch", "r - gust_yaw")
        flow = _sum(flow, _cross(rates, arm))
    across = flow[2] if sensor.kind == "alpha_vane" else flow[1]
    return f"{sensor.upwash!r}*atan2({across}, {flow[0]})"


def _satellite(sensor: Sensor, arm: Vector | None) -> list[str]:
    if sensor.kind == "satellite_position":
        own = ["north", "east", "altitude"]
        if arm is None:
            return own
        north, east, down = _to_local(arm)
        return [f"north + {north}", f"east + {east}", f"altitude - {down}"]
    velocity: Vector = ("u", "v", "w")
    if arm is not None:
        velocity = _sum(velocity, _cross(("p", "q", "r"), arm))
    north, east, down = _to_local(velocity)
    return [north, east, f"-{down}"]


def _of_subject(sensor: Sensor) -> str:
    """Return the signal that a sensor of an engine, a battery, the air or a control measures."""
    match sensor.kind:
        case "shaft_speed":
            return f"speed_{sensor.engine}"
        case "voltage" | "current":
            return f"{sensor.kind}_{sensor.battery}"
        case "temperature":
            return "temperature"
    return sensor.subject
