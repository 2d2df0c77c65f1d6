"""The command line: answers, exit statuses, one clear line for what is wrong."""

from __future__ import annotations

import contextlib
import csv
import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest
from typer.testing import CliRunner

from plucky_heron import __version__
from plucky_heron.cli.common import ORDER
from plucky_heron.cli.main import app, main
from plucky_heron.project import Project
from plucky_heron.runs.executors import worker_environment
from plucky_heron.runs.store import RunRow

ROOT = Path(__file__).resolve().parents[2]


def answer(capsys: pytest.CaptureFixture[str], *arguments: str, status: int = 0) -> dict[str, Any]:
    """The one JSON object of a command."""
    assert main([*arguments, "--json"]) == status
    out = capsys.readouterr().out
    assert out.count("\n") == 1
    told: dict[str, Any] = json.loads(out)
    return told


def complaint(capsys: pytest.CaptureFixture[str], *arguments: str) -> str:
    """The one line of a command that is refused."""
    assert main(list(arguments)) == 2
    caught = capsys.readouterr()
    assert caught.out == ""
    lines = [line for line in caught.err.splitlines() if line.startswith("heron: ")]
    assert len(lines) == 1
    return lines[0]


def test_the_help_lists_the_commands_in_the_order_of_the_work(capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["--help"]) == 0
    lines = [line.strip("│ ").split(" ")[0] for line in capsys.readouterr().out.splitlines()]
    found = [name for name in lines if name in ORDER]
    assert found == list(ORDER) and len(app.registered_commands) == len(ORDER), "a command that the order does not know"
    assert main([]) == 2 and "heron:" not in capsys.readouterr().err


def test_the_version_is_that_of_the_package(capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["--version"]) == 0
    assert capsys.readouterr().out == f"Plucky Heron {__version__}\n"


def test_the_shell_is_told_how_words_go_on(capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch) -> None:
    for name, value in (("_HERON_COMPLETE", "complete_bash"), ("COMP_WORDS", "heron tr"), ("COMP_CWORD", "1")):
        monkeypatch.setenv(name, value)
    with contextlib.suppress(SystemExit):
        main([])
    assert capsys.readouterr().out.split() == ["trust", "train"]


def test_simulate_writes_its_columns(capsys: pytest.CaptureFixture[str], folder: Path, tmp_path: Path) -> None:
    out = tmp_path / "x.csv"
    machine = str(folder / "machines" / "hoist.toml")
    given = answer(
        capsys, "simulate", machine, "--seconds", "0.5", "--start", "cable=10 deg", "--rate", "500", "--integrator", "rk4",
        "--every", "50", "--out", str(out),
    )  # fmt: skip
    with out.open() as file:
        rows = list(csv.DictReader(file))
    assert list(rows[0]) == [
        "time", "trolley.position", "trolley.velocity", "cable.position", "cable.velocity", "reel.position", "reel.velocity",
        "energy.kinetic", "energy.potential",
    ]  # fmt: skip
    assert given["rows"] == len(rows) == 6
    assert float(rows[1]["time"]) == 0.1 and float(rows[0]["cable.position"]) == pytest.approx(0.174533, abs=1e-6)


@pytest.mark.parametrize(
    ("extra", "words"),
    [
        (["--start", "cabel=1"], "cabel"), (["--start", "cable"], "name=value"), (["--start", "cable=3 kg"], "rad"),
        (["--integrator", "euler"], "semi-implicit or rk4"), (["--seconds", "-1"], "wanted above 0"), (["--out", "/proc/no/x.csv"], "cannot be written"),
    ],
)  # fmt: skip
def test_simulate_explains_wrong_use(
    capsys: pytest.CaptureFixture[str], folder: Path, tmp_path: Path, extra: list[str], words: str
) -> None:
    command = [
        "simulate",
        str(folder / "machines" / "hoist.toml"),
        "--seconds",
        "0.1",
        "--out",
        str(tmp_path / "x.csv"),
        *extra,
    ]
    assert words in complaint(capsys, *command)


def test_wrong_names_are_explained_with_what_there_is(capsys: pytest.CaptureFixture[str], folder: Path) -> None:
    project = ["--project", str(folder)]
    assert "lift" in complaint(capsys, "shakedown", "lft", *project)
    assert "ppo" in complaint(capsys, "train", "lift", "--recipe", "pp", *project)
    assert "ppo" in complaint(capsys, "train", "lift", "--method", "magic", *project)
    assert "discount" in complaint(capsys, "train", "lift", "--set", "discont=0.9", *project)
    assert "no run 3" in complaint(capsys, "prove", "3", *project)
    assert "not a project" in complaint(capsys, "runs", str(folder / "tasks"))
    assert "not a pack" in complaint(capsys, "rollout", str(folder))
    assert main(["no-such-command"]) == 2
    assert main(["train", "lift", "--seeds", "many"]) == 2


def test_project_and_json_may_stand_before_the_command(capsys: pytest.CaptureFixture[str], folder: Path) -> None:
    assert main(["wish", "hoist", "--project", str(folder), "--json"]) == 0
    behind = capsys.readouterr().out
    for before in (["--project", str(folder), "--json"], ["--json", f"--project={folder}"]):
        assert main([*before, "wish", "hoist"]) == 0
        assert capsys.readouterr().out == behind
    for lacking in (["--project", str(folder)], ["--project"]):
        assert main(lacking) == 2
        assert capsys.readouterr().err.count("\n") == 1


def test_shakedown_answers_no_when_something_is_wrong(capsys: pytest.CaptureFixture[str], folder: Path) -> None:
    good = answer(capsys, "shakedown", str(folder / "tasks" / "lift.toml"))
    assert {"name", "severity", "passed", "evidence"} <= set(good["checks"][0])
    assert set(good["rehearsals"]) == {"nobody", "constant", "random", "random, smooth", "rule steady", "regulator"}
    path = folder / "tasks" / "lift.toml"
    path.write_text(path.read_text().replace('"abs(cable.angle) > 0.5236"', '"abs(cable.angle) >= 0"'))
    bad = answer(capsys, "shakedown", "lift", "--project", str(folder), status=1)
    assert [c["name"] for c in bad["checks"] if not c["passed"] and c["severity"] == "wrong"] == ["starts last"]


def test_train_prove_hand_over_and_roll_out(capsys: pytest.CaptureFixture[str], folder: Path, tmp_path: Path) -> None:
    project = ["--project", str(folder)]
    quick = [
        "--steps",
        "3000",
        "--set",
        "copies=16",
        "--set",
        "steps_per_update=512",
        "--set",
        "evaluation.every=1500",
        "--set",
        "evaluation.episodes=8",
    ]
    trained = answer(capsys, "train", "lift", "--seed", "5", *quick, *project)
    assert trained["seed"] == 5 and trained["stopped_by"]["rule"] == "budget" and trained["steps"] == 3072
    assert set(trained["best"]) == {"step", "score", "success"}
    batch = answer(capsys, "train", "lift", "--seeds", "2", *quick, *project)
    assert [r["seed"] for r in batch["runs"]] == [1, 2] and batch["success"]["worst"] <= batch["success"]["median"]
    listed = answer(capsys, "runs", str(folder))
    assert [r["run"] for r in listed["runs"]] == [1, 2, 3]
    proved = answer(capsys, "prove", "1", "--trials", "16", "--vary", "basket.mass=30kg:40kg", *project)
    assert proved["trials"] == 16 and set(proved["drivers"]["policy"]) >= {
        "success",
        "success_interval",
        "score",
        "worst",
    }
    assert answer(capsys, "prove", "1", "--trials", "4", "--require", "1.0", *project, status=1)["run"] == 1
    pack = tmp_path / "pack"
    handed = answer(capsys, "handover", "1", "--out", str(pack), *project)
    assert {"policy.onnx", "policy.c", "policy.h", "pack.json", "vectors.csv"} <= set(handed["files"]) and set(
        handed["equality"]
    ) == {"onnx", "c99", "c"}
    rolled = answer(capsys, "rollout", str(pack), "--on", "host", "--fast", "--episodes", "2")
    assert rolled["missed"] == 0 and set(rolled["round_trip_ms"]) == {"median", "p99", "max"}
    compared = answer(capsys, "compare", "1", "2", *project)
    assert len(compared["runs"]) == 2


def test_a_new_project_is_complete(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    made = answer(capsys, "new", str(tmp_path / "yard"), "--from", "hoist")
    assert made["tasks"] == ["lift"]
    assert Project(tmp_path / "yard").problem("lift").machine.name == "hoist"
    assert "not empty" in complaint(capsys, "new", str(tmp_path / "yard"))
    assert "no such machine" in complaint(capsys, "new", str(tmp_path / "other"), "--from", "crane")


@pytest.mark.long
def test_ctrl_c_stops_cleanly_and_keeps_everything(folder: Path) -> None:
    command = [sys.executable, "-m", "plucky_heron.cli.main", "train", "lift", "--project", str(folder), "--json"]
    process = subprocess.Popen(
        command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=worker_environment()
    )
    project, deadline = Project(folder), time.monotonic() + 240
    while time.monotonic() < deadline and not any(row.steps > 3000 for row in project.runs()):
        time.sleep(0.1)
    process.send_signal(signal.SIGINT)
    out, _ = process.communicate(timeout=300)
    given = json.loads(out)
    assert process.returncode == 0 and given["stopped_by"]["rule"] == "by hand" and given["steps"] >= 3000
    assert given["best"]["step"] is not None


def test_help_is_light(trained: tuple[Project, RunRow]) -> None:
    """--help must not import what is heavy."""
    code = "import sys; from plucky_heron.cli.main import main; main(['--help']); print(sorted(set(sys.modules) & {'numpy', 'numba', 'scipy', 'PySide6', 'pydantic'}))"
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, env=worker_environment(), check=True
    )
    assert done.stdout.strip().endswith("[]")
    assert "handover" in done.stdout


def test_launcher_and_readme_agree() -> None:
    assert os.access(ROOT / "heron", os.X_OK) and os.access(ROOT / ".ci" / "run", os.X_OK)
    readme = (ROOT / "README.md").read_text()
    assert "./heron demo" in readme and "./heron test" in readme


def test_methods_are_listed_with_their_advice_and_settings() -> None:
    runner = CliRunner()
    answer = json.loads(runner.invoke(app, ["methods", "--json"]).stdout)
    by_key = {m["method"]: m for m in answer["methods"]}
    assert {"ppo", "a2c", "ddpg", "td3", "sac", "model-based", "cross-entropy"} <= set(by_key)
    assert {s["key"] for s in by_key["sac"]["settings"]} >= {
        "discount",
        "target_mix",
        "updates_per_step",
        "return_steps",
    }
    assert "goes wrong" in runner.invoke(app, ["methods"]).stdout


DATA = Path(__file__).parents[2] / "docs" / "data"


def test_a_machine_comes_from_a_urdf_with_the_task_that_is_wished(
    capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    cell = tmp_path / "cell"
    given = answer(
        capsys,
        "new",
        str(cell),
        "--from",
        str(DATA / "picker.urdf"),
        "--wish",
        "reach a place",
        "--answer",
        "within=3 cm",
    )
    assert given["tasks"] == ["reach_a_place"]
    assert "away < 0.03" in (cell / "tasks" / "reach_a_place.toml").read_text()
    given = answer(
        capsys, "import", str(DATA / "cartbot.urdf"), "--into", str(cell), "--wish", "dock", "--name", "cart"
    )
    assert given["machine"] == "cart" and given["task"] == "dock" and "machines/cart.toml" in given["files"]
    assert any("grade" in line for line in given["assumed"])
    offers = answer(capsys, "wish", "cart", "--project", str(cell))["wishes"]
    assert {o["name"] for o in offers if o["fits"]} == {
        "reach a place",
        "follow a set-point",
        "go along a course",
        "dock",
    }
    assert all(o["why_not"] for o in offers if not o["fits"])
    given = answer(capsys, "wish", "cart", "go along a course", "--name", "lane", "--project", str(cell))
    assert given["task"] == "lane" and {line["card"] for line in given["written"]} >= {
        "Observations",
        "Site",
        "Machine",
    }
    assert main(["wish", "cart", "--project", str(cell)]) == 0
    assert "no feet" in capsys.readouterr().out


def test_a_wish_and_an_import_that_cannot_be_are_explained(
    capsys: pytest.CaptureFixture[str], folder: Path, tmp_path: Path
) -> None:
    project = ["--project", str(folder)]
    assert "no thrusters" in complaint(capsys, "wish", "hoist", "hover and fly to points", *project)
    assert "no such wish" in complaint(capsys, "wish", "hoist", "fly", *project)
    assert "no such machine" in complaint(capsys, "wish", "hist", "balance", *project)
    assert "asked by none" in complaint(capsys, "wish", "hoist", "balance", "--answer", "depth=3 m", *project)
    assert "name=value" in complaint(capsys, "wish", "hoist", "balance", "--answer", "far", *project)
    fresh = tmp_path / "never"
    assert "does not fit" in complaint(capsys, "new", str(fresh), "--from", str(DATA / "picker.urdf"), "--wish", "dock")
    assert not fresh.exists(), "nothing is left of what could not be made"
    (tmp_path / "broken.urdf").write_text("<robot>")
    assert "not valid XML" in complaint(capsys, "import", str(tmp_path / "broken.urdf"), "--into", str(folder))
    assert "no such file" in complaint(capsys, "import", str(tmp_path / "none.urdf"), "--into", str(folder))
    again = ["import", str(DATA / "picker.urdf"), "--into", str(folder)]
    assert main(again) == 0
    capsys.readouterr()
    assert "is there already" in complaint(capsys, *again)
