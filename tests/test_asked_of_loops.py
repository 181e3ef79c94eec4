"""What loops and linear systems promise: in any units of the states, stability first, crossings where they are."""

import itertools
import math
import shutil
import tempfile
import unittest
import warnings
from pathlib import Path

import numpy as np
import scipy.linalg

import dravik as dv
from dravik.errors import DravikError
from dravik.loops import (
    GainTarget,
    Nonlinearity,
    cut_loop,
    gain_for,
    law_of,
    limit_cycles,
    locus_over_gain,
    margins,
    optimal_states,
    read_loops,
    steady_errors,
    study_loops,
)
from dravik.report import figure_loop
from dravik.systems import TimeResponse, time_response
from tests.test_asked_of_trims import OWN
from tests.test_cli import run

F = dv.LinearSystem.filtered
poly = np.polymul


class UnitsTest(unittest.TestCase):
    def test_optimal_gains_in_states_of_any_size(self) -> None:
        a = np.array([[0.0, 1, 0, 0], [0, -0.3, 2, 0], [0, 0.4, -1.5, 3], [0, 0, 0, -12]])
        b = np.array([[0.0], [0], [0], [12]])
        right = b.T @ scipy.linalg.solve_continuous_are(a, b, np.eye(4), np.eye(1))
        for sizes in ((1, 1, 1, 1), (1e4, 10, 1e-4, 1e-2), (1e5, 1e2, 1e-3, 1e-3), (1e-4, 1e4, 1, 1e2)):
            d = np.array(sizes, dtype=float)
            system = dv.LinearSystem.of(a * d[:, None] / d[None, :], d[:, None] * b, states=list("abcd"), inputs=["u"])
            found = optimal_states(system, worst=dict(zip("abcd", d, strict=True)), use={"u": 1.0})
            np.testing.assert_allclose(found.gains * d, right, rtol=1e-9)

    def test_reduction_and_gains_in_states_of_any_size(self) -> None:
        n = 12
        a = np.zeros((n, n))
        for i, w in enumerate(np.geomspace(0.01, 900, n // 2)):
            a[2 * i : 2 * i + 2, 2 * i : 2 * i + 2] = [[-0.1 * w, w], [-w, -0.1 * w]]
        rng = np.random.default_rng(2)
        b, c = rng.normal(size=(n, 1)), rng.normal(size=(1, n))

        def made(d: "np.ndarray[tuple[int], np.dtype[np.float64]]") -> dv.LinearSystem:
            return dv.LinearSystem.of(
                a * d[:, None] / d[None, :], d[:, None] * b, states=[f"s{i}" for i in range(n)], inputs=["u"],
                C=c / d[None, :], outputs=["y"],
            )  # fmt: skip

        base, moved = made(np.ones(n)), made(10.0 ** rng.uniform(-5, 5, n))
        np.testing.assert_allclose(moved.hankel(), base.hankel(), rtol=1e-6)
        np.testing.assert_allclose(moved.gains(), -c @ np.linalg.solve(a, b), rtol=1e-8)
        np.testing.assert_allclose(moved.covariance(), base.covariance(), rtol=1e-6)
        w = np.geomspace(1e-3, 1e4, 300)
        bound = 2.0 * float(np.sum(base.hankel()[8:]))
        off = np.abs(moved.reduced(8).frequency_response(w) - base.frequency_response(w)).max()
        self.assertLessEqual(off, bound * 1.001)

    def test_steady_errors_at_zero_frequency(self) -> None:
        for numbers, den, kind, right in (
            ([8.0], poly([800, 1], [1 / 120, 1]), "step", 1.0 / 9.0),
            ([2.0], poly([1, 0], poly([500, 1], [0.02, 1])), "ramp", 0.5),
        ):
            self.assertAlmostEqual(getattr(steady_errors(F("y", "u", numbers, den)), kind), right, places=6)
        unstable = steady_errors(F("y", "u", [9.0], [1.0, 3, 2, 0]))
        self.assertTrue(math.isnan(unstable.step) and math.isnan(unstable.ramp))


class StepTest(unittest.TestCase):
    def test_figures_against_partial_fractions(self) -> None:
        cases = (
            ([-1.0, 0.8], [1, 3.5, 2.5], 12.0), ([16.0], [1, 0.24, 16], 60.0),
            (poly([1 / 0.06, 1], [144.0]), poly([1 / 0.05, 1], [1, 9.6, 144]), 100.0),
        )  # fmt: skip
        for num, den, far in cases:
            poles, t = np.roots(den), np.linspace(0.0, far, 400001)
            y = np.real(sum(np.polyval(num, p) / (p * np.polyval(np.polyder(den), p)) * np.exp(p * t) for p in poles))
            y = y / (num[-1] / den[-1]) + 1.0
            found, tick = time_response(F("y", "u", num, den), "y", "u").metrics(), 1.01 * far / 400000
            self.assertAlmostEqual(found.rise, t[np.argmax(y >= 0.9)] - t[np.argmax(y >= 0.1)], delta=2 * tick)
            self.assertAlmostEqual(found.settling, t[np.flatnonzero(np.abs(y - 1) > 0.02)[-1]], delta=tick)
            self.assertAlmostEqual(found.overshoot, max(float(y.max()) - 1.0, 0.0), places=6)
            if found.overshoot > 0.0:
                self.assertAlmostEqual(found.peak_time, t[np.argmax(y)], delta=tick)
        # values of one's own have no curve behind them
        t = np.linspace(0.0, 5.0, 501)
        self.assertAlmostEqual(
            TimeResponse("y", "u", "step", t, 1.0 - np.exp(-t), 1.0).metrics().rise, math.log(9.0), delta=1e-3
        )


class MarginsTest(unittest.TestCase):
    def test_no_praise_for_a_loop_that_is_not_stable(self) -> None:
        found = margins(F("y", "u", [14.0], [1.0, 3.0, 2.0, 0.0]))
        w = found_at = next(c.frequency for c in found.crossings if c.kind == "gain")
        phase = math.pi + float(np.unwrap(np.angle([14.0 / (1j * w * (1j * w + 1) * (1j * w + 2))]))[0])
        phase = (phase + math.pi) % (2 * math.pi) - math.pi
        self.assertTrue(found_at > 0 and phase < 0.0)
        self.assertAlmostEqual(found.phase, phase, places=6)
        self.assertTrue(not found.is_stable and found.gain_decibels < 0.0 and math.isnan(found.delay))
        self.assertAlmostEqual(found.gain_decibels, 20 * math.log10(6.0 / 14.0), places=6)
        # a root that the loop does not see keeps it unstable, and is named with its state
        system = dv.LinearSystem.of(
            np.diag([0.7, -3.0]), [[0.0], [1.0]], states=["a", "b"], inputs=["u"], C=[[1.0, 1.0]], outputs=["y"]
        )
        hidden = margins(system)
        self.assertFalse(hidden.is_stable)
        self.assertEqual([g.state for g in hidden.growing], ["a"])

    def test_gains_far_away_and_integrators(self) -> None:
        for k in (0.03, 0.002):
            self.assertAlmostEqual(margins(F("y", "u", [k], np.poly([-1.0] * 3))).gain_up * k / 8.0, 1.0, places=6)
        self.assertAlmostEqual(margins(F("y", "u", [-0.4, 1.6], [1.0, 3.0])).gain_up, 2.5, places=6)
        for n in (2, 3, 4, 5):
            top, below = 6.0 * np.poly([-1.0] * (n - 1)), [1.0] + [0.0] * n
            count = int(np.sum(np.roots(np.polyadd(below, top)).real > 0.0))
            found = margins(F("y", "u", top, below))
            self.assertEqual((found.unstable_count, found.is_stable), (count, count == 0))
        slow = F("y", "u", [1.0], poly([1, -2e-4], poly([1, 1], [1, 8])))
        gains = sorted(round(c.gain, 5) for c in locus_over_gain(slow).crossings())
        self.assertAlmostEqual(gains[0], 0.0016, places=5)
        cycles = limit_cycles(F("y", "u", [1.5], [1, 1.2, 0]), Nonlinearity("relay", 1.0), delay=0.25)
        self.assertEqual(sum(c.is_stable for c in cycles), 1)

    def test_a_wish_that_cannot_be_had_names_the_most(self) -> None:
        loop = F("y", "u", [1.0, 1.0], poly([1.0, 0.8, 9.0], [1.0, 8.0]))
        best = 0.0
        for k in np.geomspace(0.01, 1000.0, 4000):
            roots = np.roots(np.polyadd(poly([1.0, 0.8, 9.0], [1.0, 8.0]), [k, k]))
            pair = roots[np.abs(roots.imag) > 1e-9]
            best = max(best, min((-r.real / abs(r) for r in pair), default=0.0))
        with self.assertRaisesRegex(DravikError, f"{best:.3f}"[:4]):
            gain_for(loop, GainTarget(damping=0.95, near=3.0))

    def test_one_of_two_elevons(self) -> None:
        folder = OWN / "skarv"
        craft = dv.load(folder).with_law(*dv.load_law(folder / "laws" / "cstar_lq.toml"))
        w = np.geomspace(0.01, 300.0, 20000)
        phases = []
        for speed in (220, 230, 240):
            loop = cut_loop(craft, dv.trim(craft, airspeed=speed, altitude=4000), "elevon_left_command")
            values = loop.frequency_response(w)[:, 0, 0]
            unit = np.flatnonzero((np.abs(values[:-1]) - 1.0) * (np.abs(values[1:]) - 1.0) < 0.0)
            right = min(abs(np.angle(-values[unit])))
            found = margins(loop)
            self.assertAlmostEqual(abs(found.phase), right, delta=2e-3)
            phases.append(found.phase)
            # the figure reaches what it reports: the peak of a slow mode, and the worst loop's curve in its panels
        self.assertTrue(all(abs(a - b) < 0.2 for a, b in itertools.pairwise(phases)))


class PlanTest(unittest.TestCase):
    PLAN = (
        'format = 1\nname = "x"\naircraft = "pika"\nhold = ["airspeed", "altitude", "psi", "north", "east"]\n[condition]\n'
        'airspeed = "17 m/s"\naltitude = "400 m"\n[[loop]]\nname = "damper"\nmeasures = "q"\nmoves = "elevator"\n'
        'command = "q_demand"\nproportional = -0.05\n[[loop]]\nname = "attitude"\nmeasures = "theta"\nmoves = "q_demand"\n'
        'command = "theta_command"\ncrossover = "1.4 rad/s"\nzero = "{} rad/s"\n'
    )

    def test_margins_in_states_over_fifteen_decades(self) -> None:
        rng = np.random.default_rng(5)
        for _ in range(40):
            n = int(rng.integers(2, 7))
            a, b, c = rng.normal(size=(n, n)), rng.normal(size=(n, 1)), rng.normal(size=(1, n))
            k = np.diag(10.0 ** rng.uniform(-8.0, 8.0, n))
            names = [f"x{i}" for i in range(n)]
            one, other = (
                margins(dv.LinearSystem.of(*m, C=o, states=names, inputs=["u"], outputs=["y"]))
                for m, o in (((a, b), c), ((k @ a @ np.linalg.inv(k), k @ b), c @ np.linalg.inv(k)))
            )
            self.assertEqual((one.unstable_count, one.unstable_roots), (other.unstable_count, other.unstable_roots))
            np.testing.assert_allclose(
                [one.gain_up, one.phase, one.disc], [other.gain_up, other.phase, other.disc], rtol=1e-4
            )

    def test_a_root_that_rounding_alone_couples_decides_nothing(self) -> None:
        # 1/(s (s + 5)) beside a spiral that doubles in 48 s, read and moved at 4e-12: no gain moves it
        for slow, closes in ((0.01434, True), (0.2, False)):
            a = np.array([[0.0, 1.0, 4e-12], [0.0, -5.0, 0.0], [0.0, 4e-12, slow]])
            loop = dv.LinearSystem.of(
                a, [[0.0], [1.0], [0.0]], C=[[1.0, 0.0, 0.0]], states=["y", "v", "phi"], inputs=["u"], outputs=["y"]
            )
            found = margins(loop.with_facts(C=10.0 * loop.C))
            self.assertEqual([(g.state, g.is_hidden) for g in found.growing], [("phi", True)])
            self.assertEqual((found.closes, found.is_stable), (closes, False))
        slow = loop.with_facts(A=np.where(a == 0.2, 0.01434, a))
        self.assertAlmostEqual(gain_for(slow, GainTarget(crossover=2.0)).gain, 2.0 * math.hypot(2.0, 5.0), places=6)
        # what grows by e^(0.0143 t) at 1e-11 of the answer is none of a step of ten seconds
        figures = time_response(slow.part(inputs=["u"], outputs=["y"]), "y", "u", duration=10.0).metrics()
        self.assertFalse(any(math.isinf(v) for v in figures))

    def test_a_plan_finds_its_aircraft_from_its_own_folder(self) -> None:
        with tempfile.TemporaryDirectory() as place:
            shutil.copytree(OWN / "lom", Path(place) / "lom")
            (Path(place) / "lom" / "loops").mkdir()
            file = Path(place) / "lom" / "loops" / "own.toml"
            file.write_text(
                'format = 1\nname = "own"\naircraft = ".."\n[condition]\nairspeed = "60 m/s"\naltitude = "500 m"\n'
                '[[loop]]\nname = "rate"\nmeasures = "q"\nmoves = "elevator"\ncontroller = "P"\ncrossover = "2 rad/s"\n'
            )
            code, out, err = run("loop", str(file))
            self.assertIn(code, (0, 1), err)
            self.assertIn("Lom", out)

    def test_crossover_holds_with_a_zero(self) -> None:
        craft = dv.sample("pika")
        point = dv.trim(craft, airspeed=17, altitude=400)
        for zero in (0.05, 1.4, 5.6):
            with tempfile.TemporaryDirectory() as folder:
                file = Path(folder) / "plan.toml"
                file.write_text(self.PLAN.format(zero))
                loop = study_loops(craft, read_loops(file), point=point).loops[1]
            self.assertAlmostEqual(abs(loop.open_loop.frequency_response([1.4])[0, 0, 0]), 1.0, delta=2e-6)
            self.assertTrue(any(abs(c.frequency - 1.4) < 1e-5 for c in loop.margins.crossings if c.kind == "gain"))

    def test_integrals_of_a_written_law_end_where_the_effector_stops(self) -> None:
        import re

        tarn = dv.sample("tarn")
        study = study_loops(tarn, read_loops(dv.aircraft.sample_path("tarn") / "loops" / "pitch.toml"))
        limits = [float(x) for x in re.findall(r"(?:low|high)=(-?[0-9.]+)", law_of(study))]
        inner = study.loops[0].pid.proportional
        ends = sorted(math.degrees(x * inner) for x in limits[:2])
        trimmed = math.degrees(study.point["elevator"])
        self.assertAlmostEqual(ends[0], -25.0 - trimmed, delta=0.1)
        self.assertAlmostEqual(ends[1], 15.0 - trimmed, delta=0.1)


class TakenTest(unittest.TestCase):
    def test_matrices_and_rates_that_are_no_numbers(self) -> None:
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            for bad in (np.array([[2j]]), [[math.nan]], [[math.inf]]):
                with self.assertRaises(DravikError):
                    dv.LinearSystem.of(bad, [[1.0]], states=["a"], inputs=["u"])
        nan = dv.plant(lambda t, x, u: [math.nan, x[0]], states=["a", "b"], inputs=["u"])
        with self.assertRaises(DravikError):
            dv.linearise_plant(nan, np.array([1.0, 0.0]), np.array([0.0]))
        buffer = np.zeros(2)

        def reuses(t: float, x: "np.ndarray[tuple[int], np.dtype[np.float64]]", u: object) -> object:
            buffer[0], buffer[1] = x[1], -x[0]
            return buffer

        flown = dv.fly(
            dv.plant(reuses, states=["a", "b"]),
            start=dv.Start(np.array([1.0, 0.0]), np.zeros(0)),
            duration=0.8,
            dt=0.01,
        )
        self.assertAlmostEqual(float(flown["a"][-1]), math.cos(0.8), places=6)

        def writes(t: float, x: "np.ndarray[tuple[int], np.dtype[np.float64]]", u: object) -> object:
            rates = [x[0] - 4 + x[1], x[1] - 1]
            x[0] = 77.0
            return rates

        found = dv.trim_plant(dv.plant(writes, states=["a", "b"]), free=["a", "b"])
        np.testing.assert_allclose(found.state, [3.0, 1.0], atol=1e-9)

    def test_figures_reach_what_they_report(self) -> None:
        # a lightly damped slow mode under a fast loop
        loop = F("y", "u", poly([1.0, 0.1], [40.0]), poly([1, 0.0004, 0.01], [1, 9.0, 30.0]))
        figure = figure_loop(loop, margins(loop))
        drawn = max(float(np.nanmax(line.get_ydata())) for line in figure.axes[0].lines if len(line.get_ydata()) > 50)
        w = np.geomspace(0.0999, 0.1001, 20001)
        self.assertAlmostEqual(drawn, 20.0 * math.log10(np.abs(loop.frequency_response(w)).max()), delta=0.05)


class RateTest(unittest.TestCase):
    def test_criteria_and_plans_know_what_a_laws_rate_costs(self) -> None:
        law = 'format = 1\nname = "damper"\n{}[formulas]\nmove = {{ formula = "0.55*q", unit = "rad" }}\n[add]\nelevator = "move"\n'
        lom, found = dv.load(OWN / "lom"), []
        for head in ("", 'rate = "10 Hz"\ndelay = "100 ms"\n'):
            with tempfile.TemporaryDirectory() as folder:
                file = Path(folder) / "law.toml"
                file.write_text(law.format(head))
                craft = lom.with_law(*dv.load_law(file))
            point = dv.trim(craft, airspeed=90, altitude=1500)
            judged = dv.handling_qualities(craft, point, aircraft_class="I", category="A", sets=["responses"])
            found.append({c.name: c.value for c in judged.criteria})
        # 0.15 s later round the damper's loop: less damping of the same aircraft
        name = "pitch, equivalent damping"
        self.assertLess(found[1].get(name, 0.0), found[0][name] - 0.05)
