"""Tables and figures in knots and feet: values by factors of their own, programs' data unchanged."""

import json
import unittest
from contextlib import redirect_stdout
from io import StringIO

import dravik as dv
from dravik.cli import main
from dravik.errors import DravikError
from dravik.report import figure_histories, figure_sweep, in_units
from dravik.report.shown_units import axes_in_units, heading_in_units, rows_in_units

KNOT, FOOT = 1852.0 / 3600.0, 0.3048


def said(*words: str) -> str:
    told = StringIO()
    with redirect_stdout(told):
        main(list(words))
    return told.getvalue()


class ShownUnitsTest(unittest.TestCase):
    def test_headings_and_rows(self) -> None:
        rows = [[60.0, 300.0, 5.0, 2.0, "no"]]
        columns = ["airspeed [m/s]", "altitude [m]", "climb [m/s]", "radius [m]", "why"]
        self.assertEqual(rows_in_units(columns, rows), (columns, rows))
        with in_units("aviation"):
            heads, found = rows_in_units(columns, rows)
            self.assertEqual(heads, ["airspeed [kt]", "altitude [ft]", "climb [ft/min]", "radius [m]", "why"])
            for value, wanted in zip(found[0], (60.0 / KNOT, 300.0 / FOOT, 5.0 * 60.0 / FOOT, 2.0), strict=False):
                self.assertAlmostEqual(value, wanted, places=9)  # type: ignore[misc, arg-type]
            _, found = rows_in_units(
                ["signal", "value", "unit"], [["altitude", 100.0, "m"], ["cg_x", 9.0, "m"], ["climb_rate", 1.0, "m/s"]]
            )
            self.assertEqual([r[2] for r in found], ["ft", "m", "ft/min"])
            self.assertEqual(found[1][1], 9.0)
            # a list of signals has no values that another unit would fit
            self.assertEqual(rows_in_units(["signal", "unit"], [["altitude", "m"]])[1], [["altitude", "m"]])
            for same in ("exhaust [m/s]", "height above the moment point [m]", "north [m]", "p [deg/s]", "spool"):
                self.assertEqual(heading_in_units(same), (same, 1.0))
        self.assertEqual(heading_in_units("airspeed [m/s]"), ("airspeed [m/s]", 1.0))
        with self.assertRaisesRegex(DravikError, "units cannot be"), in_units("knots"):
            pass

    def test_commands_print_them_and_programs_get_si(self) -> None:
        words = ("trim", "tarn", "--airspeed", "62 m/s", "--altitude", "300 m")
        plain, pilot = said(*words), said("--units", "aviation", *words)
        self.assertIn(f"{62.0 / KNOT:.4g}", pilot)
        self.assertIn(f"{300.0 / FOOT:.4g}", pilot)
        line = next(text for text in pilot.splitlines() if text.startswith("altitude"))
        self.assertEqual(line.split()[1:3], [f"{300.0 / FOOT:.4g}", "ft"])
        self.assertNotIn(" kt ", plain)
        one, two = (json.loads(said(*first, *words, "--json")) for first in ((), ("--units", "aviation")))
        self.assertEqual(one, two)

    def test_axes_keep_what_is_drawn_and_are_marked_otherwise(self) -> None:
        craft = dv.sample("tarn")
        run = dv.fly(craft, start=dv.trim(craft, airspeed=62.0, altitude=300.0), duration=1.0)
        figure = figure_histories(run, ["airspeed", "altitude", "alpha"])
        axes = figure.axes[0]
        before = axes.get_ylim()
        with in_units("aviation"):
            axes_in_units(figure)
        self.assertEqual(axes.get_ylim(), before)
        self.assertEqual(
            [a.get_ylabel() for a in figure.axes[:3]], ["airspeed\n[kt]", "altitude\n[ft]", "alpha\n[deg]"]
        )
        figure.draw_without_rendering()
        for place, text in zip(axes.get_yticks(), axes.get_yticklabels(), strict=True):
            self.assertAlmostEqual(float(text.get_text().replace("\N{MINUS SIGN}", "-")), place / KNOT, places=3)
        swept = figure_sweep(dv.trim_sweep(craft, {"airspeed": "55, 75 m/s"}, flight_path="free", altitude=300.0,
                                           inputs={"throttle": 0.9}), ["climb_rate", "alpha"])  # fmt: skip
        with in_units("aviation"):
            axes_in_units(swept)
        self.assertEqual([a.get_title(loc="left") for a in swept.axes], ["climb rate [ft/min]", "alpha [deg]"])
        self.assertEqual(swept.axes[0].get_xlabel(), "airspeed [kt]")
        self.assertEqual(axes.get_title(loc="left"), "")
        places = axes.get_yticks() / KNOT
        self.assertTrue(all(abs(p * 100.0 - round(p * 100.0)) < 1e-6 for p in places))


if __name__ == "__main__":
    unittest.main()
