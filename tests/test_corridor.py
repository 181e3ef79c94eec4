"""The corridor of an aircraft that lifts and pushes apart: edges by the balance of forces, written out here."""

import json
import math
import tempfile
import unittest
from contextlib import redirect_stdout
from dataclasses import replace
from io import StringIO
from pathlib import Path

import numpy as np
from scipy.optimize import brentq

import dravik as dv
from dravik.cli import main
from dravik.errors import DravikError
from dravik.performance import corridor
from dravik.report import figure_corridor

HERON = Path(__file__).parent / "aircraft" / "liftwing" / "aircraft.toml"
MASS, AREA, G = 12.0, 0.62, 9.80665


def loads(theta: float, speed: float, elevator: float) -> tuple[float, float]:
    """Return the thrust along and up the body (N) that level flight needs, of the file's own formulas."""
    rho, k = float(dv.air_at(100.0).density), 40.0
    stall = math.radians(16.0)
    a, b = math.exp(-k * (theta - stall)), math.exp(k * (theta + stall))
    stalled = (1.0 + a + b) / ((1.0 + a) * (1.0 + b))
    lift = (1.0 - stalled) * (0.28 + 4.7 * theta)
    flat = stalled * 2.0 * math.copysign(math.sin(theta) ** 2 * math.cos(theta), theta)
    cl = lift + flat + 0.35 * elevator
    cd = 0.03 + 0.045 * lift**2 + stalled * 2.0 * math.sin(theta) ** 2 * abs(math.sin(theta))
    q = 0.5 * rho * speed**2 * AREA
    ahead, up = q * cd, MASS * G - q * cl  # along and across the flow
    return ahead * math.cos(theta) + up * math.sin(theta), up * math.cos(theta) - ahead * math.sin(theta)


class CorridorTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        text = HERON.read_text("utf-8").replace(
            "throttle = { range = [0, 1], trim = false }", "throttle = { range = [0, 1], trim = true }"
        )
        cls.file = Path(cls.enterClassContext(tempfile.TemporaryDirectory())) / "heron.toml"
        cls.file.write_text(text, "utf-8")
        cls.craft = dv.load(cls.file)
        cls.found = corridor(
            cls.craft, airspeeds=[4.0, 10.0, 20.0], attitudes=[f"{a} deg" for a in range(-8, 13, 2)], altitude=100.0
        )

    def test_edges_are_where_the_push_is_nothing_or_the_lift_is(self) -> None:
        for edge in self.found.edges:
            speed = edge.airspeed
            level = dv.steady(self.craft, airspeed=speed, altitude=100.0)

            def elevator(theta: float, level: dv.Statement = level) -> float:
                asked = replace(level.holding(self.craft, {"theta": theta}), is_checked=True)
                return float(dv.trim(self.craft, asked)["elevator"])

            self.assertEqual(edge.low_cause, "throttle at its lower stop")
            # the push along the body is nothing there
            low = brentq(lambda a, v, e: loads(a, v, e)[0], -0.3, 0.1, args=(speed, elevator(edge.lowest)))
            self.assertAlmostEqual(edge.lowest, low, delta=math.radians(0.06))
            if "lift" in edge.high_cause:
                high = brentq(lambda a, v, e: loads(a, v, e)[1], 0.0, 0.2, args=(speed, elevator(edge.highest)))
                self.assertAlmostEqual(edge.highest, high, delta=math.radians(0.2))
        self.assertEqual(self.found.edges[0].high_cause, "not looked at further")
        self.assertEqual(self.found.edges[-1].high_cause, "lift at its lower stop")

    def test_powers_inside_are_those_of_the_balance(self) -> None:
        count = 0
        for theta, line in zip(self.found.attitudes, self.found.points, strict=True):
            for speed, point in zip(self.found.airspeeds, line, strict=True):
                if point is None:
                    continue
                count += 1
                ahead, up = loads(theta, speed, point["elevator"])
                lifted = sum(point[f"thrust_{n}"] for n in ("fr", "bl", "fl", "br"))
                self.assertAlmostEqual(point["thrust_pusher"], ahead, delta=2e-3 * MASS * G)
                self.assertAlmostEqual(lifted, up, delta=2e-3 * MASS * G)
        rows = self.found.rows()
        self.assertEqual(len(rows), count)
        self.assertGreater(count, 15)
        self.assertTrue({"thrust_ahead", "thrust_up", "lift", "throttle"} <= set(rows[0]))

    def test_gaps_are_empty_and_the_map_is_drawn(self) -> None:
        lift = self.found.values("lift")
        self.assertEqual(lift.shape, (11, 3))
        self.assertTrue(np.isnan(lift[0, 0]) and np.isfinite(lift[6, 0]))
        figure = figure_corridor(self.found)
        self.assertEqual([a.get_title(loc="left") for a in figure.axes[:2]], self.found.throttles)

    def test_command_and_refusals(self) -> None:
        told = StringIO()
        with redirect_stdout(told):
            code = main([
                "limits", str(self.file), "--corridor", "--airspeeds", "4, 20 m/s", "--attitudes", "-8:12:6 deg",
                "--altitude", "100 m", "--json",
            ])  # fmt: skip
        found = json.loads(told.getvalue())
        self.assertEqual((code, [e["airspeed"] for e in found["edges"]]), (0, [4.0, 20.0]))
        self.assertAlmostEqual(found["edges"][0]["lowest"], self.found.edges[0].lowest, delta=math.radians(0.1))
        for craft, attitudes, words in (
            (dv.sample("tarn"), [], "one attitude at each airspeed"),
            (self.craft, [0.1], "do not rise"),
            (self.craft, ["2 deg", "1 deg"], "do not rise"),
        ):
            with self.assertRaisesRegex(DravikError, words):
                corridor(craft, airspeeds=[10.0], attitudes=attitudes)


if __name__ == "__main__":
    unittest.main()
