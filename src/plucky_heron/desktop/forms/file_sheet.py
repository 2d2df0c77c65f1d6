"""Everything that stands in a file, entry by entry, beside what each key means: what no card or drawing shows is changed here.

It works on the same documents as the stations: each change is checked, written and can be undone.
"""

from __future__ import annotations

import re
from typing import Any

from pydantic import BaseModel
from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QInputDialog,
    QLineEdit,
    QMenu,
    QPushButton,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from plucky_heron.desktop.bench.documents import put
from plucky_heron.desktop.bench.parts import rename_entry
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.inertia_rows import InertiaRows
from plucky_heron.desktop.forms.new_entry import NewEntry
from plucky_heron.desktop.forms.schema import Spec, kinds_of, specs_of, variant_of
from plucky_heron.desktop.forms.schema_form import Path, SchemaForm
from plucky_heron.desktop.forms.widgets import Card, button, label, scrolled
from plucky_heron.dynamics.mass import solid
from plucky_heron.errors import HeronError
from plucky_heron.machine import editing
from plucky_heron.machine.schema import Body, Machine
from plucky_heron.machine.site import Site
from plucky_heron.task.schema import Task
from plucky_heron.training.recipe import Recipe
from plucky_heron.units import parse

SCHEMAS: dict[str, type[BaseModel]] = {"machines": Machine, "sites": Site, "tasks": Task, "recipes": Recipe}
TITLES = {"machines": "Machine", "sites": "Site", "tasks": "Task", "recipes": "Recipe"}


class FileSheet(QDialog):
    """The sheet of one file: its entries at the left, the chosen one's keys at the right."""

    def __init__(self, bench: Workbench, kind: str, at: Path = (), parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.bench, self.kind, self.at = bench, kind, at
        self.pending: dict[Path, Any] = {}
        """Values that cannot stand alone yet, such as the first of two that belong together."""
        self.form: SchemaForm | None = None
        self.setWindowTitle(f"{TITLES[kind]} {bench.path_of(kind).stem}: everything in it")
        self.resize(940, 660)
        self.setMinimumSize(680, 460)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(14, 12, 14, 12)
        layout.setSpacing(12)
        left = QVBoxLayout()
        self.tree = QTreeWidget()
        self.tree.setHeaderHidden(True)
        self.tree.setAccessibleName("entries of the file")
        self.tree.setMinimumWidth(230)
        self.tree.currentItemChanged.connect(lambda now, _: self._chosen(now))
        left.addWidget(self.tree, 1)
        row = QHBoxLayout()
        self.add = QPushButton("Add")
        self.add.setAutoDefault(False)
        self.add.setAccessibleName("add an entry")
        self.add.setMenu(QMenu(self.add))
        self.add.menu().aboutToShow.connect(self._fill_menu)
        self.rename = button("Rename", self._ask_rename)
        self.remove = button("Remove", self.remove_it)
        for made in (self.add, self.rename, self.remove):
            row.addWidget(made)
        left.addLayout(row)
        layout.addLayout(left, 2)
        self.card = Card("everything", "")
        self.place = QVBoxLayout()
        self.card.body.addLayout(self.place, 1)
        self.says = label(" ", "soft", wrap=True)
        self.says.setMinimumHeight(34)
        self.card.body.addWidget(self.says)
        self.wrong = label("", "wrong", wrap=True)
        self.wrong.hide()
        self.card.body.addWidget(self.wrong)
        foot = QHBoxLayout()
        foot.addStretch(1)
        foot.addWidget(button("Done", self.accept, "primary"))
        self.card.body.addLayout(foot)
        layout.addWidget(self.card, 5)
        QShortcut(QKeySequence("Ctrl+Z"), self, bench.undo.undo)
        QShortcut(QKeySequence("Ctrl+Shift+Z"), self, bench.undo.redo)
        bench.problem_changed.connect(self.refresh)
        self.finished.connect(lambda _: bench.problem_changed.disconnect(self.refresh))
        self.refresh()

    # --- entries -------------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Read the file again; what was chosen stays chosen, and so does the key with the focus."""
        focus = next(
            (
                p
                for p, e in (self.form.editors if self.form else {}).items()
                if e.hasFocus() or e.isAncestorOf(self.focusWidget() or self)
            ),
            None,
        )
        document = self.bench.document(self.kind)
        self.tree.blockSignals(True)
        self.tree.clear()
        root = QTreeWidgetItem([TITLES[self.kind]])
        root.setData(0, Qt.ItemDataRole.UserRole, ())
        self.tree.addTopLevelItem(root)
        self._branch(root, SCHEMAS[self.kind], document, ())
        root.setExpanded(True)
        chosen = self._item(self.at) or root
        self.at = chosen.data(0, Qt.ItemDataRole.UserRole)
        above: QTreeWidgetItem | None = chosen.parent()
        while above is not None:
            above.setExpanded(True)
            above = above.parent()
        self.tree.blockSignals(False)
        self.tree.setCurrentItem(chosen)
        self._show(self.at)
        if focus is not None and self.form is not None and focus in self.form.editors:
            self.form.editors[focus].setFocus()

    def _branch(self, item: QTreeWidgetItem, model: type[BaseModel], values: dict[str, Any], path: Path) -> None:
        for spec in specs_of(model):
            if spec.kind not in ("list", "table"):
                continue
            entries = values.get(spec.key) or ({} if spec.kind == "table" else [])
            branch = QTreeWidgetItem([f"{spec.key.replace('_', ' ')}, {len(entries)}"])
            branch.setData(0, Qt.ItemDataRole.UserRole, (*path, spec.key))
            item.addChild(branch)
            pairs = entries.items() if isinstance(entries, dict) else enumerate(entries)
            for key, value in pairs:
                leaf = QTreeWidgetItem([_name(key, value)])
                leaf.setData(0, Qt.ItemDataRole.UserRole, (*path, spec.key, key))
                branch.addChild(leaf)
                inner = variant_of(spec, value)
                if inner is not None and isinstance(value, dict):
                    self._branch(leaf, inner, value, (*path, spec.key, key))

    def _item(self, path: Path) -> QTreeWidgetItem | None:
        def within(item: QTreeWidgetItem) -> QTreeWidgetItem | None:
            if tuple(item.data(0, Qt.ItemDataRole.UserRole)) == tuple(path):
                return item
            for k in range(item.childCount()):
                if (found := within(item.child(k))) is not None:
                    return found
            return None

        top = self.tree.topLevelItem(0)
        return within(top) if top is not None else None

    def go(self, path: Path) -> None:
        """Choose an entry."""
        item = self._item(path)
        if item is not None:
            self.tree.setCurrentItem(item)

    def _chosen(self, item: QTreeWidgetItem | None) -> None:
        if item is not None:
            self.at = tuple(item.data(0, Qt.ItemDataRole.UserRole))
            self.pending = {}
            self._say("")
            self._show(self.at)

    def schema_at(self, path: Path) -> tuple[type[BaseModel] | None, Spec | None, Any]:
        """Schema and value of an entry, or what a branch of entries is of."""
        model: type[BaseModel] | None = SCHEMAS[self.kind]
        value: Any = self.bench.document(self.kind)
        spec: Spec | None = None
        for k, part in enumerate(path):
            if k % 2 == 0:
                spec = next((s for s in specs_of(model) if s.key == part), None) if model is not None else None
                value = value.get(part, {}) if isinstance(value, dict) else {}
                model = None
            else:
                value = value[part] if isinstance(value, list) and isinstance(part, int) and part < len(value) else value.get(part) if isinstance(value, dict) else None  # fmt: skip
                model = variant_of(spec, value) if spec is not None else None
        return model, spec, value

    # --- the form ------------------------------------------------------------------------------------------------------

    def _show(self, path: Path) -> None:
        while (item := self.place.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.hide()
                widget.deleteLater()
        self.form = None
        model, spec, value = self.schema_at(path)
        branch = len(path) % 2 == 1
        self.rename.setEnabled(bool(path) and not branch and isinstance(path[-1], str))
        self.remove.setEnabled(bool(path) and not branch)
        self.card.caption.setText((str(path[-1]).replace("_", " ") if path else TITLES[self.kind]).upper())
        self.card.note.setText(" · ".join(str(p) for p in path[:-1]))
        if model is None or branch:
            says = spec.says if spec is not None else ""
            self.place.addWidget(label(says or "Add one with the button at the left.", "soft", wrap=True))
            self.place.addStretch(1)
            return
        if model is Body:
            self.place.addWidget(self._mass_row())
            self._add_inertia(str(path[-1]))
        values = value if isinstance(value, dict) else {"fixed": value} if value is not None else {}
        self.form = SchemaForm(model, values, NewEntry(self.bench, self.kind, self.at).options)
        self.form.edited.connect(self._edited)
        self.form.told.connect(lambda text: self.says.setText(text or " "))
        self.place.addWidget(scrolled(self.form), 1)

    def _mass_row(self) -> QWidget:
        """Mass properties from the body's shapes."""
        whole = QWidget()
        row = QHBoxLayout(whole)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(6)
        row.addWidget(label("as solid shapes of", "soft"))
        self.solid = QLineEdit()
        self.solid.setAccessibleName("mass or density of its shapes")
        self.solid.setPlaceholderText("12 kg, or 2700 kg/m**3")
        self.solid.returnPressed.connect(self.fill_solid)
        row.addWidget(self.solid, 1)
        row.addWidget(button("Work out", self.fill_solid, name="work out mass, centre and inertia"))
        return whole

    def _add_inertia(self, name: str) -> None:
        """The inertia as a whole, as far as the file can be read."""
        body = self.bench.problem.machine.bodies.get(name) if self.bench.problem is not None else None
        if body is None:
            return
        self.inertia = InertiaRows(body)
        self.inertia.edited.connect(lambda inertia: self._edited(("inertia",), inertia))
        self.inertia.wrong.connect(self._say)
        self.place.addWidget(self.inertia)

    def fill_solid(self) -> None:
        """Mass, centre and inertia of the chosen body, as if its shapes were filled evenly with a mass or by a density."""
        problem, body = self.bench.problem, str(self.at[-1])
        if problem is None:
            return
        text = self.solid.text().strip()
        try:
            given: dict[str, float] = (
                {"density": parse(text, "kg/m**3")} if "/" in text else {"mass": parse(text, "kg")}
            )
            mass, centre, inertia = solid(problem.machine.bodies[body].shapes, **given)
        except HeronError as error:
            self._say(str(error))
            return

        def change(document: Any) -> None:
            part = document["bodies"][body]
            part["mass"] = f"{mass:.6g} kg"
            part["centre"] = [f"{v + 0.0:.6g} m" for v in centre]
            part["inertia"] = [f"{v + 0.0:.6g} kg*m**2" for v in inertia]

        self._say(self.bench.rewrite("machines", change, f"mass properties of {body}"))

    def _edited(self, path: Path, value: Any) -> None:
        """Put a value in, with those that waited for it."""
        changes = {**self.pending, (*self.at, *path): value}
        words = " ".join(str(part) for part in (*self.at, *path)[-2:])

        def change(document: Any) -> None:
            for key, new in changes.items():
                _open_groups(document, key)
                put(document, key, new)

        wrong = self.bench.rewrite(self.kind, change, words)
        self.pending = changes if wrong else {}
        self._say(wrong)

    # --- adding, renaming, removing --------------------------------------------------------------------------------------

    def _fill_menu(self) -> None:
        menu = self.add.menu()
        menu.clear()
        for path, spec in self._branches():
            variants = [(model, kind) for model in (spec.variants or ((spec.inner,) if spec.inner else ())) for kind in (kinds_of(model) or ("",))]  # fmt: skip
            word = str(path[-1]).rstrip("s").replace("_", " ") if path[-1] != "bodies" else "body"
            if len(variants) > 1:
                inner = menu.addMenu(word)
                for model, kind in variants:
                    inner.addAction(kind, lambda p=path, m=model, k=kind: self.add_one(p, m, k))
            elif variants:
                menu.addAction(word, lambda p=path, m=variants[0][0]: self.add_one(p, m, ""))

    def _branches(self) -> list[tuple[Path, Spec]]:
        """Where an entry may be added: in the chosen entry, and in the whole file."""
        found: list[tuple[Path, Spec]] = []
        for path in {self.at if len(self.at) % 2 == 0 else self.at[:-1], ()}:
            model, _, _ = self.schema_at(path)
            if model is not None:
                found += [
                    ((*path, s.key), s) for s in specs_of(model) if s.kind in ("list", "table") and s.key != "joints"
                ]
        return sorted(found, key=lambda pair: -len(pair[0]))

    def add_one(self, path: Path, model: type[BaseModel], kind: str, name: str = "") -> str:
        """Add an entry with what it must have; returns what is wrong, or nothing."""
        _, spec, value = self.schema_at(path)
        if self.kind == "machines" and path == ("bodies",):
            return self._add_body()
        new = NewEntry(self.bench, self.kind, self.at)
        entry = new.template(model, kind)
        if spec is not None and spec.kind == "list":
            key: str | int = len(value) if isinstance(value, list) else 0
        else:
            taken = value if isinstance(value, dict) else {}
            stem = name or new.name(str(path[-1]), kind)
            key = next(n for n in (stem, *(f"{stem}_{k}" for k in range(2, 999))) if n not in taken)

        def change(document: Any) -> None:
            _open_groups(document, (*path, key))
            put(document, (*path, key), entry)

        wrong = self.bench.rewrite(self.kind, change, f"new {kind or path[-1]}")
        self._say(wrong)
        if not wrong:
            self.refresh()
            self.go((*path, key))
        return wrong

    def _add_body(self) -> str:
        """A body comes with the joint that carries it."""
        assert self.bench.problem is not None, "a sheet is of something that can be read"
        machine, made = self.bench.problem.machine, []
        parent = str(self.at[1]) if self.at[:1] == ("bodies",) and len(self.at) > 1 else next(iter(machine.bodies), "")
        wrong = self.bench.rewrite("machines", lambda d: made.append(editing.add_body(d, machine, parent)), "new body")
        self._say(wrong)
        if not wrong:
            self.refresh()
            self.go(("bodies", made[0]))
        return wrong

    def _ask_rename(self) -> None:
        name, given = QInputDialog.getText(self, "Rename", "another name for it", text=str(self.at[-1]))
        if given:
            self.rename_to(name.strip())

    def rename_to(self, new: str) -> str:
        """Another name for the chosen entry, wherever the project names it; returns what is wrong, or nothing."""
        section, old, above = self.at[0], str(self.at[-1]), self.at[:-1]
        if not re.fullmatch(r"[A-Za-z][\w .-]{0,59}", new):
            wrong = f"{new!r} is no name; wanted letters, digits and _, beginning with a letter"
        else:
            wrong = rename_entry(self.bench, self.kind, str(section), old, new)
        self._say(wrong)
        if not wrong:
            self.at = (*above, new)
            self.refresh()
        return wrong

    def remove_it(self) -> None:
        """Take the chosen entry out."""
        path, problem = self.at, self.bench.problem
        if self.kind == "machines" and len(path) == 2 and problem is not None:
            wrong = self.bench.rewrite("machines", lambda d: editing.remove(d, problem.machine, str(path[0]), str(path[1])), f"without {path[1]}")  # fmt: skip
        else:
            wrong = self.bench.rewrite(self.kind, lambda d: put(d, path, None), f"without {path[-1]}")
        self._say(wrong)
        if not wrong:
            self.at = path[:-1]
            self.refresh()

    def _say(self, wrong: str) -> None:
        self.wrong.setText(wrong)
        self.wrong.setVisible(bool(wrong))


def _open_groups(document: Any, path: Path) -> None:
    """A value that stands for a whole group, such as a fixed draw, becomes the group."""
    at = document
    for k, part in enumerate(path[:-1]):
        if isinstance(at, dict) and isinstance(part, str) and part in at and not isinstance(at[part], dict | list):
            at[part] = {"fixed": at[part]}
        if isinstance(at, dict) and isinstance(part, str) and part not in at:
            if isinstance(path[k + 1], int):
                at[part] = []
            else:
                return
        at = at[part]


def _name(key: str | int, value: Any) -> str:
    if isinstance(key, str):
        return key
    told = (value.get("name") or value.get("kind")) if isinstance(value, dict) else None
    return f"{told}" if told else f"{key + 1}"
