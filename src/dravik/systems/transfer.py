"""One channel of a linear system as zeros, poles and gain."""

import math
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

__all__ = ["Transfer"]

Complexes = NDArray[np.complex128]
NEARLY = 1e-5  # relative distance below which a zero and a pole are taken to cancel where people read them
STILL = 1e-9  # roots slower than this share of the fastest count as zero


@dataclass(frozen=True)
class Transfer:
    """gain * prod(s - zeros) / prod(s - poles) from an input to an output; of z where ``dt`` (s) is given.

    ``gain`` is the factor of the highest powers, not the static gain. ``cancelled`` are roots of the system that the
    channel does not show: the input does not move them, or the output does not see them.
    """

    input: str
    output: str
    zeros: Complexes
    poles: Complexes
    gain: float
    sample_time: float | None = None
    cancelled: Complexes = field(default_factory=lambda: np.zeros(0, dtype=complex))

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
        letter = "s" if self.sample_time is None else "z"
        above, below = (_factors(roots, letter) for roots in (self.zeros, self.poles))
        return f"{self.output}/{self.input} = {self.gain:.5g} {above} / {below}"

    def simplified(self, tolerance: float = NEARLY) -> "Transfer":
        """Return the function without zeros and poles that all but cancel, closer than ``tolerance`` of their size.

        Those, too, are then among ``cancelled``. Slopes by differences leave such pairs where theory has none.
        """
        size = float(np.abs(self.poles).max(initial=1e-300))
        still = STILL * size
        zeros, poles, gone = [0j if abs(z) < still else z for z in self.zeros], list[complex](), list(self.cancelled)
        for pole in self.poles:
            near = min(range(len(zeros)), key=lambda k, p=pole: abs(zeros[k] - p), default=-1)  # type: ignore[misc]
            if near >= 0 and abs(zeros[near] - pole) <= max(tolerance * abs(pole), still):
                zeros.pop(near)
                gone.append(pole)
            else:
                poles.append(0j if abs(pole) < still else complex(pole))
        return replace(
            self, zeros=np.array(zeros, dtype=complex), poles=np.array(poles, dtype=complex),
            cancelled=np.array(gone, dtype=complex),
        )  # fmt: skip

    def text(self) -> str:
        """Return it as people read it: factored, as polynomials, each root with its figures, and what cancels."""
        shown = self.simplified()
        letter = "s" if self.sample_time is None else "z"
        above, below = shown.polynomials()
        lines = [str(shown), f"  = ({_polynomial(above, letter)}) / ({_polynomial(below, letter)})"]
        if self.sample_time is None:
            rest = shown.at_rest()
            lines.append("  gain at rest: " + ("none, it integrates" if math.isinf(rest) else f"{rest:.5g}"))
        size = STILL * float(np.abs(self.poles).max(initial=1e-300))
        gone = np.where(np.abs(shown.cancelled) < size, 0.0, shown.cancelled)
        for what, roots in (("zero", shown.zeros), ("pole", shown.poles), ("cancelled", gone)):
            lines += [f"  {what}: {_figures(r, self.sample_time)}" for r in _upper(roots)]
        return "\n".join(lines)


def _upper(roots: Complexes) -> list[complex]:
    """Return roots by size, of each pair the one above the real axis."""
    return [complex(r) for r in sorted(roots, key=lambda r: (abs(r), r.imag)) if r.imag >= 0.0]


def _figures(root: complex, sample_time: float | None) -> str:
    if sample_time is not None:
        return f"{root:.5g}"
    if root.imag > 0.0:
        figures = f"damping {-root.real / abs(root):.4g}, frequency {abs(root):.5g} rad/s"
        return f"{root.real:.5g} ± {root.imag:.5g} i 1/s: {figures}"
    return f"{root.real:.5g} 1/s: " + (f"time constant {-1.0 / root.real:.5g} s" if root.real else "at rest")


def _polynomial(coefficients: NDArray[np.float64], letter: str) -> str:
    order, text = len(coefficients) - 1, ""
    for k, value in enumerate(coefficients):
        power = order - k
        unit = "" if power == 0 else letter if power == 1 else f"{letter}^{power}"
        number = "" if abs(value) == 1.0 and power else f"{abs(value):.5g} " if power else f"{abs(value):.5g}"
        sign = ("-" if value < 0 else "") if k == 0 else (" - " if value < 0 else " + ")
        text += f"{sign}{number}{unit}"
    return text


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
