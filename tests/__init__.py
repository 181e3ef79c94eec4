"""Tests of Dravik, in the order in which failures come early: the quick ones first, then the long ones by length."""

import json
import os
import unittest
from collections.abc import Iterator
from pathlib import Path

from hypothesis import settings

FOLDER = Path(__file__).resolve().parent
QUICK = 3.0  # s: classes that take less run first, in a third of the time of all

# no deadline: the first example of a kind compiles or loads something; and what guards a landing must not hang on luck:
# there, the same examples every time
settings.register_profile("landing", derandomize=True, deadline=None)
settings.register_profile("work", deadline=None)
settings.load_profile("landing" if os.environ.get("CI") else "work")


def _classes(suite: unittest.TestSuite) -> Iterator[unittest.TestSuite]:
    """Yield the suites of single classes in a suite."""
    for item in suite:
        if isinstance(item, unittest.TestSuite):
            if any(isinstance(inner, unittest.TestCase) for inner in item):
                yield item
            else:
                yield from _classes(item)


def load_tests(loader: unittest.TestLoader, standard: unittest.TestSuite, pattern: str | None) -> unittest.TestSuite:
    """Return all tests, class by class, by the times in ``seconds.json`` (written by tools/time_tests.py).

    The longest of the long ones run first, so that no core waits for the last one alone.
    """
    times: dict[str, float] = json.loads((FOLDER / "seconds.json").read_text(encoding="utf-8"))
    found = loader.discover(str(FOLDER), pattern=pattern or "test*.py", top_level_dir=str(FOLDER.parent))

    def place(suite: unittest.TestSuite) -> tuple[bool, float]:
        case = type(next(iter(suite)))
        seconds = times.get(f"{case.__module__}.{case.__qualname__}", 0.0)  # one that is new runs first
        return seconds > QUICK, -seconds if seconds > QUICK else seconds

    return unittest.TestSuite([*standard, *sorted(_classes(found), key=place)])
