"""Ride: root mean square accelerations at a station in turbulence, by spectrum and by simulation."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft import Aircraft
from dravik.constants import STANDARD_GRAVITY
from dravik.definition import arguments
from dravik.errors import DravikError, require
from dravik.flight import Start, fly
from dravik.frames import body_from_station
from dravik.host.cores import in_threads
from dravik.linear import LinearModel, linearise
from dravik.surroundings.turbulence import COMPONENTS, Turbulence, gust_filter
from dravik.systems import LinearSystem, wired
from dravik.trimming import TrimPoint
from dravik.units import in_si

__all__ = ["Ride", "ride", "ride_flown"]

Floats = NDArray[np.float64]
GUSTS = ("wind_north", "wind_east", "wind_up", "gust_roll", "gust_pitch", "gust_yaw")
PLACES = ("north", "east", "altitude", "psi")
FLIGHT, SETTLING = 60.0, 10.0  # s: what is counted of each flight, and what goes before
OMEGA = np.geomspace(0.01, 100.0, 600)


@dataclass(frozen=True)
class Ride:
    """Accelerations at a station, in g: root mean squares of the vertical and the lateral one, and their spectra.

    ``station`` is where (station axes, m), ``omega`` in rad/s; spectra one-sided, g^2 s/rad, empty of a flight.
    """

    station: tuple[float, float, float]
    vertical: float
    lateral: float
    omega: Floats
    vertical_spectrum: Floats
    lateral_spectrum: Floats


def ride(
    craft: Aircraft, point: TrimPoint, *, turbulence: Turbulence | None = None,
    station: tuple[str | float, str | float, str | float] | None = None,
) -> Ride:  # fmt: skip
    """Return the ride at a station (the centre of gravity unless given), by the spectra of turbulence and the model.

    Place and heading are held; the rest of the motion is the linear model's, with actuators and laws. Moderate
    Dryden turbulence unless given.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    point : TrimPoint
        The trimmed point.
    turbulence : Turbulence, optional
        The turbulence: moderate Dryden turbulence unless given.
    station : tuple (str | float, str | float, str | float), optional
        Station position, m: the centre of gravity unless given.

    Returns
    -------
    Ride

    Raises
    ------
    DravikError
        For a motion that does not decay.

    Examples
    --------
    >>> import dravik as dv
    >>> craft = dv.sample("tarn")
    >>> found = ride(craft, dv.trim(craft, airspeed="62 m/s", altitude="300 m"))
    >>> 0.05 < found.vertical < 0.5
    True
    """
    gusts = _gusts(craft, point, _turbulence(turbulence))
    where, model = _at_station(craft, point, station)
    whole = wired(gusts, model, inputs=gusts.inputs, outputs=["vertical", "lateral"])
    if not whole.is_stable:
        raise DravikError(
            "the motion does not decay, so that there is no ride to tell",
            where=point.title,
            hint="a law that steadies it",
        )
    # root mean squares from the covariance, exact; the spectra are for figures
    variance = np.diag(whole.covariance())
    spectra = whole.spectra(OMEGA)
    return Ride(
        where, math.sqrt(float(variance[0])), math.sqrt(float(variance[1])), OMEGA, spectra[0], spectra[1]
    )  # fmt: skip


def ride_flown(
    craft: Aircraft, point: TrimPoint, *, turbulence: Turbulence | None = None, duration: str | float = 1800.0,
    station: tuple[str | float, str | float, str | float] | None = None,
) -> Ride:  # fmt: skip
    """Return the ride by flights through turbulence of ``duration`` seconds in all: the whole nonlinear aircraft.

    Hands off, an aircraft in rough air does not stay where it is for half an hour. So these are flights of a
    minute, with a seed each, that begin from states as far from the point as the linear model says they will be
    after a long time: slow motions, such as the phugoid, are there from the beginning. Accelerations away from the
    centre of gravity need those of the rotation: by differences of the recorded rates.

    Parameters
    ----------
    craft : Aircraft
        The aircraft.
    point : TrimPoint
        The trimmed point.
    turbulence : Turbulence, optional
        The turbulence: moderate Dryden turbulence unless given.
    duration : str or float, default 1800.0
        Of all flights together, s.
    station : tuple (str | float, str | float, str | float), optional
        Station position, m: the centre of gravity unless given.

    Returns
    -------
    Ride

    Raises
    ------
    DravikError
        For a duration that is no flight, and for a motion that does not decay.
    """
    duration = in_si(duration, "time", where="duration")
    if not FLIGHT <= duration <= 1e5:
        raise DravikError(f"{duration!r} s of flight are too few", expected=f"{FLIGHT:g} s or more")
    where, arm = _arm(craft, point, station)
    gusts = _turbulence(turbulence)
    random, names, root = np.random.default_rng(gusts.seed), *_spread(craft, point, gusts)
    plant = craft.plant("body")
    z = plant.from_state(point.state, point.inputs)
    starts = []
    for _ in range(max(1, round(duration / FLIGHT))):
        moved = z.copy()
        # states drawn from the covariance that turbulence leads to: the flights are typical at once
        moved[[plant.state_names.index(n) for n in names]] += root @ random.standard_normal(len(names))
        starts.append(Start(plant.to_state(moved, point.inputs), point.inputs))

    def squares(k: int) -> tuple[float, float, int]:
        run = fly(
            craft.over_no_ground(), start=starts[k], duration=FLIGHT + SETTLING,
            turbulence=replace(gusts, seed=gusts.seed + k), record=["nz", "ny", "p", "q", "r"],
        )  # fmt: skip
        rates = {n: np.gradient(run[n], run.time) for n in ("p", "q", "r")}
        # rigid body: acceleration at a point adds angular acceleration times arm; products of rates are left out
        vertical = run["nz"] + (arm[0] * rates["q"] - arm[1] * rates["p"]) / STANDARD_GRAVITY - point["nz"]
        lateral = run["ny"] + (arm[0] * rates["r"] - arm[2] * rates["p"]) / STANDARD_GRAVITY - point["ny"]
        # the first seconds, in which filters and engines settle, do not count
        counted = run.time >= SETTLING
        return float(np.sum(vertical[counted] ** 2)), float(np.sum(lateral[counted] ** 2)), int(np.sum(counted))

    sums = np.sum(in_threads(squares, range(len(starts))), axis=0)
    rms, empty = np.sqrt(sums[:2] / sums[2]), np.zeros(0)
    return Ride(where, float(rms[0]), float(rms[1]), empty, empty, empty)


def _spread(craft: Aircraft, point: TrimPoint, turbulence: Turbulence) -> tuple[list[str], Floats]:
    """Return the states of the rigid body that turbulence moves, and a factor of their covariance after a long time."""
    names = ["u", "v", "w", "phi", "theta", "p", "q", "r"]
    whole = linearise(craft, point, coordinates="body", outputs=names)
    model = whole.part(states=[n for n in whole.states if n not in PLACES], inputs=list(GUSTS), outputs=names)
    gusts = _gusts(craft, point, turbulence)
    joined = wired(gusts, model, inputs=gusts.inputs, outputs=names)
    if not joined.is_stable:
        raise DravikError(
            "the motion does not decay, so that there is no ride to tell",
            where=point.title,
            hint="a law that steadies it",
        )
    # a root of the covariance by its eigenvectors: it may be singular, which a triangular factor does not bear
    values, vectors = np.linalg.eigh(joined.covariance())
    return names, vectors * np.sqrt(np.maximum(values, 0.0))


def _turbulence(given: Turbulence | None) -> Turbulence:
    """Return turbulence, moderate unless given; raises DravikError for anything else."""
    if given is not None:
        require(given, Turbulence, "turbulence", "Turbulence('light')")
    return given or Turbulence()


def _arm(
    craft: Aircraft, point: TrimPoint, station: tuple[str | float, str | float, str | float] | None
) -> tuple[tuple[float, float, float], Floats]:
    """Return a station in m, and the vector to it from the centre of gravity in body axes."""
    centre = (point["cg_x"], point["cg_y"], point["cg_z"])
    if station is None:
        return centre, np.zeros(3)
    if isinstance(station, str) or not isinstance(station, Sequence) or len(station) != 3:
        raise DravikError(
            f"station cannot be {arguments.shown(station)}", expected="x, y and z, such as ('3 m', '0 m', '1 m')"
        )
    x, y, z = (in_si(v, "length", where="station") for v in station)
    return (x, y, z), body_from_station(np.array([x, y, z])) - body_from_station(np.array(centre))


def _at_station(
    craft: Aircraft, point: TrimPoint, station: tuple[str | float, str | float, str | float] | None
) -> tuple[tuple[float, float, float], LinearModel]:
    """Return the station and the model from gusts to the accelerations there, g: up and to the right.

    In body coordinates, in which a gust does not move the states at once.
    """
    where, arm = _arm(craft, point, station)
    whole = linearise(craft, point, coordinates="body", outputs=["nz", "ny"])
    model = whole.part(states=[n for n in whole.states if n not in PLACES], inputs=list(GUSTS), outputs=["nz", "ny"])
    rows = {n: model.states.index(n) for n in ("p", "q", "r")}

    def added(first: tuple[float, str], second: tuple[float, str]) -> tuple[Floats, Floats]:
        c = sum(size * model.A[rows[n]] for size, n in (first, second)) / STANDARD_GRAVITY
        d = sum(size * model.B[rows[n]] for size, n in (first, second)) / STANDARD_GRAVITY
        return np.asarray(c), np.asarray(d)

    up_c, up_d = added((float(arm[0]), "q"), (-float(arm[1]), "p"))
    right_c, right_d = added((float(arm[0]), "r"), (-float(arm[2]), "p"))
    c = np.vstack([model.C[0] + up_c, model.C[1] + right_c])
    d = np.vstack([model.D[0] + up_d, model.D[1] + right_d])
    return where, replace(model, C=c, D=d, outputs=["vertical", "lateral"], y0=np.zeros(2))


def _gusts(craft: Aircraft, point: TrimPoint, turbulence: Turbulence) -> LinearSystem:
    """Return the filter from white noises to the aircraft's wind and gust inputs, at the point's heading."""
    near, aloft = turbulence.strengths
    height = point["altitude"] - point.signals.get("ground_height", 0.0)
    gusts = gust_filter(
        airspeed=point["airspeed"], height=height, span=craft.definition.reference.span, wind_20ft=near, aloft=aloft,
        model=turbulence.model,
    )  # fmt: skip
    cosine, sine = math.cos(point["psi"]), math.sin(point["psi"])
    turn = np.eye(6)
    # gusts are along and across the flight: to north and east by the heading, down to up by the sign
    turn[0, :2], turn[1, :2], turn[2, 2] = (cosine, -sine), (sine, cosine), -1.0
    into = LinearSystem.of([], states=[], inputs=list(COMPONENTS), outputs=list(GUSTS), C=np.zeros((6, 0)), D=turn)
    return gusts.followed_by(into)
