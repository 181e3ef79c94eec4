"""Write how long each class of tests takes, by which they are ordered: python tools/time_tests.py (ten minutes)."""

import json
import multiprocessing
import sys
import time
import unittest
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT))


def classes(suite: unittest.TestSuite) -> Iterator[str]:
    """Yield the names of the classes of tests in a suite."""
    for item in suite:
        if isinstance(item, unittest.TestSuite):
            yield from classes(item)
        else:
            yield f"{type(item).__module__}.{type(item).__qualname__}"


def seconds_of(name: str) -> float:
    """Run a class and return its time, s."""
    begins = time.perf_counter()
    with open("/dev/null", "w", encoding="utf-8") as nowhere:
        unittest.TextTestRunner(nowhere, buffer=True).run(unittest.defaultTestLoader.loadTestsFromName(name))
    return round(time.perf_counter() - begins, 1)


def main() -> None:
    """Run all classes, one a process at a time, and write the file."""
    found = unittest.defaultTestLoader.discover(str(ROOT / "tests"), top_level_dir=str(ROOT))
    names = list(dict.fromkeys(classes(found)))
    with ProcessPoolExecutor(mp_context=multiprocessing.get_context("spawn")) as pool:
        times = dict(zip(names, pool.map(seconds_of, names), strict=True))
    text = json.dumps(dict(sorted(times.items(), key=lambda t: -t[1])), indent=1)
    (ROOT / "tests" / "seconds.json").write_text(text + "\n", encoding="utf-8")
    print(f"{len(times)} classes, {sum(times.values()):.0f} s")


if __name__ == "__main__":
    main()
