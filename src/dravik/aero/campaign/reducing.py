"""The reduction of a campaign: sweeps, repeats, grids, derivatives."""

from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from math import sqrt
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from dravik.aero.campaign.reduction import Derivative, Doubt, Reduction, Sweep, doubts
from dravik.aero.campaign.tunnel import COEFFICIENTS, Campaign, Points, read_campaign, read_points
from dravik.aero.sets.tableset import Formula, TableSet
from dravik.definition.toml import KeyLines
from dravik.errors import DravikError
from dravik.tables import Axis, Table
from dravik.tables.fitting import fit, half_width
from dravik.version import __version__

__all__ = ["reduce_campaign"]

Floats = NDArray[np.float64]
LENGTHWISE = ("CL", "CD", "Cm")


@dataclass(frozen=True)
class _Station:
    """A set point: nominal angles and settings, means of the repeats, how many they are, and their rows."""

    alpha: float
    beta: float
    settings: tuple[float, ...]
    mean_alpha: float
    mean_beta: float
    values: dict[str, float]
    rows: tuple[int, ...]


def reduce_campaign(path: str | Path) -> Reduction:
    """Return a campaign file reduced: tables, derivatives with 95 % intervals, neutral point, points in doubt.

    Parameters
    ----------
    path : str or path
        The campaign's TOML file.

    Returns
    -------
    Reduction

    Raises
    ------
    DravikError
        For what is missing or wrong in the files, for sweeps too short, and for a grid with holes.
    """
    campaign, lines = read_campaign(path)
    everything = read_points(campaign, lines)
    found = doubts(everything, _sweeps(campaign, everything), campaign.rules.doubt)
    # the places, not the rows, because a place in the file is what the engineer can look up
    bad = {d.place for d in found}
    points = everything.pick(np.array([p not in bad for p in everything.places]))
    stations = _stations(campaign, points)
    scatter, degrees = _scatter(points, stations)
    derivatives = _derivatives(campaign, points, lines)
    neutral = _neutral(campaign, points, lines)
    table_set = _tables(campaign, lines, stations, scatter, degrees, found)
    table_set.provenance["derivatives"] = [
        {"name": d.name, "by": d.by, "value": round(d.value, 6), "interval": round(d.interval, 6)} for d in derivatives
    ]
    # the aft limit lies ahead of the neutral point by the static margin; its interval is the same
    limit = neutral[0] - campaign.rules.static_margin * campaign.reference.chord, neutral[1]
    return Reduction(campaign, points, found, table_set, derivatives, neutral, limit, scatter, degrees)


def _nominal(values: Floats, step: float) -> Floats:
    # plus zero: a rounded -0.0 would be another set point than 0.0 in print and in a dictionary
    found: Floats = np.round(values / step) * step + 0.0
    return found


def _keys(campaign: Campaign, points: Points) -> tuple[Floats, Floats, Floats]:
    """Return nominal alpha, beta and settings (n, controls)."""
    rules = campaign.rules
    # finer than angles: a control is set by hand on the model, and read back without the sting's bending
    settings = [_nominal(points.settings[n], 0.2 * rules.setting_step) for n in campaign.settings]
    table = np.stack(settings, axis=1) if settings else np.zeros((len(points), 0))
    return _nominal(points.alpha, rules.alpha_step), _nominal(points.beta, rules.beta_step), table


def _sweeps(campaign: Campaign, points: Points) -> list[Sweep]:
    """Return every sweep of alpha at a sideslip and of beta at an angle of attack, settings held."""
    alpha, beta, settings = _keys(campaign, points)
    members: dict[tuple[str, float, tuple[float, ...]], list[int]] = defaultdict(list)
    for i in range(len(points)):
        setting = tuple(float(v) for v in settings[i])
        members["alpha", float(beta[i]), setting].append(i)
        members["beta", float(alpha[i]), setting].append(i)
    found = []
    for (kind, *_), rows in members.items():
        nominal, running = (alpha, points.alpha) if kind == "alpha" else (beta, points.beta)
        # a parabola through fewer would leave no point over to judge it by
        if len(np.unique(nominal[rows])) > 3:
            found.append(Sweep(kind, np.array(rows), nominal[rows], running[rows]))
    return found


def _stations(campaign: Campaign, points: Points) -> list[_Station]:
    """Return the points gathered by set point, repeats averaged."""
    alpha, beta, settings = _keys(campaign, points)
    members: dict[tuple[float, ...], list[int]] = defaultdict(list)
    for i in range(len(points)):
        # snap to multiples of the step, so that equal set points compare equal
        members[(float(alpha[i]), float(beta[i]), *(float(v) for v in settings[i]))].append(i)
    return [
        _Station(
            key[0],
            key[1],
            key[2:],
            float(np.mean(points.alpha[rows])),
            float(np.mean(points.beta[rows])),
            {n: float(np.mean(points.values[n][rows])) for n in COEFFICIENTS},
            tuple(rows),
        )
        for key, rows in sorted(members.items())
    ]


def _scatter(points: Points, stations: Sequence[_Station]) -> tuple[dict[str, float], int]:
    """Return the standard deviation of one point, pooled over all repeats, and its degrees of freedom."""
    repeated = [s for s in stations if len(s.rows) > 1]
    # one degree of each group goes into its mean
    degrees = sum(len(s.rows) - 1 for s in repeated)
    if degrees < 2:
        raise DravikError(
            "there are not enough repeats to tell the scatter",
            expected="two or more set points measured more than once",
        )
    found = {}
    for name in COEFFICIENTS:
        squares = 0.0
        for station in repeated:
            rows = list(station.rows)
            values = points.values[name][rows]
            if name in LENGTHWISE:
                # repeats differ slightly in angle: remove the lift slope before computing scatter
                values = values - _slope(stations, station, name) * (points.alpha[rows] - station.mean_alpha)
            squares += float(np.sum((values - values.mean()) ** 2))
        found[name] = sqrt(squares / degrees)
    return found, degrees


def _slope(stations: Sequence[_Station], station: _Station, name: str) -> float:
    """Return the slope of a coefficient by alpha at a station, from its neighbours in the sweep."""
    line = [s for s in stations if s.beta == station.beta and s.settings == station.settings]
    k = line.index(station)
    a, b = line[max(k - 1, 0)], line[min(k + 1, len(line) - 1)]
    # central in the sweep, to one side at its ends
    return (b.values[name] - a.values[name]) / (b.mean_alpha - a.mean_alpha) if b is not a else 0.0


def _tables(
    campaign: Campaign, lines: KeyLines, stations: list[_Station], scatter: dict[str, float], degrees: int,
    found: list[Doubt],
) -> TableSet:  # fmt: skip
    """Return the base curve over alpha, increments by sideslip and by each setting, with intervals beside them."""
    still = tuple(0.0 for _ in campaign.settings)
    clean = [s for s in stations if s.settings == still and s.beta == 0.0]
    if len(clean) < 3:
        raise DravikError(
            "the campaign has fewer than three angles of attack with all settings at zero and without sideslip",
            where=lines.file,
        )
    alphas = Axis("alpha", np.array([s.alpha for s in clean]), "rad")
    base: dict[str, Table] = {}
    for name in COEFFICIENTS:
        values = np.array([s.values[name] for s in clean])
        actual = np.array([s.mean_alpha for s in clean])
        # shift measured values to the nominal angles along the local slope
        values = values + np.gradient(values, actual) * (alphas.values - actual)
        base[name] = Table(name, (alphas,), np.round(values, 6) + 0.0, method="smooth")
    files = {"basic": [*base.values(), *_intervals(clean, (alphas,), scatter, degrees, {})]}
    # the total is a sum of increments, so that each sweep of the tunnel stands alone in a file of its own
    formulas: dict[str, list[str]] = {n: [f"{n}_basic(alpha)"] for n in COEFFICIENTS}
    at_zero = {s.alpha: s for s in clean}

    def add(name: str, chosen: list[_Station], along: Callable[[_Station], float]) -> None:
        grid = _grid(name, chosen, along, at_zero, lines)
        files[name] = _increments(name, grid, along, base)
        files[name] += _intervals([s for row in grid for s in row], files[name][0].axes, scatter, degrees, at_zero)
        for table in files[name][: len(COEFFICIENTS)]:
            formulas[table.name].append(f"{table.name}_{name}(alpha, {'beta' if name == 'sideslip' else name})")

    slipping = [s for s in stations if s.settings == still and s.beta != 0.0]
    if slipping:
        add("sideslip", slipping, lambda s: s.beta)
    for k, name in enumerate(campaign.settings):
        moved = [s for s in stations if s.beta == 0.0 and s.settings[k] != 0.0 and not any(
            v for i, v in enumerate(s.settings) if i != k)]  # fmt: skip
        if moved:
            add(name, moved, lambda s, k=k: s.settings[k])  # type: ignore[misc]
    provenance = {
        "source": campaign.name,
        "dravik": __version__,
        "method": "wind-tunnel reduction",
        "points": sum(len(s.rows) for s in stations),
        "left out": [d.place.rsplit("/", 1)[-1] for d in found],
        "scatter": {n: float(f"{v:.3g}") for n, v in scatter.items()},
    }
    text = {n: Formula(" + ".join(parts)) for n, parts in formulas.items()}
    return TableSet(campaign.name, campaign.reference, files, text, provenance)


def _grid(
    name: str,
    chosen: list[_Station],
    along: Callable[[_Station], float],
    at_zero: dict[float, _Station],
    lines: KeyLines,
) -> list[list[_Station]]:
    """Return stations by alpha and the other variable, those at zero among them; raise for holes."""
    alphas = sorted({s.alpha for s in chosen})
    # the clean sweep is the row of zero: it is measured once, not again with each control
    others = sorted({along(s) for s in chosen} | {0.0})
    known = {(s.alpha, along(s)): s for s in chosen} | {(a, 0.0): s for a, s in at_zero.items()}
    missing = [(a, o) for a in alphas for o in others if (a, o) not in known]
    if missing:
        shown = "; ".join(f"alpha = {np.degrees(a):g} deg, {name} = {np.degrees(o):g} deg" for a, o in missing[:3])
        raise DravikError(
            f"the grid of {name} has holes: {len(missing)} of {len(alphas) * len(others)} points are missing: {shown}"
            + ("; ..." if len(missing) > 3 else ""),
            where=lines.file, hint="measure them, or widen rules.alpha_step or rules.beta_step",
        )  # fmt: skip
    return [[known[a, o] for o in others] for a in alphas]


def _increments(
    name: str, grid: list[list[_Station]], along: Callable[[_Station], float], base: dict[str, Table]
) -> list[Table]:
    """Return what a sideslip or a setting adds to the base curve at the angle that was really set."""
    others = np.array([along(s) for s in grid[0]])
    rest = int(np.argmin(np.abs(others)))
    others[rest] = 0.0
    axes = (
        Axis("alpha", np.array([row[0].alpha for row in grid]), "rad"),
        Axis("beta" if name == "sideslip" else name, others, "rad"),
    )
    tables = []
    for c in COEFFICIENTS:
        # the base at the angle that was really set: its slope would otherwise stand in the increment
        values = np.array([[s.values[c] - float(base[c](s.mean_alpha)) for s in row] for row in grid])
        # no deflection adds nothing, exactly: scatter here would be counted twice in the sum
        values[:, rest] = 0.0
        tables.append(Table(c, axes, np.round(values, 6) + 0.0, method="smooth"))
    return tables


def _intervals(
    stations: list[_Station], axes: tuple[Axis, ...], scatter: dict[str, float], degrees: int,
    at_zero: dict[float, _Station],
) -> list[Table]:  # fmt: skip
    """Return half the 95 % intervals, and how many points each mean has; an increment has the base's scatter too."""
    shape = [len(a.values) for a in axes]
    counts = np.array([len(s.rows) for s in stations], dtype=float)
    shares = 1.0 / counts
    if at_zero:
        base = np.array([1.0 / len(at_zero[s.alpha].rows) if s.alpha in at_zero else 1.0 for s in stations])
        # an increment is a difference of two means, so their variances add; at zero it is known
        shares = np.where([s is at_zero.get(s.alpha) for s in stations], 0.0, shares + base)
    widths = np.sqrt(shares).reshape(shape)
    tables = [Table(f"{n}_interval", axes, np.round(half_width(scatter[n], degrees) * widths, 6)) for n in COEFFICIENTS]
    return [*tables, Table("points", axes, counts.reshape(shape))]


def _derivatives(campaign: Campaign, points: Points, lines: KeyLines) -> list[Derivative]:
    """Return lift and moment slopes, control powers and those by sideslip, by least squares in the linear range."""
    rules = campaign.rules
    low, high = rules.linear_alpha
    _, beta, settings = _keys(campaign, points)
    linear = (points.alpha >= low - 1e-9) & (points.alpha <= high + 1e-9)
    still = ~np.any(settings != 0.0, axis=1)
    middle = 0.5 * (low + high)
    found = []

    def add(rows: NDArray[np.bool_], by: str, names: Sequence[str], columns: Callable[[Points], list[Floats]]) -> None:
        chosen = points.pick(rows)
        for name in names:
            try:
                slope, width, _ = fit(columns(chosen), chosen.values[name])
            except DravikError as error:
                raise error.at(f"{lines.file}: {name} by {by}") from None
            found.append(Derivative(name, by, float(slope[0]), float(width[0]), len(chosen)))

    add(linear & still & (beta == 0.0), "alpha", LENGTHWISE, lambda p: [p.alpha])
    if np.any(beta != 0.0):
        near = np.abs(points.beta) <= rules.linear_beta + 1e-9
        add(linear & still & near, "beta", ("CY", "Cl", "Cn"),
            # the products take what depends on both: the slope by beta is then that at the middle of the range
            lambda p: [p.beta, p.alpha - middle, p.beta * (p.alpha - middle)])  # fmt: skip
    for k, name in enumerate(campaign.settings):
        rest = ~np.any(np.delete(settings, k, axis=1) != 0.0, axis=1)
        small = np.abs(points.settings[name]) <= rules.linear_setting + 1e-9
        rows = linear & rest & small & (beta == 0.0)
        if not np.any(settings[rows, k] != 0.0):
            continue

        def columns(p: Points, name: str = name) -> list[Floats]:
            # as for sideslip: the power of a control at the middle angle, its change with the angle apart
            along, moved = p.alpha - middle, p.settings[name]
            return [moved, along, moved * along, along**2]

        add(rows, name, COEFFICIENTS, columns)
    return found


def _neutral(campaign: Campaign, points: Points, lines: KeyLines) -> tuple[float, float]:
    """Return the neutral point and half its interval, from the slope of Cm over CL in the linear range."""
    low, high = campaign.rules.linear_alpha
    _, beta, settings = _keys(campaign, points)
    rows = (
        (points.alpha >= low - 1e-9) & (points.alpha <= high + 1e-9) & (beta == 0.0) & ~np.any(settings != 0.0, axis=1)
    )
    chosen = points.pick(rows)
    try:
        slope, width, _ = fit([chosen.values["CL"]], chosen.values["Cm"])
    except DravikError as error:
        raise error.at(f"{lines.file}: the neutral point") from None
    ref = campaign.reference
    # dCm/dCL is the distance of the moment point ahead of the neutral point, in chords and negative when stable
    return ref.moment_point[0] - float(slope[0]) * ref.chord, float(width[0]) * ref.chord
