"""Whatever is typed: exit status 2 and one line that says what would be right, within two seconds; never a traceback."""

from __future__ import annotations

import os
import time
from pathlib import Path

import pytest

from plucky_heron.cli.main import main
from tests.conftest import copy_demo

BIG = "9" * 30
LONG = "x" * 300
OUT = ("--out", "{place}/out.csv")
SECOND = ("--seconds", "1", *OUT)
HOIST = "{project}/machines/hoist.toml"
IN = ("--project", "{project}")

WRONG: tuple[tuple[tuple[str, ...], str], ...] = (
    (("simulate", HOIST, "--seconds", "nan", *OUT), "seconds"), (("simulate", HOIST, "--seconds", "inf", *OUT), "seconds"),
    (("simulate", HOIST, "--seconds", "1e12", *OUT), "at most"), (("simulate", HOIST, "--seconds", "-1", *OUT), "seconds"),
    (("simulate", HOIST, *SECOND, "--rate", "inf"), "rate"), (("simulate", HOIST, *SECOND, "--rate", "nan"), "rate"),
    (("simulate", HOIST, *SECOND, "--rate", "1e12"), "rate"), (("simulate", HOIST, *SECOND, "--rate", "1e-9"), "rate"),
    (("simulate", HOIST, *SECOND, "--every", BIG), "every"), (("simulate", HOIST, *SECOND, "--every", "0"), "every"),
    (("simulate", HOIST, *SECOND, "--integrator", "euler"), "semi-implicit or rk4"),
    (("simulate", HOIST, *SECOND, "--start", "cable=nan"), "not finite"), (("simulate", HOIST, *SECOND, "--start", "cable=1e300"), "at most"),
    (("simulate", HOIST, *SECOND, "--start", "cable=9**(9*9*9*9*9*9)"), "not a quantity"), (("simulate", HOIST, *SECOND, "--start", "cabel=1"), "did you mean cable"),
    (("simulate", HOIST, *SECOND, "--start", "cable"), "name=value"), (("simulate", HOIST, "--seconds", "1", "--out", "{place}"), "folder"),
    (("simulate", HOIST, "--seconds", "1", "--out", "/proc/none/x.csv"), "cannot be written"), (("simulate", HOIST, "--seconds", "1", "--out", "{place}/" + LONG), "name"),
    (("simulate", "{place}/pipe.toml", *SECOND), "no regular file"), (("simulate", "{place}", *SECOND), "neither"), (("simulate", "{place}/folder.toml", *SECOND), "folder"),
    (("simulate", "{place}/pipe.urdf", *SECOND), "no regular file"), (("simulate", LONG + ".toml", *SECOND), "name"), (("simulate", "a\0b.toml", *SECOND), "null byte"),
    (("simulate", "{place}/klingon.urdf", *SECOND), "not valid XML"), (("simulate", "{place}/folder.urdf", *SECOND), "no regular file"),
    (("simulate", "{place}/words.urdf", *SECOND), "mass"), (("simulate", "{project}/machines/hoits.toml", *SECOND), "did you mean hoist.toml"),
    (("shakedown", LONG, *IN), "name"), (("shakedown", "../../etc/passwd", *IN), "leads out"), (("shakedown", "a\0b", *IN), "name"),
    (("shakedown", "lift", "--project", "{place}/none"), "not a project"), (("shakedown", "lift", "--project", "{place}/pipe.toml"), "not a project"),
    (("train", "lift", "--seed", BIG, *IN), "seed"), (("train", "lift", "--seed", "-1", *IN), "seed"), (("train", "lift", "--seeds", "0", *IN), "seeds"),
    (("train", "lift", "--steps", BIG, *IN), "steps"), (("train", "lift", "--set", f"steps={BIG}", *IN), "steps"), (("train", "lift", "--set", "copies=nan", *IN), "copies"),
    (("train", "lift", "--set", "hidden=" + "[" * 20_000, *IN), "hidden"), (("train", "lift", "--set", "hidden=" + "9" * 5000, *IN), "hidden"),
    (("train", "lift", "--set", "learning_rate=nan", *IN), "learning_rate"), (("train", "lift", "--set", "learning_rat=1", *IN), "did you mean learning_rate"),
    (("train", "lift", "--set", "training_time_limit=1e300 s", *IN), "training_time_limit"), (("train", "lift", "--set", "shaping.potential=1/0", *IN), "divides by zero"),
    (("train", "lift", "--set", "residual=evil", *IN), "no such rule"), (("train", "lift", "--recipe", "../../x", *IN), "leads out"), (("train", "lift", "--recipe", LONG, *IN), "name"),
    (("train", "lift", "--method", "evil", *IN), "method"), (("train", "lift", "--method", "../x.py", *IN), "read with its recipe"), (("train", *IN), "name a task"),
    (("train", "--resume", "9" * 40, *IN), "number"), (("train", "--resume", "0", *IN), "no run 0"), (("prove", "9" * 40, *IN), "number"), (("prove", "٣", *IN), "number"),
    (("prove", "1", "--trials", BIG, *IN), "trials"), (("handover", BIG, "--out", "{place}/p", *IN), "number"), (("rollout", "{place}/none"), "not a pack"),
    (("rollout", "{place}/pipe.toml"), "not a pack"), (("rollout", LONG), "name"), (("rollout", "{project}"), "not a pack"), (("new", "{place}/pipe.toml"), "no folder, or not empty"),
    (("new", LONG), "name"), (("new", "/proc/none"), "cannot be made"), (("new", "{place}/n", "--from", "hoits"), "did you mean hoist"), (("trust", "{place}/pipe.toml"), "no regular file"),
    (("trust", "/dev/zero"), "no regular file"), (("trust", "a\0b"), "null byte"), (("runs", "{place}/pipe.toml"), "not a project"), (("compare", "9" * 40, "1", *IN), "number"),
    (("evil",), "No such command"), (("train", "--evil"), "No such option"), (("simulate",), "Missing"),
)  # fmt: skip


@pytest.fixture(scope="module")
def places(tmp_path_factory: pytest.TempPathFactory) -> dict[str, str]:
    """A project, and things that are no files."""
    place = tmp_path_factory.mktemp("hostile")
    for name in ("pipe.toml", "pipe.urdf"):
        os.mkfifo(place / name)
    for name in ("folder.toml", "folder.urdf"):
        (place / name).mkdir()
    (place / "klingon.urdf").write_bytes(b'<?xml version="1.0" encoding="klingon"?><robot name="a"/>')
    (place / "words.urdf").write_text(
        '<robot name="a"><link name="b"><inertial><mass value="heavy"/></inertial></link></robot>'
    )
    return {"place": str(place), "project": str(copy_demo(place / "quillmere"))}


@pytest.mark.parametrize(
    ("typed", "words"), WRONG, ids=lambda value: " ".join(value)[:60] if isinstance(value, tuple) else None
)
def test_wrong_use_is_one_line(
    typed: tuple[str, ...], words: str, places: dict[str, str], capsys: pytest.CaptureFixture[str]
) -> None:
    began = time.process_time()  # of this process: what else runs on the computer does not count
    status = main([part.format(**places) for part in typed])
    took = time.process_time() - began
    said = capsys.readouterr().err.strip()
    assert status == 2, said
    assert words in said and "fault of the program" not in said
    assert "\n" not in said and len(said.replace(places["place"], "")) <= 310
    assert took < 2.0


def test_with_json_an_error_is_one_object_too(places: dict[str, str], capsys: pytest.CaptureFixture[str]) -> None:
    import json

    path = Path(places["project"]) / "tasks" / "bad.toml"
    path.write_text((path.parent / "lift.toml").read_text().replace('time_limit = "', 'time_limit = "-'))
    assert main(["shakedown", "bad", "--project", places["project"], "--json"]) == 2
    error = json.loads(capsys.readouterr().out)["error"]
    assert error["file"] == str(path) and error["key"] == "timing.time_limit"
    assert set(error) == {"file", "key", "value", "wanted", "text"} and len(error["text"]) <= 300 + len(str(path))


def test_a_fault_of_the_program_is_one_line_and_a_log(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    from plucky_heron.cli import compare

    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    monkeypatch.setattr(compare, "find_runs", lambda *_: 1 / 0)
    assert main(["compare", "1"]) == 2
    said = capsys.readouterr().err
    assert said.count("\n") == 1 and "ZeroDivisionError" in said
    assert "Traceback" in (tmp_path / "plucky-heron" / "faults.log").read_text()
