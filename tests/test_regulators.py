"""Many loops at once: margins of several, poles placed, optimal regulators and observers, tracking."""

import math
import unittest

import numpy as np
from scipy.linalg import solve_continuous_are, solve_continuous_lyapunov

import dravik as dv
from dravik.errors import DravikError
from dravik.loops import (
    ClosedLoops,
    assign_mode,
    assign_roots,
    cut_loop,
    margins,
    one_of,
    optimal_outputs,
    optimal_states,
    several_margins,
    steady_observer,
    tracked,
    with_observer,
)
from dravik.loops.riccati import residual, solve_riccati
from dravik.loops.several import structured
from tests.test_loops import HELD, LAWS

TARN = dv.sample("tarn")
MODEL = dv.linearise(TARN, dv.trim(TARN, airspeed="62 m/s", altitude="300 m"))
ACTUATORS = [n for n in ("elevator", "aileron", "rudder") if n in MODEL.states]
SIDE = MODEL.residualised(*ACTUATORS).part(
    states=["beta", "p", "r", "phi"], inputs=["roll_stick", "pedal"], outputs=["beta", "p", "r", "phi"]
)


def system(a: object, b: object, c: object = None, **names: object) -> dv.LinearSystem:
    a = np.asarray(a, dtype=float)
    b = np.asarray(b, dtype=float)
    outputs = [f"y{k}" for k in range(len(np.asarray(c)))] if c is not None else []
    return dv.LinearSystem.of(
        a, b, states=[f"x{k}" for k in range(len(a))], inputs=[f"u{k}" for k in range(b.shape[1])], C=c, outputs=outputs
    )  # type: ignore[arg-type]


class SeveralTest(unittest.TestCase):
    def test_a_direction_that_one_loop_margins_miss(self) -> None:
        # L = 1/s [[1, k], [0, 1]]... the spinning body of the literature: one at a time perfect, together at the edge.
        # G = 1/(s^2 + a^2) [[s - a^2, a (s + 1)], [-a (s + 1), s - a^2]] under unit feedback (a = 10): each loop alone is
        # 1/s, with infinite gain margins and 90 deg; (1 + d, 1 - d) is unstable beyond d = 1/sqrt(1 + a^2)
        a = 10.0
        body = dv.LinearSystem.of(
            [[0.0, a], [-a, 0.0]],
            np.eye(2),
            C=[[1.0, a], [-a, 1.0]],
            states=["p", "q"],
            inputs=["u", "v"],
            outputs=["y", "z"],
        )
        found = several_margins(body)
        self.assertTrue(found.is_stable)
        for alone in found.each.values():
            self.assertEqual(alone.gain_up, math.inf)
            self.assertAlmostEqual(math.degrees(alone.phase), 90.0, places=6)
            self.assertAlmostEqual(alone.disc, 2.0, places=5)
        # 2 S - 1 = ((s - 1) + 2 a J)/(s + 1) with J the quarter turn: its singular values at w are |j w - 1 +- 2 j a|/|j w + 1|,
        # and equal rows and columns need no scaling: the largest over w
        w = np.linspace(0.0, 3.0, 300001)
        biggest = float((np.abs(1j * w - 1.0 + 2j * a) / np.abs(1j * w + 1.0)).max())
        self.assertAlmostEqual(found.disc * biggest / 2.0, 1.0, delta=1e-6)
        # the change that it allows is borne, whatever its direction; and the known one beyond it is not
        down, up = found.disc_gain
        for factors in ((down, up), (up, down), (up, up), (down, down)):
            changed = body.with_facts(C=body.C * np.array(factors)[:, None])
            self.assertTrue(several_margins(changed).is_stable)
        limit = 1.0 / math.sqrt(1.0 + a * a)
        for size, stable in ((0.99 * limit, True), (1.01 * limit, False)):
            changed = body.with_facts(C=body.C * np.array([1.0 + size, 1.0 - size])[:, None])
            self.assertEqual(several_margins(changed).is_stable, stable)
        self.assertGreater(down, 1.0 - limit)

    def test_one_of_several_with_direct_parts(self) -> None:
        rng = np.random.default_rng(8)
        a, b, c, d = (
            rng.normal(size=(5, 5)) - 3.0 * np.eye(5),
            rng.normal(size=(5, 3)),
            rng.normal(size=(3, 5)),
            0.4 * rng.normal(size=(3, 3)),
        )
        loops = dv.LinearSystem.of(a, b, states=list("abcde"), inputs=list("uvw"), outputs=list("xyz"), C=c, D=d)
        w = [0.3, 2.0, 9.0]
        whole = np.linalg.inv(np.eye(3) + loops.frequency_response(w))
        for k in range(3):
            # the sensitivity of a loop with the others closed is the diagonal's element of the whole one
            alone = one_of(loops, k).frequency_response(w)[:, 0, 0]
            np.testing.assert_allclose(1.0 / (1.0 + alone), whole[:, k, k], rtol=1e-9)

    def test_structured_sizes(self) -> None:
        # of a matrix of rank one u v' the structured value is the sum of |u_i v_i|
        rng = np.random.default_rng(2)
        for n in (2, 3):
            u, v = (rng.normal(size=n) + 1j * rng.normal(size=n) for _ in range(2))
            self.assertAlmostEqual(structured(np.outer(u, v)) / float(np.abs(u * v).sum()), 1.0, delta=1e-5)

    def test_two_loops_of_the_aircraft(self) -> None:
        craft = HELD.with_law(*dv.load_law(LAWS / "yaw_damper.toml"))
        point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
        both = cut_loop(craft, point, ["elevator_command", "rudder_command"])
        found = several_margins(both)
        # pitch and yaw of a symmetric aircraft do not meet: together as apart
        for k, name in enumerate(both.outputs):
            alone = margins(cut_loop(craft, point, name))
            self.assertAlmostEqual(found.each[name].phase / alone.phase, 1.0, places=3)
            self.assertAlmostEqual(margins(one_of(both, k)).disc / alone.disc, 1.0, places=3)
        self.assertAlmostEqual(found.disc / min(m.disc for m in found.each.values()), 1.0, places=2)
        with self.assertRaisesRegex(DravikError, "as many of both"):
            several_margins(both.part(outputs=["rudder_command"]))


class PlacingTest(unittest.TestCase):
    def test_poles_are_where_they_are_to_be(self) -> None:
        rng = np.random.default_rng(4)
        plant = system(rng.normal(size=(4, 4)), rng.normal(size=(4, 2)))
        wanted = [-1.0, -2.5, -3.0 + 1.0j, -3.0 - 1.0j]
        found = assign_roots(plant, wanted)
        np.testing.assert_allclose(np.sort_complex(found.poles), np.sort_complex(np.array(wanted)), atol=1e-8)
        np.testing.assert_allclose(
            np.sort_complex(found.closed().poles()), np.sort_complex(np.array(wanted)), atol=1e-8
        )
        # the controller closed by name is the same loop
        by_name = ClosedLoops(plant.with_facts()).close("all", found.controller()).system()
        np.testing.assert_allclose(np.sort_complex(by_name.poles()), np.sort_complex(np.array(wanted)), atol=1e-8)
        still = system([[-1.0, 0.0], [0.0, 0.5]], [[1.0], [0.0]])
        with self.assertRaisesRegex(DravikError, "no input moves the mode at 0.5 1/s"):
            assign_roots(still, [-1.0, -2.0])
        with self.assertRaisesRegex(DravikError, "conjugate"):
            assign_roots(plant, [-1.0, -2.0, -3.0 + 1j, -4.0])
        with self.assertRaisesRegex(DravikError, "3 poles for 4"):
            assign_roots(plant, wanted[:3])

    def test_one_mode_moves_and_no_other(self) -> None:
        own = MODEL.modes().named("Dutch roll")
        assert own is not None
        found = assign_mode(MODEL, "Dutch roll", damping=0.5, inputs=["pedal"])
        before, after = np.linalg.eigvals(MODEL.A), found.poles
        for root in before:
            if min(abs(root - own.eigenvalue), abs(root - own.eigenvalue.conjugate())) < 1e-6:
                continue
            self.assertLess(float(np.abs(after - root).min()), 1e-6 * max(abs(root), 1e-2))
        pair = after[int(np.argmin(np.abs(after - own.frequency * complex(-0.5, math.sqrt(0.75)))))]
        self.assertAlmostEqual(-pair.real / abs(pair), 0.5, places=8)
        self.assertAlmostEqual(abs(pair) / own.frequency, 1.0, places=8)
        with self.assertRaisesRegex(DravikError, "no mode 'dutch roll'"):
            assign_mode(MODEL, "dutch roll", damping=0.5)
        with self.assertRaisesRegex(DravikError, "no input moves the Dutch roll"):
            assign_mode(MODEL, "Dutch roll", damping=0.5, inputs=["pitch_stick"])


class OptimalTest(unittest.TestCase):
    def test_riccati_against_an_independent_one(self) -> None:
        rng = np.random.default_rng(5)
        for n, m in ((1, 1), (4, 2), (12, 3), (25, 4)):
            a, b = rng.normal(size=(n, n)), rng.normal(size=(n, m))
            q, r = rng.normal(size=(n, n)), np.diag(rng.uniform(0.1, 3.0, m))
            q = q.T @ q
            # units of very different sizes
            scale = 10.0 ** rng.uniform(-3.0, 3.0, n)
            a, b, q = a * scale[None, :] / scale[:, None], b / scale[:, None], q * np.outer(scale, scale)
            p, remainder = solve_riccati(a, b, q, r)
            self.assertLess(remainder, 1e-10)
            self.assertEqual(round(residual(a, b, q, r, 2.0 * p), 1) > 0.0, True)
            self.assertLess(float(np.linalg.eigvals(a - b @ np.linalg.solve(r, b.T @ p)).real.max()), 0.0)
            other = solve_continuous_are(a, b, q, r)
            gains, others = (np.linalg.solve(r, b.T @ x) for x in (p, other))
            self.assertLess(float(np.abs(gains - others).max() / np.abs(others).max()), 1e-6)
        with self.assertRaisesRegex(DravikError, "no gain makes this optimal"):
            optimal_states(system([[1.0]], [[0.0]]), worst={"x0": 1.0}, use={"u0": 1.0})

    def test_closed_forms(self) -> None:
        # x' = u that follows with an integral: u = -k x - m integral(x), m = u/i, k = sqrt(2 m + (u/x)^2) of the largest
        # deviations x, i and use u (A. E. Bryson, Y.-C. Ho, Applied Optimal Control, 5.4: the double integrator)
        follower = dv.LinearSystem.of([[0.0]], [[1.0]], states=["x"], inputs=["u"])
        for x, i, u in ((1.0, 1.0, 1.0), (0.3, 5.0, 2.0), (4.0, 0.2, 0.1)):
            found = optimal_states(follower, worst={"x": x, "x_integral": i}, use={"u": u}, integrals=["x"])
            m = u / i
            np.testing.assert_allclose(found.gains[0], [math.sqrt(2.0 * m + (u / x) ** 2), m], rtol=1e-9)
            self.assertLess(found.residual, 1e-12)
        # the place of a mass pushed by noise, seen with noise: gains sqrt(2 b), b with b = push/seen
        mass = dv.LinearSystem.of([[0.0, 1.0], [0.0, 0.0]], [[0.0], [1.0]], states=["x", "v"], inputs=["push"])
        for push, seen in ((1.0, 1.0), (0.02, 3.0)):
            b = push / seen
            np.testing.assert_allclose(
                steady_observer(mass, noise={"push": push}, sensors={"x": seen}).gains[:, 0],
                [math.sqrt(2.0 * b), b],
                rtol=1e-9,
            )

    def test_of_an_aircraft_and_what_optimal_loops_promise(self) -> None:
        sticks = list(SIDE.inputs)
        found = optimal_states(
            SIDE, worst={"beta": "3 deg", "phi": "5 deg", "r": "5 deg/s"}, use=dict.fromkeys(sticks, 0.5)
        )
        self.assertLess(found.residual, 1e-10)
        # twice the deviations and twice the use: the same gains
        same = optimal_states(
            SIDE, worst={"beta": "6 deg", "phi": "10 deg", "r": "10 deg/s"}, use=dict.fromkeys(sticks, 1.0)
        )
        np.testing.assert_allclose(found.gains, same.gains, rtol=1e-8)
        # Kalman: |1 + K (s - A)^-1 B| is nowhere below one with equal weights of inputs: 60 deg, half to any gain
        one = SIDE.part(inputs=sticks[:1])
        alone = optimal_states(one, worst={"phi": "5 deg"}, use={sticks[0]: 0.5})
        loop = dv.LinearSystem.of(one.A, one.B, states=one.states, inputs=["u"], C=alone.gains, outputs=["back"])
        got = margins(loop)
        self.assertTrue(got.sensitivity[0] < 1.0 + 1e-6 and math.degrees(got.phase) > 60.0 - 1e-6)
        # the integral takes the error of a constant disturbance away
        held = optimal_states(
            SIDE,
            worst={"beta": "3 deg", "phi": "5 deg", "phi_integral": "5 deg"},
            use=dict.fromkeys(sticks, 0.5),
            integrals=["phi"],
        )
        self.assertEqual(held.measured[-1], "phi_integral")
        pushed = held.closed()
        self.assertAlmostEqual(
            float(pushed.part(outputs=["phi"], inputs=sticks[:1]).minimal().gains()[0, 0]), 0.0, places=9
        )

    def test_output_gains_cannot_be_bettered(self) -> None:
        sticks = list(SIDE.inputs)
        use, worst = dict.fromkeys(sticks, 0.5), {"beta": "3 deg", "phi": "5 deg", "p": "10 deg/s"}
        found = optimal_outputs(SIDE, ["p", "r", "phi"], worst=worst, use=use)
        self.assertLess(found.residual, 1e-8)
        c = np.eye(4)[[1, 2, 3]]
        q = np.diag([1 / math.radians(3) ** 2, 1 / math.radians(10) ** 2, 0.0, 1 / math.radians(5) ** 2])
        r = 4.0 * np.eye(2)

        def cost(k: np.ndarray) -> float:
            closed = SIDE.A - SIDE.B @ k @ c
            return float(np.trace(solve_continuous_lyapunov(closed.T, -(q + c.T @ k.T @ r @ k @ c))))

        best = cost(found.gains)
        self.assertAlmostEqual(best / float(found.cost), 1.0, places=9)
        rng = np.random.default_rng(6)
        for size in (1e-3, 1e-2, 0.1):
            for _ in range(20):
                self.assertGreater(
                    cost(found.gains * (1.0 + size * rng.normal(size=found.gains.shape))), best * (1.0 - 1e-10)
                )
        # all states measured: the optimal state feedback itself
        states = optimal_states(SIDE, worst=worst, use=use)
        every = optimal_outputs(SIDE, list(SIDE.states), worst=worst, use=use)
        np.testing.assert_allclose(every.gains, states.gains, rtol=1e-5, atol=1e-6)

    def test_more_targets_than_controls(self) -> None:
        rng = np.random.default_rng(7)
        a, b, c = rng.normal(size=(4, 4)) - 3.0 * np.eye(4), rng.normal(size=(4, 2)), rng.normal(size=(3, 4))
        plant = system(a, b, c)
        wanted, worst = {"y0": 1.0, "y1": -2.0, "y2": 0.5}, {"y0": 1.0, "y1": 0.3, "y2": 2.0}
        states, moved = tracked(plant, wanted, worst=worst)
        # normal equations: u = (G'W G)^-1 G'W r with the static gain G
        g, w = -c @ np.linalg.solve(a, b), np.diag([1.0, 1.0 / 0.09, 0.25])
        u = np.linalg.solve(g.T @ w @ g, g.T @ w @ np.array([1.0, -2.0, 0.5]))
        np.testing.assert_allclose(list(moved.values()), u, rtol=1e-9)
        # and the closed loop comes to rest there: u = moved - K (x - states)
        found = optimal_states(plant, worst={"y0": 1.0, "y1": 0.3, "y2": 2.0}, use={"u0": 1.0, "u1": 1.0})
        closed, t = found.closed(), np.linspace(0.0, 30.0, 3001)
        push = np.array(list(moved.values())) + found.gains @ np.array(list(states.values()))
        _, y = closed.response(t, np.tile(push, (len(t), 1)))
        np.testing.assert_allclose(y[-1, :3], g @ u, rtol=1e-6, atol=1e-9)
        with self.assertRaisesRegex(DravikError, "no weight for y2"):
            tracked(plant, wanted, worst={"y0": 1.0, "y1": 1.0})

    def test_observers(self) -> None:
        # the error's variance of the filter is that of the observer driven by the noises
        sticks = list(SIDE.inputs)
        seer = steady_observer(SIDE, noise=dict.fromkeys(sticks, 0.1), sensors={"p": "0.2 deg/s", "phi": "0.5 deg"})
        self.assertLess(seer.residual, 1e-10)
        c = np.eye(4)[[1, 3]]
        v = np.diag([math.radians(0.2) ** 2, math.radians(0.5) ** 2])
        error = SIDE.A - seer.gains @ c
        driven = SIDE.B @ SIDE.B.T * 0.01 + seer.gains @ v @ seer.gains.T
        np.testing.assert_allclose(solve_continuous_lyapunov(error, -driven), seer.variance, rtol=1e-7, atol=1e-15)
        # what it estimates of a plant without noise is the plant's state, also where the inputs show in the measurement
        rng = np.random.default_rng(9)
        plant = system(rng.normal(size=(3, 3)) - 2.0 * np.eye(3), rng.normal(size=(3, 1)), rng.normal(size=(1, 3)))
        plant = plant.with_facts(D=np.array([[0.7]]))
        watched = steady_observer(plant, noise={"u0": 1.0}, sensors={"y0": 0.3}).system()
        joined = dv.wired(
            plant, watched.renamed({"u0": "known"}), inputs=["u0"], outputs=watched.outputs, sums={"known": {"u0": 1.0}}
        )
        own = plant.with_facts(C=np.eye(3), D=np.zeros((3, 1)), outputs=watched.outputs)
        np.testing.assert_allclose(joined.frequency_response([0.4, 6.0]), own.frequency_response([0.4, 6.0]), rtol=1e-9)
        # separation: the loop's roots are those of the regulator and those of the observer
        regulator = optimal_states(SIDE, worst={"beta": "3 deg", "phi": "5 deg"}, use=dict.fromkeys(sticks, 0.5))
        whole = ClosedLoops(SIDE.with_facts()).close("law", with_observer(regulator, seer)).system()
        wanted = np.concatenate([regulator.poles, np.linalg.eigvals(error)])
        np.testing.assert_allclose(np.sort_complex(whole.poles()), np.sort_complex(wanted), rtol=1e-5)
        # recovery: the more noise at the inputs, the nearer the loop is to that of the states (all zeros in the left half)
        w = np.array([0.5, 2.0, 5.0])
        s = 1j * w
        full = np.array([regulator.gains @ np.linalg.solve(v * np.eye(4) - SIDE.A, SIDE.B) for v in s])
        off = []
        for size in (0.0, 10.0, 1000.0):
            seer = steady_observer(
                SIDE, noise=dict.fromkeys(sticks, 0.1), sensors={"beta": "0.5 deg", "phi": "0.5 deg"}, recovery=size
            )
            law = with_observer(regulator, seer)
            measured = SIDE.part(outputs=["beta", "phi"]).frequency_response(w)
            back = np.array([-k @ g for k, g in zip(law.frequency_response(w), measured, strict=True)])
            off.append(float(np.abs(back - full).max() / np.abs(full).max()))
        self.assertTrue(off[0] > off[1] > off[2])
        self.assertLess(off[2], 0.05)


if __name__ == "__main__":
    unittest.main()
