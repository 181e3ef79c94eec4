import contextlib
import io
import json
import math
import re
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from pypdf import PdfReader

from dravik.cli import main

AT = ["--airspeed", "62 m/s", "--altitude", "300 m"]


def run(*arguments: str) -> tuple[int, str, str]:
    """Run the command line in this process; return exit code, standard output and standard error."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        code = main(list(arguments))
    return code, out.getvalue(), err.getvalue()


DRAWING = """
format = 1
name = "small"
reference = { area = "8 m^2", chord = "1 m", span = "8 m", moment_point = ["0.25 m", "0 m", "0 m"] }
[surfaces.wing]
panels = [3, 8]
sections = [
  { leading_edge = ["0 m", "0 m", "0 m"], chord = "1 m", profile = "2412" },
  { leading_edge = ["0 m", "4 m", "0.2 m"], chord = "1 m", profile = "2412" },
]
controls = { aileron = { span = [0.6, 0.95], hinge = 0.75, gearing = "opposite", range = ["-20 deg", "20 deg"] } }
"""


class CommandTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def ok(self, *arguments: str) -> str:
        code, out, err = run(*arguments)
        # the first commands on an installation say what they compile
        err = re.sub(r"(compiling the kernel: [^\n]*|  \w+: [\d.]+ s)\n", "", err)
        self.assertEqual((code, err), (0, ""), out)
        return out

    def test_the_work_from_a_new_folder(self) -> None:
        craft = str(self.folder / "mine")
        self.assertIn("aircraft.toml is there", self.ok("new", craft))
        self.assertIn("0 errors, 0 warnings, 0 notes", self.ok("check", craft))
        self.assertRegex(
            self.ok("signals", craft, "--kind", "engine"), r"thrust_left +N +engine +thrust of engine left"
        )
        trimmed = self.ok("trim", craft, *AT, "--prove")
        self.assertRegex(trimmed, r"alpha +3\.\d+ +deg")
        self.assertIn("flown hands off", trimmed)
        self.assertRegex(self.ok("linearise", craft, *AT, "--prove", "rudder"), r"Dutch roll +-0\.\d+ +1\.\d+")
        judged = self.ok("handling", craft, *AT)
        self.assertRegex(judged, r"3\.3\.1\.1 +Dutch roll damping +0\.\d+ +at least 0\.08 +1")
        recording, figure = str(self.folder / "run.csv"), self.folder / "run.png"
        flown = self.ok(
            "fly", craft, *AT, "--duration", "5 s", "--law", "pitch_hold", "--control", "theta_command=step(2 deg, at=1 s)",
            "--out", recording, "--figure", str(figure),
        )  # fmt: skip
        self.assertIn("5 s flown", flown)
        self.assertGreater(figure.stat().st_size, 20000)
        picture = self.folder / "again.png"
        self.assertIn("theta", self.ok("plot", recording, "--signals", "theta,elevator", "--out", str(picture)))
        self.assertEqual(picture.read_bytes()[:4], b"\x89PNG")
        on = self.ok("fly", craft, "--law", "pitch_hold", "--resume", recording, "--duration", "1 s", "--json")
        self.assertAlmostEqual(json.loads(on)["last"]["time"], 6.0)
        file = Path(craft) / "aircraft.toml"
        file.write_text(file.read_text() + '[starts.over]\nkind = "trimmed"\nairspeed = "62 m/s"\naltitude = "300 m"\n')
        slow = ("fly", craft, "--start", "over", "--set", "flap_lever=10 deg", "--duration", "1 s", "--json")
        self.assertAlmostEqual(json.loads(self.ok(*slow))["last"]["flap"], math.radians(10.0), places=6)

    def test_drawing_and_lattice(self) -> None:
        views, loading = self.folder / "views.png", self.folder / "loading.png"
        drawn = self.ok("tables", "draw", "tarn", "--figure", str(views), "--loading", str(loading))
        self.assertRegex(drawn, r"by elevator +0\.\d+ +\S+ +0 +0 +-\d\.\d+ +0\n")
        self.assertTrue(min(views.stat().st_size, loading.stat().st_size) > 20000)
        found = json.loads(self.ok("tables", "draw", "tarn", "--alpha", "2 deg", "--json"))
        self.assertAlmostEqual(found["lift_trefftz"] / found["CL"], 1.0, delta=0.01)
        self.assertGreater(found["derivatives"]["aileron"]["Cl"], 0.1)
        for arguments, words in (
            (["--mach", "0.95"], "the Prandtl-Glauert rule holds up to Mach 0.7"),
            (["--alpha", "4"], "has no unit"),
        ):
            code, _, err = run("tables", "draw", "tarn", *arguments)
            self.assertEqual(code, 2)
            self.assertIn(words, err)

    def test_json(self) -> None:
        trimmed = json.loads(self.ok("trim", "tarn", *AT, "--json"))
        self.assertTrue(trimmed["reached"])
        self.assertAlmostEqual(trimmed["signals"]["airspeed"], 62.0)
        whole = json.loads(
            self.ok("linearise", "pika", "--airspeed", "15 m/s", "--altitude", "300 m", "--prove", "all", "--json")
        )
        self.assertEqual(set(whole["parting_sizes"]), {"elevator", "aileron", "rudder"})
        self.assertIsNone(whole["difference_from_nonlinear"])
        model = json.loads(self.ok("linearise", "tarn", *AT, "--outputs", "nz,alpha", "--prove", "elevator", "--json"))
        self.assertEqual((len(model["C"]), len(model["A"])), (2, len(model["states"])))
        self.assertLess(max(model["difference_from_nonlinear"].values()), 0.02)
        self.assertEqual(json.loads(self.ok("handling", "tarn", *AT, "--json"))["level"], 1)
        self.assertEqual(json.loads(self.ok("check", "tarn", "--json"))["findings"], [])
        names = {s["name"]: s for s in json.loads(self.ok("signals", "tarn", "--json"))["signals"]}
        self.assertEqual(names["alpha"]["unit"], "rad")
        rough = ("fly", "tarn", *AT, "--turbulence", "light", "--duration", "1 s", "--json", "--seed")
        shaken = [json.loads(self.ok(*rough, seed))["last"]["nz"] for seed in ("0", "3", "3")]
        self.assertTrue(shaken[0] != shaken[1] == shaken[2], shaken)
        windy = json.loads(self.ok("fly", "tarn", *AT, "--wind", "5 m/s from 0 deg", "--duration", "1 s", "--json"))
        self.assertAlmostEqual(windy["last"]["ground_speed"], 57.0, places=3)
        damped = json.loads(self.ok("handling", "tarn", *AT, "--against-law", "yaw_damper", "--json"))["compared"]
        self.assertTrue(any(row["before"] != row["after"] for row in damped))
        flown = json.loads(self.ok("fly", "tarn", *AT, "--duration", "1 s", "--record", "alpha,q", "--json"))
        self.assertEqual((flown["rows"], flown["signals"]), (101, 3))

    def test_scenarios_pictures_and_tracks(self) -> None:
        lasted = {}
        for seed in ("3", "4"):
            flown = json.loads(
                self.ok("fly", "meadow_circuit", "--seed", seed, "--out", str(self.folder / f"{seed}.csv"), "--json")
            )
            self.assertEqual(flown["events"][-1]["event"], "landing run is over")
            lasted[seed] = flown["duration_s"]
        run_3, run_4 = (str(self.folder / f"{s}.csv") for s in "34")
        short = str(self.folder / "short.csv")
        self.ok("fly", "pika", "--airspeed", "15 m/s", "--altitude", "300 m", "--duration", "1 s", "--record", "alpha",
                "--out", short)  # fmt: skip
        for view, file, head, drawn in (
            ("overhead", "overhead.png", b"\x89PNG", run_3), ("track", "track.svg", b"<?xml", run_3),
            ("book", "book.pdf", b"%PDF", short), ("book", "book.html", b"<!doctype html>", run_3),
            ("moving", "m.gif", b"GIF8", run_3),
        ):  # fmt: skip
            with self.subTest(file):
                more = ["--seconds", "1"] if view == "moving" else []
                self.ok("plot", drawn, "--view", view, "--out", str(self.folder / file), *more)
                self.assertTrue((self.folder / file).read_bytes().lower().startswith(head.lower()))
        book = PdfReader(self.folder / "book.pdf")
        chapters = [str(getattr(entry, "title", "")) for entry in book.outline]
        self.assertEqual(chapters, ["What was flown", "Attitude and angles to the air"])
        self.assertEqual((len(book.pages), book.get_destination_page_number(book.outline[1])), (2, 1))  # type: ignore[arg-type]
        self.assertGreaterEqual((self.folder / "book.html").read_text().count("data:image/png;base64"), 5)
        self.ok("plot", run_3, run_4, "--signals", "altitude,psi", "--out", str(self.folder / "both.png"))
        self.ok("axes", "--pitch", "90 deg", "--out", str(self.folder / "axes.png"))
        points = math.floor(lasted["3"]) + 1
        self.assertIn(f"{points} points at 1 Hz", self.ok("export", run_3, "--out", str(self.folder / "t.kml")))
        for words, arguments in (
            ("--law cannot be given beside a scenario", ("fly", "meadow_circuit", "--law", "pilot")),
            ("expected signals, overhead", ("plot", run_3, "--view", "plane")),
            ("a name that ends in .gif", ("plot", run_3, "--view", "moving", "--out", "a.png")),
            (r"a name that ends in \.gpx", ("export", run_3, "--out", "a.shp")),
            ("does not measure angle", ("axes", "--pitch", "95 m")),
            ("did you mean meadow_circuit", ("fly", "meadow_circus")),
        ):
            with self.subTest(words):
                code, _, err = run(*arguments)
                self.assertEqual(code, 2, err)
                self.assertRegex(err, words)

    def test_demo(self) -> None:
        out = json.loads(self.ok("demo", "--quick", "--out", str(self.folder / "demo"), "--json"))
        self.assertTrue(all(s["good"] for s in out["steps"].values()), out)
        page = (self.folder / "demo" / "index.html").read_text()
        self.assertEqual(page.count("data:image/png;base64"), 13)
        self.assertNotIn("http", page)
        for name in (
            "audit",
            "trim",
            "modes",
            "handling",
            "linear_against_nonlinear",
            "hands_off",
            "model_A",
            "pitch_hold",
        ):
            self.assertTrue((self.folder / "demo" / f"{name}.csv").stat().st_size > 10, name)

    def test_sensitivities(self) -> None:
        asked = ("linearise", "tarn", "--law", "yaw_damper", *AT, "--sensitivities")
        self.assertRegex(self.ok(*asked), r"Dutch roll +yaw_damper_gain +0\.6")
        found = json.loads(self.ok(*asked, "--json"))["sensitivities"]
        self.assertEqual(next(s["of"] for s in found if s["mode"] == "short period"), "Cm_alpha")

    def test_every_answer(self) -> None:
        asked = ("trim", "tarn", "--airspeed", "free", "--altitude", "300 m", "--set", "throttle=0.3", "--all")
        self.assertIn("2 solutions", self.ok(*asked))
        slow, fast = json.loads(self.ok(*asked, "--signals", "airspeed,alpha", "--json"))["solutions"]
        self.assertEqual(sorted(slow), ["airspeed", "alpha"])
        self.assertTrue(slow["airspeed"] < fast["airspeed"] and slow["alpha"] > fast["alpha"])
        code, out, _ = run("trim", "tarn", "--airspeed", "30", "--altitude", "300 m", "--all")
        self.assertEqual((code, "no solution found" in out), (1, True))

    def test_sweeps(self) -> None:
        table, figure = self.folder / "sweep.csv", self.folder / "map.png"
        text = self.ok("trim", "tarn", "--sweep", "altitude=0:3000:8 m", "--sweep", "airspeed=40:120:9 m/s",
                       "--out", str(table), "--figure", str(figure))  # fmt: skip
        self.assertRegex(text, r"trims held \(one in")
        self.assertEqual((len(table.read_text().splitlines()), figure.read_bytes()[:4]), (73, b"\x89PNG"))
        found = json.loads(self.ok("trim", "tarn", "--altitude", "300 m", "--sweep", "airspeed=30,60 m/s",
                                   "--signals", "alpha", "--json"))  # fmt: skip
        self.assertEqual((found["held"], found["points"], found["rows"][0]["alpha_deg"]), (1, 2, None))
        for words, arguments in (
            ("--signals needs --sweep", ("trim", "tarn", *AT, "--signals", "alpha")),
            ("--prove, --all and --sweep exclude each other", ("trim", "tarn", *AT, "--prove", "--sweep", "flap_lever=0,5 deg")),
            ("a name that ends in .csv or .parquet", ("trim", "tarn", *AT, "--sweep", "flap_lever=0,5 deg", "--out", "a.x")),
        ):  # fmt: skip
            code, _, err = run(*arguments)
            self.assertEqual(code, 2, err)
            self.assertIn(words, err)

    def test_derivatives_transfer_functions_and_roots(self) -> None:
        model, figure = self.folder / "model.json", self.folder / "roots.png"
        text = self.ok("linearise", "tarn", *AT, "--derivatives", "--transfer", "theta/elevator", "--out", str(model))
        for words in ("Mwdot", "CL_alpha", "Dutch roll", "theta/elevator_increment = ", "gain at rest"):
            self.assertIn(words, text)
        self.assertEqual(json.loads(model.read_text())["states"][0], "north")
        text = self.ok(
            "linearise", "tarn", "--altitude", "300 m", "--sweep", "airspeed=50:100:6 m/s", "--figure", str(figure)
        )
        self.assertRegex(text, r"mode +airspeed \[m/s\]")
        self.assertEqual(figure.read_bytes()[:4], b"\x89PNG")
        for words, more in (
            ("expected OUTPUT/INPUT", ("--transfer", "theta")),
            ("no output 'thta'", ("--transfer", "thta/elevator")),
        ):
            code, _, err = run("linearise", "tarn", *AT, *more)
            self.assertEqual(code, 2)
            self.assertIn(words, err)

    def test_answers_no(self) -> None:
        code, _, err = run("trim", "tarn", "--airspeed", "30 m/s", "--altitude", "300 m")
        self.assertEqual(code, 1)
        self.assertRegex(err, r"no trim at 30 m/s at 300 m: residual: .*alpha_dot = .*\(force across it")
        self.assertEqual(
            run("handling", "tarn", "--airspeed", "95 m/s", "--altitude", "4500 m", "--category", "A")[0], 1
        )
        craft = self.folder / "bad"
        self.ok("new", str(craft))
        file = craft / "aero" / "aero.toml"
        file.write_text(file.read_text().replace("+ Cm_elevator", "- Cm_elevator"))
        code, out, _ = run("check", str(craft))
        self.assertEqual(code, 1)
        self.assertIn("Cm_elevator has the wrong sign", " ".join(out.split()))

    def test_wrong_input_is_one_message_and_exit_2(self) -> None:
        (self.folder / "law.toml").write_text('format = 1\nname = "x"\n[add]\nelevator = "1/0*q"\n')
        (self.folder / "table.csv").write_text("x,y\n1,2\n")
        for arguments, words in (
            (["check", "nowhere.toml"], "there is no such file"),
            (["trim", "tarn", "--airspeed", "62 kg", "--altitude", "300 m"], "'kg' does not measure speed"),
            (["trim", "tarn", "--airspeed", "62 m/s"], "the trim has no altitude"),
            (["trim", "tarn", *AT, "--set", "flap_lever"], "expected NAME=VALUE"),
            (["trim", "tarn", *AT, "--set", "flap=20 deg", "--loading", "lodaed"], "expected one of loaded, dropped"),
            (["trim", "tarn", *AT, "--law", str(self.folder / "law.toml")], "divides by zero"),
            (["linearise", "tarn", *AT, "--outputs", "nzz"], "has no signal 'nzz'"),
            (["linearise", "tarn", *AT, "--coordinates", "polar"], "expected 'air' or 'body'"),
            (["handling", "tarn", *AT, "--class", "V"], "expected one of I, II-L"),
            (
                ["handling", "tarn", *AT, "--sweep", "mass=8:9:2 t", "--sensitivities"],
                "--sweep excludes --against and --sensitivities",
            ),
            (["fly", "tarn", *AT, "--control", "elevator"], "expected NAME=HISTORY"),
            (["fly", "tarn", *AT, "--start", "over"], "--airspeed and --start exclude each other"),
            (["fly", "tarn", "--altitude", "1 m", "--resume", "run.csv"], "--altitude and --resume exclude each other"),
            (["fly", "tarn", "--set", "throttle=0.2", "--resume", "run.csv"], "--set throttle"),
            (["fly", "fire_run", "--duration", "5 s"], "--duration cannot be given beside a scenario"),
            (["fly", "fire_run", "--guess", "alpha=5 deg"], "--guess cannot be given beside a scenario"),
            (["fly", "tarn", *AT, "--duration", "1 s", "--seed", "3"], "--seed needs --turbulence"),
            (["fly", "tarn", *AT, "--control", "elevator=dublet(2 deg)"], "did you mean doublet"),
            (["fly", "tarn", *AT, "--duration", "1 s", "--out", "/nowhere/run.csv"], "cannot be written"),
            (["fly", "tarn", *AT, "--duration", "1 s", "--figure", str(self.folder / "x.bmpx")], "a .png name"),
            (["plot", "nothing.csv"], "no such recording"),
            (["plot", str(self.folder / "table.csv")], "no such recording"),
            (["signals", "tarn", "--kind", "magic"], "expected one of"),
            (["new", str(self.folder)], "there already and not empty"),
            (["new", str(self.folder / "x"), "--sample", "tran"], "there is no sample 'tran'"),
            (["frobnicate"], "No such command"),
        ):
            with self.subTest(" ".join(arguments)):
                code, out, err = run(*arguments)
                self.assertEqual(code, 2, out + err)
                self.assertIn(words, " ".join(err.split()))
                self.assertNotIn("Traceback", err)

    def test_tables(self) -> None:
        drawing = self.folder / "geometry.toml"
        grid = 'table_grid = { alpha_fine = ["-4 deg", "8 deg"], settings = 3, roll_rates = [0.05, 0.2] }\n'
        drawing.write_text(grid + DRAWING)
        built, measured = self.folder / "built", self.folder / "measured"
        out = self.ok("tables", "build", str(drawing), "--out", str(built))
        self.assertRegex(out, r"roll_rate.csv +alpha, p_hat +\d+ +Cl, Cn")
        self.assertRegex(out, r'include = \["built/aero.toml"\]')
        self.assertTrue(
            json.loads(self.ok("tables", "build", str(drawing), "--out", str(built), "--json"))["panels"] > 0
        )
        shown = self.ok("tables", "show", str(built), "--cg", "0.2 m", "--figure", str(self.folder / "f.png"))
        self.assertRegex(shown, r"forward +-|forward +\d")
        curves = json.loads(self.ok("tables", "show", "tarn", "--json"))
        self.assertTrue(curves["forward_limit_m"] < 9.16 < 9.24 < curves["aft_limit_m"])
        self.assertLess(curves["derivatives"]["4.0"]["elevator"]["Cm"], -1.0)
        points = {row["alpha [deg]"]: row["neutral [m]"] for row in curves["curves"]}
        self.assertGreater(points[8.0], points[0.0])
        self.assertIsNone(points[16.0])  # beyond the stall there is none
        text = self.ok("tables", "reduce", "tarn", "--out", str(measured))
        self.assertRegex(text, r"left out: .*runs.csv:79: CL is")
        self.assertRegex(text, r"neutral point +0\.8\d+ +± 0\.00")
        self.assertEqual(
            len(json.loads(self.ok("tables", "reduce", "tarn", "--out", str(measured), "--json"))["doubts"]), 1
        )
        text = self.ok("tables", "compare", "tarn", str(measured), "--figure", str(self.folder / "c.png"))
        self.assertRegex(text, r"Cm by elevator +-1\.\d+ +-1\.\d+ +0\.\d+ +-\d")
        self.assertGreater((self.folder / "c.png").stat().st_size, 20000)
        differences = json.loads(self.ok("tables", "compare", "tarn", str(measured), "--json"))["differences"]
        self.assertGreater(differences["CL"]["largest"], 0.1)
        self.assertIn("panels", self.ok("tables", "draw", str(drawing)))
        for arguments, words in (
            (["tables", "build", "nothing.toml", "--out", "x"], "there is no such file"),
            (["tables", "build", str(drawing), "--out", str(drawing)], "cannot be written"),
            (["tables", "show", str(self.folder)], "aero.toml: there is no such file"),
            (["tables", "show", str(built), "--alpha", "4"], "--alpha: '4' has no unit"),
            (["tables", "compare", str(built), str(drawing)], "the key 'aero' is missing"),
            (["tables", "reduce", str(drawing), "--out", "x"], "there is no such key"),
        ):
            with self.subTest(arguments):
                code, _, err = run(*arguments)
                self.assertEqual(code, 2)
                self.assertIn(words, " ".join(err.split()))

    def test_mass(self) -> None:
        out = self.ok("mass", "tarn", "--figure", str(self.folder / "m.png"))
        self.assertRegex(out, r"water +3000 +31.58")
        self.assertRegex(out, r"dropped +6500 +9.24 .* inside")
        found = json.loads(self.ok("mass", "tarn", "--loading", "transit", "--json"))
        self.assertAlmostEqual(sum(p["mass"] for p in found["parts"][:-1]), found["parts"][-1]["mass"])
        code, _, err = run("mass", "tarn", "--loading", "ferry")
        self.assertEqual(code, 2)
        self.assertIn("no loading 'ferry'", err)

    def test_faults_in_files_are_one_message_and_exit_2(self) -> None:
        for file, old, new, words in (
            ("aero/flap.csv", "-180,8.75,", "-180,8.75,nan", "flap.csv:4: CL is 'nan"),
            (
                "aero/flap.csv",
                "-180,8.75,",
                "-180,0,",
                "flap.csv:4: the point alpha = -180 deg, flap = 0 deg is repeated",
            ),
            ("aero/flap.csv", "-180,17.5,", "-181,17.5,", "flap = 17.5 deg is not in rising order"),
            ("aero/flap.csv", "-180,8.75,", "# ", "1 of 245 points are missing: alpha = -180 deg, flap = 8.75 deg"),
            ("aero/aero.toml", "Cm_q(alpha_point)", "Cm_q(alpha_point)/0", "aero.Cm: this divides by zero"),
            ("aero/aero.toml", "Cm_q(alpha_point)*", "2**(9**9**9)*", "is not a finite number"),
            ("aero/aero.toml", "Cm_q(alpha_point)", "(" * 120 + "alpha" + ")" * 120, "brackets are open"),
            ("aero/aero.toml", "Cm_q(alpha_point)", "lift_to_drag_of_nothing", "there is no signal"),
            ("aero/aero.toml", "cos(beta)**2", "CL - 1", "at the same instant: "),
            ("aircraft.toml", '"CL/CD"', '"CL/CD + CL_sum"', "there is no signal 'CL_sum'"),
            ("aero/aero.toml", 'span = "22 m"', 'span = "22"', ""),
            ("aircraft.toml", 'range = ["0 deg", "35 deg"]', 'range = ["35 deg", "0 deg"]', "does not rise"),
        ):
            with self.subTest(new[:30]):
                craft = self.folder / "craft"
                shutil.rmtree(craft, ignore_errors=True)
                self.ok("new", str(craft))
                path = craft / file
                text = path.read_text()
                self.assertIn(old, text)
                path.write_text(text.replace(old, new, 1))
                code, out, err = run("trim", str(craft), *AT)
                self.assertEqual(code, 2 if words else 0, out + err)
                self.assertIn(words, " ".join(err.split()))
                self.assertNotIn("Traceback", err)

    def test_as_a_program(self) -> None:
        done = subprocess.run([sys.executable, "-m", "dravik", "--version"], capture_output=True, text=True, check=True)
        self.assertRegex(done.stdout, r"^dravik \d+\.\d+\.\d+\n$")
        failed = subprocess.run([sys.executable, "-m", "dravik", "check", "no.toml"], capture_output=True, text=True)
        self.assertEqual((failed.returncode, failed.stderr.count("\n")), (2, 1))


if __name__ == "__main__":
    unittest.main()
