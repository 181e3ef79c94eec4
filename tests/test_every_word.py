"""Every option of every command changes the answer or is refused; every key of every file is read by something."""

import ast
import contextlib
import dataclasses
import hashlib
import importlib
import inspect
import os
import pkgutil
import re
import shutil
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import BaseModel
from typer.main import get_command

import dravik
from dravik.aircraft import sample_path
from dravik.cli.app import app
from dravik.errors import DravikError
from tests.test_asked_of_trims import OWN
from tests.test_cli import run

PACKAGE = Path(dravik.__file__).parent
LOM, TARN = str(OWN / "lom"), "tarn"
AT = ["--airspeed", "80 m/s", "--altitude", "500 m"]
FLIGHT = ["--airspeed", "62 m/s", "--altitude", "300 m"]
# of a condition: asked in the place of, or beside, 80 m/s at 500 m
CONDITION: dict[str, Any] = {
    "--airspeed": (["--altitude", "500 m"], "80 m/s"), "--calibrated-airspeed": (["--altitude", "500 m"], "80 m/s"),
    "--equivalent-airspeed": (["--altitude", "500 m"], "80 m/s"), "--mach": (["--altitude", "500 m"], "0.25"),
    "--altitude": (["--airspeed", "80 m/s"], "900 m"), "--flight-path": "2 deg", "--climb-rate": "1 m/s",
    "--heading": "30 deg", "--track": "30 deg", "--bank": "5 deg", "--sideslip": "2 deg", "--turn": "20 deg",
    "--dynamic-pressure": (["--altitude", "500 m"], "3 kPa"), "--pressure-altitude": (["--airspeed", "80 m/s"], "900 m"),
    "--north": "100 m", "--east": "100 m", "--day": "ISA+20",
    "--pull": "1.2", "--roll": "5 deg/s", "--free": "none", "--wind": "5 m/s from 40 deg", "--guess": "alpha=1 deg",
    "--set": "throttle=0.4", "--loading": "none", "--law": "none.toml",
    "--sensors": "none_such", "--reads": "sensors", "--estimator": "none_such",
}  # fmt: skip
TARNS: dict[str, Any] = {"--loading": "dropped", "--law": "attitude_hold"}
FILE = "nowhere/a.png"  # a figure that is refused at the end: that it can be drawn is the matter of other tests
# command: the words that come first, and for each option a value, or words beside it and a value; True for a flag
WORDS: dict[str, tuple[list[str], dict[str, Any]]] = {
    "new": ([], {"--sample": "pika"}),
    "check": ([TARN], TARNS),
    "mass": ([TARN], {"--loading": "dropped", "--margin": "7", "--figure": FILE}),
    "thrust": ([LOM, "--airspeeds", "60,90 m/s"], {
        "--altitude": "1000 m", "--airspeeds": "70 m/s", "--throttles": "0.5", "--climb": "5 m/s", "--set": "throttle=0.4",
        "--loading": "none", "--figure": FILE, "--day": "ISA+20"}),
    "limits": ([LOM, "--altitude", "500 m", "--altitudes", "500 m", "--airspeeds", "80 m/s"], {
        "--set": "throttle=0.4", "--loading": "none", "--law": "none.toml", "--altitude": "900 m", "--altitudes": "900 m",
        "--day": "ISA+20", "--airspeeds": "90 m/s", "--gust": "10 m/s", "--failed": "nose", "--banks": "2 deg", "--force": "elevator",
        "--figure": FILE, "--corridor": True, "--attitudes": "2, 4 deg"}),
    "runway": ([TARN], {
        **TARNS, "--set": "flap_lever=15 deg", "--altitude": "800 m", "--heading": (["--wind", "3 m/s from 0 deg"], "40 deg"),
        "--wind": "3 m/s from 0 deg", "--landed": "flap_lever=35 deg", "--day": "ISA+20", "--slope": "1 %",
        "--failed": "right", "--braked": "brake=0.5"}),
    "sensors": (["pika", "--law", "attitude_hold"], {
        "--law": "none.toml", "--sensors": "good", "--reads": "sensors", "--estimator": "none_such",
        "--bench": "3 s", "--seed": (["--bench", "3 s"], "4")}),
    "fuel": ([TARN, "fire_day"], {
        "--loading": "none", "--law": "none.toml", "--wind": "5 m/s from 0 deg", "--day": "ISA+20"}),
    "signals": ([TARN], {"--loading": "none", "--law": "attitude_hold", "--kind": "motion"}),
    "trim": ([LOM, *AT], {
        **CONDITION, "--all": True, "--sweep": "airspeed=70:80:2 m/s", "--signals": "alpha,theta", "--out": ".csv",
        "--figure": (["--sweep", "airspeed=70:80:2 m/s"], FILE), "--prove": True}),
    "linearise": ([LOM, *AT], {
        "--coordinates": "body", "--outputs": (["--json"], "nz"), "--out": ".json", "--prove": "elevator",
        "--proof-figure": (["--prove", "elevator"], FILE), "--derivatives": True, "--transfer": "theta/elevator",
        "--sensitivities": True, "--sweep": "airspeed=70:80:2 m/s", "--figure": (["--sweep", "airspeed=70:80:2 m/s"], FILE)}),
    "response": ([LOM, *AT], {
        "--mode": "Dutch roll", "--motion": (["--mode", "Dutch roll"], "nowhere/a.gif"), "--channel": "q/elevator",
        "--beside": "MODEL", "--figure": FILE, "--phasors": FILE, "--plot": "nyquist",
        "--duration": (["--channel", "q/elevator", "--figure", "PNG"], "0.2 s")}),
    "handling": ([LOM, *AT, "--class", "I"], {
        "--class": "IV", "--category": "A", "--criteria": "responses", "--stick": "pitch=roll_stick",
        "--force": "elevator", "--against": "cmq=-5", "--against-law": "none.toml", "--sensitivities": (["--category", "A"], True),
        "--level": (["--category", "A", "--criteria", "responses"], "3"), "--sweep": "airspeed=70:80:2 m/s", "--figure": FILE}),
    "task": ([LOM, *AT, "--duration", "5"], {
        "--task": "roll", "--size": "1 deg", "--bandwidth": "1.5", "--delay": "0.2", "--duration": "8", "--out": ".csv",
        "--figure": FILE, "--stick": "none"}),
    "loop": ([TARN, *FLIGHT, "--law", "attitude_hold", "--at", "elevator_command"], {
        "--at": "aileron_command", "--delay": "50 ms", "--least-gain": "30", "--least-phase": "89", "--locus":
        "pitch_gain=0.5:2", "--damping": "0.5", "--plan": "pitch", "--fly": "1 deg", "--flown": FILE,
        "--beside": "pitch_hold.gain=1", "--schedule": "x", "--sweep": "airspeed=60,70 m/s", "--out": ".toml", "--figure": FILE}),
    "score": (["RECORDING"], {"--beside": "RECORDING2", "--target": "pitch_stick=theta"}),
    "logic": ([TARN, "--law", "autopilot"], {"--loading": "none", "--law": "attitude_hold", "--figure": FILE}),
    "live": ([LOM, *AT, "--duration", "0.4 s", "--speed", "20"], {
        "--speed": "30", "--duration": "0.5 s", "--out": ".csv", "--link": "nowhere.toml", "--set": "throttle=0.9",
        "--loading": "light", "--law": "nowhere.toml", "--page": True, "--port": "7", "--host": "localhost",
        "--token": "abcdefgh", "--folder": "nowhere", "--shape": "tarn", "--pose": True,
    }),
    "fly": ([LOM, *AT, "--duration", "1 s"], {
        "--rail": "60 deg", "--start": "none", "--resume": "RECORDING", "--duration": "2 s",
        "--control": "throttle=step(0.1, at=0)", "--turbulence": "light", "--seed": "3", "--dt": "0.25 s", "--every": (["--out", "CSV"], "0.5 s"),
        "--record": "alpha,theta", "--out": ".csv", "--figure": FILE, "--signals": (["--figure", "PNG"], "alpha"),
        "--watch": "none.toml"}),
    "plot": (["RECORDING"], {
        "--signals": "alpha", "--view": "overhead", "--out": FILE, "--seconds": (["--view", "moving", "--out", "GIF", "--seconds", "0.5"], "1")}),
    "export": (["RECORDING", "--out", "GPX", "--place", "46 deg, 10 deg"], {
        "--out": ".csv", "--rate": "5 Hz", "--begins": "2031-08-14T14:05:00Z", "--place": "40 deg, 9 deg"}),
    "axes": (["--out", "PNG"], {
        "--yaw": "80 deg", "--pitch": "60 deg", "--roll": "70 deg", "--alpha": "4 deg", "--beta": "1 deg", "--out": ".svg"}),
    "book": ([LOM, "--chapters", "masses"], {
        "--set": "throttle=0.4", "--loading": "none", "--law": "none.toml", "--altitude": "x", "--class": "V", "--category": "D",
        "--airspeeds": "fast", "--plan": (["--chapters", "loops"], "nowhere"), "--scenario": (["--chapters", "flights"], "nowhere"),
        "--chapters": "loops", "--day": "hot", "--out": "a.txt"}),
    "tables draw": (["DRAWING"], {
        "--alpha": "2 deg", "--mach": "0.3", "--figure": FILE, "--loading": "none"}),
    "tables build": (["DRAWING"], {"--out": "FOLDER"}),
    "tables show": (["TABLES"], {
        "--alpha": "4 deg", "--cg": "0.2", "--margin": "0.2", "--figure": FILE, "--mach": "0.3", "--altitude": "900 m"}),
    "tables compare": (["TABLES", "TABLES2"], {"--alpha": "4 deg", "--figure": FILE}),
    "tables reduce": (["CAMPAIGN"], {"--out": "FOLDER"}),
    "tables blades": (["BLADES"], {"--out": ".csv"}),
}  # fmt: skip
# the same options as those of trim, read by the same lines
ALIKE = ("linearise", "response", "handling", "task", "loop", "fly", "live")


def commands() -> dict[str, list[Any]]:
    """Return the options of each command, without --json and --help."""
    found: dict[str, list[Any]] = {}

    def walk(command: Any, path: list[str]) -> None:
        if getattr(command, "commands", None):
            for name, own in command.commands.items():
                walk(own, [*path, name])
        else:
            options = [p for p in command.params if p.param_type_name == "option" and p.opts[-1] != "--json"]
            found[" ".join(path)] = options

    walk(get_command(app), [])
    return found


class OptionTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        for name, more in (("one", []), ("two", ["--control", "throttle=step(0.1)"])):
            code, _, err = run("fly", LOM, *AT, "--duration", "2 s", *more, "--out", str(cls.folder / f"{name}.csv"))
            assert code == 0, err
        assert (
            run("linearise", LOM, "--airspeed", "90 m/s", "--altitude", "500 m", "--out", str(cls.folder / "m.json"))[0]
            == 0
        )
        tarn = sample_path("tarn")
        cls.stands = {
            "RECORDING": str(cls.folder / "one.csv"), "RECORDING2": str(cls.folder / "two.csv"),
            "MODEL": str(cls.folder / "m.json"), "DRAWING": str(next(sample_path("pika").rglob("geometry.toml"))),
            "TABLES": str(tarn / "aero"), "TABLES2": str(next(sample_path("pika").rglob("*.csv")).parent),
            "CAMPAIGN": str(next((tarn / "tunnel").glob("*.toml"))), "BLADES": str(sample_path("pika") / "propulsion" / "blades.toml"),
        }  # fmt: skip

    def answer(self, command: str, words: list[str], place: Path) -> tuple[int, str, list[str]]:
        """Return exit code, what is printed without times and places, and the files that were written."""
        named = {"PNG": "a.png", "GIF": "a.gif", "GPX": "a.gpx", "CSV": "a.csv", "FOLDER": "made"}
        whole = [self.stands.get(w, str(place / named[w]) if w in named else w) for w in words]
        whole = [str(place / f"b{w}") if re.fullmatch(r"\.(csv|json|toml|gif|svg)", w) else w for w in whole]
        begun = os.getcwd()
        os.chdir(place)
        try:
            code, out, err = run(*command.split(), *whole)
        finally:
            os.chdir(begun)
        files = [
            f"{p.name} {hashlib.sha256(p.read_bytes()).hexdigest()}" for p in sorted(place.rglob("*")) if p.is_file()
        ]
        text = re.sub(r"\d+ times real time|\d[\d.]* s of clock", "", (out + err).replace(str(place), ""))
        # how late the steps of a live flight were is another figure each time
        text = re.sub(
            r"^ *(missed|late|on time|mean|worst)\b.*$|^ \"(missed|late|on_time|mean|worst)\w*\":.*$",
            "",
            text,
            flags=re.M,
        )
        return code, text, files

    def test_every_option_changes_the_answer_or_is_refused(self) -> None:
        bases: dict[tuple[str, ...], tuple[int, str, list[str]]] = {}
        missing, without = [], []
        for command, options in commands().items():
            if command == "demo":  # its two options are those of the demo's own test
                continue
            first, values = WORDS[command]
            for option in options:
                name = option.opts[-1]
                if command in ALIKE and name in CONDITION and name not in values:
                    continue
                if name not in values:
                    missing.append(f"{command} {name}")
                    continue
                beside, value = values[name] if isinstance(values[name], tuple) else ([], values[name])
                base = [*first, *beside]
                if name in CONDITION and beside:
                    base = [first[0], *beside]  # in the place of another condition
                if name in base:  # given anew
                    k = base.index(name)
                    words = [*base[:k], *base[k + 2 :], name, value]
                else:
                    words = [*base, name] if value is True else [*base, name, value]
                with tempfile.TemporaryDirectory() as one, tempfile.TemporaryDirectory() as other:
                    key = (command, *base)
                    if key not in bases:
                        bases[key] = self.answer(command, base, Path(one))
                    found = self.answer(command, words, Path(other))
                if found[0] not in (0, 1, 2) or (found[0] != 2 and found == bases[key]):
                    without.append(f"{command} {name} {value}: {found[0]}")
        self.assertEqual(missing, [])
        self.assertEqual(without, [])


def models() -> dict[str, type[BaseModel]]:
    """Return every model of a file's table."""
    found: dict[str, type[BaseModel]] = {}
    for module in pkgutil.walk_packages(dravik.__path__, "dravik."):
        if not module.name.endswith("__main__"):
            for name, own in vars(importlib.import_module(module.name)).items():
                if inspect.isclass(own) and issubclass(own, BaseModel) and own.__module__ == module.name:
                    found[f"{module.name}.{name}"] = own
    return found


def fingerprint(craft: Any) -> str:
    """Return a number for all that an aircraft computes with, and what its file says of ranges and limits."""
    digest = hashlib.sha256(craft.tape.values_sha256.encode())

    def add(what: Any) -> None:
        if isinstance(what, np.ndarray):
            digest.update(np.ascontiguousarray(what).tobytes())
        elif hasattr(what, "_asdict") or dataclasses.is_dataclass(what):
            for name in getattr(what, "_fields", None) or [f.name for f in dataclasses.fields(what)]:
                add(getattr(what, name))
        elif isinstance(what, dict | list | tuple):
            for one in what.items() if isinstance(what, dict) else what:
                add(one)
        elif not callable(what):
            digest.update(repr(what).encode())

    add([*craft.program, *craft.workspace(), craft.limits, craft.state_names, craft.loading])
    add([(n, s.low, s.high, s.default, s.unit) for n, s in craft.inputs.items()])
    add([craft.definition.parameters, craft.definition.envelope, craft.definition.centre_limits])
    return digest.hexdigest()


class KeyTest(unittest.TestCase):
    def test_every_key_of_every_table_is_read(self) -> None:
        read: set[str] = set()
        for path in PACKAGE.rglob("*.py"):
            for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
                if isinstance(node, ast.Attribute):
                    read.add(node.attr)
                elif isinstance(node, ast.Constant) and isinstance(node.value, str):
                    read.add(node.value)  # named in a list of keys that are read by getattr
        own = models()
        unread = [f"{m}.{key}" for m, model in own.items() for key in model.__annotations__ if key not in read]
        self.assertEqual(unread, [])
        self.assertGreater(len(own), 60)

    def test_every_number_of_an_aircraft_file_counts(self) -> None:
        # a number seven per cent greater is another aircraft, or is refused; a direction's length is none of it
        for folder, ground in ((sample_path("pika"), 0.0), (OWN / "lark", 0.0), (OWN / "lom", None)):
            text = (folder / "aircraft.toml").read_text(encoding="utf-8")
            lines = text.splitlines()
            places = [
                (k, m.span())
                for k, line in enumerate(lines)
                if not re.match(r"\s*(format|name|description|direction)\b|.*\{.*description", line)
                for m in re.finditer(r"(?<![\w.])\d+(\.\d+)?(e-?\d+)?(?![\w.])", line.split("#")[0].partition("]\n")[0])
                if "=" in line[: m.start()]
            ]
            places = [places[int(i)] for i in np.linspace(0, len(places) - 1, 30)]

            def loaded(more: str, folder: Path = folder, ground: float | None = ground) -> str:
                with tempfile.TemporaryDirectory() as place:
                    shutil.copytree(folder, place, dirs_exist_ok=True)
                    (Path(place) / "aircraft.toml").write_text(more, encoding="utf-8")
                    craft = dravik.load(place)
                    return fingerprint(craft if ground is None else craft.with_environment(ground=ground))

            before = loaded(text)
            for k, (begin, end) in places:
                line, value = lines[k], float(lines[k][begin:end])
                more = f"{line[:begin]}{value * 1.07 + (0.013 if value == 0.0 else 0.0)!r}{line[end:]}"
                with self.subTest(f"{folder.name}: {more.strip()}"), contextlib.suppress(DravikError):
                    if "ballast" in "".join(lines[max(k - 4, 0) : k + 1]):
                        continue  # of another loading
                    self.assertNotEqual(loaded("\n".join([*lines[:k], more, *lines[k + 1 :]])), before)
