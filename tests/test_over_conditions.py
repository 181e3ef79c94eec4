"""Modes and margins over conditions, loops through sums of effectors, and several loops at once in short time."""

import json
import math
import tempfile
import unittest
from pathlib import Path

import numpy as np
from scipy.optimize import minimize

import dravik as dv
from dravik.errors import DravikError
from dravik.linear import mode_sweep
from dravik.loops import LoopPlan, cut_loop, law_of, margins, margins_over, plan_over, study_loops
from dravik.loops.several import structured
from tests.test_asked_of_trims import OWN
from tests.test_cli import run

SKARV = OWN / "skarv"
LAW = """format = 1
name = "Both"
{rate}
[formulas]
pitch_part = {{ formula = "lag(0.35*q + 0.5*(alpha - 0.06), 0.02)", unit = "rad" }}
roll_part = {{ formula = "lag(-0.12*p, 0.03)", unit = "rad" }}
[add]
elevon_left = "pitch_part + roll_part"
elevon_right = "pitch_part - roll_part"
"""


class SumsTest(unittest.TestCase):
    def test_two_elevons_are_one_loop(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            for rate in ("", "rate = 80.0"):
                path = Path(folder) / "both.toml"
                path.write_text(LAW.format(rate=rate))
                craft = dv.load(SKARV).with_law(*dv.load_law(path))
                point = dv.trim(craft, equivalent_airspeed="190 m/s", altitude=4000)
                # breaking what moves both alike is breaking the law's own part for it, the other part closed
                for sign, part in (("+", "pitch_part"), ("-", "roll_part")):
                    at = f"elevon_left_command {sign} elevon_right_command"
                    loop = cut_loop(craft, point, at, outputs=["q"])
                    self.assertEqual(loop.outputs, [at, "q"])
                    ours, joined = margins(loop.part(outputs=[at])), margins(cut_loop(craft, point, part))
                    with self.subTest(at=at, rate=rate):
                        self.assertTrue(math.isfinite(joined.phase))
                        for name in ("gain_decibels", "phase", "disc", "delay", "gain_up", "gain_down"):
                            self.assertAlmostEqual(getattr(ours, name), getattr(joined, name), delta=1e-8, msg=name)
        with self.assertRaisesRegex(DravikError, "is no sum of names"):
            cut_loop(craft, point, "elevon_left_command + + q")

    def test_a_plan_moves_a_sum_and_its_law_does_the_same(self) -> None:
        craft = dv.load(SKARV)
        condition = {"equivalent_airspeed": "190 m/s", "altitude": 4000}
        loops = [
            {"name": "pitch", "measures": "q", "moves": "elevon_left + elevon_right", "proportional": -0.35},
            {"name": "roll", "measures": "p", "moves": "elevon_left - elevon_right", "proportional": 0.12},
        ]
        study = study_loops(craft, LoopPlan.model_validate({"condition": condition, "loop": loops}))
        # by hand: the columns of both elevons of the model, added
        model = study.model
        b = model.B[:, [model.inputs.index(f"elevon_{side}_increment") for side in ("left", "right")]].sum(axis=1)
        k = [model.outputs.index("q")]
        w = np.geomspace(0.1, 50.0, 40)
        own = np.array([(model.C[k] @ np.linalg.solve(1j * v * np.eye(len(b)) - model.A, b))[0] for v in w])
        # the open loop, whose sign is turned: the proportional gain times the channel
        channel = study.loops[0].open_loop.frequency_response(w)[:, 0, 0] / study.loops[0].pid.proportional
        self.assertTrue(np.allclose(channel, own, rtol=1e-9))
        text = law_of(study)
        self.assertIn('elevon_left = "roll + pitch"', text)
        self.assertIn('elevon_right = "-roll + pitch"', text)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "law.toml"
            path.write_text(text)
            flown = craft.with_law(*dv.load_law(path))
        again = margins(cut_loop(flown, dv.trim(flown, **condition), "roll"))  # type: ignore[arg-type]
        self.assertAlmostEqual(again.gain_decibels, study.loops[1].margins.gain_decibels, places=5)


class OverConditionsTest(unittest.TestCase):
    def test_modes_are_those_of_each_condition(self) -> None:
        craft = dv.sample("tarn")
        swept = dv.trim_sweep(craft, {"loading": "loaded,dropped", "airspeed": "55, 75 m/s"}, altitude=300)
        found = mode_sweep(swept)
        rows = [r for r in found.rows() if r["mode"] == "Dutch roll"]
        self.assertEqual([(r["loading"], r["airspeed"]) for r in rows],
                         [("loaded", 55), ("loaded", 75), ("dropped", 55), ("dropped", 75)])  # fmt: skip
        point = dv.trim(craft.with_loading("dropped"), airspeed=75, altitude=300)
        model = dv.linearise(craft.with_loading("dropped"), point)
        roots, vectors = np.linalg.eig(model.A)
        k = int(np.argmin(abs(roots - complex(rows[3]["real_1_s"], rows[3]["imag_1_s"]))))
        self.assertAlmostEqual(rows[3]["frequency_rad_s"], abs(roots[k]), places=9)
        self.assertAlmostEqual(rows[3]["damping"], -roots[k].real / abs(roots[k]), places=9)
        self.assertAlmostEqual(rows[3]["time_to_half_s"], math.log(2.0) / -roots[k].real, places=7)
        share = abs(vectors[model.states.index("phi"), k] / vectors[model.states.index("beta"), k])
        self.assertAlmostEqual(rows[3]["phi_over_beta"], share, places=7)
        self.assertEqual({r["phi_over_beta"] for r in found.rows() if r["mode"] in ("short period", "roll")}, {None})
        code, out, _ = run("linearise", "tarn", "--altitude", "300 m", "--sweep", "airspeed=55,75 m/s")
        self.assertEqual(code, 0)
        self.assertIn("|phi/beta|", out)
        sweeps = ["--sweep", "airspeed=55,75 m/s", "--sweep", "altitude=0,900 m"]
        code, _, err = run("linearise", "tarn", *sweeps, "--figure", "x.png")
        self.assertIn("one axis of numbers alone", err)

    def test_margins_are_those_of_each_condition_and_the_worst_is_named(self) -> None:
        craft = dv.sample("tarn", laws=["pitch_hold"])
        swept = dv.trim_sweep(craft, {"airspeed": "55, 70, 90 m/s"}, altitude=300)
        found = margins_over(craft, swept, delay=0.05)
        each = [margins(cut_loop(craft, dv.trim(craft, airspeed=v, altitude=300), "elevator_command"), delay=0.05)
                for v in (55.0, 70.0, 90.0)]  # fmt: skip
        rows = found.rows()
        self.assertEqual([r["loop"] for r in rows], ["elevator_command"] * 3)
        for row, one in zip(rows, each, strict=True):
            self.assertAlmostEqual(row["phase_margin_deg"], math.degrees(one.phase), places=6)
            self.assertAlmostEqual(row["disc"], one.disc, places=6)
        worst = min(range(3), key=lambda k: each[k].disc)
        self.assertEqual(found.worst()["elevator_command"]["place"], f"airspeed {(55, 70, 90)[worst]} m/s")
        words = ["loop", "tarn", "--law", "pitch_hold", "--altitude", "300 m", "--delay", "50 ms"]
        words += ["--sweep", "airspeed=55,70,90 m/s"]
        code, out, _ = run(*words, "--least-phase", "40")
        self.assertEqual(code, 0)
        self.assertIn(f"worst at airspeed {(55, 70, 90)[worst]} m/s", out)
        code, out, _ = run(*words, "--least-phase", "89")
        self.assertEqual((code, "not met" in out), (1, True))
        with self.assertRaisesRegex(DravikError, "no law of Tarn closes a loop"):
            margins_over(dv.sample("tarn"), dv.trim_sweep(dv.sample("tarn"), {"airspeed": "55, 70 m/s"}, altitude=300))

    def test_an_unstable_condition_is_the_worst_whatever_its_disc(self) -> None:
        craft = dv.sample("tarn", laws=["yaw_damper"])
        found = margins_over(craft, dv.trim_sweep(craft, {"airspeed": "50, 70 m/s"}, altitude=300))
        self.assertEqual([r["closes"] for r in found.rows()], [False, True])  # the spiral at 50 m/s
        self.assertEqual(found.worst()["rudder_command"]["place"], "airspeed 50 m/s")
        words = ["loop", "tarn", "--law", "yaw_damper", "--altitude", "300 m", "--sweep", "airspeed=50,70 m/s"]
        code, out, _ = run(*words, "--json")
        self.assertEqual((code, json.loads(out)["holds"]), (1, False))

    def test_a_plans_gains_are_kept_over_the_sweep(self) -> None:
        from dravik.loops import read_loops

        craft, plan = dv.sample("tarn"), read_loops(dv.aircraft.sample_path("tarn") / "loops" / "pitch.toml")
        designed = study_loops(craft, plan)
        found = plan_over(craft, plan, {"airspeed": [62.0, 80.0]})
        at_home = next(r for r in found.rows() if r["loop"] == "hold" and r["airspeed"] == 62.0)
        own = designed.loop("hold").margins
        self.assertAlmostEqual(designed.point["airspeed"], 62.0)
        self.assertAlmostEqual(at_home["phase_margin_deg"], math.degrees(own.phase), places=5)
        kept = plan.model_copy(update={"condition": {**plan.condition, "airspeed": 80.0}, "loop": tuple(
            entry.model_copy(update={"crossover": None, "damping": None, "phase_margin": None, "zero": None,
                                     "controller": "P", "proportional": designed.loop(entry.name).pid.proportional,
                                     "integral": designed.loop(entry.name).pid.integral})
            for entry in plan.loop)})  # fmt: skip
        away = next(r for r in found.rows() if r["loop"] == "hold" and r["airspeed"] == 80.0)
        other = study_loops(craft, kept).loop("hold").margins
        self.assertAlmostEqual(away["phase_margin_deg"], math.degrees(other.phase), places=5)


class StructuredTest(unittest.TestCase):
    def test_against_another_search(self) -> None:
        draw = np.random.default_rng(5)
        for n in (2, 3, 4, 6):
            matrix = draw.normal(size=(n, n)) + 1j * draw.normal(size=(n, n))

            def size(logs: np.ndarray, matrix: np.ndarray = matrix) -> float:
                scale = np.exp(np.append(logs, 0.0))
                return float(np.linalg.norm(matrix * (scale[:, None] / scale[None, :]), 2))

            other = min(
                minimize(size, x, method="Nelder-Mead", options={"xatol": 1e-8, "fatol": 1e-11, "maxiter": 4000}).fun
                for x in (np.zeros(n - 1), 0.3 * draw.normal(size=n - 1))
            )
            self.assertLessEqual(structured(matrix), other * (1.0 + 1e-6))
            self.assertGreaterEqual(structured(matrix), float(np.max(np.abs(np.linalg.eigvals(matrix)))) - 1e-9)


if __name__ == "__main__":
    unittest.main()
