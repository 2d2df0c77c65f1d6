"""Raw counts and pulse widths: what the generated C makes of them, and what a wiring that fits nothing is told."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

import pytest

from plucky_heron.cli.main import main
from plucky_heron.errors import FileError, HeronError, StateError
from plucky_heron.handover.forms.compiling import compile_c
from plucky_heron.handover.forms.controlling import controlling
from plucky_heron.handover.forms.signals import SignalCode
from plucky_heron.handover.pack import write_pack
from plucky_heron.handover.reading import read_pack
from plucky_heron.handover.wiring import read_wiring
from plucky_heron.project import Project
from plucky_heron.runs.store import RunRow
from plucky_heron.task.problem import Problem
from tests.handover.test_controller import STRICT
from tests.handover.test_signals import build

WIRING = """
[signals."trolley.position"]
at = [[500, "-1 m"], [-9500, "1 m"]]
turns_over = 4096
what = "encoder counts"
[signals."reel.velocity"]
at = [[0, 0], [1000, "2 m/s"]]
[drives.push]
at = [[1500, 0], [1000, "600 N"]]
what = "pulse width in microseconds"
"""
CHECK = """#include "signals.h"
#include <stdio.h>
int main(void)
{
    static heron_signals_state s;
    static float signals[HERON_SIGNALS + 1], drives[HERON_DRIVES];
    int32_t raw[HERON_RAW_SIGNALS], out[HERON_RAW_DRIVES];
    int again, place;
    heron_signals_init(&s);
    while (scanf("%d %d %d %f %d", &raw[0], &raw[1], &again, &drives[PUSH], &place) == 5) {
        if (again) {
            heron_signals_init(&s);
        }
        heron_from_raw(&s, raw, signals);
        heron_to_raw(drives, out);
        printf("%.6f %.6f %d\\n", (double)signals[AT], (double)signals[SPEED], out[0]);
    }
    return 0;
}
"""


def coded(problem: Problem, text: str, folder: Path) -> SignalCode:
    """The code of a problem wired up as a file says."""
    (folder / "wiring.toml").write_text(text)
    code = SignalCode(problem, controlling(problem))
    code.wire(read_wiring(folder / "wiring.toml"), "wiring.toml")
    return code


def test_raw_numbers_mean_what_the_file_says(problem: Problem, tmp_path: Path) -> None:
    build(problem, tmp_path)
    code = coded(problem, WIRING, tmp_path)
    names = [s.name for s in code.signals]
    for name, text in code.files("t").items():
        (tmp_path / name).write_text(text)
    places = {"AT": names.index("trolley.position"), "SPEED": names.index("reel.velocity"), "PUSH": code.drives.index("push")}  # fmt: skip
    (tmp_path / "raw.c").write_text("".join(f"#define {k} {v}\n" for k, v in places.items()) + CHECK)
    program = compile_c(tmp_path, ["raw.c", "signals.c", "controller.c", "policy.c"], "raw", STRICT)
    ways = [500, 1500, 4000, 4095, 10, 2100, 4090, 5, 4000]  # up over the end and down again: the short way each time
    rows = [(w, k * 100, int(k == 5), f, 0) for k, (w, f) in enumerate(zip(ways, (0, 600, -600, 300, 9e9, -9e9, -0.5, 0.3, float("-inf")), strict=True))]  # fmt: skip
    said = subprocess.run([str(program)], input="\n".join(" ".join(map(str, r)) for r in rows), capture_output=True, text=True, check=True, timeout=300).stdout  # fmt: skip
    found = [list(map(float, line.split())) for line in said.splitlines()]
    total, before = 500, 500
    for k, (way, row) in enumerate(zip(ways, found, strict=True)):
        change = (way - before + 2048) % 4096 - 2048
        total, before = total + change, way
        assert row[0] == pytest.approx(-1.0 + (total - 500) * -2e-4, abs=1e-5), k
        assert row[1] == pytest.approx(0.2 * k, abs=1e-6)
    low, high = problem.machine.command_range("push")
    ends = sorted(round(1500 + f * -500 / 600) for f in (low, high))
    wanted = [1500, 1000, 2000, 1250, ends[0], ends[1], 1500, 1500, ends[1]]
    assert [int(row[2]) for row in found] == [min(max(w, ends[0]), ends[1]) for w in wanted]


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ('[signals.trolly]\nat = [[0, "0 m"], [1, "1 m"]]', "no such signal"),
        ('[drives.pull]\nat = [[0, "0 N"], [1, "1 N"]]', "no such drive; near it: push|no such drive"),
        ('[signals."trolley.position"]\nat = [[0, "0 m"], [0, "1 m"]]', "different raw numbers"),
        ('[signals."trolley.position"]\nat = [[0, "1 m"], [9, "1 m"]]', "different raw numbers"),
        ('[signals."trolley.position"]\nat = [[0, "0 N"], [9, "1 N"]]', "wanted|N"),
        ('[signals."trolley.position"]\nat = [[0, "0 m"]]', "at"),
        ('[signals."trolley.position"]\nat = [[0.5, "0 m"], [3, "1 m"]]', "wanted a whole number"),
        ('[signals."trolley.position"]\nat = [[true, "0 m"], [3, "1 m"]]', "at"),
        ('[signals."trolley.position"]\nat = [[0, "0 m"], [99999999999, "1 m"]]', "at"),
        ('[drives.push]\nat = [[0, "0 N"], [2000000000, "1 N"]]', "beyond 32 bits"),
        ('[drives.push]\nat = [[0, "0 N"], [1, "1 N"]]\nturns_over = 9', "only what is read"),
        ('[drives.push]\nat = [[0, 0], [1, nan]]', "at|finite|number"),
        ("[signals]\nx = 3", "signals.x"),
        ("format = 7", "format"),
        ("not toml", "wiring.toml"),
    ],
)  # fmt: skip
def test_a_wiring_that_fits_nothing_says_what_is_wrong(problem: Problem, tmp_path: Path, text: str, said: str) -> None:
    with pytest.raises(HeronError, match=said) as told:
        coded(problem, text, tmp_path)
    assert "\n" not in str(told.value)


def test_a_pack_holds_its_wiring_and_its_way_from_signals(
    trained: tuple[Project, RunRow], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    project, row = trained
    (tmp_path / "hoist.toml").write_text(WIRING)
    given = ["handover", str(row.id), "--out", str(tmp_path / "pack"), "--wiring", str(tmp_path / "hoist.toml"), "--project", str(project.folder), "--json"]  # fmt: skip
    assert main(given) == 0
    assert {"signals.h", "signals.c", "check_signals.c"} <= set(json.loads(capsys.readouterr().out)["files"])
    pack = read_pack(tmp_path / "pack").facts
    way = pack["controller"]["signals"]
    assert [m["name"] for m in way["read"]] == ["trolley.position", "reel.velocity"]
    assert way["put"][0] | {"scale": 0} == {"name": "push", "zero": 1500, "scale": 0, "offset": 0.0, "low": way["put"][0]["low"], "high": way["put"][0]["high"], "turns_over": 0, "what": "pulse width in microseconds"}  # fmt: skip
    assert (
        way["beyond"] <= 0.01 and way["typical"] < 1e-5 and way["drives"] == list(project.problem("lift").model.drives)
    )
    text = (tmp_path / "pack" / "start-here.md").read_text()
    assert "heron_from_raw(&way, raw_counts, signals);" in text and "heron_to_raw" in text and "encoder counts" in text
    again = tmp_path / "again"
    write_pack(project.folder, row, again, wiring=tmp_path / "hoist.toml")
    assert (again / "pack.json").read_bytes() == (tmp_path / "pack" / "pack.json").read_bytes()
    with pytest.raises((StateError, FileError), match=r"cannot|no such|exist"):
        write_pack(project.folder, row, tmp_path / "none", wiring=tmp_path / "nowhere.toml")
    assert not (tmp_path / "none").exists()
