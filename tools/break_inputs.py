"""Throws mutated files, arguments and options at every door: nothing may end in a traceback, a warning or a hang.

    python tools/break_inputs.py [COUNT] [SEED]

Each case is drawn from a seed of its own, which is printed where it breaks. What is allowed: a DravikError with a
message of readable lines, or an exit code of the command line's own. The tests run a short form of the same.
"""

import contextlib
import io
import json
import random
import shutil
import signal
import sys
import tempfile
import traceback
import warnings
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import ValidationError

import dravik as dv
from dravik import guidance, handling, loops, performance
from dravik.aircraft import load, load_law, sample_path
from dravik.cli import main
from dravik.errors import DravikError
from dravik.flight import parse_history, resume
from dravik.formula import parse
from dravik.linear import in_axes
from dravik.recording import read_recording
from dravik.scenarios import load_scenario
from dravik.surroundings.turbulence import Turbulence
from dravik.systems import frequency_response, time_response
from dravik.tables import read_table
from dravik.units import quantity

LIMIT = 30  # s of the clock: what takes longer hangs
TOKENS = [
    "", "0", "-1", "1e308", "-1e308", "5e-324", "nan", "inf", "-inf", "9" * 400, "1" + "0" * 400, "1e999", "true", "[]", "{}",
    '""', "'x'", '"\\u0000"', "\x00", "\x1b[31m", "[red]", "[/]", "<b>&", "$x^{", "\u202e", "\ud7ff", "é", "deg", "m/s", "kg",
    "**", "^", "(" * 150, ")" * 3, "[[", "]]", "=", "\n", "\t", ",", "#", "..", "/", "alpha", "elevator", "time", "1/0", "a" * 5000,
    "1 and " * 300 + "1", "max(" + "1," * 400 + "1)", "-" * 200 + "1", "integral(1)", "lag(q, 0)", "q_dot", "if_else(1,2,3)",
    "200 km", "1e308 m/s", "0 deg", "90 deg", "1e20 s", "-5 K", "3 bananas", "12e", "0x10", "1_0", "+.", "0.1 0.2",
]  # fmt: skip

ODD: list[Any] = [None, {}, "x", 3, -1.0, float("nan"), 1e308, [], object()]  # what no argument wants


class HangError(Exception):
    """A case that did not come back."""


def mutated(text: str, rng: random.Random, times: int) -> str:
    """Return a text with pieces cut, doubled, moved and put in."""
    for _ in range(times):
        at = rng.randrange(len(text) + 1)
        kind = rng.randrange(6)
        if kind == 0:
            text = text[:at] + rng.choice(TOKENS) + text[at:]
        elif kind == 1:
            text = text[:at] + text[at + rng.choice([1, 2, 5, 30, 200]) :]
        elif kind == 2:
            piece = text[at : at + rng.choice([3, 20, 100])]
            text = text[:at] + piece + text[at:]
        elif kind == 3 and '"' in text:
            # a value between quotes, or a number, becomes something else
            parts = text.split('"')
            k = rng.randrange(len(parts))
            parts[k] = rng.choice(TOKENS)
            text = '"'.join(parts)
        elif kind == 4:
            words = text.split(" ")
            k = rng.randrange(len(words))
            words[k] = rng.choice(TOKENS)
            text = " ".join(words)
        else:
            lines = text.split("\n")
            rng.shuffle(lines) if rng.random() < 0.1 else lines.pop(rng.randrange(len(lines)))
            text = "\n".join(lines)
    return text


class Cases:
    """Doors to throw things at; each takes a source of randomness."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        for name in ("pika", "hail", "tarn"):
            shutil.copytree(sample_path(name), folder / name)
        self.craft = dv.sample("pika")
        self.point = dv.trim(self.craft, airspeed=15, altitude=300)
        self.run = dv.fly(
            self.craft, start=self.point, duration=0.5, record=["alpha", "altitude", "latitude", "longitude"]
        )
        self.run.save(folder / "run.csv")
        law = load_law(sample_path("pika") / "laws" / "autopilot.toml")
        self.guided = self.craft.with_law(*law)
        self.guided_point = dv.trim(self.guided, airspeed=16, altitude=800)
        self.path_flown = guidance.build_path(guidance.read_route(sample_path("pika") / "routes" / "fire_edge.toml"))
        self.full = dv.fly(self.craft, start=self.point, duration=0.1)
        self.full.save(folder / "full.csv")

    def all(self) -> list[tuple[str, Callable[[random.Random], None], int]]:
        """Return every door, with how often it is chosen."""
        return [
            ("formula", self.formula, 12), ("quantity", self.quantity, 12), ("history", self.history, 8),
            ("table", self.table, 10), ("aircraft", self.aircraft, 10), ("included", self.included, 6),
            ("law", self.law, 6), ("scenario", self.scenario, 4), ("drawing", self.drawing, 5), ("blades", self.blades, 4),
            ("recording", self.recording, 8), ("path", self.path, 4), ("option", self.option, 8), ("call", self.call, 6),
            ("condition", self.condition, 8), ("system", self.system, 8), ("statement", self.statement, 6),
            ("device", self.device, 6), ("plant", self.plant, 4), ("judged", self.judged, 6), ("loops", self.loops, 8),
            ("modes", self.modes, 8),
        ]  # fmt: skip

    def formula(self, rng: random.Random) -> None:
        start = rng.choice(
            ["0.3*alpha + max(q, 1, 2)", "if_else(alpha > 0.1, lag(q, 0.5), 2*deg)", "t(alpha)/(1 - beta)", "1"]
        )
        parse(mutated(start, rng, rng.randrange(1, 5)))

    def quantity(self, rng: random.Random) -> None:
        value = rng.choice(
            [
                mutated("62 m/s", rng, 2),
                rng.choice(TOKENS),
                10**400,
                -(10**310),
                [],
                {},
                None,
                True,
                b"1 m",
                1e308,
                object(),
            ]
        )
        quantity(value, rng.choice(["speed", "angle", "number", "inertia", "temperature", "time"]))

    def history(self, rng: random.Random) -> None:
        start = rng.choice(
            ["doublet(2 deg, at=1 s, width=2 s)", "step(1)", "sweep(1 deg, from=0.1 Hz, to=2 Hz)", "sine(2)"]
        )
        parse_history(mutated(start, rng, rng.randrange(1, 4)))

    def _file(self, name: str, rng: random.Random, most: int = 4) -> Path:
        source = self.folder / name
        target = source.with_name(f"x_{source.name}")
        text = mutated(source.read_text(encoding="utf-8"), rng, rng.randrange(1, most))
        data = text.encode("utf-8", "surrogatepass")
        if rng.random() < 0.05:
            data = rng.choice([b"\xff\xfe", b"\x00", data[: len(data) // 2] + b"\xc3(", "\ufeff".encode() + data, b""])
        target.write_bytes(data)
        return target

    def table(self, rng: random.Random) -> None:
        name = rng.choice(["pika/propulsion/propeller.csv", "hail/aero/axial.csv", "hail/propulsion/motor.csv"])
        read_table(
            self._file(name, rng),
            column=rng.choice(["", "CT", "CA_zero", "\x00"]),
            over=rng.choice([(), ("mach",), ("x", "x")]),
        )

    def aircraft(self, rng: random.Random) -> None:
        path = self._file(rng.choice(["pika/aircraft.toml", "hail/aircraft.toml"]), rng)
        craft = load(path)
        dv.audit(craft)

    def included(self, rng: random.Random) -> None:
        folder = self.folder / "hail"
        path = self._file("hail/aero/aero.toml", rng)
        whole = (folder / "aircraft.toml").read_text().replace("aero/aero.toml", f"aero/{path.name}")
        (folder / "y_aircraft.toml").write_text(whole)
        load(folder / "y_aircraft.toml")

    def law(self, rng: random.Random) -> None:
        law = load_law(self._file("tarn/laws/pitch_hold.toml", rng))
        self.craft.with_law(*law)

    def scenario(self, rng: random.Random) -> None:
        load_scenario(self._file("pika/scenarios/meadow_circuit.toml", rng)).start()

    def drawing(self, rng: random.Random) -> None:
        from dravik.aero import Lattice, build_mesh, build_tables, read_geometry

        if rng.random() < 0.5:
            build_tables(read_geometry(self._file("hail/geometry.toml", rng)))
            return
        drawing = read_geometry(self._file("pika/geometry.toml", rng))
        if all(s.panels[0] * s.panels[1] < 200 for s in drawing.surfaces.values()):
            Lattice(build_mesh(drawing, self.folder / "pika"), drawing)

    def blades(self, rng: random.Random) -> None:
        from dravik.propulsion import planned_map, read_blades

        blades = read_blades(self._file("pika/propulsion/blades.toml", rng))
        plan = blades.map
        if plan is not None and len(plan.advance_ratio) * len(plan.cross_ratio) * len(plan.blade_angle) < 100:
            planned_map(blades)

    def recording(self, rng: random.Random) -> None:
        name = rng.choice(["run", "full"])
        target = self.folder / "z.csv"
        for ending in ("", ".json"):
            text = (self.folder / f"{name}.csv{ending}").read_text()
            target.with_name(f"z.csv{ending}").write_text(
                mutated(text, rng, rng.randrange(0, 3)), encoding="utf-8", errors="replace"
            )
        run = read_recording(target)
        if name == "full":
            resume(self.craft, run)
        run.resampled(rng.choice([10.0, "5 Hz", 0.0, 1e12, "x"])) if len(
            run.values
        ) < 100 and rng.random() < 0.1 else run.summary()

    def path(self, rng: random.Random) -> None:
        path = rng.choice(
            [
                "\x00",
                "a" * 5000,
                "",
                ".",
                "/dev/null",
                "/dev/zero",
                "/proc/self/mem",
                "/root",
                "nowhere/x.toml",
                "~",
                "\ud800x",
            ]
        )
        door = rng.choice([load, load_law, load_scenario, read_table, read_recording])
        door(path)

    def option(self, rng: random.Random) -> None:
        value = rng.choice([rng.choice(TOKENS), mutated("15 m/s", rng, 2), mutated("300 m", rng, 1)]).replace(
            "\x00", "?"
        )
        commands = [
            ["trim", "pika", "--airspeed", value, "--altitude", "300 m"], ["trim", "pika", "--airspeed", "15 m/s", "--altitude", value],
            ["trim", "pika", "--airspeed", "15 m/s", "--altitude", "300 m", "--set", value], ["signals", "pika", "--kind", value],
            ["handling", "pika", "--airspeed", "15 m/s", "--altitude", "300 m", "--class", value], ["mass", value], ["check", value],
            ["fly", "pika", "--airspeed", "15 m/s", "--altitude", "300 m", "--duration", value, "--record", "alpha"],
            ["fly", "pika", "--airspeed", "15 m/s", "--altitude", "300 m", "--duration", "0.1 s", "--control", value],
            ["plot", str(self.folder / "run.csv"), "--signals", value, "--out", str(self.folder / "p.png")],
            ["export", str(self.folder / "run.csv"), "--out", str(self.folder / "t.kml"), "--begins", value], ["axes", "--yaw", value],
            ["tables", "show", value], ["tables", "draw", value], [value],
            ["trim", "pika", "--airspeed", "15 m/s", "--altitude", "300 m", rng.choice(["--turn", "--pull", "--roll", "--track", "--wind",
             "--climb-rate", "--mach", "--sweep", "--bank"]), value], ["limits", "pika", "--altitudes", value],
            ["linearise", "pika", "--airspeed", "15 m/s", "--altitude", "300 m", "--transfer", value],
            ["linearise", "pika", "--altitude", "300 m", "--sweep", f"airspeed={value}"], ["thrust", "pika", "--throttles", value], ["new", value + "/x\x01"],
        ]  # fmt: skip
        arguments = rng.choice(commands)
        with (
            contextlib.redirect_stdout(io.StringIO()) as out,
            contextlib.redirect_stderr(io.StringIO()) as err,
            contextlib.chdir(self.folder),
        ):
            code = main(arguments)
        if code not in (0, 1, 2):
            raise AssertionError(f"exit code {code} of {arguments}: {err.getvalue()[-300:]}")
        if "Traceback" in err.getvalue() or "\x1b" in out.getvalue() + err.getvalue():
            raise AssertionError(f"{arguments}: {err.getvalue()[-500:]}")

    def call(self, rng: random.Random) -> None:
        odd = [None, {}, [], "x", 3, -1.0, float("nan"), object(), self.craft, self.point, self.run, b"", (), "50 ms"]
        a, b = rng.choice(odd), rng.choice(odd)
        calls: list[Callable[[], object]] = [
            lambda: dv.fly(self.craft, start=a, duration=0.02),  # type: ignore[arg-type]
            lambda: dv.fly(self.craft, start=self.point, duration=a, dt=0.01),  # type: ignore[arg-type]
            lambda: dv.fly(self.craft, start=self.point, duration=0.1, record_every=a),  # type: ignore[arg-type]
            lambda: dv.Session(a, start=b),  # type: ignore[arg-type]
            lambda: dv.prove_trim(a),  # type: ignore[arg-type]
            lambda: dv.prove_linear(a),  # type: ignore[arg-type]
            lambda: dv.air_at(rng.choice(["300 m", "x", float("nan"), 1e9, "1e400 m"])),
            lambda: dv.trim(self.craft, airspeed=a, altitude=b),  # type: ignore[arg-type]
            lambda: dv.resume(self.craft, a),  # type: ignore[arg-type]
            lambda: Turbulence(severity=a, seed=b),  # type: ignore[arg-type]
            lambda: dv.load(a),  # type: ignore[arg-type]
            lambda: dv.quantity(a, "speed"),
            lambda: dv.linearise(a, b),  # type: ignore[arg-type]
            lambda: dv.derivatives(a, b),  # type: ignore[arg-type]
            lambda: dv.prove_model(self.craft, self.point, controls=a),  # type: ignore[arg-type]
            lambda: dv.trim_sweep(self.craft, a, altitude=300, airspeed=b),  # type: ignore[arg-type]
            lambda: dv.trim_sweep(self.craft, {"airspeed": a}, altitude=300),  # type: ignore[dict-item]
            lambda: dv.trim_sweep(
                self.craft, {rng.choice(["turn", "loading", "throttle", "zz"]): a}, altitude=300, airspeed=15
            ),  # type: ignore[dict-item]
            lambda: dv.trim_all(self.craft, airspeed=a, altitude=300, turn=b),  # type: ignore[arg-type]
            lambda: dv.root_sweep(a),  # type: ignore[arg-type]
            lambda: dv.save_system(a, b),  # type: ignore[arg-type]
            lambda: dv.load_system(a),  # type: ignore[arg-type]
        ]
        rng.choice(calls)()

    def system(self, rng: random.Random) -> None:
        odd = [None, {}, "x", 3, -1.0, 0.0, float("nan"), float("inf"), 1e-300, 1e300, "50 ms", "3 deg", [], object()]
        a, b, k = rng.choice(odd), rng.choice(odd), rng.randrange(0, 6)
        s = dv.LinearSystem.filtered(
            "y", "u", [1.0, rng.choice([0.0, -2.0, 1e9])], [1.0, rng.choice([0.0, 3.0, -1e-9, 1e12]), 2.0]
        )
        calls: list[Callable[[], object]] = [
            lambda: dv.LinearSystem.of(a, b, states=["x"][:k], inputs=["u"]), lambda: s.discretised(a).continued(),
            lambda: s.delayed(rng.choice(["u", "y", "z", a]), b, order=k), lambda: s.reduced(k), lambda: s.covariance(a),
            lambda: s.part(inputs=a), lambda: s.renamed(a), lambda: s.looped_with(s), lambda: s.followed_by(a), lambda: s.with_gains(a),
            lambda: dv.wired(s, a, inputs=["u"], outputs=["y"]), lambda: s.frequency_response(a), lambda: s.discretised(0.1, method=a),
            lambda: dv.wired(s, inputs=a, outputs=b), lambda: s.transfer(a, b), lambda: dv.LinearSystem.filtered("y", "u", a, b),
            lambda: s.gains(), lambda: s.hankel(), lambda: s.minimal(), lambda: s.zeros(), lambda: s.united(u=a),
        ]  # fmt: skip
        rng.choice(calls)()

    def statement(self, rng: random.Random) -> None:
        odd = [*ODD, "50 ms", "3 deg", "alpha", "theta", "throttle"]
        a, b, c = (rng.choice(odd) for _ in range(3))
        level = dv.steady(self.craft, airspeed=15, altitude=300)
        calls: list[Callable[[], object]] = [
            lambda: dv.trim(self.craft, level.holding(self.craft, {str(a): b})), lambda: dv.trim(self.craft, level.freeing(self.craft, a)),
            lambda: level.without(a), lambda: dv.Statement.of(self.craft, equations=a, free=b),
            lambda: dv.trim(self.craft, dv.Statement.of(self.craft, equations={"alpha": b}, free=["theta", c], start={"theta": a})),
            lambda: dv.trim(self.craft, a), lambda: dv.trim(self.craft, level.freeing(self.craft, dv.Free("airspeed", a, b))),
            lambda: self.craft.with_overrides(dv.SignalOverride(signal=str(a), kind="replaced", formula=b)), lambda: self.craft.with_overrides(a),
            lambda: dv.linearise(self.craft, self.point, cut=a), lambda: dv.linearise(self.craft, self.point, disturbed=[a]),
            lambda: self.craft.with_parameters(a), lambda: self.craft.with_parameters({str(a): b}), lambda: dv.on_ground(self.craft, heading=a),
        ]  # fmt: skip
        rng.choice(calls)()

    def judged(self, rng: random.Random) -> None:
        odd = [
            *ODD,
            "pitch",
            "bank",
            ["modal"],
            {"pitch": "pitch_stick"},
            "0.3 s",
            [0.1, 1.0, 2.0, 4.0, 9.0],
            "air",
            "3 m/s",
            (1, 2, 3),
        ]
        a, b, c = (rng.choice(odd) for _ in range(3))
        w = np.geomspace(0.1, 50.0, 60)
        model = dv.linearise(self.craft, self.point)
        calls: list[Callable[[], object]] = [
            lambda: handling.fit_equivalent(a, b, form=c), lambda: handling.fit_equivalent(w, 1.0 / (1j * w + 1.0), lead=a, band=b),
            lambda: handling.bandwidth(a, b), lambda: handling.tracking_pilot(w, 1.0 / (1j * w), bandwidth=a, delay=b),
            lambda: dv.handling_qualities(self.craft, self.point, sets=a, category=b), lambda: handling.ride(self.craft, self.point, station=a),
            lambda: dv.handling_qualities(self.craft, self.point, sticks=a, model=b), lambda: handling.handling_map(a, told=b),
            lambda: handling.fly_task(self.craft, self.point, a, size=b, duration=6.0), lambda: handling.time_to_bank(self.craft, self.point, a, b),
            lambda: time_response(model, "q", a, kind=b), lambda: time_response(model, "q", "throttle", duration=a), lambda: frequency_response(model, a, "throttle", b),
            lambda: in_axes(model, self.point, a), lambda: dv.mode_motion(model, a, duration=b), lambda: handling.sensitivities_of_level(self.point, a),
            lambda: dv.on_ground(self.craft, airspeed=a, pitch=b), lambda: performance.take_off(self.craft, altitude=a, heading=b),
            lambda: performance.landing(self.craft, altitude=0.0, inputs=a, braked=b), lambda: performance.RunwayRules(lift_off=a, screen=b),
            lambda: performance.fuel_for(self.craft, [{"time": a, "airspeed": b, "climb_to": c}]), lambda: performance.fuel_for(self.craft, a),
            lambda: loops.margins(a, delay=b), lambda: loops.margins(model.part(inputs=["throttle"], outputs=["q"]), delay=a),
            lambda: loops.cut_loop(self.craft, self.point, a, outputs=b), lambda: handling.ride_flown(self.craft, self.point, turbulence=a), lambda: handling.mismatch_envelopes(a),
        ]  # fmt: skip
        rng.choice(calls)()

    def loops(self, rng: random.Random) -> None:
        odd = [
            *ODD,
            "40 deg",
            "50 ms",
            [0.1, 1.0, 5.0],
            {"q": 0.1},
            {"q": "3 deg/s"},
            ["q", "theta"],
            "theta",
            [-1 + 1j, -1 - 1j],
            ["elevator_command"],
        ]
        a, b, c = (rng.choice(odd) for _ in range(3))
        one = dv.LinearSystem.filtered("y", "u", [2.0], [1.0, 3.0, 2.0, 0.0])
        model = dv.linearise(self.craft, self.point)
        entry = {"name": "a", "measures": "q", "moves": "elevator", "proportional": -0.3}
        keys = ["name", "measures", "moves", "command", "controller", "proportional", "crossover", "phase_margin", "damping", "near", "zero",
                "delay", "rate", "element", "require", "wanted", "adds", "weight", "filter_time", "integral", "derivative"]  # fmt: skip

        def plan() -> object:
            row = {**entry, rng.choice(keys): a, rng.choice(keys): b}
            try:
                made = loops.LoopPlan.model_validate(
                    {"condition": {"airspeed": 15.0, "altitude": 300.0}, "loop": [row], "hold": ["airspeed"]}
                )
            except ValidationError:  # a file that says so is refused by its reader
                return None
            return loops.law_of(loops.study_loops(self.craft, made))

        good = loops.LoopPlan.model_validate({"condition": {"airspeed": 15.0, "altitude": 300.0}, "loop": [entry]})
        calls: list[Callable[[], object]] = [
            plan, plan, plan, lambda: good.changed(a), lambda: good.changed({str(a): b}), lambda: good.changed({"a.crossover": a}),
            lambda: loops.schedule_gains(self.craft, good, a), lambda: loops.schedule_gains(self.craft, good, {"airspeed": a}),
            lambda: loops.locus_over_gain(one, a), lambda: loops.locus_over_gain(a), lambda: loops.locus_over_gain(one).crossings(a), lambda: loops.locus_of_roots(a, b),
            lambda: loops.locus_over_parameter(self.craft, self.point, a, b), lambda: loops.gain_for(one, loops.GainTarget(crossover=a), delay=b),
            lambda: loops.gain_for(one, loops.GainTarget(damping=a, near=b)), lambda: loops.gain_for(one, loops.GainTarget(phase_margin=a)), lambda: loops.gain_for(one, a),
            lambda: loops.pid_for(one, a, crossover=b, phase_margin=c), lambda: loops.pid_for(one, "PID", crossover=a, phase_margin=b),
            lambda: loops.pid_options(one, "PI", a, most=b), lambda: loops.PID(a, b, c), lambda: loops.lead_compensator(a, b), lambda: loops.lag_compensator(a, b),
            lambda: loops.notch_filter(a, depth=b, width=c), lambda: loops.sampled_loop(one, one, a, delay=b), lambda: loops.ClosedLoops(one).close(a, b),
            lambda: loops.ClosedLoops(one).close("a", dv.LinearSystem.gain("u", {"y": 1.0})).system(a), lambda: loops.ClosedLoops(a), lambda: loops.several_margins(a),
            lambda: loops.assign_roots(one, a, inputs=b), lambda: loops.assign_mode(model, a, damping=b, frequency=c), lambda: loops.optimal_states(one, worst=a, use=b),
            lambda: loops.optimal_states(model, worst={"q": a}, use={"elevator_increment": b}, integrals=c), lambda: loops.tracked(one, a, worst=b),
            lambda: loops.optimal_outputs(one, a, worst={"y": 1.0}, use={"u": b}), lambda: loops.steady_observer(one, noise=a, sensors=b, recovery=c),
            lambda: loops.with_observer(a, b), lambda: loops.limit_cycles(one, loops.Nonlinearity(a, b)), lambda: loops.limit_cycles(one, a),
            lambda: loops.steady_errors(a), lambda: loops.read_loops(a), lambda: loops.study_loops(self.craft, a), lambda: dv.validation.fly_loop(a, b),
            lambda: loops.cut_loop(self.craft, self.point, ["elevator_command", a]), lambda: loops.one_of(one, a),
        ]  # fmt: skip
        rng.choice(calls)()

    def modes(self, rng: random.Random) -> None:
        """Laws with mode logic, routes, aims, watched parameters: their files mutated, their calls with odd arguments."""
        from dravik.checks import audit
        from dravik.flight import parameter_file as watched
        from dravik.guidance import aiming
        from dravik.guidance import route_device as routes
        from dravik.validation import scorecard

        which = rng.randrange(5)
        if which == 0:
            made = self.craft.with_law(*load_law(self._file("pika/laws/autopilot.toml", rng)))
            audit(made)
            session = dv.Session(made, start=dv.trim(made, airspeed=16, altitude=300), record=["phi"])
            session.set(vertical="climb", lateral="bank")
            session.step(0.05)
        elif which == 1:
            guidance.build_path(guidance.read_route(self._file("pika/routes/fire_edge.toml", rng)), wind=4.0)
        elif which == 2:
            name = rng.choice(["pika/scenarios/fire_edge.toml", "hail/scenarios/smoke_column.toml"])
            load_scenario(self._file(name, rng)).start()
        elif which == 3:
            law = load_law(self._file(rng.choice(["hail/laws/homing.toml", "tarn/laws/fly_by_wire.toml"]), rng))
            home = dv.sample("hail" if "aim_north" in law[0].inputs else "tarn")
            home.with_law(*law)
        else:
            odd = [*ODD, "60 m", "70 deg", {"bank": "bank_target"}, {"ignition": 1}, ["vertical"], "climb"]
            a, b, c = (rng.choice(odd) for _ in range(3))
            hail, path = dv.sample("hail"), self.path_flown
            session = dv.Session(self.guided, start=self.guided_point, record=["phi"])
            calls: list[Callable[[], object]] = [
                lambda: routes.RouteGuidance(a, rate=b, course_gain=c), lambda: routes.RouteGuidance(path, rate=a, targets=b),
                lambda: routes.path_over_land(self.craft, a, b), lambda: routes.check_clearance(self.craft, path, a),
                lambda: routes.route_log(self.run, path), lambda: guidance.build_path(a, wind=b), lambda: guidance.read_route(a),
                lambda: aiming.reachable_band(hail, altitude=a, elevation=b, miss=c), lambda: aiming.reachable_band(a, altitude=1.0, elevation=1.0),
                lambda: aiming.check_reach(a, b, c), lambda: aiming.check_reach(aiming.Band(1, 2, 3, 4, 0, 1), a, b),
                lambda: watched.WatchedParameters(a, b, rate=c), lambda: session.set(vertical=a, lateral=b), lambda: session.set(track_gain=a),
                lambda: self.guided.with_inputs({"vertical": a}), lambda: self.guided.with_script(mode_logic=a), lambda: scorecard(self.run, a),
                lambda: dv.fly(self.guided, start=self.guided_point, duration=0.5, devices=[routes.RouteGuidance(path, rate=a)]),
            ]  # fmt: skip
            rng.choice(calls)()

    def device(self, rng: random.Random) -> None:
        odd = [*ODD, {"elevator": 0.1}, {"elevator": "x"}, {"zz": 1}, {3: 4}, ("q",), "q"]
        made = type("Odd", (), {"rate": rng.choice([10.0, 50.0, *odd]), "update": lambda self, t, s: rng.choice(odd)})
        for name in ("sets", "reads", "units", "name"):
            if rng.random() < 0.3:
                setattr(made, name, rng.choice(odd))
        devices = rng.choice([[made()], [made(), made()], rng.choice(odd)])
        dv.fly(self.craft, start=self.point, duration=0.1, devices=devices, record=["alpha"])

    def plant(self, rng: random.Random) -> None:
        odd = [*ODD, ["a", "a"], ["a"], {"a": "rad"}, {"a": 3}, {"a": (0, 1)}, {"b": 2.0}]
        rates = rng.choice([[0.0], [float("nan")], 1.0, [1.0, 2.0], [1e300]])
        made = dv.plant(
            lambda t, x, u: rates,
            states=rng.choice([["a"], rng.choice(odd)]),
            inputs=rng.choice(odd),
            bounds=rng.choice([None, rng.choice(odd)]),
        )
        start = dv.Start(np.zeros(len(made.state_names)), np.zeros(len(made.input_names)))
        rng.choice([
            lambda: dv.fly(made, start=start, duration=0.1), lambda: dv.trim_plant(made, free=made.state_names, strict=False),
            lambda: dv.linearise_plant(made, start.state, start.inputs), lambda: dv.Session(made, start=start).step(0.05),
        ])()  # fmt: skip

    def condition(self, rng: random.Random) -> None:
        speeds = [0.0, 1e-300, 1e-3, 5.0, 15.0, 26.0, 60.0, 340.0, 7900.0, 1e8, 1e308]
        heights = [-5000.0, 0.0, 300.0, 2e4, 8.6e4, 2e5, 1e7, 1e308, -1e308]
        path = rng.choice([None, 0.0, 0.1, -0.5, 1.39, 1.5, -1.57])
        odd = [
            *ODD,
            "30 deg",
            "400 m",
            "1.4",
            "3 deg/s",
            "400 m left",
            "left",
            "",
            "1e9 m",
            "1e-9",
            "-1 g",
            "free",
            "1.3 stall",
            0.3,
            1e9,
        ]
        more: dict[str, Any] = {}
        for name in (
            "turn",
            "pull",
            "roll",
            "bank",
            "sideslip",
            "climb_rate",
            "track",
            "heading",
            "mach",
            "north",
            "inputs",
            "guess",
        ):
            if rng.random() < 0.12:
                more[name] = rng.choice(odd)
        speed = rng.choice([*speeds, *odd]) if rng.random() < 0.5 else 15.0
        given = {"airspeed": speed, "altitude": rng.choice(heights), "flight_path": path, **more}
        point = dv.trim(self.craft, strict=rng.random() < 0.3, **given)
        if point.reached:
            dv.fly(self.craft, start=point, duration=0.05, record=["alpha"])


def one(door: Callable[[random.Random], None], seed: str) -> str:
    """Run one case; return what broke, or nothing."""

    def hang(_number: int, _frame: object) -> None:
        raise HangError

    signal.signal(signal.SIGALRM, hang)
    signal.alarm(LIMIT)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            door(random.Random(seed))
    except DravikError as error:
        lines = str(error).split("\n")
        if (
            len(lines) > 60
            or max(map(len, lines)) > 1200
            or any(not (c.isprintable() or c == "\n") for c in str(error))
        ):
            return f"a message nobody can read: {str(error)[:300]!r}"
    except HangError:
        return f"no answer in {LIMIT} s"
    except BaseException:
        return traceback.format_exc()[-1500:]
    finally:
        signal.alarm(0)
    return ""


def throw(count: int, seed: int, folder: Path, told: Callable[[str], None] = print) -> int:
    """Throw ``count`` cases and return how many broke something; what broke is told once a kind."""
    cases = Cases(folder)
    doors = cases.all()
    chooser, broken, known = random.Random(seed), 0, set()
    names = [n for n, _, _ in doors]
    by_name = {n: d for n, d, _ in doors}
    tally = dict.fromkeys(names, 0)
    for k in range(count):
        name = chooser.choices(names, [w for _, _, w in doors])[0]
        tally[name] += 1
        found = one(by_name[name], f"{seed} {k} {name}")
        if found:
            broken += 1
            key = (name, found.strip().split("\n")[-1][:80])
            if key not in known:
                known.add(key)
                told(f"--- case {seed} {k} {name}\n{found}")
    told(json.dumps({"cases": count, "broken": broken, "doors": tally}))
    return broken


if __name__ == "__main__":
    count, seed = (int(a) for a in [*sys.argv[1:], *["10000", "1"][len(sys.argv) - 1 :]][:2])
    with tempfile.TemporaryDirectory() as name:
        sys.exit(1 if throw(count, seed, Path(name)) else 0)
