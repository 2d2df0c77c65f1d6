"""An ensemble of networks that foresee the next observations, the reward and the ending from what was observed and commanded.

Members differ in their start weights and in the rows they learn from; where they disagree, none of them knows.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from plucky_heron.learning.inputs import carry_over
from plucky_heron.learning.network import Activation, Network
from plucky_heron.learning.optimiser import Adam
from plucky_heron.learning.replay import ENDED, Replay

Array = np.ndarray
LEAST_LOG_SPREAD, MOST_LOG_SPREAD = -3.0, 1.0
"""As shares of the changes' spread. A smaller least one lets what is certain crowd out the reward in the shared layers."""
STRETCH, HELD_OUT = 10, 10
"""Of every `HELD_OUT` stretches of so many steps of all copies, the last is never learned from: errors are measured on it."""
JUDGED = 1000
"""Rows that errors are measured on."""
LEAST_SPREAD = 1e-6
"""Added to spreads in the observations' units: what never moved is no unit of measure."""
FOLLOWED, LOOKED_BACK = 64, 2000
"""Stretches of what was met that are foreseen open loop, and steps of each copy that they are taken from, the newest ones."""


@dataclass(frozen=True)
class Foreseen:
    """What follows, (N, ...): observations, reward, and the chance of an ending."""

    observations: Array
    reward: Array
    ending: Array


@dataclass(frozen=True)
class Unknown:
    """Of each entry of the buffer, what is left to be learned: the part of the reward that is not known, float32, and whether
    an ending was met that no known one explains, uint8.
    """

    reward: Array
    """(N,)."""
    ended: Array
    """(N,)."""


@dataclass(frozen=True)
class Inspection:
    """Predictions beside the truth over one stretch of T steps.

    Attributes
    ----------
    truth : (T, observations)
        What was observed after each step.
    one_step, open_loop : (members, T, observations)
        Foreseen from the true state before each step, and from the first state alone by the commands that were given.
    """

    truth: Array
    one_step: Array
    open_loop: Array

    def missed(self) -> tuple[Array, Array]:
        """Root mean square error of the members' mean, one-step and open-loop, as shares of the truth's spread (observations,)."""
        spread = self.truth.std(axis=0) + 1e-9
        one, far = (
            np.sqrt(np.square(p.mean(axis=0) - self.truth).mean(axis=0)) / spread
            for p in (self.one_step, self.open_loop)
        )
        return one, far


class Member:
    """One network: standardised changes of the observations and the reward, the log-odds of an ending, and with `gaussian` the
    spreads of the observations. The reward has none: where a mean is hard to learn, a spread lets the network give it up.
    """

    def __init__(
        self, inputs: int, foreseen: int, hidden: tuple[int, ...], activation: Activation, gaussian: bool,
        dtype: type[np.floating] = np.float32,
    ) -> None:  # fmt: skip
        self.foreseen, self.gaussian, self.dtype = foreseen, gaussian, dtype
        self.spreads = foreseen - 1 if gaussian else 0
        self.network = Network((inputs, *hidden, foreseen + self.spreads + 1), activation, dtype)
        self.parameters: Array = np.zeros(self.network.count, dtype=dtype)
        self.gradient = self.parameters.copy()
        self.adam = Adam(self.network.count, dtype)

    def split(self, outputs: Array) -> tuple[Array, Array, Array]:
        """Means (N, foreseen), log-spreads (N, foreseen), log-odds of an ending (N,)."""
        k = self.foreseen
        middle, half = 0.5 * (LEAST_LOG_SPREAD + MOST_LOG_SPREAD), 0.5 * (MOST_LOG_SPREAD - LEAST_LOG_SPREAD)
        spread = np.zeros_like(outputs[:, :k])
        spread[:, : self.spreads] = middle + half * np.tanh(outputs[:, k : k + self.spreads])
        return outputs[:, :k], spread, outputs[:, -1]

    def loss(self, inputs: Array, wanted: Array, ended: Array) -> float:
        """Mean negative log-likelihood without its constant (half the squared error without spreads), and the cross-entropy of
        the ending; the gradient stands in `gradient`.
        """
        outputs = self.network.forward(self.parameters, inputs)
        means, log_spread, odds = self.split(outputs)
        inverse = np.exp(-log_spread)
        unit = (means - wanted) * inverse
        rows, k = self.dtype(len(inputs)), self.foreseen
        back = np.empty_like(outputs)
        back[:, :k] = unit * inverse / rows
        if self.gaussian:
            half = 0.5 * (MOST_LOG_SPREAD - LEAST_LOG_SPREAD)
            here = slice(k, k + self.spreads)
            back[:, here] = (1.0 - unit[:, :-1] ** 2) * half * (1.0 - np.tanh(outputs[:, here]) ** 2) / rows
        chance = _share(odds)
        back[:, -1] = (chance - ended) / rows
        self.network.backward(self.parameters, inputs, back, self.gradient)
        crossed = np.logaddexp(0.0, odds) - ended * odds
        return float((0.5 * unit**2 + log_spread).sum(axis=1).mean() + crossed.mean())

    def fit(self, inputs: Array, wanted: Array, ended: Array, rate: float) -> float:
        """One step of the optimiser; returns the loss before it."""
        found = self.loss(inputs, wanted, ended)
        self.adam.step(self.parameters, self.gradient, rate, 10.0)
        return found


class Ensemble:
    """The members and the scales of what they are given and give.

    Parameters
    ----------
    observations, actions
        Widths; the foreseen values are the observations and the reward.
    """

    def __init__(
        self, observations: int, actions: int, members: int, hidden: tuple[int, ...], activation: Activation, gaussian: bool,
        generator: np.random.Generator,
    ) -> None:  # fmt: skip
        self.observations = observations
        self.members = [
            Member(observations + actions, observations + 1, hidden, activation, gaussian) for _ in range(members)
        ]
        for member in self.members:
            member.network.initialise(member.parameters, generator, True, 0.1)
        wide = observations + 1
        self.scaled = 0
        """Rows that the scales were taken from."""
        self.elite: Array = np.arange(members)
        """Members that foresee, those that err least on held-out rows first."""
        self.scales: dict[str, Array] = {
            "middle": np.zeros(observations), "spread": np.ones(observations), "change_middle": np.zeros(wide), "change_spread": np.ones(wide),
        }  # fmt: skip

    def learn(
        self, replay: Replay, steps: int, minibatch: int, rate: float, generator: np.random.Generator, unknown: Unknown | None = None,
        bootstrap: bool = False,
    ) -> float:  # fmt: skip
        """`steps` gradient steps of every member on rows of its own, held-out ones left out; returns the last mean loss.

        With `bootstrap` each member never sees a third of the rows, another one for each (Efron 1979: what drawing with putting back leaves out).
        """
        unknown = unknown or Unknown(replay.reward, (replay.over == ENDED).astype(np.uint8))
        if replay.size >= 2 * self.scaled:
            self._rescale(replay, unknown)
        learned = np.flatnonzero(~held_out(replay))
        known = [learned[_kept(learned, number)] if bootstrap else learned for number in range(len(self.members))]
        loss = 0.0
        for _ in range(steps):
            loss = 0.0
            for member, mine in zip(self.members, known, strict=True):
                rows = mine[generator.integers(0, len(mine), minibatch)]
                state, commands, after = replay.observations[rows], replay.commands[rows], replay.after[rows]
                replay.turn_some(generator, (state, after), commands)
                inputs, wanted = self._inputs(state, commands), self._wanted(state, after, unknown.reward[rows])
                loss += member.fit(inputs, wanted, unknown.ended[rows].astype(np.float32), rate) / len(self.members)
        return loss

    def foresee_each(
        self, observations: Array, commands: Array, generator: np.random.Generator, count: int, noise: Array | None = None
    ) -> Foreseen:  # fmt: skip
        """What follows, each row foreseen by one of the `count` best members, drawn by chance, all of them alike often (Chua et al. 2018, TS1)."""
        best = self.elite[: max(1, min(count, len(self.elite)))]
        parts = np.array_split(np.arange(len(observations)), len(best))
        found = [
            self.foresee(observations[rows], commands[rows], int(member), None if noise is None else noise[rows])
            for rows, member in zip(parts, generator.permutation(best), strict=True)
        ]
        return Foreseen(*(np.concatenate([getattr(f, name) for f in found]) for name in Foreseen.__dataclass_fields__))

    def disagreement(self, observations: Array, commands: Array) -> Array:
        """How far the members' foreseen observations lie apart, row by row (N,), as a share of the changes' spread."""
        said = np.array([self.foresee(observations, commands, m).observations for m in range(len(self.members))])
        return np.asarray((said.std(axis=0) / self.scales["change_spread"][:-1]).mean(axis=1))

    def foresee(self, observations: Array, commands: Array, member: int, noise: Array | None = None) -> Foreseen:
        """What one member foresees at (N, observations) and (N, commands), SI; `noise` (N, observations + 1) draws from its spread."""
        one = self.members[member]
        means, log_spread, odds = one.split(one.network.forward(one.parameters, self._inputs(observations, commands)))
        drawn = means if noise is None or not one.gaussian else means + np.exp(log_spread) * noise
        change = drawn * self.scales["change_spread"] + self.scales["change_middle"]
        return Foreseen(observations + change[:, :-1], change[:, -1], _share(odds))

    def stretch(self, replay: Replay, copy: int, length: int) -> Array:
        """Entries (at most `length`,) of the last `length` steps of a copy, oldest first, as far as its episode goes back."""
        entries = [replay.last + copy]
        rows = replay.size // replay.copies
        while len(entries) < min(length, rows):
            before = (entries[-1] - replay.copies) % replay.capacity
            if replay.over[before]:
                break
            entries.append(before)
        return np.array(entries[::-1])

    def inspect(self, replay: Replay, copy: int, length: int) -> Inspection:
        """One-step and open-loop predictions over the `stretch` of a copy."""
        order = self.stretch(replay, copy, length)
        state, commands = replay.observations[order], replay.commands[order]
        one = np.array([self.foresee(state, commands, m).observations for m in range(len(self.members))])
        far = np.empty_like(one)
        for m in range(len(self.members)):
            current = state[:1]
            for t in range(len(order)):
                current = self.foresee(current, commands[t : t + 1], m).observations
                far[m, t] = current[0]
        return Inspection(replay.after[order].astype(np.float64), one, far)

    def open_loop(self, replay: Replay, length: int) -> Array:
        """How far open-loop predictions of the best member lie from the truth after 1, 2, ... steps, (at most `length`,).

        As a share of the observations' spread: the mean over rows of the root mean square over those observations that ever moved. Stretches of the newest steps, evenly
        chosen among those as long as that, or as the longest there are; most of them were learned from, so that the figure is a lower bound.
        """
        steps = min(replay.size // replay.copies, LOOKED_BACK)
        entries = (
            replay.last + np.arange(replay.copies) - replay.copies * np.arange(steps)[::-1, None]
        ) % replay.capacity
        over = replay.over[entries] != 0
        left: Array = np.zeros(entries.shape, dtype=np.int64)
        going = np.zeros(replay.copies, dtype=np.int64)
        for k in range(steps - 1, -1, -1):
            going = left[k] = np.where(over[k], 1, going + 1)
        length = min(length, int(left.max()))
        rows, copies = np.nonzero(left >= length)
        chosen = np.unique(np.linspace(0, len(rows) - 1, FOLLOWED).astype(np.int64))
        rows, copies = rows[chosen], copies[chosen]
        moves = self.scales["spread"] > 2.0 * LEAST_SPREAD
        if not moves.any():
            return np.zeros(length)
        best, found = int(self.elite[0]), np.zeros(length)
        state = replay.observations[entries[rows, copies]].astype(np.float64)
        for k in range(length):
            here = entries[rows + k, copies]
            state = self.foresee(state, replay.commands[here], best).observations
            missed = ((state - replay.after[here]) / self.scales["spread"])[:, moves]
            found[k] = np.sqrt(np.square(missed).mean(axis=1)).mean()
        return found

    def error(self, replay: Replay) -> tuple[float, float]:
        """On held-out rows: error of the members' mean and their disagreement, both as shares of the changes' spread.

        Members are put in the order of their own errors, for `foresee_each`. Before there are any such rows, the newest row of copies is taken.
        """
        kept = np.flatnonzero(held_out(replay))
        if not len(kept):
            kept = np.arange(replay.last, replay.last + replay.copies)
        age = (replay.next - 1 - kept) % replay.capacity
        here = np.resize(kept[np.argsort(age)], JUDGED)
        state, commands = replay.observations[here], replay.commands[here]
        said = np.array([self.foresee(state, commands, m).observations for m in range(len(self.members))])
        scale = self.scales["change_spread"][:-1]
        missed = (said.mean(axis=0) - replay.after[here]) / scale
        each = np.square((said - replay.after[here]) / scale).mean(axis=(1, 2))
        self.elite = np.argsort(each, kind="stable")
        return float(np.sqrt(np.square(missed).mean())), float((said.std(axis=0) / scale).mean())

    def _rescale(self, replay: Replay, unknown: Unknown) -> None:
        """Scales from all rows; members are changed so that they foresee what they foresaw before, their spreads apart."""
        used, old = slice(0, replay.size), self.scales
        state = replay.observations[used]
        changes = np.column_stack([replay.after[used] - state, unknown.reward[used]])
        self.scales = {
            "middle": state.mean(axis=0), "spread": state.std(axis=0) + LEAST_SPREAD, "change_middle": changes.mean(axis=0),
            "change_spread": changes.std(axis=0) + LEAST_SPREAD,
        }  # fmt: skip
        learned, self.scaled = self.scaled > 0, replay.size
        if not learned:
            return
        new, k = self.scales, self.observations + 1
        ratio = old["change_spread"] / new["change_spread"]
        shift = (old["change_middle"] - new["change_middle"]) / new["change_spread"]
        for member in self.members:
            before, now = ((scales["middle"], 1.0 / scales["spread"]) for scales in (old, new))
            carry_over(member.network, member.parameters, before, now, member.adam)
            for vector, factor, added in (
                (member.parameters, ratio, shift), (member.adam.mean, 1.0 / ratio, 0.0 * shift), (member.adam.square, ratio**-2.0, 0.0 * shift),
            ):  # fmt: skip
                weights, biases = member.network.layers(vector)[-1][:2]
                weights[:, :k] = weights[:, :k] * factor
                biases[:k] = biases[:k] * factor + added

    def _inputs(self, observations: Array, commands: Array) -> Array:
        scaled = np.clip((observations - self.scales["middle"]) / self.scales["spread"], -8.0, 8.0)
        return np.concatenate([scaled, commands], axis=1, dtype=np.float32)

    def _wanted(self, observations: Array, after: Array, reward: Array) -> Array:
        change = np.column_stack([after - observations, reward])
        return np.asarray((change - self.scales["change_middle"]) / self.scales["change_spread"], dtype=np.float32)

    def keep(self) -> dict[str, Array]:
        """State for a checkpoint."""
        kept = {f"scales.{k}": v.copy() for k, v in self.scales.items()}
        kept |= {"scaled": np.array(self.scaled), "elite": self.elite.copy()}
        for number, member in enumerate(self.members):
            kept[f"{number}.parameters"] = member.parameters.copy()
            kept |= {f"{number}.adam.{k}": v for k, v in member.adam.keep().items()}
        return kept

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        self.scales = {k: kept[f"scales.{k}"].copy() for k in self.scales}
        self.scaled, self.elite = int(kept["scaled"]), kept["elite"].copy()
        for number, member in enumerate(self.members):
            member.parameters[...] = kept[f"{number}.parameters"]
            member.adam.restore({k: kept[f"{number}.adam.{k}"] for k in ("mean", "square", "count")})


def held_out(replay: Replay) -> Array:
    """Which entries of a buffer are never learned from, bool (size,): whole stretches, since neighbours in time are nearly the same."""
    return np.asarray((np.arange(replay.size) // (replay.copies * STRETCH)) % HELD_OUT == HELD_OUT - 1)


def _kept(entries: Array, member: int) -> Array:
    """Which entries a member may learn from, bool; the same ones every time."""
    mixed = (entries.astype(np.uint64) * np.uint64(2654435761) + np.uint64(member * 97531)) % np.uint64(2**32)
    return np.asarray(mixed < np.uint64(int(0.632 * 2**32)))


def _share(odds: Array) -> Array:
    return np.asarray(0.5 * (1.0 + np.tanh(0.5 * odds)))
