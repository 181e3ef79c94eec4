"""The documentation: every block of every page runs, every name has its entry, and what is said is short and plain."""

import contextlib
import os
import re
import tempfile
import tomllib
import unittest
from pathlib import Path
from typing import Any

from pydantic import TypeAdapter, ValidationError

from dravik.errors import DravikError
from tools.docsite import commands, examples, files, prose, python_names, signals, terms, vocabulary
from tools.docsite.running import DOCS, FENCE, PICTURE, PageError, kept_page, pages, run_page, state_of_the_code

ROOT = DOCS.parent
PARTS = 6  # classes that the pages are dealt out to, so that all cores run them


class PagesTest(unittest.TestCase):
    """The pages of one part, each run in an empty folder; kept for the site, and run again only when something changed."""

    part = -1

    def test_every_block_runs(self) -> None:
        if self.part < 0:
            self.assertGreater(len(pages()), 60)
            return
        state = state_of_the_code()
        for page in pages()[self.part :: PARTS]:
            with self.subTest(str(page.relative_to(DOCS))):
                try:
                    kept = kept_page(page, state)
                except PageError as error:
                    self.fail(str(error))
                self.assertTrue((kept / "page.md").exists())


# names of the module, so that a class can be handed to another process
for _part in range(PARTS):
    globals()[f"Pages{_part}Test"] = type(f"Pages{_part}Test", (PagesTest,), {"part": _part, "__module__": __name__})


class RunnerTest(unittest.TestCase):
    """What is wrong on a page is told: nothing passes because it was not run."""

    def run_text(self, text: str) -> str:
        with tempfile.TemporaryDirectory() as name:
            page = Path(name) / "page.md"
            page.write_text(text, encoding="utf-8")
            (folder := Path(name) / "run").mkdir()
            return run_page(page, folder)

    def test_outputs_stand_below_and_files_are_named(self) -> None:
        text = self.run_text(
            "```toml a.toml\nx = 1\n```\n```python\nfrom pathlib import Path\nprint(Path('a.toml').read_text().strip())\n```\n"
        )
        self.assertIn(":caption: a.toml", text)
        self.assertIn(":class: output\n\nx = 1\n```", text)
        self.assertIn("added to a.toml", self.run_text("```toml a.toml\nx = 1\n```\n```toml a.toml\ny = 1\n```\n"))

    def test_faults_are_told(self) -> None:
        for text, told in (
            ("```python\n1/0\n```\n", "ZeroDivisionError"),
            ("```console\n$ dravik trim nothing\n```\n", "exit code 2"),
            ("```console\n$ dravik signals pika   # exit code 1\n```\n", "exit code 0"),
            ("```console\n$ ls\n```\n", "is no command"),
            ("```python\nprint(1)\n```\n\n```text\n2\n```\n", "this was not printed: 2"),
            ("```toml\nx = \n```\n", "Invalid value"),
            (
                "```python\nimport traceback\ntry:\n    1/0\nexcept ZeroDivisionError:\n    traceback.print_exc()\n```\n",
                "a traceback among",
            ),
        ):
            with self.subTest(told), self.assertRaisesRegex((PageError, tomllib.TOMLDecodeError), told):
                self.run_text(text)


class ReadmeTest(unittest.TestCase):
    def test_its_blocks_run(self) -> None:
        with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder):
            os.environ.setdefault("COLUMNS", "96")
            text = run_page(ROOT / "README.md", Path(folder))
        self.assertGreaterEqual(len(re.findall("class: output", text)), 2)
        self.assertLess(len((ROOT / "README.md").read_text(encoding="utf-8").splitlines()), 120)


class ReferenceTest(unittest.TestCase):
    """No public name, option, key, function or signal without its entry."""

    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def written(self, room: Any) -> str:
        room.write(self.folder)
        return "\n".join(p.read_text(encoding="utf-8") for p in sorted(self.folder.rglob("*.*")))

    def test_every_option_of_every_command(self) -> None:
        text, count = self.written(commands), 0
        for name, command in commands.commands():
            self.assertTrue(f"# dravik {name}" in text, name)
            self.assertTrue((command.help or "").strip(), name)
            for option in command.params:
                with self.subTest(name, option=option.name):
                    told = getattr(option, "help", None) or ""
                    self.assertGreater(len(told.split()), 1, "an option without a help")
                    shown = (
                        option.opts[0] if option.param_type_name == "option" else option.metavar or option.name.upper()
                    )
                    self.assertTrue(f"`{shown}".replace("|", "\\|") in text, shown)
                    count += 1
        self.assertGreater(count, 300)

    def test_every_key_of_every_file(self) -> None:
        text, count = self.written(files), 0
        self.assertEqual(files.missing(), [])
        for model in files.sections():
            for key in files.keys_of(model):
                with self.subTest(model.__name__, key=key.name):
                    self.assertTrue(f"| `{key.name}` |" in text)
                    self.assertNotEqual("any value", key.kind)
                    count += 1
        self.assertGreater(count, 600)

    def test_examples_of_keys_are_valid(self) -> None:
        count = 0
        for model in files.sections():
            for key in files.keys_of(model):
                if not key.example:
                    self.assertIn("section", key.kind, f"{model.__name__}.{key.name} has no example")
                    continue
                if key.kind in files.OF_ITS_KIND.values():  # they come from samples, which are read whole
                    continue
                value = tomllib.loads(f"{key.example}\n")[key.name]
                name = next(n for n, f in model.model_fields.items() if key.name in (n, f.alias))
                field = model.model_fields[name]
                kind: Any = TypeAdapter(field.rebuild_annotation() if field.metadata else files.hints_of(model)[name])
                with self.subTest(model.__name__, key=key.name, value=value):
                    try:
                        kind.validate_python(value)
                    except (ValidationError, DravikError) as error:
                        self.fail(str(error))
                    count += 1
        self.assertGreater(count, 500)

    def test_every_public_name(self) -> None:
        text = self.written(python_names)
        names = python_names.public_names()
        self.assertGreater(len(names), 350)
        for name, thing in names.items():
            self.assertTrue(f":: {name}\n" in text or f"<dravik.{name.rpartition('.')[2]}>" in text, name)
            if callable(thing):
                self.assertTrue(thing.__doc__, name)

    def test_signals_and_terms(self) -> None:
        text = self.written(signals)
        for name in ("airspeed", "thrust_left", "CL", "mix_one"):
            self.assertTrue(f"`{name}`" in text, name)
        rows = [row for _, group in terms.groups() for row in group]
        self.assertTrue(all(len(row) == len(terms.HEADER) and row[3] and row[4] for row in rows))
        self.assertEqual(len({row[0] for row in rows}), len(rows), "a term stands twice")

    def test_parts_of_files_have_keys_that_are_there(self) -> None:
        """Blocks of TOML without a name are parts of files: each key is one that some file has."""
        roots = [root for _, _, models in files.PAGES.values() for root in models]
        count = 0
        for page in sorted(DOCS.rglob("*.md")):
            for language, title, body in FENCE.findall(page.read_text(encoding="utf-8")):
                if language == "toml" and not title:
                    with self.subTest(page.name, begins=body.splitlines()[0]):
                        self.assertEqual(examples.unknown_keys(tomllib.loads(body), roots), [])
                        count += 1
        self.assertGreater(count, 6)

    def test_an_unknown_key_is_found(self) -> None:
        roots = [root for _, _, models in files.PAGES.values() for root in models]
        self.assertEqual(
            examples.unknown_keys({"engines": {"left": {"kind": "jet", "thrst": 1}}}, roots), ["engines.left.thrst"]
        )
        self.assertEqual(examples.unknown_keys({"engnes": {}}, roots), ["engnes"])


class WordsTest(unittest.TestCase):
    def test_nothing_is_too_long(self) -> None:
        found = [finding for page in prose.pages() for finding in prose.findings(page)]
        self.assertEqual(found, [])

    def test_what_is_too_long_is_found(self) -> None:
        long = " ".join(["word"] * 41)
        self.assertEqual(len(prose.sentences(f"{long}. And `code` here.")), 2)
        with tempfile.TemporaryDirectory() as folder:
            page = Path(folder) / "page.md"
            page.write_text(
                f"{long}.\n\n" + "Short. " * 121 + "\n\n| a | " + long + " |\n" + "\n" * 260, encoding="utf-8"
            )
            told = "\n".join(prose.findings(page))
        for what in ("lines, 250 at most", "a sentence of 41 words", "a paragraph of 121 words"):
            self.assertIn(what, told)

    def test_words_are_in_the_nomenclature_or_plain(self) -> None:
        self.assertEqual(vocabulary.unknown(), {})
        self.assertEqual(vocabulary.words_of("the widget's `code` --option a_b 3 m/s"), {"the", "widget's"})

    def test_plain_words_are_used(self) -> None:
        """A list that only grows says nothing: what no output uses any more is taken out."""
        used: set[str] = set()
        for _, text in vocabulary.texts():
            used |= vocabulary.words_of(text)
        listed = [
            w
            for line in vocabulary.PLAIN.read_text(encoding="utf-8").splitlines()
            if not line.startswith("#")
            for w in line.split()
        ]
        stale = [w for w in listed if not used & {w, f"{w}s", f"{w}es", f"{w}'s"}]
        # words of outputs are only those of pages that were run here already
        self.assertLess(len(stale), len(listed) / 3)


class PictureTest(unittest.TestCase):
    def test_there_are_thirty_pictures_with_words_for_those_who_cannot_see_them(self) -> None:
        count = 0
        for page in pages():
            for line in PICTURE.findall(page.read_text(encoding="utf-8")):
                self.assertGreater(len(line[0].split()), 2, f"{page.name}: {line[1]} has no description")
                count += 1
        self.assertGreaterEqual(count, 30)


if __name__ == "__main__":
    unittest.main()
