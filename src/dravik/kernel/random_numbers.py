"""Random numbers without a state: a normal number of a seed, a stream and its place in the stream.

So a number depends on nothing else: not on the step, not on the order in which numbers are asked for, not on how many
cores there are.

Sources: G. L. Steele, D. Lea, C. H. Flood, Fast Splittable Pseudorandom Number Generators, 2014, figure 16 (the mixing
of bits); M. J. Wichura, Algorithm AS 241, Applied Statistics 37, 1988 (the inverse of the normal distribution).
"""

import hashlib
import math

import numpy as np

from dravik.compiled import compiled, inlined

__all__ = ["normal", "stream_of"]

# Steele, Lea and Flood: the step of the sequence, and the two multipliers of the mixing
_STEP, _FIRST, _SECOND = np.uint64(0x9E3779B97F4A7C15), np.uint64(0xBF58476D1CE4E5B9), np.uint64(0x94D049BB133111EB)


@inlined
def _mixed(z: np.uint64) -> np.uint64:
    """Return 64 bits of which each depends on all bits of ``z``."""
    z = (z ^ (z >> np.uint64(30))) * _FIRST
    z = (z ^ (z >> np.uint64(27))) * _SECOND
    return z ^ (z >> np.uint64(31))


@inlined
def _inverse(p: float) -> float:
    """Return the number below which a normal one lies with the probability ``p``, between 0 and 1."""
    q = p - 0.5
    if abs(q) <= 0.425:
        r = 0.180625 - q * q
        a = 33430.575583588128105 + r * 2509.0809287301226727
        a = 45921.953931549871457 + r * (67265.770927008700853 + r * a)
        a = 1971.5909503065514427 + r * (13731.693765509461125 + r * a)
        a = 3.387132872796366608 + r * (133.14166789178437745 + r * a)
        b = 28729.085735721942674 + r * 5226.495278852854561
        b = 21213.794301586595867 + r * (39307.89580009271061 + r * b)
        b = 687.1870074920579083 + r * (5394.1960214247511077 + r * b)
        return q * a / (1.0 + r * (42.313330701600911252 + r * b))
    r = math.sqrt(-math.log(p if q < 0.0 else 1.0 - p))
    if r <= 5.0:
        r -= 1.6
        a = 0.0227238449892691845833 + r * 7.7454501427834140764e-4
        a = 1.27045825245236838258 + r * (0.241780725177450611770 + r * a)
        a = 5.76949722146069140550 + r * (3.64784832476320460504 + r * a)
        a = 1.42343711074968357734 + r * (4.63033784615654529590 + r * a)
        b = 5.475938084995344946e-4 + r * 1.05075007164441684324e-9
        b = 0.148103976427480074590 + r * (0.0151986665636164571966 + r * b)
        b = 1.67638483018380384940 + r * (0.689767334985100004550 + r * b)
        b = 1.0 + r * (2.05319162663775882187 + r * b)
    else:
        r -= 5.0
        a = 2.71155556874348757815e-5 + r * 2.01033439929228813265e-7
        a = 0.0265321895265761230930 + r * (1.24266094738807843860e-3 + r * a)
        a = 1.78482653991729133580 + r * (0.296560571828504891230 + r * a)
        a = 6.65790464350110377720 + r * (5.46378491116411436990 + r * a)
        b = 1.42151175831644588870e-7 + r * 2.04426310338993978564e-15
        b = 7.86869131145613259100e-4 + r * (1.84631831751005468180e-5 + r * b)
        b = 0.136929880922735805310 + r * (0.0148753612908506148525 + r * b)
        b = 1.0 + r * (0.599832206555887937690 + r * b)
    return a / b if q >= 0.0 else -a / b


@compiled
def normal(seed: int, stream: int, place: int) -> float:
    """Return a normal number, mean 0 and standard deviation 1, of a seed, a stream, and a place in it.

    >>> from dravik.kernel.random_numbers import normal
    >>> normal(0, 1, 2) == normal(0, 1, 2), normal(0, 1, 2) == normal(1, 1, 2)
    (True, False)
    """
    # mixed one after the other, so that neighbouring seeds and streams have nothing in common
    z = _mixed(np.uint64(seed) + _STEP)
    z = _mixed((z ^ np.uint64(stream)) + _STEP)
    z = _mixed((z ^ np.uint64(place)) + _STEP)
    # 53 bits and a half: never 0 and never 1, of which the inverse is infinite
    return _inverse((float(z >> np.uint64(11)) + 0.5) * 1.1102230246251565e-16)


def stream_of(name: str) -> int:
    """Return the number of a stream by its name: the same on every machine, below 2**53.

    >>> stream_of("gyro_x noise") == stream_of("gyro_y noise")
    False
    """
    return int.from_bytes(hashlib.sha256(name.encode()).digest()[:8], "big") >> 11
