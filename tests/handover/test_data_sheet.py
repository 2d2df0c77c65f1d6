"""The data sheet as a page: nothing runs in it, nothing hostile gets into it, and its drawing has the machine's measures."""

from __future__ import annotations

import json
import re
from html.parser import HTMLParser
from pathlib import Path

import numpy as np
import pytest

from plucky_heron.dynamics.energy import poses
from plucky_heron.handover.contract import definitions
from plucky_heron.handover.pack import data_sheet, write_pack
from plucky_heron.handover.sketch import mounted_sensors, sketch
from plucky_heron.project import Project, demo_source
from plucky_heron.runs.freeze import kept_policy
from plucky_heron.runs.store import RunRow
from plucky_heron.task.problem import Problem
from tests.handover.test_signals import OBSERVED, crane


class Page(HTMLParser):
    """Tags that are opened and closed, and all text."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.open: list[str] = []
        self.tags: set[str] = set()
        self.texts: list[str] = []
        self.attributes: list[tuple[str, str | None]] = []
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        """One more is open."""
        self.tags.add(tag)
        self.attributes += attrs
        if tag not in ("meta", "br", "polygon", "path", "circle"):
            self.open.append(tag)

    def handle_endtag(self, tag: str) -> None:
        """It must be the last one that was opened."""
        if tag not in ("polygon", "path", "circle"):
            assert self.open.pop() == tag

    def handle_data(self, data: str) -> None:
        """Text."""
        self.texts.append(data)


def test_the_sheet_is_whole_and_runs_nothing(trained: tuple[Project, RunRow], tmp_path: Path) -> None:
    project, row = trained
    answer = write_pack(project.folder, row, tmp_path / "pack")
    assert "data-sheet.html" in answer["files"]
    page = Page((tmp_path / "pack" / "data-sheet.html").read_text())
    assert page.open == [] and not page.tags & {"script", "link", "iframe", "img", "object"}
    assert not [a for a, value in page.attributes if a.startswith("on") or "http" in (value or "")]
    text = " ".join(page.texts)
    problem = project.problem("lift")
    for name in (*(e.name for e in problem.sensed), *(c.name for c in problem.commands), *problem.task.variation):
        assert name in text
    assert "not stated: ask" in text
    described = json.loads((tmp_path / "pack" / "pack.json").read_text())
    policy = kept_policy(project.folder, row)
    for proof, words in ((None, "not proved"), ({"success": 0.5, "trials": 8, "low": 0.2, "high": 0.8}, "of 8 trials")):
        assert words in " ".join(Page(data_sheet(problem, policy, described, "hoist", proof, None)).texts)


def test_quantities_that_formulas_name_are_told_too(trained: tuple[Project, RunRow], tmp_path: Path) -> None:
    project, row = trained
    write_pack(project.folder, row, tmp_path / "pack")
    described = json.loads((tmp_path / "pack" / "pack.json").read_text())
    assert definitions(described) == {name: described["signals"][name] for name in ("offset", "height")}
    described["signals"] = {"far": "norm(a.b, off)", "off": "c - d", "a.b": "off", "unused": "off", "of": "1"}
    described["inputs"], described["controller"]["sensors"] = [{"formula": "-far"}], []
    described["mixing"] = {"left": "off.x + offset"}
    assert set(definitions(described)) == {"far", "off", "a.b"}
    for file, written in (("data-sheet.md", "- offset = `basket.x - mark.x`"), ("start-here.md", "- offset = `basket.x - mark.x`"), ("data-sheet.html", "offset = basket.x - mark.x")):  # fmt: skip
        assert written in (tmp_path / "pack" / file).read_text()
    assert "N, reel 0 m/s)" in (tmp_path / "pack" / "data-sheet.md").read_text()


@pytest.mark.parametrize("task", ["hang", "walk", "lane", "dock", "hover", "stand"])
def test_sensors_sit_where_the_machine_has_them(task: str) -> None:
    problem = Project(demo_source()).problem(task)
    sensors = mounted_sensors(problem)
    assert [s.name for s in sensors] == list(problem.machine.sensors)
    frames = poses(problem.machine, problem.model.pose(problem.model.start))
    for one in sensors:
        assert np.allclose((frames[one.body] @ np.append(one.own, 1.0))[:3], one.site, atol=1e-6)
    picture = sketch(problem, sensors)
    assert picture.count('class="sensor"') == len(sensors) and picture.count('class="length"') == 2


def test_the_drawing_has_the_size_of_the_machine(problem: Problem) -> None:
    """The hoist: from the underside of its basket to the top of its trolley, as wide as the trolley."""
    lengths = re.findall(r'class="length"[^>]*>([^<]*)<', sketch(problem, []))
    machine = problem.machine
    frames = poses(machine, problem.model.pose(problem.model.start))
    corners = []
    for name, body in machine.bodies.items():
        for shape in body.shapes:
            half = np.array(shape.size) / 2 if shape.kind == "box" else None
            if half is not None:
                corners.append(frames[name][:3, 3] + np.array(shape.at) + half)
                corners.append(frames[name][:3, 3] + np.array(shape.at) - half)
    width = np.ptp(np.array(corners)[:, 0])
    assert lengths[0] == f"{width:.3f} m"


def test_hostile_texts_stay_text(trained: tuple[Project, RunRow], tmp_path: Path) -> None:
    project, row = trained
    write_pack(project.folder, row, tmp_path / "pack")
    pack = json.loads((tmp_path / "pack" / "pack.json").read_text())
    for part in (pack["inputs"][0], pack["outputs"][0], pack["controller"]["signals"]["given"][0]):
        part["name"] = part["positive"] = "<script>alert(1)</script><b onclick='x'>&lt;"
    policy = kept_policy(project.folder, row)
    page = Page(data_sheet(project.problem("lift"), policy, pack, "</title><script>x", None, None))
    assert page.open == [] and "script" not in page.tags and not [a for a, _ in page.attributes if a == "onclick"]


def test_a_machine_without_shapes_has_no_drawing(tmp_path: Path) -> None:
    problem = crane(tmp_path, list(OBSERVED)[:1])
    assert sketch(problem, mounted_sensors(problem)) == ""
