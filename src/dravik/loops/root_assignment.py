"""Gains of many loops at once by where the roots are to be: all of them, or one mode by its name."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from dravik.definition import arguments
from dravik.errors import DravikError, nearest, require
from dravik.linear import LinearModel
from dravik.systems import LinearSystem

if TYPE_CHECKING:
    from pandas import DataFrame

__all__ = ["Regulator", "as_system", "assign_mode", "assign_roots", "checked", "roots_of", "rows_of"]

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]
UNREACHED = 1e-9  # of the size of A and B: below this a mode is not moved


@dataclass(frozen=True)
class Regulator:
    """Gains of a feedback u = -K y of measured quantities: ``gains`` (inputs, measured), the closed loop's ``poles``.

    ``cost`` is the cost's matrix (optimal states) or number (optimal outputs) and ``residual`` what remains of the
    equation it solves; nan for placed poles. ``plant`` has the integrals that were asked for as states and outputs.
    """

    plant: LinearSystem
    inputs: list[str]
    measured: list[str]
    gains: Floats
    poles: Complexes
    cost: Floats | float
    residual: float

    def controller(self) -> LinearSystem:
        """Return the controller as a system without states: inputs of the plant from what is measured, -K."""
        return LinearSystem.of(
            [], states=[], inputs=self.measured, outputs=self.inputs, C=np.zeros((len(self.inputs), 0)), D=-self.gains
        )

    def closed(self) -> LinearSystem:
        """Return the closed loop; the plant's inputs stay, as what is added to the feedback."""
        k, plant = self.gains, self.plant.part(inputs=self.inputs)
        # what is measured holds nothing of the inputs at once: the designs refuse that
        c, _ = rows_of(self.plant, self.measured, self.inputs)
        return LinearSystem(
            plant.A - plant.B @ k @ c, plant.B, plant.C - plant.D @ k @ c, plant.D, plant.states, plant.inputs,
            plant.outputs, plant.units, plant.sample_time, plant.title,
        )  # fmt: skip

    def formulas(self) -> dict[str, str]:
        """Return each input's feedback as a formula over the measured signals, for a law file.

        >>> system = LinearSystem.of([[0.0]], [[1.0]], states=["h"], inputs=["w"])
        >>> assign_roots(system, [-2.0]).formulas()
        {'w': '-2*h'}
        """
        return {
            name: " ".join(f"{-k:+.6g}*{m}" for k, m in zip(row, self.measured, strict=True) if k != 0.0).lstrip("+")
            for name, row in zip(self.inputs, self.gains, strict=True)
        }

    @property
    def table(self) -> "DataFrame":
        """The gains as a DataFrame."""
        import pandas as pd

        return pd.DataFrame(self.gains, index=self.inputs, columns=self.measured)


def rows_of(plant: LinearSystem, names: Sequence[str], inputs: Sequence[str]) -> tuple[Floats, Floats]:
    """Return C and D of quantities that are outputs or states."""
    c, d, n = [], [], len(plant.states)
    columns = plant.indices(list(inputs), "inputs")
    for name in names:
        if name in plant.outputs:
            k = plant.outputs.index(name)
            c.append(plant.C[k])
            d.append(plant.D[k, columns])
        elif name in plant.states:
            c.append(np.eye(n)[plant.states.index(name)])
            d.append(np.zeros(len(columns)))
        else:
            # it is neither: this raises with the nearest name
            plant.indices([name], "outputs")
    return np.array(c).reshape(len(names), n), np.array(d).reshape(len(names), len(columns))


def checked(
    system: LinearSystem, inputs: Sequence[str], *, sampled: bool = False
) -> tuple[LinearSystem, list[str]]:  # fmt: skip
    """Return a system and the names of the inputs meant, all without any; a sampled one only where that may be.

    Raises DravikError for others.
    """
    require(system, LinearSystem, "the system")
    if system.sample_time is not None and not sampled:
        raise DravikError("the system is sampled", expected="a continuous one; the law is sampled afterwards")
    names = arguments.names(inputs, "inputs") or list(system.inputs)
    system.indices(names, "inputs")
    return system, names


def as_system(system: LinearSystem) -> LinearSystem:
    """Return a model as a plain system."""
    return LinearSystem(
        system.A, system.B, system.C, system.D, system.states, system.inputs, system.outputs, system.units,
        system.sample_time, system.title,
    )  # fmt: skip


def assign_roots(system: LinearSystem, poles: Sequence[complex], *, inputs: Sequence[str] = ()) -> Regulator:
    """Return state feedback that puts the closed loop's roots at ``poles`` (1/s), as many as there are states.

    Of a sampled system the roots are those in z.

    With several inputs the freedom that is left makes the roots insensitive (J. Kautsky, N. K. Nichols, P. Van
    Dooren, Int. J. Control 41 (1985), 1129).

    Parameters
    ----------
    system : LinearSystem
        The linear system.
    poles : sequence of complex
        Roots of the closed loop, 1/s, or in z of a sampled one, as many as states.
    inputs : sequence of str, default ()
        Those that move them; all unless given.

    Returns
    -------
    Regulator

    Raises
    ------
    DravikError
        For poles without their conjugates, more of one pole than there are inputs, and a mode that no input moves.

    Examples
    --------
    >>> system = LinearSystem.of([[0.0, 1.0], [0.0, 0.0]], [[0.0], [1.0]], states=["x", "v"], inputs=["a"])
    >>> assign_roots(system, [-1 + 1j, -1 - 1j]).gains.round(9).tolist()
    [[2.0, 2.0]]
    """
    system, names = checked(system, inputs, sampled=True)
    try:
        wanted = np.asarray([complex(p) for p in poles])
    except (TypeError, ValueError):
        raise DravikError(
            f"poles cannot be {arguments.shown(poles)}", expected="numbers, such as [-1 + 1j, -1 - 1j]"
        ) from None
    n = len(system.states)
    if len(wanted) != n or not np.all(np.isfinite(wanted)):
        raise DravikError(f"there are {len(wanted)} poles for {n} states", expected="one for each, finite")
    b = system.part(inputs=names).B
    # a root that stays where it is would make the solver fail with words about ranks
    _refuse_unmoved(system.A, b, roots_of(system.A), "", "1/s" if system.sample_time is None else "in z")
    return Regulator(as_system(system), names, list(system.states), *_placed(system.A, b, wanted))


def _placed(a: Floats, b: Floats, wanted: Complexes) -> tuple[Floats, Complexes, float, float]:
    from scipy.signal import place_poles

    if np.any(np.abs(np.sort_complex(wanted) - np.sort_complex(wanted.conj())) > 1e-9 * np.abs(wanted).max()):
        raise DravikError("a complex pole is without its conjugate", expected="complex poles in pairs")
    # the library places pairs and more; of one state any input will do, the strongest costs least
    if len(a) == 1:
        column = int(np.argmax(np.abs(b[0])))
        k = np.zeros((b.shape[1], 1))
        k[column, 0] = (a[0, 0] - float(wanted[0].real)) / b[0, column]
    else:
        try:
            k = np.asarray(place_poles(a, b, wanted).gain_matrix)
        except ValueError as error:
            raise DravikError(
                f"the poles cannot be placed: {error}", hint="poles that differ from each other"
            ) from None
    return k, roots_of(a - b @ k), math.nan, math.nan


def roots_of(a: Floats) -> Complexes:
    """Return eigenvalues, complex whatever they are."""
    return np.asarray(np.linalg.eigvals(a), dtype=np.complex128)


def _refuse_unmoved(a: Floats, b: Floats, roots: Complexes, name: str, unit: str = "1/s") -> None:
    """Raise DravikError for a root that no input moves: [A - s I, B] loses rank there."""
    n = len(a)
    # each row in its own size: a state in degrees must not hide one in radians
    rows = np.maximum(np.abs(a).max(axis=1), np.abs(b).max(axis=1)) if len(a) else np.ones(0)
    scale = np.where(rows > 0.0, rows, 1.0)
    for root in roots:
        wide = np.hstack([a - root * np.eye(n), b.astype(complex)]) / scale[:, None]
        sizes = np.linalg.svd(wide, compute_uv=False)
        if sizes[-1] < UNREACHED * max(sizes[0], 1.0):
            text = f"{root.real:.4g}" if abs(root.imag) < 1e-12 else f"{root.real:.4g} +- {abs(root.imag):.4g}j"
            raise DravikError(
                f"no input moves the {name or 'mode'} at {text} {unit}: it cannot be placed",
                hint="another input, or the system without that state: system.part(states=[...])",
            )


def assign_mode(
    model: LinearModel, mode: str, *, damping: float | None = None, frequency: float | None = None,
    inputs: Sequence[str] = (),
) -> Regulator:  # fmt: skip
    """Return state feedback that moves one mode, by its name, and leaves all others where they are.

    ``damping`` and ``frequency`` (rad/s) of a pair (what is not given stays); of a real root ``frequency`` is its
    size, decaying.

    Parameters
    ----------
    model : LinearModel
        The linear model.
    mode : str
        Its name.
    damping : float, optional
        Damping ratio of a pair; stays unless given.
    frequency : float, optional
        rad/s, of a real root its size; stays unless given.
    inputs : sequence of str, default ()
        Those that move it; all unless given.

    Returns
    -------
    Regulator

    Raises
    ------
    DravikError
        For a mode that the model does not have, and one that no input moves.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> model = dv.linearise(craft, dv.trim(craft, airspeed="62 m/s", altitude="300 m"))
    >>> found = assign_mode(model, "Dutch roll", damping=0.4, inputs=["rudder_increment"])
    >>> pair = max(found.poles, key=lambda s: -abs(s.imag - model.modes().named("Dutch roll").frequency * 0.9165))
    >>> print(round(float(-pair.real / abs(pair)), 6))
    0.4
    """
    require(model, LinearModel, "the model", "linearise(craft, point)")
    system, names = checked(model, inputs)
    own = model.modes().named(mode)
    if own is None:
        known = ", ".join(dict.fromkeys(m.name for m in model.modes()))
        raise DravikError(
            f"the model has no mode {mode!r}", expected=known, hint=nearest(mode, [m.name for m in model.modes()])
        )
    root = complex(own.eigenvalue)
    b = system.part(inputs=names).B
    _refuse_unmoved(system.A, b, np.array([root]), mode)
    values, left = np.linalg.eig(system.A.T)
    k = int(np.argmin(np.abs(values - root)))
    w = left[:, k]
    size = arguments.number(frequency, "frequency") if frequency is not None else abs(root)
    if not size > 0.0:
        raise DravikError(f"the frequency cannot be {size:g} rad/s", expected="above zero")
    if abs(root.imag) < 1e-9 * abs(root):
        basis, wanted = np.real(w)[:, None], np.array([complex(-size)])
    else:
        ratio = arguments.number(damping, "damping") if damping is not None else -root.real / abs(root)
        if not -1.0 < ratio < 1.0:
            raise DravikError(f"the damping cannot be {ratio:g}", expected="below 1, for a pair")
        basis = np.stack([w.real, w.imag], 1)
        one = size * complex(-ratio, math.sqrt(1.0 - ratio**2))
        wanted = np.array([one, one.conjugate()])
    # in the coordinates W'x of this mode alone: (W'x)' = small (W'x) + W'B u, and no other mode appears in them
    small = np.linalg.lstsq(basis, system.A.T @ basis, rcond=None)[0].T
    gain = _placed(small, basis.T @ b, wanted)[0] @ basis.T
    return Regulator(
        as_system(system), names, list(system.states), gain, roots_of(system.A - b @ gain), math.nan, math.nan
    )
