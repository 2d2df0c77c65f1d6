"""Changing machines: limbs copied, mirrored and removed, poses set by hand, numbers written back, troubles named."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest
import tomlkit
from hypothesis import given
from hypothesis import strategies as st
from scipy.integrate import solve_ivp

from plucky_heron.analysis.machines.facts import derived_facts
from plucky_heron.analysis.machines.part_numbers import change_of, part_numbers
from plucky_heron.analysis.machines.problems import machine_troubles
from plucky_heron.desktop.bench.documents import put
from plucky_heron.desktop.picture.projection import VIEWS
from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.energy import energies, poses
from plucky_heron.dynamics.plant import Plant
from plucky_heron.dynamics.posing import chain, coordinates_of, following, joint_above, moved, starts_of, taken
from plucky_heron.errors import StateError
from plucky_heron.files import validate
from plucky_heron.machine import editing
from plucky_heron.machine.reading import read_machine
from plucky_heron.machine.schema import Machine
from plucky_heron.project import demo_source
from plucky_heron.task.problem import bind, read_problem

MACHINES = sorted(p.stem for p in (demo_source() / "machines").glob("*.toml"))
MIRROR = np.diag([1.0, -1.0, 1.0])


def opened(name: str) -> tuple[tomlkit.TOMLDocument, Machine]:
    """A demo machine's document and what it says."""
    path = demo_source() / "machines" / f"{name}.toml"
    return tomlkit.parse(path.read_text()), read_machine(path)


def read_back(document: tomlkit.TOMLDocument) -> Machine:
    """What a changed document says, as from its file."""
    return validate(Machine, tomlkit.parse(tomlkit.dumps(document)).unwrap(), "changed.toml")


@pytest.mark.parametrize("name", MACHINES)
def test_every_limb_is_copied_and_removed_again(name: str) -> None:
    before = opened(name)[1]
    for body in before.bodies:
        document, machine = opened(name)
        limb = editing.take_limb(document, machine, body)
        new = editing.put_limb(document, machine, editing.shifted(limb, 0.3))
        doubled = read_back(document)
        build_model(doubled)
        assert len(doubled.bodies) == len(machine.bodies) + len(limb["bodies"])
        assert len(doubled.drives) == len(machine.drives) + len(limb["drives"])
        was, now = machine.joints[machine.joint_above(body)], doubled.joints[doubled.joint_above(new)]
        assert np.subtract(now.origin, was.origin) == pytest.approx([0.0, 0.3, 0.0])
        assert (now.kind, now.parent, now.limits) == (was.kind, was.parent, was.limits)
        gone = editing.remove(document, doubled, "bodies", new)
        assert new in gone
        assert read_back(document) == machine


def test_what_is_written_by_people_stays() -> None:
    document, machine = opened("crab")
    text = tomlkit.dumps(document)
    editing.put_limb(document, machine, editing.mirrored(editing.take_limb(document, machine, "front_left_shin")))
    after = tomlkit.dumps(document).splitlines()
    # copies are added; nothing that stood there is touched but the list that says which bodies pass each other
    kept = [line for line in text.splitlines() if not line.startswith("no_contact")]
    rest = iter(after)
    assert all(line in rest for line in kept)


@pytest.mark.parametrize(
    ("name", "body"), [("crab", "front_left_hip"), ("davit", "boom"), ("marshcart", "axle"), ("wader", "left_thigh")]
)
def test_a_mirrored_limb_moves_as_its_mirror_image(name: str, body: str) -> None:
    document, machine = opened(name)
    bodies = editing.limb_of(machine, body)
    limb = editing.take_limb(document, machine, body)
    image = editing.mirrored(limb)
    root = editing.put_limb(document, machine, image)
    double = read_back(document)
    pairs = dict(zip(bodies, editing.limb_of(double, root), strict=True))
    joints = {machine.joint_above(one): double.joint_above(other) for one, other in pairs.items()}
    generator = np.random.default_rng(7)
    position = {joint: float(generator.uniform(-1.0, 1.0)) for joint in joints}
    speeds = {joint: float(generator.uniform(-1.0, 1.0)) for joint in joints}
    frames = poses(double, {**position, **{joints[j]: v for j, v in position.items()}})
    parent = frames[machine.joints[machine.joint_above(body)].parent]
    for one, other in pairs.items():
        a, b = (np.linalg.inv(parent) @ frames[k] for k in (one, other))
        assert b[:3, 3] == pytest.approx(MIRROR @ a[:3, 3], abs=1e-9)
        assert b[:3, :3] == pytest.approx(MIRROR @ a[:3, :3] @ MIRROR, abs=1e-9)
    # the same energy in the same motion: masses, centres and inertias are mirrored too
    energy = energies(double, position, speeds)
    mirrored = energies(double, {joints[j]: v for j, v in position.items()}, {joints[j]: v for j, v in speeds.items()})
    assert energy[0] == pytest.approx(mirrored[0], rel=1e-9)
    assert energy[0] > 0.0


@given(st.floats(-1e4, 1e4).filter(lambda v: v == 0.0 or abs(v) > 1e-4), st.sampled_from(["", "m", "deg", "kg*m**2"]))
def test_a_quantity_is_negated_in_its_own_words(value: float, unit: str) -> None:
    text = f"{value:.6g} {unit}".strip()
    turned = editing._negated(text)
    assert float(str(turned).split()[0]) == pytest.approx(-float(f"{value:.6g}"), abs=0.0)
    assert str(turned).partition(" ")[2] == unit
    assert float(str(editing._negated(turned)).split()[0]) == float(f"{value:.6g}")


def test_a_limb_goes_to_another_machine_as_text() -> None:
    document, crab = opened("crab")
    text = editing.as_text(editing.take_limb(document, crab, "rear_left_thigh"))
    target, davit = opened("davit")
    root = editing.put_limb(target, davit, editing.from_text(text), "hand")
    grown = read_back(target)
    assert root == "rear_left_thigh" and grown.joints["rear_left_lift"].parent == "hand"
    assert grown.bodies["rear_left_shin"] == crab.bodies["rear_left_shin"]
    assert set(grown.drives) - set(davit.drives) == {"rear_left_lift", "rear_left_knee"}
    for wrong in ("hello", "[bodies.x]\nmass = 1", "[project]\nname = 'x'", ""):
        with pytest.raises(StateError, match="not a part of a machine"):
            editing.from_text(wrong)


def test_what_cannot_be_is_refused_in_one_line() -> None:
    document, machine = opened("crab")
    with pytest.raises(StateError, match="a machine needs a body"):
        editing.remove(document, machine, "bodies", "shell")
    with pytest.raises(StateError, match="hinges and sliders"):
        editing.add_drive(document, machine, "base")
    limb = editing.take_limb(document, machine, "front_left_shin")
    limb["bodies"]["front_left_shin"]["shapes"] = [{"kind": "hull", "file": "shin.stl"}]
    with pytest.raises(StateError, match=r"shin\.stl cannot be mirrored"):
        editing.mirrored(limb)


def test_parts_are_added_to_a_machine() -> None:
    document, machine = opened("davit")
    body = editing.add_body(document, machine, "hand", "slider", "capsule")
    machine = read_back(document)
    editing.add_shape(document, body, "sphere")
    drive = editing.add_drive(document, machine, machine.joint_above(body))
    sensor = editing.add_sensor(document, machine, "beams", body)
    machine = read_back(document)
    assert [shape.kind for shape in machine.bodies[body].shapes] == ["capsule", "sphere"]
    assert machine.drives[drive].joint == machine.joint_above(body) and machine.sensors[sensor].beams == 8
    model = build_model(machine)
    plant = Plant(model, 1, 1e-3)
    plant.step(np.zeros((1, len(model.drives))), 100)
    assert np.isfinite(plant.position).all()
    gone = editing.remove(document, machine, "joints", machine.joint_above(body))
    assert {body, drive, sensor} <= set(gone)
    assert read_back(document) == opened("davit")[1]


@pytest.mark.parametrize("task", ["lift", "station", "lane", "stand", "brace", "hover", "hang", "climb", "rock"])
def test_every_number_shown_can_be_written_back(task: str) -> None:
    problem = read_problem(demo_source(), task)
    document, machine = opened(problem.task.machine)
    sections = {section: getattr(machine, section) for section in editing.SECTIONS}
    count = 0
    for section, parts in sections.items():
        for name in parts:
            for number in part_numbers(problem, section, name):
                value = int(number.value) if number.title == "beams" else number.value
                key, written = change_of(number, f"{value!r} {number.unit}" if number.unit else value)
                put(document, key, written)
                count += 1
                assert number.title and "\n" not in number.meaning
    assert count > 10
    again = read_back(document)
    first, second = build_model(machine), build_model(again)
    assert second.row == pytest.approx(first.row, rel=1e-5, abs=1e-9)
    assert second.start == pytest.approx(first.start, rel=1e-6, abs=1e-9)


def test_dragging_a_body_turns_its_joint_and_keeps_to_the_stops() -> None:
    _, machine = opened("davit")
    model = build_model(machine)
    plane, point = VIEWS["side"][:2], np.array([1.2, 0.0, 0.0])
    own = coordinates_of(model, joint_above(model, "forearm"))
    assert [model.joints[i] for i in own] == ["fold"]
    joint = poses(machine, model.pose(model.start))["forearm"][:3, 3] @ plane.T
    wanted = joint + 1.2 * np.array([math.cos(-1.0), math.sin(-1.0)])
    pose = taken(model, model.start, "forearm", point, wanted, plane, own)
    found = poses(machine, model.pose(pose))["forearm"] @ np.append(point, 1.0)
    assert plane @ found[:3] == pytest.approx(wanted, abs=1e-4)
    assert np.flatnonzero(pose != model.start).tolist() == own
    # out of reach of the joint: it goes as far as its stop
    above = taken(model, model.start, "forearm", point, joint + np.array([-1.0, 1.0]), plane, own)
    limits = machine.joints["fold"].limits
    assert limits is not None
    low, high = limits
    assert low <= above[own[0]] <= high
    # the whole limb reaches what one joint cannot
    far = np.array([1.3, 0.9])
    limb = chain(model, "hand")
    whole = taken(model, model.start, "hand", np.zeros(3), far, plane, limb)
    assert plane @ poses(machine, model.pose(whole))["hand"][:3, 3] == pytest.approx(far, abs=2e-3)


def test_a_pose_becomes_the_start_and_joints_follow_their_leaders() -> None:
    _, machine = opened("crab")
    model = build_model(machine)
    base = coordinates_of(model, "base")
    pose = moved(model, model.start, base, np.array([0.1, -0.2, 0.3, 0.4, -0.3, 0.5]))
    numbers = starts_of(model, pose)["base"]
    again = model.start.copy()
    model.set_start(again, dict(zip([model.joints[i] for i in base], numbers, strict=True)))
    assert abs(again[-1]) == pytest.approx(abs(pose[-1]), abs=1e-12)
    for body in ("shell", "rear_left_shin"):
        one, other = (poses(machine, model.pose(p))[body] for p in (pose, again))
        assert one == pytest.approx(other, abs=1e-12)
    _, cart = opened("marshcart")
    carted = build_model(cart)
    turned = carted.start.copy()
    turned[carted.joints.index("steer")] = 0.3
    hubs = [following(carted, turned)[carted.joints.index(j)] for j in ("left_hub", "right_hub")]
    wheelbase, left = cart.couplings["left_hub"].wheelbase, cart.couplings["left_hub"].left
    # both stand on circles about one centre on the line of the rear axle (Ackermann)
    radius = wheelbase / math.tan(0.3)
    assert math.tan(hubs[0]) == pytest.approx(wheelbase / (radius - left), rel=1e-9)
    assert math.tan(hubs[1]) == pytest.approx(wheelbase / (radius + left), rel=1e-9)


def test_a_hand_pulls_as_a_spring_and_damper() -> None:
    """Against the damped oscillator under gravity, by an integrator of SciPy's."""
    data = {
        "bodies": {"ball": {"mass": 2.0, "inertia": [0.1, 0.1, 0.1], "shapes": [{"kind": "sphere", "size": [0.1]}]}},
        "joints": {"base": {"kind": "free", "child": "ball"}},
    }
    plant = Plant(build_model(validate(Machine, data, "ball")), 1, 1e-4)
    plant.pull(0, "ball", np.zeros(3), np.array([0.4, 0.0, 0.3]), 80.0, 6.0)
    plant.step(np.zeros((1, 0)), 10_000)
    found = solve_ivp(
        lambda _, y: [y[2], y[3], (80.0 * (0.4 - y[0]) - 6.0 * y[2]) / 2.0, (80.0 * (0.3 - y[1]) - 6.0 * y[3]) / 2.0 - 9.81],
        (0.0, 1.0), [0.0, 0.0, 0.0, 0.0], rtol=1e-10, atol=1e-12,
    ).y[:, -1]  # fmt: skip
    assert plant.position[0, [0, 2]] == pytest.approx(found[:2], abs=2e-4)
    plant.let_go(0)
    speed = plant.velocity[0, 2]
    plant.step(np.zeros((1, 0)), 1000)
    assert plant.velocity[0, 2] == pytest.approx(speed - 0.981, abs=1e-6)


@pytest.mark.parametrize("task", ["lift", "station", "lane", "stand", "brace", "hover", "hang", "climb", "rock"])
def test_the_demo_has_no_troubles(task: str) -> None:
    assert machine_troubles(read_problem(demo_source(), task)) == []


def changed(task: str, changes: dict[str, object]) -> list[tuple[str, str, str]]:
    """Troubles of a demo task whose machine file says something else, as (state, part, text)."""
    problem = read_problem(demo_source(), task)
    document, _ = opened(problem.task.machine)
    for key, value in changes.items():
        put(document, [int(k) if k.isdigit() else k for k in key.split(".")], value)
    task_of = problem.task.model_copy(update={"variation": {}})
    other = bind(read_back(document), problem.site, task_of, "changed")
    troubles = machine_troubles(other)
    assert derived_facts(other)[0][0] == "mass"  # whatever is wrong, the rest is still known
    assert all(t.remedy for t in troubles)
    return [(t.state, t.name, t.text) for t in troubles]


def test_troubles_are_named_where_they_are(tmp_path: Path) -> None:
    massless = changed("hang", {"bodies.hand.mass": 0.0, "bodies.hand.inertia": [0.0, 0.0, 0.0], "bodies.basket.mass": 0.0,
                                "bodies.basket.inertia": [0.0, 0.0, 0.0]})  # fmt: skip
    assert ("wrong", "hand", "nothing on wrist has inertia about its axis") in massless
    assert [t[:2] for t in changed("hang", {"bodies.hand.inertia": [30.0, 30.0, 30.0]})] == [("look", "hand")]
    deep = changed("brace", {"joints.base.start": ["0 m", "0 m", "0.1 m", 0, 0, 0]})
    assert deep and all(state == "look" and "deep in the ground" in text for state, _, text in deep)
    crossed = changed("hang", {"bodies.forearm.shapes.0.size": ["1.3 m", "2 m", "2 m"]})
    assert any("deep in" in text for _, _, text in crossed)
    stiff = changed("stand", {"drives.boom.gain": "2e6 N*m/rad"})
    assert [name for _, name, text in stiff if "substeps" in text] == ["boom"]


def test_facts_follow_the_pose() -> None:
    problem = read_problem(demo_source(), "hang")
    model = problem.model
    straight = model.start.copy()
    straight[:] = 0.0
    start, flat = dict(derived_facts(problem)), dict(derived_facts(problem, straight))
    # boom 1.6 m, forearm 1.2 m, then the basket's middle 0.2 m below the hook: 3.05 m from the post's joint when straight
    assert float(flat["reach"].split()[3]) == pytest.approx(3.05, abs=0.01)
    assert float(start["reach"].split()[3]) < 3.05 < float(start["reach"].split()[0]) < 3.55
    assert flat["reach"].split()[0] == start["reach"].split()[0]
    # gravity on the outstretched arm, by hand: boom, forearm, hand and basket about the luff
    bodies = problem.machine.bodies
    frames = poses(problem.machine, model.pose(straight))
    root = frames["boom"][:3, 3]
    moment = sum(
        9.81 * b.mass * ((frames[n] @ np.array([*b.centre, 1.0]))[0] - root[0])
        for n, b in bodies.items()
        if n != "post"
    )
    assert float(flat["luff holds"].split()[0]) == pytest.approx(moment, rel=2e-3)
