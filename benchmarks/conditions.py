"""Print what trims of conditions, refusals, sweeps, maps and linear models cost, in one run."""

import subprocess
import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

from shown import show
from timing import least

import dravik as dv
from dravik.errors import TrimError
from dravik.loops import cut_loop, locus_over_gain, margins, read_loops, schedule_gains, study_loops

SPEEDS = {"airspeed": "48:93:10 m/s"}


def refused(craft: dv.Aircraft, **asked: str | float) -> None:
    """Ask for what cannot be held: the refusal, with the nearest conditions that can."""
    try:
        dv.trim(craft, altitude=300.0, **asked)  # type: ignore[arg-type]
    except TrimError:
        return
    raise SystemExit(f"{asked} is held")


def judged(craft: dv.Aircraft, point: dv.TrimPoint) -> None:
    """Judge a point by all that a map is usually made of."""
    dv.handling_qualities(craft, point, category="C", sets=["modal", "responses", "static"])


def main() -> int:
    """Measure and print."""
    craft = dv.sample("tarn")
    point = dv.trim(craft, airspeed=62.0, altitude=300.0)

    def sweep(count: int, speeds: str) -> dv.trimming.TrimSweep:
        return dv.trim_sweep(craft, {"altitude": f"0:4000:{count} m", "airspeed": speeds})

    def one(**asked: str | float) -> float:
        return least(lambda: dv.trim(craft, altitude=300.0, **asked), 15, 5)  # type: ignore[arg-type]

    held = craft.with_law(*dv.load_law(dv.aircraft.sample_path("tarn") / "laws" / "pitch_hold.toml"))
    opened = cut_loop(held, dv.trim(held, airspeed=62.0, altitude=300.0), "elevator_command")
    plan = read_loops(dv.aircraft.sample_path("tarn") / "loops" / "attitude.toml")
    one_loop = plan.model_copy(update={"loop": plan.loop[:1]})
    level = one(airspeed=62.0)
    rows: list[tuple[str, float, str]] = [
        ("level flight", level, "1 ms"),
        ("a climbing turn by its radius", one(airspeed=62.0, turn="400 m", flight_path="2 deg"), ""),
        ("one engine out at a bank", one(airspeed=62.0, bank="3 deg"), ""),
        ("1.3 times the stall speed", least(lambda: dv.trim(craft, airspeed="1.3 stall", altitude=300.0), 5), ""),
        ("refused, with the nearest that hold: 35 m/s", least(lambda: refused(craft, airspeed=35.0), 3), "500 ms"),
        ("refused: 75 deg of bank", least(lambda: refused(craft, airspeed=62.0, turn="75 deg"), 3), "500 ms"),
        ("400 conditions, all held", least(lambda: sweep(20, "60:110:20 m/s"), 3), "1 s"),
        ("10 000 conditions, a tenth of them impossible", least(lambda: sweep(100, "45:125:100 m/s"), 1), "15 s"),
        ("a linear model", least(lambda: dv.linearise(craft, point), 15, 5), "1 ms"),
        ("stability and control derivatives", least(lambda: dv.derivatives(craft, point), 9), ""),
        ("what moves each root", least(lambda: dv.root_sensitivities(craft, point), 9), ""),
        ("handling qualities by the roots", least(lambda: dv.handling_qualities(craft, point), 9), ""),
        ("the same with responses and statics", least(lambda: judged(craft, point), 5), "100 ms"),
        ("margins of a loop with 20 states", least(lambda: margins(opened), 15), "3 ms"),
        ("its locus of 200 gains", least(lambda: locus_over_gain(opened), 9), "100 ms"),
        (
            "a loop designed at 10 conditions, judged at 19",
            least(lambda: schedule_gains(craft, one_loop, SPEEDS), 3),
            "2 s",
        ),
        ("four loops of a plan, designed and judged", least(lambda: study_loops(craft, plan), 5), ""),
    ]
    with tempfile.TemporaryDirectory() as folder:
        command = (
            "trim", "tarn", "--sweep", "altitude=0:6000:25 m", "--sweep", "airspeed=40:140:41 m/s", "--figure",
            f"{folder}/map.png",
        )  # fmt: skip
        call = [sys.executable, "-m", "dravik", *command]
        taken = least(lambda: subprocess.run(call, check=True, capture_output=True), 3)
        rows.append(("the command for a map of 1025 points with its figure", taken, "5 s"))
    cells = [
        (what, f"{s * 1e3:.2f} ms" if s < 0.5 else f"{s:.2f} s", f"{s / level:.0f}", target) for what, s, target in rows
    ]
    show("conditions", ("the Tarn", "time", "over that of level flight", "target"), cells)
    return 0


if __name__ == "__main__":
    sys.exit(main())
