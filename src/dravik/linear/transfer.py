"""One channel of a linear system as zeros, poles and gain."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

__all__ = ["Transfer"]

Complexes = NDArray[np.complex128]
STILL = 1e-9  # roots slower than this share of the fastest count as zero


@dataclass(frozen=True)
class Transfer:
    """gain * prod(s - zeros) / prod(s - poles) from an input to an output; of z where ``dt`` (s) is given.

    ``gain`` is the factor of the highest powers, not the static gain.
    """

    input: str
    output: str
    zeros: Complexes
    poles: Complexes
    gain: float
    dt: float | None = None

    def __call__(self, s: complex) -> complex:
        """Return its value at a point of the plane of s, 1/s, or of z."""
        # multiply in pairs, numerator with denominator: neither product overflows
        value = complex(self.gain)
        for k in range(max(len(self.zeros), len(self.poles))):
            value *= (s - self.zeros[k]) if k < len(self.zeros) else 1.0
            value /= (s - self.poles[k]) if k < len(self.poles) else 1.0
        return value

    def at_rest(self) -> float:
        """Return the static gain of a continuous channel; infinite with more poles than zeros at rest, else zero.

        A root counts as at rest below STILL of the fastest: equal numbers of zeros and poles at rest cancel.
        """
        sizes = np.abs(np.concatenate([self.zeros, self.poles]))
        still = STILL * max(float(sizes.max(initial=0.0)), 1e-300)
        above, below = ([-r for r in roots if abs(r) > still] for roots in (self.zeros, self.poles))
        more = (len(self.poles) - len(below)) - (len(self.zeros) - len(above))
        if more:
            return math.inf if more > 0 and self.gain != 0.0 else 0.0
        value = complex(self.gain)
        for k in range(max(len(above), len(below))):
            value *= (above[k] if k < len(above) else 1.0) / (below[k] if k < len(below) else 1.0)
        return value.real

    def polynomials(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Return numerator and denominator, highest powers first: for reading, not for computing roots from."""
        above, below = (np.real(np.atleast_1d(np.poly(roots))) for roots in (self.zeros, self.poles))
        return self.gain * above, below

    def __str__(self) -> str:
        letter = "s" if self.dt is None else "z"
        above, below = (_factors(roots, letter) for roots in (self.zeros, self.poles))
        return f"{self.output}/{self.input} = {self.gain:.5g} {above} / {below}"


def _factors(roots: Complexes, letter: str) -> str:
    found = []
    for root in sorted(roots, key=lambda r: (abs(r), r.imag)):
        if root.imag < 0.0:
            continue
        if root.imag > 0.0:
            found.append(f"({letter}² {-2.0 * root.real:+.4g} {letter} {abs(root) ** 2:+.4g})")
        else:
            found.append(letter if root.real == 0.0 else f"({letter} {-root.real:+.4g})")
    return " ".join(found) or "1"
