"""``pack.json``: what it must hold, checked key by key before anything of a pack is used."""

from __future__ import annotations

import json
import math
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from plucky_heron.trust import digest_of

PACK_FORMAT = 3
MOST_SIGNALS = 10_000


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False, strict=True)


Text = Annotated[str, Field(max_length=2000)]
Count = Annotated[int, Field(ge=0, le=10**15)]
Positive = Annotated[float, Field(gt=0.0)]
NotNegative = Annotated[float, Field(ge=0.0)]


class Signal(_Part):
    """One line of the contract."""

    name: Text
    unit: Text
    low: float
    high: float
    positive: Text = ""

    @model_validator(mode="after")
    def _ordered(self) -> Signal:
        if not self.low < self.high:
            raise ValueError("low must be below high")
        return self


class Input(Signal):
    """What the controller gives the policy, raw, in SI."""

    noise: NotNegative
    delay: NotNegative
    formula: Text
    samples_ago: Count
    shape: Text
    clip: bool
    offset: float
    scale: Positive


class Drive(_Part):
    """What a command goes to."""

    name: Text
    kind: Text = ""
    limit: float = 0.0
    lag: NotNegative = 0.0
    dead_time: NotNegative = 0.0


class Increment(_Part):
    """A command that is a change a second of what is held."""

    within: Annotated[list[float], Field(min_length=2, max_length=2)]


class Output(Signal):
    """What the policy gives, in SI, and what is done with it before its drive gets it."""

    drive: Drive
    increment: Increment | None = None
    rate_limit: NotNegative | None = None
    smoothing: NotNegative | None = None
    scores_choice: Text | None = None


class Computed(_Part):
    """An input that no sensor gives."""

    name: Text
    formula: Text


class Choice(_Part):
    """One of several things to do."""

    drives: dict[str, str]
    lasts: NotNegative
    available: Text | None


class OwnCodeUsed(_Part):
    """The project's own Python that the task needs."""

    file: Text
    sha256: Annotated[str, Field(pattern="^[0-9a-f]{64}$")]


class Base(_Part):
    """The controller under a residual policy."""

    gain: list[list[float]]
    reach: Positive


class NetworkUsed(_Part):
    """What is inside."""

    sizes: Annotated[list[Annotated[int, Field(ge=1, le=100_000)]], Field(min_length=2, max_length=50)]
    activation: Text
    parameters: Count
    memory: Count
    arithmetic: Text
    onnx_opset: Count
    corrects: Base | None


class Safety(_Part):
    """What happens without a valid input."""

    hold: Annotated[float, Field(ge=0.0, le=60.0)]
    command: list[float]
    kind: Literal["command", "ramp", "hold"]
    warning: Text


class ControllerSensor(Signal):
    """What the controller has to be given: a sensor's value, a set-point, or what the formula makes of them."""

    formula: Text


class ControllerInput(_Part):
    """Where an input of the policy comes from."""

    kind: Literal["sensor", "given", "previous", "held"]
    index: Count
    samples_ago: Count
    shape: Literal["value", "sine", "cosine"]
    clip: bool


class GivenSignal(_Part):
    """What the generated C between instruments and controller is given."""

    name: Text
    unit: Text
    positive: Text


class WiredUp(_Part):
    """A raw number: value = (raw - zero) * scale + offset, SI."""

    name: Text
    zero: int
    scale: float
    offset: float
    low: int | None
    high: int | None
    turns_over: Count
    what: Text


class FromSignals(_Part):
    """The way from instruments to the controller, and from it to the drives."""

    given: Annotated[list[GivenSignal], Field(max_length=MOST_SIGNALS)]
    drives: Annotated[list[Text], Field(max_length=MOST_SIGNALS)]
    bodies: Annotated[list[Text], Field(max_length=MOST_SIGNALS)]
    read: Annotated[list[WiredUp], Field(max_length=MOST_SIGNALS)]
    put: Annotated[list[WiredUp], Field(max_length=MOST_SIGNALS)]
    typical: NotNegative
    beyond: Annotated[float, Field(ge=0.0, le=1.0)]


class SignTest(_Part):
    """How a drive shows its sign; a step of 0 leaves it untested."""

    step: float
    sensor: Text | None
    least: float


class AroundPolicy(_Part):
    """What stands around the policy."""

    sensors: Annotated[list[ControllerSensor], Field(max_length=MOST_SIGNALS)]
    inputs: Annotated[list[ControllerInput], Field(max_length=MOST_SIGNALS)]
    depth: Annotated[int, Field(ge=1, le=10_000)]
    sign_test: list[SignTest]
    signals: FromSignals | None = None


class RunFacts(_Part):
    """Where the policy comes from."""

    number: Count
    seed: Count
    method: Text
    recipe: Text
    task: Annotated[str, Field(min_length=1, max_length=200)]
    identity: Text
    step: int | None
    success: float | None
    score: float | None
    retest: dict[str, Any] | None
    facts: dict[str, Any]


class FixedPoint(_Part):
    """How well the fixed-point form does on recorded vectors, as shares of the command range."""

    worst: NotNegative
    typical: NotNegative
    saturated: Count


class Equality(_Part):
    """How well the forms agree with the policy."""

    vectors: Count
    tolerance: Positive
    forms: dict[str, float]
    vectors_beyond: Count
    beyond: dict[str, float]
    """The same on vectors far from any episode."""
    fixed_point: FixedPoint | None


class PackDescription(_Part):
    """``pack.json``."""

    format: Annotated[int, Field(ge=PACK_FORMAT, le=PACK_FORMAT)]
    machine: Text
    task: Text
    fingerprint: Text
    sample_time: Annotated[float, Field(gt=0.0, le=3600.0)]
    inputs: Annotated[list[Input], Field(min_length=1, max_length=MOST_SIGNALS)]
    outputs: Annotated[list[Output], Field(min_length=1, max_length=MOST_SIGNALS)]
    input_limit: Positive
    computed_inputs: list[Computed]
    mixing: dict[str, str]
    choices: dict[str, dict[str, Choice]]
    signals: dict[str, str]
    own_code: OwnCodeUsed | None
    start_pose: dict[str, float]
    network: NetworkUsed
    safety: Safety
    controller: AroundPolicy
    run: RunFacts
    forms: list[Literal["onnx", "c99", "fixed", "st", "fmu"]]
    equality: Equality
    hashes: dict[str, Annotated[str, Field(pattern="^[0-9a-f]{64}$")]]
    hash: Annotated[str, Field(pattern="^[0-9a-f]{64}$")]

    @model_validator(mode="after")
    def _lengths_agree(self) -> PackDescription:
        sizes = self.network.sizes
        if sizes[0] != len(self.inputs):
            raise ValueError(f"network.sizes begins with {sizes[0]}, wanted {len(self.inputs)} inputs")
        if sizes[-1] != len(self.outputs):
            raise ValueError(f"network.sizes ends with {sizes[-1]}, wanted {len(self.outputs)} outputs")
        if len(self.safety.command) != len(self.outputs):
            raise ValueError(f"safety.command has {len(self.safety.command)} numbers, wanted {len(self.outputs)}")
        for output, value in zip(self.outputs, self.safety.command, strict=True):
            slack = 1e-9 * max(1.0, abs(output.low), abs(output.high))
            if not output.low - slack <= value <= output.high + slack:
                raise ValueError(f"safety.command of {output.name} is {value:g}, outside its limits")
        if len(self.controller.inputs) != len(self.inputs):
            raise ValueError(f"controller.inputs has {len(self.controller.inputs)} entries, wanted {len(self.inputs)}")
        base = self.network.corrects
        if base is not None and [len(row) for row in base.gain] != [len(self.inputs) + 1] * len(self.outputs):
            raise ValueError("network.corrects.gain has the wrong shape")
        if not all(math.isfinite(x) for x in self.equality.forms.values()):
            raise ValueError("equality.forms holds something that is no number")
        return self


def pack_hash(pack: dict[str, Any]) -> str:
    """The hash of a description: of its keys and values without the hash itself, in the order of their names."""
    told = {key: value for key, value in pack.items() if key != "hash"}
    return digest_of(json.dumps(told, sort_keys=True, separators=(",", ":")).encode())
