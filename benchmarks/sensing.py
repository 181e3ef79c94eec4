"""Print what sensors and a filter cost in flight and afterwards, and how the route of twelve points does on them."""

import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

import numpy as np
from shown import show
from timing import least

import dravik as dv
from dravik.aircraft import sample_path
from dravik.guidance.route_log import route_log
from dravik.host.cores import in_threads
from dravik.recording.recording import Recording

SEEDS = 50
MINUTE, HOUR = 60.0, 3600.0


def speeds() -> list[tuple[str, ...]]:
    """Return rows of how often faster than real time flights are at 100 Hz, by what is on board."""
    law = dv.load_law(sample_path("pika") / "laws" / "attitude_hold.toml")
    craft = dv.sample("pika").with_law(*law)
    rows = []
    for words, made, target in (
        ("Pika with a law, no sensors", craft, ""),
        ("the same, nine sensors on board", craft.with_sensors("cheap"), ""),
        ("the same, and the filter at 100 Hz", craft.with_sensors("cheap", estimator="navigation"), "150"),
    ):
        fast = made.with_machine_code()
        point = dv.trim(fast, airspeed="16 m/s", altitude="300 m")
        taken = least(lambda c=fast, p=point: dv.fly(c, start=p, duration=MINUTE, record=["phi"]), 5)
        rows.append((f"{words}, times real time", f"{MINUTE / taken:.0f}", target))
    made = craft.with_sensors("cheap", estimator="navigation")
    run = dv.fly(made, start=dv.trim(made, airspeed="16 m/s", altitude="300 m"), duration=MINUTE)
    times = int(HOUR / MINUTE)
    values = np.concatenate([run.values[:-1]] * times)
    # the hour is the minute again and again, with time and counts that go on
    values[:, 0] = 0.01 * np.arange(len(values))
    for k, name in enumerate(run.names):
        if name.endswith("_samples"):
            values[:, k] += np.repeat(np.arange(times) * run.values[-1, k], len(run.values) - 1)
    long = Recording(run.names, run.units, values, [], run.metadata, [])
    begun = time.perf_counter()
    dv.estimate(long, made)
    rows.append(("the filter on the recording of an hour at 100 Hz", f"{time.perf_counter() - begun:.1f} s", "10 s"))
    return rows


def routes() -> list[tuple[str, ...]]:
    """Return rows of how near the twelve points are met by the truth, sensors and estimates, over seeds."""
    scenario = dv.load_scenario("fire_edge")
    rows = []
    for words, sensors, reads in (
        ("truth", "none", "truth"), ("sensors of the cheap set", "cheap", "sensors"),
        ("estimates of the cheap set", "cheap", "estimates"), ("estimates of the good set", "good", "estimates"),
    ):  # fmt: skip
        made = scenario if sensors == "none" else scenario.with_sensors(sensors, reads=reads)
        made.start()
        logs = in_threads(lambda seed, s=made: route_log(s.fly(seed=seed), s.course), range(SEEDS))  # type: ignore[arg-type]
        near = np.array([log.closest_m.max() for log in logs])
        high = np.array([log.height_error_m.abs().max() for log in logs])
        met = sum(int(log.met.all()) for log in logs)
        told = [f"{v.mean():.1f} m, at most {v.max():.1f}" for v in (near, high)]
        rows.append((words, f"{met} of {SEEDS} met all", *told))
    return rows


if __name__ == "__main__":
    show("sensing", ["what", "measured", "target"], speeds())
    show("sensed route", ["laws read", "flights", "farthest from a point", "greatest height error"], routes())
