"""How an ended run goes on: with more steps, or as the start of a new batch."""

from __future__ import annotations

from PySide6.QtWidgets import QDialog, QHBoxLayout, QVBoxLayout, QWidget

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.widgets import Choice, QuantityField, button, label, rule
from plucky_heron.errors import HeronError
from plucky_heron.runs import launch
from plucky_heron.runs.store import RunRow, run_folder
from plucky_heron.training.fitting import fit
from plucky_heron.training.keeping import milestones_of
from plucky_heron.training.stopping import BY_HAND, show_steps


class GoOnSheet(QDialog):
    """The sheet."""

    def __init__(self, bench: Workbench, row: RunRow, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.bench, self.row = bench, row
        self.setWindowTitle(f"Run {row.id} goes on")
        self.setMinimumWidth(460)
        body = QVBoxLayout(self)
        body.setContentsMargins(16, 14, 16, 14)
        body.setSpacing(8)
        recipe = bench.recipe_of(row)
        ended = f"Run {row.id}, seed {row.seed}, ended at {show_steps(row.steps)} steps: {row.stop_text or row.state}."
        body.addWidget(label(ended, wrap=True))
        self.steps = QuantityField("", "steps in all")
        stopped = row.stop_rule == BY_HAND and row.budget > row.steps
        self.steps.show_value(float(row.budget if stopped else max(2 * row.steps, 1000)))
        self.further = button("Go on", self.go_on, "primary")
        line = QHBoxLayout()
        line.addWidget(label("up to"))
        line.addWidget(self.steps)
        line.addWidget(label("steps in all", "soft"))
        line.addStretch(1)
        line.addWidget(self.further)
        body.addWidget(label("More steps", "strong"))
        schedule = f" ({show_steps(recipe.schedule)} steps)" if recipe is not None else ""
        body.addWidget(
            label(
                f"It goes on from its last step with all it has, to the same numbers as a run that had them from the start. Schedules keep their length{schedule}.",
                "soft", wrap=True,
            )
        )  # fmt: skip
        body.addLayout(line)
        body.addWidget(rule())
        body.addWidget(label("A new batch from its policy", "strong"))
        body.addWidget(
            label(
                f"The recipe {bench.recipe_name} on the task as it is now begins with this policy; observations and commands are matched by name.",
                "soft", wrap=True,
            )
        )  # fmt: skip
        self.which = Choice("policy to start from")
        self.which.addItem(f"the best, at {show_steps(row.best_step or 0)}", "best")
        self.which.addItem(f"the last, at {show_steps(row.steps)}", "last")
        for step in milestones_of(run_folder(bench.project.folder, row.id)).steps():
            self.which.addItem(f"the milestone at {show_steps(step)}", str(step))
        self.which.activated.connect(lambda _: self.look())
        self.anew = button("Start a batch", self.start)
        line = QHBoxLayout()
        line.addWidget(self.which)
        line.addStretch(1)
        line.addWidget(self.anew)
        body.addLayout(line)
        self.matched = label("", "soft", wrap=True)
        self.wrong = label("", "wrong", wrap=True)
        for said in (self.matched, self.wrong):
            said.hide()
            body.addWidget(said)
        foot = QHBoxLayout()
        foot.addStretch(1)
        foot.addWidget(button("Leave it", self.reject))
        body.addLayout(foot)
        self.look()

    def _say(self, wrong: str) -> None:
        self.wrong.setText(wrong)
        self.wrong.setVisible(bool(wrong))

    def go_on(self) -> None:
        """Give the run more steps."""
        value = self.steps.value()
        if value is None:
            return
        wrong = self.bench.resume(self.row.id, int(value))
        self._say(wrong)
        if not wrong:
            self.accept()

    def look(self) -> None:
        """What a new batch would take over."""
        bench, problem = self.bench, self.bench.problem
        try:
            if problem is None:
                raise HeronError("the task cannot be read")
            folder = bench.project.folder
            start = launch.start_of(folder, self.row, str(self.which.currentData()))
            said = launch.tried_start(problem, fit(bench.present_recipe(), problem, folder), start, folder)
        except HeronError as error:
            self._say(str(error))
            self.anew.setEnabled(False)
            self.matched.hide()
            return
        self._say("")
        self.anew.setEnabled(True)
        self.matched.setText("; ".join(said))
        self.matched.show()

    def start(self) -> None:
        """Start the batch."""
        recipe = self.bench.recipe
        seeds = list(range(1, (recipe.seeds if recipe is not None else 1) + 1))
        wrong = self.bench.train(seeds, (self.row, str(self.which.currentData())))
        self._say(wrong)
        if not wrong:
            self.accept()
