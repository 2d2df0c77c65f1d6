"""Wishes for machines of other kinds: a ball on a beam, a box with a wheel inside, an aeroplane, a vehicle that tows."""

from __future__ import annotations

import shutil
import tomllib
from pathlib import Path

import numpy as np
import pytest

from plucky_heron.analysis.shakedown.checks import _lift
from plucky_heron.files import validate
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.project import Project, create, demo_source
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.drivers import Constant, Random, Rule
from plucky_heron.simulation.trials import run_trials
from plucky_heron.task.problem import Problem
from plucky_heron.task.wishes.carried import room_of
from plucky_heron.task.wishes.catalogue import WISHES, wish_named
from plucky_heron.task.wishes.draft import Draft
from plucky_heron.task.wishes.fly import cruise_of
from plucky_heron.task.wishes.look import Look, look_at
from plucky_heron.task.wishes.reach import clear_share
from plucky_heron.task.wishes.upright import within_stops
from plucky_heron.units import parse
from tests.conftest import altered

FOREIGN = Path(__file__).parent / "foreign"


@pytest.fixture(scope="module")
def project(tmp_path_factory: pytest.TempPathFactory) -> Project:
    """A new project with these machines."""
    made = create(tmp_path_factory.mktemp("foreign") / "odd")
    for file in FOREIGN.glob("*.toml"):
        shutil.copy(file, made.folder / "machines")
    return Project(made.folder)


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Project:
    """A copy of the demo."""
    folder = tmp_path_factory.mktemp("demo") / "quillmere"
    shutil.copytree(demo_source(), folder, ignore=shutil.ignore_patterns("runs", "packs"))
    return Project(folder)


def look_of(name: str, **changes: object) -> Look:
    """A machine with other parts, looked at in an empty hall."""
    data = tomllib.loads((FOREIGN / f"{name}.toml").read_text())
    return look_at(validate(Machine, data | changes, name), Site())


def with_rule(problem: Problem, **commands: str) -> Rule:
    """A controller written by hand for a written task."""
    return Rule(altered(problem, rules={"hand": {"commands": commands}}), "hand")


def test_a_ball_on_a_beam_is_balanced_by_the_law_of_the_textbook(project: Project) -> None:
    offers = {o.name: o.unfit for o in project.wishes("seesaw")}
    assert {name for name, why in offers.items() if not why} == {"hold a pose", "follow a set-point", "balance"}
    problem = project.problem(project.write_wish("seesaw", "balance", name="ball").task)
    assert {e.name for e in problem.entries} >= {"ball x", "ball speed x", "tilt position", "tilt speed"}
    rule = with_rule(problem, tilt="clip(-0.5 * off.x - 0.5 * ball.velocity.x, -0.25, 0.25)")
    assert run_trials(rule.problem, rule, seed=1, stream="hand", count=64).success.mean() > 0.95
    idle = run_trials(problem, Constant(problem), seed=1, stream="hand", count=64)
    assert idle.success.mean() < 0.5
    drawn = run_trials(problem, Random(problem), seed=1, stream="hand", count=64)
    assert drawn.success.mean() < 0.1 and {problem.ending_names[k] for k in drawn.ending if k >= 0} == {"fallen off"}


@pytest.mark.parametrize(("height", "place", "room"), [(0.47, 0.1, 0.4), (0.47, -0.3, 0.2), (0.6, 0.1, 0.0), (0.47, 0.8, 0.0), (0.2, 0.1, 0.0)])  # fmt: skip
def test_only_what_lies_on_a_driven_body_is_balanced(height: float, place: float, room: float) -> None:
    look = look_of("seesaw")
    joints = {n: j.model_dump(exclude_defaults=True) for n, j in look.machine.joints.items()}
    joints["ball"]["start"] = (place, height, 0.0)
    moved = look_of("seesaw", joints=joints)
    assert (moved.base, moved.carried) == ("", "ball")
    assert room_of(moved) == pytest.approx(room, abs=1e-6)
    assert bool(wish_named("balance").unfit(moved)) == (room == 0.0)


def test_a_box_with_a_wheel_inside_begins_between_its_stops_and_its_wheel_is_slowed(project: Project) -> None:
    made = project.write_wish("reeler", "balance", name="edge")
    problem = project.problem(made.task)
    assert {e.name for e in problem.entries} == {"edge leans", "edge speed", "wheel speed"}, (
        "where the wheel stands is no matter"
    )
    assert "far" not in {q.key for o in project.wishes("reeler") if o.name == "balance" for q in o.questions}
    rule = with_rule(problem, wheel="clip(8 * lean.edge + 1 * edge.velocity + 0.0008 * wheel.velocity, -0.3, 0.3)")
    assert run_trials(rule.problem, rule, seed=1, stream="hand", count=64).success.mean() > 0.95
    assert [parse(v, "rad") for v in problem.task.starts["edge.position"].uniform or ()] == pytest.approx(
        (-0.1, 0.1), abs=1e-4
    )
    tight = look_of(
        "reeler",
        joints={
            n: j.model_dump(exclude_defaults=True) | ({"limits": (-0.05, 0.3)} if n == "edge" else {})
            for n, j in look_of("reeler").machine.joints.items()
        },
    )
    assert within_stops(tight, "edge", 0.0, 0.1) == (-0.05, 0.1)
    swing = {o.name: o.unfit for o in project.wishes("reeler")}["swing up"]
    assert swing == "edge rests on its stop and has no room to swing"
    assert look_of("reeler").spinning == ["wheel"]


def test_an_aeroplane_is_not_asked_to_rest_and_starts_at_a_speed_that_carries_it(project: Project) -> None:
    offers = {o.name: o.unfit for o in project.wishes("glider")}
    assert {name for name, why in offers.items() if not why} == {"follow a set-point"}
    assert "cannot rest" in offers["reach a place"] and "cannot rest" in offers["dock"]
    look = look_of("glider")
    area = 2 * 0.2 / np.hypot(1.0, 0.05) * 0.45 + 0.05 * 0.5 * 3.5 * np.radians(15.0)
    assert cruise_of(look) == pytest.approx(np.sqrt(2 * 2.45 * 9.81 / (1.225 * area)), rel=2e-3)
    problem = project.problem(project.write_wish("glider", "follow a set-point", name="fly").task)
    idle = run_trials(problem, Constant(problem), seed=1, stream="hand", count=32)
    assert (idle.steps > 20).all(), "a second in the air without anybody"
    assert _lift(problem, set(problem.model.drives)) is None, "its drives need not carry what its wings carry"


def test_what_a_vehicle_tows_is_sensed() -> None:
    look = look_of("lorry")
    told = {w.name: w.unfit(look) for w in WISHES}
    assert not told["dock"] and look.passive and "hitch" in look.passive
    draft = wish_named("dock").write(look, {q.key: q.value for q in wish_named("dock").questions(look)})
    names = [entry["name"] for entry in draft.task["observations"]]
    assert "hitch position" in names and "hitch speed" in names and "front axle speed" not in names


def test_what_has_to_drive_in_order_to_turn_is_asked_for_bends_that_it_can_drive() -> None:
    look = look_of("lorry")
    assert look.steered and look.turning > 1.5 * look.travel.turning, (
        "at drawn throttles it hardly drives, and so hardly turns"
    )
    asked = {q.key: q.value for q in wish_named("follow a set-point").questions(look)}
    radius = asked["speed"] / asked["turn"]
    assert radius > 2.5 / np.tan(np.radians(40.0)), "its wheelbase and the stops of its steering"


def test_servos_are_led_and_led_straight_they_hold_any_pose(demo: Project) -> None:
    problem = demo.problem(demo.write_wish("davit", "hold a pose", site="quay", name="led").task)
    assert [a.kind for a in problem.task.actions] == ["increment"] * 4
    assert {"slew ahead", "luff ahead", "fold ahead", "wrist ahead"} <= {e.name for e in problem.entries}
    trials = run_trials(problem, Rule(problem, "lead"), seed=1, stream="led", count=64)
    assert trials.success.mean() > 0.95
    slow = np.radians(40.0)
    assert problem.high[0] == pytest.approx(slow, rel=0.02), "no faster than the servo's own rate limit"
    assert problem.task.timing.time_limit > np.radians(204.0) / slow + 1.0, "time for the whole way and to hold it"
    assert not demo.problem(demo.write_wish("davit", "reach a place", name="led_to").task).task.rules


def test_where_only_some_drives_are_servos_there_is_no_rule(project: Project) -> None:
    look = look_of("reeler")
    joints = {n: j.model_dump(exclude_defaults=True) | {"limits": (-1.0, 1.0)} for n, j in look.machine.joints.items()}
    drives = {
        "edge": {"kind": "position", "joint": "edge", "limit": 9.0, "gain": 40.0, "rate_gain": 2.0},
        "wheel": {"kind": "effort", "joint": "wheel", "limit": 0.3},
    }
    mixed = look_of("reeler", joints=joints, drives=drives)
    wish = wish_named("hold a pose")
    assert not wish.unfit(mixed)
    draft = wish.write(mixed, {q.key: q.value for q in wish.questions(mixed)})
    assert [a.get("kind") for a in draft.task["actions"]] == ["increment", None]
    assert "rules" not in draft.task and "regulator" not in draft.task
    assert "action.edge - previous.action.edge" in draft.task["rewards"]["chatter"]["formula"]


def test_poses_are_asked_for_where_nothing_stands_in_the_way() -> None:
    arm = {
        "bodies": {n: {"mass": 1.0, "inertia": (0.01, 0.01, 0.01), "centre": (0.2, 0, 0), "shapes": [{"kind": "capsule", "size": (0.03, 0.3), "at": (0.2, 0, 0), "turn": (0, np.pi / 2, 0)}]} for n in ("upper", "fore")},
        "joints": {
            "shoulder": {"kind": "hinge", "child": "upper", "axis": (0, 0, 1), "origin": (0, 0, 0.5), "limits": (-2.5, 2.5)},
            "elbow": {"kind": "hinge", "parent": "upper", "child": "fore", "axis": (0, 0, 1), "origin": (0.4, 0, 0), "limits": (-2.5, 2.5)},
        },
        "drives": {n: {"kind": "effort", "joint": n, "limit": 5.0} for n in ("shoulder", "elbow")},
    }  # fmt: skip
    machine = validate(Machine, {"format": 2} | arm, "arm")
    open_hall = look_at(machine, Site())
    assert clear_share(open_hall, open_hall.driven) == 0.6
    post = {"kind": "cylinder", "size": (0.05, 2.0), "at": (-0.2, 0.5, 0.0)}
    beside_a_post = look_at(machine, validate(Site, {"format": 2, "solids": {"post": post}}, "hall"))
    share = clear_share(beside_a_post, beside_a_post.driven)
    assert 0.1 < share < 0.6
    poses = beside_a_post.sampled(beside_a_post.driven, share, 400, 1.0)
    assert (
        beside_a_post.free(poses).mean()
        > 0.99
        > beside_a_post.free(beside_a_post.sampled(beside_a_post.driven, 0.6, 400, 1.0)).mean()
    )


def test_a_load_on_a_hook_is_brought_to_a_place_at_rest(project: Project) -> None:
    look = look_of("gantry")
    assert look.hanging == ["hook"] and look.limb == (["long", "cross"], "load")
    assert look.sway == pytest.approx(2.0 * np.pi * np.sqrt(1.2 / 9.81), rel=1e-3)
    problem = project.problem(project.write_wish("gantry", "reach a place", name="load_to").task)
    assert {e.name for e in problem.entries} >= {"load roll", "load pitch", "load roll rate", "load pitch rate"}
    assert {"hook.rx.position", "hook.ry.position"} <= set(problem.task.starts)
    # the crab goes to the mark, and after the load: so the swing is damped
    rule = with_rule(
        problem,
        long="clip(0.5 * (mark.x - long.position) + 1.5 * (off.x + mark.x - long.position), -1, 1)",
        cross="clip(0.5 * (mark.y - cross.position) + 1.5 * (off.y + mark.y - cross.position), -1, 1)",
    )
    assert run_trials(rule.problem, rule, seed=1, stream="hand", count=32).success.mean() > 0.8


@pytest.mark.parametrize(("rest", "hangs"), [(0.0, True), (np.pi, False), (1.2, False)])
def test_only_what_hangs_down_at_the_start_hangs(rest: float, hangs: bool) -> None:
    look = look_of("gantry")
    joints = {n: j.model_dump(exclude_defaults=True) for n, j in look.machine.joints.items()}
    joints["hook"] = {"kind": "hinge", "parent": "crab", "child": "load", "axis": (0, 1, 0), "start": rest}
    moved = look_of("gantry", joints=joints)
    assert (moved.hanging == ["hook"]) == hangs
    unfit = wish_named("reach a place").unfit(moved)
    assert (unfit == "") == hangs and (hangs or unfit == "hook has no drive: balance or swing it up")


def test_what_dives_is_given_marks_above_and_below_it_and_keeps_its_depth() -> None:
    machine = look_of("rov").machine
    pool = validate(Site, {"format": 2, "water_level": 0.0}, "pool")
    look = look_at(machine, pool)
    assert look.dives and not look_at(machine, Site()).dives
    wish = wish_named("reach a place")
    draft = wish.write(look, {q.key: q.value for q in wish.questions(look)})
    low, high = (parse(v, "m") for v in draft.task["setpoints"]["mark.z"]["draw"]["uniform"])
    assert low < -3.0 < high < 0.0, "about its start, and under water"
    assert "mark.z - frame.z" in draft.task["signals"]["away"]["formula"] and draft.task["target"]["z"] == "mark.z"
    dock = wish_named("dock").write(look, {q.key: q.value for q in wish_named("dock").questions(look)})
    assert "depth" in dock.task["rewards"] and "up" in [o["name"] for o in dock.task["observations"]]
    floating = {
        n: j.model_dump(exclude_defaults=True) | {"start": (0, 0, 0, 0, 0, 0)} for n, j in machine.joints.items()
    }
    assert not look_at(
        validate(Machine, machine.model_dump(exclude_defaults=True) | {"joints": floating}, "rov"), pool
    ).dives


def test_an_arm_with_a_quill_leads_all_its_servos(project: Project) -> None:
    problem = project.problem(project.write_wish("scara", "hold a pose", name="quill").task)
    trials = run_trials(problem, Rule(problem, "lead"), seed=1, stream="led", count=64)
    assert trials.success.mean() > 0.95


def test_an_arm_of_six_joints_is_commanded_no_stronger_than_it_needs(project: Project) -> None:
    """What gravity asks of a joint is the slope of the potential energy, wherever the arm is."""
    look = look_of("quarryman")
    positions = look.sampled(look.driven, 1.0, 40)
    problem = project.problem(project.write_wish("quarryman", "hold a pose", name="pose").task)
    least = {c.name: c.high for c in problem.commands}
    step = 1e-4
    for joint in look.driven:
        ahead, behind = positions.copy(), positions.copy()
        ahead[:, look.index(joint)] += step
        behind[:, look.index(joint)] -= step
        weight = 9.80665 * look.mass * np.abs(look.heights(ahead) - look.heights(behind)) / (2.0 * step)
        assert weight.max() < least[joint] < 0.6 * look.limit(joint)
    # of the wrist's 40 N*m hardly one is carried; a policy that commands all of it hits nothing within hundredths of a radian
    assert least["joint_5"] < 8.0
    assert [c.low for c in problem.commands] == [-v for v in least.values()]


def test_weak_drives_are_commanded_as_a_whole() -> None:
    look = look_of("quarryman")
    drives = {
        n: d.model_dump(exclude_defaults=True) | {"limit": 1.1 * look.needs[str(d.joint)]}
        for n, d in look.machine.drives.items()
    }
    weak = look_of("quarryman", drives=drives)
    draft = Draft(weak, "whole")
    draft.actions(led=True)
    assert draft.task["actions"] == [{"name": n, "drive": n} for n in drives]


def test_resting_on_a_stop_costs_and_the_last_part_of_a_pose_is_seen_finely(project: Project) -> None:
    problem = project.problem(project.write_wish("quarryman", "hold a pose", name="stops").task)
    batch = Batch(problem, 3, 1, "stops", threads=1)
    batch.start(np.arange(3))
    hip = problem.model.joints.index("joint_2")
    batch.plant.position[:, hip] = (0.0, 0.94 * 1.9, -1.9)
    batch.plant.velocity[:] = 0.0
    outcome = batch.step(np.zeros((3, len(problem.commands))))
    cost = outcome.terms[:, list(problem.task.rewards).index("stops")] / problem.sample_time
    beyond = np.clip(10.0 * np.abs(batch.plant.position[:, hip]) / 1.9 - 9.0, 0.0, 1.0)  # it has moved a little
    assert cost == pytest.approx(-0.5 * beyond, abs=0.01)
    assert cost[0] == 0.0 and -0.3 < cost[1] < -0.15 and cost[2] < -0.45
    near = {e.name: (e.low, e.high) for e in problem.entries}["joint 2 close"]
    assert near == pytest.approx((-0.2, 0.2), abs=1e-5)


def test_a_boat_that_cannot_brake_is_rewarded_for_rest_and_not_for_going_round(tmp_path: Path) -> None:
    problem = create(tmp_path / "lake", str(FOREIGN / "airboat.toml"), "reach a place").problem("reach_a_place")
    batch = Batch(problem, 2, seed=1, stream="rest")
    batch.start(np.arange(2))
    marks = np.stack([batch.starts.drawn["mark.x"], batch.starts.drawn["mark.y"]], axis=1)
    batch.plant.position[:, :2] = marks
    batch.plant.velocity[:] = 0.0
    batch.plant.velocity[1, 0] = 1.0  # passes through it
    outcome = batch.step(np.zeros((2, 2)))
    number = list(problem.task.rewards).index("at_rest_there")
    rests, passes = outcome.terms[:, number] / problem.sample_time
    assert rests > 0.9 and passes < 0.1


def test_a_flyer_that_leans_quickly_is_commanded_often() -> None:
    hover = wish_named("hover and fly to points")
    rates = {}
    for inertia in (0.012, 1.2):
        hub = {"mass": 1.4, "inertia": [inertia, inertia, 2.0 * inertia], "shapes": [{"kind": "box", "size": [0.4, 0.4, 0.06]}]}  # fmt: skip
        rotors = {f"r{k}": {"kind": "thrust", "body": "hub", "at": [x, y, 0.0], "direction": [0, 0, 1], "limit": 8.0, "lag": 0.04} for k, (x, y) in enumerate(((0.16, 0.16), (0.16, -0.16), (-0.16, 0.16), (-0.16, -0.16)))}  # fmt: skip
        data = {"name": "flyer", "bodies": {"hub": hub}, "joints": {"air": {"kind": "free", "child": "hub", "start": [0, 0, 2, 0, 0, 0]}}, "drives": rotors}  # fmt: skip
        look = look_at(validate(Machine, data, "flyer"), Site())
        (lean,) = {q.why for q in hover.questions(look) if q.key == "rate"}
        rates[inertia] = float(lean.split()[4])
    # two of four rotors turn it: 2.56 N m; full torque there and back by a radian, 40 ms late, 8 of 11 samples
    assert rates[0.012] == pytest.approx((2.0 * np.sqrt(0.012 / 2.56) + 0.04) * 11.0 / 8.0, rel=0.02)
    assert rates[1.2] == pytest.approx(0.6, rel=0.02)  # then a flight is as quick as a lean
