"""Print how fast Dravik is: each figure also as a ratio to a plain NumPy and SciPy script of the same Tarn.

Ratios are measured in one run, so that a slow machine does not change them; the least of several takes is shown.
"""

import subprocess
import sys
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent))

from plain_tarn import PlainTarn
from shown import show
from timing import least

import dravik as dv
from dravik.aircraft import sample_path
from dravik.kernel.program import MOTION
from dravik.motion.equations import evaluate
from dravik.motion.integration import derivative_many
from dravik.propulsion import planned_map, read_blades

INPUTS = ("throttle", "pitch_stick", "roll_stick", "pedal", "flap_lever", "elevator_increment")
STATES = ("elevator", "flap", "rudder", "rudder_rate", "aileron", "power_left", "power_right")


def same_derivatives(craft: dv.Aircraft, plain: PlainTarn) -> float:
    """Return the largest relative difference of the two implementations' derivatives over random states."""
    rng = np.random.default_rng(4)
    order = [13 + craft.function_states.index(n) for n in STATES]
    worst = 0.0
    for _ in range(200):
        attitude = tuple(rng.uniform(-0.5, 0.5, 3))
        values = rng.uniform([-0.3, 0.05, -0.3, -0.3, -0.3, 0.1, 0.1], [0.2, 0.5, 0.3, 0.3, 0.3, 0.9, 0.9])
        x = craft.state(
            position=(0.0, 0.0, rng.uniform(100, 4000)),
            velocity=(rng.uniform(45, 90), rng.uniform(-8, 8), rng.uniform(-5, 14)),
            attitude=attitude,
            rates=tuple(rng.uniform(-0.3, 0.3, 3)),
            functions=dict(zip(STATES, values, strict=True)),
        )
        u = craft.default_inputs()
        inputs = rng.uniform([0, -1, -1, -1, 0, -0.1], [1, 1, 1, 1, 0.6, 0.1])
        for name, value in zip(INPUTS, inputs, strict=True):
            u[craft.input_index(name)] = value
        dx = np.empty(len(x))
        evaluate(craft.program, craft.workspace(), 0.0, x, u, dx, False, MOTION)
        other = plain.derivatives(0.0, np.concatenate([x[:13], x[order]]), inputs)
        mine = np.concatenate([dx[:13], dx[order]])
        worst = max(worst, float(np.max(np.abs(mine - other) / (1.0 + np.abs(other)))))
    return worst


def main() -> int:
    """Measure everything and print the table; return 1 when the two implementations differ."""
    craft, plain = dv.sample("tarn"), PlainTarn(sample_path("tarn"), dv.sample("tarn").loading)
    difference = same_derivatives(craft, plain)
    point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
    order = [13 + craft.function_states.index(n) for n in STATES]
    x20 = np.concatenate([point.state[:13], point.state[order]])
    u6 = np.array([point.inputs[craft.input_index(n)] for n in INPUTS])
    trimmed, _ = plain.trim(62.0, 300.0)
    difference = max(difference, float(np.max(np.abs(trimmed - x20) / (1.0 + np.abs(x20)))))
    w, dx = craft.workspace(), np.empty(len(point.state))
    many = 20000

    rows = []
    mine = least(lambda: derivative_many(craft.program, w, 0.0, point.state, point.inputs, dx, many), 25) / many
    theirs = least(lambda: plain.derivatives(0.0, x20, u6), 9, 30)
    rows.append(
        (
            "derivative evaluation (42 tables up to 3-D, most of them smooth)",
            f"{mine * 1e6:.2f} µs",
            f"{theirs * 1e6:.0f} µs",
            theirs / mine,
            "1.7 µs",
        )
    )

    seconds = 60.0
    mine = least(lambda: dv.fly(craft, start=point, duration=seconds), 9) / seconds
    theirs = least(lambda: plain.fly(x20, u6, 0.01, 100), 3)
    rows.append(
        (
            "flight at 100 Hz with every signal recorded, times real time",
            f"{1 / mine:.0f}",
            f"{1 / theirs:.2f}",
            theirs / mine,
            "1000",
        )
    )

    mine = least(lambda: dv.trim(craft, airspeed=62.0, altitude=300.0), 40, 5)
    theirs = least(lambda: plain.trim(62.0, 300.0), 5)
    rows.append(
        (
            "trim (14 unknowns, proved to 1e-8)",
            f"{mine * 1e3:.2f} ms",
            f"{theirs * 1e3:.0f} ms",
            theirs / mine,
            "0.4 ms",
        )
    )

    mine = least(lambda: dv.linearise(craft, point), 15, 5)
    theirs = least(lambda: plain.linearise(x20, u6), 5)
    rows.append(
        (
            "linearise (19 states, both sides of each input and state)",
            f"{mine * 1e3:.2f} ms",
            f"{theirs * 1e3:.0f} ms",
            theirs / mine,
            "0.4 ms",
        )
    )

    merle = dv.sample("merle")
    hover = dv.trim(merle, airspeed=0.0, altitude=300.0)
    taken = least(lambda: dv.fly(merle, start=hover, duration=seconds, dt=0.005, record=["altitude"]), 7) / seconds
    rows.append(
        (
            "the Merle: six rotors, shafts, battery, mixer, stabiliser at 200 Hz, times real time",
            f"{1 / taken:.0f}",
            "",
            None,
            "800 as machine code",
        )
    )
    drawn = read_blades(sample_path("merle") / "propulsion" / "blades.toml")
    rows.append(
        (
            "a rotor's map of 144 points, all round the disc",
            f"{least(lambda: planned_map(drawn), 3):.2f} s",
            "",
            None,
            "5 s",
        )
    )

    def start(*arguments: str) -> float:
        return least(lambda: subprocess.run([sys.executable, *arguments], check=True, capture_output=True), 5)

    bare = start("-c", "pass")
    for name, target, arguments in (
        ("import dravik", "0.5 s", ("-c", "import dravik")),
        (
            "dravik trim, kernel from disk",
            "1.2 s",
            ("-m", "dravik", "trim", "tarn", "--airspeed", "62 m/s", "--altitude", "300 m"),
        ),
    ):
        taken = start(*arguments)
        rows.append((name, f"{taken:.2f} s", f"bare python {bare:.2f} s", None, target))

    show(
        "core",
        ("what", "Dravik", "plain script", "ratio", "target"),
        [
            (what, ours, other, "" if ratio is None else f"{ratio:.0f}", target)
            for what, ours, other, ratio, target in rows
        ],
    )
    print(f"derivatives at 200 random states and trims differ by at most {difference:.1e} (1e-9 allowed)")
    return 0 if difference < 1e-9 else 1


if __name__ == "__main__":
    sys.exit(main())
