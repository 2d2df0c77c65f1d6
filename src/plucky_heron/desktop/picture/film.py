"""A short video of an episode: the drawing above, the strip recorder below, by the same painters as in the window."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
from PySide6.QtCore import QSize
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QVBoxLayout, QWidget

from plucky_heron.desktop.bench.playback import Playback
from plucky_heron.desktop.charts.strip_recorder import StripChart
from plucky_heron.desktop.forms.widgets import label
from plucky_heron.desktop.picture.drawing import Drawing
from plucky_heron.desktop.theme import theme
from plucky_heron.errors import FileError
from plucky_heron.simulation.trials import Recording
from plucky_heron.task.problem import Problem

Array = np.ndarray
RATE = 25
"""Pictures a second."""
KINDS = {
    ".webm": ("libvpx-vp9", {"crf": "32", "b": "0", "deadline": "realtime", "cpu-used": "8"}),
    ".mp4": ("libx264", {"crf": "23", "preset": "veryfast"}),
}
"""What the ending of the name asks for, and how it is encoded."""
SIZE = (960, 720)


class FilmStage(QWidget):
    """What is filmed: a line of words, the drawing, the strip recorder."""

    def __init__(
        self, problem: Problem, recording: Recording, ghosts: tuple[Recording, ...], caption: str, size: tuple[int, int]
    ) -> None:
        super().__init__()
        self.playback = Playback(self)
        self.drawing, self.strip = Drawing(self.playback), StripChart(self.playback)
        body = QVBoxLayout(self)
        body.setContentsMargins(8, 6, 8, 4)
        body.addWidget(label(caption, "strong"))
        body.addWidget(self.drawing, 68)
        body.addWidget(self.strip, 32)
        self.setStyleSheet(f"FilmStage {{ background: {theme().card}; }}")
        self.resize(*size)
        body.activate()
        self.playback.load(problem, recording, caption, ghosts)

    def picture(self, index: int) -> Array:
        """The stage at a sample, (height, width, 3) of bytes."""
        self.playback.seek(index)
        image = QImage(QSize(self.width(), self.height()), QImage.Format.Format_RGB888)
        image.fill(theme().color("card"))
        self.render(image)
        rows = np.frombuffer(image.constBits(), dtype=np.uint8).reshape(image.height(), image.bytesPerLine())
        return rows[:, : 3 * image.width()].reshape(image.height(), image.width(), 3).copy()


def samples_of(steps: int, sample_time: float, speed: float = 1.0) -> list[int]:
    """The sample that each picture shows, in real time at `speed` 1; the last stands for half a second."""
    count = max(1, round(steps * sample_time / speed * RATE))
    return [min(steps, round(k / RATE * speed / sample_time)) for k in range(count + 1)] + [steps] * (RATE // 2)


def film(
    problem: Problem,
    recording: Recording,
    path: Path,
    *,
    ghosts: tuple[Recording, ...] = (),
    caption: str = "",
    size: tuple[int, int] = SIZE,
    speed: float = 1.0,
    tell: Callable[[float], bool] = lambda share: True,
) -> int:
    """Write an episode as a video; returns its pictures. Needs the application, but no window and no display.

    Parameters
    ----------
    path
        ``.webm`` (VP9) or ``.mp4`` (H.264); what stands there is replaced once the new one is whole.
    tell
        Called with the share that is done; answers False to stop, and then nothing is written.

    Raises
    ------
    FileError
        Another ending, or the file cannot be written.
    """
    if path.suffix.lower() not in KINDS:
        raise FileError(path, "", path.suffix, f"a video ends with {' or '.join(KINDS)}")
    codec, options = KINDS[path.suffix.lower()]
    stage = FilmStage(problem, recording, ghosts, caption, (size[0] // 2 * 2, size[1] // 2 * 2))
    samples = samples_of(recording.steps, recording.sample_time, speed)
    part = path.with_name(f".{path.stem}-part{path.suffix}")
    try:
        with av.open(str(part), "w") as out:
            stream = out.add_stream(codec, rate=RATE, options=options)
            assert isinstance(stream, av.VideoStream)
            stream.width, stream.height, stream.pix_fmt = stage.width(), stage.height(), "yuv420p"
            stream.time_base = Fraction(1, RATE)
            before, shown = -1, None
            for k, index in enumerate(samples):
                if not tell(k / len(samples)):
                    return 0
                if index != before or shown is None:
                    shown, before = stage.picture(index), index
                frame = av.VideoFrame.from_ndarray(shown, format="rgb24")
                frame.pts = k
                out.mux(stream.encode(frame))
            out.mux(stream.encode(None))
        os.replace(part, path)
    except (OSError, av.FFmpegError) as error:
        raise FileError(path, "", None, f"cannot be written: {error}") from error
    finally:
        with contextlib.suppress(OSError):  # what stands in its way is said above
            part.unlink()
        stage.deleteLater()
    return len(samples)
