"""Tasks from wishes: what fits which machine, that every place can be reached, and that what is written can be rehearsed."""

from __future__ import annotations

import itertools
import shutil
from pathlib import Path

import numpy as np
import pytest
import sympy
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import least_squares

from plucky_heron.dynamics.energy import poses
from plucky_heron.dynamics.plant import Plant
from plucky_heron.errors import FileError
from plucky_heron.files import validate
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.machine.urdf import read_urdf
from plucky_heron.project import Project, create, demo_source
from plucky_heron.simulation.drivers import Constant, Random
from plucky_heron.simulation.trials import run_company
from plucky_heron.task.machine_import import machine_from_urdf, travels
from plucky_heron.task.problem import bind
from plucky_heron.task.schema import Task
from plucky_heron.task.wishes.catalogue import WISHES, wish_named
from plucky_heron.task.wishes.draft import answered
from plucky_heron.task.wishes.look import look_at, nice
from plucky_heron.task.wishes.region import region_of, summed
from plucky_heron.task.wishes.writing import written_wish
from tests.conftest import altered

DATA = Path(__file__).parents[2] / "docs" / "data"
UNSEEN = Path(__file__).parents[2] / "benchmarks" / "unseen"
FITS = {
    "hoist": {"reach a place", "swing up", "balance"}, "punt": {"reach a place", "follow a set-point", "go along a course", "dock"},
    "marshcart": {"reach a place", "follow a set-point", "go along a course", "dock"}, "wader": {"walk forward"}, "crab": {"walk forward"},
    "sower": {"hover and fly to points"}, "davit": {"reach a place", "hold a pose", "follow a set-point"}, "barrow": {"balance", "reach a place", "follow a set-point"},
    "sluice": {"swing up", "balance"}, "arm": {"reach a place", "hold a pose", "follow a set-point"}, "bell": {"swing up", "balance"},
    "lamp": {"reach a place", "hold a pose", "follow a set-point"}, "lifter": {"hover and fly to points"}, "trolley": {"swing up", "balance"},
    "sled": {"reach a place", "follow a set-point", "go along a course", "dock"}, "drum": set(), "wagons": set(),
}  # fmt: skip


@pytest.fixture(scope="module")
def both(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Project]:
    """Copies of the demo and of the unseen tasks."""
    found = {}
    for name, source in (("demo", demo_source()), ("unseen", UNSEEN)):
        target = tmp_path_factory.mktemp("wishes") / name
        shutil.copytree(source, target, ignore=shutil.ignore_patterns("runs", "packs"))
        found[name] = Project(target)
    return found


def project_of(both: dict[str, Project], machine: str) -> Project:
    """The project that has a machine."""
    return next(p for p in both.values() if machine in p.machines())


@pytest.mark.parametrize("machine", FITS)
def test_what_fits_is_offered_written_and_can_be_rehearsed(both: dict[str, Project], machine: str) -> None:
    project = project_of(both, machine)
    offers = project.wishes(machine)
    assert {o.name for o in offers if not o.unfit} == FITS[machine]
    assert all(o.unfit for o in offers if o.name not in FITS[machine])
    for name in sorted(FITS[machine]):
        made = project.write_wish(machine, name, name=f"{machine}_{name.split()[0]}")
        assert made.draft.lines and all(line.text for line in made.draft.lines)
        problem = project.problem(made.task)
        short = problem.task.timing.model_copy(update={"time_limit": min(3.0, problem.task.timing.time_limit)})
        problem = altered(problem, timing=short.model_dump())
        trials = run_company(problem, [Constant(problem), Random(problem)], seed=3, stream="wish", count=16)
        for found in trials.values():
            assert np.isfinite(found.score).all()
            assert "not finite" not in {problem.ending_names[k] for k in found.ending if k >= 0}
            assert (found.steps > 1).mean() > 0.9, "hardly a start ends at once"
        assert trials["random"].success.mean() < 0.5, "chance does not do what is wished"
        Project(project.folder).problem(made.task)


def planar_arm(lengths: list[float], axis: list[float], limit: float) -> Machine:
    """Links in a row, all hinged about one axis, with drives that hold them."""
    bodies, joints, drives, parent, x = {}, {}, {}, "ground", 0.0
    for k, length in enumerate(lengths):
        bodies[f"link{k}"] = {
            "mass": 1.0, "centre": [length / 2, 0, 0], "inertia": [1e-3, length**2 / 12, length**2 / 12],
            "shapes": [{"kind": "box", "size": [length, 0.04, 0.04], "at": [length / 2, 0, 0]}],
        }  # fmt: skip
        joints[f"j{k}"] = {
            "kind": "hinge", "parent": parent, "child": f"link{k}", "axis": axis, "origin": [x, 0, 0.9 if k == 0 else 0],
            "limits": [-limit, limit], "damping": 0.2,
        }  # fmt: skip
        drives[f"d{k}"] = {"kind": "effort", "joint": f"j{k}", "limit": 60.0}
        parent, x = f"link{k}", length
    return validate(Machine, {"name": "row", "bodies": bodies, "joints": joints, "drives": drives}, "row")


@settings(max_examples=8, deadline=None)
@given(
    st.lists(st.floats(0.15, 0.6), min_size=2, max_size=3), st.sampled_from([[0, 0, 1], [0, 1, 0], [0, -1, 0], [0, 0.6, 0.8]]),
    st.floats(1.2, 2.9),
)  # fmt: skip
def test_every_place_of_the_region_is_reached(lengths: list[float], axis: list[float], limit: float) -> None:
    machine = planar_arm(lengths, axis, limit)
    look = look_at(machine, Site())
    region = region_of(look)
    assert region is not None
    joints, body = look.limb
    assert joints == [f"j{k}" for k in range(len(lengths))] and look.tip == pytest.approx([lengths[-1], 0, 0], abs=1e-6)
    generator = np.random.default_rng(1)
    corners = np.array(list(itertools.product((0.0, 1.0), repeat=3)))
    shares = np.concatenate([corners, generator.random((12, 3))])
    for share in shares:
        b, r, h = region.low + share * (region.high - region.low)
        place = region.origin + r * np.cos(b) * region.axes[0] + r * np.sin(b) * region.axes[1] + h * region.axes[2]

        def miss(q: np.ndarray, place: np.ndarray = place) -> np.ndarray:
            frame = poses(machine, dict(zip(joints, q, strict=True)))[body]
            return np.asarray((frame @ np.array([*look.tip, 1.0]))[:3] - place)

        tries = [least_squares(miss, generator.uniform(-limit, limit, len(joints)), bounds=(-limit, limit)) for _ in range(12)]  # fmt: skip
        assert min(float(np.linalg.norm(t.fun)) for t in tries) < 5e-3 * region.reach
    # the formulas say the same place
    x, y, z = (float(eval_formula(f, dict(zip(region.names, (b, r, h), strict=True)))) for f in region.formulas("mark"))
    assert (x, y, z) == pytest.approx(tuple(place), abs=2e-5)


def eval_formula(text: str, values: dict[str, float]) -> float:
    """A formula's value with set-points given, worked out by SymPy."""
    return float(
        sympy.sympify(text.replace("mark.", "mark_"), evaluate=True).subs({f"mark_{n}": v for n, v in values.items()})
    )


def test_sums_are_written_as_a_person_would() -> None:
    assert summed([(1.0, "a"), (-1.0, "b"), (0.5, "c"), (0.0, "d")]) == "a - b + 0.5 * c"
    assert summed([(-1.0, "a")]) == "-a" and summed([]) == "" and nice(0.0233) == 0.025 and nice(-1.0) == 0.0


def test_a_wish_that_does_not_fit_says_why_and_what_does(both: dict[str, Project]) -> None:
    with pytest.raises(FileError, match="no thrusters; what fits: reach a place, swing up, balance"):
        both["demo"].write_wish("hoist", "hover and fly to points")
    with pytest.raises(FileError, match="no such wish"):
        both["demo"].write_wish("hoist", "fly to the moon")
    with pytest.raises(FileError, match="no such machine"):
        both["demo"].write_wish("hoisst", "balance")
    before = {p: p.read_bytes() for p in both["demo"].folder.rglob("*.toml")}
    with pytest.raises(FileError, match="letters, digits"):
        written_wish(both["demo"].folder, "hoist", "quay", "balance", {}, "../out")
    with pytest.raises(FileError, match="is there already"):
        written_wish(both["demo"].folder, "hoist", "quay", "balance", {}, "lift")
    assert {p: p.read_bytes() for p in both["demo"].folder.rglob("*.toml")} == before


def test_answers_are_read_with_units_and_within_bounds(both: dict[str, Project]) -> None:
    questions = next(o for o in both["unseen"].wishes("arm") if o.name == "reach a place").questions
    given_ = answered(questions, {"within": "1 cm", "rate": "40 Hz"})
    assert given_["within"] == pytest.approx(0.01) and given_["rate"] == pytest.approx(40.0)
    for wrong, text in (({"within": "1 kg"}, "wanted"), ({"depth": "1 m"}, "asked by none"), ({"within": "-1 m"}, "wanted")):  # fmt: skip
        with pytest.raises(FileError, match=text):
            answered(questions, wrong)


def test_a_written_task_takes_its_answers(both: dict[str, Project]) -> None:
    made = both["unseen"].write_wish("arm", "reach_a_place", name="exact", answers={"within": "1 cm", "limit": "6 s"})
    problem = both["unseen"].problem(made.task)
    assert "away < 0.01" in problem.task.measure.formula and problem.task.timing.time_limit == 6.0
    assert wish_named("Reach a place") is WISHES[0]


def test_a_urdf_arm_gets_drives_by_its_limits_and_the_task_that_is_wished(tmp_path: Path) -> None:
    project = create(tmp_path / "cell", str(DATA / "picker.urdf"), "reach a place")
    problem = project.problem("reach_a_place")
    assert {n: (d.limit, d.no_load_speed) for n, d in problem.machine.drives.items()} == {
        "yaw": (12.0, 4.0), "shoulder": (20.0, 4.0), "elbow": (10.0, 5.0)
    }  # fmt: skip
    assert problem.machine.joints["yaw"].friction == 0.1 and not travels(DATA / "picker.urdf")
    names = {o.name for o in problem.task.observations}
    assert {"mark ahead", "mark to the left", "elbow position", "yaw speed"} <= names
    trials = run_company(problem, [Constant(problem)], seed=1, stream="x", count=64)["nobody"]
    assert trials.success.mean() < 0.05
    assert project.recipes() == [] and project.recipe_for("reach_a_place") == "standard"


def test_a_urdf_rover_stands_on_its_wheels_and_has_the_strength_to_drive(tmp_path: Path) -> None:
    report = machine_from_urdf(DATA / "cartbot.urdf")
    assert any("caster" in line for line in report.assumptions) and any("grade" in line for line in report.assumptions)
    create(tmp_path / "cell", str(DATA / "cartbot.urdf"))
    problem = Project(tmp_path / "cell").problem("cartbot")
    assert problem.site.terrain is not None
    plant = Plant(problem.model, 1, 0.002, threads=1, surroundings=problem.surroundings)
    start = plant.locate()[0, problem.model.bodies.index("chassis"), :3].copy()
    plant.step(np.zeros((1, 2)), 1000)
    rested = plant.locate()[0, problem.model.bodies.index("chassis"), :3].copy()
    assert np.abs(rested - start).max() < 0.01, "it neither falls nor jumps"
    plant.step(np.full((1, 2), -0.8), 1000)  # its wheels then run behind its middle, and keep it straight
    gone = plant.locate()[0, problem.model.bodies.index("chassis"), :3] - rested
    # how a wide wheel presses across its width is not determined on rigid ground: it draws a little to one side
    assert gone[0] < -1.0 and abs(gone[1]) < 0.4 * -gone[0]
    assert not any("axle position" in o.name for o in problem.task.observations), "a wheel's angle says nothing"


def test_a_robot_without_collision_shapes_does_not_fall_through_the_ground(tmp_path: Path) -> None:
    text = (DATA / "cartbot.urdf").read_text().replace("collision", "visual")
    (tmp_path / "bare.urdf").write_text(text)
    machine = read_urdf(tmp_path / "bare.urdf", free=True)
    assert any("visual geometry touches" in note for note in machine.notes)
    assert all(s.solid for b in machine.machine.bodies.values() for s in b.shapes)
    assert not any(s.solid for b in read_urdf(tmp_path / "bare.urdf").machine.bodies.values() for s in b.shapes)


def test_many_drives_with_long_names_still_give_a_task() -> None:
    machine = planar_arm([0.12] * 12, [0, 0, 1], 1.5)
    data = machine.model_dump(exclude_defaults=True)
    longer = "_of_the_right_hand_side_of_the_upper_body_seen_from_behind"
    data["joints"] = {f"{k}{longer}"[:60]: {**v} for k, v in data["joints"].items()}
    data["drives"] = {
        f"{k}{longer}"[:60]: {**v, "joint": f"{v['joint']}{longer}"[:60]} for k, v in data["drives"].items()
    }
    long = validate(Machine, data, "row")
    look = look_at(long, Site())
    for name in ("reach a place", "hold a pose", "follow a set-point"):
        wish = wish_named(name)
        assert not wish.unfit(look)
        draft = wish.write(look, answered(wish.questions(look), {}))
        task = validate(Task, draft.document("row", "hall", name).unwrap(), "row")
        sensed = validate(Machine, {**data, "sensors": draft.sensors}, "row")
        assert len(bind(sensed, Site(), task, "row").entries) > 24


def test_a_machine_that_a_rod_locks_is_told_so(both: dict[str, Project]) -> None:
    machine = planar_arm([0.3, 0.3], [0, 0, 1], 2.0)
    data = machine.model_dump(exclude_defaults=True) | {
        "forces": {"tie": {"kind": "rod", "a": "link1", "at_a": [0.3, 0, 0], "at_b": [0.3, 0.3, 0]}}
    }
    look = look_at(validate(Machine, data, "row"), Site())
    told = {w.name: w.unfit(look) for w in WISHES}
    assert "its loops tie" in told["reach a place"] and "its loops tie" in told["hold a pose"] and all(told.values())
