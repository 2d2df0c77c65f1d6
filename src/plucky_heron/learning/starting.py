"""Starting a method from what another run has learned: policy, critics and statistics, matched by the names of observations and commands."""

from __future__ import annotations

import io
import json
import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from plucky_heron.errors import FileError, StateError
from plucky_heron.files import read_arrays, write_whole
from plucky_heron.learning.actor_critic import LEAST_LOG_SPREAD, MOST_LOG_SPREAD
from plucky_heron.learning.inputs import Affine, Inputs
from plucky_heron.learning.method import Method
from plucky_heron.learning.network import Network
from plucky_heron.learning.off_policy import OffPolicy
from plucky_heron.learning.on_policy import OnPolicy
from plucky_heron.learning.policy import Policy
from plucky_heron.learning.residual import Residual
from plucky_heron.learning.sac import SoftActorCritic
from plucky_heron.learning.squashed import spread_bias

Array = np.ndarray
LEAST_COUNT = 10_000.0
"""Rows that input statistics count for where it is not known of how many they are."""


@dataclass(frozen=True)
class CriticPart:
    """A critic's network and its weights, with the map of its inputs."""

    sizes: tuple[int, ...]
    activation: str
    normalised: bool
    parameters: Array


@dataclass(frozen=True)
class Source:
    """What a run can start from.

    Attributes
    ----------
    run, step
        Whose policy it is.
    policy
        The policy that is started from.
    observations, commands
        Names of what critics see (the policy is given the first of them), and of what is commanded.
    method
        Its method.
    fingerprint
        Of the problem that it learned on.
    spread
        Standard deviation of a fresh draw, as a share of half the range, when it was last trained; None where not known.
    entropy_weight
        Of soft methods, when it was last trained.
    offset, scale : (observations,)
        Map of inputs, of all observations; empty where not known.
    seen, paid
        Kept statistics of observations and returns; empty where not known.
    critics
        Its critics; none where they are not kept.
    """

    run: int
    step: int
    policy: Policy
    observations: tuple[str, ...]
    commands: tuple[str, ...]
    method: str
    fingerprint: str = ""
    spread: float | None = None
    entropy_weight: float | None = None
    offset: Array = field(default_factory=lambda: np.zeros(0))
    scale: Array = field(default_factory=lambda: np.zeros(0))
    count: float = 0.0
    paid: Array = field(default_factory=lambda: np.zeros(0))
    critics: tuple[CriticPart, ...] = ()

    def save(self, folder: Path) -> None:
        """Write it as two files without objects: ``start.npz`` and ``start-policy.npz``."""
        facts: dict[str, Any] = {
            "run": self.run, "step": self.step, "observations": self.observations, "commands": self.commands, "method": self.method, "fingerprint": self.fingerprint, "spread": self.spread, "entropy_weight": self.entropy_weight,
            "count": self.count, "critics": [{"sizes": c.sizes, "activation": c.activation, "normalised": c.normalised} for c in self.critics],
        }  # fmt: skip
        arrays = {f"critic{k}": c.parameters for k, c in enumerate(self.critics)}
        out = io.BytesIO()
        note = np.frombuffer(json.dumps(facts).encode(), dtype=np.uint8)
        np.savez(out, offset=self.offset, scale=self.scale, paid=self.paid, facts=note, **arrays)  # type: ignore[arg-type]
        self.policy.save(folder / "start-policy.npz")
        write_whole(folder / "start.npz", out.getvalue())

    @classmethod
    def load(cls, folder: Path) -> Source | None:
        """What `save` wrote; None where the run started afresh.

        Raises
        ------
        FileError
            Damaged.
        """
        path = folder / "start.npz"
        if not path.exists():
            return None
        kept, policy = read_arrays(path), Policy.load(folder / "start-policy.npz")
        try:
            facts = json.loads(kept["facts"].tobytes().decode())
            critics = tuple(
                CriticPart(
                    tuple(int(s) for s in c["sizes"]), str(c["activation"]), bool(c["normalised"]), kept[f"critic{k}"]
                )
                for k, c in enumerate(facts["critics"])
            )
            spread, weight = (None if facts[k] is None else float(facts[k]) for k in ("spread", "entropy_weight"))
            return cls(
                int(facts["run"]), int(facts["step"]), policy, tuple(map(str, facts["observations"])), tuple(map(str, facts["commands"])),
                str(facts["method"]), str(facts.get("fingerprint", "")), spread, weight, kept["offset"], kept["scale"], float(facts["count"]), kept["paid"], critics,
            )  # fmt: skip
        except (KeyError, TypeError, ValueError, RecursionError, AttributeError, OverflowError) as error:
            raise FileError(path, "", None, f"damaged: {type(error).__name__}: {error}") from error


def source_of(method: Method, policy: Policy, told: Source, health: Mapping[str, float]) -> Source:
    """What can be taken over from a method as it stood at its last checkpoint, beside what `told` says already.

    Parameters
    ----------
    health
        The figures of its last update.
    """
    inner = method.inner if isinstance(method, Residual) else method
    spread: float | None = None
    if isinstance(inner, OnPolicy):
        loss = inner.loss
        if not loss.own_spread:
            spread = float(np.exp(inner.parameters[loss.spread_part]).mean())
        alone = loss.shared or loss.memories is not None
        critics: tuple[CriticPart, ...] = () if alone else (_part(loss.critic, inner.parameters[loss.critic_part]),)
    elif isinstance(inner, OffPolicy):
        spread = health.get("spread")
        critics = tuple(_part(c.network, c.parameters) for c in inner.critics)
    else:
        return told
    offset, scale = inner.inputs.affine()
    return replace(
        told, policy=policy, spread=spread, entropy_weight=health.get("entropy_weight"), offset=offset, scale=scale, count=inner.inputs.seen.count,
        paid=inner.paid.keep(), critics=critics,
    )  # fmt: skip


def _part(network: Network, parameters: Array) -> CriticPart:
    return CriticPart(network.sizes, network.activation, network.normalised, parameters.copy())


def start_from(
    method: Method, source: Source, observations: tuple[str, ...], commands: tuple[str, ...], fingerprint: str = ""
) -> list[str]:
    """Put what another run has learned into a fresh method; says in words what was matched and what begins afresh.

    Exploration goes on as it was only on the same problem: where the problem was changed, a policy that has settled has to look
    around again, and with the spread it ended with it took longer than from nothing (docs/results.md).

    Parameters
    ----------
    fingerprint
        Of the problem that is learned now.
    observations, commands
        Names of what this method sees, those for its critics alone last, and of what it commands.

    Raises
    ------
    StateError
        The networks are of other shapes, or nothing matches.
    """
    inner = method.inner if isinstance(method, Residual) else method
    if isinstance(method, Residual) != (source.policy.base is not None):
        corrects = "corrects a base controller" if source.policy.base is not None else "commands alone"
        raise StateError(
            f"the policy of run {source.run} {corrects}, this recipe does not: set residual as it was there"
        )
    if not isinstance(inner, (OnPolicy, OffPolicy)):
        raise StateError(
            "only methods that learn networks by gradients can start from a policy; random search, cross-entropy and evolution cannot"
        )
    actor, parameters = _actor(inner)
    _check_shape(inner, actor, source)
    seen = inner.space.seen
    rows = {j: source.observations.index(n) for j, n in enumerate(observations) if n in source.observations}
    given = {j: i for j, i in rows.items() if j < seen and i < source.policy.given}
    columns = {j: source.commands.index(n) for j, n in enumerate(commands) if n in source.commands}
    if not given or not columns:
        raise StateError(
            f"run {source.run} shares no {'observation' if not given else 'command'} with this task: nothing to start from"
        )
    old = _all_inputs(source)
    _set_statistics(inner.inputs, source, old, rows)
    new = inner.inputs.affine()
    _take_actor(actor, parameters, source, given, columns, (old, new), inner)
    said = [_matched("observations", observations[:seen], given), _matched("commands", commands, columns)]
    carried = _take_critics(inner, source, rows, columns, (old, new), len(observations))
    said.append("critic and statistics carried over" if carried else "the critic begins afresh")
    if isinstance(inner, OffPolicy):
        inner.start_with(carried)
    same = bool(source.fingerprint) and source.fingerprint == fingerprint
    if not same:
        said.append("another problem: explores as the recipe says")
    elif source.spread is not None and math.isfinite(source.spread) and source.spread > 0.0:
        _set_spread(inner, source.spread)
        said.append(f"spread {source.spread:.2f} as it was")
    if same and isinstance(inner, SoftActorCritic) and source.entropy_weight:
        inner.log_weight[:] = math.log(source.entropy_weight)
    if isinstance(inner, OffPolicy):
        inner.averaged[...] = inner.parameters
    return said


def _matched(what: str, names: tuple[str, ...], found: dict[int, int]) -> str:
    afresh = [name for j, name in enumerate(names) if j not in found]
    return f"{len(found)} of {len(names)} {what}" + (f" ({', '.join(afresh)} afresh)" if afresh else "")


def _actor(inner: OnPolicy | OffPolicy) -> tuple[Network, Array]:
    if isinstance(inner, OnPolicy):
        return inner.loss.actor, inner.parameters[inner.loss.actor_part]
    return inner.actor, inner.parameters


def _check_shape(inner: OnPolicy | OffPolicy, actor: Network, source: Source) -> None:
    policy = source.policy
    units = inner.shared.memory if isinstance(inner, OnPolicy) else 0
    squashed = inner.shared.squashed if isinstance(inner, OnPolicy) else True
    wrong = []
    if actor.sizes[1:-1] != policy.sizes[1:-1]:
        wrong.append(f"hidden=[{', '.join(map(str, policy.sizes[1:-1]))}]")
    if actor.activation != policy.activation:
        wrong.append(f"activation={policy.activation}")
    if actor.normalised != policy.normalised:
        wrong.append(f"layer_normalisation={str(policy.normalised).lower()}")
    if units != policy.memory:
        wrong.append(f"memory={policy.memory}")
    if squashed != policy.squashed and isinstance(inner, OnPolicy):
        wrong.append(f"squashed={str(policy.squashed).lower()}")
    elif squashed != policy.squashed:
        wrong.append("a policy that is squashed: one learned by PPO without squashed cannot serve a replay method")
    if wrong:
        raise StateError(
            f"the policy of run {source.run} has a network of another shape; it needs {' and '.join(wrong)}"
        )


def _all_inputs(source: Source) -> Affine:
    """The map of inputs of all the source's observations; those of critics alone are not known of a bare policy."""
    count = len(source.observations)
    if len(source.offset) == count:
        offset, scale = source.offset.copy(), source.scale.copy()
    else:
        offset, scale = np.zeros(count), np.ones(count)
    known = source.policy.given
    offset[:known], scale[:known] = source.policy.offset, source.policy.scale
    return offset, scale


def _set_statistics(inputs: Inputs, source: Source, old: Affine, rows: dict[int, int]) -> None:
    """Mean and spread of matched observations as they were, in the ranges of this task."""
    seen = inputs.seen
    for j, i in rows.items():
        seen.mean[j] = (old[0][i] - inputs.middle[j]) / inputs.half[j]
        seen.variance[j] = (1.0 / (old[1][i] * inputs.half[j])) ** 2
    seen.count = max(source.count, LEAST_COUNT)


def _take_actor(
    actor: Network, parameters: Array, source: Source, given: dict[int, int], columns: dict[int, int], maps: tuple[Affine, Affine],
    inner: OnPolicy | OffPolicy,
) -> None:  # fmt: skip
    policy = source.policy
    theirs = policy.network.layers(policy.parameters)
    mine = actor.layers(parameters)
    _first_layer(mine[0], theirs[0], given, maps, (len(inner.inputs.middle[: inner.space.seen]), policy.given))
    for a, b in zip(mine[0][2:], theirs[0][2:], strict=True):
        a[...] = b
    for whole, part in zip(mine[1:-1], theirs[1:-1], strict=True):
        for a, b in zip(whole, part, strict=True):
            a[...] = b
    half, middle = 0.5 * (inner.space.high - inner.space.low), 0.5 * (inner.space.high + inner.space.low)
    for j, i in columns.items():
        # the same command in SI units where its limits were changed; through tanh only the slope at the middle can be kept
        ratio = float(policy.half[i] / half[j])
        shift = float((policy.middle[i] - middle[j]) / half[j]) if policy.base is None else 0.0
        mine[-1][0][:, j] = theirs[-1][0][:, i] * ratio
        mine[-1][1][j] = theirs[-1][1][i] * ratio + shift
    if isinstance(inner, OnPolicy) and policy.memory and policy.memory_parameters is not None:
        if len(given) != policy.given or any(j != i for j, i in given.items()):
            raise StateError(
                "a policy with a memory can only be started from with the same observations in the same order"
            )
        inner.parameters[inner.loss.memory_parts[0]] = policy.memory_parameters


def _first_layer(
    mine: tuple[Array, ...],
    theirs: tuple[Array, ...],
    rows: dict[int, int],
    maps: tuple[Affine, Affine],
    widths: tuple[int, int],
) -> None:
    """Weights of matched inputs for the new map of inputs; others begin without influence, what is not an observation follows as it was.

    See `inputs.carry_over` for the formula.
    """
    (old_offset, old_scale), (new_offset, new_scale) = maps
    weights, biases = mine[:2]
    weights[: widths[0]] = 0.0
    biases[...] = theirs[1]
    for j, i in rows.items():
        weights[j] = theirs[0][i] * (old_scale[i] / new_scale[j])
        biases += theirs[0][i] * (old_scale[i] * (new_offset[j] - old_offset[i]))
    behind = theirs[0][widths[1] :]
    if len(weights) - widths[0] == len(behind):
        weights[widths[0] :] = behind


def _take_critics(
    inner: OnPolicy | OffPolicy, source: Source, rows: dict[int, int], columns: dict[int, int], maps: tuple[Affine, Affine], count: int
) -> bool:  # fmt: skip
    """Put the source's critics into those of a method of the same family; whether they fit."""
    if isinstance(inner, OnPolicy):
        if inner.loss.shared or inner.loss.memories is not None or len(source.critics) != 1:
            return False
        targets = [(inner.loss.critic, [inner.parameters[inner.loss.critic_part]])]
    else:
        if len(source.critics) < len(inner.critics):
            return False
        targets = [(c.network, [c.parameters, c.target]) for c in inner.critics]
    for (network, _), part in zip(targets, source.critics, strict=False):
        extra = 0 if isinstance(inner, OnPolicy) else len(source.commands)
        if (
            network.sizes[1:] != part.sizes[1:] or network.activation != part.activation or network.normalised != part.normalised
            or part.sizes[0] != len(source.observations) + extra or len(part.parameters) != Network(part.sizes, network.activation, normalised=part.normalised).count
        ):  # fmt: skip
            return False
    for (network, vectors), part in zip(targets, source.critics, strict=False):
        theirs = Network(part.sizes, network.activation, network.dtype, part.normalised).layers(part.parameters)
        for vector in vectors:
            mine = network.layers(vector)
            _first_layer(mine[0], theirs[0], rows, maps, (count, len(source.observations)))
            if isinstance(inner, OffPolicy):
                mine[0][0][count:] = 0.0
                for j, i in columns.items():
                    mine[0][0][count + j] = theirs[0][0][len(source.observations) + i]
            for a, b in zip(mine[0][2:], theirs[0][2:], strict=True):
                a[...] = b
            for whole, piece in zip(mine[1:], theirs[1:], strict=True):
                for a, b in zip(whole, piece, strict=True):
                    a[...] = b
    if len(source.paid) == len(inner.paid.keep()):
        inner.paid.restore(source.paid)
    return True


def _set_spread(inner: OnPolicy | OffPolicy, spread: float) -> None:
    """Explore as the source did when it was last trained."""
    log_spread = math.log(max(spread, 1e-3))
    if isinstance(inner, OnPolicy):
        loss = inner.loss
        if loss.own_spread:
            weights, biases = loss.actor.layers(inner.parameters[loss.actor_part])[-1][:2]
            weights[:, loss.actions :] = 0.0
            middle, half = 0.5 * (LEAST_LOG_SPREAD + MOST_LOG_SPREAD), 0.5 * (MOST_LOG_SPREAD - LEAST_LOG_SPREAD)
            biases[loss.actions :] = math.atanh(max(-0.99, min(0.99, (log_spread - middle) / half)))
        else:
            inner.parameters[loss.spread_part] = log_spread
    elif isinstance(inner, SoftActorCritic):
        weights, biases = inner.actor.layers(inner.parameters)[-1][:2]
        weights[:, inner.actions :] = 0.0
        biases[inner.actions :] = spread_bias(min(max(log_spread, -4.9), 0.9))
