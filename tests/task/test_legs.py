"""Whether a URDF stands on legs, from its geometry alone: trunks, arms, hands and wheels of other makes than ours."""

from __future__ import annotations

from pathlib import Path

import pytest

from plucky_heron.cli.main import main
from plucky_heron.project import create
from plucky_heron.task.machine_import import travels
from tests.cli.test_command_line import answer

INERTIAL = '<inertial><mass value="1"/><inertia ixx="0.01" iyy="0.01" izz="0.01" ixy="0" ixz="0" iyz="0"/></inertial>'


def link(name: str, length: float = 0.0) -> str:
    """A link that hangs down (or, with a negative length, stands up) from its joint; a frame without shape where it has no length."""
    if not length:
        return f'<link name="{name}">{INERTIAL}</link>'
    shape = f'<origin xyz="0 0 {-0.5 * length}"/><geometry><box size="0.04 0.04 {abs(length)}"/></geometry>'
    return f'<link name="{name}">{INERTIAL}<collision>{shape}</collision></link>'


def joint(name: str, parent: str, child: str, at: str, kind: str = "revolute") -> str:
    """A joint about y."""
    limit = '<limit effort="20" velocity="5" lower="-1" upper="1"/><axis xyz="0 1 0"/>' if kind == "revolute" else ""
    ends = f'<parent link="{parent}"/><child link="{child}"/><origin xyz="{at}"/>'
    return f'<joint name="{name}" type="{kind}">{ends}{limit}</joint>'


def limbed(folder: Path, limbs: int, length: float, trunk: float, joints: int = 2, at: float = 0.0) -> Path:
    """A trunk that hangs `trunk` below its frame, with limbs of some links each `at` a height."""
    parts = [link("trunk", trunk)]
    for k in range(limbs):
        above, place = "trunk", f"{0.2 * k} 0 {at}"
        for n in range(joints):
            name = f"limb{k}_{n}"
            parts += [link(name, length), joint(f"j_{name}", above, name, place)]
            above, place = name, f"0 0 {-length}"
        parts += [link(f"end{k}", 0.02), joint(f"fixed{k}", above, f"end{k}", place, "fixed")]
    path = folder / "limbed.urdf"
    path.write_text(f'<robot name="limbed">{"".join(parts)}</robot>')
    return path


@pytest.mark.parametrize(
    ("limbs", "length", "trunk", "joints", "at", "walks"),
    [
        (4, 0.2, 0.1, 3, 0.0, True),
        (2, 0.4, 0.1, 2, 0.0, True),  # a biped
        (6, 0.1, 0.05, 2, 0.0, True),
        (2, 0.3, 1.2, 2, 0.0, False),  # arms beside a pedestal that stands lower
        (5, -0.05, 0.1, 3, 0.0, False),  # fingers that point up
        (1, 0.3, 0.1, 4, 0.0, False),  # an arm that hangs from the ceiling
        (4, 0.2, 0.1, 1, 0.0, False),  # one joint each: flaps
    ],
)
def test_a_trunk_above_limbs_of_one_length_walks(
    tmp_path: Path, limbs: int, length: float, trunk: float, joints: int, at: float, walks: bool
) -> None:
    assert travels(limbed(tmp_path, limbs, length, trunk, joints, at)) is walks


def test_what_walks_stands_on_the_ground_and_says_so(tmp_path: Path) -> None:
    source = limbed(tmp_path, 4, 0.2, 0.1)
    told: list[str] = []
    project = create(tmp_path / "new", str(source), told=lambda r: told.extend([*r.read, *r.assumptions]))
    machine = project.problem(project.first_task()).machine
    base = next(j for j in machine.joints.values() if j.kind == "free")
    assert base.start[2] == pytest.approx(0.42) and any("moves freely" in line for line in told)
    assert "walk forward" in {o.name for o in project.wishes("limbed") if not o.unfit}
    stays = create(tmp_path / "stays", str(source), free=False)
    assert all(j.kind != "free" for j in stays.problem(stays.first_task()).machine.joints.values())


def test_a_project_from_a_file_says_what_it_assumed(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    source = str(limbed(tmp_path, 4, 0.2, 0.1))
    assert main(["new", str(tmp_path / "made"), "--from", source]) == 0
    out = capsys.readouterr().out
    assert "assumed" in out and "drives.j_limb0_0.limit = 20 N*m" in out
    told = answer(capsys, "new", str(tmp_path / "more"), "--from", source)
    assert any("drives.j_limb0_0.limit" in line for line in told["assumed"])
