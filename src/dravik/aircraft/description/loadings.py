"""Loadings from parts and tanks: rolled up to numbers, and to formulas where a tank drains or fills in flight."""

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dravik.aircraft.description.schema import AircraftDefinition, Loading
from dravik.errors import DravikError, nearest
from dravik.frames import body_from_station, station_from_body
from dravik.mass import Part, Properties, Tank, combine, tank_tables
from dravik.mass.tanks import TankTables
from dravik.propulsion import SolidMotor
from dravik.tables import Axis, Table

__all__ = ["MassFormulas", "drain_paths", "mass_formulas", "parts_of", "roll_up"]

Floats = NDArray[np.float64]
Where = Callable[..., str]
COLUMNS = ("x", "y", "z", "xx", "yy", "zz", "xy", "xz", "yz", "surface_x", "surface_y", "surface_z")


class Shared(NamedTuple):
    """What was worked out for one loading and serves the others: parts, and the tables of tanks."""

    parts: dict[str, Properties]
    tanks: dict[str, TankTables]


def roll_up(definition: AircraftDefinition, where: Where) -> AircraftDefinition:
    """Return the definition with every loading in numbers; raises DravikError for what parts and tanks cannot give.

    The grain of a solid motor gets its flow: what the motor burns, leaving at the nozzle.
    """
    grains = {e.grain: (n, e) for n, e in definition.engines.items() if isinstance(e, SolidMotor)}
    tanks = {
        n: t.model_copy(update={"flow": f"burn_rate_{grains[n][0]}", "exit": t.exit or grains[n][1].position})
        if n in grains and t.flow is None else t
        for n, t in definition.tanks.items()
    }  # fmt: skip
    definition = definition.model_copy(update={"tanks": tanks})
    shared = Shared({}, {})
    loadings = {n: _rolled(definition, n, entry, where, shared) for n, entry in definition.loadings.items()}
    return definition.model_copy(update={"loadings": loadings})


def parts_of(definition: AircraftDefinition, loading: Loading, shared: Shared | None = None) -> dict[str, Properties]:
    """Return the parts and the tanks' contents of a loading by name; empty for one that is given in numbers.

    ``shared`` is what was worked out for another loading, and receives what is new.

    Parameters
    ----------
    definition : AircraftDefinition
        The aircraft as read from its file.
    loading : Loading
        The loading.
    shared : Shared, optional
        What was worked out for another loading; it receives what is new.

    Returns
    -------
    mapping of str to Properties
        Mass properties by name, body axes from the datum.
    """
    found: dict[str, Properties] = {}
    shared = shared or Shared({}, {})
    if not loading.groups:
        return found
    for name, part in definition.parts.items():
        if part.group in loading.groups:
            # a part stands in many loadings: its tensor is turned and mirrored once
            if name not in shared.parts:
                sides = part.properties()
                shared.parts[name] = combine(sides) if len(sides) > 1 else sides[0]
            found[name] = shared.parts[name]
    for name, tank in definition.tanks.items():
        held = loading.tanks.get(name, 0.0)
        if held > 0.0:
            if name not in shared.tanks:
                shared.tanks[name] = tank_tables(tank)
            found[name] = shared.tanks[name].at(held)
    return found


def _rolled(
    definition: AircraftDefinition, name: str, loading: Loading, where: Where, shared: Shared
) -> Loading:  # fmt: skip
    if not loading.groups:
        return loading
    groups = {p.group for p in definition.parts.values()}
    for group in loading.groups:
        if group not in groups:
            raise DravikError(
                f"no part is in the group {group!r}", where=where("loadings", name, "groups"),
                expected=", ".join(sorted(groups)), hint=nearest(group, groups),
            )  # fmt: skip
    loading = _filled(definition, name, loading, where)
    for tank in loading.flowing:
        if tank not in definition.tanks or definition.tanks[tank].flow is None:
            place = where("loadings", name, "flowing")
            known = [n for n, t in definition.tanks.items() if t.flow is not None]
            raise DravikError(
                f"there is no tank {tank!r} with a flow",
                where=place,
                expected=", ".join(known),
                hint=nearest(tank, known),
            )
    for tank, held in loading.tanks.items():
        place = where("loadings", name, "tanks")
        if tank not in definition.tanks:
            known = list(definition.tanks)
            raise DravikError(
                f"there is no tank {tank!r}", where=place, expected=", ".join(known), hint=nearest(tank, known)
            )
        capacity = definition.tanks[tank].capacity
        # "full" stands as infinite until the capacity is known
        if math.isfinite(held) and held > capacity * (1.0 + 1e-9):
            raise DravikError(
                f"the tank {tank!r} cannot hold {held:g} kg",
                where=place,
                expected=f"at most the {capacity:.6g} kg that it holds",
            )
    held_in = {n: min(m, definition.tanks[n].capacity) for n, m in loading.tanks.items()}
    loading = loading.model_copy(update={"tanks": held_in})
    whole = combine(list(parts_of(definition, loading, shared).values()))
    cg = station_from_body(whole.centre)
    xy, xz, yz = whole.products
    numbers = {
        "mass": whole.mass, "cg": (float(cg[0]), float(cg[1]), float(cg[2])), "Ixx": float(whole.tensor[0, 0]),
        "Iyy": float(whole.tensor[1, 1]), "Izz": float(whole.tensor[2, 2]), "Ixy": xy, "Ixz": xz, "Iyz": yz,
    }  # fmt: skip
    return loading.model_copy(update=numbers)


def _filled(definition: AircraftDefinition, name: str, loading: Loading, where: Where) -> Loading:
    """Return a loading with what is filled in by order shared out to its tanks."""
    tanks = dict(loading.tanks)
    for filling, mass in loading.filled.items():
        place = where("loadings", name, "filled")
        if filling not in definition.filling:
            known = list(definition.filling)
            raise DravikError(
                f"there is no filling {filling!r}", where=place, expected=", ".join(known) or "[filling.NAME]",
                hint=nearest(filling, known),
            )  # fmt: skip
        shared = share_out(definition, filling, mass, where("filling", filling, "order"))
        twice = sorted(t for t in shared if abs(loading.tanks.get(t, shared[t]) - shared[t]) > 1e-9)
        if twice:
            raise DravikError(f"{twice[0]} is both filled by order and given", where=place, expected="one of them")
        room = sum(definition.tanks[t].capacity for t in shared)
        if math.isfinite(mass) and mass > room * (1.0 + 1e-9):
            raise DravikError(
                f"{mass:g} kg of {filling} do not fit into its tanks",
                where=place,
                expected=f"at most {room:.6g} kg, all tanks full",
            )
        tanks |= shared
    return loading.model_copy(update={"tanks": tanks})


def share_out(definition: AircraftDefinition, filling: str, mass: float, place: str = "") -> dict[str, float]:
    """Return what each tank of a filling holds: step by step, the tanks of a step by their capacities."""
    held: dict[str, float] = {}
    left = mass
    for step in definition.filling[filling].order:
        for tank in step:
            if tank not in definition.tanks or tank in held:
                what = f"there is no tank {tank!r}" if tank not in definition.tanks else f"{tank} stands there twice"
                raise DravikError(what, where=place, expected=", ".join(definition.tanks))
            held[tank] = 0.0
        room = sum(definition.tanks[t].capacity for t in step)
        share = min(1.0, left / room)
        for tank in step:
            held[tank] = share * definition.tanks[tank].capacity
        left = max(left - room, 0.0)
    return held


@dataclass(frozen=True)
class MassFormulas:
    """Formulas of mass properties that follow tanks, the tables they call, and each flow's way through the aircraft.

    ``flows``: for each draining tank its outflow's name, the middle of the way from the tank to the exit (body axes
    from the datum, m), and that way itself.
    """

    formulas: dict[str, tuple[str, str, str]]
    tables: dict[str, Table]
    flows: list[tuple[str, tuple[float, float, float], tuple[float, float, float]]]


def mass_formulas(definition: AircraftDefinition, loading: Loading) -> MassFormulas | None:
    """Return what makes the mass properties of a loading follow its tanks; None where nothing flows.

    Formulas are name to (text, unit, meaning). The integrals of position and of its products over the mass add up; the
    centre and the tensor about it follow by the parallel-axis theorem, and the centre's own rate from where each
    surface stands.
    """
    flowing = {n: definition.tanks[n] for n in loading.flowing}
    moving = {n: p for n, p in definition.parts.items() if p.moved_to is not None and p.group in loading.groups}
    if not flowing and not moving:
        return None
    # what neither flows nor moves is one lump of constants in the formulas
    fixed = [p for n, p in parts_of(definition, loading).items() if n not in flowing and n not in moving]
    if not fixed:
        raise DravikError("a loading needs a part that does not drain", expected="groups with parts")
    base = combine(fixed)
    # integrals about the datum add up; a tensor about a centre that moves would not
    about = base.about(np.zeros(3))
    # from moments of inertia to integrals: xx = (Iyy + Izz - Ixx)/2
    trace = 0.5 * float(np.trace(about))
    constants = dict(zip(COLUMNS[:3], base.mass * base.centre, strict=True)) | {
        "xx": trace - about[0, 0], "yy": trace - about[1, 1], "zz": trace - about[2, 2],
        "xy": -about[0, 1], "xz": -about[0, 2], "yz": -about[1, 2],
    }  # fmt: skip
    tables: dict[str, Table] = {}
    formulas: dict[str, tuple[str, str, str]] = {}
    flows = []
    for name, tank in flowing.items():
        _add_tank(name, tank, loading.tanks.get(name, 0.0), tables, formulas)
        flows.append((f"outflow_{name}", *_displacement(tank)))
    moved = {n: _moving(n, p, formulas) for n, p in moving.items()}
    weights = [f"{float(sum(s.mass for s in p.properties()))!r}" for p in moving.values()]
    formulas["mass"] = (" + ".join([f"{base.mass!r}", *weights, *(f"tank_{n}" for n in flowing)]), "kg", "mass")
    for column in COLUMNS[:9]:
        parts = [f"contents_{n}_{column}(tank_{n})" for n in flowing] + [terms[column] for terms in moved.values()]
        formulas[f"moment_{column}"] = (
            " + ".join([f"{float(constants[column])!r}", *parts]),
            "",
            f"integral of {column} over the mass",
        )
    for axis in "xyz":
        formulas[f"centre_{axis}"] = (f"moment_{axis}/mass", "m", f"centre of gravity along body {axis} from the datum")
        # what leaves at the surface moves the centre away from there; the mass that is left carries on
        rates = [f"(contents_{n}_surface_{axis}(tank_{n}) - centre_{axis})*outflow_{n}" for n in flowing]
        formulas[f"centre_rate_{axis}"] = (
            f"-({' + '.join(rates) or '0'})/mass",
            "m/s",
            f"how fast the centre moves along body {axis}",
        )
    pairs = {"Ixx": ("yy", "zz"), "Iyy": ("xx", "zz"), "Izz": ("xx", "yy")}
    for moment, (a, b) in pairs.items():
        i, j = a[0], b[0]
        text = f"moment_{a} + moment_{b} - mass*(centre_{i}**2 + centre_{j}**2)"
        formulas[moment] = (text, "kg*m^2", "moment of inertia about the centre of gravity")
    for i, j in (("x", "y"), ("x", "z"), ("y", "z")):
        text = f"moment_{i}{j} - mass*centre_{i}*centre_{j}"
        formulas[f"I{i}{j}"] = (text, "kg*m^2", "product of inertia: integral over the mass")
    return MassFormulas(formulas, tables, flows)


def _moving(name: str, part: Part, formulas: dict[str, tuple[str, str, str]]) -> dict[str, str]:
    """Return a moving part's integrals of position and of its products over its mass, as formulas of where it is."""
    assert part.moved_to is not None
    place = f"moved_{name}"
    formulas[place] = (f"limit({part.moved}, 0, 1)", "", f"how far {name} has moved")
    here, there = part.sides(part.position), part.sides(part.moved_to)
    terms: dict[str, list[str]] = {c: [] for c in COLUMNS[:9]}
    for start, end in zip(here, there, strict=True):
        displacement, tensor = end.centre - start.centre, start.tensor
        trace = 0.5 * float(np.trace(tensor))
        at = [f"({float(c)!r} + {float(w)!r}*{place})" for c, w in zip(start.centre, displacement, strict=True)]
        for i, axis in enumerate("xyz"):
            terms[axis].append(f"{start.mass!r}*{at[i]}")
            for j in range(i, 3):
                own = trace - float(tensor[i, i]) if i == j else -float(tensor[i, j])
                terms[axis + "xyz"[j]].append(f"{start.mass!r}*{at[i]}*{at[j]} + {own!r}")
    return {c: " + ".join(t) for c, t in terms.items()}


def _add_tank(
    name: str, tank: Tank, held: float, tables: dict[str, Table], formulas: dict[str, tuple[str, str, str]]
) -> None:
    # smooth, so that centre and tensor have no kinks over the flight as the level falls
    laid = tank_tables(tank)
    axis = (Axis(f"tank_{name}", laid.mass, "kg"),)
    for column, values in zip(COLUMNS, np.concatenate([laid.first, laid.second, laid.surface], axis=1).T, strict=True):
        # under a name of their own: a tank may be called centre or moment, as signals of the whole are
        table = f"contents_{name}_{column}"
        tables[table] = Table(table, axis, values, method="smooth")
    full = float(laid.mass[-1])
    formulas[f"flow_{name}"] = (str(tank.flow), "kg/s", f"flow asked of {name}")
    # an empty tank still takes in, a full one still drains: only the flow that cannot be is cut
    stopped = f"max(flow_{name}, 0)*(tank_{name} > 0) + min(flow_{name}, 0)*(tank_{name} < {full!r})"
    limits = f", 0, {full!r}"
    if tank.shape == "grain":
        # a burning grain ends with its thrust curve, exactly when empty: a limit would shorten its last step
        stopped, limits = f"flow_{name}", ""
    formulas[f"outflow_{name}"] = (stopped, "kg/s", f"flow out of {name}, none from an empty tank")
    integral = f"integral(-outflow_{name}, {held!r}{limits})"
    formulas[f"tank_{name}"] = (integral if limits else f"max({integral}, 0)", "kg", f"mass in {name}")


def _displacement(tank: Tank) -> tuple[tuple[float, float, float], tuple[float, float, float]]:
    """Return the middle of the way from a tank's middle to its exit, and the way."""
    start = body_from_station(np.array(tank.position))
    end = start if tank.exit is None else body_from_station(np.array(tank.exit))
    middle, displacement = 0.5 * (start + end), end - start
    return (float(middle[0]), float(middle[1]), float(middle[2])), (
        float(displacement[0]),
        float(displacement[1]),
        float(displacement[2]),
    )


def drain_paths(definition: AircraftDefinition, loading: Loading, count: int = 25) -> dict[str, Floats]:
    """Return for each filling, and each tank outside of one, how the whole changes as it alone drains.

    Rows of what is left, mass, station x, y, z of the centre, and Ixx, Iyy, Izz about it.

    Parameters
    ----------
    definition : AircraftDefinition
        The aircraft as read from its file.
    loading : Loading
        The loading.
    count : int, default 25
        Number of rows, from full to empty.

    Returns
    -------
    mapping of str to array of float
        Rows by filling or tank, SI.
    """
    parts = parts_of(definition, loading)
    groups = {f: share_out(definition, f, math.inf) for f in loading.filled}
    ordered = {t for tanks in groups.values() for t in tanks}
    for tank, held in loading.tanks.items():
        if held > 0.0 and tank in parts and tank not in ordered:
            groups[tank] = {tank: held}
    paths = {}
    for name, tanks in groups.items():
        rest = [p for n, p in parts.items() if n not in tanks]
        tables = {t: tank_tables(definition.tanks[t]) for t in tanks}
        rows = []
        for left in np.linspace(sum(loading.tanks.get(t, 0.0) for t in tanks), 0.0, count):
            held_in = {name: float(left)} if name in tanks else share_out(definition, name, float(left))
            whole = combine([*rest, *(tables[t].at(m) for t, m in held_in.items())])
            rows.append([left, whole.mass, *station_from_body(whole.centre), *np.diag(whole.tensor)])
        paths[name] = np.array(rows)
    return paths
