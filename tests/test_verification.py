"""Every case against something outside the code, and the table in the documentation made from the same cases."""

import contextlib
import re
import sys
import unittest
from collections.abc import Callable
from pathlib import Path

import tests.reference_engines
import tests.reference_flights
import tests.reference_linear  # noqa: F401
from dravik.aircraft import sample, sample_path
from tests.reference import CASES, Case

PAGE = Path(__file__).parent.parent / "docs" / "background" / "verification"
BENCHMARKS = Path(__file__).parent.parent / "benchmarks"


class CaseTest(unittest.TestCase):
    """One method for each case, by its name: added below."""

    def hold(self, case: Case) -> None:
        rows = list(case.rows())
        self.assertTrue(rows, case.name)
        for row in rows:
            with self.subTest(case.name, what=row.what):
                self.assertTrue(
                    row.holds,
                    f"{row.what}: expected {row.expected}, obtained {row.obtained}, allowed {row.tolerance}",
                )


def _method(case: Case) -> Callable[[CaseTest], None]:
    return lambda test: test.hold(case)


for _case in CASES:
    _name = "test_" + re.sub(r"[^a-z0-9]+", "_", _case.name.lower()).strip("_")
    if hasattr(CaseTest, _name):
        raise ValueError(f"two cases are called {_case.name!r}")
    setattr(CaseTest, _name, _method(_case))


class PageTest(unittest.TestCase):
    def test_page_lists_every_case(self) -> None:
        text = "\n".join(p.read_text(encoding="utf-8") for p in sorted(PAGE.glob("*.md")))
        for case in CASES:
            self.assertTrue(case.name in text, f"{case.name}: run tools/write_verification.py")
            self.assertIn(case.source, text, "run tools/write_verification.py")

    def test_a_plain_script_of_the_tarn_gives_the_same_derivatives(self) -> None:
        # written out by hand for one aircraft, with NumPy and SciPy alone
        with contextlib.ExitStack() as stack:
            sys.path.insert(0, str(BENCHMARKS))
            stack.callback(sys.path.remove, str(BENCHMARKS))
            from plain_tarn import PlainTarn
            from run import same_derivatives

            tarn = sample("tarn")
            self.assertLess(same_derivatives(tarn, PlainTarn(sample_path("tarn"), tarn.loading)), 1e-9)


if __name__ == "__main__":
    unittest.main()
