"""Strips of the surfaces: where each stalls, what its separated and its viscous flow do, and hinge moments."""

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from dravik.aero.drawing.geometry import Geometry
from dravik.aero.drawing.mesh import Mesh
from dravik.aero.flow.friction import flap_drag, friction, section_form_factor
from dravik.aero.flow.separated import plate_across, plate_centre
from dravik.tables import Table, read_table

__all__ = ["StripControl", "StripData", "strip_data"]

Floats = NDArray[np.float64]
FORWARD = np.array([1.0, 0.0, 0.0])
FARTHEST = 1.5  # largest distance from the section's design lift to which its quadratic drag polar is used


@dataclass(frozen=True)
class StripControl:
    """A control as the strips have it: ``cover`` is the share of the strip's width, with the sign of its turning there.

    ``shift`` is what it does to the angle of stall (rad a rad); ``area`` m^2 and ``chord`` m of the control as a whole.
    """

    cover: Floats
    hinge: float
    slotted: bool
    shift: Floats
    area: float
    chord: float


@dataclass(frozen=True)
class StripData:
    """All strips (m): middles, unit vectors ``aft`` along the chord and ``normal`` to it, m and m^2, and their drag."""

    lead: Floats
    middle: Floats
    aft: Floats
    normal: Floats
    flat: Floats
    twist: Floats
    chord: Floats
    area: Floats
    ideal: Floats
    least_drag: Floats
    drag_rise: Floats
    across: Floats
    stall_angle: Floats
    sharpness: Floats
    controls: dict[str, StripControl]
    polars: list[tuple[Floats, Table]]
    summing: Floats

    def _plates(self, air: Floats) -> tuple[Floats, Floats]:
        """Return half the square of the flow across the span, and the plates' force over its sine (states, strips)."""
        # flow along the span makes no pressure: simple sweep theory
        normal, along = (np.einsum("knj,nj->kn", air, v) for v in (self.normal, self.aft))
        pressure = 0.5 * (normal**2 + along**2)
        return pressure, pressure * self.area * self.across

    def separated_and_friction(
        self, air: Floats, gamma: Floats, gone: Floats, alpha: Floats, controls: dict[str, Floats]
    ) -> Iterator[tuple[Floats, Floats]]:
        """Yield places and forces: the stalled plates, their deflected controls, and the drag of the sections."""
        _, plate = self._plates(air)
        # a stalled section is a plate: its force acts across it, further aft the steeper the flow
        centre = self.lead - (plate_centre(alpha) * self.chord)[:, :, None] * FORWARD
        yield centre, (gone * plate * np.sin(alpha))[:, :, None] * self.normal
        for name, value in controls.items():
            if np.any(value != 0.0):
                control = self.controls[name]
                # the part of the plate that is the control, turned with it
                share = np.abs(control.cover) * (1.0 - control.hinge)
                angle = np.sign(control.cover) * value[:, None]
                tilt = self.twist + angle
                turned = np.cos(tilt)[:, :, None] * self.flat - np.sin(tilt)[:, :, None] * FORWARD
                # what the turned part does more than it did undeflected
                change = np.sin(alpha + angle)[:, :, None] * turned - np.sin(alpha)[:, :, None] * self.normal
                place = self.lead - (0.5 * (1.0 + control.hinge) * self.chord)[:, None] * FORWARD
                yield place, (gone * plate * share)[:, :, None] * change
        speed = np.linalg.norm(air, axis=2)
        drag = self._section_drag(speed, gamma @ self.summing, gone, controls)
        # profile drag along the local flow
        yield self.middle, 0.5 * (speed * self.area * drag)[:, :, None] * air

    def _section_drag(self, speed: Floats, circulation: Floats, gone: Floats, controls: dict[str, Floats]) -> Floats:
        """Return the sections' profile drag coefficients (states, strips)."""
        # local lift coefficient by Kutta and Joukowski
        lift = 2.0 * circulation / np.maximum(speed * self.chord, 1e-9)
        # the drag bucket's middle is the section's design lift; stalled, it has none
        away = np.clip(lift - self.ideal * (1.0 - gone), -FARTHEST, FARTHEST)
        drag = self.least_drag * (1.0 + self.drag_rise * away**2)
        # measured polars take the place of the estimate, strip by strip
        for here, polar in self.polars:
            drag = np.where(here > 0.0, polar(lift), drag)
        for name, value in controls.items():
            control = self.controls[name]
            if np.any(value != 0.0):
                more = flap_drag(value, control.hinge, control.slotted)[:, None] * np.abs(control.cover)
                drag = drag + more * (1.0 - gone)
        found: Floats = drag
        return found

    def hinge_moments(
        self,
        air: Floats,
        bound: Floats,
        gone: Floats,
        alpha: Floats,
        controls: dict[str, Floats],
        at: Floats,
        mesh: Mesh,
    ) -> dict[str, Floats]:
        """Return hinge-moment coefficients by control, from panels and stalled plates behind the hinge."""
        _, plate = self._plates(air)
        normal = mesh.normals({})
        # pressure on each panel: force along the undeflected normal
        pushed = np.einsum("knj,nj->kn", bound, normal)
        found: dict[str, Floats] = {}
        for name, control in self.controls.items():
            hinge = self.lead - (control.hinge * self.chord)[:, None] * FORWARD
            # only what lies behind the hinge turns the control
            arm = np.maximum(hinge[mesh.strip, 0] - at[:, 0], 0.0)
            moment = -(pushed * mesh.controls[name] * arm).sum(axis=1)
            angle = np.sign(control.cover) * controls[name][:, None]
            # half the control's chord squared: a uniform pressure of the stalled plate about its hinge
            reach = 0.5 * (1.0 - control.hinge) ** 2 * self.chord
            moment -= (gone * plate * control.cover * reach * np.sin(alpha + angle)).sum(axis=1)
            found[f"Ch_{name}"] = moment / (0.5 * control.area * control.chord)
        return found


def strip_data(geometry: Geometry, mesh: Mesh, reynolds_per_metre: float, folder: Path) -> StripData:
    """Return the strips of a mesh, with Reynolds numbers for their chords; polars are looked for in ``folder``.

    Raises DravikError for a polar that cannot be read.
    """
    s = mesh.strips
    drawn = [geometry.surfaces[n] for n in s.surface]
    cosine, sine = np.cos(s.twist)[:, None], np.sin(s.twist)[:, None]
    # two sides; surfaces with a laminar share or interference have theirs below
    least = 2.0 * friction(reynolds_per_metre * s.chord, 0.0)
    for name, surface in geometry.surfaces.items():
        here = np.array([n == name for n in s.surface])
        least[here] = 2.0 * surface.interference * friction(reynolds_per_metre * s.chord[here], surface.laminar)
    summing = np.zeros((mesh.count, len(s.chord)))
    summing[np.arange(mesh.count), mesh.strip] = 1.0
    files = {n: f.polar for n, f in geometry.surfaces.items() if f.polar}
    polars = [
        (np.array([float(n == name) for n in s.surface]), read_table(folder / file, name=f"polar of {name}"))
        for name, file in files.items()
    ]
    return StripData(
        lead=s.lead, middle=s.place(np.full(len(s.chord), 0.5)), aft=-cosine * FORWARD - sine * s.normal,
        normal=cosine * s.normal - sine * FORWARD, flat=s.normal, twist=s.twist, chord=s.chord, area=s.area,
        ideal=-2.0 * np.pi * s.camber, least_drag=least * section_form_factor(s.thickness),
        drag_rise=np.array([d.drag_rise for d in drawn]), across=plate_across([_aspect(mesh, n) for n in s.surface]),
        stall_angle=np.array([d.stall.angle for d in drawn]), sharpness=np.array([d.stall.sharpness for d in drawn]),
        controls={n: _strip_control(geometry, mesh, n) for n in mesh.controls}, polars=polars, summing=summing,
    )  # fmt: skip


def _aspect(mesh: Mesh, surface: str) -> float:
    """Return a surface's aspect ratio: the square of its length across over its area."""
    s = mesh.strips
    here = np.array([n == surface for n in s.surface])
    return float(np.sum(np.linalg.norm(s.across[here][:, 1:], axis=1)) ** 2 / np.sum(s.area[here]))


def _strip_control(geometry: Geometry, mesh: Mesh, name: str) -> StripControl:
    surface, control = geometry.controls[name]
    strips = mesh.strips
    cover = np.zeros(len(strips.chord))
    for panel, value in enumerate(mesh.controls[name]):
        if abs(value) > abs(cover[mesh.strip[panel]]):
            cover[mesh.strip[panel]] = value
    # area of the control, by the strips it covers
    part = np.abs(cover) * strips.area * (1.0 - control.hinge)
    chord = float(np.sum(part * strips.chord * (1.0 - control.hinge)) / np.sum(part))
    return StripControl(
        cover, control.hinge, control.slotted, control.stall_shift * np.abs(cover), float(np.sum(part)), chord
    )
