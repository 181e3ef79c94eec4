import unittest
from typing import Any

import numpy as np

from dravik.aircraft import Aircraft, sample
from dravik.formula import Guard, TapeBuilder
from dravik.frames import body_from_station
from dravik.kernel import BASE_SIGNALS, RigidBody, build_program, new_workspace
from dravik.kernel.program import EVERYTHING
from dravik.kernel.signals import WIND_INPUTS
from dravik.motion import linked
from dravik.motion.equations import evaluate
from dravik.motion.minimal_coordinates import state_from_minimal
from dravik.tables import Axis, Table
from tests.support import craft

ZERO = dict.fromkeys(("CX", "CY", "CZ", "Cl", "Cm", "Cn"), 0)


class LoadsTest(unittest.TestCase):
    def accelerations(self, body: Aircraft, **state: tuple[float, float, float]) -> tuple[np.ndarray, np.ndarray]:
        x = body.state(**{"position": (0, 0, 1000), "velocity": (50, 0, 0), **state})  # type: ignore[arg-type]
        v = body.values(x, body.default_inputs())
        return np.array([v[f"{n}_dot"] for n in "uvw"]), np.array([v[f"{n}_dot"] for n in "pqr"])

    def test_euler_equations_with_products_of_inertia(self) -> None:
        inertia = {"Ixx": 2.8, "Iyy": 2.0, "Izz": 1.9, "Ixy": 0.2, "Ixz": -0.3, "Iyz": 0.1}
        body = craft(environment={"gravity": 0.0}, loading=inertia)
        rates = np.array([0.4, -0.7, 1.1])
        tensor = body.loading.tensor()
        self.assertEqual((tensor[0, 1], tensor[0, 2], tensor[1, 2]), (-0.2, 0.3, -0.1))
        expected = np.linalg.solve(tensor, -np.cross(rates, tensor @ rates))
        linear, angular = self.accelerations(body, rates=tuple(rates))
        np.testing.assert_allclose(angular, expected, atol=1e-14)
        np.testing.assert_allclose(linear, -np.cross(rates, [50, 0, 0]), atol=1e-13)

    def test_thrust_and_air_forces_act_at_the_actual_centre_of_gravity(self) -> None:
        cg, moment_point, engine = [7.2, 0.1, 0.4], [7.0, 0.0, 0.5], [5.0, -3.0, 1.5]
        direction = np.array([1.0, 0.1, -0.2])
        coefficients = np.array([-0.05, 0.02, -0.4])
        moments = np.array([0.003, -0.01, 0.004])
        body = craft(
            environment={"gravity": 0.0},
            reference={"area": 3.0, "chord": 0.5, "span": 6.0, "moment_point": moment_point},
            loading={"cg": cg, "Ixx": 20.0, "Iyy": 30.0, "Izz": 40.0},
            aero={"axes": "body", **dict(zip(ZERO, [*coefficients, *moments], strict=True))},
            engines={"one": {"position": engine, "direction": list(direction), "thrust": 100.0, "torque": 7.0}},
        )
        linear, angular = self.accelerations(body)
        pressure_area = 0.5 * body.values(*self.still(body))["density"] * 50.0**2 * 3.0
        thrust = 100.0 * direction / np.linalg.norm(direction)
        air = pressure_area * coefficients
        arm_air = body_from_station(moment_point, cg)
        arm_thrust = body_from_station(engine, cg)
        moment = pressure_area * moments * [6.0, 0.5, 6.0] + np.cross(arm_air, air) + np.cross(arm_thrust, thrust)
        moment += 7.0 * direction / np.linalg.norm(direction)
        np.testing.assert_allclose(linear, (air + thrust) / 2.0, rtol=1e-12)
        np.testing.assert_allclose(angular, moment / [20.0, 30.0, 40.0], rtol=1e-12)

    def still(self, body: Aircraft) -> tuple[np.ndarray, np.ndarray]:
        return body.state(position=(0, 0, 1000), velocity=(50, 0, 0)), body.default_inputs()

    def test_loads_that_need_the_rates_they_bring_about(self) -> None:
        # the same body with the rates of the air angles as inputs: iterated until they agree with what they cause
        terms = {"CZ": "-0.3 - 4*alpha - 2*{a}", "CY": "-0.5*beta + 1.5*{b} - 0.3*{a}", "Cm": "-0.1*alpha - 3*{a}",
                 "Cn": "0.1*beta - 0.4*{b}", "CX": -0.05, "Cl": "0.2*{b}"}  # fmt: skip
        reference = {"area": 3.0, "chord": 0.5, "span": 6.0, "moment_point": [0, 0, 0]}

        def made(a: str, b: str, **more: Any) -> Aircraft:
            aero = {n: t.format(a=a, b=b) if isinstance(t, str) else t for n, t in terms.items()}
            return craft(reference=reference, aero={"axes": "body", **aero}, loading={"mass": 20.0}, **more)

        state = {"velocity": (40.0, 3.0, 2.0), "rates": (0.1, 0.2, -0.1), "attitude": (0.2, 0.1, 0.0)}
        solved = made("alpha_dot_hat", "beta_dot_hat")
        x = solved.state(position=(0, 0, 500), **state)  # type: ignore[arg-type]
        wanted = solved.values(x, solved.default_inputs())
        told = made("a_hat", "b_hat", inputs={"a_hat": {}, "b_hat": {}})
        u = told.default_inputs()
        for _ in range(60):
            found = told.values(x, u)
            for name, rate in (("a_hat", "alpha_dot_hat"), ("b_hat", "beta_dot_hat")):
                u[told.input_index(name)] = found[rate]
        for name in ("alpha_dot", "beta_dot", "u_dot", "v_dot", "w_dot", "p_dot", "q_dot", "r_dot"):
            self.assertAlmostEqual(wanted[name], found[name], places=10, msg=name)
        without = made("0*q_hat", "0*q_hat")
        self.assertGreater(abs(without.values(x, without.default_inputs())["v_dot"] - wanted["v_dot"]), 0.01)

    def test_a_skipped_group_of_tables_is_zero_as_a_whole(self) -> None:
        tables = {
            f"t{i}": Table(f"t{i}", (Axis("alpha", np.linspace(-0.5, 0.5, 5), "rad"),), np.arange(5.0) + i + 1)
            for i in range(3)
        }
        builder = TapeBuilder({s.name: s.level for s in BASE_SIGNALS}, [s.name for s in WIND_INPUTS], tables)
        zeros = [f"z{i}" for i in range(9)]
        for name, value in (("mass", 1.0), ("i1", 1.0), ("i2", 1.1), ("i3", 1.2), *((z, 0.0) for z in zeros)):
            builder.define(name, value)
        builder.define("near", "altitude < 10")
        for i in range(3):
            builder.define(f"f{i}", f"t{i}(alpha)")
        builder.define("total", "f0 + f1 + f2")
        mass = ["mass", *zeros[:3], "i1", "i2", "i3", *zeros[3:]]
        tape = builder.build([*mass, "total", "f0", "f1", "f2"], guards=[Guard("near", ("f0", "f1", "f2"))])
        body = RigidBody(mass_registers=[tape.names[m] for m in mass], inputs=6, wind=tape.names["wind_north"])
        program = linked(build_program(tape, body))
        work, x = new_workspace(program, tape), np.zeros(13)
        x[3], x[5], x[6] = 60.0, 3.0, 1.0
        for altitude, shares in ((5.0, 3), (100.0, 0), (5.0, 3)):
            x[2] = altitude
            evaluate(program, work, 0.0, x, np.zeros(6), np.empty(13), False, EVERYTHING)
            found = [float(work.registers[tape.names[n]]) for n in ("f0", "f1", "f2", "total")]
            self.assertEqual(sum(v != 0.0 for v in found[:3]), shares)
            self.assertEqual(found[3], sum(found[:3]))

    def test_tables_that_are_looked_up_together_are_those_of_each(self) -> None:
        rng = np.random.default_rng(3)
        axes = (Axis("alpha", np.linspace(-0.5, 0.5, 5), "rad"), Axis("beta", np.array([-0.4, 0.1, 0.3]), "rad"))
        for method, along in (("linear", ()), ("smooth", ()), ("smooth", ("beta",))):
            tables = {
                f"t{i}": Table(f"t{i}", axes, rng.normal(size=(5, 3)), method=method, along=along) for i in range(11)
            }
            body = craft(with_tables=tables, formulas={f"f{i}": f"t{i}(alpha, beta)" for i in range(11)})
            self.assertEqual(sum(len(into) for into in body.tape.table_into), 11)
            self.assertEqual(len(body.tape.table_into), 1)
            for alpha, beta in ((0.13, -0.2), (-0.42, 0.25), (0.5, 0.1)):
                velocity = 50 * np.array([np.cos(alpha) * np.cos(beta), np.sin(beta), np.sin(alpha) * np.cos(beta)])
                found = body.values(body.state(velocity=velocity), body.default_inputs())
                for i in range(11):
                    self.assertAlmostEqual(found[f"f{i}"], float(tables[f"t{i}"](alpha, beta)), places=11)

    def test_axes_of_coefficients(self) -> None:
        alpha, beta = 0.3, -0.2
        velocity = 50 * np.array([np.cos(alpha) * np.cos(beta), np.sin(beta), np.sin(alpha) * np.cos(beta)])
        ca, sa, cb, sb = np.cos(alpha), np.sin(alpha), np.cos(beta), np.sin(beta)
        to_stability = np.array([[ca, 0, sa], [0, 1, 0], [-sa, 0, ca]])
        to_wind = np.array([[cb, sb, 0], [-sb, cb, 0], [0, 0, 1]]) @ to_stability
        forces, moments = {"CD": 0.1, "CY": 0.05, "CL": 0.9}, {"Cl": 0.01, "Cm": -0.02, "Cn": 0.03}
        for axes, turn, moment_turn in (("stability", to_stability, to_stability), ("wind", to_wind, np.eye(3))):
            body = craft(environment={"gravity": 0.0}, aero={"axes": axes, **forces, **moments})
            linear, angular = self.accelerations(body, velocity=tuple(velocity))
            pressure = 0.5 * body.values(*self.still(body))["density"] * 50.0**2
            np.testing.assert_allclose(linear, pressure * turn.T @ [-0.1, 0.05, -0.9] / 2.0, rtol=1e-12)
            expected = pressure * moment_turn.T @ [0.01, -0.02, 0.03] / [2.8, 2.0, 1.2]
            np.testing.assert_allclose(angular, expected, rtol=1e-12)

    def test_weight_in_an_attitude(self) -> None:
        linear, _ = self.accelerations(craft(), velocity=(0, 0, 0), attitude=(0.3, -0.4, 1.0))
        expected = 9.80665 * np.array([np.sin(0.4), np.sin(0.3) * np.cos(0.4), np.cos(0.3) * np.cos(0.4)])
        np.testing.assert_allclose(linear, expected, rtol=1e-13)


class SignalsTest(unittest.TestCase):
    def test_air_and_ground_in_wind(self) -> None:
        body = craft()
        u = body.default_inputs()
        u[:3] = [3.0, -4.0, 1.0]
        x = body.state(position=(0, 0, 500), velocity=(40, 2, 5), attitude=(0.2, 0.1, 0.6), rates=(0.1, 0.2, 0.3))
        v = body.values(x, u)
        from dravik.frames import dcm_from_euler

        to_body = dcm_from_euler(0.2, 0.1, 0.6)
        air = np.array([40, 2, 5]) - to_body @ [3.0, -4.0, -1.0]
        ground = to_body.T @ [40, 2, 5]
        speed = np.linalg.norm(air)
        for name, expected in (
            ("airspeed", speed), ("alpha", np.arctan2(air[2], air[0])), ("beta", np.arcsin(air[1] / speed)),
            ("climb_rate", -ground[2]), ("track", np.arctan2(ground[1], ground[0])),
            ("flight_path", np.arctan2(-ground[2], np.hypot(*ground[:2]))), ("ground_speed", np.hypot(*ground[:2])),
            ("p_hat", 0.1 / (2 * speed)), ("q_hat", 0.2 / (2 * speed)), ("phi", 0.2), ("theta", 0.1), ("psi", 0.6),
            ("nz", 0.0),
        ):  # fmt: skip
            self.assertAlmostEqual(v[name], expected, places=12, msg=name)

    def test_rates_of_air_angles_against_differences_along_a_flight(self) -> None:
        tarn = sample("tarn")
        u = tarn.default_inputs()
        u[:3] = [5.0, 3.0, -1.0]
        state = {"power_left": 0.4, "power_right": 0.2}
        x = tarn.state(
            position=(0, 0, 800),
            velocity=(60, 3, 5),
            attitude=(0.2, 0.1, 0.6),
            rates=(0.1, 0.05, -0.1),
            functions=state,
        )
        plant = tarn.plant("air")
        z = plant.from_state(x, u)
        rates = plant.evaluate(0.0, z, u)[0]
        from dravik.kernel.program import EVERYTHING
        from dravik.motion.equations import evaluate

        dx = np.empty(len(x))
        evaluate(tarn.program, tarn.workspace(), 0.0, x, u, dx, False, EVERYTHING)
        h = 1e-5
        ahead, behind = plant.from_state(x + h * dx, u), plant.from_state(x - h * dx, u)
        np.testing.assert_allclose(rates, (ahead - behind) / (2 * h), rtol=2e-7, atol=1e-6)

    def test_charts_and_states_go_both_ways(self) -> None:
        tarn = sample("tarn")
        u = tarn.default_inputs()
        u[:3] = [5.0, -3.0, 2.0]
        x = tarn.state(position=(1, 2, 300), velocity=(55, -4, 6), attitude=(0.4, -0.3, 2.0), rates=(0.1, 0.2, 0.3))
        for coordinates in ("air", "body"):
            plant = tarn.plant(coordinates)
            z = plant.from_state(x, u)
            back = np.empty(len(x))
            state_from_minimal(tarn.program, plant.workspace, 0.0, z, u, plant.kind, back)
            np.testing.assert_allclose(back, x, atol=1e-12)

    def test_no_speed_no_noise(self) -> None:
        tarn = sample("tarn")
        x = tarn.state(position=(0, 0, 100), velocity=(0, 0, 0))
        values = tarn.values(x, tarn.default_inputs())
        self.assertTrue(all(np.isfinite(list(values.values()))))
        self.assertEqual((values["alpha"], values["beta"], values["p_hat"]), (0.0, 0.0, 0.0))


if __name__ == "__main__":
    unittest.main()
