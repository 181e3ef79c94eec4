"""From a drawing to a set of tables with the formulas that use them, on the grid that stands in the drawing."""

import hashlib
import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import product
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dravik.aero.bodies.tables import finned_set
from dravik.aero.drawing.geometry import Geometry
from dravik.aero.flow.airframe import COEFFICIENTS, Airframe
from dravik.aero.flow.lattice import FlowState
from dravik.aero.sets.tableset import Formula, TableSet, angles_at_point
from dravik.tables import Axis, Table
from dravik.version import __version__

__all__ = ["build_tables", "drawing_hash"]

Floats = NDArray[np.float64]
Advance = Callable[[int, int], None]
LENGTHWISE, SIDEWAYS = ("CL", "CD", "Cm"), ("CD", "CY", "Cl", "Cn")
RATE = 0.01  # step of the non-dimensional rates for central differences
METHOD = (
    "vortex lattice with strips blended into separated flow, slender bodies, profile drag by friction and form "
    "factors, slipstream by actuator discs"
)


@dataclass(frozen=True)
class _Grid:
    """A file's axes, the states on their grid, and what to do with the coefficients that come back.

    ``along`` are the axes between whose values a linear model must meet no kinks.
    """

    file: str
    axes: tuple[Axis, ...]
    states: list[FlowState]
    finish: Callable[[dict[str, Floats]], dict[str, Floats]]
    along: tuple[str, ...] = ()


def build_tables(geometry: Geometry, folder: str | Path = ".", *, advance: Advance | None = None) -> TableSet:
    """Return the tables and formulas of a drawing; section files are looked for in ``folder``.

    ``advance(done, of)`` is told how many states are computed.

    Parameters
    ----------
    geometry : Geometry
        The drawing.
    folder : str or path, default "."
        Where the files that the drawing names are looked for.
    advance : callable, optional
        Called with the number of states done and in all.

    Returns
    -------
    TableSet

    Raises
    ------
    DravikError
        For a section or polar that cannot be read, and for a Mach number beyond the lattice.
    """
    provenance = _provenance(geometry)
    if geometry.finned_body is not None:
        return finned_set(geometry, provenance)
    airframe = Airframe(geometry, folder)
    alphas, machs = geometry.table_grid.alphas(), geometry.table_grid.surface_machs
    grids = [*_static(geometry, alphas), *_controls(geometry, alphas), *_rates(alphas, geometry)]
    jets, airframes = _slipstreams(geometry, alphas), [Airframe(geometry, folder, mach=m) for m in machs] or [airframe]
    more = (Axis("mach", np.array(machs)),) if machs else ()
    total, done = len(airframes) * sum(len(g.states) for g in grids) + sum(len(g.states) for g in jets), 0

    def tell(count: int) -> None:
        nonlocal done
        done += count
        if advance is not None:
            advance(done, total)

    files: dict[str, list[Table]] = {}
    for grid in grids:
        files[grid.file] = _filled(
            grid, [grid.finish(a.coefficients(grid.states, advance=tell)) for a in airframes], more
        )
    for grid in jets:
        files[grid.file] = _filled(grid, [grid.finish(airframe.coefficients(grid.states, advance=tell))], ())
    lags = [a.lag_derivatives(alphas) for a in airframes]
    lag_grid = _Grid("rates", (_axis("alpha", alphas),), [], _kept(()))
    files["rates"] += _filled(lag_grid, [{f"{n}_alpha_dot": lag[n] for n in ("CL", "Cm")} for lag in lags], more)
    provenance |= {
        "method": METHOD, "panels": airframe.mesh.count, "states": total,
        "mach": ", ".join(f"{m:g}" for m in machs) or round(airframe.mach, 6),
        "reynolds_per_metre": round(airframe.reynolds_per_metre, 1),
    }  # fmt: skip
    return TableSet(geometry.name, geometry.reference, files, _formulas(geometry, files), provenance)


def _filled(grid: _Grid, found: list[dict[str, Floats]], more: tuple[Axis, ...]) -> list[Table]:
    """Return the tables of a grid; with one more axis, for each value of which there is one set of results."""
    axes, along = (*grid.axes, *more), (*grid.along, *(a.name for a in more))
    shape = [len(a.values) for a in grid.axes]
    laid = {
        name: np.stack([np.round(values[name], 6).reshape(shape) + 0.0 for values in found], axis=-1)
        for name in found[0]
    }
    return [
        Table(name, axes, values if more else values[..., 0], method="smooth" if along else "linear", along=along)
        for name, values in laid.items()
    ]


def _provenance(geometry: Geometry) -> dict[str, object]:
    """Return what the tables come from."""
    return {"drawing": geometry.name, "dravik": __version__, "hash": drawing_hash(geometry)}


def drawing_hash(geometry: Geometry) -> str:
    """Return the fingerprint of a drawing, its table grid included; the same on any machine.

    Keys that say what goes without saying are left out: a key that Dravik learns later leaves it as it is.
    """
    text = json.dumps(geometry.model_dump(mode="json", exclude_defaults=True), sort_keys=True)
    return hashlib.sha256(text.encode()).hexdigest()[:16]


def _axis(name: str, values: Floats, unit: str = "rad") -> Axis:
    return Axis(name, np.asarray(values, dtype=float), unit)


def _kept(names: Sequence[str]) -> Callable[[dict[str, Floats]], dict[str, Floats]]:
    return lambda values: {n: values[n] for n in names}


def _static(geometry: Geometry, alphas: Floats) -> list[_Grid]:
    betas = geometry.table_grid.betas()
    states = [FlowState(alpha=a, beta=b) for a, b in product(alphas, betas)]
    return [
        _Grid("static", (_axis("alpha", alphas), _axis("beta", betas)), states, _kept(COEFFICIENTS), ("alpha", "beta"))
    ]


def _controls(geometry: Geometry, alphas: Floats) -> list[_Grid]:
    """Return each control's increments over angle of attack and setting, with the whole hinge moment."""
    grids = []
    for name, (surface, control) in geometry.controls.items():
        settings = geometry.table_grid.deflections(control.range)
        zero = np.zeros(1)
        angles = np.unique(np.concatenate([settings, zero]))
        states = [FlowState(alpha=a, controls={name: d}) for a, d in product(alphas, angles)]
        lengthwise = surface.mirrored and control.gearing == "symmetric"

        def finish(
            values: dict[str, Floats], name: str = name, angles: Floats = angles, lengthwise: bool = lengthwise
        ) -> dict[str, Floats]:
            rest = int(np.argmin(np.abs(angles)))
            found = {}
            for c in LENGTHWISE if lengthwise else SIDEWAYS:
                grid = values[c].reshape(-1, len(angles))
                found[c] = (grid - grid[:, rest : rest + 1]).ravel()
            return found | {"Ch": values[f"Ch_{name}"]}

        grids.append(_Grid(name, (_axis("alpha", alphas), _axis(name, angles)), states, finish, ("alpha", name)))
    return grids


def _rates(alphas: Floats, geometry: Geometry) -> list[_Grid]:
    """Return damping by pitch and yaw rate, and all that a rate of roll does, which is not linear at the stall."""
    sides: list[dict[str, Any]] = [{"q_hat": RATE}, {"q_hat": -RATE}, {"r_hat": RATE}, {"r_hat": -RATE}]
    sides += [{"p_hat": RATE}, {"p_hat": -RATE}]
    states = [FlowState(alpha=a, **s) for a, s in product(alphas, sides)]

    def slopes(values: dict[str, Floats]) -> dict[str, Floats]:
        found = {}
        for c, rate, k in (
            ("CL", "q", 0), ("Cm", "q", 0), ("CY", "r", 2), ("Cl", "r", 2), ("Cn", "r", 2), ("CY", "p", 4)
        ):  # fmt: skip
            grid = values[c].reshape(-1, len(sides))
            found[f"{c}_{rate}"] = (grid[:, k] - grid[:, k + 1]) / (2.0 * RATE)
        return found

    positive = np.array(geometry.table_grid.roll_rates)
    rolls = np.concatenate([-positive[::-1], [0.0], positive])
    rolling = [FlowState(alpha=a, p_hat=p) for a, p in product(alphas, rolls)]

    def increments(values: dict[str, Floats]) -> dict[str, Floats]:
        rest = len(positive)
        grids = {c: values[c].reshape(-1, len(rolls)) for c in ("Cl", "Cn")}
        return {c: (g - g[:, rest : rest + 1]).ravel() for c, g in grids.items()}

    return [
        _Grid("rates", (_axis("alpha", alphas),), states, slopes),
        _Grid("roll_rate", (_axis("alpha", alphas), _axis("p_hat", rolls, "")), rolling, increments),
    ]


def _flap(geometry: Geometry) -> str:
    return geometry.table_grid.flap or ("flap" if "flap" in geometry.controls else "")


def _slipstreams(geometry: Geometry, alphas: Floats) -> list[_Grid]:
    """Return what the slipstream of each drawn propeller (the right one of two) adds."""
    grids = []
    thrusts = np.array(geometry.table_grid.thrust_coefficients)
    flap = _flap(geometry)
    for name, propeller in geometry.propellers.items():
        engine = propeller.engines[0]
        settings = geometry.table_grid.deflections(geometry.controls[flap][1].range) if flap else np.zeros(1)
        settings = settings[:: max(1, len(settings) // 4)] if len(settings) > 5 else settings
        states = [
            FlowState(alpha=a, controls={flap: f} if flap else {}, thrust={engine: t})
            for a, f, t in product(alphas, settings, thrusts)
        ]

        def finish(values: dict[str, Floats]) -> dict[str, Floats]:
            grids = {c: values[c].reshape(-1, len(thrusts)) for c in ("CL", "CD", "Cm", "Cl", "Cn")}
            return {c: (g - g[:, :1]).ravel() for c, g in grids.items()}

        axes = [_axis("alpha", alphas), _axis("thrust_coefficient", thrusts, "")]
        if flap:
            axes.insert(1, _axis(flap, settings))
        grids.append(_Grid(f"slipstream_{name}", tuple(axes), states, finish, ("alpha",)))
    return grids


def _formulas(geometry: Geometry, files: dict[str, list[Table]]) -> dict[str, Formula]:
    """Return the coefficient formulas, in stability axes with moments in body axes."""
    ends = {c: [] for c in COEFFICIENTS}  # type: dict[str, list[str]]
    formulas: dict[str, Formula] = {
        "forward": Formula("cos(beta)**2", description="share of the dynamic pressure along the plane of symmetry"),
        **angles_at_point(geometry.reference),
    }
    mach = ", mach" if geometry.table_grid.surface_machs else ""
    for name in geometry.controls:
        for table in files[name]:
            if table.name != "Ch":
                ends[table.name].append(f"{table.name}_{name}(alpha_point, {name}{mach})")
    for c, rate in (("CL", "q"), ("Cm", "q"), ("CY", "r"), ("Cl", "r"), ("Cn", "r"), ("CY", "p")):
        ends[c].append(f"{c}_{rate}(alpha_point{mach})*{rate}_hat")
    for c in ("CL", "Cm"):
        ends[c].append(f"{c}_alpha_dot(alpha_point{mach})*alpha_dot_hat")
    # at taxi speed the non-dimensional rates are unbounded while air loads vanish: hold the table's last value
    most = float(files["roll_rate"][0].axes[1].values[-1])
    for c in ("Cl", "Cn"):
        ends[c].append(f"{c}_roll_rate(alpha_point, limit(p_hat, {-most:g}, {most:g}){mach})")
    for name, propeller in geometry.propellers.items():
        axes = ", ".join(a.name for a in files[f"slipstream_{name}"][0].axes[:-1]).replace("alpha", "alpha_point")
        for engine in propeller.engines:
            # no slipstream behind a braking propeller; above the highest thrust coefficient the last value holds
            most = float(files[f"slipstream_{name}"][0].axes[-1].values[-1])
            formulas[f"thrust_coefficient_{engine}"] = Formula(
                f"limit(thrust_{engine}/max(dynamic_pressure*reference_area, 1), 0, {most:g})",
                description="thrust over q S, as far as the slipstream's tables go",
            )
        for table in files[f"slipstream_{name}"]:
            calls = [
                f"{table.name}_slipstream_{name}({axes}, thrust_coefficient_{engine})" for engine in propeller.engines
            ]
            # the left propeller is the mirror image of the right one
            turn = " - " if table.name in ("Cl", "Cn") else " + "
            formulas[f"slipstream_{name}_{table.name}"] = Formula(
                turn.join(calls), description=f"{table.name} added by the slipstream"
            )
            ends[table.name].append(f"slipstream_{name}_{table.name}")
    for c in COEFFICIENTS:
        more = " + ".join(ends[c])
        formulas[c] = Formula(f"{c}_static(alpha_point, beta_point{mach})" + (f" + forward*({more})" if more else ""))
    for name in geometry.controls:
        formulas[f"Ch_{name}"] = Formula(
            f"Ch_{name}_table(alpha_point, {name}{mach})", description=f"hinge moment of {name}"
        )
    return formulas
