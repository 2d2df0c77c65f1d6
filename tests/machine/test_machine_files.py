"""Machine files and URDF: what is read, what is refused and in which words."""

from __future__ import annotations

import itertools
from pathlib import Path

import numpy as np
import pytest

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.energy import energies
from plucky_heron.dynamics.open_loop import simulate
from plucky_heron.errors import FileError, HeronError
from plucky_heron.files import inside
from plucky_heron.machine.reading import read_machine
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.urdf import read_urdf, rotation
from plucky_heron.machine.urdf_writing import write_urdf
from plucky_heron.task.problem import read_problem


def edited(folder: Path, file: str, old: str, new: str) -> Path:
    """A project file with one replacement."""
    path = folder / file
    text = path.read_text()
    assert old in text
    path.write_text(text.replace(old, new, 1))
    return path


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ('mass = "120 kg"', 'mass = "120 N"', ["bodies.trolley.mass", "120 N", "wanted kg"]),
        ('mass = "120 kg"', 'mass = "-1 kg"', ["bodies.trolley.mass", "negative"]),
        ('mass = "120 kg"', 'weight = "120 kg"', ["bodies.trolley", "weight"]),
        ('limits = ["-6 m", "6 m"]', 'limits = ["6 m", "-6 m"]', ["joints.trolley", "limits", "below"]),
        ('kind = "hinge"', 'kind = "hinges"', ["joints.cable", "kind", "hinges"]),
        ('parent = "trolley"', 'parent = "trolly"', ["joints.cable.parent", "trolly", "trolley"]),
        ('joint = "reel"', 'joint = "drum"', ["reel.joint", "drum", "reel"]),
        ('inertia = ["4 kg*m**2", "8 kg*m**2", "8 kg*m**2"]', 'inertia = [1, 1, 9]', ["bodies.trolley.inertia", "no solid"]),
        ("format = 2", "format = 9", ["format", "9", "reads format 2"]),
        ("axis = [0, -1, 0]", "axis = [0, 0, 0]", ["joints.cable", "axis", "direction"]),
        ("[bodies.trolley]", "[bodies.trolley", ["TOML"]),
    ],
)  # fmt: skip
def test_wrong_machine_files_give_one_clear_line(folder: Path, old: str, new: str, words: list[str]) -> None:
    path = edited(folder, "machines/hoist.toml", old, new)
    with pytest.raises(FileError) as caught:
        read_machine(path)
    text = str(caught.value)
    assert "\n" not in text
    assert "hoist.toml" in text
    for word in words:
        assert word in text


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ('formula = "offset"', 'formula = "ofset"', ["observations.offset.formula", "ofset", "offset", "column 1"]),
        ('unit = "m"\nrange = ["-10 m", "10 m"]', 'unit = "m"\nrange = ["-10 s", "10 m"]', ["observations", "wanted m"]),
        ('"basket.mass" =', '"basket.wieght" =', ["variation.basket.wieght", "basket.mass"]),
        ('ending = "spilt"', 'ending = "spilled"', ["spilled", "spilt"]),
        ('drive = "push"', 'drive = "pull"', ["actions.push.drive", "pull", "push"]),
        ('limits = ["-500 N", "500 N"]', 'limits = ["-5 kN", "5 kN"]', ["actions.push.limits", "1200"]),
        ('machine = "hoist"', 'machine = "../../etc/passwd"', ["out of the project folder"]),
        ('trolley = "mark.x"', 'trolley = "mark.x / time"', ["regulator.hold.trolley", "m"]),
    ],
)  # fmt: skip
def test_wrong_tasks_give_one_clear_line(folder: Path, old: str, new: str, words: list[str]) -> None:
    edited(folder, "tasks/lift.toml", old, new)
    with pytest.raises(HeronError) as caught:
        read_problem(folder, "lift")
    text = str(caught.value)
    assert "\n" not in text
    for word in words:
        assert word in text


def test_no_path_leaves_the_project(folder: Path) -> None:
    (folder / "link").symlink_to("/etc")
    for path in ("../x", "/etc/passwd", "link/passwd", "a/../../x"):
        with pytest.raises(FileError, match="out of the project"):
            inside(folder, path)
    assert inside(folder, "tasks/lift.toml").is_file()


def test_fixed_joints_weld_exactly(folder: Path) -> None:
    """A body split in two welded parts moves as the whole: same mass matrix, same energies."""
    whole = read_machine(folder / "machines" / "hoist.toml")
    data = whole.model_dump()
    data["bodies"]["basket"]["mass"] = 30.0
    data["bodies"]["load"] = {"mass": 20.0, "centre": (0.1, 0.0, -0.2), "inertia": (0.3, 0.4, 0.2)}
    data["joints"]["lashing"] = {
        "kind": "fixed", "parent": "basket", "child": "load", "origin": (0.2, 0.1, -0.3), "turn": (0.3, -0.5, 0.7),
    }  # fmt: skip
    machine = type(whole).model_validate(data)
    track = simulate(machine, 2.0, start={"cable": 0.4}, integrator="rk4", every=100)
    assert "lashing.position" not in track.columns
    model = build_model(machine)
    q = np.array([0.3, 0.4, 3.0])
    v = np.array([0.5, -0.7, 0.2])
    from plucky_heron.dynamics.plant import mass_matrix

    kinetic, _ = energies(machine, dict(zip(model.joints, q, strict=True)), dict(zip(model.joints, v, strict=True)))
    assert 0.5 * v @ mass_matrix(model, q) @ v == pytest.approx(kinetic, rel=1e-12)


URDF = """<robot name="arm">
  <link name="base"><inertial><origin xyz="0 0 0.1"/><mass value="3"/><inertia ixx="0.1" iyy="0.1" izz="0.1" ixy="0" ixz="0" iyz="0"/></inertial></link>
  <link name="bar"><inertial><origin xyz="0.1 0.05 -0.3" rpy="0.3 -0.2 0.9"/><mass value="1.5"/>
    <inertia ixx="0.05" iyy="0.06" izz="0.02" ixy="0.002" ixz="-0.003" iyz="0.001"/></inertial>
    <visual><geometry><box size="0.1 0.1 0.6"/></geometry></visual></link>
  <link name="rod"><inertial><origin xyz="0 0 -0.2"/><mass value="0.7"/><inertia ixx="0.01" iyy="0.01" izz="0.001" ixy="0" ixz="0" iyz="0"/></inertial></link>
  <link name="tool"/>
  <joint name="swing" type="continuous"><parent link="base"/><child link="bar"/><origin xyz="0 0 1" rpy="0.2 0.4 -0.3"/><axis xyz="0 2 0"/></joint>
  <joint name="slide" type="prismatic"><parent link="bar"/><child link="rod"/><origin xyz="0 0 -0.6" rpy="0 0.5 0"/><axis xyz="0 0 1"/>
    <limit lower="-0.3" upper="0.2" effort="10" velocity="1"/><dynamics damping="0.8" friction="0.1"/></joint>
  <joint name="grip" type="revolute"><parent link="rod"/><child link="tool"/><axis xyz="1 0 0"/><limit lower="0" upper="1" effort="1" velocity="1"/></joint>
  <gazebo_like_extra/>
</robot>""".replace("gazebo_like_extra", "vendor_extra")


def test_urdf_is_read_with_its_conventions(tmp_path: Path) -> None:
    path = tmp_path / "arm.urdf"
    path.write_text(URDF)
    report = read_urdf(path)
    machine = report.machine
    assert machine.joints["swing"].axis == (0.0, 1.0, 0.0)
    assert machine.joints["slide"].limits == (-0.3, 0.2)
    assert machine.joints["slide"].damping == 0.8
    assert machine.joints["grip"].kind == "fixed"  # what it carries has no mass
    said = "\n".join([*report.notes, *(f"{'.'.join(where)}: {words}" for where, words in report.assumed)])
    assert machine.joints["slide"].friction == 0.1
    for word in (
        "vendor_extra",
        "tool has no mass",
        "gets a drive with its effort limit",
        "velocity limit",
        "joints.swing.damping: joint swing: no damping is given",
    ):
        assert word in said
    slide = machine.drives["slide"]
    assert (slide.kind, slide.limit, slide.no_load_speed) == ("effort", 10.0, 1.0) and list(machine.drives) == ["slide"]
    turn = rotation(0.3, -0.2, 0.9)
    own = turn @ np.array([[0.05, 0.002, -0.003], [0.002, 0.06, 0.001], [-0.003, 0.001, 0.02]]) @ turn.T
    assert machine.bodies["bar"].inertia[:3] == pytest.approx(np.diag(own))
    track = simulate(machine, 3.0, start={"swing": 0.5}, integrator="rk4", every=50)
    assert track.columns[1:5] == ("swing.position", "swing.velocity", "slide.position", "slide.velocity")
    free = machine.model_copy(
        update={
            "joints": {
                n: j.model_copy(update={"damping": 0.0, "friction": 0.0, "limits": None})
                for n, j in machine.joints.items()
            }
        }
    )
    track = simulate(free, 3.0, start={"swing": 0.5}, integrator="rk4", every=50)
    total = track.column("energy.kinetic") + track.column("energy.potential")
    assert np.abs(total - total[0]).max() < 1e-6 * np.abs(total).max()


def test_rpy_is_roll_then_pitch_then_yaw_about_fixed_axes() -> None:
    quarter = np.pi / 2
    np.testing.assert_allclose(rotation(quarter, 0, 0) @ [0, 1, 0], [0, 0, 1], atol=1e-15)
    np.testing.assert_allclose(rotation(0, quarter, 0) @ [1, 0, 0], [0, 0, -1], atol=1e-15)
    np.testing.assert_allclose(
        rotation(0.3, 0.5, 0.7), rotation(0, 0, 0.7) @ rotation(0, 0.5, 0) @ rotation(0.3, 0, 0), atol=1e-15
    )


GEARED = (
    '<robot><link name="a"/><link name="b"><inertial><mass value="1"/></inertial></link><joint name="j" type="continuous"><parent link="a"/>'
    '<child link="b"/><limit effort="2" velocity="0"/></joint><transmission name="t"><joint name="j"/>'
    "<actuator><mechanicalReduction>{gear}</mechanicalReduction></actuator></transmission></robot>"
)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("<robot><link", "not valid XML"),
        ("<machine/>", "outermost"),
        ("<robot/>", "no <link>"),
        ('<!DOCTYPE r [<!ENTITY a "b">]><robot><link name="&a;"/></robot>', "entities"),
        ('<robot><link name="a"/><link name="b"/></robot>', "exactly one root"),
        ('<robot><link name="a"/><joint name="j" type="spherical"/></robot>', "spherical"),
        ('<robot><link name="a"><inertial><mass value="x"/></inertial></link></robot>', "mass"),
        ('<robot><link name="a"/><link name="b"/><joint name="j" type="fixed"><parent link="a"/><child link="c"/></joint></robot>', "child"),
        ('<robot><link name="a"/><link name="b"/><link name="c"/><joint name="j" type="fixed"><parent link="b"/><child link="c"/></joint>'
         '<joint name="k" type="fixed"><parent link="c"/><child link="b"/></joint></robot>', "loop"),
        (GEARED.format(gear="fifty"), "transmission t.mechanicalReduction = 'fifty': wanted a number"),
        (GEARED.format(gear="inf"), "transmission t.mechanicalReduction = 'inf': wanted a finite number"),
    ],
)  # fmt: skip
def test_wrong_urdf_gives_one_clear_line(tmp_path: Path, text: str, words: str) -> None:
    path = tmp_path / "bad.urdf"
    path.write_text(text)
    with pytest.raises(HeronError, match=words) as caught:
        read_urdf(path)
    assert "\n" not in str(caught.value)


@pytest.mark.parametrize(("gear", "value"), [("  ", 1.0), (" 12.5 ", 12.5), ("-3", 3.0)])
def test_gears_of_transmissions(tmp_path: Path, gear: str, value: float) -> None:
    path = tmp_path / "geared.urdf"
    path.write_text(GEARED.format(gear=gear))
    assert read_urdf(path).machine.drives["j"].gear == value


def test_names_longer_than_names_may_be_keep_their_ends(tmp_path: Path) -> None:
    """Each is another name that may be, whatever stands in it."""
    start = "of_a_maker_and_a_line_of_products_and_a_number_of_the_model_"
    names = [f"{start}{end}" for end in ("base", "arm", "tool")] + ["7" * 80, "7" * 81, "q" * 60, "q" * 61, "q" * 62]
    joints = "".join(
        f'<joint name="{name}" type="continuous"><parent link="{before}"/><child link="{name}"/></joint>'
        for before, name in itertools.pairwise(names)
    )
    links = "".join(f'<link name="{name}"><inertial><mass value="1"/></inertial></link>' for name in names)
    path = tmp_path / "long.urdf"
    path.write_text(f"<robot>{links}{joints}</robot>")
    machine = read_urdf(path).machine
    assert len(machine.bodies) == len(names) and len(machine.joints) == len(names)
    assert [name.rpartition("_model_")[2] for name in machine.bodies][:3] == ["base", "arm", "tool"]
    assert max(len(name) for name in machine.bodies) == 60


def test_a_machine_goes_out_as_urdf_and_comes_back_the_same(tmp_path: Path) -> None:
    """What the format can say survives: bodies, joints, limits, friction, gears, couplings, shapes."""
    source = {
        "name": "arm",
        "bodies": {
            "post": {"mass": 3.0, "inertia": [0.1, 0.1, 0.05], "shapes": [{"kind": "cylinder", "size": [0.1, 0.5], "solid": False}]},
            "arm": {"mass": 1.0, "centre": [0.2, 0, 0], "inertia": [0.01, 0.02, 0.02, 0.001, 0, 0], "shapes": [{"kind": "box", "size": [0.4, 0.1, 0.1]}]},
            "slide": {"mass": 0.5, "inertia": [0.01, 0.01, 0.01], "shapes": [{"kind": "sphere", "size": [0.1]}]},
        },
        "joints": {
            "turn": {"kind": "hinge", "child": "post", "origin": [0, 0, 0.2], "friction": 0.3},
            "lift": {"kind": "hinge", "parent": "post", "child": "arm", "axis": [0, -1, 0], "turn": [0.1, 0.2, 0.3], "limits": [-1, 1], "damping": 0.4},
            "reach": {"kind": "slider", "parent": "arm", "child": "slide", "axis": [1, 0, 0], "limits": [0, 0.5]},
        },
        "drives": {"lift": {"kind": "effort", "joint": "lift", "limit": 30.0, "gear": 50.0, "no_load_speed": 4.0}},
        "couplings": {"reach": {"joint": "reach", "follows": "lift", "ratio": 0.2, "offset": 0.1}},
    }  # fmt: skip
    machine = Machine.model_validate(source)
    text, notes = write_urdf(machine)
    assert notes == []
    (tmp_path / "arm.urdf").write_text(text)
    back = read_urdf(tmp_path / "arm.urdf").machine
    for name, body in machine.bodies.items():
        assert back.bodies[name].model_dump() == body.model_dump()
    for name, joint in machine.joints.items():
        assert back.joints[name].model_copy(update={"parent": joint.parent}) == joint
    assert back.drives["lift"] == machine.drives["lift"]
    assert back.couplings["reach"].model_dump() == machine.couplings["reach"].model_dump()


def test_urdf_meshes_stay_in_the_project_and_become_hulls(tmp_path: Path) -> None:
    folder = tmp_path / "project"
    (folder / "meshes").mkdir(parents=True)
    (folder / "project.toml").write_text('format = 2\nname = "p"\n')
    corners = [(x, y, z) for x in (0, 1) for y in (0, 1) for z in (0, 1)]
    lines = [f"v {x} {y} {z}" for x, y, z in [*corners, (0.5, 0.5, 0.5)]] + ["f 1 2 3", "f 4 5 6", "f 7 8 9"]
    (folder / "meshes" / "cube.obj").write_text("\n".join(lines) + "\n")
    (tmp_path / "outside.obj").write_text("v 0 0 0\n")
    urdf = """<robot name="m"><link name="a"><inertial><mass value="1"/><inertia ixx="1" iyy="1" izz="1"/></inertial>
    <collision><origin xyz="0 0 1"/><geometry><mesh filename="{}" scale="2 1 1"/></geometry></collision></link></robot>"""
    path = folder / "m.urdf"
    path.write_text(urdf.format("meshes/cube.obj"))
    shape = read_urdf(path, free=True).machine.bodies["a"].shapes[0]
    assert len(shape.points) == 8 and max(p[0] for p in shape.points) == 2.0 and shape.solid
    path.write_text(urdf.format("../outside.obj"))
    with pytest.raises(FileError, match="project"):
        read_urdf(path, free=True)
    path.write_text(urdf.format("package://m/cube.obj"))
    report = read_urdf(path, free=True)
    assert not report.machine.bodies["a"].shapes and any("relative" in note for note in report.notes)


def test_a_free_root_falls_and_turns(tmp_path: Path) -> None:
    path = tmp_path / "box.urdf"
    path.write_text(
        '<robot name="b"><link name="box"><inertial><mass value="2"/><inertia ixx="0.1" iyy="0.2" izz="0.3"/></inertial></link></robot>'
    )
    machine = read_urdf(path, free=True).machine
    track = simulate(machine, 1.0, start={"base_on_ground.z": 5.0}, integrator="rk4", every=1000)
    assert track.column("base_on_ground.z.position")[-1] == pytest.approx(5.0 - 0.5 * 9.81)
    total = track.column("energy.kinetic") + track.column("energy.potential")
    assert total[-1] == pytest.approx(total[0])
