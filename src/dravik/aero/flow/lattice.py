"""The vortex lattice: horseshoe vortices on flat panels, one factorisation for all flow states.

Each panel carries a bound vortex at a quarter of its chord and two legs that run straight aft (along body -x), over the
panel's remainder and the wake; the flow is tangential at three quarters of its chord. The legs do not
turn with the flow, so the influence matrix belongs to the geometry alone. Source: J. Katz, A. Plotkin, Low-Speed
Aerodynamics, 2nd ed., Cambridge 2001, sections 12.1 and 2.12; Trefftz plane: section 8.2.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from math import pi
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import lu_factor, lu_solve

from dravik.aero.drawing.geometry import Geometry
from dravik.aero.drawing.mesh import Mesh
from dravik.compiled import compiled
from dravik.errors import DravikError, nearest

__all__ = ["FlowState", "Lattice", "LatticeForces", "highest_mach"]

Floats = NDArray[np.float64]
MACH_ACROSS = 0.7  # across the span lines of a surface: beyond it shocks and the drag rise are near
MACH_LIMIT = 0.9  # of the flow itself, however much the surfaces are swept


@compiled
def _add(out: Floats, x: float, y: float, z: float, factor: float) -> None:
    out[0] += factor * x
    out[1] += factor * y
    out[2] += factor * z


@compiled
def _segment(px: float, py: float, pz: float, a: Floats, b: Floats, core: float, out: Floats) -> None:
    """Add the velocity of a unit vortex from ``a`` to ``b``; nothing on its own line, less within ``core`` of it."""
    x1, y1, z1 = px - a[0], py - a[1], pz - a[2]
    x2, y2, z2 = px - b[0], py - b[1], pz - b[2]
    cx, cy, cz = y1 * z2 - z1 * y2, z1 * x2 - x1 * z2, x1 * y2 - y1 * x2
    r1, r2 = np.sqrt(x1 * x1 + y1 * y1 + z1 * z1), np.sqrt(x2 * x2 + y2 * y2 + z2 * z2)
    # Biot and Savart in the form without angles: no singularity beyond the ends of the segment
    product = r1 * r2
    denominator = product * (product + x1 * x2 + y1 * y2 + z1 * z2)
    if denominator > 1e-12 * product * product and product > 0.0:
        factor = (r1 + r2) / (4.0 * pi * denominator)
        if core > 0.0:
            x, y, z = b[0] - a[0], b[1] - a[1], b[2] - a[2]
            # square of the distance from the vortex line
            distance = (cx * cx + cy * cy + cz * cz) / (x * x + y * y + z * z)
            factor *= distance / (distance + core * core)
        _add(out, cx, cy, cz, factor)


@compiled
def _leg(px: float, py: float, pz: float, a: Floats, sign: float, core: float, out: Floats) -> None:
    """Add the velocity of a vortex from ``a`` to infinity along -x (``sign`` 1), or the other way (-1)."""
    x, y, z = px - a[0], py - a[1], pz - a[2]
    r = np.sqrt(x * x + y * y + z * z)
    denominator = r * (r + x)
    distance = y * y + z * z
    if distance > 1e-20 and denominator > 0.0:
        # (-1, 0, 0) x (x, y, z) = (0, z, -y)
        _add(out, 0.0, z, -y, sign / (4.0 * pi * denominator) * distance / (distance + core * core))


@compiled
def influence(points: Floats, left: Floats, right: Floats, core: Floats, out: Floats) -> None:
    """Fill ``out`` (points, vortices, 3) with the velocity each unit horseshoe induces at each point.

    ``core`` (points) is how near to a vortex, in m, its velocity is held down at each point; zero for a bare vortex.
    """
    for i in range(points.shape[0]):
        x, y, z = points[i, 0], points[i, 1], points[i, 2]
        for j in range(left.shape[0]):
            v = out[i, j]
            v[0] = v[1] = v[2] = 0.0
            # a horseshoe: in along the left leg, across, out along the right one
            _leg(x, y, z, left[j], -1.0, core[i], v)
            _segment(x, y, z, left[j], right[j], core[i], v)
            _leg(x, y, z, right[j], 1.0, core[i], v)


def as_matrix(velocities: Floats) -> Floats:
    """Return velocities (points, vortices, 3) as a matrix (3 points, vortices)."""
    points, vortices, _ = velocities.shape
    return np.ascontiguousarray(velocities.transpose(0, 2, 1)).reshape(3 * points, vortices)


@dataclass(frozen=True)
class FlowState:
    """A state of flow: angles in rad, non-dimensional rates (p b/2V, q c/2V, r b/2V), controls in rad by name.

    ``thrust``: thrust coefficients T/(q S) by engine, for whoever reckons with slipstreams; the bare lattice has none.
    """

    alpha: float = 0.0
    beta: float = 0.0
    p_hat: float = 0.0
    q_hat: float = 0.0
    r_hat: float = 0.0
    controls: dict[str, float] = field(default_factory=dict)
    thrust: dict[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class LatticeForces:
    """Coefficients about the moment point. Forces in stability axes, moments in body axes.

    ``drag_trefftz`` and ``lift_trefftz`` come from the wake far behind; ``strip_load`` is the lift of each strip as
    2 * circulation / V over the reference chord.
    """

    CL: float
    CD: float
    CY: float
    Cl: float
    Cm: float
    Cn: float
    lift_trefftz: float
    drag_trefftz: float
    circulation: Floats
    strip_load: Floats


@dataclass(frozen=True)
class _Image:
    """A mirror image of all vortices: ``mirror`` by component, then ``shift``; ``sign`` of the circulation."""

    mirror: tuple[float, float, float]
    shift: tuple[float, float, float]
    sign: float

    def of(self, points: Floats) -> Floats:
        """Return the images of points (n, 3)."""
        found: Floats = points * np.array(self.mirror) + np.array(self.shift)
        return found


def _images(height: float | None, wall: bool) -> list[_Image]:
    """Return the images that make the ground and a wall in the plane of symmetry tight to the flow.

    A vortex and its image turn against each other; mirrored left ends stay left ends here, so the ground's image
    has the opposite sign, and the wall's, whose ends change sides, has it too.
    """
    images = []
    if height is not None:
        images.append(_Image((1.0, 1.0, -1.0), (0.0, 0.0, 2.0 * height), -1.0))
    if wall:
        images.append(_Image((1.0, -1.0, 1.0), (0.0, 0.0, 0.0), -1.0))
    if height is not None and wall:
        images.append(_Image((1.0, -1.0, -1.0), (0.0, 0.0, 2.0 * height), 1.0))
    return images


def highest_mach(mesh: Mesh) -> tuple[float, str]:
    """Return the highest Mach number of a lattice, and the surface that sets it.

    The flow along the span of a swept surface does not press on it: what counts is the component across, Mach times the
    cosine of its mean sweep (R. T. Jones, Wing Plan Forms for High-Speed Flight, NACA Report 863, 1947).
    """
    span = mesh.right - mesh.left
    across = np.linalg.norm(span[:, 1:], axis=1)
    found = []
    for name in dict.fromkeys(mesh.surface):
        here = np.array([s == name for s in mesh.surface])
        cosine = float(np.sum(across[here]) / np.sum(np.linalg.norm(span[here], axis=1)))
        found.append((min(MACH_ACROSS / max(cosine, 1e-3), MACH_LIMIT), str(name)))
    return min(found)


class Lattice:
    """A factorised lattice, ready for any number of flow states.

    ``mach`` by the Prandtl-Glauert rule in three dimensions: linear, so without shocks, and not beyond the drag rise.
    Its component across the span of each surface may be up to 0.7, so that a swept wing goes further; see
    ``highest_mach``.
    ``height`` in m of the moment point above the ground, which is taken as parallel to body x and y: right to first
    order in the attitude. ``wall``: a tight wall in the plane of symmetry, for a half model. Raises DravikError for
    values outside these ranges.
    """

    def __init__(
        self, mesh: Mesh, geometry: Geometry, *, mach: float = 0.0, height: float | None = None, wall: bool = False
    ) -> None:
        self.mesh = mesh
        self.reference = geometry.reference
        most, surface = highest_mach(mesh)
        if not 0.0 <= mach <= most + 1e-9:
            raise DravikError(
                f"Mach {mach:g} is outside the method",
                expected=f"0 to {most:.3g} for this drawing: the Prandtl-Glauert rule holds up to Mach "
                f"{MACH_ACROSS:g} across the span of each surface, here of {surface}",
            )
        lowest = float(max(np.max(mesh.left[:, 2]), np.max(mesh.right[:, 2]), np.max(mesh.tail_left[:, 2])))
        if height is not None and not height > lowest:
            raise DravikError(
                f"height {height:g} m: the lowest point would be under ground", expected=f"above {lowest:.3g} m"
            )
        # Prandtl and Glauert's factor
        self._squeeze = float(np.sqrt(1.0 - mach**2))
        self._images = _images(height, wall)
        velocities = self.influence_at(mesh.points)
        #: velocity along each panel's normal at its control point by unit vortices (n, n); controls enter through the
        #: right-hand side alone, so the normals are those of the undeflected surface
        self.normalwash: Floats = np.einsum("ijk,ik->ij", velocities, mesh.normals({}))
        #: middles of the bound vortices (n, 3)
        self.middle: Floats = 0.5 * (mesh.left + mesh.right)
        #: velocities there (3 n, n), so that any number of states is one matrix product
        self.at_bound: Floats = as_matrix(self.influence_at(self.middle))

    def influence_at(self, points: Floats, core: Floats | None = None) -> Floats:
        """Return velocities (points, vortices, 3) by unit vortices, images and compressibility included.

        ``core`` (points), m: how near to a vortex its velocity is held down, for points that are not on the surface.
        """
        out = np.empty((len(points), self.mesh.count, 3))
        near = np.zeros(len(points)) if core is None else core
        # Goethert's rule: in a space squeezed across the flow the vortex field is that of incompressible flow
        scale = np.array([1.0, self._squeeze, self._squeeze])
        left, right = self.mesh.left * scale, self.mesh.right * scale
        influence(points * scale, left, right, near, out)
        more = np.empty_like(out) if self._images else out
        for image in self._images:
            a, b = image.of(self.mesh.left) * scale, image.of(self.mesh.right) * scale
            influence(points * scale, np.ascontiguousarray(a), np.ascontiguousarray(b), near, more)
            out += image.sign * more
        # and back: velocities across are those of the squeezed space times the factor
        out[:, :, 1:] *= self._squeeze
        return out

    @cached_property
    def _factors(self) -> Any:
        return lu_factor(self.normalwash)

    def _air(self, state: FlowState, points: Floats) -> Floats:
        """Return the air's velocity relative to the aircraft at points, for unit airspeed."""
        ca, sa, cb, sb = np.cos(state.alpha), np.sin(state.alpha), np.cos(state.beta), np.sin(state.beta)
        velocity = np.array([ca * cb, sb, sa * cb])
        ref = self.reference
        rates = 2.0 * np.array([state.p_hat / ref.span, state.q_hat / ref.chord, state.r_hat / ref.span])
        air: Floats = -(velocity + np.cross(rates, points))
        return air

    def _boundary(self, state: FlowState) -> Floats:
        """Return what the vortices must cancel at each control point."""
        for name in state.controls:
            if name not in self.mesh.controls:
                known = list(self.mesh.controls)
                raise DravikError(f"there is no control {name!r}", expected=", ".join(known), hint=nearest(name, known))
        normals = self.mesh.normals(state.controls)
        wash: Floats = -np.einsum("ik,ik->i", self._air(state, self.mesh.points), normals)
        return wash

    def forces(self, state: FlowState) -> LatticeForces:
        """Return coefficients at one state of flow; raises DravikError for an unknown control."""
        return self.solve([state])[0]

    def solve(self, states: Sequence[FlowState]) -> list[LatticeForces]:
        """Return coefficients at many states of flow, in one go; raises DravikError for an unknown control."""
        if not states:
            return []
        # all states at once: one factorisation, one matrix product
        gamma = lu_solve(self._factors, np.stack([self._boundary(s) for s in states], axis=1))
        induced = (self.at_bound @ gamma).reshape(self.mesh.count, 3, len(states))
        return [self._near_field(s, gamma[:, i], induced[:, :, i]) for i, s in enumerate(states)]

    def derivatives(self, state: FlowState, *, step: float = 1e-3) -> dict[str, dict[str, float]]:
        """Return the derivatives of the six coefficients by angle, rate and control, as central differences."""
        moves: dict[str, tuple[FlowState, FlowState]] = {}
        for name in ("alpha", "beta", "p_hat", "q_hat", "r_hat"):
            value = getattr(state, name)
            moves[name] = replace(state, **{name: value + step}), replace(state, **{name: value - step})
        for name in self.mesh.controls:
            # controls that are deflected already are moved from there
            value = state.controls.get(name, 0.0)
            sides = [replace(state, controls={**state.controls, name: value + s}) for s in (step, -step)]
            moves[name] = sides[0], sides[1]
        flows = self.solve([s for pair in moves.values() for s in pair])
        return {
            name: {
                c: (getattr(flows[2 * i], c) - getattr(flows[2 * i + 1], c)) / (2.0 * step) + 0.0
                for c in ("CL", "CD", "CY", "Cl", "Cm", "Cn")
            }
            for i, name in enumerate(moves)
        }

    def _near_field(self, state: FlowState, gamma: Floats, induced: Floats) -> LatticeForces:
        """Return coefficients from the force on each piece of vortex (Kutta and Joukowski)."""
        mesh, ref = self.mesh, self.reference
        local = self._air(state, self.middle) + induced
        force = gamma[:, None] * np.cross(local, mesh.right - mesh.left)
        moment = np.cross(self.middle, force)
        total, turning = force.sum(axis=0), moment.sum(axis=0)
        # chordwise legs on the surface carry load in cross-flow: sideslip, roll and yaw
        for tail, head, sign in ((mesh.tail_left, mesh.left, -1.0), (mesh.tail_right, mesh.right, 1.0)):
            at = 0.5 * (tail + head)
            load = sign * gamma[:, None] * np.cross(self._air(state, at), tail - head)
            total, turning = total + load.sum(axis=0), turning + np.cross(at, load).sum(axis=0)
        # unit density and airspeed: dynamic pressure is a half
        scale = 2.0 / ref.area
        x, y, z = scale * total
        ca, sa = np.cos(state.alpha), np.sin(state.alpha)
        lift, drag = self._trefftz(gamma)
        strips: Floats = np.bincount(mesh.strip, weights=gamma).astype(np.float64)
        return LatticeForces(
            CL=float(x * sa - z * ca), CD=float(-x * ca - z * sa), CY=float(y),
            Cl=float(scale * turning[0] / ref.span), Cm=float(scale * turning[1] / ref.chord),
            Cn=float(scale * turning[2] / ref.span),
            lift_trefftz=lift, drag_trefftz=drag, circulation=gamma, strip_load=2.0 * strips / ref.chord,
        )  # fmt: skip

    @cached_property
    def wake(self) -> tuple[Floats, Floats]:
        """Normalwash far behind by strip circulation (strips, strips), and the strips' vectors across."""
        mesh = self.mesh
        # the first panel of each strip stands for its trace in the wake
        first = np.unique(mesh.strip, return_index=True)[1]
        a, b = mesh.left[first][:, 1:], mesh.right[first][:, 1:]
        middle, flat = 0.5 * (a + b), mesh.flat[first][:, 1:]

        def wash(ends: Floats) -> Floats:
            # vortices along -x: (-1, 0, 0) x (0, y, z) = (0, z, -y)
            offset = middle[:, None, :] - ends[None, :, :]
            across = offset[..., 1] * flat[:, None, 0] - offset[..., 0] * flat[:, None, 1]
            found: Floats = across / (2.0 * pi * np.sum(offset**2, axis=-1))
            return found

        total = wash(b) - wash(a)
        for image in self._images:
            left, right = (image.of(ends[first])[:, 1:] for ends in (mesh.left, mesh.right))
            total += image.sign * (wash(right) - wash(left))
        return total, b - a

    def _trefftz(self, gamma: Floats) -> tuple[float, float]:
        """Return lift and induced drag from the wake's trace far behind, as coefficients."""
        matrix, across = self.wake
        strength = np.bincount(self.mesh.strip, weights=gamma)
        # kinetic energy that the wake leaves per length: half circulation times downwash, over the span
        drag = -np.sum(strength * (matrix @ strength) * np.linalg.norm(across, axis=1)) / self.reference.area
        return float(2.0 * np.sum(strength * across[:, 0]) / self.reference.area), float(drag)
