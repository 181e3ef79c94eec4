"""Hover and low speed: small-amplitude attitude changes as in ADS-33E-PRF, 3.3.2.1."""

import math
from typing import Any

from dravik.errors import DravikError
from dravik.handling.attitude import bandwidth
from dravik.handling.criteria import NONE, Criterion
from dravik.handling.limits import along, boundaries
from dravik.handling.responses import attitude_channel, doubling, without_stability
from dravik.linear import LinearModel

__all__ = ["LOW_SPEED", "hover_criteria", "no_hover"]

LOW_SPEED = 23.0  # m/s: 45 knots, up to which the requirements for hover and low speed hold


def hover_criteria(model: LinearModel, sticks: dict[str, str]) -> tuple[list[Criterion], dict[str, Any]]:
    """Return bandwidth of pitch and roll attitude by the pilot's inputs (``sticks``: pitch and roll), and their charts.

    For other tasks than tracking, fully attended. The model has outputs theta and phi.
    """
    data, found, detail = boundaries("responses")["hover_bandwidth"], list[Criterion](), dict[str, Any]()
    for axis, output in (("pitch", "theta"), ("roll", "phi")):
        name = f"{axis}, bandwidth in hover"
        if axis not in sticks:
            note = f"no input moves {axis} alone: no level can be given"
            found.append(Criterion(name, data["paragraph"], float("nan"), "", NONE, judged=False, note=note))
            continue
        w, attitude = attitude_channel(model, output, sticks[axis])
        try:
            own = bandwidth(w, attitude)
        except DravikError as error:
            note = f"{error}: no level can be given"
            found.append(Criterion(name, data["paragraph"], float("nan"), "", NONE, judged=False, note=note))
            continue
        detail[f"hover {axis}"] = own
        note = f"by {sticks[axis]}; phase delay {own.phase_delay:.3g} s; by phase {own.by_phase:.3g}, by gain "
        note += f"{own.by_gain:.3g} rad/s"
        found.append(
            Criterion(
                name, data["paragraph"], own.value, "rad/s", along(data[axis], own.phase_delay), note=note,
                remembered=True,
            )
        )  # fmt: skip
        time = doubling(model, output, sticks[axis])
        if math.isfinite(time):
            found[-1] = without_stability(found[-1], time)
    return found, detail


def no_hover(title: str) -> list[Criterion]:
    """Return the line that says that requirements for hover do not apply."""
    paragraph = boundaries("responses")["hover_bandwidth"]["paragraph"]
    note = f"a requirement for rotorcraft in hover and at low speed, which {title} is not: no level can be given"
    return [Criterion("bandwidth in hover", paragraph, float("nan"), "", NONE, judged=False, note=note)]
