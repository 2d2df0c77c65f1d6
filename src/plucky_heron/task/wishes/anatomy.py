"""What a machine is: what drives it, what travels, which of its parts are wheels, feet, limbs and fingers."""

from __future__ import annotations

import functools

import numpy as np

from plucky_heron.dynamics.posing import joint_above
from plucky_heron.machine.parts import Float, Hull, Tyre, Wing
from plucky_heron.machine.schema import GROUND, Machine
from plucky_heron.machine.site import Site
from plucky_heron.machine.urdf import rotation
from plucky_heron.task.wishes.poses import Array, Poses

SWAY = 0.05
"""Angle (rad) by which something is moved to see whether it hangs."""
UPRIGHT = 0.7
"""Cosine of the angle to the vertical within which an axis steers: others belong to a suspension."""
FOOT = 0.3
"""Share of the height of the middle of all mass below which a foot is at the start: what is higher is a hand."""


class Anatomy(Poses):
    """The parts of a machine on a site.

    Attributes
    ----------
    base : str
        Body that travels, carried by a planar or free joint; "" if the machine stands.
    driven : list of str
        Joints that a drive moves; `passive` the hinges and sliders that none does.
    carried : str
        Body without drives that lies loose beside or on a machine that stands; "" without one.
    """

    def __init__(self, machine: Machine, site: Site) -> None:
        super().__init__(machine, site)
        loose = [n for n, j in machine.joints.items() if j.parent == GROUND and j.kind in ("planar", "free")]
        moving = [n for n in loose if self._has_drives(machine.joints[n].child)]
        # what lies loose beside or on a machine that stands is not what travels
        self.base_joint = next(iter(moving or ([] if self.driven else loose)), "")
        self.base = machine.joints[self.base_joint].child if self.base_joint else ""
        self.carried_joint = next(iter(loose), "") if not self.base and self.driven else ""
        self.carried = machine.joints[self.carried_joint].child if self.carried_joint else ""
        self.loops = bool(self.loop_joints)
        self.thrusters = [n for n, d in machine.drives.items() if d.kind == "thrust"]
        follow = {c.joint for c in machine.couplings.values()}
        self.passive = [
            n
            for n, j in machine.joints.items()
            if j.kind in ("hinge", "slider") and n not in self.driven and n not in follow
        ]
        if self.loops and not self.tied_apart:
            self.passive = [n for n in self.passive if n not in self.followers]

    # --- what kind of machine it is

    @functools.cached_property
    def letters(self) -> tuple[str, ...]:
        """Coordinates of the body that travels."""
        return self.machine.joints[self.base_joint].letters if self.base else ()

    @functools.cached_property
    def wheels(self) -> dict[str, float]:
        """Joints that turn a wheel, with its radius: on a tyre, or on a round shape that turns about its own axis and travels with it.

        On what stands such a shape is a table, a drum, a flange or a disc.
        """
        found = {}
        for force in self.machine.forces.values():
            if isinstance(force, Tyre) and not force.rolls_freely:
                found[self.machine.joint_above(force.wheel)] = force.radius
        for name, joint in self.machine.joints.items():
            if not self.base or joint.kind != "hinge" or joint.limits is not None or self.carries(joint.child):
                continue
            for shape in self.machine.bodies[joint.child].shapes:
                axis = rotation(*shape.turn)[:, 2]
                along = abs(float(axis @ np.array(joint.axis))) > 0.99
                if shape.solid and (shape.kind == "sphere" or (shape.kind in ("cylinder", "capsule") and along)):
                    found[name] = shape.size[0]
        return found

    @functools.cached_property
    def rolling(self) -> set[str]:
        """Joints of everything that rolls: wheels, and those of tyres that roll freely."""
        tyres = {self.machine.joint_above(f.wheel) for f in self.machine.forces.values() if isinstance(f, Tyre)}
        return tyres | set(self.wheels)

    @functools.cached_property
    def spinning(self) -> list[str]:
        """Driven hinges without stops about an axis through the middle of what they carry: wheels that push by being sped up."""
        found = []
        for joint in self.driven:
            part = self.machine.joints[joint]
            arm = np.cross(np.array(self.machine.bodies[part.child].centre), np.array(part.axis, dtype=float))
            balanced = np.linalg.norm(arm) < 1e-6 and not self.carries(part.child)
            if part.kind == "hinge" and part.limits is None and balanced and joint not in self.wheels:
                found.append(joint)
        return found

    @functools.cached_property
    def steering(self) -> list[str]:
        """Hinges that stand up, right above a wheel."""
        frames = self.frames(self.model.start[None])[0]
        found = []
        for wheel in self.wheels:
            above = joint_above(self.model, self.machine.joints[wheel].parent)
            part = self.machine.joints.get(above)
            if part is None or part.kind != "hinge" or above in found:
                continue
            turn = frames[self.model.bodies.index(part.child), 3:].reshape(3, 3)
            if abs(float((turn @ np.array(part.axis, dtype=float))[2])) > UPRIGHT:
                found.append(above)
        return found

    @functools.cached_property
    def perched(self) -> list[str]:
        """Driven joints between the body that travels and wheels that do not steer them: legs with wheels."""
        rolling = {self.machine.joints[j].child for j in self.wheels}
        above = [j for j in self.driven if self.machine.carried_by(self.machine.joints[j].child) & rolling]
        return [j for j in above if j not in {*self.wheels, *self.steering}] if self.base else []

    def carries(self, body: str) -> bool:
        """Whether anything hangs on a body by a joint that moves."""
        return any(j.parent == body and j.letters for j in self.machine.joints.values())

    def _has_drives(self, body: str) -> bool:
        """Whether a drive moves a body, or something that hangs on it."""
        carried = self.machine.carried_by(body)
        thrust = any(d.kind == "thrust" and d.body in carried for d in self.machine.drives.values())
        return thrust or any(self.machine.joints[n].parent in carried for n in self.driven)

    @functools.cached_property
    def moved(self) -> set[str]:
        """Bodies that a driven joint carries, or a loop moves with it."""
        return {
            b for j in (*self.driven, *self.followers) for b in self.machine.carried_by(self.machine.joints[j].child)
        }

    @functools.cached_property
    def glides(self) -> bool:
        """Whether wings carry it while it moves: it is not lifted by its thrusters alone, nor by water."""
        wings = any(isinstance(f, Wing) and not f.in_water for f in self.machine.forces.values())
        falls = self.base and "z" in self.letters and self.site.gravity > 0.1 and not self.floats and not self.wheels
        return bool(wings and falls) and self.flies <= 1.05

    @functools.cached_property
    def dives(self) -> bool:
        """Whether it lies under water, with a thruster that takes it up and down."""
        level = self.site.water_level
        if not (
            self.floats and "z" in self.letters and level is not None and self.corners.get(self.base, np.zeros(0)).size
        ):
            return False
        frame = self.frames(self.model.start[None])[0][self.model.bodies.index(self.base)]
        top = float((frame[2] + self.corners[self.base] @ frame[9:12]).max())
        turned = frame[3:].reshape(3, 3)
        lifts = [abs(float((turned @ np.array(self.machine.drives[n].direction))[2])) > 0.5 for n in self.thrusters if self.machine.drives[n].body == self.base]  # fmt: skip
        return top < level and any(lifts)

    @functools.cached_property
    def flies(self) -> float:
        """Greatest thrust over weight; 0 where nothing pushes, or where nothing lifts it off."""
        lifting = self.base and "z" in self.letters and self.site.gravity > 0.1 and not self.floats
        thrust = sum(float(self.machine.drives[n].limit) for n in self.thrusters)
        return thrust / (self.mass * self.site.gravity) if lifting else 0.0

    @functools.cached_property
    def floats(self) -> bool:
        """Whether water carries it, or it moves in it."""
        return any(isinstance(f, Hull | Float) for f in self.machine.forces.values())

    @functools.cached_property
    def feet(self) -> list[str]:
        """Outermost bodies of limbs that are near the ground at the start: it may stand on them."""
        if not self.base or self.site.terrain is None:
            return []
        outer = [b for b in self.machine.bodies if all(j.parent != b for j in self.machine.joints.values())]
        start = self.model.start[None]
        low, middle = float(self.lowest(start)[0]), float(self.heights(start)[0])
        return [
            b
            for b in outer
            if b != self.base
            and any(s.solid for s in self.machine.bodies[b].shapes)
            and joint_above(self.model, b) in self.driven
            and joint_above(self.model, b) not in self.wheels
            and float(self.lowest(start, {b})[0]) < low + FOOT * max(middle - low, 0.0) + 1e-6
        ]

    @functools.cached_property
    def rolls(self) -> bool:
        """Whether driven wheels, tyres or thrusters take it over the ground or the water."""
        over = {"x", "y"} <= set(self.letters)
        wheels = bool(self.wheels) and (bool(set(self.wheels) & set(self.driven)))
        return over and not self.glides and (wheels or (bool(self.thrusters) and self.flies < 1.05))

    @functools.cached_property
    def along(self) -> str:
        """The direction in which driven wheels take it to and fro, "x" or "y", where a planar joint keeps it in an upright plane; else ""."""
        if self.floats or not ("turn" in self.letters and "z" in self.letters):
            return ""
        start = self.model.start[None]
        low = float(self.lowest(start)[0])
        on_ground = [
            j
            for j in set(self.wheels) & set(self.driven)
            if float(self.lowest(start, {self.machine.joints[j].child})[0]) < low + 0.5 * self.wheels[j]
        ]
        return self.letters[0] if on_ground else ""

    @property
    def travels(self) -> bool:
        """Whether it goes over the ground or the water, at will or to and fro."""
        return self.rolls or bool(self.along)

    @functools.cached_property
    def hanging(self) -> list[str]:
        """Joints without a drive, behind one that has one, on which something hangs at the start: a load on a hook."""
        if self.site.gravity < 0.1:
            return []
        found = []
        for name, joint in self.machine.joints.items():
            if (
                joint.parent not in self.moved
                or name in (*self.driven, *self.loop_joints)
                or joint.kind not in ("hinge", "ball")
            ):
                continue
            if joint.kind == "ball":
                arm = self.arm(name)
                hangs = arm[2] < 0.0 and np.linalg.norm(arm[:2]) < -0.1 * arm[2]
            else:
                positions = np.tile(self.model.start, (3, 1))
                positions[1:, self.index(name)] += (-SWAY, SWAY)
                middle, left, right = self.heights(positions)
                hangs = left + right - 2.0 * middle > max(1e-12, 4.0 * abs(right - left))
            if hangs:
                found.append(name)
        return found

    def arm(self, joint: str) -> Array:
        """From a joint to the centre of mass of what it carries, at the start, in the site's axes (3,)."""
        body = self.machine.joints[joint].child
        frame = self.frames(self.model.start[None])[0][self.model.bodies.index(body)]
        return np.asarray(frame[3:].reshape(3, 3) @ np.array(self.machine.bodies[body].centre))

    @property
    def sway(self) -> float:
        """Period (s) of the slowest of what hangs; 0 where nothing does."""
        long = max((float(np.linalg.norm(self.arm(j))) for j in self.hanging), default=0.0)
        return float(2.0 * np.pi * np.sqrt(long / self.site.gravity)) if long else 0.0

    # --- its limb

    @functools.cached_property
    def limb(self) -> tuple[list[str], str]:
        """The driven joints from the ground (or the body that travels) to the tip, and the tip's body.

        Where the limb branches the way with the most driven hinges is taken; where it branches into single joints (fingers) it ends,
        at a frame without mass if there is one: that for a tool. Where loops are closed all drives outside of wheels belong to it, and
        it ends where the longest chain does that no drive ends.
        """
        if self.loops:
            return [j for j in self.driven if j not in self.wheels], self._end_of_loops()
        found: list[str] = []
        body = self.base or GROUND
        while True:
            onward = [(n, j) for n, j in self.machine.joints.items() if j.parent == body]
            moving = [(n, j) for n, j in onward if self._driven_from(n) > 0]
            if not moving:
                still = [j.child for n, j in onward if j.kind == "fixed" or n in self.hanging]
                if not still:
                    return found, body
                body = still[-1]  # a frame for a tool stands last and has no mass
                continue
            if found and self.fingers_on(body):
                frames = [j.child for _, j in onward if j.kind == "fixed" and not self.machine.bodies[j.child].mass and not self._has_drives(j.child)]  # fmt: skip
                return found, frames[-1] if frames else body
            name, joint = max(moving, key=lambda pair: self._driven_from(pair[0]))
            if name in self.driven:
                found.append(name)
            body = joint.child

    def _end_of_loops(self) -> str:
        """The body at the end of the longest chain of joints, sooner one that a drive does not push itself: rods of cylinders end at what they push."""
        ends = [b for b in self.machine.bodies if not self.carries(b)]

        def rank(body: str) -> tuple[bool, int]:
            chain, at = 0, body
            while at != GROUND:
                chain += bool(self.machine.joints[self.machine.joint_above(at)].letters)
                at = self.machine.joints[self.machine.joint_above(at)].parent
            return joint_above(self.model, body) not in self.driven, chain

        return max(ends, key=rank)

    @functools.cached_property
    def reaching(self) -> list[str]:
        """The limb's joints that move its tip: a wrist about an axis through the tip does not."""
        joints, body = self.limb
        found, positions = [], self.sampled(joints, 1.0, 50)
        before = self.points(positions, body, self.tip)
        for joint in joints:
            turned = positions.copy()
            low, high = self.span(joint)
            turned[:, self.index(joint)] += 0.1 if not self.loops else 0.05 * (high - low)
            turned = self.followed(turned)
            moved = np.linalg.norm(self.points(turned, body, self.tip) - before, axis=1).max()
            if moved > 1e-3 * max(float(np.ptp(before, axis=0).max()), 1e-9):
                found.append(joint)
        return found

    @property
    def fingers(self) -> list[str]:
        """Bodies of the fingers at the end of its limb."""
        end = self.limb[1]
        return self.fingers_on(end) or (self.fingers_on(self.machine.joints[self.machine.joint_above(end)].parent) if end != GROUND else [])  # fmt: skip

    @property
    def posed(self) -> list[str]:
        """Driven joints, but for fingers."""
        return [j for j in self.driven if self.machine.joints[j].child not in self.fingers] or self.driven

    def fingers_on(self, body: str) -> list[str]:
        """Bodies of the fingers that a body carries: two single joints at least, driven or following one another."""
        followed = {c.joint: c.follows for c in self.machine.couplings.values()}
        own = [n for n, j in self.machine.joints.items() if j.parent == body and self._driven_from(n) <= 1]
        driven = [n for n in own if self._driven_from(n) == 1]
        others = [n for n, j in self.machine.joints.items() if j.parent == body and self._driven_from(n) > 1]
        fingers = driven + [n for n in own if followed.get(n) in driven]
        return [self.machine.joints[n].child for n in fingers] if len(fingers) > 1 and not others else []

    def _driven_from(self, joint: str) -> int:
        """Driven joints on the longest way from this one outwards."""
        onward = [n for n, j in self.machine.joints.items() if j.parent == self.machine.joints[joint].child]
        own = joint in self.driven and joint not in self.wheels
        return int(own) + max((self._driven_from(n) for n in onward), default=0)

    @functools.cached_property
    def tip(self) -> Array:
        """The tip in its body's axes (3,): the middle of what lies farthest from the joint; its origin where it has no shape.

        Of a body with fingers it lies between them.
        """
        body = self.limb[1]
        corners = self.corners.get(body, np.zeros((0, 3)))
        if fingers := [f for f in self.fingers_on(body) if self.corners[f].size]:
            frames = self.frames(self.model.start[None])[0]
            at = frames[self.model.bodies.index(body)]
            ends = []
            for finger in fingers:
                there = frames[self.model.bodies.index(finger)]
                points = (there[:3] + self.corners[finger] @ there[3:].reshape(3, 3).T - at[:3]) @ at[3:].reshape(3, 3)
                away = np.linalg.norm(points, axis=1)
                ends.append(points[away > 0.95 * away.max()].mean(axis=0))
            corners = np.array(ends)
            return np.asarray(np.round(corners.mean(axis=0), 6) + 0.0)
        if not corners.size:
            return np.zeros(3)
        away = np.linalg.norm(corners, axis=1)
        middle = corners.mean(axis=0)
        if np.linalg.norm(middle) <= 0.1 * away.max():
            return np.zeros(3)  # it lies about its joint: a flange has no end
        # of a slim body the end face: what lies within a part of its breadth of the farthest point
        along = middle / np.linalg.norm(middle)
        ahead = corners @ along
        return np.asarray(np.round(corners[ahead > ahead.max() - 1e-6 - 0.02 * away.max()].mean(axis=0), 6) + 0.0)

    @functools.cached_property
    def arms(self) -> list[str]:
        """Driven joints of limbs that it does not travel by, where servos hold all of the limb."""
        servos = {str(d.joint) for d in self.machine.drives.values() if d.kind in ("position", "speed")}
        return [j for limb in self.limbs_aboard for j in limb if set(limb) <= servos]

    @functools.cached_property
    def limbs_aboard(self) -> list[list[str]]:
        """Driven joints of each limb, of two at least, that it does not travel by: no wheel, thruster, wing or foot is on it."""
        if not self.travels and not self.feet:
            return []
        acting = {str(getattr(f, "wheel", "") or getattr(f, "body", "")) for f in self.machine.forces.values()}
        acting |= {str(self.machine.drives[n].body) for n in self.thrusters}
        acting |= {self.machine.joints[j].child for j in (*self.rolling, *self.spinning)} | set(self.feet)
        found: list[list[str]] = []
        for joint in self.machine.joints.values():
            if joint.letters and joint_above(self.model, joint.parent) == self.base_joint and joint.parent != GROUND:
                carried = self.machine.carried_by(joint.child)
                own = [j for j in self.driven if self.machine.joints[j].child in carried]
                if len(own) > 1 and not carried & acting:
                    found.append(own)
        return found
