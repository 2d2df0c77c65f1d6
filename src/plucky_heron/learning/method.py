"""The contract that every learning method keeps, and the register of methods.

A method chooses commands, takes in what followed, and improves when it has seen enough. It knows nothing of files,
processes or stop rules. Adding one touches its own file, its test, and one line of `METHODS`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from importlib import import_module
from pathlib import Path
from typing import Any, Protocol

import numpy as np

from plucky_heron.errors import FileError, StateError, did_you_mean
from plucky_heron.files import Settings
from plucky_heron.learning.policy import Policy
from plucky_heron.task.mirror import Mirror
from plucky_heron.task.own_code import load_module
from plucky_heron.task.setpoint_shift import SetpointShift

Array = np.ndarray

METHODS = {
    "ppo": ("plucky_heron.learning.ppo", "ProximalPolicy", "ProximalSettings"),
    "a2c": ("plucky_heron.learning.a2c", "ActorCritic", "ActorCriticSettings"),
    "ddpg": ("plucky_heron.learning.ddpg", "DeterministicPolicyGradient", "DeterministicSettings"),
    "td3": ("plucky_heron.learning.ddpg", "TwinDelayed", "TwinDelayedSettings"),
    "model-based": ("plucky_heron.learning.model_based", "model_based", "ModelBasedSettings"),
    "random search": ("plucky_heron.learning.search", "RandomSearch", "LinearSettings"),
    "cross-entropy": ("plucky_heron.learning.search", "CrossEntropySearch", "CrossEntropySettings"),
    "evolution": ("plucky_heron.learning.search", "EvolutionStrategy", "EvolutionSettings"),
    "sac": ("plucky_heron.learning.sac", "SoftActorCritic", "SoftSettings"),
}


class Judge(Protocol):
    """What is known of reward and endings without learning it; see `task.observed_reward`."""

    every_reward: bool
    every_ending: bool

    def judge(self, before: Array, commands: Array, after: Array) -> tuple[Array, Array]:
        """The known part of the reward (N,), and whether a known ending is met, from observations and commands in SI units."""
        ...


@dataclass(frozen=True)
class Space:
    """What a method must know of a problem.

    Attributes
    ----------
    observation_low, observation_high : (observations,)
        The stated ranges, SI.
    low, high : (actions,)
        Command limits, SI.
    """

    observation_low: Array
    observation_high: Array
    low: Array
    high: Array
    standardised: Array | None = None
    """Which observations may be standardised by what is met, bool (observations,); all, if left out."""
    critic_only: int = 0
    """How many observations, the last ones, are for critics alone."""
    judge: Judge | None = None
    """What is rewarded and where it ends, as far as observations tell."""
    mirror: Mirror | None = None
    """What observations and commands look like with left and right exchanged, where the task says that nothing else changes."""
    shift: SetpointShift | None = None
    """How observations move with the drawn set-points, where they do so in a straight line."""

    @property
    def seen(self) -> int:
        """How many observations, the first ones, the policy is given."""
        return len(self.observation_low) - self.critic_only


@dataclass(frozen=True)
class Experience:
    """What followed one command in every copy, arrays (B, ...).

    Attributes
    ----------
    reward : (B,)
    after : (B, observations)
        Observation after the step, before any restart.
    ended : bool (B,)
        A true ending was met: nothing follows.
    cut : bool (B,)
        Time cut the episode: the value of `after` still counts.
    before : (B, observations)
        Observation at which the command was chosen.
    command : (B, actions)
        What `choose` gave for it, SI.
    setpoints : (B, S), optional
        Those that `Space.shift` names, at the command; given where it is.
    shaping : (B,), optional
        What of `reward` is shaping; given where there is any.
    lost : bool (B,), optional
        What followed is not known, since the simulation gave no finite number. The step teaches nothing: `reward` is 0, `after`
        is `before`, and the episode counts as cut there.
    """

    reward: Array
    after: Array
    ended: Array
    cut: Array
    before: Array | None = None
    command: Array | None = None
    setpoints: Array | None = None
    shaping: Array | None = None
    lost: Array | None = None

    def limited(self, limit: float | None, spread: float = 1.0, penalty: float | None = None) -> Array:
        """The reward over `spread`, the task's own part of it held within `limit`, and not below -`penalty`; what shaping adds is never held.

        Held too, it would not add up to what it must over an episode, and what is best would not stay best.
        """
        reward: Array = self.reward / spread
        if self.shaping is None:
            return held(reward, limit, penalty)
        shaping = self.shaping / spread
        return np.asarray(held(reward - shaping, limit, penalty) + shaping)


def held(reward: Array, limit: float | None, penalty: float | None) -> Array:
    """Rewards held within `limit`, and not below -`penalty`; None holds nothing."""
    low = min((x for x in (limit, penalty) if x is not None), default=None)
    if low is None:
        return reward
    return np.asarray(np.clip(reward, -low, np.inf if limit is None else limit))


class Method(Protocol):
    """A learning method at work on one problem, B copies of an episode at a time.

    What a method must keep (`contract.hold_to_contract` tries all of it on any method):

    1. *Order.* The loop calls `choose`, steps the simulation, and calls `take`, again and again until `ready` says so; then
       `improve`, once for every time that `ready` says so, and on. `policy` and `keep` may be called between any two of these.
    2. *Shapes.* `choose` is given observations (B, n) and gives commands (B, m), float64, SI, finite, in a fresh array;
       beyond the limits is allowed, the simulation clips. B, n and m never change.
    3. *Arrays.* What a method is given it may keep, and must not write to: the loop and it share these arrays. What it gives
       belongs to whoever asked, and the method writes to it no more.
    4. *Episodes.* Where `ended` or `cut`, the next observation in that copy is of a new episode. `ended` is a true ending:
       nothing follows, and its value is zero whatever `after` says. `cut` is time that was up: the value of `after` counts.
       Both at once is an ending.
    5. *Experience.* `take` is given all that belongs to the step, the observation and the command too: no method needs to
       remember them.
    6. *Randomness.* All of it comes from named streams of the seed (`randomness.stream`): the same seed gives the same bits.
    7. *Resumption.* What `keep` gives, put into a fresh method of the same settings by `restore`, goes on bit for bit; arrays
       of numbers or text only, no objects.
    8. *Policy.* `policy` is without exploration, and finished: later learning does not change it.
    9. *Memory.* It does not grow with the steps, beyond what settings state (a replay buffer).
    10. *Figures.* `improve` gives finite numbers by name; those worth showing are declared as `health` of the settings' class.
    11. *Lost steps.* A step that is `lost` teaches nothing, and the episode before it counts as cut.
    12. *Episodes of its own.* A method may have `begin_episodes(idle)`; see `EpisodeChooser`.
    """

    def choose(self, observations: Array) -> Array:
        """Commands (B, actions) in SI units, with exploration."""
        ...

    def take(self, experience: Experience) -> None:
        """Take in what followed the last choice."""
        ...

    def ready(self) -> bool:
        """Whether `improve` may be called."""
        ...

    def improve(self, progress: float) -> dict[str, float]:
        """Learn from what was taken in; `progress` is the share of the budget used. Returns the health figures."""
        ...

    def policy(self) -> Policy:
        """The present policy without exploration."""
        ...

    def keep(self) -> dict[str, Array]:
        """All state, for a checkpoint."""
        ...

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        ...


class EpisodeChooser(Protocol):
    """What a method has besides, that says itself which episodes are begun, and in which copies: a search compares on equal starts."""

    def begin_episodes(self, idle: Array) -> tuple[Array, Array]:
        """Copies (K,) that begin an episode now, and the numbers (K,) of these episodes; of copies `idle` (mask, B).

        Called before the first `choose`, and after each `take` and `improve`. A copy that begins none stands still: it is given to `choose` and `take` as before,
        with a reward of 0, and nothing that it does counts as a step.
        """
        ...


@dataclass(frozen=True)
class OwnMethod:
    """A method from a project's own file: its settings, what makes it, and the hash of the file that was trusted."""

    settings: type[Settings]
    make: Callable[..., Method]
    digest: str


def load_own_method(folder: Path, file: str, source: Path | str) -> OwnMethod:
    """Read a project's own method: a trusted file with a class `Settings` and a function `make`; see docs/methods.md.

    Raises
    ------
    UntrustedError
        The file was not trusted as it is.
    FileError
        It does not exist, does not run, or lacks one of the two.
    """
    path, digest, module = load_module(folder, file, source, "method")
    schema, make = getattr(module, "Settings", None), getattr(module, "make", None)
    if not (isinstance(schema, type) and issubclass(schema, Settings)):
        raise FileError(
            path, "Settings", None, "a method needs a class Settings, made from plucky_heron.files.Settings"
        )
    if not callable(make):
        raise FileError(path, "make", None, "a method needs a function make(settings, space, copies, seed, threads)")
    return OwnMethod(schema, make, digest)


def is_own(method: str) -> bool:
    """Whether a method's name is that of a project's file."""
    return method.endswith(".py")


def settings_class(method: str, own: OwnMethod | None = None) -> type[Settings]:
    """The schema of a method's settings.

    Raises
    ------
    StateError
        No such method.
    """
    if own is not None:
        return own.settings
    found: type[Settings] = getattr(_module(method), METHODS[method][2])
    return found


def make_method(
    method: str,
    settings: Settings,
    space: Space,
    copies: int,
    seed: int,
    threads: int = 1,
    own: OwnMethod | None = None,
) -> Method:
    """A method ready to learn from `copies` episodes at a time, on up to `threads` threads; `own` is that of a project's file."""
    if own is not None:
        return own.make(settings, space, copies, seed, threads)
    made: Method = getattr(_module(method), METHODS[method][1])(settings, space, copies, seed, threads)
    return made


def _module(method: str) -> Any:
    if method not in METHODS:
        raise StateError(f"no method {method!r}; {did_you_mean(method, METHODS)}")
    return import_module(METHODS[method][0])
