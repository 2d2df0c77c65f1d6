"""Good files of every kind that the program reads, each with what reading it means; to be made wrong by `mutations`."""

from __future__ import annotations

import shutil
import struct
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from plucky_heron.project import demo_source

SVG = """<svg xmlns="http://www.w3.org/2000/svg" xmlns:inkscape="http://www.inkscape.org/namespaces/inkscape" width="400" height="300" viewBox="0 0 400 300">
<g id="courses" inkscape:label="courses" inkscape:groupmode="layer"><path id="lane" d="M 10,20 C 100,20 120,200 300,220 L 380,100" /></g>
<g id="walls" inkscape:label="walls" transform="translate(10,10)"><polyline id="quay" points="0,0 50,50 100,20" /><rect x="5" y="5" width="30" height="20" /></g>
<g id="gates"><circle cx="60" cy="40" r="3" /></g></svg>
"""


@dataclass(frozen=True)
class Specimen:
    """A file of a project, and how it is read: `read` raises errors of ours for what is wrong, and nothing else."""

    name: str
    kind: str
    """toml, json, xml or bytes: how it is made wrong."""
    file: Path
    read: Callable[[Path], object]


def stl(path: Path) -> None:
    """A tetrahedron as binary STL."""
    corners = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1]], dtype="<f4")
    faces = [(0, 1, 2), (0, 1, 3), (0, 2, 3), (1, 2, 3)]
    body = b"".join(struct.pack("<3f", 0, 0, 1) + b"".join(corners[k].tobytes() for k in f) + b"\0\0" for f in faces)
    path.write_bytes(b"\0" * 80 + struct.pack("<I", len(faces)) + body)


def urdf_text() -> str:
    """A small arm with a transmission, a mimic joint and a mesh."""
    return """<?xml version="1.0"?>
<robot name="arm">
  <link name="base"><inertial><origin xyz="0 0 0.1"/><mass value="4"/><inertia ixx="0.1" iyy="0.1" izz="0.1" ixy="0" ixz="0" iyz="0"/></inertial>
    <collision><geometry><box size="0.2 0.2 0.2"/></geometry></collision></link>
  <link name="upper"><inertial><origin xyz="0 0 0.3" rpy="0 0 0.2"/><mass value="2"/><inertia ixx="0.05" iyy="0.05" izz="0.01" ixy="0" ixz="0" iyz="0"/></inertial>
    <collision><geometry><mesh filename="part.stl" scale="0.2 0.2 0.2"/></geometry></collision></link>
  <link name="lower"><inertial><mass value="1"/><inertia ixx="0.02" iyy="0.02" izz="0.01" ixy="0" ixz="0" iyz="0"/></inertial>
    <visual><geometry><cylinder radius="0.05" length="0.4"/></geometry></visual></link>
  <joint name="shoulder" type="revolute"><parent link="base"/><child link="upper"/><origin xyz="0 0 0.2"/><axis xyz="0 1 0"/><limit lower="-1.5" upper="1.5" effort="40" velocity="3"/><dynamics damping="0.4" friction="0.1"/></joint>
  <joint name="elbow" type="continuous"><parent link="upper"/><child link="lower"/><origin xyz="0 0 0.6"/><axis xyz="0 1 0"/><mimic joint="shoulder" multiplier="0.5" offset="0.1"/></joint>
  <transmission name="drive"><type>simple</type><joint name="shoulder"/><actuator name="motor"><mechanicalReduction>50</mechanicalReduction></actuator></transmission>
</robot>
"""


def foreign_project(folder: Path) -> Path:
    """A project with everything that a demo task has not: a mesh, a URDF, courses and walls from an SVG, heights from a PNG."""
    from PIL import Image

    shutil.copytree(demo_source(), folder, ignore=shutil.ignore_patterns("runs", "packs"))
    stl(folder / "machines" / "part.stl")
    (folder / "machines" / "arm.urdf").write_text(urdf_text())
    (folder / "sites" / "plan.svg").write_text(SVG)
    rows = (np.add.outer(np.arange(24), np.arange(32)) * 4).astype(np.uint8)
    Image.fromarray(rows).save(folder / "sites" / "heights.png")
    (folder / "sites" / "foreign.toml").write_text(
        'format = 2\n[terrain]\nkind = "map"\nmap = "heights.png"\nsize = ["8 m", "6 m"]\nheight = "0.2 m"\n'
        '[drawings.plan]\nfile = "plan.svg"\nscale = 0.05\n'
    )
    return folder


def specimens(folder: Path) -> list[Specimen]:
    """All specimens, their files in a fresh `foreign_project` at `folder`."""
    from plucky_heron.machine.drawings import read_site
    from plucky_heron.machine.reading import read_machine
    from plucky_heron.project import Project
    from plucky_heron.simulation.batch import Batch
    from plucky_heron.task.problem import read_problem
    from plucky_heron.training.recipe import read_recipe

    foreign_project(folder)

    def task_of(machine_or_site: str, name: str) -> str:
        for path in sorted((folder / "tasks").glob("*.toml")):
            if f'{machine_or_site} = "{name}"' in path.read_text():
                return path.stem
        return ""

    def whole(task: str) -> Callable[[Path], object]:
        def read_and_begin(_: Path) -> Batch:
            problem = read_problem(folder, task)
            batch = Batch(problem, 2, 1, "hostile", 1)
            batch.start(np.arange(2))
            for _step in range(2):
                batch.step(np.tile(0.5 * (problem.low + problem.high), (2, 1)))
            return batch

        return read_and_begin

    found: list[Specimen] = [
        Specimen("project", "toml", folder / "project.toml", lambda p: Project(p.parent).first_task())
    ]
    for kind in ("machines", "sites", "tasks", "recipes"):
        for path in sorted((folder / kind).glob("*.toml")):
            name = path.stem
            task = name if kind == "tasks" else task_of(kind[:-1], name)
            if kind == "recipes":
                read: Callable[[Path], object] = lambda p: read_recipe(folder, p.stem)  # noqa: E731
            elif task:
                read = whole(task)
            elif kind == "machines":
                read = read_machine
            else:
                read = lambda p: read_site(p)  # noqa: E731
            found.append(Specimen(f"{kind}/{name}", "toml", path, read))
    found.append(Specimen("urdf", "xml", folder / "machines" / "arm.urdf", read_machine))
    found.append(
        Specimen("stl", "bytes", folder / "machines" / "part.stl", lambda p: read_machine(p.with_name("arm.urdf")))
    )
    found.append(
        Specimen("svg", "xml", folder / "sites" / "plan.svg", lambda p: read_site(p.with_name("foreign.toml")))
    )
    found.append(
        Specimen("png", "bytes", folder / "sites" / "heights.png", lambda p: read_site(p.with_name("foreign.toml")))
    )
    return found


def kept_specimens(folder: Path) -> list[Specimen]:
    """What the program itself keeps: store, checkpoint, policy, frozen recipe, pack, scores, trust, recorded commands."""
    from plucky_heron.analysis.shakedown.rehearsals import kept_scores, read_commands, write_commands
    from plucky_heron.handover.pack import write_pack
    from plucky_heron.handover.reading import read_pack
    from plucky_heron.project import Project
    from plucky_heron.runs import launch
    from plucky_heron.runs.freeze import frozen_problem, frozen_recipe, kept_policy
    from plucky_heron.runs.store import DONE, RunStore, run_folder
    from plucky_heron.training.loop import Run
    from plucky_heron.training.recipe import with_changes
    from plucky_heron.trust import trust, trust_file, trusted

    project = Project(folder)
    small = {
        "steps": "512",
        "copies": "16",
        "steps_per_update": "256",
        "evaluation.every": "256",
        "evaluation.episodes": "4",
    }
    number = launch.create_batch(folder, "lift", with_changes(project.recipe("ppo"), small), [1])[0]
    row = project.run(number)
    problem, recipe = frozen_problem(folder, row), frozen_recipe(folder, row)

    def fresh(_: Path) -> Run:
        return Run(problem, recipe, row.seed, run_folder(folder, number), identity=row.identity)

    run = fresh(folder)
    run.work(lambda *_: None, lambda *_: None, lambda: False)
    best = run.best
    assert best is not None
    store = RunStore(folder)
    store.update(
        number,
        state=DONE,
        best_step=best.step,
        best_score=best.score,
        best_success=best.success,
        retest={"episodes": 1, "success": 1.0, "score": 0.0},
    )
    store.connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    store.close()
    row = project.run(number)
    pack = folder.parent / "pack"
    write_pack(folder, row, pack)
    commands = folder / "recordings" / "lift-mine.csv"
    write_commands(commands, problem, np.zeros((20, 2)))
    trust(commands)
    place = run_folder(folder, number)

    def catalogue(_: Path) -> object:
        found = RunStore(folder)
        try:
            return found.runs(), found.course(number), found.details(number), found.last_result(number, "pack")
        finally:
            found.close()

    return [
        Specimen("store", "bytes", folder / "runs" / "store.sqlite", catalogue),
        Specimen("checkpoint", "bytes", place / "checkpoint.npz", lambda p: fresh(p).resume()),
        Specimen("policy", "bytes", place / "best.npz", lambda _: kept_policy(folder, row)),
        Specimen("recipe.json", "json", place / "frozen" / "recipe.json", lambda _: frozen_recipe(folder, row)),
        Specimen("run.json", "json", place / "frozen" / "run.json", lambda _: frozen_recipe(folder, row)),
        Specimen("pack.json", "json", pack / "pack.json", lambda _: read_pack(pack).problem()),
        Specimen("scores", "json", folder / "tasks" / "lift.scores.json", lambda _: kept_scores(folder, "lift")),
        Specimen("trusted", "json", trust_file(), lambda _: trusted()),
        Specimen("commands", "bytes", commands, lambda p: read_commands(p, problem)),
    ]
