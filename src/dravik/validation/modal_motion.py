"""A mode of a linear model as a motion of the aircraft, to look at."""

import math

import numpy as np

from dravik.errors import DravikError, require
from dravik.linear import LinearModel, Mode
from dravik.recording.recording import Recording
from dravik.units import in_si

__all__ = ["mode_motion"]

PERIODS, CONSTANTS = 3.0, 3.0  # shown of an oscillation, and of a real root
LARGEST = math.radians(15.0)  # largest angle of the motion
FASTER = 0.2  # largest change of the airspeed, as a share of it
RATE = 40.0  # rows for each period or time constant
ANGLES = ("alpha", "beta", "phi", "theta", "psi")


def mode_motion(model: LinearModel, mode: Mode | str, *, duration: str | float | None = None) -> Recording:
    """Return the motion of one mode alone about the operating point, as a recording to plot and to animate.

    The eigenvector's motion, scaled so that its largest angle is 15 deg or its airspeed changes by a fifth, added to
    the steady flight. Signals are the model's states.

    Parameters
    ----------
    model : LinearModel
        A model of an aircraft, with position and attitude among its states.
    mode : Mode or str
        The mode, or its name such as ``"Dutch roll"``.
    duration : str or float, optional
        How long, s. Three periods or time constants unless given.

    Returns
    -------
    Recording
        The motion.

    Raises
    ------
    DravikError
        For a mode that is not there, a root at zero, and a model without position and attitude.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> model = dv.linearise(craft, dv.trim(craft, airspeed="62 m/s", altitude="300 m"))
    >>> run = dv.mode_motion(model, "Dutch roll")
    >>> round(float(np.degrees(np.max(np.abs(np.stack([run["beta"], run["phi"], run["psi"]]))))))
    15
    """
    require(model, LinearModel, "the model")
    if isinstance(mode, str):
        found = model.modes()
        chosen = found.named(mode)
        if chosen is None:
            raise DravikError(f"there is no mode {mode!r}", expected=", ".join(m.name for m in found))
        mode = chosen
    require(mode, Mode, "the mode", "its name, or one of model.modes()")
    duration = None if duration is None else in_si(duration, "time", where="duration")
    if duration is not None and not 0.0 < duration <= 1e5:
        raise DravikError(f"the duration cannot be {duration:g} s", expected="above zero")
    missing = [n for n in ("north", "east", "altitude", "phi", "theta", "psi") if n not in model.states]
    if missing or not model.x0.size:
        raise DravikError(f"the model has no {', '.join(missing) or 'operating point'}", expected="the whole model")
    root = mode.eigenvalue
    if abs(root) < 1e-6:
        raise DravikError(f"the mode {mode.name} stands still", expected="a mode with a root that is not zero")
    lasts = duration or (
        PERIODS * 2.0 * math.pi / abs(root.imag) if mode.is_oscillatory else CONSTANTS / abs(root.real)
    )
    rows = max(2, round(RATE * (PERIODS if mode.is_oscillatory else CONSTANTS))) + 1
    t = np.linspace(0.0, lasts, rows)
    vector = np.array([mode.vector[n] for n in model.states])
    moved = np.real(vector[None, :] * np.exp(root * t)[:, None])
    x0 = dict(zip(model.states, model.x0, strict=True))
    sizes = [np.max(np.abs(moved[:, model.states.index(n)])) / LARGEST for n in ANGLES if n in model.states]
    if "airspeed" in x0:
        sizes.append(np.max(np.abs(moved[:, model.states.index("airspeed")])) / (FASTER * max(x0["airspeed"], 1.0)))
    values = model.x0[None, :] + moved / max(max(sizes), 1e-12)
    if model.drift.size:
        values = values + t[:, None] * model.drift[None, :]
    units = {n: model.units[n] for n in model.states if n in model.units}
    return Recording(
        ["time", *model.states], {"time": "s", **units}, np.column_stack([t, values]),
        metadata={"aircraft": model.title, "mode": mode.name},
    )  # fmt: skip
