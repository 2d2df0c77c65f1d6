"""How a method states its settings: value, limits, a plain name, what it does, and how one notices that it is wrong."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any, ClassVar, Literal

from pydantic import Field, model_validator

from plucky_heron.files import Settings
from plucky_heron.learning.health import HealthFigure
from plucky_heron.learning.network import Activation
from plucky_heron.units import parse, plain_number

Duration = Literal["samples", "memory", "horizon"]
"""How a setting says a time: as a number of samples, as the correlation from sample to sample of what dies out with that time constant, or as
a discount that looks so far ahead."""


def setting(default: Any, name: str, does: str, wrong: str, time: Duration | None = None, **limits: Any) -> Any:
    """A field of a method's settings; with `time`, recipes may state it in seconds too, see `in_samples`."""
    told: dict[str, Any] = {"wrong": wrong} if time is None else {"wrong": wrong, "time": time}
    return Field(default=default, title=name, description=does, json_schema_extra=told, **limits)


def in_samples(schema: type[Settings], given: Mapping[str, Any], sample_time: float) -> dict[str, Any]:
    """Settings as a recipe states them, times such as ``"0.4 s"`` as the numbers that they are at this sample time (s).

    Raises
    ------
    UnitError
        A text that is no time.
    """
    found = dict(given)
    for key, value in given.items():
        field = schema.model_fields.get(key)
        told = field.json_schema_extra if field is not None and isinstance(field.json_schema_extra, dict) else {}
        if "time" in told and isinstance(value, str) and not plain_number(value):
            found[key] = _at_rate(str(told["time"]), parse(value, "s"), sample_time)
    return found


def _at_rate(kind: str, seconds: float, sample_time: float) -> float | int:
    if kind == "samples":
        return max(1, round(seconds / sample_time)) if seconds >= 0.0 else -1
    if kind == "memory":
        return math.exp(-sample_time / seconds) if seconds > 0.0 else (0.0 if seconds == 0.0 else -1.0)
    return 1.0 - sample_time / seconds if seconds > sample_time else 0.0


def left(share_end: float, progress: float) -> float:
    """What is left, at a share `progress` of the budget, of something that falls evenly to the share `share_end`."""
    return 1.0 - (1.0 - share_end) * min(max(progress, 0.0), 1.0)


def ends_as_shares(old: dict[str, str]) -> Any:
    """A validator that reads files from before ends were shares: ``learning_rate_end = 1e-4`` of 1e-3 is a share of 0.1.

    `old` maps the old key to that of the value at first. An end above it, which let a schedule rise, becomes a share of 1.
    """

    def shares(cls: type[Settings], data: Any) -> Any:
        if not isinstance(data, dict):
            return data
        found = dict(data)
        for key, first in old.items():
            if key in found:
                start = found.get(first, cls.model_fields[first].default)
                end, new = found.pop(key), f"{first}_share_end"
                if isinstance(end, int | float) and isinstance(start, int | float) and start > 0.0 and new not in found:
                    found[new] = min(max(end / start, 0.0), 1.0)
                else:
                    found[key] = end
        return found

    before: Any = model_validator(mode="before")
    return before(classmethod(shares))


class MethodSettings(Settings):
    """What all methods say of themselves besides their settings."""

    health: ClassVar[tuple[HealthFigure, ...]] = ()
    """Figures worth showing, in order; see `health_figures`."""

    def health_figures(self) -> tuple[HealthFigure, ...]:
        """The health figures that a method with these settings gives."""
        return self.health


class NetworkSettings(MethodSettings):
    """What all methods say of their networks and inputs."""

    hidden: tuple[int, ...] = setting(
        (64, 64), "hidden layers", "Width of each hidden layer, of policy and critic alike.",
        "Too small: the critic explains little however long it learns. Too large: every step costs more for nothing.",
        min_length=1, max_length=8,
    )  # fmt: skip
    activation: Activation = setting(
        "tanh", "activation", "The nonlinear function after each hidden layer.",
        "tanh: gradients vanish when inputs are large. relu: units die and the spread of outputs shrinks.",
    )  # fmt: skip
    layer_normalisation: bool = setting(
        False, "layer normalisation", "Each hidden layer's sums have mean 0 and deviation 1, row by row.",
        "Off, critics of off-policy methods may run away: value figures that grow without end.",
    )  # fmt: skip
    orthogonal_start: bool = setting(
        True, "orthogonal start", "Orthogonal start weights; off: uniform, scaled by the number of inputs.",
        "Seen only in the first updates: a start that saturates commands.",
    )  # fmt: skip
    last_layer_scale: float = setting(
        0.01, "last layer's scale", "How far the untrained policy's commands spread.",
        "Too large: the untrained commands stand at the limits (see the histogram of the first policy).", gt=0, le=10,
    )  # fmt: skip
    observation_standardisation: bool = setting(
        True, "standardise observations", "Takes out the running mean and spread of what was met, besides the stated ranges.",
        "Off with generous ranges: inputs hardly differ from 0 and learning is slow.",
    )  # fmt: skip
    observation_limit: float = setting(
        5.0, "observation limit", "Inputs of the networks are held within this.",
        "Too small: far states look alike.", gt=0, le=100,
    )  # fmt: skip
    discount: float = setting(
        0.99, "discount", "What a reward one sample later counts; 1 / (1 - discount) samples is how far ahead it looks.",
        "Too small: takes what is near and misses what comes later. Too large: values grow, learning is slow and noisy.",
        time="horizon", gt=0, lt=1,
    )  # fmt: skip


class CriticSettings(NetworkSettings):
    """What methods with a critic besides the policy say of it."""

    critic_hidden: tuple[int, ...] | None = setting(
        None, "critic's layers", "Width of each hidden layer of the critic; off: as the policy's.",
        "Too small: the critic's loss stays high, and it explains little.", min_length=1, max_length=8,
    )  # fmt: skip
    critic_layer_normalisation: bool | None = setting(
        None, "critic's normalisation", "Layer normalisation of the critic; off: as the policy's.", "Off: see layer normalisation.",
    )  # fmt: skip
    value_huber: float | None = setting(
        None, "straight beyond", "Errors of the critic beyond this count in a straight line, not squared, in units of its values.",
        "None with rare large returns: single rows rule the critic.", gt=0,
    )  # fmt: skip
