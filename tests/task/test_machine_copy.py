"""A machine file of ours that comes from elsewhere: as it stands, with its meshes, a site that suits it and a task."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest

from plucky_heron.cli.main import main
from plucky_heron.errors import FileError
from plucky_heron.project import Project, create, empty_project
from plucky_heron.task.machine_copy import machine_from_file

FOREIGN = Path(__file__).parent / "foreign"
CORNERS = "v 0 0 0\nv 0.2 0 0\nv 0 0.1 0\nv 0 0 0.1\nv 0.2 0.1 0.1\nf 1 2 3\nf 1 2 4\nf 2 3 5\n"


@pytest.fixture
def with_mesh(tmp_path: Path) -> Path:
    """A rotor whose vane is a mesh beside it."""
    folder = tmp_path / "elsewhere"
    (folder / "parts").mkdir(parents=True)
    (folder / "parts" / "vane.obj").write_text(CORNERS)
    path = folder / "my vane.toml"
    path.write_text(
        '# made by hand\nformat = 2\nname = "vane"\n[bodies.vane]\nmass = "2 kg"\ncentre = ["0.1 m", "0 m", "0 m"]\n'
        'inertia = ["0.01 kg*m**2", "0.02 kg*m**2", "0.02 kg*m**2"]\nshapes = [{ kind = "hull", file = "parts/vane.obj" }]\n'
        '[joints.pivot]\nkind = "hinge"\nchild = "vane"\naxis = [0, 0, 1]\norigin = ["0 m", "0 m", "1 m"]\nlimits = ["-2 rad", "2 rad"]\n'
        '[drives.pivot]\nkind = "effort"\njoint = "pivot"\nlimit = "2 N*m"\n'
    )
    return path


def test_it_comes_as_it_stands_with_its_meshes_and_can_be_trained(with_mesh: Path, tmp_path: Path) -> None:
    project = create(tmp_path / "cell", str(with_mesh), "hold a pose")
    assert (project.folder / "machines" / "my_vane.toml").read_text() == with_mesh.read_text()
    assert (project.folder / "machines" / "parts" / "vane.obj").read_text() == CORNERS
    problem = project.problem("hold_a_pose")
    assert len(problem.machine.bodies["vane"].shapes[0].points) == 5
    assert problem.task.site == "my_vane_place" and problem.site.terrain is None


def test_a_mesh_behind_a_link_comes_under_the_name_it_has(with_mesh: Path, tmp_path: Path) -> None:
    (with_mesh.parent / "parts" / "vane.obj").rename(with_mesh.parent / "vane_v3.obj")
    (with_mesh.parent / "parts" / "vane.obj").symlink_to("../vane_v3.obj")
    project = create(tmp_path / "cell", str(with_mesh))
    mesh = project.folder / "machines" / "parts" / "vane.obj"
    assert mesh.read_text() == CORNERS and not mesh.is_symlink()
    assert len(project.problem("my_vane").machine.bodies["vane"].shapes[0].points) == 5


@pytest.mark.parametrize(("name", "key"), [("rov", "water_level"), ("lorry", "terrain"), ("scara", "")])
def test_its_site_suits_it_and_its_first_task_shows_it(name: str, key: str, tmp_path: Path) -> None:
    project = create(tmp_path / "cell", str(FOREIGN / f"{name}.toml"))
    site = (project.folder / "sites" / f"{name}_place.toml").read_text()
    assert {word for word in ("water_level", "terrain") if word in site} == ({key} if key else set())
    assert project.problem(project.tasks()[0]).machine.name == name


def test_a_second_one_of_its_name_is_refused_and_nothing_is_written(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:  # fmt: skip
    project = create(tmp_path / "cell", str(FOREIGN / "scara.toml"))
    before = sorted(project.folder.rglob("*"))
    assert main(["import", str(FOREIGN / "scara.toml"), "--into", str(project.folder)]) == 2
    assert "machine = 'scara': is there already" in capsys.readouterr().err
    assert sorted(project.folder.rglob("*")) == before
    assert main(["import", str(FOREIGN / "scara.toml"), "--into", str(project.folder), "--name", "second"]) == 0
    assert project.problem("second").task.machine == "second"


def test_a_mesh_above_its_folder_is_refused(with_mesh: Path, tmp_path: Path) -> None:
    (tmp_path / "project.toml").write_text('format = 2\nname = "all"\n')
    (tmp_path / "vane.obj").write_text(CORNERS)
    with_mesh.write_text(with_mesh.read_text().replace("parts/vane.obj", "../vane.obj"))
    with pytest.raises(FileError, match="put it beside the machine file"):
        machine_from_file(with_mesh)
    (tmp_path / "project.toml").unlink()  # without one its own folder is all that it may read
    with pytest.raises(FileError, match="leads out of the project folder"):
        machine_from_file(with_mesh)


@pytest.mark.parametrize("option", [["--free"], ["--drives", "speed"], ["--set", "drives.pivot.limit=3 N*m"]])
def test_what_is_assumed_of_urdfs_is_not_asked_of_it(option: list[str], with_mesh: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:  # fmt: skip
    project = empty_project(tmp_path / "cell")
    assert main(["import", str(with_mesh), "--into", str(project.folder), *option]) == 2
    assert f"{option[0]}: is for URDFs" in capsys.readouterr().err


def test_a_wish_in_a_project_without_a_site_writes_one(tmp_path: Path) -> None:
    project = empty_project(tmp_path / "bare")
    (project.folder / "machines").mkdir()
    shutil.copy(FOREIGN / "rov.toml", project.folder / "machines" / "rov.toml")
    assert [o.name for o in project.wishes("rov") if not o.unfit]
    assert not (project.folder / "sites").exists(), "looking writes nothing"
    made = project.write_wish("rov", "reach a place")
    assert project.sites() == ["water"] and project.problem(made.task).task.site == "water"
    assert Project(project.folder).site_of("rov") == "water"
