"""The same seen in a mirror: which observations and commands change sign or places when left and right do.

A machine whose two sides are alike does in the mirror what its mirrored commands bring about; what it met once it has then met
twice (rows of a replay buffer, reflected: Lin et al. 2020, "Invariant transform experience replay"). The claim is the task's, so it
stands with its observations and actions; the shakedown looks at what it can see of it.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from plucky_heron.errors import FileError, did_you_mean
from plucky_heron.task.commanding import Action, Command
from plucky_heron.task.observing import Entry, Observation
from plucky_heron.task.schema import Task

Array = np.ndarray

NEGATED = "negated"


@dataclass(frozen=True)
class Mirror:
    """What rows look like in the mirror: number k there is `sign[k]` times number `place[k]` here.

    Attributes
    ----------
    observation_place, command_place : int (observations,), (actions,)
    observation_sign, command_sign : float32, the same shapes
    """

    observation_place: Array
    observation_sign: Array
    command_place: Array
    command_sign: Array

    def observations(self, rows: Array) -> Array:
        """Observations (N, observations) in the mirror."""
        return np.asarray(rows[:, self.observation_place] * self.observation_sign)

    def commands(self, rows: Array) -> Array:
        """Commands (N, actions), as shares of their ranges or in SI units, in the mirror."""
        return np.asarray(rows[:, self.command_place] * self.command_sign)


def mirror_of(task: Task, entries: tuple[Entry, ...], commands: tuple[Command, ...], source: str) -> Mirror | None:
    """The mirror that a task states; None where nothing is stated.

    Parameters
    ----------
    entries, commands
        The rows that its observations and actions come to.
    source
        The task's file, for errors.

    Raises
    ------
    FileError
        A partner is unknown, does not name the entry back, or is not of its kind or range.
    """
    if not (any(o.mirrored for o in task.observations) or any(a.mirrored for a in task.actions)):
        return None

    def observation(number: int) -> tuple[list[int], list[tuple[object, ...]]]:
        rows = [k for k, e in enumerate(entries) if e.source == number]
        kinds: list[tuple[object, ...]] = [
            (e.shape, e.samples_ago, e.si, e.critic_only, e.clip) for e in (entries[k] for k in rows)
        ]
        return rows, kinds

    def action(number: int) -> tuple[list[int], list[tuple[object, ...]]]:
        rows = [k for k, c in enumerate(commands) if c.action == number]
        kinds: list[tuple[object, ...]] = [
            (c.choice, c.unit, c.increment, c.rate_limit, c.smoothing) for c in (commands[k] for k in rows)
        ]
        return rows, kinds

    places = _signed(task.observations, observation, source, "observations")
    turned = _signed(task.actions, action, source, "actions")
    for k, (place, sign) in places.items():
        here, there = entries[k], entries[place]
        if here.clip and (here.low, here.high) != _range(there, sign):
            _refuse(source, f"observations.{here.name}.range", (here.low, here.high), _range(there, sign), there.name)
    for k, (place, sign) in turned.items():
        mine, other = commands[k], commands[place]
        if (mine.low, mine.high) != _range(other, sign):
            _refuse(source, f"actions.{mine.name}.limits", (mine.low, mine.high), _range(other, sign), other.name)
    signs = [1.0 if entries[k].shape == "cosine" else places[k][1] for k in range(len(entries))]
    return Mirror(
        np.array([places[k][0] for k in range(len(entries))]), np.array(signs, dtype=np.float32),
        np.array([turned[k][0] for k in range(len(commands))]), np.array([turned[k][1] for k in range(len(commands))], dtype=np.float32),
    )  # fmt: skip


def _range(of: Entry | Command, sign: float) -> tuple[float, float]:
    return (of.low, of.high) if sign > 0.0 else (-of.high, -of.low)


def _refuse(source: str, key: str, given: tuple[float, float], wanted: tuple[float, float], name: str) -> None:
    raise FileError(
        source,
        key,
        list(given),
        f"in the mirror it stands for {name}, which wants {wanted[0]:g} to {wanted[1]:g} (SI) here",
    )


def _partner(entry: Observation | Action) -> tuple[str, float]:
    """Whose place an entry takes in the mirror, and with which sign."""
    first, _, rest = entry.mirrored.strip().partition(" ")
    if first == NEGATED:
        return rest.strip() or entry.name, -1.0
    return entry.mirrored.strip() or entry.name, 1.0


def _signed(
    given: Sequence[Observation | Action], rows_of: Callable[[int], tuple[list[int], list[tuple[object, ...]]]], source: str, label: str
) -> dict[int, tuple[int, float]]:  # fmt: skip
    """Place and sign of every number of a row, by the partners that its entries name."""
    found = {e.name: _partner(e) for e in given}
    numbers = {e.name: number for number, e in enumerate(given)}
    places: dict[int, tuple[int, float]] = {}
    for entry in given:
        other, sign = found[entry.name]
        key = f"{label}.{entry.name}.mirrored"
        if other not in found:
            raise FileError(
                source,
                key,
                entry.mirrored,
                f'say "{NEGATED}", the name of another, or both; {did_you_mean(other, found)}',
            )
        if found[other] != (entry.name, sign):
            way = f"{NEGATED} {entry.name}" if sign < 0.0 else entry.name
            raise FileError(
                source,
                f"{label}.{other}.mirrored",
                next(e.mirrored for e in given if e.name == other),
                f'must be "{way}", since that names it as its other side',
            )
        mine, kinds = rows_of(numbers[entry.name])
        theirs, others = rows_of(numbers[other])
        if kinds != others:
            raise FileError(
                source,
                key,
                entry.mirrored,
                f"{other} is of another kind: both sides need the same width, unit, form and delays",
            )
        places |= {k: (place, sign) for k, place in zip(mine, theirs, strict=True)}
    return places
