"""A rate limit among the nonlinearities, a linear system as a device, the stick of a task."""

import math
import tempfile
import unittest
from pathlib import Path

import numpy as np

import dravik as dv
from dravik.errors import DravikError
from dravik.handling import fly_task
from dravik.loops import (
    Nonlinearity,
    assign_roots,
    law_of_regulator,
    limit_cycles,
    margins,
    optimal_outputs,
)
from dravik.systems import LinearSystem
from tests.test_cli import run

TARN = dv.sample("tarn")


def fundamental(share: float) -> complex:
    """Return the gain of a rate limit, by running a sine through it."""
    dt = 2.0 * math.pi / 20000
    t = np.arange(6 * 20000) * dt
    y = Nonlinearity("rate limit", share).values(np.sin(t), dt)
    last = slice(-20000, None)
    return complex(np.sum(y[last] * (np.sin(t[last]) + 1j * np.cos(t[last]))) * dt / math.pi)


class RateLimitTest(unittest.TestCase):
    def test_its_gain_against_a_sine_run_through_it(self) -> None:
        limited = Nonlinearity("rate limit", 1.0)
        for share in (0.95, 0.7, 0.55, 0.5, 0.3):  # size over amplitude times frequency: saturated from 0.537 downwards
            self.assertLess(abs(limited.gain(2.0, 0.5 / share) - fundamental(share)), 2e-4)
        self.assertEqual(limited.gain(2.0, 0.49), 1.0)
        # Hanke: fully saturated a triangle, of 4/pi times share at acos(pi/2 share)
        full = limited.gain(1.0, 5.0)
        self.assertAlmostEqual(abs(full), 0.8 / math.pi, places=12)
        self.assertAlmostEqual(-float(np.angle(full)), math.acos(0.1 * math.pi), places=12)

    def test_where_it_delays_by_an_angle(self) -> None:
        limited = Nonlinearity("rate limit", 0.4)
        for lag in (5.0, 20.0, 45.0, 80.0):
            w = limited.lag_frequency(0.1, f"{lag} deg")
            self.assertAlmostEqual(-math.degrees(float(np.angle(limited.gain(0.1, w)))), lag, places=7)
        w = limited.lag_frequency(0.1, "90 deg")
        self.assertAlmostEqual(-math.degrees(float(np.angle(limited.gain(0.1, w)))), 0.99 * 90.0, places=6)
        for what, words in (
            (lambda: limited.lag_frequency(0.1, "91 deg"), "0 to 90 deg"), (lambda: limited.gain(1.0), "has no frequency"),
            (lambda: Nonlinearity("limit", 1.0).lag_frequency(1.0, 0.1), "a rate limit"),
        ):  # fmt: skip
            with self.assertRaisesRegex(DravikError, words):
                what()

    def test_its_cycle_parts_what_decays_from_what_diverges(self) -> None:
        plant = LinearSystem.of_roots("y", "u", poles=[0.6, -4.0], gain=9.0)
        self.assertTrue(margins(plant).closes)
        cycle = limit_cycles(plant, Nonlinearity("rate limit", 1.0))[0]
        self.assertFalse(cycle.is_stable)
        limited, dt, ends = Nonlinearity("rate limit", 1.0), 1e-3, []
        for factor in (0.4, 1.1):  # a loop that filters little: the prediction is good to a factor of two
            # begun on the cycle: the plant's state of a sine that comes through the limit
            gain, w = limited.gain(factor * cycle.amplitude, cycle.frequency), cycle.frequency
            state = np.linalg.solve(1j * w * np.eye(2) - plant.A, plant.B[:, 0]) * gain * factor * cycle.amplitude
            x, now = state.imag.copy(), float((gain * factor * cycle.amplitude).imag)
            for _ in range(40000):
                now = limited.after(-float(plant.C[0] @ x), now, dt)
                x = x + dt * (plant.A @ x + plant.B[:, 0] * now)
                if abs(x).max() > 1e3:
                    break
            ends.append(float(abs(x).max()))
        self.assertLess(ends[0], 1e-3)
        self.assertGreater(ends[1], 1e3)


class SystemDeviceTest(unittest.TestCase):
    def test_a_damper_as_a_system_is_the_damper_by_hand(self) -> None:
        point = dv.trim(TARN, airspeed="62 m/s", altitude="300 m")
        washed = dv.LinearSystem.filtered("rudder", "r", [0.5, 0.0], [1.0, 0.4])

        class Hand:
            rate, memory, before = 50.0, 0.0, 0.0

            def update(self, t: float, signals: dict[str, float]) -> dict[str, float]:
                # 0.5 s/(s + 0.4) by the trapezoidal rule, written out
                c = 2.0 * 50.0
                self.memory = (0.5 * c * (signals["r"] - self.before) + (c - 0.4) * self.memory) / (c + 0.4)
                self.before = signals["r"]
                return {"rudder": self.memory}

        kick = {"rudder": dv.doublet("2 deg", at=0.5, width=1)}
        runs = [dv.fly(TARN, start=point, duration=8, devices=[device], controls={"aileron": kick["rudder"]})
                for device in (dv.SystemDevice(washed, 50.0, about=point), Hand())]  # type: ignore[list-item]  # fmt: skip
        self.assertGreater(float(abs(runs[0]["rudder"]).max()), 1e-4)
        self.assertLess(float(abs(runs[0]["rudder"] - runs[1]["rudder"]).max()), 1e-12)

    def test_about_a_point_an_input_keeps_its_trimmed_value(self) -> None:
        point = dv.trim(TARN, airspeed="62 m/s", altitude="300 m")
        hold = dv.LinearSystem.gain("throttle", {"airspeed": -0.05})
        run_ = dv.fly(TARN, start=point, duration=2, devices=[dv.SystemDevice(hold, 20.0, about=point)])
        self.assertLess(float(abs(run_["throttle"] - point["throttle"]).max()), 1e-9)
        sampled = dv.LinearSystem.of_roots("elevator", "q", poles=[0.5], gain=0.1, sample_time=0.02)
        self.assertEqual(dv.SystemDevice(sampled).rate, 50.0)
        for what, words in (
            (lambda: dv.SystemDevice(hold), "has no rate"), (lambda: dv.SystemDevice(sampled, 10.0), "expected 50 Hz"),
        ):  # fmt: skip
            with self.assertRaisesRegex(DravikError, words):
                what()


class RegulatorLawTest(unittest.TestCase):
    def test_optimal_gains_as_a_law_close_the_loop_they_were_made_for(self) -> None:
        point = dv.trim(TARN, airspeed="62 m/s", altitude="300 m")
        states = ["beta", "p", "r", "phi", "aileron", "rudder", "rudder_rate"]
        model = dv.linearise(TARN, point).part(states=states, inputs=["aileron_increment", "rudder_increment"])
        found = optimal_outputs(
            model, ["beta", "p", "r", "phi", "phi_integral"], integrals=["phi"],
            worst={"phi": "5 deg", "beta": "2 deg", "phi_integral": 0.3},
            use={"aileron_increment": "10 deg", "rudder_increment": "10 deg"},
        )  # fmt: skip
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "law.toml"
            file.write_text(law_of_regulator(found, point))
            craft = TARN.with_law(*dv.load_law(file))
        again = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
        self.assertAlmostEqual(again["rudder"], point["rudder"], places=9)
        whole = dv.linearise(craft, again)
        more = [n for n in whole.states if n.startswith(("aileron_feedback", "rudder_feedback"))]
        roots = np.sort_complex(np.linalg.eigvals(whole.part(states=[*states, *more]).A))
        # the law integrates phi once for each effector: one of the two integrals is a root at rest more
        own = np.sort_complex(np.append(found.poles, 0.0))
        self.assertLess(float(np.max(np.abs(roots - own))), 1e-6)
        self.assertEqual(craft.parameters["rudder_by_r"], -found.gains[1, 2])
        for regulator, words in ((assign_roots(LinearSystem.of_roots("y", "u", poles=[-1.0]), [-2.0]), "moves u"),):
            with self.assertRaisesRegex(DravikError, words):
                law_of_regulator(regulator, point)


class StickTest(unittest.TestCase):
    def test_a_parameter_that_is_misspelt_is_named(self) -> None:
        craft = dv.sample("tarn", laws=["pitch_hold"])
        session = dv.Session(craft, start=dv.trim(craft, airspeed="62 m/s", altitude="300 m"))
        with self.assertRaisesRegex(DravikError, "no input 'pitch_hold_gian'.*did you mean pitch_hold_gain"):
            session.set(pitch_hold_gian=1.0)

    def test_the_stick_of_a_task_is_the_one_that_is_named(self) -> None:
        point = dv.trim(TARN, airspeed="62 m/s", altitude="300 m")
        usual = fly_task(TARN, point, "bank", duration=12.0)
        feet = fly_task(TARN, point, "bank", duration=12.0, stick="pedal", bandwidth=1.0)
        self.assertIn("roll_stick", usual.run.names)
        self.assertIn("pedal", feet.run.names)
        self.assertNotIn("roll_stick", feet.run.names)
        with self.assertRaisesRegex(DravikError, "a pilot cannot hold phi with throttle"):
            fly_task(TARN, point, "bank", stick="throttle")
        words = ["task", "tarn", "--airspeed", "62 m/s", "--altitude", "300 m", "--task", "bank", "--duration", "12"]
        self.assertEqual(run(*words, "--stick", "pedal", "--bandwidth", "1")[0], 0)
        self.assertIn("no input 'pedla'", run(*words, "--stick", "pedla")[2])


if __name__ == "__main__":
    unittest.main()
