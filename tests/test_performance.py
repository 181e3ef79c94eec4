"""What engines give and what an aircraft does with it: against closed forms, and one part against another."""

import json
import math
import tempfile
import unittest
from pathlib import Path

import numpy as np

from dravik import sample, trim
from dravik.aircraft import AircraftDefinition
from dravik.aircraft.description.loadings import drain_paths, share_out
from dravik.errors import DravikError
from dravik.performance import ceiling, engine_points, motor_facts, performance, throttle_inputs
from dravik.propulsion import GasTurbine, cycle, turbine_tables
from dravik.trimming import settle
from tests.support import craft, definition
from tests.test_cli import run

PERFECT = {
    "intake": 1, "compressor": 1, "combustor": 1, "combustor_pressure": 1, "turbine": 1, "nozzle": 1,
    "hot": (1005.0, 1.4), "turbine_temperature": 1400,
}  # fmt: skip


def glider(power: float = 40.0) -> object:
    """Return an aircraft of a parabolic polar whose engine gives the same power at any speed and height."""
    return craft(
        loading={"mass": 500.0, "Ixx": 900.0, "Iyy": 900.0, "Izz": 1700.0},
        reference={"area": 15.0, "chord": 1.0, "span": 15.0, "moment_point": [0, 0, 0]},
        aero={
            "axes": "stability", "CL": "5*alpha", "CD": "0.02 + 0.025*CL**2", "CY": "-beta", "Cl": "-0.1*beta - p_hat + aileron",
            "Cm": "-alpha - 10*q_hat - elevator + 0.1", "Cn": "0.1*beta - 0.1*r_hat - rudder",
        },
        controls={n: {"trim": True} for n in ("elevator", "aileron", "rudder")},
        engines={"one": {"position": [0, 0, 0], "thrust": f"{power * 1e3}*power_one/max(airspeed, 10)", "trim": True,
                         "fuel_flow": f"{power * 1e3}*power_one*1e-7"}},
        envelope={"airspeed": [20, 60], "altitude": [0, 30000]},
    )  # fmt: skip


class PerformanceTest(unittest.TestCase):
    def test_parabolic_polar_against_the_closed_forms(self) -> None:
        body = glider()
        weight, area, rho = 500 * 9.80665, 15.0, 1.225
        speeds = np.linspace(20.0, 60.0, 41)
        found = performance(body, airspeeds=speeds, altitude=0.0)  # type: ignore[arg-type]
        self.assertEqual(throttle_inputs(body), ["power_one_command"])  # type: ignore[arg-type]
        for point in found.points[::6]:
            q = 0.5 * rho * point.airspeed**2
            lift = weight / (q * area)
            # thrust along the body carries part of the weight: a little less drag than the glide's
            self.assertAlmostEqual(
                point.power_required / (q * area * (0.02 + 0.025 * lift**2) * point.airspeed), 1.0, delta=0.03
            )
        # least drag at CL = sqrt(cd0/k), least power at sqrt 3 times that lift
        best_drag = math.sqrt(2 * weight / (rho * area * math.sqrt(0.02 / 0.025)))
        least = min(found.points, key=lambda p: p.thrust_required).airspeed
        self.assertAlmostEqual(least / best_drag, 1.0, delta=0.04)
        economical = found.best("endurance")
        self.assertIsNone(economical)  # nothing says how much fuel there is
        best = found.best("climb_rate")
        assert best is not None
        drag = 0.5 * rho * best.airspeed**2 * area * 0.02 + 0.025 * weight**2 / (0.5 * rho * best.airspeed**2 * area)
        self.assertAlmostEqual(best.climb_rate / ((40e3 - drag * best.airspeed) / weight), 1.0, delta=0.03)
        height = ceiling(body, airspeeds=np.linspace(20, 90, 15), climb=0.5).altitude  # type: ignore[arg-type]
        at = trim(body, airspeed=60, altitude=height, flight_path=None, inputs={"power_one": 1.0})  # type: ignore[arg-type]
        self.assertLess(at["climb_rate"], 0.7)
        self.assertGreater(height, 15000.0)

    def test_fastest_speed_and_failed_engine(self) -> None:
        tarn = sample("tarn", loading="dropped")
        both, one = (
            performance(tarn, airspeeds=np.linspace(50, 95, 4), altitude=300, inputs=i)
            for i in ({}, {"fail_left": 1.0})
        )
        self.assertTrue(math.isnan(both.fastest) and 85 < one.fastest < 95)
        self.assertEqual(both.store, 720.0)
        for a, b in zip(both.points[:3], one.points[:3], strict=True):
            self.assertTrue(b.climb_rate < a.climb_rate and b.thrust_required > a.thrust_required)
            self.assertAlmostEqual(a.endurance, 720.0 / a.flow)
        with self.assertRaisesRegex(DravikError, "there is no engine 'lfet'"):
            performance(tarn, airspeeds=[60.0], altitude=300, inputs={"fail_lfet": 1.0})
        self.assertEqual(ceiling(tarn, airspeeds=[60.0, 70.0])[0], 4500.0)  # the data reach no further

    def test_no_ceiling_where_nothing_trims_or_climbs(self) -> None:
        tarn = sample("tarn")
        for speeds, climb in (([15.0, 20.0], 0.5), ([60.0, 70.0], 40.0)):
            none = ceiling(tarn, airspeeds=speeds, climb=climb)
            self.assertTrue(math.isnan(none.altitude) and math.isnan(none.airspeed) and none.ended_by == "")
        both = ceiling(sample("tarn"), airspeeds=[20.0, 60.0], climb=6.0)
        self.assertTrue(0.0 < both[0] < 4500.0 and both[1] == 60.0)  # a speed that does not trim spoils no other

    def test_bench_agrees_with_trim_and_rests(self) -> None:
        pika = sample("pika")
        level = trim(pika, airspeed=15, altitude=300)
        bench = engine_points(pika, airspeeds=[0.0, 15.0], throttles=[level["throttle"]], altitude=300.0)
        self.assertAlmostEqual(bench[1].thrust / level["thrust"], 1.0, delta=0.03)  # there at another incidence
        self.assertTrue(0.3 < bench[0].efficiency < 0.8 and bench[0].thrust > bench[1].thrust)
        work = level["thrust"] * level["axial_speed_motor"] / level["shaft_power"]
        self.assertAlmostEqual(bench[1].efficiency, work, delta=0.03)
        state = settle(pika, pika.state(velocity=(15, 0, 0)), pika.default_inputs())
        self.assertAlmostEqual(
            pika.values(state, pika.default_inputs())["shaft_torque_motor"], -0.9 * 60 / (2 * math.pi * 560), places=6
        )
        merle = sample("merle")
        hover = performance(merle, airspeeds=[0.0, 10.0], altitude=300.0)
        self.assertTrue(hover.points[1].power_required < hover.points[0].power_required)
        self.assertTrue(all(math.isnan(p.climb_rate) for p in hover.points))
        self.assertAlmostEqual(motor_facts(sample("hail"))[0].specific_impulse, 8468.25 / 4.190445 / 9.80665, places=2)
        with self.assertRaisesRegex(DravikError, "do not settle"):
            settle(craft(formulas={"runaway": "state(1)"}), craft(formulas={"runaway": "state(1)"}).state(velocity=(0, 0, 0)),
                   craft(formulas={"runaway": "state(1)"}).default_inputs())  # fmt: skip


class TurbineTest(unittest.TestCase):
    def test_ideal_jet(self) -> None:
        jet = GasTurbine.model_validate({"output": "jet", "rated": 1e4, "pressure_ratio": 9, "heat": 1e15, **PERFECT})
        found = cycle(jet, 0.8, 5000.0, 1.0)
        # without losses the kinetic energy gained is the cycle's work at the pressure ratio of ram and compressor
        inlet, sound = 255.69, 320.53
        ram = 1 + 0.2 * 0.64
        total = float(found.pressure_ratio) * ram**3.5
        work = (
            1005
            * (1400 - 1005 / 1005 * inlet * ram * float(found.pressure_ratio) ** (0.4 / 1.4))
            * (1 - total ** (-0.4 / 1.4))
        )
        speed = math.sqrt((0.8 * sound) ** 2 + 2 * work)
        self.assertAlmostEqual(float(found.output / found.air_flow) / (speed - 0.8 * sound), 1.0, delta=2e-3)

    def test_tables_from_a_rated_point(self) -> None:
        design = GasTurbine(
            output="jet",
            rated=30e3,
            pressure_ratio=18,
            turbine_temperature=1450,
            bypass_ratio=4,
            fan_pressure_ratio=1.6,
        )
        thrust, fuel = turbine_tables(design, [0, 0.4, 0.8], [0, 5000, 11000], [0, 0.5, 1], consumption=1.2e-5)
        self.assertAlmostEqual(float(thrust(0.0, 0.0, 1.0)), 30e3)
        self.assertAlmostEqual(float(fuel(0.0, 0.0, 1.0)), 0.36)
        for axis in (0, 1):
            self.assertTrue(np.all(np.diff(thrust.values[:, :, 2], axis=axis) < 0.0))
        self.assertTrue(np.all(np.diff(thrust.values, axis=2) > 0) and np.all(np.diff(fuel.values, axis=2) > 0))
        shaft = GasTurbine(output="shaft", rated=900e3, pressure_ratio=9, turbine_temperature=1250)
        power, flow = turbine_tables(shaft, [0, 0.3], [0, 6000], [0, 1])
        self.assertTrue(0.2 < float(flow(0.0, 0.0, 1.0)) / 900 * 3600 < 0.4)  # kg/kWh
        self.assertEqual((power.name, power.unit), ("shaft_power", "W"))
        with self.assertRaisesRegex(DravikError, "does not keep itself going"):
            turbine_tables(shaft.model_copy(update={"compressor": 0.4}), [0, 0.3], [0, 6000], [0, 1])

    def test_idle_at_5_to_8_per_cent_with_the_default_values(self) -> None:
        for more in (
            {"output": "jet", "rated": 1e4, "pressure_ratio": 9, "turbine_temperature": 1250},
            {"output": "jet", "rated": 3e4, "pressure_ratio": 20, "turbine_temperature": 1450, "bypass_ratio": 5, "fan_pressure_ratio": 1.6},
            {"output": "jet", "rated": 1e5, "pressure_ratio": 30, "turbine_temperature": 1600, "bypass_ratio": 8, "fan_pressure_ratio": 1.5},
            {"output": "shaft", "rated": 9e5, "pressure_ratio": 9, "turbine_temperature": 1250},
        ):  # fmt: skip
            table, fuel = turbine_tables(
                GasTurbine.model_validate(more), [0, 0.4, 0.8], [0, 5000, 11000], np.linspace(0, 1, 11)
            )
            share = table.values[0, 0] / more["rated"]
            self.assertTrue(0.05 <= share[0] <= 0.08)
            self.assertTrue(np.all(np.diff(table.values, axis=2) > 0.0) and np.all(np.diff(fuel.values, axis=2) > 0.0))
            self.assertTrue(0.05 < fuel.values[0, 0, 0] / fuel.values[0, 0, -1] < 0.12)
            if more["output"] == "jet":
                self.assertLess(float(table.values[2, 1, 0]), 0.02 * more["rated"])  # a descent needs no reverser

    def test_a_point_that_does_not_settle_is_a_dash(self) -> None:
        runaway = craft(
            inputs={"throttle": {"range": [0, 1]}}, formulas={"hot": "state(if_else(airspeed > 15, 1, -hot))"},
            engines={"one": {"position": [0, 0, 0], "thrust": "100*power_one + hot", "command": "throttle"}},
        )  # fmt: skip
        points = engine_points(runaway, airspeeds=[0.0, 10.0, 20.0])
        self.assertEqual([p.thrust for p in points[:2]], [100.0, 100.0])
        self.assertTrue(math.isnan(points[2].thrust) and "do not settle" in points[2].reason)
        self.assertIn("do not settle", str(points[2].row()["reason"]))

    def test_a_spool_follows_its_throttle(self) -> None:
        body = craft(
            environment={"gravity": 0.0},
            engines={"one": {"position": [0, 0, 0], "kind": "jet", "thrust": "9000*spool_one", "fuel_flow": "0.2*spool_one",
                             "spool_time": "0.5 + spool_one", "command": "throttle", "failed_thrust": "-0.1*dynamic_pressure"}},
            inputs={"throttle": {"range": [0, 1]}},
        )  # fmt: skip
        u = body.default_inputs()
        u[body.input_index("throttle")] = 0.7
        found = settle(body, body.state(velocity=(100, 0, 0)), u)
        self.assertAlmostEqual(body.values(found, u)["thrust"], 6300.0, places=6)
        u[body.input_index("fail_one")] = 1.0
        failed = body.values(settle(body, body.state(velocity=(100, 0, 0)), u), u)
        self.assertAlmostEqual(failed["thrust"], -0.1 * failed["dynamic_pressure"])
        self.assertEqual((failed["fuel_flow"], round(failed["spool_one"], 9)), (0.0, 0.1))


class FillingTest(unittest.TestCase):
    def test_tanks_are_filled_and_drained_in_order(self) -> None:
        tank = {"size": [1.0, 1.0, 0.5], "density": 800.0}
        data = definition(
            loadings={"only": {"groups": ["empty"], "filled": {"fuel": 900.0}}},
            parts={"hull": {"mass": 1000.0, "position": [0, 0, 0], "shape": "box", "size": [4, 1, 1]}},
            tanks={
                "left": {**tank, "position": [0, -2, 0]}, "right": {**tank, "position": [0, 2, 0]},
                "aux": {**tank, "position": [3, 0, 0]},
            },
            filling={"fuel": {"order": [["left", "right"], ["aux"]]}},
        )  # fmt: skip
        data["loadings"]["only"].pop("mass", None)
        parsed = AircraftDefinition.model_validate(data)
        self.assertEqual(share_out(parsed, "fuel", 900.0), {"left": 400.0, "right": 400.0, "aux": 100.0})
        self.assertEqual(share_out(parsed, "fuel", 500.0), {"left": 250.0, "right": 250.0, "aux": 0.0})
        body = craft(**{k: v for k, v in data.items() if k in ("loadings", "parts", "tanks", "filling")})
        self.assertAlmostEqual(body.loading.mass, 1900.0)
        self.assertAlmostEqual(body.loading.cg[0], 300.0 / 1900.0)
        path = drain_paths(body.definition, body.loading)["fuel"]
        centre = path[:, 2]
        self.assertAlmostEqual(centre[0], 300.0 / 1900.0)
        self.assertTrue(np.all(np.abs(centre[path[:, 0] < 800.0]) < 1e-12))  # the aux tank is empty first
        for fuel, words in (
            ({"fuel": 1300.0}, "1300 kg of fuel do not fit into its tanks; expected at most 1200 kg"),
            ({"fule": 3.0}, "did you mean fuel"),
        ):
            data["loadings"]["only"]["filled"] = fuel
            with self.assertRaisesRegex(DravikError, words):
                craft(**{k: v for k, v in data.items() if k in ("loadings", "parts", "tanks", "filling")})


class CommandTest(unittest.TestCase):
    def test_thrust_and_blades(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            figure = Path(folder) / "f.png"
            code, text, _ = run("thrust", "pika", "--figure", str(figure), "--airspeeds", "12 m/s, 24 m/s, 4")
            self.assertEqual(code, 0)
            for words in ("best climb", "longest range", "motor [rpm]", "the altitude looked up to, or higher"):
                self.assertIn(words, text)
            self.assertGreater(figure.stat().st_size, 20000)
            code, text, _ = run("thrust", "hail", "--json", "--figure", str(figure))
            self.assertAlmostEqual(json.loads(text)["motors"][0]["impulse"], 8468.25)
            code, text, _ = run("fly", "hail", "--rail", "85 deg", "--set", "ignition=1", "--duration", "2 s")
            self.assertIn("leaves the rail", text)
            source = Path(sample("merle").path or "").parent / "propulsion" / "blades.toml"
            code, text, _ = run("tables", "blades", str(source), "--out", str(Path(folder) / "map.csv"))
            self.assertIn("CN_cross", text)
        for arguments, words in (
            (("thrust", "tarn", "--throttles", "2"), "shares from 0 to 1"),
            (("thrust", "tarn", "--airspeeds", "45 m/s"), "'from, to, count'"),
            (("thrust", "tarn", "--set", "fail_lft=1"), "did you mean left"),
            (("fly", "hail"), "--rail '85 deg'"),
            (("fly", "tarn", "--rail", "85 deg"), "Tarn has no launch rail"),
        ):
            code, _, err = run(*arguments)
            self.assertEqual(code, 2)
            self.assertIn(words, err)


if __name__ == "__main__":
    unittest.main()
