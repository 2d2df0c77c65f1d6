"""What a rollout showed."""

from __future__ import annotations

import csv
import io
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from plucky_heron.simulation.trials import Recording
from plucky_heron.task.problem import Problem

Array = np.ndarray


@dataclass(frozen=True)
class Sample:
    """One closed sample, for whoever watches."""

    episode: int
    index: int
    position: Array
    """(entries,), SI."""
    observation: Array
    """(observations,), SI."""
    command: Array
    """(commands,), SI."""
    inside: Array
    """What the policy commands in simulation here (commands,), SI."""
    round_trip: float | None
    state: str = ""
    """Of the whole controller, where it is one."""
    reason: str = ""


@dataclass
class RolloutResult:
    """What a rollout showed; times in seconds."""

    rig: str
    lock_step: bool
    scores: list[float] = field(default_factory=list)
    successes: list[bool] = field(default_factory=list)
    scores_inside: list[float] = field(default_factory=list)
    successes_inside: list[bool] = field(default_factory=list)
    round_trips: list[float] = field(default_factory=list)
    samples: int = 0
    missed: int = 0
    late: int = 0
    """Samples in which only a command of an earlier one came."""
    waited: int = 0
    """In real time: how often this computer itself was late, and the plant's clock waited for it."""
    real_time_priority: bool = False
    """Whether plant and controller went before all other work of this computer."""
    difference: float = 0.0
    faults: dict[str, float] = field(default_factory=dict)
    link: dict[str, int] = field(default_factory=dict)
    """What went wrong on the way, counted."""
    not_finite: int = 0
    """Samples whose command was no finite number, on the rig or inside; each fails its episode."""
    counters: dict[str, int] = field(default_factory=dict)
    recordings: list[Recording] = field(default_factory=list)
    inside: list[Recording] = field(default_factory=list)
    """The first episodes inside the program."""
    stopped: bool = False
    footprint: dict[str, Any] = field(default_factory=dict)
    """Of a board: bytes of flash, RAM and stack, instructions of the longest call."""
    whole: bool = False
    """Whether the whole controller ran, from signals to drives."""
    drive_difference: float = 0.0
    """Of the whole controller: the largest difference of a drive from what the simulation makes of the same commands, as a share of its range."""
    states: list[dict[str, Any]] = field(default_factory=list)
    """Of the whole controller: each change of its state, with the reason."""
    without_noise: tuple[str, ...] = ()
    """Observations that are worked out on the controller: the noise that the task gives them has no place in a signal, and is left out."""
    limited_first: bool = False
    """Whether an episode with limited authority went before; it is not counted."""
    problem: Problem | None = field(default=None, repr=False)

    @property
    def sample_time(self) -> float:
        """Seconds."""
        return self.problem.sample_time if self.problem is not None else float("nan")

    def summary(self) -> dict[str, Any]:
        """Figures for the JSON answer; ``reward_inside`` is the mean sum of all rewards' magnitudes, against which a score near zero is seen."""
        trips = 1000.0 * np.array(self.round_trips or [0.0])
        return {
            "rig": self.rig, "mode": "lock-step" if self.lock_step else "real time", "episodes": len(self.scores),
            "score": float(np.mean(self.scores)) if self.scores else 0.0,
            "score_inside": float(np.mean(self.scores_inside)) if self.scores_inside else 0.0,
            "reward_inside": float(np.mean([np.abs(r.terms).sum() for r in self.inside])) if self.inside else 0.0,
            "success": float(np.mean(self.successes)) if self.successes else 0.0,
            "success_inside": float(np.mean(self.successes_inside)) if self.successes_inside else 0.0,
            "samples": self.samples, "missed": self.missed, "late": self.late, "waited": self.waited, "real_time_priority": self.real_time_priority, "faults": self.faults, "link": self.link, "guards": self.counters,
            "round_trip_ms": {
                "median": float(np.median(trips)), "p99": float(np.percentile(trips, 99)), "max": float(trips.max()),
            },
            "command_difference": self.difference, "not_finite": self.not_finite, "counters": self.counters, "stopped": self.stopped, "limited_first": self.limited_first, "footprint": self.footprint,
            "whole": self.whole, "drive_difference": self.drive_difference, "states": self.states, "without_noise": list(self.without_noise),
        }  # fmt: skip


def log_text(result: RolloutResult) -> str:
    """What was sensed and commanded in the first episode, sample by sample, as comma-separated values under the contract's names."""
    recording, problem = result.recordings[0], result.problem
    assert problem is not None
    names = [e.name for e in problem.sensed]
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["time", *names, *(f"command {c.name}" for c in problem.commands)])
    rows = zip(recording.observations[:, : len(names)], recording.commands, strict=False)
    writer.writerows(
        [f"{k * problem.sample_time:.9g}", *(f"{x:.9g}" for x in (*seen, *given))]
        for k, (seen, given) in enumerate(rows)
    )
    return out.getvalue()
