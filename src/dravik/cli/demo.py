"""The demo: the Tarn from its file to the fire and back, with a page that shows every step."""

import csv
import io
import shutil
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from rich.progress import BarColumn, Progress, TextColumn

from dravik.aero import read_coefficients, read_geometry
from dravik.aircraft import Aircraft, drain_paths, load_law, sample, sample_path
from dravik.checks import audit
from dravik.cli.shared.common import emit, err, say, show_rows
from dravik.errors import DravikError
from dravik.flight import doublet, fly, step
from dravik.handling import handling_qualities
from dravik.host.files import write_text
from dravik.linear import linearise
from dravik.performance import engine_points, performance
from dravik.performance.weights import centre_limits
from dravik.recording import Recording, write_track
from dravik.report import (
    Block,
    Sheet,
    figure_families,
    figure_histories,
    figure_masses,
    figure_overhead,
    figure_overlay,
    figure_performance,
    figure_poles,
    figure_runs,
    figure_three_views,
    figure_track,
    marked_events,
    save_figures,
    write_page,
)
from dravik.scenarios import load_scenario
from dravik.trimming import TrimPoint, trim
from dravik.validation import landing_of, prove_linear, prove_trim  # fmt: skip

if TYPE_CHECKING:
    from matplotlib.figure import Figure

__all__ = ["run_demo"]

STEPS = 10
LIFTED_OFF = 2.3  # m of height at which all wheels have left the ground
LIMIT = 0.02  # of the peak: allowed error of the linear response to a small doublet


class _Demo:
    """The folder, the page so far, and the verdicts."""

    def __init__(self, folder: Path, quick: bool) -> None:
        self.folder, self.quick = folder, quick
        self.blocks: list[Block] = []
        self.verdicts: dict[str, tuple[bool, str]] = {}
        self.figures: dict[Path, Callable[[], Figure]] = {}

    def figure(self, figure: "Figure", name: str) -> Path:
        """Keep a figure, to be written with all others."""
        self.figures[self.folder / name] = lambda: figure
        return self.folder / name

    def table(self, name: str, columns: Sequence[str], rows: Sequence[Sequence[object]]) -> None:
        text = io.StringIO()
        writer = csv.writer(text, lineterminator="\n")
        writer.writerow(columns)
        writer.writerows(rows)
        write_text(self.folder / name, text.getvalue(), what="table")

    def add(self, key: str, good: bool, block: Block) -> None:
        block.good = good
        self.verdicts[key] = (good, block.verdict)
        self.blocks.append(block)


def run_demo(folder: str, *, quick: bool, as_json: bool) -> bool:
    """Run the demo into a folder, print what was found; return whether every answer was yes."""
    target = Path(folder)
    try:
        target.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise DravikError(f"the folder cannot be made ({error.strerror})", where=folder) from None
    demo = _Demo(target, quick)
    bar = Progress(
        TextColumn("{task.description}"),
        BarColumn(),
        console=err,
        transient=True,
        disable=as_json or not err.is_terminal,
        auto_refresh=False,  # a thread of its own for that would keep the figures from being shared out
    )
    with bar:
        task = bar.add_task("the Tarn", total=STEPS)

        def tell(text: str) -> None:
            bar.update(task, description=text, advance=1)
            bar.refresh()

        tell("checking")
        craft = sample("tarn")
        _check(demo, craft)
        tell("drawing, weighing, looking at the engines")
        _drawing(demo, craft)
        _masses(demo, craft)
        _engines(demo, craft)
        tell("trimming")
        point = trim(craft, airspeed="62 m/s", altitude="300 m")
        _trim(demo, point)
        tell("linearising")
        _linear(demo, point)
        tell("comparing with the nonlinear aircraft")
        _overlay(demo, point)
        tell("judging")
        _handling(demo, point)
        _dampers(demo, craft)
        tell("closing the loop")
        run = _hold(demo, craft)
        tell("flying to the fire and back")
        _story(demo)
        tell("writing")
        save_figures(demo.figures)
        run.save(target / "pitch_hold.csv")
        _page(demo, craft)
        tell("done")
    good = all(ok for ok, _ in demo.verdicts.values())
    if as_json:
        emit(
            {
                "folder": str(target),
                "good": good,
                "steps": {k: {"good": g, "result": t} for k, (g, t) in demo.verdicts.items()},
            }
        )
    else:
        rows = [("yes" if ok else "no", key, text) for key, (ok, text) in demo.verdicts.items()]
        show_rows("The Tarn, from its file to the fire and back", ["good", "step", "result"], rows)
        say(f"The page with all of it: {target / 'index.html'}")
        say("To fly it yourself: pip install 'dravik[live]', then dravik live fire_run --page")
    return good


def _check(demo: _Demo, craft: Aircraft) -> None:
    findings = audit(craft)
    errors = sum(f.severity == "error" for f in findings)
    rows = [(f.severity, f.what, f.do) for f in findings]
    columns = ("severity", "what", "what to do")
    demo.table("audit.csv", columns, rows)
    signals = len(craft.signals)
    text = (
        f"{errors} errors, {len(findings) - errors} other findings in {len(craft.tables)} tables and {signals} signals"
    )
    demo.add("audit", errors == 0, Block("Audit", text, tables=[Sheet(columns, rows)]))


def _drawing(demo: _Demo, craft: Aircraft) -> None:
    geometry = read_geometry(sample_path("tarn") / "geometry.toml")
    tables = read_coefficients(sample_path("tarn") / "aircraft.toml")
    images = [
        demo.figure(figure_three_views(geometry), "drawing.png"),
        demo.figure(figure_families(tables, title="Tarn: the coefficients of its tables"), "coefficients.png"),
    ]
    slope = tables.slopes("alpha", step=0.01, alpha=0.05)
    text = f"lift slope {float(slope['CL']):.3g}, pitch stiffness {float(slope['Cm']):.3g} a rad at small incidence"
    demo.add(
        "drawing and tables",
        float(slope["Cm"]) < 0.0 < float(slope["CL"]),
        Block("Drawing and tables", text, images=images),
    )


def _masses(demo: _Demo, craft: Aircraft) -> None:
    limits = centre_limits(craft, read_coefficients(sample_path("tarn") / "aircraft.toml"), 0.05)
    forward, aft = limits.at(craft.loading.mass)
    paths = {n: drain_paths(craft.definition, entry) for n, entry in craft.definition.loadings.items()}
    image = demo.figure(figure_masses(craft.name, craft.definition, paths, limits), "masses.png")
    rows = []
    for name, entry in craft.definition.loadings.items():
        x, y, z = (round(float(v), 6) + 0.0 for v in entry.cg)
        rows.append((name, entry.mass, x, y, z, entry.Iyy))
    columns = ("loading", "mass [kg]", "x [m]", "y [m]", "z [m]", "Iyy [kg m²]")
    demo.table("loadings.csv", columns, rows)
    inside = all(limits.holds(r[2], r[1]) for r in rows)
    text = f"{len(rows)} loadings between the limits {forward:.3f} and {aft:.3f} m"
    demo.add("masses", inside, Block("Masses", text, tables=[Sheet(columns, rows)], images=[image]))


def _engines(demo: _Demo, craft: Aircraft) -> None:
    speeds = [float(v) for v in range(40, 91, 5)]
    bench = engine_points(craft, airspeeds=speeds, altitude=300.0, throttles=[0.5, 1.0])
    found = performance(craft, airspeeds=speeds, altitude=300.0)
    image = demo.figure(figure_performance(craft, bench, found), "performance.png")
    climb, far = found.best("climb_rate"), found.best("range")
    good = climb is not None and far is not None and climb.climb_rate > 0.0
    text = ""
    if climb is not None and far is not None:
        text = (
            f"at 300 m it climbs best at {climb.airspeed:g} m/s with {climb.climb_rate:.1f} m/s, and flies farthest at "
            f"{far.airspeed:g} m/s"
        )
    demo.add("engines", good, Block("Engines and performance", text, images=[image]))


def _trim(demo: _Demo, point: TrimPoint) -> None:
    proof = prove_trim(point, duration=20.0 if demo.quick else 60.0)
    columns = ("signal", "value", "unit", "meaning")
    demo.table("trim.csv", columns, point.rows())
    text = f"{point.title}: largest residual {point.worst_residual:.1e} after {point.evaluations} evaluations"
    demo.add("trim", point.reached, Block("Trim", text, tables=[Sheet(columns, point.rows())]))
    names = ["airspeed", "altitude", "theta", "phi"]
    image = demo.figure(figure_histories(proof.recording, names, title="The trimmed Tarn, hands off"), "hands_off.png")
    rows = [list(r.values()) for r in proof.rows()]
    columns = ("signal", "drift", "allowed", "unit")
    demo.table("hands_off.csv", columns, rows)
    seconds = proof.recording.time[-1]
    text = f"flown hands off for {seconds:g} s: " + ", ".join(f"{r[0]} {r[1]:.1g} {r[3]}" for r in rows[:2])
    demo.add(
        "trim holds",
        proof.holds,
        Block("The trim, flown", text, tables=[Sheet(columns, rows)], images=[image], beside=True),
    )


def _linear(demo: _Demo, point: TrimPoint) -> None:
    model = linearise(point.craft, point, outputs=["nz"])
    for letter in "ABCD":
        model.frame(letter).to_csv(demo.folder / f"model_{letter}.csv")
    rows = model.modes().rows()
    keys = (
        "mode",
        "real_1_s",
        "imag_1_s",
        "frequency_rad_s",
        "damping",
        "period_s",
        "time_to_half_s",
        "time_to_double_s",
    )
    cells = [[r[k] for k in keys] for r in rows]
    demo.table("modes.csv", keys, cells)
    image = demo.figure(figure_poles(model.modes(), title=f"Roots: {model.title}"), "poles.png")
    names = {str(r["mode"]) for r in rows}
    classic = {"short period", "phugoid", "Dutch roll", "roll", "spiral"}
    text = f"{len(rows)} modes, among them {', '.join(sorted(classic & names))}"
    columns = (
        "mode",
        "real [1/s]",
        "imag [1/s]",
        "frequency [rad/s]",
        "damping",
        "period [s]",
        "to half [s]",
        "to double [s]",
    )
    demo.add(
        "modes named",
        classic <= names,
        Block("Linear model and modes", text, tables=[Sheet(columns, cells)], images=[image]),
    )


def _overlay(demo: _Demo, point: TrimPoint) -> None:
    pitch = prove_linear(point, control="elevator")
    yaw = prove_linear(point, control="rudder", signals=("beta", "p", "r", "phi"))
    images = [
        demo.figure(figure_overlay(pitch), "linear_pitch.png"),
        demo.figure(figure_overlay(yaw), "linear_yaw.png"),
    ]
    rows = [(p.title, n, 100.0 * e) for p in (pitch, yaw) for n, e in p.errors.items()]
    columns = ("input", "signal", "difference [% of peak]")
    demo.table("linear_against_nonlinear.csv", columns, rows)
    worst = max(pitch.worst, yaw.worst)
    text = f"after a small doublet at most {100 * worst:.2g} % of the peak apart"
    demo.add(
        "linear model",
        worst < LIMIT,
        Block("Linear against nonlinear", text, tables=[Sheet(columns, rows)], images=images),
    )


def _handling(demo: _Demo, point: TrimPoint) -> None:
    found = handling_qualities(point.craft, point, aircraft_class="II-L", category="B")
    keys = ("paragraph", "requirement", "value", "unit", "level_1", "level", "margin", "note")
    rows = [[r[k] for k in keys] for r in found.rows()]
    demo.table("handling.csv", keys, rows)
    columns = ("paragraph", "requirement", "value", "unit", "level 1 asks", "level", "margin", "note")
    text = f"MIL-F-8785C, class II-L, category B: level {found.level}"
    demo.add("handling qualities", found.level == 1, Block("Handling qualities", text, tables=[Sheet(columns, rows)]))


def _dampers(demo: _Demo, craft: Aircraft) -> None:
    """Fly a pedal doublet without and with the yaw damper, and say how the Dutch roll is damped."""
    damped = craft.with_law(*load_law(sample_path("tarn") / "laws" / "yaw_damper.toml"))
    runs, ratios = [], []
    for made in (craft, damped):
        point = trim(made, airspeed="62 m/s", altitude="300 m")
        ratios.append(next(m.damping for m in linearise(made, point).modes() if m.name == "Dutch roll"))
        kick = doublet(0.3, at=1.0, width=1.0)
        runs.append(fly(made, start=point, duration=20.0, controls={"pedal": kick}))
    title = "A doublet of the pedals, without and with the yaw damper"
    image = demo.figure(figure_runs(runs, ["beta", "r", "phi"], ["without", "with"], title=title), "dampers.png")
    text = f"the Dutch roll is damped by {ratios[0]:.2f} without the yaw damper and by {ratios[1]:.2f} with it"
    demo.add("dampers", ratios[1] > 1.5 * ratios[0], Block("Handling without and with dampers", text, images=[image]))


def _hold(demo: _Demo, craft: Aircraft) -> Recording:
    law_file = sample_path("tarn") / "laws" / "pitch_hold.toml"
    shutil.copyfile(law_file, demo.folder / "pitch_hold.toml")
    held = craft.with_law(*load_law(law_file))
    point = trim(held, airspeed="62 m/s", altitude="300 m")
    run = fly(held, start=point, duration=20.0, controls={"theta_command": step("2 deg", at=1.0)})
    names = ["theta", "q", "alpha", "elevator", "airspeed", "nz"]
    title = "Pitch attitude hold: a step of 2 deg"
    image = demo.figure(figure_histories(run, names, title=title, limits=held.limits), "pitch_hold.png")
    theta, _ = run.shown("theta")
    wanted = theta[0] + 2.0
    overshoot, left = float(theta.max() - wanted) / 2.0, float(abs(theta[-1] - wanted))
    reached = run.time[abs(theta - wanted) > 0.2]
    settled = float(reached[-1]) - 1.0 if len(reached) else 0.0
    text = f"2 deg step: {100 * overshoot:.0f} % overshoot, within 0.2 deg after {settled:.1f} s, {left:.2g} deg left"
    demo.add("attitude hold", left < 0.1 and overshoot < 0.3, Block("Pitch attitude hold", text, images=[image]))
    return run


def _story(demo: _Demo) -> None:
    """Fly the fire run: heavy take-off, climb, the drop over the ridge, an engine failure, the way back and down."""
    scenario = load_scenario("fire_run")
    run = scenario.fly(save=demo.folder / "fire_run.csv")
    images = [
        demo.figure(figure_overhead(run, title="Fire run: from above, and the profile"), "fire_run_plan.png"),
        demo.figure(figure_track(run, title="Fire run: in space"), "fire_run_track.png"),
        demo.figure(
            figure_histories(
                run, ["airspeed", "altitude", "climb_rate", "phi", "power_right", "mass", "nz", "rudder"],
                title="Fire run", limits=scenario.craft.limits,
            ), "fire_run.png",
        ),
    ]  # fmt: skip
    write_track(run, demo.folder / "fire_run.kml")
    words = [e.text for e in run.events]
    lifted = next((e.time for e in run.events if e.text == "phase: climb"), float("nan"))
    roll = float(run["east"][run["height"] < LIFTED_OFF][run.time[run["height"] < LIFTED_OFF] < lifted].max())
    touched = next((e.time for e in run.events if e.text == "phase: landing run"), float("nan"))
    back = float(abs(run["east"][run.time >= touched][0] - run["east"][-1])) if touched == touched else float("nan")
    dropped, lost = float(run["tank_water"][0] - run["tank_water"][-1]), "fault: right engine fails" in words
    stopped = words[-1] == "landing run is over" and not any(w.startswith("crash") for w in words)
    approach = next((e.time for e in run.events if e.text == "phase: approach"), float("nan"))
    landing = landing_of(run, after=approach) if touched == touched else None
    gently = landing is not None and not landing.faults
    text = (
        f"off the ground after {roll:.0f} m at {run['mass'][0] / 1000:.1f} t, {dropped / 1000:.1f} t of water dropped, "
        f"one engine lost, {'landed' if stopped else 'not landed'} and stopped in {back:.0f} m; over every touch: "
        f"{landing}"
    )
    if landing is not None and landing.faults:
        text += "; not a clean landing: " + "; ".join(landing.faults)
    rows = [(e.time, e.text) for e in marked_events(run)]
    good = stopped and gently and lost and dropped > 2900.0
    demo.add("fire run", good, Block("The fire run", text, tables=[Sheet(("time [s]", "what"), rows)], images=images))


def _page(demo: _Demo, craft: Aircraft) -> None:
    write_page(
        demo.folder / "index.html", f"{craft.name}: from its file to the fire and back",
        f"{craft.definition.description}; loading '{craft.loading_name}', {craft.loading.mass:g} kg", demo.blocks,
    )  # fmt: skip
