"""Limits of the centre that depend on mass, limits of mass, and how the centre moves while seats are taken."""

import json
import tempfile
import unittest
from contextlib import redirect_stdout
from io import StringIO
from pathlib import Path

import numpy as np

import dravik as dv
from dravik.aircraft import Aircraft
from dravik.cli import main
from dravik.errors import DravikError
from dravik.mass.limits import limits_at
from dravik.performance.weights import aerodynamics_of, centre_limits, loading_loop, loading_rows
from dravik.report import figure_masses

LOM = Path(__file__).parent / "aircraft" / "lom" / "aircraft.toml"
CABIN = """
[mass_limits]
take_off = "2600 kg"
landing = "2500 kg"
zero_fuel = "2400 kg"

[seats.back]
position = ["4.0 m", "0 m", "0 m"]
across = 3
mass = "90 kg"

[seats.front]
position = ["2.5 m", "0 m", "0 m"]
across = 2
mass = "80 kg"
"""


class WeightsTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.file = Path(folder.name) / "cabin.toml"

    def craft(self, limits: str, more: str = CABIN) -> Aircraft:
        text = LOM.read_text("utf-8")
        head, tail = text.split("\n[", 1)
        self.file.write_text(f"{head}\ncentre_limits = {limits}\n\n[{tail}\n{more}", "utf-8")
        return dv.load(self.file)

    def test_limits_over_mass(self) -> None:
        rows = [(2000.0, 2.9, 3.3), (2400.0, 3.0, 3.3), (2600.0, 3.04, 3.2)]
        for mass, wanted in (
            (1500.0, (2.9, 3.3)),
            (2200.0, (2.95, 3.3)),
            (2500.0, (3.02, 3.25)),
            (9000.0, (3.04, 3.2)),
        ):
            np.testing.assert_allclose(limits_at(rows, mass), wanted)
        text = '[["2000 kg", "2.9 m", "3.3 m"], ["2.4 t", "3.1 m", "3.3 m"]]'
        craft = self.craft(text)
        limits = centre_limits(craft, None, 0.05)
        self.assertEqual(limits.at(2400.0), (3.1, 3.3))
        # 2450 kg at 3.05 m: ahead of the limit at this mass, behind the one of a lighter aircraft
        self.assertEqual([r.inside for r in loading_rows(craft, None, limits)], ["OUTSIDE"])
        errors = [f for f in dv.audit(craft) if "centre of gravity" in f.what and f.severity == "error"]
        self.assertIn("0.05 m ahead of", errors[0].what)
        self.assertEqual([r.inside for r in loading_rows(self.craft('["2.9 m", "3.3 m"]'), None, centre_limits(
            self.craft('["2.9 m", "3.3 m"]'), None, 0.05))], ["inside"])  # fmt: skip

    def test_seats_are_taken_at_the_windows_first(self) -> None:
        craft = self.craft('["2.9 m", "3.3 m"]')
        loop = loading_loop(craft)
        assert loop is not None
        # by hand: the pairs at the windows, front row first; then who sits in the middle of the back row
        steps = [(2, 80.0, 2.5), (2, 90.0, 4.0), (1, 90.0, 4.0)]
        mass, moment, wanted = 2450.0, 2450.0 * 3.05, [(2450.0, 3.05)]
        for count, each, x in steps:
            mass, moment = mass + count * each, moment + count * each * x
            wanted.append((mass, moment / mass))
        np.testing.assert_allclose(loop.from_front, wanted)
        self.assertEqual(loop.from_back[1].tolist(), [2630.0, (2450.0 * 3.05 + 180.0 * 4.0) / 2630.0])
        np.testing.assert_allclose(loop.from_back[-1], wanted[-1])
        self.assertEqual(loop.reach, (wanted[1][1], float(loop.from_back[1, 1])))
        self.assertIsNone(loading_loop(dv.load(LOM)))
        # without limits nothing is called inside
        nowhere = centre_limits(dv.load(LOM), None, 0.05)
        self.assertEqual([r.inside for r in loading_rows(dv.load(LOM), None, nowhere)], ["-"])
        self.assertIn("not known", nowhere.words)

    def test_what_it_says(self) -> None:
        craft = self.craft('["3.02 m", "3.3 m"]')
        told = StringIO()
        with redirect_stdout(told):
            self.assertEqual(main(["mass", str(self.file)]), 0)
        text = told.getvalue()
        self.assertIn("a: zero fuel 2450 over 2400 kg", text)
        self.assertNotIn("take-off 2450", text)
        self.assertIn("outside the limits: from the front at 2610 kg (3.016 m)", text)
        with redirect_stdout(StringIO()) as data:
            main(["mass", str(self.file), "--json"])
        found = json.loads(data.getvalue())
        self.assertEqual(found["centre_limits"], [{"mass": 0.0, "forward_m": 3.02, "aft_m": 3.3}])
        self.assertEqual(len(found["seats"]["from_back"]), 4)
        words = [t.get_text() for t in figure_masses(
            "x", craft.definition, {}, centre_limits(craft, None, 0.05), loading_loop(craft)).axes[0].texts]  # fmt: skip
        self.assertTrue({"landing 2500 kg", "forward limit"} <= set(words))

    def test_refusals(self) -> None:
        for limits, words in (
            ('["3.3 m", "2.9 m"]', "do not rise"),
            ('[["2400 kg", "2.9 m", "3.3 m"], ["2000 kg", "2.9 m", "3.3 m"]]', "2400 and 2000 kg do not rise"),
            ('[["2400 kg", "2.9 m"]]', "no row of limits"),
            ('["2.9 kg", "3.3 m"]', "length"),
        ):
            with self.assertRaisesRegex(DravikError, words):
                self.craft(limits)
        with self.assertRaisesRegex(DravikError, "across"):
            self.craft('["2.9 m", "3.3 m"]', CABIN.replace("across = 3", "across = 0"))

    def test_margins_are_those_of_the_neutral_point(self) -> None:
        craft = dv.load(LOM)
        (row,) = loading_rows(craft, aerodynamics_of(craft), centre_limits(craft, aerodynamics_of(craft), 0.05))
        # at two degrees, of the file's formulas: CL = cl0 + cla alpha, CD and Cm
        aero = aerodynamics_of(craft)
        assert aero is not None
        step, at = 1e-4, 0.0349
        low, mid, high = (aero.at(alpha=at + d) for d in (-step, 0.0, step))
        slope = {n: float(high[n] - low[n]) / (2.0 * step) for n in ("CL", "CD", "Cm")}
        normal = np.cos(at) * (slope["CL"] + mid["CD"]) + np.sin(at) * (slope["CD"] - mid["CL"])
        neutral = craft.definition.reference.moment_point[0] - slope["Cm"] / normal * craft.definition.reference.chord
        margin = 100.0 * (neutral - 3.05) / craft.definition.reference.chord
        self.assertAlmostEqual(row.static_margin, float(margin), places=3)
        self.assertFalse(centre_limits(craft, None, 0.05).is_known)
        self.assertTrue(centre_limits(craft, aero, 0.05).is_known)

    def test_the_hash_of_an_aircraft_without_them_stays(self) -> None:
        plain = dv.load(LOM).configuration
        self.assertNotIn("mass_limits", plain.as_text())
        self.assertIn("mass_limits", self.craft('["2.9 m", "3.3 m"]').configuration.as_text())


if __name__ == "__main__":
    unittest.main()
