"""Linear models of published aircraft: from their coefficients through trim and linearise to roots and transfer functions.

The figures are quoted from memory of the books. That the matrices printed in a book give the polynomials and roots
printed elsewhere in it, to the last digit, is what says that they are remembered rightly.
"""

from collections.abc import Iterator, Sequence

import numpy as np

from dravik.linear import LinearModel, linearise
from dravik.trimming import trim
from tests.reference import Floats, Row, case
from tests.support import FOOT, light_aircraft, transport

_LONG, _LATERAL = ["u", "w", "q", "theta"], ["v", "p", "r", "phi"]


def _entries(name: str, expected: Sequence[Sequence[float]], found: Floats, digits: float) -> Iterator[Row]:
    """Yield the entries of a matrix that are not zero or one; ``digits`` is the relative difference allowed."""
    for i, row in enumerate(expected):
        for j, value in enumerate(row):
            if value not in (0.0, 1.0):
                yield Row(f"{name}[{i + 1}, {j + 1}]", value, float(found[i, j]), digits * abs(value))


def _of_feet(model: LinearModel) -> tuple[Floats, Floats]:
    """Return A and B of a model with its velocities in ft/s."""
    size = np.array([FOOT if name in "uvw" else 1.0 for name in model.states])
    return model.A * size / size[:, None], model.B / size[:, None]


@case(
    "Modes of a light aircraft from its published derivatives, through trim and linearise",
    "R. C. Nelson, Flight Stability and Automatic Control, 2nd ed., McGraw-Hill 1998, table B.1, "
    "examples 4.3 and 5.1; a unit of the last printed digit",
)
def _light_aircraft() -> Iterator[Row]:
    light = light_aircraft()
    point = trim(light, airspeed=176 * FOOT, altitude=0.0)
    modes = linearise(light, point).modes()
    for name, real, imag, digits in (
        ("short period", -2.51, 2.59, (0.01, 0.01)),
        ("phugoid", -0.0171, 0.213, (0.0001, 0.001)),
        ("Dutch roll", -0.487, 2.335, (0.001, 0.001)),
        ("roll", -8.435, 0.0, (0.001, 0.0)),
        ("spiral", -0.00877, 0.0, (0.00001, 0.0)),
    ):
        mode = modes.named(name)
        assert mode is not None, name
        yield Row(f"{name}, real part [1/s]", real, mode.eigenvalue.real, digits[0])
        yield Row(f"{name}, imaginary part [rad/s]", imag, mode.eigenvalue.imag, digits[1])


# Etkin and Reid's transport in cruise: ft, s, rad. Elevator; aileron and rudder.
_ETKIN = "B. Etkin, L. D. Reid, Dynamics of Flight, 3rd ed., Wiley 1996"
_A_LONG = [
    [-0.006868, 0.01395, 0.0, -32.2],
    [-0.09055, -0.3151, 773.98, 0.0],
    [0.0001187, -0.001026, -0.4285, 0.0],
    [0.0, 0.0, 1.0, 0.0],
]
_B_LONG = [[-0.000187], [-17.85], [-1.158], [0.0]]
_A_LATERAL = [
    [-0.0558, 0.0, -774.0, 32.2],
    [-0.003865, -0.4342, 0.4136, 0.0],
    [0.001086, -0.006112, -0.1458, 0.0],
    [0.0, 1.0, 0.0, 0.0],
]
_B_LATERAL = [[0.0, 5.642], [-0.1431, 0.1144], [0.003741, -0.4859], [0.0, 0.0]]


@case(
    "A large transport from its published coefficients, through trim and linearise",
    f"{_ETKIN}, tables 6.1 and 6.6, equations 6.2,1 and 6.7,1. Longitudinal 1e-3, lateral 6e-3 of each figure, because "
    "the moments of inertia are printed to three digits (0.183e8 slug ft2). The lift of the elevator is left out: the "
    "printed row of B differs by 1.3 % from the printed coefficient",
)
def _transport() -> Iterator[Row]:
    craft = transport()
    point = trim(craft, airspeed=774 * FOOT, altitude="40000 ft")
    yield Row("alpha of the stability axes [rad]", 0.0, point["alpha"], 1e-9)
    yield Row("elevator [rad]", 0.0, point["elevator"], 1e-9)
    model = linearise(craft, point, coordinates="body")
    a, b = _of_feet(model.part(states=_LONG))
    yield from _entries("A, longitudinal", _A_LONG, a, 1e-3)
    elevator = b[:, model.inputs.index("elevator_command")]
    yield Row("B, longitudinal[3, 1]", _B_LONG[2][0], float(elevator[2]), 1e-3)
    a, b = _of_feet(model.part(states=_LATERAL))
    yield from _entries("A, lateral", _A_LATERAL, a, 6e-3)
    columns = [model.inputs.index(f"{n}_command") for n in ("aileron", "rudder")]
    yield from _entries("B, lateral", _B_LATERAL, b[:, columns], 6e-3)


@case(
    "Roots and transfer functions of a large transport from its published matrices", f"{_ETKIN}, sections 6.2, 6.7, 7.7"
)
def _transport_roots() -> Iterator[Row]:
    long = LinearModel.of(_A_LONG, _B_LONG, states=_LONG, inputs=["elevator"])
    lateral = LinearModel.of(_A_LATERAL, states=_LATERAL)
    for model, name, real, imag, digit in (
        (long, "short period", -0.3719, 0.8875, 1e-4),
        (long, "phugoid", -0.003289, 0.06723, 1e-5),
        (lateral, "Dutch roll", -0.0330, 0.9465, 1e-4),
        (lateral, "roll", -0.5625, 0.0, 1e-4),
        (lateral, "spiral", -0.0073, 0.0, 1e-4),
    ):
        mode = model.modes().named(name)
        assert mode is not None, name
        yield Row(f"{name}, real part [1/s]", real, mode.eigenvalue.real, digit)
        yield Row(f"{name}, imaginary part [rad/s]", imag, mode.eigenvalue.imag, digit)
    _, below = long.transfer("elevator", "u").polynomials()
    for power, value, digit in ((3, 0.750468, 1e-6), (2, 0.935494, 1e-6), (1, 0.0094630, 1e-7), (0, 0.0041959, 1e-7)):
        yield Row(f"characteristic equation, s^{power}", value, float(below[4 - power]), digit)
    for output, printed in (
        ("u", (-0.000187, -0.2491, 24.68, 11.16)),
        ("w", (-17.85, -904.0, -6.208, -3.445)),
        ("theta", (-1.158, -0.3545, -0.003873)),
    ):
        above, _ = long.transfer("elevator", output).polynomials()
        for k, value in enumerate(printed):
            power = len(printed) - 1 - k
            yield Row(f"{output} over elevator, s^{power}", value, float(above[k]), 5e-4 * abs(value))


@case(
    "Lateral transfer functions of a jet transport from its published matrices",
    "M. V. Cook, Flight Dynamics Principles, example 7.1 (data of G. L. Teper, STI-TR-176-1, 1969): ft, s, rad; a unit of "
    "the last printed digit",
)
def _jet_transport() -> Iterator[Row]:
    a = [[-0.1008, 0, -468.2, 32.2], [-0.00579, -1.232, 0.397, 0], [0.00278, -0.0346, -0.257, 0], [0, 1, 0, 0]]
    b = [[0, 13.48416], [-1.62, 0.392], [-0.01875, -0.864], [0, 0]]
    model = LinearModel.of(a, b, states=_LATERAL, inputs=["aileron", "rudder"])
    poles = model.transfer("aileron", "phi").poles
    pair = poles[np.argmax(poles.imag)]
    for what, value, found, digit in (
        ("spiral [1/s]", -0.0065, max(poles.real), 1e-4), ("roll [1/s]", -1.329, min(poles.real), 1e-3),
        ("Dutch roll, coefficient of s", 0.254, -2.0 * pair.real, 1e-3), ("Dutch roll, constant", 1.433, abs(pair) ** 2, 2e-3),
    ):  # fmt: skip
        yield Row(what, value, float(found), digit)
    for source, output, gain, real, quadratic in (
        ("aileron", "phi", -1.62, (), (0.362, 1.359)),
        ("rudder", "phi", 0.392, (-1.85, 2.566), ()),
        ("rudder", "r", -0.864, (-1.335,), (-0.03, 0.109)),
        ("rudder", "v", 13.484, (-30.207, -1.297, 0.0148), ()),
    ):
        channel = model.transfer(source, output)
        name = f"{output} over {source}"
        yield Row(f"{name}, gain", gain, channel.gain, 5e-4)
        zeros = np.sort(channel.zeros[np.abs(channel.zeros.imag) < 1e-9].real)
        for expected, found in zip(real, zeros, strict=True):
            yield Row(f"{name}, zero", expected, float(found), 1e-3)
        if quadratic:
            zero = channel.zeros[np.argmax(channel.zeros.imag)]
            yield Row(f"{name}, coefficient of s", quadratic[0], -2.0 * float(zero.real), 1e-3)
            yield Row(f"{name}, constant", quadratic[1], abs(zero) ** 2, 1e-3)
