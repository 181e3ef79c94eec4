"""Profile drag: skin friction by Reynolds number, form factors, and what flaps add.

Sources: friction by L. Prandtl and H. Schlichting (log law) and H. Blasius; form factors of S. F. Hoerner,
Fluid-Dynamic Drag, 1965, chapters 2 (bodies) and 6 (sections); flaps by A. D. Young, ARC R&M 2622 (1947).
"""

import numpy as np
from numpy.typing import ArrayLike, NDArray

__all__ = ["body_form_factor", "flap_drag", "friction", "section_form_factor"]

Floats = NDArray[np.float64]
LEAST_REYNOLDS = 1e3


def friction(reynolds: ArrayLike, laminar: float = 0.0) -> Floats:
    """Return the friction coefficient of one side of a plate, laminar over a share of its length, turbulent behind.

    Turbulent 0.455/log10(Re)^2.58, less the turbulent friction of the laminar part, plus 1.328/sqrt(Re) of that part.
    """
    whole = np.maximum(np.asarray(reynolds, dtype=float), LEAST_REYNOLDS)
    part = np.maximum(whole * laminar, LEAST_REYNOLDS)
    # turbulent over all, less what is turbulent over the laminar part, plus the laminar friction there
    turbulent, replaced = (0.455 / np.log10(r) ** 2.58 for r in (whole, part))
    found: Floats = np.maximum(turbulent + laminar * (1.328 / np.sqrt(part) - replaced), 1.328 / np.sqrt(whole))
    return found


def section_form_factor(thickness: ArrayLike) -> Floats:
    """Return the drag of a section over the friction of a plate: 1 + 2 t/c + 60 (t/c)^4."""
    t = np.asarray(thickness, dtype=float)
    found: Floats = 1.0 + 2.0 * t + 60.0 * t**4
    return found


def body_form_factor(fineness: float) -> float:
    """Return the drag of a streamline body over its friction: 1 + 1.5 (d/l)^1.5 + 7 (d/l)^3."""
    slim = 1.0 / fineness
    return float(1.0 + 1.5 * slim**1.5 + 7.0 * slim**3)


def flap_drag(deflection: ArrayLike, hinge: float, slotted: bool) -> Floats:
    """Return what a flap adds to its section's drag: k (cf/c)^1.38 sin^2, with k = 1.7, or 0.9 for a slotted one."""
    sine = np.sin(np.asarray(deflection, dtype=float))
    found: Floats = (0.9 if slotted else 1.7) * (1.0 - hinge) ** 1.38 * sine**2
    return found
