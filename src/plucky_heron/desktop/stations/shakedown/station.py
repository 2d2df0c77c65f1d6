"""Shakedown: rehearsals on the same starts, checks with evidence, driving by hand."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QHBoxLayout, QInputDialog, QStackedWidget, QVBoxLayout, QWidget

from plucky_heron.analysis.proving.proof import record_trial
from plucky_heron.analysis.shakedown.checks import REHEARSAL_STREAM, Check
from plucky_heron.analysis.shakedown.rehearsals import REHEARSALS, Shakedown, shake_down_task, write_commands
from plucky_heron.desktop.bench.gamepad import Gamepad
from plucky_heron.desktop.bench.live import Person
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.charts.strip_recorder import Ledger, StripRecorder
from plucky_heron.desktop.forms.widgets import Card, ElidedLabel, Mark, Rows, bare_card, button, label, scrolled
from plucky_heron.desktop.jobs import Job
from plucky_heron.desktop.picture.machine_drawing import MachineDrawing
from plucky_heron.desktop.stations.base import Station
from plucky_heron.desktop.stations.shakedown.dots import Dots
from plucky_heron.desktop.stations.shakedown.driving import DrivePanel, RulePanel
from plucky_heron.learning.policy import PolicyDriver
from plucky_heron.simulation.drivers import Driver, Rule
from plucky_heron.simulation.trials import Recording, Trials, run_company
from plucky_heron.training.evaluation import EVALUATION_SEED
from plucky_heron.units import show

_KEY_NAMES = ("← →", "↑ ↓", "A D", "S W")


class ShakedownStation(Station):
    """The station."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self.person: Person | None = None
        self.gamepad = Gamepad()
        self.driven: list[Recording] = []
        self._driven_of = ""
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 10, 16, 14)
        layout.setSpacing(12)
        left = QVBoxLayout()
        left.setSpacing(10)
        self.drawing = MachineDrawing(bench.playback, editing=False)
        self.drawing.pulled.connect(self._pull)
        self.drawing.released.connect(self._release)
        left.addWidget(bare_card(self.drawing, "drawing"), 55)
        left.addWidget(bare_card(StripRecorder(bench.playback), "strip recorder"), 45)
        layout.addLayout(left, 60)
        right = QVBoxLayout()
        right.setSpacing(10)
        card = Card("Rehearsals", f"the same {REHEARSALS} starts for all")
        self.dots = Dots()
        self.dots.picked.connect(self.replay)
        card.body.addWidget(self.dots, 1)
        line = QHBoxLayout()
        self.ends = ElidedLabel("", "soft")
        line.addWidget(self.ends, 1)
        line.addWidget(button("worst", lambda: self.play_end(False), "link", "play the worst episode"))
        line.addWidget(button("best", lambda: self.play_end(True), "link", "play the best episode"))
        card.body.addLayout(line)
        right.addWidget(card, 33)
        self.ledger_card = Card("Score ledger", "")
        self.pages = QStackedWidget()
        self.ledger = Ledger(bench.playback)
        self.rule = RulePanel()
        self.rule.changed.connect(self._rule_changed)
        self.rule.tried.connect(self.try_rule)
        self.rule.added.connect(self._rule_added)
        self.pages.addWidget(self.ledger)
        self.pages.addWidget(self.rule)
        self.ledger_card.body.addWidget(self.pages)
        right.addWidget(self.ledger_card, 33)
        self.checks = Card("Checks", "")
        self.below = QStackedWidget()
        self.check_rows = Rows((0, 3, 7, 0), spacing=2)
        self.panel = DrivePanel()
        self.panel.restarted.connect(self._again)
        self.below.addWidget(scrolled(self.check_rows))
        self.below.addWidget(self.panel)
        self.checks.body.addWidget(self.below)
        right.addWidget(self.checks, 34)
        row = QHBoxLayout()
        self.drive = button("Drive manually", self.toggle_driving, "primary")
        self.again = button("Rehearse", self.rehearse)
        self.write = button("Write a rule", self.show_rules)
        self.keeping = button("Keep my commands", self.keep_commands)
        for made in (self.drive, self.again, self.write, self.keeping):
            row.addWidget(made)
        row.addStretch(1)
        right.addLayout(row)
        self.hint = ElidedLabel("", "soft")
        right.addWidget(self.hint)
        layout.addLayout(right, 40)
        bench.problem_changed.connect(self.later)
        bench.results_changed.connect(self.later)
        bench.playback.loaded.connect(self._name_ledger)
        self.refresh()

    def takes_keys(self) -> bool:
        """While driving, all keys are the driver's."""
        return self.person is not None and self.person.running

    # --- showing -----------------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show rehearsals and checks."""
        bench = self.bench
        problem = bench.problem
        if problem is not None:
            mark = f"{bench.task} {len(problem.commands)}"
            if mark != self._driven_of:  # another task: what was driven before says nothing about it
                self._driven_of, self.driven = mark, []
                if self.takes_keys():
                    self.toggle_driving()
            names = [c.name for c in problem.commands]
            self.hint.setText(
                "keys while driving: " + ", ".join(f"{k} {n}" for k, n in zip(_KEY_NAMES, names, strict=False))
                + "; Space pauses, Escape ends; drag on a body to push it"
            )  # fmt: skip
            self.rule.show_problem(problem)
        self.keeping.setEnabled(bool(self.driven))
        self.dots.shaken, self.dots.person = bench.shakedown, self.driven
        self.dots.update()
        self._show_checks()
        self._show_ends()
        self._name_ledger()

    def _show_checks(self) -> None:
        self.check_rows.clear()
        shaken = self.bench.shakedown
        if self.below.currentWidget() is self.panel:
            return
        if shaken is None:
            self.checks.note.setText("run with the rehearsals")
            self.check_rows.add(None, label("Rehearse to check the task before training", "soft"))
        else:
            passed = sum(c.passed for c in shaken.checks)
            meant = sum(not c.passed and not c.open for c in shaken.checks)
            old = " · older than the task" if self.bench.shakedown_older() else ""
            said = f", {meant} meant so" if meant else ""
            self.checks.note.setText(
                f"{len(shaken.checks)} in {shaken.seconds:.1f} s: {passed} pass, {len(shaken.wrong)} wrong{said}{old}"
            )
            for check in sorted(shaken.checks, key=lambda c: (not c.open, c.passed, c.severity != "wrong")):
                self._check_row(check)
        self.check_rows.finish()

    def _check_row(self, check: Check) -> None:
        state = "passed" if check.passed else "meant" if check.acknowledged else check.severity
        evidence = ElidedLabel(check.acknowledged or check.evidence, "soft")
        evidence.setToolTip(check.evidence + (f"\n{check.acknowledged}" if check.acknowledged else ""))
        actions = QWidget()
        line = QHBoxLayout(actions)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(6)
        if check.open and check.remedy is not None:
            repair = button("repair", lambda: self.repair(check), "link", f"repair {check.name}")
            repair.setToolTip(check.remedy.text)
            line.addWidget(repair)
        if check.open and check.severity != "wrong":
            line.addWidget(button("it is meant", lambda: self.ask_reason(check), "link", f"{check.name} is meant so"))
        self.check_rows.add(Mark(state), ElidedLabel(check.name, "strong" if check.open else ""), evidence, actions)

    def _show_ends(self) -> None:
        shaken = self.bench.shakedown
        chosen = self._chosen()
        if shaken is None or chosen is None:
            self.ends.setText("")
            return
        trials = shaken.rehearsals[chosen]
        tally = ", ".join(f"{name} {count}" for name, count in trials.tally().items())
        length = float(trials.steps.mean()) * shaken.problem.sample_time
        self.ends.setText(f"{chosen}: {tally}; {length:.1f} s on average")

    def _chosen(self) -> str | None:
        """The driver whose episode is playing, else the best."""
        shaken = self.bench.shakedown
        if shaken is None or not shaken.rehearsals:
            return None
        name = self.bench.playback.title.partition(" · ")[0]
        best = max(shaken.rehearsals, key=lambda n: float(shaken.rehearsals[n].score.mean()))
        return name if name in shaken.rehearsals else best

    def _name_ledger(self) -> None:
        rules = self.pages.currentWidget() is self.rule
        self.ledger_card.caption.setText("A RULE" if rules else "SCORE LEDGER")
        self.ledger_card.note.setText("a formula for each command" if rules else self.bench.playback.title)
        self.write.setText("Score ledger" if rules else "Write a rule")
        self._show_ends()

    # --- rehearsals --------------------------------------------------------------------------------------------------

    def rehearse(self) -> None:
        """Run all rehearsals and checks, with the policy of the chosen run where it fits."""
        problem, folder, row = self.bench.problem, self.bench.project.folder, self.bench.row()
        if problem is None or self.bench.needs_task():
            return
        others: list[Driver] = []
        if row is not None and row.best_step is not None and row.best_step >= 0 and not self.bench.older(row):
            others.append(PolicyDriver(self.bench.project.policy(row.id), f"policy of run {row.id}"))

        def work(job: Job) -> Shakedown:
            return shake_down_task(problem, folder, lambda _, share: job.tell(share), others=others)

        def then(result: Shakedown) -> None:
            self.bench.shakedown, self.bench.shakedown_of = result, problem.fingerprint()
            best = max(result.rehearsals, key=lambda n: float(result.rehearsals[n].score.mean()))
            self._show(best, 0, result.rehearsals[best].recordings[0])

        self.bench.start_job("rehearsing", work, then)

    def _show(self, name: str, number: int, recording: Recording) -> None:
        shaken = self.bench.shakedown
        problem = shaken.problem if shaken is not None else self.bench.problem
        assert problem is not None
        other = None
        if shaken is not None:
            against = "nobody" if name != "nobody" else "random"
            other = shaken.rehearsals[against].recordings.get(number) if against in shaken.rehearsals else None
        self.bench.playback.load(
            problem,
            recording,
            f"{name} · episode {number} of {REHEARSALS} · start {number}",
            (other,) if other is not None else (),
        )

    def replay(self, name: str, number: int) -> None:
        """Show one rehearsal; those not kept are run again."""
        shaken = self.bench.shakedown
        if name.startswith("you"):
            self._show("you", number, self.driven[number])
            return
        if shaken is None:
            return
        kept = shaken.rehearsals[name].recordings.get(number)
        if kept is not None:
            self._show(name, number, kept)
            return
        driver = shaken.drivers[name]
        self.bench.start_job(
            f"replaying episode {number}",
            lambda _: record_trial(shaken.problem, driver, REHEARSALS, number, REHEARSAL_STREAM),
            lambda recording: self._show(name, number, recording),
        )

    def play_end(self, best: bool) -> None:
        """The worst or best episode of the driver that is looked at: by the measure, then by score."""
        shaken, name = self.bench.shakedown, self._chosen()
        if shaken is not None and name is not None:
            order = shaken.rehearsals[name].worst(REHEARSALS)
            self.replay(name, order[-1] if best else order[0])

    # --- checks ------------------------------------------------------------------------------------------------------

    def repair(self, check: Check) -> None:
        """Do what would answer a check; it can be undone."""
        assert check.remedy is not None
        wrong = self.bench.edit("tasks", check.remedy.key, check.remedy.value, f"{check.name}: {check.remedy.text}")
        self.bench.say(wrong)
        if not wrong:
            self.hint.setText(f"{check.remedy.text}: rehearse again to see what came of it; Ctrl+Z undoes it")

    def ask_reason(self, check: Check) -> None:
        """Why a check is meant so; kept in the task."""
        reason, given = QInputDialog.getText(self, check.name, f"{check.evidence}\n\nWhy is it meant so?")
        if given and reason.strip():
            self.acknowledge(check.name, reason.strip())

    def acknowledge(self, name: str, reason: str) -> None:
        """Keep the reason, and show it at once."""
        wrong = self.bench.edit("tasks", ("acknowledged", name), reason, f"{name} is meant so")
        shaken = self.bench.shakedown
        if wrong:
            self.bench.say(wrong)
        elif shaken is not None:
            checks = [replace(c, acknowledged=reason) if c.name == name else c for c in shaken.checks]
            self.bench.shakedown = replace(shaken, checks=checks)
            self.bench.results_changed.emit()

    # --- rules -------------------------------------------------------------------------------------------------------

    def show_rules(self) -> None:
        """The rule in place of the ledger, or back."""
        rules = self.pages.currentWidget() is self.rule
        self.pages.setCurrentWidget(self.ledger if rules else self.rule)
        self._name_ledger()

    def _rule_changed(self, rule: str, command: str, formula: str) -> None:
        wrong = self.bench.edit("tasks", ("rules", rule, "commands", command), formula, f"rule {rule}: {command}")
        self.rule.say(wrong.partition(": ")[2] or wrong)

    def _rule_added(self, name: str) -> None:
        problem = self.bench.problem
        if problem is None:
            return
        commands = {c.name: "0" for c in problem.commands}
        wrong = self.bench.edit("tasks", ("rules", name), {"commands": commands}, f"rule {name}")
        self.rule.say(wrong)
        if not wrong:
            self.rule.rule.setCurrentText(name)
            self.rule.show_problem(self.bench.problem or problem)

    def try_rule(self, name: str) -> None:
        """Rehearse one rule on the same starts, beside what was rehearsed before."""
        problem = self.bench.problem
        if problem is None or name not in problem.rules:
            return
        driver = Rule(problem, name)

        def work(job: Job) -> dict[str, Trials]:
            return run_company(
                problem, [driver], seed=EVALUATION_SEED, stream=REHEARSAL_STREAM, count=REHEARSALS, record=range(8),
                progress=job.tell,
            )  # fmt: skip

        def then(found: dict[str, Trials]) -> None:
            shaken = self.bench.shakedown
            if shaken is None or self.bench.shakedown_older():
                shaken = Shakedown(problem, {}, {}, [], 0.0)
                self.bench.shakedown_of = problem.fingerprint()
            self.bench.shakedown = replace(
                shaken,
                problem=problem,
                rehearsals=shaken.rehearsals | found,
                drivers=shaken.drivers | {driver.name: driver},
            )
            self._show(driver.name, 0, found[driver.name].recordings[0])

        self.bench.start_job(f"trying {driver.name}", work, then)

    # --- driving -----------------------------------------------------------------------------------------------------

    def toggle_driving(self) -> None:
        """Begin or end driving by hand."""
        if self.takes_keys() and self.person is not None:
            self.person.stop()
            self._finished(self.person.recording())
            return
        self._begin()

    def _begin(self) -> None:
        problem = self.bench.problem
        if problem is None:
            return
        found = self.gamepad.open()
        self.person = Person(problem, len(self.driven), self, self.gamepad if found else None)
        self.person.advanced.connect(
            lambda r: self.bench.playback.show(problem, r, f"you, by hand · start {r.episode}")
        )
        self.person.advanced.connect(lambda _: self.drawing.pull_on())
        self.person.ended.connect(self._finished)
        self.bench.playback.pause()
        self.drawing.pushing = True
        self.below.setCurrentWidget(self.panel)
        self.checks.caption.setText("MANUAL DRIVING")
        self.checks.note.setText(
            f"{self.gamepad.name}, sliders, keys, the mouse" if found else "sliders, keys, and the mouse on the drawing"
        )
        self.panel.show_person(self.person)
        self.person.start()
        self.drive.setText("End driving")
        self.drawing.setFocus()

    def _again(self) -> None:
        """Back to the start of the same episode; what was driven so far is dropped."""
        if self.person is not None:
            self.person.stop()
            self._begin()

    def _finished(self, recording: Recording) -> None:
        self.drive.setText("Drive manually")
        self.drawing.pushing = False
        self.below.setCurrentIndex(0)
        self.checks.caption.setText("CHECKS")
        if recording.steps:
            self.driven.append(recording)
            assert self.person is not None
            self.bench.playback.show(self.person.problem, recording, f"you, by hand · start {recording.episode}")
        self.refresh()

    def keep_commands(self) -> None:
        """The commands of the last drive as a file, which rehearsals then drive too."""
        problem = self.bench.problem
        if problem is None or not self.driven:
            return
        folder = self.bench.project.folder / "recordings"
        number = next(n for n in range(1, 10_000) if not (folder / f"{self.bench.task}-hand {n}.csv").exists())
        write_commands(folder / f"{self.bench.task}-hand {number}.csv", problem, self.driven[-1].commands)
        self.hint.setText(f"kept as recordings/{self.bench.task}-hand {number}.csv; the next rehearsal drives them too")

    def _pull(self, body: str, point: np.ndarray, place: np.ndarray) -> None:
        if self.person is not None and self.person.running:
            force = self.person.pull(body, point, place, 60.0 / self.drawing.frame().scale)
            self.drawing.caption = f"pulling {body} with {show(force, 'N')}"

    def _release(self) -> None:
        self.drawing.caption = ""
        if self.person is not None:
            self.person.let_go()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Keys of the driver."""
        if self.person is not None and self.takes_keys():
            if event.key() == Qt.Key.Key_Escape:
                self.toggle_driving()
            elif event.key() == Qt.Key.Key_Space:
                self.panel.pause()
            elif event.key() == Qt.Key.Key_Home:
                self._again()
            elif event.key() == Qt.Key.Key_Period:
                self.panel.step()
            elif not self.person.key(event.key(), True):
                super().keyPressEvent(event)
            return
        super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        """Keys of the driver."""
        if self.person is not None and not event.isAutoRepeat() and self.person.key(event.key(), False):
            return
        super().keyReleaseEvent(event)
