"""Answers of linear models in time and frequency, and modes as motion: against closed forms of first and second order."""

import json
import math
import tempfile
import unittest
from pathlib import Path

import numpy as np

import dravik as dv
from dravik.errors import DravikError
from dravik.report import figure_phasors, figure_responses
from dravik.systems import frequency_response, time_response
from tests.test_cli import run

TARN = dv.sample("tarn")
POINT = dv.trim(TARN, airspeed="62 m/s", altitude="300 m")
MODEL = dv.linearise(TARN, POINT)


def second_order(damping: float, frequency: float) -> dv.LinearSystem:
    return dv.LinearSystem.filtered("y", "u", [frequency**2], [1.0, 2.0 * damping * frequency, frequency**2])


class AnswerTest(unittest.TestCase):
    def test_second_order_by_its_closed_form(self) -> None:
        for damping, frequency in ((0.2, 3.0), (0.5, 0.4), (0.8, 20.0)):
            with self.subTest(damping=damping):
                system = second_order(damping, frequency)
                step = time_response(system, "y", "u")
                damped = frequency * math.sqrt(1.0 - damping**2)
                envelope = np.exp(-damping * frequency * step.time) / math.sqrt(1.0 - damping**2)
                closed = 1.0 - envelope * np.sin(damped * step.time + math.acos(damping))
                np.testing.assert_allclose(step.values, closed, atol=1e-9)
                found = step.metrics()
                self.assertAlmostEqual(found.end, 1.0, places=9)
                over = math.exp(-math.pi * damping / math.sqrt(1.0 - damping**2))
                self.assertAlmostEqual(found.overshoot, over, delta=2e-3)
                self.assertAlmostEqual(found.peak_time * damped / math.pi, 1.0, delta=0.01)
                inside = np.abs(step.values[step.time > found.settling] - 1.0)
                self.assertLess(float(inside.max()), 0.0202)
                impulse = time_response(system, "y", "u", kind="impulse")
                np.testing.assert_allclose(
                    impulse.values,
                    frequency**2 / damped * np.exp(-damping * frequency * impulse.time) * np.sin(damped * impulse.time),
                    atol=1e-8 * frequency,
                )
                over_w = frequency_response(system, "y", "u")
                a = 1.0 - 2.0 * damping**2
                self.assertAlmostEqual(
                    over_w.bandwidth() / (frequency * math.sqrt(a + math.sqrt(a**2 + 1.0))), 1.0, delta=1e-3
                )
                if damping < 0.7:
                    gain, at = over_w.peak()
                    self.assertAlmostEqual(gain * 2.0 * damping * math.sqrt(1.0 - damping**2), 1.0, delta=2e-3)
                    self.assertAlmostEqual(at / (frequency * math.sqrt(a)), 1.0, delta=0.02)
                self.assertAlmostEqual(over_w.phase[-1], -math.pi, delta=0.6)

    def test_others(self) -> None:
        lag = dv.LinearSystem.filtered("y", "u", [2.0], [1.0, 2.0])
        sampled = lag.discretised(0.1)
        np.testing.assert_allclose(
            time_response(sampled, "y", "u").values,
            1.0 - np.exp(-0.2 * np.arange(len(time_response(sampled, "y", "u").time))),
            atol=1e-12,
        )
        self.assertAlmostEqual(float(time_response(sampled, "y", "u").time[-1]), 2.5, places=9)
        self.assertAlmostEqual(time_response(lag, "y", "u").metrics().rise, math.log(9.0) / 2.0, delta=1e-4)
        self.assertTrue(math.isnan(time_response(lag, "y", "u").metrics().peak_time))
        growing = dv.LinearSystem.filtered("y", "u", [1.0], [1.0, -1.0])
        for system in (growing, dv.LinearSystem.filtered("y", "u", [1.0], [1.0, 0.0])):
            self.assertTrue(math.isnan(time_response(system, "y", "u", duration="3 s").metrics().rise))
            self.assertTrue(math.isnan(time_response(system, "y", "u", duration="3 s").end))
        self.assertTrue(
            math.isnan(frequency_response(dv.LinearSystem.filtered("y", "u", [1.0], [1.0, 0.0]), "y", "u").bandwidth())
        )
        direct = dv.LinearSystem.filtered("y", "u", [1.0, 1.0], [1.0, 2.0])
        for what, words in (
            (lambda: time_response(direct, "y", "u", kind="impulse"), "begins with an impulse"),
            (lambda: time_response(lag, "y", "u", kind="ramp"), "'step' or 'impulse'"),  # type: ignore[arg-type]
            (lambda: time_response(lag, "y", "u", duration=-1.0), "above zero"),
            (lambda: time_response(lag, "z", "u"), "z"),
            (lambda: figure_responses({}, [("y", "u")]), "channels"),
            (lambda: figure_phasors(dv.LinearModel.of([[-1.0]], states=["x"])), "no mode of the rigid body"),
            (lambda: dv.mode_motion(MODEL, "waltz"), "there is no mode"),
            (lambda: dv.mode_motion(MODEL, "heading, zero root"), "stands still"),
            (
                lambda: dv.mode_motion(
                    MODEL.part(states=["v"] if "v" in MODEL.states else ["beta", "p", "r", "phi"]), "roll"
                ),
                "whole model",
            ),
        ):
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                what()

    def test_a_mode_moves_as_the_model_does(self) -> None:
        # the recording satisfies x' = A x about the steady flight, heading and place included
        for name in ("Dutch roll", "phugoid", "spiral", "roll"):
            motion = dv.mode_motion(MODEL, name)
            t = motion.time
            moved = motion.values[:, 1:] - MODEL.x0 - t[:, None] * MODEL.drift
            step = moved[2:] - moved[:-2]
            rates = step / (t[2:] - t[:-2])[:, None]
            expected = moved[1:-1] @ MODEL.A.T
            size = np.abs(expected).max(axis=0) + 1e-6 * np.abs(expected).max()
            self.assertLess(float((np.abs(rates - expected) / size).max()), 0.02, name)

    def test_command(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            figure, phasors, motion = (str(Path(folder) / n) for n in ("a.png", "p.png", "m.gif"))
            saved = str(Path(folder) / "other.json")
            dv.save_system(dv.linearise(TARN, POINT, outputs=["theta"]), saved)
            code, text, _ = run(
                "response", "tarn", "--airspeed", "62 m/s", "--altitude", "300 m", "--channel", "theta/elevator", "--figure",
                figure, "--phasors", phasors, "--mode", "roll", "--motion", motion, "--beside", saved, "--json",
            )  # fmt: skip
            found = json.loads(text)["channels"]
            self.assertEqual((code, len(found)), (0, 2))
            self.assertAlmostEqual(found[0]["static_gain"], found[1]["static_gain"], places=9)
            for file in (figure, phasors, motion):
                self.assertGreater(Path(file).stat().st_size, 10_000)
        for extra, words in ((["--figure", "x.png"], "no channel"), (["--mode", "roll"], "--mode needs --motion"),
                             (["--channel", "theta"], "OUTPUT/INPUT")):  # fmt: skip
            code, _, told = run("response", "tarn", "--airspeed", "62 m/s", "--altitude", "300 m", *extra)
            self.assertEqual(code, 2)
            self.assertIn(words, told)
