"""The window: causeway, stations, shortcuts."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from threading import Thread

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QCloseEvent, QKeyEvent, QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QApplication,
    QComboBox,
    QDialog,
    QLineEdit,
    QListWidget,
    QMainWindow,
    QMessageBox,
    QStackedWidget,
    QSystemTrayIcon,
    QVBoxLayout,
    QWidget,
)

from plucky_heron.desktop.bench.edits import Clash
from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.forms.widgets import Card
from plucky_heron.desktop.guarding import FAULTS
from plucky_heron.desktop.shell.causeway import Causeway
from plucky_heron.desktop.shell.last_input import LastInput
from plucky_heron.desktop.shell.page import Page
from plucky_heron.desktop.shell.project_menu import ProjectMenu
from plucky_heron.desktop.shell.start_page import StartPage
from plucky_heron.desktop.stations.base import Station
from plucky_heron.desktop.stations.catalogue import STATIONS
from plucky_heron.errors import HeronError
from plucky_heron.recent import remember_project
from plucky_heron.trust import UntrustedError, trust_digest

REST = 0.6
"""Seconds without mouse or key after which another station is built: it takes a fifth of a second in which the window does nothing else."""
_OPEN: list[Window] = []
"""Windows in sight: what nobody holds would be gone."""


def open_window(folder: Path) -> Window:
    """A window on a project; raises what is wrong with it."""
    window = Window(folder)
    _OPEN.append(window)
    remember_project(window.bench.project.folder)
    window.show()
    return window


class Window(QMainWindow):
    """The main window on one project."""

    def __init__(self, folder: Path) -> None:
        super().__init__()
        self.bench = Workbench(folder, self)
        self.setWindowTitle(f"{self.bench.project.name} — Plucky Heron")
        centre = QWidget()
        layout = QVBoxLayout(centre)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        self.project_menu = ProjectMenu(self.bench, self)
        self.project_menu.opened.connect(self.open_other)
        self.causeway = Causeway(self.bench, self.project_menu)
        self.stack = QStackedWidget()
        self._made: dict[int, Station] = {}
        self._fetched: dict[int, Thread] = {}
        self._asked: set[str] = set()
        self._input = LastInput(self)
        self._tray: QSystemTrayIcon | None = None
        for _ in STATIONS:
            self.stack.addWidget(QWidget())
        layout.addWidget(self.causeway)
        self.begin: StartPage | None = None
        self.pages = QStackedWidget()
        self.pages.addWidget(self.stack)
        layout.addWidget(self.pages, 1)
        self.setCentralWidget(centre)
        self.causeway.stakes.chosen.connect(self.enter)
        bench = self.bench
        for signal in (bench.problem_changed, bench.runs_changed, bench.results_changed, bench.troubled):
            signal.connect(self._stakes)
        bench.problem_changed.connect(self._begin_or_go_on)
        bench.trust_asked.connect(self.ask_trust)
        bench.batch_ended.connect(self.tell)
        FAULTS.told.connect(bench.say)
        bench.clashed.connect(self.ask_whose)
        self._shortcuts()
        self.resize(1280, 800)
        self.setMinimumSize(1024, 700)
        self.enter(0)
        self.causeway.stakes.setFocus()
        self._begin_or_go_on()
        QTimer.singleShot(300, self, self.make_the_rest)

    def open_other(self, folder: Path) -> None:
        """Open another project in the place of this one; runs of this one go on."""
        try:
            open_window(folder)
        except HeronError as error:
            self.bench.say(str(error))
            return
        self.close()

    def tell(self, text: str) -> None:
        """Say that something long is over; to the whole desktop where the window is not in front."""
        self.bench.noted.emit(text)
        if not text or self.isActiveWindow():
            return
        QApplication.alert(self)
        if QSystemTrayIcon.isSystemTrayAvailable():
            if self._tray is None:
                self._tray = QSystemTrayIcon(self.windowIcon(), self)
                self._tray.messageClicked.connect(self.activateWindow)
            self._tray.show()
            self._tray.showMessage("Plucky Heron", text, QSystemTrayIcon.MessageIcon.Information)
            QTimer.singleShot(15_000, self._tray, self._tray.hide)

    def _begin_or_go_on(self) -> None:
        """Show what to begin with while the project has no machine, else the stations."""
        empty = self.bench.problem is None and not self.bench.project.machines()
        if empty and self.begin is None:
            self.begin = StartPage(self.bench, self.project_menu)
            self.pages.addWidget(self.begin)
        self.pages.setCurrentWidget(self.begin if empty and self.begin is not None else self.stack)

    def _shortcuts(self) -> None:
        for number in range(len(STATIONS)):
            QShortcut(QKeySequence(f"Ctrl+{number + 1}"), self, lambda n=number: self.enter(n))
        QShortcut(QKeySequence("Ctrl+Z"), self, self.bench.undo.undo)
        QShortcut(QKeySequence("Ctrl+Shift+Z"), self, self.bench.undo.redo)
        QShortcut(QKeySequence("Ctrl+K"), self, self.open_finder)
        QShortcut(QKeySequence("F1"), self, self.open_page)
        QShortcut(QKeySequence("F6"), self, lambda: self.next_card(1))
        QShortcut(QKeySequence("Shift+F6"), self, lambda: self.next_card(-1))

    def made(self, number: int) -> Station:
        """A station; built when it is first asked for, so that the window opens at once."""
        if number not in self._made:
            station = STATIONS[number].make(self.bench)
            self._made[number] = station
            place = self.stack.widget(number)
            self.stack.insertWidget(number, station)
            if place is not None:
                self.stack.removeWidget(place)
                place.deleteLater()
        return self._made[number]

    def make_the_rest(self) -> None:
        """Build one more station while nobody does anything, until all are there."""
        if self.bench.problem is None:
            QTimer.singleShot(400, self, self.make_the_rest)
            return
        missing = next((k for k in range(len(STATIONS)) if k not in self._made), None)
        if missing is None or self.bench.closed:
            self._input.watch(None)
            return
        self._input.watch(self.windowHandle())
        if missing not in self._fetched:
            self._fetched[missing] = Thread(target=STATIONS[missing].fetch, daemon=True)
            self._fetched[missing].start()
        if not self._fetched[missing].is_alive() and self._input.rests(REST):
            self.made(missing)
        QTimer.singleShot(60, self, self.make_the_rest)

    @property
    def stations(self) -> list[Station]:
        """All stations."""
        return [self.made(number) for number in range(len(STATIONS))]

    @property
    def station(self) -> Station:
        """The station in sight."""
        return self.made(self.stack.currentIndex())

    def enter(self, number: int) -> None:
        """Go to a station."""
        self.made(number)
        self.stack.setCurrentIndex(number)
        self.causeway.stakes.current = number
        self.station.entered()
        self._stakes()

    def _stakes(self, *_: object) -> None:
        if self.bench.closed:
            return
        for number, entry in enumerate(STATIONS):
            state = entry.stake(self.bench)
            self.causeway.stakes.show_state(number, state.level, state.fact, state.trouble, state.older)

    def next_card(self, step: int) -> None:
        """Put the focus on the next card of the station."""
        cards = [card for card in self.station.findChildren(Card) if card.isVisible()]
        now = QApplication.focusWidget()
        at = next(
            (k for k, card in enumerate(cards) if now is card or (now is not None and card.isAncestorOf(now))), -1
        )
        cards[(at + step) % len(cards)].setFocus(Qt.FocusReason.ShortcutFocusReason)

    def ask_trust(self, error: UntrustedError) -> None:
        """Ask once for each content of a file whether the project's own Python may run here."""
        if error.digest in self._asked:
            return
        self._asked.add(error.digest)
        box = QMessageBox(self)
        box.setWindowTitle("Python of the project's own")
        box.setText(f"The task brings {error.path.name}, Python that would run on this machine with your rights.")
        box.setInformativeText("Read it before you trust it. It is asked again only if the file changes.")
        box.setDetailedText(error.text[:20_000])
        accept = box.addButton("Trust this file", QMessageBox.ButtonRole.AcceptRole)
        box.addButton("Not now", QMessageBox.ButtonRole.RejectRole)
        box.finished.connect(lambda _: self._trusted(error) if box.clickedButton() is accept else None)
        box.open()

    def _trusted(self, error: UntrustedError) -> None:
        trust_digest(error.digest, error.path)  # what was shown, whatever the file says by now
        self.bench.reload()

    def ask_whose(self, clash: Clash) -> None:
        """A file was changed outside while it was changed here: whose change stays."""
        box = QMessageBox(self)
        box.setWindowTitle("Changed outside")
        box.setText(f"{clash.path.name} was changed outside while you changed it here ({clash.text}).")
        box.setInformativeText(clash.both()[:3000])
        mine = box.addButton("Make my change too", QMessageBox.ButtonRole.AcceptRole)
        box.addButton("Keep theirs", QMessageBox.ButtonRole.RejectRole)

        def chosen(_: int) -> None:
            if box.clickedButton() is mine:
                wrong = clash.keep_mine()
                if wrong:
                    self.bench.say(wrong)
            else:
                clash.keep_theirs()

        box.finished.connect(chosen)
        box.open()

    def open_page(self) -> Page:
        """What has the focus, and the page of the handbook on the station in sight."""
        self.page = Page(self.stack.currentIndex(), QApplication.focusWidget(), self)
        self.page.show()
        return self.page

    def open_finder(self) -> None:
        """Choose a station, task or run by typing."""
        Finder(self).exec()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Transport by keyboard, unless the station or a field wants the keys."""
        playback = self.bench.playback
        if self.station.takes_keys():
            self.station.keyPressEvent(event)
            return
        if isinstance(QApplication.focusWidget(), QLineEdit | QComboBox):
            super().keyPressEvent(event)
            return
        actions: dict[int, Callable[[], object]] = {
            Qt.Key.Key_Space: playback.toggle,
            Qt.Key.Key_Right: lambda: playback.step(1),
            Qt.Key.Key_Left: lambda: playback.step(-1),
            Qt.Key.Key_Home: playback.rewind,
        }
        if event.key() in actions:
            actions[event.key()]()
        else:
            super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        """Keys that a driver lets go."""
        if self.station.takes_keys():
            self.station.keyReleaseEvent(event)
        else:
            super().keyReleaseEvent(event)

    def closeEvent(self, event: QCloseEvent) -> None:
        """Jobs end with the window, runs do not."""
        # what charts have put off is done while their items still stand: later it would find some that are gone
        QApplication.sendPostedEvents()
        self.bench.close()
        if self in _OPEN:
            _OPEN.remove(self)
        super().closeEvent(event)


class Finder(QDialog):
    """Ctrl+K: type to find a station, a task, a recipe of the task or a run."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.window_ = window
        self.setWindowTitle("Find")
        self.setMinimumWidth(420)
        layout = QVBoxLayout(self)
        self.text = QLineEdit()
        self.text.setPlaceholderText("station, machine, task, recipe, run, or what to do")
        self.text.setAccessibleName("find")
        self.list = QListWidget()
        self.list.setAccessibleName("found")
        layout.addWidget(self.text)
        layout.addWidget(self.list)
        bench = window.bench
        self.entries: list[tuple[str, Callable[..., object]]] = [
            (f"{entry.name}, station", lambda n=number: window.enter(n)) for number, entry in enumerate(STATIONS)
        ]
        self.entries += [
            (f"{name}, machine", lambda n=name: bench.choose_machine(n)) for name in bench.project.machines()
        ]
        self.entries += window.project_menu.entries()
        self.entries += [(f"{task}, task", lambda t=task: bench.choose_task(t)) for task in bench.project.tasks()]
        self.entries += [(f"{name}, recipe", lambda n=name: bench.choose_recipe(n)) for name in bench.recipes()]
        self.entries += [
            (f"run {r.id}, seed {r.seed}, {r.recipe}", lambda n=r.id: bench.choose_run(n)) for r in bench.rows
        ]
        self.text.textChanged.connect(self._filter)
        self.text.returnPressed.connect(self._take)
        self.list.itemActivated.connect(lambda _: self._take())
        self._filter("")

    def _filter(self, text: str) -> None:
        words = text.lower().split()
        self.found = [entry for entry in self.entries if all(word in entry[0].lower() for word in words)]
        self.list.clear()
        self.list.addItems([entry[0] for entry in self.found])
        self.list.setCurrentRow(0)

    def _take(self) -> None:
        row = self.list.currentRow()
        if 0 <= row < len(self.found):
            self.found[row][1]()
            self.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Down goes from the text into the list."""
        if event.key() == Qt.Key.Key_Down and self.text.hasFocus():
            self.list.setFocus()
        else:
            super().keyPressEvent(event)
