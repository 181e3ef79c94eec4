"""Speeds, heights, wind and days as pilots say them: the same word in Python, on the command line and in files."""

import inspect
import json
import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np
from scipy.optimize import brentq

import dravik as dv
from dravik.cli.shared.conditions import ConditionOptions
from dravik.constants import STANDARD_GRAVITY as G
from dravik.definition.condition_keys import CONDITION_KEYS
from dravik.errors import DravikError
from dravik.performance import fuel_for
from dravik.surroundings.atmosphere import air_at, standard_air
from dravik.surroundings.pitot_static import calibrated_airspeed, mach_from_calibrated, pressure_altitude
from dravik.trimming import ConditionKeys
from tests.test_cli import run
from tests.test_runway import rolling_jet

OWN = Path(__file__).parent / "aircraft"
TARN = dv.sample("tarn")
FOOT, KNOT = 0.3048, 1852.0 / 3600.0
SEA_SOUND = 340.294  # m/s: ICAO Doc 7488, table of the standard atmosphere at sea level


def impact(mach: float) -> float:
    """Return impact over static pressure by total-pressure relations, NACA Report 1135, equations 44, 93 and 99."""
    if mach <= 1.0:
        return float((1.0 + 0.2 * mach**2) ** 3.5 - 1.0)
    # the normal shock first, then isentropic compression of the subsonic flow behind it
    behind = math.sqrt((mach**2 + 5.0) / (7.0 * mach**2 - 1.0))
    return float((7.0 * mach**2 - 1.0) / 6.0 * (1.0 + 0.2 * behind**2) ** 3.5 - 1.0)


class PitotStaticTest(unittest.TestCase):
    def test_signals_against_the_equations_solved_otherwise(self) -> None:
        hail = dv.sample("hail")
        for height, speed in ((0, 40), (0, 341), (0, 345), (3000, 250), (11000, 295), (15000, 900), (40000, 2500)):
            state = hail.state(position=(0, 0, height), velocity=(speed, 0, 0))
            found = hail.values(state, hail.default_inputs(), refusing=False)
            ratio = impact(found["mach"]) * found["pressure"] / 101325.0
            expected = brentq(lambda m, r=ratio: impact(m) - r, 0.0, 20.0, xtol=1e-14) * SEA_SOUND
            with self.subTest(height=height, speed=speed):
                self.assertAlmostEqual(found["calibrated_airspeed"] / expected, 1.0, delta=2e-6)
                self.assertAlmostEqual(calibrated_airspeed(found["mach"], found["pressure"]),
                                       found["calibrated_airspeed"], delta=1e-11 * speed)  # fmt: skip
                back = mach_from_calibrated(found["calibrated_airspeed"], found["pressure"])
                self.assertAlmostEqual(back / found["mach"], 1.0, places=12)

    def test_pressure_altitude_is_geopotential_in_every_layer(self) -> None:
        hail = dv.sample("hail").with_environment(day="ISA+25")
        for height in (-300.0, 5000.0, 10999.0, 11050.0, 15000.0, 25000.0, 40000.0, 49000.0, 60000.0, 80000.0):
            state = hail.state(position=(0, 0, height), velocity=(50, 0, 0))
            found = hail.values(state, hail.default_inputs(), refusing=False)
            geopotential = 6356766.0 * height / (6356766.0 + height)  # U.S. Standard Atmosphere 1976, equation 18
            self.assertAlmostEqual(found["pressure_altitude"], geopotential, delta=1e-8 * abs(height))
            self.assertAlmostEqual(
                pressure_altitude(standard_air(height, 0.0)[1]), geopotential, delta=1e-8 * abs(height)
            )
        # ICAO Doc 7488: 226.321 hPa at 11 km; U.S. Standard Atmosphere 1976, table I: 54.749 hPa at 20 km geopotential
        self.assertAlmostEqual(pressure_altitude(22632.06), 11000.0, delta=0.1)
        self.assertAlmostEqual(pressure_altitude(5474.9), 20000.0, delta=0.2)
        with self.assertRaisesRegex(DravikError, "nowhere in the standard atmosphere"):
            pressure_altitude(3e5)

    def test_a_file_may_have_such_a_signal_of_its_own(self) -> None:
        jet = rolling_jet(formulas={"calibrated_airspeed": "2*airspeed", "pressure_altitude": "7"})
        point = dv.trim(jet, airspeed=80, altitude=500)
        self.assertEqual((point["calibrated_airspeed"], point["pressure_altitude"]), (160.0, 7.0))


class SaidTest(unittest.TestCase):
    def test_one_table_of_words(self) -> None:
        keywords = set(ConditionKeys.__annotations__)
        self.assertEqual(keywords, {*CONDITION_KEYS, "inputs", "guess"})
        self.assertEqual(set(ConditionOptions.options()), keywords - {"inputs"})  # --set, which sets parameters too
        self.assertLessEqual(keywords, set(inspect.signature(dv.trim).parameters))
        text = inspect.getdoc(dv.trim) or ""
        for word in keywords:
            self.assertRegex(text, rf"\b{word}\b")

    def test_the_command_says_what_python_says(self) -> None:
        asked: dict[str, Any] = {
            "calibrated_airspeed": "120 kt", "altitude": "FL60", "day": "ISA+15", "wind": "10 m/s from 90 deg",
            "track": "0 deg", "climb_rate": "1 m/s", "east": "100 m",
        }  # fmt: skip
        point = dv.trim(TARN, **asked)
        options = [text for name, value in asked.items() for text in (f"--{name.replace('_', '-')}", value)]
        code, out, _ = run("trim", "tarn", *options, "--json")
        found = json.loads(out)["signals"]
        self.assertEqual(code, 0)
        for name, value in point.signals.items():
            self.assertEqual(found[name], value, name)
        standard = float(air_at(point["altitude"]).temperature)
        expected = {
            "calibrated_airspeed": 120 * KNOT, "pressure_altitude": 6000 * FOOT, "temperature": standard + 15.0,
            "track": 0.0, "climb_rate": 1.0, "east": 100.0, "air_east": -10.0,
        }  # fmt: skip
        for name, value in expected.items():
            self.assertAlmostEqual(point[name], value, delta=1e-8 * max(1.0, abs(value)), msg=name)
        self.assertGreater(point["psi"], 0.1)

    def test_what_is_done_at_a_point_is_done_in_its_air(self) -> None:
        point = dv.trim(TARN, airspeed="62 m/s", altitude="FL50", day="ISA+20", wind="8 m/s from 90 deg")
        model = dv.linearise(TARN, point)
        self.assertTrue(np.array_equal(model.A, dv.linearise(point.craft, point).A))
        self.assertFalse(np.array_equal(model.A, dv.linearise(TARN, dv.trim(TARN, airspeed=62, altitude="FL50")).A))
        run_ = dv.fly(TARN, start=point, duration=2)
        self.assertLess(float(abs(run_["airspeed"] - 62.0).max()), 1e-6)
        self.assertAlmostEqual(float(run_["air_east"][-1]), -8.0, places=9)
        # an aircraft that was given other air keeps it: the flight then begins in a gust, as is asked for
        other = dv.fly(TARN.with_environment(wind="3 m/s from 90 deg"), start=point, duration=0.1, record=["air_east"])
        self.assertAlmostEqual(float(other["air_east"][0]), -3.0, places=9)

    def test_sweeps_take_levels_and_air(self) -> None:
        swept = dv.trim_sweep(TARN, {"altitude": "FL20, FL60", "dynamic_pressure": "2, 3 kPa"}, day="ISA-10")
        self.assertEqual(swept.held, 4)
        for level, row in zip((2000, 6000), (swept.points[:2], swept.points[2:]), strict=True):
            for pressure, point in zip((2e3, 3e3), row, strict=True):
                assert point is not None
                self.assertAlmostEqual(point["pressure_altitude"], level * FOOT, places=6)
                self.assertAlmostEqual(point["dynamic_pressure"], pressure, places=8)

    def test_what_cannot_be_said(self) -> None:
        for asked, words in (
            ({"altitude": 3, "pressure_altitude": 3}, "both altitude and pressure_altitude"),
            ({"altitude": "FL3000"}, "a pressure altitude of 91440 m is nowhere in the air of Tarn"),
            ({"altitude": 3, "day": "hot"}, "the day cannot be 'hot'; expected 'ISA', 'ISA\\+15'"),
            ({"altitude": 3, "day": "ISA-300"}, "within 100 K of the standard"),
            ({"altitude": 3, "wind": "5 m/s"}, "cannot be read; expected a speed and where it blows from"),
            ({"altitude": 3, "dynamic_pressure": "2 kPa"}, "both airspeed and dynamic_pressure"),
        ):
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                dv.trim(TARN, airspeed=62, **asked)
        with self.assertRaisesRegex(DravikError, "the day is not part of a statement"):
            dv.steady(TARN, airspeed=62, altitude=3, day="ISA+3")
        own = TARN.with_environment(air={"temperature": "280", "pressure": "1e5"})
        with self.assertRaisesRegex(DravikError, "an atmosphere of one's own"):
            dv.trim(own, airspeed=62, altitude=3, day="ISA+3")


class LegsTest(unittest.TestCase):
    def test_a_climb_at_constant_calibrated_airspeed_pays_for_its_speed(self) -> None:
        jet, calibrated, top = rolling_jet(), 80.0, 3000.0
        leg = fuel_for(jet, [{"climb_to": top, "calibrated_airspeed": calibrated}]).legs[0]
        away, heights = jet.with_environment(ground=-2000.0), np.linspace(0.0, top, 9)
        speeds, excess = [], []
        for h in heights:
            air = air_at(h)
            speeds.append(mach_from_calibrated(calibrated, float(air.pressure)) * float(air.speed_of_sound))
            held = dv.trim(away, airspeed=speeds[-1], altitude=float(h), flight_path="free", inputs={"power_jet": 1.0})
            excess.append(held["climb_rate"])
        # energy height: d(h + V^2/2g)/dt is the steady rate of climb; over h by Simpson
        energy = np.gradient(heights + np.square(speeds) / (2.0 * G), heights, edge_order=2)
        weights = np.array([1, 4, 2, 4, 2, 4, 2, 4, 1]) * top / 24.0
        time = float(np.dot(weights, energy / np.array(excess)))
        self.assertAlmostEqual(leg.time / time, 1.0 - 0.5 * leg.used / 3000.0, delta=3e-3)
        self.assertGreater(energy[4], 1.03)

    def test_legs_along_a_track_on_a_hot_day_between_levels(self) -> None:
        legs = [{"climb_to": "FL50", "airspeed": 80.0}, {"distance": "20 km", "mach": 0.27, "track": "0 deg"}]
        use = fuel_for(rolling_jet(), legs, wind="15 m/s from 90 deg", day="ISA+10")
        self.assertAlmostEqual(use.legs[0].altitude, 1524.0 / (1.0 - 1524.0 / 6356766.0), places=6)
        sound = math.sqrt(1.4 * 287.05287 * (288.15 + 10.0 - 0.0065 * 1524.0))
        along = math.sqrt((0.27 * sound) ** 2 - 15.0**2)  # the crab takes the wind across
        self.assertAlmostEqual(use.legs[1].time, 20e3 / along, delta=1e-3)
        for leg, words in (
            ({"time": 9, "airspeed": 80, "track": 0, "heading": 0}, "a heading and a track"),
            ({"time": 9, "airspeed": 80, "calibrated_airspeed": 80}, "airspeed and calibrated_airspeed"),
        ):
            with self.assertRaisesRegex(DravikError, words):
                fuel_for(rolling_jet(), [leg])

    def test_commands_on_a_hot_day(self) -> None:
        hot = json.loads(run("runway", "tarn", "--loading", "dropped", "--day", "ISA+30", "--json")[1])["take_off"]
        cool = json.loads(run("runway", "tarn", "--loading", "dropped", "--json")[1])["take_off"]
        # the same lift needs a speed higher by the root of the density ratio
        self.assertAlmostEqual(hot["stall"] / cool["stall"], math.sqrt(318.15 / 288.15), delta=2e-3)
        tops = [
            json.loads(run("thrust", "tarn", "--climb", "9 m/s", *day, "--json")[1])["ceiling_m"]
            for day in ((), ("--day", "ISA+30"))
        ]
        self.assertLess(tops[1], tops[0] - 20.0)
        used = [json.loads(run("fuel", "tarn", "fire_day", *day, "--json")[1])["all"]["used"]
                for day in ((), ("--day", "ISA+30"), ("--wind", "9 m/s from 0 deg"))]  # fmt: skip
        self.assertEqual(len({round(u, 3) for u in used}), 3)
        slow = [json.loads(run("limits", "tarn", "--altitudes", "300 m", *day, "--airspeeds", "60 m/s", "--json")[1])
                for day in ((), ("--day", "ISA+30"))]  # fmt: skip
        self.assertGreater(slow[1]["level_flight"][0]["slowest"], slow[0]["level_flight"][0]["slowest"] + 1.0)

    def test_an_input_is_freed_where_another_is_set(self) -> None:
        text = (
            (OWN / "lom" / "aircraft.toml")
            .read_text("utf-8")
            .replace("pitch_stick = {", "other = { range = [-1, 1] }\npitch_stick = {")
        )
        text = text.replace("*pitch_stick", "*(pitch_stick + other)")
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "two.toml"
            file.write_text(text, "utf-8")
            craft = dv.load(file)
            plain = dv.trim(craft, airspeed=80.0, altitude=500.0)
            freed = dv.trim(craft, airspeed=80.0, altitude=500.0, inputs={"pitch_stick": 0.1}, free="other")
            # the two stand for each other
            self.assertAlmostEqual(freed["other"], plain["pitch_stick"] - 0.1, places=9)
            swept = dv.trim_sweep(craft, {"pitch_stick": "-0.1, 0.2"}, airspeed=80.0, altitude=500.0, free=["other"])
            np.testing.assert_allclose(np.add(swept.values("other"), [-0.1, 0.2]), plain["pitch_stick"], atol=1e-9)
            for free, words in (("pitch_stick", "set and free"), ("nothing", "nothing")):
                with self.assertRaisesRegex(DravikError, words):
                    dv.trim(craft, airspeed=80.0, altitude=500.0, inputs={"pitch_stick": 0.1}, free=free)


if __name__ == "__main__":
    unittest.main()
