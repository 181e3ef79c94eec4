"""Elements of controllers as linear systems: PID with weights, lead, lag, notch, and a hold with computing delay.

Sources: K. J. Åström, T. Hägglund, Advanced PID Control, ISA (2006), chapter 3 (filter, set-point weights);
G. F. Franklin, J. D. Powell, A. Emami-Naeini, Feedback Control of Dynamic Systems, 6.7 (lead and lag).
"""

import math
from dataclasses import dataclass

import numpy as np

from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.systems import LinearSystem
from dravik.units import in_si

__all__ = ["PID", "lag_compensator", "lead_compensator", "notch_filter", "sampled_loop"]


@dataclass(frozen=True)
class PID:
    """A controller u = P (b r - y) + I integral(r - y) + D s/(T s + 1) (c r - y) of a command r and a measurement y.

    ``proportional`` P, ``integral`` I (1/s), ``derivative`` D (s) with ``filter_time`` T (s); ``weight`` b and
    ``derivative_weight`` c of the command. Without a filter a derivative is improper, and an error.
    """

    proportional: float
    integral: float = 0.0
    derivative: float = 0.0
    filter_time: float = 0.0
    weight: float = 1.0
    derivative_weight: float = 0.0

    def __post_init__(self) -> None:
        for name in ("proportional", "integral", "derivative", "filter_time", "weight", "derivative_weight"):
            arguments.number(getattr(self, name), name)
        if self.derivative and not self.filter_time > 0.0:
            raise DravikError(
                "a derivative without a filter is improper: it has more zeros than roots",
                expected="filter_time above zero, such as a tenth of derivative over proportional",
            )

    def fraction(self) -> tuple[list[float], list[float]]:
        """Return what the measurement sees, as numerator and denominator in s, highest power first."""
        p, i, d, t = self.proportional, self.integral, self.derivative, self.filter_time if self.derivative else 0.0
        if i == 0.0 and d == 0.0:
            return [p], [1.0]
        if d == 0.0:
            return [p, i], [1.0, 0.0]
        over = [p * t + d, p + i * t, i] if i else [p * t + d, p]
        return over, ([t, 1.0, 0.0] if i else [t, 1.0])

    def at(self, omega: float) -> complex:
        """Return its frequency response, from the error to the output, at a frequency (rad/s)."""
        s = 1j * omega
        over, under = self.fraction()
        return complex(np.polyval(over, s) / np.polyval(under, s))

    def system(self, output: str = "u", *, command: str = "r", measured: str = "y") -> LinearSystem:
        """Return the controller with command and measurement as inputs.

        >>> PID(2.0, integral=1.0).system().inputs
        ['r', 'y']
        """
        p, i, d, t = self.proportional, self.integral, self.derivative, self.filter_time
        names: list[str] = []
        b: list[list[float]] = []
        c: list[float] = []
        through = [p * self.weight, -p]
        if i:
            names.append(f"{output}_integral")
            b.append([1.0, -1.0])
            c.append(i)
        if d:
            # D s/(T s + 1) = D/T (1 - 1/(T s + 1))
            names.append(f"{output}_filter")
            b.append([self.derivative_weight / t, -1.0 / t])
            c.append(-d / t)
            through = [through[0] + d / t * self.derivative_weight, through[1] - d / t]
        a = np.diag([0.0 if n.endswith("_integral") else -1.0 / t for n in names]) if names else np.zeros((0, 0))
        return LinearSystem.of(
            a, np.array(b).reshape(len(names), 2), states=names, inputs=[command, measured],
            C=np.array([c]).reshape(1, len(names)), D=[through], outputs=[output],
        )  # fmt: skip

    def formulas(self, name: str, error: str, *, low: str = "", high: str = "") -> dict[str, str]:
        """Return the formulas of a law file that make it, its integral held where ``low`` and ``high`` stop it.

        The error is command less measurement, so that both weights are one here.

        >>> PID(2.0, integral=0.5).formulas("hold", "theta_command - theta", low="-8*deg", high="8*deg")["hold"]
        '2*(theta_command - theta) + integral(0.5*(theta_command - theta), low=-8*deg, high=8*deg)'
        """
        bounds = "".join(f", {k}={v}" for k, v in (("low", low), ("high", high)) if v)
        text = f"{self.proportional:.6g}*({error})"
        if self.integral:
            text += f" + integral({self.integral:.6g}*({error}){bounds})"
        if self.derivative:
            text += f" + {self.derivative / self.filter_time:.6g}*washout({error}, {self.filter_time:.6g})"
        return {name: text}


def lead_compensator(phase: str | float, at: str | float, *, output: str = "u", input: str = "e") -> LinearSystem:
    """Return a lead (or, negative, a lag of phase) of unit gain that gives ``phase`` (rad) at a frequency (rad/s).

    (s/a + 1)/(s/b + 1) over its gain at the frequency, the geometric mean of its corners.

    Parameters
    ----------
    phase : str or float
        What it adds, rad.
    at : str or float
        Frequency, rad/s.
    output : str, default "u"
        Name of the output.
    input : str, default "e"
        Name of the input.

    Returns
    -------
    LinearSystem

    Raises
    ------
    DravikError
        For more than 85 deg: two of them.

    Examples
    --------
    >>> found = lead_compensator("40 deg", 3.0).frequency_response([3.0])[0, 0, 0]
    >>> print(round(abs(found), 9), round(float(np.degrees(np.angle(found))), 6))
    1.0 40.0
    """
    angle, w = in_si(phase, "angle", where="phase"), arguments.number(at, "at")
    if not abs(angle) <= math.radians(85.0) or not w > 0.0:
        raise DravikError(
            f"one element cannot give {math.degrees(angle):.4g} deg at {w:g} rad/s",
            expected="at most 85 deg, at a frequency above zero",
            hint="two elements in series",
        )  # fmt: skip
    ratio = math.tan(0.25 * math.pi + 0.5 * angle)  # sqrt(b/a)
    zero, pole = w / ratio, w * ratio
    return LinearSystem.filtered(output, input, [1.0 / (zero * ratio), 1.0 / ratio], [1.0 / pole, 1.0])


def lag_compensator(factor: float, corner: str | float, *, output: str = "u", input: str = "e") -> LinearSystem:
    """Return an element of unit gain at high frequencies and ``factor`` at rest, its zero at ``corner`` (rad/s).

    Parameters
    ----------
    factor : float
        Gain at rest.
    corner : str or float
        Frequency of the zero, rad/s.
    output : str, default "u"
        Name of the output.
    input : str, default "e"
        Name of the input.

    Returns
    -------
    LinearSystem

    Examples
    --------
    >>> print(lag_compensator(5.0, 0.2).gains()[0, 0].round(9))
    5.0
    """
    k, w = arguments.number(factor, "factor"), arguments.number(corner, "corner")
    if not k > 0.0 or not w > 0.0:
        raise DravikError(
            f"a factor of {k:g} with a corner at {w:g} rad/s makes no element", expected="both above zero"
        )
    return LinearSystem.filtered(output, input, [1.0, w], [1.0, w / k])


def notch_filter(
    at: str | float, *, depth: float = 0.05, width: float = 0.5, output: str = "u", input: str = "e"
) -> LinearSystem:
    """Return a notch: gain ``depth`` at a frequency (rad/s), one far from it, with roots of damping ``width``.

    Parameters
    ----------
    at : str or float
        Frequency, rad/s.
    depth : float, default 0.05
        Gain at it.
    width : float, default 0.5
        Damping ratio of its roots.
    output : str, default "u"
        Name of the output.
    input : str, default "e"
        Name of the input.

    Returns
    -------
    LinearSystem

    Examples
    --------
    >>> print(abs(notch_filter(4.0, depth=0.1).frequency_response([4.0])[0, 0, 0]).round(9))
    0.1
    """
    w, d, z = arguments.number(at, "at"), arguments.number(depth, "depth"), arguments.number(width, "width")
    if not w > 0.0 or not 0.0 <= d <= 1.0 or not 0.0 < z <= 5.0:
        raise DravikError(
            f"there is no notch at {w:g} rad/s of depth {d:g} and width {z:g}",
            expected="above zero; 0 to 1; above 0 to 5",
        )
    return LinearSystem.filtered(output, input, [1.0, 2.0 * z * d * w, w * w], [1.0, 2.0 * z * w, w * w])


def sampled_loop(
    plant: LinearSystem, controller: LinearSystem, sample_time: str | float, *, delay: str | float = 0.0
) -> LinearSystem:
    """Return the loop of a plant with a controller that runs each ``sample_time`` (s): with hold and computing delay.

    ``plant`` is continuous and has one input and output; ``controller``, from the plant's output to its input, is
    sampled already, or continuous and then turned by the bilinear rule. ``delay`` (s) is a time from the sample to
    the new command, any part of a period: the command that is held changes between samples. The result is what
    comes back of the command, sign turned, for ``margins``: those of the sampled loop, not of its continuous
    look-alike.

    Parameters
    ----------
    plant : LinearSystem
        Continuous, one input and output.
    controller : LinearSystem
        From the plant's output to its input.
    sample_time : str or float
        Period of the controller, with its unit or in s.
    delay : str or float, default 0.0
        From the sample to the new command, with its unit or in s.

    Returns
    -------
    LinearSystem

    Examples
    --------
    >>> import dravik as dv
    >>> from dravik.loops import margins
    >>> plant = dv.LinearSystem.filtered("y", "u", [1.0], [1.0, 0.0])
    >>> loop = sampled_loop(plant, dv.LinearSystem.gain("u", {"y": -0.5}), 0.1, delay=0.1)
    >>> round(margins(loop).gain_up, 6)  # 2 sin(pi/6)/(0.5 * 0.1)
    20.0
    """
    for name, system in (("plant", plant), ("controller", controller)):
        require(system, LinearSystem, f"the {name}")
        if len(system.inputs) != 1 or len(system.outputs) != 1:
            raise DravikError(
                f"the {name} has {len(system.inputs)} inputs and {len(system.outputs)} outputs", expected="one of each"
            )
    step, late = in_si(sample_time, "time", where="sample_time"), in_si(delay, "time", where="delay")
    if not step > 0.0 or not late >= 0.0 or plant.sample_time is not None:
        raise DravikError(
            f"no loop has a plant at {plant.sample_time} s, a controller at {step:g} s and a delay of {late:g} s",
            expected="a continuous plant (None), sample_time above zero, delay of zero or more",
        )
    digital = controller if controller.sample_time is not None else controller.discretised(step, method="bilinear")
    if digital.sample_time != step:
        raise DravikError(
            f"the controller is sampled each {digital.sample_time:g} s, the loop each {step:g} s", expected="the same"
        )
    held = _held_late(plant, step, late).renamed({plant.inputs[0]: "held", plant.outputs[0]: "seen"})
    law = digital.renamed({digital.inputs[0]: "seen", digital.outputs[0]: "back"})
    both = held.followed_by(law)
    return LinearSystem(
        both.A, both.B, -both.C, -both.D, both.states, ["injected"], [plant.inputs[0]], {}, step, "sampled loop"
    )


def _held_late(plant: LinearSystem, step: float, late: float) -> LinearSystem:
    """Return the plant at samples with a held input that changes ``late`` seconds after each (modified z transform)."""
    whole, rest = divmod(late, step)
    if rest > step * (1.0 - 1e-9):
        whole, rest = whole + 1.0, 0.0
    first = plant.discretised(step - rest) if rest < step else plant
    full = plant.discretised(step)
    n = len(plant.states)
    if rest > 1e-12 * step:
        early = plant.discretised(rest)
        # x+ = Phi x + Gamma1 u(k-1) + Gamma0 u(k): for the first part the old command holds
        gamma0 = first.B
        gamma1 = first.A @ early.B
        a = np.block([[full.A, gamma1], [np.zeros((1, n)), np.zeros((1, 1))]])
        b = np.vstack([gamma0, [[1.0]]])
        c = np.hstack([full.C, full.D])
        found = LinearSystem.of(a, b, states=[*plant.states, "last_command"], inputs=plant.inputs, C=c,
                                D=np.zeros((1, 1)), outputs=plant.outputs).with_facts(sample_time=step)  # fmt: skip
    else:
        found = full
    return found.delayed(plant.inputs[0], whole * step) if whole else found
