"""What flights, performance, guards and files promise: what ends, what is told, and what is refused before it is read."""

import dataclasses
import json
import math
import os
import pickle
import re
import shutil
import tempfile
import time
import unittest
from pathlib import Path
from typing import Any

import numpy as np

import dravik as dv
from dravik.aircraft import sample_path
from dravik.constants import STANDARD_GRAVITY
from dravik.errors import DravikError, FlightError, OutputError
from dravik.guidance.aiming import shoot
from dravik.loops import GainTarget, gain_for, margins
from dravik.performance import ceiling, landing, performance, take_off
from dravik.units import quantity
from tests.test_asked_of_trims import OWN
from tests.test_cli import run

PIKA = dv.sample("pika")
AT = dv.trim(PIKA, airspeed=16, altitude=300)


def law(formula: str, adds: str, new: str = "bad") -> dv.Aircraft:
    """Return a Pika with a law of one formula."""
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "law.toml"
        file.write_text(f'format = 1\nname = "n"\n[formulas]\nbad = {formula}\n[add]\n{adds} = "{new}"\n')
        return PIKA.with_law(*dv.load_law(file))


def scenario(text: str) -> Any:
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "s.toml"
        file.write_text('format = 1\nname = "s"\naircraft = "tarn"\nduration = "9 s"\n' + text)
        return dv.load_scenario(file)


START = '[start]\nkind = "trimmed"\nairspeed = "62 m/s"\naltitude = "300 m"\n'


class FiniteTest(unittest.TestCase):
    def test_a_formula_without_a_value_stops_what_reads_it(self) -> None:
        for name, formula, adds in (
            ("a condition", '"if_else(sqrt(beta - 2) > 0, 0, -0.15)"', "throttle"),
            ("a limit", '{ formula = "limit(2e-3/beta, -0.03, 0.03)", unit = "rad" }', "elevator"),
            ("an integral", '"integral(sqrt(-2 - alpha*alpha))"', "throttle"),
        ):
            with self.subTest(name):
                craft = law(formula, adds)
                with self.assertRaisesRegex(DravikError, "bad"):
                    dv.linearise(craft, dv.trim(craft, airspeed=16, altitude=300))
                state = np.zeros(len(craft.state_names))
                state[: len(AT.state)] = AT.state
                with self.assertRaisesRegex(FlightError, "at [0-9.]+ s .*bad"):
                    dv.fly(craft, start=dv.Start(state, AT.inputs), duration=0.2, dt=0.01)
        # the same formulas with values that exist go on
        self.assertAlmostEqual(dv.fly(law('"sqrt(2 + beta)"', "throttle", "0*bad"), start=dv.trim(
            law('"sqrt(2 + beta)"', "throttle", "0*bad"), airspeed=16, altitude=300), duration=0.2).flown, 0.2)  # fmt: skip


class FaultTest(unittest.TestCase):
    def test_a_fault_set_by_hand_holds_what_it_holds(self) -> None:
        found = scenario(START + '[faults.e]\nkind = "stuck"\ncontrol = "elevator"\nat = "1000 s"\n')
        s = dv.Session(found.craft, start=found.start(), dt=0.005)
        s.step(0.5)
        before = s["elevator"]
        s.set(fault_e=1)
        s.step(0.05)
        self.assertAlmostEqual(s["elevator"], before, delta=1e-6)
        self.assertEqual([e.text for e in s.events], ["fault: e (set)"])
        s = dv.Session(found.craft, start=found.start(), dt=0.005)
        s.set(throttle=5.0)
        s.step(0.05)
        self.assertEqual(s["throttle"], 1.0)
        self.assertTrue(any("throttle" in e.text for e in s.events))

    def test_a_flap_that_floats_lags_from_where_it_was(self) -> None:
        found = scenario(
            START + '[faults.f]\nkind = "floating"\ncontrol = "flap"\nposition = "18*deg"\nlag = "3 s"\nat = "2 s"\n'
        )
        flown = found.fly()
        for at in (1.9, 2.1, 3.0, 5.0, 8.0):
            right = 18.0 * (1.0 - math.exp(-max(at - 2.0, 0.0) / 3.0))
            self.assertAlmostEqual(math.degrees(np.interp(at, flown.time, flown["flap"])), right, delta=0.02)

    def test_devices_say_who_and_when(self) -> None:
        class Bad:
            rate = 50.0

            def update(self, t: float, x: Any) -> dict[str, float]:
                return {"throttle": 1 / (t < 0.05)}

        class Asks:
            rate = 50.0

            def update(self, t: float, x: Any) -> dict[str, float]:
                assert x.get("nope") is None and "nope" not in x and len(list(x)) == len(x)
                return {}

        with self.assertRaisesRegex(DravikError, r"Bad.*0\.0[56]"):
            dv.fly(PIKA, start=AT, duration=0.1, devices=[Bad()])
        dv.fly(PIKA, start=AT, duration=0.1, devices=[Asks()])


class MissionTest(unittest.TestCase):
    def test_an_aim_tells_by_how_much_it_was_missed(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "aim.toml"
            file.write_text(
                'format = 1\nname = "p"\naircraft = "hail"\nduration = "40 s"\nlaws = ["homing"]\n[start]\nkind = "rail"\n'
                'elevation = "72 deg"\nheading = "35 deg"\ninputs = { ignition = 1 }\n[aim]\nnorth = "1000 m"\n'
                'east = "700 m"\naltitude = "2300 m"\nmiss = "5 m"\n'
            )
            craft = dv.sample("hail").with_law(*dv.load_law(sample_path("hail") / "laws" / "homing.toml"))
            # the same shot by the other way of flying it: nearest of two points a step apart, so within some decimetres
            right = shoot(craft, north=1000.0, east=700.0, altitude=2300.0, elevation="72 deg").miss
            code, text, _ = run("fly", str(file), "--out", str(Path(folder) / "r.csv"))
            self.assertEqual(code, 0)
            (told,) = re.findall(r"([0-9.]+) m", next(x for x in text.splitlines() if "closest" in x))[:1]
            self.assertAlmostEqual(float(told), right, delta=0.5)
            code, text, _ = run("fly", str(file), "--out", str(Path(folder) / "q.csv"), "--json")
            self.assertIn("closest", text)

    def test_a_route_with_a_chosen_recording_keeps_its_flight(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            shutil.copytree(sample_path("pika"), Path(folder) / "pika")
            file = Path(folder) / "pika" / "scenarios" / "fire_edge.toml"
            text = re.sub(r'duration = "520 s"', 'duration = "8 s"', file.read_text())
            file.write_text(text.replace("[record]\n", '[record]\nsignals = ["alpha", "airspeed"]\n'))
            self.assertEqual(run("fly", str(file), "--out", str(Path(folder) / "r.csv"))[0], 0)
            self.assertTrue((Path(folder) / "r.csv").exists())


class PerformanceTest(unittest.TestCase):
    def test_runways_and_range_in_any_wind(self) -> None:
        tarn = dv.sample("tarn", loading="dropped")
        flap, rolls = {"flap_lever": "15 deg"}, {}
        for speed, start in (("0 m/s", "0 deg"), ("5 m/s", "0 deg"), ("5 m/s", "180 deg"), ("8 m/s", "20 deg")):
            craft = tarn.with_environment(wind={"speed": speed, "blows_from": start})
            rolls[speed, start] = take_off(craft, altitude="480 m", inputs=flap).roll
        calm, head, tail, slant = rolls.values()
        self.assertTrue(slant < head < calm < tail)
        points = [
            performance(
                tarn.with_environment(wind={"speed": v, "blows_from": "0 deg"}), airspeeds=[70], altitude=1000
            ).points[0]
            for v in (0.0, 10.0)
        ]
        self.assertAlmostEqual(points[1].range / points[0].range, 60.0 / 70.0, delta=2e-3)
        down = [
            landing(tarn.with_environment(wind={"speed": v, "blows_from": "0 deg"}), altitude="480 m", inputs={"flap_lever": "35 deg"})
            for v in (0.0, 12.0)
        ]  # fmt: skip
        v = 1.23 * down[0].stall
        r, path = v**2 / 0.2 / STANDARD_GRAVITY, math.radians(3)
        for found, wind in zip(down, (0.0, 12.0), strict=True):
            right = (15.24 - r * (1 - math.cos(path))) / math.tan(path) + r * math.sin(path) * (1 - wind / v)
            self.assertAlmostEqual(found.airborne, right, delta=0.5)

    def test_a_ceiling_says_what_ended_it(self) -> None:
        lark = dv.load(OWN / "lark")
        self.assertEqual(ceiling(lark, airspeeds=[18, 20], highest="12 km").ended_by, "speeds")
        self.assertEqual(ceiling(lark, airspeeds=np.arange(18.0, 60.0, 3.0), highest="1 km").ended_by, "highest")

    def test_a_pistons_friction_is_taken_off_once(self) -> None:
        rows = "".join(f"{j / 10:.1f},{0.12 - j / 100:.3f},{0.065 - 0.003 * j:.4f}\n" for j in range(13))
        text = (OWN / "lom" / "aircraft.toml").read_text()
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "prop.csv").write_text("advance_ratio,CT,CP\n" + rows)
            (Path(folder) / "aircraft.toml").write_text(
                text[: text.index("[engines.nose]")]
                + '[propellers.nose]\nmap = "prop.csv"\ndiameter = "2.4 m"\ninertia = "3 kg*m^2"\nrated_speed = "2600 rpm"\n'
                '[drives.motor]\nkind = "piston"\nrated_power = "260 kW"\nrated_speed = "2600 rpm"\n'
                'consumption = "300 g/(kW*h)"\n[engines.nose]\nkind = "propeller"\npropeller = "nose"\ndrive = "motor"\n'
                'position = ["0.2 m", "0 m", "0 m"]\ncommand = "throttle"\n'
            )
            craft = dv.load(folder)
        for height in (0, 3000, 4500):
            point = dv.trim(craft, airspeed=70, altitude=height, flight_path=None, inputs={"throttle": 1}, strict=False)
            ratio = point["density"] / 1.225
            right = 260e3 / (2600 * math.pi / 30) * (1.1325 * ratio - 0.1325)
            self.assertAlmostEqual(point["shaft_torque_nose"] / right, 1.0, delta=1e-3)


class GuardTest(unittest.TestCase):
    def test_units_have_a_grammar(self) -> None:
        begun = time.monotonic()
        for text, kind in (
            ("5 m/s^(9**9**9)", "speed"), ("5 m**999999", "length"), ("-300 degC", "temperature"), ("5 m^1e9", "length"),
            ("1_0 m", "length"),
        ):  # fmt: skip
            with self.subTest(text), self.assertRaises(DravikError):
                quantity(text, kind)
        with tempfile.TemporaryDirectory() as folder:
            for content in ("alpha [deg*9**9**9],CL\n0,1\n1,2\n", "alpha,CL\n0,1_0\n1,2\n"):
                file = Path(folder) / "t.csv"
                file.write_text(content)
                with self.assertRaises(DravikError):
                    dv.read_table(str(file))
        self.assertLess(time.monotonic() - begun, 5.0)
        self.assertAlmostEqual(quantity("36 km/h", "speed"), 10.0)

    def test_nothing_that_a_user_gives_takes_for_ever(self) -> None:
        begun = time.monotonic()
        lag = dv.LinearSystem.filtered("y", "u", [1.0], [1.0, 1.2])
        found = gain_for(lag, GainTarget(phase_margin=math.radians(50)), delay=0.12)
        loop = dv.LinearSystem.filtered("y", "u", [found.gain], [1.0, 1.2])
        self.assertAlmostEqual(margins(loop, delay=0.12).phase, math.radians(50), delta=1e-4)
        try:
            margins(dv.LinearSystem.filtered("y", "u", [2.0], [1.0, 1.3]), delay=80)
        except DravikError as error:
            self.assertIn("delay", str(error))
        text = (sample_path("pika") / "aircraft.toml").read_text()
        with tempfile.TemporaryDirectory() as folder:
            shutil.copytree(sample_path("pika"), Path(folder) / "pika")
            file = Path(folder) / "pika" / "aircraft.toml"
            file.write_text(text + "\n" + "\n".join(f"[zz{i}]\na = 1" for i in range(20000)))
            with self.assertRaisesRegex(DravikError, "zz0"):
                dv.load(Path(folder) / "pika")
        self.assertLess(time.monotonic() - begun, 15.0)

    def test_folders_keep_to_themselves(self) -> None:
        with tempfile.TemporaryDirectory() as base:
            secret = Path(base) / "private.txt"
            secret.write_text("nobody's business\n")
            folder = Path(base) / "pika"
            shutil.copytree(sample_path("pika"), folder)
            os.symlink(secret, folder / "link.csv")
            text = (folder / "aircraft.toml").read_text()
            for source in (
                text.replace('"aero/aero.toml"', '"aero/aero.toml", "../private.txt"'),
                text.replace('map = "propulsion/propeller.csv"', f'map = "{secret.as_posix()}"'),
                text.replace('map = "propulsion/propeller.csv"', 'map = "link.csv"'),
            ):
                self.assertNotEqual(source, text)
                (folder / "aircraft.toml").write_text(source)
                with self.assertRaises(DravikError) as told:
                    dv.load(folder)
                self.assertNotIn("nobody", str(told.exception))
            # a recording at a link replaces the link
            os.symlink(secret, Path(base) / "run.csv")
            dv.fly(PIKA, start=AT, duration=0.1).save(Path(base) / "run.csv")
            self.assertEqual(secret.read_text(), "nobody's business\n")
            self.assertFalse((Path(base) / "run.csv").is_symlink())

    def test_json_on_every_exit(self) -> None:
        for code, args in (
            (0, ("trim", "pika", "--airspeed", "16 m/s", "--altitude", "300 m", "--json")),
            (1, ("trim", "pika", "--airspeed", "95 m/s", "--altitude", "300 m", "--json")),
            (2, ("trim", "nothing_of_that_name", "--airspeed", "16 m/s", "--json")),
            (2, ("trim", "pika", "--nonsense", "--json")),
        ):
            with self.subTest(args[1]):
                exit_code, text, _ = run(*args)
                self.assertEqual(exit_code, code)
                told = json.loads(text)
                self.assertEqual("error" in told, code != 0)
        if Path("/dev/full").exists():
            with self.assertRaises(OutputError):
                dv.fly(PIKA, start=AT, duration=0.1).save("/dev/full")
            self.assertFalse(Path("/dev/full.json").exists())

    def test_answers_in_the_place_of_raw_errors(self) -> None:
        system, other = (dv.LinearSystem.filtered("y", "u", [1.0], [1.0, 2.0, 3.0]) for _ in range(2))
        session = dv.Session(PIKA, start=AT, dt=0.01)
        self.assertTrue(system == other and hash(system) == hash(other))
        self.assertFalse(system == dv.LinearSystem.filtered("y", "u", [1.5], [1.0, 2.0, 3.0]))
        self.assertIn("alpha", dv.fly(PIKA, start=AT, duration=0.1))
        self.assertIsInstance(pickle.loads(pickle.dumps(session.save())), object)
        for call, words in (
            (lambda: session.restore(None), "save"), (lambda: session.step(math.nan), "nan"),
            (lambda: margins(dv.LinearSystem.gain("u", {"y": -1.0})), "solution"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                call()

    def test_a_pickled_aircraft_flies_the_same(self) -> None:
        craft, point = pickle.loads(pickle.dumps((PIKA, AT)))
        begun = time.monotonic()
        again = dv.fly(craft, start=point, duration=1.0)
        self.assertLess(time.monotonic() - begun, 5.0)
        np.testing.assert_array_equal(again["theta"], dv.fly(PIKA, start=AT, duration=1.0)["theta"])


class EnginesTest(unittest.TestCase):
    def test_thrusts_that_point_two_ways_stay_apart(self) -> None:
        folder = str(OWN / "liftwing")
        tables = [run("thrust", folder, *more)[1] for more in ((), ("--set", "lift=0"), ("--set", "lift=1"))]
        self.assertTrue(all("thrust ahead [N]" in text and "thrust up [N]" in text for text in tables))
        # the lift of 200 N at full throttle, the pusher's 70 N at rest: each where it points
        row = next(line.split() for line in tables[0].splitlines() if line.split()[:2] == ["1", "0"])
        self.assertEqual([float(v) for v in row[-2:]], [0.0, 200.0])
        row = next(line.split() for line in tables[1].splitlines() if line.split()[:2] == ["1", "0"])
        self.assertEqual([float(v) for v in row[-2:]], [70.0, 0.0])


class LandingTest(unittest.TestCase):
    def test_every_touch_counts(self) -> None:
        tarn = dv.sample("tarn", loading="dropped").with_environment(ground=0)
        names = ["altitude", "climb_rate", "q", "theta", "phi", "nz", "north", "east"]
        legs = list(tarn.configuration.legs)
        time = np.arange(0.0, 10.0, 0.02)

        def flown(air: tuple[float, float], nose: float) -> dv.Recording:
            """Return a landing that touches at 2 s, is in the air between two times, and lowers its nose at 7 s."""
            down = (time >= 2.0) & ~((time >= air[0]) & (time < air[1]))
            values = {n: np.zeros(len(time)) for n in [*names, *(f"normal_{leg}" for leg in legs)]}
            values["theta"][:] = math.radians(3.0)
            values["nz"][:] = 1.0 + 0.8 * down
            values["climb_rate"][:] = np.where(time < 2.0, -0.9, 0.0)
            values["altitude"][:] = np.where((time >= air[0]) & (time < air[1]), 0.2, 0.0) * (time > air[0] + 0.02)
            values["q"][:] = np.where((time > 6.5) & (time < 7.2), -nose, 0.0)
            for leg in legs:
                values[f"normal_{leg}"][:] = 1e4 * (down & ((leg != "nose") | (time >= 7.0)))
            run = dv.fly(tarn, start=dv.trim(tarn, airspeed=60, altitude=500), duration=0.1)
            return dataclasses.replace(
                run, names=["time", *values], values=np.column_stack([time, *values.values()]), events=[]
            )

        arm = tarn.loading.cg[0] - float(tarn.configuration.legs["nose"].position[0])
        clean = dv.validation.landing_of(flown((0.0, 0.0), 0.1))
        self.assertEqual((len(clean.touches), clean.faults), (1, []))
        self.assertEqual(set(clean.touches[0].legs), {"main_left", "main_right"})
        self.assertAlmostEqual(clean.sink, 0.9, places=6)
        self.assertAlmostEqual(clean.nz, 1.8, places=6)
        self.assertAlmostEqual(clean.lowered, 0.1 * arm * math.cos(math.radians(3.0)), places=6)
        bounced = dv.validation.landing_of(flown((3.0, 4.5), 0.1))
        self.assertAlmostEqual(bounced.hop, 1.5, delta=0.03)
        self.assertAlmostEqual(bounced.height, 0.2, places=6)
        self.assertEqual(len(bounced.touches), 2)
        self.assertTrue(any("in the air again" in fault for fault in bounced.faults))
        self.assertTrue(any("foremost" in f for f in dv.validation.landing_of(flown((0.0, 0.0), 0.3)).faults))
        # where it flies away again, the landing is the last one; without a climb before it, it is none
        away = flown((3.0, 4.5), 0.1)
        away["altitude"][(time > 3.1) & (time < 4.4)] = 40.0
        last = dv.validation.landing_of(away)
        self.assertEqual((len(last.earlier), len(last.touches), last.hop), (1, 1, 0.0))
        self.assertGreater(last.touches[0].time, 4.4)
        again = dv.validation.landing_in(away)
        assert again is not None
        self.assertEqual((again.as_data()["faults"], len(again.touches)), ([], 1))
        # what it touched before it flew away belongs to the approach that came down from the air
        away["altitude"][time < 1.0] = 30.0
        self.assertEqual(len(dv.validation.landing_in(away).earlier), 1)  # type: ignore[union-attr]
        self.assertIsNone(dv.validation.landing_in(clean_run := flown((0.0, 0.0), 0.1)))
        clean_run["altitude"][time < 1.0] = 30.0
        self.assertEqual(len(dv.validation.landing_in(clean_run).touches), 1)  # type: ignore[union-attr]
        with self.assertRaisesRegex(DravikError, "has no gear"):
            dv.validation.landing_of(
                dv.fly(bare := dv.load(OWN / "lom"), start=dv.trim(bare, airspeed=60, altitude=500), duration=0.1)
            )
        with self.assertRaisesRegex(DravikError, "nothing touches"):
            dv.validation.landing_of(flown((0.0, 0.0), 0.1), after=20.0)
