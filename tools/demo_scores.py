"""Rehearse and measure tasks of the demo and keep what was found beside them: tools/demo_scores.py [--measure-only] [TASK...]."""

from __future__ import annotations

import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "src"))

from plucky_heron.analysis.shakedown.rehearsals import keep_scores, shake_down
from plucky_heron.project import Project, demo_source
from plucky_heron.training.measurement import measured


def main() -> None:
    """All tasks, or those named."""
    project = Project(demo_source())
    if "--smoke" in sys.argv:  # rehearsed, and nothing kept
        result = shake_down(project.problem("lift"), progress=lambda _, share: share < 0.4)
        print(f"lift: {len(result.rehearsals)} drivers, {result.seconds:.1f} s")
        return
    named = [a for a in sys.argv[1:] if a != "--measure-only"]
    for task in named or project.tasks():
        problem = project.problem(task)
        print(f"{task}: looks {measured(problem, demo_source()).horizon:.3g} s ahead", flush=True)
        if "--measure-only" in sys.argv:
            continue
        result = shake_down(problem)
        keep_scores(problem, demo_source(), result.rehearsals)
        for check in result.checks:
            if not check.passed:
                print(
                    f"{task}: {check.severity} {check.name}: {check.evidence} ({check.acknowledged or 'open'})",
                    flush=True,
                )
        print(f"{task}: {result.seconds:.1f} s", flush=True)


if __name__ == "__main__":
    main()
