"""Memory between steps, laws at a rate of their own, laws engaged in flight, and mode logic."""

import unittest
from collections.abc import Callable
from typing import Any

import numpy as np
from scipy import signal

import dravik as dv
from dravik.aircraft.description.schema import LawDefinition
from dravik.errors import DravikError, FlightError
from dravik.mode_logic.modes import ModeLogic, Phase, sequence
from dravik.mode_logic.reachability import reached_modes
from tests.support import craft

DT = 0.01


def law(name: str = "Own", **keys: Any) -> LawDefinition:
    return LawDefinition.model_validate({"format": 1, "name": name, **keys})


def floating(**keys: Any) -> Any:
    """Return a body in space with a fin that a stick moves and an input ``ask``, with a law of these keys."""
    body = craft(
        environment={"gravity": 0.0},
        inputs={"stick": {"range": [-1, 1]}, "ask": {}},
        controls={"fin": {"range": ["-20 deg", "20 deg"], "command": "20*deg*stick", "lag": "0.02 s"}},
    )
    return body.with_law(law(**keys)) if keys else body


def begun(made: Any) -> dv.Start:
    return dv.Start(made.state(position=(0, 0, 500), velocity=(10, 0, 0)), made.default_inputs())


def flown(made: Any, duration: float = 3.0, **more: Any) -> dv.Recording:
    return dv.fly(made, start=begun(made), duration=duration, dt=DT, **more)


def simulated(step: Callable[[dict[str, Any], float, float], float], times: Any, wave: Any) -> Any:
    """Return what a plain loop over the steps gives: ``step`` has a memory of its own, a dictionary."""
    memory: dict[str, Any] = {}
    return np.array([step(memory, t, x) for t, x in zip(times, wave, strict=True)])


def due(t: float, period: float, late: float = 0.0) -> bool:
    return round((t - late) / DT) % round(period / DT) == 0


def _sampled(m: dict[str, Any], t: float, x: float) -> float:
    if due(t, 0.1, 0.04):
        m["out"] = m.get("sample", x) if t > 0.0 else x
    m.setdefault("out", x)
    if due(t, 0.1):
        m["sample"] = x
    return float(m["out"])


def _filter(m: dict[str, Any], t: float, x: float) -> float:
    if due(t, 0.05):
        m["y"] = 0.8 * m.get("y", 0.0) + 0.2 * x
    return float(m["y"])


def _mean(m: dict[str, Any], t: float, x: float) -> float:
    if due(t, 0.05):
        m["last"] = [x, *m.get("last", [x] * 4)][:4]
    return float(np.mean(m["last"]))


def _latch(m: dict[str, Any], t: float, x: float) -> float:
    m["on"] = (x > 0.9 or m.get("on", False)) and not x < -0.5
    return float(m["on"])


def _hysteresis(m: dict[str, Any], t: float, x: float) -> float:
    m["on"] = x > 0.5 or (m.get("on", False) and x >= -0.5)
    return float(m["on"])


def _debounce(m: dict[str, Any], t: float, x: float) -> float:
    now = x > 0.2
    if now == m.get("out", False):
        m["since"] = t
    if t - m.setdefault("since", t) >= 0.15 - 1e-9:
        m["out"] = now
    return float(m.get("out", False))


def _counter(m: dict[str, Any], t: float, x: float) -> float:
    now = x > 0.2
    m["n"] = 0 if x < -0.95 else m.get("n", 0) + (now and not m.get("before", now))
    m["before"] = now
    return float(m["n"])


def _timer(m: dict[str, Any], t: float, x: float) -> float:
    m["since"] = m.get("since", t) if x > 0.2 else None
    if m["since"] is None:
        del m["since"]
        return 0.0
    return float(t - m["since"])


def _held(m: dict[str, Any], t: float, x: float) -> float:
    if not x < 0.0 or "x" not in m:
        m["x"] = x
    return float(m["x"])


class MemoryTest(unittest.TestCase):
    def test_each_function_against_a_plain_loop(self) -> None:
        cases: dict[str, tuple[str, Callable[[dict[str, Any], float, float], float]]] = {
            "a": ("sampled(ask, 0.1, 0.04)", _sampled),
            "b": ("0.8*previous(b, 0.05) + 0.2*sampled(ask, 0.05)", _filter),
            "c": ("moving_average(ask, 4, 0.05)", _mean),
            "d": ("latch(ask > 0.9, ask < -0.5)", _latch),
            "e": ("hysteresis(ask, -0.5, 0.5)", _hysteresis),
            "f": ("debounce(ask > 0.2, 0.15)", _debounce),
            "g": ("counter(ask > 0.2, ask < -0.95)", _counter),
            "h": ("timer(ask > 0.2)", _timer),
            "i": ("hold_while(ask, ask < 0)", _held),
        }
        made = floating(formulas={n: text for n, (text, _) in cases.items()})
        run = flown(made, controls={"ask": dv.sine("1.1", at=0.0, frequency=1.0753)})
        for name, (text, plain) in cases.items():
            with self.subTest(text):
                wanted = simulated(plain, run.time, run["ask"])
                self.assertGreater(float(np.ptp(wanted)), 0.0)
                np.testing.assert_allclose(run[name], wanted, atol=1e-9)

    def test_blend_has_no_jump_and_fades(self) -> None:
        made = floating(formulas={"y": "blend(if_else(ask > 0.5, 3, 1 + 0.1*time), ask > 0.5, 0.4)"})
        run = flown(made, controls={"ask": dv.pulse("1", at=1.0, width=1.0)})
        late = run.time > 1.005
        wanted = np.where(run.time > 2.005, 1.0 + 0.1 * run.time, 3.0)
        self.assertLess(float(np.max(np.abs(np.diff(run["y"])))), 1.1 * 2.0 * DT / 0.4)
        first = (run.time > 1.005) & (run.time < 1.995)
        np.testing.assert_allclose(run["y"][first], 3.0 - 1.901 * np.exp(-(run.time[first] - 1.0) / 0.4), atol=2e-3)
        self.assertLess(abs(float(run["y"][late][-1]) - float(wanted[-1])), 2.0 * np.exp(-1.0 / 0.4))

    def test_a_law_at_a_rate_is_its_exact_difference_equation(self) -> None:
        keys = {
            "inputs": {"aim": {"kind": "angle"}},
            "formulas": {"missing": "ask - 0.1", "out": "2*missing + integral(3*missing) + 0.5*lag(missing, 0.3)"},
            "add": {"fin": "0.01*out"},
        }
        wave = {"ask": dv.sine("0.7", at=0.0, frequency=0.5882)}
        run = flown(floating(rate=20.0, delay="0.02 s", **keys), controls=wave)
        slow = np.arange(0, 300, 5)
        x = run["ask"][slow] - 0.1
        whole = signal.TransferFunction([2.0], [1.0]), signal.TransferFunction([3.0], [1.0, 0.0]), ([0.5], [0.3, 1.0])
        parts = []
        for part in whole:
            num, den = part if isinstance(part, tuple) else (part.num, part.den)
            b, a, _ = signal.cont2discrete((num, den), 0.05)
            parts.append(signal.lfilter(np.ravel(b), a, x))
        np.testing.assert_allclose(run["out"][slow], sum(parts), atol=1e-9)
        # what is added changes two steps after the sample, and stays for five
        added = run["fin_command"] / 0.01
        np.testing.assert_allclose(added[slow[2:-1] + 2], run["out"][slow[2:-1]], atol=1e-9)
        np.testing.assert_allclose(added[slow[2:-1] + 6], run["out"][slow[2:-1]], atol=1e-9)
        with self.assertRaisesRegex(DravikError, "is no whole number of steps of 0.01 s"):
            dv.fly(floating(rate=35.0, **keys), start=begun(floating(rate=35.0, **keys)), duration=1)
        # outside a flight it is the continuous law
        made = floating(rate=20.0, **keys)
        x0, u = begun(made).state, made.with_inputs({"ask": 0.6})
        self.assertAlmostEqual(made.values(x0, u)["out"], 2.0 * 0.5)

    def test_a_flight_resumed_remembers(self) -> None:
        made = floating(
            rate=20.0, delay="0.03 s", formulas={"n": "counter(ask > 0)", "y": "0.9*previous(y) + ask + 0.1*n"},
            add={"fin": "0.01*y"},
        )  # fmt: skip
        wave = {"ask": dv.sine("1", at=0.0, frequency=2.7027)}
        whole = flown(made, 2.0, controls=wave)
        first = flown(made, 1.03, controls=wave)
        rest = dv.fly(made, start=dv.resume(made, first), duration=0.97, controls=wave)
        np.testing.assert_array_equal(first.values[:-1], whole.values[:103])
        np.testing.assert_array_equal(rest.values, whole.values[103:])
        session = dv.Session(made, start=begun(made), controls=wave)
        session.step(1.03)
        look = session.reader("fin", "y")
        saved = session.save()
        session.step(0.97)
        once = session["fin"], session["y"]
        self.assertEqual(tuple(look()), once)
        session.restore(saved)
        session.step(0.97)
        self.assertEqual((session["fin"], session["y"]), once)
        self.assertEqual(tuple(look()), once)  # also after going back
        with self.assertRaisesRegex(DravikError, "no signal 'fni'"):
            session.reader("fni")

    def test_difference_equations_stand_still_in_a_trim(self) -> None:
        tarn = dv.sample("tarn").with_law(
            law(rate=50.0, formulas={"smooth": "0.9*previous(smooth) + 0.1*airspeed"}, add={"throttle": "0*smooth"})
        )
        run = dv.fly(tarn, start=dv.trim(tarn, airspeed=62, altitude=300), duration=1)
        np.testing.assert_allclose(run["smooth"], 62.0, atol=1e-6)

    def test_refusals(self) -> None:
        for text, words in (
            ("sampled(ask, 0)", "the period of sampled must be above 0"),
            ("sampled(ask, ask)", "the period of sampled must be a constant"),
            ("sampled(ask, 0.1, 0.2)", "the delay of 0.2 s is longer than the period of 0.1 s"),
            ("previous(ask)", "in a law with a rate it is that rate's"),
            ("moving_average(ask, 2.5, 0.1)", "an average of 2.5 samples"),
            ("hysteresis(ask, 1, 0)", "not below its upper one"),
        ):
            with self.subTest(text), self.assertRaisesRegex(DravikError, words):
                floating(formulas={"y": text})
        sampling = floating(formulas={"y": "sampled(ask, 0.1)"})
        with self.assertRaisesRegex(DravikError, "no steps at which samples and modes change"):
            flown(sampling, 0.5, method="adaptive")
        with self.assertRaisesRegex(DravikError, "has a delay and no rate"):
            floating(delay="0.1 s", formulas={"y": "ask"})


class EngagementTest(unittest.TestCase):
    def test_engaged_disengaged_and_taken_over_without_a_jump(self) -> None:
        made = floating(
            name="Hold", fade="0.5 s", inputs={"theta_demand": {"kind": "angle", "follows": "theta"}},
            formulas={"move": "4*(theta_demand - theta) + integral(2*(theta_demand - theta), low=-0.2, high=0.2)"},
            add={"fin": "move"},
        )  # fmt: skip
        session = dv.Session(made, start=begun(made), dt=DT)
        session.set(theta_demand="4 deg")
        session.step(1.0)
        commands = [session["fin_command"]]
        for switch in (0, 1, 0):
            session.set(engaged_hold=switch)
            before = session["theta"]
            for _ in range(60):
                session.step()
                commands.append(session["fin_command"])
            if switch:
                self.assertAlmostEqual(session["theta_demand"], before)
        self.assertLess(float(np.max(np.abs(np.diff(commands)))), 0.05 * max(map(abs, commands)))
        texts = [e.text for e in session.events if e.text.startswith("law")]
        self.assertEqual(texts, ["law: Hold disengaged", "law: Hold engaged", "law: Hold disengaged"])
        session.step(4.0)
        self.assertLess(abs(session["fin_command"]), 1e-3)
        self.assertLess(abs(session["move_integral"]), 1e-3)  # it goes back to its initial value


SEQUENCER: dict[str, Any] = {
    "begin": "idle",
    "modes": {
        "idle": {},
        "out": {"set": {"stick": 0.4}, "take": {"kept": "theta"}},
        "back": {"set": {"stick": -0.4, "gain": 2.0}},
        "safe": {"set": {"stick": 0}, "final": True},
    },
    "transitions": [
        {"from": "idle", "to": "out", "when": "ask > 0.5", "reason": "asked for"},
        {"from": "out", "to": "back", "after": "0.5 s", "reason": "long enough"},
        {"from": ["back", "out"], "to": "idle", "when": "ask < 0"},
        {"from": "any", "to": "safe", "when": "fin > 9*deg", "priority": 5, "reason": "fin at its limit"},
    ],
}


def with_mode_logic(**changes: Any) -> Any:
    return floating(
        inputs={"kept": {"kind": "angle"}}, parameters={"gain": {"value": 1.0, "range": [0, 3]}},
        formulas={"wish": "gain*sequencer_is_back"}, mode_logic={"sequencer": {**SEQUENCER, **changes}},
    )  # fmt: skip


class ModeLogicTest(unittest.TestCase):
    def test_modes_change_with_their_reasons(self) -> None:
        made = with_mode_logic()
        pitched = made.state(position=(0, 0, 500), velocity=(10, 0, 0), attitude=(0.0, 0.1, 0.0))
        start = dv.Start(pitched, made.default_inputs())
        run = dv.fly(made, start=start, duration=3, controls={"ask": dv.step("1", at=1.0)})
        texts = [(round(e.time, 6), e.text) for e in run.events if "sequencer" in e.text]
        self.assertEqual(
            texts,
            [(0.0, "sequencer: idle"), (1.0, "sequencer: out (asked for)"), (1.5, "sequencer: back (long enough)")],
        )
        self.assertEqual([float(run["stick"][k]) for k in (99, 101, 151)], [0.0, 0.4, -0.4])
        self.assertEqual(float(run["wish"][160]), 2.0)
        self.assertTrue(any("parameter gain: 1 to 2" in e.text for e in run.events))
        np.testing.assert_allclose(run["kept"][[99, 102, 290]], [0.0, 0.1, 0.1], atol=1e-9)  # theta, taken over

    def test_out_of_each_of_several_modes_and_what_can_be_reached(self) -> None:
        # ask falls below zero in each of the two modes that the transition names
        for width in (0.2, 0.8):
            run = flown(with_mode_logic(), controls={"ask": dv.doublet("1", at=0.5, width=width)})
            said = [e.text for e in run.events if e.text.startswith("sequencer: idle")]
            self.assertEqual(len(said), 2, width)
        logic = ModeLogic.model_validate(SEQUENCER)
        self.assertEqual(reached_modes(logic), {"idle", "out", "back", "safe"})
        ending = [*SEQUENCER["transitions"][:1], {"from": "out", "to": "end", "when": "ask > 2"}]
        self.assertEqual(reached_modes(ModeLogic.model_validate({**SEQUENCER, "transitions": ending})), {"idle", "out"})
        phases = [Phase.model_validate({"name": n, "until": "time > 1"}) for n in ("one", "two")]
        self.assertEqual([m.final for m in sequence(phases).modes.values()], [False, True])

    def test_priority_any_and_setting_a_mode(self) -> None:
        forced = with_mode_logic(modes={**SEQUENCER["modes"], "out": {"set": {"stick": 1}}})
        run = flown(forced, controls={"ask": dv.step("1", at=1.0)})
        self.assertEqual(run.events[-1].text, "sequencer: safe (fin at its limit)")
        self.assertEqual(float(run["sequencer"][-1]), 4.0)
        made = with_mode_logic()
        session = dv.Session(made, start=begun(made))
        session.set(sequencer="back")
        session.step(0.1)
        self.assertEqual((session["stick"], session["sequencer_is_back"]), (-0.4, 1.0))
        self.assertEqual(session.events[-1].text, "sequencer: back (set)")
        with self.assertRaisesRegex(DravikError, "sequencer = 2.5 is no mode; expected idle, out, back, safe"):
            session.set(sequencer=2.5)
        to_and_fro = {
            one: {"modes": {"a": {"set": {other: "a"}}, "b": {"set": {other: "b"}}, "c": {"set": {other: "a"}}}}
            for one, other in (("left", "right"), ("right", "left"))
        }
        to_and_fro["right"]["modes"] |= {"a": {"set": {"left": "b"}}, "b": {"set": {"left": "a"}}}
        with self.assertRaisesRegex(DravikError, "set each other.s modes without an end"):
            restless = floating(mode_logic=to_and_fro)
            dv.Session(restless, start=begun(restless)).set(left="c")
        with self.assertRaisesRegex(DravikError, "no mode 'bakc'.*did you mean back"):
            made.with_inputs({"sequencer": "bakc"})

    def test_what_holds_at_the_start_happens_there_and_unrest_is_told(self) -> None:
        made = with_mode_logic()
        start = dv.Start(begun(made).state, made.with_inputs({"ask": 1.0}))
        run = dv.fly(made, start=start, duration=1)
        self.assertEqual([e.text for e in run.events][:2], ["sequencer: idle", "sequencer: out (asked for)"])
        restless = [
            {"from": "idle", "to": "out", "when": "ask > 0.5"},
            {"from": "out", "to": "idle", "when": "ask > 0"},
        ]
        restless_made = with_mode_logic(transitions=restless)
        with self.assertRaisesRegex(FlightError, "sequencer goes from mode to mode without an end"):
            flown(restless_made, controls={"ask": dv.step("1", at=0.5)})

    def test_refusals(self) -> None:
        for change, words in (
            ({"begin": "idel"}, "no mode 'idel'"),
            (
                {"transitions": [{"from": "idle", "to": "ot", "when": "ask > 1"}]},
                "transitions.0.to: there is no mode 'ot'",
            ),
            ({"transitions": [{"from": "idle", "to": "out"}]}, "neither when nor after"),
        ):
            with self.subTest(words), self.assertRaisesRegex(ValueError, words):
                ModeLogic.model_validate({**SEQUENCER, **change})
        for mode, words in (
            ({"set": {"stik": 1}}, "there is no input 'stik'; try: did you mean stick"),
            ({"set": {"stick": 3}}, "modes.out.set.stick: .*outside its range; expected -1 to 1"),
            ({"set": {"gain": 9}}, "modes.out.set: .*0 to 3"),
            ({"set": {"sequencer": "trip"}}, "no mode 'trip'"),
            ({"take": {"kept": "thetaa"}}, "take.kept: there is no signal 'thetaa'.*theta"),
            ({"take": {"kep": "theta"}}, "there is no input 'kep'.*kept"),
        ):
            with self.subTest(words), self.assertRaisesRegex(DravikError, words):
                with_mode_logic(modes={**SEQUENCER["modes"], "out": mode})
        with self.assertRaisesRegex(DravikError, "there is no signal 'askk'"):
            with_mode_logic(transitions=[{"from": "idle", "to": "out", "when": "askk > 1"}])
        self.assertAlmostEqual(float(with_mode_logic().inputs["sequencer"].default), 1.0)

    def test_the_audit_finds_modes_without_a_way_and_rivals(self) -> None:
        from dravik.checks.mode_logic import check_modes

        modes = {"idle": {}, "out": {"set": {"stick": 1}}, "trap": {}, "never": {}}
        ways = [{"from": "idle", "to": "out", "when": "ask > 1"}, {"from": "out", "to": "trap", "when": "ask > 2"}]
        rival = {"modes": {"a": {"set": {"stick": 0}}, "b": {}}}
        made = floating(mode_logic={"one": {"modes": modes, "transitions": ways}, "two": rival})
        self.assertEqual(
            [(f.severity, f.place, f.what) for f in check_modes(made)],
            [
                ("error", "mode_logic.one", "there is no way out of the mode 'trap'"),
                ("warning", "mode_logic.one", "no transition leads to the mode 'never'"),
                ("error", "mode_logic.two", "one and two both set stick: the last to change wins"),
            ],
        )
        for name in ("tarn", "pika", "merle"):
            from dravik.aircraft import sample_path

            laws = sample_path(name) / "laws" / "autopilot.toml"
            self.assertEqual(check_modes(dv.sample(name).with_law(*dv.load_law(laws))), [])
