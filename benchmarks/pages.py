"""Print how long pages, figures and animations of a flight take: seconds of the clock, with the command's start."""

import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

from shown import show

import dravik as dv
from dravik.scenarios import load_scenario

DRAVIK = [sys.executable, "-m", "dravik"]


def lasted(*words: str, takes: int = 3) -> float:
    """Return the least time of a command, s."""
    found = []
    for _ in range(takes):
        begun = time.perf_counter()
        subprocess.run([*DRAVIK, *words], capture_output=True, check=True)
        found.append(time.perf_counter() - begun)
    return min(found)


def main() -> int:
    """Measure and print."""
    with tempfile.TemporaryDirectory() as folder:
        fire, minute = str(Path(folder) / "fire.csv"), str(Path(folder) / "minute.csv")
        load_scenario("fire_run").fly(save=fire)
        craft = dv.sample("tarn")
        dv.fly(craft, start=dv.trim(craft, airspeed=62.0, altitude=300.0), duration=60, save=minute, record_every=5)
        rows = []
        for name, recording, view, file, target in (
            ("a figure of eight signals of the fire run", fire, "signals", "a.png", ""),
            ("a book of the fire run, HTML", fire, "book", "a.html", "5 s"),
            ("a book of the fire run, PDF", fire, "book", "a.pdf", "5 s"),
            ("a minute's flight as an animation, HTML", minute, "moving", "b.html", "10 s"),
            ("a minute's flight as an animation, GIF", minute, "moving", "b.gif", "10 s"),
        ):
            taken = lasted("plot", recording, "--view", view, "--out", str(Path(folder) / file))
            rows.append((name, f"{taken:.1f} s", target))
    show("pages", ("seconds of the clock", "s", "target"), rows)
    return 0


if __name__ == "__main__":
    sys.exit(main())
