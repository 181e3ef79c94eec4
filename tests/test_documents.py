"""What the README and the pages of the docs show runs: commands, Python, and files."""

import contextlib
import io
import re
import shlex
import shutil
import tempfile
import tomllib
import unittest
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np

import dravik as dv
from dravik.aircraft import sample_path
from dravik.cli import main
from dravik.guidance import read_route
from dravik.loops import read_loops
from dravik.propulsion import read_blades

ROOT = Path(__file__).resolve().parents[1]
BLOCK = re.compile(r"^```(\w*)[ ]?[^\n]*\n(.*?)^```$", re.MULTILINE | re.DOTALL)
#: What reads each whole file that the docs show, by the name that stands in it.
READERS: dict[str, Callable[[Path], Any]] = {
    "Pitch attitude hold": lambda path: dv.sample("tarn").with_law(*dv.load_law(path)),
    "Wing leveller": lambda path: dv.sample("tarn").with_law(*dv.load_law(path)),
    "Morning run": dv.load_scenario,
    "Fire edge": read_route,
    "Pitch of the Tarn": read_loops,
    "three blades": read_blades,
}


def blocks(page: Path, language: str) -> list[str]:
    """Return the blocks of a language on a page."""
    return [body for kind, body in BLOCK.findall(page.read_text(encoding="utf-8")) if kind == language]


def commands(body: str) -> Iterator[str]:
    """Yield the commands of a block, continued lines joined, with fewer points in their sweeps."""
    for line in body.replace("\\\n", " ").splitlines():
        if line.startswith("dravik "):
            yield re.sub(r"(=[\d.]+:[\d.]+):\d+", r"\1:3", line)


def write_stand(path: Path) -> None:
    """Write readings of a rotor of 0.3 m with CT = 0.1 and CP = 0.04 on a motor of 0.01 N m/A, 0.5 A idle, 0.1 ohm."""
    rng, rows = np.random.default_rng(1), ["rotation [rpm],thrust [N],torque [N*m],voltage [V],current [A]"]
    for turns in (3000.0, 5000.0, 7000.0) * 3:
        n, noise = turns / 60.0, 1.0 + 0.002 * rng.standard_normal(2)
        thrust, torque = 0.1 * 1.225 * n**2 * 0.3**4, 0.04 * 1.225 * n**2 * 0.3**5 / (2.0 * np.pi)
        current = torque / 0.01 + 0.5
        volts = 0.1 * current + 0.01 * 2.0 * np.pi * n
        rows.append(f"{turns},{thrust * noise[0]:.5f},{torque * noise[1]:.6f},{volts:.4f},{current:.4f}")
    path.write_text("\n".join(rows) + "\n", encoding="utf-8")


class DocumentBlocksTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.enterContext(contextlib.chdir(self.folder))

    def run_line(self, line: str) -> None:
        out = io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(out):
            code = main(shlex.split(line, comments=True)[1:])
        # 1 is a verdict that the page shows, such as a handling quality that is not at level 1; 2 is a mistake
        self.assertLess(code, 2, f"{line}\n{out.getvalue()}")

    def run_python(self, body: str, names: dict[str, Any], page: str) -> None:
        with contextlib.redirect_stdout(io.StringIO()):
            exec(compile(body, page, "exec"), names)

    def test_readme(self) -> None:
        """The README's commands in their order, and then its Python, which reads what they wrote."""
        page = ROOT / "README.md"
        count = 0
        for body in blocks(page, ""):
            for line in commands(body):
                if line != "dravik demo":
                    self.run_line(line)
                    count += 1
        self.assertGreater(count, 30)
        for body in blocks(page, "python"):
            self.run_python(body, {}, page.name)

    def test_pages(self) -> None:
        """Python of the pages, with an aircraft and a trimmed point, in a folder with a drawing, tables and readings."""
        shutil.copytree(sample_path("tarn"), self.folder, dirs_exist_ok=True)
        shutil.copytree(sample_path("tarn"), self.folder / "mine")
        shutil.copy(sample_path("pika") / "propulsion" / "blades.toml", self.folder)
        write_stand(self.folder / "stand.csv")
        for line in ("dravik tables reduce tunnel --out measured", "dravik tables show measured"):
            self.run_line(line)
        craft = dv.sample("tarn")
        point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
        pages = sorted((ROOT / "docs").glob("*.md"))
        ran = 0
        for page in pages:
            names: dict[str, Any] = {"dv": dv, "np": np, "craft": craft, "point": point}
            for body in blocks(page, "python"):
                with self.subTest(page.name, begins=body.splitlines()[0]):
                    self.run_python(body, names, page.name)
                    ran += 1
        self.assertGreater(ran, 12)

    def test_files(self) -> None:
        """Whole files are read by what reads them, parts of files by TOML alone."""
        read = set()
        for page in sorted((ROOT / "docs").glob("*.md")):
            for body in blocks(page, "toml"):
                with self.subTest(page.name, begins=body.splitlines()[0]):
                    found = tomllib.loads(body)
                    if "format" in found:
                        path = self.folder / "file.toml"
                        path.write_text(body, encoding="utf-8")
                        READERS[found["name"]](path)
                        read.add(found["name"])
        self.assertEqual(read, set(READERS))


if __name__ == "__main__":
    unittest.main()
