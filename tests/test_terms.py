"""Systems as terms, of roots, drawn in one line; measured responses; sampled designs; loops with exact delay."""

import itertools
import math
import tempfile
import unittest
from pathlib import Path
from typing import Any, cast

import numpy as np
from scipy.linalg import solve_discrete_are
from scipy.special import lambertw

import dravik as dv
from dravik.errors import DravikError
from dravik.loops import (
    assign_roots,
    margins,
    optimal_states,
    pid_for,
    pid_options,
    steady_observer,
    with_observer,
)
from dravik.report import figure_systems
from dravik.systems import DelayedLoop, LinearSystem, MeasuredLoop, read_response
from tests.test_cli import run


def plant(step: float = 0.1) -> LinearSystem:
    """Return an oscillator at samples."""
    return LinearSystem.of(
        [[0.0, 1.0], [-2.0, -0.5]], [[0.0], [1.0]], states=["x", "v"], inputs=["u"], C=[[1.0, 0.0]], outputs=["y"]
    ).discretised(step)


class TermsTest(unittest.TestCase):
    def test_of_roots_against_the_product(self) -> None:
        w = np.geomspace(1e-4, 1e5, 40)
        for zeros, poles, gain in (
            ([-2, -0.5 + 1j, -0.5 - 1j], [-1 + 1j, -1 - 1j, -1e-3, -1e4, 0.3], 3.0), ([], [-1, -1, -1], -2.0),
            ([-1 + 1j, -1 - 1j], [-1, -2, -3], 2.0), ([0], [-5], 1.0), ([], [], 4.0),
            ([-1 + 2j, -1 - 2j, -3 + 1j, -3 - 1j], [-1, -2, -3, -4], 1.0),
        ):  # fmt: skip
            found = LinearSystem.of_roots("y", "u", zeros=zeros, poles=poles, gain=gain)
            s = 1j * w
            expected = gain * np.prod([s - z for z in zeros], axis=0) / np.prod([s - p for p in poles], axis=0)
            self.assertEqual(len(found.states), len(poles))
            self.assertTrue(np.allclose(found.frequency_response(w)[:, 0, 0], expected, rtol=1e-11))
        sampled = LinearSystem.of_roots("y", "u", poles=[0.5], gain=0.5, sample_time=0.1)
        self.assertAlmostEqual(float(sampled.gains()[0, 0]), 1.0, places=12)

    def test_terms_are_those_of_numbers(self) -> None:
        a, b = (
            LinearSystem.filtered("a", "u", [1.0], [1.0, 1.0]),
            LinearSystem.filtered("b", "v", [2.0, 1.0], [1.0, 3.0]),
        )
        w = np.geomspace(0.01, 30.0, 20)
        f, g = (one.frequency_response(w)[:, 0, 0] for one in (a, b))
        for found, expected in (
            (a * b, f * g), (a + b, f + g), (a - b, f - g), (a / b, f / g), (2 * a, 2 * f), (np.float64(2) * a, 2 * f),
            (a / 4, f / 4), (1 / b, 1 / g), (1 - a, 1 - f), (a + 3, f + 3), (-a, -f), (a * b / (1 + a * b), f * g / (1 + f * g)),
            (b / (a + 0.5), g / (f + 0.5)), (a * a / (a * b), f / g),
        ):  # fmt: skip
            self.assertTrue(np.allclose(found.frequency_response(w)[:, 0, 0], expected, rtol=1e-10))
        many = LinearSystem.of(
            np.diag([-1.0, -2.0]), np.eye(2), states=["p", "q"], inputs=["i", "j"], outputs=["k", "l"]
        )
        self.assertTrue(np.allclose((many * many).frequency_response([0.7])[0],
                                    many.frequency_response([0.7])[0] @ many.frequency_response([0.7])[0]))  # fmt: skip
        for what, words in (
            (lambda: b / a, "its inverse is improper"), (lambda: 1 / a, "its inverse is improper"),
            (lambda: a + a.discretised(0.1), "one system is continuous, the other sampled each 0.1 s"),
            (lambda: a * cast("Any", "x"), "cannot be multiplied by 'x'"), (lambda: a / 0, "divided by zero"),
            (lambda: many * a, "cannot be put into 2 inputs"), (lambda: many + 1, "a number cannot be added"),
            (lambda: LinearSystem.of_roots("y", "u", poles=[1j]), "without its conjugate"),
            (lambda: LinearSystem.of_roots("y", "u", zeros=[-1]), "no more zeros"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                what()

    def test_one_line_pictures(self) -> None:
        a = LinearSystem.of_roots("y", "u", zeros=[-0.5], poles=[0, -2, -9], gain=12.0)
        w = np.geomspace(0.1, 50.0, 40)
        measured = MeasuredLoop(w, a.frequency_response(w)[:, 0, 0], "measured")
        bode = figure_systems(a, measured, plot="bode")
        line = bode.axes[0].lines[1]
        self.assertTrue(np.allclose(line.get_ydata(), 20 * np.log10(np.abs(measured.values))))
        plane = figure_systems({"one": a}, plot="nyquist").axes[0].lines[0]
        x, y = (np.asarray(v, dtype=float) for v in (plane.get_xdata(), plane.get_ydata()))
        k = int(np.argmin(abs(np.hypot(x, y) - 1.0)))
        self.assertAlmostEqual(math.degrees(math.atan2(-y[k], -x[k])), math.degrees(margins(a).phase), delta=1.5)
        roots = figure_systems(a, plot="roots").axes[0].lines
        self.assertTrue(np.allclose(sorted(np.asarray(roots[0].get_xdata())), [-9, -2, 0], atol=1e-9))
        self.assertTrue(np.allclose(np.asarray(roots[1].get_xdata()), [-0.5]))
        step = figure_systems(a / (1 + a), plot="step").axes[0].lines[0]
        self.assertAlmostEqual(float(np.asarray(step.get_ydata())[-1]), 1.0, delta=0.02)
        for arguments, words in (
            ({"plot": "pie"}, "there is no plot 'pie'; expected bode"), ({"plot": "step"}, "has no step response"),
        ):  # fmt: skip
            with self.assertRaisesRegex(DravikError, words):
                figure_systems(measured, **arguments)  # type: ignore[arg-type]
        with tempfile.TemporaryDirectory() as folder:
            saved, file = str(Path(folder) / "a.json"), str(Path(folder) / "a.png")
            dv.save_system(a, saved)
            code, out, _ = run("response", saved, "--channel", "y/u", "--plot", "nichols", "--figure", file)
            self.assertEqual((code, Path(file).exists(), "y / u" in out), (0, True, True))
            for more, words in (
                (["--airspeed", "60 m/s"], "--airspeed means nothing"),
                (["--law", "x"], "--law means"),
            ):
                code, _, err = run("response", saved, *more)
                self.assertEqual((code, words in err), (2, True))
        code, _, err = run("response", "tarn", "--airspeed", "62 m/s", "--altitude", "300 m", "--plot", "step")
        self.assertEqual((code, "--plot needs a saved system" in err), (2, True))


class MeasuredTest(unittest.TestCase):
    def test_margins_of_200_points_against_the_exact_ones(self) -> None:
        of = LinearSystem.of_roots
        w = np.geomspace(0.02, 100.0, 200)
        for loop, unstable, closes in (
            (of("y", "u", poles=[0, -1, -10], gain=40.0), 0, True), (of("y", "u", zeros=[-0.3], poles=[0, 0, -8], gain=6), 0, True),
            (of("y", "u", zeros=[-0.1 + 3j, -0.1 - 3j], poles=[0, -0.15 + 4j, -0.15 - 4j, -10], gain=14.0), 0, True),
            (of("y", "u", poles=[1.0, -10], gain=30.0), 1, True), (of("y", "u", poles=[1.0, -10], gain=5.0), 1, False),
            (of("y", "u", poles=[-1, -2, -3], gain=20.0), 0, True), (of("y", "u", poles=[-1, -2, -3], gain=100.0), 0, False),
            (of("y", "u", poles=[0, -2], gain=-1.0), 0, False), (of("y", "u", poles=[0, -1, -2], gain=20.0), 0, False),
        ):  # fmt: skip
            for late in (0.0, 0.02):
                exact = margins(loop, delay=late)
                found = MeasuredLoop(w, loop.frequency_response(w)[:, 0, 0]).margins(delay=late, unstable=unstable)
                with self.subTest(loop.poles(), late=late):
                    self.assertEqual((found.closes, exact.closes), (closes, closes))
                    if math.isfinite(exact.gain_decibels):
                        self.assertAlmostEqual(found.gain_decibels, abs(exact.gain_decibels), delta=0.1)
                    if math.isfinite(exact.phase):
                        self.assertAlmostEqual(math.degrees(found.phase), math.degrees(exact.phase), delta=0.5)
                    if closes:
                        self.assertAlmostEqual(found.disc, exact.disc, delta=0.01)
                        self.assertLess(max(found.doubt_decibels, found.doubt_degrees), 1.5)

    def test_how_far_to_believe_them(self) -> None:
        loop = LinearSystem.of_roots(
            "y", "u", zeros=[-0.1 + 3j, -0.1 - 3j], poles=[0, -0.15 + 4j, -0.15 - 4j, -10], gain=14.0
        )
        exact, doubts = margins(loop), []
        for count in (300, 60, 24):
            w = np.geomspace(0.05, 60.0, count)
            found = MeasuredLoop(w, loop.frequency_response(w)[:, 0, 0]).margins()
            doubts.append(found.doubt_degrees)
            off = abs(math.degrees(found.phase - exact.phase))
            self.assertLessEqual(off, max(found.doubt_degrees, 1e-6))
        self.assertLess(doubts[0], doubts[1])
        short = MeasuredLoop(w[:12], loop.frequency_response(w[:12])[:, 0, 0]).margins()
        self.assertIsNone(short.closes)
        self.assertIn("cannot be told", short.notes[-1])
        sparse = np.geomspace(0.05, 60.0, 9)
        turned = MeasuredLoop(sparse, loop.frequency_response(sparse)[:, 0, 0] * np.exp(-1j * sparse)).margins()
        self.assertTrue(math.isinf(turned.doubt_degrees) and turned.closes is None)
        self.assertIn("points between are missing", turned.notes[0])

    def test_what_is_no_loop_and_products_of_two(self) -> None:
        w = np.geomspace(0.1, 10.0, 30)
        one, two = MeasuredLoop(w, 1.0 / (1j * w), "one"), MeasuredLoop(w, 2.0 / (1j * w + 1.0), "two")
        self.assertTrue(np.allclose((one * two).values, 2.0 / (1j * w * (1j * w + 1.0)), rtol=1e-12))
        for what, words in (
            (lambda: one * MeasuredLoop(2.0 * w, one.values), "at other frequencies"),
            (lambda: one * LinearSystem.gain("y", {"a": 1.0, "b": 1.0}), "of one channel"),
            (lambda: MeasuredLoop(w[:5], one.values[:5]), "8 or more"), (lambda: MeasuredLoop(w, one.values[:9]), "as many of both"),
            (lambda: MeasuredLoop(w[::-1], one.values), "do not rise"), (lambda: MeasuredLoop(w - 0.1, one.values), "do not rise"),
            (lambda: MeasuredLoop(w, np.where(w > 5.0, np.nan, one.values)), "not finite"),
            (lambda: MeasuredLoop(w, np.where(w > 5.0, 0.0, one.values)), "zero or not finite"),
            (lambda: one.margins(delay=-0.1), "zero or more"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                what()

    def test_read_with_its_coherence_and_put_behind_a_controller(self) -> None:
        loop = LinearSystem.of_roots("y", "u", poles=[0, -1, -10], gain=40.0)
        w = np.geomspace(0.05, 60.0, 120)
        values = loop.frequency_response(w)[:, 0, 0]
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "flown.csv"
            rows = zip(w / (2 * math.pi), 20 * np.log10(abs(values)), np.degrees(np.angle(values)), strict=True)
            file.write_text("frequency [Hz],gain [dB],phase [deg],coherence\n"
                            + "".join(f"{a:.12g},{b:.12g},{c:.12g},0.9\n" for a, b, c in rows))  # fmt: skip
            read = read_response(file, averages=20)
            self.assertTrue(np.allclose(read.values, values, rtol=1e-9))
            # Bendat and Piersol: sqrt((1 - c)/(2 n c)) of the size, as an angle in rad
            spread = math.degrees(math.sqrt(0.1 / (2 * 20 * 0.9)))
            self.assertAlmostEqual(read.margins().doubt_degrees, spread, delta=0.01)
            lead = LinearSystem.filtered("u", "e", [1.0, 1.0], [0.1, 1.0])
            self.assertAlmostEqual((read * lead * 0.5).margins().phase, margins(0.5 * loop * lead).phase, delta=1e-3)
            (Path(folder) / "bad.csv").write_text("frequency [kHz],gain\n1,2\n")
            for name, words in (("bad.csv", "no column frequency"), ("none.csv", "no such file")):
                with self.assertRaisesRegex(DravikError, words):
                    read_response(Path(folder) / name)


class SampledDesignTest(unittest.TestCase):
    def test_optimal_and_kalman_by_another_way(self) -> None:
        one = plant()
        found = optimal_states(one, worst={"y": 0.5, "v": 2.0}, use={"u": 1.0})
        q, r = np.diag([4.0, 0.25]), np.eye(1)
        p = solve_discrete_are(one.A, one.B, q, r)
        k = np.linalg.solve(r + one.B.T @ p @ one.B, one.B.T @ p @ one.A)
        self.assertTrue(np.allclose(found.gains, k, atol=1e-9, rtol=1e-9))
        # and by the sum itself, backwards from its end
        back = np.zeros((2, 2))
        for _ in range(4000):
            gain = np.linalg.solve(r + one.B.T @ back @ one.B, one.B.T @ back @ one.A)
            back = q + one.A.T @ back @ (one.A - one.B @ gain)
        self.assertTrue(np.allclose(found.gains, gain, rtol=1e-9))
        self.assertTrue(np.all(abs(found.poles) < 1.0))
        seer = steady_observer(one, noise={"u": 0.3}, sensors={"y": 0.01})
        q, r = 0.09 * one.B @ one.B.T, np.array([[1e-4]])
        p = solve_discrete_are(one.A.T, one.C.T, q, r)
        self.assertTrue(np.allclose(seer.gains, one.A @ p @ one.C.T / (one.C @ p @ one.C.T + r), rtol=1e-9))
        self.assertTrue(np.allclose(seer.variance, p, rtol=1e-9))
        # in other units of the states nothing changes but their gains
        scale = np.diag([1e6, 1e-4])
        other = LinearSystem(scale @ one.A @ np.linalg.inv(scale), scale @ one.B, one.C @ np.linalg.inv(scale), one.D,
                             one.states, one.inputs, one.outputs, {}, one.sample_time)  # fmt: skip
        again = optimal_states(other, worst={"y": 0.5}, use={"u": 1.0}).gains @ scale
        self.assertTrue(np.allclose(again, optimal_states(one, worst={"y": 0.5}, use={"u": 1.0}).gains, rtol=1e-9))

    def test_integrals_direct_paths_and_the_whole_controller(self) -> None:
        one = plant()
        found = optimal_states(one, worst={"y": 0.5, "y_integral": 1.0}, use={"u": 1.0}, integrals=["y"])
        self.assertAlmostEqual(float(found.plant.A[2, 0]), 0.1)  # a sum times the sample time
        self.assertLess(float(abs(found.poles).max()), 1.0)
        both = with_observer(optimal_states(one, worst={"y": 0.5}, use={"u": 1.0}),
                             steady_observer(one, noise={"u": 0.3}, sensors={"y": 0.01}))  # fmt: skip
        self.assertEqual(both.sample_time, 0.1)
        closed = one.looped_with(both, sign=1.0)
        regulator = optimal_states(one, worst={"y": 0.5}, use={"u": 1.0})
        seer = steady_observer(one, noise={"u": 0.3}, sensors={"y": 0.01})
        expected = np.concatenate([regulator.poles, np.linalg.eigvals(one.A - seer.gains @ one.C)])
        self.assertTrue(np.allclose(np.sort_complex(closed.poles()), np.sort_complex(expected), atol=1e-8))

    def test_placed_roots_and_pid_at_samples(self) -> None:
        one = plant()
        self.assertTrue(np.allclose(sorted(assign_roots(one, [0.5, 0.6]).poles.real), [0.5, 0.6]))
        for kind, w in (("PD", 4.0), ("PID", 4.0)):
            pid = pid_for(one, kind, crossover=w, phase_margin="60 deg")
            controller = LinearSystem.filtered("e", "y", *pid.fraction()).discretised(0.1, method="bilinear")
            z = np.exp(1j * w * 0.1)
            value = complex((one.C @ np.linalg.solve(z * np.eye(2) - one.A, one.B))[0, 0])
            value *= complex(controller.frequency_response([w])[0, 0, 0])
            self.assertAlmostEqual(abs(value), 1.0, places=9)
            self.assertAlmostEqual(math.degrees(np.angle(-value)), 60.0, places=6)
            self.assertTrue(margins(one.followed_by(controller)).closes)
        option = pid_options(one, "PID", [4.0])[0]
        self.assertTrue(option.margins.closes)
        self.assertAlmostEqual(option.step.end, 1.0, places=6)
        with self.assertRaisesRegex(DravikError, "below 31.42 rad/s of the samples"):
            pid_for(one, "PD", crossover=40.0)


class DelayedLoopTest(unittest.TestCase):
    def test_roots_against_lamberts_function(self) -> None:
        # x' = -a x - k x(t - T): s = -a + W(-k T exp(a T))/T on every branch
        for a, k, late in (
            (0.0, 0.5, 1.0),
            (1.0, 2.0, 0.7),
            (2.0, 0.3, 0.1),
            (-0.2, 1.0, 0.5),
            (0.0, 1.0 / math.e, 1.0 - 1e-6),
        ):
            loop = DelayedLoop(LinearSystem.filtered("y", "u", [k], [1.0, a]), late)
            values = [complex(-a + lambertw(-k * late * math.exp(a * late), n) / late) for n in range(-15, 16)]
            expected: list[complex] = []
            for value in sorted(values, key=lambda s: -s.real):
                folded = complex(value.real, abs(value.imag))
                if all(abs(folded - other) > 1e-6 for other in expected):
                    expected.append(folded)
            found = loop.roots(8)
            self.assertLess(float(np.max(np.abs(found - np.array(expected[:8])))), 1e-9)
            self.assertEqual(loop.is_stable, expected[0].real < 0.0)

    def test_steps_by_the_method_of_steps(self) -> None:
        # x' = r - x(t - 1): a sum of powers, one more with each delay
        loop = DelayedLoop(LinearSystem.filtered("y", "u", [1.0], [1.0, 0.0]), 1.0)
        found = loop.step(duration=6.0)
        expected = sum(((-1) ** n * np.maximum(found.time - n, 0.0) ** (n + 1) / math.factorial(n + 1) for n in range(8)),
                       np.zeros(1))  # fmt: skip
        self.assertLess(float(np.max(np.abs(found.values - expected))), 1e-12)
        # two states: an integration by hand over each delay, from dense outputs of the one before
        from scipy.integrate import solve_ivp

        plain = LinearSystem.filtered("y", "u", [3.0], [1.0, 1.2, 0.5])
        a, b, c = plain.A, plain.B[:, 0], plain.C[0]
        parts: list[Any] = []
        late, x = 0.4, np.zeros(2)
        for k in range(8):
            before = parts[-1] if parts else None

            def rate(t: float, state: np.ndarray, k: int = k, before: Any = before) -> np.ndarray:
                seen = 0.0 if before is None else float(c @ before(t - late))
                return np.asarray(a @ state + b * (1.0 - seen))

            ran = solve_ivp(rate, (k * late, (k + 1) * late), x, rtol=1e-11, atol=1e-13, dense_output=True)
            parts.append(ran.sol)
            x = ran.y[:, -1]
        found = DelayedLoop(plain, "400 ms").step(duration=3.2)
        own = [float(c @ parts[min(int(t / late + 1e-9), 7)](t)) for t in found.time if t <= 3.2]
        self.assertLess(float(np.max(np.abs(found.values[: len(own)] - own))), 1e-8)

    def test_a_stiff_loop_and_what_cannot_be_closed(self) -> None:
        stiff = LinearSystem.of_roots("y", "u", poles=[-200.0], gain=800.0)  # four times over a fast lag, 0.3 s later
        found = DelayedLoop(stiff, 0.3).step(duration=1.5)
        k = [int(np.argmin(abs(found.time - t))) for t in (0.25, 0.55, 0.85)]
        for at, expected in zip(k, (4.0, 4.0 - 16.0, 4.0 - 16.0 + 64.0), strict=True):
            self.assertAlmostEqual(float(found.values[at]), expected, delta=1e-2)
        crossing = margins(
            LinearSystem.of_roots("y", "u", poles=[0.0], gain=1.0)
        ).delay  # pi/2 seconds of a plain integral
        self.assertEqual([DelayedLoop(LinearSystem.of_roots("y", "u", poles=[0.0]), crossing * f).is_stable for f in (0.99, 1.01)],
                         [True, False])  # fmt: skip
        for loop, late, words in (
            (LinearSystem.filtered("y", "u", [1.0, 1.0], [1.0, 2.0]), 0.1, "D = 0"), (plant(), 0.1, "a continuous one"),
            (stiff, 0.0, "the delay cannot be 0.0"),
        ):  # fmt: skip
            with self.assertRaisesRegex(DravikError, words):
                DelayedLoop(loop, late)
        # a resonance far along the delay: its root is the rightmost of all, and found
        far = LinearSystem.of_roots("y", "u", zeros=[0.0], poles=[-0.05 + 10j, -0.05 - 10j], gain=0.3)
        self.assertEqual([DelayedLoop(far, t).is_stable for t in (1e-3, 5.0)],
                         [margins(far, delay=t).is_stable for t in (1e-3, 5.0)])  # fmt: skip
        self.assertAlmostEqual(abs(DelayedLoop(far, 5.0).roots(1)[0]), 10.0, delta=0.5)
        with self.assertRaisesRegex(DravikError, "too long beside the fastest root"):
            _ = DelayedLoop(far, 3600.0).is_stable
        self.assertEqual(len(set(itertools.chain(DelayedLoop(stiff, 0.3).roots(5)))), 5)


if __name__ == "__main__":
    unittest.main()
