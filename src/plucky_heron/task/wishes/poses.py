"""A machine on a site in many poses at once: where its bodies are, and what touches."""

from __future__ import annotations

import functools
from collections.abc import Collection

import numpy as np

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.plant import Plant, mass_matrix
from plucky_heron.dynamics.posing import joint_above
from plucky_heron.dynamics.scene import build_scene
from plucky_heron.dynamics.shapes import surface_triangles
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.machine.urdf import rotation
from plucky_heron.units import parse

Array = np.ndarray

STEP = 0.002
SAMPLES = 6000
"""Poses that are looked at for what can be reached."""
DEEPEST = 1e-3
"""Metres by which shapes may stand in each other before a pose counts as impossible."""


class Poses:
    """Poses of a machine on a site, (B, entries) as the plant counts them, SI units."""

    def __init__(self, machine: Machine, site: Site) -> None:
        self.machine, self.site = machine, site
        self.model = build_model(machine, site.gravity, site.air_density, site.water_density)
        self.surroundings = build_scene(site)

    @functools.cached_property
    def mass(self) -> float:
        """Of all bodies and full tanks, kg."""
        tanks = sum(t.mass * t.fill for t in self.machine.tanks.values())
        return sum(b.mass for b in self.machine.bodies.values()) + tanks

    def plant(self, copies: int) -> Plant:
        """Copies at the start, in still air and water."""
        plant = Plant(self.model, copies, STEP, surroundings=self.surroundings)
        plant.fields[:, layout.WATER_LEVEL] = -np.inf if self.site.water_level is None else self.site.water_level
        plant.settle_drives(np.arange(copies))
        return plant

    def index(self, coordinate: str) -> int:
        """Where a coordinate stands in positions."""
        return self.model.joints.index(coordinate)

    def span(self, joint: str, share: float = 1.0, free: float = np.pi) -> tuple[float, float]:
        """Part of a joint's way about its start: `share` of the way to each stop, or of `free` where it has none."""
        start = float(self.model.start[self.index(joint)])
        low, high = self.machine.joints[joint].limits or (start - free, start + free)
        return start + share * (low - start), start + share * (high - start)

    def sampled(self, joints: list[str], share: float, count: int = SAMPLES, free: float = np.pi) -> Array:
        """Positions (count, entries) with some joints drawn evenly, and what follows them where it follows."""
        generator = np.random.default_rng(7)
        positions: Array = np.tile(self.model.start, (count, 1))
        for joint in joints:
            low, high = self.span(joint, share, free)
            positions[:, self.index(joint)] = generator.uniform(low, high, count)
        return self.followed(positions)

    def followed(self, positions: Array) -> Array:
        """The same positions, with joints that follow another one where they follow it to."""
        for coupling in self.machine.couplings.values():
            if coupling.kind == "ratio":
                offset = parse(coupling.offset, self.machine.joints[coupling.joint].unit)
                leader = positions[:, self.index(coupling.follows)]
                positions[:, self.index(coupling.joint)] = coupling.ratio * leader + offset
        return positions

    def frames(self, positions: Array) -> Array:
        """Origin and rotation of every body, (B, bodies, 12)."""
        plant = Plant(self.model, len(positions), STEP, threads=1)
        plant.position[:] = positions
        located = plant.locate()
        return np.concatenate([located[:, :, :3], located[:, :, 6:15]], axis=2)

    def points(self, positions: Array, body: str, point: Array) -> Array:
        """Where a point (3,) of a body is, (B, 3)."""
        frames = self.frames(positions)[:, self.model.bodies.index(body)]
        return np.asarray(frames[:, :3] + frames[:, 3:].reshape(-1, 3, 3) @ np.asarray(point, dtype=float))

    def heights(self, positions: Array) -> Array:
        """Height of the middle of all mass, (B,)."""
        return np.asarray(self.middles(positions)[:, 2])

    def middles(self, positions: Array) -> Array:
        """Where the middle of all mass is, (B, 3)."""
        frames = self.frames(positions)
        total = np.zeros((len(positions), 3))
        for b, name in enumerate(self.model.bodies):
            body = self.machine.bodies[name]
            total += body.mass * (frames[:, b, :3] + frames[:, b, 3:].reshape(-1, 3, 3) @ np.array(body.centre))
        return np.asarray(total / max(self.mass, 1e-12))

    def inertia(self, positions: Array) -> Array:
        """What each coordinate has to move, with all that follows it, (B, entries): kg m² of hinges, kg of sliders."""
        machine = self.machine
        # what holds a coupling together is stiff, and stands in the mass matrix of the step
        alone = build_model(machine.model_copy(update={"couplings": {}})) if machine.couplings else self.model
        whole = np.array([mass_matrix(alone, row) for row in positions])
        found = np.einsum("bii->bi", whole).copy()
        for coupling in machine.couplings.values():
            if coupling.kind == "ratio":
                k, leader = self.index(coupling.joint), self.index(coupling.follows)
                found[:, leader] += coupling.ratio**2 * whole[:, k, k] + 2.0 * coupling.ratio * whole[:, k, leader]
        return np.asarray(found)

    def free(self, positions: Array) -> Array:
        """Whether poses stand clear of the ground, of what stands on the site, and of themselves, (B,)."""
        plant = self.plant(len(positions))
        plant.position[:] = positions
        plant.step(np.zeros((len(positions), len(self.model.drives))))
        deep = np.zeros(len(positions), dtype=bool)
        for copy in np.flatnonzero(plant.contact_count[: len(positions)]):
            deep[copy] = plant.contacts[copy, : plant.contact_count[copy], 12].min() < -DEEPEST
        return np.asarray(~deep & (self.lowest(positions) > self.ground + 0.005))

    @functools.cached_property
    def corners(self) -> dict[str, Array]:
        """Points of the outline of each body's shapes, in its own axes (k, 3)."""
        found = {}
        for name, body in self.machine.bodies.items():
            outline = [np.zeros((0, 3))]
            for shape in body.shapes:
                corners = np.unique(np.round(surface_triangles(shape).reshape(-1, 3), 9), axis=0)
                outline.append(corners @ rotation(*shape.turn).T + np.array(shape.at))
            found[name] = np.concatenate(outline)
        return found

    def lowest(self, positions: Array, bodies: Collection[str] | None = None) -> Array:
        """Height of the lowest point of what moves, or of some bodies, (B,); inf where nothing has a shape."""
        frames = self.frames(positions)
        low = np.full(len(positions), np.inf)
        for b, name in enumerate(self.model.bodies):
            counts = joint_above(self.model, name) if bodies is None else name in bodies
            if self.corners[name].size and counts:
                turned = frames[:, b, 9:12] @ self.corners[name].T
                low = np.minimum(low, frames[:, b, 2] + turned.min(axis=1))
        return low

    @property
    def ground(self) -> float:
        """Height of the ground at the origin; -inf where there is none."""
        return -np.inf if self.site.terrain is None else self.site.terrain.level
