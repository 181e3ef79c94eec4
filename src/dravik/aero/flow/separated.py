"""Separated flow: where the attached lift gives out, and the flat plate that takes over.

Sources: blending function after R. W. Beard and T. W. McLain, Small Unmanned Aircraft, Princeton 2012, equation 4.10;
normal force of a plate across the flow 1.11 + 0.018 A by L. A. Viterna and D. C. Janetzke, NASA TM-82944 (1982);
its growth with the sine of the angle and the travel of its centre from a quarter to three quarters of the chord after
S. F. Hoerner, Fluid-Dynamic Lift, 1975, chapter 4.
"""

import numpy as np
from numpy.typing import ArrayLike, NDArray

__all__ = ["plate_across", "plate_centre", "separation"]

Floats = NDArray[np.float64]


def separation(alpha: ArrayLike, angle: ArrayLike, sharpness: ArrayLike) -> Floats:
    """Return the share of separated flow: s(M(alpha - angle)) + s(-M(alpha + angle)) with s(x) = 1/(1 + exp(-x)).

    It is a half at the angle either way, M is the sharpness in 1/rad.
    """
    a, limit, steep = np.asarray(alpha, dtype=float), np.asarray(angle), np.asarray(sharpness)

    def step(x: Floats) -> Floats:
        # the logistic function by tanh, which does not overflow
        return 0.5 * (1.0 + np.tanh(0.5 * x))

    found: Floats = np.minimum(step(steep * (a - limit)) + step(-steep * (a + limit)), 1.0)
    return found


def plate_across(aspect: ArrayLike) -> Floats:
    """Return the normal-force coefficient of a plate of an aspect ratio, across the flow."""
    found: Floats = 1.11 + 0.018 * np.minimum(np.asarray(aspect, dtype=float), 50.0)
    return found


def plate_centre(alpha: ArrayLike) -> Floats:
    """Return where a stalled section's force acts, in chords: a quarter at 0, a half across, 3/4 reversed."""
    found: Floats = 0.25 + 0.5 * np.abs(np.asarray(alpha, dtype=float)) / np.pi
    return found
