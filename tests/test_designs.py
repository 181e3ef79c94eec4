"""Elements, loops closed one after another, loci and designs of one loop, against closed forms."""

import math
import unittest
from typing import Any

import numpy as np

import dravik as dv
from dravik.errors import DravikError
from dravik.loops import (
    PID,
    ClosedLoops,
    GainTarget,
    gain_for,
    locus_of_roots,
    locus_over_gain,
    margins,
    pid_for,
    pid_options,
    sampled_loop,
    steady_errors,
)
from dravik.loops.elements import lag_compensator, lead_compensator, notch_filter
from tests.test_loops import loop


class ElementTest(unittest.TestCase):
    def test_pid_by_its_formula(self) -> None:
        w = np.array([0.3, 2.0, 25.0])
        s = 1j * w
        for pid in (
            PID(2.0), PID(2.0, integral=0.7), PID(2.0, derivative=0.5, filter_time=0.1),
            PID(-3.0, integral=-0.4, derivative=-0.8, filter_time=0.05, weight=0.6, derivative_weight=0.2),
        ):  # fmt: skip
            d = pid.derivative * s / (pid.filter_time * s + 1.0)
            command = pid.proportional * pid.weight + pid.integral / s + d * pid.derivative_weight
            measured = pid.proportional + pid.integral / s + d
            found = pid.system("u", command="r", measured="y").frequency_response(w)[:, 0]
            np.testing.assert_allclose(found, np.stack([command, -measured], 1), rtol=1e-12)
            np.testing.assert_allclose([pid.at(float(v)) for v in w], measured, rtol=1e-12)
        # the formulas of a law file are the same controller, both weights one
        text = PID(2.0, integral=0.5, derivative=0.3, filter_time=0.1).formulas("u", "r - y")["u"]
        self.assertEqual(text, "2*(r - y) + integral(0.5*(r - y)) + 3*washout(r - y, 0.1)")

    def test_lead_lag_and_notch(self) -> None:
        for angle in (-60.0, 25.0, 70.0):
            near = lead_compensator(math.radians(angle), 3.0).frequency_response([2.7, 3.0, 3.3])[:, 0, 0]
            self.assertAlmostEqual(complex(near[1]), complex(np.exp(1j * math.radians(angle))), places=9)
            # the most of its phase is there
            self.assertTrue(abs(np.angle(near[1])) > abs(np.angle(near[[0, 2]])).max())
        slow = lag_compensator(8.0, 0.2).frequency_response([1e-5, 1e3])[:, 0, 0]
        np.testing.assert_allclose(np.abs(slow), [8.0, 1.0], rtol=1e-3)
        deep = notch_filter(4.0, depth=0.1, width=0.3)
        np.testing.assert_allclose(
            np.abs(deep.frequency_response([1e-3, 4.0, 1e4])[:, 0, 0]), [1.0, 0.1, 1.0], rtol=1e-3
        )
        np.testing.assert_allclose(sorted(deep.poles().real), [-1.2, -1.2], rtol=1e-9)

    def test_a_sampled_loop_by_its_pulse_transfer(self) -> None:
        # 1/s behind a hold of T whose command is lambda T late, and n periods: T ((1 - lambda) z + lambda)/(z^(n+1) (z - 1))
        plant, gain, step = dv.LinearSystem.filtered("y", "u", [1.0], [1.0, 0.0]), -2.0, 0.05
        law = dv.LinearSystem.gain("u", {"y": gain})
        for late in (0.0, 0.3, 1.0, 1.6, 2.0):
            found = sampled_loop(plant, law, step, delay=late * step)
            z = np.exp(1j * np.array([0.5, 6.0, 40.0]) * step)
            n, part = int(late), late - int(late)
            wanted = -gain * step * ((1.0 - part) * z + part) / (z ** (n + 1) * (z - 1.0))
            np.testing.assert_allclose(found.frequency_response([0.5, 6.0, 40.0])[:, 0, 0], wanted, rtol=1e-9)
        # what the continuous look-alike hides: half a period of the hold. 2/s with T = 0.8 is nearly unstable
        self.assertAlmostEqual(margins(sampled_loop(plant, law, 0.8)).gain_up, 2.0 / (2.0 * 0.8), places=9)
        self.assertEqual(margins(loop([2.0], [1.0, 0.0])).gain_up, math.inf)
        with self.assertRaisesRegex(DravikError, "expected the same"):
            sampled_loop(plant, law.with_facts(sample_time=0.1), 0.05)


class ClosingTest(unittest.TestCase):
    PLANT = dv.LinearSystem.of(
        [[-0.8, 0.95, 0.0], [-4.0, -1.1, 0.0], [0.0, 1.0, 0.0]], [[0.0], [-3.0], [0.0]], states=["alpha", "q", "theta"],
        inputs=["elevator"], outputs=["q", "theta"], C=[[0.0, 1.0, 0.0], [0.0, 0.0, 1.0]],
    )  # fmt: skip

    def test_inner_then_outer_is_both_at_once(self) -> None:
        rate, attitude = -0.6, -2.0
        whole = (
            ClosedLoops(self.PLANT)
            .close("damper", dv.LinearSystem.gain("elevator", {"q": -rate, "q_demand": rate}))
            .close("hold", PID(attitude / rate, integral=0.5).system("q_demand", command="wanted", measured="theta"))
        )
        closed = whole.system()
        # by hand: elevator = rate (q_demand - q), q_demand = p (r - theta) + 0.5 x, x' = r - theta
        p = attitude / rate
        a = np.zeros((4, 4))
        a[:3, :3] = self.PLANT.A
        a[:3, 1] += self.PLANT.B[:, 0] * -rate
        a[:3, 2] += self.PLANT.B[:, 0] * rate * -p
        a[:3, 3] += self.PLANT.B[:, 0] * rate * 0.5
        a[3, 2] = -1.0
        np.testing.assert_allclose(np.sort_complex(closed.poles()), np.sort_complex(np.linalg.eigvals(a)), rtol=1e-9)
        self.assertEqual(closed.inputs, ["elevator", "q_demand", "wanted"])
        self.assertAlmostEqual(float(closed.part(inputs=["wanted"], outputs=["theta"]).gains()[0, 0]), 1.0, places=9)
        # without it again it is what it was
        before = ClosedLoops(self.PLANT).close(
            "damper", dv.LinearSystem.gain("elevator", {"q": -rate, "q_demand": rate})
        )
        np.testing.assert_array_equal(whole.without("hold").system().A, before.system().A)
        # return difference of each loop, the other closed: ratio of characteristic polynomials
        for name in ("damper", "hold"):
            others = whole.without(name).system().A
            for w in (0.4, 3.0):
                s = 1j * w
                ratio = np.linalg.det(s * np.eye(4) - a) / np.linalg.det(s * np.eye(len(others)) - others)
                # the integral of the hold goes on where the hold is broken behind it
                ratio = ratio / s if len(others) == 3 else ratio
                back = 1.0 + whole.loop(name).frequency_response([w])[0, 0, 0]
                if name == "hold":
                    self.assertAlmostEqual(abs(ratio / back - 1.0), 0.0, delta=1e-9)
        with self.assertRaisesRegex(DravikError, "closed already"):
            whole.close("hold", PID(1.0).system("elevator", measured="theta"))
        with self.assertRaisesRegex(DravikError, "nothing reads rudder"):
            whole.close("yaw", dv.LinearSystem.gain("rudder", {"q": 1.0}))
        with self.assertRaisesRegex(DravikError, "no loop 'yaw'"):
            whole.without("yaw")

    def test_what_is_left_for_ever(self) -> None:
        for system, kind, step, ramp in (
            (loop([4.0], [1, 3, 1]), 0, 0.2, math.inf), (loop([4.0], [1, 2, 0]), 1, 0.0, 0.5), (loop([1, 1], [1, 0, 0]), 2, 0.0, 0.0),
        ):  # fmt: skip
            found = steady_errors(system)
            self.assertEqual(found.type, kind)
            self.assertAlmostEqual(found.step, step, places=6)
            self.assertTrue(found.ramp == ramp or abs(found.ramp - ramp) < 1e-6)
            # the closed loop's own step and its ramp say the same
            closed = system.looped_with(dv.LinearSystem.gain("u", {"y": 1.0}))
            self.assertAlmostEqual(1.0 - float(closed.gains()[0, 0]), step, places=9)


class LocusTest(unittest.TestCase):
    def test_crossings_against_closed_forms(self) -> None:
        found = locus_over_gain(loop([1.0], [1, 3, 2, 0]))
        (c,) = found.crossings()
        self.assertAlmostEqual(c.gain, 6.0, delta=6e-6)
        self.assertAlmostEqual(c.root.imag, math.sqrt(2.0), places=7)
        self.assertTrue(c.worse)
        # k/(s (s + 2)): damping 1/sqrt k
        for ratio in (0.3, 0.5, 0.8):
            (c,) = locus_over_gain(loop([1.0], [1, 2, 0])).crossings(ratio)
            self.assertAlmostEqual(c.gain, 1.0 / ratio**2, delta=1e-6)
        # conditionally stable: k (s + 1)^2/s^3 comes to rest above k = 1/2
        (c,) = locus_over_gain(loop([1, 2, 1], [1, 0, 0, 0])).crossings()
        self.assertAlmostEqual(c.gain, 0.5, places=7)
        self.assertFalse(c.worse)
        # an unstable plant, stable between two gains: (s - 1)(s/10 + 1)^2 + k = 0
        gains = [
            c.gain for c in locus_over_gain(loop([1.0], np.polymul([1, -1], [0.01, 0.2, 1.0]).tolist())).crossings()
        ]
        np.testing.assert_allclose(gains, [1.0, math.sqrt(81.0) * 1.8], rtol=1e-6)
        # sampled: z - 1 + k leaves the circle at -1
        (c,) = locus_over_gain(
            dv.LinearSystem.filtered("y", "u", [1.0], [1.0, -1.0]).with_facts(sample_time=0.1)
        ).crossings()
        self.assertAlmostEqual(c.gain, 2.0, places=7)

    def test_branches_do_not_change_places(self) -> None:
        rng = np.random.default_rng(3)
        a = rng.normal(size=(8, 8)) - 2.0 * np.eye(8)
        system = dv.LinearSystem.of(a, rng.normal(size=(8, 1)), states=list("abcdefgh"), inputs=["u"], outputs=["y"],
                                    C=rng.normal(size=(1, 8)))  # fmt: skip
        coarse, fine = (locus_over_gain(system, np.geomspace(0.01, 30.0, n).tolist()) for n in (60, 2361))
        same = np.isclose(coarse.gains[-1], fine.gains[-1])
        self.assertTrue(same)
        np.testing.assert_allclose(coarse.roots[-1], fine.roots[-1], rtol=1e-6)
        by_parameter = locus_of_roots(
            lambda k: np.roots([1.0, k, 4.0]).astype(complex), np.linspace(0.1, 3.0, 30).tolist()
        )
        (c,) = by_parameter.crossings(0.5)
        self.assertAlmostEqual(c.gain, 2.0, places=6)
        with self.assertRaisesRegex(DravikError, "do not rise"):
            locus_over_gain(system, [1.0, 1.0])


class PublishedTest(unittest.TestCase):
    """G. F. Franklin, J. D. Powell, A. Emami-Naeini, Feedback Control of Dynamic Systems, 10.3: a large transport.

    From memory; that the matrices give the printed roots, which nothing else ties to them, speaks for it.
    """

    def test_yaw_damper(self) -> None:
        a = [
            [-0.0558, -0.9968, 0.0802, 0.0415],
            [0.598, -0.115, -0.0318, 0.0],
            [-3.05, 0.388, -0.4650, 0.0],
            [0.0, 0.0805, 1.0, 0.0],
        ]
        plant = dv.LinearSystem.of(a, [[0.00729], [-0.475], [0.153], [0.0]], states=["beta", "r", "p", "phi"], inputs=["rudder"],
                                   outputs=["r"], C=[[0.0, 1.0, 0.0, 0.0]])  # fmt: skip
        # r over rudder: -0.475 (s + 0.498)(s + 0.012 +- 0.488j)/((s + 0.0073)(s + 0.563)(s + 0.033 +- 0.947j))
        np.testing.assert_allclose(np.sort(plant.zeros().real), [-0.498, -0.012, -0.012], atol=5.1e-4)
        self.assertAlmostEqual(float(plant.zeros().imag.max()), 0.488, delta=5e-4)
        poles = plant.poles()
        np.testing.assert_allclose(np.sort(poles.real), [-0.563, -0.033, -0.033, -0.0073], atol=5.1e-4)
        self.assertAlmostEqual(float(poles.imag.max()), 0.947, delta=5e-4)
        # with its actuator 10/(s + 10) and negative rudder for positive rate: a gain damps the Dutch roll, and the spiral
        damped = dv.LinearSystem.filtered("rudder", "asked", [10.0], [1.0, 10.0]).followed_by(plant)
        locus = locus_over_gain(damped.with_facts(C=-damped.C))
        first = locus.crossings(0.35)[0]
        self.assertFalse(first.worse)
        self.assertAlmostEqual(-first.root.real / abs(first.root), 0.35, places=9)

    def test_pitch_damper_with_an_attitude_loop_around_it(self) -> None:
        a = [[-0.00643, 0.0263, 0.0, -32.2, 0.0], [-0.0941, -0.624, 820.0, 0.0, 0.0], [-0.000222, -0.00153, -0.668, 0.0, 0.0],
             [0.0, 0.0, 1.0, 0.0, 0.0], [0.0, -1.0, 0.0, 830.0, 0.0]]  # fmt: skip
        names = ["u", "w", "q", "theta", "h"]
        plant = dv.LinearSystem.of(a, [[0.0], [-32.7], [-2.08], [0.0], [0.0]], states=names, inputs=["elevator"])
        # elevator = 6 theta + 1.8 q: roots -2.25 +- 2.99j, -0.531, -0.0105 and the height's own
        whole = (
            ClosedLoops(plant)
            .close("damper", dv.LinearSystem.gain("elevator", {"q": 1.8, "q_demand": -1.8}))
            .close("attitude", dv.LinearSystem.gain("q_demand", {"theta": -6.0 / 1.8}))
        )
        roots = whole.system().poles()
        self.assertAlmostEqual(float(roots.imag.max()), 2.99, delta=5e-3)
        np.testing.assert_allclose(np.sort(roots.real), [-2.25, -2.25, -0.531, -0.0105, 0.0], atol=5e-3)
        real = np.sort(roots.real[np.abs(roots.imag) < 1e-9])
        np.testing.assert_allclose(real, [-0.531, -0.0105, 0.0], atol=5e-4)

    def test_tracking_of_a_pitch_rate(self) -> None:
        # B. L. Stevens, F. L. Lewis, Aircraft Control and Simulation, 2nd ed., Wiley 2003, section 5.5, pitch-rate
        # control system by linear-quadratic design: the F-16 with actuator, filtered alpha and an integral of the error,
        # angles in deg. From memory; that the printed gains give the printed roots, which nothing else ties, speaks for it
        turn = 57.2958
        a = [[-1.01887, 0.90506, -0.00215], [0.82225, -1.07741, -0.17555], [0.0, 0.0, -20.2]]
        plant = dv.LinearSystem.of(
            a, [[0.0], [0.0], [20.2]], states=["alpha", "q", "elevator"], inputs=["u"], outputs=["alpha_deg", "q_deg"],
            C=[[turn, 0.0, 0.0], [0.0, turn, 0.0]],
        )  # fmt: skip
        error = dv.LinearSystem.gain("error", {"asked": 1.0, "q_deg": -1.0})
        whole = (
            ClosedLoops(plant)
            .close("alpha", dv.LinearSystem.filtered("u", "alpha_deg", [0.0807 * 10.0], [1.0, 10.0]))
            .close("rate", dv.LinearSystem.gain("u", {"q_deg": 0.475}))
            .close("tracker", error.followed_by(dv.LinearSystem.filtered("u", "error", [-1.361], [1.0, 0.0])))
        ).system()
        roots = whole.poles()
        self.assertAlmostEqual(float(roots.imag.max()), 2.83, delta=5e-3)
        np.testing.assert_allclose(np.sort(roots.real), [-14.09, -10.67, -3.26, -3.26, -1.02], atol=1e-2)
        # what an integral of the error is for: the rate asked for, exactly, in the end
        self.assertAlmostEqual(whole.transfer("asked", "q_deg")(0.0).real, 1.0, places=9)


class GainTest(unittest.TestCase):
    def test_gains_by_closed_forms(self) -> None:
        for system, wish, gain in (
            (loop([1.0], [1, 0]), GainTarget(crossover=3.0), 3.0), (loop([1.0], [1, 0]), GainTarget(bandwidth=3.0), 3.0),
            (loop([1.0], [1, 1, 0]), GainTarget(phase_margin=math.radians(45.0)), math.sqrt(2.0)),
            (loop([1.0], [1, 3, 2, 0]), GainTarget(gain_margin=2.0), 3.0), (loop([1.0], [1, 2, 0]), GainTarget(damping=0.5, near=1.0), 4.0),
            (loop([1.0], [1, 2, 0]), GainTarget(damping=0.25, near=1.0), 16.0),
        ):  # fmt: skip
            with self.subTest(str(wish)):
                self.assertAlmostEqual(gain_for(system, wish).gain / gain, 1.0, delta=1e-6)
        for system, wish, words in (
            (loop([1.0], [1, 3, 2, 0]), GainTarget(phase_margin=math.radians(100.0)), "the most is about 90 deg"),
            (loop([1.0], [1, 3, 2, 0]), GainTarget(crossover=9.0), "is unstable"),
            (loop([1.0], [1, 0]), GainTarget(), "0 wishes"), (loop([1.0], [1, 0]), GainTarget(damping=0.5), "no mode that oscillates"),
            (loop([1.0], [1, 0]), GainTarget(crossover=-1.0), "above zero"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                gain_for(system, wish)

    def test_pid_has_the_crossover_and_the_margin(self) -> None:
        cases: tuple[tuple[Any, str, float, float, float], ...] = (
            (loop([2.0], [1, 1]), "PI", 3.0, 60.0, 0.0), (loop([-1.0], [1, 0.5, 0]), "PD", 2.0, 50.0, 0.05),
            (loop([3.0], [1, 1.2, 4.0]), "PID", 5.0, 55.0, 0.02), (loop([1.0], [1, 1, 0]), "PID", 1.0, 60.0, 0.0),
            (loop([0.5], [1, 0]), "P", 4.0, 90.0, 0.0),
        )  # fmt: skip
        for plant, kind, crossover, angle, late in cases:
            with self.subTest(kind, crossover=crossover):
                pid = pid_for(plant, kind, crossover=crossover, phase_margin=math.radians(angle), delay=late)
                open_loop = plant.followed_by(dv.LinearSystem.filtered("e", "y", *pid.fraction()))
                found = margins(open_loop, delay=late)
                self.assertTrue(found.is_stable)
                here = min((c for c in found.crossings if c.kind == "gain"), key=lambda c: abs(c.frequency - crossover))
                self.assertAlmostEqual(here.frequency / crossover, 1.0, places=7)
                self.assertAlmostEqual(math.degrees(here.phase), angle, places=5)
        with self.assertRaisesRegex(
            DravikError, r"PI cannot give 60 deg of phase margin at 3 rad/s.* to 18\.4 deg there"
        ):
            pid_for(loop([1.0], [1, 1, 0]), "PI", crossover=3.0)
        with self.assertRaisesRegex(DravikError, "improper"):
            PID(1.0, derivative=1.0)

    def test_the_knob_from_calm_to_quick(self) -> None:
        choices = pid_options(loop([1.0], [1, 1.0, 0.5]), "PID", [1.0, 2.0, 4.0, 8.0], phase_margin="55 deg")
        self.assertEqual(len(choices), 4)
        rises = [c.step.rise for c in choices]
        self.assertEqual(rises, sorted(rises, reverse=True))
        for c in choices:
            self.assertAlmostEqual(c.step.end, 1.0, places=6)
            self.assertAlmostEqual(math.degrees(c.margins.phase), 55.0, delta=1e-3)
        # what the controller asks for at the first instant is its proportional part: the derivative sees no command
        held = pid_options(loop([1.0], [1, 1.0, 0.5]), "PI", [0.3], most=(math.inf, 0.01, math.inf))
        self.assertTrue(held[0].bounded and held[0].pid.integral == 0.01)


if __name__ == "__main__":
    unittest.main()
