"""Trims as statements: any equations, anything free; and any plant by the same search."""

import dataclasses
import math
import tempfile
import unittest
from collections.abc import Mapping
from pathlib import Path

import numba
import numpy as np
from scipy.integrate import solve_ivp

import dravik as dv
from dravik.errors import DravikError, TrimError
from dravik.plants import Plant
from dravik.report.figures import figure_histories
from tests.support import DEG

TARN = dv.sample("tarn")
RATES = {f"{n}_dot": 0.0 for n in ("airspeed", "alpha", "beta", "p", "q", "r")}
STICKS = ["pitch_stick", "roll_stick", "pedal", "throttle"]
START = {"airspeed": "62 m/s", "altitude": "300 m", "alpha": "4 deg", "theta": "4 deg", "throttle": 0.4}


class StatementTest(unittest.TestCase):
    def test_the_named_condition_and_the_same_in_equations(self) -> None:
        named = dv.trim(TARN, airspeed="62 m/s", altitude="300 m", flight_path="2 deg")
        said = dv.Statement.of(
            TARN, equations={**RATES, "flight_path": "2 deg"}, free=["alpha", "theta", "phi", *STICKS], start=START
        )
        found = dv.trim(TARN, said)
        np.testing.assert_allclose(found.state, named.state, rtol=1e-8, atol=1e-9)
        np.testing.assert_allclose(found.inputs, named.inputs, rtol=1e-7, atol=1e-9)
        self.assertTrue(dv.prove_trim(found, duration=20).holds)

    def test_a_level_turn_is_a_statement(self) -> None:
        for bank in (30.0, -45.0):
            turn = dv.Statement.of(
                TARN, equations={**RATES, "rate of phi": 0.0, "rate of theta": 0.0, "flight_path": 0.0, "ny": 0.0},
                free=["alpha", "beta", "theta", "p", "q", "r", *STICKS], start={**START, "phi": f"{bank} deg"},
            )  # fmt: skip
            point = dv.trim(TARN, turn)
            self.assertAlmostEqual(point["phi"], bank * DEG, places=12)
            # no side force: the lift's level part turns the path, m V psi' = m g tan(bank), but for the slope of the body axes
            rate = (point["q"] * math.sin(point["phi"]) + point["r"] * math.cos(point["phi"])) / math.cos(
                point["theta"]
            )
            self.assertAlmostEqual(rate * 62.0 / 9.80665 / math.tan(bank * DEG), 1.0, delta=0.01)
            run = dv.fly(TARN.over_no_ground(), start=point, duration=20)
            self.assertLess(float(np.ptp(run["altitude"])), 0.05)
            self.assertAlmostEqual(float(run["psi"][500]), 5.0 * rate, delta=1e-4)

    def test_changed_statements(self) -> None:
        level = dv.steady(TARN, airspeed="62 m/s", altitude="300 m")
        climbing = level.without("flight_path").holding(TARN, {"climb_rate": "2 m/s"})
        self.assertAlmostEqual(dv.trim(TARN, climbing)["climb_rate"], 2.0, places=8)
        # the speed that makes alpha four degrees
        slow = level.freeing(TARN, "airspeed").holding(TARN, {"alpha": "4 deg"})
        point = dv.trim(TARN, slow)
        self.assertAlmostEqual(point["alpha"], 4 * DEG, places=9)
        self.assertNotAlmostEqual(point["airspeed"], 62.0, places=1)
        # a signal held equal to another
        lazy = dv.trim(TARN, level.without("flight_path").holding(TARN, {"theta": "alpha"}))
        self.assertAlmostEqual(lazy["flight_path"], 0.0, places=8)
        flap = next(f for f in level.freeing(TARN, "flap").free if f.name == "flap")
        self.assertEqual((flap.low, flap.high), TARN.limits["flap"])
        limited = level.freeing(TARN, dv.Free("throttle", 0.3, low=0.0, high=0.2))
        with self.assertRaisesRegex(TrimError, "throttle at its upper stop|power_left at"):
            dv.trim(TARN, limited)

    def test_what_determines_nothing_is_explained_before_it_is_solved(self) -> None:
        level = dv.steady(TARN, airspeed="62 m/s", altitude="300 m")
        for change, words in (
            (lambda: level.holding(TARN, {"alpha": 0.1}), r"17 equations for 16 unknowns: 1 too many.*try: free an input|\d+ equations for \d+ unknowns: 1 too many"),
            (lambda: level.without("flight_path"), r"1 too few"),
            (lambda: level.freeing(TARN, "flap_lever").holding(TARN, {"mass": 9000.0}), "nothing that is free moves mass"),
            (lambda: level.freeing(TARN, "north").holding(TARN, {"alpha": 0.06}), "north moves none of the equations"),
            (lambda: level.freeing(TARN, "airspeed").holding(TARN, {"rate of altitude": 0.0}), "do not tell .* apart"),
            (lambda: level.holding(TARN, {"flight_path": 0.1}).freeing(TARN, "airspeed"), "flight_path is held twice"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                dv.trim(TARN, change())
        for call, words in (
            (lambda: level.holding(TARN, {"alhpa": 0.1}), "did you mean alpha"),
            (lambda: level.holding(TARN, {"rate of alhpa": 0.1}), "no state 'alhpa'"),
            (lambda: level.without("alpha_dott"), "no equation of the trim"),
            (lambda: dv.Statement.of(TARN, equations={}, free=["thottle"]), "did you mean throttle"),
            (lambda: dv.Statement.of(TARN, equations={}, free=[], coordinates="wind"), "'air' or 'body'"),
            (lambda: dv.trim(TARN, level, airspeed=60), "a statement cannot be given beside airspeed"),
            (lambda: dv.trim(dv.sample("pika"), level), "of another aircraft"),
            (lambda: dv.trim(TARN, altitude=300), "the trim has no speed"),
            (lambda: dv.trim(TARN, airspeed=62, altitude=300, hdg=3), "a trim takes no 'hdg'"),  # type: ignore[call-arg]
        ):
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                call()


def swing(**more: object) -> Plant:
    """Return a pendulum with a damper, driven at its joint; its height is an output."""
    return dv.plant(
        lambda t, x, u: [x[1], -9.81 * math.sin(x[0]) - 0.4 * x[1] + u[0]],
        states={"angle": "rad", "rate": "rad/s"}, inputs=["torque"], outputs={"height": "m"},
        output_function=lambda t, x, u: [1.0 - math.cos(x[0])], **more,  # type: ignore[arg-type]
    )  # fmt: skip


class PlantTest(unittest.TestCase):
    def test_held_outputs_and_bounds(self) -> None:
        held = dv.trim_plant(
            swing(), state={"angle": 0.3}, free=["angle", "torque"], steady=["rate"], hold={"height": 0.1}
        )
        self.assertAlmostEqual(float(held.state[0]), math.acos(0.9), places=9)
        self.assertAlmostEqual(float(held.inputs[0]), 9.81 * math.sin(math.acos(0.9)), places=8)
        weak = swing(bounds={"torque": (-1.0, 1.0)})
        with self.assertRaisesRegex(TrimError, "no equilibrium: the rate of rate remains at -|height remains at"):
            dv.trim_plant(weak, state={"angle": 0.3}, free=["angle", "torque"], steady=["rate"], hold={"height": 0.1})
        with self.assertRaisesRegex(TrimError, "nothing that is free moves angle_dot"):
            dv.trim_plant(swing(), state={"rate": 1.0}, free=["torque"])
        with self.assertRaisesRegex(DravikError, "no output 'heigth'"):
            dv.trim_plant(swing(), free=["angle"], hold={"heigth": 0.1})

    def test_the_words_of_statements(self) -> None:
        # a turning pendulum: the rate of the angle is held, limits are one's own, quantities have units
        turning = dv.trim_plant(
            swing(), state={"angle": "30 deg"}, free=[dv.Free("torque", low=0.0), "rate"], hold={"rate of angle": 0.5}
        )
        self.assertAlmostEqual(float(turning.state[1]), 0.5, places=9)
        self.assertAlmostEqual(float(turning.inputs[0]), 9.81 * 0.5 + 0.2, places=8)
        # an output that equals another
        both = dv.plant(
            lambda t, x, u: [u[0] - x[0], u[1] - x[1]], states=["a", "b"], inputs=["p", "q"], outputs=["one", "two"],
            output_function=lambda t, x, u: [2.0 * x[0], x[1] + 1.0],
            jacobian=lambda t, x, u: (-np.eye(2), np.eye(2), np.diag([2.0, 1.0]), np.zeros((2, 2))),
        )  # fmt: skip
        for plant in (both, dataclasses.replace(both, jacobian=None)):
            equal = dv.trim_plant(
                plant, state={"b": 4.0}, inputs={"q": 4.0}, free=["a", "p"], steady=["a"], hold={"one": "two"}
            )
            np.testing.assert_allclose([*equal.state, *equal.inputs], [2.5, 4.0, 2.5, 4.0], atol=1e-9)
        for asked, words in (
            ({"free": ["torque"], "hold": {"rate of speed": 1}}, "no state 'speed'"), ({"free": ["turque"]}, "did you mean torque"),
            ({"free": ["torque"], "inputs": {"torque": "3 N"}}, "the plant names none"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                dv.trim_plant(swing(), **asked)  # type: ignore[arg-type]

    def test_an_aircraft_is_a_plant_like_any_other(self) -> None:
        point = dv.trim(TARN, airspeed="62 m/s", altitude="300 m")
        plant = TARN.plant()
        self.assertIsInstance(plant, Plant)
        self.assertIsInstance(swing(), Plant)
        z = dict(zip(plant.state_names, plant.from_state(point.state, point.inputs).tolist(), strict=True))
        start = {**z, "alpha": z["alpha"] + 0.01}
        states = [n for n in TARN.function_states if not n.startswith(("tyre", "slide"))]
        found = dv.trim_plant(
            plant, state=start, inputs=dict(zip(TARN.input_names, point.inputs.tolist(), strict=True)),
            free=["alpha", "theta", "phi", *STICKS, *states],
            steady=["airspeed", "alpha", "beta", "p", "q", "r", *states], hold={"flight_path": 0.0},
        )  # fmt: skip
        np.testing.assert_allclose(plant.to_state(found.state, found.inputs), point.state, rtol=1e-7, atol=1e-8)
        mine, theirs = (
            dv.linearise(TARN, point, states=plant.state_names),
            dv.linearise_plant(plant, found.state, found.inputs),
        )
        np.testing.assert_allclose(theirs.A, mine.A, rtol=1e-5, atol=1e-6)

    def test_slopes_by_its_own_jacobian_and_at_bounds_and_bends(self) -> None:
        matrices = (
            np.array([[0.0, 1.0], [-5.0, -0.4]]),
            np.array([[0.0], [1.0]]),
            np.array([[0.25, 0.0]]),
            np.zeros((1, 1)),
        )
        model = dv.linearise_plant(swing(jacobian=lambda t, x, u: matrices), [0.2, 0.0])
        np.testing.assert_array_equal(model.A, matrices[0])
        self.assertEqual(model.units["height"], "m")
        counted = []

        def exact(t: float, x: np.ndarray, u: np.ndarray) -> tuple[np.ndarray, ...]:
            counted.append(t)
            slope = np.array([[0.0, 1.0], [-9.81 * math.cos(x[0]), -0.4]])
            return slope, np.array([[0.0], [1.0]]), np.array([[math.sin(x[0]), 0.0]]), np.zeros((1, 1))

        asked = {"state": {"angle": 0.3}, "free": ["angle", "torque"], "steady": ["rate"], "hold": {"height": 0.1}}
        scaled = {"scales": {"torque": 4.0, "height": 0.5}}
        own, same = (dv.trim_plant(swing(**more, **scaled), **asked) for more in ({"jacobian": exact}, {}))  # type: ignore[arg-type]
        np.testing.assert_allclose([*own.state, *own.inputs], [*same.state, *same.inputs], atol=1e-9)
        self.assertGreater(len(counted), 1)
        bent = dv.plant(
            lambda t, x, u: [-x[0] + max(u[0], 0.0) + (u[1] if u[1] < 1.0 else 7.0 * u[1])], states=["x"],
            inputs=["bends", "stops"], bounds={"stops": (0.0, 1.0)},
        )  # fmt: skip
        model = dv.linearise_plant(bent, [0.0], [0.0, 1.0 - 1e-12])
        self.assertEqual([(k.row, k.column) for k in model.kinks[:1]], [("x", "bends")])
        self.assertAlmostEqual(float(model.B[0, 0]), 0.5, places=6)
        self.assertAlmostEqual(float(model.B[0, 1]), 1.0, places=6)  # from below: the bound is not crossed

    def test_flown_proved_recorded_and_drawn(self) -> None:
        plant = swing()
        held = dv.trim_plant(plant, state={"angle": 0.3}, free=["torque"])
        self.assertTrue(dv.prove_trim(held, duration=10).holds)
        loose = dataclasses.replace(held, inputs=held.inputs + 0.01)
        self.assertFalse(dv.prove_trim(loose, duration=10).holds)
        proof = dv.prove_linear(held, signals=["angle", "height"])
        self.assertTrue(proof.is_complete and proof.worst < 0.01)

        push = dv.pulse(2.0, at=0.5, width=1.0)
        run = dv.fly(plant, start=held, duration=4, controls={"torque": push})
        exact = solve_ivp(
            lambda t, x: plant.evaluate(t, x, held.inputs + 2.0 * (0.5 <= t < 1.5))[0], (0, 4), held.state, method="DOP853",
            rtol=1e-10, atol=1e-12, max_step=0.01, t_eval=run.time,
        )  # fmt: skip
        np.testing.assert_allclose(run["angle"], exact.y[0], atol=1e-6)
        np.testing.assert_allclose(run["height"], 1.0 - np.cos(run["angle"]), atol=1e-12)
        self.assertEqual((run.units["rate"], run.units["height"]), ("rad/s", "m"))

        rising = dv.fly(plant, start=held, duration=2, controls={"torque": dv.ramp(2.0, at=0.0, width=2.0)})
        exact = solve_ivp(
            lambda t, x: plant.evaluate(t, x, held.inputs + t)[0], (0, 2), held.state, method="DOP853", rtol=1e-12,
            atol=1e-14, t_eval=rising.time,
        )  # fmt: skip
        np.testing.assert_allclose(rising["angle"], exact.y[0], atol=1e-9)

        class Brake:
            rate = 20.0

            def update(self, t: float, signals: Mapping[str, float]) -> Mapping[str, float]:
                return {"torque": float(held.inputs[0]) - 3.0 * signals["rate"]}

        with tempfile.TemporaryDirectory() as folder:
            target = Path(folder) / "swing.csv"
            start = dv.Start(np.array([0.6, 0.0]), held.inputs)
            dv.fly(plant, start=start, duration=2, devices=[Brake()], save=target)
            back = dv.read_recording(target)
            end = back.metadata["end"]
            on = dv.Start(
                np.array([*end["state"].values()]),
                np.array([*end["inputs"].values()]),
                end["time_s"],
                devices=end["devices"],
            )
            rest = dv.fly(plant, start=on, duration=2, devices=[Brake()])
            whole = dv.fly(plant, start=start, duration=4, devices=[Brake()])
            np.testing.assert_array_equal(rest.values, whole.values[200:])
            self.assertGreater(len(figure_histories(back, ["angle", "torque"]).axes), 1)
        session = dv.Session(plant, start=start, devices=[Brake()])
        session.step(1.0)
        saved = session.save()
        session.step(3.0)
        later = session["angle"]
        session.restore(saved)
        session.step(3.0)
        self.assertEqual((session["angle"], later), (whole["angle"][-1],) * 2)

    def test_what_a_plant_cannot(self) -> None:
        start = dv.Start(np.array([0.3, 0.0]), np.zeros(1))
        wild = dv.plant(lambda t, x, u: [x[0] ** 3 * 1e200, 0.0], states=["a", "b"])
        for call, words in (
            (lambda: dv.fly(swing(), start=start, duration=1, turbulence=dv.Turbulence()), "turbulence needs an aircraft"),
            (lambda: dv.fly(swing(), start=start, duration=1, method="adaptive"), "the adaptive method flies aircraft"),
            (lambda: dv.fly(swing(), start=start, duration=1, record=["angel"]), "did you mean angle"),
            (lambda: dv.fly(swing(), start=start, duration=1, controls={"torqe": dv.step(1.0)}), "did you mean torque"),
            (lambda: dv.fly(wild, start=dv.Start(np.array([1e60, 0.0]), np.zeros(0)), duration=1), "the rate of a is not finite"),
            (lambda: dv.fly("swing", start=start, duration=1), "a str cannot be flown"),  # type: ignore[arg-type]
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                call()

    def test_a_compiled_function_is_called_compiled(self) -> None:
        @numba.njit
        def rates(t: float, x: np.ndarray, u: np.ndarray) -> np.ndarray:
            return np.array([x[1], -9.81 * np.sin(x[0]) - 0.4 * x[1] + u[0]])

        plant = dv.plant(rates, states=["angle", "rate"], inputs=["torque"])
        run = dv.fly(plant, start=dv.Start(np.array([0.3, 0.0]), np.zeros(1)), duration=2)
        same = dv.fly(swing(), start=dv.Start(np.array([0.3, 0.0]), np.zeros(1)), duration=2)
        np.testing.assert_allclose(run["angle"], same["angle"], atol=1e-13)
        self.assertEqual(len(rates.signatures), 1)


if __name__ == "__main__":
    unittest.main()
