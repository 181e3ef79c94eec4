"""Print how fast Dravik is beside an earlier revision of itself: ``python benchmarks/before.py [REVISION]``.

Both run in processes of their own, in turns, so that a slow minute of the machine hits both; the least of all takes
counts. Without a revision the one before the last is taken.
"""

import json
import os
import subprocess
import sys
import tarfile
import tempfile
from functools import partial
from io import BytesIO
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

from shown import show
from timing import least

ROOT = Path(__file__).parents[1]
TURNS = 8


def measured() -> dict[str, float]:
    """Return the time of each action that this revision knows, s."""
    import numpy as np

    import dravik as dv
    from dravik.motion.integration import derivative_many

    found = {}
    for name, airspeed in (("tarn", 62.0), ("merle", 0.0)):
        craft = dv.sample(name)
        point = dv.trim(craft, altitude=300.0, airspeed=airspeed)
        for words, made in (("interpreted", craft), ("as machine code", craft.with_machine_code())):
            many, work, dx = 2000, made.workspace(), np.empty(len(point.state))
            derivative = partial(derivative_many, made.program, work, 0.0, point.state, point.inputs, dx, many)
            found[f"a derivative of the {name.title()}, {words}"] = least(derivative, 20) / many
            found[f"a minute of the {name.title()}, {words}"] = least(
                partial(dv.fly, made, start=point, duration=60.0), 3
            )
    craft = dv.sample("tarn")
    point = dv.trim(craft, airspeed=62.0, altitude=300.0)
    found["a trim"] = least(lambda: dv.trim(craft, airspeed=62.0, altitude=300.0), 50)
    found["a linear model"] = least(lambda: dv.linearise(craft, point), 50)
    session = dv.Session(craft, start=point, dt=0.001)
    found["a step of a session, an input set"] = least(lambda: session.step(pitch_stick=0.01), 1000)
    rough = dv.Turbulence("moderate", seed=1)
    found["a minute of turbulence"] = 3.0 * least(
        lambda: dv.fly(craft, start=point, duration=20.0, turbulence=rough), 5
    )
    with tempfile.TemporaryDirectory() as folder:
        for kind in ("CSV", "Parquet"):
            path = Path(folder) / f"a.{kind.lower()}"

            def kept(path: Path = path) -> None:
                path.unlink(missing_ok=True)
                dv.fly(craft, start=point, duration=60.0, turbulence=rough, save=path)

            found[f"a minute of turbulence, every signal to {kind}"] = least(kept, 4)
        saving = dv.Session(craft, start=point, dt=0.001, save=Path(folder) / "b.csv", record=["altitude"])
        found["a step of a session that saves"] = least(lambda: saving.step(pitch_stick=0.01), 1, 1000)
    found["reading the Tarn"] = least(lambda: dv.sample("tarn"), 10)
    return found


def shown(seconds: float) -> str:
    """Return a time in the unit that suits it."""
    return f"{seconds * 1e3:.3g} ms" if seconds > 1e-3 else f"{seconds * 1e6:.3g} µs"


def take(source: Path) -> dict[str, float]:
    """Return what the revision whose package lies in a folder takes."""
    done = subprocess.run(
        [sys.executable, __file__, "--measure"], env={**os.environ, "PYTHONPATH": str(source)}, check=True,
        capture_output=True, text=True,
    )  # fmt: skip
    taken: dict[str, float] = json.loads(done.stdout)
    return taken


def main() -> int:
    """Measure both and print."""
    if "--measure" in sys.argv:
        print(json.dumps(measured()))
        return 0
    revision = next((a for a in sys.argv[1:] if not a.startswith("-")), "HEAD~1")
    archive = subprocess.run(["git", "archive", revision, "src"], cwd=ROOT, check=True, capture_output=True).stdout
    with tempfile.TemporaryDirectory() as folder:
        with tarfile.open(fileobj=BytesIO(archive)) as files:
            files.extractall(folder, filter="data")
        sources = {"before": Path(folder) / "src", "now": ROOT / "src"}
        takes = {which: [take(source)] for which, source in sources.items()}
        for _ in range(TURNS - 1):
            for which, source in sources.items():
                takes[which].append(take(source))
    best = {which: {n: min(t[n] for t in own) for n in own[0]} for which, own in takes.items()}
    rows = [
        (name, shown(best["before"][name]), shown(now), f"{best['before'][name] / now:.2f}")
        for name, now in best["now"].items() if name in best["before"]
    ]  # fmt: skip
    show("before", (f"against {revision}", "before", "now", "before over now"), rows)
    return 0


if __name__ == "__main__":
    sys.exit(main())
