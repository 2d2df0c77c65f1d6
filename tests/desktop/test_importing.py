"""Files from elsewhere: what a project makes of them, what it says, and that it keeps nothing it did not agree to."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import tomlkit
from PIL import Image
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QPushButton
from pytestqt.qtbot import QtBot

from plucky_heron.cli.main import main
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.identify_sheet import IdentifySheet
from plucky_heron.desktop.stations.machine.import_sheet import ImportSheet
from plucky_heron.desktop.window import Window
from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.plant import Plant
from plucky_heron.errors import FileError
from plucky_heron.files import validate
from plucky_heron.machine.reading import read_machine
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.urdf import read_urdf
from plucky_heron.machine.urdf_writing import write_urdf
from plucky_heron.project import Project, demo_source
from plucky_heron.simulation.drivers import Constant
from plucky_heron.simulation.trials import run_trials
from plucky_heron.task.importing import as_document, legend_of, mesh_shape
from plucky_heron.task.machine_import import machine_from_urdf
from tests.conftest import copy_demo
from tests.desktop.test_window import LEFT, opened

MACHINES = sorted(p.stem for p in (demo_source() / "machines").glob("*.toml"))
SVG = (
    '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 1000 600"><g id="walls"><path d="M 0,0 L 1000,0 L 1000,600"/>'
    '</g><g id="lane"><path d="M 100,300 C 300,0 600,600 900,300"/></g><g id="notes"><text>mind the step</text></g></svg>'
)
CUBE = "\n".join(f"v {x} {y} {z}" for x in (0, 1) for y in (0, 1) for z in (0, 2)) + "\nf 1 2 4\nf 5 6 8\nf 1 5 7\n"


@pytest.fixture
def bench(qapp: QApplication, folder: Path):  # type: ignore[no-untyped-def]
    """A workbench on a fresh project, at the marshcart."""
    made = Workbench(folder)
    made.choose_task("lane")
    yield made
    made.close()


def settled(qtbot: QtBot, sheet: ImportSheet) -> None:
    """A machine is read in a thread."""
    qtbot.waitUntil(lambda: not sheet.busy, timeout=30_000)


@pytest.mark.parametrize("name", MACHINES)
def test_a_machine_is_written_as_a_file_that_means_the_same(name: str) -> None:
    machine = read_machine(demo_source() / "machines" / f"{name}.toml")
    text = tomlkit.dumps(as_document(machine, "Written by a test."))
    again = validate(Machine, tomlkit.parse(text).unwrap(), "again.toml")
    first, second = build_model(machine), build_model(again)
    assert second.row == pytest.approx(first.row, rel=1e-7, abs=1e-12)
    assert second.start == pytest.approx(first.start, rel=1e-7, abs=1e-12)
    assert [s.channels(n, again.joints) for n, s in again.sensors.items()] == [
        s.channels(n, machine.joints) for n, s in machine.sensors.items()
    ]


def urdf_of(name: str, tmp_path: Path) -> Path:
    """A demo machine as a URDF, outside of any project."""
    path = tmp_path / "elsewhere" / f"my {name}.urdf"
    path.parent.mkdir()
    path.write_text(write_urdf(read_machine(demo_source() / "machines" / f"{name}.toml"))[0])
    return path


def test_a_urdf_becomes_a_machine_with_a_task_to_see_it_in(folder: Path, tmp_path: Path) -> None:
    source = urdf_of("davit", tmp_path)
    before = {p for p in folder.rglob("*") if p.is_file()}
    report = machine_from_urdf(source)
    assert {p for p in folder.rglob("*") if p.is_file()} == before
    report.keep(folder)
    assert {p.relative_to(folder).as_posix() for p in folder.rglob("*") if p.is_file()} - {
        p.relative_to(folder).as_posix() for p in before
    } == {"machines/my_davit.toml", "sites/my_davit_place.toml", "tasks/my_davit.toml"}
    problem = Project(folder).problem("my_davit")
    original = read_machine(demo_source() / "machines" / "davit.toml")
    assert sum(b.mass for b in problem.machine.bodies.values()) == pytest.approx(131.0)
    assert problem.machine.joints["luff"].limits == pytest.approx(original.joints["luff"].limits)
    trials = run_trials(problem, Constant(problem), seed=1, stream="import", count=1)
    assert np.isfinite(trials.score).all()
    with pytest.raises(FileError, match="is there already"):
        machine_from_urdf(source).keep(folder)


def test_without_drives_every_joint_gets_one_and_meshes_come_along(folder: Path, tmp_path: Path) -> None:
    (tmp_path / "parts").mkdir()
    (tmp_path / "parts" / "cube.obj").write_text(CUBE)
    link = '<link name="{0}"><inertial><mass value="1"/><inertia ixx="1" iyy="1" izz="1"/></inertial>{1}</link>'
    mesh = '<collision><geometry><mesh filename="parts/cube.obj"/></geometry></collision>'
    (tmp_path / "9 arm.urdf").write_text(
        f'<robot name="m">{link.format("a", "")}{link.format("b", mesh)}<joint name="j" type="continuous">'
        '<parent link="a"/><child link="b"/><axis xyz="0 1 0"/></joint></robot>'
    )
    report = machine_from_urdf(tmp_path / "9 arm.urdf", free=True)
    assert report.name == "m_9_arm" and [a.value for a in report.assumed if a.key == "drives.j_drive.limit"] == [
        "6 N*m"  # 1 kg m2 through 3 rad within a second or so: 2 * 1 * 3
    ]
    report.keep(folder)
    machine = read_machine(folder / "machines" / "m_9_arm.toml")
    assert list(machine.drives) == ["j_drive"]
    assert len(machine.bodies["b"].shapes[0].points) == 8
    assert "2 bodies" in report.read[0] and "1 of them convex hulls" in report.read[2]
    assert Project(folder).problem("m_9_arm").site.terrain is not None


def test_a_mesh_becomes_a_hull_of_the_chosen_body(bench: Workbench, tmp_path: Path) -> None:
    (tmp_path / "block.obj").write_text(CUBE)
    sheet = ImportSheet(bench, tmp_path / "block.obj", "frame")
    assert sheet.report is not None and "8 corners, 1 x 1 x 2 m" in sheet.report.read[0]
    sheet.keep_it()
    shape = bench.problem.machine.bodies["frame"].shapes[-1]
    assert shape.kind == "hull" and shape.file == "marshcart_meshes/block.obj" and len(shape.points) == 8
    bench.undo.undo()
    assert bench.problem.machine.bodies["frame"].shapes[-1].kind != "hull"
    large = CUBE.replace("1", "1000").replace("2\n", "2000\n")
    (tmp_path / "large.obj").write_text("\n".join(line for line in large.splitlines() if line.startswith("v")))
    report, shape_entry = mesh_shape(bench.path_of("machines"), tmp_path / "large.obj")
    assert shape_entry["scale"] == 0.001 and "millimetres" in report.converted[0]


def test_a_drawing_becomes_walls_and_courses_of_the_site(bench: Workbench, tmp_path: Path) -> None:
    (tmp_path / "yard.svg").write_text(SVG)
    assert legend_of(tmp_path / "yard.svg") == {"walls": 1, "lane": 1}
    sheet = ImportSheet(bench, tmp_path / "yard.svg", "frame")
    assert sheet.legend["walls"].currentText() == "wall" and sheet.legend["lane"].currentText() == "not used"
    assert any("lane" in line for line in sheet.report.left_out)
    sheet.legend["lane"].setCurrentText("course")
    assert sheet.report.read == ["yard.svg: read 1 wall, 1 course"]
    walls = len(bench.problem.site.walls)
    sheet.keep_it()
    assert len(bench.problem.site.walls) == walls + 1 and "yard" in bench.problem.site.courses
    assert bench.problem.site.courses["yard"].points[0] == pytest.approx((1.0, 3.0))
    bench.undo.undo()
    assert len(bench.problem.site.walls) == walls


def test_colours_of_a_map_are_offered(bench: Workbench, tmp_path: Path) -> None:
    pixels = np.full((60, 80, 3), 255, dtype=np.uint8)
    pixels[10:14, 5:75] = (168, 69, 43)
    Image.fromarray(pixels).save(tmp_path / "map.png")
    sheet = ImportSheet(bench, tmp_path / "map.png", "frame")
    assert list(sheet.legend) == ["#a8452b"]
    sheet.legend["#a8452b"].setCurrentText("wall")
    assert sheet.report.read == ["map.png: read 1 wall"]
    sheet.keep_it()
    wall = bench.problem.site.walls["map_wall_1"]
    assert np.ptp(np.array(wall.points), axis=0) == pytest.approx([0.70, 0.04], abs=0.011)


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("bad.urdf", "<robot"), ("bad.urdf", '<robot name="r"><link name="a"/></robot>'), ("bad.urdf", '<!DOCTYPE x [<!ENTITY e "x">]><robot name="r"/>'), ("bad.obj", "nothing"),
        ("bad.svg", "<html/>"), ("bad.png", "no picture"), ("bad.stl", ""),
    ],
)  # fmt: skip
def test_what_cannot_be_read_is_said_in_one_line_and_not_kept(
    qtbot: QtBot, bench: Workbench, tmp_path: Path, name: str, text: str
) -> None:
    (tmp_path / name).write_text(text)
    sheet = ImportSheet(bench, tmp_path / name, "frame")
    qtbot.addWidget(sheet)
    settled(qtbot, sheet)
    before = bench.path_of("machines").read_text(), bench.path_of("sites").read_text()
    assert sheet.report is None and not sheet.keep.isEnabled()
    assert sheet.wrong.text() and "\n" not in sheet.wrong.text()
    sheet.keep_it()
    assert (bench.path_of("machines").read_text(), bench.path_of("sites").read_text()) == before


def test_the_sheet_is_worked_with_the_mouse(qtbot: QtBot, folder: Path, tmp_path: Path) -> None:
    for window in opened(qtbot, folder):
        assert isinstance(window, Window)
        window.enter(0)
        sheet = window.station.parts.bring_in(urdf_of("sluice", tmp_path))
        qtbot.addWidget(sheet)
        sheet.show()
        settled(qtbot, sheet)
        keep = next(b for b in sheet.findChildren(QPushButton) if b.text() == "Keep it")
        qtbot.mouseClick(keep, LEFT)
        assert window.bench.task == "my_sluice" and window.bench.trouble == ""
        assert "gate" in window.bench.problem.machine.bodies


def test_the_machine_goes_out_as_urdf_and_what_is_lost_is_named(qtbot: QtBot, folder: Path, tmp_path: Path) -> None:
    for window in opened(qtbot, folder):
        window.bench.choose_task("hover")
        window.enter(0)
        station = window.station
        assert [a.text() for a in station.parts.more.actions() if a.text()][-2:] == ["From a file …", "Write as URDF …"]
        station.parts.write_urdf(tmp_path / "sower.urdf")
        back = read_urdf(tmp_path / "sower.urdf", free=True).machine
        assert sum(body.mass for body in back.bodies.values()) == pytest.approx(7.0)
        assert "cannot say are listed" in window.bench.trouble
        assert "tanks.hopper" in (tmp_path / "sower.urdf").read_text()
        (tmp_path / "blocked").write_text("a file")
        station.parts.write_urdf(tmp_path / "blocked" / "sower.urdf")
        assert "blocked" in station.problem_text.text()


def test_parameters_of_the_machine_are_found_from_a_log_and_taken_over(qtbot: QtBot, tmp_path: Path) -> None:
    folder = copy_demo(tmp_path / "quillmere")
    problem = Project(folder).problem("lift")
    rng = np.random.default_rng(2)
    plant = Plant(problem.model, 1, 0.004)
    problem.model.vary(plant.rows, np.arange(1), "basket.mass", np.array([75.0]))
    plant.settle_drives(np.arange(1))
    lines = ["time,trolley position,cable angle,cable length,push,reel"]
    for k in range(300):
        if k % 20 == 0:
            u = rng.uniform([-300, -0.3], [300, 0.3])
        lines.append(",".join(f"{x:.9g}" for x in (0.02 * k, *(plant.position[0] + 1e-4 * rng.standard_normal(3)), *u)))
        plant.step(u[None].copy(), 5)
    (tmp_path / "log.csv").write_text("\n".join(lines))
    window = Window(folder)
    qtbot.addWidget(window)
    window.show()
    sheet = IdentifySheet(window.bench, tmp_path / "log.csv", window)
    sheet.open()
    qtbot.mouseClick(sheet.start, Qt.MouseButton.LeftButton)
    assert "tick at least one" in sheet.wrong.text() and not sheet.to_machine.isEnabled()
    sheet.boxes["basket.mass"].setChecked(True)
    qtbot.mouseClick(sheet.start, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: sheet.fit is not None and window.bench.job is None, timeout=180_000)
    assert sheet.start.isEnabled() and "held out" not in sheet.wrong.text() and "windows of 0.4 s" in sheet.said.text()
    qtbot.mouseClick(sheet.to_machine, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: abs(window.bench.problem.machine.bodies["basket"].mass - 75.0) < 2.0, timeout=180_000)
    qtbot.mouseClick(sheet.to_task, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(
        lambda: float(window.bench.problem.task.variation["basket.mass"].model_dump()["uniform"][0]) > 60.0,
        timeout=180_000,
    )
    window.bench.undo.undo()
    window.bench.undo.undo()
    assert abs(window.bench.problem.machine.bodies["basket"].mass - 75.0) > 2.0
    wrong = IdentifySheet(window.bench, tmp_path / "none.csv", window)
    wrong.boxes["push.lag"].setChecked(True)
    wrong.run()
    assert "no such file" in wrong.wrong.text()
    window.close()


RIG = """<robot name="probe rig">
 <link name="mast"><inertial><mass value="4"/><inertia ixx="0.1" iyy="0.1" izz="0.05"/></inertial></link>
 <link name="jib"><inertial><mass value="2"/><inertia ixx="0.01" iyy="0.1" izz="0.1"/></inertial></link>
 <link name="car"><inertial><mass value="0.7"/><inertia ixx="0.01" iyy="0.01" izz="0.01"/></inertial></link>
 <joint name="slew" type="continuous"><parent link="mast"/><child link="jib"/><axis xyz="0 0 1"/></joint>
 <joint name="run" type="prismatic"><parent link="jib"/><child link="car"/><axis xyz="1 0 0"/>
  <limit lower="0" upper="0.6" effort="15" velocity="1.2"/><dynamics damping="0.3"/></joint>
</robot>"""


def test_what_is_assumed_is_set_otherwise_before_it_is_kept(qtbot: QtBot, bench: Workbench, tmp_path: Path) -> None:
    (tmp_path / "rig.urdf").write_text(RIG)
    sheet = ImportSheet(bench, tmp_path / "rig.urdf", "")
    qtbot.addWidget(sheet)
    sheet.show()
    settled(qtbot, sheet)
    numbers = ["drives.run.limit", "drives.run.no_load_speed", "drives.slew.limit", "joints.slew.damping"]
    assert list(sheet.assumed) == numbers and sheet.assumed["drives.slew.limit"].text() == "none"

    def typed(key: str, text: str) -> None:
        field = sheet.assumed[key]
        field.setFocus()
        field.selectAll()
        qtbot.keyClicks(field, text)
        qtbot.keyClick(field, Qt.Key.Key_Return)
        settled(qtbot, sheet)

    typed("drives.run.limit", "22 kg")
    assert "wanted N" in sheet.wrong.text() and not sheet.keep.isEnabled()
    assert sheet.assumed["drives.run.limit"].text() == "22 kg"  # stays to be put right
    typed("joints.slew.damping", "0.4 N*m*s/rad")
    typed("drives.run.limit", "22 N")
    typed("drives.slew.limit", "8 N")  # of a hinge
    assert "wanted N*m" in sheet.wrong.text()
    typed("drives.slew.limit", "8 N*m")
    assert not sheet.wrong.text() and sheet.keep.isEnabled() and sheet.isVisible()
    assert sheet.assumed["joints.slew.damping"].text() == "0.4 N*m*s/rad"
    typed("drives.run.no_load_speed", "")  # nothing typed: as it was
    assert sheet.assumed["drives.run.no_load_speed"].text() == "1.2 m/s"
    sheet.keep_it()
    machine = bench.problem.machine
    assert machine.drives["run"].limit == 22.0 and machine.joints["slew"].damping == 0.4
    assert machine.drives["slew"].limit == 8.0 and machine.drives["slew"].joint == "slew"
    assert machine.drives["run"].no_load_speed == 1.2 and machine.joints["run"].damping == 0.3


def test_a_machine_file_of_ours_is_brought_in_as_it_stands(qtbot: QtBot, bench: Workbench, tmp_path: Path) -> None:
    text = (Path(__file__).parents[1] / "task" / "foreign" / "scara.toml").read_text()
    (tmp_path / "picked.toml").write_text(text)
    sheet = ImportSheet(bench, tmp_path / "picked.toml", "")
    qtbot.addWidget(sheet)
    sheet.show()
    settled(qtbot, sheet)
    assert not sheet.wrong.text() and sheet.keep.isEnabled() and not sheet.assumed
    assert not sheet.free.isVisible() and not sheet.takes.isVisible() and sheet.wish.isVisible()
    sheet.keep_it()
    assert bench.task == "picked" and bench.problem.machine.name == "scara"
    assert (bench.project.folder / "machines" / "picked.toml").read_text() == text


@pytest.mark.parametrize(
    ("change", "words"),
    [("drives.run.limit=-3", "must not be negative"), ("drives.rum.limit=3 N", "did you mean drives.run.limit"), ("joints.slew.damping=x", "joints.slew.damping = 'x'")],
)  # fmt: skip
def test_the_command_line_refuses_numbers_that_cannot_stand(
    folder: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str], change: str, words: str
) -> None:
    (tmp_path / "rig.urdf").write_text(RIG)
    assert main(["import", str(tmp_path / "rig.urdf"), "--into", str(folder), "--set", change]) == 2
    said = capsys.readouterr().err
    assert words in said and said.count("\n") == 1 and not (folder / "machines" / "rig.toml").exists()
    assert main(["import", str(tmp_path / "rig.urdf"), "--into", str(folder), "--set", "drives.run.limit=7 N"]) == 0
    assert read_machine(folder / "machines" / "rig.toml").drives["run"].limit == 7.0
