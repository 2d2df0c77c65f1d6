"""Stop rules replayed and tuned over recorded runs: against the sentences they stand for, evaluation by evaluation."""

from __future__ import annotations

import itertools
import json
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.optimize import linprog

from plucky_heron.analysis.stopping.advice import budget_of, can_act, warnings_of
from plucky_heron.analysis.stopping.replay import Recorded, kept_by, longest_pause, recorded, replay_run, summarise
from plucky_heron.analysis.stopping.tuning import (
    Tried,
    choose,
    doubt,
    frontier,
    judge,
    most_saved,
    parse_try,
    resolution,
    sure_lost,
    sweep,
)
from plucky_heron.cli.main import main
from plucky_heron.errors import StateError
from plucky_heron.project import Project
from plucky_heron.runs.store import RunRow, RunStore
from plucky_heron.training.recipe import EvaluationPlan, Recipe
from plucky_heron.training.stopping import Course, Evaluation, StopRule, read_rule
from plucky_heron.training.stopping.budget import Budget
from plucky_heron.training.stopping.good_enough import GoodEnough
from plucky_heron.training.stopping.no_more_gain import NoMoreGain
from plucky_heron.training.stopping.text import table_of

SHARES = st.lists(st.integers(0, 64).map(lambda n: n / 64), min_size=2, max_size=14)
SEVERAL = st.lists(SHARES, min_size=2, max_size=5)


def record(shares: list[float], run: int = 1, batch: int = 1) -> Recorded:
    """A run with these success shares, 1000 steps and 2 s apart."""
    course = Course([Evaluation(1000 * k, 2.0 * k, 3 * k, 100 * s - k / 100, s) for k, s in enumerate(shares)])
    return Recorded(run, batch, run, course, kept_by(course))


def test_rules_that_wait_to_the_end_say_nothing_of_how_far_runs_differ() -> None:
    def tried(*lost: float) -> Tried:
        return Tried((1.0,), np.full(len(lost), 0.5), np.array(lost), np.zeros(len(lost)))

    loses = [tried(0.0, 0.05, 0.02, 0.0, 0.01), tried(0.0, 0.09, 0.02, 0.0, 0.04)]
    waits = [tried(0.0, 0.0, 0.0, 0.0, 0.0)] * 5
    assert resolution(loses + waits) == resolution(loses) > 0.01
    assert resolution(waits) == 0.0
    assert "differences under 2.0 points" in doubt(0.02, 5) and "0.0" not in doubt(resolution(waits), 5)


@given(SHARES)
def test_a_replay_loses_what_the_best_had_more_than_the_kept(shares: list[float]) -> None:
    rules: list[StopRule] = [GoodEnough(at_least=0.6, running=2), Budget(steps=9000)]
    found = replay_run(rules, record(shares))
    ends = [k for k in range(1, len(shares)) if min(shares[k - 1 : k + 1]) >= 0.6 or k >= 9]
    last = ends[0] if ends else len(shares) - 1
    assert found.stopped_at == 1000 * last and found.seen == last + 1 and (found.by == "") == (not ends)
    assert found.lost_success == pytest.approx(max(shares) - max(shares[: last + 1]))
    assert found.saved_steps == 1000 * (len(shares) - 1 - last) and found.saved_seconds == 2.0 * (
        len(shares) - 1 - last
    )
    first = shares.index(max(shares[: last + 1]))  # the score falls a little with every evaluation: the first of equals
    assert found.kept_step == 1000 * first


@given(SEVERAL)
def test_a_sweep_is_the_replay_of_every_combination(courses: list[list[float]]) -> None:
    rules: list[StopRule] = [
        GoodEnough(at_least=0.5, running=2),
        NoMoreGain(less_than=0.02, within=3),
        Budget(steps=10_000),
    ]
    runs = [record(shares, k) for k, shares in enumerate(courses)]
    axes = [parse_try("good enough.at_least=30%:90%:3", rules), parse_try("within=1:4", rules)]
    tried = sweep(runs, rules, axes)
    assert [t.values for t in tried] == list(itertools.product((0.3, 0.6, 0.9), (1.0, 2.0, 3.0, 4.0)))
    for one in tried:
        changed = [
            GoodEnough(at_least=one.values[0], running=2),
            NoMoreGain(less_than=0.02, within=int(one.values[1])),
            rules[2],
        ]
        replays = [replay_run(changed, run) for run in runs]
        assert np.allclose(one.saved, [r.saved_share for r in replays])
        assert np.allclose(one.lost, [r.lost_success for r in replays])
        assert one.median_saved == pytest.approx(summarise(replays).median["saved_share"])
    edge = frontier(tried)
    for k, one in enumerate(tried):
        beaten = any(
            (o.median_saved >= one.median_saved and o.mean_lost < one.mean_lost - 1e-12)
            or (o.median_saved > one.median_saved and o.mean_lost <= one.mean_lost + 1e-12)
            for o in tried
        )
        same = any(
            np.isclose(tried[e].median_saved, one.median_saved) and np.isclose(tried[e].mean_lost, one.mean_lost)
            for e in edge
        )
        assert same == (not beaten) or (k in edge and not beaten)


def test_a_choice_saves_most_within_what_it_may_lose() -> None:
    rules: list[StopRule] = [GoodEnough(at_least=0.5)]
    runs = [record([0.1, 0.6, 0.7, 0.9, 1.0], k) for k in range(3)]
    tried = sweep(runs, rules, [parse_try("at_least=50%,70%,90%,100%", rules)])
    assert [round(float(t.lost[0]), 3) for t in tried] == [0.4, 0.3, 0.1, 0.0]
    assert choose(tried, allowed=0.15) == 2 and choose(tried, allowed=0.0) == 3 and choose(tried, allowed=1.0) == 0


@pytest.mark.parametrize(
    ("when", "said"),
    [
        ("success > 95", "95 is 9500.0 %"), ("running(best(success) >= 90, 3) and length < 7 s", "90 is 9000.0 %"),
        ("2 <= success", "2 is 200.0 %"), ("success > 95 %", ""), ("length < 95 s and success > 0.9", ""), ("gain(score, 4) < 3", ""),
    ],
)  # fmt: skip
def test_a_formula_that_takes_shares_for_per_cent_is_told(when: str, said: str) -> None:
    recipe = Recipe.model_validate({"method": "ppo", "steps": 100_000})
    found = [text for text in warnings_of(read_rule({"kind": "formula", "when": when}), recipe) if "share" in text]
    assert (said in found[0]) if said else not found


def test_a_choice_counts_how_little_few_runs_tell() -> None:
    """Two rules lose as much on average; only the one that loses it evenly is sure to lose as little on other runs."""
    even = Tried((1.0,), np.full(5, 0.5), np.full(5, 0.01), np.zeros(5))
    uneven = Tried((2.0,), np.full(5, 0.6), np.array([0.0, 0.05, 0.0, 0.0, 0.0]), np.zeros(5))
    assert even.mean_lost == pytest.approx(uneven.mean_lost)
    assert choose([even, uneven], allowed=0.0101) == 0 and choose([even, uneven], allowed=0.04) == 1
    assert sure_lost(uneven.lost) == pytest.approx(
        0.01 + 2.132 * 0.0224 / 5**0.5, abs=1e-4
    )  # 2.132: the table's 95 % for 4 degrees of freedom
    assert sure_lost(np.array([0.02])) == pytest.approx(0.02)


@given(SEVERAL, st.sampled_from([0.0, 0.01, 0.1]))
def test_no_rule_saves_more_than_one_that_knows_how_each_run_goes_on(
    courses: list[list[float]], allowed: float
) -> None:
    runs = [record(shares, k) for k, shares in enumerate(courses)]
    bound = most_saved(runs, allowed)
    # the same as a linear programme: each run ends at a mixture of its evaluations
    used = [np.arange(len(c)) / (len(c) - 1) for c in courses]
    lost = [max(c) - np.maximum.accumulate(c) for c in courses]
    sizes = [len(c) for c in courses]
    one_each = np.zeros((len(runs), sum(sizes)))
    for row, (first, size) in enumerate(zip(np.cumsum([0, *sizes]), sizes, strict=False)):
        one_each[row, first : first + size] = 1.0
    found = linprog(
        np.concatenate(used), A_ub=np.concatenate(lost)[None], b_ub=[allowed * len(runs)], A_eq=one_each,
        b_eq=np.ones(len(runs)),
    )  # fmt: skip
    assert found.fun is not None
    assert bound == pytest.approx(1.0 - found.fun / len(runs), abs=1e-5)
    rules: list[StopRule] = [GoodEnough(at_least=0.5), Budget(steps=20_000)]
    for one in sweep(runs, rules, [parse_try("at_least=10%:100%:6", rules), parse_try("running=1:3", rules)]):
        assert one.mean_lost > allowed + 1e-12 or one.saved.mean() <= bound + 1e-5


def test_a_choice_is_judged_on_what_it_did_not_see() -> None:
    """Two batches that want different rules: chosen on one, each rule loses on the other."""
    rules: list[StopRule] = [Budget(steps=1000)]
    early, late = [0.0, 1.0, 1.0, 1.0, 1.0], [0.0, 0.0, 0.0, 0.0, 1.0]
    runs = [record(early, 1, 1), record(early, 2, 1), record(late, 3, 2), record(late, 4, 2)]
    tried = sweep(runs, rules, [parse_try("steps=1000,4000", rules)])
    found = judge(runs, tried)
    assert found is not None and found.left_out == "batch" and found.folds == 2 and found.runs == 4
    # without the first batch 4000 steps are chosen, which lose nothing there; without the second 1000, which lose everything
    assert found.lost == pytest.approx(0.5) and found.worst == 1.0 and found.saved == pytest.approx(0.375)
    assert found.interval[0] <= 0.5 <= found.interval[1]
    alone = judge(runs[:2], sweep(runs[:2], rules, [parse_try("steps=1000,4000", rules)]))
    assert alone is not None and alone.left_out == "run" and alone.lost == 0.0 and alone.saved == pytest.approx(0.75)
    assert judge(runs[:1], sweep(runs[:1], rules, [parse_try("steps=1000", rules)])) is None


def test_the_longest_pause_before_a_gain() -> None:
    runs = [record([0.0, 0.2, 0.2, 0.2, 0.5, 0.5, 0.5, 0.5, 0.5]), record([0.1, 0.1, 0.3], 2)]
    found = longest_pause(runs, "success", 0.05)
    assert found is not None and (found.evaluations, found.steps, found.run) == (3, 3000, 1)
    assert found.gain == pytest.approx(0.3)
    later = longest_pause(runs, "success", 0.05, after=3000)
    assert later is not None and later.evaluations == 1
    assert longest_pause(runs, "success", 0.9) is None


def test_what_a_rule_cannot_do_is_said() -> None:
    recipe = Recipe(steps=100_000, evaluation=EvaluationPlan(every=10_000, episodes=64), stop=(Budget(steps=50_000),))
    assert budget_of(recipe) == 50_000
    late = GoodEnough(at_least=0.9, running=8)
    assert warnings_of(late, recipe) == ["cannot act before the budget of 50 k steps ends the run"]
    assert can_act(GoodEnough(at_least=0.9, running=4), recipe, 1000.0) == "can act from 30 k steps, 30 s"
    fine = NoMoreGain(less_than=0.005, within=2)
    assert warnings_of(fine, recipe) == ["64 episodes tell 2 points apart at best: ask for 2, or evaluate 200"]
    assert warnings_of(NoMoreGain(less_than=0.03, within=2), recipe) == []
    assert warnings_of(GoodEnough(at_least=0.99), recipe) == [
        "99.0 % of 64 episodes is all of them: evaluate more episodes"
    ]
    pause = longest_pause([record([0.0, 0.2, 0.2, 0.2, 0.5])], "success", 0.05)
    assert "run 1 paused for 3 evaluations" in warnings_of(NoMoreGain(less_than=0.03, within=2), recipe, pause)[0]


@pytest.mark.parametrize(
    ("text", "rule"),
    [
        ("good enough: 95 %, 6 running", GoodEnough(at_least=0.95, running=6)),
        ("good enough at_least=0.95, running=6", GoodEnough(at_least=0.95, running=6)),
        (
            "no more gain: of=score, less_than=1, within=8, after=150 k",
            NoMoreGain(of="score", less_than=1.0, within=8, after=150_000),
        ),
        ("budget: 450k", Budget(steps=450_000)),
        ("budget: 1.5 M steps, 10 minutes", Budget(steps=1_500_000, minutes=10.0)),
    ],
)
def test_a_rule_is_typed(text: str, rule: StopRule) -> None:
    assert read_rule(table_of(text)).model_dump() == pytest.approx(rule.model_dump())


def test_what_begins_with_no_kind_is_a_formula() -> None:
    assert table_of("running(success > 90 %, 4)") == {"kind": "formula", "when": "running(success > 90 %, 4)"}
    with pytest.raises(StateError, match="did you mean good enough"):
        table_of("god enough: 95 %")


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("patience=1:3", "did you mean|known|there"), ("running", "NAME=LOW:HIGH"), ("running=3:1", "LOW below HIGH"),
        ("running=a:b", "no number"), ("running=1:3:0", "1 to 200 points"), ("running=0:3", "at least 1"), ("running=1:nan", "not finite"),
    ],
)  # fmt: skip
def test_a_wrong_sweep_is_said(text: str, said: str) -> None:
    with pytest.raises(StateError, match=said):
        parse_try(text, [GoodEnough(at_least=0.9)])


def test_a_name_that_two_rules_have_is_asked_for() -> None:
    rules: list[StopRule] = [NoMoreGain(less_than=0.1, within=3), NoMoreGain(of="score", less_than=0.1, within=3)]
    with pytest.raises(StateError, match="say which"):
        parse_try("within=1:3", rules)


def test_a_recorded_run_is_replayed_with_all_its_figures(trained: tuple[Project, RunRow]) -> None:
    project, row = trained
    store = RunStore(project.folder)
    try:
        one = recorded(store, [row])[0]
    finally:
        store.close()
    assert np.isfinite(one.course.of("length")).all() and np.isfinite(one.course.of("worst")).all()
    assert (one.course.of("length") <= 12.0 + 1e-9).all() and (
        one.course.of("worst") <= one.course.of("score") + 1e-9
    ).all()
    assert np.isfinite(one.course.of("kl")[1:]).all(), "health figures are those since the last evaluation"
    assert int(one.course.step[one.kept[-1]]) == row.best_step


def test_stops_on_the_command_line(trained: tuple[Project, RunRow], capsys: pytest.CaptureFixture[str]) -> None:
    project, row = trained
    call = ["stops", f"batch-{row.batch}", "--project", str(project.folder)]
    assert (
        main([*call, "--rule", "budget: 5000", "--rule", "length < 0.1 s", "--try", "steps=2000:12000:3", "--json"])
        == 0
    )
    answer = json.loads(capsys.readouterr().out)
    assert [r["run"] for r in answer["runs"]] == [row.id] and answer["runs"][0]["by"] == "budget"
    assert (
        answer["runs"][0]["stopped_at"] >= 5000
        and answer["runs"][0]["saved_steps"] == row.steps - answer["runs"][0]["stopped_at"]
    )
    assert [t["values"]["budget.steps"] for t in answer["tried"]] == [2000, 7000, 12000]
    assert answer["rule"][1] == {"kind": "formula", "when": "length < 0.1 s"} and answer["median"]["saved_share"] > 0
    assert main([*call, "--rule", "budget: 5000"]) == 0
    assert "saves" in capsys.readouterr().out
    for wrong in (["--rule", "good enough"], ["--rule", "nonsense ("], ["--try", "x=1:2"]):
        assert main([*call, *wrong]) == 2
        said = capsys.readouterr().err
        assert said.startswith("heron: ") and said.count("\n") == 1
    assert main(["stops", "batch-99", "--project", str(project.folder)]) == 2
    assert "no batch" in capsys.readouterr().err


def test_a_project_without_runs_says_so(folder: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["stops", "1", "--project", str(folder)]) == 2
    assert "nothing was trained here yet" in capsys.readouterr().err
