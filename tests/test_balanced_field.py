"""An engine that fails on the roll: against closed forms of a constant thrust, and flown from brake release."""

import json
import math
import unittest
from typing import Any

import numpy as np
from scipy.optimize import brentq

import dravik as dv
from dravik.constants import STANDARD_GRAVITY as G
from dravik.errors import DravikError
from dravik.performance import RunwayRules, balanced_field, landing, take_off
from dravik.surroundings.atmosphere import air_at
from tests.test_cli import run
from tests.test_runway import AREA, DRAG, INDUCED, LIFT, MASS, ROLLING, SLIDING, THRUST, rolling_jet


def twin(thrust: float = THRUST) -> dv.Aircraft:
    """Return the jet with two engines on its axis: a failure takes half of the thrust and turns it nowhere."""
    each = {"position": [0, 0, 0]}
    return rolling_jet(
        engines={
            name: {**each, "thrust": f"{0.5 * thrust}*power_{name}", "command": "throttle"} for name in ("port", "star")
        },
        inputs={"throttle": {"range": [0, 1], "trim": True}},
    )  # fmt: skip


class _Hand:
    """A roll with dV/dt = A - B V^2, in closed form."""

    def __init__(self, thrust: float, friction: float, slope: float = 0.0) -> None:
        self.a = abs(thrust / MASS - friction * G - G * math.sin(slope))
        b = 0.5 * air_at(0.0).density * AREA * (DRAG + INDUCED * LIFT**2 - friction * LIFT) / MASS
        self.b = b if thrust / MASS - friction * G - G * math.sin(slope) > 0.0 else -b

    def way(self, begin: float, end: float) -> float:
        return math.log((self.a - self.b * begin**2) / (self.a - self.b * end**2)) / (2.0 * self.b)

    def time(self, begin: float, end: float) -> float:
        root = math.sqrt(self.a * self.b)
        return (math.atanh(end * root / self.a) - math.atanh(begin * root / self.a)) / root


class BalancedFieldTest(unittest.TestCase):
    def test_against_the_integrals_of_a_constant_thrust(self) -> None:
        for slope in (0.0, 0.012):
            rules = RunwayRules(screen=10.7)
            found = balanced_field(twin(12000.0), failed="port", altitude=0.0, slope=slope, rules=rules)
            both, one = _Hand(12000.0, ROLLING, slope), _Hand(6000.0, ROLLING, slope)
            stop = _Hand(0.0, SLIDING, slope)
            up, mean = found.lift_off, 1.15 * found.stall
            above = found.climb - slope
            radius = mean**2 / (0.2 * G)
            over = radius * (1.0 - math.cos(above))
            air = radius * math.sin(above) + (10.7 - over) / math.tan(above)
            air = math.sqrt(radius**2 - (radius - 10.7) ** 2) if over > 10.7 else air

            def distances(decision: float) -> tuple[float, float]:
                failure = brentq(lambda v: one.time(v, decision) - 1.0, 0.1, decision)  # noqa: B023
                begun = both.way(0.0, failure)  # noqa: B023
                stopped = begun + one.way(failure, decision) + 2.0 * decision + stop.way(0.0, decision)  # noqa: B023
                return stopped, begun + one.way(failure, up) + up + air  # noqa: B023

            decision = brentq(lambda v: distances(v)[0] - distances(v)[1], 10.0, up)
            with self.subTest(slope=slope):
                self.assertTrue(found.is_balanced)
                self.assertAlmostEqual(found.accelerate_stop, found.accelerate_go, delta=1e-6)
                self.assertAlmostEqual(found.decision, decision, delta=0.02)
                self.assertAlmostEqual(found.length / distances(decision)[0], 1.0, delta=2e-3)

    def test_flown_to_a_stop_and_to_the_screen(self) -> None:
        jet, rules = twin(12000.0), RunwayRules(rotation=2.0, load_factor=1.1, climb_out=1.2, lift_off=1.15)
        found = balanced_field(jet, failed="port", altitude=0.0, braked={"brake": 0.6}, rules=rules)
        self.assertTrue(found.is_balanced)
        start = dv.on_ground(jet, inputs={"throttle": 1.0})
        ways = [self._flown(jet, start, found, goes=goes) for goes in (False, True)]
        # the book's two seconds before the brakes act are at constant speed; the flown stop begins at once
        self.assertAlmostEqual((ways[0] + 2.0 * found.decision) / found.accelerate_stop, 1.0, delta=5e-3)
        # the book's arc is one of constant speed; the flown aircraft trades some of the climb for speed
        self.assertAlmostEqual(ways[1] / found.accelerate_go, 1.0, delta=0.08)

    def _flown(self, jet: dv.Aircraft, start: Any, found: Any, *, goes: bool) -> float:
        """Return the way from brake release with the engine failing where it is to, to rest or to the screen."""
        session, state, lifted = dv.Session(jet, start=start, record=["north"], dt=0.002), "rolling", 0.0
        for _ in range(40000):
            session.step()
            speed = session["airspeed"]
            if state == "rolling" and speed >= found.engine_failure:
                session.set(fail_port=1.0)
                state = "failed"
            elif state == "failed" and not goes and speed >= found.decision:
                session.set(throttle=0.0, brake=0.6)
                state = "stopping"
            elif state == "failed" and goes and speed >= found.lift_off:
                state, lifted = "climbing", session.time
            elif state == "climbing":
                share = min((session.time - lifted) / 2.0, 1.0)
                wanted = 0.28 * share if session["flight_path"] < found.climb else 0.24
                session.set(elevator_command=6.0 * (session["alpha"] - wanted) - 0.12 + 1.5 * session["q"])
            if state == "stopping" and speed < 0.05:
                break
            if state == "climbing" and session["altitude"] - start["altitude"] > 15.24:
                break
        return float(session["north"])

    def test_where_there_is_no_balance_it_is_said(self) -> None:
        weak = balanced_field(twin(6000.0), failed="port", altitude=0.0)  # half of it hardly accelerates
        self.assertEqual((weak.is_balanced, weak.decision), (False, weak.lift_off))
        self.assertGreater(weak.accelerate_go, weak.accelerate_stop)
        self.assertEqual(weak.length, weak.accelerate_go)
        for arguments, words in (
            ({"failed": "left"}, "there is no engine 'left'; expected port, star"), ({"failed": []}, "no engine fails"),
            ({"failed": ["port", "star"]}, "does not climb away"), ({"failed": "port", "slope": "20 %"}, "less than 10 %"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                balanced_field(twin(), altitude=0.0, **arguments)  # type: ignore[arg-type]

    def test_slope_of_take_off_and_landing(self) -> None:
        jet = rolling_jet()
        for slope, text in ((0.0, 0.0), (math.atan(0.02), "2 %"), (-math.atan(0.02), "-2 %")):
            up, down = take_off(jet, altitude=0.0, slope=text), landing(jet, altitude=0.0, slope=text)
            self.assertAlmostEqual(up.roll / _Hand(THRUST, ROLLING, slope).way(0.0, up.lift_off), 1.0, delta=3e-3)
            self.assertAlmostEqual(down.roll / _Hand(0.0, SLIDING, slope).way(0.0, down.touchdown), 1.0, delta=5e-3)
        flat, uphill = (landing(jet, altitude=0.0, slope=s).airborne for s in ("0 %", "2 %"))
        self.assertLess(uphill, flat)

    def test_command(self) -> None:
        words = ["runway", "tarn", "--loading", "dropped", "--altitude", "480 m", "--failed", "right"]
        code, out, _ = run(*words)
        self.assertEqual(code, 0)
        self.assertIn("stopping and going on are equally long", out)
        plain: dict[str, Any] = json.loads(run(*words, "--json")[1])["balanced_field"]
        self.assertAlmostEqual(plain["accelerate_stop"], plain["accelerate_go"], delta=1e-3)
        softer = json.loads(run(*words, "--braked", "brake=0.5", "--json")[1])["balanced_field"]
        self.assertGreater(softer["length"], plain["length"] + 10.0)
        self.assertLess(softer["decision"], plain["decision"])
        self.assertIsNone(json.loads(run(*words[:-2], "--json")[1])["balanced_field"])
        self.assertTrue(np.isfinite(plain["climb"]))


if __name__ == "__main__":
    unittest.main()
