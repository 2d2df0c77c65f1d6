"""A machine on a site in many poses at once: where its bodies are, and what touches."""

from __future__ import annotations

import functools
from collections.abc import Collection

import numpy as np

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.model import Model
from plucky_heron.dynamics.plant import Plant, mass_matrix
from plucky_heron.dynamics.posing import free_directions, joint_above
from plucky_heron.dynamics.scene import build_scene
from plucky_heron.dynamics.shapes import surface_triangles
from plucky_heron.machine.parts import Pin, Rod
from plucky_heron.machine.schema import GROUND, Machine
from plucky_heron.machine.site import Site
from plucky_heron.machine.urdf import rotation
from plucky_heron.units import parse

Array = np.ndarray

STEP = 0.002
SAMPLES = 6000
"""Poses that are looked at for what can be reached."""
DEEPEST = 1e-3
"""Metres by which shapes may stand in each other before a pose counts as impossible."""


KEPT = 1e-3
"""Radians or metres within which a joint counts as being where it was put."""
PART = 1e-4
"""Radians or metres by which a joint is moved to see what goes with it: a thousand times what loops stay open by, and more."""
DEAD = 0.9
"""Share of the way to where a loop closes no more: near it a drive moves nothing, or everything."""


def loop_joints(machine: Machine) -> list[str]:
    """Joints that are part of a loop which rods and pins close."""

    def above(body: str) -> list[str]:
        found = []
        while body != GROUND:
            joint = machine.joint_above(body)
            found.append(joint)
            body = machine.joints[joint].parent
        return found

    parts: set[str] = set()
    for force in machine.forces.values():
        if isinstance(force, Rod | Pin):
            parts |= set(above(force.a)) ^ set(above(force.b))
    return [name for name in machine.ordered_joints() if name in parts and machine.joints[name].letters]


class Poses:
    """Poses of a machine on a site, (B, entries) as the plant counts them, SI units."""

    def __init__(self, machine: Machine, site: Site) -> None:
        self.machine, self.site = machine, site
        self.model = build_model(machine, site.gravity, site.air_density, site.water_density)
        self.surroundings = build_scene(site)
        acting = ("effort", "speed", "position")
        self.driven = list(dict.fromkeys(str(d.joint) for d in machine.drives.values() if d.kind in acting))
        self.loop_joints = loop_joints(machine)
        self.followers = [name for name in self.loop_joints if name not in self.driven]
        if self.loop_joints:
            Plant(self.model, 1, STEP)  # closes the loops of the model's start

    @functools.cached_property
    def mass(self) -> float:
        """Of all bodies and full tanks, kg."""
        tanks = sum(t.mass * t.fill for t in self.machine.tanks.values())
        return sum(b.mass for b in self.machine.bodies.values()) + tanks

    def plant(self, copies: int, step: float = STEP) -> Plant:
        """Copies at the start, in still air and water."""
        plant = Plant(self.model, copies, step, surroundings=self.surroundings)
        plant.fields[:, layout.WATER_LEVEL] = -np.inf if self.site.water_level is None else self.site.water_level
        plant.settle_drives(np.arange(copies))
        return plant

    def index(self, coordinate: str) -> int:
        """Where a coordinate stands in positions."""
        return self.model.joints.index(coordinate)

    def span(self, joint: str, share: float = 1.0, free: float = np.pi) -> tuple[float, float]:
        """Part of a joint's way about its start: `share` of the way to each stop, or of `free` where it has none.

        In a loop it goes no farther than the loop closes.
        """
        start = float(self.model.start[self.index(joint)])
        low, high = self.machine.joints[joint].limits or (start - free, start + free)
        if joint in self.closing:
            low, high = max(low, self.closing[joint][0]), min(high, self.closing[joint][1])
        return start + share * (low - start), start + share * (high - start)

    def sampled(self, joints: list[str], share: float, count: int = SAMPLES, free: float = np.pi) -> Array:
        """Positions (count, entries) with some joints drawn evenly, and what follows them where it follows."""
        return self.drawn(joints, share, count, free)[0]

    def drawn(self, joints: list[str], share: float, count: int = SAMPLES, free: float = np.pi) -> tuple[Array, Array]:
        """The same, and whether loops close there (count,): what cannot close is where it nearly does."""
        generator = np.random.default_rng(7)
        positions: Array = np.tile(self.model.start, (count, 1))
        for joint in joints:
            low, high = self.span(joint, share, free)
            positions[:, self.index(joint)] = generator.uniform(low, high, count)
        return self.kept(positions, joints)

    def kept(self, positions: Array, joints: list[str]) -> tuple[Array, Array]:
        """Positions with what follows where it follows, and whether `joints` could stay where they were put, (B,)."""
        wanted = positions.copy()
        found = self.followed(positions)
        kept = np.abs(found - wanted)[:, [self.index(j) for j in joints]].max(axis=1, initial=0.0) < KEPT
        return found, kept & self.within_stops(found)

    def followed(self, positions: Array) -> Array:
        """The same positions, with joints that follow another one where they follow it to, and loops closed."""
        for coupling in self.machine.couplings.values():
            if coupling.kind == "ratio":
                offset = parse(coupling.offset, self.machine.joints[coupling.joint].unit)
                leader = positions[:, self.index(coupling.follows)]
                positions[:, self.index(coupling.joint)] = coupling.ratio * leader + offset
        return self.closed(positions) if self.loop_joints else positions

    def closed(self, positions: Array) -> Array:
        """The same positions, with loops closed as they are put together at the start; drives give way where they cannot."""
        plant = Plant(self.model, len(positions), STEP, threads=1)
        plant.position[:] = positions
        following = [c for c, (joint, _) in self.machine.coordinates().items() if joint in self.followers]
        entries = [self.index(c) for c in following]
        entries += [int(at[3]) for joint, at in self.model.attitudes() if joint in self.followers]
        plant.position[:, entries] = self.model.start[entries]
        plant.close_on_the_way(np.arange(len(positions)), [i for i in range(len(self.model.joints)) if self.model.joints[i] not in following])  # fmt: skip
        return np.asarray(plant.position.copy())

    def within_stops(self, positions: Array) -> Array:
        """Whether what follows in loops is between its stops, (B,)."""
        good = np.ones(len(positions), dtype=bool)
        for joint in self.followers:
            if (limits := self.machine.joints[joint].limits) is not None:
                at = positions[:, self.index(joint)]
                good &= (at > limits[0] - KEPT) & (at < limits[1] + KEPT)
        return good

    @functools.cached_property
    def closing(self) -> dict[str, tuple[float, float]]:
        """How far each driven joint of a loop may go from its start, the others staying there: short of a dead centre."""
        found: dict[str, tuple[float, float]] = {}
        for joint in self.driven:
            if joint not in self.loop_joints:
                continue
            column = self.index(joint)
            start = float(self.model.start[column])
            low, high = self.machine.joints[joint].limits or (start - np.pi, start + np.pi)
            ends = []
            for end in (low, high):
                way = np.linspace(start, end, 60)
                positions = np.tile(self.model.start, (len(way), 1))
                positions[:, column] = way
                there = self.closed(positions)
                good = (np.abs(there[:, column] - way) < KEPT) & self.within_stops(there)
                far = len(way) if good.all() else int(np.argmin(good))
                ends.append(start + (1.0 if far == len(way) else DEAD) * (way[max(far - 1, 0)] - start))
            found[joint] = (float(ends[0]), float(ends[1]))
        return found

    def ways(self, positions: Array) -> Array:
        """How all coordinates go with each driven joint where loops tie them, (B, coordinates, driven)."""
        n, count = len(self.model.joints), len(positions)
        held = [i for i, c in enumerate(self.model.joints) if self.machine.coordinates()[c][0] not in self.followers]
        if any(joint in self.followers for joint, _ in self.model.attitudes()):  # whose numbers are no coordinates
            columns, ways = [held.index(self.index(j)) for j in self.driven], []
            for position in positions:
                free = free_directions(self.model, position)
                ways.append((free @ np.linalg.pinv(free[held], rcond=1e-6))[:, columns])
            return np.array(ways).reshape(count, n, len(columns))
        plant, found = Plant(self.model, count, STEP, threads=1), np.empty((count, n, len(self.driven)))
        for k, joint in enumerate(self.driven):
            plant.position[:] = positions
            plant.position[:, self.index(joint)] += PART
            plant.close_loops(np.arange(count), held)
            found[:, :, k] = (plant.position - positions)[:, :n] / PART
        return found

    @functools.cached_property
    def tied_apart(self) -> str:
        """What keeps drives from saying where everything of a loop is, in words; "" if they do."""
        free = free_directions(self.model, self.model.start)
        coordinates = self.machine.coordinates()
        held = [i for i, c in enumerate(self.model.joints) if coordinates[c][0] not in self.followers]
        given = [i for i in held if coordinates[self.model.joints[i]][0] in self.loop_joints]
        sizes = np.linalg.svd(free[held], compute_uv=False) if len(held) else np.zeros(0)
        rank = int((sizes > 1e-6).sum())
        if rank < free.shape[1]:
            return f"its drives do not say where {', '.join(self.followers[:3])} are"
        if rank < len(held):
            names = ", ".join(self.model.joints[i] for i in given)
            return f"its loops tie {names} together: fewer drives can move it"
        return ""

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

    @functools.cached_property
    def bare(self) -> Model:
        """The machine without what holds couplings and loops together: that is stiff, and stands in the mass matrix of the step."""
        machine, site = self.machine, self.site
        forces = {name: f for name, f in machine.forces.items() if not isinstance(f, Rod | Pin)}
        if not machine.couplings and len(forces) == len(machine.forces):
            return self.model
        loose = machine.model_copy(update={"couplings": {}, "forces": forces})
        return build_model(loose, site.gravity, site.air_density, site.water_density)

    def inertia(self, positions: Array) -> Array:
        """What each coordinate has to move, with all that follows it, (B, entries): kg m² of hinges, kg of sliders."""
        machine = self.machine
        whole = np.array([mass_matrix(self.bare, row) for row in positions])
        found = np.einsum("bii->bi", whole).copy()
        if self.loop_joints and not self.tied_apart:
            ways = self.ways(positions)
            found[:, [self.index(j) for j in self.driven]] = np.einsum("bik,bij,bjk->bk", ways, whole, ways)
        ratios = [c for c in machine.couplings.values() if c.kind == "ratio"]
        for leader in {self.index(c.follows): None for c in ratios}:
            along = np.zeros(len(self.model.joints))  # how far each coordinate goes with it
            along[leader] = 1.0
            for _ in ratios:  # what follows may be followed in turn
                for c in ratios:
                    along[self.index(c.joint)] = c.ratio * along[self.index(c.follows)]
            found[:, leader] += along @ whole @ along - whole[:, leader, leader]
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
