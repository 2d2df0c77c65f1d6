"""Statistics, the regulator, the shakedown and the proof."""

from __future__ import annotations

import shutil
from pathlib import Path

import numpy as np
import pytest
from scipy import stats

from plucky_heron.analysis.comparing.comparison import batches, compare_runs, differences
from plucky_heron.analysis.proving.proof import prove, varied
from plucky_heron.analysis.shakedown.rehearsals import shake_down
from plucky_heron.analysis.statistics import paired_difference, spread_of, wilson
from plucky_heron.control.regulator import gain, linearise, regulator_for, tune
from plucky_heron.errors import HeronError, StateError
from plucky_heron.project import Project, demo_source
from plucky_heron.runs.store import RunRow, RunStore
from plucky_heron.task.problem import Problem, bind
from plucky_heron.task.schema import Task
from plucky_heron.training.stopping import Evaluation


@pytest.mark.parametrize(("successes", "trials"), [(0, 50), (1, 10), (97, 100), (200, 200)])
def test_wilson_interval_is_where_the_score_test_turns(successes: int, trials: int) -> None:
    """At its ends, the normal score test of that share gives exactly 5 %."""
    for end in wilson(successes, trials):
        if 0.0 < end < 1.0:
            z = (successes / trials - end) / np.sqrt(end * (1 - end) / trials)
            assert 2 * stats.norm.sf(abs(z)) == pytest.approx(0.05, rel=1e-9)
    assert wilson(0, 0) == (0.0, 1.0)


def test_paired_difference_is_that_of_a_z_test() -> None:
    generator = np.random.default_rng(1)
    a, b = generator.standard_normal((2, 300)) + np.array([[0.4], [0.0]])
    difference, half = paired_difference(a, b)
    interval = stats.norm.interval(0.95, (a - b).mean(), stats.sem(a - b))
    assert (difference - half, difference + half) == pytest.approx(interval)


def test_spread_over_seeds_names_the_worst_and_carries_nothing_forward() -> None:
    def course(*values: float) -> list[Evaluation]:
        return [Evaluation(10 * k, 0.0, 0, 0.0, v) for k, v in enumerate(values)]

    spread = spread_of([course(0, 0.5, 1.0), course(0, 0.2), course(0, 0.1, 0.15, 0.6)], "success")
    assert spread is not None and not spread.whole
    np.testing.assert_allclose(spread.steps, [0, 10])
    np.testing.assert_allclose(spread.median, [0, 0.2])
    assert spread.worst_seed == 2, "up to where all have been it is the lowest"
    np.testing.assert_allclose(spread.worst, [0, 0.1, 0.15, 0.6])
    # two seeds done at 100 %, two that have just begun: no median of what was not measured
    begun = spread_of([course(0, 0.5, 1.0), course(0, 0.6, 1.0), course(0.1), course(0.0)], "success")
    assert begun is not None and len(begun.median) == 1 and begun.median[0] == 0.0
    equal = spread_of([course(0, 1.0), course(0, 0.5)], "success")
    assert equal is not None and equal.whole and equal.median[-1] == 0.75
    assert spread_of([[], []], "score") is None and spread_of([course(1.0), []], "success") is None


def test_linearisation_swings_at_the_hoists_formula(problem: Problem) -> None:
    """The lightly damped pair of poles against w² = g s / (J - s²/m), with the winch holding its load."""
    linear = linearise(problem)
    assert linear.transition.shape == (9, 9) and linear.input.shape == (9, 2)
    poles = np.linalg.eigvals(linear.transition)
    poles = np.log(poles[np.abs(poles) > 0.5].astype(complex)) / problem.sample_time
    swing = min((p for p in poles if p.imag > 0.1), key=lambda p: -p.real / abs(p))
    trolley, cable, basket = (problem.machine.bodies[n] for n in ("trolley", "cable", "basket"))
    length = 4.25  # the middle of the starts
    first = basket.mass * (length - basket.centre[2]) - cable.mass * cable.centre[2]
    about = (
        basket.mass * (length - basket.centre[2]) ** 2
        + cable.mass * cable.centre[2] ** 2
        + basket.inertia[1]
        + cable.inertia[1]
    )
    whole = trolley.mass + cable.mass + basket.mass
    assert abs(swing) == pytest.approx(np.sqrt(9.81 * first / (about - first**2 / whole)), rel=0.02)


def test_regulator_gain_stabilises_and_is_the_riccati_solution(problem: Problem) -> None:
    linear = linearise(problem)
    found = gain(problem, linear, (0.15, 1.0, 1.0))
    closed = linear.transition - linear.input @ found
    assert np.abs(np.linalg.eigvals(closed)).max() < 1.0
    # one step of value iteration from the regulator's own cost changes nothing
    a, b = linear.transition, linear.input
    scales = np.array([0.5, np.radians(5), 0.3])
    q = np.diag([*(1 / scales**2), *(1 / scales**2), 1e-9, 1e-9, 1e-9])
    r = np.diag(1 / (0.15 * problem.high) ** 2)
    cost = np.zeros((9, 9))
    for _ in range(20_000):
        cost = q + a.T @ cost @ a - a.T @ cost @ b @ np.linalg.solve(r + b.T @ cost @ b, b.T @ cost @ a)
    np.testing.assert_allclose(np.linalg.solve(r + b.T @ cost @ b, b.T @ cost @ a), found, rtol=1e-5, atol=1e-4)


def test_regulator_is_tuned_once_and_kept(folder, problem: Problem) -> None:  # type: ignore[no-untyped-def]
    first = regulator_for(problem, folder)
    kept = list((folder / "runs" / "regulators").glob("*.json"))
    assert len(kept) == 1
    again = regulator_for(problem, folder)
    np.testing.assert_array_equal(first.gain, again.gain)
    np.testing.assert_array_equal(first.gain, tune(problem).gain)


def test_the_demo_task_passes_its_shakedown(problem: Problem) -> None:
    result = shake_down(problem)
    assert not result.wrong
    success = {name: t.success.mean() for name, t in result.rehearsals.items()}
    assert success["regulator"] > 0.9 > success["rule steady"] > success["nobody"] == 0.0


def broken(problem: Problem, **updates: object) -> Problem:
    return bind(problem.machine, problem.site, Task.model_validate(problem.task.model_dump() | updates))


def test_starts_that_end_at_once_are_wrong(problem: Problem) -> None:
    endings = {n: e.model_dump() for n, e in problem.task.endings.items()}
    endings["spilt"]["formula"] = "abs(cable.angle) >= 0"
    found = shake_down(broken(problem, endings=endings))
    assert [c.name for c in found.wrong] == ["starts last"]


def test_a_command_without_effect_is_wrong(problem: Problem) -> None:
    data = problem.task.model_dump()
    data["observations"] = [o for o in data["observations"] if o["name"] in ("cable length", "last push")]
    data["regulator"] = {}
    found = shake_down(broken(problem, observations=data["observations"], regulator={}))
    assert [c.name for c in found.wrong] == ["push has effect"]


def test_an_observation_that_never_moves_is_noticed(problem: Problem) -> None:
    observations = list(problem.task.model_dump()["observations"])
    observations[0] |= {"formula": "0 * offset", "noise": 0.0}
    found = shake_down(broken(problem, observations=observations))
    assert any(c.name == "offset moves" and not c.passed for c in found.checks)


def test_proof_replays_its_trials_bit_for_bit(trained: tuple[Project, RunRow]) -> None:
    project, row = trained
    proof = prove(project.frozen(row.id), project.policy(row.id), trials=12, project=project.folder)
    summary = proof.summary()
    assert next(iter(summary)) == "policy" and {"nobody", "random", "rule steady", "regulator"} <= set(summary)
    for name in ("policy", "regulator"):
        number = summary[name]["worst"][0]
        recording = proof.replay(name, number)
        assert recording.score == pytest.approx(proof.trials[name].score[number], rel=1e-12)
        assert recording.success == proof.trials[name].success[number]
    low, high = summary["regulator"]["success_interval"]
    assert low <= summary["regulator"]["success"] <= high
    with pytest.raises(StateError, match="numbered"):
        proof.replay("policy", 12)
    with pytest.raises(StateError, match="stopped"):
        prove(
            project.frozen(row.id), project.policy(row.id), trials=4, project=project.folder, progress=lambda *_: False
        )


def test_variation_can_be_replaced(problem: Problem) -> None:
    heavier = varied(problem, {"basket.mass": "100kg:120kg", "wind.mean": "0"})
    drawn = {d.target: d.distribution.numbers(d.unit) for d in heavier.draws}
    assert drawn["basket.mass"] == ("uniform", (100.0, 120.0)) and drawn["wind.mean"] == ("fixed", (0.0,))
    for wrong in ({"basket.mass": "1:"}, {"basket.weight": "1:2"}, {"basket.mass": "1s:2s"}, {"basket.mass": "9:2"}):
        with pytest.raises(HeronError, match=r"basket|--vary"):
            varied(problem, wrong)


def test_comparison_names_what_differs(trained: tuple[Project, RunRow]) -> None:
    project, row = trained
    answer, lines = compare_runs(project.folder, [row, row])
    assert answer["differs"] == {} and len(lines) == 3 + (1 if answer["batches"] else 0)


def test_recorded_batches_differ_in_what_their_recipes_say(tmp_path: Path) -> None:
    folder = tmp_path / "quillmere"
    shutil.copytree(demo_source(), folder, ignore=shutil.ignore_patterns("runs", "packs"))
    shutil.copytree(demo_source().parent / "recorded", folder / "runs")
    store = RunStore(folder)
    of_hoist = batches([row for row in store.runs() if row.task == "lift"])
    store.close()
    found = differences(folder, [rows[0] for rows in of_hoist.values()])
    assert found["stop rule: budget"] == ["150 000 steps", "60 000 steps", "450 000 steps"]
    assert found["evaluated every"] == ["24 576 steps", "2 000 steps", "12 288 steps"]
    # the same in all of them, or said by another row
    assert not {"steps", "evaluation episodes", "schedules end", "task"} & set(found)
