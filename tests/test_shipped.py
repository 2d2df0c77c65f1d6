"""The batches that come with the demo: they fit its task, open without training, and show what they are there for."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest

from plucky_heron.cli.main import main
from plucky_heron.project import Project, demo_copy, demo_source
from plucky_heron.runs.freeze import frozen_problem, kept_policy
from plucky_heron.runs.looking import kept_episodes

RECORDED = demo_source().parent / "recorded"


@pytest.fixture
def project(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Project:
    """A newcomer's copy of the demo."""
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    return Project(demo_copy())


def test_they_fit_the_demo_as_it_is(project: Project) -> None:
    """After a change of the hoist or of its task, tools/ship_batches.py records them anew."""
    rows = project.runs()
    batches = {batch: [row for row in rows if row.batch == batch] for batch in dict.fromkeys(row.batch for row in rows)}
    hoist = [(b[0].method, len(b)) for b in batches.values() if b[0].task == "lift"]
    assert hoist == [("ppo", 3), ("sac", 5), ("ppo", 10)]
    assert all(row.state == "done" and row.note for row in rows)
    assert sum(p.stat().st_size for p in RECORDED.rglob("*") if p.is_file()) < 4_500_000
    for row in rows:
        problem = frozen_problem(project.folder, row)
        assert problem.fingerprint() == row.fingerprint == project.problem(row.task).fingerprint()
        assert kept_policy(project.folder, row).given == len(problem.sensed)


def test_every_machine_has_a_policy_that_can_be_watched(project: Project) -> None:
    found = {row.task: row for row in project.runs() if row.task != "lift"}
    machines = {project.problem(task).machine.name for task in found} | {"hoist"}
    assert machines == set(project.machines())
    for row in found.values():
        assert row.retest is not None and row.retest["success"] >= 0.25, row.task
        _, recordings = kept_episodes(project.folder, row, "best", 2)
        assert all(r.steps > 0 for r in recordings)


def test_rules_are_replayed_and_faults_found_without_training(
    project: Project, capsys: pytest.CaptureFixture[str]
) -> None:
    call = ["--project", str(project.folder), "--json"]
    assert main(["stops", "batch-3", "--rule", "good enough: 90 %, 2 running", "--try", "running=1:6", *call]) == 0
    answer = json.loads(capsys.readouterr().out)
    assert len(answer["runs"]) == 10 and answer["median"]["saved_share"] > 0.2 and len(answer["tried"]) == 6
    assert answer["judged"]["left_out"] == "run" and answer["unknown"] <= 1
    assert main(["diagnose", "batch-1", *call]) == 1
    assert json.loads(capsys.readouterr().out)["findings"][0]["name"] == "learning rate too large"
    assert main(["diagnose", "batch-3", *call]) == 0
    assert "healthy" in [f["name"] for f in json.loads(capsys.readouterr().out)["findings"]]


def test_a_policy_of_theirs_is_proved(project: Project, capsys: pytest.CaptureFixture[str]) -> None:
    best = max((row for row in project.runs() if row.batch == 3), key=lambda row: (row.retest or {})["success"])
    assert main(["prove", str(best.id), "--trials", "20", "--project", str(project.folder), "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["drivers"]["policy"]["success"] >= 0.9


def test_they_are_left_out_where_the_task_is_another(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    other = tmp_path / "demo"
    shutil.copytree(demo_source(), other / "quillmere", ignore=shutil.ignore_patterns("runs", "packs"))
    shutil.copytree(RECORDED, other / "recorded")
    path = other / "quillmere" / "tasks" / "lift.toml"
    path.write_text(path.read_text().replace('time_limit = "12 s"', 'time_limit = "11 s"'))
    monkeypatch.setattr("plucky_heron.project.demo_source", lambda: other / "quillmere")
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    found = Project(demo_copy())
    assert found.runs() and not [row for row in found.runs() if row.task == "lift"]
    assert not (found.folder / "runs" / "0001").exists()
