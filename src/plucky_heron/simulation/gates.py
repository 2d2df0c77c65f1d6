"""Gates to be passed in order: which is next in each copy, how far it is, and when one was passed."""

from __future__ import annotations

import numpy as np

from plucky_heron.dynamics.scene import Surroundings, Track, point_at
from plucky_heron.errors import StateError
from plucky_heron.task.placing import GATE_SIGNALS, Gates

Array = np.ndarray


def gate_places(gates: Gates, track: Track | None) -> Array:
    """Places (k, 3) of one lap, in order."""
    if gates.places:
        return np.array(gates.places, dtype=float)
    if track is None:
        raise StateError("gates need places, or a course")
    flat = track.gates
    if gates.every is not None:
        length = float(track.along[-1])
        steps = max(1, round(length / gates.every))
        flat = np.array([point_at(track, length * k / steps)[0] for k in range(1, steps + 1)])
    return np.column_stack([flat, np.zeros(len(flat))])


class GateKeeper:
    """The gates of a task in all copies.

    A gate is passed when the way of the body between two samples comes within the radius of it; at most one a sample.
    """

    def __init__(self, gates: Gates, surroundings: Surroundings, copies: int, body: int) -> None:
        self.gates, self.body = gates, body
        laps = [gate_places(gates, track) for track in surroundings.tracks]
        self._count = np.array([len(lap) * gates.laps for lap in laps], dtype=np.int64)
        most = int(self._count.max())
        self._places = np.zeros((len(laps), most + 2, 3))
        for s, lap in enumerate(laps):
            way = np.concatenate([lap] * gates.laps)
            self._places[s] = np.concatenate([way, np.repeat(way[-1:], most + 2 - len(way), axis=0)])
        self.passed: Array = np.zeros(copies, dtype=np.int64)
        self._before: Array = np.zeros((copies, 3))
        self._values = {name: np.zeros(copies) for name in GATE_SIGNALS}

    def signals(self) -> dict[str, Array]:
        """What formulas see, updated in place."""
        return self._values

    def begin(self, copies: Array) -> None:
        """Nothing is passed in `copies` (indices)."""
        self.passed[copies] = 0

    def look(self, located: Array, scene: Array, fresh: Array | None, again: bool) -> None:
        """Bring the signals up to where the bodies are, located (B, bodies, 18); a sample has gone by without `fresh`."""
        here = located[:, self.body, :3]
        if fresh is not None:
            self._before[fresh] = here[fresh]
        values = self._values
        if fresh is None and not again:
            came = self._closest(here, self._next(scene, 0)) <= self.gates.radius
            came &= self.passed < self._count[scene]
            values["gate.passing"][:] = came
            self.passed += came
            self._before[:] = here
        elif fresh is not None:
            values["gate.passing"][fresh] = 0.0
        values["gate.count"][:] = self._count[scene]
        values["gate.passed"][:] = self.passed
        forward = located[:, self.body, [6, 9]]  # the body's x axis, seen from above
        for lead, name in enumerate(("gate", "gate.after")):
            gate = self._next(scene, lead)
            away = gate - here
            if self.gates.flat:
                away[:, 2] = 0.0
            values[f"{name}.distance"][:] = np.sqrt((away**2).sum(axis=1))
            ahead = forward[:, 0] * away[:, 0] + forward[:, 1] * away[:, 1]
            values[f"{name}.bearing"][:] = np.arctan2(forward[:, 0] * away[:, 1] - forward[:, 1] * away[:, 0], ahead)
            if lead == 0:
                for a, axis in enumerate("xyz"):
                    values[f"gate.{axis}"][:] = gate[:, a]

    def _next(self, scene: Array, lead: int) -> Array:
        """Places of the gates to come, (B, 3)."""
        return np.array(self._places[scene, np.minimum(self.passed + lead, self._count[scene] - 1 + lead)])

    def _closest(self, here: Array, gate: Array) -> Array:
        """How near the way since the last sample came to the gate."""
        way, to = here - self._before, gate - self._before
        if self.gates.flat:
            way[:, 2] = to[:, 2] = 0.0
        share = np.clip((way * to).sum(axis=1) / np.maximum((way**2).sum(axis=1), 1e-12), 0.0, 1.0)
        return np.asarray(np.sqrt(((to - share[:, None] * way) ** 2).sum(axis=1)))

    def keep(self) -> dict[str, Array]:
        """State for a checkpoint."""
        return {
            "passed": self.passed.copy(),
            "before": self._before.copy(),
            "passing": self._values["gate.passing"].copy(),
        }

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        self.passed[:], self._before[:] = kept["passed"], kept["before"]
        self._values["gate.passing"][:] = kept["passing"]
