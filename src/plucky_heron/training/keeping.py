"""Which policies of a run are kept on disk: the best, the last, and milestones on the way."""

from __future__ import annotations

from pathlib import Path

from plucky_heron.files import is_file, write_whole
from plucky_heron.learning.policy import Policy

MILESTONES = (1_000, 10_000, 100_000, 1_000_000, 10_000_000, 100_000_000)
"""Control steps at which a policy is kept: the first evaluation from each on."""
JUMP = 0.25
"""Rise of success above all milestones before it from which a policy is kept too; at most four can be."""


def due_films(steps: list[int], every: int) -> list[int]:
    """Which evaluations are filmed, by their steps, rising: the first, and the first from each multiple of `every` on.

    Of those chosen by it, it chooses all: what is kept for films can be told from what is kept.
    """
    chosen: dict[int, int] = {}
    for step in sorted(steps):
        chosen.setdefault(step // every, step)
    return list(chosen.values())


class Milestones:
    """The policies of a run that are kept besides the best and the last."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def due(self, course: list[tuple[int, float]]) -> bool:
        """Whether the policy of the last evaluation is one, from step and success of all evaluations so far."""
        (step, success), before = course[-1], course[:-1]
        last = before[-1][0] if before else -1
        if any(last < at <= step for at in MILESTONES):
            return True
        level = 0.0
        for _, reached in before:
            if reached >= level + JUMP:
                level = reached
        return success >= level + JUMP

    def save(self, step: int, policy: Policy, identity: str) -> None:
        """Keep a policy."""
        policy.save(self.folder / f"{step:012d}.npz", identity)

    def steps(self) -> list[int]:
        """Steps of those that are kept, rising."""
        if not self.folder.is_dir():
            return []
        return sorted(int(p.stem) for p in self.folder.glob("*.npz") if p.stem.isascii() and p.stem.isdecimal())

    def path(self, step: int) -> Path:
        """The file of one."""
        return self.folder / f"{step:012d}.npz"


def milestones_of(run_folder: Path) -> Milestones:
    """The milestones of a run, by its folder."""
    return Milestones(run_folder / "milestones")


def set_aside(run_folder: Path) -> None:
    """Keep the best policy so far under another name, before one takes its place that only an early end brought to light."""
    best = run_folder / "best.npz"
    if is_file(best):
        write_whole(run_folder / "best-before.npz", best.read_bytes())


def take_back(run_folder: Path) -> None:
    """Undo what followed `set_aside`."""
    before = run_folder / "best-before.npz"
    if is_file(before):
        write_whole(run_folder / "best.npz", before.read_bytes())
