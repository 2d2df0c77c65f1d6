"""Whether a method keeps its contract (`method.Method`): the laws tried on any method, for our tests and for authors of methods of their own.

>>> hold_to_contract(lambda seed: make_method("ppo", ProximalSettings(), space, 16, seed), space, 16)   # doctest: +SKIP
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

import numpy as np

from plucky_heron.learning.health import HealthFigure
from plucky_heron.learning.method import Experience, Method, Space

Array = np.ndarray
MakeMethod = Callable[[int], Method]
"""Makes a fresh method from a seed."""

MOST_STEPS = 50_000
"""Steps after which a method that has not been ready as often as it should is given up."""


class ContractError(AssertionError):
    """A law of the contract that a method breaks; names the law by its number."""


@dataclass(frozen=True)
class World:
    """A made-up process with episodes of its own: what a method is given depends on its commands and on the seed alone."""

    space: Space
    copies: int
    seed: int = 0
    lost_share: float = 0.0
    """Of steps in which what followed is not known."""

    def steps(self, method: Method, count: int) -> Iterator[tuple[Array, Array, Experience]]:
        """Observation (B, observations), command (B, commands) and what followed, `count` times; `take` is for whoever goes through them."""
        random = np.random.default_rng(self.seed)
        low, high = self.space.observation_low, self.space.observation_high
        middle, half = 0.5 * (low + high), 0.5 * (high - low)
        mix = random.standard_normal((len(self.space.low), len(low))) / max(1, len(self.space.low))
        state = random.uniform(-1.0, 1.0, (self.copies, len(low)))
        age = random.integers(0, 12, self.copies)
        begin = getattr(method, "begin_episodes", None)
        going = np.full(self.copies, begin is None)
        for _ in range(count):
            if begin is not None:
                copies, numbers = begin(~going)
                right = len(copies) == len(numbers) == len(np.unique(copies)) and not going[copies].any()
                _require(
                    right,
                    12,
                    f"episodes {numbers} begin in copies {copies}, of which some are not idle, or there twice",
                )
                for copy, number in zip(copies, numbers, strict=True):
                    state[copy] = np.random.default_rng([self.seed, int(number)]).uniform(-1.0, 1.0, len(low))
                going[copies], age[copies] = True, 0
            seen = middle + half * state
            shown = seen.copy()
            command = method.choose(seen)
            _require(np.array_equal(shown, seen), 3, "choose wrote to the observations that it was given")
            wanted = (self.copies, len(self.space.low))
            _require(
                isinstance(command, np.ndarray) and command.shape == wanted,
                2,
                f"choose gave {np.shape(command)}, wanted {wanted}",
            )
            share = np.clip((command - self.space.low) / (self.space.high - self.space.low), 0.0, 1.0) * 2.0 - 1.0
            state = np.clip(
                0.9 * state + 0.1 * np.tanh(share @ mix) + 0.05 * random.standard_normal(state.shape), -1.0, 1.0
            )
            age += going
            reward = np.where(going, -np.square(state).sum(axis=1), 0.0)
            lost = (random.random(self.copies) < self.lost_share) & going
            ended, cut = (random.random(self.copies) < 0.02) & going & ~lost, ((age >= 12) & going) | lost
            reward[lost] = 0.0
            after = np.where(lost[:, None], seen, middle + half * state)
            yield (
                seen,
                command,
                Experience(reward, after, ended, cut, seen, command, lost=lost if self.lost_share else None),
            )
            over = ended | cut
            if begin is not None:
                going &= ~over
            state = np.where(over[:, None], random.uniform(-1.0, 1.0, state.shape), state)
            age[over] = 0


def learn(
    method: Method, world: World, rounds: int, change: Callable[[Experience], Experience] | None = None
) -> dict[str, float]:
    """Rounds of acting and improving as the loop of a run does it; the health figures of the last one."""
    health: dict[str, float] = {}
    done = 0
    for _, _, experience in world.steps(method, MOST_STEPS):
        method.take(change(experience) if change is not None else experience)
        while method.ready():
            health = method.improve(min(1.0, done / rounds))
            done += 1
            if done == rounds:
                return health
    raise ContractError(
        f"law 1: after {MOST_STEPS} steps of {world.copies} copies it was ready {done} times, wanted {rounds}"
    )


def hold_to_contract(
    make: MakeMethod,
    space: Space,
    copies: int,
    *,
    rounds: int = 4,
    health: tuple[HealthFigure, ...] = (),
    learns_what_follows: bool = False,
    most_kept: int = 1_000_000,
) -> None:
    """Try every law of the contract on a method.

    Parameters
    ----------
    make
        Makes a fresh method from a seed; small settings keep this short.
    space, copies
        What it is made for.
    rounds
        Calls of `improve` in each trial.
    health
        The figures that it declares.
    learns_what_follows
        Whether it learns observations themselves (a model does): what stands behind a true ending then counts.
    most_kept
        Bytes that what it keeps may come to while it still grows.

    Raises
    ------
    ContractError
        With the number of the law, and what was found.
    """
    world = World(space, copies)
    _shapes(make(1), world)
    _arrays(make(1), world)
    _randomness(make, world, rounds)
    _resumption(make, world, rounds)
    _policy(make(1), world, rounds)
    _figures(make(1), world, rounds, health)
    _memory(make(1), world, rounds, most_kept)
    if not learns_what_follows:
        _endings(make, world, rounds)
    _lost_steps(make, world, rounds)


def _require(holds: bool, law: int, text: str) -> None:
    if not holds:
        raise ContractError(f"law {law}: {text}")


def _shapes(method: Method, world: World) -> None:
    before: Array | None = None
    for _, command, experience in world.steps(method, 5):
        good = command.dtype == np.float64 and bool(np.isfinite(command).all())
        _require(good, 2, f"choose gave {command.dtype}, or what is not finite")
        _require(before is None or not np.shares_memory(before, command), 2, "choose gave an array that it gave before")
        method.take(experience)
        before = command


def _arrays(method: Method, world: World) -> None:
    for seen, command, experience in world.steps(method, 20):
        given = (seen, command, experience.reward, experience.after, experience.ended, experience.cut)
        kept = [array.copy() for array in given]
        method.take(experience)
        while method.ready():
            method.improve(0.1)
        _require(
            all(np.array_equal(a, b) for a, b in zip(given, kept, strict=True)),
            3,
            "the method wrote to an array that it was given",
        )


def _state(method: Method) -> dict[str, Array]:
    found = {name: np.array(values) for name, values in method.keep().items()}
    _require(all(array.dtype != np.dtype(object) for array in found.values()), 7, "keep gave an array of objects")
    return found


def _same(one: dict[str, Array], two: dict[str, Array]) -> str:
    """The first entry that differs, "" if none does."""
    for name in sorted(one.keys() | two.keys()):
        if name not in one or name not in two:
            return name
        a, b = one[name], two[name]
        if a.shape != b.shape or a.dtype != b.dtype or a.tobytes() != b.tobytes():
            return name
    return ""


def _randomness(make: MakeMethod, world: World, rounds: int) -> None:
    states = []
    for _ in range(2):
        method = make(5)
        learn(method, world, rounds)
        states.append(_state(method))
    differs = _same(*states)
    _require(not differs, 6, f"the same seed gave other bits in {differs!r}")


def _resumption(make: MakeMethod, world: World, rounds: int) -> None:
    method = make(3)
    learn(method, world, max(1, rounds // 2))
    kept = _state(method)
    again = make(4)  # another seed: everything must come out of what was kept
    again.restore({name: array.copy() for name, array in kept.items()})
    differs = _same(kept, _state(again))
    _require(not differs, 7, f"restore did not bring back {differs!r}")
    # episodes begin anew in both, as where a loop goes on from a checkpoint of its own
    for one in (method, again):
        learn(one, replace(world, seed=9), rounds)
    differs = _same(_state(method), _state(again))
    _require(not differs, 7, f"after a resumption {differs!r} went on with other bits")


def _policy(method: Method, world: World, rounds: int) -> None:
    learn(method, world, rounds)
    policy = method.policy()
    seen = np.random.default_rng(2).uniform(
        world.space.observation_low, world.space.observation_high, (7, len(world.space.observation_low))
    )
    commands = policy.commands(seen)
    _require(
        commands.shape == (7, len(world.space.low)) and bool(np.isfinite(commands).all()),
        8,
        "the policy's commands have another shape, or are not finite",
    )
    low, high = world.space.low.astype(np.float32), world.space.high.astype(np.float32)
    _require(bool(((commands >= low) & (commands <= high)).all()), 8, "the policy's commands leave the limits")
    learn(method, replace(world, seed=4), rounds)
    _require(np.array_equal(commands, policy.commands(seen)), 8, "later learning changed a policy that was given away")


def _figures(method: Method, world: World, rounds: int, health: tuple[HealthFigure, ...]) -> None:
    found = learn(method, world, rounds)
    _require(
        all(isinstance(v, float | int) and np.isfinite(v) for v in found.values()),
        10,
        f"a figure is no finite number: {found}",
    )
    lacking = [figure.key for figure in health if figure.key not in found]
    _require(not lacking, 10, f"declared and not given: {', '.join(lacking)}")


def _memory(method: Method, world: World, rounds: int, most: int) -> None:
    sizes = []
    for k in range(3):
        learn(method, replace(world, seed=k), 4 * rounds)
        sizes.append(sum(array.nbytes for array in _state(method).values()))
    text = f"what is kept grows: {sizes} bytes after {4 * rounds}, {8 * rounds}, {12 * rounds} rounds; allowed {most}"
    _require(sizes[2] <= most or sizes[2] - sizes[1] <= 4096, 9, text)


def _endings(make: MakeMethod, world: World, rounds: int) -> None:
    """What stands behind a true ending never counts; what stands behind a time that is up may."""

    def other(experience: Experience) -> Experience:
        after = experience.after.copy()
        after[experience.ended] = 0.5 * (world.space.observation_low + world.space.observation_high)
        return replace(experience, after=after)

    policies = []
    for change in (None, other):
        method = make(2)
        learn(method, world, rounds, change)
        policies.append(method.policy())
    _require(
        policies[0].parameters.tobytes() == policies[1].parameters.tobytes(),
        4,
        "the policy depends on what stands behind a true ending",
    )


def _lost_steps(make: MakeMethod, world: World, rounds: int) -> None:
    """What stands behind a lost step never counts, nor does the step itself break anything."""

    def other(experience: Experience) -> Experience:
        assert experience.lost is not None
        after = experience.after.copy()
        after[experience.lost] = 0.5 * (world.space.observation_low + world.space.observation_high)
        return replace(experience, after=after)

    policies = []
    for change in (None, other):
        method = make(2)
        found = learn(method, replace(world, lost_share=0.02), rounds, change)
        _require(
            all(np.isfinite(v) for v in found.values()), 11, f"after lost steps a figure is no finite number: {found}"
        )
        policies.append(method.policy().parameters)
    _require(bool(np.isfinite(policies[0]).all()), 11, "after lost steps the policy is not finite")
    _require(policies[0].tobytes() == policies[1].tobytes(), 11, "the policy depends on what stands behind a lost step")
