"""The replay buffer: what was met, row by row of all copies, drawn from evenly or by priority, with returns over several steps."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from plucky_heron.errors import StateError
from plucky_heron.learning.kernels import replay as kernels
from plucky_heron.learning.method import Experience
from plucky_heron.task.mirror import Mirror

Array = np.ndarray
ENDED, CUT = 1, 2


@dataclass(frozen=True)
class Rows:
    """A minibatch, all float32; overwritten by the next draw of the same size.

    Attributes
    ----------
    observations, after : (N, observations)
        Raw values in SI units, at the command and `steps` later (or where the episode was over).
    commands : (N, actions)
        As shares of the range, -1 .. 1.
    reward : (N,)
        Discounted sum over the steps between.
    factor : (N,)
        What the value of `after` counts: the discount over those steps, or 0 where an ending was met.
    indices : int64 (N,)
        Entries of the buffer.
    weight : (N,)
        Correction for uneven drawing; ones when drawn evenly.
    """

    observations: Array
    after: Array
    commands: Array
    reward: Array
    factor: Array
    indices: Array
    weight: Array


class Replay:
    """The last `capacity` steps of `copies` episodes that run side by side.

    Entry t * copies + b is step t of copy b, so that the entry after it in time is `copies` further on: returns over several
    steps are summed when they are drawn, and need no room.

    Parameters
    ----------
    capacity
        Entries, rounded down to whole rows of copies.
    priority
        Exponent of the priorities (Schaul et al. 2016, eq. 1); 0 draws evenly.
    mirror, mirrored_share
        Share of drawn rows that are seen in this mirror: what was met on one side then teaches both (Lin et al. 2020).
    """

    def __init__(
        self, capacity: int, copies: int, observations: int, actions: int, priority: float = 0.0, mirror: Mirror | None = None,
        mirrored_share: float = 0.5,
    ) -> None:  # fmt: skip
        if capacity < 2 * copies:
            raise StateError(
                f"a replay buffer of {capacity} is too small for {copies} copies; give at least {2 * copies}"
            )
        self.copies, self.capacity, self.priority = copies, capacity - capacity % copies, priority
        self.mirror, self.mirrored_share = mirror, mirrored_share
        self.observations: Array = np.zeros((self.capacity, observations), dtype=np.float32)
        self.after: Array = np.zeros((self.capacity, observations), dtype=np.float32)
        self.commands: Array = np.zeros((self.capacity, actions), dtype=np.float32)
        self.reward: Array = np.zeros(self.capacity, dtype=np.float32)
        self.over: Array = np.zeros(self.capacity, dtype=np.uint8)
        self.predicted: Array = np.zeros(self.capacity, dtype=np.float32)
        self.size = self.next = 0
        self.newest: int | None = None
        """Entries that may be drawn: the newest ones, or all if None; not with priorities."""
        leaves = 1
        while priority > 0.0 and leaves < self.capacity:
            leaves *= 2
        self.tree: Array = np.zeros(2 * leaves if priority > 0.0 else 0)
        self.highest = 1.0
        self._rows: dict[int, Rows] = {}

    _columns = ("observations", "after", "commands", "reward", "over", "predicted")

    def add(self, observations: Array, commands: Array, predicted: Array, experience: Experience) -> None:
        """Take in one step of all copies, in their order; `predicted` (copies,) is what the critic then thought of it."""
        here = slice(self.next, self.next + self.copies)
        self.observations[here], self.commands[here], self.predicted[here] = observations, commands, predicted
        self.after[here], self.reward[here] = experience.after, experience.reward
        self.over[here] = np.where(experience.ended, ENDED, np.where(experience.cut, CUT, 0))
        if self.priority > 0.0:
            kernels.set_priorities(self.tree, np.arange(here.start, here.stop), np.full(self.copies, self.highest))
        self.next = (self.next + self.copies) % self.capacity
        self.size = min(self.size + self.copies, self.capacity)

    def lose(self, lost: Array) -> Array:
        """Take back the newest row of some copies (mask, copies): the row before it stands there twice, as cut.

        Returns the entry (lost,) that each was copied from: of the copy's own past, or, where it has none, of another copy.
        """
        here = self.last + np.flatnonzero(lost)
        if self.size > self.copies:
            sources = (here - self.copies) % self.capacity
            self.over[sources] = np.where(self.over[sources] == 0, CUT, self.over[sources])
        else:
            others = np.flatnonzero(~lost)
            sources = np.full(len(here), self.last + others[0]) if len(others) else here
        for name in self._columns:
            getattr(self, name)[here] = getattr(self, name)[sources]
        self.over[here] = np.where(self.over[here] == 0, CUT, self.over[here])
        return np.asarray(sources)

    @property
    def last(self) -> int:
        """Where the newest row of copies begins."""
        return (self.next - self.copies) % self.capacity

    def draw(
        self, count: int, generator: np.random.Generator, steps: int, discount: float, evenness: float = 1.0
    ) -> Rows:
        """A minibatch of `count` entries with returns over up to `steps` steps.

        `evenness` is how much uneven drawing is corrected for (Schaul et al. 2016, beta), 0 .. 1.
        """
        rows = self._rows.get(count)
        if rows is None:
            rows = self._rows[count] = self._make_rows(count)
        if self.priority > 0.0:
            kernels.draw_by_priority(self.tree, generator.random(count), rows.indices, self.size)
            chance = self.tree[len(self.tree) // 2 + rows.indices] / self.tree[1]
            weight = (self.size * chance) ** -evenness
            rows.weight[:] = weight / weight.max()
        else:
            recent = self.size if self.newest is None else min(self.newest, self.size)
            first = self.next - recent if recent < self.size else 0
            rows.indices[:] = (first + generator.integers(0, recent, count)) % self.capacity
        kernels.gather(
            self.observations, self.after, self.commands, self.reward, self.over, rows.indices, self.copies, self.last, steps, discount,
            rows.observations, rows.after, rows.commands, rows.reward, rows.factor,
        )  # fmt: skip
        self.turn_some(generator, (rows.observations, rows.after), rows.commands)
        return rows

    def turn_some(self, generator: np.random.Generator, observations: tuple[Array, ...], commands: Array) -> None:
        """Put a share of rows, drawn by chance, into the mirror, in place: the same rows of each array. Nothing without a mirror."""
        mirror, share = self.mirror, self.mirrored_share
        if mirror is None or share == 0.0:
            return
        chances = generator.random(len(commands))
        for rows in observations:
            kernels.reflect(rows, chances, share, mirror.observation_place, mirror.observation_sign)
        kernels.reflect(commands, chances, share, mirror.command_place, mirror.command_sign)

    def realised(self, copy: int, discount: float, tail: float) -> tuple[float, float, int]:
        """What the critic predicted over the episode of `copy` that is just over, and what came: sums, and how many steps.

        `tail` is the value of the state at which time cut it, 0 after an ending.
        """
        found: tuple[float, float, int] = kernels.realised(
            self.reward,
            self.over,
            self.predicted,
            self.last + copy,
            self.copies,
            self.size // self.copies,
            discount,
            tail,
        )
        return found

    def returns(self, discount: float) -> Array:
        """Discounted returns from every entry on, (steps, copies), oldest first; what time cut goes on as it went on the whole."""
        order = (self.next - self.size + np.arange(self.size)) % self.capacity
        reward = self.reward[order].reshape(-1, self.copies).astype(np.float64)
        over = self.over[order].reshape(-1, self.copies)
        ordinary = reward[over != ENDED]
        later = np.full(self.copies, (ordinary.mean() if len(ordinary) else 0.0) / (1.0 - discount))
        on = later.copy()
        found = np.zeros_like(reward)
        for k in range(len(reward) - 1, -1, -1):
            later = np.where(over[k] == ENDED, 0.0, np.where(over[k] == CUT, on, later))
            later = found[k] = reward[k] + discount * later
        return found

    def surprised(self, indices: Array, errors: Array) -> None:
        """Set the priorities of drawn entries (N,) by the size of their errors (N,)."""
        if self.priority > 0.0:
            values = (np.abs(errors.astype(np.float64)) + 1e-6) ** self.priority
            self.highest = max(self.highest, float(values.max()))
            kernels.set_priorities(self.tree, indices, values)

    def _make_rows(self, count: int) -> Rows:
        wide, narrow = self.observations.shape[1], self.commands.shape[1]

        def make(*shape: int) -> Array:
            return np.zeros(shape, dtype=np.float32)

        return Rows(
            make(count, wide), make(count, wide), make(count, narrow), make(count), make(count), np.zeros(count, dtype=np.int64),
            np.ones(count, dtype=np.float32),
        )  # fmt: skip

    @property
    def nbytes(self) -> int:
        """Memory when full."""
        return sum(a.nbytes for a in (*(getattr(self, name) for name in self._columns), self.tree))

    def keep(self) -> dict[str, Array]:
        """What was taken in so far."""
        kept = {name: getattr(self, name)[: self.size].copy() for name in self._columns}
        return kept | {
            "at": np.array([self.size, self.next]),
            "tree": self.tree.copy(),
            "highest": np.array(self.highest),
        }

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        self.size, self.next = (int(x) for x in kept["at"])
        for name in self._columns:
            getattr(self, name)[: self.size] = kept[name]
        self.tree[...] = kept["tree"]
        self.highest = float(kept["highest"])
