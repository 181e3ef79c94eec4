"""What comes in from outside, or cannot go out: broken files and arguments, other writers, links, pipes, interrupts."""

import contextlib
import io
import json
import os
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

import dravik as dv
from dravik.cli import main
from dravik.errors import DravikError
from dravik.host.files import locked, write_text
from dravik.recording import read_recording
from dravik.report import Block, figure_histories, save_figure, write_page

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT / "tools"))

from break_inputs import throw  # noqa: E402

DRAVIK = [sys.executable, "-c", "import sys; from dravik.cli import main; sys.exit(main())"]
FLIGHT = ["fly", "pika", "--airspeed", "15 m/s", "--altitude", "300 m", "--record", "altitude"]
ENVIRONMENT = {**os.environ, "PYTHONPATH": str(ROOT / "src")}


def hears_interrupts() -> None:
    """Undo that shells let what they start in the background ignore interrupts."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)


class BoundaryTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def test_nothing_thrown_at_a_door_breaks_it(self) -> None:
        told: list[str] = []
        self.assertEqual(throw(150, 3, self.folder, told.append), 0, "\n".join(told))
        self.assertEqual(json.loads(told[-1])["cases"], 150)
        # the tool sees what breaks: a door that does
        from break_inputs import one

        self.assertIn("ZeroDivisionError", one(lambda rng: print(1 / 0), "a seed"))

    def test_numbers_of_options_are_numbers(self) -> None:
        for arguments in (
            ("tables", "draw", "hail", "--mach", "nan"), ("tables", "draw", "hail", "--mach", "-1"),
            ("tables", "draw", "tarn", "--mach", "inf"), ("mass", "tarn", "--margin", "nan"),
        ):  # fmt: skip
            with self.subTest(arguments), contextlib.redirect_stderr(io.StringIO()) as err:
                self.assertEqual(main(list(arguments)), 2)
                self.assertIn("expected", err.getvalue())

    def test_two_writers_of_one_recording(self) -> None:
        craft = dv.sample("pika")
        start = dv.trim(craft, airspeed=15, altitude=300)
        target = self.folder / "a.csv"
        flown = dv.fly(craft, start=start, duration=0.1, record=["alpha"], save=target)
        with locked(target), self.assertRaisesRegex(DravikError, "another run is writing"):
            dv.fly(craft, start=start, duration=0.1, record=["alpha"], save=target)
        dv.fly(craft, start=start, duration=0.1, record=["alpha"], save=target)
        self.assertEqual(read_recording(target).values.shape, flown.values.shape)

    def test_a_link_is_replaced_and_a_whole_file_stays_until_the_new_one_is(self) -> None:
        precious, link = self.folder / "precious.txt", self.folder / "page.html"
        precious.write_text("kept")
        link.symlink_to(precious)
        write_page(link, "<b>title</b>", "", [Block("[red]a & b[/]", texts=["<script>"])])
        self.assertEqual(precious.read_text(), "kept")
        text = link.read_text()
        self.assertIn("&lt;script&gt;", text)
        self.assertNotIn("<b>title", text)
        with self.assertRaises(DravikError):
            write_text(self.folder / "no" / "such" / "place.txt", "x")
        self.assertEqual(sorted(p.name for p in self.folder.iterdir()), ["page.html", "precious.txt"])

    def test_what_is_no_file_is_not_read(self) -> None:
        pipe = self.folder / "pipe"
        os.mkfifo(pipe)
        for path in (pipe, "a\0b", "/dev/zero", self.folder, "x" * 5000):
            with self.subTest(path=str(path)[:20]), self.assertRaises(DravikError) as caught:
                dv.load(path)
            self.assertTrue(str(caught.exception).replace("\n", "").isprintable())

    def test_names_are_text_wherever_they_are_shown(self) -> None:
        folder = self.folder / "odd"
        self.assertEqual(self.dravik("new", str(folder))[0], 0)
        file = folder / "aircraft.toml"
        text = file.read_text()
        named = next(line for line in text.split("\n") if line.startswith("name"))
        file.write_text(text.replace(named, 'name = "[bold]$x_{[/] <i>"'))
        code, out, err = self.dravik("trim", str(file), "--airspeed", "60 m/s", "--altitude", "1000 m")
        self.assertIn("[bold]$x_{[/] <i>", out + err)
        self.assertIn(code, (0, 1), err)
        craft = dv.sample("pika")
        run = dv.fly(craft, start=dv.trim(craft, airspeed=15, altitude=300), duration=0.1, record=["alpha"])
        save_figure(figure_histories(run, ["alpha"], title="$x_{"), self.folder / "a.png")

    def test_a_reader_that_has_gone_and_a_full_disk(self) -> None:
        full = Path("/dev/full")
        for stdout, code in (("closed pipe", 3), (full, 3)):
            if stdout == "closed pipe":
                end, begin = os.pipe()
                os.close(end)
            elif full.exists():
                begin = os.open(full, os.O_WRONLY)
            else:
                continue
            with self.subTest(str(stdout)):
                done = subprocess.run(
                    [*DRAVIK, "signals", "tarn"], stdout=begin, stderr=subprocess.PIPE, env=ENVIRONMENT, text=True,
                    check=False,
                )  # fmt: skip
                self.assertEqual(done.returncode, code, done.stderr)
                self.assertNotIn("Traceback", done.stderr)
            os.close(begin)

    def test_without_a_home_and_where_nothing_may_be_written(self) -> None:
        no_home = self.folder / "file"
        no_home.write_text("")
        bare = {
            "PYTHONPATH": str(ROOT / "src"),
            "PATH": "/usr/bin:/bin",
            "HOME": str(no_home / "home"),
        }
        done = subprocess.run(
            [*DRAVIK, "axes"], env=bare, cwd="/", capture_output=True, text=True, check=False
        )  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)

    def test_an_interrupt_leaves_a_recording_to_fly_on_from(self) -> None:
        target = self.folder / "long.csv"
        flight = subprocess.Popen(
            [*DRAVIK, *FLIGHT, "--duration", "50000 s", "--out", str(target)], env=ENVIRONMENT,
            stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, preexec_fn=hears_interrupts,
        )  # fmt: skip
        side = self.folder / "long.csv.json"
        for _ in range(600):
            time.sleep(0.1)
            if side.exists() and json.loads(side.read_text())["end"]["time_s"] > 0.0:
                break
        begun = time.monotonic()
        flight.send_signal(signal.SIGINT)
        _, err = flight.communicate(timeout=60)
        self.assertEqual(flight.returncode, 130, err)
        self.assertNotIn("Traceback", err)
        self.assertLess(time.monotonic() - begun, 20.0)
        run = read_recording(target)
        self.assertFalse(run.metadata["complete"])
        self.assertGreater(run.time[-1], 0.0)
        self.assertGreaterEqual(run.metadata["end"]["time_s"], run.time[-1] - 1e-9)

    def test_rows_beyond_the_state_that_is_kept_are_dropped(self) -> None:
        # an interrupt is heard between the rows of a stretch and its end: the state is that of before, so are the rows
        craft = dv.sample("pika")
        start = dv.Start(craft.state(position=(0, 0, 300), velocity=(15, 0, 1)), craft.default_inputs())
        target, calls = self.folder / "between.csv", []

        def interrupted(rows: object) -> None:
            calls.append(rows)
            if len(calls) == 3:
                raise KeyboardInterrupt

        session = dv.Session(craft, start=start, save=target)
        with mock.patch.object(session._flight, "_note_infinite", interrupted), self.assertRaises(KeyboardInterrupt):
            session.step(20.0)
        kept = read_recording(target)
        end = kept.metadata["end"]["time_s"]
        self.assertGreater(end, 0.0)
        self.assertAlmostEqual(kept.time[-1], end - 0.01, delta=1e-9)

    def dravik(self, *arguments: str) -> tuple[int, str, str]:
        done = subprocess.run([*DRAVIK, *arguments], env=ENVIRONMENT, capture_output=True, text=True, check=False)
        return done.returncode, done.stdout, done.stderr

    def test_an_interrupt_during_cleaning_up_is_not_lost(self) -> None:
        # Python drops what is raised in __del__ and in callbacks of weak references
        begun = time.monotonic()
        code = (
            "import sys, time, signal\n"
            "import dravik.cli as cli\n"
            "class Last:\n"
            "    def __del__(self): signal.raise_signal(signal.SIGINT); [0 for _ in range(100)]\n"
            "def run(arguments):\n"
            "    last = Last(); del last\n"
            "    time.sleep(20)\n"
            "    return 0\n"
            "cli._run = lambda a, act=cli._run: _stopped(run)\n"
            "def _stopped(act):\n"
            "    try: return act([])\n"
            "    except KeyboardInterrupt: return 130\n"
            "sys.exit(cli.main([]))\n"
        )
        done = subprocess.run(
            [sys.executable, "-c", code], env=ENVIRONMENT, capture_output=True, text=True, timeout=30, check=False,
            preexec_fn=hears_interrupts,
        )  # fmt: skip
        self.assertEqual((done.returncode, done.stderr), (130, ""))
        self.assertLess(time.monotonic() - begun, 15.0)  # not only when the waiting was over anyway
