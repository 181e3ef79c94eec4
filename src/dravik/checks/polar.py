"""Checks of lift against drag: the best glide, and the span efficiency that the polar amounts to."""

import math
from collections.abc import Iterator

import numpy as np

from dravik.aircraft.craft import Aircraft
from dravik.checks.finding import Finding
from dravik.errors import DravikError

__all__ = ["check_polar"]

ALPHAS = np.radians(np.arange(-4.0, 15.0, 0.5))
GLIDE = (4.0, 60.0)  # best lift over drag: from blunt amphibians to sailplanes
EFFICIENCY = (0.5, 1.05)
LEAST_DRAG = (0.004, 0.12)


def check_polar(craft: Aircraft, airspeed: float, altitude: float) -> Iterator[Finding]:
    """Find a glide ratio, a drag without lift, or a span efficiency out of the usual; controls and engines at rest."""
    place = craft.where("aero")
    if not {"CL", "CD"} <= set(craft.signals):
        return
    u = craft.default_inputs()
    lift, drag = [], []
    for alpha in ALPHAS:
        velocity = (airspeed * math.cos(alpha), 0.0, airspeed * math.sin(alpha))
        try:
            found = craft.values(craft.state(position=(0.0, 0.0, altitude), velocity=velocity), u, ["CL", "CD"])
        except DravikError:
            return  # another check reports tables that end there
        lift.append(found["CL"])
        drag.append(found["CD"])
    cl, cd = np.array(lift), np.array(drag)
    if np.any(cd <= 0.0):
        at = math.degrees(ALPHAS[int(np.argmin(cd))])
        text = f"CD is {cd.min():.3g} at alpha {at:.3g} deg: the air pushes"
        yield Finding("error", place, text, "check the drag formula and the sign of its terms")
        return
    best = float(np.max(cl / cd))
    if not GLIDE[0] < best < GLIDE[1]:
        text = f"the best lift over drag is {best:.3g}"
        yield Finding(
            "warning", place, text, f"expected {GLIDE[0]:g} to {GLIDE[1]:g}: check CL and CD, and their units"
        )
    used = (cl > 0.1) & (cl < min(0.9, 0.8 * float(cl.max())))
    if np.count_nonzero(used) < 4:
        return
    rise, least = np.polyfit(cl[used] ** 2, cd[used], 1)
    aspect = craft.definition.reference.span**2 / craft.definition.reference.area
    efficiency = 1.0 / (math.pi * aspect * rise) if rise > 0.0 else math.inf
    if not EFFICIENCY[0] < efficiency < EFFICIENCY[1]:
        text = f"the polar means a span efficiency of {efficiency:.3g} (CD = {least:.4f} + {rise:.4f} CL^2)"
        what = f"expected {EFFICIENCY[0]:g} to {EFFICIENCY[1]:g}: check span, area and the induced drag"
        yield Finding("warning", place, text, what)
    if not LEAST_DRAG[0] < least < LEAST_DRAG[1]:
        text = f"the drag without lift is {least:.3g}"
        yield Finding("warning", place, text, f"expected {LEAST_DRAG[0]:g} to {LEAST_DRAG[1]:g}: check CD and the area")
