"""Stop rules: what each waits for, laws that hold of any of them, and how recipes name them."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from plucky_heron.errors import FileError
from plucky_heron.training.recipe import Recipe, recipe_from_json
from plucky_heron.training.stopping import Evaluation, StopRule, decide, read_rule, replay, show_steps
from plucky_heron.training.stopping.budget import Budget
from plucky_heron.training.stopping.evaluation import Course
from plucky_heron.training.stopping.formula import Formula
from plucky_heron.training.stopping.gone_wrong import GoneWrong
from plucky_heron.training.stopping.good_enough import GoodEnough
from plucky_heron.training.stopping.no_more_gain import NoMoreGain

ONE_OF_EACH: tuple[StopRule, ...] = (
    GoodEnough(at_least=0.9, running=2), NoMoreGain(of="score", less_than=0.5, within=3, after=1000), Budget(steps=4000, minutes=2.0), GoneWrong(below_best=0.4),
    Formula(when="running(success > 90 % and length < 7 s, 2) or gain(score, 3) < 1 and best(success) > 0.5"),
)  # fmt: skip
COURSES = st.lists(st.floats(0.0, 1.0), min_size=1, max_size=12).map(lambda shares: course(*shares))


def course(*success: float, every: int = 1000) -> list[Evaluation]:
    """Evaluations with these success shares."""
    return [
        Evaluation(
            k * every, 10.0 * k, 5 * k, 100 * s - 50, s, figures={"length": 12.0 - 6.0 * s, "worst": 90 * s - 60}
        )
        for k, s in enumerate(success)
    ]


def test_every_rule_of_the_folder_is_tried_here() -> None:
    assert {type(rule) for rule in ONE_OF_EACH} == set(StopRule.kinds.values())


@given(COURSES)
def test_a_rule_decides_by_the_course_alone(runs: list[Evaluation]) -> None:
    for rule in ONE_OF_EACH:
        text = rule.decide(runs)
        assert rule.decide(list(runs)) == text and "\n" not in text
        whole = rule.met(Course(runs))
        assert whole.shape == (len(runs),) and whole.dtype == bool
        assert [bool(rule.decide(runs[: k + 1])) for k in range(len(runs))] == list(whole), (
            "what comes later tells nothing"
        )
        assert rule.state(Course(runs)) and (rule.earliest(1000) or 0) >= 0
        seen, verdict = replay([rule], runs)
        assert (verdict is None) == (not any(rule.decide(runs[: k + 1]) for k in range(len(runs))))
        assert verdict is None or (seen <= len(runs) and verdict.rule == rule.kind)


@pytest.mark.parametrize("rule", ONE_OF_EACH, ids=lambda rule: rule.kind)
def test_a_rule_is_said_drawn_and_written(rule: StopRule) -> None:
    assert rule.words() and len(rule.words()) < 80
    level = rule.level()
    assert level is None or level.key in type(rule).model_fields
    assert read_rule(rule.model_dump()) == rule
    recipe = Recipe(stop=(rule,))
    assert recipe_from_json(recipe.model_dump_json(), "recipe.json").stop == (rule,)


def test_good_enough_needs_its_evaluations_running() -> None:
    rules = [GoodEnough(at_least=0.9, running=2)]
    assert decide(rules, course(0.95, 0.5, 0.91)) is None
    verdict = decide(rules, course(0.5, 0.9, 0.93))
    assert verdict is not None and verdict.rule == "good enough"
    assert verdict.text == "success at least 90.0 % in 2 evaluations running"
    higher = decide(rules, course(0.5, 0.97, 0.93))
    assert higher is not None and higher.text == "success at least 90.0 % in 2 evaluations running (least 93.0 %)", (
        "the rule's own level"
    )


def test_no_more_gain_counts_only_after_its_steps() -> None:
    rule = NoMoreGain(less_than=0.02, within=3, after=2000)
    flat = course(0.5, 0.6, 0.7, 0.7, 0.7, 0.7, 0.7)
    assert [decide([rule], flat[:n]) is not None for n in range(1, 8)] == [False] * 5 + [True] * 2
    assert decide([rule], course(*np.linspace(0, 0.9, 12))) is None


def test_budget_by_steps_episodes_and_minutes() -> None:
    runs = course(0.1, 0.1, 0.1, 0.1)
    assert replay([Budget(steps=2000)], runs)[0] == 3
    assert replay([Budget(episodes=5)], runs)[0] == 2
    assert replay([Budget(minutes=0.5)], runs)[0] == 4
    assert replay([Budget(steps=10_000)], runs) == (4, None)


def test_gone_wrong_by_fall_and_by_what_is_not_finite() -> None:
    rule = GoneWrong(below_best=0.5)
    assert decide([rule], course(0.2, 0.9, 0.45)) is None
    assert decide([rule], course(0.2, 0.9, 0.3)).rule == "gone wrong"
    broken = [Evaluation(1, 1.0, 1, float("nan"), 0.0, finite=False)]
    assert decide([], broken).rule == "gone wrong"


def test_the_first_rule_that_holds_is_named() -> None:
    rules = [GoodEnough(at_least=0.9), Budget(steps=1000)]
    assert decide(rules, course(0.1, 0.95)).rule == "good enough"
    assert decide(rules[::-1], course(0.1, 0.95)).rule == "budget"


@pytest.mark.parametrize(
    ("table", "words"),
    [
        ({"kind": "god enough", "at_least": 1}, "did you mean good enough"), ({}, "kind: is missing; there are budget"), ([], "wanted a table"), ({"kind": ["budget"]}, "no stop rule"),
        ({"kind": "good enough"}, "at_least: is missing"), ({"kind": "budget"}, "steps, episodes or minutes"), ({"kind": "budget", "step": 3}, "did you mean steps"),
        ({"kind": "budget", "steps": 0}, "steps: "), ({"kind": "budget", "steps": True}, "steps: "), ({"kind": "no more gain", "less_than": "2 parsec", "within": 3}, "less_than: "),
    ],
)  # fmt: skip
def test_a_wrong_rule_names_its_key(table: object, words: str) -> None:
    with pytest.raises(ValueError, match=words):
        read_rule(table)


def test_rules_as_older_runs_kept_them_are_read() -> None:
    idle = '"of": "success", "running": 1, "after": 0, "within": null, "less_than": null, "steps": 900, "episodes": null, "minutes": null, "at_least": null, "below_best": null'
    old = recipe_from_json('{"method": "ppo", "stop": [{"kind": "budget", ' + idle + "}]}", "recipe.json")
    assert old.stop == (Budget(steps=900),)
    with pytest.raises(FileError, match="unknown key"):
        recipe_from_json('{"stop": [{"kind": "budget", "steps": 9, "running": 3}]}', "recipe.json")


@pytest.mark.parametrize(
    ("steps", "shown"), [(0, "0 k"), (1250, "1.25 k"), (294_912, "295 k"), (999_999, "1000 k"), (2_457_600, "2.46 M"), (15e6, "15 M")]
)  # fmt: skip
def test_steps_are_shown_to_three_figures(steps: float, shown: str) -> None:
    assert show_steps(steps) == shown


@given(COURSES, st.integers(1, 5), st.integers(0, 6), st.floats(0.0, 0.5))
def test_no_more_gain_is_the_best_of_the_last_less_the_best_before(
    runs: list[Evaluation], within: int, after: int, less: float
) -> None:
    """Against the sentence, evaluation by evaluation."""
    met = NoMoreGain(less_than=less, within=within, after=1000 * after).met(Course(runs))
    for k in range(len(runs)):
        counted = [e for e in runs[: k + 1] if e.step >= 1000 * after]
        expected = False
        if len(counted) > within:
            last, before = runs[k + 1 - within : k + 1], runs[: k + 1 - within]
            expected = max(e.success for e in last) - max(e.success for e in before) < less
        assert met[k] == expected


@given(COURSES)
def test_no_rule_acts_before_it_says_it_can(runs: list[Evaluation]) -> None:
    for rule in ONE_OF_EACH:
        first = np.flatnonzero(rule.met(Course(runs)))
        earliest = rule.earliest(1000)
        assert not first.size or earliest is None or runs[first[0]].step >= min(earliest, 4000)


def test_score_may_rest_while_episodes_still_shorten() -> None:
    """The score stands still from the third evaluation on; the length falls until the eighth."""
    lengths = [12.0, 12.0, 11.0, 10.0, 9.0, 8.0, 7.0, 6.0, 6.0, 6.0, 6.0, 6.0, 6.0, 6.0]
    runs = [
        Evaluation(1000 * k, 0.0, 0, min(50.0, 25.0 * k), 1.0, figures={"length": s}) for k, s in enumerate(lengths)
    ]
    alone = replay([NoMoreGain(of="score", less_than=1.0, within=3)], runs)[0]
    both = NoMoreGain.model_validate(
        {"kind": "no more gain", "of": ["score", "length"], "less_than": [1.0, "0.2 s"], "within": 3}
    )
    seen, verdict = replay([both], runs)
    assert alone == 6 and seen == 13
    assert verdict is not None and verdict.text.startswith("score gained 0.0 (asked for 1.0) and length changed 0.00 s")
    assert both.words() == "score and length: less than 1.0 and 0.20 s in 3 evaluations"


def test_a_formula_of_two_conditions() -> None:
    rule = Formula(when="running(success > 90 % and length < 7 s, 2)")
    runs = course(0.5, 0.95, 0.8, 0.95, 0.96)
    assert list(rule.met(Course(runs))) == [False, False, False, False, True]
    verdict = decide([rule], runs)
    assert verdict is not None and verdict.rule == "formula"
    assert verdict.text == "running(success > 90 % and length < 7 s, 2) holds (length 6.24 s, success 96.0 %)"
    assert rule.state(Course(runs[:4])) == "1 of 2" and rule.earliest(1000) == 1000
    assert Formula(when="gain(best(success), 4) < 1 %").earliest(500) == 2000


def test_what_is_not_known_never_ends_a_run() -> None:
    """A method without the figure, too few evaluations for a gain: neither holds, and neither does its opposite."""
    runs = course(0.5, 0.6, 0.7)
    for text in ("kl < 1", "not kl < 1", "gain(score, 5) < 1000", "not gain(score, 5) > -1000", "kl < 1 or not kl < 1"):
        assert not Formula(when=text).met(Course(runs)).any(), text
    known = [Evaluation(e.step, 0, 0, e.score, e.success, figures={"kl": 0.01}) for e in runs]
    assert Formula(when="kl < 0.02").met(Course(known)).all()


@pytest.mark.parametrize(
    ("when", "said"),
    [
        ("sucess > 0.9", "did you mean success"),
        ("running(success > 0.9, 0)", "whole number of evaluations"),
        ("running(success > 0.9, 2.5)", "whole number of evaluations"),
        ("running(success > 0.9)", "takes 2 arguments"),
        ("highest(score) > 1", "not a function"),
        ("success > 0.9 and", "cannot be read"),
        ("length > success", "is in"),
        ("__import__('os')", "not a function"),
    ],
)
def test_a_wrong_formula_is_said(when: str, said: str) -> None:
    with pytest.raises(ValueError, match="when") as caught:
        read_rule({"kind": "formula", "when": when})
    assert said in str(caught.value)


def test_a_rule_of_an_unknown_figure_is_said() -> None:
    with pytest.raises(ValueError, match="did you mean success"):
        read_rule({"kind": "good enough", "of": "succes", "at_least": 0.9})
    with pytest.raises(ValueError, match="as many figures as gains"):
        read_rule({"kind": "no more gain", "of": ["score", "length"], "less_than": 1.0, "within": 3})
