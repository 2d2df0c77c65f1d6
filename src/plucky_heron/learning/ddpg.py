"""Deep deterministic policy gradient (Lillicrap et al. 2016), and its twin-critic successor TD3 (Fujimoto, van Hoof, Meger 2018)."""

from __future__ import annotations

import numpy as np

from plucky_heron.learning.exploration import Deviations, Kind
from plucky_heron.learning.kernels import basic as kernels
from plucky_heron.learning.method import Space
from plucky_heron.learning.off_policy import OffPolicy, OffPolicySettings
from plucky_heron.learning.replay import Rows
from plucky_heron.learning.settings import setting
from plucky_heron.randomness import freeze, stream, thaw

Array = np.ndarray


class DeterministicSettings(OffPolicySettings):
    """Settings of DDPG."""

    exploration: Kind = setting(
        "drifting", "exploration", "What is added to commands: independent draws, drifting ones (Ornstein-Uhlenbeck), or held ones.",
        "Independent draws hardly move a heavy machine at a high rate.",
    )  # fmt: skip
    exploration_spread: float = setting(
        0.2, "exploration spread", "Spread of what is added, as a share of half the command range.",
        "Too small: the first way found is never left. Too large: the buffer holds nothing but stumbling.", ge=0, le=2,
    )  # fmt: skip
    exploration_spread_end: float = setting(
        0.05, "exploration spread at the end", "What the spread falls to when the budget is used up.",
        "Too small too early: see exploration spread.", ge=0, le=2,
    )  # fmt: skip
    exploration_memory: float = setting(
        0.85, "exploration memory", "Correlation of drifting exploration from sample to sample.",
        "Too small: see exploration.", ge=0, lt=1,
    )  # fmt: skip
    exploration_hold: int = setting(
        10,
        "exploration hold",
        "Samples for which held exploration is kept.",
        "Too long: drives into the limits.",
        ge=1,
        le=10_000,
    )
    saturation_weight: float = setting(
        1e-3, "saturation weight", "Cost of the policy's sums before squashing, squared: keeps its slopes from vanishing.",
        "0: commands stick at a limit and never come back (share at the limits). Too large: weak commands.", ge=0, le=1,
    )  # fmt: skip
    policy_delay: int = setting(
        1, "policy delay", "Updates of the critic for each update of policy and targets.",
        "Too many: the policy hardly moves.", ge=1, le=100,
    )  # fmt: skip
    target_smoothing: float = setting(
        0.0, "target smoothing", "Spread of the noise on the commands by which targets are valued.",
        "0: the policy climbs narrow peaks that are errors of the critic. Too large: precise work is never valued.", ge=0, le=1,
    )  # fmt: skip
    target_smoothing_limit: float = setting(
        0.5, "smoothing limit", "That noise is held within this.", "See target smoothing.", gt=0, le=2
    )


class TwinDelayedSettings(DeterministicSettings):
    """Settings of TD3: the same, with other standards."""

    policy_delay: int = setting(
        2, "policy delay", "Updates of the critics for each update of policy and targets.", "Too many: the policy hardly moves.",
        ge=1, le=100,
    )  # fmt: skip
    target_smoothing: float = setting(
        0.2, "target smoothing", "Spread of the noise on the commands by which targets are valued.",
        "0: the policy climbs narrow peaks that are errors of the critic. Too large: precise work is never valued.", ge=0, le=1,
    )  # fmt: skip


class DeterministicPolicyGradient(OffPolicy):
    """The method at work, with one critic or two."""

    count = 1

    def __init__(
        self, settings: DeterministicSettings, space: Space, copies: int, seed: int, threads: int = 1,
        dtype: type[np.floating] = np.float32,
    ) -> None:  # fmt: skip
        super().__init__(settings, space, copies, seed, threads, critics=self.count, dtype=dtype)
        self.settings = settings
        self.target = self.parameters.copy()
        self.deviations = Deviations(
            settings.exploration, copies, self.actions, seed, settings.exploration_memory, settings.exploration_hold
        )
        self.smoothing = stream(seed, "target smoothing")
        self.figures: dict[str, float] = {}

    def explore(self, inputs: Array) -> Array:
        """The policy's command and a deviation, within the limits."""
        s = self.settings
        spread = s.exploration_spread + (s.exploration_spread_end - s.exploration_spread) * min(
            max(self.progress, 0.0), 1.0
        )
        return np.clip(self.best(inputs) + spread * self.deviations.draw(), -1.0, 1.0)

    def begin(self, over: Array) -> None:
        """New episodes, without a past."""
        self.deviations.begin(over)

    def best(self, inputs: Array) -> Array:
        """The policy's commands."""
        return np.asarray(np.tanh(self.actor.forward(self.parameters, inputs)))

    def update(self, rows: Rows, state: Array, after: Array) -> dict[str, float]:
        """Critics; and now and then policy and targets."""
        settings = self.settings
        loss, value = self.fit_critics(rows, state, self.targets(rows, after))
        if self.updates % settings.policy_delay == 0:
            self.figures = self.actor_loss(state)
            self.figures["gradient"] = self.actor_adam.step(
                self.parameters, self.actor_gradient, settings.actor_learning_rate, settings.gradient_limit
            )
            kernels.mix(self.target, self.parameters, settings.target_mix)
            for critic in self.critics:
                critic.follow(settings.target_mix)
        return self.figures | {"critic_loss": loss, "value": value}

    def targets(self, rows: Rows, after: Array) -> Array:
        """Reward, and the (least) target value of the target policy's command, smoothed (Fujimoto et al. 2018, algorithm 1)."""
        settings = self.settings
        commands = np.tanh(self.actor.forward(self.target, np.ascontiguousarray(after[:, : self.space.seen])))
        if settings.target_smoothing > 0.0:
            noise = settings.target_smoothing * self.smoothing.standard_normal(commands.shape, dtype=np.float32)
            limit = settings.target_smoothing_limit
            commands = np.clip(commands + np.clip(noise, -limit, limit), -1.0, 1.0)
        after[:, self.observations :] = commands
        said: list[Array] = [commands] * len(self.critics)

        def say(number: int) -> None:
            said[number] = self.critics[number].values(after, target=True)

        self.side.by_side([lambda k=k: say(k) for k in range(len(self.critics))])  # type: ignore[misc]
        least = said[0] if len(said) == 1 else np.minimum(said[0], said[1])
        wanted: Array = rows.reward + rows.factor * least
        return wanted.astype(self.dtype, copy=False)

    def actor_loss(self, state: Array) -> dict[str, float]:
        """Minus the mean value of the policy's commands, and the cost of saturation; the gradient stands in `actor_gradient`."""
        weight, count = self.dtype(self.settings.saturation_weight), self.dtype(len(state))
        inputs = np.ascontiguousarray(state[:, : self.space.seen])
        sums = self.actor.forward(self.parameters, inputs)
        commands = np.tanh(sums)
        state[:, self.observations :] = commands
        slopes = self._buffer("slope 0", len(state))
        values = self.critics[0].slope(state, slopes)
        back = (weight * sums - slopes[:, self.observations :] * (1 - commands * commands)) / count
        self.actor.backward(self.parameters, inputs, back, self.actor_gradient)
        cost = 0.5 * float(weight) * float(np.square(sums).sum()) / float(count)
        return {"policy_loss": cost - float(values.mean()), "saturated": float((np.abs(commands) > 0.99).mean())}

    def keep(self) -> dict[str, Array]:
        """All state."""
        kept = {f"deviations.{k}": v for k, v in self.deviations.keep().items()}
        figures = np.array(list(self.figures.values()))
        return super().keep() | kept | {
            "target_policy": self.target.copy(), "smoothing": freeze(self.smoothing), "figures": figures,
        }  # fmt: skip

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        super().restore(kept)
        self.deviations.restore({k[11:]: v for k, v in kept.items() if k.startswith("deviations.")})
        self.target[...] = kept["target_policy"]
        thaw(self.smoothing, kept["smoothing"])
        names = ("policy_loss", "saturated", "gradient")
        self.figures = dict(zip(names, (float(x) for x in kept["figures"]), strict=False))


class TwinDelayed(DeterministicPolicyGradient):
    """TD3: two critics, of which the lesser is believed."""

    count = 2
