"""Print what a flight costs: turbulence, gear, an attitude law, the round Earth, recording; as ratios in one run."""

import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

from shown import show
from timing import in_turns

import dravik as dv
from dravik.aircraft import sample_path
from dravik.scenarios import load_scenario
from dravik.trimming import on_ground

SECONDS = 60.0
NAMES = (
    "altitude airspeed alpha beta phi theta psi p q r nz elevator aileron rudder north east climb_rate power_left "
    "power_right flap"
)
FEW = NAMES.split()
BARE, ROUGH = "attitude law", "attitude law, gear, turbulence"


def flight(made: dv.Aircraft, **how: object) -> Callable[[], object]:
    """Return a minute of flight."""
    point = dv.trim(made, airspeed="62 m/s", altitude="300 m")
    return lambda: dv.fly(made, start=point, duration=SECONDS, **how)  # type: ignore[arg-type]


def emptied(folder: Path) -> None:
    """Remove the files of a folder: to write over a large one costs what it takes to give up its pages."""
    for file in folder.iterdir():
        file.unlink()


def session() -> list[tuple[str, str, str]]:
    """Return what steps of a millisecond cost in a loop of one's own, beside those of a flight in one go."""
    craft = dv.sample("tarn")
    start = dv.trim(craft, airspeed=62.0, altitude=300.0)
    flown = dv.Session(craft, start=start, dt=0.001)
    look = flown.reader(*FEW)

    def loop(made: dv.Session) -> None:
        for _ in range(1000):
            made.step(pitch_stick=0.01)

    def read() -> None:
        for _ in range(1000):
            look()

    with tempfile.TemporaryDirectory() as folder:
        kept = dv.Session(craft, start=start, dt=0.001, save=Path(folder) / "a.parquet")
        taken = in_turns(
            {"loop": lambda: loop(flown), "whole": lambda: flown.step(1.0), "read": read, "kept": lambda: loop(kept)}
        )
        kept.close()
    step, whole, reading, saved = (1e3 * taken[n] for n in ("loop", "whole", "read", "kept"))
    words = f"a session, step by step at 1 kHz, an input set in each: {step:.1f} µs a step; in one go {whole:.1f} µs"
    rows = [(words, f"{1e3 / step:.0f}", ""), (f"of it 20 signals read: {reading:.2f} µs", "", "")]
    return [*rows, (f"and every signal to Parquet: {saved:.1f} µs a step", f"{1e3 / saved:.0f}", "")]


def main() -> int:
    """Measure and print."""
    craft = dv.sample("tarn").with_law(*dv.load_law(sample_path("tarn") / "laws" / "pitch_hold.toml"))
    standing = craft.with_environment(ground=0.0)
    start = on_ground(standing)
    one = {"record": ["altitude"]}
    rough = {"turbulence": dv.Turbulence("moderate", seed=1)}
    coded = standing.with_machine_code()
    flights = {
        BARE: flight(craft, **one),
        "attitude law, gear": flight(standing, **one),
        ROUGH: flight(standing, **one, **rough),
        f"{ROUGH}, as machine code": flight(coded, **one, **rough),
        f"{ROUGH}, 20 signals recorded": flight(standing, record=FEW, **rough),
        f"{ROUGH}, all signals recorded": flight(standing, **rough),
        "attitude law, gear over sloping ground": flight(standing.with_environment(ground="3*sin(north/200)"), **one),
        "attitude law, gear, round Earth": flight(standing.with_environment(earth="wgs84"), **one),
        "standing on its gear": lambda: dv.fly(standing, start=start, duration=SECONDS, record=["altitude"]),
    }
    with tempfile.TemporaryDirectory() as folder:
        csv, parquet = Path(folder) / "a.csv", Path(folder) / "a.parquet"
        recordings = {
            "20 signals at 20 Hz to CSV": flight(standing, record=FEW, record_every=5, save=csv, **rough),
            "20 signals at 100 Hz to CSV": flight(standing, record=FEW, save=csv, **rough),
            "all signals at 100 Hz to CSV": flight(standing, save=csv, **rough),
            "20 signals at 100 Hz to Parquet": flight(standing, record=FEW, save=parquet, **rough),
            "all signals at 100 Hz to Parquet": flight(standing, save=parquet, **rough),
        }
        taken = in_turns({**flights, **recordings}, before=lambda: emptied(Path(folder)))
    rows = [(name, f"{SECONDS / taken[name]:.0f}", f"{taken[name] / taken[BARE]:.2f}") for name in flights]
    for name in recordings:
        more = 100.0 * (taken[name] / taken[ROUGH] - 1.0)
        rows.append((f"{ROUGH}; {name}, as it flies", f"{SECONDS / taken[name]:.0f}", f"+{more:.0f} % of it"))
    scenario = load_scenario("fire_run")
    begun = scenario.start()
    flown = float(scenario.fly(start=begun).time[-1])
    whole = min(in_turns({"run": lambda: scenario.fly(start=begun)}).values())
    rows.append(
        ("the fire run: tanks, autopilot, round Earth, terrain, gusts, 53 signals at 20 Hz", f"{flown / whole:.0f}", "")
    )
    rows += session()
    show("flights", ("a minute of the Tarn at 100 Hz", "times real time", "time over that of the first"), rows)
    return 0


if __name__ == "__main__":
    sys.exit(main())
