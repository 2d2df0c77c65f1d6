"""A project that has nothing of the demo: a machine with a mesh, a course from a drawing; trained, proved, handed over, rolled out."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import Any

import pytest

from plucky_heron.cli.main import main
from plucky_heron.project import Project
from tests.hostile.corpus import stl

MACHINE = """
format = 2
name = "sled"
[bodies.sled]
mass = "12 kg"
inertia = ["0.4 kg*m**2", "0.6 kg*m**2", "0.8 kg*m**2"]
shapes = [{ kind = "hull", file = "../parts/keel.stl", scale = 0.5, solid = false }]
[joints.ride]
kind = "planar"
axis = [0, 0, 1]
parent = "ground"
child = "sled"
damping = 8.0
[drives.push]
kind = "thrust"
body = "sled"
direction = [1, 0, 0]
limit = "30 N"
lowest = "-30 N"
[drives.yaw]
kind = "thrust"
body = "sled"
at = ["0.6 m", "0 m", "0 m"]
direction = [0, 1, 0]
limit = "10 N"
lowest = "-10 N"
[sensors.way]
kind = "course"
body = "sled"
"""
SITE = 'format = 2\nname = "yard"\n[drawings.plan]\nfile = "../drawings/plan.svg"\nscale = 0.02\nwidth = "1.5 m"\n'
SVG = """<svg xmlns="http://www.w3.org/2000/svg" width="200mm" height="100mm" viewBox="0 0 400 200">
<g id="courses"><path d="M 20,180 C 120,180 140,40 380,40" /></g></svg>"""
TASK = """
format = 2
name = "along the yard"
machine = "sled"
site = "yard"
[timing]
control_rate = "20 Hz"
substeps = 5
time_limit = "4 s"
[[observations]]
name = "offset"
formula = "way.offset"
unit = "m"
range = ["-2 m", "2 m"]
[[observations]]
name = "heading"
formula = "way.heading"
unit = "rad"
range = ["-3.2 rad", "3.2 rad"]
[[observations]]
name = "speed"
formula = "way.speed"
unit = "m/s"
range = ["-4 m/s", "4 m/s"]
[[actions]]
name = "push"
drive = "push"
[[actions]]
name = "yaw"
drive = "yaw"
[rewards.going]
formula = "way.speed - 1.0 * abs(way.offset)"
[measure]
name = "got along"
formula = "way.progress > 2"
[placing.ride]
along = ["0 m", "0.5 m"]
[rules.straight.commands]
push = "20"
yaw = "-8 * way.heading - 4 * way.offset"
"""
RECIPE = """
format = 2
method = "ppo"
copies = 16
steps = 4096
[settings]
steps_per_update = 1024
[evaluation]
every = 2048
episodes = 8
"""


@pytest.fixture
def foreign(tmp_path: Path) -> Path:
    """The project."""
    folder = tmp_path / "foreign"
    for name, text in {
        "project.toml": 'format = 2\nname = "foreign"\n', "machines/sled.toml": MACHINE, "sites/yard.toml": SITE, "drawings/plan.svg": SVG,
        "tasks/along.toml": TASK, "recipes/quick.toml": RECIPE,
    }.items():  # fmt: skip
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(text)
    (folder / "parts").mkdir()
    stl(folder / "parts" / "keel.stl")
    return folder


@pytest.mark.long
def test_it_goes_all_the_way(foreign: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    def answer(*typed: str) -> dict[str, Any]:
        status = main([*typed, "--json"])
        said = capsys.readouterr()
        assert status in (0, 1) and "fault of the program" not in said.err, said.err
        told: dict[str, Any] = json.loads(said.out)
        return told

    place = ("--project", str(foreign))
    assert answer("shakedown", "along", *place)["rehearsals"]["rule straight"]["success"] > 0.5
    run = answer("train", "along", "--recipe", "quick", *place)
    assert run["state"] == "done" and run["retest"] is not None
    before = Project(foreign).frozen(run["run"]).fingerprint()
    # the run has all it needs of its own: the project may change, or lose its files
    shutil.rmtree(foreign / "parts")
    shutil.rmtree(foreign / "drawings")
    assert Project(foreign).frozen(run["run"]).fingerprint() == before
    proof = answer("prove", str(run["run"]), "--trials", "8", *place)
    assert set(proof["drivers"]) >= {"policy", "nobody", "rule straight"}
    narrowed = answer("prove", str(run["run"]), "--trials", "4", "--vary", "sled.mass=11kg:12kg", *place)
    assert narrowed["varied"]
    pack = tmp_path / "pack"
    assert max(answer("handover", str(run["run"]), "--out", str(pack), *place)["equality"].values()) < 1e-5
    assert {"frozen/parts/keel.stl", "frozen/drawings/plan.svg"} <= set(
        json.loads((pack / "pack.json").read_text())["hashes"]
    )
    assert "8 trials" in (pack / "data-sheet.md").read_text()  # the proof on the task's own variation
    shutil.rmtree(foreign / "machines")
    rolled = answer("rollout", str(pack), "--fast", "--episodes", "2", *place)
    assert rolled["missed"] == 0 and rolled["score"] == pytest.approx(rolled["score_inside"], rel=0.01, abs=0.05)
