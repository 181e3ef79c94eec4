"""PID controllers by crossover and phase margin, and the knob from calm to quick.

Source: K. J. Åström, T. Hägglund, Advanced PID Control, ISA (2006), 6.2. Where the phase cannot be turned that far, the
error says what can be had.
"""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.loops.closed_loops import closed_pid
from dravik.loops.elements import PID
from dravik.loops.margins import Margins, margins
from dravik.loops.open_loop_response import OpenLoopResponse, least
from dravik.systems import LinearSystem, StepMetrics, time_response
from dravik.units import in_si

__all__ = ["KINDS", "PIDOption", "pid_for", "pid_options", "plant_sign"]

KINDS = ("P", "PI", "PD", "PID")
FILTERED = 10.0  # of a derivative: its filter's corner over the crossover
INTEGRAL_TIME = 4.0  # of a PID: time of its integral over that of its derivative


def pid_for(
    plant: LinearSystem, kind: str, *, crossover: str | float, phase_margin: str | float = "60 deg",
    delay: str | float = 0.0,
) -> PID:  # fmt: skip
    """Return the controller of a kind (KINDS) that crosses at a frequency (rad/s) with a phase margin (rad).

    ``plant`` is from the controller's output to what is measured, one of each; the controller keeps the plant's
    sign. P has no angle of its own and takes the margin that results. The derivative's filter has its corner at ten
    times the crossover and is worked in; a PID's integral time is four times its derivative's. For a sampled plant the
    gains are those of the controller that runs at the plant's samples by the trapezoidal rule, which is worked in too:
    ``pid.system().discretised(plant.sample_time, method="bilinear")``.

    Parameters
    ----------
    plant : LinearSystem
        From the controller's output to what is measured.
    kind : str
        One of KINDS, such as ``"PI"``.
    crossover : str or float
        With its unit or in rad/s.
    phase_margin : str or float, default "60 deg"
        With its unit or in rad.
    delay : str or float, default 0.0
        Dead time, with its unit or in s.

    Returns
    -------
    PID

    Raises
    ------
    DravikError
        Where the controller cannot turn the phase that far, with the most that can be had there.

    Examples
    --------
    >>> import dravik as dv
    >>> plant = dv.LinearSystem.filtered("y", "u", [1.0], [1.0, 1.0, 0.0])
    >>> pid = pid_for(plant, "PD", crossover=2.0, phase_margin="60 deg")
    >>> round(abs(pid.at(2.0) * complex(plant.frequency_response([2.0])[0, 0, 0])), 9)
    1.0
    """
    require(plant, LinearSystem, "the plant")
    arguments.word(kind, "a controller of kind", KINDS)
    w = arguments.number(crossover, "crossover")
    angle, late = in_si(phase_margin, "angle", where="phase_margin"), in_si(delay, "time", where="delay")
    most = math.inf if plant.sample_time is None else math.pi / plant.sample_time
    if not 0.0 < w < most or not 0.0 < angle < math.pi:
        raise DravikError(
            f"a {kind} cannot be designed for {w:g} rad/s and {math.degrees(angle):.4g} deg",
            expected="both above zero" + (f", below {most:.4g} rad/s of the samples" if math.isfinite(most) else ""),
        )
    at = complex(OpenLoopResponse(least(plant), late)(w)[0])
    sign = plant_sign(plant, w)
    if not math.isfinite(abs(at)) or at == 0.0:
        raise DravikError(f"the plant has no gain at {w:g} rad/s", expected="another crossover")
    own = sign * at
    needed = math.remainder(angle - math.pi - float(np.angle(own)), 2.0 * math.pi)
    # at the samples the controller does at w what it does in continuous time at the tangent's frequency
    own_w = w if plant.sample_time is None else 2.0 / plant.sample_time * math.tan(0.5 * w * plant.sample_time)
    pid = _ONE[kind](own_w, needed)
    if pid is None:
        have = math.remainder(math.pi + float(np.angle(own)), 2.0 * math.pi)
        low, high = _TURNS[kind]
        raise DravikError(
            f"a {kind} cannot give {math.degrees(angle):.4g} deg of phase margin at {w:g} rad/s",
            expected=f"{math.degrees(max(have + low, 0.0)):.3g} to {math.degrees(have + high):.3g} deg there",
            hint="a slower crossover, or a controller of another kind",
        )
    scale = sign / (abs(pid.at(own_w)) * abs(at))
    return PID(scale * pid.proportional, scale * pid.integral, scale * pid.derivative, pid.filter_time)


def plant_sign(plant: LinearSystem, omega: float | None = None) -> float:
    """Return the sign with which the plant responds to a step after the time of a frequency (rad/s), 1/omega.

    Without a frequency the middle one of its roots. Not the sign at the first instant, which delays and actuators hide,
    nor that at rest, which a slow or unstable mode may turn about.
    """
    one = least(plant)
    sizes = np.abs(one.poles())
    sizes = sizes[sizes > 0.0]
    w = omega or (float(np.median(sizes)) if len(sizes) else 1.0)
    t = (
        np.linspace(0.0, 1.0 / w, 200)
        if plant.sample_time is None
        else plant.sample_time * np.arange(max(2, round(1.0 / w / plant.sample_time)) + 1, dtype=np.float64)
    )
    values = one.response(t, np.ones((len(t), 1)))[1][:, 0]
    if not np.any(np.abs(values) > 0.0):
        raise DravikError("the plant does not respond", expected="a path from its input to its output")
    return math.copysign(1.0, float(values[-1]))


def _p(w: float, needed: float) -> PID | None:
    return PID(1.0)


def _pi(w: float, needed: float) -> PID | None:
    # 1 + 1/(j w T): its angle is -atan(1/(w T))
    return PID(1.0, integral=math.tan(-needed) * w) if -0.5 * math.pi < needed < 0.0 else None


def _pd(w: float, needed: float) -> PID | None:
    t = 1.0 / (FILTERED * w)
    # 1 + D s/(T s + 1): the angle grows from zero to atan over the filter
    low, high = 0.0, 1e4 / w
    return _turned(lambda d: PID(1.0, derivative=d, filter_time=t) if d > 0.0 else PID(1.0), w, needed, (low, high))


def _pid(w: float, needed: float) -> PID | None:
    t = 1.0 / (FILTERED * w)
    return _turned(
        lambda d: PID(1.0, integral=1.0 / (INTEGRAL_TIME * d), derivative=d, filter_time=t), w, needed,
        (1e-4 / w, 1e4 / w),
    )  # fmt: skip


def _turned(make: Callable[[float], PID], w: float, needed: float, span: tuple[float, float]) -> PID | None:
    """Return the controller whose angle at a frequency is the one needed, which rises with its derivative."""
    from scipy.optimize import brentq

    low, high = span

    def off(d: float) -> float:
        return float(np.angle(make(d).at(w))) - needed

    if off(low) > 1e-12 or off(high) < 0.0:
        return None
    return make(low) if off(low) >= -1e-12 else make(float(brentq(off, low, high, xtol=1e-14, rtol=1e-13)))


_ONE: dict[str, Callable[[float, float], PID | None]] = {"P": _p, "PI": _pi, "PD": _pd, "PID": _pid}
#: Angles that a controller can turn at its crossover, rad.
_MOST_LEAD = float(np.angle(1.0 + 1j * 1e4 / (1.0 + 1j / FILTERED)))
_TURNS = {"P": (0.0, 0.0), "PI": (-0.5 * math.pi, 0.0), "PD": (0.0, _MOST_LEAD), "PID": (-0.5 * math.pi, _MOST_LEAD)}


@dataclass(frozen=True)
class PIDOption:
    """One controller along the knob from calm to quick, with the figures of the loop that it closes.

    ``bounded``: a gain was held at its bound, so that crossover and margin are what comes of that.
    """

    crossover: float
    pid: PID
    margins: Margins
    step: StepMetrics
    largest_command: float
    bounded: bool = False

    def row(self) -> dict[str, float | bool]:
        """Return its figures, angles in deg."""
        return {
            "crossover_rad_s": self.crossover, "P": self.pid.proportional, "I": self.pid.integral,
            "D": self.pid.derivative, "phase_margin_deg": math.degrees(self.margins.phase),
            "gain_up": self.margins.gain_up, "disc": self.margins.disc, "bandwidth_rad_s": self.margins.bandwidth,
            "rise_s": self.step.rise, "overshoot": self.step.overshoot, "settling_s": self.step.settling,
            "end": self.step.end, "largest_command": self.largest_command, "stable": self.margins.closes,
            "bounded": self.bounded,
        }  # fmt: skip


def pid_options(
    plant: LinearSystem, kind: str, crossovers: Sequence[float], *, phase_margin: str | float = "60 deg",
    delay: str | float = 0.0, most: Sequence[float] = (math.inf, math.inf, math.inf),
) -> list[PIDOption]:  # fmt: skip
    """Return controllers over crossovers (rad/s), calm to quick: gains, margins, step and the largest command of each.

    ``most`` bounds the sizes of P, I and D; signs are kept. Crossovers at which the phase margin cannot be had are
    left out; with none left that is an error. ``pandas.DataFrame(c.row() for c in choices)`` is the table to choose
    from.

    Parameters
    ----------
    plant : LinearSystem
        From the controller's output to what is measured.
    kind : str
        One of KINDS, such as ``"PI"``.
    crossovers : sequence of float
        With their unit or in rad/s.
    phase_margin : str or float, default "60 deg"
        With its unit or in rad.
    delay : str or float, default 0.0
        Dead time, with its unit or in s.
    most : sequence of float, default (math.inf, math.inf, math.inf)
        Bounds on the sizes of P, I and D.

    Returns
    -------
    list of PIDOption

    Examples
    --------
    >>> import dravik as dv
    >>> plant = dv.LinearSystem.filtered("y", "u", [1.0], [1.0, 1.0])
    >>> [round(c.step.end, 6) for c in pid_options(plant, "PI", [1.0, 2.0, 3.0])]
    [1.0, 1.0, 1.0]
    """
    late, bounds = in_si(delay, "time", where="delay"), _bounds(most)
    found: list[PIDOption] = []
    last: DravikError | None = None
    for w in arguments.numbers(crossovers, "crossovers").ravel():
        try:
            pid = pid_for(plant, kind, crossover=float(w), phase_margin=phase_margin, delay=late)
        except DravikError as error:
            last = error
            continue
        own = (pid.proportional, pid.integral, pid.derivative)
        held = [math.copysign(min(abs(v), m), v) for v, m in zip(own, bounds, strict=True)]
        bounded = PID(held[0], held[1], held[2], pid.filter_time)
        loop = LinearSystem.filtered("e", "y", *bounded.fraction())
        if plant.sample_time is not None:
            loop = loop.discretised(plant.sample_time, method="bilinear")
        open_loop = plant.renamed({plant.outputs[0]: "y"}).followed_by(loop)
        closed = closed_pid(plant, bounded)
        step = time_response(closed, closed.outputs[0], "command")
        used = time_response(closed, closed.outputs[1], "command")
        found.append(
            PIDOption(
                float(w), bounded, margins(open_loop, delay=late), step.metrics(), float(np.abs(used.values).max()),
                held != list(own),
            )
        )  # fmt: skip
    if not found:
        raise last or DravikError("there is no crossover to try", expected="frequencies, rad/s")
    return found


def _bounds(most: Sequence[float]) -> list[float]:
    """Return the three bounds of gains; raises DravikError for others."""
    if isinstance(most, str) or not isinstance(most, Sequence) or len(most) != 3:
        raise DravikError(f"most cannot be {arguments.shown(most)}", expected="three bounds, of P, I and D")
    if not all(isinstance(m, int | float) and m >= 0.0 for m in most):
        raise DravikError(f"most cannot be {arguments.shown(most)}", expected="numbers of zero or more, inf for none")
    return [float(m) for m in most]
