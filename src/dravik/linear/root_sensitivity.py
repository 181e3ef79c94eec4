"""How much each root moves with each aerodynamic derivative and each parameter of an aircraft.

The first-order change of a root is w* dA v/(w* v), with its left and right eigenvectors w and v (J. H. Wilkinson, The
Algebraic Eigenvalue Problem, Oxford 1965, chapter 2). A derivative such as Cm_alpha changes A by what a little more Cm
does to the rates of the states, times alpha.
"""

from collections.abc import Iterator, Sequence
from typing import NamedTuple, cast

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.aircraft.air_of_point import in_air_of
from dravik.definition import arguments
from dravik.errors import DravikError, TrimError, require
from dravik.linear.derivatives import LoadsAbout
from dravik.linear.linearising import linearise
from dravik.linear.model import LinearModel
from dravik.linear.modes import is_body_mode
from dravik.trimming import TrimPoint, trim

__all__ = ["DerivativeChange", "RootSensitivity", "derivative_changes", "root_sensitivities"]

Complex = NDArray[np.complex128]
Floats = NDArray[np.float64]
STEP = 1e-4  # of a parameter's range, or of its value where it has none
DEFECTIVE = 1e-9  # of the product of left and right vector: two roots in one, whose change is not of first order
NOTHING = 1e-7  # of a root: what differences leave where nothing moves it
_LATERAL = ("CY", "Cl", "Cn")


class RootSensitivity(NamedTuple):
    """The change of a mode's root (1/s) by one unit of a derivative or parameter ``of``, which now has a ``value``."""

    mode: str
    root: complex
    of: str
    value: float
    slope: complex

    @property
    def frequency_change(self) -> float:
        """By how much of itself the natural frequency, or the size of a real root, changes for a tenth more of it."""
        return float((self.slope * 0.1 * self.value * np.conj(self.root)).real / abs(self.root) ** 2)

    @property
    def damping_change(self) -> float:
        """By how much the damping ratio changes for a tenth more of it; 0 for a real root."""
        if not self.root.imag:
            return 0.0
        moved = self.slope * 0.1 * self.value
        return float(-moved.real / abs(self.root) + self.root.real / abs(self.root) * self.frequency_change)

    @property
    def weight(self) -> float:
        """How far a tenth more of it moves the root, as a share of its size."""
        return 0.1 * abs(self.slope * self.value) / abs(self.root)


def root_sensitivities(
    craft: Aircraft, point: TrimPoint, *, parameters: Sequence[str] | None = None
) -> list[RootSensitivity]:
    """Return how each root of the rigid body moves with derivatives and parameters, the strongest first for each mode.

    Derivatives are those of the coefficients as they stand in the file: its axes, its moment point, by alpha, beta, u/V
    and non-dimensional rates, at the same trim; formulas that read a coefficient follow it. For parameters the aircraft
    is trimmed and linearised again. In hover there are only parameters.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    point : TrimPoint
        Where.
    parameters : sequence of str, optional
        Names of parameters. All unless given.

    Returns
    -------
    list of RootSensitivity
        The change of a root (1/s) by the relative change of a derivative or parameter.

    Raises
    ------
    DravikError
        For unknown parameters, and where a changed one cannot be trimmed.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> found = dv.root_sensitivities(craft, dv.trim(craft, airspeed="62 m/s", altitude="300 m"))
    >>> next(s.of for s in found if s.mode == "Dutch roll")
    'Cn_beta'
    """
    require(craft, Aircraft, "what is linearised")
    require(point, TrimPoint, "the point of the roots", "trim(craft, ...)")
    craft = in_air_of(craft, point.craft)
    wanted = list(craft.parameters) if parameters is None else arguments.names(parameters, "parameters")
    for name in wanted:
        if name not in craft.parameters:
            raise DravikError(
                f"there is no parameter {name!r}", expected=", ".join(craft.parameters) or "one in the file"
            )
    model = linearise(craft, point)
    vectors = _vectors(model)
    changes = [(c.of, c.value, c.A) for c in derivative_changes(craft, point, model)]
    found = []
    for of, value, change in (*changes, *_by_parameters(craft, point, model, wanted)):
        for mode, root, left, right in vectors:
            # first-order perturbation: d lambda = l* dA r/(l* r)
            slope = complex(left.conj() @ change @ right / (left.conj() @ right))
            found.append(RootSensitivity(mode, root, of, value, slope))
    order = [mode for mode, *_ in vectors]
    return sorted(
        (s for s in found if abs(s.slope) > NOTHING * abs(s.root)), key=lambda s: (order.index(s.mode), -s.weight, s.of)
    )


def _vectors(model: LinearModel) -> list[tuple[str, complex, Complex, Complex]]:
    """Return name, root, left and right vector of each mode of the rigid body."""
    from scipy.linalg import eig

    roots, left, right = cast("tuple[Complex, Complex, Complex]", eig(model.A, left=True))
    found = []
    for mode in model.modes():
        if is_body_mode(mode.name):
            k = int(np.argmin(np.abs(roots - mode.eigenvalue)))
            # where left and right vectors are across each other two roots meet, and no slope exists
            if abs(left[:, k].conj() @ right[:, k]) > DEFECTIVE:
                found.append((mode.name, complex(roots[k]), left[:, k], right[:, k]))
    return found


class DerivativeChange(NamedTuple):
    """What one unit of a derivative ``of``, which now has a ``value``, adds to a model's A and C."""

    of: str
    value: float
    A: Floats
    C: Floats


def derivative_changes(craft: Aircraft, point: TrimPoint, model: LinearModel) -> Iterator[DerivativeChange]:
    """Yield what each derivative of the coefficients adds to a model of a point; nothing in hover."""
    if craft.definition.aero is None or point.coordinates != "air":
        return
    names, reference, speed = craft.definition.aero.coefficients, craft.definition.reference, point["airspeed"]
    # how the motion responds to a unit of each coefficient: the column of a disturbance
    more = linearise(craft, point, disturbed=names, outputs=model.outputs)
    more = more.part(states=model.states, outputs=model.outputs)
    loads = LoadsAbout(point)
    half_chord, half_span = 0.5 * reference.chord / speed, 0.5 * reference.span / speed
    along = np.eye(3)
    # state, its scale, and what one unit is as a change of velocity in stability axes and of rates
    per_state = {
        "alpha": ("alpha", 1.0, speed * along[2], 0.0), "u": ("airspeed", 1.0 / speed, speed * along[0], 0.0),
        "beta": ("beta", 1.0, speed * along[1], 0.0), "p": ("p", half_span, 0.0, along[0] / half_span),
        "q": ("q", half_chord, 0.0, along[1] / half_chord), "r": ("r", half_span, 0.0, along[2] / half_span),
    }  # fmt: skip
    for coefficient in names:
        push, seen = (m[:, more.inputs.index(f"{coefficient}_disturbance")] for m in (more.B, more.D))
        for by, (state, scale, velocity, rates) in per_state.items():
            # longitudinal coefficients by lateral states are zero by symmetry, or noise
            if (coefficient in _LATERAL) == (by in ("beta", "p", "r")):
                column, change, shown = model.states.index(state), np.zeros_like(model.A), np.zeros_like(model.C)
                change[:, column], shown[:, column] = push * scale, seen * scale
                # the model's rates are about the body's axes
                value = loads.signal_slope(coefficient, np.zeros(3) + velocity, loads.turn.T @ (np.zeros(3) + rates))
                yield DerivativeChange(f"{coefficient}_{by}", value, change, shown)


def _by_parameters(
    craft: Aircraft, point: TrimPoint, model: LinearModel, names: Sequence[str]
) -> Iterator[tuple[str, float, Floats]]:
    """Yield each parameter's name and value, and the change of A by it, the trim following it."""
    for name in names:
        value, spec = craft.parameters[name], craft.configuration.parameters[name]
        low, high = spec.range or (-np.inf, np.inf)
        step = STEP * (high - low if np.isfinite(high - low) else max(abs(value), 1.0))
        matrices = []
        for there in (max(value - step, low), min(value + step, high)):
            moved = craft.with_parameters({name: there})
            try:
                again = trim(moved, point.statement)
            except TrimError as error:
                raise DravikError(
                    f"there is no trim with {name} = {there:.6g}: {error}", hint="parameters=[...] without it"
                ) from None
            matrices.append(linearise(moved, again, states=model.states).A)
        yield name, value, (matrices[1] - matrices[0]) / (min(value + step, high) - max(value - step, low))
