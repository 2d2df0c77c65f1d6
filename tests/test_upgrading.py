"""Files of older formats: read as they are, brought up to date on opening, their text kept, what they say unchanged."""

from __future__ import annotations

import json
import shutil
import tomllib
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pytestqt.qtbot import QtBot

from plucky_heron.cli.main import main
from plucky_heron.desktop.shell.causeway import JobLine
from plucky_heron.desktop.window import Window
from plucky_heron.files import validate
from plucky_heron.project import Project, demo_source, upgrade_files
from plucky_heron.task.schema import Task
from plucky_heron.training.recipe import Recipe, recipe_from_json
from plucky_heron.upgrading import FORMAT, upgrade, upgrade_text

FINGERPRINTS = {
    "lift": "eb21dde04784e253", "walk": "78143681612afded", "sow": "5d2e2e7da619ce9c", "rock": "2bb543f03cdc1ecb",
}  # fmt: skip

OLD_TASK = """# Reach the end.
format = 1
machine = "hoist"  # ours

[rewards.end]             # once
pay = "at ending"
ending = "spilt"
weight = -150

# --- after it ---
[rewards.slope]
formula = "1"
"pay" = "each step"

[acknowledged]
"success pays" = "nobody gets there by rule"
"""


def older(folder: Path) -> Path:
    """The demo project as format 1 wrote it."""
    shutil.copytree(demo_source(), folder, ignore=shutil.ignore_patterns("runs", "packs"))
    for path in [folder / "project.toml", *folder.glob("*/*.toml")]:
        text = path.read_text()
        text = text.replace("format = 2\n", "format = 1\n").replace('\nwhen = "', '\npay = "')
        text = text.replace("\ntraining_time_limit = ", "\ncut_after = ").replace("success is rewarded", "success pays")
        path.write_text(text)
    return folder


def test_only_the_renamed_keys_of_a_text_change() -> None:
    wanted = OLD_TASK.replace("format = 1", f"format = {FORMAT}").replace('pay = "at', 'when = "at')
    wanted = wanted.replace('"pay" =', "when =").replace("success pays", "success is rewarded")
    assert upgrade_text(OLD_TASK, "tasks") == wanted
    assert upgrade_text(wanted, "tasks") == wanted


@pytest.mark.parametrize(
    "text",
    [
        '[rewards.pay]\npay = "each step"\nformula = "1"\n',
        '[rewards]\npay = { pay = "each step", formula = "1" }  # a term named like the old key\n',
        'rewards.pay.pay = "each step"\nrewards.pay.formula = "pay == 1"\n',
        '[quantities]\npay = "1"\n[rewards.a]\nformula = "pay"\npay = "each step"\n',
        'notes = """\npay = 1\n"""\n[rewards.a]\nformula = "1"\npay = "each step"\n',
    ],
)
def test_the_same_word_elsewhere_is_left_alone(text: str) -> None:
    before, after = tomllib.loads(text), tomllib.loads(upgrade_text("format = 1\n" + text, "tasks"))
    assert after.pop("format") == FORMAT
    assert upgrade(before, "tasks") is True
    before.pop("format")
    assert after == before
    assert {term["when"] for term in after["rewards"].values()} == {"each step"}
    assert after.get("quantities") == tomllib.loads(text).get("quantities")


@given(
    st.dictionaries(
        st.sampled_from(["pay", "when", "a", "b"]),
        st.dictionaries(st.sampled_from(["pay", "weight", "formula", "ending"]), st.text("pay =\"'#\\", max_size=8)),
    )
)
def test_a_text_says_after_it_what_its_tables_say(rewards: dict[str, dict[str, str]]) -> None:
    import tomlkit

    text = tomlkit.dumps({"format": 1, "rewards": rewards})
    wanted = tomllib.loads(text)
    upgrade(wanted, "tasks")
    assert tomllib.loads(upgrade_text(text, "tasks")) == wanted


def test_an_older_project_is_upgraded_on_opening_with_a_copy(tmp_path: Path) -> None:
    folder = older(tmp_path / "p")
    before = {p: p.read_text() for p in [folder / "project.toml", *folder.glob("*/*.toml")]}
    project = Project(folder)
    assert sorted(project.upgraded) == sorted(str(p.relative_to(folder)) for p in before)
    for path, text in before.items():
        name = path.relative_to(folder)
        assert (folder / ".format-1" / name).read_text() == text
        assert path.read_text() == (demo_source() / name).read_text()
    assert project.upgraded_text() == f"{len(before)} files brought up to date; as they were: {folder / '.format-1'}"
    assert Project(folder).upgraded == [] and Project(folder).upgraded_text() == ""


def test_fingerprints_stay_those_of_format_1(tmp_path: Path) -> None:
    """Runs of format 1 hold theirs; these were kept when it was the format, and the wader's joints had no gear."""
    folder = older(tmp_path / "p")
    wader = folder / "machines/wader.toml"
    wader.write_text(wader.read_text().replace("gear = 50\n", ""))
    project = Project(folder)
    assert {name: project.problem(name).fingerprint() for name in FINGERPRINTS} == FINGERPRINTS


def test_a_project_that_may_not_be_written_is_read_as_it_is(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from plucky_heron.errors import FileError

    def full(path: Path, data: bytes | str) -> None:
        raise FileError(path, "", None, "cannot be written: Read-only file system")

    folder = older(tmp_path / "p")
    before = (folder / "tasks/lift.toml").read_text()
    monkeypatch.setattr("plucky_heron.project.write_whole", full)
    project = Project(folder)
    assert project.upgraded == []
    assert (folder / "tasks/lift.toml").read_text() == before
    assert project.problem("lift").fingerprint() == Project(demo_source()).problem("lift").fingerprint()
    assert project.recipe("lane") == Project(demo_source()).recipe("lane")


def test_a_file_that_cannot_be_read_stays_and_the_others_are_upgraded(tmp_path: Path) -> None:
    folder = older(tmp_path / "p")
    (folder / "tasks/broken.toml").write_text("format = 1\n[rewards\n")
    (folder / "tasks/stranger.toml").write_bytes(b"format = 1\n\xff")
    (folder / "tasks/link.toml").symlink_to(tmp_path / "elsewhere.toml")
    (tmp_path / "elsewhere.toml").write_text("format = 1\n")
    found = upgrade_files(folder)
    assert "tasks/lift.toml" in found
    assert (folder / "tasks/broken.toml").read_text() == "format = 1\n[rewards\n"
    assert (tmp_path / "elsewhere.toml").read_text() == "format = 1\n"


def test_copies_never_leave_the_project(tmp_path: Path) -> None:
    folder = older(tmp_path / "p")
    (tmp_path / "outside").mkdir()
    (folder / ".format-1").symlink_to(tmp_path / "outside")
    before = (folder / "tasks/lift.toml").read_text()
    assert upgrade_files(folder) == []
    assert list((tmp_path / "outside").iterdir()) == [] and (folder / "tasks/lift.toml").read_text() == before


def test_a_file_without_a_format_is_read_in_old_words_and_in_new() -> None:
    new = tomllib.loads((demo_source() / "tasks/lift.toml").read_text())
    del new["format"]
    old = tomllib.loads((demo_source() / "tasks/lift.toml").read_text().replace('\nwhen = "', '\npay = "'))
    del old["format"]
    assert validate(Task, old, "t") == validate(Task, new, "t")
    assert "pay" in old["rewards"]["spilt"], "what was given was changed"


def test_the_recipe_of_a_run_of_format_1_is_read() -> None:
    kept = json.loads(Recipe().model_dump_json()) | {"format": 1}
    kept["cut_after"] = 2.5
    del kept["training_time_limit"]
    assert recipe_from_json(json.dumps(kept), "run").training_time_limit == 2.5


def test_the_window_and_the_command_line_say_that_files_were_brought_up_to_date(
    tmp_path: Path, qtbot: QtBot, capsys: pytest.CaptureFixture[str]
) -> None:
    window = Window(older(tmp_path / "p"))
    qtbot.addWidget(window)
    assert "brought up to date" in window.findChild(JobLine).text.text()
    window.close()
    assert main(["runs", "--project", str(older(tmp_path / "q")), "--json"]) == 0
    told = capsys.readouterr()
    json.loads(told.out)
    assert "brought up to date" in told.err
