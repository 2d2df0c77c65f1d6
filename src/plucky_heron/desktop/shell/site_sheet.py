"""The sheet of a site: everything in its file, beside a drawing on which its points are dragged and set."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from plucky_heron.desktop.bench.documents import put
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.file_sheet import FileSheet
from plucky_heron.desktop.forms.schema_form import Path
from plucky_heron.desktop.forms.widgets import bare_card, button, label
from plucky_heron.desktop.picture.site_drawing import SiteDrawing, SitePoint

Array = np.ndarray


class SiteSheet(FileSheet):
    """A file's sheet with a drawing."""

    def __init__(self, bench: Workbench, at: Path = (), parent: QWidget | None = None) -> None:
        self.drawing = SiteDrawing()
        super().__init__(bench, "sites", at, parent)
        self.resize(1180, 680)
        self.setMinimumSize(900, 460)
        self.drawing.moved.connect(self._moved)
        self.drawing.chosen.connect(self._point_chosen)
        self.drawing.set_down.connect(self._set_down)
        self.drawing.removed.connect(self._removed)
        right = QVBoxLayout()
        right.addWidget(bare_card(self.drawing, "drawing"), 1)
        row = QHBoxLayout()
        row.addWidget(button("Turn the view", self.drawing.next_view, "", "turn the view of the drawing"))
        self.does = label("", "soft", wrap=True)
        row.addWidget(self.does, 1)
        right.addLayout(row)
        layout = self.layout()
        assert isinstance(layout, QHBoxLayout)
        layout.addLayout(right, 5)
        self._say_what()

    def refresh(self) -> None:
        """Also the drawing."""
        super().refresh()
        if self.bench.problem is not None:
            self.drawing.set_problem(self.bench.problem)

    def _show(self, path: Path) -> None:
        super()._show(path)
        self.drawing.at = tuple(path)
        self._say_what()
        self.drawing.update()

    def _say_what(self) -> None:
        if not hasattr(self, "does"):
            return
        kind = str(self.at[0]) if self.at else ""
        name = str(self.at[1]) if len(self.at) > 1 else ""
        words = {
            "walls": f"double-click: a point more of {name}",
            "courses": f"double-click: a point more of {name}; with Shift: a gate",
        }
        more = words.get(kind, "") if name else "double-click: a mark"
        self.does.setText("; ".join(x for x in ("drag a point, or arrow keys; Delete takes it away", more) if x))

    def _moved(self, point: SitePoint, numbers: list[str]) -> None:
        def change(document: Any) -> None:
            *above, last = point.key
            if isinstance(last, int):
                values = _points(document, tuple(above))
                values[last] = numbers
                put(document, tuple(above), values)
            else:
                put(document, point.key, numbers)

        self._say(self.bench.rewrite("sites", change, f"{point.words} moved"))

    def _removed(self, point: SitePoint) -> None:
        """Take a point away; of a solid, all of it."""

        def change(document: Any) -> None:
            *above, last = point.key
            if isinstance(last, int):
                values = _points(document, tuple(above))
                put(document, tuple(above), values[:last] + values[last + 1 :])
            else:
                put(document, point.key[:2], None)

        self._say(self.bench.rewrite("sites", change, f"{point.words} removed"))

    def _point_chosen(self, point: SitePoint) -> None:
        self.go(point.entry)

    def _set_down(self, place: Array, gate: bool) -> None:
        """A point more of the chosen wall or course, a gate of it, or a mark."""
        site = self.bench.problem.site if self.bench.problem is not None else None
        numbers = [f"{v + 0.0:.6g} m" for v in place]
        if site is not None and len(self.at) > 1 and self.at[0] in ("walls", "courses") and self.drawing.view == "top":
            key = (*self.at[:2], "gates" if gate and self.at[0] == "courses" else "points")
            words = f"a {'gate' if key[-1] == 'gates' else 'point'} more of {self.at[1]}"

            def change(document: Any) -> None:
                put(document, key, [*_points(document, key), numbers[:2]])

            self._say(self.bench.rewrite("sites", change, words))
            return
        taken = site.marks if site is not None else {}
        name = next(n for n in ("mark", *(f"mark_{k}" for k in range(2, 9999))) if n not in taken)
        self._say(self.bench.rewrite("sites", lambda d: put(d, ("marks", name), numbers), f"new mark {name}"))
        self.go(())


def _points(document: Any, key: Path) -> list[Any]:
    """The points that stand in a document, as plain lists."""
    at = document
    for part in key:
        at = at.get(part, []) if isinstance(part, str) else at[part]
    return [list(point) for point in at]


__all__ = ["SiteSheet"]
