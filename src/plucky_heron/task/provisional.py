"""A machine that nothing is wanted of yet: the task that stands in for one, so that it can be seen, edited, let go and driven."""

from __future__ import annotations

from pathlib import Path

from plucky_heron.machine.drawings import read_site
from plucky_heron.machine.reading import read_machine
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.task.problem import Problem, bind
from plucky_heron.task.schema import Action, Measure, Observation, Reward, Task, Timing

NAME = "no task"
"""What stands in the place of a task's name."""
FAST = 10.0


def provisional_task(machine: Machine, machine_name: str, site_name: str) -> Task:
    """All joints sensed and all drives given; nothing is wanted."""
    observations = []
    for joint, part in machine.joints.items():
        if part.kind in ("hinge", "slider"):
            reach = part.limits or (-FAST, FAST)
            observations.append(Observation(name=joint, formula=f"{joint}.position", unit=part.unit, range=reach))
    observations = observations or [Observation(name="time", formula="time", unit="s", range=(0.0, FAST))]
    actions = [Action(name=name, drive=name) for name, drive in machine.drives.items() if drive.kind != "brake"]
    return Task(
        name=NAME, machine=machine_name, site=site_name, timing=Timing(control_rate=50.0, substeps=10, time_limit=20.0),
        observations=tuple(observations), actions=tuple(actions) or (Action(name="nothing", limits=(-1.0, 1.0)),),
        rewards={"nothing": Reward(formula="0")}, measure=Measure(name="nothing yet", formula="time < 0"),
    )  # fmt: skip


def provisional_problem(folder: Path, machine: str, site: str) -> Problem:
    """A machine of a project on one of its sites, without a task.

    Raises
    ------
    FileError
        Machine or site cannot be read.
    """
    path = folder / "machines" / f"{machine}.toml"
    path = path if path.is_file() else path.with_suffix(".urdf")
    made = read_machine(path)
    place = read_site(folder / "sites" / f"{site}.toml") if site else Site()
    return bind(made, place, provisional_task(made, machine, site), str(path))
