"""Films of episodes: real time, whole or not at all, from the window and the command line."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import av
import numpy as np
import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot

from plucky_heron.cli.main import main
from plucky_heron.desktop.picture.film import RATE, film, samples_of
from plucky_heron.desktop.stations.training.film_sheet import FilmSheet
from plucky_heron.desktop.window import Window
from plucky_heron.errors import FileError
from plucky_heron.project import Project
from plucky_heron.runs.looking import kept_episodes
from plucky_heron.runs.store import RunRow


def pictures(path: Path) -> tuple[str, list[np.ndarray]]:
    """The codec and all pictures of a video."""
    with av.open(str(path)) as video:
        return video.streams.video[0].codec.name, [f.to_ndarray(format="rgb24") for f in video.decode(video=0)]


def test_samples_are_shown_at_their_time() -> None:
    for sample_time, steps, speed in (
        (0.02, 600, 1.0),
        (0.05, 77, 1.0),
        (0.02, 601, 4.0),
        (0.001, 40, 0.05),
        (0.02, 1, 1.0),
    ):
        samples = samples_of(steps, sample_time, speed)
        assert samples[0] == 0 and samples[-1] == steps
        for k, index in enumerate(samples[: -(RATE // 2) - 1]):
            assert abs(index * sample_time - k / RATE * speed) <= 0.5 * sample_time + 1e-9


@pytest.mark.parametrize(("name", "codec"), [("film.webm", "vp9"), ("film.mp4", "h264")])
def test_a_film_lasts_as_long_as_its_episode_and_moves(
    qtbot: QtBot, trained: tuple[Project, RunRow], tmp_path: Path, name: str, codec: str
) -> None:
    project, row = trained
    problem, (shown, ghost) = kept_episodes(project.folder, row, "best", 2)
    path = tmp_path / name
    count = film(problem, shown, path, ghosts=(ghost,), caption="as learned", size=(481, 321), speed=4.0)
    found, frames = pictures(path)
    assert found == codec and len(frames) == count and frames[0].shape == (320, 480, 3)
    assert abs(count / RATE - 0.5 - shown.steps * shown.sample_time / 4.0) < 0.1
    moved = np.abs(frames[0].astype(int) - frames[len(frames) // 2].astype(int)).max(axis=2) > 60
    assert 20 < moved.sum() < 0.2 * moved.size  # the machine and the hand, not the whole picture
    assert list(tmp_path.iterdir()) == [path]


def test_a_film_that_is_stopped_leaves_what_was_there(
    qtbot: QtBot, trained: tuple[Project, RunRow], tmp_path: Path
) -> None:
    project, row = trained
    problem, (shown,) = kept_episodes(project.folder, row, "best", 1)
    path = tmp_path / "film.webm"
    path.write_bytes(b"an older film")
    assert film(problem, shown, path, size=(320, 240), speed=8.0, tell=lambda share: share < 0.3) == 0
    assert path.read_bytes() == b"an older film" and list(tmp_path.iterdir()) == [path]
    with pytest.raises(FileError, match=r"ends with \.webm or \.mp4"):
        film(problem, shown, tmp_path / "film.avi")
    with pytest.raises(FileError, match="cannot be written"):
        film(problem, shown, tmp_path / "nowhere" / "film.webm")


@pytest.mark.alone  # films have the lowest priority: beside other tests they would wait for long
def test_films_of_chosen_policies_are_made_behind_the_window(
    qtbot: QtBot, trained: tuple[Project, RunRow], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    folder = tmp_path / "quillmere"
    shutil.copytree(trained[0].folder, folder)
    window = Window(folder)
    qtbot.addWidget(window)
    window.show()
    window.enter(3)
    watching = window.station.watching
    qtbot.waitUntil(watching.film.isEnabled, timeout=180_000)
    qtbot.mouseClick(watching.film, Qt.MouseButton.LeftButton)
    sheet = watching.sheet
    assert isinstance(sheet, FilmSheet) and sheet._chosen() == ["best"]
    sheet.boxes[0][1].setChecked(False)
    assert not sheet.make.isEnabled()
    for _, box in sheet.boxes[:2]:
        box.setChecked(True)
    assert sheet.make.text() == "Film 2"
    sheet.boxes[1][1].setChecked(False)
    sheet.speed.setCurrentIndex(sheet.speed.findData(4.0))
    qtbot.mouseClick(sheet.make, Qt.MouseButton.LeftButton)
    assert window.bench.job is not None
    qtbot.waitUntil(lambda: window.bench.job is None, timeout=340_000)
    films = folder / "runs" / f"{trained[1].id:04d}" / "films"
    assert watching.film.text() == "Film … (1)"
    assert sorted(p.name for p in films.iterdir()) == ["best.webm"] and not window.bench.trouble
    window.close()
    given = ["film", "1@best", "--out", str(tmp_path / "one.mp4"), "--speed", "20", "--project", str(folder), "--json"]
    assert main(given) == 0
    answer = json.loads(capsys.readouterr().out)
    assert answer["policy"] == "best" and answer["pictures"] == len(pictures(tmp_path / "one.mp4")[1])
    assert Project(folder).film(1, tmp_path / "three.webm", "last", speed=40.0) == len(
        pictures(tmp_path / "three.webm")[1]
    )
    assert main(["film", "1@7", "--out", str(tmp_path / "two.mp4"), "--project", str(folder)]) == 2
    assert "keeps best" in capsys.readouterr().err and not (tmp_path / "two.mp4").exists()
