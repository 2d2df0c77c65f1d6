"""What follows from a machine in a pose: mass, freedom, reach, modes, and what its drives hold against gravity."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from plucky_heron.control.poles import poles_of
from plucky_heron.dynamics.energy import poses, step_of
from plucky_heron.dynamics.model import Model
from plucky_heron.dynamics.plant import static_load
from plucky_heron.dynamics.posing import following, free_directions, tied
from plucky_heron.machine.schema import GROUND, Machine
from plucky_heron.task.problem import Problem, bind
from plucky_heron.units import show

Array = np.ndarray
_MOST_DRIVES = 3

FAST_FOR_THE_STEP = 0.3
"""Turn (rad) of a swing in a step from which on the step itself may damp it."""


def derived_facts(problem: Problem, pose: Array | None = None) -> list[tuple[str, str]]:
    """What follows from the machine in a position (entries,), by default its start; each with a title."""
    machine, model = problem.machine, problem.model
    position = model.start if pose is None else pose
    frames = poses(machine, model.pose(position))
    total, centre = mass_and_centre(machine, frames)
    x, y, z = (float(v) if abs(v) > 5e-4 else 0.0 for v in centre)
    driven = len({d.joint for d in machine.drives.values() if d.on_joint})
    facts = [
        ("mass", f"{show(total, 'kg')}, centre at {show(x)}, {show(y)}, {show(z)} m"),
        ("freedom", _freedom(model, position, driven)),
        *_reach(machine, model.pose(position)),
    ]
    facts += _modes(problem, position, pose)
    return [*facts, *_holds(problem, position, total)]


def mass_and_centre(machine: Machine, frames: dict[str, Array]) -> tuple[float, Array]:
    """Mass of the machine with what is in its tanks at the start, and where its centre is (3, world)."""
    parts = [(body.mass, frames[name] @ np.array([*body.centre, 1.0])) for name, body in machine.bodies.items()]
    for tank in machine.tanks.values():
        x, y, z = tank.at
        middle = np.array([x, y, z + 0.5 * tank.fill * tank.size[2], 1.0])
        parts.append((tank.fill * tank.mass, frames[tank.body] @ middle))
    total = sum(mass for mass, _ in parts)
    return total, sum((mass * place[:3] for mass, place in parts), np.zeros(3)) / max(total, 1e-12)


def _reach(machine: Machine, position: dict[str, float]) -> Iterator[tuple[str, str]]:
    """The longest limb of hinges: how far the middle of its last body gets from the first joint.

    Every joint in turn takes the best of a few values between its stops, twice round: enough for arms and legs.
    """
    best = 0.0, 0.0
    for body in machine.bodies:
        steps = _hinges_to(machine, body)
        limb = [name for name in steps if machine.joints[name].kind == "hinge"]
        if len(limb) < 2:
            continue
        shapes = machine.bodies[body].shapes
        tip = np.array([*(np.mean([s.at for s in shapes], axis=0) if shapes else machine.bodies[body].centre), 1.0])

        def far(pose: dict[str, float], steps: list[str] = steps, tip: Array = tip) -> float:
            at = tip
            for name in reversed(steps[1:]):
                at = step_of(machine, name, pose) @ at
            return float(np.linalg.norm(at[:3]))

        pose = dict(position)
        for name in [*limb[1:], *limb[1:]]:
            low, high = machine.joints[name].limits or (-np.pi, np.pi)
            pose[name] = max([pose[name], *np.linspace(low, high, 13)], key=lambda v: far({**pose, name: float(v)}))
        if far(pose) > best[0]:
            best = far(pose), far(position)
    if best[0] > 1e-3:
        yield "reach", f"{show(best[0], 'm')} stretched, {show(best[1], 'm')} in this pose"


def _hinges_to(machine: Machine, body: str) -> list[str]:
    """Joints on the way to an outermost body, from the first hinge; none if it has none."""
    if any(joint.parent == body for joint in machine.joints.values()):
        return []
    found: list[str] = []
    while body != GROUND and machine.joints[machine.joint_above(body)].kind in ("hinge", "fixed"):
        found.insert(0, machine.joint_above(body))
        body = machine.joints[found[0]].parent
    while found and machine.joints[found[0]].kind == "fixed":
        found.pop(0)
    return found


def _freedom(model: Model, position: Array, driven: int) -> str:
    """How many coordinates there are and who moves them."""
    count = len(model.joints)
    if not tied(model):
        return f"{count} coordinates, {driven} driven, {count - driven} free"
    left = free_directions(model, position).shape[1]
    return f"{count} coordinates, {count - left} of them by rods and pins; {driven} driven"


def _holds(problem: Problem, position: Array, total: float) -> list[tuple[str, str]]:
    """How often each drive could carry what gravity asks of it in the pose; the weakest first."""
    machine = problem.machine
    found = []
    for name, need in static_loads(problem, position).items():
        limit, need = float(machine.drives[name].limit), abs(need)
        unit = "N" if machine.joints[str(machine.drives[name].joint)].kind == "slider" else "N*m"
        if need > 1e-3 * limit:
            found.append((limit / need, f"{name} holds", f"{show(need, unit)} of its {show(limit, unit)}"))
    facts = [(title, f"{text}: {times:.1f} times") for times, title, text in sorted(found)[:_MOST_DRIVES]]
    thrust = sum(float(drive.limit) for drive in machine.drives.values() if drive.kind == "thrust")
    if thrust > 0.0 and any("z" in joint.letters for joint in machine.joints.values()):
        weight = total * problem.site.gravity
        facts.append(("thrust", f"{show(thrust, 'N')}, {thrust / max(weight, 1e-9):.2f} times its weight"))
    return facts


def static_loads(problem: Problem, position: Array) -> dict[str, float]:
    """What gravity asks of each drive on a joint at a position (entries,), N or N*m; contact and buoyancy are
    left out."""
    machine, model = problem.machine, problem.model
    idle = model.row.copy()  # the drives themselves must not carry any of it
    for name in machine.drives:
        idle[model.parameter(f"{name}.limit")[0]] = 0.0
    drives = {n: str(d.joint) for n, d in machine.drives.items() if d.kind in ("effort", "speed", "position")}
    if tied(model):
        # in a loop a drive carries what moves with it (virtual work along the ways that are left)
        position = following(model, position)
        ways = free_directions(model, position)
        load = ways.T @ static_load(model, position, idle)
        shares = np.array([ways[model.joints.index(joint)] for joint in drives.values()]).reshape(-1, ways.shape[1]).T
        return dict(zip(drives, np.linalg.lstsq(shares, -load)[0].tolist(), strict=True))
    load = static_load(model, position, idle)
    return {name: -float(load[model.joints.index(joint)]) for name, joint in drives.items()}


def _modes(problem: Problem, position: Array, pose: Array | None) -> Iterator[tuple[str, str]]:
    """Swings, falls and the fastest motion of the machine with its drives, from its linearisation."""
    step = problem.task.timing.physics_step
    poles = poles_of(problem, position, pose)
    growing = max((float(p.real) for p in poles), default=0.0)
    if growing > 0.05:
        yield "falls", f"a lean grows threefold in {show(1.1 / growing, 's')}"
    for pole in sorted((p for p in poles if p.imag > 0.1 and p.real < 0.0), key=abs)[:2]:
        size = float(abs(pole))
        text = f"{size / 2 / np.pi:.3g} Hz, period {show(2 * np.pi / size, 's')}, damping {-pole.real / size:.3f}"
        yield "swing", text + _damped_by_the_step(problem, position, pose, pole)
    size = float(np.abs(poles).max(initial=0.0))
    if size > 1e-6:
        substeps = f"{1.0 / size / step:.1f} substeps of {1e3 * step:g} ms"
        time = show(1e3 / size) + " ms" if size > 1.0 else show(1.0 / size, "s")
        yield "fastest motion", f"time constant {time}, {substeps}"


def _damped_by_the_step(problem: Problem, position: Array, pose: Array | None, pole: complex) -> str:
    """What a swing's damping would be in much shorter steps, where that differs, and which steps come near it."""
    step, found = problem.task.timing.physics_step, -pole.real / abs(pole)
    if abs(pole) * step < FAST_FOR_THE_STEP or problem.model.attitudes():
        return ""
    dampings = []
    for times in (2, 4, 16):
        timing = problem.task.timing.model_copy(update={"substeps": times * problem.task.timing.substeps})
        task = problem.task.model_copy(update={"timing": timing})
        finer = bind(problem.machine, problem.site, task, problem.source, problem.code)
        near = [p for p in poles_of(finer, position, pose) if p.imag > 0.1 and p.real < 0.0]
        if not near:
            return ""
        closest = min(near, key=lambda p: abs(p.imag - pole.imag))
        dampings.append((times, -closest.real / abs(closest)))
    true = dampings[-1][1]

    def small(damping: float) -> bool:
        return bool(abs(damping - true) < max(0.1 * true, 2e-3))

    if small(found):
        return ""
    enough = next(times for times, damping in dampings if small(damping))
    return f", {true:.3f} without what steps of {1e3 * step:g} ms add; {enough * problem.task.timing.substeps} substeps add little"
