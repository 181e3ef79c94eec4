"""A loop broken at the elevator's command: its crossing and phase margin over a gain that is set, not compiled anew."""

import numpy as np

import dravik as dv
from dravik.aircraft import sample_path

craft = dv.sample("tarn").with_law(*dv.load_law(sample_path("tarn") / "laws" / "pitch_hold.toml"))
omega = np.geomspace(0.3, 30.0, 400)
for gain in (1.0, 2.0, 4.0):
    tuned = craft.with_parameters({"pitch_hold_gain": gain})
    point = dv.trim(tuned, airspeed="62 m/s", altitude="300 m")
    model = dv.linearise(tuned, point, cut=["elevator_command"])
    loop = model.part(inputs=["elevator_command_injected"], outputs=["elevator_command"])
    # what comes back is added to what is injected: the return difference is 1 - L
    answer = -loop.frequency_response(omega)[:, 0, 0]
    last = int(np.flatnonzero(np.abs(answer) > 1.0)[-1])
    margin = 180.0 + np.degrees(np.angle(answer[last]))
    print(f"gain {gain:.0f}: crosses at {omega[last]:.2f} rad/s with {margin:.0f} deg of phase margin")
