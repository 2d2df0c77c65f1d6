"""The shakedown: each check catches the task that was broken for it, and no other; rehearsals and what is kept of them."""

from __future__ import annotations

import dataclasses
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from plucky_heron.analysis.proving.proof import prove
from plucky_heron.analysis.shakedown import rehearsals as shakedown
from plucky_heron.analysis.shakedown import reward_checks as reward_checks
from plucky_heron.analysis.shakedown.checks import Check, Seen, _repeats, speed_check
from plucky_heron.analysis.shakedown.rehearsals import Shakedown, kept_scores, read_commands, shake_down, write_commands
from plucky_heron.control.regulator import regulator_for
from plucky_heron.errors import FileError, StateError
from plucky_heron.machine.parts import Drive
from plucky_heron.project import demo_source
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.drivers import Driver, Random, Recorded, Rule, SmoothRandom
from plucky_heron.simulation.trials import Trials, run_company, run_trials
from plucky_heron.task.problem import Problem, bind, read_problem
from plucky_heron.training.loop import Run
from plucky_heron.training.recipe import Recipe
from tests.analysis.test_facts_of_steps import MASS
from tests.analysis.test_facts_of_steps import TASK as SPRING_TASK
from tests.conftest import altered
from tests.control.test_regulator_laws import project

SHORT = {"control_rate": "50 Hz", "substeps": 5, "time_limit": "6 s"}


@pytest.fixture(scope="module")
def sound(problem: Problem) -> Problem:
    """The hoist's task made short, without its regulator and its mirror (see test_mirror): all its checks pass."""
    task = problem.task.model_dump(exclude_defaults=True)
    one_sided = {
        kind: [{k: v for k, v in row.items() if k != "mirrored"} for row in task[kind]]
        for kind in ("observations", "actions")
    }
    return altered(problem, timing=SHORT, regulator={}, **one_sided)


def failed(problem: Problem) -> dict[str, Check]:
    """Open checks by name; loops are tried from one start, where four would tell the same at four times the cost."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(reward_checks, "_LOOP_COPY_STEPS", 0)
        return {c.name: c for c in shake_down(problem).open}


@pytest.fixture(scope="module")
def baseline(sound: Problem) -> set[str]:
    """Checks that the short task fails before anything is broken."""
    return set(failed(sound))


def rewards_of(problem: Problem, **changes: object) -> dict[str, Any]:
    return dict(problem.task.model_dump(exclude_defaults=True)["rewards"]) | changes


def observed(problem: Problem, **row: object) -> list[object]:
    """The observations and one more."""
    return [*problem.task.model_dump(exclude_defaults=True)["observations"], row]


def replaced(problem: Problem, name: str, **changes: object) -> list[object]:
    """The observations, one of them changed."""
    rows = problem.task.model_dump(exclude_defaults=True)["observations"]
    return [row | changes if row["name"] == name else row for row in rows]


def weak_reel(problem: Problem) -> Problem:
    drive = problem.machine.drives["reel"]
    weak = Drive.model_validate(drive.model_dump(exclude_defaults=True) | {"limit": 480.0})
    machine = problem.machine.model_copy(update={"drives": problem.machine.drives | {"reel": weak}})
    return bind(machine, problem.site, problem.task)


def blind_to_the_mark(problem: Problem) -> Problem:
    """Neither offset nor height say where the mark is."""
    rows = [
        r
        for r in problem.task.model_dump(exclude_defaults=True)["observations"]
        if r["name"] not in ("offset", "height")
    ]
    return altered(problem, observations=rows)


BROKEN: dict[str, tuple[str, Callable[[Problem], Problem]]] = {
    "finite": ("finite", lambda p: altered(p, rewards=rewards_of(p, odd={"formula": "1e-9 * sqrt(2.5 - abs(trolley.velocity))"}))),
    "never moves": ("level moves", lambda p: altered(p, observations=observed(p, name="level", formula="basket.y", unit="m", range=["-1 m", "1 m"]))),
    "saturates": ("trolley speed range", lambda p: altered(p, observations=replaced(p, "trolley speed", range=["-5 cm/s", "5 cm/s"]))),
    "badly scaled": ("cable angle range", lambda p: altered(p, observations=replaced(p, "cable angle", range=["-60 rad", "60 rad"]))),
    "doubled": ("observations differ", lambda p: altered(p, observations=observed(p, name="again", formula="2 * trolley.position", unit="m", range=["-12 m", "12 m"]))),
    "dependent": ("observations differ", lambda p: altered(p, observations=observed(p, name="both", formula="trolley.position + reel.position", unit="m", range=["-10 m", "14 m"]))),
    "no effect": ("idle has effect", lambda p: altered(p, actions=[*p.task.model_dump(exclude_defaults=True)["actions"], {"name": "idle", "limits": [-1.0, 1.0]}])),
    "too weak": ("drives carry the load", weak_reel),
    "halving": ("time step is small enough", lambda p: altered(p, timing={"control_rate": "2 Hz", "substeps": 1, "time_limit": "6 s"}, rewards={"a": {"formula": "near(offset, 3)"}})),
    "slow control": ("control is fast enough", lambda p: altered(p, timing={"control_rate": "1.5 Hz", "substeps": 160, "time_limit": "6 s"})),
    "ends at once": ("starts last", lambda p: altered(p, endings=p.task.model_dump(exclude_defaults=True)["endings"] | {"gone": {"kind": "failure", "formula": "trolley.position > -0.5"}})),
    "never met": ("endings are met", lambda p: altered(p, endings=p.task.model_dump(exclude_defaults=True)["endings"] | {"far": {"kind": "failure", "formula": "basket.x > 500"}})),
    "dominating": ("terms in balance", lambda p: altered(p, rewards=rewards_of(p, idle={"formula": "1 - abs(action.push)", "weight": 100.0}))),
    "scale": ("reward is of the size of 1", lambda p: altered(p, rewards={n: r | {"weight": 1000.0 * r.get("weight", 1.0)} for n, r in rewards_of(p).items()})),
    "success is not paid": ("success is rewarded", lambda p: altered(p, rewards={"away": {"formula": "norm(offset, height)"}, "fast": {"formula": "0.2 * drift"}})),
    "standing still": ("standing still is rewarded less", lambda p: altered(p, rewards=rewards_of(p, rest={"formula": "-abs(action.push) / 5 - norm(offset, height) * 0"}))),
    "given away": ("success must be earned", lambda p: altered(p, measure={"name": "there", "formula": "trolley.position > -100"})),
    "always the same": ("the reward changes", lambda p: altered(p, rewards={"even": {"formula": "1"}})),
    "a cliff": ("endings keep measure", lambda p: altered(p, rewards=rewards_of(p, cliff={"when": "at ending", "ending": "spilt", "weight": -5000.0}))),
    "round and round": ("turned goes round", lambda p: altered(p, observations=observed(p, name="turned", formula="wrap(3 * trolley.position)", unit="rad", range=["-180 deg", "180 deg"]))),
    "deadline": ("deadline is sensed", lambda p: altered(p, endings=p.task.model_dump(exclude_defaults=True)["endings"] | {"late": {"kind": "failure", "deadline": "5 s"}})),
    "hidden set-point": ("set-points are sensed", blind_to_the_mark),
}  # fmt: skip


BOUND_UP: dict[str, set[str]] = {
    "dominating": {"no loop is rewarded better", "reward is of the size of 1", "standing still is rewarded less"},
    "too weak": {"cable length range", "reel speed range"},
    "halving": {
        "cable angle goes round",
        "cable length range",
        "finite",
        "control is fast enough",
        "height range",
        "observations differ",
        "reel speed range",
        "trolley position range",
    },
    "slow control": {"standing still is rewarded less", "terms in balance"},
    "success is not paid": {"no loop is rewarded better", "standing still is rewarded less", "terms in balance"},
    "standing still": {"no loop is rewarded better", "terms in balance"},
    "deadline": {"endings are met", "success is rewarded"},
    "given away": {"success is rewarded", "no loop is rewarded better", "standing still is rewarded less"},
    "always the same": {"success is rewarded", "no loop is rewarded better", "standing still is rewarded less"},
}
"""What else a fault touches by its nature: a reel that cannot lift also moves less, a pay that is wrong is wrong in several ways."""


@pytest.mark.parametrize("kind", BROKEN)
def test_a_broken_task_is_caught_by_its_check_and_no_other(kind: str, sound: Problem, baseline: set[str]) -> None:
    name, breaking = BROKEN[kind]
    found = set(failed(breaking(sound)))
    assert name in found, f"{kind}: failed are {sorted(found)}"
    assert found - {name} <= BOUND_UP.get(kind, set())
    assert name not in baseline


def test_what_becomes_not_finite_for_want_of_inertia_is_told_so(problem: Problem) -> None:
    basket = problem.machine.bodies["basket"].model_copy(update={"mass": 0.0, "inertia": (0.0,) * 6})
    machine = problem.machine.model_copy(update={"bodies": problem.machine.bodies | {"basket": basket}})
    task = problem.task.model_copy(update={"variation": {}})
    found = next(c for c in shake_down(bind(machine, problem.site, task)).checks if c.name == "finite")
    assert not found.passed and "nothing on reel has mass; give basket a mass" in found.evidence


def test_a_drive_that_friction_holds_is_told_so(problem: Problem) -> None:
    rail = problem.machine.joints["trolley"].model_copy(update={"friction": 1e4})
    machine = problem.machine.model_copy(update={"joints": problem.machine.joints | {"trolley": rail}})
    blind = [r for r in problem.task.model_dump(exclude_defaults=True)["observations"] if r["name"] != "last push"]
    held = altered(bind(machine, problem.site, problem.task), observations=blind, regulator={})
    effect = next(c for c in shake_down(held).checks if c.name == "push has effect")
    assert not effect.passed
    assert effect.evidence == "moves nothing that is sensed: trolley has 10000 N of dry friction for its 1200 N"


def test_the_sound_task_has_nothing_wrong(sound: Problem, baseline: set[str]) -> None:
    assert not baseline


def test_starts_that_stand_in_something_are_seen() -> None:
    brace = read_problem(demo_source(), "brace")
    sunk = altered(
        brace,
        starts={"base.z.position": "10 cm"},
        timing={"control_rate": "50 Hz", "substeps": 10, "time_limit": "0.4 s"},
    )
    assert not next(c for c in shake_down(sunk).checks if c.name == "starts stand free").passed


def test_a_driver_that_is_not_repeatable_is_seen(sound: Problem, monkeypatch: pytest.MonkeyPatch) -> None:
    """Bits that differ between two runs of the same seed can never be meant."""
    seen = Seen(sound, shake_few(sound), {"random": Random(sound, 1)}, np.zeros((1, 1)), 1)
    assert _repeats(seen).passed
    original = Batch.step
    count = iter(range(10**9))
    monkeypatch.setattr(Batch, "step", lambda self, commands: original(self, commands + 1e-9 * next(count)))
    check = _repeats(seen)
    assert not check.passed and check.severity == "wrong"


def shake_few(problem: Problem) -> dict[str, Trials]:
    from plucky_heron.analysis.shakedown.checks import REHEARSAL_STREAM
    from plucky_heron.training.evaluation import EVALUATION_SEED

    return dict(run_company(problem, [Random(problem, 1)], seed=EVALUATION_SEED, stream=REHEARSAL_STREAM, count=8))


def test_going_round_in_circles_is_found() -> None:
    """A station keeper that is paid by the metre: any loop at full thrust beats keeping station."""
    station = read_problem(demo_source(), "station")
    loop = altered(
        station, rewards={"metres": {"formula": "norm(hull.velocity.x - current.x, hull.velocity.y - current.y)"}},
        endings={}, timing={"control_rate": "10 Hz", "substeps": 10, "time_limit": "40 s"},
    )  # fmt: skip
    checks = {c.name: c for c in shake_down(loop).checks}
    assert not checks["no loop is rewarded better"].passed
    assert "200 loops" in checks["no loop is rewarded better"].evidence


UNSEEN = Path(__file__).parents[2] / "benchmarks" / "unseen"


@pytest.mark.parametrize("task", ["swing_up", "balance", "hover", "steer", "stop", "shunt", "roll"])
def test_a_sensible_task_has_its_terms_in_balance(task: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """On textbook tasks with a goal term and a penalty or none; no weight is proposed that nobody has tried."""
    monkeypatch.setattr(shakedown, "REHEARSALS", 24)
    monkeypatch.setattr(reward_checks, "_LOOP_COPY_STEPS", 1)
    found = {c.name: c for c in shake_down(read_problem(UNSEEN, task)).checks}
    assert found["terms in balance"].passed, found["terms in balance"].evidence
    assert all(c.remedy is None or c.remedy.key[-1] != "weight" for c in found.values())
    assert found["success must be earned"].passed and found["the reward changes"].passed


def test_a_term_that_tells_success_from_failure_may_be_large() -> None:
    success = np.array([True, True, False, False])
    assert reward_checks._apart(np.array([3.0, 2.0, 1.0, 0.0]), success) == 1.0
    assert reward_checks._apart(np.array([1.0, 1.0, 1.0, 1.0]), success) == 0.5
    assert reward_checks._apart(np.array([0.0, 2.0, 1.0, 3.0]), success) == 0.25


@pytest.mark.parametrize(
    ("hold", "limited", "why"),
    [("sqrt(-1)", "", "regulator.hold.slide"), ("0", 'rate_limit = "2 N/s"', "just what is commanded")],
)
def test_a_regulator_that_cannot_be_made_is_told_and_left_out(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, hold: str, limited: str, why: str
) -> None:
    """A pose that is no number, and a drive that does not get what is commanded: shakedown and proof go on without, and say so."""
    monkeypatch.setattr(shakedown, "REHEARSALS", 8)
    monkeypatch.setattr(reward_checks, "_LOOP_COPY_STEPS", 1)
    task = SPRING_TASK.replace('drive = "d"', f'drive = "d"\n{limited}') + f'[regulator.hold]\nslide = "{hold}"\n'
    problem = project(tmp_path, MASS.format(stiffness=1.0, damping=0.4), task)
    with pytest.raises(StateError, match=why):
        regulator_for(problem)
    result = shake_down(problem)
    check = next(c for c in result.checks if c.name == "regulator.hold")
    assert not check.passed and "no regulator can be made" in check.evidence and "regulator" not in result.rehearsals
    proof = prove(problem, Run(problem, Recipe(), 1, tmp_path / "run").method.policy(), trials=4)
    assert set(proof.left_out) == {"regulator"} and "regulator" not in proof.trials and "policy" in proof.trials


def test_speed_names_the_time_and_refuses_a_year(sound: Problem) -> None:
    seen = Seen(sound, {}, {}, np.zeros((1, 1)), 3_000_000)
    assert speed_check(seen, 30_000.0).passed and "100 s" in speed_check(seen, 30_000.0).evidence
    assert not speed_check(seen, 10.0).passed


def test_an_acknowledged_check_is_no_longer_open(sound: Problem) -> None:
    broken = BROKEN["too weak"][1](sound)
    told = bind(
        broken.machine,
        broken.site,
        broken.task.model_copy(update={"acknowledged": {"drives carry the load": "meant so"}}),
    )
    check = next(c for c in shake_down(told).checks if c.name == "drives carry the load")
    assert not check.passed and not check.open and check.acknowledged == "meant so"
    assert told.fingerprint() == broken.fingerprint()


def test_a_remedy_answers_its_check(sound: Problem) -> None:
    broken = BROKEN["saturates"][1](sound)
    remedy = failed(broken)["trolley speed range"].remedy
    assert remedy is not None and remedy.key[0] == "observations"
    rows = broken.task.model_dump(exclude_defaults=True)["observations"]
    rows[remedy.key[1]]["range"] = remedy.value
    assert "trolley speed range" not in failed(altered(broken, observations=rows))


def test_a_company_of_drivers_gives_the_bits_of_each_alone(sound: Problem) -> None:
    drivers: list[Driver] = [Random(sound, 1), SmoothRandom(sound, 2), Rule(sound, "steady")]
    together = run_company(sound, drivers, seed=5, stream="c", count=6, record=[2])
    for driver in drivers:
        alone = run_trials(sound, driver, seed=5, stream="c", count=6, record=[2])
        np.testing.assert_array_equal(together[driver.name].score, alone.score)
        np.testing.assert_array_equal(together[driver.name].recordings[2].position, alone.recordings[2].position)
        assert together[driver.name].recordings[2].driver == driver.name


def test_recorded_commands_are_read_driven_and_refused(sound: Problem, folder: Path) -> None:
    path = folder / "recordings" / "lift-first.csv"
    given = np.column_stack([np.linspace(-400, 400, 30), np.full(30, 0.25)])
    write_commands(path, sound, given)
    np.testing.assert_array_equal(read_commands(path, sound), given)
    batch = Batch(sound, 2, 1, "r")
    batch.start(np.arange(2))
    driver = Recorded(sound, given, "first")
    for k in range(40):
        batch.step(driver.drive(batch, batch.observe()))
        np.testing.assert_array_equal(batch.commands[1], given[min(k, 29)])
    path.write_text("push,wrong\n1,2\n")
    with pytest.raises(FileError, match="push, reel"):
        read_commands(path, sound)


def test_scores_are_kept_beside_the_task(sound: Problem, folder: Path) -> None:
    trials = run_company(sound, [Random(sound, 1)], seed=5, stream="c", count=4)
    named = dataclasses.replace(sound, source=str(folder / "tasks" / "lift.toml"))
    path = shakedown.keep_scores(named, folder, trials)
    assert json.loads(path.read_text())["fingerprint"] == named.fingerprint()
    assert kept_scores(folder, "lift")["drivers"]["random"]["score"] == pytest.approx(
        float(trials["random"].score.mean())
    )
    path.write_text("[1, 2")
    with pytest.raises(FileError, match="not valid JSON"):
        kept_scores(folder, "lift")
    path.write_text('{"drivers": {"nobody": {"score": "much"}}}')
    with pytest.raises(FileError, match="rehearse to write it anew"):
        kept_scores(folder, "lift")
    path.unlink()
    assert kept_scores(folder, "lift") == {}


@pytest.mark.parametrize("task", ["lift", "dock", "sow", "hang", "climb", "rock", "walk"])
def test_the_demo_tasks_pass_their_shakedown(task: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Nothing wrong, and whatever is to be looked at was acknowledged. (The lane and the crab: tests of the slow kind.)"""
    assert not still_open(task, monkeypatch)


@pytest.mark.long
@pytest.mark.parametrize("task", ["lane", "follow"])
def test_the_slow_demo_tasks_pass_their_shakedown(task: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(reward_checks, "LOOPS", 40)
    assert not still_open(task, monkeypatch)


def still_open(task: str, monkeypatch: pytest.MonkeyPatch) -> list[str]:
    problem = read_problem(demo_source(), task)
    kept = kept_scores(demo_source(), task)
    assert kept["fingerprint"] == problem.fingerprint(), (
        f"heron shakedown {task} brings tasks/{task}.scores.json up to date"
    )
    monkeypatch.setattr(shakedown, "REHEARSALS", 24)
    monkeypatch.setattr(reward_checks, "_LOOP_COPY_STEPS", 1)
    result: Shakedown = shake_down(problem)
    assert not result.wrong
    return [f"{c.name}: {c.evidence}" for c in result.open]
