"""Whether a change of the code has changed what is computed: every number of the samples, to the last bit.

    python tools/same_bits.py keep before.json       # before the change
    python tools/same_bits.py compare before.json    # after it: what differs, and exit code 1 if anything does

It flies every scenario, trims, linearises, judges and closes the loops of all samples, and keeps a hash of the bytes of
each result. The machine and the versions of NumPy and SciPy must be the same for both.
"""

import hashlib
import json
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np

import dravik as dv
from dravik import loops, performance
from dravik.aircraft import sample_names, sample_path

Floats = np.ndarray[Any, np.dtype[np.float64]]
SETS = ("modal", "responses", "static", "roll", "margins")
CONDITIONS: dict[str, dict[str, Any]] = {
    "tarn": {"airspeed": "62 m/s", "altitude": "300 m"},
    "pika": {"airspeed": "16 m/s", "altitude": "300 m"},
    "merle": {"airspeed": "0 m/s", "altitude": "100 m"},
}


def digest(*parts: object) -> str:
    """Return a hash of arrays, numbers and texts."""
    found = hashlib.sha256()
    for part in parts:
        found.update(part.encode() if isinstance(part, str) else np.ascontiguousarray(part, dtype=float).tobytes())
    return found.hexdigest()[:16]


def table_digest(table: Any) -> str:
    """Return a hash of the numbers of a data frame, whatever its columns are called."""
    numbers = table.select_dtypes("number")
    return digest(numbers.to_numpy(dtype=float), str(len(table)))


def flights() -> Iterator[tuple[str, str]]:
    """Fly every scenario of the samples: times and values of all signals, in the order of their columns."""
    for name in sample_names():
        for path in sorted((sample_path(name) / "scenarios").glob("*.toml")):
            run = dv.load_scenario(path).fly()
            yield f"flight {path.stem}", digest(run.time, run.frame.to_numpy(dtype=float), str(len(run.events)))


def points() -> Iterator[tuple[str, str]]:
    """Trim, linearise and judge the samples; fly each from its trim with machine code and without."""
    for name, condition in CONDITIONS.items():
        craft = dv.sample(name)
        point = dv.trim(craft, **condition)
        yield f"trim {name}", digest(point.state, point.inputs)
        model = dv.linearise(craft, point)
        yield f"model {name}", digest(model.A, model.B, model.C, model.D)
        yield f"roots {name}", table_digest(model.modes().table)
        for kind, flown in (("interpreter", craft), ("machine code", craft.with_machine_code())):
            run = dv.fly(flown, start=point, duration=5.0, turbulence=dv.Turbulence(seed=3))
            yield f"gusts {name}, {kind}", digest(run.frame.to_numpy(dtype=float))
        if name != "merle":
            judged = dv.handling_qualities(craft, point, category="C", sets=SETS)
            yield f"handling {name}", table_digest(judged.table)
            yield f"verdicts {name}", digest(" ".join(str(c.level) for c in judged.criteria))
            yield f"derivatives {name}", table_digest(dv.derivatives(craft, point).table)
            at = performance.performance(craft, airspeeds=[condition["airspeed"]], altitude="300 m").points[0]
            yield f"performance {name}", digest(at.climb_rate, at.endurance, at.range)


def plans() -> Iterator[tuple[str, str]]:
    """Close the loops of every plan of the samples: gains and margins."""
    for name in sample_names():
        for path in sorted((sample_path(name) / "loops").glob("*.toml")):
            study = loops.study_loops(dv.sample(name), loops.read_loops(path))
            closed = study.closed.system()
            numbers = [float(v) for row in study.rows() for v in row.values() if isinstance(v, int | float)]
            yield f"loops {name} {path.stem}", digest(closed.A, closed.B, closed.C, closed.D, numbers)


def main(words: list[str]) -> int:
    """Keep the hashes of today in a file, or compare with one."""
    if len(words) != 2 or words[0] not in ("keep", "compare"):
        print(__doc__)
        return 2
    parts: list[Callable[[], Iterator[tuple[str, str]]]] = [points, plans, flights]
    kept = json.loads(Path(words[1]).read_text(encoding="utf-8")) if words[0] == "compare" else {}
    found: dict[str, str] = {}
    changed = 0
    for part in parts:
        for name, value in part():
            found[name] = value
            if words[0] == "compare":
                same = kept.get(name) == value
                changed += not same
                print(f"{'same   ' if same else 'CHANGED'}  {name}", flush=True)
    if words[0] == "keep":
        Path(words[1]).write_text(json.dumps(found, indent=1), encoding="utf-8")
        print(f"{len(found)} results kept in {words[1]}")
        return 0
    missing = sorted(set(kept) - set(found))
    print(f"{len(found) - changed} of {len(kept)} results are the same" + "".join(f"\nmissing: {m}" for m in missing))
    return 1 if changed or missing else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
