"""Stability and control derivatives of a trimmed point: dimensional in stability axes, and non-dimensional.

Definitions as in R. C. Nelson, Flight Stability and Automatic Control, 2nd ed., McGraw-Hill 1998, tables 3.5 and 3.6,
and D. McRuer, I. Ashkenas, D. Graham, Aircraft Dynamics and Automatic Control, Princeton 1973, section 4.2: X_u is
(1/m) dX/du, M_q is (1/Iyy) dM/dq, L_p is (1/Ixx) dL/dp, all of them partial: the rate of alpha is held, and has
derivatives of its own. X, Y, Z hold everything but the weight: thrust too.
"""

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.aircraft.air_of_point import in_air_of
from dravik.errors import DravikError, require
from dravik.frames import body_from_station
from dravik.host.notebooks import Shown, ShownAsTable
from dravik.kernel.program import N_RIGID
from dravik.motion.equations import loads_by_rates
from dravik.trimming import TrimPoint

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["Derivative", "Derivatives", "derivatives"]

Floats = NDArray[np.float64]
SLOW = 1.0  # m/s: derivatives by angles to the flow want at least this airspeed
# of central differences, extrapolated once: of the airspeed; rad; rad/s. Small, because the curvature of tables that
# are interpolated by cubics jumps at their points, such as at no sideslip
STEPS = {"speed": 1e-5, "angle": 1e-5, "rate": 1e-5}
FORCES, MOMENTS = ("X", "Y", "Z"), ("L", "M", "N")
LONGITUDINAL, LATERAL = ("X", "Z", "M"), ("Y", "L", "N")


class Derivative(NamedTuple):
    """A derivative: its name, value, SI unit (rad where angles are meant), and what it is."""

    name: str
    value: float
    unit: str
    meaning: str


@dataclass(frozen=True, repr=False)
class Derivatives(ShownAsTable):
    """The derivatives of a trimmed point by name, and the point that they belong to."""

    point: TrimPoint
    dimensional: dict[str, Derivative]
    coefficients: dict[str, Derivative]

    def summary_table(self) -> Shown:
        """Return what a notebook shows: a row for each derivative."""
        count = len(self.dimensional) + len(self.coefficients)
        return f"{count} derivatives", ("derivative", "value", "unit", "meaning"), self.rows()

    def __getitem__(self, name: str) -> float:
        """Return the value of a derivative such as ``Mq`` or ``Cm_alpha``; raises DravikError for an unknown name."""
        for group in (self.dimensional, self.coefficients):
            if name in group:
                return group[name].value
        raise DravikError(
            f"there is no derivative {name!r}", expected=", ".join([*self.dimensional, *self.coefficients][:40])
        )

    def rows(self) -> list[tuple[str, float, str, str]]:
        """Return name, value, unit and meaning of all derivatives."""
        return [(d.name, d.value, d.unit, d.meaning) for d in (*self.dimensional.values(), *self.coefficients.values())]

    @property
    def table(self) -> "DataFrame":
        """All derivatives as a DataFrame."""
        import pandas as pd

        return pd.DataFrame(self.rows(), columns=["derivative", "value", "unit", "meaning"]).set_index("derivative")


def derivatives(craft: Aircraft, point: TrimPoint) -> Derivatives:
    """Return the stability and control derivatives about a trimmed point, about the actual centre of gravity.

    Dimensional ones in stability axes: X, Y, Z over the mass, L, M, N over their moment of inertia, by u, v, w (m/s),
    p, q, r (rad/s), ``a`` and ``b`` (alpha and beta, rad), ``wdot`` and ``adot``, and by each control (rad, or its
    unit); ``Lb'`` and its like have the product of inertia worked in. Non-dimensional ones: aerodynamic coefficients by
    alpha, beta, u/V, p b/2V, q c/2V, r b/2V, alpha_dot c/2V and controls.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    point : TrimPoint
        Where.

    Returns
    -------
    Derivatives
        All of them by name, with a ``table``.

    Raises
    ------
    DravikError
        In hover, where there is no flow to refer to.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> found = dv.derivatives(craft, dv.trim(craft, airspeed="62 m/s", altitude="300 m"))
    >>> found["Cm_alpha"] < 0, found["Lp"] < 0, found["Nb"] > 0
    (True, True, True)
    """
    require(craft, Aircraft, "what the derivatives are of")
    require(point, TrimPoint, "the point of the derivatives", "trim(craft, ...)")
    craft = in_air_of(craft, point.craft)
    if not point["airspeed"] > SLOW:
        raise DravikError(
            f"there are no derivatives at {point['airspeed']:.3g} m/s", expected="a flow: an airspeed above 1 m/s"
        )
    found = LoadsAbout(point)
    return Derivatives(point, {d.name: d for d in found.dimensional()}, {d.name: d for d in found.coefficients()})


class LoadsAbout:
    """The loads about one point as functions of small changes in stability axes."""

    def __init__(self, point: TrimPoint) -> None:
        self.point, self.craft = point, point.craft
        self.speed, self.alpha = point["airspeed"], point["alpha"]
        self.work = self.craft.workspace()
        cosine, sine = math.cos(self.alpha), math.sin(self.alpha)
        # from stability axes to body axes: a turn by alpha about y
        self.turn = np.array([[cosine, 0.0, -sine], [0.0, 1.0, 0.0], [sine, 0.0, cosine]])
        tensor = self.craft.loading.tensor()
        if "Ixx" in point.signals:  # tanks flow: the mass properties of the instant
            xx, yy, zz, xy, xz, yz = (point[n] for n in ("Ixx", "Iyy", "Izz", "Ixy", "Ixz", "Iyz"))
            tensor = np.array([[xx, -xy, -xz], [-xy, yy, -yz], [-xz, -yz, zz]])
        # a tensor turns from both sides
        self.inertia = self.turn.T @ tensor @ self.turn
        self.mass = point["mass"]
        reference = self.craft.definition.reference
        self.area, self.chord, self.span = reference.area, reference.chord, reference.span
        centre = body_from_station(np.array([point[f"cg_{a}"] for a in "xyz"]))
        # from the centre of gravity to the point that the coefficients are about
        self.arm = body_from_station(np.array(reference.moment_point)) - centre

    def at(
        self, velocity: Floats, rates: Floats, angle_rates: tuple[float, float], control: str, moved: float
    ) -> Floats:
        """Return forces and moments, and aerodynamic coefficients about the centre of gravity, in stability axes (12,).

        At changes of velocity and rates (stability axes), at rates of alpha and beta, and with a control moved.
        """
        x, u = self.point.state.copy(), np.array(self.point.inputs, dtype=float)
        # changes are given in stability axes, the state is in body axes
        x[3:6] += self.turn @ velocity
        x[10:13] += self.turn @ rates
        if control:
            # with dynamics an effector's position is a state; without, it is its command
            states = self.craft.function_states
            if control in states:
                x[N_RIGID + states.index(control)] += moved
            else:
                u[self.craft.input_index(control)] += moved
        out = np.empty(12)
        loads_by_rates(self.craft.program, self.work, x, u, *angle_rates, out)
        # moment coefficients times their lengths: forces and moments then add like those in newtons
        force, moment = out[6:9], out[9:12] * np.array([self.span, self.chord, self.span])
        moment = (moment + np.cross(self.arm, force)) / np.array([self.span, self.chord, self.span])
        parts = [out[:3], out[3:6], force, moment]
        return np.concatenate([self.turn.T @ part for part in parts])

    def slope(self, kind: str, axis: int = 0, control: str = "") -> Floats:
        """Return the derivatives (12,) by one quantity, by differences at two steps extrapolated to fourth order."""
        step = {"velocity": STEPS["speed"] * self.speed, "rates": STEPS["rate"], "angle_rate": STEPS["rate"]}.get(
            kind, STEPS["angle"]
        )

        def moved(size: float) -> Floats:
            velocity, rates, angles = np.zeros(3), np.zeros(3), [0.0, 0.0]
            if kind == "velocity":
                velocity[axis] = size
            elif kind == "rates":
                rates[axis] = size
            elif kind == "angle_rate":
                angles[axis] = size
            return self.at(velocity, rates, (angles[0], angles[1]), control, size if kind == "control" else 0.0)

        # Richardson's extrapolation: the error of the second order cancels between two steps
        one, two = ((moved(s) - moved(-s)) / (2.0 * s) for s in (step, 0.5 * step))
        return (4.0 * two - one) / 3.0

    def signal_slope(self, name: str, velocity: Floats, rates: Floats) -> float:
        """Return the derivative of a signal along a small change of velocity and rates, angles to the air at rest."""
        place = self.craft.tape.names[name]

        def moved(size: float) -> float:
            self.at(size * velocity, size * rates, (0.0, 0.0), "", 0.0)
            return float(self.work.registers[place])

        return (moved(STEPS["angle"]) - moved(-STEPS["angle"])) / (2.0 * STEPS["angle"])

    def controls(self) -> list[str]:
        """Return what moves: effectors and engine throttles."""
        return [n for n, signal in self.craft.signals.items() if signal.kind == "effector"]

    def dimensional(self) -> Iterator[Derivative]:
        """Yield derivatives over mass and moments of inertia."""
        by = {
            "u": self.slope("velocity", 0), "v": self.slope("velocity", 1), "w": self.slope("velocity", 2),
            "p": self.slope("rates", 0), "q": self.slope("rates", 1), "r": self.slope("rates", 2),
            "wdot": self.slope("angle_rate", 0) / self.speed,
        }  # fmt: skip
        # at a small change alpha is w/V and beta v/V
        by |= {"a": by["w"] * self.speed, "b": by["v"] * self.speed, "adot": by["wdot"] * self.speed}
        by |= {f"_{name}": self.slope("control", control=name) for name in self.controls()}
        # what textbooks write X_u is a force over the mass, L_p a moment over I_xx
        over = np.array([self.mass] * 3 + [self.inertia[i, i] for i in range(3)])
        product = -self.inertia[0, 2]  # the integral of x z over the mass
        ixx, izz = self.inertia[0, 0], self.inertia[2, 2]
        for name, slopes in by.items():
            long = name in ("u", "w", "q", "wdot", "a", "adot")
            wanted = FORCES + MOMENTS if name.startswith("_") else LONGITUDINAL if long else LATERAL
            unit = _UNITS.get(name, ("m/s^2", "1/s^2"))
            what = _MEANINGS.get(name, name.removeprefix("_"))
            for i, letter in enumerate((*FORCES, *MOMENTS)):
                if letter in wanted and (letter in LONGITUDINAL or not long):
                    value = float(slopes[i] / over[i])
                    text = f"d{letter}/d({what}) over {'the mass' if i < 3 else 'its moment of inertia'}"
                    yield Derivative(f"{letter}{name}", value, unit[i // 3], text)
            if not long and name[0] != "_":
                # both equations of roll and yaw solved for p_dot and r_dot: each moment works on both
                share = 1.0 / (1.0 - product**2 / (ixx * izz))
                rolling, yawing = float(slopes[3] / ixx), float(slopes[5] / izz)
                for letter, value in (
                    ("L", share * (rolling + product / ixx * yawing)), ("N", share * (yawing + product / izz * rolling))
                ):  # fmt: skip
                    text = f"{letter}{name} with the product of inertia worked in"
                    yield Derivative(f"{letter}{name}'", float(value), unit[1], text)

    def coefficients(self) -> Iterator[Derivative]:
        """Yield derivatives of the aerodynamic coefficients; none without an aero section."""
        if self.craft.definition.aero is None:
            return
        # the coefficients themselves, which the turn of the wind axes with alpha brings in
        level = self.at(np.zeros(3), np.zeros(3), (0.0, 0.0), "", 0.0)
        # q_hat = q c/2V: a slope by q over c/2V is one by q_hat
        half_chord, half_span = 0.5 * self.chord / self.speed, 0.5 * self.span / self.speed
        by = {
            "alpha": self.slope("velocity", 2) * self.speed, "beta": self.slope("velocity", 1) * self.speed,
            "u": self.slope("velocity", 0) * self.speed, "p": self.slope("rates", 0) / half_span,
            "q": self.slope("rates", 1) / half_chord, "r": self.slope("rates", 2) / half_span,
            "alpha_dot": self.slope("angle_rate", 0) / half_chord,
        }  # fmt: skip
        by |= {name: self.slope("control", control=name) for name in self.controls()}
        for name, slopes in by.items():
            found = dict(zip(("CX", "CY", "CZ", "Cl", "Cm", "Cn"), slopes[6:], strict=True))
            # lift and drag are across and along the velocity, which turns with alpha
            turned = (level[6], level[8]) if name == "alpha" else (0.0, 0.0)
            lift, drag = -found["CZ"] + turned[0], -found["CX"] - turned[1]
            values = {"CL": lift, "CD": drag, "CY": found["CY"], **{n: found[n] for n in ("Cl", "Cm", "Cn")}}
            lateral = name in ("beta", "p", "r")
            for letter, value in values.items():
                is_lateral = letter in ("CY", "Cl", "Cn")
                if name in by and (is_lateral == lateral or name in self.controls()):
                    yield Derivative(f"{letter}_{name}", float(value), "", f"d{letter}/d({_HATS.get(name, name)})")


_UNITS = {
    "u": ("1/s", "1/(m s)"), "v": ("1/s", "1/(m s)"), "w": ("1/s", "1/(m s)"), "wdot": ("", "1/m"),
    "p": ("m/s", "1/s"), "q": ("m/s", "1/s"), "r": ("m/s", "1/s"), "a": ("m/s^2", "1/s^2"), "b": ("m/s^2", "1/s^2"),
    "adot": ("m/s", "1/s"),
}  # fmt: skip
_MEANINGS = {"a": "alpha", "b": "beta", "adot": "alpha_dot", "wdot": "w_dot"}
_HATS = {
    "u": "u/V", "p": "p b/2V", "q": "q c/2V", "r": "r b/2V", "alpha_dot": "alpha_dot c/2V",
}  # fmt: skip
