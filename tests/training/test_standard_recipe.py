"""A task without a recipe of its own: the standard, never another task's; and what a run says of itself when it is over."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from PySide6.QtWidgets import QLineEdit, QPushButton
from pytestqt.qtbot import QtBot

from plucky_heron.cli.main import main
from plucky_heron.desktop.window import Window
from plucky_heron.files import read_toml, validate
from plucky_heron.learning.guide import GUIDES, LENGTHS, preset
from plucky_heron.learning.health import KL, SPREAD
from plucky_heron.project import Project
from plucky_heron.training.looking_back import looking_back, out_of_band, still_rising
from plucky_heron.training.recipe import STANDARD, Recipe, recipe_text, standard_recipe, with_changes
from plucky_heron.training.stopping import Evaluation
from tests.analysis.test_facts_of_steps import MASS, TASK
from tests.control.test_regulator_laws import project


@pytest.fixture
def foreign(tmp_path: Path) -> Path:
    """A project of a task of its own, and no recipe."""
    project(tmp_path, MASS.format(stiffness=1.0, damping=0.4), TASK.format(ending="", push="0"))
    return tmp_path


def write(folder: Path, name: str, **keys: object) -> None:
    """A recipe file."""
    said = {"format": 2, "name": name, "method": "ppo"} | keys
    (folder / "recipes" / f"{name}.toml").write_text("\n".join(f"{k} = {json.dumps(v)}" for k, v in said.items()))


def test_a_recipe_of_another_task_is_never_taken(foreign: Path) -> None:
    def chosen() -> str:
        return Project(foreign).recipe_for("t")

    assert chosen() == STANDARD
    write(foreign, "another", tasks=["climb"])
    write(foreign, "ahead", method="ddpg")  # for any task, and yet nobody asked for it
    assert chosen() == STANDARD
    write(foreign, "ppo", tasks=["climb"])
    assert chosen() == STANDARD
    write(foreign, "ppo")
    assert chosen() == "ppo", "by PPO, for any task"
    write(foreign, "zeal", method="sac", tasks=["climb", "t"])
    assert chosen() == "zeal"
    write(foreign, "t", method="td3")
    assert chosen() == "t"
    write(foreign, "broken")
    (foreign / "recipes" / "broken.toml").write_text("tasks = 7\nmethod = [")
    assert chosen() == "t"


def test_a_new_project_takes_only_the_recipes_of_its_tasks(tmp_path: Path) -> None:
    assert main(["new", str(tmp_path / "mine"), "--from", "hoist"]) == 0
    made = Project(tmp_path / "mine")
    assert set(made.recipes()) == {"ppo", "sac", "td3", "ddpg", "model"}
    assert made.recipe_for(made.first_task()) == "ppo"


@pytest.mark.parametrize("method", GUIDES)
def test_a_recipe_survives_its_file(method: str, tmp_path: Path) -> None:
    for length in LENGTHS:
        recipe = with_changes(Recipe.model_validate({"name": "mine", **preset(method, length)}), {"steps": "70000"})
        (tmp_path / "mine.toml").write_text(recipe_text(recipe))
        assert validate(Recipe, read_toml(tmp_path / "mine.toml"), "mine.toml") == recipe
        assert {rule.kind for rule in recipe.stop} == {"good enough", "budget", "gone wrong"}


def test_training_without_a_recipe_uses_the_standard_says_so_and_keeps_it_if_asked(
    foreign: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    common = ["train", "t", "--project", str(foreign), "--steps", "4000", "--set", "evaluation.every=1000"]
    assert main([*common, "--keep-recipe", "mine", "--json"]) == 0
    caught = capsys.readouterr()
    assert "no recipe of the project is for t" in caught.err and "64 copies" in caught.err
    told = json.loads(caught.out)
    assert told["method"] == "ppo" and isinstance(told["looking_back"], list)
    kept = Project(foreign).recipe("mine")
    assert kept.fit and kept.steps == 4000 and kept.evaluation.every == 1000
    assert main([*common, "--keep-recipe", "mine"]) == 2
    assert "has a recipe of this name" in capsys.readouterr().err
    assert main([*common, "--keep-recipe", "../mine"]) == 2
    assert "without slashes" in capsys.readouterr().err
    assert not (foreign / "mine.toml").exists()
    capsys.readouterr()
    assert main([*common, "--recipe", "mine"]) == 0
    assert "no recipe" not in capsys.readouterr().err


def test_the_window_trains_without_a_recipe_and_writes_one_when_it_is_changed(qtbot: QtBot, foreign: Path) -> None:
    window = Window(foreign)
    qtbot.addWidget(window)
    window.show()
    window.enter(3)
    bench = window.bench
    assert bench.recipe == standard_recipe() and not bench.trouble
    assert not list((foreign / "recipes").iterdir())
    opener = next(b for b in window.station.findChildren(QPushButton) if b.text().startswith("Method and settings"))
    opener.click()
    sheet = window.station.sheet
    line = sheet.editors["steps"]
    assert isinstance(line, QLineEdit)
    line.selectAll()
    qtbot.keyClicks(line, "5000")
    line.editingFinished.emit()
    assert Project(foreign).recipe(STANDARD).steps == 5000 and bench.recipe is not None and bench.recipe.steps == 5000
    bench.undo.undo()
    assert bench.recipe == Project(foreign).recipe(STANDARD) and bench.recipe.steps == standard_recipe().steps
    sheet.reject()
    assert bench.train([1]) == ""
    bench.stop_training()

    def over() -> bool:
        bench.refresh_runs()
        return not bench.training()

    qtbot.waitUntil(over, timeout=180_000)
    window.close()


def course(*success: float, score: float = 1.0) -> list[Evaluation]:
    """Evaluations with these shares of success; scores go with them."""
    return [Evaluation(100 * k, 0.1 * k, 10 * k, score * s - 5.0, s) for k, s in enumerate(success)]


def test_a_run_that_was_still_rising_is_told_from_one_that_was_not() -> None:
    rising = [0.0, 0.0, 0.1, 0.2, 0.3, 0.45, 0.6, 0.8]
    assert "32" in still_rising(course(*rising)) and "points" in still_rising(course(*rising))
    assert still_rising(course(*rising[:-1], 1.0)) == "", "nothing is left to rise to"
    assert still_rising(course(0.0, 0.5, 0.6, 0.7, 0.72, 0.7, 0.71, 0.7)) == ""
    assert still_rising(course(*rising[:6])) == "", "too few to tell"
    flat = [Evaluation(100 * k, 0.0, 0, -100.0 + 10.0 * k, 0.0) for k in range(8)]
    assert "score" in still_rising(flat)
    assert still_rising([*flat[:-1], Evaluation(800, 0.0, 0, float("nan"), 0.0)]) == ""


def test_figures_outside_their_band_at_the_end_are_named() -> None:
    health = [(100 * k, {"kl": 0.01, "spread": 0.3 if k < 8 else 0.01, "idle": 3.0}) for k in range(10)]
    (said,) = out_of_band([KL, SPREAD], health)
    assert SPREAD.words in said and "below 0.05" in said
    assert out_of_band([KL, SPREAD], [(s, h | {"spread": 0.2}) for s, h in health]) == []
    assert out_of_band([KL, SPREAD], []) == []


def test_nothing_reached_is_said_first() -> None:
    told = looking_back([KL], course(*[0.0] * 9), [(1, {"kl": 9.0})])
    assert told[0].startswith("nothing was reached") and "shakedown" in told[0] and KL.words in told[-1]
    assert looking_back([KL], course(0.0, 0.5, 1.0), [(1, {"kl": 0.01})]) == []
