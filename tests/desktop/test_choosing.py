"""Choosing a method: advice, presets, forecasts, and the sheet in the real window."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QLineEdit, QPushButton
from pytestqt.qtbot import QtBot

from plucky_heron.desktop.stations.training.recipe_sheet import RecipeSheet
from plucky_heron.desktop.window import Finder, Window
from plucky_heron.learning.guide import GUIDES, LENGTHS, preset, settings_facts
from plucky_heron.learning.method import METHODS, settings_class
from plucky_heron.project import Project
from plucky_heron.training.evaluation import BINS, untrained
from plucky_heron.training.forecast import forecast, replay_megabytes
from plucky_heron.training.loop import Run
from plucky_heron.training.recipe import Recipe, standard_recipe

LEFT = Qt.MouseButton.LeftButton


@pytest.mark.parametrize("method", METHODS)
def test_every_method_has_advice_and_presets_that_are_valid(method: str) -> None:
    guide = GUIDES[method]
    assert all(len(text) > 20 for text in (guide.suits, guide.costs, guide.fails))
    steps = []
    for length in LENGTHS:
        recipe = Recipe.model_validate(preset(method, length))
        recipe.method_settings()
        steps.append(recipe.steps)
    assert steps == sorted(steps) and steps[0] < steps[-1]


@pytest.mark.parametrize("method", METHODS)
def test_every_setting_says_what_it_does_and_how_one_notices_that_it_is_wrong(method: str) -> None:
    facts = settings_facts(settings_class(method))
    assert len({f.key for f in facts}) == len(settings_class(method).model_fields)
    for f in facts:
        assert f.name and "_" not in f.name, f.key
        assert f.does.endswith(".") and (f.wrong or f.key == "priority"), f.key
    discount = next((f for f in facts if f.key == "discount"), None)
    if discount is not None:
        assert discount.limits == "above 0 and below 1, or how far ahead it looks, such as 5 s"


def test_forecast_measures_this_machine(folder: Path) -> None:
    problem = Project(folder).problem("lift")
    for method in ("ppo", "sac"):
        recipe = Recipe.model_validate(preset(method, "quick look"))
        found = forecast(problem, recipe, seconds=0.3)
        plain = 10 * 64 + 64 + 64 * 64 + 64 + 64 * 2 + 2
        assert found.layers == (10, 64, 64, 2) and found.parameters == plain
        assert found.minutes == pytest.approx(recipe.steps / found.steps_per_second / 60)
        assert 1.0 < found.call_microseconds < 10_000
    assert replay_megabytes(problem, Recipe.model_validate(preset("ppo"))) == 0.0


def test_memory_of_the_replay_buffer_is_what_is_forecast(folder: Path, tmp_path: Path) -> None:
    problem = Project(folder).problem("lift")
    recipe = Recipe.model_validate(preset("sac", "quick look"))
    run = Run(problem, recipe.model_copy(update={"settings": {"replay_capacity": recipe.steps}}), 1, tmp_path)
    assert replay_megabytes(problem, recipe) == pytest.approx(run.method.replay.nbytes / 1e6, rel=0.01)


def test_commands_of_the_untrained_policy_are_recorded(folder: Path, tmp_path: Path) -> None:
    """A small last layer keeps them in the middle; a large one drives them to the limits, and that is seen."""
    problem = Project(folder).problem("lift")
    shares = []
    for scale in (0.01, 10.0):
        recipe = Recipe.model_validate({"method": "ppo", "settings": {"last_layer_scale": scale}})
        found = untrained(problem, Run(problem, recipe, 1, tmp_path).method.policy())
        assert set(found) == {"push", "reel"}
        for one in found.values():
            assert len(one["histogram"]) == BINS and sum(one["histogram"]) == pytest.approx(1.0)
        shares.append(found["push"]["at_limit"])
    assert shares[0] < 0.05 and shares[1] > 0.3


def test_off_is_the_word_for_nothing_in_a_file() -> None:
    recipe = Recipe.model_validate({"method": "ppo", "settings": {"kl_limit": "off"}})
    settings: Any = recipe.method_settings()
    assert settings.kl_limit is None


@pytest.fixture
def sheet(qtbot: QtBot, folder: Path):  # type: ignore[no-untyped-def]
    """The sheet, opened by its button in the Training station."""
    window = Window(folder)
    qtbot.addWidget(window)
    window.show()
    window.enter(3)
    opener = next(b for b in window.station.findChildren(QPushButton) if b.text().startswith("Method and settings"))
    qtbot.mouseClick(opener, LEFT)
    yield window.station.sheet
    window.station.sheet.reject()
    window.close()


def choose(sheet: RecipeSheet, method: str) -> None:
    """Pick a method in the list."""
    rows = [sheet.methods.item(k).data(Qt.ItemDataRole.UserRole) for k in range(sheet.methods.count())]
    sheet.methods.setCurrentRow(rows.index(method))


def typed(qtbot: QtBot, sheet: RecipeSheet, key: str, text: str) -> None:
    """Type into a setting and press Enter."""
    line = sheet.editors[key]
    assert isinstance(line, QLineEdit)
    line.selectAll()
    qtbot.keyClicks(line, text)
    qtbot.keyClick(line, Qt.Key.Key_Return)


def test_a_method_is_chosen_and_its_settings_changed_and_reset(qtbot: QtBot, sheet: RecipeSheet) -> None:
    bench = sheet.bench
    choose(sheet, "sac")
    assert bench.recipe_name == "sac", "the project has one of SAC that is for this task"
    qtbot.mouseClick(sheet.presets["standard"], LEFT)
    assert bench.recipe is not None and bench.recipe.method == "sac" and bench.recipe.copies == 8
    assert bench.recipe.settings == {} and "1 CHANGED" in sheet.settings.caption.text()
    assert bench.recipe.method_settings().model_dump()["values_from_start"] is True, "the standard, unwritten"
    budget = next(r for r in bench.recipe.stop if r.kind == "budget")
    assert budget.steps == bench.recipe.steps  # rules follow the new budget
    typed(qtbot, sheet, "return_steps", "0.2 s")
    line = sheet.editors["return_steps"]
    assert isinstance(line, QLineEdit) and line.text() == "0.2 s" and bench.recipe.settings == {"return_steps": "0.2 s"}
    bench.undo.undo()
    typed(qtbot, sheet, "discount", "0.97")
    typed(qtbot, sheet, "hidden", "48, 32")
    typed(qtbot, sheet, "gradient_limit", "2")
    assert bench.recipe.settings == {"discount": 0.97, "hidden": [48, 32], "gradient_limit": 2}
    assert "4 CHANGED" in sheet.settings.caption.text()
    reset = next(b for b in sheet.findChildren(QPushButton) if b.accessibleName() == "reset discount")
    qtbot.mouseClick(reset, LEFT)
    assert "discount" not in bench.recipe.settings
    bench.undo.undo()
    assert bench.recipe.settings["discount"] == 0.97
    box = sheet.editors["layer_normalisation"]
    assert isinstance(box, QCheckBox)
    box.setChecked(True)
    assert bench.recipe.settings["layer_normalisation"] is True
    sheet.only_changed.setChecked(True)
    shown = {
        "steps",
        "copies",
        "fit",
        "training_time_limit",
        "residual",
        "shaping.potential",
        "evaluation.film_every",
        "discount",
        "hidden",
        "gradient_limit",
        "layer_normalisation",
    }
    assert set(sheet.editors) == shown


def test_another_method_is_another_recipe_and_no_file_before_it_is_changed(qtbot: QtBot, sheet: RecipeSheet) -> None:
    bench = sheet.bench
    folder = bench.project.folder / "recipes"
    before = {path.name: path.read_text() for path in folder.iterdir()}
    choose(sheet, "a2c")
    assert bench.recipe_name == "lift-a2c" and bench.recipe is not None
    assert bench.recipe == standard_recipe("a2c").model_copy(update={"name": "lift-a2c", "tasks": ("lift",)})
    assert {path.name: path.read_text() for path in folder.iterdir()} == before
    choose(sheet, "td3")
    assert bench.recipe_name == "td3"
    choose(sheet, "a2c")
    typed(qtbot, sheet, "discount", "0.97")
    assert set(path.name for path in folder.iterdir()) - set(before) == {"lift-a2c.toml"}
    kept = Project(bench.project.folder).recipe("lift-a2c")
    assert kept.settings == {"discount": 0.97} and kept.tasks == ("lift",) and kept == bench.recipe
    choose(sheet, "ppo")
    choose(sheet, "a2c")
    assert bench.recipe == kept, "it is found again"
    assert {name: (folder / name).read_text() for name in before} == before, (
        "and no other recipe became another method's"
    )


def test_a_recipe_is_chosen_in_the_station(qtbot: QtBot, folder: Path) -> None:
    window = Window(folder)
    qtbot.addWidget(window)
    window.show()
    window.enter(3)
    choice = window.station.recipes
    names = [choice.itemText(k) for k in range(choice.count())]
    assert {"ppo", "sac", "standard"} <= set(names) and "climb-ddpg" not in names and choice.currentText() == "ppo"
    choice.setFocus()
    while choice.currentText() != "sac":
        qtbot.keyClick(choice, Qt.Key.Key_Down)
    assert window.bench.recipe is not None and window.bench.recipe.method == "sac"
    finder = Finder(window)
    qtbot.addWidget(finder)
    qtbot.keyClicks(finder.text, "td3 recipe")
    qtbot.keyClick(finder.text, Qt.Key.Key_Return)
    assert window.bench.recipe_name == "td3" and choice.currentText() == "td3"
    window.bench.choose_task("dock")
    assert window.bench.recipe_name == "dock" and choice.currentText() == "dock"
    window.close()


def test_a_wrong_setting_is_refused_with_its_reason_and_the_file_stays(qtbot: QtBot, sheet: RecipeSheet) -> None:
    before = sheet.bench.path_of("recipes").read_text()
    typed(qtbot, sheet, "discount", "1.5")
    assert sheet.wrong.isVisible() and "discount" in sheet.wrong.text() and "less than 1" in sheet.wrong.text()
    assert sheet.bench.path_of("recipes").read_text() == before
    shown = sheet.editors["discount"]
    assert isinstance(shown, QLineEdit) and shown.text() == "1.5"  # it stays beside what is wrong with it


def test_presets_and_the_measured_cost(qtbot: QtBot, sheet: RecipeSheet) -> None:
    qtbot.mouseClick(sheet.presets["quick look"], LEFT)
    assert sheet.bench.recipe is not None and sheet.bench.recipe.steps == 150_000
    qtbot.mouseClick(sheet.measure_button, LEFT)
    qtbot.waitUntil(lambda: "steps/s here" in sheet.cost.text(), timeout=180_000)
    assert "policy 10-64-64-2" in sheet.cost.text() and sheet.measure_button.isEnabled()


def test_what_fits_the_task_is_measured_shown_with_why_and_can_be_overruled(qtbot: QtBot, sheet: RecipeSheet) -> None:
    bench = sheet.bench
    choose(sheet, "sac")
    qtbot.mouseClick(sheet.presets["standard"], LEFT)
    assert bench.recipe is not None and bench.recipe.fit

    def shown(key: str) -> str:
        line = sheet.editors[key]
        assert isinstance(line, QLineEdit)
        return line.text()

    qtbot.waitUntil(lambda: shown("discount") != "0.99", timeout=180_000)
    assert shown("discount") == "0.99667" and shown("hidden") == "128, 128" and "discount" not in bench.recipe.settings
    assert "looks 6.00 s ahead" in sheet.reasons[sheet.editors["discount"]]
    typed(qtbot, sheet, "discount", "0.97")
    assert bench.recipe.settings["discount"] == 0.97
    reset = next(b for b in sheet.findChildren(QPushButton) if b.accessibleName() == "reset discount")
    qtbot.mouseClick(reset, LEFT)
    assert shown("discount") == "0.99667"
    box = sheet.editors["fit"]
    assert isinstance(box, QCheckBox)
    box.setChecked(False)
    assert not bench.recipe.fit and shown("discount") == "0.99"
    bench.undo.undo()
    assert bench.recipe.fit


def test_a_correction_of_the_regulator_is_chosen_and_taken_back(qtbot: QtBot, sheet: RecipeSheet) -> None:
    bench = sheet.bench
    choice = sheet.editors["residual"]
    assert isinstance(choice, QComboBox) and "residual.reach" not in sheet.editors
    assert [choice.itemText(k) for k in range(choice.count())][1:] == ["regulator", "steady"]
    choice.setFocus()
    qtbot.keyClick(choice, Qt.Key.Key_Down)
    assert bench.recipe is not None and bench.recipe.residual is not None and bench.recipe.residual.on == "regulator"
    sheet.set_value("residual", "steady")
    qtbot.mouseClick(sheet.measure_button, LEFT)
    qtbot.waitUntil(lambda: "of what steady commands, the sensors tell: push" in sheet.cost.text(), timeout=180_000)
    reach = sheet.editors["residual.reach"]
    assert isinstance(reach, QLineEdit)
    reach.selectAll()
    qtbot.keyClicks(reach, "0.5")
    qtbot.keyClick(reach, Qt.Key.Key_Return)
    assert bench.recipe.residual.reach == 0.5
    reach = sheet.editors["residual.reach"]
    assert isinstance(reach, QLineEdit)
    reach.selectAll()
    qtbot.keyClicks(reach, "7")
    qtbot.keyClick(reach, Qt.Key.Key_Return)
    assert sheet.wrong.isVisible() and "reach" in sheet.wrong.text() and bench.recipe.residual.reach == 0.5
    reset = next(b for b in sheet.findChildren(QPushButton) if b.accessibleName() == "reset base controller")
    qtbot.mouseClick(reset, LEFT)
    assert bench.recipe.residual is None and "residual.reach" not in sheet.editors


def test_what_is_lent_is_typed_checked_and_taken_back(qtbot: QtBot, sheet: RecipeSheet) -> None:
    bench = sheet.bench
    before = sheet.settings.caption.text()
    typed(qtbot, sheet, "shaping.potential", "-norm(offset, hight)")
    line = sheet.editors["shaping.potential"]
    assert sheet.wrong.isVisible() and "did you mean height" in sheet.wrong.text()
    assert isinstance(line, QLineEdit) and line.text() == "-norm(offset, hight)"
    assert bench.recipe is not None and bench.recipe.shaping is None
    typed(qtbot, sheet, "shaping.potential", "-norm(offset, height)")
    assert not sheet.wrong.isVisible() and bench.recipe.shaping is not None
    assert bench.recipe.shaping.potential == "-norm(offset, height)" and sheet.settings.caption.text() != before
    reset = next(b for b in sheet.findChildren(QPushButton) if b.accessibleName() == "reset shaping potential")
    qtbot.mouseClick(reset, LEFT)
    assert bench.recipe.shaping is None and sheet.settings.caption.text() == before


def test_films_on_the_way_are_asked_for_and_taken_back(qtbot: QtBot, sheet: RecipeSheet) -> None:
    bench = sheet.bench
    before = sheet.settings.caption.text()
    for wrong in ("often", "-5", "0", "10"):  # 10 is less than between evaluations: each is filmed
        typed(qtbot, sheet, "evaluation.film_every", wrong)
        assert sheet.wrong.isVisible() == (wrong != "10"), wrong
        assert bench.recipe is not None and bench.recipe.evaluation.film_every in (None, 10)
    typed(qtbot, sheet, "evaluation.film_every", "100000")
    assert not sheet.wrong.isVisible() and bench.recipe is not None
    assert bench.recipe.evaluation.film_every == 100_000 and sheet.settings.caption.text() != before
    typed(qtbot, sheet, "evaluation.film_every", "off")
    assert bench.recipe.evaluation.film_every is None and sheet.settings.caption.text() == before
    bench.undo.undo()
    reset = next(b for b in sheet.findChildren(QPushButton) if b.accessibleName() == "reset film every")
    qtbot.mouseClick(reset, LEFT)
    assert bench.recipe.evaluation.film_every is None and sheet.settings.caption.text() == before


def test_when_training_episodes_are_cut_is_typed_with_its_unit_and_taken_back(qtbot: QtBot, sheet: RecipeSheet) -> None:
    bench = sheet.bench
    before = sheet.settings.caption.text()
    typed(qtbot, sheet, "training_time_limit", "5 m")
    assert sheet.wrong.isVisible() and "training_time_limit" in sheet.wrong.text()
    assert bench.recipe is not None and bench.recipe.training_time_limit is None
    typed(qtbot, sheet, "training_time_limit", "5000 ms")
    assert not sheet.wrong.isVisible() and bench.recipe.training_time_limit == 5.0
    line = sheet.editors["training_time_limit"]
    assert isinstance(line, QLineEdit) and line.text() == "5 s" and sheet.settings.caption.text() != before
    reset = next(b for b in sheet.findChildren(QPushButton) if b.accessibleName() == "reset training time limit")
    qtbot.mouseClick(reset, LEFT)
    assert bench.recipe.training_time_limit is None and sheet.settings.caption.text() == before
