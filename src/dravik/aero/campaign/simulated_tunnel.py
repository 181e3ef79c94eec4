"""A stand-in for a wind tunnel: balance readings of a model whose coefficients are known, noise and a bad point."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from dravik.aero.campaign.tunnel import FORCES, MOMENTS, Campaign, Column
from dravik.errors import DravikError
from dravik.frames import body_from_station
from dravik.host.files import write_text
from dravik.units import to_si

__all__ = ["Setting", "simulate_runs", "simulate_tares"]

Floats = NDArray[np.float64]
Known = Callable[[dict[str, float]], dict[str, float]]


@dataclass(frozen=True)
class Setting:
    """A set point of the stand-in: angle of attack, sideslip and control settings, rad."""

    alpha: float
    beta: float = 0.0
    controls: tuple[tuple[str, float], ...] = ()


@dataclass(frozen=True)
class _Air:
    """What the stand-in's tunnel blows: Pa."""

    pressure: float = 950.0
    spread: float = 4.0


def simulate_runs(
    campaign: Campaign, settings: Sequence[Setting], known: Known, path: str | Path, *, weight: float, noise: float,
    seed: int, bad: int = -1,
) -> None:  # fmt: skip
    """Write balance readings of ``settings`` in the campaign's columns, signs and axes (body axes only).

    ``known`` gives the coefficients at signals; ``weight`` (N) of the model hangs on the balance; ``noise`` is the
    standard deviation of a reading over the load of a coefficient of one; angles are off by up to 0.03 deg. The row
    ``bad`` has its normal force off by a quarter of a coefficient. Raises DravikError for a balance in other axes.
    """
    if campaign.balance.axes != "body":
        raise DravikError("the stand-in's balance reads along body axes", expected="balance.axes = 'body'")
    rng, air, ref = np.random.default_rng(seed), _Air(), campaign.reference
    rows = []
    for i, setting in enumerate(settings):
        alpha, beta = (
            # a real sting never stands exactly at the set point: the reduction must bring values to the nominal angle
            x + np.radians(rng.uniform(-0.03, 0.03)) if x is not None else 0.0
            for x in (setting.alpha, setting.beta)
        )
        pressure = air.pressure + air.spread * rng.normal()
        c = known({"alpha": alpha, "beta": beta, **dict(setting.controls)})
        ca, sa = np.cos(alpha), np.sin(alpha)
        # lift and drag lie in the wind's plane, the balance reads along the body: turned by alpha
        force = pressure * ref.area * np.array([c["CL"] * sa - c["CD"] * ca, c["CY"], -c["CL"] * ca - c["CD"] * sa])
        turning = pressure * ref.area * np.array([c["Cl"] * ref.span, c["Cm"] * ref.chord, c["Cn"] * ref.span])
        # the balance reads moments about its own centre, coefficients are about the moment point
        arm = body_from_station(np.array(campaign.balance.centre), ref.moment_point)
        loads = np.concatenate([force, turning - np.cross(arm, force)]) + _hanging(alpha, weight)
        sizes = pressure * ref.area * np.array([1.0, 1.0, 1.0, ref.span, ref.chord, ref.span])
        loads += noise * sizes * np.array([0.3, 0.5, 1.0, 0.2, 0.5, 0.2]) * rng.normal(size=6)
        # a quarter of a coefficient: as a touch of the support would give it, far outside all scatter
        if i == bad:
            loads[2] -= 0.25 * sizes[2]
        rows.append((alpha, beta, pressure, dict(setting.controls), loads))
    _write(campaign, rows, path)


def simulate_tares(campaign: Campaign, alphas: Sequence[float], path: str | Path, *, weight: float) -> None:
    """Write the wind-off readings at angles of attack (rad)."""
    _write(campaign, [(a, 0.0, 0.0, {}, _hanging(a, weight)) for a in alphas], path)


def _hanging(alpha: float, weight: float) -> Floats:
    """Return what the model's weight does to the balance, its centre of gravity 20 mm ahead of the balance's."""
    x, z = -weight * np.sin(alpha), weight * np.cos(alpha)
    return np.array([x, 0.0, z, 0.0, -0.02 * z, 0.0])


def _write(
    campaign: Campaign, rows: list[tuple[float, float, float, dict[str, float], Floats]], path: str | Path
) -> None:
    columns = campaign.columns
    wanted: list[tuple[Column, str, Callable[[tuple[float, float, float, dict[str, float], Floats]], float]]] = [
        (columns.alpha, "angle", lambda r: r[0])
    ]
    if columns.beta is not None:
        wanted.append((columns.beta, "angle", lambda r: r[1]))
    if isinstance(campaign.flow.dynamic_pressure, Column):
        wanted.append((campaign.flow.dynamic_pressure, "pressure", lambda r: r[2]))
    for name, column in campaign.settings.items():
        wanted.append((column, "angle", lambda r, n=name: r[3].get(n, 0.0)))  # type: ignore[misc]
    for k, name in enumerate((*FORCES, *MOMENTS)):
        kind = "force" if name in FORCES else "moment"
        wanted.append((getattr(columns, name), kind, lambda r, k=k: float(r[4][k])))  # type: ignore[misc]
    lines = [",".join(c.column for c, _, _ in wanted)]
    for row in rows:
        cells = []
        for column, kind, value in wanted:
            scale, offset = to_si(column.unit, kind)
            # from SI back to the column's unit; the sign of the axis was the balance maker's choice
            cells.append(f"{(column.sign * value(row) - offset) / scale + 0.0:.5g}")
        lines.append(",".join(cells))
    write_text(path, "\n".join(lines) + "\n", what="campaign")
