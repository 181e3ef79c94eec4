"""Everyday questions at their edges: slopes where a table ends, steps that are too long, runs cut short, air at rest."""

import math
import unittest

import numpy as np

import dravik as dv
from dravik.aero import Coefficients, read_coefficients
from dravik.aircraft import sample_path
from dravik.linear import longest_step
from dravik.trimming import on_ground
from tests.support import DEG, craft


class EdgeTest(unittest.TestCase):
    def test_slopes_at_the_ends_of_a_table_are_those_inside(self) -> None:
        tarn = read_coefficients(sample_path("tarn") / "aircraft.toml")
        for by, table in (("alpha", "CL_static"), ("beta", "Cn_static"), ("elevator", "Cm_elevator")):
            name = table.split("_")[0]
            axis = next(a for a in tarn.tables[table].axes if a.name == by)
            for end, inner in ((axis.values[0], 1e-4), (axis.values[-1], -1e-4)):
                at = float(tarn.slopes(by, **{by: float(end)})[name])
                beside = float(tarn.slopes(by, step=5e-5, **{by: float(end) + inner})[name])
                self.assertAlmostEqual(at, beside, delta=0.05 * abs(beside) + 2e-3, msg=f"{name} by {by} at {end}")

    def test_a_control_measured_on_one_side_says_so(self) -> None:
        tarn = read_coefficients(sample_path("tarn") / "aircraft.toml")
        self.assertEqual(tarn.one_sided("flap"), (0.0, 35 * DEG))
        self.assertIsNone(tarn.one_sided("elevator"))
        self.assertIsInstance(tarn, Coefficients)


class StepTest(unittest.TestCase):
    def test_the_longest_step_is_where_the_method_begins_to_diverge(self) -> None:
        # the classical Runge-Kutta method holds real roots up to 2.7853 over the step
        body = craft(controls={"fast": {"lag": 0.002}})
        x, u = body.state(position=(0, 0, 100.0), velocity=(20.0, 0, 0)), body.default_inputs()
        found = longest_step(body, x, u)
        assert found is not None
        self.assertEqual(found[0], "fast")
        self.assertAlmostEqual(found[1], 2.7853 * 0.002, delta=2e-5)
        for dt, calm in ((0.0055, True), (0.0057, False)):
            run = dv.fly(
                body, start=dv.Start(x, u), duration=200 * dt, dt=dt, controls={"fast": dv.step("1e-4 deg", at=0)},
                record=["fast"],
            )  # fmt: skip
            self.assertEqual(float(np.abs(run["fast"]).max()) < 3e-4 * DEG, calm, dt)
            self.assertEqual(any("too long for fast" in e.text for e in run.events), not calm)

    def test_the_fastest_root_need_not_limit_the_step(self) -> None:
        # the method holds a root of little damping farther out than a real one
        slow = {"frequency": "1000 rad/s", "damping": 0.2}
        body = craft(controls={"swings": slow, "lags": {"lag": 1.0 / 980.0}})
        found = longest_step(body, body.state(position=(0, 0, 100.0), velocity=(20.0, 0, 0)), body.default_inputs())
        assert found is not None
        self.assertEqual(found[0], "lags")
        self.assertAlmostEqual(found[1], 2.7853 / 980.0, delta=1e-5)

    def test_a_duration_between_steps_is_said(self) -> None:
        body = craft()
        begun = dv.Start(body.state(position=(0, 0, 100.0), velocity=(20.0, 0, 0)), body.default_inputs())
        run = dv.fly(body, start=begun, duration=0.105, dt=0.02)
        self.assertTrue(any("0.105 s is no whole number of steps of 0.02 s" in e.text for e in run.events))
        self.assertEqual(dv.fly(body, start=begun, duration=0.1, dt=0.02).events, [])


class AtRestTest(unittest.TestCase):
    def test_angles_of_air_that_hardly_flows_are_no_extremes(self) -> None:
        pika = dv.sample("pika").with_environment(ground=0.0)
        standing = on_ground(pika)
        run = dv.fly(
            pika, start=standing, duration=3, controls={"wind_up": dv.pulse(0.3, at=0.5, width=0.5)},
            record=["alpha", "airspeed"],
        )  # fmt: skip
        self.assertGreater(float(np.abs(run["alpha"]).max()), 30 * DEG)
        self.assertTrue(math.isfinite(float(run.flowing("airspeed")[0])))
        moving = run["airspeed"] > 0.15 * run["airspeed"].max()
        np.testing.assert_array_equal(run.flowing("alpha"), run["alpha"][moving])


if __name__ == "__main__":
    unittest.main()
