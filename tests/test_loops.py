"""Margins of loops against closed forms, and loops broken on the aircraft against its matrices and its flights."""

import json
import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np

import dravik as dv
from dravik.errors import DravikError
from dravik.linear.linearising import _overridden
from dravik.loops import Margins, cut_loop, margins
from tests.test_cli import run

LAWS = Path(dv.__file__).parent / "samples" / "tarn" / "laws"
HELD = dv.sample("tarn").with_law(*dv.load_law(LAWS / "pitch_hold.toml"))
POINT = dv.trim(HELD, airspeed="62 m/s", altitude="300 m")
INF, NAN = math.inf, math.nan


def loop(over: list[float], under: list[float]) -> dv.LinearSystem:
    return dv.LinearSystem.filtered("y", "u", over, under)


def cubic(k: float) -> float:
    """Return the gain crossing of k/(s (s + 1)^2): w (w^2 + 1) = k, by Cardano."""
    root = math.sqrt((k / 2.0) ** 2 + 1.0 / 27.0)
    return math.cbrt(k / 2.0 + root) + math.cbrt(k / 2.0 - root)


class MarginTest(unittest.TestCase):
    def hold(self, found: Margins, **wanted: float) -> None:
        for name, value in wanted.items():
            got = getattr(found, name)
            got = got[0] if isinstance(got, tuple) else got
            if math.isinf(value) or value == 0.0:
                self.assertEqual(got, value, name)
            else:
                self.assertAlmostEqual(got / value, 1.0, delta=1e-6, msg=name)
        self.assertTrue(found.agree, (found.unstable_roots, found.unstable_count))

    def test_closed_forms(self) -> None:
        one = cubic(1.0)
        slow = 0.5 * (math.sqrt(5.0) - 1.0)
        for name, system, delay, wanted in (
            # type 0: 10/(s + 1)^3; -180 deg at sqrt 3, where the gain is 10/8
            ("type 0", loop([4.0], [1, 3, 3, 1]), 0.0, {"gain_up": 2.0, "gain_down": 0.0, "phase": math.pi - 3 * math.atan(math.sqrt(4 ** (2 / 3) - 1))}),
            ("type 1", loop([1.0], [1, 2, 1, 0]), 0.0, {"gain_up": 2.0, "phase": math.pi / 2 - 2 * math.atan(one), "delay": (math.pi / 2 - 2 * math.atan(one)) / one}),
            # type 2: (s + 1)/s^2: w^2 = sqrt(w^2 + 1)
            ("type 2", loop([1.0, 1.0], [1, 0, 0]), 0.0, {"gain_up": INF, "gain_down": 0.0, "phase": math.atan(math.sqrt(1 / slow)), "unstable_count": 0.0}),
            # an integral with a delay: -180 deg at pi/2 tau
            ("delay", loop([1.0], [1, 0]), 0.5, {"gain_up": math.pi, "phase": math.pi / 2 - 0.5, "delay": math.pi / 2 - 0.5, "complementary": 1.0}),
            # an unstable plant: 2/(s - 1) has to have a gain above one half of this
            ("unstable", loop([2.0], [1, -1]), 0.0, {"gain_up": INF, "gain_down": 0.5, "phase": math.pi / 3, "complementary": 2.0, "disc": 2 / 3, "bandwidth": 1.0}),
            # and one with a gain margin on both sides: k/((s - 1)(s/10 + 1)^2), -180 deg at rest and where its two lags give 180 deg more
            ("two-sided", loop([3.0], np.polymul([1, -1], [0.01, 0.2, 1.0]).tolist()), 0.0, {"gain_down": 1 / 3, "gain_up": math.sqrt(80 + 1) * (0.01 * 80 + 1) / 3}),
            # non-minimum phase: k (1 - s)/(s (s + 1)): -180 deg at w = 1 of gain k
            ("right-hand zero", loop([-0.5, 0.5], [1, 1, 0]), 0.0, {"gain_up": 2.0, "phase": math.pi / 2 - 2 * math.atan(0.5), "delay": (math.pi / 2 - 2 * math.atan(0.5)) / 0.5}),
            # conditionally stable: (s + 1)^2/s^3 crosses the axis at w = 1 with gain 2: less gain is the danger
            ("conditional", loop([1, 2, 1], [1, 0, 0, 0]), 0.0, {"gain_up": INF, "gain_down": 0.5}),
            # sampled: z/(z - 1)/... of an integral with a hold and one sample of delay, k = 0.5: T/(z - 1) z^-1, -180 deg where w T/2 + w T = pi/2
            ("sampled", sampled(0.5), 0.0, {"gain_up": 1 / (0.5 / (2 * math.sin(math.pi / 6))), "gain_down": 0.0}),
            ("lag", loop([1.0], [1, 1]), 0.0, {"gain_up": INF, "phase": INF, "sensitivity": 1.0, "complementary": 0.5, "disc": 2.0, "bandwidth": 2.0}),
        ):  # fmt: skip
            with self.subTest(name):
                self.hold(margins(system, delay=delay), **wanted)  # type: ignore[arg-type]

    def test_where_a_peak_is(self) -> None:
        # T = 1/(s^2 + 2 d s + 1): 1/(2 d sqrt(1 - d^2)) at sqrt(1 - 2 d^2)
        for d in (0.02, 0.3, 0.5):
            height, at = margins(loop([1.0], [1.0, 2.0 * d, 0.0])).complementary
            self.assertAlmostEqual(height * 2.0 * d * math.sqrt(1.0 - d * d), 1.0, delta=1e-11)
            self.assertAlmostEqual(at / math.sqrt(1.0 - 2.0 * d * d), 1.0, delta=1e-7)

    def test_the_disc_in_gain_and_phase(self) -> None:
        # 2/(s - 1): the disc of 2/3 reaches from half the gain to twice of it
        found = margins(loop([2.0], [1, -1]))
        np.testing.assert_allclose(found.disc_gain, [0.5, 2.0], rtol=1e-9)
        self.assertAlmostEqual(found.disc_phase, 2.0 * math.atan(1.0 / 3.0), places=9)

    def test_a_light_pair_below_the_crossover_is_not_missed(self) -> None:
        # three gain crossings within a narrow resonance, found though a plain grid of decades would step over them
        pair = dv.LinearSystem.filtered("z", "y", [1, 2e-2 * 3.0, 9.0], [1, 2e-3 * 3.0, 9.0])
        system = loop([0.5], [1, 0]).followed_by(pair)
        found = margins(system)
        gains = [c.frequency for c in found.crossings if c.kind == "gain"]
        self.assertEqual(len(gains), 3)
        for w in gains:
            self.assertAlmostEqual(float(np.abs(system.frequency_response([w])[0, 0, 0])), 1.0, places=7)
        self.assertAlmostEqual(
            found.phase, min(abs(float(np.angle(-system.frequency_response([w])[0, 0, 0]))) for w in gains), places=7
        )

    def test_what_margins_promise(self) -> None:
        # at the margin the closed loop has a root on the axis; a little beyond it is unstable, by both counts
        system = loop([2.0, 3.0], [1.0, 2.4, 4.1, 2.2, 0.0])
        found = margins(system)
        for factor in (found.gain_up, found.gain_up * 0.99, found.gain_up * 1.01):
            more = loop([2.0 * factor, 3.0 * factor], [1.0, 2.4, 4.1, 2.2, 0.0])
            self.assertEqual(margins(more).is_stable, factor < found.gain_up * 0.999)
        self.assertTrue(margins(system, delay=0.99 * found.delay).is_stable)
        self.assertFalse(margins(system, delay=1.01 * found.delay).is_stable)
        # the disc: any gain and phase within it
        down, up = found.disc_gain
        self.assertTrue(down >= found.gain_down and up <= found.gain_up and found.disc_phase <= found.phase)
        for factor in (down * 1.001, up * 0.999):
            self.assertTrue(margins(loop([2.0 * factor, 3.0 * factor], [1.0, 2.4, 4.1, 2.2, 0.0])).is_stable)
        # both counts of loops that are not stable
        for system, unstable in (
            (loop([5.0], [1, 2, 1, 0]), 2), (loop([0.3], [1, -1]), 1), (loop([1.0], [1, -1, 4.0, 1.0]), 2), (loop([-2.0], [1, 1]), 1), (loop([-0.5, -1.5], [1, 1]), 1),
        ):  # fmt: skip
            found = margins(system)
            self.assertEqual((found.unstable_roots, found.unstable_count, found.is_stable), (unstable, unstable, False))
        self.assertFalse(margins(loop([0.5], [1, 0, 0])).is_stable)  # it passes through -1
        for what, words in (
            (lambda: margins(loop([1.0], [1, 1]), delay=-1.0), "zero or more"), (lambda: margins(3), "a LinearSystem"),  # type: ignore[arg-type]
            (lambda: margins(dv.linearise(HELD, POINT)), "one channel"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                what()


def sampled(gain: float) -> dv.LinearSystem:
    """Return gain T/(z (z - 1)) with T of a tenth of a second: an integral with a hold and a sample of delay."""
    system = dv.LinearSystem.of(
        [[1.0, 0.1 * gain / 0.1], [0.0, 0.0]],
        [[0.0], [1.0]],
        states=["a", "b"],
        inputs=["u"],
        outputs=["y"],
        C=[[1.0, 0.0]],
    )
    return system.with_facts(sample_time=0.1)


class AircraftTest(unittest.TestCase):
    def test_the_return_difference_is_that_of_the_matrices(self) -> None:
        # 1 + L is the ratio of the closed and open characteristic polynomials
        open_loop = cut_loop(HELD, POINT, "elevator_command")
        closed = dv.linearise(HELD, POINT)
        states = [n for n in open_loop.states if n in closed.states]
        a = closed.part(states=states).A
        for w in (0.3, 1.0, 4.0, 12.0):
            ratio = np.linalg.det(1j * w * np.eye(len(a)) - a) / np.linalg.det(
                1j * w * np.eye(len(open_loop.A)) - open_loop.A
            )
            back = 1.0 + open_loop.frequency_response([w])[0, 0, 0]
            self.assertAlmostEqual(abs(ratio / back), 1.0, delta=1e-6)
        # closed again it is the closed loop: to the last digits by its own matrices, and as the law closes it
        again = open_loop.A - open_loop.B @ open_loop.C[:1]
        for w in (0.3, 4.0):
            ratio = np.linalg.det(1j * w * np.eye(len(again)) - again) / np.linalg.det(
                1j * w * np.eye(len(again)) - open_loop.A
            )
            self.assertAlmostEqual(abs(ratio / (1.0 + open_loop.frequency_response([w])[0, 0, 0])), 1.0, delta=1e-9)
        np.testing.assert_allclose(again, a, rtol=1e-6, atol=1e-7)
        self.assertTrue(margins(open_loop).is_stable)

    def test_the_nonlinear_aircraft_answers_at_the_break_as_the_loop_says(self) -> None:
        open_loop = cut_loop(HELD, POINT, "elevator_command")
        moved = _overridden(POINT, ["elevator_command"], [])
        for w in (1.0, 2.0, 4.0, 8.0, 14.0):
            size, periods = math.radians(0.2), max(6, round(40.0 * w / (2.0 * math.pi)))
            lasts = round(periods * 2.0 * math.pi / w, 2)
            flown = dv.fly(
                moved.craft, start=moved, duration=lasts, record=["elevator_command"],
                controls={"elevator_command_injected": dv.sine(f"{size} rad", frequency=w / (2.0 * math.pi))},
            )  # fmt: skip
            t, back = flown.time, flown["elevator_command"] - flown["elevator_command"][0]
            late = t > 0.6 * lasts
            # sine, cosine, and the slow phugoid and drift beside them
            slow = 0.193
            base = np.stack(
                [
                    np.sin(w * t),
                    np.cos(w * t),
                    np.ones_like(t),
                    t,
                    np.exp(-0.0107 * t) * np.sin(slow * t),
                    np.exp(-0.0107 * t) * np.cos(slow * t),
                ],
                1,
            )[late]
            fit = np.linalg.lstsq(base, back[late], rcond=None)[0]
            found = -(fit[0] + 1j * fit[1]) / size
            self.assertAlmostEqual(
                abs(found / open_loop.frequency_response([w])[0, 0, 0] - 1.0), 0.0, delta=0.01, msg=f"{w}"
            )

    def test_margins_among_the_handling_qualities(self) -> None:
        found = dv.handling_qualities(HELD, POINT, sets=["margins"])
        own = margins(cut_loop(HELD, POINT, "elevator_command"))
        self.assertEqual(
            [c.name for c in found.criteria], ["elevator loop, gain margin", "elevator loop, phase margin"]
        )
        self.assertAlmostEqual(found.criteria[1].value, math.degrees(own.phase), places=9)
        self.assertEqual(found.level, 1)
        bare = dv.sample("tarn")
        lines = dv.handling_qualities(bare, dv.trim(bare, airspeed="62 m/s", altitude="300 m"), sets=["margins"])
        self.assertIn("no law closes a loop", lines.unjudged[0])

    def test_other_outputs_keep_their_sign(self) -> None:
        both = cut_loop(HELD, POINT, "elevator_command", outputs=["q"])
        self.assertEqual(both.outputs, ["elevator_command", "q"])
        # what is put in pitches down when positive, and what comes back works against it
        rate = both.part(outputs=["q"]).frequency_response([3.0])[0, 0, 0]
        bare = dv.linearise(POINT.craft, POINT, outputs=["q"]).part(inputs=["elevator_increment"], outputs=["q"])
        alone = both.part(outputs=["elevator_command"]).frequency_response([3.0])[0, 0, 0]
        self.assertAlmostEqual(abs(bare.frequency_response([3.0])[0, 0, 0] * (1.0 + alone) / rate), 1.0, delta=1e-5)
        np.testing.assert_allclose(
            both.part(outputs=["elevator_command"]).frequency_response([0.5, 5.0]),
            cut_loop(HELD, POINT, "elevator_command").frequency_response([0.5, 5.0]), rtol=1e-9,
        )  # fmt: skip
        self.assertLess(rate.real + rate.imag, 0.0)

    def test_refusals_and_the_command(self) -> None:
        bare = dv.sample("tarn")
        with self.assertRaisesRegex(DravikError, "does not come back"):
            cut_loop(bare, dv.trim(bare, airspeed="62 m/s", altitude="300 m"), "elevator_command")
        at: tuple[str, ...] = ("--airspeed", "62 m/s", "--altitude", "300 m", "--law", "pitch_hold")
        with tempfile.TemporaryDirectory() as folder:
            picture = Path(folder) / "loop.png"
            code, text, _ = run("loop", "tarn", *at, "--delay", "80 ms", "--figure", str(picture), "--json")
            self.assertGreater(picture.stat().st_size, 20_000)
        found: dict[str, Any] = json.loads(text)
        self.assertEqual((code, found["holds"], found["stable"]), (0, True, True))
        self.assertAlmostEqual(
            found["phase_margin_deg"],
            math.degrees(margins(cut_loop(HELD, POINT, "elevator_command"), delay=0.08).phase),
            places=6,
        )
        self.assertEqual(run("loop", "tarn", *at, "--delay", "150 ms")[0], 1)
        self.assertEqual(run("loop", "tarn", *at, "--at", "elevatr")[0], 2)
