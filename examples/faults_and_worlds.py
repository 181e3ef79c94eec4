"""Fly one aircraft in a world of its own, whole and with an elevator that sticks, and compare the two flights."""

import dravik as dv
from dravik.aircraft import sample_path
from dravik.aircraft.description.faults import StuckControl
from dravik.report import figure_runs, save_figure

law = dv.load_law(sample_path("tarn") / "laws" / "pitch_hold.toml")
wind = {"speed": "6 m/s", "blows_from": "250 deg", "exponent": 0.15}
whole = dv.sample("tarn").with_law(*law).with_environment(earth="wgs84", latitude="46.6 deg", ground=480.0, wind=wind)
broken = whole.with_script({"elevator_sticks": StuckControl(kind="stuck", control="elevator", at="12 s")})
runs = [
    dv.fly(
        craft, start=dv.trim(craft, airspeed="62 m/s", altitude="900 m"), duration=40,
        controls={"theta_command": dv.step("3 deg", at=10)}, turbulence=dv.Turbulence("light", seed=5),
    )
    for craft in (whole, broken)
]  # fmt: skip
print(runs[1].frame[["time_s", "altitude_m", "theta_deg", "elevator_deg", "latitude_deg"]].iloc[::500])
print([f"{event.time:g} s: {event.text}" for event in runs[1].events])
save_figure(figure_runs(runs, ["theta", "elevator", "altitude"], ["whole", "stuck"]), "stuck.png")

# a shipped scenario, from another seed
scenario = dv.load_scenario("meadow_circuit")
run = scenario.fly(seed=11)
print(f"{scenario.definition.name}: {run.events[-1].text} after {run.time[-1]:.1f} s")
