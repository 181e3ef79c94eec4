"""Cases of engines against something outside the code: registered like those of ``tests/reference.py``."""

import math
from collections.abc import Iterator

import numpy as np

from dravik.flight import fly, on_rail
from dravik.propulsion import GasTurbine, cycle
from tests.reference import Row, case
from tests.support import craft
from tests.test_engines import RocketTest, electric, flown


@case(
    "Gyroscopic precession of a spinning rotor on a free body",
    "closed forms: transverse rates turn at h/I on a body free of moments; a moment M across h turns it at M/h",
)
def _gyroscope() -> Iterator[Row]:
    spool = {"position": [0, 0, 0], "kind": "jet", "thrust": 0, "fuel_flow": 0, "command": 0.5, "spin_momentum": 8.0}
    body = {"loading": {"mass": 2.0, "Ixx": 1.0, "Iyy": 2.0, "Izz": 2.0}, "environment": {"gravity": 0.0}}
    run = flown(craft(**body, engines={"rotor": spool}), 3.0, rates=(0.0, 0.1, 0.0))
    turned = np.unwrap(np.arctan2(run["r"], run["q"]))
    yield Row("nutation with h = 4 N m s, I = 2 kg m^2 [rad/s]", 2.0, float(turned[-1] / run.time[-1]), 1e-8)
    size = float(np.hypot(run["q"], run["r"])[-1])
    yield Row("the transverse rate's size after 3 s [rad/s]", 0.1, size, 1e-10)
    push = {"position": [0, 0, 0], "direction": [0, 1, 0], "thrust": 0, "torque": 0.6}
    run = flown(craft(**body, engines={"rotor": spool, "push": push}), 5.0, rates=(0.0, 0.0, 0.15))
    yield Row("steady precession under 0.6 N m nose up, to the right [rad/s]", 0.15, float(run["r"][-1]), 1e-12)
    yield Row("and no pitching with it [rad/s]", 0.0, float(np.abs(run["q"]).max()), 1e-12)
    spun = flown(electric(), 2.0, inputs={"power_one_command": 0.8})
    momentum = 2.8 * spun["p"] - 0.02 * spun["speed_one"]
    yield Row("angular momentum kept while a rotor spins up [N m s]", float(momentum[0]), float(momentum[-1]), 1e-10)


@case("Rocket without drag", "K. E. Tsiolkovsky's equation; apogee by integrating thrust and weight in closed form")
def _rocket() -> Iterator[Row]:
    build = RocketTest()
    dry, ratio = build.dry, (build.dry + build.propellant) / build.dry
    exhaust = build.thrust * build.burning / build.propellant
    gain = exhaust * math.log(ratio)
    run = flown(build.rocket(0.0), 2.5)
    yield Row("speed at burn-out without gravity [m/s]", gain, float(run["u"][-1]), 1e-4)
    yield Row("mass at burn-out [kg]", dry, float(run["mass"][-1]), 1e-9)
    gravity = 9.80665
    body = build.rocket(gravity)
    run = fly(body, start=on_rail(body, elevation="90 deg"), duration=30, dt=0.005)
    speed = gain - gravity * build.burning
    height = exhaust * build.burning * (1 - math.log(ratio) / (ratio - 1)) - 0.5 * gravity * build.burning**2
    yield Row("apogee of a vertical flight [m]", height + speed**2 / (2 * gravity), float(run["altitude"].max()), 0.02)


@case("Gas turbine with ideal components", "Joule's cycle: efficiency 1 - pressure ratio^-(gamma - 1)/gamma")
def _turbine() -> Iterator[Row]:
    for ratio in (6.0, 12.0, 24.0):
        perfect = {"intake": 1, "compressor": 1, "combustor": 1, "combustor_pressure": 1, "turbine": 1, "nozzle": 1}
        design = GasTurbine.model_validate(
            {"output": "shaft", "rated": 1e6, "pressure_ratio": ratio, "turbine_temperature": 1500,
             "hot": (1005.0, 1.4), **perfect}
        )  # fmt: skip
        found = cycle(design, 0.0, 0.0, 1.0)
        heat = float(found.output / (found.fuel_flow * design.heat))
        yield Row(f"thermal efficiency at a pressure ratio of {ratio:g}", 1 - ratio ** (-0.4 / 1.4), heat, 1e-12)


@case(
    "Electric drive and battery",
    "conservation: open-circuit power = copper, idling and shaft power + other loads; shaft energy = the rotor's",
)
def _electric() -> Iterator[Row]:
    for limit, throttle in ((50.0, 0.7), (4.0, 1.0)):
        run = flown(electric(current_limit=limit, idle_current=0.4), 3.0, inputs={"power_one_command": throttle})
        current = run["current_main"]
        given = run["open_voltage_main"] * current
        copper = 0.02 * current**2 + 0.1 * run["motor_current_one"] ** 2
        spent = copper + 0.4 * run["back_voltage_one"] + run["shaft_power_one"] + 5.0
        worst = float(np.max(np.abs(spent / given - 1.0)))
        yield Row(
            f"power balance, current up to {limit:g} A, throttle {throttle:g}: largest difference", 0.0, worst, 1e-9
        )
