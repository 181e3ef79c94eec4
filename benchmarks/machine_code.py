"""Print what machine code gains: against the interpreter, and against straight-line C of the same tape."""

import sys
from collections.abc import Callable
from functools import partial
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

import numpy as np
from shown import show
from tape_to_c import folder_for_c, in_c
from timing import in_turns

import dravik as dv
from dravik.aircraft import sample_path
from dravik.host.cores import in_threads
from dravik.kernel import Program
from dravik.kernel.machine_code import tape_code
from dravik.motion.integration import derivative_many

MANY = 5_000


def derivatives(program: Program, craft: dv.Aircraft, point: dv.TrimPoint) -> Callable[[], object]:
    """Return MANY derivatives by a program."""
    work, dx = craft.workspace(), np.empty(len(point.state))
    return partial(derivative_many, program, work, 0.0, point.state, point.inputs, dx, MANY)


def main() -> int:
    """Measure and print."""
    autopilot = dv.load_law(sample_path("tarn") / "laws" / "autopilot.toml")
    cases = {
        "Tarn": (dv.sample("tarn"), 62.0), "Tarn with its autopilot": (dv.sample("tarn").with_law(*autopilot), 62.0),
        "Pika": (dv.sample("pika"), 16.0), "Merle": (dv.sample("merle"), 0.0),
    }  # fmt: skip
    actions: dict[tuple[str, str], Callable[[], object]] = {}
    with folder_for_c() as folder:
        for name, (craft, speed) in cases.items():
            point = dv.trim(craft, airspeed=speed, altitude=300.0)
            coded, limit = craft.with_machine_code(), in_c(craft, Path(folder))
            actions[name, "made in"] = partial(tape_code, craft.program, craft.tape)
            for words, made in (("interpreter", craft), ("machine code", coded)):
                actions[name, words] = derivatives(made.program, craft, point)
                actions[name, f"flight by {words}"] = partial(
                    dv.fly, made, start=point, duration=60, record=["altitude"], record_every=100
                )
            if limit is not None:
                actions[name, "C"] = derivatives(limit, craft, point)
        taken = in_turns(actions)
    rows = []
    for name in cases:
        by = {words: taken[name, words] for other, words in actions if other == name}
        shown = [
            f"{by[w] / MANY * 1e6:.2f} µs" if w in by else "no compiler" for w in ("interpreter", "machine code", "C")
        ]
        ratio = f"{by['machine code'] / by['C']:.2f}" if "C" in by else ""
        flights = [f"{60 / by[f'flight by {words}']:.0f}" for words in ("interpreter", "machine code")]
        rows.append((name, *shown, ratio, f"{by['made in']:.2f} s", *flights))
    heads = ("derivative", "interpreter", "machine code", "C of the tape", "code over C", "made in",
             "flight, times real time", "with machine code")  # fmt: skip
    show("machine", heads, rows)
    coded = dv.sample("tarn").with_machine_code()
    point = dv.trim(coded, airspeed=62.0, altitude=300.0)

    def flight() -> None:
        dv.fly(coded, start=point, duration=120, record=["altitude"], record_every=100)

    both = in_turns({"one": flight, "two": lambda: in_threads(lambda _: flight(), range(2))}, 20)
    print(f"two threads fly two flights {2 * both['one'] / both['two']:.2f} times as fast as one")
    return 0


if __name__ == "__main__":
    sys.exit(main())
