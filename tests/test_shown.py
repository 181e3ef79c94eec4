"""What notebooks and consoles show of results, points as files, figures on axes of one's own, laws by name."""

import io
import json
import re
import tempfile
import unittest
import unittest.mock
from pathlib import Path
from typing import Any

import matplotlib.figure
import numpy as np

import dravik as dv
from dravik.host.notebooks import MOST_ROWS, ShownAsTable
from dravik.host.notices import announced
from dravik.loops import GainTarget, cut_loop, gain_for, locus_over_gain, margins, several_margins
from dravik.report import figure_flown_steps, figure_locus, figure_poles, figure_sweep, figure_thrust_curves
from dravik.trimming import on_ground


def rows_of(html: str) -> list[list[str]]:
    """Return the cells of a table of HTML, its header first."""
    return [re.findall(r"<t[hd][^>]*>(.*?)</t[hd]>", row) for row in re.findall(r"<tr>(.*?)</tr>", html)]


class ShownTest(unittest.TestCase):
    def setUp(self) -> None:
        self.craft = dv.sample("tarn", laws=["pitch_hold", "yaw_damper"])
        self.point = dv.trim(self.craft, airspeed="62 m/s", altitude="300 m")

    def test_each_result_shows_a_line_and_its_rows(self) -> None:
        model = dv.linearise(self.craft, self.point)
        sweep = dv.trim_sweep(self.craft, {"airspeed": [30.0, 62.0]}, altitude="300 m")
        run = dv.fly(self.craft, start=self.point, duration=1, record=["alpha", "q"])
        loop = cut_loop(self.craft, self.point, "elevator_command")
        both = several_margins(cut_loop(self.craft, self.point, ["elevator_command", "rudder_command"]))
        judged = dv.handling_qualities(self.craft, self.point)
        cases: tuple[tuple[Any, str, int], ...] = (
            (self.point, "<TrimPoint: Tarn: 62 m/s at 300 m>", len(self.point.rows())),
            (model, f"<LinearModel: Tarn, 62 m/s at 300 m: {len(model.states)} states", len(model.states)),
            (model.modes(), f"<Modes: {len(model.modes())} modes>", len(model.modes())),
            (sweep, "<TrimSweep: Tarn: 1 of 2 conditions held, over airspeed>", 2),
            (run, "<Recording: 101 rows, 1 s, 3 signals, 0 events>", 2),
            (judged, f"<Assessment: Tarn, 62 m/s at 300 m: class II-L, category B, level {judged.level}>", len(judged.criteria)),
            (margins(loop), "<Margins: stable: ", len(margins(loop).crossings)),
            (both, "<SeveralMargins: stable: disc ", 2),
            (dv.derivatives(self.craft, self.point), "derivatives>", 100),
            (dv.root_sweep(dv.trim_sweep(self.craft, {"airspeed": [60.0, 62.0]}, altitude=300.0)), "<RootSweep: Tarn: roots over airspeed>", 2),
        )  # fmt: skip
        for thing, line, count in cases:
            with self.subTest(type(thing).__name__):
                self.assertIn(line, repr(thing))
                self.assertLess(len(repr(thing)), 130)
                rows = rows_of(thing._repr_html_())
                self.assertGreaterEqual(len(rows) - 1, min(count, MOST_ROWS))
                self.assertEqual({len(row) for row in rows}, {len(rows[0])})
        shown = {row[0]: row[1:] for row in rows_of(run._repr_html_())[1:]}
        self.assertAlmostEqual(float(shown["alpha"][0]), float(np.degrees(run["alpha"][0])), delta=1e-3)
        self.assertEqual(shown["alpha"][-1], "deg")

    def test_what_does_not_hold_says_so(self) -> None:
        bad = dv.trim(self.craft, airspeed="30 m/s", altitude="300 m", strict=False)
        self.assertIn("not reached", repr(bad))
        loop = cut_loop(self.craft, self.point, "elevator_command")
        self.assertIn("not stable", repr(margins(loop, delay="600 ms")))
        grows = dv.LinearSystem.filtered("a", "u", [-2.0], [1.0, -1.0])
        settles = dv.LinearSystem.filtered("b", "v", [2.0], [1.0, 1.0])
        self.assertIn("not stable", repr(several_margins(grows.beside(settles))))
        self.assertIn("<SeveralMargins: stable", repr(several_margins(settles)))

    def test_cells(self) -> None:
        class Few(ShownAsTable):
            def summary_table(self) -> Any:
                rows = [("a<b", None, float("nan"), 1234567.0, {"x": 0.5}, True)] + [("c",) * 6] * MOST_ROWS
                return "t", tuple("abcdef"), rows

        html = Few()._repr_html_()
        self.assertEqual(rows_of(html)[1], ["a&lt;b", "", "", "1.2346e+06", "x 0.5", "True"])
        self.assertIn("and 1 rows more", html)
        self.assertEqual(len(rows_of(html)), MOST_ROWS + 1)

    def test_numbers_of_printed_tables_are_never_broken(self) -> None:
        from rich.console import Console

        from dravik.cli.shared import common

        heads = ["name", "airspeed [m/s]", "limited by", "root [1/s]", "a heading of many words [kg/s]", "x", "at"]
        rows = [("first row", 123456.78, "pitch_stick at its upper stop", "-0.01236 ± 0.2456 i", 1.234e-12, 4.4, "39.4 m/s"),
                ("b", 1.0, "no more lift", "2.5", 5e-320, float("nan"), "")]  # fmt: skip
        for width in (200, 100, 60, 40, 24):
            told = io.StringIO()
            console = Console(file=told, highlight=False, markup=False, emoji=False, width=width)
            with unittest.mock.patch.object(common, "out", console):
                common.show_rows("t", heads, rows)
            text = told.getvalue()
            for number in ("123457", "-0.01236 ± 0.2456 i", "1.234e-12", "4.4", "39.4 m/s"):
                self.assertIn(number, text, width)
            self.assertNotIn("e-3", text)  # a denormal number is zero
            for word in ("airspeed", "limited", "heading"):
                self.assertIn(word, text)
        self.assertEqual(text.count("first row"), text.count("name"))

    def test_figures_on_axes_of_ones_own(self) -> None:
        figure = matplotlib.figure.Figure()
        left, right = figure.subplots(1, 2)
        sweep = dv.trim_sweep(self.craft, {"airspeed": [55.0, 62.0, 70.0]}, altitude="300 m")
        self.assertIs(figure_sweep(sweep, ["alpha"], ax=left), figure)
        drawn = left.lines[0].get_xydata()
        np.testing.assert_allclose(np.asarray(drawn)[:, 1], np.degrees(sweep.values("alpha")), rtol=1e-12)
        self.assertEqual(left.get_title(loc="left"), "alpha [deg]")
        with self.assertRaisesRegex(dv.DravikError, "signals do not fit on one set of axes"):
            figure_sweep(sweep, ["alpha", "throttle"], ax=left)
        self.assertIs(figure_poles(dv.linearise(self.craft, self.point).modes(), title="Poles", ax=right), figure)
        self.assertIn("short period", " ".join(t.get_text() for t in right.texts))
        self.assertIs(figure_thrust_curves(dv.sample("hail"), ax=figure.add_subplot()), figure)
        plant = dv.LinearSystem.of([[0.0, 1.0], [0.0, -1.0]], [[0.0], [1.0]], states=["x", "v"], inputs=["u"]).part(
            outputs=["x"]
        )
        self.assertIs(figure_locus(locus_over_gain(plant), [1.0], ax=figure.add_subplot()), figure)
        self.assertGreater(gain_for(plant, GainTarget(crossover=1.0)).gain, 0.0)
        self.assertIsNotNone(figure_flown_steps)
        alone = figure_sweep(sweep, ["alpha"])
        self.assertTrue(alone._repr_png_().startswith(b"\x89PNG"))  # type: ignore[attr-defined]

    def test_a_library_says_nothing_outside_notebooks(self) -> None:
        with announced("something"):
            pass


class PointFileTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def test_a_point_comes_back_to_the_last_bit_and_flies_the_same(self) -> None:
        windy = dv.sample("tarn").with_environment(wind={"speed": "8 m/s", "blows_from": "20 deg"})
        round_earth = dv.sample("tarn").with_environment(earth="wgs84", latitude="46 deg")
        standing = dv.sample("tarn").with_environment(ground=0.0)
        cases = (
            (windy, dv.trim(windy, airspeed="1.3 stall", altitude="300 m", turn="30 deg")),
            (round_earth, dv.trim(round_earth, airspeed="62 m/s", altitude="300 m", track="90 deg")),
            (dv.sample("merle"), dv.trim(dv.sample("merle"), airspeed=0, altitude="300 m")),
            (dv.sample("tarn", laws=["pitch_hold"]), dv.trim(dv.sample("tarn", laws=["pitch_hold"]), airspeed=62, altitude=300)),
            (standing, on_ground(standing)),
        )  # fmt: skip
        for craft, point in cases:
            with self.subTest(point.title):
                again = dv.load_point(dv.save_point(point, self.folder / "p.json"), craft)
                self.assertTrue(again.reached)
                np.testing.assert_array_equal(again.state, point.state)
                np.testing.assert_array_equal(again.inputs, point.inputs)
                self.assertLess(again.worst_residual, 1e-8)
                self.assertEqual((again.title, again.at_stop, again.spare), (point.title, point.at_stop, point.spare))
                self.assertEqual(list(again.residuals), list(point.residuals))
                for name in ("airspeed", "alpha", "nz"):
                    self.assertAlmostEqual(again[name], point[name], delta=1e-9)
                flown = [dv.fly(craft, start=p, duration=1, record=["altitude", "theta"]) for p in (point, again)]
                np.testing.assert_array_equal(flown[0].values, flown[1].values)

    def test_an_aircraft_that_was_changed_holds_it_no_longer(self) -> None:
        craft = dv.sample("tarn")
        file = dv.save_point(dv.trim(craft, airspeed=62, altitude=300), self.folder / "p.json")
        hot = dv.load_point(file, craft.with_environment(temperature_offset="15 K"))
        self.assertFalse(hot.reached)
        self.assertGreater(hot.worst_residual, 1e-3)
        self.assertIn("not reached", repr(hot))

    def test_what_does_not_fit_is_told(self) -> None:
        craft = dv.sample("tarn")
        point = dv.trim(craft, airspeed=62, altitude=300)
        file = dv.save_point(point, self.folder / "p.json")
        data = json.loads(file.read_text(encoding="utf-8"))

        def changed(**changes: Any) -> Path:
            target = self.folder / "changed.json"
            target.write_text(json.dumps({**data, **changes}), encoding="utf-8")
            return target

        state = data["state"]
        cases = (
            (lambda: dv.load_point(file, dv.sample("tarn", loading="dropped")), "the point is of the loading 'loaded'.*with_loading"),
            (lambda: dv.load_point(file, dv.sample("tarn", laws=["pitch_hold"])), "the file has no state 'pitch_hold_integral'"),
            (lambda: dv.load_point(changed(state={**state, "rudder_rte": 0.0}), craft), "no state 'rudder_rte'.*rudder_rate"),
            (lambda: dv.load_point(changed(state={**state, "u": "fast"}), craft), "a state is no number"),
            (lambda: dv.load_point(changed(state={**state, "u": float("inf")}), craft), "a state is not finite"),
            (lambda: dv.load_point(changed(statement={**data["statement"], "state": [0.0]}), craft), "the statement is that of another aircraft"),
            (lambda: dv.load_point(changed(statement={}), craft), "this is no trimmed point"),
            (lambda: dv.load_point(changed(format=2), craft), "its format is 2"),
            (lambda: dv.save_point(point, self.folder / "p.csv"), "ends in .json"),
            (lambda: dv.save_point(3, self.folder / "p.json"), "what is saved"),  # type: ignore[arg-type]
            (lambda: dv.load_point(file, "tarn"), "the second argument"),  # type: ignore[arg-type]
        )  # fmt: skip
        for call, told in cases:
            with self.subTest(told), self.assertRaisesRegex(dv.DravikError, told):
                call()


class EverydayTest(unittest.TestCase):
    def test_laws_by_name(self) -> None:
        held = dv.sample("tarn", laws=["pitch_hold", "yaw_damper.toml"])
        self.assertTrue({"pitch_hold", "yaw_damper"} <= set(held.signals))
        by_file = dv.sample("tarn", laws=[dv.aircraft.sample_path("tarn") / "laws" / "pitch_hold.toml"])
        self.assertIn("pitch_hold", by_file.signals)
        with self.assertRaisesRegex(
            dv.DravikError, "there is no law 'pitch_hod'.*one of attitude_hold.*did you mean pitch_hold"
        ):
            dv.sample("tarn", laws=["pitch_hod"])

    def test_histories_add_up(self) -> None:
        both = dv.step("2 deg", at=1) + dv.step("-1 deg", at=3)
        np.testing.assert_allclose(np.degrees(both(np.array([0.0, 2.0, 4.0]))), [0.0, 2.0, 1.0], atol=1e-12)
        self.assertEqual(both.corners, (1.0, 3.0))
        self.assertIn(", ", both.text)
        for other in (dv.step(1.0, at=1), dv.step("1 m/s", at=1)):
            with self.assertRaisesRegex(dv.DravikError, "do not add up"):
                _ = dv.step("2 deg", at=1) + other

    def test_a_trim_by_mach_number_asks_no_table_at_rest(self) -> None:
        """A table over Mach that refuses what it does not cover is left alone where the air alone is asked for."""
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (folder / "drag.csv").write_text("mach,CD\n0.2,0.03\n0.8,0.04\n", encoding="utf-8")
        text = (Path(__file__).parents[1] / "docs" / "how-to" / "page-of-derivatives.md").read_text(encoding="utf-8")
        file = re.search(r"```toml report/aircraft.toml\n(.*?)```", text, re.S)
        assert file is not None
        (folder / "aircraft.toml").write_text(
            file[1].replace('CD = "0.05 + 0.33*alpha"', 'CD = "CD_mach(mach) + 0.33*alpha"').replace("4200", "9000")
            + '\n[tables]\nCD_mach = { file = "drag.csv", outside = "error" }\n',
            encoding="utf-8",
        )
        craft = dv.load(folder)
        point = dv.trim(craft, mach=0.25, altitude="2000 m")
        self.assertAlmostEqual(point["mach"], 0.25, delta=1e-12)
        self.assertTrue(point.reached)
        with self.assertRaisesRegex(dv.DravikError, "mach = 0.1.* is outside table CD_mach"):
            dv.trim(craft, mach=0.1, altitude="2000 m")


if __name__ == "__main__":
    unittest.main()
