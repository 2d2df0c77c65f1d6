"""What a wish needs to know of a machine on its site: what its drives hold, how far and how fast it gets.

All of it is worked out from the machine and from a short rehearsal with chance at the drives, with the same numbers every time.
"""

from __future__ import annotations

import functools
from collections import deque

import numpy as np

from plucky_heron.dynamics.plant import static_loads
from plucky_heron.machine.parts import Tyre
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.task.wishes.anatomy import Anatomy
from plucky_heron.task.wishes.leaning import Fall, fall_of, steadied
from plucky_heron.task.wishes.poses import STEP, Array
from plucky_heron.task.wishes.rehearsal import SECONDS, Travel, rehearse, rehearse_slow

QUICKEST = 0.02
"""Time (s) of the quickest motion that a drive is taken to make; on its own spring a joint may swing quicker."""
COARSEST = 0.05
"""Physics step (s) of what is slow, at most."""
LOADED = 200
"""Poses that are looked at for what drives carry."""
SPARE = 0.7
"""Share of a drive's limit below which commands are limited to what is needed."""
EASED = 0.45
"""Time of a motion with limited effort, as a share of that of the slowest joint: gravity may help it."""
SIDEWAYS = 1.4
"""A vehicle that is so many times faster along its own y than along its x goes along y."""
HOLDS = 0.8
"""Share of a drive's limit that gravity may take in a pose that is to be held."""


class Look(Anatomy):
    """A machine on a site, looked at: what its drives hold, how fast they and it move."""

    # --- what it holds

    def loads(self, positions: Array) -> Array:
        """What gravity asks of each driven joint over what its drive can, (B, driven)."""
        model = self.bare if self.loops else self.model
        idle = model.row.copy()
        for name in self.machine.drives:
            idle[model.parameter(f"{name}.limit")[0]] = 0.0
        limits = np.array([self.limit(j) for j in self.driven])
        at = [self.index(j) for j in self.driven]
        asked = static_loads(model, positions, idle)
        if self.loops and not self.tied_apart:
            return np.asarray(np.abs(np.einsum("bi,bik->bk", asked, self.ways(positions))) / limits)
        return np.asarray(np.abs(asked[:, at]) / limits)

    def limit(self, joint: str) -> float:
        """Effort that a joint's drives have together."""
        return max(sum(float(d.limit) for d in self.machine.drives.values() if d.joint == joint), 1e-9)

    @functools.cached_property
    def weak(self) -> list[str]:
        """Driven hinges that gravity overcomes somewhere on their way."""
        if self.site.gravity < 0.1 or not self.driven or self.base or self.tied_apart:
            return []
        worst = self.loads(self.sampled(self.driven, 1.0, LOADED)).max(axis=0)
        return [
            j
            for j, share in zip(self.driven, worst, strict=True)
            if share > 1.0 and self.machine.joints[j].kind == "hinge"
        ]

    # --- how fast it is

    @property
    def seconds(self) -> float:
        """Time of the slowest driven joint for two radians or a third of its way, full effort up and down, and gravity taken off."""
        return max(self.times, default=1.0)

    @functools.cached_property
    def efforts(self) -> set[str]:
        """Joints that drives push, with no servo to see to where they go."""
        return {str(d.joint) for d in self.machine.drives.values() if d.kind == "effort"}

    def quickest(self, joints: list[str]) -> float:
        """Time of a motion of the quickest of some joints that a policy moves by itself; servos see to their own."""
        times = []
        for joint in self.efforts.intersection(joints):
            time = self.times[self.driven.index(joint)]
            # what is not given its whole effort is little quicker than the slowest
            times.append(time if self.enough(joint) == 1.0 else max(time, EASED * self.seconds))
        return min(times, default=self.slowest(joints))

    def slowest(self, joints: list[str]) -> float:
        """Time of a motion of the slowest of some driven joints."""
        return max((self.times[self.driven.index(j)] for j in joints), default=1.0)

    @functools.cached_property
    def times(self) -> list[float]:
        """The same of every driven joint."""
        if not self.driven:
            return []
        # by a crank at its dead centre hardly anything is moved: in loops the start tells little
        there = self.model.start[None] if not self.loops else self.sampled(self.driven, 0.6, LOADED // 4)
        inertia = np.median(self.inertia(there), axis=0)
        loads = np.median(self.loads(there), axis=0) if not self.tied_apart else np.zeros(len(self.driven))
        found = []
        for joint, load in zip(self.driven, loads, strict=True):
            way = self.way(joint)
            push = self.limit(joint) * max(0.3, 1.0 - float(load))
            time = 2.0 * np.sqrt(way * inertia[self.index(joint)] / push)
            top = self.top_speed(joint)
            found.append(max(min(QUICKEST, 0.5 * self.swing(joint)), float(time), way / top if top else 0.0))
        return found

    def way(self, joint: str) -> float:
        """What a joint goes in one motion: two radians, or a third of its way."""
        low, high = self.span(joint)
        return min(2.0, 0.33 * (high - low)) if self.machine.joints[joint].unit == "rad" else 0.33 * (high - low)

    def swing(self, joint: str) -> float:
        """Period (s) in which a joint swings on its own spring; without end where it has none."""
        stiffness = self.machine.joints[joint].stiffness
        inertia = self.inertia(self.model.start[None])[0][self.index(joint)]
        return float(2.0 * np.pi * np.sqrt(inertia / stiffness)) if stiffness > 0.0 else np.inf

    def sprung_speed(self, joint: str) -> float:
        """Speed of that swing about as far as its drives push the spring, where it is too quick for a rehearsal; else 0."""
        if joint not in self.driven or self.swing(joint) > QUICKEST:
            return 0.0
        reach = self.limit(joint) / self.machine.joints[joint].stiffness
        low, high = self.span(joint)
        return float(min(reach, 0.5 * (high - low)) * 2.0 * np.pi / self.swing(joint))

    def pace(self, joint: str) -> float:
        """How fast the command of a servo may be led: its top speed, or a motion in half of the time that the slowest joint takes."""
        time = max(self.times[self.driven.index(joint)], 0.5 * self.seconds)
        return float(f"{self.top_speed(joint) or 1.5 * self.way(joint) / time:.2g}")

    @functools.cached_property
    def needs(self) -> dict[str, float]:
        """Effort that each driven joint needs, wherever it is: what it carries, and a motion in the time of the slowest joint."""
        if self.tied_apart:
            return {}
        positions = self.sampled(self.driven, 1.0, LOADED)
        # about a dead centre of a loop no effort is enough
        loads, inertia = (
            np.quantile(found, 1.0 if not self.loops else 0.9, axis=0)
            for found in (self.loads(positions), self.inertia(positions))
        )
        found = {}
        for joint, load in zip(self.driven, loads, strict=True):
            part, way = self.machine.joints[joint], self.way(joint)
            speed = 2.0 * way / self.seconds
            moving = inertia[self.index(joint)] * 2.0 * speed / self.seconds + part.damping * speed + part.friction
            found[joint] = float(1.3 * load * self.limit(joint) + moving)
        return found

    def enough(self, joint: str) -> float:
        """Share of a joint's effort that commands are limited to: 1 where it needs most of it."""
        share = self.needs.get(joint, np.inf) / self.limit(joint)
        return float(share) if share < SPARE else 1.0

    @functools.cached_property
    def step(self) -> float:
        """A physics step that follows its servos and springs, and what touches."""
        touching = any(s.solid for b in self.machine.bodies.values() for s in b.shapes) and (
            self.site.terrain is not None or self.site.solids or self.site.walls
        )
        tyres = any(isinstance(f, Tyre) for f in self.machine.forces.values())
        finest = 0.002 if touching or tyres or self.loops else 0.004
        if finest == 0.004 and self.base and self.travel.seconds > SECONDS:  # a ship: minutes to its full speed
            finest = min(0.004 * self.travel.seconds / SECONDS, COARSEST)
        moved = self.inertia(self.model.start[None])[0]
        springs = [(str(d.joint), float(d.gain)) for d in self.machine.drives.values() if d.kind == "position"]
        springs += [(n, j.stiffness) for n, j in self.machine.joints.items() if j.stiffness > 0.0]
        for joint, stiffness in springs:
            finest = min(finest, 2.0 * np.pi * np.sqrt(moved[self.index(joint)] / stiffness) / 8.0)
        return float(max(finest, 2e-4))

    def top_speed(self, joint: str) -> float:
        """Speed that its drives allow; 0 where none is said."""
        said = []
        for drive in self.machine.drives.values():
            if drive.joint == joint:
                # a servo follows no faster than its command may change
                change = drive.rate_limit if drive.kind == "position" else None
                bounds = [float(v) for v in (drive.top_speed, drive.no_load_speed, change) if v]
                said += [min(bounds)] if bounds else []
        return max(said, default=0.0)

    @functools.cached_property
    def steered(self) -> bool:
        """Whether it has to drive in order to turn."""
        return self.travel.turning_slow < 0.3 * min(self.travel.turning, 1.0)

    @property
    def faces_left(self) -> bool:
        """Whether it goes along its base's own y, not along x: files differ in what is ahead."""
        return bool(self.base) and not self.along and self.travel.across > SIDEWAYS * self.travel.ahead

    @functools.cached_property
    def turning(self) -> float:
        """How fast it turns; drawn commands hardly let it drive, and so hardly turn, what is steered."""
        return max(self.travel.turning, 0.3 * self.travel.turning_most if self.steered else 0.0)

    @functools.cached_property
    def travel(self) -> Travel:
        """What a rehearsal showed; what falls over by itself is held upright in it."""
        if self.leans:
            return rehearse(steadied(self, self.base), self.base)[0]
        afloat = self.floats or (self.letters == ("x", "y", "turn") and not self.rolling)
        if not afloat and not self.wheels:
            return rehearse(self, self.base)[0]
        return rehearse_slow(self, self.base, 256.0 if afloat else 16.0, 10.0 * STEP if afloat else STEP)

    @functools.cached_property
    def leans(self) -> Fall | None:
        """How it falls over by itself, a vehicle on the ground that nothing balances; None if it stands, or has feet to walk on."""
        if self.feet and not set(self.wheels) & set(self.driven):
            return None  # legs whose drives are idle fold up
        if not self.base or self.flies > 0.0 or self.floats or not self.driven or self.site.gravity < 0.1:
            return None
        return fall_of(self, self.base, self.base_joint)


_recent: deque[Look] = deque(maxlen=6)


def look_at(machine: Machine, site: Site) -> Look:
    """A look at a machine on a site; the same one again as long as both say the same, as a rehearsal takes seconds."""
    for look in list(_recent):
        if look.machine == machine and look.site == site:
            return look
    look = Look(machine, site)
    _recent.append(look)
    return look


def nice(value: float, steps: tuple[float, ...] = (1.0, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 6.0, 8.0, 10.0)) -> float:
    """The nearest number that a person would write."""
    if not value > 0.0:
        return 0.0
    power = 10.0 ** np.floor(np.log10(value))
    return float(f"{min(steps, key=lambda s: abs(np.log(value / power / s))) * power:.6g}")
