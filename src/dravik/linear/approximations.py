"""Short forms of an aircraft's linear model: the classical approximations of its modes, beside the whole model.

Each keeps the states that carry the mode; slower ones are held, faster ones have settled (are residualised). As in
R. C. Nelson, Flight Stability and Automatic Control, 2nd ed., McGraw-Hill 1998, sections 4.4, 4.5 and 5.3.
"""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.linear.modes import Mode, Modes
from dravik.systems.system import LinearSystem

__all__ = ["ShortForm", "short_forms"]

Complexes = NDArray[np.complex128]
#: Mode: the states that are kept, in air and in body coordinates, and those that have settled.
_FORMS: dict[str, tuple[tuple[str, ...], tuple[str, ...]]] = {
    "short period": (("alpha", "w", "q"), ()),
    "phugoid": (("airspeed", "u", "theta"), ("alpha", "w", "q")),
    "roll": (("p",), ()),
    "Dutch roll": (("beta", "v", "r"), ()),
    "spiral": (("phi",), ("beta", "v", "p", "r")),
}


class ShortForm(NamedTuple):
    """A mode by a short form: the states kept and settled, its root (1/s), the whole model's, and their difference.

    ``error`` is the distance of the roots over the size of the whole model's.
    """

    mode: str
    kept: tuple[str, ...]
    settled: tuple[str, ...]
    root: complex
    whole: complex
    error: float


def short_forms(model: LinearSystem, modes: Modes) -> list[ShortForm]:
    """Return the short form of every mode of flight on a wing that the model has."""
    found = []
    for name, (kept, settled) in _FORMS.items():
        mode = modes.named(name)
        own, fast = (tuple(n for n in names if n in model.states) for names in (kept, settled))
        if mode is None or not own:
            continue
        root = _nearest(model, own, fast, mode)
        if root is not None:
            error = abs(root - mode.eigenvalue) / max(abs(mode.eigenvalue), 1e-300)
            found.append(ShortForm(name, own, fast, root, mode.eigenvalue, error))
    return found


def _nearest(model: LinearSystem, kept: tuple[str, ...], settled: tuple[str, ...], mode: Mode) -> complex | None:
    """Return the root of the short form that is nearest to the mode; None where what settles has no equilibrium."""
    # what is slower than the mode is held, what is faster has settled
    part = model.part(states=[*kept, *settled], outputs=[])
    try:
        roots = np.linalg.eigvals((part.residualised(*settled) if settled else part).A)
    except np.linalg.LinAlgError:
        return None
    # a short form of two states has two roots: that of the mode is the nearer one
    return complex(min(roots, key=lambda r: abs(r - mode.eigenvalue)))
