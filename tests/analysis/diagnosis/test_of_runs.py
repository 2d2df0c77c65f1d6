"""Findings worked out here and by a process of their own are the same; one that is not wanted any more ends."""

from __future__ import annotations

import shutil
import time
from pathlib import Path

import pytest

from plucky_heron.analysis.diagnosis.of_runs import findings_apart, findings_on, findings_until
from plucky_heron.errors import StateError
from plucky_heron.project import demo_source


@pytest.fixture
def recorded_demo(tmp_path: Path) -> Path:
    folder = tmp_path / "quillmere"
    shutil.copytree(demo_source(), folder, ignore=shutil.ignore_patterns("runs", "packs"))
    shutil.copytree(demo_source().parent / "recorded", folder / "runs")
    return folder


def test_a_process_of_its_own_finds_the_same(recorded_demo: Path) -> None:
    here = findings_on(recorded_demo, [1, 2, 3], measure=False)
    assert here and here[0].severity == "trouble"
    assert findings_apart(recorded_demo, [1, 2, 3], False, lambda: False) == here


def test_what_is_wrong_comes_back_in_a_line(recorded_demo: Path) -> None:
    with pytest.raises(StateError, match="999") as wrong:
        findings_apart(recorded_demo, [999], False, lambda: False)
    assert "\n" not in str(wrong.value) and "Traceback" not in str(wrong.value)


def test_it_ends_when_it_is_not_wanted_any_more(recorded_demo: Path) -> None:
    began = time.monotonic()
    assert findings_apart(recorded_demo, [1, 2, 3], False, lambda: True) is None
    whole = time.monotonic()
    findings_apart(recorded_demo, [1, 2, 3], False, lambda: False)
    assert whole - began < time.monotonic() - whole


def test_a_thread_reads_no_further_run_once_it_is_not_wanted(recorded_demo: Path) -> None:
    asked: list[int] = []

    def second() -> bool:
        asked.append(1)
        return len(asked) == 2

    # run 999 would be an error if it were read
    assert findings_until(recorded_demo, [1, 999], False, second) is None and len(asked) == 2
    assert findings_until(recorded_demo, [1, 2, 3], False, lambda: False) == findings_on(
        recorded_demo, [1, 2, 3], measure=False
    )
