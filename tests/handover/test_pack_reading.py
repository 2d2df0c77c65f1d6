"""A pack is read key by key: one wrong length, sign, NaN, null or missing key is one line, and a stranger's C waits for trust."""

from __future__ import annotations

import copy
import json
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from plucky_heron.cli.main import main
from plucky_heron.errors import FileError
from plucky_heron.handover.description import pack_hash
from plucky_heron.handover.pack import write_pack
from plucky_heron.handover.reading import read_pack
from plucky_heron.project import Project
from plucky_heron.rigs.rollout import roll_out
from plucky_heron.runs.results import PACK, ROLLOUT
from plucky_heron.runs.store import RunRow, RunStore
from plucky_heron.trust import UntrustedError


@pytest.fixture(scope="module")
def packed(trained: tuple[Project, RunRow], tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A pack of the short run."""
    out = tmp_path_factory.mktemp("pack") / "pack"
    write_pack(trained[0].folder, trained[1], out)
    return out


def altered(packed: Path, place: Path, change: Callable[[dict[str, Any]], object], *, sealed: bool = True) -> Path:
    """A copy of the pack with another description, its hash made to fit."""
    made = place / "pack"
    shutil.copytree(packed, made)
    facts = json.loads((packed / "pack.json").read_text())
    change(facts)
    if sealed:
        facts["hash"] = pack_hash(facts)
    (made / "pack.json").write_text(json.dumps(facts))
    return made


WRONG: tuple[tuple[str, Callable[[dict[str, Any]], object], str], ...] = (
    ("a missing key", lambda p: p.pop("safety"), "safety: is missing"),
    ("an unknown key", lambda p: p.update(extra=1), "extra: unknown key"),
    ("a null", lambda p: p.update(sample_time=None), "sample_time"),
    ("a negative sample time", lambda p: p.update(sample_time=-0.02), "sample_time"),
    ("a zero sample time", lambda p: p.update(sample_time=0.0), "sample_time"),
    ("a text for a number", lambda p: p.update(sample_time="0.02"), "sample_time"),
    ("a safe command too few", lambda p: p["safety"]["command"].pop(), "safety.command has 1"),
    ("a safe command outside", lambda p: p["safety"].update(command=[1e9, 0.0]), "outside its limits"),
    ("a hold below zero", lambda p: p["safety"].update(hold=-1.0), "safety.hold"),
    ("an input too few", lambda p: p["inputs"].pop(), "wanted 9 inputs"),
    ("an output too many", lambda p: p["outputs"].append(copy.deepcopy(p["outputs"][0])), "wanted 3 outputs"),
    ("limits the wrong way round", lambda p: p["outputs"][0].update(low=5.0, high=-5.0), "low must be below high"),
    ("a scale of zero", lambda p: p["inputs"][0].update(scale=0.0), "scale"),
    ("a network of no layers", lambda p: p["network"].update(sizes=[]), "network.sizes"),
    ("true for a number", lambda p: p["safety"].update(hold=True), "safety.hold"),
    ("no hash of the C", lambda p: p["hashes"].pop("policy.c"), "hashes.policy.c: is missing"),
    ("no hash of the task", lambda p: p["hashes"].pop("frozen/tasks/lift.toml"), "is missing"),
    ("a hash that is none", lambda p: p["hashes"].update({"policy.c": "x"}), "hashes.policy.c"),
    ("a file outside", lambda p: p["hashes"].update({"../../etc/hostname": "0" * 64}), "leads out"),
    ("a format of tomorrow", lambda p: p.update(format=99), "this program reads format"),
)


@pytest.mark.parametrize(("change", "words"), [row[1:] for row in WRONG], ids=[row[0] for row in WRONG])
def test_one_wrong_key_is_one_line(
    packed: Path, tmp_path: Path, change: Callable[[dict[str, Any]], object], words: str
) -> None:
    made = altered(packed, tmp_path, change)
    with pytest.raises(FileError, match=words.replace("[", r"\[")) as refused:
        read_pack(made)
    assert "\n" not in str(refused.value)


@pytest.mark.parametrize("number", ["NaN", "Infinity", "-Infinity", "1e999"])
def test_numbers_that_are_none_are_refused(packed: Path, tmp_path: Path, number: str) -> None:
    made = altered(packed, tmp_path, lambda _: None)
    text = (made / "pack.json").read_text().replace('"sample_time": 0.02', f'"sample_time": {number}')
    (made / "pack.json").write_text(text)
    with pytest.raises(FileError, match=r"pack\.json"):
        read_pack(made)


def test_a_description_that_was_changed_is_refused(packed: Path, tmp_path: Path) -> None:
    made = altered(packed, tmp_path, lambda p: p["safety"].update(hold=0.2), sealed=False)
    with pytest.raises(FileError, match="changed after"):
        read_pack(made)


def test_c_of_a_stranger_waits_for_trust(packed: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    made = altered(packed, tmp_path, lambda p: p.update(machine="from elsewhere"))
    with pytest.raises(UntrustedError, match="heron trust") as asked:
        roll_out(made, episodes=1, lock_step=True)
    assert "heron_policy" in asked.value.text
    assert main(["rollout", str(made), "--fast"]) == 2
    assert main(["trust", str(made)]) == 0
    assert main(["rollout", str(made), "--fast", "--episodes", "1", "--json"]) == 0
    assert json.loads(capsys.readouterr().out.splitlines()[-1])["missed"] == 0
    (made / "policy.c").write_text((made / "policy.c").read_text() + "\n")
    with pytest.raises(FileError, match="changed after"):
        roll_out(made, episodes=1)


def test_what_is_not_listed_is_not_used(packed: Path, tmp_path: Path) -> None:
    made = altered(packed, tmp_path, lambda _: None)
    task = made / "frozen" / "tasks" / "lift.toml"
    (made / "frozen" / "tasks" / "lift.urdf").write_text("never read")
    assert read_pack(made).problem().task.name
    task.write_text(task.read_text() + "\n")
    with pytest.raises(FileError, match="changed after"):
        read_pack(made)


def test_results_are_kept_by_who_makes_them(trained: tuple[Project, RunRow], packed: Path) -> None:
    project, row = trained
    store = RunStore(project.folder)
    assert store.last_result(row.id, PACK) is not None
    roll_out(packed, episodes=1, lock_step=True, project=project.folder)
    found = store.last_result(row.id, ROLLOUT)
    store.close()
    assert found is not None and found["missed"] == 0 and found["not_finite"] == 0
