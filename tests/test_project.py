"""The project itself: layers, exports, documentation, examples."""

import ast
import contextlib
import doctest
import importlib
import inspect
import io
import re
import runpy
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import Any

import dravik
from dravik.aircraft import sample_names
from dravik.formula import FUNCTIONS

ROOT = Path(__file__).resolve().parent.parent
PACKAGE = ROOT / "src" / "dravik"

#: The layers and their rooms in order, as they are drawn for the docs.
LAYERS = runpy.run_path(str(ROOT / "tools" / "draw_imports.py"), run_name="tool")["LAYERS"]
ORDER = [room for _, rooms in LAYERS for room in rooms]
FACES_ONLY = {"matplotlib", "typer", "rich", "jinja2"}


@cache
def nodes(path: Path) -> list[ast.AST]:
    """Return all nodes of a file's syntax tree."""
    return list(ast.walk(ast.parse(path.read_text(encoding="utf-8"))))


@cache
def imports(path: Path) -> set[str]:
    """Return every module that a file imports, also inside functions and for type checking."""
    found: set[str] = set()
    for node in nodes(path):
        if isinstance(node, ast.Import):
            found.update(a.name for a in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module == "dravik":
            found.update(f"dravik.{a.name}" for a in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            found.add(node.module)
    return found


class LayerTest(unittest.TestCase):
    def test_imports_go_downward_only(self) -> None:
        """A room imports only from rooms before it in the order, also within a layer; the order names what there is."""
        rooms = {p.relative_to(PACKAGE).parts[0].removesuffix(".py") for p in PACKAGE.rglob("*.py")} - {"__init__"}
        self.assertEqual(sorted(ORDER), sorted(rooms))
        for path in sorted(PACKAGE.rglob("*.py")):
            part = path.relative_to(PACKAGE).parts[0].removesuffix(".py")
            for name in imports(path):
                pieces = name.split(".")
                if pieces[0] == "dravik" and len(pieces) > 1 and pieces[1] != part:
                    self.assertLess(ORDER.index(pieces[1]), ORDER.index(part), f"{path.name} imports {name}")
                elif pieces[0] in FACES_ONLY:
                    self.assertIn(part, ("cli", "report"), f"{path.name} imports {name}")

    def test_rooms_and_modules_stay_small(self) -> None:
        for folder in sorted({p.parent for p in PACKAGE.rglob("*.py")}):
            modules = [p for p in folder.glob("*.py") if p.name != "__init__.py"]
            self.assertLessEqual(len(modules), 20, folder.name)
            for path in modules:
                self.assertLessEqual(len(path.read_text(encoding="utf-8").splitlines()), 400, path.name)

    def test_imports_go_in_no_circle(self) -> None:
        tool = runpy.run_path(str(ROOT / "tools" / "draw_imports.py"), run_name="tool")
        self.assertEqual(tool["circles"](), [])
        self.assertGreater(len(tool["graph"]()), 150)

    def test_nothing_is_evaluated_or_unpickled(self) -> None:
        for path in sorted(PACKAGE.rglob("*.py")):
            for node in nodes(path):
                if isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
                    self.assertNotIn(node.func.id, ("eval", "exec", "compile"), path.name)
            self.assertFalse({"pickle", "marshal"} & imports(path), path.name)

    def test_import_is_light(self) -> None:
        code = "import sys, dravik; print(any(m in sys.modules for m in ('numba', 'scipy', 'pandas', 'pint', 'matplotlib')))"
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        self.assertEqual(done.stdout.strip(), "False")


class NameTest(unittest.TestCase):
    #: Names of before version 0.2.0, as whole words.
    GONE = (
        "Opening", "OwnCode", "own_code", "LoopTruth", "FrequencyAnswer", "StepFigures", "with_plan", "trim_least", "tables_left",
        "root_locus", "parameter_locus", "place_mode", "pid_choices", "broken_loop", "lever_inputs", "levers_of", "lever_arm",
        "nearest_held", "frequency_answer", "least_control_speeds", "read_fuel_plan", "figure_plan", "figure_machines",
        "closest_way", "state_from_chart", "machine_inputs", "levers_of_level", "EngineOut", "MassDropped", "ap_pitch",
    )  # fmt: skip

    def test_nothing_is_left_of_old_names(self) -> None:
        gone = re.compile(
            r"\b(" + "|".join(self.GONE) + r")\b|\[machines\.|dravik machines|--levers|--view plan\b|\[plan\]"
        )
        kinds = {".py", ".pyi", ".md", ".toml", ".html"}
        places = [p for f in ("src", "docs", "tests", "tools", "benchmarks", "examples") for p in (ROOT / f).rglob("*")]
        for path in [*places, ROOT / "README.md", ROOT / "CONTRIBUTING.md"]:
            if path.suffix in kinds and path.name not in ("renamed.md", "test_project.py"):
                found = gone.search(path.read_text(encoding="utf-8"))
                self.assertIsNone(found, f"{path.relative_to(ROOT)}: {found and found.group(0)}")

    def test_modules_named_in_the_docs_are_there(self) -> None:
        """Also the table of renames: the old modules are gone, the new ones are there."""
        for page in [ROOT / "CONTRIBUTING.md", *(ROOT / "docs").rglob("*.md")]:
            for name in re.findall(r"`([a-z_]+(?:/[a-z_]+)*\.py)`", page.read_text(encoding="utf-8")):
                self.assertTrue((PACKAGE / name).exists() or (ROOT / name).exists(), f"{page.name}: {name}")
        rows = (ROOT / "docs" / "reference" / "renamed.md").read_text(encoding="utf-8").split("## Modules")[1]
        pairs = re.findall(r"^\| `([a-z_.]+)` \| `([a-z_., ]+)` \|$", rows, re.M)
        self.assertGreater(len(pairs), 100)
        for old, new in pairs:
            for name in re.split(r", | and ", new):
                self.assertTrue(PACKAGE.joinpath(*name.split(".")).with_suffix(".py").exists(), name)
                if old not in new and "." in old:
                    self.assertFalse(PACKAGE.joinpath(*old.split(".")).with_suffix(".py").exists(), old)


#: A picture that a block of its page makes.
PICTURE_MADE = re.compile(r"[\w.-]+\.(png|gif|svg)")


class ExportTest(unittest.TestCase):
    def test_public_names(self) -> None:
        self.assertEqual(sorted(dravik.__all__), dravik.__all__)
        for name in dravik.__all__:
            self.assertIsNotNone(getattr(dravik, name), name)
        self.assertFalse(isinstance(dravik.trim, type(sys)) or isinstance(dravik.plant, type(sys)))
        for path in sorted(PACKAGE.glob("*/__init__.py")):
            module = importlib.import_module(f"dravik.{path.parent.name}")
            self.assertTrue(module.__doc__, path)
            for name in getattr(module, "__all__", []):
                self.assertTrue(hasattr(module, name), f"{path}: {name}")


class ExampleTest(unittest.TestCase):
    def test_every_public_name_has_an_example_that_runs(self) -> None:
        for name in dravik.__all__:
            if name != "__version__":
                self.assertIn(">>>", getattr(dravik, name).__doc__, name)
        finder, runner = doctest.DocTestFinder(exclude_empty=True), doctest.DocTestRunner(verbose=False)
        # what an example writes does not stay in the folder that the tests were begun in
        self.enterContext(contextlib.chdir(self.enterContext(tempfile.TemporaryDirectory())))
        count = 0
        for path in sorted(PACKAGE.rglob("*.py")):
            if ">>>" not in path.read_text(encoding="utf-8"):
                continue
            parts = path.relative_to(PACKAGE).with_suffix("").parts
            module = importlib.import_module(".".join(("dravik", *(p for p in parts if p != "__init__"))))
            for example in finder.find(module):
                with self.subTest(example.name), contextlib.redirect_stdout(io.StringIO()) as out:
                    result = runner.run(example, out=out.write)
                    self.assertEqual(result.failed, 0, out.getvalue())
                count += len(example.examples)
        self.assertGreater(count, 100)


class DocstringTest(unittest.TestCase):
    """Docstrings of the public names have the sections of the NumPy documentation standard."""

    ORDER = ("Parameters", "Attributes", "Returns", "Raises", "Examples")

    def sections(self, text: str) -> dict[str, str]:
        parts = re.split(r"^([A-Z][a-z]+)\n-{3,}\n", text, flags=re.M)
        found = dict(zip(parts[1::2], parts[2::2], strict=True))
        self.assertEqual(list(found), [n for n in self.ORDER if n in found])
        return found

    def functions(self) -> Iterator[tuple[str, Any]]:
        """Yield the public functions: those of the package, and those that its rooms export."""
        rooms = [r for r in ORDER if (PACKAGE / r).is_dir() and r not in ("cli", "compiled", "kernel")]
        for room in ["dravik", *(f"dravik.{r.replace('/', '.')}" for r in rooms)]:
            module = importlib.import_module(room)
            for name in getattr(module, "__all__", ()):
                thing = getattr(module, name)
                if callable(thing) and not isinstance(thing, type):
                    yield f"{room}.{name}", thing

    def test_every_argument_has_its_meaning_and_the_sections_stand_in_order(self) -> None:
        count = 0
        for name, thing in self.functions():
            with self.subTest(name):
                count += 1
                found = self.sections(inspect.getdoc(thing) or "")
                entries = re.findall(
                    r"^(\*{0,2}[A-Za-z0-9_, *]+?) : |^(\*{1,2}\w+)$", found.get("Parameters", ""), re.M
                )
                told = {n.strip(" *") for pair in entries for n in "".join(pair).split(",")}
                parameters = inspect.signature(thing).parameters
                wanted = set(parameters)
                if any(entry[1] for entry in entries):  # keys that another docstring tells
                    wanted = {n for n, p in parameters.items() if repr(p.default) != "not given"}
                    told -= {"condition", "options"}
                self.assertEqual(wanted - {"systems", "spec"}, told - {"systems", "spec"})
                self.assertEqual("Returns" in found, inspect.signature(thing).return_annotation not in (None, "None"))
        self.assertGreater(count, 200)

    def test_every_name_of_the_package_has_an_example(self) -> None:
        for name in dravik.__all__:
            if name != "__version__":
                self.assertIn(">>>", self.sections(inspect.getdoc(getattr(dravik, name)) or "")["Examples"], name)

    def test_a_docstring_begins_with_a_sentence(self) -> None:
        for file in sorted((ROOT / "src").rglob("*.py")):
            for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
                if isinstance(node, (ast.Module, ast.ClassDef, ast.FunctionDef)) and ast.get_docstring(node):
                    first = str(ast.get_docstring(node)).split("\n\n")[0].rstrip()
                    self.assertRegex(first, r"[.!?]$", f"{file.name}: {first}")

    def test_an_argument_that_measures_something_says_its_unit(self) -> None:
        """Text or number: then its unit stands in its meaning."""
        units = re.compile(r"\b(m|s|rad|m/s|rad/s|Hz|K|Pa|SI|unit|number|Mach|load factor|deg|True airspeed)\b")
        for name, thing in self.functions():
            text = self.sections(inspect.getdoc(thing) or "").get("Parameters", "")
            for entry in re.findall(r"^([a-z_0-9, ]+) : str or float[^\n]*\n((?:    [^\n]*\n?)+)", text, re.M):
                self.assertRegex(entry[1], units, f"{name}: {entry[0]}")


class DocumentTest(unittest.TestCase):
    def test_links_lead_somewhere(self) -> None:
        """Links of the repository's pages; those to pages that are written when the site is built are held there."""
        written = ("commands/", "files/", "python/", "signals/", "nomenclature.md", "gallery.md", "notebooks/")
        count = 0
        for page in [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").rglob("*.md"))]:
            for target in re.findall(r"\]\(([^)#\s]+)", page.read_text(encoding="utf-8")):
                if any(part in target for part in written) or PICTURE_MADE.fullmatch(target):
                    continue
                self.assertTrue((page.parent / target).exists(), f"{page.name}: {target}")
                count += 1
        self.assertGreater(count, 100)

    def test_every_picture_is_linked_from_the_readme(self) -> None:
        pictures = sorted((ROOT / "docs" / "screenshots").glob("*.png"))
        self.assertTrue(0 < len(pictures) < 20)
        readme = (ROOT / "README.md").read_text(encoding="utf-8")
        for picture in pictures:
            self.assertIn(picture.name, readme)

    def test_every_function_and_sample_is_documented(self) -> None:
        formulas = (ROOT / "docs" / "reference" / "formulas.md").read_text(encoding="utf-8")
        for name, function in FUNCTIONS.items():
            call = f"{name}({', '.join(function.arguments)}"
            self.assertIn(call, formulas)
            self.assertIn(function.meaning.split(";")[0], formulas)
        self.assertIn("tarn", sample_names())

    def test_figures_in_the_docs_are_those_of_today(self) -> None:
        found = runpy.run_path(str(ROOT / "tools" / "write_figures.py"), run_name="tool")
        with contextlib.redirect_stdout(io.StringIO()) as out:
            self.assertEqual(found["main"](check=True), 0, "make verification")
        self.assertIn("nothing", out.getvalue())

    def test_examples_run(self) -> None:
        folder = self.enterContext(tempfile.TemporaryDirectory())
        for path in sorted((ROOT / "examples").glob("*.py")):
            with self.subTest(path.name), contextlib.chdir(folder):
                runpy.run_path(str(path), run_name="example")


if __name__ == "__main__":
    unittest.main()
