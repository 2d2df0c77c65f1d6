"""What the window works on: the project, the chosen task and run, the playing episode, edits and jobs."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import tomlkit
from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtGui import QUndoStack

from plucky_heron.analysis.proving.proof import Proof
from plucky_heron.analysis.shakedown.rehearsals import Shakedown, figures_of, kept_scores
from plucky_heron.desktop.bench.documents import Key, put
from plucky_heron.desktop.bench.edits import Checked, Clash, FileEdit, FilesEdit
from plucky_heron.desktop.bench.ended import ended_text
from plucky_heron.desktop.bench.playback import Playback
from plucky_heron.desktop.bench.records import Records
from plucky_heron.desktop.jobs import Job
from plucky_heron.errors import FileError, HeronError
from plucky_heron.files import is_file, parse_toml, read_text, read_toml, recording_files, validate, write_whole
from plucky_heron.machine.drawings import with_drawings
from plucky_heron.machine.meshes import with_meshes
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.project import Project
from plucky_heron.runs import launch
from plucky_heron.runs.freeze import frozen_recipe
from plucky_heron.runs.labels import label_batch
from plucky_heron.runs.store import RunRow, RunStore, median_run
from plucky_heron.task.own_code import load_code
from plucky_heron.task.problem import Problem, bind
from plucky_heron.task.provisional import provisional_problem, provisional_task
from plucky_heron.task.schema import Task
from plucky_heron.training.recipe import STANDARD, Recipe, recipe_text, standard_recipe
from plucky_heron.training.stopping import Evaluation
from plucky_heron.trust import UntrustedError


class Workbench(QObject):
    """The state that all stations share.

    Signals
    -------
    problem_changed()
        Machine, site or task were edited or chosen.
    runs_changed()
        The catalogue or the chosen run changed.
    results_changed()
        Rehearsals, proof, pack or rollout changed.
    job_changed()
        A job began, got on, or ended.
    troubled(str)
        Something to tell the person, in one line; empty when it is over.
    clashed(Clash)
        An edit was made of a file that somebody else had changed meanwhile.
    noted(str)
        Something that happened and needs no answer.
    batch_ended(str)
        All runs of a batch, of any task of the project, are over; what came of it, in a line.
    trust_asked(UntrustedError)
        The task brings Python that nobody has trusted on this machine.
    """

    problem_changed = Signal()
    runs_changed = Signal()
    results_changed = Signal()
    job_changed = Signal()
    troubled = Signal(str)
    trust_asked = Signal(object)
    clashed = Signal(object)
    noted = Signal(str)
    batch_ended = Signal(str)

    def __init__(self, folder: Path, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.project = Project(folder)
        self.playback = Playback(self)
        self.undo = QUndoStack(self)
        self.store = RunStore(self.project.folder)
        self.records = Records(self.store)
        self.closed = False
        self.task = self.project.first_task()
        """The chosen task; "" while the machine has none, or none is chosen."""
        self.machine_name = ""
        """The machine that is looked at without a task."""
        if not self.task:
            self.machine_name = next(iter(self.project.machines()), "")
        self.recipe_name = self.project.recipe_for(self.task)
        self.problem: Problem | None = None
        self.recipe: Recipe | None = None
        self.unwritten: Recipe | None = None
        """A recipe that is tried without a file of it; it gets one when it is changed or kept."""
        self.tried = ""
        """What is tried with it, in words."""
        self.trouble = ""
        self.faults: dict[str, str] = {}
        """What is wrong with formulas of the task, by their key: the rest is shown, training waits."""
        self._recipes: dict[int, Recipe] = {}
        self._texts: dict[Path, str] = {}
        self._stamps: dict[Path, object] = {}
        self.rows: list[RunRow] = []
        self.batch: int | None = None
        self.put_away: list[int] = []
        self._at_work: set[int] = set()
        self.run: int | None = None
        self.shakedown: Shakedown | None = None
        self.shakedown_of = ""
        self.proof: Proof | None = None
        self.proof_run: int | None = None
        self.pack: dict[str, Any] | None = None
        self.rollout: dict[str, Any] | None = None
        self.job: Job | None = None
        self.share = 0.0
        self._signature: object = None
        self.reload()
        self.refresh_runs()
        self._timer = QTimer(self)
        self._timer.timeout.connect(self.refresh_runs)
        self._timer.timeout.connect(self.look_at_files)
        self._timer.start(400)

    # --- files -----------------------------------------------------------------------------------------------------

    def reload(self, checked: Checked | None = None) -> None:
        """Read the chosen task and recipe again; `checked` is what an edit has just read of its own change, which need not be read twice."""
        faults: list[FileError] = []
        with recording_files() as touched:
            try:
                if checked is None:
                    self.problem = self._read_problem(faults)
                    self.recipe = self.present_recipe()
                elif isinstance(checked.made, Problem):
                    self.problem, faults = checked.made, checked.faults
                else:
                    self.recipe = checked.made
                self.say(str(faults[0]) if faults else "")
            except UntrustedError as error:
                self.say(str(error))
                self.trust_asked.emit(error)
            except HeronError as error:
                self.say(str(error))
        if checked is None or isinstance(checked.made, Problem):
            self.faults = {fault.key: fault.wanted for fault in faults}
        self._remember(touched if checked is None else set(self._stamps))
        if self.problem is not None:
            self.playback.problem = self.playback.problem or self.problem
        self.problem_changed.emit()

    def _read_problem(self, faults: list[FileError]) -> Problem | None:
        """The chosen task, else the chosen machine with nothing wanted of it yet; None in a project without machines."""
        if self.task:
            return self.project.problem(self.task, faults)
        if not self.machine_name:
            return None
        site = self.project.site_of(self.machine_name) if self.project.sites() else ""
        return provisional_problem(self.project.folder, self.machine_name, site)

    @property
    def has_task(self) -> bool:
        """Whether a task is chosen; else there is at most a machine to look at."""
        return bool(self.task)

    def needs_task(self) -> bool:
        """Whether something cannot be done for want of a task; then it is said."""
        if not self.has_task:
            self.say("no task yet: make one in the Task station (Ctrl+2)")
        return not self.has_task

    def _remember(self, touched: set[Path]) -> None:
        """What the files said when they were read: an edit against anything else asks first."""
        folder = self.project.folder
        own = {folder / "tasks" / f"{self.task}.toml", folder / "recipes" / f"{self.recipe_name}.toml"}
        self._texts = {}
        for path in {p for p in touched | own if p.suffix == ".toml"}:
            with contextlib.suppress(HeronError):
                self._texts[path.resolve()] = read_text(path)
        self._stamps = {path: _stamp(path) for path in touched | own}
        self._stamps |= {place: _stamp(place) for place in (folder / "tasks", folder / "recipes")}

    def look_at_files(self) -> None:
        """Read again what an editor or another window has changed."""
        changed = [path for path, stamp in self._stamps.items() if _stamp(path) != stamp]
        if changed:
            self.reload()
            if not self.trouble and any(path.suffix for path in changed):
                names = ", ".join(sorted(path.name for path in changed if path.suffix)[:3])
                self.noted.emit(f"{names} was changed outside and is read again")

    def choose_recipe(self, name: str) -> None:
        """Work with another recipe."""
        self.recipe_name = name
        self.reload()

    def recipes(self) -> list[str]:
        """Recipes that may be used for the task: those in files, the standard, and one that is tried."""
        found = list(self.project.recipes_of([self.task]))
        tried = self.unwritten
        fits = tried is not None and (not tried.tasks or self.task in tried.tasks)
        beside = [STANDARD] + ([tried.name] if tried is not None and fits else [])
        return found + [name for name in beside if name not in found]

    def choose_method(self, method: str) -> None:
        """Work with the recipe of this task by another method: one in a file if there is such, else its standard, without a file yet."""
        for name in self.project.recipes_of([self.task]):
            try:
                found = self.project.recipe(name)
            except HeronError:
                continue  # its fault is told where it is chosen
            if found.method == method and self.task in (*found.tasks, name):
                self.choose_recipe(name)
                return
        name = f"{self.task}-{method.replace(' ', '-')}"
        self.unwritten = standard_recipe(method).model_copy(update={"name": name, "tasks": (self.task,)})
        self.choose_recipe(name)

    def try_recipe(self, recipe: Recipe, note: str) -> None:
        """Work with a recipe that has no file yet, by a name of its own; it gets one when it is changed or kept. `note` says what is tried."""
        self.tried = note
        stem = recipe.name.partition("-try-")[0] or recipe.method
        taken, number = set(self.project.recipes()), 1
        while f"{stem}-try-{number}" in taken:
            number += 1
        self.unwritten = recipe.model_copy(update={"name": f"{stem}-try-{number}", "tasks": (self.task,)}).knowing(
            recipe.own
        )
        self.choose_recipe(self.unwritten.name)

    def present_recipe(self) -> Recipe:
        """The chosen recipe as it is now.

        Raises
        ------
        FileError
            There is none, or it is wrong.
        """
        tried = self.unwritten
        if tried is not None and tried.name == self.recipe_name and not self.path_of("recipes").exists():
            return tried
        return self.project.recipe(self.recipe_name)

    def choose(self, machine: str, task: str) -> None:
        """Look at a task, or at a machine without one."""
        if task:
            self.choose_task(task)
            return
        self.task, self.machine_name, self.shakedown, self.proof = "", machine, None, None
        self._forget_problem()
        self.recipe_name = self.project.recipe_for("")
        self.playback.problem = None
        self.reload()
        if self.problem is not None:
            self.playback.load(self.problem, None, "")
        self._signature = None
        self.refresh_runs()

    def _forget_problem(self) -> None:
        self.problem = None

    def chosen(self) -> tuple[str, str]:
        """Machine and task that are looked at."""
        machine = self.problem.task.machine if self.problem is not None else self.machine_name
        return machine, self.task

    def choose_machine(self, machine: str) -> None:
        """Look at a machine, by the first of its tasks if it has any."""
        tasks = self.project.tasks_of(machine)
        self.choose(machine, self.task if self.task in tasks else next(iter(tasks), ""))

    def change_files(self, changes: dict[str, str | None], text: str, machine: str, task: str) -> None:
        """Make, rename or remove files in one step that can be undone, and look at a machine and a task then."""
        self.undo.push(FilesEdit(self, self.project.folder, changes, text, (self.chosen(), (machine, task))))

    def choose_task(self, task: str) -> None:
        """Work on another task."""
        other = task != self.task
        self.task, self.machine_name, self.shakedown, self.proof = task, "", None, None
        self.recipe_name = self.project.recipe_for(task) if other else self.recipe_name
        self.reload()
        if other and self.problem is not None:
            self.playback.load(self.problem, None, "")
        self._signature = None
        self.refresh_runs()

    def path_of(self, kind: str) -> Path:
        """File of the chosen machine, site, task or recipe."""
        if kind == "recipes":
            return self.project.folder / kind / f"{self.recipe_name}.toml"
        assert self.problem is not None
        task = self.problem.task
        name = {"tasks": self.task, "machines": task.machine, "sites": task.site}[kind]
        return self.project.folder / kind / f"{name}.toml"

    def edit(self, kind: str, key: Key, value: object, text: str) -> str:
        """Change one value of a file, if what comes out is valid; returns what is wrong, or nothing."""
        return self.rewrite(kind, lambda document: put(document, key, value), text)

    def rewrite(self, kind: str, change: Callable[[Any], object], text: str) -> str:
        """Change a file's document, if what comes out is valid; returns what is wrong, or nothing.

        Comments and order of the file stay; the change can be undone. Where the file says something else than what is shown, because
        it was changed outside a moment ago, nothing is written and `clashed` offers the choice.
        """
        if kind == "tasks" and not self.has_task:
            return "no task yet: make one in the Task station (Ctrl+2)"
        path = self.path_of(kind)
        unwritten = (
            kind == "recipes" and not path.exists() and self.recipe is not None and self.recipe.name == self.recipe_name
        )
        if not unwritten and not is_file(path):
            return f"{path.name}: a URDF is read as it is; import it as a machine of our own to change it here"
        try:
            if unwritten:  # what was used without a file gets one as soon as it is to be something else
                write_whole(path, recipe_text(self.present_recipe()))
            now = read_text(path)
            known = self._texts.get(path.resolve(), now)
            if now != known:
                mine, _ = self._changed(kind, known, change, path)
                self.clashed.emit(Clash(self, kind, path, known, mine, now, change, text))
                return f"{path.name} was changed outside meanwhile; choose whose change stays"
            after, checked = self._changed(kind, now, change, path)
            if after != now:
                self.undo.push(FileEdit(self, kind, path, now, after, text, checked))
        except HeronError as error:
            return str(error)
        except (KeyError, IndexError, TypeError, ValueError) as error:
            return f"{path}: {text}: cannot be changed: {error!r}"
        return ""

    def _changed(self, kind: str, before: str, change: Callable[[Any], object], path: Path) -> tuple[str, Checked]:
        """The text of a file after a change, and what it was read as."""
        document = tomlkit.parse(before)
        change(document)
        after = tomlkit.dumps(document)
        return after, self.check(kind, parse_toml(after, path), path)

    def document(self, kind: str) -> dict[str, Any]:
        """A file as it stands, values as they were written; empty where it cannot be read."""
        try:
            return read_toml(self.path_of(kind))
        except HeronError:
            return {}

    def machine_document(self) -> Any:
        """The machine file as it stands, for copying parts of it."""
        return tomlkit.parse(read_text(self.path_of("machines")))

    def check(self, kind: str, data: dict[str, Any], path: Path) -> Checked:
        """What a file that says this is read as; formulas that were wrong before may stay so until they are repaired.

        Raises
        ------
        HeronError
            With what is wrong.
        """
        assert self.problem is not None
        machine, site, task, code = self.problem.machine, self.problem.site, self.problem.task, self.problem.code
        if kind == "machines":
            machine = with_meshes(validate(Machine, data, path), path)
            machine = machine if machine.name else machine.model_copy(update={"name": path.stem})
        elif kind == "sites":
            site = with_drawings(validate(Site, data, path), path)[0]
        elif kind == "tasks":
            task = validate(Task, data, path)
            code = load_code(self.project.folder, task.code, path) if task.code is not None else None
        else:
            recipe = validate(Recipe, data, path).with_own(self.project.folder, path)
            recipe.method_settings(path)
            return Checked(recipe if recipe.name else recipe.model_copy(update={"name": self.recipe_name}))
        faults: list[FileError] = []
        if not self.has_task:
            task = provisional_task(machine, task.machine, task.site)
        task = task if task.name else task.model_copy(update={"name": self.task})
        source = str(self.project.folder / "tasks" / f"{self.task}.toml")
        made = bind(machine, site, task, source, code, faults)
        for fault in faults:
            if self.faults.get(fault.key) != fault.wanted:
                raise fault
        return Checked(made, faults)

    def say(self, text: str) -> None:
        """Tell the person something in one line; empty when it is over."""
        if text != self.trouble:
            self.trouble = text
            self.troubled.emit(text)

    # --- runs --------------------------------------------------------------------------------------------------------

    def refresh_runs(self) -> None:
        """Look into the store; tell whoever listens if something moved."""
        try:
            known = self.store.runs()
        except HeronError as error:
            self.say(str(error))
            return
        at_work = {row.batch for row in known if row.alive}
        for batch in sorted(self._at_work - at_work):
            self.batch_ended.emit(ended_text([row for row in known if row.batch == batch]))
        self._at_work = at_work
        found = [row for row in known if row.task == self.task]
        rows = [row for row in found if not row.away]
        self.put_away = sorted({row.batch for row in found if row.away})
        if self.batch not in {row.batch for row in rows}:
            self.batch = rows[-1].batch if rows else None
            self.run = None
        told = [(r.id, r.state, r.steps, r.best_step, r.retest is not None, r.note, r.keywords, r.marked) for r in rows]
        signature = (told, self.batch, self.run, self.put_away)
        self.rows = rows
        if self.run is None or all(row.id != self.run for row in rows):
            chosen = median_run(self.batch_rows())
            self.run = chosen.id if chosen is not None else None
        if signature != self._signature:
            self._signature = signature
            self.runs_changed.emit()

    def course(self, run: int, whole: bool = False) -> list[Evaluation]:
        """The evaluations of a run so far, with all figures if `whole`; only those that are new are read."""
        return self.records.course(run, whole)

    def batch_rows(self, batch: int | None = None) -> list[RunRow]:
        """Runs of a batch, by default the chosen one."""
        wanted = self.batch if batch is None else batch
        return [row for row in self.rows if row.batch == wanted]

    def row(self) -> RunRow | None:
        """The chosen run."""
        return next((row for row in self.rows if row.id == self.run), None)

    def choose_batch(self, batch: int) -> None:
        """Look at another batch."""
        self.batch, self.run = batch, None
        self.refresh_runs()

    def bring_back(self) -> None:
        """Show the batches of the task again that were put away."""
        try:
            for batch in self.put_away:
                label_batch(self.store, batch, away=False)
        except HeronError as error:
            self.say(str(error))
        self.refresh_runs()

    def choose_run(self, run: int) -> None:
        """Look at another run."""
        row = next((r for r in self.rows if r.id == run), None)
        if row is not None:
            self.batch, self.run = row.batch, run
            self.refresh_runs()

    def older(self, row: RunRow) -> bool:
        """Whether the task or machine were changed since a run."""
        return self.problem is not None and row.fingerprint != self.problem.fingerprint()

    def recipe_of(self, row: RunRow) -> Recipe | None:
        """The recipe that a run used; None where it cannot be read."""
        if row.id not in self._recipes:
            try:
                self._recipes[row.id] = frozen_recipe(self.project.folder, row)
            except HeronError as error:
                self.say(str(error))
                return None
        return self._recipes[row.id]

    def forget_recipes(self, runs: list[int]) -> None:
        """Read the recipes of these runs anew."""
        for run in runs:
            self._recipes.pop(run, None)
        self.runs_changed.emit()

    def scores(self) -> dict[str, dict[str, Any]]:
        """What simple drivers reached on the task: of the last rehearsals, else as kept beside the task."""
        if self.shakedown is not None:
            return figures_of(self.shakedown.rehearsals)
        try:
            return dict(kept_scores(self.project.folder, self.task).get("drivers", {}))
        except HeronError as error:
            self.say(str(error))
            return {}

    def lines(self, quantity: str) -> list[tuple[str, float]]:
        """Drivers that charts draw as lines: nobody, a constant, chance, the regulator and the best rule; by "score" or "success"."""
        scores = self.scores() if self._references_fit() else {}
        rules = sorted((n for n in scores if n.startswith("rule ")), key=lambda n: -float(scores[n]["score"]))
        names = [n for n in ("nobody", "constant", "random", "regulator") if n in scores] + rules[:1]
        return [(name, float(scores[name][quantity])) for name in names]

    def _references_fit(self) -> bool:
        """Whether what simple drivers reached belongs to the task as it is."""
        if self.problem is None:
            return False
        if self.shakedown is not None:
            return True  # rehearsed here; the Shakedown station says what was changed since
        try:
            kept = kept_scores(self.project.folder, self.task).get("fingerprint")
        except HeronError:
            return False
        return kept == self.problem.fingerprint()

    def shakedown_older(self) -> bool:
        """Whether the task or machine were changed since the rehearsals."""
        return (
            self.problem is not None and self.shakedown is not None and self.shakedown_of != self.problem.fingerprint()
        )

    def training(self) -> list[RunRow]:
        """Runs that wait or are at work."""
        return [row for row in self.rows if row.alive]

    def train(self, seeds: list[int], source: tuple[RunRow, str] | None = None) -> str:
        """Start a batch of the present task and recipe, or queue it behind those at work; returns what is wrong, or nothing.

        Parameters
        ----------
        source
            A run and which of its policies to start from.
        """
        if self.needs_task():
            return self.trouble
        if self.faults:
            key, wanted = next(iter(self.faults.items()))
            text = f"training waits for {key}: {wanted}"
            self.say(text)
            return text
        try:
            recipe = self.present_recipe()
            start = launch.start_of(self.project.folder, *source) if source is not None else None
            numbers = launch.train(
                self.project.folder, self.task, recipe, seeds, start, self.tried if recipe is self.unwritten else ""
            )
        except HeronError as error:
            self.say(str(error))
            return str(error)
        self.batch, self.run = self.store.run(numbers[0]).batch, None
        self.refresh_runs()
        return ""

    def stop_training(self) -> None:
        """Ask all runs at work to stop; they keep what they have."""
        launch.stop(self.project.folder, [row.id for row in self.training()])
        self.refresh_runs()

    def resume(self, run: int, steps: int | None = None) -> str:
        """Put a run back to work, with `steps` also one that has ended; returns what is wrong, or nothing."""
        wrong = ""
        try:
            if said := launch.resume(self.project.folder, run, steps):
                self.noted.emit(f"run {run} goes on {said}" if said.startswith("without") else f"run {run}: {said}")
            self._recipes.pop(run, None)
            self.records.forget(run)
        except HeronError as error:
            wrong = str(error)
            self.say(wrong)
        self.refresh_runs()
        return wrong

    # --- jobs --------------------------------------------------------------------------------------------------------

    def start_job(self, name: str, function: Callable[[Job], Any], then: Callable[[Any], None]) -> Job | None:
        """Start a job if none is at work; its result goes to `then` in this thread."""
        if self.job is not None and self.job.busy:
            self.say(f"{self.job.name} is still at work; stop it first")
            return None
        job = Job(name, function, self)
        self.job, self.share = job, 0.0
        job.progressed.connect(self._progress)
        job.done.connect(lambda result: self._ended(job, "", then, result))
        job.failed.connect(lambda text: self._ended(job, text, then, None))
        self.say("")
        self.job_changed.emit()
        return job.start()

    def _progress(self, share: float) -> None:
        self.share = share
        self.job_changed.emit()

    def _ended(self, job: Job, text: str, then: Callable[[Any], None], result: Any) -> None:
        if self.job is job:
            self.job = None
        if text:
            self.say(text)
        else:
            then(result)
        self.job_changed.emit()
        self.results_changed.emit()

    def close(self) -> None:
        """End jobs; runs go on by themselves."""
        self.closed = True
        self._timer.stop()
        if self.job is not None:
            self.job.stop()
            self.job.wait(5.0)
        self.store.close()


def _stamp(path: Path) -> object:
    """What tells that a file, or the names in a folder, changed; None where it is gone."""
    try:
        facts = path.stat()
        if path.is_dir():
            return sorted(
                inner.name for inner in path.iterdir() if not inner.name.startswith(".") and inner.suffix == ".toml"
            )
        return facts.st_mtime_ns, facts.st_size, facts.st_ino
    except OSError:
        return None
