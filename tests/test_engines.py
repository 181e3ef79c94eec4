"""Engines as parts of an aircraft: shafts, batteries, motors, mixers, failures, and what they do to the motion."""

import json
import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np

from dravik import doublet, fly, linearise, linearise_plant, on_rail, prove_trim, sample, step, trim
from dravik.aero import read_geometry
from dravik.aero.sets.building import drawing_hash
from dravik.aircraft import Aircraft, load, sample_names, sample_path
from dravik.checks import audit
from dravik.errors import DravikError
from dravik.flight import Start
from dravik.performance import engine_points
from dravik.propulsion import disc_loads, disc_map, planned_map, read_blades, rotor_loads
from dravik.propulsion.engines import PropellerEngine
from dravik.propulsion.mixing import effectiveness, make_up, shares
from dravik.tables import Axis, Table, read_table
from dravik.trimming import settle
from tests.support import DEG, craft, piston_aircraft
from tests.test_propulsion import real

MERLE = sample("merle")
HERE = {"position": [0, 0, 0]}
STILL = {"velocity": (0.0, 0.0, 0.0)}


def flown(body: Aircraft, duration: float, dt: float = 0.005, **state: Any) -> Any:
    """Fly a body from a state and inputs (``inputs`` by name)."""
    u = body.default_inputs()
    for name, value in state.pop("inputs", {}).items():
        u[body.input_index(name)] = value
    controls = state.pop("controls", {})
    start = Start(body.state(**{**STILL, "position": (0.0, 0.0, 1000.0), **state}), u)
    return fly(body, start=start, duration=duration, dt=dt, controls=controls)


def turboprop(**governor: Any) -> Aircraft:
    """Return a body with one governed propeller on a turbine of 600 kW."""
    tables = disc_map(real(), [*np.linspace(0.0, 3.0, 31), 4, 6, 10, 20, 40], 0.02, np.arange(10, 86, 5) * DEG)
    return craft(
        loading={"mass": 3000.0, "Ixx": 5000.0, "Iyy": 9000.0, "Izz": 12000.0},
        environment={"gravity": 0.0},
        propellers={"three": {"map": "", "diameter": 2.8, "inertia": 12.0, "rated_speed": "150 rad/s", "stopped_drag": 0.05}},
        drives={"turbine": {"kind": "turbine", "shaft_power": "600000*power_one", "fuel_flow": "0.05*power_one"}},
        engines={"one": {
            **HERE, "kind": "propeller", "propeller": "three", "drive": "turbine", "command": "throttle",
            "governor": {"speed": "150 rad/s", "fine": "12 deg", "coarse": "84 deg", "feather": "fail_one", **governor},
        }},
        inputs={"throttle": {"range": [0, 1]}},
        with_tables={f"{t.name}_three": t for t in tables},
    )  # fmt: skip


def electric(**drive: Any) -> Aircraft:
    """Return a body with a rotor that the air does not touch, on an electric drive."""
    nothing = Table("", (Axis("advance_ratio", np.array([0.0, 1.0])),), np.zeros(2))
    return craft(
        environment={"gravity": 0.0},
        propellers={"disc": {"map": "", "diameter": 1.0, "inertia": 0.02, "rated_speed": "100 rad/s"}},
        drives={"motor": {
            "kind": "electric", "battery": "main", "speed_constant": "20 rad/s/V", "resistance": 0.1, "current_limit": 50,
            **drive,
        }},
        batteries={"main": {
            "cells": 6, "charge": "5 A*h", "resistance": 0.02, "open_circuit": [[0, 3.0], [0.2, 3.6], [1, 4.2]],
            "cut_off": 18, "load": 5,
        }},
        engines={"one": {**HERE, "kind": "propeller", "propeller": "disc", "drive": "motor", "spin": "left"}},
        with_tables={"CT_disc": nothing, "CP_disc": nothing},
    )  # fmt: skip


class GyroscopeTest(unittest.TestCase):
    def test_spinning_up_a_rotor_turns_the_body_back(self) -> None:
        body = electric()
        run = flown(body, 2.0, inputs={"power_one_command": 0.8})
        self.assertGreater(run["speed_one"][-1], 250.0)
        self.assertGreater(run["p"][-1], 1.0)  # its body turns clockwise seen from behind


class ElectricTest(unittest.TestCase):
    def test_limits_and_the_rotors_energy(self) -> None:
        for limit, throttle in ((50.0, 0.7), (4.0, 1.0)):
            run = flown(electric(current_limit=limit, idle_current=0.4), 3.0, inputs={"power_one_command": throttle})
            self.assertLessEqual(run["motor_current_one"].max(), limit)
            # what the shaft got is in the spinning rotor
            energy = 0.5 * 0.02 * run["speed_one"] ** 2
            gained = np.concatenate(
                [[0.0], np.cumsum(0.5 * (run["shaft_power_one"][1:] + run["shaft_power_one"][:-1]))]
            )
            np.testing.assert_allclose(energy - energy[0], 0.005 * gained, atol=1e-3 * energy[-1])

    def test_duty_is_what_the_motor_sees_when_no_limit_acts(self) -> None:
        run = flown(
            MERLE, 1.0, inputs={"throttle": 0.35}, functions={f"speed_{n}": 500.0 for n in MERLE.definition.engines}
        )
        for name in ("one", "four"):
            seen = run[f"back_voltage_{name}"] + 0.081 * run[f"motor_current_{name}"]
            np.testing.assert_allclose(seen, run[f"duty_{name}"] * run["voltage_main"], rtol=1e-9)

    def test_charge_energy_and_the_empty_battery(self) -> None:
        body = electric(idle_current=40.0)
        run = flown(body, 700.0, dt=0.02, inputs={"power_one_command": 1.0})
        left = run["charge_main"] > 0.0
        drawn = np.trapezoid(run["current_main"][left], run.time[left])
        self.assertAlmostEqual((1.0 - run["charge_main"][left][-1]) * 18000.0 / drawn, 1.0, places=6)
        taken = np.trapezoid((run["open_voltage_main"] * run["current_main"])[left], run.time[left])
        self.assertAlmostEqual((run["energy_left_main"][0] - run["energy_left_main"][-1]) / taken, 1.0, places=3)
        words = [e.text for e in run.events]
        self.assertEqual(words, ["battery main is below 18 V", "battery main is empty"])
        self.assertEqual(run["motor_current_one"][-1], 0.0)


class ShaftTest(unittest.TestCase):
    def test_the_governor_holds_its_speed(self) -> None:
        body = turboprop()
        for speed in (40.0, 110.0):
            run = flown(
                body, 40.0, velocity=(speed, 0, 0), inputs={"throttle": 0.6}, controls={"throttle": step("0.3", at=20)}
            )
            settled = np.r_[1500:4000, 4400:8000]
            self.assertTrue(np.all(np.abs(run["speed_one"][settled] / 150.0 - 1.0) < 0.01))
            self.assertGreater(run["blade_angle_one"][-1], run["blade_angle_one"][3999])
            power = run["propeller_torque_one"] * run["speed_one"]
            self.assertAlmostEqual(power[-1] / 540e3, 1.0, delta=0.01)
            self.assertAlmostEqual(run["fuel_flow"][-1], 0.045, places=6)

    def test_a_governor_comes_to_rest_without_ringing(self) -> None:
        # blades of ever greater authority over the shaft: damping at least 0.7 by the lead of half the lag
        body = turboprop()
        inputs = body.default_inputs()
        inputs[body.input_index("throttle")] = 0.6
        for speed in (10.0, 60.0, 110.0):
            state = settle(body, body.state(position=(0, 0, 1000), velocity=(speed, 0, 0)), inputs)
            plant = body.plant("body")
            model = linearise_plant(plant, plant.from_state(state, inputs), inputs)
            shaft = model.part(states=[n for n in model.states if n.startswith(("speed_", "blade_"))], outputs=[])
            self.assertTrue(all(m.damping > 0.69 or not m.is_oscillatory for m in shaft.modes()), speed)

    def test_a_piston_engine_idles(self) -> None:
        light = craft(**piston_aircraft())
        rpm = 30.0 / math.pi
        points = engine_points(light, airspeeds=[0.0, 20.0, 60.0], throttles=[0.0])
        self.assertEqual([p.reason for p in points], ["", "", ""])
        standing, _, gliding = points
        self.assertTrue(600 < standing.speeds["one"] * rpm < 950)
        self.assertGreater(standing.thrust, 50.0)
        self.assertLess(gliding.thrust, 0.0)  # the air turns it: it brakes
        self.assertTrue(1.0 < standing.fuel_flow * 3600 < 5.0)  # kg/h
        glide = trim(light, airspeed=40.0, altitude=1000.0, flight_path=None, inputs={"throttle": 0.0})
        self.assertTrue(-6.0 < glide["climb_rate"] < -2.0)

    def test_a_failed_engine_windmills_or_feathers(self) -> None:
        ends = {}
        for name, governor in (("feathered", {}), ("windmilling", {"feather": 0, "coarse": "24 deg"})):
            run = flown(turboprop(**governor), 40.0, velocity=(80.0, 0, 0), inputs={"throttle": 0.6},
                        controls={"fail_one": step("1", at=5)})  # fmt: skip
            self.assertGreater(run["shaft_power_one"][900], 300e3)
            ends[name] = {n: float(run[n][-1]) for n in ("speed_one", "thrust_one", "shaft_torque_one", "airspeed")}
            self.assertEqual(ends[name]["shaft_torque_one"], 0.0)
            self.assertLess(ends[name]["thrust_one"], 0.0)
        self.assertLess(ends["feathered"]["speed_one"], 40.0)
        self.assertGreater(ends["windmilling"]["speed_one"], 130.0)
        self.assertLess(-ends["feathered"]["thrust_one"] / (0.5 * 1.112 * ends["feathered"]["airspeed"] ** 2), 0.12)

    def test_piston_torque_follows_the_air(self) -> None:
        plain = {"kind": "piston", "rated_power": "150 kW", "rated_speed": "250 rad/s", "consumption": "0.3 kg/kW/h"}
        base = turboprop()
        tables = dict(base.tables)
        for height, ceiling, share in ((0.0, 0.0, 1.0), (5000.0, 0.0, -1.0),
                                       (3000.0, 3500.0, 1.0)):  # fmt: skip
            body = craft(
                propellers={"three": base.definition.propellers["three"]},
                drives={"piston": {**plain, "critical_altitude": ceiling, "friction": 0.0}},
                engines={"one": {**HERE, "kind": "propeller", "propeller": "three", "drive": "piston", "command": 1.0,
                                 "governor": {"speed": "250 rad/s", "fine": "12 deg", "coarse": "40 deg"}}},
                with_tables=tables,
            )  # fmt: skip
            state = body.state(position=(0, 0, height), velocity=(50, 0, 0), functions={"speed_one": 250.0})
            found = body.values(state, body.default_inputs())
            wanted = share if share > 0.0 else 1.1325 * found["density"] / 1.225 - 0.1325
            self.assertAlmostEqual(found["shaft_power_one"] / 150e3, wanted, places=4)
            self.assertAlmostEqual(found["fuel_flow_one"], 0.3 / 3.6e6 * found["shaft_power_one"], places=9)

    def test_flow_at_the_hub_and_loads_by_it(self) -> None:
        # a propeller at incidence: force against the cross flow, and a right-handed one turns the nose left
        pika = sample("pika")
        state = pika.state(position=(0, 0, 500), velocity=(14.0, 0.0, 3.0), functions={"speed_motor": 500.0})
        found = pika.values(state, pika.default_inputs())
        # across the thrust: y right, and z or its negative
        self.assertAlmostEqual(found["axial_speed_motor"], 14.0 * 0.99939 + 3.0 * 0.0349, places=3)
        self.assertAlmostEqual(abs(found["cross_speed_2_motor"]), 3.0 * 0.99939 - 14.0 * 0.0349, places=3)
        self.assertAlmostEqual(found["cross_speed_1_motor"], 0.0)
        self.assertLess(found["in_plane_force_2_motor"] * found["cross_speed_2_motor"], 0.0)
        self.assertLess(found["hub_moment_2_motor"] * found["cross_speed_2_motor"], 0.0)
        still = MERLE.values(MERLE.state(velocity=(0, 0, 0), rates=(1.0, 0, 0)), MERLE.default_inputs())
        # rolling right, the right-hand rotors sink
        self.assertAlmostEqual(still["axial_speed_two"], -0.35, places=3)
        self.assertAlmostEqual(still["axial_speed_five"], 0.35, places=3)

    def test_a_state_is_found_by_a_trim_and_an_integral_left(self) -> None:
        point = trim(MERLE, airspeed=0, altitude="300 m")
        self.assertAlmostEqual(point["mass"] * 9.80665 / point["thrust"], 1.0, places=9)
        self.assertGreater(point["speed_one"], 450.0)
        self.assertEqual(list(point.drifting), ["charge_main_integral"])
        modes = {m.name for m in linearise(MERLE, point).modes()}
        self.assertTrue({"roll", "pitch", "yaw", "heave", "surge", "sway"} <= modes, modes)
        self.assertTrue(prove_trim(point, duration=10).holds)  # a battery that drains holds nobody to the limits
        self.assertIn("rpm_one", [r[0] for r in point.rows()])
        climbing = trim(MERLE, airspeed="2 m/s", altitude="300 m", flight_path="90 deg")
        self.assertAlmostEqual(climbing["climb_rate"], 2.0, places=9)
        self.assertGreater(climbing["electric_power"], point["electric_power"])
        windy = trim(MERLE, airspeed=0, altitude="300 m", inputs={"wind_north": 5.0})
        self.assertAlmostEqual(windy["ground_speed"], 5.0, places=9)
        self.assertAlmostEqual(windy["throttle"], point["throttle"], places=9)


class MixerTest(unittest.TestCase):
    rotors = tuple(e for e in MERLE.definition.engines.values() if isinstance(e, PropellerEngine))

    def test_each_demand_moves_one_axis(self) -> None:
        matrix = effectiveness(self.rotors, 0.0155)
        given = matrix @ shares(matrix)
        np.testing.assert_allclose(given - np.diag(np.diag(given)), 0.0, atol=1e-12)
        self.assertTrue(np.all(np.diag(given) > 0.0))
        directions, weights = make_up(matrix)
        for lost in range(6):
            change = -weights[lost] * directions @ directions[lost]
            np.testing.assert_allclose(matrix @ change, 0.0, atol=1e-12)
            self.assertAlmostEqual(change[lost], -1.0)

    def test_signs_in_the_air(self) -> None:
        for demand, rate in (("roll_trim", "p"), ("pitch_trim", "q"), ("yaw_trim", "r")):
            run, plain = (flown(MERLE, 0.3, inputs={"throttle": 0.3, demand: d}) for d in (0.05, 0.0))
            rates = {n: run[n][-1] - plain[n][-1] for n in "pqr"}
            self.assertGreater(rates[rate], 0.0, demand)
            others = [abs(v) for n, v in rates.items() if n != rate]
            self.assertLess(max(others), 0.35 * rates[rate], demand)

    def test_what_does_not_fit_is_given_up_in_order(self) -> None:
        def shared(**inputs: float) -> dict[str, float]:
            u = MERLE.default_inputs()
            for name, value in inputs.items():
                u[MERLE.input_index(name)] = value
            return MERLE.values(MERLE.state(velocity=(0, 0, 0)), u)

        full = shared(throttle=0.95, roll_trim=0.2, yaw_trim=0.3)
        self.assertAlmostEqual(full["lift_kept"], 1.0)
        self.assertAlmostEqual(full["lift_turn"], 0.0)  # yaw goes first
        self.assertLess(full["lift_lift"], 0.95)  # then collective, for roll's sake
        self.assertAlmostEqual(max(full[f"mix_thrust_{n}"] for n in MERLE.definition.engines), 1.0)
        room = shared(throttle=0.5, roll_trim=0.2, yaw_trim=0.1)
        self.assertAlmostEqual(room["lift_turn"], 0.1)
        self.assertAlmostEqual(room["lift_lift"], 0.5)

    def test_one_rotor_out(self) -> None:
        point = trim(MERLE, airspeed=0, altitude="300 m")
        for name in ("one", "two", "three", "four"):
            run = fly(MERLE, start=point, duration=15, dt=0.005, controls={f"fail_{name}": step("1", at=1)})
            self.assertLess(max(abs(run["phi"]).max(), abs(run["theta"]).max()), 25 * DEG, name)
            self.assertLess(max(abs(run["phi"][-1]), abs(run["theta"][-1]), abs(run["r"][-1])), 2 * DEG, name)
            self.assertLess(run[f"speed_{name}"][-1], 1.0)
            held = trim(MERLE, airspeed=0, altitude="300 m", inputs={f"fail_{name}": 1.0})
            self.assertAlmostEqual(held["thrust"], point["thrust"], places=6)
        self.assertFalse(trim(MERLE, airspeed=0, altitude=300, inputs={"fail_five": 1}, strict=False).reached)


class RocketTest(unittest.TestCase):
    thrust, burning, propellant, dry = 800.0, 2.0, 3.0, 7.0

    def rocket(self, gravity: float) -> Aircraft:
        radius, length = 0.04, 0.6
        volume = math.pi * (radius**2 - 0.01**2) * length
        times = np.array([0.0, self.burning - 0.01, self.burning + 0.01])
        curve = Table("curve", (Axis("time", times, "s"),), np.array([self.thrust, self.thrust, 0.0]))
        return craft(
            loadings={"only": {"groups": ["empty"], "tanks": {"grain": "full"}, "flowing": ["grain"]}},
            parts={"dry": {"mass": self.dry, "position": [0, 0, 0], "shape": "cylinder", "radius": 0.05, "length": 1.5}},
            tanks={"grain": {
                "shape": "grain", "position": [0, 0, 0], "radius": radius, "bore": 0.01, "length": length,
                "density": self.propellant / volume,
            }},
            engines={"motor": {"kind": "solid_motor", "position": [0.8, 0, 0], "thrust_curve": "", "grain": "grain",
                               "command": 1}},
            environment={"gravity": gravity}, rail={"length": 3.0}, with_tables={"thrust_curve_motor": curve},
        )  # fmt: skip

    def test_the_rail_guides_and_is_felt(self) -> None:
        gravity = 9.80665
        body = self.rocket(gravity)
        run = fly(body, start=on_rail(body, elevation="90 deg"), duration=3, dt=0.005)
        self.assertEqual([e.text for e in run.events][:2], ["leaves the rail", "motor burns out"])
        self.assertAlmostEqual(run["nx"][10] * gravity, self.thrust / run["mass"][10], places=9)
        held = fly(body, start=on_rail(body, elevation="60 deg", inputs={"fail_motor": 1.0}), duration=3, dt=0.005)
        self.assertEqual(float(np.abs(held["u"]).max()), 0.0)  # it does not slide back

    def test_grain_against_an_integration(self) -> None:
        body = self.rocket(0.0)
        run = flown(body, 1.0)
        left = float(run["tank_grain"][-1])
        self.assertAlmostEqual(left, self.propellant / 2, places=6)
        outer, bore = 0.04, math.sqrt(0.04**2 - (0.04**2 - 0.01**2) * 0.5)
        rings = np.linspace(bore, outer, 20001)
        middle = 0.5 * (rings[1:] + rings[:-1])
        masses = np.diff(rings**2) / (outer**2 - bore**2) * left
        own = float(np.sum(masses * middle**2))
        empty = body.with_loading("only").definition.parts["dry"].properties()[0].tensor[0, 0]
        self.assertAlmostEqual(run["Ixx"][-1], own + empty, places=7)

    def test_hail(self) -> None:
        hail = sample("hail")
        run = fly(
            hail, start=on_rail(hail, elevation="85 deg", inputs={"ignition": 1.0, "wind_north": -5.0}), duration=80
        )
        words = [e.text for e in run.events]
        self.assertEqual(words, ["leaves the rail", "motor burns out", "apogee"])
        off = int(np.argmax(run["on_rail"] == 0))
        self.assertGreater(run["u"][off], 30.0)
        self.assertGreater(run["margin"][off + 20 :].min(), 1.2)
        self.assertLess(run["north"][200], 8.0 + run["altitude"][200] * math.tan(5 * DEG) * 3)
        # a stable rocket turns into the wind, which comes from ahead
        self.assertLess(run["theta"][400], 84 * DEG)
        with self.assertRaisesRegex(DravikError, "Tarn has no launch rail"):
            on_rail(sample("tarn"), elevation="85 deg")


class DiscTest(unittest.TestCase):
    def test_axial_flow_agrees_with_the_annular_theory_and_hover_with_momentum(self) -> None:
        rotor = read_blades(sample_path("merle") / "propulsion" / "blades.toml")
        for speed in (0.0, 5.0, 10.0):
            whole = disc_loads(rotor, axial=speed, cross=0.0, rotation=520.0, angle=9 * DEG)
            fine = rotor_loads(rotor, speed=speed, rotation=520.0, angle=9 * DEG)
            self.assertAlmostEqual(float(whole.thrust) / float(fine.thrust), 1.0, delta=0.06)
            self.assertAlmostEqual(float(whole.torque) / float(fine.torque), 1.0, delta=0.06)
        hover = disc_loads(rotor, axial=0.0, cross=0.0, rotation=520.0, angle=9 * DEG)
        ideal = float(hover.thrust) ** 1.5 / math.sqrt(2 * 1.225 * math.pi * rotor.radius**2)
        self.assertTrue(0.6 < ideal / (float(hover.torque) * 520.0) < 0.8)
        # H. Glauert, R&M 1111: far forward the induced velocity tends to T/(2 rho A V)
        fast = disc_loads(rotor, axial=0.0, cross=30.0, rotation=520.0, angle=9 * DEG)
        far = float(fast.thrust) / (2 * 1.225 * math.pi * rotor.radius**2 * 30.0)
        self.assertAlmostEqual(float(fast.inflow) / far, 1.0, delta=0.15)
        self.assertTrue(float(fast.in_plane) > 0 and float(fast.hub_moment) > 0)
        sinking = disc_loads(rotor, axial=[-3.0, 0.0, 3.0], cross=0.0, rotation=520.0, angle=9 * DEG)
        self.assertTrue(np.all(np.diff(sinking.thrust) < 0.0))

    def test_samples_maps_are_those_of_their_blades(self) -> None:
        for name, file in (("merle", "rotor.csv"), ("pika", "propeller.csv")):
            folder = sample_path(name) / "propulsion"
            for table in planned_map(read_blades(folder / "blades.toml")):
                over = [a.name for a in table.axes]
                kept = read_table(folder / file, column=table.name, over=over)
                np.testing.assert_allclose(kept.values, table.values, atol=1e-5)


class SampleTest(unittest.TestCase):
    def test_every_sample_passes_its_audit_and_stands_by_its_drawing(self) -> None:
        for name in sample_names():
            for loading in sample(name).definition.loadings:
                self.assertEqual([f for f in audit(sample(name, loading=loading)) if f.severity != "note"], [], name)
            drawing = sample_path(name) / "geometry.toml"
            if drawing.exists():
                written = json.loads((drawing.parent / "aero" / "provenance.json").read_text(encoding="utf-8"))
                self.assertEqual(
                    written["hash"], drawing_hash(read_geometry(drawing)), f"build the tables of {name} anew"
                )

    def test_pika_climbs_until_the_battery_sags(self) -> None:
        pika = sample("pika")
        point = trim(pika, airspeed="15 m/s", altitude="300 m", flight_path=None, inputs={"throttle": 1})
        self.assertGreater(point["climb_rate"], 3.0)
        self.assertAlmostEqual(point["motor_current_motor"], 40.0)
        run = fly(pika, start=point, duration=1500, dt=0.02, record=["altitude", "voltage_main", "charge_main", "phi"],
                  record_every=50)  # fmt: skip
        sag = next(e.time for e in run.events if e.text == "battery main is below 12.4 V")
        self.assertTrue(300.0 < sag < 1500.0)
        at = int(sag)
        self.assertGreater(run["altitude"][at] - 300.0, 1000.0)
        level = [trim(pika, airspeed=v, altitude="300 m")["electric_power"] for v in (13.0, 16.0, 22.0)]
        self.assertTrue(level[0] < level[1] < level[2])

    def test_tarn_drops_and_loses_an_engine(self) -> None:
        tarn = sample("tarn", loading="drop_run")
        point = trim(tarn, airspeed="60 m/s", altitude="400 m")
        run = fly(tarn, start=point, duration=8, controls={"drop_doors": step("1", at=1), "fail_left": step("1", at=6)})
        self.assertLess(run["tank_water"][-1], 1.0)
        late, before = run["thrust_left"][-1], run["thrust_left"][500]
        self.assertTrue(late < 0.0 < before)
        self.assertLess(run["r"][-1], -0.5 * DEG)  # it yaws to the dead engine
        held = trim(sample("tarn", loading="dropped"), airspeed="62 m/s", altitude="400 m", inputs={"fail_left": 1})
        self.assertTrue(held["rudder"] < -1 * DEG and held["throttle"] > point["throttle"] * 0.5)
        self.assertEqual(held["fuel_flow_left"], 0.0)

    def test_throttle_dither_keeps_the_shaft_near(self) -> None:
        pika = sample("pika")
        point = trim(pika, airspeed="15 m/s", altitude="300 m")
        run = fly(pika, start=point, duration=5, controls={"throttle": doublet("0.05", at=1, width=0.5)})
        self.assertTrue(5.0 < np.ptp(run["speed_motor"]) < 80.0)


class RefusalTest(unittest.TestCase):
    def edited(self, folder: str, old: str, new: str, file: str = "aircraft.toml") -> str:
        import shutil

        home = Path(folder) / "craft"
        shutil.copytree(sample_path("merle" if "hail" not in folder else "hail"), home, dirs_exist_ok=True)
        text = (home / file).read_text()
        self.assertIn(old, text)
        (home / file).write_text(text.replace(old, new, 1))
        with self.assertRaises(DravikError) as caught:
            load(home)
        return str(caught.exception)

    def test_merle(self) -> None:
        for old, new, words in (
            ('kind = "propeller"', 'kind = "propellr"', "engines.one"),
            ('propeller = "rotor"', 'propeller = "rotr"', "did you mean rotor"),
            ('drive = "motor"', 'drive = "moter"', "there is no drive 'moter'"),
            ('battery = "main"', 'battery = "mian"', "there is no battery 'mian'"),
            ('mass = "820 g"', 'mass = "-820 g"', "parts.frame.mass"),
            ("[0, 3.00], [0.03", "[0, 3.00], [0.00", "do not rise from 0 to 1"),
            ('"five", "six"]', '"five", "seven"]', "there is no rotor 'seven'"),
            ('speed_constant = "390 rpm/V"', 'speed_constnt = "390 rpm/V"', "did you mean speed_constant"),
            ('speed_constant = "390 rpm/V"', 'speed_constant = "390 V"', "drives.motor.speed_constant"),
        ):
            with self.subTest(new), tempfile.TemporaryDirectory() as folder:
                self.assertIn(words, self.edited(folder, old, new))

    def test_maps_and_curves(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            text = (sample_path("merle") / "propulsion" / "rotor.csv").read_text().splitlines()
            said = self.edited(folder, text[20], "", "propulsion/rotor.csv")
            self.assertRegex(said, r"aircraft.toml:\d+: propellers.rotor.map: .*rotor.csv.*(missing|no row|hole)")
        for new, words in (
            ("1.2,2700\n0.9,2700", "motor.csv:7: the thrust curve goes back in time, from 1.2 s to 0.9 s"),
            ("1.2,-2700", "the thrust falls to -2700 N"),
        ):
            with self.subTest(new), tempfile.TemporaryDirectory(suffix="hail") as folder:
                self.assertIn(words, self.edited(folder, "1.2,2700", new, "propulsion/motor.csv"))
        with tempfile.TemporaryDirectory(suffix="hail") as folder:
            said = self.edited(folder, 'tanks = { grain = "full" }', 'tanks = { grain = "5 kg" }')
            self.assertIn("cannot hold 5 kg; expected at most the 4.19044 kg that it holds", said)

    def test_an_unknown_engine_in_a_failure(self) -> None:
        with self.assertRaisesRegex(DravikError, "there is no engine 'lfet'; expected one of left, right"):
            trim(sample("tarn"), airspeed=62, altitude=300, inputs={"fail_lfet": 1})


if __name__ == "__main__":
    unittest.main()
