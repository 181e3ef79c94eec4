"""The book of an aircraft: its chapters, what they say, and that what they say can turn false."""

import json
import tempfile
import unittest
from contextlib import redirect_stdout
from io import StringIO
from pathlib import Path

from pypdf import PdfReader

import dravik as dv
from dravik.aero import read_coefficients
from dravik.aircraft import sample_path
from dravik.book import BookRequest, write_aircraft_book
from dravik.cli import main
from dravik.errors import DravikError
from dravik.report.pages.layout import lines_of

AIRCRAFT = Path(__file__).parent / "aircraft"
LARK = AIRCRAFT / "lark" / "aircraft.toml"


class Books(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def run_command(self, *arguments: str) -> "tuple[int, dict[str, object]]":
        told = StringIO()
        with redirect_stdout(told):
            code = main([*arguments, "--json"])
        return code, json.loads(told.getvalue())

    def test_an_aircraft_that_is_no_sample_as_page_and_as_pdf(self) -> None:
        page, pdf = self.folder / "lark.html", self.folder / "lark.pdf"
        chapters = ("definition", "coefficients", "masses", "trims", "modes", "handling")
        asked = BookRequest(altitude="300 m", airspeeds=["20 m/s", "25 m/s", "30 m/s"], chapters=chapters)
        craft = dv.load(LARK)
        found = {entry.heading: entry for entry in write_aircraft_book(craft, page, asked)}
        self.assertEqual(write_aircraft_book(craft, pdf, asked), list(found.values()))
        self.assertEqual(found["Trims"].verdict, "3 of 3 conditions at 300 m are held")
        text = page.read_text("utf-8")
        self.assertEqual(text.count("data:image/png;base64"), 6)
        # figures of the page are those of the parts themselves
        point = dv.trim(craft, airspeed=25.0, altitude=300.0)
        alpha = f"{point['alpha'] * 57.29577951308232:.4g}"
        self.assertIn(f">{alpha}<", text)
        pages = PdfReader(pdf).pages
        words = "\n".join(p.extract_text() for p in pages)
        self.assertIn(alpha, words)
        for heading in found:
            self.assertIn(heading, words)
        outline = [str(o.title) for o in PdfReader(pdf).outline if not isinstance(o, list)]
        self.assertEqual(outline[0], "Definition")
        self.assertTrue(set(found) >= set(outline))

    def test_what_it_says_turns_false(self) -> None:
        text = LARK.read_text("utf-8")
        tail_heavy = self.folder / "heavy" / "aircraft.toml"
        tail_heavy.parent.mkdir()
        tail_heavy.write_text(text.replace('cg = ["0.49 m"', 'cg = ["0.60 m"'), "utf-8")
        asked = BookRequest(
            altitude=300.0,
            airspeeds=[18.0, 25.0, 60.0],
            chapters=["coefficients", "masses", "trims", "modes", "handling"],
        )
        good, bad = (
            {e.heading: e for e in write_aircraft_book(dv.load(path), self.folder / "x.html", asked)}
            for path in (LARK, tail_heavy)
        )
        self.assertEqual([good[h].good for h in ("Coefficients", "Masses", "Trims")], [True, True, False])
        self.assertEqual((good["Coefficients"].good, bad["Coefficients"].good), (True, False))
        self.assertEqual([bad[h].good for h in ("Masses", "Modes", "Handling qualities")], [False, False, False])
        self.assertIn("only outside the limits", bad["Masses"].verdict)
        self.assertIn("doubles in", bad["Modes"].verdict)
        self.assertIn("2 of 3 conditions", good["Trims"].verdict)

    def test_an_aircraft_that_holds_nothing_is_told_so(self) -> None:
        weak = self.folder / "weak.toml"
        weak.write_text(LARK.read_text("utf-8").replace("min(70, 2200", "min(2, 20"), "utf-8")
        found = write_aircraft_book(dv.load(weak), self.folder / "x.html", BookRequest(chapters=["trims", "engines"]))
        self.assertEqual([entry.good for entry in found], [False, None])
        self.assertIn("no level flight is held", found[0].verdict)
        high = BookRequest(chapters=["trims"], altitude="60 km", airspeeds=["20 m/s", "30 m/s"])
        self.assertFalse(write_aircraft_book(dv.load(LARK), self.folder / "x.html", high)[0].good)

    def test_what_cannot_be_said_has_its_reason(self) -> None:
        code, found = self.run_command(
            "book", "hail", "--out", str(self.folder / "hail.html"), "--chapters", "engines, limits, trims, loops"
        )
        self.assertEqual(code, 0)
        said = {c["heading"]: c for c in found["chapters"]}  # type: ignore[index, attr-defined]
        self.assertTrue(all(c["good"] is None for c in said.values()))
        self.assertIn("no least speed is found", said["Limits"]["verdict"])
        self.assertIn("no level flight is held", said["Trims"]["verdict"])
        self.assertIn("no laws are engaged", said["Loops"]["verdict"])

    def test_loops_and_flights_that_are_named(self) -> None:
        plan = self.folder / "short.toml"
        plan.write_text(
            'format = 1\nname = "too fast"\n[condition]\nairspeed = "18 m/s"\naltitude = "300 m"\n'
            '[[loop]]\nname = "pitch"\nmeasures = "theta"\nmoves = "elevator"\ncommand = "theta_command"\n'
            'crossover = "9 rad/s"\ndelay = "40 ms"\n', "utf-8",
        )  # fmt: skip
        code, found = self.run_command(
            "book", "pika", "--out", str(self.folder / "p.html"), "--chapters", "loops,flights", "--plan", str(plan),
            "--scenario", "smoke_column",
        )  # fmt: skip
        said = {c["heading"]: c for c in found["chapters"]}  # type: ignore[index, attr-defined]
        self.assertEqual(code, 1)
        self.assertIs(said["Loops"]["good"], False)
        self.assertIn("too fast, pitch", said["Loops"]["verdict"])
        self.assertIn("it is a flight of Hail", said["Flight: smoke_column"]["verdict"])

    def test_a_plan_is_studied_without_the_laws_that_the_book_is_of(self) -> None:
        plan = sample_path("tarn") / "loops" / "attitude.toml"
        asked = BookRequest(chapters=["loops"], airspeeds=["60 m/s", "75 m/s"], altitude="300 m", plans=(plan,))
        (entry,) = write_aircraft_book(dv.sample("tarn", laws=["attitude_hold"]), self.folder / "x.html", asked)
        # the plan's four loops, though the law closes them already, and the three of the law
        self.assertEqual((entry.good, entry.verdict), (True, "7 loops with 6 dB and 45 deg or more"))

    def test_refusals(self) -> None:
        craft = dv.load(LARK)
        for path, asked, words in (
            ("x.txt", BookRequest(), "ends in .pdf or .html"),
            ("x.html", BookRequest(chapters=["mases"]), "masses"),
            ("x.html", BookRequest(chapters=["trims"], altitude="3 kg"), "length"),
            ("x.html", BookRequest(chapters=["trims"], airspeeds=["fast"]), "airspeeds"),
            ("x.html", BookRequest(chapters=["trims"], aircraft_class="V"), "class"),
        ):
            with self.assertRaisesRegex(DravikError, words):
                write_aircraft_book(craft, self.folder / path, asked)

    def test_coefficients_read_formulas_and_parameters_of_the_file(self) -> None:
        # the skarv's lift and drag stand in [formulas], the lark's stall angle is a parameter
        skarv = read_coefficients(AIRCRAFT / "skarv" / "aircraft.toml")
        craft = dv.load(AIRCRAFT / "skarv" / "aircraft.toml")
        state = craft.state(velocity=(200.0 * 0.9950041652780258, 0.0, 200.0 * 0.09983341664682815))
        flown = craft.values(state, craft.default_inputs(), ["CL", "CD", "Cm"])
        for name, value in flown.items():
            self.assertAlmostEqual(float(skarv.at(alpha=0.1)[name]), value, places=9)
        lark = read_coefficients(LARK)
        self.assertLess(float(lark.slopes("alpha", alpha=0.35)["CL"]), 0.0)
        self.assertAlmostEqual(float(lark.slopes("alpha", alpha=0.0)["CL"]), 4.7, places=2)

    def test_a_table_in_a_width(self) -> None:
        columns, rows = (
            ("name", "value [m]", "why"),
            [("a", 1.25, "because of a long reason that folds"), ("b", -3.0, "")],
        )
        (lines,) = lines_of(columns, rows, 36)
        self.assertTrue(all(len(line) <= 36 for line in lines))
        self.assertEqual(lines[0].split(), ["name", "value", "[m]", "why"])
        narrow = lines_of(("n", *(f"column{k}" for k in range(9))), [tuple([1.5] * 10)], 30)
        self.assertGreater(len(narrow), 1)
        self.assertTrue(all(part[0].startswith("  n") or part[0].startswith("n") for part in narrow))


if __name__ == "__main__":
    unittest.main()
