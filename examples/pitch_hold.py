"""Trim the Tarn, engage its pitch attitude hold from a file, and fly a step."""

import dravik as dv
from dravik.aircraft import sample_path

craft = dv.sample("tarn").with_law(*dv.load_law(sample_path("tarn") / "laws" / "pitch_hold.toml"))
point = dv.trim(craft, airspeed="62 m/s", altitude="300 m")
run = dv.fly(craft, start=point, duration=10, controls={"theta_command": dv.step("2 deg", at=1)})
print(run.frame[["time_s", "theta_deg", "theta_command_deg", "elevator_deg"]].iloc[::100])
