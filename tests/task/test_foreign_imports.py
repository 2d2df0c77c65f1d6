"""URDFs as others write them: without limits, with grippers, casters, arms on wheels, legs that spread out."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from plucky_heron.errors import FileError
from plucky_heron.files import parse_toml, validate
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.machine.urdf import read_urdf
from plucky_heron.project import create
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.drivers import Constant
from plucky_heron.task.import_legs import legs_of, standing
from plucky_heron.task.importing import ImportReport
from plucky_heron.task.machine_import import machine_from_urdf, travels
from plucky_heron.task.wishes.catalogue import WISHES
from plucky_heron.task.wishes.draft import Draft
from plucky_heron.task.wishes.look import look_at
from plucky_heron.task.wishes.region import region_of


def body(name: str, mass: float, shape: str = "", at: str = "0 0 0", turn: str = "0 0 0") -> str:
    """A link; a compact one where it has no shape."""
    place = f'<origin xyz="{at}" rpy="{turn}"/>'
    geometry = f"<collision>{place}<geometry>{shape}</geometry></collision>" if shape else ""
    spin = 0.002 * mass
    return (
        f'<link name="{name}"><inertial>{place}<mass value="{mass}"/><inertia ixx="{spin}" iyy="{spin}" izz="{spin}"/></inertial>'
        f"{geometry}</link>"
    )


def box(x: float, y: float, z: float) -> str:
    """The shape."""
    return f'<box size="{x} {y} {z}"/>'


def joint(
    name: str, parent: str, child: str, at: str = "0 0 0", axis: str = "", limit: str = "", more: str = ""
) -> str:
    """Fixed without an axis, without end without a limit."""
    kind = ("revolute" if "lower" in limit else "continuous") if axis else "fixed"
    kind = "prismatic" if more == "slides" else kind
    inner = (f'<axis xyz="{axis}"/>' if axis else "") + (f"<limit {limit}/>" if limit else "")
    return (
        f'<joint name="{name}" type="{kind}"><parent link="{parent}"/><child link="{child}"/><origin xyz="{at}"/>{inner}'
        f"{more if more != 'slides' else ''}</joint>"
    )


def limits(low: float, high: float, effort: float = 20.0, speed: float = 3.0) -> str:
    """Of a joint with stops."""
    return f'lower="{low}" upper="{high}" effort="{effort}" velocity="{speed}"'


WHEEL = '<cylinder radius="0.1" length="0.04"/>'
LYING = "1.570796 0 0"


def wheels(parent: str = "deck", y: float = 0.25) -> list[str]:
    """Two that turn without end, of which no file says how strong they are."""
    found = []
    for side, at in (("left", y), ("right", -y)):
        found += [
            body(f"{side}_wheel", 0.5, WHEEL, turn=LYING),
            joint(f"{side}_turn", parent, f"{side}_wheel", f"0.1 {at} 0", "0 1 0"),
        ]
    return found


def arm(parent: str, first: str, effort: float = 20.0, joints: int = 3) -> list[str]:
    """Links of 0.3 m above one another."""
    found = []
    for k in range(joints):
        name = f"{first}{k + 1}"
        axis, at = ("0 0 1", "0 0 0.1") if k == 0 else ("0 1 0", "0 0 0.3" if k > 1 else "0 0 0.05")
        found += [body(name, 0.8, box(0.05, 0.05, 0.3 if k else 0.05), f"0 0 {0.15 if k else 0.02}")]
        found.append(joint(f"{name}_joint", parent, name, at, axis, limits(-1.5, 1.5, effort, 3.0 if effort else 0.0)))
        parent = name
    return found


def brought(folder: Path, parts: list[str]) -> tuple[ImportReport, Machine]:
    """A file with those parts, read."""
    path = folder / "found.urdf"
    path.write_text(f'<robot name="found">{"".join(parts)}</robot>')
    report = machine_from_urdf(path)
    return report, validate(Machine, parse_toml(report.texts["machines/found.toml"], path), path)


def wish(machine: Machine, name: str) -> Draft:
    """A wish on level ground, with what it proposes."""
    look = look_at(machine, validate(Site, {"terrain": {"kind": "flat"}} if machine_travels(machine) else {}, "site"))
    found = next(w for w in WISHES if w.name == name)
    assert found.unfit(look) == ""
    return found.write(look, {q.key: q.value for q in found.questions(look)})


def machine_travels(machine: Machine) -> bool:
    """Whether its root is free."""
    return any(j.kind == "free" for j in machine.joints.values())


def test_where_nothing_has_an_effort_wheels_and_the_arm_above_them_get_theirs(tmp_path: Path) -> None:
    _, machine = brought(
        tmp_path, [body("deck", 10.0, box(0.5, 0.4, 0.1)), *wheels(), *arm("deck", "link", effort=0.0)]
    )
    driven = {str(d.joint): d for d in machine.drives.values()}
    assert set(driven) == {"left_turn", "right_turn", "link1_joint", "link2_joint", "link3_joint"}
    level = 9.81 * 0.8 * (0.15 + 0.45)
    assert 1.8 * level < float(driven["link2_joint"].limit) < 4.0 * level and driven["link2_joint"].kind == "position"


def test_a_suspension_above_a_driven_wheel_gets_no_drive(tmp_path: Path) -> None:
    parts = [
        body("deck", 10.0, box(0.6, 0.4, 0.1)),
        body("rocker", 0.5),
        joint("rocks", "deck", "rocker", "0 0 0", "0 1 0", limits(-0.3, 0.3, 0.0, 0.0)),
    ]
    _, machine = brought(tmp_path, [*parts, *wheels("rocker")])
    assert {d.joint for d in machine.drives.values()} == {"left_turn", "right_turn"}


def test_wheels_are_driven_though_only_the_arm_above_them_has_limits_and_the_arm_holds(tmp_path: Path) -> None:
    _, machine = brought(tmp_path, [body("deck", 10.0, box(0.5, 0.4, 0.1)), *wheels(), *arm("deck", "link")])
    driven = {d.joint: d for d in machine.drives.values()}
    assert set(driven) == {"left_turn", "right_turn", "link1_joint", "link2_joint", "link3_joint"}
    mass = sum(b.mass for b in machine.bodies.values())
    assert driven["left_turn"].limit == pytest.approx(0.3 * mass * 9.81 * 0.1 / 2, rel=0.15)  # a grade of 30 %, rounded
    assert {driven[f"link{k}_joint"].kind for k in (1, 2, 3)} == {"position"}
    draft = wish(machine, "reach a place")
    assert {a["name"] for a in draft.task["actions"]} == {
        d for d, drive in machine.drives.items() if drive.joint in ("left_turn", "right_turn")
    }
    look = look_at(machine, validate(Site, {"terrain": {"kind": "flat"}}, "site"))
    assert "walk forward" not in {w.name for w in WISHES if not w.unfit(look)}  # a hand is no foot


def test_what_trails_behind_a_swivel_is_a_caster_and_what_stands_under_it_is_steered(tmp_path: Path) -> None:
    deck = [body("deck", 10.0, box(0.6, 0.4, 0.1)), *wheels()]
    swivel = [
        body("swivel", 0.1),
        joint("swivels", "deck", "swivel", "-0.25 0 0", "0 0 1"),
        body("roll", 0.1, WHEEL, turn=LYING),
    ]
    _, trails = brought(tmp_path, [*deck, *swivel, joint("rolls", "swivel", "roll", "-0.05 0 -0.02", "0 1 0")])
    assert {d.joint for d in trails.drives.values()} == {"left_turn", "right_turn"}
    _, below = brought(tmp_path, [*deck, *swivel, joint("rolls", "swivel", "roll", "0 0 -0.02", "0 1 0")])
    assert {d.joint for d in below.drives.values()} == {"left_turn", "right_turn", "rolls", "swivels"}


def test_what_steers_between_stops_takes_positions_and_stays_a_command(tmp_path: Path) -> None:
    steers = joint("steers", "deck", "stub", "-0.25 0 0", "0 0 1", limits(-0.7, 0.7, 20.0))
    parts = [
        body("deck", 10.0, box(0.6, 0.4, 0.1)),
        *wheels(),
        body("stub", 0.2),
        steers,
        body("roll", 0.3, WHEEL, turn=LYING),
    ]
    report, machine = brought(tmp_path, [*parts, joint("rolls", "stub", "roll", "0 0 -0.02", "0 1 0")])
    assert {d.joint: d.kind for d in machine.drives.values()}["steers"] == "position"
    assert any("steers as it is told" in a.words for a in report.assumed)
    names = {n for n, d in machine.drives.items() if d.kind in ("effort", "position")}
    assert {a["name"] for a in wish(machine, "reach a place").task["actions"]} == names


def test_wheels_that_are_steered_are_no_legs(tmp_path: Path) -> None:
    parts = [body("deck", 20.0, box(0.6, 0.6, 0.1))]
    for k, (x, y) in enumerate(((0.25, 0.25), (-0.25, 0.25), (-0.25, -0.25), (0.25, -0.25))):
        parts += [body(f"fork{k}", 0.4), joint(f"steer{k}", "deck", f"fork{k}", f"{x} {y} -0.05", "0 0 1")]
        parts += [
            body(f"roller{k}", 0.4, WHEEL, turn=LYING),
            joint(f"roll{k}", f"fork{k}", f"roller{k}", "0 0 -0.1", "0 1 0"),
        ]
    _, machine = brought(tmp_path, parts)
    assert machine_travels(machine) and not legs_of(machine)
    assert all(np.all(np.ravel(j.start) == 0.0) for j in machine.joints.values() if j.kind == "hinge")
    assert len(machine.drives) == 8 and {d.kind for d in machine.drives.values()} == {"effort"}


def test_an_arm_whose_file_says_no_efforts_carries_itself(tmp_path: Path) -> None:
    report, machine = brought(tmp_path, [body("foot", 5.0, box(0.2, 0.2, 0.1)), *arm("foot", "link", effort=0.0)])
    look = look_at(machine, Site())
    # the second joint holds both links level: 0.8 kg at 0.15 m, 0.8 kg at 0.45 m; and twice as much is given, and some to move
    level = 9.81 * 0.8 * (0.15 + 0.45)
    limit = next(float(d.limit) for d in machine.drives.values() if d.joint == "link2_joint")
    assert 2.0 * level * 0.9 < limit < 4.0 * level and not look.weak
    assert any("no effort limit is given" in a.words for a in report.assumed)


def gripper(folder: Path, frame: bool) -> tuple[ImportReport, Machine]:
    """An arm with two fingers, of which one follows the other."""
    parts = [body("foot", 5.0, box(0.2, 0.2, 0.1)), *arm("foot", "link")]
    for name, y, more in (("grip", 0.02, ""), ("grip_too", -0.02, '<mimic joint="grip" multiplier="-1"/>')):
        low, high = (0.0, 0.03) if y > 0.0 else (-0.03, 0.0)
        parts.append(body(f"{name}_finger", 0.08, box(0.02, 0.01, 0.07), "0 0 0.035"))
        slides = joint(name, "link3", f"{name}_finger", f"0 {y} 0.3", "0 1 0", limits(low, high, 20.0, 0.1), "slides")
        parts.append(slides.replace("</joint>", more + "</joint>"))
    parts += ['<link name="tool"/>', joint("tool_fixed", "link3", "tool", "0 0 0.35")] if frame else []
    return brought(folder, parts)


@pytest.mark.parametrize("frame", [True, False])
def test_what_grips_is_not_what_reaches(tmp_path: Path, frame: bool) -> None:
    _, machine = gripper(tmp_path, frame)
    look = look_at(machine, Site())
    assert look.limb == (["link1_joint", "link2_joint", "link3_joint"], "tool" if frame else "link3")
    assert look.tip == pytest.approx([0.0, 0.0, 0.0 if frame else 0.37], abs=0.006)
    # the second finger, moved by the first through what couples them, is all that this one carries besides itself
    start = look.model.start[None]
    assert look.inertia(start)[0][look.index("grip")] == pytest.approx(0.16, rel=1e-6)
    assert look.seconds < 1.5
    draft = wish(machine, "reach a place")
    assert [a["name"] for a in draft.task["actions"]] == ["link1_joint", "link2_joint", "link3_joint"]
    assert draft.task["timing"]["time_limit"] == "4 s" or float(draft.task["timing"]["time_limit"].split()[0]) < 10.0
    for action in draft.task["actions"]:
        low, high = (float(v.split()[0]) for v in action.get("limits", ("-20 N*m", "20 N*m")))
        assert high > 0.3 and low == -high


def test_an_arm_beside_the_one_that_reaches_is_sensed_and_left_alone(tmp_path: Path) -> None:
    parts = [body("post", 30.0, box(0.3, 0.3, 0.8), "0 0 0.4"), body("chest", 8.0, box(0.2, 0.4, 0.3), "0 0 0.15")]
    parts.append(joint("waist", "post", "chest", "0 0 0.8", "0 0 1", limits(-1.5, 1.5, 60.0, 2.0)))
    for side, y in (("left", 0.25), ("right", -0.25)):
        parts += [
            body(f"{side}_upper", 1.5, box(0.06, 0.06, 0.3), "0 0 -0.15"),
            body(f"{side}_fore", 1.0, box(0.05, 0.05, 0.3), "0 0 -0.15"),
        ]
        parts.append(
            joint(f"{side}_shoulder", "chest", f"{side}_upper", f"0 {y} 0.3", "0 1 0", limits(-2.0, 2.0, 40.0))
        )
        parts.append(
            joint(f"{side}_elbow", f"{side}_upper", f"{side}_fore", "0 0 -0.3", "0 1 0", limits(-2.0, 0.0, 20.0))
        )
    _, machine = brought(tmp_path, parts)
    draft = wish(machine, "reach a place")
    assert {a["name"] for a in draft.task["actions"]} == {"waist", "left_shoulder", "left_elbow"}
    sensed = " ".join(str(o["formula"]) for o in draft.task["observations"])
    assert "right_shoulder.velocity" in sensed and "right_elbow.velocity" in sensed


def crawler(folder: Path, legs: int, spread: float = 2.0 * np.pi, deep: bool = True) -> Path:
    """A round trunk with legs that point away from it over an angle, level at the start."""
    parts = [body("trunk", 2.0, '<cylinder radius="0.12" length="0.06"/>')]
    lift, knee = limits(-1.4, 1.4 if deep else 0.0, 3.0, 6.0), limits(-0.3, 2.4 if deep else 0.0, 3.0, 6.0)
    for k in range(legs):
        angle = spread * k / legs
        x, y = 0.13 * np.cos(angle), 0.13 * np.sin(angle)
        hip = joint(f"yaw{k}", "trunk", f"hip{k}", f"{x:.4f} {y:.4f} 0", "0 0 1", limits(-0.7, 0.7, 3.0, 6.0))
        parts += [body(f"hip{k}", 0.1), hip.replace("/><axis", f' rpy="0 0 {angle:.5f}"/><axis')]
        parts += [body(f"thigh{k}", 0.1), joint(f"lift{k}", f"hip{k}", f"thigh{k}", "0.05 0 0", "0 1 0", lift)]
        parts += [
            body(f"shin{k}", 0.1, box(0.12, 0.02, 0.02), "0.06 0 0"),
            joint(f"knee{k}", f"thigh{k}", f"shin{k}", "0.08 0 0", "0 1 0", knee),
        ]
    path = folder / "crawler.urdf"
    path.write_text(f'<robot name="crawler">{"".join(parts)}</robot>')
    return path


@pytest.mark.parametrize(
    ("legs", "spread", "walks"),
    [(6, 2.0 * np.pi, True), (4, 2.0 * np.pi, True), (3, 2.0 * np.pi, False), (5, 0.5 * np.pi, False)],
)
def test_legs_that_spread_out_round_a_trunk_carry_it(tmp_path: Path, legs: int, spread: float, walks: bool) -> None:
    assert travels(crawler(tmp_path, legs, spread)) is walks


def test_legs_that_cannot_come_below_a_trunk_do_not_carry_it(tmp_path: Path) -> None:
    assert not travels(crawler(tmp_path, 6, deep=False))


def test_what_crawls_stands_on_feet_beside_their_hips(tmp_path: Path) -> None:
    project = create(tmp_path / "new", str(crawler(tmp_path, 6)))
    problem = project.problem(project.first_task())
    look = look_at(problem.machine, problem.site)
    stands = standing(read_urdf(tmp_path / "crawler.urdf", free=True).machine, [f"yaw{k}" for k in range(6)])
    assert {round(v, 2) for n, v in stands.items() if n.startswith("yaw")} == {0.0}
    assert np.ptp([v for n, v in stands.items() if n.startswith("knee")]) < 0.02  # all alike
    feet = [look.points(look.model.start[None], f"shin{k}", np.array([0.12, 0.0, 0.0]))[0] for k in range(6)]
    assert np.ptp([f[2] for f in feet]) < 0.005 and all(0.2 < np.hypot(*f[:2]) < 0.35 for f in feet)
    assert "walk forward" in {o.name for o in project.wishes("crawler") if not o.unfit}
    # told to stay where it begins, it stands: its trunk sinks by less than a third
    rest = np.array([problem.model.start[look.index(str(d.joint))] for d in problem.machine.drives.values()])
    batch = Batch(problem, 1, 3, "test", threads=1)
    batch.start(np.arange(1))
    begun = float(batch.plant.locate()[0, problem.model.bodies.index("trunk"), 2])
    driver = Constant(problem, rest)
    for _ in range(100):
        batch.step(driver.drive(batch, batch.observe()))
    assert float(batch.plant.locate()[0, problem.model.bodies.index("trunk"), 2]) > 0.67 * begun


def test_what_holds_for_many_joints_is_one_line(tmp_path: Path) -> None:
    report = machine_from_urdf(crawler(tmp_path, 6))
    assert len(report.assumptions) > 70 and len(report.told) < 12
    for assumed in report.assumed:  # nothing is lost: each name and its number
        line = next(t for t in report.told if assumed.why in t)
        assert assumed.part in line and assumed.value in line


BARE = '<link name="{0}"><collision><origin xyz="0 0 0.15"/><geometry><box size="0.1 0.1 0.3"/></geometry></collision>{1}</link>'
SWINGS = '<joint name="j" type="revolute"><parent link="a"/><child link="b"/><origin xyz="0 0 0.3"/><axis xyz="0 1 0"/><limit lower="-1" upper="1" effort="9" velocity="2"/></joint>'


def test_what_has_no_mass_gets_that_of_its_shapes_and_can_be_told_another(tmp_path: Path) -> None:
    report, machine = brought(tmp_path, [BARE.format("a", ""), BARE.format("b", ""), SWINGS])
    b = machine.bodies["b"]
    assert b.mass == pytest.approx(0.003 * 500.0) and b.centre == pytest.approx((0.0, 0.0, 0.15))
    assert b.inertia[:3] == pytest.approx([1.5 * 0.1 / 12, 1.5 * 0.1 / 12, 1.5 * 0.02 / 12])
    assert machine.joints["j"].kind == "hinge" and "2 bodies, 3 kg" in report.read[0]
    heavier = machine_from_urdf(tmp_path / "found.urdf", numbers={"bodies.b.mass": "6 kg"})
    b = validate(Machine, parse_toml(heavier.texts["machines/found.toml"], "found"), "found").bodies["b"]
    assert b.mass == 6.0 and b.inertia[2] == pytest.approx(6.0 * 0.02 / 12)
    for wrong in ("0 kg", "two", "3 m"):
        with pytest.raises(FileError, match=r"bodies\.b\.mass"):
            machine_from_urdf(tmp_path / "found.urdf", numbers={"bodies.b.mass": wrong})


def test_only_what_moves_is_weighed_where_other_links_have_masses(tmp_path: Path) -> None:
    weight = '<inertial><origin xyz="0 0 0.1"/><mass value="4"/></inertial>'
    lens = BARE.format("lens", "") + joint("holds", "a", "lens", "0.1 0 0")
    _, machine = brought(tmp_path, [BARE.format("a", weight), BARE.format("b", ""), SWINGS, lens])
    assert [machine.bodies[n].mass for n in ("a", "b", "lens")] == pytest.approx([4.0, 1.5, 0.0])
    # a mass without an inertia gets that of its shapes, about the centre that is given
    assert machine.bodies["a"].inertia[:3] == pytest.approx([4.0 * 0.1 / 12, 4.0 * 0.1 / 12, 4.0 * 0.02 / 12])
    assert machine.bodies["a"].centre == (0.0, 0.0, 0.1)


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ('<robot name="m" xmlns:xacro="http://example.org/xacro"><xacro:property name="p" value="1"/></robot>', "property: is a macro; expand"),
        (f'<robot name="m">{BARE.format("${side}_a", "")}</robot>', "link: is a macro; expand"),
        (f'<robot name="m">{"".join(f"<link name={chr(34)}l{k}{chr(34)}/>" for k in range(301))}{"".join(joint(f"j{k}", f"l{k}", f"l{k + 1}") for k in range(300))}</robot>', "bodies"),
        (f'<robot name="m"><link name="a"/><link name="b"/>{SWINGS}</robot>', "b has no mass and is welded"),
        (f'<robot name="m">{BARE.format("a", "")}{BARE.format("b", "")}{SWINGS.replace("-1", "minus")}</robot>', "wanted a number"),
    ],
)  # fmt: skip
def test_what_cannot_be_read_is_told_in_one_line(tmp_path: Path, text: str, told: str) -> None:
    path = tmp_path / "found.urdf"
    path.write_text(text)
    with pytest.raises(FileError, match=told) as caught:
        machine_from_urdf(path)
    assert "\n" not in str(caught.value)


def test_joints_that_follow_one_another_in_a_ring_are_told(tmp_path: Path) -> None:
    other = SWINGS.replace('"j"', '"k"').replace('"b"', '"c"').replace('"a"', '"b"')
    follows = [swing.replace("</joint>", f'<mimic joint="{j}"/></joint>') for swing, j in ((SWINGS, "k"), (other, "j"))]
    with pytest.raises(FileError, match=r"couplings\.j\.follows: j follows itself by k"):
        brought(tmp_path, [BARE.format("a", ""), BARE.format("b", ""), BARE.format("c", ""), *follows])


def test_meshes_of_the_package_that_a_file_stands_in_are_read(tmp_path: Path) -> None:
    package = tmp_path / "porter_description"
    (package / "meshes").mkdir(parents=True)
    (package / "urdf").mkdir()
    corners = [f"v {x} {y} {z}" for x in (0, 0.1) for y in (0, 0.1) for z in (0, 0.3)]
    (package / "meshes" / "bar.obj").write_text("\n".join([*corners, "f 1 2 3", "f 4 5 6", "f 7 8 1"]) + "\n")
    (tmp_path / "secret.obj").write_text("v 0 0 0\n")

    def shapes(name: str) -> int:
        mesh = f'<collision><geometry><mesh filename="{name}"/></geometry></collision>'
        path = package / "urdf" / "found.urdf"
        path.write_text(
            f'<robot name="m">{BARE.format("a", "")}<link name="b">{mesh}<inertial><mass value="1"/></inertial></link>{SWINGS}</robot>'
        )
        report = machine_from_urdf(path)
        found = validate(Machine, parse_toml(report.texts["machines/found.toml"], path), path)
        return len(found.bodies["b"].shapes)

    assert shapes("package://porter_description/meshes/bar.obj") == 0  # nothing says that this is a package
    (package / "package.xml").write_text("<package/>\n")
    assert shapes("package://porter_description/meshes/bar.obj") == 1
    assert shapes("package://another/meshes/bar.obj") == 0
    with pytest.raises(FileError, match="leads out"):
        shapes("package://porter_description/../secret.obj")
    (package / "urdf" / "project.toml").write_text('format = 2\nname = "p"\n')
    assert (
        shapes("package://porter_description/meshes/bar.obj") == 0
    )  # the project that the file stands in ends below it


def test_a_wrist_about_the_tip_is_not_what_reaches_and_sets_no_rate(tmp_path: Path) -> None:
    foot = [body("foot", 5.0, box(0.2, 0.2, 0.1)), *arm("foot", "link")]
    disc = body("flange", 0.05, '<cylinder radius="0.03" length="0.01"/>')
    turns = joint("wrist", "link3", "flange", "0 0 0.3", "0 0 1", limits(-3.0, 3.0, 8.0, 60.0))
    _, bare = brought(tmp_path, foot)
    _, machine = brought(tmp_path, [*foot, disc, turns])
    look, before = look_at(machine, Site()), look_at(bare, Site())
    assert look.limb[0][-1] == "wrist" and look.reaching == ["link1_joint", "link2_joint", "link3_joint"]
    assert look.tip == pytest.approx([0.0, 0.0, 0.0])  # the middle of the disc, not its rim
    assert look.times[look.driven.index("wrist")] < 0.2 * min(before.times)
    for wished in ("reach a place", "hold a pose"):
        rates = [float(wish(m, wished).task["timing"]["control_rate"].split()[0]) for m in (bare, machine)]
        assert rates[1] <= 2.0 * rates[0]
    actions = [a["name"] for a in wish(machine, "reach a place").task["actions"]]
    assert actions == ["link1_joint", "link2_joint", "link3_joint"]


def test_a_thin_region_is_made_as_wide_as_is_reached(tmp_path: Path) -> None:
    """Elbows that stop at 1.5 rad leave a ring 0.16 m wide; cells of the search are half as wide as that."""
    _, machine = gripper(tmp_path, True)
    look = look_at(machine, Site())
    found = region_of(look)
    assert found is not None
    low, high = (found.low[1], found.high[1])
    assert high - low > 0.06
    corners = np.array([(b, r, h) for b in (0.0,) for r in (low, high) for h in (found.low[2], found.high[2])])
    # in the plane of the arm: links of 0.3 and 0.35 m above a shoulder 0.05 m over the first joint, elbow from 0 to 1.5 rad
    away = np.hypot(corners[:, 1], corners[:, 2] - 0.05)
    assert away.max() < 0.65 and away.min() > np.sqrt(0.3**2 + 0.35**2 + 2 * 0.3 * 0.35 * np.cos(1.5)) - 1e-6


ROD = '<link name="rod"><inertial><mass value="0.4"/><inertia ixx="0.01" iyy="0.01" izz="0"/></inertial>{shape}</link>'


@pytest.mark.parametrize(
    ("shape", "words", "inertia"),
    [
        ("", "a ball of 500 kg/m³", 0.4 * 0.4 * (0.75 * 0.4 / (np.pi * 500.0)) ** (2 / 3)),
        (f"<visual><geometry>{WHEEL}</geometry></visual>", "its shapes", 0.5 * 0.4 * 0.1**2),
    ],
)
def test_what_turns_without_inertia_gets_some_and_it_is_told(
    tmp_path: Path, shape: str, words: str, inertia: float
) -> None:
    """A thin rod about its own axis, as many files have it: without inertia it has no acceleration that is a number."""
    parts = [
        body("stand", 2.0, box(0.2, 0.2, 0.1)),
        ROD.format(shape=shape),
        joint("turn", "stand", "rod", axis="0 0 1"),
    ]
    report, machine = brought(tmp_path, parts)
    assert machine.bodies["rod"].inertia[2] == pytest.approx(inertia, rel=0.02)
    told = f"link rod: nothing has inertia about the axis on which it turns; it gets that of {words}"
    assert told in report.converted
    assert wish(machine, "follow a set-point").task["setpoints"]


def test_a_frame_that_turns_a_mass_without_size_is_refused(tmp_path: Path) -> None:
    parts = [
        body("stand", 2.0, box(0.2, 0.2, 0.1)), '<link name="frame"/>', '<link name="bob"><inertial><mass value="1"/></inertial></link>',
        joint("turn", "stand", "frame", axis="0 0 1"), joint("weld", "frame", "bob", "0 0 0.2"),
    ]  # fmt: skip
    with pytest.raises(FileError, match="link frame: moves, and neither it nor what it carries has inertia"):
        brought(tmp_path, parts)


def test_a_table_that_only_turns_varies_in_what_turns(tmp_path: Path) -> None:
    """Nothing reaches out, so that its last body is the one that the ground holds; the mass of that says nothing."""
    parts = [body("stand", 2.0, box(0.2, 0.2, 0.1)), body("table", 0.5, WHEEL), joint("turn", "stand", "table", axis="0 0 1")]  # fmt: skip
    report, machine = brought(tmp_path, parts)
    assert [a.where for a in report.assumed] == [("drives", "turn_drive", "limit"), ("joints", "turn", "damping")]
    for name in ("hold a pose", "follow a set-point"):
        assert list(wish(machine, name).task["variation"]) == ["table.mass"]
