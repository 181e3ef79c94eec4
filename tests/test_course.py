"""Every block of the course is run, in order, in an empty folder; what it says comes out comes out."""

import contextlib
import io
import re
import shlex
import tempfile
import unittest
from pathlib import Path
from typing import Any

from dravik.cli import main

COURSE = Path(__file__).resolve().parents[1] / "docs" / "course"
BLOCK = re.compile(r"^```(\w+)[ ]?([^\n]*)\n(.*?)^```$", re.MULTILINE | re.DOTALL)


def words(text: str) -> str:
    """Return text with every stretch of white space as one space."""
    return " ".join(text.split())


class CourseTest(unittest.TestCase):
    def test_every_block_runs(self) -> None:
        pages = sorted(COURSE.glob("[0-9]*.md"))
        self.assertGreaterEqual(len(pages), 6)
        for page in pages:
            with self.subTest(page.name), tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder):
                self.run_page(page)

    def run_page(self, page: Path) -> None:
        said, names = "", dict[str, Any]()
        for language, title, body in BLOCK.findall(page.read_text(encoding="utf-8")):
            if language in ("toml", "csv"):
                self.assertTrue(title, f"{page.name}: a file without a name\n{body}")
                Path(title).parent.mkdir(parents=True, exist_ok=True)
                # a file named again goes on
                with Path(title).open("a", encoding="utf-8") as file:
                    file.write(body)
            elif language == "text":
                for line in body.splitlines():
                    self.assertIn(words(line), said, f"{page.name}: not said")
            else:
                out = io.StringIO()
                with contextlib.redirect_stdout(out), contextlib.redirect_stderr(out):
                    if language == "python":
                        exec(compile(body, f"{page.name}", "exec"), names)
                    else:
                        self.assertEqual(language, "console", page.name)
                        self.run_commands(body, page, out)
                said = words(out.getvalue())

    def run_commands(self, body: str, page: Path, out: io.StringIO) -> None:
        for line in body.replace("\\\n", " ").splitlines():
            command, _, expected = line.partition("   # exit code ")
            program, *arguments = shlex.split(command.removeprefix("$ "), comments=True)
            self.assertEqual(program, "dravik", page.name)
            code = main(arguments)
            self.assertEqual(code, int(expected or 0), f"{page.name}: {line}\n{out.getvalue()}")
