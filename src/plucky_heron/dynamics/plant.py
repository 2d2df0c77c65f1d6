"""Many copies of one machine on a site, moved together by the kernels."""

from __future__ import annotations

import itertools
import math
import os
import time
import weakref
from collections.abc import Callable, Sequence

import numpy as np

from plucky_heron.dynamics.energy import poses
from plucky_heron.dynamics.kernels import contact, layout, manifold, standing, step
from plucky_heron.dynamics.model import Model
from plucky_heron.dynamics.scene import Surroundings, build_scene
from plucky_heron.dynamics.second_thread import SecondThread
from plucky_heron.errors import StateError
from plucky_heron.machine.parts import Pin, Rod

Array = np.ndarray

SERIAL_BELOW = 64
"""Fewer copies than this are stepped by one thread: handing them to two costs more than it gains."""
PARTS = 12
"""In which coordinates are led to where a machine with loops begins."""

_STATE = (
    "rows", "fields", "position", "velocity", "lagged", "integral", "limited", "played", "ring", "heads", "efforts",
    "accelerations", "slip", "fill", "contacts", "contact_count", "joint_impulses", "scene", "active",
)  # fmt: skip


class Plant:
    """`copies` machines stepped as one batch.

    Parameters
    ----------
    model
        Shared structure and nominal parameters.
    copies
        Size of the batch (B).
    step
        Physics step in seconds.
    integrator
        ``"semi-implicit"`` or ``"rk4"`` (smooth motion only: nothing may touch).
    threads
        How many threads may step; the result does not depend on it.
    surroundings
        The scenes the copies may stand on; `scene` (B,) says who stands where.

    Attributes
    ----------
    rows (B, P), fields (B, FIELD), position (B, n + balls), velocity, efforts, accelerations (B, n), fill (B, tanks)
        May be read and written between steps; `winds` (B, 3) and `currents` (B, 3) are parts of the fields.
    located (B, bodies, 18), attitude (B, bodies, 3), own (B, bodies, 6)
        Where the bodies are, their roll, pitch and yaw, and both velocities in their own axes, as of the last `locate`.
    active : bool array (B,)
        Copies that are not active stand still.
    unsolved : int array (B,)
        Physics steps of the last `step` in which contacts, stops and brakes were not solved to 1 mm/s.
    """

    def __init__(
        self,
        model: Model,
        copies: int,
        step: float,
        integrator: str = "semi-implicit",
        threads: int | None = None,
        surroundings: Surroundings | None = None,
    ) -> None:
        if integrator not in ("semi-implicit", "rk4"):
            raise StateError(f"integrator {integrator!r}: wanted semi-implicit or rk4")
        n, m = len(model.joints), len(model.drives)
        find_looseness(model)
        self._first_force = n * layout.NODE + m * layout.DRIVE
        self.model, self.copies, self.step_size = model, copies, step
        self.surroundings = surroundings or build_scene()
        self.fourth_order = integrator == "rk4"
        self.threads = threads or min(2, os.cpu_count() or 1)
        self.rows: Array = np.tile(model.row, (copies, 1))
        self.fields: Array = np.zeros((copies, layout.FIELD))
        self.winds, self.currents = (
            self.fields[:, layout.WIND : layout.WIND + 3],
            self.fields[:, layout.CURRENT : layout.CURRENT + 3],
        )
        self.fields[:, layout.WATER_LEVEL] = -np.inf
        self.position: Array = np.tile(model.start, (copies, 1))
        self.velocity: Array = np.zeros((copies, n))
        self.lagged, self.integral, self.limited, self.played = (np.zeros((copies, m)) for _ in range(4))
        steps = model.dead_time / step
        self.delay: Array = np.ceil(steps - 1e-9).astype(np.int64)
        self.ring: Array = np.zeros((copies, m, max(1, int(self.delay.max(initial=0)))))
        self.heads: Array = np.zeros(copies, dtype=np.int64)
        self.efforts, self.accelerations = np.zeros((copies, n)), np.zeros((copies, n))
        self.slip: Array = np.zeros((copies, model.memories, 3))
        self.fill: Array = np.tile(model.fill, (copies, 1))
        self.contacts_model = self._with_scene(model.contacts)
        self.contacts: Array = np.zeros((copies, self.contacts_model.capacity, layout.CONTACT))
        self.contact_count: Array = np.zeros(copies, dtype=np.int64)
        self.joint_impulses: Array = np.zeros((copies, 2, n))
        self.scene: Array = np.zeros(copies, dtype=np.int64)
        self.active: Array = np.ones(copies, dtype=np.bool_)
        self.unsolved: Array = np.zeros(copies, dtype=np.int64)
        bodies = len(model.bodies)
        self.located, self.attitude, self.own = (np.zeros((copies, bodies, k)) for k in (18, 3, 6))
        self._all = np.arange(copies)
        self.bounded = len(self.contacts_model.touching) + len(self.contacts_model.pairs) > 0 or model.contacts.bounded
        """Whether anything may touch, or a joint has stops, dry friction or a brake: what impulses are solved for."""
        self._drives = model.drive_table._replace(delay=self.delay, share=1.0 - np.maximum(self.delay - steps, 0.0))
        self._took: dict[str, float] = {}
        self._scratch = [self._room() for _ in range(min(2, self.threads))]
        self._second: SecondThread | None = None
        self.tied = bool(np.isin(model.force_table.kind, (layout.ROD, layout.PIN)).any())
        """Whether rods or pins close loops."""
        self._close_start()
        self._let_overlap()

    def _close_start(self) -> None:
        """Bring the machine's start to the nearest pose in which its rods and pins close."""
        model = self.model
        if not self.tied or model.row[layout.LOOSENESS] < 1e-200:
            return
        closed = model.start[None].copy()
        error = float(self._close(np.zeros(1, dtype=np.int64), model.row[None], closed)[0])
        if not error < 1e-6:
            raise StateError(
                f"{model.machine.name or 'the machine'}: {self._open_tie()}; nothing near its start closes, change start, at_a or at_b"
            )
        model.start[:] = closed[0]
        self.position[:] = model.start

    def _open_tie(self) -> str:
        """The rod or pin that is furthest from closing in the start pose, in words."""
        model = self.model
        frames, worst, words = poses(model.machine, model.pose(model.start)), -1.0, ""
        for k, (name, force) in enumerate(model.machine.forces.items()):
            if isinstance(force, Rod | Pin):
                ends = [
                    frames[body] @ np.append(at, 1.0) for body, at in ((force.a, force.at_a), (force.b, force.at_b))
                ]
                apart = float(np.linalg.norm(ends[1] - ends[0]))
                length = model.row[self._first_force + k * layout.FORCE + layout.TIE_LENGTH]
                if abs(apart - length) > worst:
                    worst = abs(apart - length)
                    words = f"forces.{name}: its ends are {1e3 * apart:.3g} mm apart instead of {1e3 * length:.3g} mm"
        return words

    def _close(self, copies: Array, rows: Array, positions: Array, held: Sequence[int] = ()) -> Array:
        errors: Array = np.zeros(len(copies))
        standing.close_loops(
            copies, np.array(held, dtype=np.int64), self.model.tree, self.model.force_table, self._first_force, rows,
            positions, self._scratch[0], errors,
        )  # fmt: skip
        return errors

    def close_loops(self, copies: Array, held: Sequence[int] = ()) -> Array:
        """Bring `copies` (indices) to the nearest pose in which rods and pins close, where there are any.

        The coordinates `held` give way only where no other can. Returns by how much (m) the worst of each copy stays open, (k,).
        """
        return self._close(copies, self.rows, self.position, held) if self.tied else np.zeros(len(copies))

    def close_on_the_way(self, copies: Array, held: Sequence[int]) -> Array:
        """The same, with the hinges and sliders among `held` led from the machine's start to where they stand, a part of their way at a time.

        So loops stay put together as they are at the start, where a jump could end in their mirror image.
        """
        if not self.tied:
            return np.zeros(len(copies))
        led = [i for i in held if self.model.tree.kind[i] in (layout.HINGE, layout.SLIDER)]
        at = np.ix_(copies, np.array(led, dtype=np.int64))
        ends, begin, errors = self.position[at].copy(), self.model.start[led], np.zeros(len(copies))
        for part in np.arange(1, PARTS + 1) / PARTS:
            self.position[at] = begin + part * (ends - begin)
            errors = self.close_loops(copies, held)
        return errors

    def _let_overlap(self) -> None:
        """What hangs on a joint to the ground does not meet what it is mounted on: what it overlaps in every pose."""
        contacts, room, model = self.contacts_model, self._scratch[0], self.model
        if not contacts.rooted.any():
            return
        generator, always = np.random.default_rng(1), np.ones(contacts.apart.shape, dtype=np.bool_)
        for k in range(6):
            position, now = model.start.copy(), np.zeros(contacts.apart.shape, dtype=np.bool_)
            if k > 0:
                _displace(model, position, generator)
            for scene in range(len(self.surroundings.arrays.ground_kind)):
                standing.touch(model.tree, model.shapes, contacts, self.surroundings.arrays, scene, position, room, now)
            always &= now
        contacts.apart[:] = always

    def _room(self) -> layout.Scratch:
        """Scratch for one thread."""
        model, contacts = self.model, self.contacts_model
        n, capacity = len(model.joints), contacts.capacity
        touching = len(contacts.touching) + len(contacts.pairs) > 0
        # three more, as what comes in fours may go beyond the last; surfaces that resist turning ask for three a contact
        surfaces = np.concatenate([a.surface for a in (model.shapes, self.surroundings.arrays.shapes)])
        turns = bool(np.concatenate([surfaces, self.surroundings.arrays.ground_surface])[:, layout.ROLLING :].any())
        most = (6 if turns else 3) * capacity + 2 * n + 3 if touching or contacts.bounded else 0
        sizes: dict[str, tuple[int, ...]] = {
            "w": (n, layout.WORK), "mass": (n, n), "kept": (n, n), "vectors": (layout.VECTORS, n), "pushes": (n, 6),
            "follow": (len(model.drives),), "full": (len(model.drives),), "positions": (3, len(model.start)), "rows": (n, most),
            "numbers": (most, contact.ROW), "response": (most * most,), "sides": (contact.SIDES, most), "contacts": (capacity, layout.CONTACT), "surfaces": (capacity + 1, layout.SURFACE),
            "places": (len(model.shapes.kind), 13), "simplex": (6, 9), "hull": (8, 9),
            "points": (manifold.MOST_CORNERS, manifold.POINT), "corners": (3, manifold.MOST_CORNERS, 3),
            "near_about": (len(contacts.touching), 4), "row": (len(model.row),), "rays": (layout.MOST_RAYS, 3), "line": (8,), "turn": (9,),
        }  # fmt: skip
        # in one piece with a page between: two threads that write to the same line of a cache wait for each other
        room = np.zeros(sum(math.prod(size) for size in sizes.values()) + 1024)
        arrays, at = {}, 512
        for name, size in sizes.items():
            arrays[name] = room[at : at + math.prod(size)].reshape(size)
            at += math.prod(size)
        ranges = self.surroundings.arrays.shape_range
        most_near = int((ranges[:, 1] - ranges[:, 0]).max())
        near = np.zeros((len(contacts.touching) + 1, 1 + most_near + 64), np.int64)[:-1]
        return layout.Scratch(**arrays, nodes=np.zeros((capacity + 64, 2), np.int64)[:capacity], near=near)

    def _with_scene(self, contacts: layout.Contacts) -> layout.Contacts:
        """Without ground and shapes on any scene, nothing meets the site."""
        arrays = self.surroundings.arrays
        ground = bool((arrays.ground_kind != layout.NO_GROUND).any())
        solid = bool((arrays.shape_range[:, 1] > arrays.shape_range[:, 0]).any())
        met = len(contacts.touching) if ground or solid else 0
        touching = contacts.touching[:met]
        contacts = contacts._replace(
            rooted=contacts.rooted[:met], apart=np.zeros((met, 1 + len(arrays.shapes.kind)), dtype=np.bool_)
        )
        if self.fourth_order:
            return contacts._replace(touching=touching[:0], pairs=contacts.pairs[:0], capacity=0)
        capacity = contacts.capacity if len(touching) + len(contacts.pairs) else 0
        return contacts._replace(touching=touching, capacity=capacity)

    def state(self, commands: Array) -> layout.State:
        """All arrays as the kernels take them."""
        return layout.State(
            self.rows, self.fields, commands, self.position, self.velocity, self.lagged, self.integral, self.limited,
            self.played, self.ring, self.heads, self.efforts, self.accelerations, self.slip, self.fill, self.contacts,
            self.contact_count, self.joint_impulses, self.scene, self.active, self.unsolved,
        )  # fmt: skip

    def reset(self, copies: Array) -> None:
        """Bring `copies` (indices) back to the nominal machine in its start pose, drives at rest."""
        self.rows[copies] = self.model.row
        self.fields[copies] = 0.0
        self.fields[copies, layout.WATER_LEVEL] = -np.inf
        self.position[copies] = self.model.start
        self.fill[copies] = self.model.fill
        for array in (
            self.velocity, self.lagged, self.integral, self.limited, self.played, self.ring, self.heads, self.efforts,
            self.accelerations, self.slip, self.contacts, self.contact_count, self.joint_impulses, self.scene,
        ):  # fmt: skip
            array[copies] = 0
        self.active[copies] = True

    def pull(self, copy: int, body: str, point: Array, place: Array, stiffness: float, damping: float) -> None:
        """A hand pulls `point` (3, in the body's axes) of a body towards `place` (3, world) until `let_go`."""
        b = self.model.bodies.index(body)
        at = self.model.body_position[b] + self.model.body_rotation[b].reshape(3, 3) @ np.asarray(point)
        self.fields[copy, layout.HAND : layout.FIELD] = [self.model.body_node[b] + 1, *at, *place, stiffness, damping]

    def let_go(self, copy: int) -> None:
        """The hand is gone."""
        self.fields[copy, layout.HAND : layout.FIELD] = 0.0

    def settle_drives(self, copies: Array) -> None:
        """Let drives of `copies` (k,) start holding: position drives at the pose they find, speed drives the static load."""

        table, n = self.model.drive_table, len(self.model.joints)
        for a in np.flatnonzero(table.kind == layout.POSITION):
            held = self.position[copies, table.joint[a]]
            for array in (self.lagged, self.limited, self.played):
                array[copies, a] = held
            self.ring[copies, a] = held[:, None]
        gains = self.rows[:, n * layout.NODE + np.arange(len(table.kind)) * layout.DRIVE + layout.INTEGRAL_GAIN]
        servos = [a for a in np.flatnonzero(table.kind == layout.SPEED) if (gains[copies, a] > 0.0).any()]
        if not servos:
            return
        loads: Array = np.zeros((len(copies), n))
        nothing = np.zeros(layout.FIELD)
        nothing[layout.WATER_LEVEL] = -np.inf
        step.static_loads(
            copies, self.model.tree, self._drives, self.model.force_table, build_scene().arrays,
            self.state(np.zeros((self.copies, len(table.kind)))), nothing, np.zeros((self.model.memories, 3)),
            np.zeros(len(table.kind)), self.step_size, self._scratch[0], loads,
        )  # fmt: skip
        for a in servos:
            holding = gains[copies, a] > 0.0
            self.integral[copies[holding], a] = -loads[holding, table.joint[a]] / gains[copies[holding], a]

    def step(self, commands: Array, substeps: int = 1) -> None:
        """Hold `commands` (B, m) for `substeps` physics steps."""
        model, state = self.model, self.state(commands)

        def part(first: int, last: int, scratch: layout.Scratch) -> None:
            step.advance(
                first, last, model.tree, self._drives, model.force_table, model.shapes, self.contacts_model,
                self.surroundings.arrays, state, scratch, self.step_size, substeps, self.fourth_order,
            )  # fmt: skip

        self.share("step", part)

    def share(self, name: str, part: Callable[[int, int, layout.Scratch], None], count: int | None = None) -> None:
        """Run `part(first, last, scratch)` over all copies, in two threads where that pays; `name` says what it is.

        With `count`, over as many in their place, in this thread.

        Long calls are cut into pieces of some milliseconds, taken in turns: a core that is wanted elsewhere for a while
        then keeps the other from waiting.
        """
        if self.threads < 2 or self.copies < SERIAL_BELOW or count is not None:
            part(0, self.copies if count is None else count, self._scratch[0])
            return
        if self._second is None:
            self._second = SecondThread("plant")
            weakref.finalize(self, self._second.end)
        # an even number: of three equal pieces one thread would do two
        pieces = 2 * int(min(max(5e2 * self._took.get(name, 0.0), 1.0), 8.0))
        edges = [self.copies * k // pieces for k in range(pieces + 1)]
        if pieces == 2:  # the other begins a little later
            edges[1] = self.copies * 17 // 32
        turn = itertools.count()

        def work(scratch: layout.Scratch) -> None:
            while (k := next(turn)) < pieces:
                part(edges[k], edges[k + 1], scratch)

        began = time.perf_counter()
        self._second.give(lambda: work(self._scratch[1]))
        try:
            work(self._scratch[0])
        finally:
            self._second.wait()
        self._took[name] = time.perf_counter() - began

    def locate(self, copies: Array | None = None) -> Array:
        """Where the bodies are, (B, bodies, 18): origin, its velocity, rotation, angular velocity; in world axes.

        Also brings `attitude` and `own` up to date; with `copies` (k,) only for those.
        """
        model = self.model
        standing.locate(
            self._all if copies is None else copies, model.tree, model.body_node, model.body_rotation, model.body_position,
            self.position, self.velocity, self._scratch[0].w, self.located, self.attitude, self.own,
        )  # fmt: skip
        return self.located

    def free_accelerations(self) -> tuple[Array, Array]:
        """Accelerations (n,) of the first copy as it is, drives putting out what they have, and its mass matrix."""
        room = self._scratch[0]
        step.accelerations(
            self.model.tree, self._drives, self.model.force_table, self.surroundings.arrays,
            self.state(np.zeros((self.copies, len(self.model.drives)))), self.step_size, room,
        )  # fmt: skip
        return room.vectors[0].copy(), room.kept.copy()

    def contact_forces(self, copy: int = 0) -> Array:
        """What presses now, (k, 6): place, and force on the shape named first, in N."""
        rows = self.contacts[copy, : self.contact_count[copy]]
        rows = rows[rows[:, layout.NORMAL_IMPULSE] > 0.0] if rows.size else rows.reshape(0, layout.CONTACT)

        def three(first: int) -> Array:
            return rows[:, first : first + 3]

        impulse = rows[:, [layout.NORMAL_IMPULSE]] * three(layout.NORMAL) + three(layout.FRICTION_IMPULSE)
        return np.concatenate([three(layout.CONTACT_POINT), impulse / self.step_size], axis=1)

    def keep(self) -> dict[str, Array]:
        """All state, for a checkpoint."""
        return {name: getattr(self, name).copy() for name in _STATE}

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        for name in _STATE:
            getattr(self, name)[...] = kept[name]


def find_looseness(model: Model) -> None:
    """How easily each coordinate is moved, once a model, into its row: the greatest of some poses, and half as much again.

    Whoever copies `model.row` before there is a plant of the model calls it first.
    """
    n = len(model.joints)
    slots = np.arange(n) * layout.NODE + layout.LOOSENESS
    if model.row[slots[0]] > 0.0:
        return
    model.row[slots] = 1e-300  # what the poses below are looked at with
    generator = np.random.default_rng(1)
    for k in range(8):
        position = model.start.copy()
        if k > 0:
            _displace(model, position, generator)
        inverse = np.linalg.pinv(mass_matrix(model, position), hermitian=True)
        loose = np.diag(inverse)
        if np.isfinite(loose).all():
            model.row[slots] = np.maximum(model.row[slots], 1.5 * np.maximum(loose, 0.0))


def _displace(model: Model, position: Array, generator: np.random.Generator) -> None:
    """Any position between the stops, or a metre or radian about the start."""
    for i in range(len(model.joints)):
        if model.tree.kind[i] != layout.HINGE and model.tree.kind[i] != layout.SLIDER:
            continue
        b = i * layout.NODE
        low, high = model.row[b + layout.LOWER_STOP], model.row[b + layout.UPPER_STOP]
        position[i] = (
            generator.uniform(low, high) if np.isfinite(high - low) else position[i] + generator.uniform(-1.0, 1.0)
        )


def mass_matrix(model: Model, position: Array, row: Array | None = None) -> Array:
    """Joint-space mass matrix (n, n) at a pose."""
    _, lower = _dynamics(model, position, np.zeros(len(model.joints)), row)
    full: Array = np.tril(lower) + np.tril(lower, -1).T
    return full


def accelerations(
    model: Model,
    position: Array,
    velocity: Array,
    *,
    row: Array | None = None,
    command: Array | None = None,
    wind: Array | None = None,
) -> Array:
    """Joint accelerations (n,) of one copy whose drives put out `command` (m,) without lag; nothing touches."""
    return _dynamics(model, position, velocity, row, command, wind)[0]


def static_load(model: Model, position: Array, row: Array) -> Array:
    """What gravity and springs push the joints with at rest, (n,) N or N*m."""
    pushed, lower = _dynamics(model, position, np.zeros(len(model.joints)), row)
    return np.asarray((np.tril(lower) + np.tril(lower, -1).T) @ pushed)


def static_loads(model: Model, positions: Array, row: Array) -> Array:
    """The same at many positions (B, entries), (B, n)."""
    plant = Plant(model, 1, 1e-3, threads=1)
    plant.rows[0] = row
    found = np.empty((len(positions), len(model.joints)))
    for k, position in enumerate(positions):
        plant.position[0] = position
        pushed, lower = plant.free_accelerations()
        found[k] = (np.tril(lower) + np.tril(lower, -1).T) @ pushed
    return found


def _dynamics(
    model: Model,
    position: Array,
    velocity: Array,
    row: Array | None = None,
    command: Array | None = None,
    wind: Array | None = None,
) -> tuple[Array, Array]:
    plant = Plant(model, 1, 1e-3, threads=1)
    plant.position[0], plant.velocity[0] = position, velocity
    if row is not None:
        plant.rows[0] = row
    if command is not None:
        plant.played[0] = command
    if wind is not None:
        plant.winds[0] = wind
    return plant.free_accelerations()
