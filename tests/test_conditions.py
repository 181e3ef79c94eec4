"""Conditions by name: each held, against closed forms that know nothing of the aircraft; refused with what can be held."""

import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np
import pandas
from scipy.optimize import minimize_scalar

import dravik as dv
from dravik.aircraft import sample_path
from dravik.constants import STANDARD_GRAVITY
from dravik.errors import DravikError, TrimError
from dravik.surroundings.atmosphere import air_at
from dravik.surroundings.pitot_static import calibrated_airspeed
from dravik.trimming import FeasibleLimit, TrimPoint, glide_speed, stall_speed
from dravik.trimming.residuals import aircraft_search
from tests.support import DEG, craft

TARN, PIKA, MERLE = (dv.sample(name) for name in ("tarn", "pika", "merle"))
G = STANDARD_GRAVITY
DRAG, INDUCED, MOST, AREA, MASS = 0.02, 0.05, 1.3, 12.0, 400.0


def glider() -> dv.Aircraft:
    """Return a body whose lift has a maximum, with a parabolic polar and a moment that the elevator alone balances."""
    return craft(
        reference={"area": AREA, "chord": 1.0, "span": 15.0, "moment_point": [0, 0, 0]},
        loading={"mass": MASS, "Ixx": 900.0, "Iyy": 500.0, "Izz": 1300.0},
        aero={
            "axes": "stability", "CL": f"{MOST}*sin(4*alpha)", "CD": f"{DRAG} + {INDUCED}*CL**2", "CY": "-0.3*beta",
            "Cl": "-0.05*beta - 0.4*p_hat + 0.1*r_hat + 0.1*aileron", "Cm": "-0.4*alpha - 8*q_hat - elevator",
            "Cn": "0.05*beta - 0.1*r_hat - 0.06*rudder",
        },
        controls={n: {"trim": True} for n in ("elevator", "aileron", "rudder")},
        formulas={"sink": "-flight_path"},
    )  # fmt: skip


def lifted(point: dv.TrimPoint) -> float:
    """Return the load factor normal to the flight path, in the plane of symmetry: lift over weight."""
    return point["nz"] * math.cos(point["alpha"]) + point["nx"] * math.sin(point["alpha"])


def turning(point: TrimPoint) -> float:
    """Return the rate of the heading."""
    q, r, phi, theta = (point[n] for n in ("q", "r", "phi", "theta"))
    return (q * math.sin(phi) + r * math.cos(phi)) / math.cos(theta)


class ManoeuvreTest(unittest.TestCase):
    def test_an_input_that_follows_the_heading_does_so_all_round(self) -> None:
        for heading in (37.0, 181.0, 270.0, -100.0, 400.0):
            point = dv.trim(MERLE, airspeed=0.0, altitude=300.0, heading=f"{heading} deg")
            self.assertAlmostEqual(math.remainder(point["psi"] - math.radians(heading), 2.0 * math.pi), 0.0, places=9)
            self.assertAlmostEqual(point["heading_target"], point["psi"], places=9)

    def test_turns_against_the_point_mass_and_rigid_kinematics(self) -> None:
        for body, speed in ((TARN, 62.0), (PIKA, 14.0)):
            for turn, path in (
                ("30 deg", 0.0), ("30 deg left", 0.0), ("-25 deg", 0.02), ("4 deg/s", 0.0), ("-4 deg/s", 0.03),
                ("1.2", 0.0), ("1.2 left", 0.0), (f"{speed**2 / 4.0} m", 0.03), (f"-{speed**2 / 5.0} m", 0.0),
            ):  # fmt: skip
                with self.subTest(body.name, turn=turn, path=path):
                    point = dv.trim(body, airspeed=speed, altitude=300, flight_path=path, turn=turn)
                    self.assertLess(point.worst_residual, 1e-9)
                    rate, level = turning(point), speed * math.cos(path)
                    self.assertEqual(rate < 0.0, "left" in turn or turn.startswith("-"))
                    # the specific force balances gravity and turns the velocity; no part of it is sideways
                    felt = math.sqrt(sum(point[n] ** 2 for n in ("nx", "ny", "nz")))
                    self.assertAlmostEqual(felt, math.hypot(G, level * rate) / G, places=9)
                    self.assertAlmostEqual(point["ny"], 0.0, places=9)
                    self.assertAlmostEqual(point["climb_rate"], speed * math.sin(path), places=9)
                    phi, theta = point["phi"], point["theta"]
                    for name, share in (
                        ("p", -math.sin(theta)), ("q", math.cos(theta) * math.sin(phi)),
                        ("r", math.cos(theta) * math.cos(phi)),
                    ):  # fmt: skip
                        self.assertAlmostEqual(point[name], rate * share, places=10)
                    value = float(turn.split()[0]) * (-1.0 if "left" in turn else 1.0)
                    if turn.endswith(("deg", "left")) and "deg" in turn:
                        self.assertAlmostEqual(phi, value * DEG, places=12)
                    elif "deg/s" in turn:
                        self.assertAlmostEqual(rate, value * DEG, places=9)
                    elif turn.endswith(" m"):
                        self.assertAlmostEqual(level / rate, value, places=6)
                    else:
                        self.assertAlmostEqual(lifted(point), abs(value), places=9)
                    self.assertTrue(dv.prove_trim(point, duration=20).holds)

    def test_a_turn_is_its_mirror_image_and_goes_with_the_heading(self) -> None:
        asked: dict[str, Any] = {"airspeed": 62, "altitude": 300, "flight_path": "1 deg"}
        right, left = (dv.trim(TARN, turn=t, **asked) for t in ("25 deg", "-25 deg"))
        for name in (
            "alpha",
            "theta",
            "q",
            "nz",
            "throttle",
            "pitch_stick",
            "phi",
            "p",
            "r",
            "beta",
            "pedal",
            "aileron",
        ):
            sign = -1.0 if name in ("phi", "p", "r", "beta", "pedal", "aileron") else 1.0
            self.assertAlmostEqual(right[name], sign * left[name], places=10, msg=name)
        other = dv.trim(TARN, turn="25 deg", heading="200 deg", **asked)
        self.assertAlmostEqual(other["alpha"], right["alpha"], places=12)
        slipping = dv.trim(TARN, turn="25 deg", sideslip="2 deg", airspeed=62, altitude=300)
        self.assertAlmostEqual(slipping["beta"], 2 * DEG, places=12)
        self.assertGreater(abs(slipping["ny"]), 1e-3)

    def test_pulls_and_rolls(self) -> None:
        level = dv.trim(TARN, airspeed=62, altitude=300)
        for pull, path in (("1.5", 0.0), ("0.4", 0.0), ("3 deg/s", 0.03), ("-2 deg/s", 0.0)):
            point = dv.trim(TARN, airspeed=62, altitude=300, flight_path=path, pull=pull)
            self.assertAlmostEqual(lifted(point), 62 * point["q"] / G + math.cos(path), places=9)
            self.assertAlmostEqual(point["q"] * 62 / G if "deg" in pull else lifted(point),
                                   float(pull.split()[0]) * (DEG * 62 / G if "deg" in pull else 1.0), places=9)  # fmt: skip
            if path == 0.0:
                self.assertAlmostEqual(point["throttle"], level["throttle"], places=9)
            with self.assertRaisesRegex(DravikError, "holds at one instant only"):
                dv.prove_trim(point)
        point = dv.trim(TARN, airspeed=62, altitude=300, roll="12 deg/s", bank="20 deg")
        p, r, alpha = point["p"], point["r"], point["alpha"]
        self.assertAlmostEqual(p * math.cos(alpha) + r * math.sin(alpha), 12 * DEG, places=10)
        # coordinated: what turns the velocity sideways is gravity alone, g sin(phi) cos(theta) = V r about the stability axis
        yaw = r * math.cos(alpha) - p * math.sin(alpha)
        self.assertAlmostEqual(yaw * 62 * math.cos(point["beta"]) - G * math.sin(point["phi"]) * math.cos(point["theta"]),
                               0.0, delta=0.05)  # fmt: skip
        self.assertAlmostEqual(point["ny"], 0.0, places=10)
        self.assertEqual((round(point["phi"], 12), point["q"]), (round(20 * DEG, 12), 0.0))

    def test_a_turn_in_wind_is_the_turn_in_still_air(self) -> None:
        still = dv.trim(TARN, airspeed=62, altitude=300, turn="20 deg", flight_path="1 deg")
        windy = dv.trim(TARN, airspeed=62, altitude=300, turn="20 deg", flight_path="1 deg", heading="40 deg",
                        inputs={"wind_north": 9, "wind_east": -4})  # fmt: skip
        for name in ("alpha", "phi", "throttle", "climb_rate", "q"):
            self.assertAlmostEqual(still[name], windy[name], places=9)
        self.assertTrue(dv.prove_trim(windy, duration=20).holds)

    def test_slopes_are_updated_rather_than_found_anew(self) -> None:
        # Newton's method by itself takes some ten evaluations for each unknown, slopes of the wrong sign still more
        for asked in (
            {"airspeed": 62.0},
            {"airspeed": 55.0, "turn": "400 m"},
            {"airspeed": 80.0, "flight_path": "-3 deg"},
        ):
            point = dv.trim(TARN, altitude=300.0, **asked)  # type: ignore[arg-type]
            self.assertLess(point.evaluations, 6 * len(point.unknowns), asked)
            self.assertLess(max(map(abs, point.residuals.values())), 1e-11)


class SpeedTest(unittest.TestCase):
    def test_the_wind_triangle(self) -> None:
        for track, north, east in (
            (100.0, 8.0, 0.0),
            (179.9, 3.0, 8.0),
            (-179.9, -4.0, 9.0),
            (180.0, 3.0, 8.0),
            (-180.0, 3.0, -8.0),
            (0.0, 0.0, -6.0),
        ):
            point = dv.trim(TARN, airspeed=62, altitude=300, track=f"{track} deg",
                            inputs={"wind_north": north, "wind_east": east})  # fmt: skip
            course = track * DEG
            across = -north * math.sin(course) + east * math.cos(course)
            off = (point["psi"] - course + math.asin(across / 62.0) + math.pi) % (2 * math.pi) - math.pi
            self.assertAlmostEqual(off, 0.0, places=9)
            self.assertAlmostEqual(point["beta"], 0.0, places=12)
        slipping = dv.trim(TARN, airspeed=62, altitude=300, track="100 deg", heading="95 deg")
        self.assertAlmostEqual(slipping["track"] - slipping["psi"], 5 * DEG, places=10)
        sideways = dv.trim(MERLE, airspeed=5, altitude=100, heading="0 deg", track="90 deg")
        self.assertAlmostEqual(sideways["ground_speed"], 5.0, places=9)
        self.assertAlmostEqual(sideways["v"], 5.0 * math.cos(sideways["phi"]), places=6)

    def test_speeds_by_other_names(self) -> None:
        air = air_at(3000.0)
        for asked, value in (("mach", 0.2), ("equivalent_airspeed", 60.0), ("calibrated_airspeed", 60.0)):
            point = dv.trim(TARN, altitude=3000, **{asked: value})  # type: ignore[arg-type]
            self.assertAlmostEqual(point[asked], value, places=9)
        # at sea level all are one; higher up calibrated is more than equivalent by the share M^2/8 (1 - p/p0) to first order
        self.assertAlmostEqual(calibrated_airspeed(100.0 / air_at(0.0).speed_of_sound, 101325.0), 100.0, delta=2e-3)
        true, mach = 60.0, 60.0 / air.speed_of_sound
        equivalent = true * math.sqrt(air.density / air_at(0.0).density)
        more = calibrated_airspeed(float(mach), float(air.pressure)) / equivalent - 1.0
        self.assertAlmostEqual(more / (mach**2 / 8.0 * (1.0 - air.pressure / 101325.0)), 1.0, delta=0.02)

    def test_stall_and_glide_of_a_parabolic_polar(self) -> None:
        body, density = glider(), air_at(0.0).density
        unit = 2.0 * MASS * G / (density * AREA)
        # lift and drag together carry the weight; both are largest where the lift is
        slowest = math.sqrt(unit / math.hypot(MOST, DRAG + INDUCED * MOST**2))
        self.assertAlmostEqual(stall_speed(body, 0.0) / slowest, 1.0, places=7)
        point = dv.trim(body, airspeed="1.3 stall", altitude=0, flight_path="free")
        self.assertAlmostEqual(point["airspeed"] / slowest, 1.3, places=7)
        best = math.sqrt(DRAG / INDUCED)
        flattest = dv.trim(body, airspeed="best glide", altitude=0, flight_path="free")
        self.assertAlmostEqual(flattest["flight_path"], -math.atan(2.0 * math.sqrt(DRAG * INDUCED)), places=9)
        self.assertAlmostEqual(flattest["airspeed"] / math.sqrt(unit / math.hypot(best, 2 * DRAG)), 1.0, delta=1e-4)

        def sink(lift: float) -> float:
            drag = DRAG + INDUCED * lift**2
            return math.sqrt(unit) * drag / (lift**2 + drag**2) ** 0.75

        least = minimize_scalar(sink, bounds=(0.1, MOST), method="bounded", options={"xatol": 1e-10})
        self.assertAlmostEqual(dv.trim(body, airspeed="least sink", altitude=0, flight_path="free")["climb_rate"],
                               -float(least.fun), places=8)  # fmt: skip
        self.assertLess(glide_speed(body, 0.0, quantity="climb_rate"), glide_speed(body, 0.0))
        # engines idle unless they are told otherwise, which for propellers over a wing is another stall
        self.assertEqual(stall_speed(TARN, 300.0), stall_speed(TARN, 300.0, {"throttle": 0.0}))
        self.assertLess(stall_speed(TARN, 300.0, {"throttle": 1.0}), stall_speed(TARN, 300.0) - 0.5)

    def test_both_sides_of_the_power_curve(self) -> None:
        slow, fast = dv.trim_all(TARN, airspeed="free", altitude=300, inputs={"throttle": 0.3})
        for point in (slow, fast):
            again = dv.trim(TARN, airspeed=point["airspeed"], altitude=300)
            self.assertAlmostEqual(again["throttle"], 0.3, places=8)
        self.assertLess(slow["airspeed"] + 10, fast["airspeed"])

    def test_controls_that_are_given(self) -> None:
        point = dv.trim(TARN, airspeed=62, altitude=300, sideslip="free", inputs={"pedal": 0.2})
        self.assertEqual(point["pedal"], 0.2)
        again = dv.trim(TARN, airspeed=62, altitude=300, sideslip=point["beta"])
        self.assertAlmostEqual(again["pedal"], 0.2, places=9)
        out = dv.trim(TARN, airspeed=62, altitude=300, bank=0.0, inputs={"fail_left": 1})
        self.assertEqual((out["phi"], abs(out["beta"]) > 0.01), (0.0, True))


class LeastTest(unittest.TestCase):
    def test_one_among_many(self) -> None:
        # least drag of a parabolic polar in a glide: the flattest one
        body = glider()
        gliding = dv.steady(body, airspeed=20, altitude=0, flight_path="free").freeing(body, "airspeed")
        best = math.sqrt(DRAG / INDUCED)
        found = dv.trim_minimum(body, gliding.freeing(body, dv.Free("airspeed", 20.0, 5.0, 5.0, 60.0)), "sink")
        self.assertAlmostEqual(found["flight_path"], -math.atan(2.0 * math.sqrt(DRAG * INDUCED)), places=7)
        self.assertAlmostEqual(found["CL"], best, delta=2e-3)
        self.assertLess(found.worst_residual, 1e-9)
        # least deflections with an engine out, against every bank one by one
        asked: dict[str, Any] = {"airspeed": 55, "altitude": 300, "inputs": {"fail_left": 1}}
        point = dv.trim_minimum(TARN, dv.steady(TARN, **asked).freeing(TARN, "beta"), ["rudder", "aileron"])
        others = dv.trim_sweep(TARN, {"bank": "-4:8:49 deg"}, **asked)
        sums = others.values("rudder") ** 2 + others.values("aileron") ** 2
        own = point["rudder"] ** 2 + point["aileron"] ** 2
        self.assertLess(own, float(np.nanmin(sums)) + 1e-12)
        self.assertAlmostEqual(own, float(np.nanmin(sums)), delta=2e-4)
        for call, words in (
            (
                lambda: dv.trim_minimum(TARN, dv.steady(TARN, airspeed=62, altitude=300), "thrust"),
                "leave nothing to choose",
            ),
            (lambda: dv.trim_minimum(TARN, gliding, "thrst"), "did you mean thrust"),
        ):
            with self.assertRaisesRegex(DravikError, words):
                call()


class EdgeTest(unittest.TestCase):
    def test_what_is_offered_is_the_edge(self) -> None:
        for asked, what in (
            ({"airspeed": 35.0}, "airspeed"), ({"airspeed": 130.0}, "airspeed"),
            ({"airspeed": 62.0, "flight_path": 0.3}, "flight_path"), ({"airspeed": 62.0, "turn": "70 deg"}, "turn"),
            ({"airspeed": 62.0, "pull": "4"}, "pull"), ({"airspeed": 62.0, "sideslip": 0.7}, "sideslip"),
            ({"airspeed": 62.0, "climb_rate": 20.0}, "climb_rate"),
        ):  # fmt: skip
            with self.subTest(**asked):
                base: dict[str, Any] = {"altitude": 300.0, **asked}
                with self.assertRaises(TrimError) as caught:
                    dv.trim(TARN, **base)
                edge = next(e for e in caught.exception.nearest if isinstance(e, FeasibleLimit) and e.what == what)
                self.assertIn(str(edge), str(caught.exception))
                self.assertTrue(edge.point.reached)
                self.assertLess(edge.point.worst_residual, 1e-8)

                def held(value: float, base: dict[str, Any] = base, what: str = what) -> bool:
                    number: Any = f"{math.degrees(value)} deg" if what == "turn" else value
                    return dv.trim(TARN, strict=False, **{**base, what: number}).reached

                inward = math.copysign(1e-4 * max(1.0, abs(edge.value)), edge.value - edge.asked)
                self.assertTrue(held(edge.value + inward))
                for share in (0.01, 0.1, 0.4, 1.0):
                    self.assertFalse(held(edge.value + share * (edge.asked - edge.value)), share)

    def test_what_cannot_be_asked_together(self) -> None:
        for asked, words in (
            ({"airspeed": 62, "mach": 0.2}, "both airspeed and mach"),
            ({"airspeed": "two stall"}, "a multiple of the stall speed"),
            ({"airspeed": "0.9 stall"}, "a multiple of the stall speed"),
            ({"airspeed": 62, "turn": "3 s"}, "turn: '3 s' is a time; expected a bank"),
            ({"airspeed": 62, "turn": "0.8"}, "a load factor of 1 or more"),
            ({"airspeed": 62, "turn": "0 m"}, "a radius above zero"),
            ({"airspeed": 62, "turn": "95 deg"}, "less than 85 deg"),
            ({"airspeed": 62, "turn": "quickly"}, "does not begin with a number"),
            ({"airspeed": 62, "turn": "20 deg", "pull": "2"}, "both a turn and a pull"),
            ({"airspeed": 62, "turn": "20 deg", "bank": "5 deg"}, "both a bank and a turn"),
            ({"airspeed": 62, "roll": "2"}, "a rate such as '20 deg/s'"),
            ({"airspeed": 62, "flight_path": "2 deg", "climb_rate": 2}, "both a flight path and a climb rate"),
            ({"airspeed": 62, "climb_rate": 70}, "well below the airspeed"),
            ({"airspeed": 62, "turn": "400 m", "flight_path": "free"}, "radius and a free flight path"),
            ({"airspeed": 62, "turn": "20 deg", "track": 0}, "a turn cannot have a track"),
            ({"airspeed": 62, "heading": 0, "track": 0, "bank": 0.1}, "a heading and a track, and a bank are given"),
            ({"airspeed": 0, "turn": "20 deg"}, "hover cannot have a turn"),
            ({"airspeed": 62, "sideslip": "free"}, "1 too few"),
            ({"airspeed": "free"}, "1 too few"),
            ({"airspeed": "free", "turn": "20 deg"}, "a free airspeed needs a straight path"),
            ({"airspeed": 62, "bankk": 1}, "did you mean bank"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                dv.trim(TARN, altitude=300, **asked)  # type: ignore[arg-type]

    def test_a_body_without_controls_is_refused_and_nothing_is_overwritten(self) -> None:
        # more equations than unknowns: the compiled search must not write beyond its arrays
        hail = dv.sample("hail")
        search, field = aircraft_search(hail, dv.steady(hail, airspeed=200, altitude=1000))
        self.assertGreater(len(search.names), len(search.start))
        before = search.start.copy()
        moved, _ = field.newton(before)
        np.testing.assert_array_equal(moved, before)
        self.assertIsNone(search.quick(3))
        with self.assertRaises(TrimError):
            dv.trim(hail, airspeed=200, altitude=1000)

    def test_random_conditions_are_held_or_refused_with_a_cause(self) -> None:
        rng = np.random.default_rng(7)
        held = 0
        for body, low, high in ((TARN, 30.0, 130.0), (PIKA, 6.0, 30.0), (MERLE, 0.5, 25.0)):
            for _ in range(25):
                asked: dict[str, Any] = {"airspeed": rng.uniform(low, high), "altitude": rng.uniform(0, 4000),
                                         "flight_path": rng.normal() * 0.08, "heading": rng.uniform(-3, 3)}  # fmt: skip
                extra = rng.integers(5)
                if extra == 1:
                    asked["turn"] = f"{rng.uniform(-60, 60)} deg"
                elif extra == 2:
                    asked["pull"] = f"{rng.uniform(0.2, 3)}"
                elif extra == 3:
                    asked["sideslip"] = rng.normal() * 0.1
                elif extra == 4:
                    asked["inputs"] = {"wind_north": rng.normal() * 5, "wind_east": rng.normal() * 5}
                try:
                    point = dv.trim(body, **asked)
                except TrimError as error:
                    self.assertRegex(str(error), "residual|limit is broken")
                    continue
                held += 1
                self.assertLess(point.worst_residual, 1e-8, asked)
                self.assertAlmostEqual(point["airspeed"], asked["airspeed"], places=8)
                if "turn" in asked:
                    self.assertAlmostEqual(point["phi"] / DEG, float(asked["turn"].split()[0]), places=8)
                if "pull" in asked:
                    self.assertAlmostEqual(lifted(point), float(asked["pull"]), places=4)
                if "sideslip" in asked:
                    self.assertAlmostEqual(point["beta"], asked["sideslip"], places=8)
        self.assertGreater(held, 25)


class SweepTest(unittest.TestCase):
    def test_a_sweep_is_its_trims(self) -> None:
        over = {"loading": ["loaded", "dropped"], "flap_lever": "0, 10 deg", "airspeed": "40:80:5 m/s"}
        told: list[float] = []
        found = dv.trim_sweep(TARN, over, told=told.append, altitude="300 m", climb_rate="1 m/s")
        self.assertEqual((found.shape, told[-1]), ((2, 2, 5), 1.0))
        throttle = found.values("throttle")
        for i, loading in enumerate(("loaded", "dropped")):
            for j, flap in enumerate((0.0, 10.0)):
                for k, speed in enumerate((40.0, 50.0, 60.0, 70.0, 80.0)):
                    alone = dv.trim(TARN.with_loading(loading), strict=False, airspeed=speed, altitude=300, climb_rate=1.0,
                                    inputs={"flap_lever": f"{flap} deg"})  # fmt: skip
                    self.assertEqual(alone.reached, bool(np.isfinite(throttle[i, j, k])), (loading, flap, speed))
                    if alone.reached:
                        self.assertAlmostEqual(alone["throttle"], throttle[i, j, k], places=9)
        rows = found.rows(["alpha"])
        self.assertEqual(list(rows[0]), ["loading", "flap_lever_deg", "airspeed_m_s", "held", "alpha_deg"])
        self.assertAlmostEqual(rows[6]["flap_lever_deg"], 10.0, places=12)
        banks = dv.trim_sweep(TARN, {"turn": "-30:30:3 deg"}, airspeed=62, altitude=300)
        np.testing.assert_allclose(banks.values("phi"), [-30 * DEG, 0.0, 30 * DEG], atol=1e-12)
        gains = dv.trim_sweep(
            dv.sample("tarn").with_law(*dv.load_law(sample_path("tarn") / "laws" / "pitch_hold.toml")),
            {"pitch_hold_gain": [1.0, 2.0]}, airspeed=62, altitude=300,
        )  # fmt: skip
        self.assertEqual(gains.held, 2)
        with tempfile.TemporaryDirectory() as folder:
            file = found.save(Path(folder) / "found.csv")
            self.assertEqual(len(file.read_text().splitlines()), 21)
            self.assertEqual(len(pandas.read_parquet(found.save(Path(folder) / "found.parquet"))), 20)

    def test_wrong_axes(self) -> None:
        for over, words in (
            ({}, "the sweep has no axes"),
            ({"airsped": [60]}, "did you mean airspeed"),
            ({"loading": "laoded"}, "did you mean loaded"),
            ({"airspeed": "45:95 m/s"}, "from:to:count unit"),
            ({"airspeed": "45:95:0 m/s"}, "from:to:count unit"),
            ({"airspeed": "45:95:3 kg"}, "does not measure speed"),
            ({"airspeed": []}, "the axis airspeed has no values"),
            ({"altitude": [1.0]}, "altitude is both given and swept"),
            ({"turn": ["30 deg", "400 m"]}, "turn has values of different kinds: angle and length"),
            ({"airspeed": "45:95:2000 m/s", "mach": "0:1:2000"}, "the sweep has 4000000 points"),
        ):
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                dv.trim_sweep(TARN, over, altitude=300)  # type: ignore[arg-type]


if __name__ == "__main__":
    unittest.main()
