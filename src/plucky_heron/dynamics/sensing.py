"""Sensors of a machine on its site: tables for the kernels, and true readings of all copies."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.model import Model
from plucky_heron.dynamics.plant import Plant
from plucky_heron.dynamics.scene import Surroundings
from plucky_heron.errors import StateError, did_you_mean
from plucky_heron.machine.sensors import Sensor
from plucky_heron.machine.site import Site
from plucky_heron.machine.urdf import rotation

Array = np.ndarray
_KINDS = ("joint", "pose", "inertial", "contact", "clearance", "beams", "course", "bearing")


class SensorTable(NamedTuple):
    """What the sensing kernel reads; one row a sensor: kind, node, first channel, beams, first ray and reach (sensors,), pose
    (sensors, 12), rays (rays, 3)."""

    kind: Array
    node: Array
    pose: Array
    first: Array
    beams: Array
    own_axes: Array
    owned: Array
    """Which shapes are the sensor body's own."""
    first_ray: Array
    rays: Array
    range: Array
    """Of beams; of a course sensor: how far it looks ahead."""
    mark: Array
    accelerated: bool


class Tracks(NamedTuple):
    """Courses of all scenes: points (x, y, arc length), where each scene's stand, whether they close."""

    points: Array
    ranges: Array
    closed: Array


class Sensing:
    """The sensors of a model on a site.

    Attributes
    ----------
    channels : (name, unit, sensor)
        Everything that is read, in the order of `readings`.
    """

    def __init__(self, model: Model, surroundings: Surroundings, site: Site | None = None) -> None:
        self.model, self.surroundings = model, surroundings
        machine = model.machine
        self.channels = [
            (channel, unit, name)
            for name, sensor in machine.sensors.items()
            for channel, unit in sensor.channels(name, machine.joints)
        ]
        self.table = _table(model, site or Site())
        self.tracks = _tracks(surroundings)

    def readings(self, plant: Plant, out: Array, copies: Array | None = None) -> Array:
        """True readings of all copies, or of `copies` (k,) only, into `out` (B, channels)."""
        from plucky_heron.dynamics.kernels import sensing

        if self.channels:
            state = plant.state(np.zeros((plant.copies, len(self.model.drives))))
            which = np.arange(plant.copies) if copies is None else copies

            def part(first: int, last: int, scratch: layout.Scratch) -> None:
                sensing.sense(
                    which[first:last], self.model.tree, self.table, self.model.shapes, self.model.contacts.pairs,
                    self.surroundings.arrays, self.tracks, state, plant.step_size, scratch, out,
                )  # fmt: skip

            plant.share("sense", part, None if copies is None else len(copies))
        return out


def _table(model: Model, site: Site) -> SensorTable:
    machine = model.machine
    sensors = list(machine.sensors.values())
    count = len(sensors)
    lengths = [len(s.channels("", machine.joints)) for s in sensors]
    rays: list[Array] = []
    table = SensorTable(
        kind=np.array([_KINDS.index(s.kind) for s in sensors], dtype=np.int64),
        node=np.full(count, -1, dtype=np.int64),
        pose=np.tile(np.concatenate([np.eye(3).reshape(9), np.zeros(3)]), (count, 1)),
        first=np.concatenate([[0], np.cumsum(lengths)])[:-1].astype(np.int64),
        beams=np.array(lengths, dtype=np.int64),
        own_axes=np.array([s.axes == "own" for s in sensors], dtype=np.bool_),
        owned=np.zeros((count, len(model.shapes.kind)), dtype=np.bool_),
        first_ray=np.zeros(count, dtype=np.int64),
        rays=np.zeros((1, 3)),
        range=np.array([s.ahead if s.kind == "course" else s.range for s in sensors], dtype=float),
        mark=np.zeros((count, 3)),
        accelerated=any(s.kind == "inertial" for s in sensors),
    )
    owners = [name for name, body in machine.bodies.items() for shape in body.shapes if shape.solid]
    for k, (name, sensor) in enumerate(machine.sensors.items()):
        if sensor.joint is not None:
            table.node[k] = model.joints.index(sensor.joint)
            continue
        b = model.bodies.index(str(sensor.body))
        table.node[k] = model.body_node[b]
        turned = model.body_rotation[b].reshape(3, 3)
        table.pose[k, :9] = (turned @ rotation(*sensor.turn)).reshape(9)
        table.pose[k, 9:] = model.body_position[b] + turned @ np.array(sensor.at)
        table.owned[k] = [owner == sensor.body for owner in owners]
        if sensor.kind == "bearing":
            if sensor.mark not in site.marks:
                raise StateError(
                    f"sensors.{name}.mark: the site has no mark {sensor.mark!r}; {did_you_mean(sensor.mark, site.marks)}"
                )
            table.mark[k] = site.marks[str(sensor.mark)]
        if sensor.kind == "inertial" and table.node[k] < 0:
            raise StateError(f"sensors.{name}: an inertial unit on the ground feels nothing; put it on a moving body")
        if sensor.kind == "beams":
            table.first_ray[k] = sum(len(r) for r in rays)
            rays.append(beam_directions(sensor))
    return table._replace(rays=np.concatenate(rays)) if rays else table


def beam_directions(sensor: Sensor) -> Array:
    """Unit directions (beams, 3) in the sensor's axes: a fan about z, or a cone by the golden angle."""
    axis = np.array(sensor.axis, dtype=float)
    axis /= np.linalg.norm(axis)
    k = np.arange(sensor.beams)
    if sensor.shape == "fan":
        full = abs(sensor.spread - 2.0 * math.pi) < 1e-9
        steps = max(1, sensor.beams if full else sensor.beams - 1)
        angles = (k / steps - 0.5) * sensor.spread if sensor.beams > 1 else np.zeros(1)
        c, s = np.cos(angles), np.sin(angles)
        return np.stack([c * axis[0] - s * axis[1], s * axis[0] + c * axis[1], np.full(len(k), axis[2])], axis=1)
    height = 1.0 - (1.0 - math.cos(sensor.spread / 2.0)) * (k + 0.5) / sensor.beams
    turn = k * math.pi * (3.0 - math.sqrt(5.0))
    flat = np.sqrt(1.0 - height**2)
    side = np.cross(axis, [0.0, 0.0, 1.0] if abs(axis[2]) < 0.9 else [1.0, 0.0, 0.0])
    side /= np.linalg.norm(side)
    up = np.cross(axis, side)
    return np.asarray(
        height[:, None] * axis + (flat * np.cos(turn))[:, None] * side + (flat * np.sin(turn))[:, None] * up
    )


def _tracks(surroundings: Surroundings) -> Tracks:
    points: list[Array] = []
    ranges, closed = [], []
    for line in surroundings.tracks:
        first = sum(len(p) for p in points)
        if line is not None:
            points.append(np.column_stack([line.points, line.along]))
        ranges.append((first, first + (len(line.points) if line is not None else 0)))
        closed.append(line is not None and line.closed)
    return Tracks(
        np.concatenate(points) if points else np.zeros((2, 3)), np.array(ranges, dtype=np.int64), np.array(closed)
    )
