"""A wind-tunnel campaign: what each column of a balance file is, and from readings to coefficients point by point."""

from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from dravik.aero.drawing.geometry import Reference
from dravik.definition.fields import Angle, Model, Position
from dravik.definition.toml import KeyLines, read_definition
from dravik.errors import DravikError
from dravik.frames import body_from_station
from dravik.tables import Sheet
from dravik.units import quantity, to_si

__all__ = ["Campaign", "Points", "read_campaign", "read_points"]

Floats = NDArray[np.float64]
FORCES = ("force_x", "force_y", "force_z")
MOMENTS = ("moment_x", "moment_y", "moment_z")
COEFFICIENTS = ("CL", "CD", "CY", "Cl", "Cm", "Cn")
LIMIT = 1e-9


class Column(Model):
    """A column of the balance file: its name there, its unit, and -1 where it is recorded against our direction."""

    column: str  #: name of the column in the file
    unit: str = ""  #: unit of the column
    sign: Literal[-1, 1] = 1  #: -1 where it is recorded against our direction


class Balance(Model):
    """Where the balance's moments are about (station axes of the model), and along which axes it reads."""

    centre: Position  #: point that the balance's moments are about, station axes of the model
    axes: Literal["body", "stability", "wind"] = "body"  #: axes along which the balance reads


class Flow(Model):
    """Dynamic pressure from a column, or from density and speed; each a column, or a quantity for all points."""

    dynamic_pressure: Column | str | None = None  #: column, or one quantity for all points
    density: Column | str | None = None  #: column, or one quantity for all points
    speed: Column | str | None = None  #: column, or one quantity for all points

    @model_validator(mode="after")
    def _enough(self) -> "Flow":
        if self.dynamic_pressure is None and (self.density is None or self.speed is None):
            raise DravikError("the flow has no dynamic pressure", expected="dynamic_pressure, or density and speed")
        return self


class Columns(Model):
    """Angles, forces and moments; settings of controls by their names. Forces and moments along the balance's axes."""

    alpha: Column  #: angle of attack
    beta: Column | None = None  #: sideslip angle
    force_x: Column  #: force along the balance's x axis
    force_y: Column  #: force along the balance's y axis
    force_z: Column  #: force along the balance's z axis
    moment_x: Column  #: moment about the balance's x axis
    moment_y: Column  #: moment about the balance's y axis
    moment_z: Column  #: moment about the balance's z axis


class Rules(Model):
    """How points become tables: steps of the grid, the linear range of derivatives, and when a point is doubted.

    A point is doubted ``doubt`` standard deviations from its neighbours; ``static_margin`` (in chords) is what the
    aft limit of the centre of gravity keeps to the neutral point.
    """

    alpha_step: Annotated[Angle, Field(gt=0.0)] = 0.0349065850398866  #: step of the nominal angles of attack
    beta_step: Annotated[Angle, Field(gt=0.0)] = 0.08726646259971647  #: step of the nominal sideslip angles
    setting_step: Annotated[Angle, Field(gt=0.0)] = 0.08726646259971647  #: step of the nominal control settings
    linear_alpha: tuple[Angle, Angle] = (-0.07, 0.105)  #: range of angles of attack for derivatives
    linear_beta: Annotated[Angle, Field(gt=0.0)] = 0.105  #: greatest sideslip for derivatives
    linear_setting: Annotated[Angle, Field(gt=0.0)] = 0.2  #: greatest control setting for derivatives
    #: standard deviations from its neighbours at which a point is left out
    doubt: Annotated[float, Field(gt=2.0)] = 6.0
    static_margin: Annotated[float, Field(ge=0.0, le=1.0)] = 0.05  #: static margin that the aft limit keeps, in chords


class Campaign(Model):
    """A campaign: balance files with one set of columns, the model's lengths, and the rules of the reduction."""

    format: Literal[1]  #: version of the file's format
    name: str = Field(min_length=1)  #: name, for titles
    files: tuple[str, ...] = Field(min_length=1)  #: balance files with the same columns
    tares: str = ""  #: balance file without wind, which is subtracted
    reference: Reference  #: lengths and the moment point of the coefficients
    balance: Balance  #: where and how the balance reads
    flow: Flow  #: dynamic pressure
    columns: Columns  #: columns of angles, forces and moments
    settings: dict[str, Column] = {}  #: columns of control settings, by name of the control
    rules: Rules = Rules()  #: how points become tables


@dataclass(frozen=True)
class Points:
    """Measured points (n): angles and settings in rad, coefficients by name, and each point's ``place`` (file:line).

    CL, CD in stability axes, CY and the moments in body axes about the moment point.
    """

    alpha: Floats
    beta: Floats
    settings: dict[str, Floats]
    values: dict[str, Floats]
    places: list[str]

    def __len__(self) -> int:
        return len(self.alpha)

    def pick(self, chosen: NDArray[np.bool_] | NDArray[np.int64]) -> "Points":
        """Return some of the points."""
        rows = np.flatnonzero(chosen) if chosen.dtype == bool else chosen
        return Points(
            self.alpha[rows], self.beta[rows], {n: v[rows] for n, v in self.settings.items()},
            {n: v[rows] for n, v in self.values.items()}, [self.places[i] for i in rows],
        )  # fmt: skip


def read_campaign(path: str | Path) -> tuple[Campaign, KeyLines]:
    """Return a campaign and where its keys stand; raises DefinitionError with all that is wrong in the file."""
    return read_definition(Path(path), Campaign)


def read_points(campaign: Campaign, lines: KeyLines) -> Points:
    """Return every point of a campaign as coefficients; files are relative to the campaign's.

    Tares are read at each point's angle of attack from the wind-off file and subtracted; readings are turned from the
    balance's axes to body axes, moments moved to the moment point, and everything divided by the dynamic pressure.
    Raises DravikError, with the key and the file, for a column that is not there, a unit of the wrong kind, or a
    dynamic pressure that is not above zero.
    """
    folder = Path(lines.file).parent
    tares = _Reader(folder / campaign.tares, campaign, lines) if campaign.tares else None
    parts = [_Reader(folder / name, campaign, lines).points(tares) for name in campaign.files]
    return Points(
        np.concatenate([p.alpha for p in parts]), np.concatenate([p.beta for p in parts]),
        {n: np.concatenate([p.settings[n] for p in parts]) for n in campaign.settings},
        {n: np.concatenate([p.values[n] for p in parts]) for n in COEFFICIENTS}, [s for p in parts for s in p.places],
    )  # fmt: skip


class _Reader:
    """One balance file of a campaign."""

    def __init__(self, path: Path, campaign: Campaign, lines: KeyLines) -> None:
        self.campaign, self.lines = campaign, lines
        self.sheet = Sheet(path)

    def column(self, entry: Column | None, kind: str, *keys: str) -> Floats:
        """Return a column in SI and in our direction; zeros for one that the campaign does not have."""
        if entry is None:
            return np.zeros(len(self.sheet))
        try:
            raw, headed = self.sheet.as_written(entry.column)
            unit = entry.unit or headed
            if not unit:
                raise DravikError(f"the column {entry.column!r} has no unit", expected=f"unit = ..., one of {kind}")
            scale, offset = to_si(unit, kind)
        except DravikError as error:
            raise error.at(self.lines.place(keys)) from None
        return entry.sign * (raw * scale + offset)

    def _flow(self, name: str, kind: str) -> Floats:
        entry = getattr(self.campaign.flow, name)
        if isinstance(entry, str):
            return np.full(len(self.sheet), quantity(entry, kind, where=self.lines.place(["flow", name])))
        return self.column(entry, kind, "flow", name)

    def pressure(self) -> Floats:
        """Return the dynamic pressure at each point, Pa."""
        if self.campaign.flow.dynamic_pressure is not None:
            found = self._flow("dynamic_pressure", "pressure")
        else:
            found = 0.5 * self._flow("density", "density") * self._flow("speed", "speed") ** 2
        bad = np.flatnonzero(~(found > 0.0))
        if bad.size:
            raise DravikError(
                f"the dynamic pressure is {found[bad[0]]:g} Pa", where=self.sheet.place_of(int(bad[0])),
                expected="above zero; a wind-off reading belongs into the file of tares",
            )  # fmt: skip
        return found

    def readings(self) -> tuple[Floats, Floats]:
        """Return angles of attack, and forces and moments (n, 6) along the balance's axes."""
        columns = self.campaign.columns
        alpha = self.column(columns.alpha, "angle", "columns", "alpha")
        loads = [self.column(getattr(columns, n), "force", "columns", n) for n in FORCES]
        loads += [self.column(getattr(columns, n), "moment", "columns", n) for n in MOMENTS]
        return alpha, np.stack(loads, axis=1)

    def points(self, tares: "_Reader | None") -> Points:
        """Return the file's points as coefficients."""
        campaign = self.campaign
        alpha, loads = self.readings()
        beta = self.column(campaign.columns.beta, "angle", "columns", "beta")
        if tares is not None:
            at, still = tares.readings()
            order = np.argsort(at)
            loads = loads - np.stack([np.interp(alpha, at[order], still[order, k]) for k in range(6)], axis=1)
        force, moment = loads[:, :3], loads[:, 3:]
        if campaign.balance.axes != "body":
            turned = beta if campaign.balance.axes == "wind" else np.zeros_like(beta)
            force, moment = (_to_body(v, alpha, turned) for v in (force, moment))
        ref = campaign.reference
        arm = body_from_station(np.array(campaign.balance.centre), ref.moment_point)
        moment = moment + np.cross(arm, force)
        scale = 1.0 / (self.pressure() * ref.area)
        x, y, z = force.T * scale
        ca, sa = np.cos(alpha), np.sin(alpha)
        values = {
            "CL": x * sa - z * ca, "CD": -x * ca - z * sa, "CY": y, "Cl": moment[:, 0] * scale / ref.span,
            "Cm": moment[:, 1] * scale / ref.chord, "Cn": moment[:, 2] * scale / ref.span,
        }  # fmt: skip
        settings = {n: self.column(c, "angle", "settings", n) for n, c in campaign.settings.items()}
        return Points(alpha, beta, settings, values, [self.sheet.place_of(i) for i in range(len(alpha))])


def _to_body(v: Floats, alpha: Floats, beta: Floats) -> Floats:
    """Return vectors (n, 3) along wind axes (stability axes when beta is zero) in body axes."""
    ca, sa, cb, sb = np.cos(alpha), np.sin(alpha), np.cos(beta), np.sin(beta)
    x, y = v[:, 0] * cb - v[:, 1] * sb, v[:, 0] * sb + v[:, 1] * cb
    return np.stack([x * ca - v[:, 2] * sa, y, x * sa + v[:, 2] * ca], axis=1)
