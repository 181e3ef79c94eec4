"""Rolling, runways and fuel: against closed forms of simple aircraft, and against flights of the whole equations."""

import json
import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np

import dravik as dv
from dravik.constants import STANDARD_GRAVITY as G
from dravik.errors import DravikError
from dravik.performance import RunwayRules, fuel_for, landing, take_off
from dravik.surroundings.atmosphere import air_at
from tests.support import craft
from tests.test_cli import run

AREA, DRAG, INDUCED, ROLLING, SLIDING, THRUST, BURNT = 20.0, 0.03, 0.05, 0.03, 0.6, 9000.0, 2e-5
LIFT, MASS, SLOPE = 0.3, 3000.0, 5.0


def rolling_jet(slope: float = SLOPE, engines: dict[str, Any] | None = None, **more: Any) -> dv.Aircraft:
    """Return a jet on three stiff legs that holds 600 kg of fuel; its lift has a maximum of ``LIFT`` + ``slope``/4."""
    leg = {
        "stiffness": 3e7,
        "damping": 3e5,
        "stroke": 0.3,
        "tyre": 4e6,
        "rolling": ROLLING,
        "sliding": SLIDING,
        "brake": "brake",
    }
    places = {"nose": [-3.0, 0.0, -1.0], "left": [1.0, -1.5, -1.0], "right": [1.0, 1.5, -1.0]}
    return craft(
        reference={"area": AREA, "chord": 1.5, "span": 12.0, "moment_point": [0, 0, 0]},
        parts={"all": {"mass": MASS - 600.0, "position": [0, 0, 0], "shape": "box", "size": [4.0, 3.0, 1.0]}},
        tanks={"main": {"position": [0, 0, 0], "size": [1.0, 1.0, 1.0], "density": 800.0, "flow": "fuel_flow"}},
        loadings={"only": {"groups": ["empty"], "tanks": {"main": 600.0}}},
        environment={"ground": 0.0},
        inputs={"brake": {"range": [0, 1]}, **more.pop("inputs", {})},
        gear={n: {**leg, "position": p} for n, p in places.items()},
        aero={
            "axes": "stability", "CL": f"{LIFT} + {slope / 4}*sin(4*alpha)", "CD": f"{DRAG} + {INDUCED}*CL**2",
            "CY": "-0.3*beta", "Cl": "-0.05*beta - 0.4*p_hat + 0.1*r_hat + 0.1*aileron",
            "Cm": "-0.6*alpha - 11*q_hat - 1.1*elevator", "Cn": "0.05*beta - 0.1*r_hat - 0.06*rudder",
        },
        controls={n: {"trim": True, "range": ["-25 deg", "25 deg"]} for n in ("elevator", "aileron", "rudder")},
        engines=engines or {
            "jet": {
                "position": [0, 0, 0], "thrust": f"{THRUST}*power_jet", "trim": True,
                "fuel_flow": f"{BURNT}*{THRUST}*power_jet",
            }
        },
        **more,
    )  # fmt: skip


def rolled(thrust: float, friction: float, end: float, begin: float = 0.0) -> float:
    """Return the way of a roll between two speeds: dV/dt = A - B V^2, so s = ln((A - B V0^2)/(A - B V1^2))/2B."""
    a = thrust / MASS - friction * G
    b = 0.5 * air_at(0.0).density * AREA * (DRAG + INDUCED * LIFT**2 - friction * LIFT) / MASS
    return float(math.log((a - b * begin**2) / (a - b * end**2)) / (2.0 * b))


class RunwayTest(unittest.TestCase):
    def test_rolls_against_their_integral(self) -> None:
        jet = rolling_jet()
        up, down = take_off(jet, altitude=0.0), landing(jet, altitude=0.0)
        self.assertAlmostEqual(up.lift_off / up.stall, 1.1, places=9)
        self.assertAlmostEqual(up.roll / rolled(THRUST, ROLLING, up.lift_off), 1.0, delta=2e-3)
        self.assertAlmostEqual(down.roll / rolled(0.0, SLIDING, 0.0, down.touchdown), 1.0, delta=4e-3)
        # arcs, and straight lines at their angles
        rules = RunwayRules()
        radius = (1.15 * up.stall) ** 2 / (0.2 * G)
        within = math.sqrt(radius**2 - (radius - rules.screen) ** 2)
        straight = radius * math.sin(up.climb) + (rules.screen - radius * (1 - math.cos(up.climb))) / math.tan(up.climb)
        is_within = radius * (1 - math.cos(up.climb)) > rules.screen
        self.assertAlmostEqual(up.airborne, within if is_within else straight, places=6)
        self.assertAlmostEqual(up.rotation, up.lift_off, places=9)
        flare = (1.23 * down.stall) ** 2 / (0.2 * G)
        path = math.radians(3.0)
        straight = flare * math.sin(path) + (15.24 - flare * (1 - math.cos(path))) / math.tan(path)
        self.assertAlmostEqual(down.airborne, straight, places=6)
        self.assertAlmostEqual(up.total, up.roll + up.rotation + up.airborne, places=9)

    def test_the_tarn_rolls_as_it_flies(self) -> None:
        inputs = {"flap_lever": "15 deg", "throttle": 1.0}
        for wind in ({}, {"wind": {"speed": "6 m/s", "blows_from": "0 deg"}}):
            tarn = dv.sample("tarn", loading="dropped").with_environment(ground="480 m", **wind)
            flown = dv.fly(tarn, start=dv.on_ground(tarn, inputs=inputs), duration=8)
            point = dv.on_ground(tarn, airspeed=24.0, inputs=inputs)
            at = int(np.argmax(flown["airspeed"] > 24.0))
            rate = (flown["airspeed"][at + 5] - flown["airspeed"][at - 5]) / (flown.time[at + 5] - flown.time[at - 5])
            self.assertAlmostEqual(point["airspeed_dot"], float(rate), delta=0.01)
            self.assertAlmostEqual(point["theta"], float(flown["theta"][at]), delta=2e-4)
            self.assertAlmostEqual(point["ground_speed"], float(flown["ground_speed"][at]), delta=0.05)

    def test_lift_off_attitude(self) -> None:
        tarn = dv.sample("tarn").with_environment(ground="480 m")
        inputs = {"throttle": 1.0, "flap_lever": "15 deg"}
        point = dv.on_ground(tarn, airspeed="36 m/s", pitch="5 deg", inputs=inputs)
        self.assertAlmostEqual(math.degrees(point["theta"]), 5.0, places=9)
        self.assertEqual(point["normal_nose"], 0.0)
        self.assertGreater(point["normal_main_left"], 0.0)
        self.assertGreater(point["pitch_stick"], 0.0)
        self.assertTrue(point.reached)
        # what the wheels carry and the wing does is the weight
        up = point["normal_main_left"] + point["normal_main_right"]
        lift = 0.5 * point["density"] * 36.0**2 * 54.0 * point["CL"]
        thrust = point["thrust"] * math.sin(point["theta"])
        self.assertAlmostEqual((up + lift + thrust) / (9500.0 * G), 1.0, delta=6e-3)
        for asked, words in (
            ({"airspeed": 12.0, "pitch": "5 deg"}, "no pitch_stick holds that"), ({"airspeed": 60.0}, "or the wing does"),
            ({"pitch": "5 deg"}, "at rest cannot be given a pitch"), ({"airspeed": -3.0}, "above zero"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                dv.on_ground(tarn, inputs=inputs, **asked)

    def test_wind(self) -> None:
        jet = rolling_jet()
        still, against = (
            take_off(jet, altitude=0.0),
            take_off(
                jet.with_environment(wind={"speed": "8 m/s", "blows_from": "90 deg"}), altitude=0.0, heading="90 deg"
            ),
        )
        self.assertLess(against.total, 0.8 * still.total)
        self.assertAlmostEqual(against.rotation, still.rotation - 8.0, places=6)
        down = [
            landing(jet.with_environment(wind={"speed": v, "blows_from": "90 deg"}), altitude=0.0, heading="90 deg")
            for v in (0.0, 8.0)
        ]
        # the path is one over the ground; the wind shortens the arc of the flare, which is flown through the air
        rules = RunwayRules()
        mean = rules.flare * down[0].stall
        arc = mean**2 / ((rules.load_factor - 1.0) * G) * math.sin(rules.path)
        self.assertAlmostEqual(down[0].airborne - down[1].airborne, arc * 8.0 / mean, places=6)
        self.assertAlmostEqual(down[1].delay, down[0].delay - 2.0 * 8.0, places=6)
        across = dv.on_ground(jet.with_environment(wind={"speed": 8.0, "blows_from": "90 deg"}), airspeed=40.0)
        self.assertAlmostEqual(across["beta"], math.asin(8.0 / 40.0), delta=1e-3)
        self.assertAlmostEqual(across["track"], 0.0, places=9)
        east = dv.on_ground(
            jet.with_environment(wind={"speed": 8.0, "blows_from": "0 deg"}), airspeed=40.0, heading="90 deg"
        )
        self.assertAlmostEqual(east["beta"], math.asin(-8.0 / 40.0), delta=1e-3)
        with self.assertRaisesRegex(DravikError, "m/s across"):
            dv.on_ground(jet.with_environment(wind={"speed": 8.0, "blows_from": "90 deg"}), airspeed=5.0)

    def test_what_cannot_be(self) -> None:
        for what, words in (
            (lambda: take_off(dv.sample("hail"), altitude=0), "has no gear"),
            (lambda: take_off(rolling_jet(), altitude=0, inputs={"power_jet": 0.0}), "does not gather speed"),
            (lambda: landing(rolling_jet(), altitude=0, braked={"power_jet": 1.0}), "does not slow down"),
            (lambda: RunwayRules(lift_off=0.9), "the speeds are out of order"),
            (lambda: RunwayRules(screen=-1.0), "zero or more"),
            (lambda: RunwayRules(load_factor=1.0), "a load factor between"),
        ):
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                what()


class FuelTest(unittest.TestCase):
    def test_a_cruise_against_its_integral(self) -> None:
        # dW/dt = -g c (a + b W^2) at constant speed and altitude: W = sqrt(a/b) tan(atan(W0 sqrt(b/a)) - g c sqrt(a b) t).
        # The lift slope is steep, so that the thrust hardly carries weight.
        speed, time, height = 90.0, 3600.0, 1000.0
        use = fuel_for(rolling_jet(slope=4000.0), [{"time": time, "airspeed": speed}], altitude=height)
        pressure = 0.5 * float(air_at(height).density) * speed**2 * AREA
        point = dv.trim(rolling_jet(), airspeed=speed, altitude=height)
        gravity = math.hypot(point["gravity_x"], point["gravity_z"])
        a, b = pressure * DRAG, INDUCED / pressure
        begun = MASS * gravity
        end = math.sqrt(a / b) * math.tan(
            math.atan(begun * math.sqrt(b / a)) - gravity * BURNT * math.sqrt(a * b) * time
        )
        self.assertAlmostEqual(use.legs[0].used, (begun - end) / gravity, delta=2e-3)
        self.assertAlmostEqual(use.legs[0].mass, MASS - use.legs[0].used, places=9)

    def test_legs_join(self) -> None:
        jet = rolling_jet().with_environment(wind={"speed": 10.0, "blows_from": "0 deg"})
        legs: list[dict[str, Any]] = [
            {"standing": "2 min", "name": "waiting", "inputs": {"power_jet": 0.1}},
            {"climb_to": "1500 m", "airspeed": 80.0},
            {"distance": "30 km", "airspeed": 90.0},
            {"descend_to": "500 m", "airspeed": 80.0, "climb_rate": "-3 m/s"},
        ]
        use = fuel_for(jet, legs)
        waiting, climb, cruise, descent = use.legs
        self.assertAlmostEqual(waiting.used, 120.0 * BURNT * 0.1 * THRUST, places=9)
        self.assertAlmostEqual(climb.used, climb.time * BURNT * THRUST, places=6)
        self.assertAlmostEqual(cruise.time, 30e3 / 80.0, places=6)
        self.assertAlmostEqual(descent.time, 1000.0 / 3.0, places=6)
        self.assertAlmostEqual(use.total.used, 600.0 - use.total.left, places=9)
        self.assertEqual([leg.altitude for leg in use.legs], [0.0, 1500.0, 1500.0, 500.0])
        battery = fuel_for(dv.sample("pika"), [{"time": "60 s", "airspeed": "13 m/s"}], altitude="300 m")
        power = dv.trim(dv.sample("pika"), airspeed=13, altitude=300)["electric_power"]
        self.assertEqual(battery.unit, "J")
        self.assertAlmostEqual(battery.legs[0].used, 60.0 * power, places=4)

    def test_a_climb_against_its_integral_over_the_altitude(self) -> None:
        # the thrust stays, the drag falls with the density: time is the integral of 1/climb rate, by Simpson over nine trims
        jet, top = rolling_jet(), 4000.0
        leg = fuel_for(jet, [{"climb_to": top, "airspeed": 80.0}]).legs[0]
        heights = np.linspace(0.0, top, 9)
        away = jet.with_environment(ground=-2000.0)
        slow = []
        for h in heights:
            point = dv.trim(away, airspeed=80.0, altitude=float(h), flight_path="free", inputs={"power_jet": 1.0})
            slow.append(1.0 / point["climb_rate"])
        weights = np.array([1, 4, 2, 4, 2, 4, 2, 4, 1]) * top / 24.0
        # the fuel burnt, a hundredth of the mass, makes it climb better by about half of that
        self.assertAlmostEqual(leg.time / float(np.dot(weights, slow)), 1.0 - 0.5 * leg.used / MASS, delta=4e-3)
        self.assertGreater(abs(slow[-1] / slow[0] - 1.0), 0.05)

    def test_what_is_no_plan(self) -> None:
        jet = rolling_jet()
        for leg, words in (
            ({"distance": "3 km"}, "no speed"), ({"airspeed": 80}, "no end"), ({"dist": 3}, "leg.0.dist"),
            ({"distance": "3 km", "airspeed": 80, "mach": 0.3}, "airspeed and mach"),
            ({"distance": "3 km", "time": 3, "airspeed": 80}, "distance and time"),
            ({"climb_to": "-10 m", "airspeed": 80}, "the other way"),
            ({"time": "30 h", "airspeed": 90}, "used up"), ({"distance": "3 km", "airspeed": 20}, "leg 1, 3000 kg"),
            ({"time": 5, "airspeed": 80, "climb_rate": 1}, "neither climbs nor descends"),
            ({"climb_to": "900 m", "airspeed": 80, "inputs": {"power_jet": 0.0}}, "does not climb to"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                fuel_for(jet, [leg])
        with self.assertRaisesRegex(DravikError, "neither fuel nor a battery"):
            fuel_for(craft(), [{"time": 5, "airspeed": 80}])

    def test_commands(self) -> None:
        code, text, _ = run("fuel", "tarn", "fire_day", "--json")
        found = json.loads(text)
        self.assertEqual((code, found["unit"], len(found["legs"])), (0, "kg", 6))
        code, text, _ = run("runway", "tarn", "--altitude", "480 m", "--set", "flap_lever=15 deg", "--json")
        found = json.loads(text)
        self.assertEqual(code, 0)
        self.assertAlmostEqual(
            sum(found["landing"][n] for n in ("airborne", "delay", "roll")), found["landing"]["total"]
        )
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "legs.toml"
            path.write_text("format = 1\naltitude = '0 m'\n[[leg]]\ndistance = '3 kg'\n")
            code, _, told = run("fuel", "tarn", str(path))
        self.assertEqual(code, 2)
        self.assertIn("legs.toml", told)
