"""The whole airframe at any angle: attached lattice flow, blended strip by strip into separated flow, bodies and drag.

Each surface is solved as if its own flow were attached, in the flow that the others really leave: the circulation of a
strip counts for the others, and for the forces, by the share of its flow that is attached. Without separation that is
the lattice's own solution. The share follows from the strip's angle of attack in the flow of the other surfaces, its
rates and the slipstream, left and right each for itself, so that damping in roll is lost where one side stalls first.
"""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from functools import cached_property
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import lu_factor, lu_solve

from dravik.aero.drawing.geometry import Geometry
from dravik.aero.drawing.mesh import build_mesh
from dravik.aero.flow.blocks import Block, Flow, LoadSum, run_of
from dravik.aero.flow.lattice import FlowState, Lattice, as_matrix
from dravik.aero.flow.separated import separation
from dravik.aero.flow.slender import SlenderBody, slender_bodies
from dravik.aero.flow.slipstream import discs
from dravik.aero.flow.strips import StripData, strip_data
from dravik.errors import DravikError
from dravik.frames import body_from_station
from dravik.surroundings.atmosphere import air_at

__all__ = ["COEFFICIENTS", "Airframe"]

Floats = NDArray[np.float64]
COEFFICIENTS = ("CL", "CD", "CY", "Cl", "Cm", "Cn")
CHUNK = 128
ROUNDS, CLOSE = 150, 1e-6
STALLS = (0.06, 0.7)  # rad: bracket for the stall angle
LIFT_DRAG = 0.38  # of the parasite drag, by CL^2: I. Kroo, Aircraft Design: Synthesis and Analysis, on viscous drag
FORWARD = np.array([1.0, 0.0, 0.0])


class Airframe:
    """A drawn aircraft ready for any number of states of flow, at the speed and height of its table grid.

    ``mach`` takes the place of that speed's Mach number in the lattice.

    Raises DravikError for a drawing without lifting surfaces, a section or polar that cannot be read, or a Mach number
    beyond the lattice.
    """

    def __init__(self, geometry: Geometry, folder: str | Path = ".", *, mach: float | None = None) -> None:
        if not geometry.surfaces:
            raise DravikError("the drawing has no lifting surfaces", where=geometry.name, expected="[surfaces.NAME]")
        self.geometry, self.reference = geometry, geometry.reference
        grid = geometry.table_grid
        air = air_at(grid.altitude)
        self.mach = grid.airspeed / float(air.speed_of_sound) if mach is None else mach
        # viscosity enters by the chord Reynolds numbers of one speed and height: those of the table grid
        self.reynolds_per_metre = float(grid.airspeed * air.density / air.viscosity)
        self.lattice = Lattice(build_mesh(geometry, folder), geometry, mach=self.mach)
        self.mesh = self.lattice.mesh
        self.strips: StripData = strip_data(geometry, self.mesh, self.reynolds_per_metre, Path(folder))
        origin = self.reference.moment_point
        self.discs = [d for p in geometry.propellers.values() for d in discs(p, origin)]
        self.bodies: list[SlenderBody] = [b for body in geometry.bodies.values() for b in slender_bodies(body, origin)]
        self._body_wash = [as_matrix(self.lattice.influence_at(b.points, b.core)) for b in self.bodies]
        # the lattice's own matrices, changed below only where a fin meets the vortices of other surfaces
        self._normalwash, self._at_bound = self.lattice.normalwash, self.lattice.at_bound
        for name in (n for n, surface in geometry.surfaces.items() if not surface.mirrored):
            self._spread_roots(name)
        self._blocks = [self._block(n) for n in geometry.surfaces]
        for name, surface in geometry.surfaces.items():
            if surface.stall.highest_lift is not None:
                self._fit_stall(name, surface.stall.highest_lift)

    def _fit_stall(self, surface: str, wanted: float) -> None:
        """Find the angle of stall of a surface's sections with which the whole has a highest lift."""
        here = run_of(self.mesh.strips.surface, surface)
        # every degree is fine enough for a maximum: the curve is flat there
        states = [FlowState(alpha=a) for a in np.radians(np.arange(0.0, 40.0, 1.0))]
        plain = self.strips

        # the highest lift rises with the sections' angle of stall, so halving finds it
        def highest(angle: float) -> float:
            angles = plain.stall_angle.copy()
            angles[here] = angle
            self.strips = replace(plain, stall_angle=angles)
            return float(np.max(self.coefficients(states)["CL"]))

        low, high = STALLS
        if not highest(low) <= wanted <= highest(high):
            raise DravikError(
                f"a highest lift coefficient of {wanted:g} cannot be had",
                where=f"surfaces.{surface}.stall.highest_lift",
                expected=f"{highest(low):.3g} to {highest(high):.3g} for this drawing",
            )  # fmt: skip
        for _ in range(16):
            middle = 0.5 * (low + high)
            low, high = (low, middle) if highest(middle) > wanted else (middle, high)
        highest(0.5 * (low + high))

    def _spread_roots(self, surface: str) -> None:
        """Spread the vortices that other surfaces leave in the plane of a fin, over the body or their own strips.

        In sideslip, wings shed between their two sides what in the flow is spread over the width of the body; as a bare
        line of the lattice it would act without bound on a fin that it meets.
        """
        here, mesh = run_of(self.mesh.surface, surface), self.mesh
        # only bodies in the plane of symmetry shed between the two sides of a wing
        width = max([float(b.width.max()) for b in self.bodies if abs(b.points[0, 1]) < 1e-9], default=0.0)
        strips = np.linalg.norm((mesh.right - mesh.left)[:, 1:], axis=1)
        # half the width of what sheds: within it the velocity is held down
        core = np.full(here.stop - here.start, 0.5 * max(width, float(strips.mean())))
        others = np.ones(mesh.count, dtype=bool)
        others[here] = False
        wash = np.einsum(
            "ijk,ik->ij", self.lattice.influence_at(mesh.points[here], core), mesh.normals({})[here]
        )  # fmt: skip
        middle = as_matrix(self.lattice.influence_at(self.lattice.middle[here], core))
        rows = slice(3 * here.start, 3 * here.stop)
        self._normalwash, self._at_bound = self._normalwash.copy(), self._at_bound.copy()
        self._normalwash[here.start : here.stop][:, others] = wash[:, others]
        self._at_bound[rows.start : rows.stop][:, others] = middle[:, others]

    def _block(self, surface: str) -> Block:
        panels, strips = (run_of(names, surface) for names in (self.mesh.surface, self.mesh.strips.surface))
        rows = self._normalwash[panels].copy()
        factors = lu_factor(rows[:, panels])
        # what a surface does to itself is in the factors; the rows keep what the others do to it
        rows[:, panels] = 0.0
        # average over each side: a single strip near another surface's vortex must not stall all of it
        weight = self.strips.summing[panels, strips] * self.strips.area[strips]
        side = np.sign(self.strips.middle[strips, 1])
        same = (side[:, None] == side[None, :]).astype(float)
        weight = weight @ same / (self.strips.summing[panels, strips].sum(axis=0) * (same @ self.strips.area[strips]))
        wash = weight.T @ rows
        count = self.mesh.count
        at_bound = self._at_bound.reshape(count, 3, count)[panels][:, :, panels].reshape(-1, rows[:, panels].shape[1])
        # the wake of this surface alone, for its own induced drag
        matrix, vectors = self.lattice.wake
        wake = matrix[strips, strips], np.linalg.norm(vectors[strips], axis=1)
        return Block(
            panels, strips, factors, lu_solve(factors, rows), wash, np.ascontiguousarray(at_bound), wake,
            self._dent(surface),
        )  # fmt: skip

    def _dent(self, surface: str) -> float:
        """Return by how much bodies in the middle of a surface raise its induced drag."""
        panels = run_of(self.mesh.surface, surface)
        edges = np.concatenate([self.mesh.left[panels], self.mesh.right[panels]])
        span = float(np.ptp(edges[:, 1]))
        widest = 0.0
        for body in self.bodies:
            # the body's width where the surface crosses it
            at = np.abs(body.points[:, 0] - float(np.mean(edges[:, 0]))).argmin()
            if abs(float(body.points[at, 1])) < 0.05 * span:
                widest = max(widest, float(body.width[at]))
        # the loading sags over a body, which costs induced drag; limited where the rule no longer holds
        return 1.0 / (1.0 - 2.0 * min(widest / span, 0.4) ** 2) if span > 0.0 else 1.0

    @property
    def engines(self) -> list[str]:
        """Engines whose slipstream is drawn."""
        return [d.engine for d in self.discs]

    def coefficients(
        self, states: Sequence[FlowState], *, advance: Callable[[int], None] | None = None
    ) -> dict[str, Floats]:
        """Return the six coefficients, and ``Ch_NAME`` for each control, over the states.

        CL, CD in stability axes, CY and moments in body axes about the moment point; a hinge moment is over q and the
        control's area and mean chord, positive the way the control moves when positive. ``advance`` is told how many
        states are done. Raises DravikError for an unknown control or engine.
        """
        parts: list[dict[str, Floats]] = []
        for start in range(0, len(states), CHUNK):
            batch = states[start : start + CHUNK]
            parts.append(self._batch(self._flow(batch)))
            if advance is not None:
                advance(len(batch))
        return {name: np.concatenate([p[name] for p in parts]) for name in (parts[0] if parts else ())}

    def lag_derivatives(self, alphas: Floats, *, step: float = 1e-3) -> dict[str, Floats]:
        """Return the derivatives of the coefficients by alpha_dot c/2V at angles of attack.

        What a surface leaves behind it arrives at the next one later by the distance over the speed (the lag of
        downwash).
        """
        sides = [self._attached(self._flow([FlowState(alpha=a + s) for a in alphas]))[0] for s in (step, -step)]
        # circulation by alpha, of the attached flow: what the wake carries away
        slope = (sides[0] - sides[1]) / (2.0 * step)
        # body x points ahead: a vortex that is further ahead acts later
        x = self.mesh.points[:, 0]
        lag = np.maximum(x[None, :] - x[:, None], 0.0) * 2.0 / self.reference.chord
        for block in self._blocks:
            # within a surface the flow is quasi-steady: only its effect on others comes late
            lag[block.panels, block.panels] = 0.0
        wash = slope @ (self._normalwash * lag).T
        found = []
        for sign in (step, -step):
            flow = self._flow([FlowState(alpha=a) for a in alphas])
            flow.more_wash = sign * wash
            found.append(self._batch(flow))
        return {n: (found[0][n] - found[1][n]) / (2.0 * step) for n in found[0]}

    def _flow(self, states: Sequence[FlowState]) -> Flow:
        alpha, beta, p, q, r = (np.array([getattr(s, n) for s in states]) for n in
                                ("alpha", "beta", "p_hat", "q_hat", "r_hat"))  # fmt: skip
        # the air comes from ahead: its velocity relative to the aircraft is the negative of the aircraft's
        free = -np.stack([np.cos(alpha) * np.cos(beta), np.sin(beta), np.sin(alpha) * np.cos(beta)], axis=1)
        ref = self.reference
        # p = p_hat 2V/b and so on, for unit airspeed
        rates = 2.0 * np.stack([p / ref.span, q / ref.chord, r / ref.span], axis=1)
        for state in states:
            for kind, given, known in (
                ("control", state.controls, self.mesh.controls),
                ("engine", state.thrust, self.engines),
            ):
                for name in given:
                    if name not in known:
                        raise DravikError(f"there is no {kind} {name!r}", expected=", ".join(known))
        controls = {n: np.array([s.controls.get(n, 0.0) for s in states]) for n in self.mesh.controls}
        return Flow(states, free, rates, controls)

    def _air(self, flow: Flow, points: Floats, *, jets: bool = True) -> Floats:
        """Return the air's velocity relative to the aircraft (states, n, 3) at points, without what vortices induce.

        Not with ``jets`` it is the free flow alone: without slipstreams, and without the flow around bodies.
        """
        # a point of the turning aircraft moves with omega x r: the air seems to come the other way
        air = flow.free[:, None, :] - np.cross(flow.rates[:, None, :], points[None, :, :])
        for body in self.bodies if jets and np.any(flow.free[:, 1] != 0.0) else ():
            # a body in cross flow speeds the flow up above and below it, which wings and fins there feel
            air[:, :, 1:] += flow.free[:, 1, None, None] * body.sidewash(points)
        for disc in self.discs if jets else ():
            thrust = np.array([s.thrust.get(disc.engine, 0.0) for s in flow.states])
            if np.any(thrust > 0.0):
                air = air + disc.added(thrust, self.reference.area, flow.free, points)
        result: Floats = air
        return result

    def _turned(self, flow: Flow) -> Floats:
        """Return the panels' normals (states, n, 3) with the angles by which controls turn the flow."""
        tilt = np.broadcast_to(self.mesh.slopes, (len(flow.states), self.mesh.count)).copy()
        drawn = self.geometry.controls
        for name, values in flow.controls.items():
            if np.any(values != 0.0):
                turned = np.array([drawn[name][1].turning(v) for v in values])
                tilt += turned[:, None] * self.mesh.controls[name]
        # a deflected control turns the normal about the span; the panels stay where they are
        normals: Floats = np.cos(tilt)[:, :, None] * self.mesh.flat - np.sin(tilt)[:, :, None] * FORWARD
        return normals

    def _attached(self, flow: Flow) -> tuple[Floats, Floats, Floats]:
        """Return circulations (states, n), the strips' separated shares and their angles of attack (states, strips)."""
        # tangency: what the vortices must induce along the normals
        wash = -np.einsum("knj,knj->kn", self._air(flow, self.mesh.points), self._turned(flow))
        if flow.more_wash is not None:
            wash = wash + flow.more_wash
        strips = self.strips
        air = self._air(flow, strips.middle)
        normal, along = (np.einsum("knj,nj->kn", air, v) for v in (strips.normal, strips.aft))
        # a flap lowers the angle of attack at which its strips stall
        limit = strips.stall_angle + sum(
            (strips.controls[n].shift * np.abs(v[:, None]) for n, v in flow.controls.items()), np.zeros((1, 1))
        )
        limit = np.broadcast_to(limit, normal.shape)
        # each surface in the flow without the others, solved once; the iteration only adds what others do
        alone = [lu_solve(b.factors, wash[:, b.panels].T).T for b in self._blocks]
        gamma, gone, alpha = np.zeros_like(wash), np.zeros_like(normal), np.zeros_like(normal)
        moving = np.arange(len(wash))
        for turn in range(ROUNDS):
            # near stall the iteration between surfaces can oscillate: relax it more
            share = 1.0 if turn < 8 else 0.5 if turn < 24 else 0.25 if turn < 60 else 0.1
            g, s, before = gamma[moving], gone[moving], gamma[moving]
            for block, own in zip(self._blocks, alone, strict=True):
                here = block.strips
                across = normal[moving, here] + g @ block.wash.T
                alpha[moving, here] = np.arctan2(across, along[moving, here])
                # separation follows the angle of attack that a whole side feels, downwash of other surfaces included
                new = separation(alpha[moving, here], limit[moving, here], strips.sharpness[here])
                s[:, here] += share * (new - s[:, here])
                # separated strips lose their circulation in that share
                keep = (1.0 - s)[:, self.mesh.strip[block.panels]]
                g[:, block.panels] = keep * (own[moving] - g @ block.response.T)
            change = np.max(np.abs(g - before), axis=1)
            gamma[moving], gone[moving] = g, s
            # states that have converged leave the iteration
            moving = moving[change > CLOSE * share]
            if not moving.size:
                return gamma, gone, alpha
        worst = flow.states[moving[0]]
        raise DravikError(
            f"no steady flow at alpha {np.degrees(worst.alpha):.4g} deg, beta {np.degrees(worst.beta):.4g} deg",
            where=self.geometry.name, hint="a lower sharpness of the stall",
        )  # fmt: skip

    def _batch(self, flow: Flow) -> dict[str, Floats]:
        """Return the coefficients of a batch of states."""
        count, mesh = len(flow.states), self.mesh
        gamma, gone, alpha = self._attached(flow)
        total = LoadSum(count)
        induced = (gamma @ self._at_bound.T).reshape(count, mesh.count, 3)
        # Kutta and Joukowski: force per density is circulation times velocity across the vortex
        bound = gamma[:, :, None] * np.cross(self._air(flow, self.lattice.middle) + induced, mesh.right - mesh.left)
        total.add(self.lattice.middle, bound)
        for block in self._blocks:
            total.add(*self._wake_drag(block, flow, gamma))
        for tail, head, sign in ((mesh.tail_left, mesh.left, -1.0), (mesh.tail_right, mesh.right, 1.0)):
            at = 0.5 * (tail + head)
            # chordwise legs on the surface carry load in cross flow; slipstreams are left out, in which their sum is
            # noise
            total.add(at, sign * gamma[:, :, None] * np.cross(self._air(flow, at, jets=False), tail - head))
        air = self._air(flow, self.strips.middle)
        for places, forces in self.strips.separated_and_friction(air, gamma, gone, alpha, flow.controls):
            total.add(places, forces)
        for places, forces in self._body_forces(flow, gamma):
            total.add(places, forces)
        hinges = self.strips.hinge_moments(air, bound, gone, alpha, flow.controls, self.lattice.middle, mesh)
        return self._scaled(total, flow) | hinges

    def _wake_drag(self, block: Block, flow: Flow, gamma: Floats) -> tuple[Floats, Floats]:
        """Return a force (states, 1, 3) that makes a surface's own induced drag that of its wake, and its place.

        Near the panels the drag of a swept or coarse lattice comes out wrong by a tenth and more; far behind, where the
        wake's energy is counted (Trefftz), it does not. Bodies across the surface make it grow as the loading has a
        dent there: by 1/(1 - 2 (d/b)^2) (I. Kroo's rule for a fuselage of width d on a span b).
        """
        here = block.panels
        own = gamma[:, here]
        induced = (own @ block.at_bound.T).reshape(len(own), -1, 3)
        span = (self.mesh.right - self.mesh.left)[here]
        # induced drag as the panels have it, which is taken off
        near = np.einsum("kn,knj,kj->k", own, np.cross(induced, span[None]), flow.free)
        strength = own @ self.strips.summing[here, block.strips]
        wake, across = block.wake
        # and as the wake has it, which is put in its place
        far = -0.5 * block.dent * np.sum(strength * (strength @ wake.T) * across, axis=1)
        # where the surface's lift acts, so that the correction has no arm of its own
        place = (np.abs(own) @ self.lattice.middle[here]) / np.maximum(np.abs(own).sum(axis=1), 1e-12)[:, None]
        return place[:, None, :], (far - near)[:, None, None] * flow.free[:, None, :]

    def _body_forces(self, flow: Flow, gamma: Floats) -> Iterator[tuple[Floats, Floats]]:
        # the drag of bodies and small parts grows with the square of the lift: corners, incidence, afterbodies
        width = np.linalg.norm((self.mesh.right - self.mesh.left)[:, 1:], axis=1)
        # of panels that face up: body z points down
        lift = 2.0 * gamma @ (width * (self.mesh.flat[:, 2] < -0.5)) / self.reference.area
        thicker = (1.0 + LIFT_DRAG * np.minimum(lift**2, 2.0))[:, None, None]
        for body, wash in zip(self.bodies, self._body_wash, strict=True):
            induced = (gamma @ wash.T).reshape(len(gamma), len(body.points), 3)
            air = self._air(flow, body.points, jets=False)
            # the wing's upwash and downwash turn the flow at the body without changing its speed
            yield body.forces(air + induced * np.array([0.0, 1.0, 1.0]))
            along = air.mean(axis=1)[:, None, 0:1]
            # friction acts along the body, with the sign of the flow
            drag = 0.5 * body.friction_area(self.reynolds_per_metre) * np.abs(along) * along * FORWARD * thicker
            yield body.points.mean(axis=0)[None, :], drag
        for part in self._parasites:
            air = self._air(flow, part[0], jets=False)
            yield part[0], 0.5 * part[1] * np.linalg.norm(air, axis=2, keepdims=True) * air * thicker

    @cached_property
    def _parasites(self) -> list[tuple[Floats, float]]:
        origin = self.reference.moment_point
        return [
            (body_from_station(np.array([p.position]), origin), p.drag_area) for p in self.geometry.parasites.values()
        ]

    def _scaled(self, total: LoadSum, flow: Flow) -> dict[str, Floats]:
        """Return forces in stability axes and moments in body axes as coefficients."""
        ref, scale = self.reference, 2.0 / self.reference.area
        alpha = np.array([s.alpha for s in flow.states])
        # body axes: x ahead, y right, z down
        x, y, z = (scale * total.force).T
        roll, pitch, yaw = (scale * total.moment).T
        ca, sa = np.cos(alpha), np.sin(alpha)
        return {
            "CL": x * sa - z * ca, "CD": -x * ca - z * sa, "CY": y,
            "Cl": roll / ref.span, "Cm": pitch / ref.chord, "Cn": yaw / ref.span,
        }  # fmt: skip
