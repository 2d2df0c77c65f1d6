"""Whether a URDF stands on legs, from its geometry alone: trunks, arms, hands and wheels of other makes than ours."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from plucky_heron.cli.main import main
from plucky_heron.files import validate
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.machine.urdf import read_urdf
from plucky_heron.project import create
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.drivers import Constant
from plucky_heron.simulation.trials import run_trials
from plucky_heron.task.import_legs import legs_of, standing
from plucky_heron.task.machine_import import travels
from plucky_heron.task.wishes.draft import Draft
from plucky_heron.task.wishes.look import look_at
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
    assert 0.33 < np.ravel(base.start)[2] < 0.4 and any("moves freely" in line for line in told)
    assert "walk forward" in {o.name for o in project.wishes("limbed") if not o.unfit}
    stays = create(tmp_path / "stays", str(source), free=False)
    assert all(j.kind != "free" for j in stays.problem(stays.first_task()).machine.joints.values())


def test_a_project_from_a_file_says_what_it_assumed(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    source = str(limbed(tmp_path, 4, 0.2, 0.1))
    assert main(["new", str(tmp_path / "made"), "--from", source]) == 0
    out = capsys.readouterr().out
    assert (
        "assumed" in out
        and "8 joints, each: gets a drive with its effort limit: drives.NAME.limit = 20 N*m (j_limb0_0, j_limb0_1,"
        in out
    )
    told = answer(capsys, "new", str(tmp_path / "more"), "--from", source)
    assert any("drives.j_limb0_0.limit" in line for line in told["assumed"])


def test_legs_stand_bent_with_their_feet_below_their_hips(tmp_path: Path) -> None:
    """Two equal links with a cube of 4 cm as foot reach to 85 % of their length, the middle of the cube below the hip."""
    source = limbed(tmp_path, 4, 0.2, 0.1)
    source.write_text(
        source.read_text().replace('lower="-1" upper="1"', 'lower="-1.5" upper="1.5"').replace("0.02", "0.04")
    )
    machine = read_urdf(source, free=True).machine
    legs = legs_of(machine)
    assert legs == [f"j_limb{k}_0" for k in range(4)]
    found = standing(machine, legs)
    for k in range(4):
        hip, knee = found[f"j_limb{k}_0"], found[f"j_limb{k}_1"]
        assert 0.2 * np.sin(hip) + 0.22 * np.sin(hip + knee) == pytest.approx(0.0, abs=0.01)
        tilt = abs(hip + knee)
        deep = 0.2 * np.cos(hip) + 0.24 * np.cos(tilt) + 0.02 * np.sin(tilt)
        assert deep == pytest.approx(0.85 * np.hypot(0.44, 0.02), abs=0.01) and abs(knee) > 1.0
    again = standing(machine, legs)
    assert found == again


def test_drives_take_what_the_file_says(tmp_path: Path) -> None:
    source = limbed(tmp_path, 1, 0.3, 0.1, joints=3)
    text = source.read_text()
    interfaces = (
        '<controller name="own"><joint name="j_limb0_0"><command_interface name="position"/></joint>'
        '<joint name="j_limb0_1"><command_interface name="velocity"/></joint></controller>'
        '<transmission name="t"><joint name="j_limb0_2"><hardwareInterface>some/EffortInterface</hardwareInterface></joint></transmission>'
    )
    source.write_text(text.replace("</robot>", f"{interfaces}</robot>"))
    report = read_urdf(source)
    assert report.commanded == {"j_limb0_0": "position", "j_limb0_1": "speed", "j_limb0_2": "effort"}
    assert not any("controller" in note for note in report.notes)
    source.write_text(text.replace("</robot>", f"{interfaces.partition('<transmission')[0]}</robot>"))
    machine = create(tmp_path / "made", str(source)).problem("limbed").machine
    kinds = {n: d.kind for n, d in machine.drives.items()}
    assert kinds == {"j_limb0_0": "position", "j_limb0_1": "speed", "j_limb0_2": "effort"}
    servo, speed = machine.drives["j_limb0_0"], machine.drives["j_limb0_1"]
    assert float(servo.gain) * 0.25 == pytest.approx(20.0, rel=0.03)  # all of its 20 N*m at a quarter radian
    assert (speed.top_speed, speed.no_load_speed) == (5.0, None)
    assert float(speed.gain) * 0.1 * 5.0 == pytest.approx(20.0, rel=0.03)


@pytest.mark.parametrize(("takes", "kind"), [("", "position"), ("effort", "effort"), ("speed", "speed")])
def test_legs_take_positions_unless_told_otherwise(tmp_path: Path, takes: str, kind: str) -> None:
    project = create(tmp_path / "new", str(limbed(tmp_path, 4, 0.2, 0.1)), takes=takes)
    machine = project.problem(project.first_task()).machine
    assert {d.kind for d in machine.drives.values()} == {kind}


def test_wheels_under_legs_stay_pushed(tmp_path: Path) -> None:
    source = limbed(tmp_path, 4, 0.2, 0.1, joints=3)
    text = source.read_text()
    for k in range(4):
        text = text.replace(
            f'<joint name="j_limb{k}_2" type="revolute">', f'<joint name="j_limb{k}_2" type="continuous">'
        )
        wheel = '<collision><origin rpy="1.570796 0 0"/><geometry><cylinder radius="0.05" length="0.02"/></geometry></collision>'
        text = text.replace(link(f"limb{k}_2", 0.2), f'<link name="limb{k}_2">{INERTIAL}{wheel}</link>')
        text = text.replace(link(f"end{k}", 0.02), link(f"end{k}"))
    source.write_text(text)
    project = create(tmp_path / "new", str(source))
    drives = project.problem(project.first_task()).machine.drives
    assert {n: d.kind for n, d in drives.items()} == {
        f"j_limb{k}_{n}": "effort" if n == 2 else "position" for k in range(4) for n in range(3)
    }


@pytest.mark.parametrize(("takes", "kind"), [("", "effort"), ("position", "position")])
def test_what_drives_take_holds_without_limits_in_the_file_too(tmp_path: Path, takes: str, kind: str) -> None:
    source = limbed(tmp_path, 1, 0.3, 0.1, joints=3)
    source.write_text(source.read_text().replace('effort="20" velocity="5" ', ""))
    machine = create(tmp_path / "new", str(source), takes=takes).problem("limbed").machine
    assert len(machine.drives) == 3 and {d.kind for d in machine.drives.values()} == {kind}


def test_an_unknown_kind_of_drive_is_one_line(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["new", str(tmp_path / "made"), "--from", str(limbed(tmp_path, 4, 0.2, 0.1)), "--drives", "force"]) == 2
    said = capsys.readouterr().err
    assert "drives = 'force': wanted effort, speed, position" in said and said.count("\n") == 1
    assert not (tmp_path / "made").exists()


def test_a_joint_whose_stops_leave_out_zero_begins_between_them(tmp_path: Path) -> None:
    source = limbed(tmp_path, 1, 0.3, 0.1)
    source.write_text(source.read_text().replace('lower="-1" upper="1"', 'lower="-2.5" upper="-0.5"', 1))
    project = create(tmp_path / "new", str(source))
    machine = project.problem("limbed").machine
    assert machine.joints["j_limb0_0"].start == pytest.approx(-0.7) and machine.joints["j_limb0_1"].start == 0.0


def test_who_walks_is_commanded_about_where_it_stands_and_begins_above_the_ground(tmp_path: Path) -> None:
    project = create(tmp_path / "new", str(limbed(tmp_path, 4, 0.2, 0.1)), wish="walk forward")
    problem = project.problem("walk_forward")
    for command in problem.commands:
        start = float(np.ravel(problem.machine.joints[command.name].start)[0])
        assert command.low == pytest.approx(max(-1.0, start - 0.5), abs=1e-4)
        assert command.high == pytest.approx(min(1.0, start + 0.5), abs=1e-4)
    still = Constant(problem, np.array([problem.machine.joints[c.name].start for c in problem.commands]))
    # with the commands of its pose it stands for the whole episode
    stood = run_trials(problem, still, seed=1, stream="stand", count=32)
    assert (stood.ending < 0).all()
    batch = Batch(problem, 64, 1, "begin", threads=1)
    batch.start(np.arange(64))
    batch.plant.locate()
    batch.plant.step(np.zeros((64, len(problem.model.drives))))
    depth = [batch.plant.contacts[k, : batch.plant.contact_count[k], 12] for k in range(64)]
    assert min(float(d.min()) if d.size else 0.0 for d in depth) > -2e-3


def test_terms_of_many_joints_are_several_formulas(tmp_path: Path) -> None:
    machine = read_urdf(limbed(tmp_path, 4, 0.2, 0.1, joints=4), free=True).machine
    names = {n: f"{n}_with_a_long_name_that_fills_the_formula" for n in machine.joints if n.startswith("j_")}
    data = machine.model_dump(exclude_defaults=True)
    data["joints"] = {names.get(n, n): j for n, j in data["joints"].items()}
    data["drives"] = {names[n]: d | {"joint": names[n]} for n, d in data["drives"].items()}
    draft = Draft(look_at(validate(Machine, data, "long"), Site()), "long")
    draft.actions()
    draft.costs(0.02)
    terms = draft.task["rewards"]
    chatter = [term["formula"] for name, term in terms.items() if name.startswith("chatter")]
    assert len(chatter) > 1 and all(len(formula) <= 1000 for formula in chatter)
    assert all(sum(f"previous.action.{n})" in f for f in chatter) == 1 for n in draft.look.machine.drives)


def test_joints_that_follow_others_are_no_joints_of_a_leg(tmp_path: Path) -> None:
    """Of three hinges in a leg the last one keeps its link as the first one stands: what follows is not set."""
    source = limbed(tmp_path, 4, 0.2, 0.1, joints=3)
    text = source.read_text()
    for k in range(4):
        own = f'<joint name="j_limb{k}_2" type="revolute">'
        text = text.replace(own, f'{own}<mimic joint="j_limb{k}_1" multiplier="-1"/>')
    source.write_text(text)
    machine = read_urdf(source, free=True).machine
    found = standing(machine, legs_of(machine))
    assert set(found) == {f"j_limb{k}_{n}" for k in range(4) for n in range(2)}
    hip, knee = found["j_limb0_0"], found["j_limb0_1"]
    # links at hip, hip + knee and hip again, the foot as the last: its middle below the hip
    assert 0.2 * np.sin(hip) + 0.2 * np.sin(hip + knee) + 0.21 * np.sin(hip) == pytest.approx(0.0, abs=0.02)
