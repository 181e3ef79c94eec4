"""Limits of level flight and manoeuvres, neutral and manoeuvre points: against closed forms of simple aircraft."""

import json
import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

from scipy.optimize import brentq, minimize_scalar

import dravik as dv
from dravik.constants import STANDARD_GRAVITY as G
from dravik.errors import DravikError
from dravik.performance import flight_envelope, manoeuvre_limits, minimum_control_speeds, static_stability
from dravik.surroundings.atmosphere import air_at
from tests.support import craft
from tests.test_cli import run

DRAG, INDUCED, MOST, AREA, MASS, THRUST, CHORD, DAMPING = 0.03, 0.05, 1.3, 12.0, 800.0, 1600.0, 1.2, -11.0
SLOPE, STATIC, POWER = 4.0 * MOST, -0.6, -1.1


def jet(
    engines: dict[str, float] | None = None, parameters: dict[str, dict[str, float]] | None = None, **more: str
) -> dv.Aircraft:  # fmt: skip
    """Return a body with a constant thrust up to THRUST, a parabolic polar, and a lift with a maximum.

    ``engines`` by how far to the right they stand: one in the middle unless given.
    """
    return craft(
        reference={"area": AREA, "chord": CHORD, "span": 11.0, "moment_point": [0, 0, 0]},
        parameters=parameters or {},
        loading={"mass": MASS, "Ixx": 900.0, "Iyy": 1000.0, "Izz": 1700.0},
        aero={
            "axes": "stability", "CL": f"{MOST}*sin(4*alpha)", "CD": f"{DRAG} + {INDUCED}*CL**2", "CY": "-0.3*beta",
            "Cl": "-0.05*beta - 0.4*p_hat + 0.1*r_hat + 0.1*aileron",
            "Cm": f"{STATIC}*alpha + {DAMPING}*q_hat + {POWER}*elevator",
            "Cn": "0.05*beta - 0.1*r_hat - 0.06*rudder", **more,
        },
        controls={n: {"trim": True, "range": ["-50 deg", "50 deg"]} for n in ("elevator", "aileron", "rudder")},
        engines={
            n: {"position": [0, y, 0], "thrust": f"{THRUST}*power_{n}", "trim": True}
            for n, y in (engines or {"one": 0.0}).items()
        },
    )  # fmt: skip


def along(lift: float, speed: float, load: float) -> tuple[float, float]:
    """Return what is left of the forces across and along the path in a level turn with a thrust along the body."""
    density, alpha = air_at(0.0).density, math.asin(lift / MOST) / 4.0
    pressure = 0.5 * density * speed**2 * AREA
    thrust = pressure * (DRAG + INDUCED * lift**2) / math.cos(alpha)
    return pressure * lift + thrust * math.sin(alpha) - load * MASS * G, thrust - THRUST


class LimitTest(unittest.TestCase):
    def test_slowest_and_fastest_of_a_jet(self) -> None:
        row = flight_envelope(jet(), altitudes=[0.0])[0]

        def short_of_thrust(speed: float) -> float:
            lift = brentq(lambda c: along(c, speed, 1.0)[0], 1e-3, MOST - 1e-9)
            return along(lift, speed, 1.0)[1]

        self.assertAlmostEqual(row.fastest, brentq(short_of_thrust, 40.0, 90.0), places=6)
        self.assertEqual(row.fast_cause, "power_one_command at its upper stop")

        # the thrust, which balances the drag, helps to carry: V is least where CL + CD tan(alpha) is largest
        def carried(alpha: float) -> float:
            lift = MOST * math.sin(4.0 * alpha)
            return lift + (DRAG + INDUCED * lift**2) * math.tan(alpha)

        most = minimize_scalar(lambda a: -carried(a), bounds=(0.2, 0.6), method="bounded", options={"xatol": 1e-10})
        slowest = math.sqrt(2.0 * MASS * G / (air_at(0.0).density * AREA * -float(most.fun)))
        self.assertAlmostEqual(row.slowest, slowest, places=6)

    def test_turns_and_pulls_of_a_jet(self) -> None:
        row = manoeuvre_limits(jet(), airspeeds=[50.0], altitude=0.0, gust="10 m/s")[0]

        def short(load: float) -> float:
            lift = brentq(lambda c: along(c, 50.0, load)[0], 1e-3, MOST - 1e-9)
            return along(lift, 50.0, load)[1]

        # the forces across the path turn it and carry the weight: that is the load factor, not the body's nz
        across = brentq(short, 1.01, 2.5)
        self.assertAlmostEqual(row.rate, G * math.sqrt(across**2 - 1.0) / 50.0, places=9)
        self.assertAlmostEqual(row.rate * row.radius, 50.0, places=9)
        self.assertAlmostEqual(row.sustained, across, places=8)
        pressure = 0.5 * air_at(0.0).density * 50.0**2 * AREA
        thrust = dv.trim(jet(), airspeed=50.0, altitude=0.0)["thrust"]  # a pull keeps that of level flight

        def load(alpha: float) -> float:
            return float((pressure * MOST * math.sin(4.0 * alpha) + thrust * math.sin(alpha)) / (MASS * G))

        most = minimize_scalar(lambda a: -load(a), bounds=(0.2, 0.5), method="bounded", options={"xatol": 1e-10})
        self.assertAlmostEqual(row.pull, -float(most.fun), places=6)
        self.assertEqual(row.pull_cause, "no more lift")
        least = minimize_scalar(load, bounds=(-0.5, -0.2), method="bounded", options={"xatol": 1e-10})
        self.assertAlmostEqual(row.push, float(least.fun), places=6)
        # Pratt and Walker's formula written out
        point = dv.trim(jet(), airspeed=50.0, altitude=0.0)
        slope = SLOPE * math.cos(4.0 * point["alpha"])
        ratio = 2.0 * MASS / (AREA * point["density"] * CHORD * slope)
        more = 0.88 * ratio / (5.3 + ratio) * point["density"] * 50.0 * slope * 10.0 / (2.0 * MASS * G / AREA)
        self.assertAlmostEqual(row.gust_up - 1.0, more, places=6)
        self.assertAlmostEqual(1.0 - row.gust_down, more, places=6)

    def test_neutral_and_manoeuvre_point_against_their_closed_forms(self) -> None:
        body = jet(CL="5*alpha", CD="0.001")
        found = static_stability(body, airspeed=70.0, altitude=0.0)
        density = air_at(0.0).density
        # station x is aft: the neutral point is -Cm_alpha/CL_alpha chords behind the moment point at the datum
        self.assertAlmostEqual(found.static_margin, -STATIC / 5.0, delta=1e-3)
        self.assertAlmostEqual(found.neutral_point, -STATIC / 5.0 * CHORD, delta=1e-3)
        between = found.manoeuvre_margin - found.static_margin
        self.assertAlmostEqual(between, -DAMPING * density * AREA * CHORD / (4.0 * MASS), delta=1e-3)
        # elevator per g: -(CW/Cm_elevator) times the manoeuvre margin
        weight = MASS * G / (0.5 * density * 70.0**2 * AREA)
        self.assertAlmostEqual(found.control_per_g / (weight * found.manoeuvre_margin / POWER), 1.0, delta=3e-3)
        # stick free: hinge moments ch_alpha alpha + ch_delta delta; a free elevator takes ch_alpha/ch_delta of Cm_elevator away
        by_alpha, by_elevator, size = -0.1, -0.5, 0.02
        hinged = jet(
            CL="5*alpha", CD="0.001", pull=f"{size}*dynamic_pressure*({by_alpha}*alpha + {by_elevator}*elevator)"
        )
        force = static_stability(hinged, airspeed=70.0, altitude=0.0, force="pull").force
        assert force is not None
        free = (-STATIC + POWER * by_alpha / by_elevator) / 5.0
        self.assertAlmostEqual(force.static_margin, free, delta=1e-3)
        self.assertAlmostEqual(force.manoeuvre_margin - force.static_margin, between, delta=1e-3)
        pressure = 0.5 * density * 70.0**2
        per_g = size * pressure * by_elevator / POWER * weight * force.manoeuvre_margin
        self.assertAlmostEqual(force.per_g / per_g, 1.0, delta=3e-3)
        slow, fast = (dv.trim(hinged, airspeed=v, altitude=0.0)["pull"] for v in (69.9, 70.1))
        self.assertAlmostEqual(force.by_speed / ((fast - slow) / 0.2), 1.0, delta=2e-3)
        # on an aircraft whose datum is far ahead: margins are from the centre of gravity
        tarn = static_stability(dv.sample("tarn"), airspeed="62 m/s", altitude="300 m", force="nz")
        for margin, point in ((tarn.static_margin, tarn.neutral_point), (tarn.manoeuvre_margin, tarn.manoeuvre_point)):
            self.assertAlmostEqual(margin * 2.5, point - tarn.centre, places=9)
        assert tarn.force is not None
        self.assertAlmostEqual(tarn.force.static_margin * 2.5, tarn.force.neutral_point - tarn.centre, places=9)
        self.assertAlmostEqual(tarn.force.manoeuvre_margin * 2.5, tarn.force.manoeuvre_point - tarn.centre, places=9)
        with self.assertRaisesRegex(DravikError, "expected a force"):
            static_stability(hinged, airspeed=70.0, altitude=0.0, force="alpha")
        with self.assertRaisesRegex(DravikError, "no pitch control|moves no control"):
            static_stability(dv.sample("merle"), airspeed=5, altitude=100)

    def test_least_control_speeds_against_the_balance_of_yaw_and_side_force(self) -> None:
        twin = jet({"port": -2.5, "starboard": 2.5}, CL="5*alpha", Cn="0.05*beta - 0.1*r_hat - 0.03*rudder")
        for failed, side in (("port", 1.0), ("starboard", -1.0)):
            found = minimum_control_speeds(twin, failed=failed, altitude=0.0, banks=["-2 deg", 0, "2 deg"])
            for row, bank in zip(found, (-2.0, 0.0, 2.0), strict=True):
                self.assertAlmostEqual(row.bank, side * math.radians(bank), places=12)
                self.assertIn(f"rudder_command at its {'lower' if side > 0.0 else 'upper'} stop", row.cause)
                point = dv.trim(
                    twin, airspeed=row.speed + 1e-6, altitude=0.0, bank=row.bank, flight_path="free",
                    inputs={f"fail_{failed}": 1, **{f"power_{n}_command": 1 for n in twin.definition.engines}},
                )  # fmt: skip
                # positive rudder yaws to the left; -0.3 beta carries the weight's part across; what beta and the rudder yaw is what the engine yaws
                weight = MASS * G * math.sin(row.bank) * math.cos(point["theta"])
                yaw = THRUST * 2.5 * side * math.cos(point["alpha"])
                area = (0.05 * weight / 0.3 - yaw / 11.0) / (0.03 * side * math.radians(50.0))
                pressure = 0.5 * air_at(0.0).density * AREA * row.speed**2
                self.assertAlmostEqual(pressure / -area, 1.0, places=5)
                self.assertAlmostEqual(row.sideslip * 0.3 * pressure / MASS / G, weight / MASS / G, places=6)
        with self.assertRaisesRegex(DravikError, "no engine left"):
            minimum_control_speeds(twin, failed=["port", "starboard"], altitude=0.0)
        with self.assertRaisesRegex(DravikError, "port or starboard"):
            minimum_control_speeds(twin, failed="left", altitude=0.0)

    def test_samples_and_the_command(self) -> None:
        rows = flight_envelope(dv.sample("tarn"), altitudes=["0 m", "4000 m"])
        self.assertEqual({r.slow_cause for r in rows}, {"pitch_stick at its upper stop"})
        # next to the slowest speed there are turns and pulls too
        slow = manoeuvre_limits(dv.sample("tarn"), airspeeds=[1.0005 * rows[0].slowest], altitude="0 m")[0]
        self.assertTrue(slow.push < slow.pull < slow.sustained * 1.05 < 1.1, slow)
        # the stall at constant equivalent airspeed
        ratio = rows[1].slowest / rows[0].slowest
        self.assertAlmostEqual(ratio / math.sqrt(air_at(0.0).density / air_at(4000.0).density), 1.0, delta=0.01)
        told: list[float] = []
        self.assertEqual(len(manoeuvre_limits(dv.sample("tarn"), airspeeds=[20.0], altitude=0, told=told.append)), 1)
        self.assertEqual(told, [1.0])
        with tempfile.TemporaryDirectory() as folder:
            figure = Path(folder) / "limits.png"
            options = (
                "--altitude",
                "300 m",
                "--altitudes",
                "0, 3000 m",
                "--airspeeds",
                "55:100:4 m/s",
                "--failed",
                "left",
            )
            code, out, err = run("limits", "tarn", *options, "--figure", str(figure))
            self.assertEqual((code, err), (0, ""))
            for words in (
                "pitch_stick at its upper stop",
                "neutral point, stick fixed",
                "without engine left",
                "written",
            ):
                self.assertIn(words, out)
            self.assertEqual(figure.read_bytes()[:4], b"\x89PNG")
            found: dict[str, Any] = json.loads(run("limits", "tarn", *options, "--json")[1])
            self.assertEqual((len(found["level_flight"]), len(found["manoeuvres"])), (2, 4))
        self.assertEqual(run("limits", "tarn", "--altitudes", "x")[0], 2)


if __name__ == "__main__":
    unittest.main()
