"""A machine of one's own without a text editor: beginning, building, wishing, every key in a sheet, parts of the project."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from pydantic import BaseModel
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QCheckBox, QComboBox, QLineEdit, QPlainTextEdit
from pytestqt.qtbot import QtBot

from plucky_heron.desktop.bench import parts
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.asking import AskFirst, AskName
from plucky_heron.desktop.forms.file_sheet import SCHEMAS, FileSheet
from plucky_heron.desktop.forms.schema import docs_of, kinds_of, specs_of
from plucky_heron.desktop.forms.schema_form import SchemaForm
from plucky_heron.desktop.shell.chooser import Chooser
from plucky_heron.desktop.shell.project_menu import NewProject
from plucky_heron.desktop.window import Window
from plucky_heron.files import read_toml
from plucky_heron.machine.site import Wall
from plucky_heron.project import Project, empty_project
from plucky_heron.recent import recent_projects, remember_project
from tests.desktop.test_window import LEFT, opened

DATA = Path(__file__).parents[2] / "docs" / "data"


@pytest.fixture
def bare(qtbot: QtBot, tmp_path: Path):  # type: ignore[no-untyped-def]
    """A window on a project with nothing in it."""
    yield from opened(qtbot, empty_project(tmp_path / "cell").folder)


@pytest.fixture
def window(qtbot: QtBot, folder: Path):  # type: ignore[no-untyped-def]
    """A window on a copy of the demo."""
    yield from opened(qtbot, folder)


@pytest.fixture
def bench(qapp: QApplication, folder: Path):  # type: ignore[no-untyped-def]
    """A workbench on a copy of the demo, at the marshcart."""
    made = Workbench(folder)
    made.choose_task("lane")
    yield made
    made.close()


def built(qtbot: QtBot, window: Window, name: str, stands: str) -> None:
    """A new machine by the page of an empty project."""
    assert window.begin is not None and window.pages.currentWidget() is window.begin
    form = window.begin.form
    form.name.clear()
    qtbot.keyClicks(form.name, name)
    form.stands.setCurrentIndex(form.stands.findData(stands))
    qtbot.keyClick(form.name, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: window.bench.problem is not None)


def add(window: Window, text: str) -> None:
    """An entry of the menu that adds parts."""
    station = window.stations[0]
    station.parts.fill()
    next(a for a in station.parts.menu.actions() if a.text() == text).trigger()
    assert not station.problem_text.text()


def test_an_empty_project_says_what_to_do_and_no_station_minds(qtbot: QtBot, bare: Window) -> None:
    for number in range(7):
        bare.enter(number)
        assert bare.pages.currentWidget() is bare.begin
    assert bare.bench.train([1]) and "no task yet" in bare.bench.trouble
    bare.bench.say("")
    form = bare.begin.form
    form.name.clear()
    qtbot.keyClicks(form.name, "../out")
    form.make()
    assert "letters, digits" in form.wrong.text() and not bare.bench.project.machines()


@pytest.mark.parametrize(
    ("stands", "wanted", "wish"),
    [
        ("stands", ["Driven link on link"], "reach a place"),
        ("drives", ["Wheel on body", "MIRROR", "Caster under body"], "reach a place"),
        ("flies in a plane", ["Thruster on body", "Thruster on body"], "hover and fly to points"),
        ("floats in a plane", ["Thruster on body", "Thruster on body"], "dock"),
    ],
)
def test_from_nothing_to_a_task_and_back(qtbot: QtBot, bare: Window, stands: str, wanted: list[str], wish: str) -> None:
    built(qtbot, bare, "own", stands)
    bench, station = bare.bench, bare.stations[0]
    assert not bench.has_task and bare.pages.currentWidget() is bare.stack
    for text in wanted:
        body = text.split()[-1] if text != "MIRROR" else "left_wheel"
        station.choose("bodies", body)
        if text == "MIRROR":
            station.parts.mirror()
        else:
            add(bare, text)
    assert bench.problem is not None and len(bench.problem.machine.drives) == 2
    for number in range(2, 7):
        bare.enter(number)
    bare.enter(1)
    page = bare.station.wish
    qtbot.waitUntil(lambda: page.look is not None, timeout=240_000)
    assert {o.name for o in page.list.offers if not o.unfit} >= {wish}
    for _ in range(9):
        if page.list.name != wish:
            qtbot.keyClick(page.list, Qt.Key.Key_Down)
    assert page.list.name == wish and page.lines.count > 8
    qtbot.mouseClick(page.write, LEFT)
    qtbot.waitUntil(lambda: bench.has_task)
    assert bench.problem.task.measure.formula and len(bench.problem.entries) >= 5
    assert bare.station.pages.currentIndex() == 0
    task = bench.task
    bench.undo.undo()
    assert not bench.has_task and task not in bench.project.tasks()
    bench.undo.redo()
    assert bench.task == task and bench.project.problem(task).machine.name


def test_answers_to_a_wish_change_what_is_written_and_wrong_ones_are_explained(qtbot: QtBot, window: Window) -> None:
    bench = window.bench
    bench.choose_machine("davit")
    window.enter(1)
    window.station.new_task()
    page = window.station.wish
    qtbot.waitUntil(lambda: page.look is not None, timeout=240_000)
    assert page.list.name == "reach a place" and page.where.region is not None
    field = page.fields["within"]
    field.setFocus()
    field.selectAll()
    qtbot.keyClicks(field, "3 cm")
    qtbot.keyClick(field, Qt.Key.Key_Return)
    assert page.draft is not None and "away < 0.03" in page.draft.task["measure"]["formula"]
    assert "--answer within='3 cm'" in page.command.text()
    field.selectAll()
    qtbot.keyClicks(field, "3 kg")
    qtbot.keyClick(field, Qt.Key.Key_Return)
    assert "kg" in field.problem
    qtbot.mouseClick(page.leave, LEFT)
    assert window.station.pages.currentIndex() == 0 and bench.task in bench.project.tasks()


def test_a_urdf_in_the_window_asks_whether_it_travels(qtbot: QtBot, bare: Window) -> None:
    from plucky_heron.desktop.stations.machine.import_sheet import ImportSheet

    def settled(sheet: ImportSheet) -> None:
        qtbot.waitUntil(lambda: not sheet.busy, timeout=30_000)

    rover = ImportSheet(bare.bench, DATA / "cartbot.urdf", "", bare)
    assert not rover.keep.isEnabled()  # while it reads
    settled(rover)
    assert rover.keep.isEnabled()
    assert rover.free.isChecked() and any("grade" in line for line in rover.report.assumptions)
    arm = ImportSheet(bare.bench, DATA / "picker.urdf", "", bare)
    settled(arm)
    assert not arm.free.isChecked()
    arm.name.setText("../arm")
    arm.read()
    settled(arm)
    assert "letters, digits" in arm.wrong.text() and not arm.keep.isEnabled()
    arm.name.setText("gripper")
    arm.wish.setCurrentText("dock")
    arm.read()
    settled(arm)
    assert "the base does not travel" in arm.wrong.text()
    arm.wish.setCurrentText("reach a place")
    arm.read()
    settled(arm)
    assert any("mark ahead" in line for line in arm.report.converted)
    arm.takes.setCurrentText("position")
    arm.read()
    settled(arm)
    arm.keep_it()
    assert bare.bench.problem.task.machine == "gripper" and bare.bench.task == "reach_a_place"
    assert {d.kind for d in bare.bench.problem.machine.drives.values()} == {"position"}
    bare.bench.choose_machine("gripper")
    arm = ImportSheet(bare.bench, DATA / "picker.urdf", "", bare)
    settled(arm)
    arm.keep_it()
    assert bare.bench.task == "picker" and bare.pages.currentWidget() is bare.stack


def test_the_project_menu_renames_copies_and_removes(qtbot: QtBot, window: Window, folder: Path) -> None:
    bench, menu = window.bench, window.project_menu
    bench.choose_task("lift")
    entries = dict(menu.entries())
    entries["Rename machine hoist …"]()
    sheet = menu.sheet
    assert isinstance(sheet, AskName)
    sheet.name.setText("lane/..")
    sheet.take()
    assert "letters, digits" in sheet.wrong.text() and sheet.isVisible()
    sheet.name.setText("crane")
    qtbot.keyClick(sheet.name, Qt.Key.Key_Return)
    assert bench.problem.task.machine == "crane" and window.causeway.machine.currentText() == "crane"
    assert read_toml(folder / "tasks" / "lift.toml")["machine"] == "crane"
    bench.undo.undo()
    assert bench.problem.task.machine == "hoist" and not (folder / "machines" / "crane.toml").exists()
    dict(menu.entries())["Copy task lift …"]()
    menu.sheet.name.setText("lift_again")
    menu.sheet.take()
    assert bench.task == "lift_again"
    dict(menu.entries())["Remove task lift_again …"]()
    assert isinstance(menu.sheet, AskFirst)
    menu.sheet.take()
    assert "lift_again" not in bench.project.tasks() and bench.task in bench.project.tasks()
    dict(menu.entries())["Remove machine hoist …"]()
    menu.sheet.take()
    assert "is used by tasks/" in menu.sheet.wrong.text() and "hoist" in bench.project.machines()


def test_a_change_of_files_is_not_taken_back_over_somebody_elses(bench: Workbench, folder: Path) -> None:
    assert not parts.copy(bench, "tasks", "lane_copy")
    path = folder / "tasks" / "lane_copy.toml"
    path.write_text(path.read_text() + "# theirs\n")
    bench.undo.undo()
    assert "changed outside" in bench.trouble and path.read_text().endswith("# theirs\n")


def reachable(model: type[BaseModel], found: set[type[BaseModel]]) -> set[type[BaseModel]]:
    """A schema and all schemas of what is in it."""
    if model not in found:
        found.add(model)
        for spec in specs_of(model):
            for inner in (*spec.variants, *([spec.inner] if spec.inner else [])):
                reachable(inner, found)
    return found


ALL = sorted(set().union(*(reachable(m, set()) for m in SCHEMAS.values())), key=lambda m: m.__name__)


@pytest.mark.parametrize("model", ALL, ids=lambda m: m.__name__)
def test_every_key_of_every_schema_has_a_control(qapp: QApplication, model: type[BaseModel]) -> None:
    form = SchemaForm(model, {}, lambda _: None)
    edited = {path[0] for path in form.editors}
    beside = {spec.key for spec in specs_of(model) if spec.kind in ("list", "table")}
    assert edited | beside == {name for name in model.model_fields if name != "format"}
    kinds = {"switch": QCheckBox, "choice": QComboBox, "rows": QPlainTextEdit, "pairs": QPlainTextEdit, "text": QLineEdit, "line": QLineEdit}  # fmt: skip
    for spec in specs_of(model):
        editor = form.editors.get((spec.key,))
        if editor is None:
            continue
        assert isinstance(editor, kinds.get(spec.kind, object)), spec.key
        assert editor.accessibleName() and editor.minimumHeight() >= 22
        if spec.kind == "numbers":
            assert len(editor.findChildren(QLineEdit)) == spec.count


def test_keys_say_what_they_mean() -> None:
    from plucky_heron.machine.schema import Drive

    assert docs_of(Drive)["dead_zone"] == "Commands up to this do nothing."
    assert next(s for s in specs_of(Drive) if s.key == "lag").unit == "s"


def type_into(qtbot: QtBot, line: Any, text: str) -> None:
    """Type a value and leave the field with Enter."""
    line.setFocus()
    line.selectAll()
    qtbot.keyClicks(line, text)
    qtbot.keyClick(line, Qt.Key.Key_Return)


def test_a_key_is_typed_checked_written_and_undone(qtbot: QtBot, bench: Workbench) -> None:
    sheet = FileSheet(bench, "machines", ("drives", "steer"))
    qtbot.addWidget(sheet)
    sheet.show()
    line = sheet.form.editors[("dead_time",)]
    type_into(qtbot, line, "40 ms")
    assert bench.document("machines")["drives"]["steer"]["dead_time"] == "40 ms"
    assert bench.problem.machine.drives["steer"].dead_time == pytest.approx(0.04)
    line = sheet.form.editors[("dead_time",)]
    type_into(qtbot, line, "40 kg")
    assert "kg" in sheet.wrong.text() and line.text() == "40 kg", "nothing that was typed is lost"
    assert bench.problem.machine.drives["steer"].dead_time == pytest.approx(0.04)
    bench.undo.undo()
    assert "dead_time" not in bench.document("machines")["drives"]["steer"]


def test_values_that_belong_together_are_taken_together(qtbot: QtBot, bench: Workbench) -> None:
    sheet = FileSheet(bench, "tasks")
    qtbot.addWidget(sheet)
    bench.rewrite("tasks", lambda d: d.pop("target", None), "no target")
    sheet._edited(("target", "body"), "frame")
    assert "target.x" in sheet.wrong.text() and "target" not in bench.document("tasks")
    sheet._edited(("target", "x"), "3")
    assert (
        not sheet.wrong.text() and bench.document("tasks")["target"] == {"body": "frame", "x": 3}
    ) or bench.problem.target
    assert bench.problem.task.target is not None


CASES = [
    (kind, spec.key, model, variant)
    for kind, schema in SCHEMAS.items()
    if kind != "recipes"
    for spec in specs_of(schema)
    if spec.kind in ("list", "table")
    for model in (*spec.variants, *([spec.inner] if spec.inner else []))
    for variant in (kinds_of(model) or ("",))
]


@pytest.mark.parametrize(("kind", "section", "model", "variant"), CASES, ids=lambda v: getattr(v, "__name__", str(v)))
def test_every_kind_of_entry_can_be_added_and_removed(
    qtbot: QtBot, bench: Workbench, kind: str, section: str, model: type[BaseModel], variant: str
) -> None:
    needs = {
        ("machines", "drives", "drain"),
        ("machines", "sensors", "bearing"),
        ("sites", "drawings", ""),
        ("tasks", "placing", ""),
    }
    sheet = FileSheet(bench, kind)
    qtbot.addWidget(sheet)
    before = bench.document(kind)
    wrong = sheet.add_one((section,), model, variant)
    if wrong:
        # a drain needs a tank, a bearing a mark, a drawing its file, the only joint that can be placed is: that is said, and nothing has changed
        assert (kind, section, variant) in needs or section == "joints", wrong
        assert bench.document(kind) == before
        return
    after = bench.document(kind)
    assert len(after[section]) == len(before.get(section, ())) + 1
    assert sheet.form is not None and sheet.at[0] == section
    sheet.remove_it()
    assert len(bench.document(kind).get(section, ())) == len(before.get(section, ())), sheet.wrong.text()


def test_mass_properties_are_worked_out_from_shapes(qtbot: QtBot, bench: Workbench) -> None:
    bench.choose_task("lift")
    sheet = FileSheet(bench, "machines", ("bodies", "trolley"))
    qtbot.addWidget(sheet)
    sheet.solid.setText("12 kg")
    sheet.fill_solid()
    assert not sheet.wrong.text()
    body = bench.problem.machine.bodies["trolley"]
    assert body.mass == pytest.approx(12.0) and np.all(np.array(body.inertia[:3]) > 0.0)
    sheet.solid.setText("7 s")
    sheet.fill_solid()
    assert sheet.wrong.text() and bench.problem.machine.bodies["trolley"].mass == pytest.approx(12.0)


def test_an_inertia_is_typed_as_a_whole_a_larger_one_too(qtbot: QtBot, bench: Workbench) -> None:
    bench.choose_task("lift")
    sheet = FileSheet(bench, "machines", ("bodies", "trolley"))
    qtbot.addWidget(sheet)
    sheet.show()

    def typed(row: int, k: int, text: str) -> None:
        field = sheet.inertia.fields[row][k]
        field.setFocus()
        field.selectAll()
        qtbot.keyClicks(field, text)
        qtbot.keyClick(field, Qt.Key.Key_Return)

    def whole() -> list[float]:
        return list(bench.problem.machine.bodies["trolley"].inertia)

    before, mass = whole(), bench.problem.machine.bodies["trolley"].mass
    top = 10.0 * max(before)
    typed(0, 0, f"{top:g} kg*m**2")  # alone no solid has it: it waits for the others
    assert "type these, too" in sheet.wrong.text() and whole() == before
    typed(0, 1, f"{top:g}")
    assert not sheet.wrong.text() and whole()[:2] == [pytest.approx(top)] * 2
    typed(1, 2, "90 deg")
    assert whole()[3:] == [0.0] * 3  # about the third of two equal ones: nothing changes
    typed(1, 2, "0")
    typed(2, 0, "0.4 m")
    typed(2, 1, "200 mm")
    typed(2, 2, "0.1")
    a, b, c = 0.16, 0.04, 0.01
    assert whole()[:3] == pytest.approx([mass / 12 * (b + c), mass / 12 * (a + c), mass / 12 * (a + b)], rel=1e-6)
    typed(1, 2, "30 deg")
    assert whole()[3] == pytest.approx(mass / 12 * (b - a) * np.sin(np.pi / 6) * np.cos(np.pi / 6), rel=1e-6)
    assert sheet.inertia.fields[1][2].value() == pytest.approx(30.0) and sheet.inertia.fields[2][
        0
    ].value() == pytest.approx(0.4)
    typed(2, 2, "-1 m")
    assert "above zero" in sheet.wrong.text()
    bench.undo.undo()
    assert whole()[3:] == [0.0] * 3


def test_a_part_is_renamed_in_the_sheet_with_its_tasks(qtbot: QtBot, bench: Workbench) -> None:
    sheet = FileSheet(bench, "machines", ("drives", "steer"))
    qtbot.addWidget(sheet)
    assert not sheet.rename_to("rudder")
    assert "rudder" in bench.problem.machine.drives and any(a.drive == "rudder" for a in bench.problem.task.actions)
    assert sheet.rename_to("9 lives")
    bench.undo.undo()
    assert "steer" in bench.problem.machine.drives


def test_a_new_project_is_made_where_one_says_and_nowhere_else(qtbot: QtBot, tmp_path: Path) -> None:
    made: list[Path] = []
    sheet = NewProject(made.append)
    qtbot.addWidget(sheet)
    (tmp_path / "full").mkdir()
    (tmp_path / "full" / "file").write_text("mine")
    sheet.folder.setText(str(tmp_path / "full"))
    sheet.make()
    assert "not empty" in sheet.wrong.text() and not made
    sheet.folder.setText(str(tmp_path / "fresh"))
    sheet.make()
    assert made == [(tmp_path / "fresh").resolve()] and Project(made[0]).machines() == []


def test_the_choice_of_projects_remembers_and_says_what_is_wrong(qtbot: QtBot, folder: Path, tmp_path: Path) -> None:
    remember_project(folder)
    gone = empty_project(tmp_path / "gone").folder
    remember_project(gone)
    assert recent_projects()[:2] == [gone, folder.resolve()]
    (gone / "project.toml").unlink()
    assert recent_projects()[0] == folder.resolve()
    found: list[Path] = []
    chooser = Chooser(lambda path: found.append(Project(path).folder))
    qtbot.addWidget(chooser)
    chooser.show()
    chooser.open_it(tmp_path)
    assert "is not a project" in chooser.wrong.text() and not found
    chooser.list.setCurrentRow(0)
    qtbot.keyClick(chooser.list, Qt.Key.Key_Return)
    assert found == [folder.resolve()]


def test_a_copy_of_the_project_leaves_runs_behind_and_never_lands_in_itself(window: Window, tmp_path: Path) -> None:
    menu = window.project_menu
    found: list[Path] = []
    menu.opened.disconnect()
    menu.opened.connect(found.append)
    assert "inside the project" in menu.copy_to(window.bench.project.folder / "copy")
    assert not menu.copy_to(tmp_path / "copy")
    assert found == [tmp_path / "copy"] and not (tmp_path / "copy" / "runs").exists()
    assert Project(tmp_path / "copy").tasks() == window.bench.project.tasks()
    assert "there already" in menu.copy_to(tmp_path / "copy")


def test_machines_are_chosen_in_the_causeway_with_or_without_a_task(qtbot: QtBot, window: Window, folder: Path) -> None:
    bench: Any = window.bench
    bench.choose_machine("davit")
    assert bench.problem.task.machine == "davit" and bench.has_task
    for task in bench.project.tasks_of("sluice"):
        (folder / "tasks" / f"{task}.toml").unlink()
    bench.choose_machine("sluice")
    assert not bench.has_task and bench.problem.task.machine == "sluice"
    assert window.causeway.task.currentText() == "no task"
    for number in range(7):
        window.enter(number)
    assert "no task" in bench.rewrite("tasks", lambda d: None, "nothing")


def test_the_focus_stays_where_it_was_after_an_edit(qtbot: QtBot, window: Window) -> None:
    window.bench.choose_task("lift")
    window.enter(0)
    station = window.station
    station.choose("drives", "push")
    qtbot.wait(50)
    field = next(w for w in station.findChildren(QLineEdit) if w.isVisible() and "limit" in w.accessibleName())
    name = field.accessibleName()
    field.setFocus()
    field.selectAll()
    qtbot.keyClicks(field, "1300 N")
    qtbot.keyClick(field, Qt.Key.Key_Return)
    assert window.bench.problem.machine.drives["push"].limit == 1300.0
    qtbot.waitUntil(lambda: QApplication.focusWidget().accessibleName() == name)
    window.bench.edit("machines", ["drives", "push", "lag"], "0.05 s", "elsewhere")
    qtbot.wait(50)
    assert QApplication.focusWidget().accessibleName() == name


def test_f1_opens_the_page_on_what_has_the_focus(qtbot: QtBot, window: Window) -> None:
    window.enter(0)
    window.station.choose("drives", "push")
    qtbot.wait(50)
    field = next(w for w in window.station.findChildren(QLineEdit) if w.isVisible())
    field.setFocus()
    page = window.open_page()
    assert page.about.text().startswith(field.accessibleName()) and "joint ladder" in page.text.toPlainText()
    for number in range(7):
        window.enter(number)
        assert len(window.open_page().text.toPlainText()) > 500


def test_other_projects_are_opened_in_the_place_of_this_one(qtbot: QtBot, folder: Path, tmp_path: Path) -> None:
    from plucky_heron.desktop import window as windows

    other = empty_project(tmp_path / "other").folder
    first = windows.open_window(folder)
    for target in (other, folder, other):
        now = windows._OPEN[-1]
        now.project_menu.opened.emit(target)
        qtbot.wait(400)
        assert [w.bench.project.folder for w in windows._OPEN] == [target.resolve()]
    assert not first.isVisible() and first.bench.closed
    windows._OPEN[-1].project_menu.opened.emit(tmp_path)
    assert "is not a project" in windows._OPEN[-1].bench.trouble and len(windows._OPEN) == 1
    windows._OPEN[-1].close()
    qtbot.wait(300)
    assert not windows._OPEN and recent_projects()[0] == other.resolve()


def test_a_new_site_is_made_under_the_task_and_edited_in_its_sheet(qtbot: QtBot, window: Window, folder: Path) -> None:
    bench = window.bench
    bench.choose_task("lane")
    dict(window.project_menu.entries())["New site …"]()
    sheet = window.project_menu.sheet
    sheet.name.setText("flats")
    sheet.take()
    assert "there already" in sheet.wrong.text()
    sheet.name.setText("yard")
    sheet.take()
    # the lane needs a course, which a plain site has not: said, and shown as it was
    assert bench.trouble and "course" in bench.trouble
    bench.undo.undo()
    assert bench.problem.task.site == "flats" and not (folder / "sites" / "yard.toml").exists()
    bench.choose_task("lift")
    assert not parts.make_site(bench, "yard") and bench.problem.task.site == "yard"
    made = FileSheet(bench, "sites")
    qtbot.addWidget(made)
    made._edited(("terrain", "kind"), "slope")
    made._edited(("terrain", "slope"), "5 deg")
    assert bench.problem.site.terrain.kind == "slope" and bench.problem.site.terrain.slope == pytest.approx(
        0.0873, abs=1e-4
    )
    assert not made.add_one(("walls",), Wall, "")
    assert "wall" in bench.problem.site.walls
