"""Updates of PPO and SAC beside a plain loop of the same mathematics in PyTorch, as ratios measured in turns in one run.

The loop is what one writes first: modules, distributions, automatic gradients, one optimiser for each network. Before anything is
timed, one update from equal weights on equal rows must give equal weights in both.

Run: ./heron --help >/dev/null && .venv/bin/pip install torch==2.13.0 && OPENBLAS_NUM_THREADS=1 .venv/bin/python benchmarks/plain_loop.py
[--threads 2]   (threads of the plain loop; ours has one)
"""

from __future__ import annotations

import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import argparse
import importlib.util
import math
import sys
import time
from collections.abc import Callable, Sequence

import numpy as np

if "--smoke" in sys.argv and importlib.util.find_spec("torch") is None:
    # the plain loop is not part of the set-up: what is ours of it is tried all the same
    from plucky_heron.learning.method import Space as _Space
    from plucky_heron.learning.method import make_method as _make
    from plucky_heron.learning.method import settings_class as _settings

    for _method in ("ppo", "sac"):
        _wide = np.ones(10)
        _make(_method, _settings(_method)(), _Space(-_wide, _wide, -_wide[:2], _wide[:2]), 64, 1)
    print("without PyTorch: both learners are made, nothing is compared")
    raise SystemExit(0)

import torch
from torch import nn
from torch.distributions import Normal

from plucky_heron.learning.actor_critic import LEAST_LOG_SPREAD, MOST_LOG_SPREAD, Minibatch
from plucky_heron.learning.method import Experience, Space
from plucky_heron.learning.network import Network
from plucky_heron.learning.ppo import ProximalPolicy, ProximalSettings
from plucky_heron.learning.sac import SoftActorCritic, SoftSettings
from plucky_heron.learning.squashed import LEAST_LOG_SPREAD as LEAST_SOFT
from plucky_heron.learning.squashed import MOST_LOG_SPREAD as MOST_SOFT

OBSERVATIONS, ACTIONS, ROWS = 10, 2, 4096
Array = np.ndarray


def space() -> Space:
    """As wide as the hoist's."""
    wide, narrow = np.ones(OBSERVATIONS), np.ones(ACTIONS)
    return Space(-wide, wide, -narrow, narrow)


def module(network: Network, parameters: Array) -> nn.Sequential:
    """The same network in modules."""
    bends = {"tanh": nn.Tanh, "relu": nn.ReLU}
    parts: list[nn.Module] = []
    for weights, biases in network.layers(parameters):
        layer = nn.Linear(*weights.shape)
        with torch.no_grad():
            layer.weight.copy_(torch.from_numpy(weights.T.copy()))
            layer.bias.copy_(torch.from_numpy(biases.copy()))
        parts += [layer, bends[network.activation]()]
    return nn.Sequential(*parts[:-1])


def flat(network: nn.Module) -> Array:
    """Weights and biases in our order."""
    pieces = [p.detach().numpy() for p in network.parameters()]
    return np.concatenate([piece.T.ravel() for piece in pieces])


def optimiser(parameters: Sequence[nn.Parameter], rate: float) -> torch.optim.Adam:
    """Adam with our constants."""
    return torch.optim.Adam(parameters, lr=rate, eps=1e-7)


# --- PPO -------------------------------------------------------------------------------------------------------------


class PlainProximal:
    """PPO's gradient step."""

    def __init__(self, learner: ProximalPolicy) -> None:
        loss = learner.loss
        self.settings = learner.settings
        self.actor = module(loss.actor, learner.parameters[loss.actor_part])
        self.critic = module(loss.critic, learner.parameters[loss.critic_part])
        self.log_spread = nn.Parameter(torch.from_numpy(learner.parameters[loss.spread_part].copy()))
        self.all = [*self.actor.parameters(), self.log_spread, *self.critic.parameters()]
        self.adam = optimiser(self.all, self.settings.learning_rate)

    def step(self, rows: tuple[torch.Tensor, ...]) -> None:
        """One minibatch."""
        settings = self.settings
        inputs, drawn, old_density, advantage, returns = rows
        distribution = Normal(self.actor(inputs), self.log_spread.exp())
        density = distribution.log_prob(drawn).sum(-1)
        ratio = (density - old_density).exp()
        limit = settings.ratio_limit
        assert limit is not None
        held = ratio.clamp(1 - limit, 1 + limit)
        policy_loss = -torch.min(ratio * advantage, held * advantage).mean()
        value_loss = 0.5 * (self.critic(inputs).squeeze(-1) - returns).square().mean()
        entropy = distribution.entropy().sum(-1).mean()
        loss = policy_loss + settings.value_weight * value_loss - settings.entropy_weight * entropy
        self.adam.zero_grad()
        loss.backward()
        nn.utils.clip_grad_norm_(self.all, settings.gradient_limit)
        self.adam.step()
        with torch.no_grad():
            self.log_spread.clamp_(LEAST_LOG_SPREAD, MOST_LOG_SPREAD)


def proximal(width: int, minibatch: int) -> tuple[Callable[[], None], Callable[[], None], int]:
    """A pass over 4096 shuffled rows, ours and plain, and how many gradient steps that is."""
    settings = ProximalSettings(hidden=(width, width), minibatch=minibatch, steps_per_update=ROWS, kl_limit=None)
    learner = ProximalPolicy(settings, space(), 64, 1)
    generator = np.random.default_rng(1)

    def normal(*shape: int) -> Array:
        return generator.standard_normal(shape).astype(np.float32)

    rows = Minibatch(
        normal(ROWS, OBSERVATIONS), normal(ROWS, ACTIONS), normal(ROWS) - 3, normal(ROWS), normal(ROWS), normal(ROWS)
    )
    plain = PlainProximal(learner)
    tensors = tuple(
        torch.from_numpy(x) for x in (rows.inputs, rows.actions, rows.log_density, rows.advantage, rows.returns)
    )
    learner.step(rows.part(0, minibatch), settings.learning_rate)
    plain.step(tuple(t[:minibatch] for t in tensors))
    loss = learner.loss
    same(learner.parameters[loss.actor_part], flat(plain.actor), settings.learning_rate)
    same(learner.parameters[loss.critic_part], flat(plain.critic), settings.learning_rate)

    def ours() -> None:
        shuffled = learner.shuffled(rows)
        for first in range(0, ROWS, minibatch):
            learner.step(shuffled.part(first, first + minibatch), settings.learning_rate)

    def other() -> None:
        order = torch.randperm(ROWS)
        for first in range(0, ROWS, minibatch):
            chosen = order[first : first + minibatch]
            plain.step(tuple(t[chosen] for t in tensors))

    return ours, other, ROWS // minibatch


# --- SAC -------------------------------------------------------------------------------------------------------------


class PlainSoft:
    """SAC's update."""

    def __init__(self, learner: SoftActorCritic) -> None:
        self.settings = learner.settings
        self.actor = module(learner.actor, learner.parameters)
        self.critics = [module(c.network, c.parameters) for c in learner.critics]
        self.targets = [module(c.network, c.target) for c in learner.critics]
        self.log_weight = nn.Parameter(torch.from_numpy(learner.log_weight.copy()))
        self.wanted = learner.wanted_entropy
        s = self.settings
        self.actor_adam = optimiser(list(self.actor.parameters()), s.actor_learning_rate)
        self.critic_adams = [optimiser(list(c.parameters()), s.learning_rate) for c in self.critics]
        self.weight_adam = optimiser([self.log_weight], s.entropy_learning_rate)

    def draw(self, inputs: torch.Tensor, noise: torch.Tensor) -> tuple[torch.Tensor, torch.Tensor]:
        """Squashed commands and their log-density."""
        mean, raw = self.actor(inputs).chunk(2, dim=-1)
        log_spread = 0.5 * (LEAST_SOFT + MOST_SOFT) + 0.5 * (MOST_SOFT - LEAST_SOFT) * torch.tanh(raw)
        distribution = Normal(mean, log_spread.exp())
        drawn = mean + log_spread.exp() * noise
        squashing = 2.0 * (math.log(2.0) - drawn - nn.functional.softplus(-2.0 * drawn))
        return torch.tanh(drawn), (distribution.log_prob(drawn) - squashing).sum(-1)

    def step(self, rows: tuple[torch.Tensor, ...], noise: tuple[torch.Tensor, torch.Tensor]) -> None:
        """One minibatch."""
        observations, commands, reward, after, factor = rows
        weight = self.log_weight.exp().item()
        with torch.no_grad():
            then, density = self.draw(after, noise[0])
            joined = torch.cat([after, then], -1)
            worth = torch.min(*(t(joined).squeeze(-1) for t in self.targets)) - weight * density
            wanted = reward + factor * worth
        joined = torch.cat([observations, commands], -1)
        for critic, adam in zip(self.critics, self.critic_adams, strict=True):
            loss = 0.5 * (critic(joined).squeeze(-1) - wanted).square().mean()
            adam.zero_grad()
            loss.backward()
            adam.step()
        chosen, density = self.draw(observations, noise[1])
        joined = torch.cat([observations, chosen], -1)
        loss = (weight * density - torch.min(*(c(joined).squeeze(-1) for c in self.critics))).mean()
        self.actor_adam.zero_grad()
        loss.backward()
        self.actor_adam.step()
        loss = -(self.log_weight * (density.detach() + self.wanted)).mean()
        self.weight_adam.zero_grad()
        loss.backward()
        self.weight_adam.step()
        with torch.no_grad():
            for critic, target in zip(self.critics, self.targets, strict=True):
                for here, there in zip(critic.parameters(), target.parameters(), strict=True):
                    there.lerp_(here, self.settings.target_mix)


def soft(width: int, minibatch: int) -> tuple[Callable[[], None], Callable[[], None], int]:
    """Sixteen updates from a buffer of 4096 entries, ours and plain."""
    settings = SoftSettings(
        hidden=(width, width), minibatch=minibatch, replay_capacity=ROWS, observation_standardisation=False, reward_standardisation=False
    )  # fmt: skip
    learner = SoftActorCritic(settings, space(), 64, 1)
    generator = np.random.default_rng(1)
    nobody = np.zeros(64)
    for _ in range(ROWS // 64):
        before, after = generator.uniform(-1, 1, (2, 64, OBSERVATIONS))
        then = Experience(generator.standard_normal(64), after, nobody > 1, nobody > 1)
        learner.replay.add(before, generator.uniform(-1, 1, (64, ACTIONS)), nobody, then)
    plain = PlainSoft(learner)
    replay = learner.replay
    kept = tuple(torch.from_numpy(x) for x in (replay.observations, replay.commands, replay.reward, replay.after))
    goes_on = torch.from_numpy((replay.over == 0).astype(np.float32))

    def rows_of(chosen: torch.Tensor) -> tuple[torch.Tensor, ...]:
        return (*(k[chosen] for k in kept), settings.discount * goes_on[chosen])

    drawn = replay.draw(minibatch, np.random.default_rng(2), 1, settings.discount)
    noise = generator.standard_normal((2, minibatch, ACTIONS)).astype(np.float32)
    plain.step(rows_of(torch.from_numpy(drawn.indices)), (torch.from_numpy(noise[0]), torch.from_numpy(noise[1])))
    learner.prepare(drawn)
    learner.update_with(drawn, noise)
    same(learner.critics[0].parameters, flat(plain.critics[0]), settings.learning_rate)
    same(learner.critics[1].target, flat(plain.targets[1]), settings.learning_rate)
    same(learner.parameters, flat(plain.actor), settings.actor_learning_rate)

    def ours() -> None:
        for _ in range(16):
            learner.learn_once()

    def other() -> None:
        for _ in range(16):
            chosen = torch.randint(0, ROWS, (minibatch,))
            plain.step(rows_of(chosen), (torch.randn(minibatch, ACTIONS), torch.randn(minibatch, ACTIONS)))

    return ours, other, 16


# --- comparing -------------------------------------------------------------------------------------------------------


def same(ours: Array, theirs: Array, rate: float) -> None:
    """Stop unless both moved alike: Adam's first step is the step size times the gradient's sign, so few weights may differ by rounding."""
    apart = np.abs(ours - theirs) > 0.02 * rate
    if apart.mean() > 0.01:
        raise SystemExit(f"not the same mathematics: {100 * apart.mean():.1f} % of the weights differ after one update")


def products(name: str, width: int, minibatch: int) -> tuple[Callable[[], None], int]:
    """The matrix products of one update and nothing else, as NumPy's BLAS does them: what no program on this BLAS can do without."""
    forward, down, up = 0, 1, 2  # what a pass needs: values, slopes by inputs, slopes by weights

    def network(inputs: int, outputs: int, passes: tuple[int, ...]) -> list[tuple[int, int, int]]:
        found = []
        for number, (one, next_) in enumerate(((inputs, width), (width, width), (width, outputs))):
            for kind in passes:
                if kind == down and number == 0 and up in passes:
                    continue  # slopes by the inputs of a network that learns are not needed
                found.append(
                    {forward: (minibatch, one, next_), down: (minibatch, next_, one), up: (one, minibatch, next_)}[kind]
                )
        return found

    learns, joined = (forward, down, up), OBSERVATIONS + ACTIONS
    if name == "PPO":
        shapes = network(OBSERVATIONS, ACTIONS, learns) + network(OBSERVATIONS, 1, learns)
    else:
        critics = 2 * (
            network(joined, 1, (forward,)) + network(joined, 1, learns) + network(joined, 1, (forward, down))
        )
        shapes = network(OBSERVATIONS, 2 * ACTIONS, (forward,)) + network(OBSERVATIONS, 2 * ACTIONS, learns) + critics
    pairs = [
        (np.ones((m, k), np.float32), np.ones((k, n), np.float32), np.empty((m, n), np.float32)) for m, k, n in shapes
    ]

    def run() -> None:
        for left, right, out in pairs:
            np.matmul(left, right, out=out)

    return run, 1


def best_times(pieces: Sequence[tuple[Callable[[], None], int]]) -> list[float]:
    """Seconds of one update by each, in turns of half a second: the best of six."""
    best = [math.inf] * len(pieces)
    for _ in range(6):
        for number, (run, count) in enumerate(pieces):
            began, rounds = time.perf_counter(), 0
            while time.perf_counter() - began < 0.5:
                run()
                rounds += 1
            best[number] = min(best[number], (time.perf_counter() - began) / rounds / count)
    return best


CASES = [
    ("PPO", proximal, 64, 64, 6.0), ("PPO", proximal, 256, 256, 1.5), ("PPO", proximal, 512, 256, None),
    ("SAC", soft, 64, 64, 5.0), ("SAC", soft, 64, 256, None), ("SAC", soft, 256, 256, 1.3), ("SAC", soft, 512, 256, None),
]  # fmt: skip


def main() -> None:
    """A table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--threads", type=int, default=1)
    parser.add_argument("--smoke", action="store_true", help="a second or two of it")
    given = parser.parse_args()
    threads, cases = given.threads, CASES[:1] if given.smoke else CASES
    torch.set_num_threads(threads)
    print(f"PyTorch {torch.__version__} with {threads} thread{'s' if threads > 1 else ''}, ours with one")
    print("| method | network | minibatch | ours | plain loop | ratio | wanted | products alone | ratio at most |")
    print("|---|---|---|---|---|---|---|---|---|")
    for name, make, width, minibatch, wanted in cases:
        one, other, count = make(width, minibatch)
        ours, plain, least = best_times([(one, count), (other, count), products(name, width, minibatch)])
        print(
            f"| {name} | {width}x{width} | {minibatch} | {1e6 * ours:.0f} us | {1e6 * plain:.0f} us | {plain / ours:.2f} | {wanted or 'stated'} | {1e6 * least:.0f} us | {plain / least:.2f} |",
            flush=True,
        )


if __name__ == "__main__":
    main()
