"""What can be said beside finished aerodynamics: added drag, wheels that retract, a gyroscope, air, starts, laws."""

import math
from pathlib import Path

import dravik as dv

folder = Path("swift")
folder.mkdir(exist_ok=True)
(folder / "aircraft.toml").write_text(
    """
format = 1
name = "Swift"

[reference]
area = "16 m^2"
chord = "1.5 m"
span = "11 m"
moment_point = ["2.4 m", "0 m", "0 m"]

[aero]                                       # a colleague's, with rates about the stability axes
axes = "stability"
CL = "0.3 + 4.9*alpha + 0.4*elevator"
CD = "0.026 + 0.05*(0.3 + 4.9*alpha)**2"
CY = "-0.4*beta"
Cl = "-0.08*beta - 0.45*p_hat_stability + 0.1*r_hat_stability + 0.15*aileron"
Cm = "0.05 - 0.8*alpha - 12*q_hat - 1.2*elevator"
Cn = "0.08*beta - 0.1*r_hat_stability - 0.07*rudder"

[increments.wheels]                          # ours, added to it
CD = { formula = "0.018*wheels_out", description = "wheels in the stream" }
Cm = "-0.008*wheels_out"

[parts.hull]
mass = "900 kg"
position = ["2.38 m", "0 m", "0 m"]
shape = "box"
size = ["6 m", "1.2 m", "1.2 m"]

[parts.wheels]
mass = "25 kg"
position = ["2.7 m", "1.1 m", "-1.1 m"]
mirrored = true
moved_to = ["2.3 m", "1.1 m", "-0.2 m"]
moved = "1 - wheels_out"

[loadings.only]
groups = ["empty"]

[spinning.gyroscope]
momentum = "12*running"
axis = [0, 0, 1]

[gear.right]
position = ["2.7 m", "1.1 m", "-1.3 m"]
up = ["2.3 m", "1.1 m", "-0.3 m"]
extended = "wheels_out"
stiffness = "60 kN/m"
damping = "6 kN*s/m"
stroke = "0.3 m"
tyre = "90 kN/m"

[inputs]
wheels_out = { range = [0, 1], default = 1 }
running = { range = [0, 1] }
turn_demand = { kind = "angular rate", range = ["-6 deg/s", "6 deg/s"] }
stick = { range = [-1, 1], trim = true }
throttle = { range = [0, 1], trim = true }

[controls]
elevator = { range = ["-25 deg", "20 deg"], command = "-20*deg*stick" }
aileron = { range = ["-20 deg", "20 deg"], command = "0.8*(turn_demand - r)" }
rudder = { range = ["-25 deg", "25 deg"], trim = true }

[engines.nose]
position = ["0.4 m", "0 m", "0 m"]
thrust = "3200*power_nose"
command = "throttle"

[environment.air]                            # a hot valley, measured
temperature = "308 - 0.0075*altitude"
pressure = "95000*exp(-altitude/8900)"

[starts.banked]
kind = "trimmed"
airspeed = "55 m/s"
altitude = "800 m"
offsets = { phi = "15 deg", r = "2 deg/s" }
""",
    encoding="utf-8",
)
(folder / "trimmer.toml").write_text(
    """
format = 1
name = "trimmer"
[formulas]
needed = { formula = "integral(0.3*(0.04 - theta))" }
[add]
stick = "needed"                             # a law may move the pilot's stick
""",
    encoding="utf-8",
)
swift = dv.load(folder)
clean, dirty = (dv.trim(swift, airspeed="55 m/s", altitude="800 m", inputs={"wheels_out": out}) for out in (0.0, 1.0))
print(f"thrust {clean['thrust']:.0f} N, with the wheels out {dirty['thrust']:.0f} N")
print(f"they move the centre of gravity by {1000 * (dirty['cg_x'] - clean['cg_x']):.0f} mm")
print(f"the air is {dirty['temperature'] - 273.15:.1f} deg C, Mach {dirty['mach']:.4f}")
begun = dv.start(swift, "banked")
run = dv.fly(
    swift, start=begun, duration="5 s", controls={"turn_demand": dv.step("1 deg/s", at=1)}, record_every="50 ms"
)
print(f"banked {math.degrees(run['phi'][0]):.1f} deg at the start, {math.degrees(run['phi'][-1]):.1f} after 5 s")
held = swift.with_law(*dv.load_law(folder / "trimmer.toml"))
flown = dv.fly(held, start=dv.trim(held, airspeed="55 m/s", altitude="800 m"), duration=20)
print(f"theta {flown['theta'][-1]:.3f} rad where the law asks for 0.040")
run.save("swift.npz")
