"""Checks against something outside the code: each case says what it was held against.

``tests/test_verification.py`` runs them, ``tools/write_verification.py`` prints them into
``docs/background/verification``: one source, so that table and tests cannot drift apart.
"""

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from scipy.integrate import quad
from scipy.special import ellipj

from dravik.aero import Airframe, FinnedBody, FlowState, components
from dravik.aero.bodies.finned import fin_slope
from dravik.aero.drawing.parts import Body
from dravik.aero.flow.slender import apparent_mass_factor, slender_bodies
from dravik.aircraft import sample
from dravik.flight import Start, doublet, fly, step
from dravik.linear import linearise
from dravik.surroundings.atmosphere import air_at
from dravik.trimming import trim
from dravik.validation import prove_linear, prove_trim
from tests.support import craft, drawing, elliptic_wing, lattice_slope, rectangle, wing

Floats = np.ndarray[Any, np.dtype[np.float64]]


class Row(NamedTuple):
    """One figure: what, expected, obtained, and the largest difference allowed."""

    what: str
    expected: float
    obtained: float
    tolerance: float

    @property
    def holds(self) -> bool:
        return abs(self.obtained - self.expected) <= self.tolerance


@dataclass(frozen=True)
class Case:
    """A group of figures with the source they were held against."""

    name: str
    source: str
    rows: Callable[[], Iterator[Row]]


CASES: list[Case] = []


def case(name: str, source: str) -> Callable[[Callable[[], Iterator[Row]]], Callable[[], Iterator[Row]]]:
    """Register a case."""

    def register(rows: Callable[[], Iterator[Row]]) -> Callable[[], Iterator[Row]]:
        CASES.append(Case(name, source, rows))
        return rows

    return register


# -- motion ---------------------------------------------------------------------------------------


def tumble(dt: float, seconds: float = 30.0) -> tuple[Any, Floats]:
    """Return the flight of a free tri-axial body, and its body rates by Jacobi's elliptic functions."""
    a, b, c = 2.8, 2.0, 1.2
    first, third = 1.0, 0.6
    body = craft(environment={"gravity": 0.0}, loading={"Ixx": a, "Iyy": b, "Izz": c})
    x = body.state(position=(0, 0, 1000), velocity=(0, 0, 0), rates=(first, 0.0, third))
    run = fly(body, start=Start(x, body.default_inputs()), duration=seconds, dt=dt)
    rate = first * math.sqrt((a - b) * (a - c) / (b * c))
    m = (b - c) * c * third**2 / (a * (a - b) * first**2)
    second = -(a - c) * third * first / (b * rate)
    sn, cn, dn, _ = ellipj(rate * run.time, m)
    return run, np.stack([first * dn, second * sn, third * cn], axis=1)


@case("Torque-free tumbling of a tri-axial body, 30 s, step 2 ms", "Jacobi elliptic functions, scipy.special.ellipj")
def _tumbling() -> Iterator[Row]:
    run, exact = tumble(0.002)
    for i, name in enumerate("pqr"):
        worst = float(np.max(np.abs(run[name] - exact[:, i])))
        yield Row(f"largest error of {name} [rad/s]", 0.0, worst, 1e-8)


def momentum_and_energy(run: Any) -> tuple[Floats, Floats]:
    """Return angular momentum in local axes (times, 3) and rotational energy (times,)."""
    from dravik.frames import dcm_from_euler

    inertia = np.array([2.8, 2.0, 1.2])
    rates = np.stack([run[n] for n in "pqr"], axis=1)
    to_body = dcm_from_euler(run["phi"], run["theta"], run["psi"])
    local = np.einsum("tij,ti->tj", to_body, rates * inertia)
    return local, 0.5 * np.sum(inertia * rates**2, axis=1)


@case(
    "The same body: what is conserved, and the order of the integrator",
    "conservation laws; order 4 of the classical Runge-Kutta method",
)
def _orders() -> Iterator[Row]:
    errors, drifts, energies = [], [], []
    for dt in (0.08, 0.04, 0.02):
        run, exact = tumble(dt, 24.0)
        errors.append(float(np.max(np.abs(np.stack([run[n] for n in "pqr"], axis=1) - exact))))
        momentum, energy = momentum_and_energy(run)
        drifts.append(float(np.max(np.abs(momentum - momentum[0]))))
        energies.append(float(np.max(np.abs(energy - energy[0]))))
    yield Row("order of the error in the rates, 0.04 to 0.02 s", 4.0, math.log2(errors[1] / errors[2]), 0.1)
    yield Row("order of the momentum drift, at least 4", 0.0, min(0.0, math.log2(drifts[1] / drifts[2]) - 3.9), 0.0)
    yield Row("order of the energy drift, at least 4", 0.0, min(0.0, math.log2(energies[1] / energies[2]) - 3.9), 0.0)
    run, _ = tumble(0.002)
    momentum, energy = momentum_and_energy(run)
    yield Row("momentum drift, 30 s at 2 ms [kg m^2/s]", 0.0, float(np.max(np.abs(momentum - momentum[0]))), 1e-9)
    yield Row("energy drift, 30 s at 2 ms [J]", 0.0, float(np.max(np.abs(energy - energy[0]))), 1e-10)


@case("Throw in a vacuum, 4 s", "closed form: parabola")
def _throw() -> Iterator[Row]:
    body = craft()
    x = body.state(position=(0, 0, 100.0), velocity=(30.0, 0.0, -20.0))
    run = fly(body, start=Start(x, body.default_inputs()), duration=4.0)
    t = run.time
    yield Row("north [m]", 0.0, float(np.max(np.abs(run["north"] - 30.0 * t))), 1e-10)
    height = 100.0 + 20.0 * t - 0.5 * 9.80665 * t**2
    yield Row("altitude [m]", 0.0, float(np.max(np.abs(run["altitude"] - height))), 1e-10)


@case("Drop with drag, 12 s", "closed form: v = V tanh(g t/V), h = (V^2/g) log cosh(g t/V)")
def _drop() -> Iterator[Row]:
    # drag 0.05 v^2 whatever the density: body axes, so that the drag follows the fall along z
    drag = "0.05/(0.5*density*reference_area)"
    body = craft(aero={"axes": "body", "CX": 0, "CY": 0, "CZ": f"-{drag}", "Cl": 0, "Cm": 0, "Cn": 0})
    x = body.state(position=(0, 0, 2000.0), velocity=(0.0, 0.0, 0.0))
    run = fly(body, start=Start(x, body.default_inputs()), duration=12.0)
    g, terminal = 9.80665, math.sqrt(2.0 * 9.80665 / 0.05)
    speed = terminal * np.tanh(g * run.time / terminal)
    fallen = terminal**2 / g * np.log(np.cosh(g * run.time / terminal))
    yield Row("speed [m/s]", 0.0, float(np.max(np.abs(run["airspeed"] - speed))), 1e-8)
    yield Row("height [m]", 0.0, float(np.max(np.abs(2000.0 - run["altitude"] - fallen))), 1e-8)


@case("Fixed step against an adaptive eighth-order method: Tarn, elevator doublet, 10 s at 100 Hz", "DOP853 at 1e-11")
def _adaptive() -> Iterator[Row]:
    tarn = sample("tarn")
    point = trim(tarn, airspeed="62 m/s", altitude="300 m")
    controls = {"elevator": doublet("1 deg", at=1.0, width=1.0)}
    both = [fly(tarn, start=point, duration=10, controls=controls, method=m) for m in ("rk4", "adaptive")]
    for name, tolerance in (("theta", 1e-7), ("airspeed", 1e-5), ("altitude", 1e-4)):
        yield Row(
            f"largest difference of {name} (SI)", 0.0, float(np.max(np.abs(both[0][name] - both[1][name]))), tolerance
        )


@case("alpha-dot terms", "closed form: alpha_dot = (g - q S CL0/m)/V / (1 + q S CL_ad c/(2 V^2 m))")
def _alpha_dot() -> Iterator[Row]:
    zero = dict.fromkeys(("CD", "CY", "Cl", "Cn"), 0)
    body = craft(
        aero={"axes": "stability", "CL": "0.01 + 3.0*alpha_dot_hat", "Cm": "-2*alpha_dot_hat", **zero},
    )
    speed = 40.0
    x = body.state(position=(0, 0, 0.0), velocity=(speed, 0, 0))
    values = body.values(x, body.default_inputs())
    pressure = 0.5 * values["density"] * speed**2
    rate = (9.80665 - pressure * 0.01 / 2.0) / speed / (1.0 + pressure * 3.0 / (2.0 * speed**2 * 2.0))
    yield Row("alpha_dot [rad/s]", rate, values["alpha_dot"], 1e-14)
    moment = pressure * -2.0 * rate / (2.0 * speed)
    yield Row("pitch acceleration from it [rad/s^2]", moment / 2.0, values["q_dot"], 1e-13)


# -- atmosphere ---------------------------------------------------------------------------------------

# Geometric altitude (m); temperature (K), pressure (Pa), density (kg/m^3) as printed in table I, four decimals of
# the mantissa. Layer boundaries are given in geopotential metres in table 4 and reached below.
_PRINTED = (
    (5000.0, 255.676, 5.4048e4, 7.3643e-1),
    (10000.0, 223.252, 2.6499e4, 4.1351e-1),
    (30000.0, 226.509, 1.1970e3, 1.8410e-2),
    (50000.0, 270.650, 7.9779e1, 1.0269e-3),
    (80000.0, 198.639, 1.0524e0, 1.8458e-5),
)
_LAYERS = (
    (11000.0, 216.650, 2.2632e4, 3.6391e-1),
    (20000.0, 216.650, 5.4748e3, 8.8034e-2),
    (32000.0, 228.650, 8.6801e2, 1.3225e-2),
    (47000.0, 270.650, 1.1090e2, 1.4275e-3),
    (51000.0, 270.650, 6.6938e1, 8.6160e-4),
    (71000.0, 214.650, 3.9564e0, 6.4211e-5),
)


@case(
    "Standard atmosphere",
    "U.S. Standard Atmosphere, 1976, NOAA-S/T 76-1562, table I; printed digits (the last is cut or rounded)",
)
def _atmosphere() -> Iterator[Row]:
    heights = [(h, f"{h:g} m", *rest) for h, *rest in _PRINTED]
    heights += [(6356766.0 * h / (6356766.0 - h), f"layer at {h:g} m geopotential", *rest) for h, *rest in _LAYERS]
    heights.append((0.0, "sea level", 288.15, 101325.0, 1.2250))
    for altitude, label, temperature, pressure, density in heights:
        air = air_at(altitude)
        yield Row(f"temperature at {label} [K]", temperature, float(air.temperature), 0.001)
        for name, value, obtained in (("pressure", pressure, air.pressure), ("density", density, air.density)):
            digit = 10.0 ** (math.floor(math.log10(value)) - 4)
            yield Row(f"{name} at {label} [SI]", value, float(obtained), digit)
    air = air_at([0.0, 10000.0])
    yield Row(
        "temperature at 86 km, with the molecular weight's fall [K]", 186.87, float(air_at(86000.0).temperature), 0.005
    )
    yield Row("speed of sound at sea level [m/s]", 340.294, float(air.speed_of_sound[0]), 0.001)
    yield Row("speed of sound at 10 km [m/s]", 299.532, float(air.speed_of_sound[1]), 0.001)
    yield Row("viscosity at sea level [Pa s]", 1.7894e-5, float(air.viscosity[0]), 1e-9)
    yield Row("viscosity at 10 km [Pa s]", 1.4577e-5, float(air.viscosity[1]), 1e-9)


# -- linear models ------------------------------------------------------------------------------------


@case(
    "Kinematic rows of A, Tarn in a climbing, banked flight",
    "analytic partial derivatives of the Euler-angle equations",
)
def _kinematics() -> Iterator[Row]:
    tarn = sample("tarn")
    point = trim(tarn, airspeed="62 m/s", altitude="300 m", flight_path="2 deg", bank="5 deg", heading="30 deg")
    model = linearise(tarn, point, coordinates="body")
    s = dict(zip(model.states, model.x0, strict=True))
    sf, cf, st, ct, sp, cp = (f(s[n]) for n in ("phi", "theta", "psi") for f in (math.sin, math.cos))
    u, v, w, q, r = (s[n] for n in ("u", "v", "w", "q", "r"))
    turn = q * sf + r * cf
    forward = u * ct + v * sf * st + w * cf * st
    right = v * cf - w * sf
    up_rate = {
        "u": st, "v": -sf * ct, "w": -cf * ct, "phi": -v * cf * ct + w * sf * ct,
        "theta": u * ct + v * sf * st + w * cf * st,
    }  # fmt: skip
    rows = {
        "phi": {
            "p": 1.0, "q": sf * st / ct, "r": cf * st / ct, "phi": (q * cf - r * sf) * st / ct, "theta": turn / ct**2,
        },
        "theta": {"q": cf, "r": -sf, "phi": -turn},
        "psi": {"q": sf / ct, "r": cf / ct, "phi": (q * cf - r * sf) / ct, "theta": turn * st / ct**2},
        "altitude": up_rate,
        "north": {
            "u": ct * cp, "v": sf * st * cp - cf * sp, "w": cf * st * cp + sf * sp, "psi": -forward * sp - right * cp,
            "phi": v * (cf * st * cp + sf * sp) + w * (cf * sp - sf * st * cp),
            "theta": -u * st * cp + v * sf * ct * cp + w * cf * ct * cp,
        },
        "east": {
            "u": ct * sp, "v": sf * st * sp + cf * cp, "w": cf * st * sp - sf * cp, "psi": forward * cp - right * sp,
            "phi": v * (cf * st * sp - sf * cp) - w * (sf * st * sp + cf * cp),
            "theta": -u * st * sp + v * sf * ct * sp + w * cf * ct * sp,
        },
    }  # fmt: skip
    for row, entries in rows.items():
        i = model.states.index(row)
        expected = np.zeros(len(model.states))
        for name, value in entries.items():
            expected[model.states.index(name)] = value
        worst = float(np.max(np.abs(model.A[i] - expected)))
        yield Row(f"largest error in the row of {row}", 0.0, worst, 1e-7)


@case("The trimmed Tarn flown hands off for 60 s", "a trim is an equilibrium: every trace is flat")
def _hands_off() -> Iterator[Row]:
    for loading in ("loaded", "dropped"):
        proof = prove_trim(trim(sample("tarn", loading=loading), airspeed="62 m/s", altitude="300 m"))
        yield Row(f"airspeed drift, {loading} [m/s]", 0.0, proof.drift["airspeed"], 0.01)
        yield Row(f"altitude drift, {loading} [m]", 0.0, proof.drift["altitude"], 0.1)
        for name in ("phi", "theta", "psi"):
            yield Row(f"{name} drift, {loading} [deg]", 0.0, math.degrees(proof.drift[name]), 0.001)


@case(
    "Linear against nonlinear response, Tarn, small doublets",
    "the linear model is the limit of small inputs: the difference falls with their square",
)
def _linear() -> Iterator[Row]:
    point = trim(sample("tarn"), airspeed="62 m/s", altitude="300 m")
    for control, names in (("elevator", ("airspeed", "alpha", "q", "theta")), ("rudder", ("beta", "p", "r", "phi"))):
        halves = [
            prove_linear(point, control=control, signals=names, history=doublet(size, at=0.5, width=1.0))
            for size in ("0.1 deg", "0.05 deg", "0.025 deg")
        ]
        yield Row(f"{control}: largest difference after 0.1 deg [share of peak]", 0.0, halves[0].worst, 0.02)
        # the rudder's own quadratic terms cancel by symmetry in beta, p, r, phi: there it falls faster still
        order = math.log2(halves[1].difference() / halves[2].difference())
        if control == "elevator":
            yield Row("elevator: order of the difference in the input", 2.0, order, 0.1)
        else:
            yield Row("rudder: order of the difference, at least 2", 0.0, min(0.0, order - 1.9), 0.0)


# -- functions with states ----------------------------------------------------------------------------------


@case("Functions of the formula language that have states, step at 0", "closed-form step responses")
def _functions() -> Iterator[Row]:
    body = craft(
        environment={"gravity": 0.0},
        inputs={"x": {}},
        formulas={
            "lagged": "lag(x, 0.5)", "washed": "washout(x, 0.5)", "led": "lead_lag(x, 0.3, 0.1)",
            "second": "second_order(x, 4.0, 0.3)", "summed": "integral(x, 0.25)", "held": "integral(x, high=1.5)",
            "followed": "rate_limit(4*x, 2.0, 0.02)", "late": "delay(x, 0.2)",
        },
    )  # fmt: skip
    x = body.state(position=(0, 0, 1000), velocity=(0, 0, 0))
    run = fly(body, start=Start(x, body.default_inputs()), duration=3.0, dt=0.002, controls={"x": step(1.0, at=0.0)})
    t = run.time
    w, z = 4.0, 0.3
    damped = w * math.sqrt(1 - z * z)
    second = 1 - np.exp(-z * w * t) * (np.cos(damped * t) + z * w / damped * np.sin(damped * t))
    followed = np.where(t < 1.98, 2.0 * t, 4.0 - 0.04 * np.exp(-(t - 1.98) / 0.02))
    pade = np.roots([1.0, 6.0 / 0.2, 12.0 / 0.04])
    residues = [(-12.0 / 0.2) / (p - q) for p, q in (pade, pade[::-1])]
    late = 1.0 + np.real(sum(c * np.exp(p * t) for c, p in zip(residues, pade, strict=True)))
    for name, exact, tolerance in (
        ("lagged", 1 - np.exp(-t / 0.5), 1e-9),
        ("washed", np.exp(-t / 0.5), 1e-9),
        ("led", 1 + 2 * np.exp(-t / 0.1), 1e-8),
        ("second", second, 1e-9),
        ("summed", 0.25 + t, 1e-9),
        ("held", np.minimum(t, 1.5), 1e-9),
        ("followed", followed, 2e-5),
        ("late", late, 1e-7),
    ):
        # a limit is reached to a sixth of a step's gain, and exactly from the next step on
        settled = np.abs(t - 1.5) > 0.003 if name == "held" else t >= 0.0
        yield Row(f"largest error of {name}", 0.0, float(np.max(np.abs(run[name] - exact)[settled])), tolerance)


# -- trim -----------------------------------------------------------------------------------------------------


@case(
    "Trim of a simple wing with thrust through its centre of gravity",
    "closed form: glide angle with D/L = tan(-flight path); thrust = D + W sin(flight path) at alpha = 0",
)
def _glide() -> Iterator[Row]:
    wing = craft(
        name="wing",
        reference={"area": 10.0, "chord": 1.0, "span": 10.0, "moment_point": [0, 0, 0]},
        loading={"mass": 300.0, "Ixx": 800.0, "Iyy": 500.0, "Izz": 1200.0},
        aero={
            "axes": "stability", "CL": "5*alpha + 0*elevator", "CD": "0.02 + 0.05*CL**2", "CY": "-0.5*beta",
            "Cl": "-0.1*beta + 0.2*aileron", "Cm": "-0.5*alpha - elevator", "Cn": "0.1*beta - 0.1*rudder",
        },
        controls={n: {"trim": True} for n in ("elevator", "aileron", "rudder")},
        engines={"one": {"position": [0, 0, 0], "thrust": "power_one", "range": [-2000, 2000], "trim": True}},
    )  # fmt: skip
    density = 101325.0 / (8314.32 / 28.9644 * 288.15)
    for speed in (25.0, 40.0):
        # D/W = sin, L/W = cos of the glide angle with no thrust: solved for CL on the polar
        k = 0.5 * density * speed**2 * 10.0 / (300.0 * 9.80665)
        # (k CL)^2 + (k (0.02 + 0.05 CL^2))^2 = 1
        b, c = 1.0 + 2 * 0.02 * 0.05, 0.02**2 - 1.0 / k**2
        cl = math.sqrt((-b + math.sqrt(b * b - 4 * 0.05**2 * c)) / (2 * 0.05**2))
        glide = -math.atan((0.02 + 0.05 * cl**2) / cl)
        point = trim(wing, airspeed=speed, altitude=0.0, flight_path=glide)
        yield Row(f"thrust left at the closed-form glide angle, {speed:g} m/s [N]", 0.0, point["thrust"], 1e-5)
        yield Row(f"alpha there, {speed:g} m/s [rad]", cl / 5.0, point["alpha"], 1e-9)
        yield Row(f"elevator there, {speed:g} m/s [rad]", -0.1 * cl, point["elevator"], 1e-9)


# -- vortex lattice -----------------------------------------------------------------------------------------------


@case(
    "Vortex lattice: swept wing of aspect ratio 5, 45 deg, four panels a side",
    "J. J. Bertin, M. L. Smith, Aerodynamics for Engineers, 2nd ed., Prentice Hall 1989, example 7.2: CL = 3.443 alpha",
)
def _bertin() -> Iterator[Row]:
    swept = wing([((0, 0, 0), 0.2), ((0.5, 0.5, 0), 0.2)], area=0.2, chord=0.2, span=1.0, panels=(1, 4))
    yield Row("lift slope [1/rad]", 3.443, lattice_slope(swept, "CL", "alpha"), 0.002)


@case(
    "Vortex lattice: the Warren-12 planform (aspect ratio 2 sqrt 2, taper 1/3, leading edge swept 53.54 deg)",
    "the planform's agreed lifting-surface values, CL_alpha 2.743 and Cm_alpha -3.10 about the apex (as remembered; "
    "held against the extrapolation of two lattices, whose error falls with the first power of the panel size)",
)
def _warren() -> Iterator[Row]:
    half = math.sqrt(2.0)
    sections = [((0, 0, 0), 1.5), ((math.tan(math.radians(53.54)) * half, half, 0), 0.5)]
    found = []
    for n in (1, 2, 4):
        lattice = wing(sections, area=2 * half, chord=1.0, span=2 * half, panels=(2 * n, 8 * n))
        found.append([lattice_slope(lattice, name, "alpha") for name in ("CL", "Cm")])
    for k, (name, value, tolerance) in enumerate((("CL_alpha", 2.743, 0.01), ("Cm_alpha", -3.10, 0.01))):
        yield Row(f"{name}, extrapolated [1/rad]", value, 2 * found[2][k] - found[1][k], tolerance)
        order = math.log2(abs((found[0][k] - found[1][k]) / (found[1][k] - found[2][k])))
        yield Row(f"{name}, order of convergence", 1.0, order, 0.3)


@case(
    "Vortex lattice: limits of aspect ratio",
    "slender wing: CL_alpha = pi AR/2 (R. T. Jones); elliptic wing: span efficiency 1, and its roll damping by lifting-line theory, -(pi/4)/(1 + 4/AR)",
)
def _limits_of_aspect() -> Iterator[Row]:
    slender = wing([((0, 0, 0), 20.0), ((0, 0.5, 0), 20.0)], area=20.0, chord=20.0, span=1.0, panels=(30, 60))
    yield Row(
        "slender rectangular wing, CL_alpha/(pi AR/2)",
        1.0,
        lattice_slope(slender, "CL", "alpha") / (math.pi / 40),
        0.01,
    )
    ellipse = elliptic_wing(20.0, panels=(2, 80))
    flow = ellipse.forces(FlowState(alpha=0.1))
    yield Row("elliptic wing, AR 20: span efficiency", 1.0, flow.CL**2 / (math.pi * 20.0 * flow.drag_trefftz), 0.01)
    # lifting-line theory is the limit of high aspect ratio: at 20 the surface's answer is a few per cent below
    line = -(math.pi / 4) / (1 + 4 / 20.0)
    yield Row("elliptic wing, AR 20: Cl_p over lifting-line", 1.0, lattice_slope(ellipse, "Cl", "p_hat") / line, 0.035)
    slope = 2 * math.pi / (1 + 2 / 20.0)
    yield Row(
        "elliptic wing, AR 20: CL_alpha over lifting-line", 1.0, lattice_slope(ellipse, "CL", "alpha") / slope, 0.015
    )


@case(
    "Vortex lattice: near field against Trefftz plane, rectangular wing AR 8",
    "momentum: both must give the same lift and induced drag",
)
def _trefftz() -> Iterator[Row]:
    flow = wing(
        [((0, 0, 0), 1.0), ((0, 4, 0), 1.0)], area=8.0, chord=1.0, span=8.0, panels=(6, 40), spacing="cosine"
    ).forces(FlowState(alpha=0.1))
    yield Row("lift, near over far", 1.0, flow.CL / flow.lift_trefftz, 0.01)
    yield Row("induced drag, near over far", 1.0, flow.CD / flow.drag_trefftz, 0.01)


@case(
    "Vortex lattice: rate derivatives of a small tail far aft",
    "closed form: Cm_q = -2 a S_t l m/(S c^2), Cn_r = -2 a S_f l m/(S b^2): a turn is felt at three quarters of the tail's chord (m), its force acts at one quarter (l)",
)
def _tail() -> Iterator[Row]:
    arm, felt, area = 12.0, 12.25, 30.0
    tail = wing(
        [((arm - 0.125, 0, 0), 0.5), ((arm - 0.125, 2, 0), 0.5)], area=area, chord=2.0, span=15.0, panels=(4, 16)
    )
    a = lattice_slope(tail, "CL", "alpha") * area / 2.0
    yield Row("Cm_q", -2 * a * 2.0 * arm * felt / (area * 2.0**2), lattice_slope(tail, "Cm", "q_hat"), 0.05)
    fin = wing(
        [((arm - 0.125, 0, 0), 0.5), ((arm - 0.125, 0, 2), 0.5)],
        area=area,
        chord=2.0,
        span=15.0,
        panels=(4, 16),
        mirrored=False,
    )
    side = -lattice_slope(fin, "CY", "beta") * area
    yield Row("Cn_r", -2 * side * arm * felt / (area * 15.0**2), lattice_slope(fin, "Cn", "r_hat"), 0.0005)
    yield Row("Cn_beta", side * arm / (area * 15.0), lattice_slope(fin, "Cn", "beta"), 0.0005)


@case(
    "Vortex lattice: compressibility, Mach 0.6",
    "Prandtl-Glauert-Goethert: CL_alpha(M, AR) = CL_alpha(0, AR b)/b, b = sqrt(1 - M^2), by a second lattice",
)
def _compressible() -> Iterator[Row]:
    b = math.sqrt(1 - 0.6**2)
    options: dict[str, Any] = {"chord": 1.0, "panels": (4, 20)}
    swept = wing([((0, 0, 0), 1.0), ((1, 4, 0.4), 0.5)], area=6.0, span=8.0, mach=0.6, **options)
    squeezed = wing([((0, 0, 0), 1.0), ((1, 4 * b, 0.4 * b), 0.5)], area=6.0 * b, span=8.0 * b, **options)
    yield Row(
        "lift slope [1/rad]", lattice_slope(squeezed, "CL", "alpha") / b, lattice_slope(swept, "CL", "alpha"), 1e-6
    )
    yield Row(
        "pitching-moment slope [1/rad]",
        lattice_slope(squeezed, "Cm", "alpha") / b,
        lattice_slope(swept, "Cm", "alpha"),
        1e-5,
    )


@case(
    "Vortex lattice: induced drag near the ground, elliptic loading",
    "C. Wieselsberger, NACA TM 77, 1922: CDi = CL^2 (1 - s)/(pi AR), s = (1 - 1.32 h/b)/(1.05 + 7.4 h/b)",
)
def _ground() -> Iterator[Row]:
    for share in (0.1, 0.2):
        ellipse = elliptic_wing(8.0, panels=(1, 60), height=2.0 * share)
        flow = ellipse.forces(FlowState(alpha=0.05))
        s = (1 - 1.32 * share) / (1.05 + 7.4 * share)
        ratio = flow.drag_trefftz * math.pi * 8.0 / flow.lift_trefftz**2
        yield Row(f"CDi pi AR/CL^2 at h/b {share:g}", 1 - s, ratio, 0.02)


@case("Vortex lattice: a half model on a wall", "symmetry: half the loads of the whole wing")
def _half_model() -> Iterator[Row]:
    options: dict[str, Any] = {"area": 5.0, "chord": 1.0, "span": 6.0, "panels": (3, 10)}
    sections: list[tuple[tuple[float, float, float], float]] = [((0, 0, 0), 1.0), ((1, 3, 0.2), 0.6)]
    whole = wing(sections, **options).forces(FlowState(alpha=0.1, q_hat=0.02))
    half = wing(sections, mirrored=False, wall=True, **options).forces(FlowState(alpha=0.1, q_hat=0.02))
    for name in ("CL", "CD", "Cm", "lift_trefftz", "drag_trefftz"):
        yield Row(f"{name}, half over whole", 0.5, getattr(half, name) / getattr(whole, name), 1e-12)


def lifting_line(aspect: float, angles: Callable[[Floats], Floats], terms: int = 80) -> Floats:
    """Return Glauert's Fourier coefficients of a rectangular wing (slope 2 pi) at angles over y/(b/2)."""
    theta = (np.arange(terms) + 0.5) * math.pi / terms
    n = np.arange(1, terms + 1)
    share = 2 * math.pi / (4 * aspect)
    matrix = np.sin(np.outer(theta, n)) * (n * share + np.sin(theta)[:, None])
    solved: Floats = np.linalg.solve(matrix, share * angles(np.cos(theta)) * np.sin(theta))
    return solved


@case(
    "Vortex lattice: rectangular wings against lifting-line theory",
    "H. Glauert, The Elements of Aerofoil and Airscrew Theory, 1926, chapter 11, solved here by 80 Fourier terms; "
    "strip theory, -a/6, gives too much roll damping",
)
def _lifting_line() -> Iterator[Row]:
    for aspect, allowed in ((24.0, 0.05), (48.0, 0.025)):
        sections: list[tuple[tuple[float, float, float], float]] = [((0, 0, 0), 1.0), ((0, 0.5 * aspect, 0), 1.0)]
        lattice = wing(sections, area=aspect, chord=1.0, span=aspect, panels=(4, 40), spacing="cosine")
        line = lifting_line(aspect, np.ones_like)
        slope = math.pi * aspect * line[0]
        rolling = -math.pi * aspect / 4.0 * float(lifting_line(aspect, lambda y: y)[1])
        damping = lattice_slope(lattice, "Cl", "p_hat")
        yield Row(
            f"lift slope over lifting line, AR {aspect:g}", 1.0, lattice_slope(lattice, "CL", "alpha") / slope, allowed
        )
        yield Row(f"roll damping over lifting line, AR {aspect:g}", 1.0, damping / rolling, allowed)
        yield Row(
            f"roll damping over strip theory, AR {aspect:g}: below 1", 0.0, max(0.0, damping / (-math.pi / 3) - 1), 0.0
        )
        # the loading of the lifting line itself through the Trefftz planes of lattices with one row, extrapolated
        found = []
        for strips in (40, 80, 160):
            row = wing(sections, area=aspect, chord=1.0, span=aspect, panels=(1, strips), spacing="cosine")
            theta, n = np.arccos(row.middle[:, 1] / (0.5 * aspect)), np.arange(1, len(line) + 1)
            lift, drag = row._trefftz(np.sin(np.outer(theta, n)) @ line)
            found.append(lift**2 / (math.pi * aspect * drag))
        exact = 1.0 / (1.0 + float(np.sum(n[1:] * (line[1:] / line[0]) ** 2)))
        order = math.log2((found[0] - exact) / (found[1] - exact))
        yield Row(f"span efficiency of its loading, AR {aspect:g}", exact, 2.0 * found[2] - found[1], 5e-4)
        yield Row(f"order of its error in the strips, AR {aspect:g}", 1.0, order, 0.05)


@case(
    "Flap hinge moments of a nearly endless wing, hinge at 0.7 of the chord",
    "H. Glauert, ARC R&M 1095 (1927): thin-aerofoil theory, its series summed here",
)
def _hinge() -> Iterator[Row]:
    hinge, step = 0.7, 0.01
    flap = {"span": [0, 1], "hinge": hinge, "effectiveness": 1.0, "saturation": "500 deg"}
    surface = {**rectangle(400.0, panels=(40, 6)), "controls": {"flap": flap}}
    airframe = Airframe(drawing({"wing": surface}, area=400.0, airspeed=1.0))
    bend = math.acos(1.0 - 2.0 * hinge)
    theta = np.linspace(bend, math.pi - 1e-9, 20001)
    nose = 4.0 * (1.0 + np.cos(theta)) / np.sin(theta)
    bent = nose * (math.pi - bend) / math.pi
    for n in range(1, 400):
        bent = bent + 8.0 * math.sin(n * bend) / (n * math.pi) * np.sin(n * theta)
    x = 0.5 * (1.0 - np.cos(theta))
    for name, load, state in (
        ("alpha", nose, FlowState(alpha=step)),
        ("flap", bent, FlowState(controls={"flap": step})),
    ):
        exact = -float(np.trapezoid(load * (x - hinge), x)) / (1.0 - hinge) ** 2
        yield Row(
            f"Ch by {name} [1/rad]",
            exact,
            float(airframe.coefficients([state])["Ch_flap"][0]) / step,
            0.04 * abs(exact),
        )


@case(
    "Slender bodies: apparent mass of spheroids, and a cone",
    "H. Lamb, Hydrodynamics, section 114, its integrals by quadrature; M. M. Munk, NACA Report 184: a cone lifts twice its base at 2/3",
)
def _slender() -> Iterator[Row]:
    for fineness in (1.5, 2.0, 4.0, 10.0):
        half = fineness, 1.0, 1.0
        k = []
        for axis in (0, 1):
            shell = lambda t, i=axis: 1.0 / ((half[i] ** 2 + t) * math.sqrt(math.prod(h**2 + t for h in half)))  # noqa: B023, E731
            integral = math.prod(half) * quad(shell, 0.0, math.inf, epsabs=1e-12)[0]
            k.append(integral / (2.0 - integral))
        yield Row(f"k2 - k1, length {fineness:g} diameters", k[1] - k[0], apparent_mass_factor(fineness), 1e-7)
    stations = [{"x": 2.0 * i, "width": 0.04 * i, "height": 0.04 * i} for i in range(6)]
    cone = slender_bodies(Body.model_validate({"stations": stations, "crossflow_drag": 0.0}), (2.0, 0.0, 0.0))[0]
    alpha = 0.02
    places, forces = cone.forces(np.broadcast_to([-math.cos(alpha), 0.0, -math.sin(alpha)], (1, 48, 3)))
    total, moment = forces[0].sum(axis=0), np.cross(places, forces[0]).sum(axis=0)
    lift = -2.0 * total[2] / (math.pi * 0.1**2) / (math.sin(alpha) * math.cos(alpha))
    yield Row(
        "cone of fineness 50: normal force over base area and (k2 - k1) [1/rad]",
        2.0,
        lift / apparent_mass_factor(50.0),
        0.002,
    )
    yield Row(
        "cone: centre of pressure aft of the tip [lengths]", 2 / 3, float(2.0 + moment[1] / total[2]) / 10.0, 0.001
    )


@case(
    "Finned bodies: fins by the component method",
    "J. S. Barrowman, thesis, Catholic University of America 1967: the formulas for a set of fins in his letters; "
    "and, independently, the vortex lattice of the fins without the body",
)
def _fins() -> Iterator[Row]:
    a, b, s, m, radius, d = 0.2, 0.1, 0.12, 0.08, 0.05, 0.1
    fins = {"x": 1.7, "root": a, "tip": b, "span": s, "tip_offset": m, "diameter": d}
    nose = {"shape": "cone", "length": 0.5, "diameter": d}

    def body(**changed: float) -> FinnedBody:
        return FinnedBody.model_validate(
            {"diameter": d, "length": 2.0, "nose": nose, "fins": {"main": {**fins, **changed}}}
        )

    middle = math.hypot(s, m + 0.5 * b - 0.5 * a)
    place = 1.7 + m * (a + 2 * b) / (3 * (a + b)) + (a + b - a * b / (a + b)) / 6
    for count in (3, 4):
        exact = (
            (1 + radius / (s + radius)) * 4 * count * (s / d) ** 2 / (1 + math.sqrt(1 + (2 * middle / (a + b)) ** 2))
        )
        found = components(body(count=count))[-1]
        yield Row(f"slope of {count} fins with the body's interference [1/rad]", exact, found.slope, 1e-9)
        yield Row(f"centre of pressure of {count} fins [m]", place, found.x, 1e-9)
    for span, root, tip, sweep in (
        (0.12, 0.2, 0.1, 0.08),
        (0.3, 0.15, 0.15, 0.0),
        (0.05, 0.2, 0.2, 0.0),
        (0.2, 0.3, 0.0, 0.3),
    ):
        part = body(count=3, span=span, root=root, tip=tip, tip_offset=sweep).fins["main"]
        sections = [((0.0, 0.0, 0.0), root), ((sweep, span, 0.0), max(tip, 1e-3))]
        pair = wing(sections, area=2 * part.area, chord=root, span=2 * span, panels=(10, 24), spacing="cosine")
        aspect = 2 * span**2 / part.area
        yield Row(
            f"fin of aspect ratio {aspect:.2g} over the lattice",
            1.0,
            fin_slope(part, 0.0) / lattice_slope(pair, "CL", "alpha"),
            0.07,
        )
