"""Trim and linear models for a two-line equation of motion that is no aircraft."""

import math

import numpy as np

import dravik as dv

swing = dv.plant(
    lambda t, x, u: [x[1], -9.81 * math.sin(x[0]) - 0.2 * x[1] + u[0]], states=["angle", "rate"], inputs=["torque"]
)
held = dv.trim_plant(swing, state={"angle": 0.5}, free=["torque"])
model = dv.linearise_plant(swing, held.state, held.inputs)
print("torque to hold half a radian:", held.inputs[0], "expected", 9.81 * math.sin(0.5))
print("roots:", np.linalg.eigvals(model.A))
