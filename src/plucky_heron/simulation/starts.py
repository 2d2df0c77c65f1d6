"""How episodes begin: everything random of an episode, drawn from its own number, and where machines are placed."""

from __future__ import annotations

import math

import numpy as np

from plucky_heron.dynamics.apart import GROUND_SURFACE, Apart, known_places
from plucky_heron.dynamics.plant import Plant
from plucky_heron.dynamics.scene import point_at
from plucky_heron.randomness import episode_stream
from plucky_heron.simulation import kernels
from plucky_heron.task.distributions import draw_one
from plucky_heron.task.placing import Placing
from plucky_heron.task.problem import Problem
from plucky_heron.task.signals import WIND_GUST, WIND_MEAN

Array = np.ndarray

ATTEMPTS = 20
"""How often a start is drawn again that stands too near to something."""


class Starts:
    """Draws of all copies.

    Attributes
    ----------
    drawn : name -> (B,)
        What was drawn, updated in place; set-points that are drawn again change as time goes by.
    wind : (B, T + 1, 1 or 3)
        Wind along its direction, and across and upwards, sample by sample.
    noise : (B, T + 1, noisy)
        Unit noise of the noisy numbers.
    """

    def __init__(self, problem: Problem, copies: int, seed: int, stream: str, noisy: int) -> None:
        self.problem, self.seed, self.stream = problem, seed, stream
        self.limit = problem.task.timing.steps
        gusty = 3 if problem.site.gusts_across > 0.0 else 1
        self.wind: Array = np.zeros((copies, self.limit + 1, gusty))
        self.noise: Array = np.zeros((copies, self.limit + 1, noisy))
        self.drawn: dict[str, Array] = {draw.target: np.zeros(copies) for draw in problem.draws}
        self.steered: dict[str, float] = {}
        """Set-points that someone steers, by name."""
        self._shares: Array = np.zeros((copies, len(problem.task.placing), 3))
        self._again = {
            draw.target: max(1, problem.task.timing.samples(draw.every)) for draw in problem.draws if draw.every > 0.0
        }
        self._tables = {name: np.zeros((copies, self.limit // samples + 1)) for name, samples in self._again.items()}
        self._numbers = [draw.distribution.numbers(draw.unit) for draw in problem.draws]
        self.attempts: Array = np.zeros(copies, dtype=np.int64)
        """How often the present episode of each copy was drawn again."""
        self._clear: Apart | None = None

    def draw(self, copy: int, episode: int, attempt: int = 0) -> None:
        """Everything random of one episode, from a generator of its own."""
        problem = self.problem
        self.attempts[copy] = attempt
        name = f"{self.stream} again {attempt}" if attempt else self.stream
        generator = episode_stream(self.seed, name, episode)
        for draw, (kind, values) in zip(problem.draws, self._numbers, strict=True):
            self.drawn[draw.target][copy] = draw_one(generator, kind, values)
        gusty = self.wind.shape[2]
        normal = generator.standard_normal((self.limit + 1, gusty + self.noise.shape[2]))
        site = problem.site
        decay = math.exp(-problem.sample_time / site.gust_time)
        gust: Array = np.zeros(self.limit + 1)
        mean, spread = (self.drawn[n][copy] if n in self.drawn else 0.0 for n in (WIND_MEAN, WIND_GUST))
        strength = math.sqrt(1.0 - decay**2)
        for a in range(gusty):
            begin = generator.standard_normal() if a > 0 else 0.0
            if spread == 0.0:
                self.wind[copy, :, a] = mean if a == 0 else 0.0
                continue
            white = normal[:, a].copy()
            if a == 0:
                kernels.first_order_noise(decay, strength, white, gust)
            else:
                kernels.second_order_noise(decay, strength, white, begin, gust)
            self.wind[copy, :, a] = mean + spread * gust if a == 0 else spread * site.gusts_across * gust
        self.noise[copy] = normal[:, gusty:]
        if self._shares.shape[1]:
            self._shares[copy] = generator.random(self._shares.shape[1:])
        for draw, (kind, values) in zip(problem.draws, self._numbers, strict=True):
            if draw.target in self._tables:
                table = self._tables[draw.target]
                table[copy, 0] = self.drawn[draw.target][copy]
                for k in range(1, table.shape[1]):
                    table[copy, k] = draw_one(generator, kind, values)

    def now(self, age: Array) -> None:
        """Bring set-points to the present sample `age` (B,) of each copy.

        An episode ends with the set-point that it had: a new one in its very last sample would ask for what nobody had time for.
        """
        for name, table in self._tables.items():
            column = np.minimum(np.minimum(age, self.limit - 1) // self._again[name], table.shape[1] - 1)
            self.drawn[name][:] = table[np.arange(len(age)), column]
        for name, value in self.steered.items():
            self.drawn[name][:] = value

    def place(self, plant: Plant, copies: Array, episodes: Array) -> None:
        """Put `copies` (indices) where their episodes begin; those that stand too near to something are drawn again."""
        self._put(plant, copies)
        waiting = self._too_near(plant, copies)
        for attempt in range(1, ATTEMPTS + 1):
            if not waiting.any():
                break
            for copy, episode in zip(copies[waiting], episodes[waiting], strict=True):
                self.draw(int(copy), int(episode), attempt)
            plant.reset(copies[waiting])
            self._put(plant, copies[waiting])
            waiting = self._too_near(plant, copies)

    def _put(self, plant: Plant, copies: Array) -> None:
        model, problem = self.problem.model, self.problem
        starts: dict[str, Array] = {}
        for draw in problem.draws:
            values = self.drawn[draw.target][copies]
            if draw.kind == "start":
                joint, _, quantity = draw.target.rpartition(".")
                if quantity == "position":
                    starts[joint] = values
                else:
                    plant.velocity[copies, model.joints.index(joint)] = values
            elif draw.kind == "parameter":
                model.vary(plant.rows, copies, draw.target, values)
            elif draw.target == "scene":
                most = len(problem.surroundings.names) - 1
                plant.scene[copies] = np.clip(np.floor(values), 0, most).astype(np.int64)
        for number, (joint, placing) in enumerate(problem.task.placing.items()):
            starts |= self._placed(joint, placing, self._shares[copies, number], plant.scene[copies])
        position = plant.position[copies]
        model.set_start(position, starts)
        plant.position[copies] = position
        plant.close_on_the_way(copies, [model.joints.index(name) for name in starts if name in model.joints])

    def _placed(self, joint: str, placing: Placing, shares: Array, scene: Array) -> dict[str, Array]:
        """Coordinates of a joint for shares (k, 3) of the unit interval."""

        def between(span: tuple[float, float], column: int) -> Array:
            return np.asarray(span[0] + (span[1] - span[0]) * shares[:, column])

        if placing.along is not None:
            along, aside, heading = between(placing.along, 0), between(placing.offset, 1), between(placing.heading, 2)
            x, y = np.zeros(len(shares)), np.zeros(len(shares))
            for k, track in enumerate(self.problem.surroundings.tracks[s] for s in scene):
                assert track is not None
                at, way = point_at(track, float(np.clip(along[k], 0.0, track.along[-1])))
                x[k], y[k] = at[0] - aside[k] * way[1], at[1] + aside[k] * way[0]
                heading[k] += math.atan2(way[1], way[0])
        elif placing.circle is not None:
            away, bearing, heading = (
                between(placing.circle, 0),
                between(placing.bearing, 1),
                between(placing.heading, 2),
            )
            x, y = placing.centre[0] + away * np.cos(bearing), placing.centre[1] + away * np.sin(bearing)
            heading = heading + {"east": 0.0, "inwards": bearing + math.pi, "outwards": bearing}[placing.facing]
        else:
            return {}
        turn = f"{joint}.turn" if f"{joint}.turn" in self.problem.model.joints else f"{joint}.rz"
        return {f"{joint}.x": x, f"{joint}.y": y, turn: heading}

    def _too_near(self, plant: Plant, copies: Array) -> Array:
        wanted = [p.apart for p in self.problem.task.placing.values() if p.apart is not None]
        if not wanted:
            return np.zeros(len(copies), dtype=np.bool_)
        if self._clear is None:
            known = known_places(plant.model, plant.surroundings)
            solids = [n for n, kind in known.items() if kind == "solid" and n != GROUND_SURFACE]
            shaped = [n for n, body in plant.model.machine.bodies.items() if body.shapes]
            self._clear = Apart(plant, [(body, solid) for body in shaped for solid in solids])
        if not self._clear.values.shape[1]:
            return np.zeros(len(copies), dtype=np.bool_)
        return np.asarray(self._clear.read()[copies].min(axis=1) < max(wanted))
