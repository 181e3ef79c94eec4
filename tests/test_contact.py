"""Contact with the ground: rest, drops, braking and steering against closed forms."""

import math
import unittest
from typing import Any

import numpy as np

from dravik import fly, sample, step
from dravik.aircraft import Aircraft
from dravik.errors import DravikError
from dravik.flight import Start
from dravik.trimming import on_ground
from tests.support import DEG, craft

G = 9.80665
MAIN = {"stiffness": 120e3, "damping": 9e3, "stroke": "0.35 m", "tyre": 150e3, "brake": "brake"}
NOSE = {**MAIN, "stiffness": 60e3, "damping": 5e3, "steering": "steer", "position": [-4, 0, -1.5]}


def body(**more: Any) -> Aircraft:
    """Return a body of 6 t on a nose wheel and two main wheels."""
    gear = {"nose": NOSE, "left": {**MAIN, "position": [0.8, -2, -1.6]}, "right": {**MAIN, "position": [0.8, 2, -1.6]}}
    return craft(
        loading={"mass": 6000.0, "Ixx": 9e3, "Iyy": 2e4, "Izz": 2.6e4},
        reference={"area": 20, "chord": 2, "span": 10, "moment_point": [0, 0, 0]},
        inputs={"brake": {"range": [0, 1]}, "steer": {"kind": "angle", "range": ["-40 deg", "40 deg"]}},
        **{"gear": gear, **more, "environment": {"ground": 0.0, **more.get("environment", {})}},
    )


BODY = body()
REST = on_ground(BODY)


def rolling(speed: float) -> Start:
    """Return the body at rest on its gear but for a speed along the ground."""
    theta = BODY.values(REST.state, REST.inputs)["theta"]
    return moved(REST, u=speed * math.cos(theta), w=speed * math.sin(theta))


def moved(start: Start, **states: float) -> Start:
    x = start.state.copy()
    for name, value in states.items():
        x[BODY.state_names.index(name)] += value
    return Start(x, start.inputs)


class ContactTest(unittest.TestCase):
    def test_rest_carries_the_weight_and_does_not_move(self) -> None:
        at = BODY.values(REST.state, REST.inputs)
        loads = {n: at[f"normal_{n}"] for n in ("nose", "left", "right")}
        self.assertAlmostEqual(sum(loads.values()) / (6000 * G), 1.0, places=9)
        ahead, behind = (x * math.cos(at["theta"]) + z * math.sin(at["theta"]) for x, z in ((4.0, 1.5), (-0.8, 1.6)))
        self.assertAlmostEqual(
            loads["nose"] / (6000 * G * behind / (behind - ahead)), 1.0, places=6
        )  # the throttle's law
        self.assertAlmostEqual(loads["left"], loads["right"], places=6)
        for dt in (0.001, 0.01, 0.02):
            run = fly(BODY, start=REST, duration=5.0 if dt < 0.01 else 60.0, dt=dt)
            for name in ("north", "east", "altitude", "theta", "phi", "psi"):
                self.assertLess(float(np.ptp(run[name])), 1e-9, name)
        leaning = body(environment={"gravity": G}, engines={"push": {"position": [0, 0, 0], "thrust": 500.0}})
        held = fly(leaning, start=Start(REST.state, on_ground(leaning).inputs), duration=30)
        self.assertLess(float(np.ptp(held["north"][1000:])), 1e-6)  # rolling friction holds 1.2 kN

    def test_a_drop_loses_energy_all_the_way(self) -> None:
        ends = []
        for dt in (0.001, 0.005, 0.02):
            run = fly(BODY, start=moved(REST, altitude=0.3), duration=8, dt=dt)
            kinetic = 3000.0 * (run["u"] ** 2 + run["v"] ** 2 + run["w"] ** 2) + 1e4 * run["q"] ** 2
            springs = sum(
                0.5 * k * run[f"pressed_{n}"] ** 2 for n, k in (("nose", 60e3), ("left", 120e3), ("right", 120e3))
            )
            tyres = sum(75e3 * (run[f"bristle_{n}"] ** 2 + run[f"tyre_{n}"] ** 2) for n in ("nose", "left", "right"))
            total = kinetic + 6000.0 * G * run["altitude"] + springs + tyres
            self.assertLess(float(np.max(np.diff(total))), 2e-4 * (total[0] - total[-1]) if dt < 0.01 else 400.0)
            pressed = 0.5 * sum(
                k * run[f"pressed_{n}"][-1] ** 2 for n, k in (("nose", 60e3), ("left", 120e3), ("right", 120e3))
            )
            self.assertAlmostEqual((total[0] - total[-1]) / (6000.0 * G * 0.3 - pressed), 1.0, places=3)
            ends.append(float(run["altitude"].min()))
        self.assertLess(np.ptp(ends), 2e-3)

    def test_stopping_distance_against_the_closed_form(self) -> None:
        for dt in (0.001, 0.01, 0.02):
            run = fly(BODY, start=rolling(40.0), duration=16, dt=dt, controls={"brake": step(1.0, at=0)})
            # all wheels braked: mu g, once the bristles have bent (a few milliseconds), whatever each carries
            self.assertAlmostEqual(float(run["north"][-1]) / (40.0**2 / (2 * 0.7 * G)), 1.0, delta=0.006)
            self.assertLess(float(np.abs(run["u"][-1])), 1e-3)
            self.assertLess(float(np.abs(run["psi"]).max()), 1e-9)
        coasting = fly(BODY, start=rolling(5.0), duration=20)
        slowing = (coasting["u"][500] - coasting["u"][1500]) / 10.0
        self.assertAlmostEqual(slowing / (0.02 * G), 1.0, delta=0.01)

    def test_steering_and_side_force(self) -> None:
        for speed in (2.0, 4.0):
            run = fly(BODY, start=rolling(speed), duration=4, controls={"steer": step("3 deg", at=0.5)})
            # the bicycle with cornering stiffness tyre times relaxation length: r = V delta/(L + K V^2/g)
            gradient = 6000 * G * (0.8 / 4.8 / 90e3 - 4.0 / 4.8 / 180e3)
            now = float(run["u"][-1])
            turning = now * math.tan(3 * DEG) / (4.8 + gradient * now**2 / G)
            self.assertAlmostEqual(float(run["r"][-1]) / turning, 1.0, delta=0.02)
        self.assertLess(float(run["phi"][-1]), 0.0)  # it leans outwards
        pushed = fly(BODY, start=moved(REST, v=8.0), duration=12)
        self.assertLess(abs(float(pushed["v"][-1])), 1e-3)
        self.assertAlmostEqual(float(pushed["east"][-1]) / (64.0 / (2 * 0.7 * G)), 1.0, delta=0.15)
        # brakes leave little to hold a side wind with: it swings wider than one that rolls
        both = {}
        for brake in (0.0, 1.0):
            turned = fly(
                BODY,
                start=rolling(20.0),
                duration=1.5,
                controls={"steer": step("6 deg", at=0), "brake": step(brake, at=0)},
            )
            both[brake] = float(np.max(np.abs(turned["r"])))
        self.assertGreater(both[0.0], 3.0 * both[1.0])
        banked = fly(BODY, start=REST, duration=2, controls={"wind_east": step(0.0)})
        self.assertLess(float(np.abs(banked["east"]).max()), 1e-9)

    def test_a_skid_slides_by_its_friction_whatever_way_it_points(self) -> None:
        skids = {
            n: {**leg, "rolling": 0.4, "sliding": 0.4, "brake": 0.0, "steering": 0.0}
            for n, leg in BODY.definition.model_dump()["gear"].items()
        }
        sled = body(gear=skids)
        still = on_ground(sled)
        for u, v in ((12.0, 0.0), (0.0, 12.0)):
            run = fly(sled, start=moved(still, u=u, v=v), duration=12)
            self.assertLess(math.hypot(run["u"][-1], run["v"][-1]), 2e-3)
            gone = math.hypot(run["north"][-1], run["east"][-1])
            self.assertAlmostEqual(gone / (144.0 / (2 * 0.4 * G)), 1.0, delta=0.03)

    def test_slope_refusals_and_the_air(self) -> None:
        uphill = body(environment={"ground": "100 + 0.02*north"})
        start = on_ground(uphill)
        self.assertAlmostEqual(uphill.values(start.state, start.inputs)["ground_height"], 100.0)
        with self.assertRaisesRegex(DravikError, "Hail has no gear"):
            on_ground(sample("hail"))
        with self.assertRaisesRegex(DravikError, "does not stand on its gear"):
            on_ground(body(gear={"nose": NOSE, "other": {**NOSE, "position": [-3, 0, -1.5]}}))
        high = BODY.values(BODY.state(position=(0, 0, 500), velocity=(60, 0, 1)), BODY.default_inputs())
        self.assertEqual([high[f"normal_{n}"] for n in ("nose", "left", "right")], [0.0] * 3)
        self.assertEqual(high["ground_force_z_left"], 0.0)


if __name__ == "__main__":
    unittest.main()
