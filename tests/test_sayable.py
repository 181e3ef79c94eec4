"""What a file or a call can say: increments, moving parts, spinning parts, atmospheres, starts, kinds of input."""

import dataclasses
import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np

import dravik as dv
from dravik.aero import Airframe, FlowState, build_tables, read_coefficients, static_margin
from dravik.aircraft import AircraftDefinition, LawDefinition, sample_path
from dravik.errors import DravikError
from dravik.mass import Part, combine
from dravik.performance import engine_points, performance
from dravik.propulsion import GasTurbine, turbine_tables
from dravik.recording.tracks import placed
from dravik.report.space.tracks import figure_track
from tests.support import DEG, craft, definition, drawing, light_aircraft, rectangle, wing_and_tail

ZERO = {"axes": "stability", "CD": 0, "CY": 0, "Cl": 0, "Cm": 0, "Cn": 0}
FLYING: dict[str, Any] = {"velocity": (50.0, 0.0, 2.0)}


class IncrementTest(unittest.TestCase):
    def test_added_to_coefficients_that_another_file_gives(self) -> None:
        inputs = {"gear": {"range": [0, 1]}, "brakes": {"range": [0, 1]}}
        increments = {
            "gear": {"CD": "0.02*gear", "Cm": "-0.01*gear"},
            "brakes": {"CL": {"formula": "-0.1*brakes", "description": "spoiled lift"}},
        }
        body = craft(aero={**ZERO, "CL": "5*alpha"}, inputs=inputs, increments=increments)
        bare = craft(aero={**ZERO, "CL": "5*alpha"}, inputs=inputs)
        u = body.default_inputs()
        u[body.input_index("gear")] = u[body.input_index("brakes")] = 1.0
        x = body.state(**FLYING)
        found, before = body.values(x, u), bare.values(x, u)
        self.assertEqual((found["CD"], found["CD_gear"], found["Cm"]), (0.02, 0.02, -0.01))
        self.assertAlmostEqual(found["CL"], before["CL"] - 0.1)
        self.assertLess(found["u_dot"], before["u_dot"])
        for more, words in (
            ({"gear": {"CDD": "1"}}, "'CDD' is no coefficient.*did you mean CD"),
            ({"gear": {"CX": "1"}}, "there is no CX to which"),
        ):
            with self.assertRaisesRegex((DravikError, ValueError), words):
                craft(aero={**ZERO, "CL": 0}, increments=more)

    def test_a_set_built_anew_keeps_them(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            build_tables(wing_and_tail()).write(folder / "aero")
            (folder / "aircraft.toml").write_text(
                'format = 1\nname = "mine"\ninclude = ["aero/aero.toml"]\n[loadings.only]\nmass = "300 kg"\n'
                'cg = ["0.2 m", "0 m", "0 m"]\nIxx = 300\nIyy = 400\nIzz = 600\n'
                '[increments.wheels]\nCD = "0.03"\n[controls.flap]\nrange = ["0 deg", "20 deg"]\n'
            )
            mine = dv.load(folder / "aircraft.toml")  # one loading is the default
            self.assertEqual(mine.loading_name, "only")
            one, set_ = read_coefficients(folder / "aircraft.toml"), read_coefficients(folder / "aero")
            self.assertAlmostEqual(float(one.at(alpha=0.05)["CD"] - set_.at(alpha=0.05)["CD"]), 0.03)
            build_tables(wing_and_tail()).write(folder / "aero")
            self.assertAlmostEqual(
                float(read_coefficients(folder / "aircraft.toml").at(alpha=0.05)["CD"]), float(one.at(alpha=0.05)["CD"])
            )

    def test_highest_lift_in_place_of_the_stall_angle(self) -> None:
        for wanted in (1.1, 1.5):
            airframe = Airframe(drawing({"wing": rectangle(8.0, stall={"highest_lift": wanted})}, area=8.0))
            lift = airframe.coefficients([FlowState(alpha=a) for a in np.radians(np.arange(0, 30, 0.5))])["CL"]
            self.assertAlmostEqual(float(lift.max()), wanted, delta=0.02)
        with self.assertRaisesRegex(DravikError, "a highest lift coefficient of 4.5 cannot"):
            Airframe(drawing({"wing": rectangle(8.0, stall={"highest_lift": 4.5})}, area=8.0))

    def test_controls_of_formulas_are_told(self) -> None:
        tarn = read_coefficients(sample_path("hail") / "aircraft.toml")
        from dravik.aero import signals_of

        self.assertNotIn("incidence", signals_of(tarn)[1])
        with tempfile.TemporaryDirectory() as name:
            file = Path(name) / "plain.toml"
            file.write_text(
                '[reference]\narea = "16 m^2"\nchord = "1.5 m"\nspan = "11 m"\nmoment_point = [0, 0, 0]\n[aero]\naxes = "stability"\n'
                'CL = "0.3 + 5*alpha + 0.4*elevator"\nCD = 0.03\nCY = 0\nCl = 0\nCm = "-1.2*elevator"\nCn = 0\n[controls.elevator]\nrange = ["-20 deg", "10 deg"]\n'
            )
            plain = read_coefficients(file)
            self.assertEqual(signals_of(plain)[1], ["elevator"])
            self.assertAlmostEqual(float(plain.slopes("elevator")["Cm"]), -1.2)


class MovingTest(unittest.TestCase):
    def test_a_leg_that_retracts(self) -> None:
        leg = {
            "position": [0.0, 0.0, -1.0],
            "stiffness": 20e3,
            "damping": 2e3,
            "stroke": 0.3,
            "tyre": 30e3,
            "up": [1.0, 0, -0.2],
            "extended": "throttle",
        }
        body = craft(
            gear={"one": leg},
            environment={"ground": 0},
            inputs={"throttle": {"range": [0, 1]}},
            loading={"mass": 100.0},
        )
        x = body.state(position=(0, 0, 0.95), velocity=(0, 0, 0))
        down, up, half = (body.values(x, np.append(body.default_inputs()[:-1], v)) for v in (1.0, 0.0, 0.5))
        self.assertAlmostEqual(down["pressed_one"], 0.05)
        self.assertAlmostEqual(down["normal_one"], 1000.0)
        almost, out = (body.values(x, np.append(body.default_inputs()[:-1], v)) for v in (0.97, 0.99))
        self.assertGreater(almost["pressed_one"], 0.0)
        self.assertEqual(almost["normal_one"], 0.0)  # not locked yet
        self.assertGreater(out["normal_one"], 0.0)
        self.assertEqual((up["pressed_one"], up["normal_one"], half["normal_one"]), (0.0, 0.0, 0.0))

    def test_a_part_that_moves(self) -> None:
        gear = {
            "mass": 30.0,
            "position": [1.0, 0.5, -1.0],
            "mirrored": True,
            "moved_to": [2.0, 0.4, -0.2],
            "moved": "1 - throttle",
        }
        hull = {"mass": 200.0, "position": [0.5, 0, 0], "shape": "box", "size": [3.0, 1.0, 1.0]}
        raw = definition(parts={"hull": hull, "gear": gear}, inputs={"throttle": {"range": [0, 1]}})
        raw["loadings"] = {"only": {"groups": ["empty"]}}
        body = dv.Aircraft(AircraftDefinition.model_validate(raw))
        x = body.state(velocity=(1, 0, 0))
        for throttle in (1.0, 0.3, 0.0):
            u = body.default_inputs()
            u[body.input_index("throttle")] = throttle
            found = body.values(x, u)
            place = tuple(
                a + (1.0 - throttle) * (b - a) for a, b in zip(gear["position"], gear["moved_to"], strict=True)
            )
            parts = [
                *Part.model_validate(hull).properties(),
                *Part.model_validate({**gear, "position": place}).properties(),
            ]
            whole = combine(parts)
            self.assertAlmostEqual(found["mass"], 260.0)
            for name, value in zip(("centre_x", "centre_y", "centre_z"), whole.centre, strict=True):
                self.assertAlmostEqual(found[name], float(value), places=9)
            for name, (i, j) in {"Ixx": (0, 0), "Iyy": (1, 1), "Izz": (2, 2)}.items():
                self.assertAlmostEqual(found[name], float(whole.tensor[i, j]), places=6)
            self.assertAlmostEqual(found["Ixz"], -float(whole.tensor[0, 2]), places=6)

    def test_a_flywheel_precesses(self) -> None:
        # h about x, a torque about y: the body turns about z at M/h (steady precession of a fast top)
        body = craft(
            environment={"gravity": 0.0}, loading={"Ixx": 1.0, "Iyy": 1.0, "Izz": 1.0},
            spinning={"wheel": {"momentum": "40", "axis": [1, 0, 0]}}, aero={**ZERO, "axes": "body", "CX": 0, "CZ": 0, "Cm": "0.002"},
        )  # fmt: skip
        x = body.state(position=(0, 0, 0), velocity=(30.0, 0, 0))
        moment = 0.002 * body.values(x, body.default_inputs())["dynamic_pressure"]
        x[12] = moment / 40.0  # M = (w x h) about y, which is r h
        found = body.values(x, body.default_inputs())
        self.assertAlmostEqual(found["q_dot"], 0.0, places=12)
        self.assertNotAlmostEqual(body.values(body.state(velocity=(30.0, 0, 0)), body.default_inputs())["q_dot"], 0.0)


class AirTest(unittest.TestCase):
    def test_an_atmosphere_of_ones_own(self) -> None:
        own = {"temperature": "250 - 0.004*altitude", "pressure": "60000*exp(-altitude/8000)"}
        body = craft(environment={"air": own}, aero={**ZERO, "CL": "5*alpha"})
        x = body.state(position=(0, 0, 1000.0), velocity=(100.0, 0, 0))
        found = body.values(x, body.default_inputs())
        t, p = 246.0, 60000 * math.exp(-0.125)
        rho = p / (287.0528 * t)
        for name, value in (
            ("temperature", t), ("pressure", p), ("density", rho), ("speed_of_sound", math.sqrt(1.4 * 287.0528 * t)),
            ("mach", 100 / math.sqrt(1.4 * 287.0528 * t)), ("dynamic_pressure", 5000 * rho),
            ("equivalent_airspeed", 100 * math.sqrt(rho / 1.225)),
        ):  # fmt: skip
            self.assertAlmostEqual(found[name] / value, 1.0, places=5, msg=name)
        standard = craft(aero={**ZERO, "CL": "5*alpha"})
        usual = standard.values(x, standard.default_inputs())
        same = craft(
            environment={
                "air": {
                    "temperature": "288.15 - 0.0065*altitude*6356766/(6356766 + altitude)",
                    "pressure": str(usual["pressure"]),
                }
            }
        )
        self.assertAlmostEqual(same.values(x, same.default_inputs())["density"] / usual["density"], 1.0, places=6)
        with self.assertRaisesRegex(DravikError, "the wind and the air cannot depend on airspeed"):
            craft(environment={"air": {"temperature": "250 + airspeed", "pressure": 1e5}})

    def test_rates_about_the_stability_axes(self) -> None:
        body = craft(reference={"area": 1.0, "chord": 1.0, "span": 2.0, "moment_point": [0, 0, 0]})
        x = body.state(velocity=(50 * math.cos(0.3), 0, 50 * math.sin(0.3)), rates=(0.2, 0.0, -0.1))
        v = body.values(x, body.default_inputs())
        self.assertAlmostEqual(v["p_hat_stability"] * 50, 0.2 * math.cos(0.3) - 0.1 * math.sin(0.3))
        self.assertAlmostEqual(v["r_hat_stability"] * 50, -0.1 * math.cos(0.3) - 0.2 * math.sin(0.3))


class InputTest(unittest.TestCase):
    def test_a_law_adds_to_an_input(self) -> None:
        body = craft(
            inputs={"stick": {"range": [-1, 1]}, "turn": {"kind": "angular rate", "default": "3 deg/s"}, "feed": {"kind": "pressure", "default": "2 bar"}},
            controls={"surface": {"command": "0.2*stick"}}, formulas={"seen": "stick"},
        )  # fmt: skip
        law = LawDefinition.model_validate(
            {"format": 1, "name": "trimmer", "formulas": {"more": "0.5 + 0*stick"}, "add": {"stick": "more"}}
        )
        held = body.with_law(law)
        u = held.default_inputs()
        self.assertAlmostEqual(u[held.input_index("turn")], 3 * DEG)
        self.assertAlmostEqual(u[held.input_index("feed")], 2e5)
        for stick, expected in ((0.2, 0.7), (0.9, 1.0)):  # within its range
            u[held.input_index("stick")] = stick
            found = held.values(held.state(velocity=(1, 0, 0)), u)
            self.assertAlmostEqual(found["surface"], 0.2 * expected)
            self.assertAlmostEqual(found["seen"], expected)
            self.assertAlmostEqual(found["stick"], stick)
        with self.assertRaisesRegex(ValueError, "no kind of quantity 'angel'.*did you mean angle"):
            craft(inputs={"x": {"kind": "angel"}})

    def test_a_mixer_of_plain_rotors(self) -> None:
        arms = {
            "front_right": (-0.2, 0.2, "left"),
            "back_left": (0.2, -0.2, "left"),
            "front_left": (-0.2, -0.2, "right"),
            "back_right": (0.2, 0.2, "right"),
        }
        engines = {
            n: {"position": [x, y, 0], "direction": [0, 0, -1], "thrust": f"8*power_{n}**2", "spin": s,
                "torque": f"{-1 if s == 'right' else 1}*0.12*power_{n}**2"}
            for n, (x, y, s) in arms.items()
        }  # fmt: skip
        quad = craft(
            engines=engines, loading={"mass": 1.2, "Ixx": 0.01, "Iyy": 0.01, "Izz": 0.02},
            mixers={"lift": {"engines": list(arms), "collective": "lift", "roll": "right", "pitch": "up", "yaw": "nose_right", "torque_length": 0.015}},
            inputs={n: {"range": [-1, 1]} for n in ("right", "up", "nose_right")} | {"lift": {"range": [0, 1], "trim": True}},
        )  # fmt: skip
        hover = dv.trim(quad, airspeed=0.0, altitude=10.0)
        self.assertAlmostEqual(hover["thrust"], 1.2 * 9.80665, places=6)
        for name, rate in (("right", "p_dot"), ("up", "q_dot"), ("nose_right", "r_dot")):
            u = hover.inputs.copy()
            u[quad.input_index(name)] = 0.1
            moved = quad.values(hover.state, u)
            self.assertGreater(moved[rate], 0.05, name)
            others = [moved[r] for r in ("p_dot", "q_dot", "r_dot") if r != rate]
            np.testing.assert_allclose(others, 0.0, atol=1e-9)
            self.assertAlmostEqual(moved["w_dot"], 0.0, places=9)


class QuantityTest(unittest.TestCase):
    def test_every_quantity_takes_its_unit(self) -> None:
        pika, tarn = dv.sample("pika"), dv.sample("tarn")
        point = dv.trim(pika, airspeed="15 m/s", altitude="300 m")
        aero = read_coefficients(sample_path("tarn") / "aircraft.toml")
        four = 4 * DEG

        def stepped(*how: str | float) -> float:
            session = dv.Session(pika, start=point, dt=how[0])
            session.step(how[1], elevator=how[2])
            return session["theta"]

        def state(*how: Any) -> list[float]:
            a, b, c = how
            return list(pika.state(position=(0, 0, a), velocity=(15.0, 0, 0), attitude=(0, b, 0), rates=(c, 0, 0)))

        for with_units, in_si in (
            (lambda: stepped("10 ms", "200 ms", "1 deg"), lambda: stepped(0.01, 0.2, DEG)),
            (lambda: state("300 m", "4 deg", "9 deg/s"), lambda: state(300.0, four, 9 * DEG)),
            (
                lambda: performance(pika, airspeeds=["54 km/h"], altitude="300 m").points[0].thrust_required,
                lambda: performance(pika, airspeeds=[15.0], altitude=300.0).points[0].thrust_required,
            ),
            (
                lambda: engine_points(pika, airspeeds=["54 km/h"], altitude="300 m")[0].thrust,
                lambda: engine_points(pika, airspeeds=[15.0], altitude=300.0)[0].thrust,
            ),
            (lambda: aero.at(alpha="4 deg")["CL"], lambda: aero.at(alpha=four)["CL"]),
            (lambda: aero.slopes("alpha", alpha="4 deg")["Cm"], lambda: aero.slopes("alpha", alpha=four)["Cm"]),
            (lambda: static_margin(aero, "910 cm", alpha="4 deg"), lambda: static_margin(aero, 9.1, alpha=four)),
            (
                lambda: tarn.with_environment(ground="1575 ft").configuration.world.ground,
                lambda: 1575 * 0.3048,
            ),
        ):
            np.testing.assert_allclose(with_units(), in_si(), rtol=1e-12)
        with self.assertRaisesRegex(DravikError, "does not measure angle"):
            aero.at(alpha="4 m")
        rated: dict[str, Any] = {"pressure_ratio": 8.0, "turbine_temperature": "900 degC"}
        self.assertEqual(GasTurbine(output="jet", rated="9 kN", **rated).rated, 9000.0)
        thrust, _ = turbine_tables(
            GasTurbine(output="jet", rated="9 kN", **rated), [0, 0.3, 0.6], [0, 5000], [0, 0.5, 1]
        )
        idle = thrust.values[:, 0, 0]  # standing at sea level as stated, in flight less
        self.assertAlmostEqual(float(idle[0]), 0.06 * 9000.0, places=6)
        self.assertTrue(idle[0] > idle[1] > idle[2] and idle[2] < 0.5 * idle[0])
        for wrong, words in (({"output": "thrust"}, "output"), ({"output": "shaft"}, "does not measure power")):
            with self.assertRaisesRegex(DravikError, words):
                GasTurbine(**wrong, rated="9 kN", **rated)
        with self.assertRaisesRegex(DravikError, "does not measure length"):
            tarn.with_environment(ground="480 kg")


class ClimbTest(unittest.TestCase):
    def test_a_climb_is_proved_with_what_the_thinner_air_allows_and_no_more(self) -> None:
        tarn = dv.sample("tarn")
        for path in (4.0, -4.0):
            point = dv.trim(tarn, airspeed=62, altitude=1000, flight_path=path * DEG)
            proof = dv.prove_trim(point)
            self.assertTrue(proof.holds, proof.drift)
            # the climb itself wanders by metres, and the linear model says by how many
            away = proof.recording["altitude"] - 1000 - point.signals["climb_rate"] * proof.recording.time
            self.assertGreater(np.abs(away).max(), 5.0)
            self.assertLess(proof.limits["altitude"], 0.1 * np.abs(away).max())
            inputs, state = np.array(point.inputs), np.array(point.state)
            inputs[tarn.input_index("throttle")] += 0.004
            for name in ("power_left", "power_right"):
                state[tarn.state_names.index(name)] += 0.004
            self.assertFalse(dv.prove_trim(dataclasses.replace(point, inputs=inputs, state=state)).holds)


class LandTest(unittest.TestCase):
    def test_a_recording_keeps_the_land_around_its_track(self) -> None:
        hilly = dv.sample("tarn").with_environment(ground="20*sin(north/300) + 0.01*east")
        point = dv.trim(hilly, airspeed=62, altitude=300, heading="60 deg")
        run = dv.fly(hilly, start=point, duration=20, record_every=100)
        land = run.metadata["terrain"]
        north, east = np.array(land["north_m"]), np.array(land["east_m"])
        np.testing.assert_allclose(
            land["height_m"], 20 * np.sin(north[:, None] / 300) + 0.01 * east[None, :], atol=0.02, rtol=0
        )
        for name, side in (("north", north), ("east", east)):
            self.assertTrue(side[0] < run[name].min() and run[name].max() < side[-1], name)
        self.assertEqual(len(figure_track(run).axes[0].collections[0].get_facecolor()), 24 * 24)
        level = dv.fly(hilly.with_environment(ground=0.0), start=point, duration=1)
        self.assertNotIn("terrain", level.metadata)


class StartTest(unittest.TestCase):
    def test_starts_by_name_and_with_offsets(self) -> None:
        plain = light_aircraft()
        starts = {
            "banked": {
                "kind": "trimmed",
                "airspeed": "60 m/s",
                "altitude": "500 m",
                "offsets": {"phi": "15 deg", "airspeed": "2 m/s", "elevator": "1 deg"},
            },
            "broken": {"kind": "trimmed", "airspeed": "60 kg", "altitude": "500 m"},
            "thrown": {
                "kind": "states",
                "position": ["0 m", "0 m", "100 m"],
                "velocity": ["50 m/s", 0, 0],
                "rates": ["10 deg/s", 0, 0],
            },
        }
        named = dv.Aircraft(plain.definition.model_copy(update={"starts": starts}))
        level = dv.trim(named, airspeed=60, altitude=500)
        begun = dv.start(named, "banked")
        found = named.values(begun.state, begun.inputs)
        self.assertAlmostEqual(found["phi"], 15 * DEG)
        self.assertAlmostEqual(found["airspeed"], 62.0)
        self.assertAlmostEqual(found["alpha"], level["alpha"], places=9)
        self.assertAlmostEqual(found["elevator"] - level["elevator"], 1 * DEG, places=9)
        thrown = dv.start(named, "thrown")
        self.assertAlmostEqual(thrown.state[10], 10 * DEG)
        said = dv.start(named, airspeed=60.0, altitude=500.0, flight_path=0.02)
        self.assertAlmostEqual(named.values(said.state, said.inputs)["flight_path"], 0.02)
        for call, words in (
            (lambda: dv.start(named, "bankde"), "no start 'bankde'.*did you mean banked"),
            (lambda: dv.start(named, "broken"), "does not measure speed"),
            (
                lambda: dv.start(named, airspeed=60, altitude=500, offsets={"alhpa": 1}),
                "alhpa is no state.*did you mean alpha",
            ),
            (lambda: dv.start(named, airspeed=60), "altitude"),
            (lambda: named.state(velocity=(1, 0, 0), functions={"spol": 1.0}), "no state 'spol'"),
        ):
            with self.assertRaisesRegex(DravikError, words):
                call()  # type: ignore[no-untyped-call]


class FileTest(unittest.TestCase):
    def test_arrays_and_places(self) -> None:
        plain = light_aircraft()
        run = dv.fly(
            plain, start=dv.trim(plain, airspeed=60, altitude=500, heading="90 deg"), duration=5, record_every="100 ms"
        )
        self.assertEqual(len(run.time), 51)
        with tempfile.TemporaryDirectory() as name:
            for ending in (".npz", ".h5"):
                path = run.save(Path(name) / f"run{ending}", signals=["alpha", "altitude"])
                if ending == ".npz":
                    back = dv.read_recording(path)
                    np.testing.assert_allclose(back["alpha"], run["alpha"], rtol=1e-12)
                    with np.load(path) as arrays:
                        self.assertEqual(set(arrays.files), {"time_s", "alpha_deg", "altitude_m"})
                else:
                    import h5py

                    with h5py.File(path) as file:
                        np.testing.assert_allclose(file["alpha_deg"][:] * DEG, run["alpha"], rtol=1e-12)
            east = placed(run, "46 deg", "10 deg")
            # 300 m east at 46 deg: a degree of longitude there is 77.5 km (WGS-84)
            self.assertAlmostEqual(float(np.degrees(east["longitude"][-1])), 10 + 300 / 77465.0, delta=2e-5)
            self.assertAlmostEqual(float(np.degrees(east["latitude"][-1])), 46.0, places=6)


if __name__ == "__main__":
    unittest.main()
