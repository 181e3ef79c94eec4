import math
import tempfile
import unittest
from collections.abc import Callable
from pathlib import Path

import numpy as np

from dravik.aero import compare, read_coefficients, reduce_campaign
from dravik.aero.campaign.reducing import Points
from dravik.aero.campaign.simulated_tunnel import Setting, simulate_runs, simulate_tares
from dravik.aero.campaign.tunnel import read_campaign, read_points
from dravik.aircraft import sample_path
from dravik.errors import DravikError
from dravik.tables.fitting import fit, half_width
from tests.support import DEG

COEFFICIENTS = ("CL", "CD", "CY", "Cl", "Cm", "Cn")
TEXT = """
format = 1
name = "model"
files = ["runs.csv"]
tares = "still.csv"
[reference]
area = "0.5 m^2"
chord = "0.25 m"
span = "2 m"
moment_point = ["1 m", "0 m", "0.1 m"]
[balance]
centre = ["1.1 m", "0 m", "0.05 m"]
[flow]
dynamic_pressure = { column = "Q", unit = "hPa" }
[columns]
alpha = { column = "A", unit = "deg" }
beta = { column = "B", unit = "deg", sign = -1 }
force_x = { column = "FX", unit = "N", sign = -1 }
force_y = { column = "FY", unit = "N" }
force_z = { column = "FZ", unit = "N", sign = -1 }
moment_x = { column = "MX", unit = "N*m" }
moment_y = { column = "MY", unit = "N*m" }
moment_z = { column = "MZ", unit = "N*m", sign = -1 }
[settings]
elevator = { column = "DE", unit = "deg" }
[rules]
alpha_step = "2 deg"
beta_step = "5 deg"
"""


def known(signals: dict[str, float]) -> dict[str, float]:
    """Return made-up coefficients: a lift that gives out, a drag polar, crossed controls."""
    a, b, e = signals["alpha"], signals["beta"], signals.get("elevator", 0.0)
    lift = 0.2 + 5.0 * a / (1 + (a / 0.35) ** 4) + 0.4 * e
    return {
        "CL": lift, "CD": 0.03 + 0.05 * lift**2 + 0.1 * b**2, "CY": -0.6 * b, "Cl": -(0.1 + 0.2 * a) * b,
        "Cm": 0.05 - 0.9 * a - 1.2 * e + 0.3 * b**2, "Cn": 0.12 * b - 0.1 * b**3,
    }  # fmt: skip


def settings() -> list[Setting]:
    sweep = [a * DEG for a in range(-8, 17, 2)]
    found = [Setting(a) for _ in range(3) for a in sweep]
    found += [Setting(a, 0.0, (("elevator", e * DEG),)) for _ in range(2) for e in (-15, -5, 10) for a in sweep]
    return found + [Setting(a * DEG, b * DEG) for _ in range(2) for a in (0, 6) for b in range(-15, 16, 5)]


class ReductionTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.file = self.folder / "campaign.toml"
        self.file.write_text(TEXT)

    def run_tunnel(self, *, noise: float = 0.004, bad: int = -1, seed: int = 5, chosen: list[Setting] | None = None,
                   truth: Callable[[dict[str, float]], dict[str, float]] = known) -> None:  # fmt: skip
        campaign, _ = read_campaign(self.file)
        simulate_runs(
            campaign,
            chosen or settings(),
            truth,
            self.folder / "runs.csv",
            weight=90.0,
            noise=noise,
            seed=seed,
            bad=bad,
        )
        simulate_tares(campaign, [a * DEG for a in range(-12, 21)], self.folder / "still.csv", weight=90.0)

    def test_known_tables_come_back_within_their_own_intervals(self) -> None:
        self.run_tunnel(bad=50)
        found = reduce_campaign(self.file)
        self.assertEqual(
            [d.place.rsplit(":", 1)[1] for d in found.doubts], ["52"]
        )  # a header line before it, and from 1
        self.assertAlmostEqual(found.doubts[0].value - found.doubts[0].expected, 0.25, delta=0.03)
        inside = []
        for file, tables in found.tables.files.items():
            columns = {t.name: t for t in tables}
            for name in COEFFICIENTS:
                axes = np.meshgrid(*(a.values for a in columns[name].axes), indexing="ij")
                over = {a.name: grid for a, grid in zip(columns[name].axes, axes, strict=True)}
                true = (
                    self.truth(over)
                    if file == "basic"
                    else {n: self.truth(over)[n] - self.truth({"alpha": over["alpha"]})[n] for n in COEFFICIENTS}
                )
                width = columns[f"{name}_interval"].values
                measured = width > 0.0
                inside.append((np.abs(columns[name].values - true[name]) <= width)[measured])
        share = float(np.mean(np.concatenate(inside)))
        self.assertTrue(0.90 < share < 0.99, share)

    @staticmethod
    def truth(over: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
        return {n: np.asarray(v) for n, v in known({"beta": 0.0, **over}).items()}  # type: ignore[dict-item, arg-type]

    def test_derivatives_lie_in_their_intervals(self) -> None:
        linear = {"CL": (5.0, 0.4), "Cm": (-0.9, -1.2)}

        def straight(s: dict[str, float]) -> dict[str, float]:
            a, b, e = s["alpha"], s["beta"], s.get("elevator", 0.0)
            return {
                "CL": 5.0 * a + 0.4 * e,
                "CD": 0.04,
                "CY": -0.6 * b,
                "Cl": -0.1 * b,
                "Cm": -0.9 * a - 1.2 * e,
                "Cn": 0.12 * b,
            }

        hits, total = 0, 0
        for seed in range(12):
            self.run_tunnel(seed=seed, truth=straight)
            found = reduce_campaign(self.file)
            true = {(c, by): v for c, pair in linear.items() for by, v in zip(("alpha", "elevator"), pair, strict=True)}
            true |= {("CY", "beta"): -0.6, ("Cl", "beta"): -0.1, ("Cn", "beta"): 0.12}
            for d in found.derivatives:
                if (d.name, d.by) in true:
                    hits, total = hits + (abs(d.value - true[d.name, d.by]) <= d.interval), total + 1
            point, width = found.neutral_point
            self.assertAlmostEqual(point, 1.0 + 0.25 * 0.9 / 5.0, delta=3 * width)
            self.assertAlmostEqual(found.aft_limit[0], point - 0.05 * 0.25)
        self.assertGreater(total, 80)
        self.assertTrue(0.88 < hits / total <= 1.0, hits / total)

    def test_one_reading_by_hand(self) -> None:
        # 10 N up and 2 N aft at the balance, alpha zero; the balance is 0.1 m aft of and 0.05 m below the moment point
        self.file.write_text(
            TEXT.replace('tares = "still.csv"\n', "").replace(
                'dynamic_pressure = { column = "Q", unit = "hPa" }',
                'density = "1.2 kg/m^3"\nspeed = { column = "Q", unit = "m/s" }',
            )
        )
        (self.folder / "runs.csv").write_text(
            "A,B,Q,DE,FX,FY,FZ,MX,MY,MZ\n0,0,10,0,2,3,10,0,0,0\n0,-90,10,0,0,0,0,0,0,7\n"
        )
        campaign, lines = read_campaign(self.file)
        points = read_points(campaign, lines)
        q_s = 0.5 * 1.2 * 100 * 0.5
        # lift aft of the point pushes the nose down; drag below it pulls the nose down too
        for name, value in (("CL", 10 / q_s), ("CD", 2 / q_s), ("CY", 3 / q_s), ("Cm", -(10 * 0.1 + 2 * 0.05) / (q_s * 0.25)),
                            ("Cn", -3 * 0.1 / (q_s * 2)), ("Cl", -3 * 0.05 / (q_s * 2))):  # fmt: skip
            self.assertAlmostEqual(float(points.values[name][0]), value, places=12, msg=name)
        self.assertAlmostEqual(float(points.beta[1]), 0.5 * math.pi)
        self.assertAlmostEqual(float(points.values["Cn"][1]), -7 / (q_s * 2))

    def test_wind_axes(self) -> None:
        for axes, beta in (("stability", 0.0), ("wind", 10.0)):
            self.file.write_text(TEXT.replace('tares = "still.csv"\n', "").replace("[flow]", f'axes = "{axes}"\n[flow]', 1)
                                 .replace('centre = ["1.1 m", "0 m", "0.05 m"]', 'centre = ["1 m", "0 m", "0.1 m"]'))  # fmt: skip
            # drag 4 N, lift 20 N and nothing else in the balance's own axes, at 8 degrees
            (self.folder / "runs.csv").write_text(
                f"A,B,Q,DE,FX,FY,FZ,MX,MY,MZ\n8,{-beta},1,0,4,0,20,0,0,0\n8,0,1,0,0,0,0,0,5,0\n"
            )
            points = read_points(*read_campaign(self.file))
            self.assertAlmostEqual(float(points.values["CL"][0]), 20 / 50)
            self.assertAlmostEqual(float(points.values["CD"][0]), 4 * math.cos(beta * DEG) / 50)
            self.assertAlmostEqual(float(points.values["CY"][0]), -4 * math.sin(beta * DEG) / 50)
            self.assertAlmostEqual(float(points.values["Cm"][1]), 5 / (50 * 0.25))

    def test_refusals_name_the_place(self) -> None:
        for old, new, words in (
            (
                'column = "FX"',
                'column = "FQ"',
                r"campaign.toml:\d+: columns.force_x: .*runs.csv:1: there is no column 'FQ'.*did you mean",
            ),
            ('column = "FX", unit = "N"', 'column = "FX", unit = "m"', r"columns.force_x: 'm' does not measure force"),
            ('column = "FX", unit = "N"', 'column = "FX"', r"columns.force_x: the column 'FX' has no unit"),
            ("sign = -1 }\nforce_x", "sign = 2 }\nforce_x", r"columns.beta.sign.*-1 or 1"),
            ("[flow]\n", '[flow]\nspeed = "3 kg"\n', r"^$|speed"),
            (
                'dynamic_pressure = { column = "Q", unit = "hPa" }',
                'speed = "30 m/s"',
                r"flow: the flow has no dynamic pressure; expected dynamic_pressure, or density",
            ),
            (
                'dynamic_pressure = { column = "Q", unit = "hPa" }',
                'dynamic_pressure = { column = "DE", unit = "deg" }',
                r"'deg' does not measure pressure",
            ),
            ('files = ["runs.csv"]', 'files = ["rnus.csv"]', r"rnus.csv: there is no such table file"),
            ('alpha_step = "2 deg"', "alpha_step = 2", r"rules.alpha_step: 2 has no unit"),
        ):
            with self.subTest(new):
                self.assertIn(old, TEXT)
                self.file.write_text(TEXT)
                self.run_tunnel()
                self.file.write_text(TEXT.replace(old, new, 1))
                if words.startswith("^$"):
                    reduce_campaign(self.file)  # a speed beside a dynamic pressure is not read
                    continue
                with self.assertRaisesRegex(DravikError, words):
                    reduce_campaign(self.file)

    def test_holes_and_too_few_points(self) -> None:
        whole = settings()
        for chosen, words in (
            ([s for s in whole if not (s.controls and s.alpha == 6 * DEG and s.controls[0][1] == -5 * DEG)],
             r"the grid of elevator has holes: 1 of 52 points are missing: alpha = 6 deg, elevator = -5 deg"),
            (whole[:13], r"not enough repeats"),
            ([s for s in whole if s.controls or s.beta], r"fewer than three angles of attack|points are too few"),
        ):  # fmt: skip
            self.run_tunnel(chosen=chosen)
            with self.assertRaisesRegex(DravikError, words):
                reduce_campaign(self.file)
        self.run_tunnel()
        text = (self.folder / "runs.csv").read_text().splitlines()
        cells = text[20].split(",")
        cells[2] = "0"
        (self.folder / "runs.csv").write_text("\n".join([*text[:20], ",".join(cells), *text[21:]]))
        with self.assertRaisesRegex(DravikError, r"runs.csv:21: the dynamic pressure is 0 Pa"):
            reduce_campaign(self.file)


class SampleTest(unittest.TestCase):
    def test_the_tarns_campaign_against_its_drawing(self) -> None:
        found = reduce_campaign(sample_path("tarn") / "tunnel" / "campaign.toml")
        self.assertEqual(len(found.doubts), 1)
        self.assertGreater(found.doubts[0].deviations, 20)
        with tempfile.TemporaryDirectory() as folder:
            found.tables.write(folder)
            measured = read_coefficients(folder)
        comparison = compare(read_coefficients(sample_path("tarn") / "aero"), measured)
        by = {(c, b): (x, y) for c, b, x, y in comparison.derivatives}
        # what the model was given to differ in: controls worth 7 % less (and as much again by the intervals), same lift slope
        self.assertAlmostEqual(by["CL", "alpha"][1] / by["CL", "alpha"][0], 1.0, delta=0.03)
        for pair in (("Cm", "elevator"), ("Cl", "aileron"), ("Cn", "rudder")):
            self.assertTrue(0.85 < by[pair][1] / by[pair][0] < 0.97, pair)
        self.assertTrue(0.005 < comparison.differences()["CD"][1] < 0.03)


class FitTest(unittest.TestCase):
    def test_fit_and_interval(self) -> None:
        x = np.array([0.0, 1.0, 2.0, 3.0])
        slope, width, degrees = fit([x], np.array([1.0, 3.1, 4.9, 7.0]))
        # the normal equations of four points; Student's 4.302653 for two freedoms
        residual = np.array([1.0, 3.1, 4.9, 7.0]) - slope[0] * x - slope[1]
        self.assertAlmostEqual(float(slope[0]), 1.98)
        self.assertEqual(degrees, 2)
        self.assertAlmostEqual(float(width[0]), 4.302653 * math.sqrt(float(residual @ residual) / 2 / 5.0), places=5)
        self.assertAlmostEqual(half_width(1.0, 10), 2.228139, places=6)  # Student's table, 95 %, ten freedoms
        with self.assertRaisesRegex(DravikError, "too few, or all at one setting"):
            fit([np.ones(5)], np.arange(5.0))

    def test_points_are_picked_whole(self) -> None:
        points = Points(np.arange(3.0), np.zeros(3), {"e": np.arange(3.0)}, {"CL": np.arange(3.0)}, ["a", "b", "c"])
        chosen = points.pick(np.array([True, False, True]))
        self.assertEqual((len(chosen), chosen.places, chosen.settings["e"][1]), (2, ["a", "c"], 2.0))


if __name__ == "__main__":
    unittest.main()
