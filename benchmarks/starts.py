"""Print what a start costs in seconds of the processor: with nothing compiled yet, and from what is kept on disk."""

import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

from shown import show
from timing import least

import dravik as dv
from dravik.kernel.machine_code import tape_code

DRAVIK = [sys.executable, "-m", "dravik"]
TRIM = ["trim", "tarn", "--airspeed", "62 m/s", "--altitude", "300 m"]


def spent(command: list[str], cache: str, takes: int = 3) -> float:
    """Return the least processor time of a command, with its compiled functions in a folder."""
    environment, found = {**os.environ, "XDG_CACHE_HOME": cache}, []
    for _ in range(takes):
        before = resource.getrusage(resource.RUSAGE_CHILDREN)
        subprocess.run(command, env=environment, capture_output=True, check=True)
        after = resource.getrusage(resource.RUSAGE_CHILDREN)
        found.append(after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime)
    return min(found)


def main() -> int:
    """Measure and print."""
    with tempfile.TemporaryDirectory() as cache:
        recording = str(Path(cache) / "run.csv")
        bare = spent([sys.executable, "-c", "pass"], cache)
        rows = [("bare python", f"{bare:.2f} s", "", "")]
        cold = spent([*DRAVIK, *TRIM], cache, 1)
        rows.append(("the first dravik trim: compiles what it needs", f"{cold:.1f} s", "", ""))
        flown = spent([*DRAVIK, "fly", *TRIM[1:], "--duration", "5 s", "--out", recording], cache, 1)
        rows.append(("then the first dravik fly", f"{flown:.1f} s", "", "both: 20 s"))
        for name, command in {
            "dravik --help": ["--help"],
            "dravik signals tarn": ["signals", "tarn"],
            "dravik trim tarn": TRIM,
            "dravik check tarn": ["check", "tarn"],
            "dravik plot, a recording of 5 s": ["plot", recording, "--out", str(Path(cache) / "a.png")],
        }.items():
            taken = spent([*DRAVIK, *command], cache)
            rows.append(
                (name, f"{taken:.2f} s", f"{taken / bare:.0f}", "1.2 s" if name.startswith("dravik trim") else "")
            )
    made: list[str] = []
    for sample in ("tarn", "merle"):
        craft, begun = dv.sample(sample).compiled(), time.perf_counter()
        tape_code(craft.program, craft.tape)
        tape_code(craft.program, craft.tape)
        begun = time.perf_counter()
        tape_code(craft.program, craft.tape)
        made.append(f"{sample} {time.perf_counter() - begun:.2f} s")
        again = least(lambda name=sample: dv.sample(name), 20)
        rows.append((f"dv.sample({sample!r}) once more", f"{again:.3f} s", "", "0.03 s" if sample == "tarn" else ""))
    rows.append(("machine code from disk", ", ".join(made), "", ""))
    show("starts", ("processor time", "s", "times bare python", "target"), rows)
    return 0


if __name__ == "__main__":
    sys.exit(main())
