"""Cases of the round Earth and of the ground against something outside the code, registered like the others."""

import math
from collections.abc import Iterator

import numpy as np

from dravik import fly, step
from dravik.surroundings import earth
from dravik.trimming import on_ground
from tests.reference import Row, case
from tests.support import DEG
from tests.test_contact import G, body, rolling
from tests.test_earth import ball, inertial, start


@case(
    "Gravity of the ellipsoid WGS-84",
    "NIMA TR8350.2, 3rd ed. 2000, table 3.4 (remembered); what J4 = -2.37e-6 adds is left out by Dravik, and allowed for",
)
def _gravity() -> Iterator[Row]:
    for place, latitude, published, left in (("equator", 0.0, 9.7803253359, 0.375), ("pole", 90.0, 9.8321849378, 1.0)):
        found = math.hypot(*earth.gravity_components(latitude * DEG, 0.0))
        yield Row(f"at the {place}, sea level [m/s^2]", published, found, left * 6 * 2.37e-6 * published)


@case("Flight over the rotating Earth", "the same flight integrated in inertial axes by DOP853 at 1e-12; closed forms")
def _inertial() -> Iterator[Row]:
    names = ["latitude", "longitude", "altitude", "east"]
    falling = ball(40.0)
    run = fly(falling, start=start(falling, 20000.0), duration=60, dt=0.02, record=names)
    closed = earth.ROTATION * math.cos(40 * DEG) * 9.79 * 60.0**3 / 3.0
    yield Row(
        "free fall of 60 s at 40 deg: eastward, Omega g t^3 cos/3 [m]", closed, float(run["east"][-1]), 0.01 * closed
    )
    for words, latitude, altitude, speed, psi, seconds in (
        ("free fall of 60 s", 40.0, 20000.0, 0.0, 0.0, 60.0),
        ("coast of 15 min, north-east at 7 km/s", 30.0, 5e5, 7000.0, 50.0, 900.0),
        ("orbit of 90 min, eastwards from 20 deg south", -20.0, 4e5, 7200.0, 90.0, 5400.0),
    ):
        flying = ball(latitude)
        begun = start(flying, altitude, (speed, 0, 0), psi * DEG)
        run = fly(flying, start=begun, duration=seconds, dt=0.5 if seconds > 60 else 0.02, record=names)
        velocity = speed * np.array([math.cos(psi * DEG), math.sin(psi * DEG), 0.0])
        exact = inertial(latitude * DEG, altitude, velocity, seconds)
        found = earth.ecef_from_geodetic(*(float(run[n][-1]) for n in names[:3]))
        yield Row(f"{words}: distance from it at the end [m]", 0.0, float(np.linalg.norm(found - exact)), 1e-4)
    flying, radius = ball(0.0), earth.SEMI_MAJOR + 3e5
    speed = math.sqrt(earth.MU / radius * (1 + 1.5 * earth.J2 * (earth.SEMI_MAJOR / radius) ** 2))
    begun = start(flying, 3e5, (speed - earth.ROTATION * radius, 0, 0), 90 * DEG)
    run = fly(flying, start=begun, duration=5400, dt=0.5, record=["altitude", "longitude"])
    yield Row(
        "circular orbit over the equator, 90 min: spread of the altitude [m]", 0.0, float(np.ptp(run["altitude"])), 0.01
    )
    turned = math.remainder((speed / radius - earth.ROTATION) * 5400, 2 * math.pi)
    yield Row("and longitude at its end [rad]", turned, float(run["longitude"][-1]), 1e-8)


@case("On wheels", "closed forms: v^2/2 mu g, g (sin - mu cos); the throttle's law")
def _wheels() -> Iterator[Row]:
    braked = body()
    for dt in (0.001, 0.01, 0.02):
        run = fly(braked, start=rolling(40.0), duration=16, dt=dt, controls={"brake": step(1.0, at=0)})
        closed = 40.0**2 / (2 * 0.7 * G)
        yield Row(
            f"stopping from 40 m/s, steps of {1000 * dt:g} ms [m]", closed, float(run["north"][-1]), 0.006 * closed
        )
    steep = math.atan(0.06)
    tilted = body(environment={"ground": "100 - 0.06*north"})
    run = fly(tilted, start=on_ground(tilted), duration=6)
    gained = (float(run["u"][-1]) - float(run["u"][200])) / 4.0
    closed = G * (math.sin(steep) - 0.02 * math.cos(steep))
    yield Row("rolling down a slope of 0.06 [m/s^2]", closed, gained, 0.01 * closed)
    rest = on_ground(braked)
    run = fly(braked, start=rest, duration=60, dt=0.02)
    moved = max(float(np.ptp(run[n])) for n in ("north", "east", "altitude", "theta", "phi", "psi"))
    yield Row("a minute at rest: largest movement [m, rad]", 0.0, moved, 1e-9)
