"""Scorecards of flights: figures of changes of targets against closed forms, and of a flight."""

import json
import math
import tempfile
import unittest
from pathlib import Path

import numpy as np

import dravik as dv
from dravik.errors import DravikError
from dravik.recording import Recording
from dravik.validation import scorecard
from dravik.validation.scorecards import targets_of
from tests.test_cli import run
from tests.test_loops import HELD, POINT


def recorded(t: np.ndarray, **signals: np.ndarray) -> Recording:
    names = ["time", *signals]
    return Recording(names, dict.fromkeys(names, ""), np.stack([t, *signals.values()], 1))


class ScorecardTest(unittest.TestCase):
    def test_a_second_order_answer(self) -> None:
        t = np.linspace(0.0, 40.0, 40001)
        damping, w = 0.4, 2.0
        turned = w * math.sqrt(1.0 - damping**2)

        def answered(since: np.ndarray) -> np.ndarray:
            s = np.maximum(since, 0.0)
            return 1.0 - np.exp(-damping * w * s) * (np.cos(turned * s) + damping * w / turned * np.sin(turned * s))

        target = 3.0 + 5.0 * (t > 2.0) - 2.0 * (t > 20.0)
        actual = 3.0 + 5.0 * answered(t - 2.0) - 2.0 * answered(t - 20.0)
        moved = np.abs(np.mod(t, 2.0) - 1.0)
        first, second = scorecard(recorded(t, height_target=target, height=actual, elevator=moved))
        over = math.exp(-damping * math.pi / math.sqrt(1.0 - damping**2))
        for found, begins, after in ((first, 2.0, 8.0), (second, 20.0, 6.0)):
            self.assertEqual((found.target, found.actual, found.after), ("height_target", "height", after))
            self.assertAlmostEqual(found.begins, begins, delta=2e-3)
            self.assertAlmostEqual(found.overshoot, over, delta=1e-3)
            self.assertAlmostEqual(found.steady_error, 0.0, delta=1e-3)
            # the same answer, whatever its size and sign: rise of the closed form by bisection
            u = np.linspace(0.0, 10.0, 1000001)
            share = answered(u)
            rise = u[int(np.argmax(share >= 0.9))] - u[int(np.argmax(share >= 0.1))]
            self.assertAlmostEqual(found.rise, float(rise), delta=2e-3)
            last = u[np.flatnonzero(np.abs(share - 1.0) > 0.05)[-1]]
            self.assertAlmostEqual(found.settling, float(last), delta=3e-3)
            # a triangle of a unit a second
            self.assertAlmostEqual(found.activity["elevator"], 1.0, delta=1e-3)

    def test_a_control_at_its_stop_is_no_target_and_a_dash_has_its_reason(self) -> None:
        t = np.linspace(0.0, 10.0, 1001)
        asked = np.where(t > 1.0, 2.0, 0.0)
        run_ = recorded(t, flap=np.minimum(asked, 0.6), flap_command=asked, theta=0.5 * asked, theta_command=asked)
        self.assertEqual(targets_of(run_), {"flap_command": "flap", "theta_command": "theta"})
        kept = Recording(run_.names, run_.units, run_.values, metadata={"limits": {"flap": [0.0, 0.6]}})
        self.assertEqual(targets_of(kept), {"theta_command": "theta"})
        (found,) = scorecard(kept)
        self.assertAlmostEqual(found.activity["flap"], 0.6 / 9.0, delta=1e-3)
        self.assertEqual(found.why, "90 % not reached; not settled in 8.99 s")
        self.assertEqual(scorecard(recorded(t, theta=asked, theta_command=asked))[0].why, "")
        with tempfile.TemporaryDirectory() as folder:
            both = recorded(t, theta=asked, theta_command=asked, psi=asked, psi_command=asked, elevator=asked)
            both.save(Path(folder) / "x.csv")
            _, out, _ = run("score", str(Path(folder) / "x.csv"))
        self.assertEqual((out.count("elevator"), out.count("the same")), (1, 1))

    def test_ramps_rests_and_what_never_comes(self) -> None:
        t = np.linspace(0.0, 20.0, 2001)
        target = np.clip(t - 1.0, 0.0, 4.0)
        lagged = recorded(t, climb_command=target, climb=0.5 * target)
        (found,) = scorecard(lagged)
        self.assertAlmostEqual(found.begins, 1.0, delta=0.02)
        self.assertTrue(math.isnan(found.rise) and math.isnan(found.settling))
        self.assertAlmostEqual(found.steady_error, 2.0, places=9)
        # headings go round the short way
        turned = np.mod(
            np.radians(350.0) + np.radians(20.0) * (t > 5.0) * (1.0 - np.exp(-np.maximum(t - 5.0, 0.0))), 2.0 * math.pi
        )
        asked = np.mod(np.radians(350.0) + np.radians(20.0) * (t > 5.0), 2.0 * math.pi)
        of = dict.fromkeys(("psi", "psi_command"), "rad")
        (round_,) = scorecard(Recording(["time", *of], of, np.stack([t, turned, asked], 1)))
        self.assertAlmostEqual(round_.after - round_.before, math.radians(20.0), places=9)
        self.assertAlmostEqual(round_.rise, math.log(9.0), delta=0.02)
        # half a turn: the way round that was flown is the one that counts
        for sign in (1.0, -1.0):
            flown = np.mod(
                0.5 * math.pi + sign * math.pi * (t > 5.0) * (1.0 - np.exp(-2.0 * np.maximum(t - 5.0, 0.0))),
                2.0 * math.pi,
            )
            asked = np.where(t > 5.0, 1.5 * math.pi, 0.5 * math.pi)
            with self.assertRaisesRegex(DravikError, "are in different units"):
                scorecard(Recording(["time", *of], {**of, next(iter(of)): "m"}, np.stack([t, flown, asked], 1)))
            (half,) = scorecard(Recording(["time", *of], of, np.stack([t, flown, asked], 1)))
            self.assertAlmostEqual(half.rise, 0.5 * math.log(9.0), delta=0.02)
            self.assertAlmostEqual(half.steady_error, 0.0, delta=1e-6)
            self.assertLess(half.overshoot, 1e-6)
        # in a scenario the next phase may follow something else: what comes then does not count
        phases = recorded(
            t,
            phase=np.where(t > 12.0, 2.0, 1.0),
            climb_command=1.0 * (t > 2.0),
            climb=np.where(t > 12.0, -5.0, 1.0 * (t > 2.5)),
        )
        (within,) = scorecard(phases)
        self.assertAlmostEqual(within.ends, 12.0, delta=0.02)
        self.assertAlmostEqual(within.steady_error, 0.0, places=9)
        # what an outer loop asks for all the time is no change; a control's command no target
        self.assertEqual(scorecard(recorded(t, q=np.sin(t), q_demand=np.sin(t + 0.1))), [])
        self.assertEqual(targets_of(recorded(t, elevator=t, elevator_command=t)), {})
        with self.assertRaisesRegex(DravikError, "no target that its name tells"):
            scorecard(recorded(t, alpha=t))
        with self.assertRaisesRegex(DravikError, "no signal 'beta'"):
            scorecard(recorded(t, alpha=t), {"alpha": "beta"})

    def test_of_a_flight_and_beside_another(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            paths = [str(Path(folder) / f"{n}.csv") for n in ("soft", "firm")]
            for path, gain in zip(paths, (1.0, 3.0), strict=True):
                craft = HELD.with_parameters({"pitch_hold_gain": gain})
                dv.fly(craft, start=POINT, duration=10, controls={"theta_command": dv.step("2 deg", at=1)}, save=path)
            code, text, _ = run("score", paths[0], "--beside", paths[1], "--json")
            soft, firm = (f["changes"][0] for f in json.loads(text)["flights"])
            self.assertEqual((code, soft["target"]), (0, "theta_command"))
            self.assertGreater(soft["rise"], firm["rise"])
            self.assertGreater(firm["elevator_activity"], soft["elevator_activity"])
            self.assertIn("theta_comma", run("score", paths[0])[1])
            self.assertEqual(run("score", paths[0], "--target", "alpha=zeta")[0], 2)


if __name__ == "__main__":
    unittest.main()
