"""The entity state of IEEE 1278.1: where a body is, how it turns and moves, as a datagram that pictures understand.

Source: IEEE Std 1278.1-2012, Distributed Interactive Simulation, clause 7.2.2 (entity state), 6.2.14 and annex E (dead
reckoning), 6.2.94 (articulated parts). Numbers are big-endian. Numbers of parts and kinds are enumerated in
SISO-REF-010: they are quoted from memory, so a file may give its own.
"""

import math
import struct
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Final

import numpy as np
from numpy.typing import NDArray

from dravik import frames
from dravik.errors import DravikError
from dravik.surroundings.earth import ecef_from_geodetic

__all__ = ["READS", "EntityState", "decode", "encode", "entity_state", "extrapolated", "local_to_geocentric"]

Floats = NDArray[np.float64]
VERSION: Final = 7  # of the protocol: IEEE 1278.1-2012
ENTITY_STATE, FAMILY = 1, 1  # type of the datagram, and family of entity information
ROTATING_ACCELERATED = 4  # dead reckoning by velocity and acceleration in the world, and rates of the body
HOUR = 3600.0  # s; times count within the hour
_HEAD = struct.Struct(">BBBBIHBB")
_BODY = struct.Struct(">HHHBB8s8s3f3d3fIB15s3f3fB11sI")
_PART = struct.Struct(">BBHIfI")
LEAST = _HEAD.size + _BODY.size
#: Signals that a state is made of.
READS = (
    "latitude", "longitude", "altitude", "u", "v", "w", "u_dot", "v_dot", "w_dot", "p", "q", "r", "phi", "theta", "psi",
)  # fmt: skip


@dataclass(frozen=True)
class EntityState:
    """A body's state: place, velocity and acceleration in geocentric axes, Euler angles of the body against these.

    ``location`` (m), ``velocity`` (m/s), ``acceleration`` (m/s^2) are along geocentric axes: x through latitude and
    longitude zero, z through the north pole. ``orientation`` is psi, theta, phi (rad) from these axes to the body's,
    ``rates`` are p, q, r (rad/s). ``parts`` are the kind of each articulated part, and its value (rad or m).
    """

    location: tuple[float, float, float]
    velocity: tuple[float, float, float] = (0.0, 0.0, 0.0)
    acceleration: tuple[float, float, float] = (0.0, 0.0, 0.0)
    orientation: tuple[float, float, float] = (0.0, 0.0, 0.0)
    rates: tuple[float, float, float] = (0.0, 0.0, 0.0)
    parts: tuple[tuple[int, float], ...] = ()
    identity: tuple[int, int, int] = (1, 1, 1)
    kind: tuple[int, ...] = (1, 2, 0, 0, 0, 0, 0, 0)
    force: int = 1
    exercise: int = 1
    marking: str = ""
    time: float = 0.0
    algorithm: int = field(default=ROTATING_ACCELERATED)


def local_to_geocentric(latitude: float, longitude: float) -> Floats:
    """Return the matrix from local axes (north, east, down) to geocentric ones; angles in rad.

    >>> (local_to_geocentric(0.0, 0.0) + 0.0).round(3).tolist()  # at the equator north is z, down is -x
    [[0.0, 0.0, -1.0], [0.0, 1.0, 0.0], [1.0, 0.0, 0.0]]
    """
    sine, cosine = math.sin(latitude), math.cos(latitude)
    east, ahead = math.sin(longitude), math.cos(longitude)
    return np.array(
        [
            [-sine * ahead, -east, -cosine * ahead],
            [-sine * east, ahead, -cosine * east],
            [cosine, 0.0, -sine],
        ]
    )


def entity_state(
    signals: Mapping[str, float], *, parts: Sequence[tuple[int, float]] = (), geoid: float = 0.0, time: float = 0.0,
    **identity: object,
) -> EntityState:  # fmt: skip
    """Return the state of an aircraft from its signals.

    Parameters
    ----------
    signals : mapping of str to float
        Those of ``READS``, SI.
    parts : sequence of tuple (int, float)
        Kind of each articulated part, and its value, rad or m.
    geoid : float, default 0
        Height of sea level above the ellipsoid, m.
    time : float, default 0
        Time of the flight, s.
    **identity
        Other fields of ``EntityState``: ``identity``, ``kind``, ``force``, ``exercise``, ``marking``.

    Returns
    -------
    EntityState
    """
    value = [signals[name] for name in READS]
    latitude, longitude, altitude = value[:3]
    velocity, rate, turning = np.array(value[3:6]), np.array(value[6:9]), np.array(value[9:12])
    to_world = local_to_geocentric(latitude, longitude)
    body = np.asarray(frames.dcm_from_euler(*value[12:15]))  # from local axes to the body's
    outwards = to_world @ body.T
    # the rates of u, v, w are those along axes that turn with the body
    acceleration = outwards @ (rate + np.cross(turning, velocity))
    phi, theta, psi = (float(a) for a in frames.euler_from_dcm(outwards.T))
    place = ecef_from_geodetic(latitude, longitude, altitude + geoid)
    return EntityState(
        location=_three(place), velocity=_three(outwards @ velocity), acceleration=_three(acceleration),
        orientation=(psi, theta, phi), rates=_three(turning), parts=tuple(parts), time=time,
        **identity,  # type: ignore[arg-type]
    )  # fmt: skip


def _three(values: Floats) -> tuple[float, float, float]:
    x, y, z = (float(v) for v in values)
    return x, y, z


def extrapolated(state: EntityState, seconds: float) -> tuple[Floats, Floats]:
    """Return where a receiver has the body some seconds after a state.

    Place by velocity and acceleration, attitude by the constant rates of the body (annex E, rotating, accelerated).

    Parameters
    ----------
    state : EntityState
        The last state that was received.
    seconds : float
        Time since then, s.

    Returns
    -------
    tuple of array and array
        Location (m), and psi, theta, phi (rad).
    """
    place = np.array(state.location) + seconds * np.array(state.velocity)
    place += 0.5 * seconds**2 * np.array(state.acceleration)
    psi, theta, phi = state.orientation
    turned = _rotation(-seconds * np.array(state.rates)) @ np.asarray(frames.dcm_from_euler(phi, theta, psi))
    phi, theta, psi = (float(a) for a in frames.euler_from_dcm(turned))
    return place, np.array([psi, theta, phi])


def _rotation(turn: Floats) -> Floats:
    """Return the matrix of a rotation by a vector (rad): Rodrigues' formula."""
    angle = float(np.linalg.norm(turn))
    if angle < 1e-12:
        return np.eye(3)
    x, y, z = turn / angle
    cross = np.array([[0.0, -z, y], [z, 0.0, -x], [-y, x, 0.0]])
    found: Floats = np.eye(3) + math.sin(angle) * cross + (1.0 - math.cos(angle)) * cross @ cross
    return found


def encode(state: EntityState) -> bytes:
    """Return the datagram of a state; its time counts within the hour, not from a clock that both sides share.

    Parameters
    ----------
    state : EntityState
        The state.

    Returns
    -------
    bytes

    Raises
    ------
    DravikError
        For values that are not finite, and for more parts than a datagram holds.
    """
    numbers = (*state.location, *state.velocity, *state.acceleration, *state.orientation, *state.rates)
    if not all(math.isfinite(v) for v in (*numbers, state.time, *(v for _, v in state.parts))):
        raise DravikError("the state to send holds values that are not finite")
    if len(state.parts) > 255:
        raise DravikError(f"{len(state.parts)} articulated parts do not fit into a datagram", expected="at most 255")
    stamp = int(state.time % HOUR / HOUR * 2.0**31) << 1  # the lowest bit is 0: relative
    length = LEAST + _PART.size * len(state.parts)
    head = _HEAD.pack(VERSION, state.exercise, ENTITY_STATE, FAMILY, stamp, length, 0, 0)
    body = _BODY.pack(
        *state.identity, state.force, len(state.parts), _kind(state.kind), _kind(state.kind), *state.velocity,
        *state.location, *state.orientation, 0, state.algorithm, bytes(15), *state.acceleration, *state.rates,
        1, state.marking.encode("ascii", "replace")[:11].ljust(11, b"\0"), 0,
    )  # fmt: skip
    return head + body + b"".join(_PART.pack(0, 0, 0, kind, value, 0) for kind, value in state.parts)


def _kind(kind: tuple[int, ...]) -> bytes:
    """Return kind, domain, country (two octets), category, subcategory, specific, extra."""
    first, domain, country, *rest = (*kind, *[0] * 7)[:7]
    return struct.pack(">BBH4B", first, domain, country, *rest)


def decode(data: bytes) -> EntityState:
    """Return the state in a datagram.

    Parameters
    ----------
    data : bytes
        The datagram.

    Returns
    -------
    EntityState

    Raises
    ------
    DravikError
        For a datagram that is none: of another type, length or version, or with values that are not finite.
    """
    if len(data) < LEAST:
        raise DravikError(f"a datagram of {len(data)} octets is no entity state", expected=f"at least {LEAST}")
    version, exercise, kind, family, stamp, length, _, _ = _HEAD.unpack_from(data)
    if version not in (6, VERSION) or (kind, family) != (ENTITY_STATE, FAMILY):
        raise DravikError(
            f"version {version}, type {kind} of family {family} is no entity state", expected="version 6 or 7, 1, 1"
        )
    (site, application, entity, force, count, first, _, *rest) = _BODY.unpack_from(data, _HEAD.size)
    numbers, (algorithm, _, *motion, _, marking, _) = rest[:9], rest[10:]
    if length != len(data) or len(data) != LEAST + _PART.size * count:
        raise DravikError(f"the datagram says {length} octets and {count} parts, and has {len(data)} octets")
    parts = [_PART.unpack_from(data, LEAST + _PART.size * i) for i in range(count)]
    found = EntityState(
        location=(numbers[3], numbers[4], numbers[5]), velocity=(numbers[0], numbers[1], numbers[2]),
        acceleration=(motion[0], motion[1], motion[2]), orientation=(numbers[6], numbers[7], numbers[8]),
        rates=(motion[3], motion[4], motion[5]), parts=tuple((p[3], p[4]) for p in parts),
        identity=(site, application, entity), kind=struct.unpack(">BBH4B", first), force=force, exercise=exercise,
        marking=marking.rstrip(b"\0").decode("ascii", "replace"), time=(stamp >> 1) * HOUR / 2.0**31,
        algorithm=algorithm,
    )  # fmt: skip
    if not all(math.isfinite(v) for v in (*numbers, *motion, *(v for _, v in found.parts))):
        raise DravikError("the datagram holds values that are not finite")
    return found
