"""A measurement of a task, and the settings that follow from it: closed forms, what is kept, what a recipe overrules."""

from __future__ import annotations

import json
import math
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from plucky_heron.errors import FileError
from plucky_heron.learning.guide import GUIDES, preset
from plucky_heron.learning.method import Experience
from plucky_heron.project import Project, demo_source
from plucky_heron.runs import launch
from plucky_heron.runs.freeze import frozen_recipe
from plucky_heron.task.problem import Problem
from plucky_heron.training.fitting import fit, fitted_settings, warnings
from plucky_heron.training.loop import Run
from plucky_heron.training.measurement import TIMES, Measurement, _Played, _returns, kept_measurement, measure, measured
from plucky_heron.training.recipe import Recipe, with_changes
from tests.analysis.test_facts_of_steps import MASS
from tests.cli.test_command_line import answer
from tests.control.test_regulator_laws import project

TASK = """
[[actions]]
name = "u"
drive = "d"
[[observations]]
name = "x"
formula = "slide.position"
unit = "m"
range = ["-1 m", "1 m"]
[rewards.near]
formula = "-abs(slide.position)"
{ending}
[measure]
name = "far"
formula = "slide.position > 0.5"
hold = "0.5 s"
[rules.push]
commands.u = "{push}"
"""
FAILS = """
[rewards.out]
when = "at ending"
ending = "out"
weight = -{penalty}
[endings.out]
kind = "failure"
formula = "abs(slide.position) > 0.3"
"""
TIMING = 'control_rate = "50 Hz"\nsubsteps = 4\ntime_limit = "20 s"\n'


def swing(folder: Path, pulse: float = 3.0, penalty: float | None = None, push: str = "0") -> Problem:
    ending = "" if penalty is None else FAILS.format(penalty=penalty)
    return project(
        folder, MASS.format(stiffness=2.0 * pulse**2, damping=0.4), TASK.format(ending=ending, push=push), TIMING
    )


def test_the_slowest_motion_and_how_far_ahead_that_looks(tmp_path: Path) -> None:
    """A mass on a spring: three periods, within half an episode."""
    found = measure(swing(tmp_path, 3.0))
    assert found.slowest == pytest.approx(2.0 * math.pi / 3.0, rel=0.01)
    assert found.horizon == pytest.approx(6.0 * math.pi / 3.0, rel=0.01)
    assert not math.isfinite(found.solved) and found.solved_by == ""


def test_how_long_a_driver_needs_is_until_the_measure_is_met_to_the_end(tmp_path: Path) -> None:
    """A free mass pushed by 1 N passes 0.5 m for good after sqrt(2 · 0.5 · 2) s, and half a second of holding."""
    problem = swing(tmp_path, 1e-3, push="1 - 5 * slide.velocity * (slide.position > 0.5)")
    found = measure(problem)
    assert found.solved_by == "rule push"
    # 0.2 of damping a kilogram: a little later than without
    assert found.solved == pytest.approx(math.sqrt(2.0) + 0.5, abs=0.15)
    assert found.horizon >= found.solved


def test_endings_are_told_from_going_on() -> None:
    """By hand: two episodes of three samples, one of which fails at -10."""
    rewards = np.array([[-1.0, -1.0], [-1.0, -1.0], [-11.0, -1.0]])
    played = _Played(rewards, np.array([3, 3]), np.array([True, False]), np.zeros(2, bool), np.zeros(2, int))
    ratio, least, most = _returns(played, 0.5)
    with_ending = np.array([-4.25, -1.75, -6.5, -1.5, -11.0, -1.0])
    without = np.array([-1.5, -1.75, -1.0, -1.5, 0.0, -1.0])
    assert ratio == pytest.approx(with_ending.std() / without.std())
    # had it gone on, the first would have been given -1 a sample: -1 / (1 - 0.5) from there
    extended = np.array([-1.0 - 0.5 * (1.0 + 0.5 * 2.0), -1.75, -1.0 - 0.5 * 2.0, -1.5, -2.0, -1.0])
    assert least == pytest.approx(np.quantile(extended, 0.01)) and most == pytest.approx(np.quantile(extended, 0.99))


def test_a_rare_large_penalty_is_held_and_a_small_one_is_not(tmp_path: Path) -> None:
    for penalty, limited in ((50.0, True), (0.01, False)):
        problem = swing(tmp_path / str(penalty), penalty=penalty)
        found = measure(problem)
        recipe = Recipe.model_validate({"method": "sac", **preset("sac"), "name": "sac"})
        fitted = fitted_settings(problem, recipe, found)
        assert (found.spread_ratio > 2.0) == limited and ("penalty_limit" in fitted) == limited
        if limited:
            limit = fitted["penalty_limit"].value
            # failing still costs more than going on, and less than it did
            assert -found.least_return < limit < penalty and found.most_return - found.least_return < limit


def test_what_is_won_is_never_held() -> None:
    rewards, nobody = np.array([-50.0, 50.0, -0.1]), np.zeros(3, bool)
    told = Experience(rewards, np.zeros((3, 1)), nobody, nobody)
    np.testing.assert_array_equal(told.limited(None, penalty=2.0), [-2.0, 50.0, -0.1])
    np.testing.assert_array_equal(told.limited(10.0, penalty=2.0), [-2.0, 10.0, -0.1])
    shaped = replace(told, reward=rewards + 7.0, shaping=np.full(3, 7.0))
    np.testing.assert_array_equal(shaped.limited(None, penalty=2.0), [5.0, 57.0, 6.9])


KNOWN = Measurement(1.0, math.nan, "", (1.0, 0.9, 0.5), 0.5, 1.0, -1.0, 0.0, 4.0, False)


def fits(problem: Problem, method: str, found: Measurement = KNOWN, **changes: str) -> dict[str, Any]:
    recipe = with_changes(Recipe.model_validate({"name": method, **preset(method)}), changes)
    return {key: f.value for key, f in fitted_settings(problem, recipe, found).items()}


def test_numbers_follow_from_the_measurement(tmp_path: Path) -> None:
    problem = swing(tmp_path)  # 50 samples a second
    sac = fits(problem, "sac")
    assert sac["discount"] == pytest.approx(1.0 - 0.02 / 4.0)
    assert sac["exploration_memory"] == pytest.approx(math.exp(-0.02 / 0.12), abs=1e-4), "0.4 s halves the episodes"
    model = fits(problem, "model-based")
    assert (model["horizon"], model["horizon_end"]) == (10, 40), "0.2 s, and 1 s but at most 40 samples"
    late = replace(KNOWN, lengths=(1.0, 1.0, 1.0))
    assert fits(problem, "td3", late)["exploration_memory"] == pytest.approx(math.exp(-0.02 / 0.4), abs=1e-4)
    assert fits(problem, "ppo", late)["exploration_memory"] == pytest.approx(math.exp(-0.02 / 0.12), abs=1e-4)
    assert sac["random_hold"] == 20 and sac["hidden"] == [64, 64] and sac["random_start_steps"] == 500
    assert fits(problem, "td3", replace(KNOWN, lengths=(1.0, 0.5, 0.5)))["exploration"] == "independent"
    assert fits(problem, "ppo", replace(KNOWN, horizon=20.0), advantage_decay="0.999")["steps_per_update"] >= 64 * 500
    assert fits(problem, "cross-entropy") == {}
    assert len(KNOWN.lengths) == len(TIMES)
    for method in GUIDES:  # whatever comes out is a value that the method takes
        recipe = Recipe.model_validate({"name": method, **preset(method)})
        made = recipe.model_copy(update={"settings": fits(problem, method) | recipe.settings})
        made.method_settings()


@pytest.mark.parametrize("method", GUIDES)
def test_a_fast_controller_with_a_long_horizon_still_gets_values_that_the_method_takes(
    tmp_path: Path, method: str
) -> None:
    """At 10 kHz and an hour ahead, a discount of five digits would be 1."""
    timing = 'control_rate = "10 kHz"\nsubsteps = 1\ntime_limit = "20 s"\n'
    problem = project(tmp_path, MASS.format(stiffness=1.0, damping=0.4), TASK.format(ending="", push="0"), timing)
    fitted = fits(problem, method, replace(KNOWN, horizon=3600.0, lengths=(1.0, 1.0, 1.0), held_length=20.0))
    if "discount" in fitted:
        assert 1.0 - fitted["discount"] == pytest.approx(1e-4 / 3600.0, rel=0.05)
    recipe = Recipe.model_validate({"method": method, **preset(method)})
    recipe.model_copy(update={"settings": fitted | recipe.settings}).method_settings()


def test_what_a_recipe_states_stays_and_fitting_can_be_switched_off(tmp_path: Path) -> None:
    problem = swing(tmp_path)
    recipe = Recipe.model_validate({"method": "sac", "fit": True, "settings": {"discount": 0.9}})
    fitted = fit(recipe, problem)
    assert fitted.settings["discount"] == 0.9 and "random_hold" in fitted.settings
    assert GUIDES["sac"].standard.items() <= fitted.settings.items(), "frozen with a run, whatever the standard becomes"
    assert fit(recipe.model_copy(update={"fit": False}), problem).settings == {"discount": 0.9}


@pytest.mark.parametrize(
    ("method", "key", "stated", "wanted"),
    [
        ("sac", "return_steps", "0.2 s", 10), ("sac", "return_steps", "200 ms", 10), ("sac", "return_steps", "1 ms", 1), ("td3", "random_hold", "0.4 s", 20),
        ("td3", "exploration_hold", "0.1 s", 5), ("ppo", "exploration_memory", "0.4 s", math.exp(-0.05)), ("sac", "exploration_memory", "0 s", 0.0),
        ("ddpg", "exploration_memory", "0.1 s", math.exp(-0.2)), ("a2c", "discount", "2 s", 0.99), ("model-based", "horizon_end", "0.3 s", 15),
        ("model-based", "horizon", "0.1 s", 5),
    ],
)  # fmt: skip
def test_what_is_stated_as_a_time_is_counted_in_samples_of_the_task(
    tmp_path: Path, method: str, key: str, stated: str, wanted: float
) -> None:
    """At 50 samples a second; the same recipe at another rate means the same time."""
    problem = swing(tmp_path)
    for asked in (True, False):
        recipe = Recipe.model_validate({"name": method, "method": method, "fit": asked, "settings": {key: stated}})
        assert fit(recipe, problem).settings[key] == pytest.approx(wanted), "in numbers, frozen with a run"
    assert getattr(recipe.method_settings(sample_time=0.02), key) == pytest.approx(wanted)
    faster = getattr(recipe.method_settings(sample_time=0.002), key)
    if isinstance(wanted, int) and wanted > 1:
        assert faster == 10 * wanted
    run = Run(problem, recipe.model_copy(update={"copies": 8, "steps": 8}), 1, tmp_path / "run", threads=1)
    assert getattr(run.method.settings, key) == pytest.approx(wanted)


@pytest.mark.parametrize(
    ("key", "stated", "wanted"),
    [
        ("return_steps", "0.2 m", "0.4 s"), ("return_steps", "soon", "0.4 s"), ("return_steps", "-1 s", "at least 1"),
        ("exploration_memory", "-1 s", "at least 0"), ("discount", "0 s", "more than 0"), ("minibatch", "0.4 s", "a whole number"),
    ],
)  # fmt: skip
def test_what_is_no_time_is_told(key: str, stated: str, wanted: str) -> None:
    with pytest.raises(FileError, match=wanted) as caught:
        with_changes(Recipe.model_validate({"name": "sac", "method": "sac"}), {key: stated})
    assert key in str(caught.value) and "\n" not in str(caught.value)


def test_the_measurement_is_kept_repeated_and_made_anew(folder: Path) -> None:
    opened = Project(folder)
    problem = opened.problem("rock")
    path = folder / "tasks" / "rock.measured.json"
    path.unlink()  # the demo comes with one, which another computer may have made
    first = measured(problem, folder)
    assert measure(problem) == first == kept_measurement(problem, folder), "the same numbers every time"
    data = json.loads(path.read_text())
    data["measured"]["horizon"] = 17.0
    path.write_text(json.dumps(data))
    assert measured(problem, folder).horizon == 17.0, "it is read, not measured again"
    for damaged in ("{", "[]", json.dumps(data | {"measured": {}}), json.dumps(data | {"version": 99})):
        path.write_text(damaged)
        assert measured(problem, folder) == first
    task = folder / "tasks" / "rock.toml"
    task.write_text(task.read_text().replace('"20 Hz"', '"25 Hz"'))
    changed = Project(folder).problem("rock")
    assert kept_measurement(changed, folder) is None
    assert measured(changed, folder) != first


@pytest.mark.parametrize("task", Project(demo_source()).tasks())
def test_the_demo_comes_with_the_measurement_of_each_task(task: str) -> None:
    kept = kept_measurement(Project(demo_source()).problem(task), demo_source())
    assert kept is not None, f"`.venv/bin/python tools/demo_scores.py --measure-only {task}` measures the task as it is"


def test_the_measurement_that_the_demo_comes_with_is_the_one_that_is_made(folder: Path) -> None:
    problem = Project(folder).problem("lift")
    kept, made = kept_measurement(problem, folder), measure(problem)
    assert kept is not None and kept.solved_by == made.solved_by
    for name in ("slowest", "solved", "lengths", "held_length", "horizon", "least_return", "most_return"):
        # another computer rounds otherwise, and a start or two may then end a moment sooner
        assert getattr(kept, name) == pytest.approx(getattr(made, name), rel=0.05, nan_ok=True), name


def test_a_run_freezes_the_numbers_that_it_was_given(folder: Path) -> None:
    recipe = Recipe.model_validate({"name": "sac", **preset("sac")})
    number = launch.create_batch(folder, "rock", recipe, [1])[0]
    kept = frozen_recipe(folder, Project(folder).run(number))
    assert kept.settings["discount"] == pytest.approx(
        1.0 - 0.05 / measured(Project(folder).problem("rock"), folder).horizon, abs=1e-5
    )


def test_a_wrong_word_for_fit_is_told(tmp_path: Path) -> None:
    with pytest.raises(FileError, match="fit"):
        with_changes(Recipe(), {"fit": "maybe"})


def test_the_command_says_what_fits_and_why(folder: Path, capsys: pytest.CaptureFixture[str]) -> None:
    found = answer(capsys, "methods", "rock", "--project", str(folder), "--json")
    assert found["task"] == "rock" and set(found["fits"]) == set(GUIDES)
    assert found["fits"]["sac"]["discount"]["why"].startswith("looks ")


def test_set_points_that_are_drawn_again_count_as_what_is_met(tmp_path: Path) -> None:
    """60 k steps of 20 ms are 1200 s: 60 episodes of 20 s, and 600 or 300 values of a set-point drawn every 2 or 4 s."""
    few = with_changes(Recipe(), {"steps": "60000"})
    for every, wanted in (("0 s", "60 values of mark"), ("4 s", "300 values of mark"), ("2 s", None)):
        folder = tmp_path / every.replace(" ", "")
        task = (
            TASK.format(ending="", push="0")
            + f'\n[setpoints.mark]\ndraw = {{ uniform = [-1, 1] }}\nevery = "{every}"\n'
        )
        problem = project(folder, MASS.format(stiffness=1.0, damping=0.4), task)
        assert [wanted in text for text in warnings(problem, few)] == [True] if wanted else warnings(problem, few) == []


@pytest.mark.parametrize(
    ("every", "horizon"), [("0 s", 2.0 * math.pi), ("3 s", 1.0), ("9 s", 3.0), ("90 s", 2.0 * math.pi)]
)
def test_values_look_no_further_than_a_third_of_the_time_of_a_set_point(
    tmp_path: Path, every: str, horizon: float
) -> None:
    """The mass swings 2 pi / 3 s, three times which is looked ahead to where nothing is drawn anew."""
    task = TASK.format(ending="", push="0") + f'\n[setpoints.mark]\ndraw = {{ uniform = [-1, 1] }}\nevery = "{every}"\n'
    problem = project(tmp_path, MASS.format(stiffness=18.0, damping=0.4), task, TIMING)
    found = measure(problem)
    assert found.horizon == pytest.approx(horizon, rel=0.01)
    fitted = fitted_settings(problem, Recipe(method="sac"), found)["discount"]
    assert float(fitted.value) == pytest.approx(1.0 - 0.02 / found.horizon, rel=1e-4)
    assert ("drawn anew" in fitted.why) is (every != "0 s")


def test_a_budget_of_few_episodes_and_rows_is_said(tmp_path: Path) -> None:
    problem = swing(tmp_path)  # 1000 samples an episode
    plenty = with_changes(Recipe(), {"steps": "1000000"})
    assert warnings(problem, plenty) == []
    few = with_changes(plenty, {"steps": "60000"})
    assert "60 episodes" in warnings(problem, few)[0]
    assert warnings(problem, with_changes(few, {"training_time_limit": "2 s"})) == []
    soft = Recipe.model_validate({"method": "sac", "steps": 60_000})
    assert warnings(problem, soft) == [], "a replay method learns from each of them many times"
    assert "under 50" in warnings(problem, with_changes(soft, {"steps": "40000"}))[0]
    assert "8 rows a copy" in warnings(problem, with_changes(plenty, {"steps_per_update": "512"}))[0]


def test_many_commands_at_once_begin_quieter(tmp_path: Path) -> None:
    """What one deviation of six brings is seen as well as one of three: the spread goes with the root of their share."""
    problem = swing(tmp_path)
    found = measure(problem)
    recipe = Recipe.model_validate(preset("ppo"))
    one = fitted_settings(problem, recipe, found)["log_spread_start"].value
    six = fitted_settings(replace(problem, commands=problem.commands * 6), recipe, found)["log_spread_start"]
    assert six.value - one == pytest.approx(-0.5 * math.log(2.0), abs=2e-3)
    assert "6 commands" in six.why
