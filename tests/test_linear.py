"""Linear systems: joined, reduced, sampled, delayed; against closed forms and independent methods."""

import unittest
from dataclasses import replace

import numpy as np
from scipy import signal
from scipy.integrate import quad, solve_ivp

import dravik as dv
from dravik.errors import DravikError
from dravik.systems import LinearSystem, beside, wired

OMEGA = np.geomspace(1e-3, 1e3, 60)


def random_system(seed: int, n: int, m: int, p: int, *, through: bool = False) -> LinearSystem:
    """Return a stable system whose roots spread over four decades, as an aircraft's with actuators do."""
    rng = np.random.default_rng(seed)
    roots = np.diag(-np.geomspace(0.02, 200.0, n))
    mix = np.eye(n) + 0.3 * rng.standard_normal((n, n)) / np.sqrt(n)
    return LinearSystem.of(
        np.linalg.solve(mix, roots @ mix), rng.standard_normal((n, m)), C=rng.standard_normal((p, n)),
        D=rng.standard_normal((p, m)) if through else None, states=[f"s{k}" for k in range(n)],
        inputs=[f"u{k}" for k in range(m)], outputs=[f"y{k}" for k in range(p)],
    )  # fmt: skip


def tarn() -> LinearSystem:
    """Return the Tarn's model with its actuators and engines."""
    craft = dv.sample("tarn")
    point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
    return dv.linearise(craft, point, outputs=["q", "theta", "nz", "beta", "p"])


class RoundedIntegralTest(unittest.TestCase):
    def test_an_integral_that_is_one_but_for_rounding_is_kept(self) -> None:
        a = np.array([[-1.0, 0.0], [2.0, -4e-16]])
        system = dv.LinearSystem.of(a, [[1.0], [0.0]], states=["x", "i"], inputs=["u"], outputs=["y"], C=[[2.1, 3.5]])
        small = system.minimal()
        self.assertEqual(len(small.states), 2)
        np.testing.assert_allclose(small.frequency_response([3.0]), system.frequency_response([3.0]), rtol=1e-12)


class FigureTest(unittest.TestCase):
    def test_zeros_and_transfers(self) -> None:
        for case in (
            ([2.0], [1.0, 3.0]), ([1.0, 0.5], [1.0, 0.4, 4.0]), ([-1.0, 2.0], [1.0, 2.0, 5.0, 1.0]), ([3.0, 0.0, 12.0], [1.0, 2.0, 3.0]),
            ([0.0, 0.0, 7.0], [1.0, 0.1, 100.0]), ([1.0, 0.0], [1.0, 5.0, 6.0]),
        ):  # fmt: skip
            system = LinearSystem.filtered("y", "u", *case)
            zeros, poles, gain = signal.tf2zpk(np.trim_zeros(case[0], "f"), case[1])
            found = system.transfer("u", "y")
            np.testing.assert_allclose(np.sort_complex(found.zeros), np.sort_complex(zeros), atol=1e-9)
            np.testing.assert_allclose(np.sort_complex(found.poles), np.sort_complex(poles), atol=1e-9)
            self.assertAlmostEqual(found.gain, gain, places=9)
            self.assertAlmostEqual(float(system.gains()[0, 0]), case[0][-1] / case[1][-1], places=9)
        self.assertEqual(LinearSystem.filtered("y", "u", [1.0], [1.0, 0.0, 0.0]).gains()[0, 0], np.inf)
        # an attitude law with an integrator on the whole aircraft, whose heading and place stand still: no error is left
        law = LinearSystem.filtered("elevator_increment", "error", [0.8, 0.4], [1.0, 0.0])
        loop = wired(
            tarn(), law, inputs=["command"], outputs=["theta"], sums={"error": {"theta": 1.0, "command": -1.0}}
        )
        for system in (loop, loop.discretised(0.01)):
            self.assertAlmostEqual(float(system.gains()[0, 0]), 1.0, places=5)

    def test_zeros_of_many_inputs_are_where_the_matrix_loses_rank(self) -> None:
        for seed, n, m, p, through in (
            (1, 6, 2, 2, False),
            (2, 7, 2, 2, True),
            (3, 8, 3, 3, False),
            (4, 6, 2, 3, False),
        ):
            system = random_system(seed, n, m, p, through=through)
            zeros = system.zeros()
            self.assertEqual(len(zeros), {False: n - m, True: n}[through] if m == p else 0)
            for zero in zeros:
                pencil = np.block([[system.A - zero * np.eye(n), system.B], [system.C, system.D]])
                values = np.linalg.svd(pencil, compute_uv=False)
                self.assertLess(values[-1] / values[0], 1e-10)

    def test_stiff_aircraft(self) -> None:
        model = tarn()
        self.assertEqual(len(model.A), len(model.poles()))
        for name, output in (("elevator_increment", "q"), ("elevator_increment", "nz"), ("rudder_increment", "beta")):
            channel = model.transfer(name, output)
            whole = model.part(inputs=[name], outputs=[output]).frequency_response(OMEGA)[:, 0, 0]
            np.testing.assert_allclose([channel(1j * w) for w in OMEGA], whole, rtol=1e-6)

    def test_covariance_is_the_integral_of_the_spectrum(self) -> None:
        system = random_system(5, 5, 2, 2)
        for i in range(2):
            whole = quad(lambda w, i=i: float(system.spectra([w])[i, 0]), 0.0, np.inf, limit=2000, epsrel=1e-7)[0]  # type: ignore[misc]
            self.assertAlmostEqual(whole / system.covariance()[i, i], 1.0, delta=1e-5)
        np.testing.assert_allclose(system.covariance([4.0, 4.0]), 4.0 * system.covariance(), rtol=1e-12)
        # at samples so near that the noise is as good as white, its covariance is the density over the interval
        sampled = system.discretised(1e-4)
        np.testing.assert_allclose(sampled.covariance([1e4, 1e4]), system.covariance(), rtol=0.03)
        with self.assertRaisesRegex(DravikError, "does not decay"):
            tarn().covariance()
        with self.assertRaisesRegex(DravikError, "without a lag"):
            random_system(5, 5, 2, 2, through=True).covariance()

    def test_response_against_an_integrator(self) -> None:
        system = random_system(6, 6, 2, 2, through=True)
        t = np.linspace(0.0, 2.0, 81)
        u = np.column_stack([np.sin(3 * t), np.minimum(t, 1.0)])
        exact = solve_ivp(
            lambda s, x: system.A @ x + system.B @ [np.interp(s, t, u[:, 0]), np.interp(s, t, u[:, 1])],
            (0.0, 2.0), np.zeros(6), method="Radau", rtol=1e-9, atol=1e-11, max_step=0.025, t_eval=t,
        )  # fmt: skip
        np.testing.assert_allclose(system.response(t, u)[0], exact.y.T, atol=2e-7)


class JoiningTest(unittest.TestCase):
    def test_joined_systems_answer_as_the_algebra_says(self) -> None:
        a, b = random_system(7, 4, 2, 2, through=True), random_system(8, 3, 2, 2)
        ga, gb = a.frequency_response(OMEGA), b.frequency_response(OMEGA)
        behind = b.renamed({"u0": "y0", "u1": "y1", "y0": "z0", "y1": "z1", **{f"s{k}": f"t{k}" for k in range(3)}})
        np.testing.assert_allclose(a.followed_by(behind).frequency_response(OMEGA), gb @ ga, rtol=1e-9)
        np.testing.assert_allclose(
            a.summed_with(b, sign=-1.0).frequency_response(OMEGA), ga - gb, rtol=1e-9, atol=1e-12
        )
        back = behind.renamed({"z0": "u0", "z1": "u1"})
        loop = np.linalg.solve(np.eye(2) + ga @ gb, ga)
        found = a.looped_with(back)
        self.assertEqual((found.inputs, found.outputs), (["u0", "u1"], ["y0", "y1"]))
        np.testing.assert_allclose(found.frequency_response(OMEGA), loop, rtol=1e-8, atol=1e-10)
        added = np.linalg.solve(np.eye(2) - ga @ gb, ga)
        np.testing.assert_allclose(
            a.looped_with(back, sign=1.0).frequency_response(OMEGA), added, rtol=1e-8, atol=1e-10
        )
        gains = np.array([[0.3, -0.2], [0.0, 0.5]])
        constant = a.with_gains({"u0": {"y0": 0.3, "y1": -0.2}, "u1": {"y1": 0.5}})
        expected = np.linalg.solve(np.eye(2) - ga @ gains, ga)
        np.testing.assert_allclose(constant.frequency_response(OMEGA), expected, rtol=1e-8, atol=1e-10)

    def test_a_loop_connected_by_name(self) -> None:
        plant = LinearSystem.filtered("theta", "elevator", [3.0], [1.0, 1.0, 0.0])
        law = LinearSystem.filtered("elevator", "error", [2.0, 1.0], [1.0, 0.0])
        whole = wired(
            plant, law, inputs=["command", "elevator"], outputs=["theta", "error", "elevator"],
            sums={"error": {"command": 1.0, "theta": -1.0}},
        )  # fmt: skip
        s = 1j * OMEGA
        p, k = 3.0 / (s * (s + 1.0)), (2.0 * s + 1.0) / s
        expected = np.stack([np.stack([p * k, p], -1), np.stack([1 + 0 * s, -p], -1), np.stack([k, -k * p], -1)], 1)
        np.testing.assert_allclose(whole.frequency_response(OMEGA), expected / (1 + p * k)[:, None, None], rtol=1e-8)

    def test_what_cannot_be_joined_is_said(self) -> None:
        lag = LinearSystem.filtered("x", "u", [1.0], [1.0, 1.0]).united(x="m")
        other = LinearSystem.filtered("y", "x", [1.0], [1.0, 2.0]).united(x="rad")
        gain = LinearSystem.gain("u", {"x": 1.0, "y": 2.0})
        for call, words in (
            (lambda: beside(lag, lag), "two systems have the state 'x_1'"),
            (lambda: beside(lag, other), "'x' is in m in one system and in rad in another"),
            (lambda: beside(lag, gain.discretised("0.1 s")), "sample times of None and 0.1 s"),
            (lambda: lag.followed_by(lag), "no output of the first"),
            (lambda: wired(lag, inputs=["uu"], outputs=["x"]), "no system has the input 'uu'"),
            (lambda: wired(lag, inputs=["u"], outputs=["xx"]), "no system has the output 'xx'"),
            (lambda: wired(lag, inputs=[], outputs=["x"], sums={"u": {"zz": 1.0}}), "no signal 'zz' to join"),
            (lambda: wired(lag, inputs=[], outputs=["x"], sums={"u": {"v": 1.0}, "v": {"u": 1.0}}), "lead back to themselves"),
            (lambda: LinearSystem.gain("y", {"u": 1.0}).looped_with(LinearSystem.gain("u", {"y": -1.0})), "without a lag has no solution"),
            (lambda: lag.renamed({"q": "r"}), "no 'q' to rename"),
            (lambda: lag.part(outputs=["q"]), "no output 'q'"),
            (lambda: LinearSystem.of([[np.nan]], states=["x"]), "not finite"),
            (lambda: LinearSystem.of([[1, 2]], states=["a", "b"]), r"A has shape \(1, 2\)"),
            (lambda: LinearSystem.filtered("y", "u", [1, 0, 0], [1, 2]), "more zeros than poles"),
            (lambda: lag.discretised("0.1 s", method="euler"), "zero_order_hold, first_order_hold or bilinear"),
            (lambda: lag.discretised("0.1 s").delayed("u", 0.25), "a whole number of samples"),
            (lambda: lag.continued(), "the system is not sampled"),
            (lambda: LinearSystem.filtered("y", "u", [1.0], [1.0, 0.0]).reduced(0), "at least 1"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                call()


class FormTest(unittest.TestCase):
    def test_minimal_takes_away_what_nothing_moves_or_sees(self) -> None:
        inner = random_system(9, 5, 2, 2)
        rng = np.random.default_rng(1)
        # states that are not reached, and states that are not seen, mixed in with the others
        a = np.zeros((9, 9))
        a[:5, :5], a[:5, 5:7], a[5:7, 5:7] = inner.A, rng.standard_normal((5, 2)), np.diag([-3.0, -0.1])
        a[7:, :5], a[7:, 7:] = rng.standard_normal((2, 5)), np.diag([-40.0, 0.5])
        mix = np.linalg.qr(rng.standard_normal((9, 9)))[0]
        whole = LinearSystem.of(
            mix @ a @ mix.T, mix[:, :5] @ inner.B, C=inner.C @ mix[:, :5].T, states=list("abcdefghi"), inputs=["u0", "u1"],
            outputs=["y0", "y1"],
        )  # fmt: skip
        least = whole.minimal()
        self.assertEqual(len(least.A), 5)
        np.testing.assert_allclose(least.frequency_response(OMEGA), inner.frequency_response(OMEGA), rtol=1e-7)
        self.assertEqual(len(whole.zeros()), 3 + 4)  # those of the core, and the roots that are cut off

    def test_balanced_reduction_keeps_its_promise(self) -> None:
        for system in (random_system(10, 12, 2, 2, through=True), random_system(11, 8, 1, 3).discretised(0.02)):
            values = system.hankel()
            top = np.pi / system.sample_time if system.sample_time else 1e4
            grid = np.concatenate([np.geomspace(1e-4, top, 400), [1e-9]])
            whole = system.frequency_response(grid)
            for order in (3, 5):
                left = whole - system.reduced(order).frequency_response(grid)
                worst = max(np.linalg.norm(g, 2) for g in left)
                self.assertLessEqual(worst, 2.0 * values[order:].sum() * (1 + 1e-9))
                self.assertGreater(worst, 0.3 * values[order])
        # roots that do not decay are kept: an integrator, an unstable spiral
        aircraft = tarn().part(inputs=["rudder_increment"], outputs=["beta", "p"])
        small = aircraft.reduced(12)
        np.testing.assert_allclose(
            small.frequency_response(OMEGA), aircraft.frequency_response(OMEGA), atol=1e-3 * np.abs(aircraft.frequency_response(OMEGA)).max()
        )  # fmt: skip

    def test_sampled_forms(self) -> None:
        system = random_system(12, 5, 2, 2, through=True)
        h = 0.05
        t = np.arange(60) * h
        rng = np.random.default_rng(2)
        u = rng.standard_normal((60, 2))
        steps = np.stack([u[:-1], u[:-1]], axis=1)
        held = system.discretised("50 ms")
        np.testing.assert_allclose(held.response(t, u)[0], system.response(t, steps)[0], rtol=1e-9, atol=1e-12)
        straight = system.discretised(h, method="first_order_hold")
        _, y = straight.response(t, u - u[0])
        np.testing.assert_allclose(y, system.response(t, u - u[0])[1], rtol=1e-8, atol=1e-11)
        rule = system.discretised(h, method="bilinear", match=4.0)
        np.testing.assert_allclose(
            rule.frequency_response([0.0, 4.0]), system.frequency_response([0.0, 4.0]), rtol=1e-9
        )
        # SciPy's forms have the same responses, its holds the same matrices
        own = {"zoh": held, "foh": straight, "bilinear": system.discretised(h, method="bilinear")}
        for method, found in own.items():
            a, b, c, d, _ = signal.cont2discrete((system.A, system.B, system.C, system.D), h, method)
            theirs = replace(found, A=a, B=b, C=c, D=d)
            np.testing.assert_allclose(
                theirs.frequency_response(OMEGA), found.frequency_response(OMEGA), rtol=1e-9, atol=1e-12, err_msg=method
            )
            if method != "bilinear":
                np.testing.assert_allclose(np.hstack([a, b]), np.hstack([found.A, found.B]), atol=1e-13, err_msg=method)
        for sampled, method in ((held, "zero_order_hold"), (system.discretised(h, method="bilinear"), "bilinear")):
            back = sampled.continued(method=method)
            np.testing.assert_allclose(back.frequency_response(OMEGA), system.frequency_response(OMEGA), rtol=1e-6)
        np.testing.assert_allclose(np.sort(np.exp(system.poles().real * h)), np.sort(held.poles().real), rtol=1e-9)

    def test_delays(self) -> None:
        system = random_system(13, 3, 1, 2)
        for name in ("u0", "y1"):
            late = system.delayed(name, "0.1 s", order=4)
            self.assertEqual((late.inputs, late.outputs, len(late.A)), (["u0"], ["y0", "y1"], 7))
            w = np.geomspace(0.1, 30.0, 30)
            wanted = system.frequency_response(w)
            late_one = slice(None) if name == "u0" else slice(1, 2)
            wanted[:, late_one] *= np.exp(-0.1j * w)[:, None, None]
            np.testing.assert_allclose(late.frequency_response(w), wanted, rtol=2e-3)
        sampled = system.discretised(0.02)
        late = sampled.delayed("u0", "60 ms")
        u = np.random.default_rng(3).standard_normal((40, 1))
        t = np.arange(40) * 0.02
        np.testing.assert_allclose(late.response(t, u)[1][3:], sampled.response(t, u)[1][:-3], atol=1e-12)
        self.assertEqual(len(sampled.delayed("y0", 0.0).A), 3)


if __name__ == "__main__":
    unittest.main()
