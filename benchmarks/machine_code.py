"""Print what machine code gains: against the interpreter, and against straight-line C of the same tape."""

import sys
import threading
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

import numpy as np
from numpy.typing import NDArray
from shown import show
from tape_to_c import folder_for_c, in_c
from timing import least

import dravik as dv
from dravik.aircraft import sample_path
from dravik.kernel import Program, Workspace
from dravik.kernel.integrate import derivative_many
from dravik.kernel.own_code import own_code

Floats = NDArray[np.float64]
MANY = 10_000


def main() -> int:
    """Measure and print."""
    autopilot = dv.load_law(sample_path("tarn") / "laws" / "autopilot.toml")
    cases = {
        "Tarn": (dv.sample("tarn"), 62.0), "Tarn with its autopilot": (dv.sample("tarn").with_law(*autopilot), 62.0),
        "Pika": (dv.sample("pika"), 16.0), "Merle": (dv.sample("merle"), 0.0),
    }  # fmt: skip
    rows = []
    with folder_for_c() as folder:
        for name, (craft, speed) in cases.items():
            point = dv.trim(craft, airspeed=speed, altitude=300.0)
            coded, limit = craft.with_machine_code(), in_c(craft, Path(folder))
            made = least(lambda c=craft: own_code(c.program, c.tape), 2)
            programs = [craft.program, coded.program, *([limit] if limit is not None else [])]
            taken = []
            for program in programs:
                w, dx = craft.workspace(), np.empty(len(point.state))

                def derive(p: Program = program, w: Workspace = w, dx: Floats = dx, s: dv.TrimPoint = point) -> None:
                    derivative_many(p, w, 0.0, s.state, s.inputs, dx, MANY)

                taken.append(least(derive, 9) / MANY)

            def minute(craft: dv.Aircraft, start: dv.TrimPoint = point) -> None:
                dv.fly(craft, start=start, duration=60, record=["altitude"], record_every=100)

            flights = [least(lambda c=c: minute(c), 5) for c in (craft, coded)]
            shown = [f"{t * 1e6:.2f} µs" for t in taken] + ["no compiler"] * (3 - len(taken))
            ratio = f"{taken[1] / taken[2]:.2f}" if limit is not None else ""
            rows.append((name, *shown, ratio, f"{made:.2f} s", *(f"{60 / t:.0f}" for t in flights)))
    heads = ("derivative", "interpreter", "machine code", "C of the tape", "code over C", "made in",
             "flight, times real time", "with machine code")  # fmt: skip
    show("machine", heads, rows)
    coded = dv.sample("tarn").with_machine_code()
    point = dv.trim(coded, airspeed=62.0, altitude=300.0)

    def flight() -> None:
        dv.fly(coded, start=point, duration=120, record=["altitude"], record_every=100)

    def two() -> None:
        pair = [threading.Thread(target=flight) for _ in range(2)]
        for thread in pair:
            thread.start()
        for thread in pair:
            thread.join()

    print(f"two threads fly two flights {2 * least(flight, 5) / least(two, 5):.2f} times as fast as one")
    return 0


if __name__ == "__main__":
    sys.exit(main())
