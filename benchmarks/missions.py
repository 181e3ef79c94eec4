"""Print how the autopilots do over many seeds: landings, a route, shots at points in space; and what laws cost."""

import math
import sys
from collections.abc import Mapping
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

import numpy as np
from shown import show
from timing import least

import dravik as dv
from dravik.aircraft import Aircraft, sample_path
from dravik.guidance.aiming import reachable_band
from dravik.guidance.route_log import route_log
from dravik.host.cores import in_threads

SEEDS = 50
LANDINGS = 200
SHOTS = 100
AWAY = 5000.0  # m before the touchdown point


def with_law(name: str, law: str, loading: str = "") -> Aircraft:
    """Return a sample with one of its laws."""
    craft = dv.sample(name)
    craft = craft.with_loading(loading) if loading else craft
    return craft.with_law(*dv.load_law(sample_path(name) / "laws" / f"{law}.toml"))


def landing(craft: Aircraft, start: dv.TrimPoint, seed: int, gusts: Mapping[str, str]) -> dv.validation.Landing | str:
    """Return a landing across 8 m/s of wind, over every touch; else that it went ``"around"`` or ``"crashed"``."""
    turbulence = dv.Turbulence(seed=seed, **gusts)  # type: ignore[arg-type]
    names = ["north", "east", "altitude", "climb_rate", "theta", "phi", "q", "nz"]
    names += [f"normal_{leg}" for leg in craft.configuration.legs]
    session = dv.Session(craft, start=start, turbulence=turbulence, record=names, record_every=2)
    session.set(vertical="glide", autothrottle="airspeed", lateral="line", track_target="90 deg", altitude_target=600.0)
    while not session.ended and session.time < 190.0 and session["ground_speed"] > 2.0:
        session.step(1.0)
    if session.ended or session["ground_speed"] > 2.0:
        return "crashed" if session.ended else "around"
    return dv.validation.landing_of(session.recording())


def landings() -> list[tuple[str, ...]]:
    """Return rows of the distributions of landings, with and without a failed engine, in two kinds of gusts."""
    wind = {"speed": "8 m/s", "blows_from": "0 deg", "roughness": "0.05 m"}
    craft = with_law("tarn", "autopilot", "dropped").with_environment(ground=300.0, wind=wind)
    high = 310.0 + AWAY * math.tan(math.radians(3.5))
    rows = []
    for words, gusts, fails in (
        ("gusts of the 8 m/s", {"wind_20ft": "8 m/s"}, 0.0),
        ("gusts of the 8 m/s, right engine failed", {"wind_20ft": "8 m/s"}, 1.0),
        ("moderate gusts", {"severity": "moderate"}, 0.0),
    ):
        inputs = {"flap_lever": "15 deg", "touchdown_east": AWAY, "track_target": "90 deg", "fail_right": fails}
        start = dv.trim(craft, airspeed=50, altitude=high, heading="90 deg", inputs=inputs)
        found = in_threads(lambda seed, s=start, g=gusts: landing(craft, s, seed, g), range(LANDINGS))
        safe = [f for f in found if not isinstance(f, str)]
        around = found.count("around")
        clean = sum(not f.faults for f in safe)
        told = f"{clean} clean, {len(safe)} down, {around} around, of {LANDINGS}"
        print(
            f"Tarn lands across the wind, {words}: {len(safe)} of {LANDINGS} come to rest, {clean} without a fault; "
            f"{around} go around, {found.count('crashed')} crash"
        )
        for head, values in (
            ("hardest touch m/s", [f.sink for f in safe]), ("greatest load factor", [f.nz for f in safe]),
            ("first touch: pitch deg", [math.degrees(f.touches[0].pitch) for f in safe]),
            ("first touch: bank deg", [math.degrees(f.touches[0].bank) for f in safe]),
            ("in the air again s", [f.hop for f in safe]), ("in the air again m", [f.height for f in safe]),
            ("nose wheel m/s", [f.lowered for f in safe]), ("right of the line m", [-f.place[0] for f in safe]),
            ("beyond the point m", [f.place[1] - AWAY for f in safe]),
        ):  # fmt: skip
            v = np.array(values)
            rows.append((f"Tarn lands across the wind, {words}: {head}", f"{v.mean():.2f}", f"{v.std():.2f}",
                         f"{v.min():.2f}", f"{v.max():.2f}", told))  # fmt: skip
    return rows


def routes() -> list[tuple[str, ...]]:
    """Return rows of the Pika's route: points met, and the distance off the route."""
    scenario = dv.load_scenario("fire_edge")
    assert scenario.course is not None
    met, beside, behind, closest = 0, [], [], []
    start = scenario.start()
    for seed in range(SEEDS):
        run = scenario.fly(seed=seed, start=start)
        log = route_log(run, scenario.course)
        met += bool(log.met.all())
        closest.append(float(log.closest_m.max()))
        flying, after = run["route_done"] < 0.5, run["route_point"] == 6
        beside.append(float(np.abs(run["cross_track"][flying & ~after]).max()))
        behind.append(float(np.abs(run["cross_track"][flying & after]).max()))
    rows = []
    for what, values in (
        ("farthest off the route m", beside), ("behind the point flown over m", behind),
        ("worst closest approach to a point m", closest),
    ):  # fmt: skip
        v = np.array(values)
        rows.append((f"Pika, twelve points: {what}", f"{v.mean():.1f}", f"{v.std():.1f}", f"{v.min():.1f}",
                     f"{v.max():.1f}", f"{met} of {SEEDS}"))  # fmt: skip
    return rows


def shots() -> list[tuple[str, ...]]:
    """Return rows of the Hail's miss distances over dispersed shots within its band."""
    hail, rng, rows = with_law("hail", "homing"), np.random.default_rng(4), []
    for words, predictive in (("proportional", 0), ("predictive", 1)):
        given: dict[str, str | float] = {"ignition": 1, "predictive": predictive}
        band = reachable_band(hail, altitude="4000 m", elevation="70 deg", inputs=given)
        misses = []
        for k in range(SHOTS):
            reach, off = rng.uniform(band.least, 0.95 * band.greatest), rng.uniform(-0.15, 0.15)
            blown = {"speed": f"{rng.uniform(0, 10)} m/s", "blows_from": f"{rng.uniform(0, 360)} deg"}
            craft = hail.with_environment(wind=blown)
            aim = {"aim_north": reach * math.cos(off), "aim_east": reach * math.sin(off), "aim_altitude": 4000.0}
            rail = {"elevation": f"{70 + rng.normal(0, 0.5)} deg", "heading": f"{rng.normal(0, 0.5)} deg"}
            start = dv.on_rail(craft, **rail, inputs={**given, **aim})  # type: ignore[arg-type]
            gusts = dv.Turbulence(severity="moderate", seed=k)
            run = dv.fly(
                craft, start=start, duration=60, record=["aim_distance", "north", "east", "altitude"], turbulence=gusts
            )
            misses.append(run.closest()["miss_m"])
        v = np.array(misses)
        rows.append((f"Hail, {words}, {band.least:.0f} to {band.greatest:.0f} m: miss m", f"{v.mean():.2f}",
                     f"{v.std():.2f}", f"{v.min():.2f}", f"{v.max():.2f}", f"{(v < 10).sum()} of {SHOTS}"))  # fmt: skip
    return rows


class Banking:
    """A controller in Python at 50 Hz: it reads three signals and sets one."""

    rate = 50.0
    sets = ("bank_target",)
    reads = ("phi", "p", "altitude")

    def update(self, t: float, signals: Mapping[str, float]) -> dict[str, float]:
        """Lean against the bank."""
        return {"bank_target": -0.1 * signals["phi"] - 0.01 * signals["p"]}


def costs() -> list[tuple[str, ...]]:
    """Return rows of what laws cost: a minute of the Tarn at 100 Hz, times real time."""
    engaged = {"vertical": "altitude", "lateral": "heading", "autothrottle": "airspeed"}
    cases = (
        ("without a law", dv.sample("tarn"), {}, (), ""),
        ("attitude hold", with_law("tarn", "attitude_hold"), {}, (), ""),
        ("fly by wire at 50 Hz", with_law("tarn", "fly_by_wire"), {}, (), ""),
        ("the whole autopilot, all axes", with_law("tarn", "autopilot"), engaged, (), "250"),
        ("and a controller in Python at 50 Hz", with_law("tarn", "autopilot"), engaged, (Banking(),), "100"),
    )
    rows, first = [], 0.0
    for what, craft, inputs, devices, target in cases:
        point = dv.trim(craft, airspeed=62, altitude=800, inputs=inputs)

        def minute(
            craft: Aircraft = craft, point: dv.TrimPoint = point, devices: tuple[Banking, ...] = devices
        ) -> None:
            dv.fly(craft, start=point, duration=60, record=["altitude"], record_every=10, devices=devices)

        taken = least(minute, 7)
        first = first or taken
        rows.append((what, f"{60 / taken:.0f}", f"{taken / first:.2f}", target))
    return rows


def main() -> int:
    """Measure and print."""
    show("laws", ("a minute of the Tarn at 100 Hz", "times real time", "time over the first", "target"), costs())
    heads = ("what", "mean", "deviation", "least", "most", "good ones")
    show("missions", heads, [*landings(), *routes(), *shots()])
    return 0


if __name__ == "__main__":
    sys.exit(main())
