"""What is wrong with a machine that its file alone does not show: named where it is, with what to do."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from plucky_heron.dynamics.inertia import without_inertia
from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.plant import Plant, mass_matrix
from plucky_heron.machine.schema import Shape, Spring, Tyre
from plucky_heron.task.problem import Problem
from plucky_heron.units import show

Array = np.ndarray

FEWEST_SUBSTEPS = 6.0
"""Substeps in a period below which the implicit step damps a spring visibly instead of letting it swing."""
DEEPEST = 1e-3
"""Overlap (m) in the start pose that the first steps undo without being noticed."""


@dataclass(frozen=True)
class Trouble:
    """One thing that is wrong ("wrong") or doubtful ("look"), at a part."""

    state: str
    kind: str
    name: str
    text: str
    remedy: str


def machine_troubles(problem: Problem) -> list[Trouble]:
    """Everything that is wrong with the machine in its start pose on its site."""
    return [*weightless(problem), *_impossible(problem), *_overlaps(problem), *_too_stiff(problem)]


def weightless(problem: Problem) -> Iterator[Trouble]:
    """Joints on which nothing has inertia."""
    for coordinate in without_inertia(problem.model):
        name = coordinate.partition(".")[0]
        joint = problem.machine.joints[name]
        turning = problem.machine.coordinate_unit(coordinate) == "rad"
        yield Trouble(
            "wrong", "bodies", joint.child,
            f"nothing on {coordinate} has {'inertia about its axis' if turning else 'mass'}",
            f"give {joint.child} {'an inertia' if turning else 'a mass'}, or make {name} fixed",
        )  # fmt: skip


def _impossible(problem: Problem) -> Iterator[Trouble]:
    """Bodies whose inertia does not fit their mass and shapes."""
    for name, body in problem.machine.bodies.items():
        largest = max(body.inertia[:3])
        if body.mass <= 0.0:
            if largest > 0.0:
                yield Trouble("wrong", "bodies", name, "it has inertia but no mass", "give it a mass")
            continue
        half = max((_reach(shape, body.centre) for shape in body.shapes), default=0.0)
        gyration = math.sqrt(largest / body.mass)
        if half > 0.0 and gyration > 1.5 * half:
            text = f"its radius of gyration is {show(gyration, 'm')}, its shapes reach {show(half, 'm')}"
            yield Trouble("look", "bodies", name, text, f"at most {show(body.mass * half**2, 'kg*m**2')} fits them")


def _reach(shape: Shape, centre: tuple[float, ...]) -> float:
    """How far a shape reaches from a point, at most."""
    away = float(np.linalg.norm(np.subtract(shape.at, centre)))
    if shape.kind == "hull":
        corners = np.array(shape.points) - np.subtract(centre, shape.at)
        return float(np.linalg.norm(corners, axis=1).max(initial=0.0))
    size = shape.size
    own = {
        "sphere": lambda: size[0], "capsule": lambda: size[0] + 0.5 * size[1],
        "cylinder": lambda: math.hypot(size[0], 0.5 * size[1]), "box": lambda: 0.5 * math.hypot(*size),
        "bucket": lambda: 0.5 * math.hypot(max(size[0], size[1]), max(size[0], size[1]), size[2]),
    }[shape.kind]()  # fmt: skip
    return away + own


def _overlaps(problem: Problem) -> Iterator[Trouble]:
    """Shapes that stand in each other or in the site at the start."""
    model = problem.model
    plant = Plant(model, 1, 1e-6, threads=1, surroundings=problem.surroundings)
    plant.settle_drives(np.array([0]))
    plant.step(np.zeros((1, len(model.drives))))
    owners = [name for name, body in problem.machine.bodies.items() for shape in body.shapes if shape.solid]
    deepest: dict[tuple[str, str], float] = {}
    for row in plant.contacts[0, : plant.contact_count[0]]:
        pair = int(row[layout.PAIR])
        other = "the ground" if pair == -1 else "the site" if pair < 0 else owners[model.contacts.pairs[pair, 1]]
        key = (owners[int(row[layout.SHAPE])], other)
        deepest[key] = min(deepest.get(key, 0.0), float(row[layout.GAP]))
    for (name, other), gap in deepest.items():
        if gap < -DEEPEST:
            remedy = (
                "raise the start" if other == "the ground" else "change start or shapes, or let them pass (no_contact)"
            )
            yield Trouble("look", "bodies", name, f"starts {show(-gap, 'm')} deep in {other}", remedy)


def _too_stiff(problem: Problem) -> Iterator[Trouble]:
    """Springs and servos that swing in fewer substeps than the step can follow."""
    machine, model, step = problem.machine, problem.model, problem.task.timing.physics_step
    moved = np.diag(mass_matrix(model, model.start))
    springs: list[tuple[str, str, float, float]] = []
    for name, joint in machine.joints.items():
        if joint.kind in ("hinge", "slider") and joint.stiffness > 0.0:
            springs.append(("joints", name, joint.stiffness, float(moved[model.joints.index(name)])))
    for name, drive in machine.drives.items():
        if drive.kind == "position":
            springs.append(("drives", name, float(drive.gain), float(moved[model.joints.index(str(drive.joint))])))
    total = sum(body.mass for body in machine.bodies.values())
    for name, force in machine.forces.items():
        if isinstance(force, Spring):
            ends = [machine.bodies[end].mass for end in (force.a, force.b) if end in machine.bodies]
            springs.append(("forces", name, force.stiffness, min(ends, default=0.0)))
        elif isinstance(force, Tyre) and force.radial_stiffness > 0.0:
            count = sum(isinstance(f, Tyre) for f in machine.forces.values())
            springs.append(("forces", name, force.radial_stiffness, total / count))
    for kind, name, stiffness, mass in springs:
        if stiffness <= 0.0 or mass <= 0.0:
            continue
        period = 2.0 * math.pi * math.sqrt(mass / stiffness)
        if period < FEWEST_SUBSTEPS * step:
            wanted = period / FEWEST_SUBSTEPS
            yield Trouble(
                "look", kind, name,
                f"swings in {1e3 * period:.3g} ms, {period / step:.1f} substeps of {1e3 * step:g} ms",
                f"{math.ceil(1.0 / wanted)} steps a second would follow it, or make it softer",
            )  # fmt: skip
