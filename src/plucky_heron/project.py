"""A project folder as an object: what notebooks, the command line and the window work with."""

from __future__ import annotations

import json
import re
import shutil
import tomllib
from pathlib import Path
from typing import TYPE_CHECKING, Any

from plucky_heron.errors import FileError, StateError, did_you_mean
from plucky_heron.files import (
    Settings,
    check_path,
    data_folder,
    inside,
    is_file,
    load,
    read_text,
    read_toml,
    write_whole,
)
from plucky_heron.task.problem import Problem, read_problem
from plucky_heron.upgrading import FORMAT, upgrade_text

if TYPE_CHECKING:
    from collections.abc import Callable

    from plucky_heron.analysis.diagnosis.finding import Finding
    from plucky_heron.analysis.proving.proof import Proof
    from plucky_heron.analysis.rehearsal import Rehearsal
    from plucky_heron.analysis.result_table import ResultTable
    from plucky_heron.analysis.shakedown.rehearsals import Shakedown
    from plucky_heron.learning.policy import Policy
    from plucky_heron.rigs.rollout import RolloutResult
    from plucky_heron.runs.store import RunRow
    from plucky_heron.task.importing import ImportReport
    from plucky_heron.task.wishes.writing import Offer, Written
    from plucky_heron.training.recipe import Recipe


class ProjectFile(Settings):
    """``project.toml``."""

    format: int = FORMAT
    name: str
    notes: str = ""
    first_task: str = ""
    """Task that is shown when the project is opened."""


class Project:
    """A project folder.

    Raises
    ------
    FileError
        Not a project, or its ``project.toml`` is wrong.
    """

    def __init__(self, folder: str | Path) -> None:
        self.folder = Path(folder).resolve()
        if not is_file(self.folder / "project.toml"):
            raise FileError(self.folder, "", None, "is not a project: it has no project.toml; see heron new")
        self.upgraded = upgrade_files(self.folder)
        """Files that were of an older format, by their path in the project."""
        settings = load(ProjectFile, self.folder / "project.toml")
        self.name, self._first_task = settings.name, settings.first_task

    def upgraded_text(self) -> str:
        """What is said of files that were brought up to date on opening; "" where there were none."""
        count = len(self.upgraded)
        files = f"{count} file{'s' if count > 1 else ''}"
        return f"{files} brought up to date; as they were: {self.folder / '.format-1'}" if count else ""

    def tasks(self) -> list[str]:
        """Names of the tasks."""
        return sorted(p.stem for p in (self.folder / "tasks").glob("*.toml"))

    def first_task(self) -> str:
        """The task that is shown first: the one that project.toml names, else the first by name; "" without any."""
        tasks = self.tasks()
        return self._first_task if self._first_task in tasks else (tasks or [""])[0]

    def machines(self) -> list[str]:
        """Names of the machines."""
        return sorted(p.stem for p in (self.folder / "machines").glob("*") if p.suffix in (".toml", ".urdf"))

    def machine_path(self, name: str) -> Path:
        """The file of a machine, ours before a URDF of the same name."""
        ours = inside(self.folder, f"machines/{name}.toml")
        return ours if is_file(ours) else inside(self.folder, f"machines/{name}.urdf")

    def recipes(self) -> list[str]:
        """Names of the recipes."""
        return sorted(p.stem for p in (self.folder / "recipes").glob("*.toml"))

    def recipe_for(self, task: str) -> str:
        """The recipe to start from: the one named like the task, else one that says it is for it, by PPO if there is such, else a "ppo"
        that is for any task, else the standard, which needs no file.
        """
        from plucky_heron.training.recipe import STANDARD

        recipes = self.recipes_of([task])
        told = [name for name, tasks in recipes.items() if task in tasks]
        wanted = [task, *sorted(told, key=lambda name: name != "ppo"), "ppo"]
        return next((name for name in wanted if name in recipes), STANDARD)

    def recipes_of(self, tasks: list[str]) -> dict[str, tuple[str, ...]]:
        """Recipes that may be used for one of some tasks, and the tasks that each says it is for; none said is any.

        One that cannot be read is among them: its fault is told where it is used.
        """
        found = {}
        for name in self.recipes():
            try:
                said = read_toml(inside(self.folder, f"recipes/{name}.toml")).get("tasks", ())
            except FileError:
                said = ()
            said = tuple(map(str, said)) if isinstance(said, list) else ()
            if not said or set(said) & set(tasks):
                found[name] = said
        return found

    def tasks_of(self, machine: str) -> list[str]:
        """Tasks of a machine; one that cannot be read is of none."""
        found = []
        for task in self.tasks():
            try:
                if read_toml(inside(self.folder, f"tasks/{task}.toml")).get("machine") == machine:
                    found.append(task)
            except FileError:
                continue
        return found

    def site_of(self, machine: str) -> str:
        """The site that a machine's first task uses, else the first one.

        Raises
        ------
        FileError
            The project has no site.
        """
        for task in self.tasks_of(machine):
            site = read_toml(inside(self.folder, f"tasks/{task}.toml")).get("site")
            if isinstance(site, str):
                return site
        if not self.sites():
            raise FileError(self.folder, "sites", None, "has no site yet; make one")
        # what floats wants water, what travels ground
        machine_file = inside(self.folder, f"machines/{machine}.toml")
        told = read_toml(machine_file) if machine_file.is_file() else {}
        return min(self.sites(), key=lambda name: -self._suits(name, told))

    def _suits(self, site: str, machine: dict[str, Any]) -> int:
        try:
            place = read_toml(inside(self.folder, f"sites/{site}.toml"))
        except FileError:
            return -1
        forces, joints = machine.get("forces", {}), machine.get("joints", {})
        wet = any(part.get("kind") in ("hull", "float") for part in forces.values() if isinstance(part, dict))
        free = any(part.get("kind") in ("free", "planar") for part in joints.values() if isinstance(part, dict))
        return 2 * (wet == ("water_level" in place)) + (free == ("terrain" in place or "water_level" in place))

    def _site_or_none(self, machine: str) -> str:
        return self.site_of(machine) if self.sites() else ""

    def sites(self) -> list[str]:
        """Names of the sites."""
        return sorted(p.stem for p in (self.folder / "sites").glob("*.toml"))

    def wishes(self, machine: str, site: str = "") -> list[Offer]:
        """What a machine could be wished to do on a site, and why not the rest."""
        from plucky_heron.task.wishes.writing import offers

        return offers(self.folder, machine, site or self._site_or_none(machine))

    def write_wish(
        self, machine: str, wish: str, site: str = "", name: str = "", answers: dict[str, str] | None = None
    ) -> Written:
        """Write a task from a wish, with what machine and site need for it; a project without a site gets a plain one."""
        from plucky_heron.task.wishes.writing import written_wish

        made = written_wish(self.folder, machine, site or self._site_or_none(machine), wish, answers or {}, name)
        for path, text in made.texts.items():
            write_whole(inside(self.folder, path), text)
        return made

    def problem(self, task: str, faults: list[FileError] | None = None) -> Problem:
        """A task with its machine and site, checked; formulas that cannot be read go into `faults`, see `bind`."""
        return read_problem(self.folder, task, faults)

    def recipe(self, name: str) -> Recipe:
        """A recipe, checked."""
        from plucky_heron.training.recipe import read_recipe

        return read_recipe(self.folder, name)

    def runs(self) -> list[RunRow]:
        """The catalogue of runs."""
        from plucky_heron.runs.store import RunStore

        store = RunStore(self.folder)
        try:
            return store.runs()
        finally:
            store.close()

    def run(self, number: int) -> RunRow:
        """One run."""
        from plucky_heron.runs.store import RunStore

        store = RunStore(self.folder)
        try:
            return store.run(number)
        finally:
            store.close()

    def train(
        self, task: str, recipe: str | None = None, seed: int = 1, *, wait: bool = True, **changes: Any
    ) -> RunRow:
        """Train one run in a worker process, by default by the task's own recipe or the standard; waits for its end unless told otherwise."""
        from plucky_heron.runs import launch
        from plucky_heron.training.recipe import with_changes

        chosen = with_changes(self.recipe(recipe or self.recipe_for(task)), {k: str(v) for k, v in changes.items()})
        numbers = launch.train(self.folder, task, chosen, [seed])
        if wait:
            return launch.wait(self.folder, numbers)[0]
        return self.run(numbers[0])

    def shakedown(self, task: str, progress: Callable[[str, float], bool] | None = None) -> Shakedown:
        """Rehearse with simple drivers and check the task; what they scored is kept beside it."""
        from plucky_heron.analysis.shakedown.rehearsals import shake_down_task

        return shake_down_task(self.problem(task), self.folder, progress)

    def rehearse(self, task: str, seed: int = 1) -> Rehearsal:
        """An episode to go through by hand, command by command."""
        from plucky_heron.analysis.rehearsal import Rehearsal

        return Rehearsal(self.problem(task), seed, self.folder)

    def fits(self, task: str, method: str = "ppo") -> ResultTable:
        """Settings that fit a task by a method's standard, with why."""
        from plucky_heron.analysis.result_table import table_of
        from plucky_heron.training.fitting import fitted_settings
        from plucky_heron.training.measurement import measured
        from plucky_heron.training.recipe import standard_recipe

        problem = self.problem(task)
        found = fitted_settings(problem, standard_recipe(method), measured(problem, self.folder))
        return table_of(
            f"{method} on {task}", ("setting", "value", "why"), [(k, f.value, f.why) for k, f in found.items()]
        )

    def curve(self, run: int) -> ResultTable:
        """The evaluations of a run: step, success, score, seconds."""
        from plucky_heron.analysis.result_table import table_of
        from plucky_heron.runs.store import RunStore

        store = RunStore(self.folder)
        try:
            rows = [(e.step, e.success, e.score, e.seconds, e.episodes) for e in store.course(store.run(run).id)]
        finally:
            store.close()
        return table_of(f"run {run}", ("step", "success %", "score", "seconds", "episodes"), rows)

    def looking_back(self, run: int) -> list[str]:
        """What a run that is over says of itself: figures outside their band, whether it was still rising, nothing where all is well."""
        from plucky_heron.runs.freeze import frozen_recipe
        from plucky_heron.runs.store import RunStore
        from plucky_heron.training.looking_back import declared, looking_back

        row = self.run(run)
        store = RunStore(self.folder)
        try:
            return looking_back(declared(frozen_recipe(self.folder, row)), store.course(row.id), store.health(row.id))
        finally:
            store.close()

    def diagnose(self, *runs: int) -> list[Finding]:
        """Named findings on runs of one batch, the weightiest first."""
        from plucky_heron.analysis.diagnosis.of_runs import findings_on

        return findings_on(self.folder, runs)

    def stop(self, *runs: int) -> None:
        """Ask runs to stop; they keep what they have."""
        from plucky_heron.runs import launch

        launch.stop(self.folder, list(runs))

    def prove(self, run: int, trials: int = 200) -> Proof:
        """Try the kept policy of a run on fresh trials, beside nobody, chance, rules and regulator; the result is kept."""
        from plucky_heron.analysis.proving.proof import prove_run

        return prove_run(self.folder, self.run(run), trials=trials)[0]

    def handover(
        self, run: int, out: str | Path, forms: str = "onnx,c99", wiring: str | Path | None = None
    ) -> dict[str, Any]:
        """Write a pack of a run's kept policy for a real controller; what is in it, and how exactly each form computes the same."""
        from plucky_heron.handover.forms.catalogue import forms_named
        from plucky_heron.handover.pack import write_pack

        wired = None if wiring is None else Path(wiring)
        return write_pack(self.folder, self.run(run), Path(out), forms_named(forms), wiring=wired)

    def film(self, run: int, out: str | Path, which: str = "best", *, starts: int = 1, speed: float = 1.0) -> int:
        """Write an episode of a kept policy as a short video (.webm or .mp4); its pictures."""
        from plucky_heron.runs.filming import film_apart

        return film_apart(self.folder, self.run(run).id, which, Path(out), lambda _: True, starts, speed)

    def rollout(
        self,
        pack: str | Path,
        on: str = "host",
        episodes: int = 5,
        *,
        lock_step: bool = True,
        whole: bool = False,
        ask: str = "",
    ) -> RolloutResult:
        """Run a pack on a simulated controller in closed loop; `whole` and `ask` as the command line has them."""
        from plucky_heron.rigs.rollout import roll_out
        from plucky_heron.rigs.sides import Script

        script = Script(ask) if ask else None
        whole = whole or script is not None
        return roll_out(
            Path(pack),
            on,
            episodes=episodes,
            lock_step=lock_step,
            project=self.folder,
            whole=whole,
            commissioning=script,
        )

    def policy(self, run: int, which: str = "best") -> Policy:
        """The kept policy of a run, ``"best"`` or ``"last"``."""
        from plucky_heron.runs.freeze import kept_policy

        if which not in ("best", "last"):
            raise StateError(f"policy {which!r}: wanted best or last")
        return kept_policy(self.folder, self.run(run), which)

    def frozen(self, run: int) -> Problem:
        """The problem as a run saw it."""
        from plucky_heron.runs.freeze import frozen_problem

        return frozen_problem(self.folder, self.run(run))


UP_TO_DATE = re.compile(rf"^format[ \t]*=[ \t]*{FORMAT}[ \t]*(?:#.*)?\r?$", re.MULTILINE)
MOST_UPGRADED = 300_000
"""Characters of a file that is still written anew; larger ones are read as they are."""


def upgrade_files(folder: Path) -> list[str]:
    """Bring the text files of a project up to date, with a copy of each in ``.format-1``; comments and order stay.

    A file that cannot be read, and a project that may not be written, is left as it is: older files are read all the same.
    """
    found = []
    for path in (folder / "project.toml", *sorted(folder.glob("*/*.toml"))):
        kind = path.parent.name if path.parent != folder else "project"
        if kind not in ("project", "machines", "sites", "tasks", "recipes") or path.is_symlink():
            continue
        name = f"{kind}/{path.name}" if path.parent != folder else path.name
        try:
            text = read_text(path)
            if UP_TO_DATE.search(text) or len(text) > MOST_UPGRADED:
                continue
            newer = upgrade_text(text, kind)
            if newer == text:
                continue
            version = tomllib.loads(text).get("format", 1)
            copy = inside(folder, f".format-{version}/{name}")
            if not is_file(copy):
                write_whole(copy, text)
            write_whole(inside(folder, name), newer)
            found.append(name)
        except Exception:  # whatever is wrong with the file is said where it is read
            continue
    return found


def open_project(folder: str | Path) -> Project:
    """Open a project folder."""
    return Project(folder)


def demo_source() -> Path:
    """The demo project as shipped."""
    here = Path(__file__).resolve()
    beside = here.parents[2] / "demo" / "quillmere"  # in the source tree; an installed package holds its own
    return beside if beside.is_dir() else here.parent / "quillmere"


def demo_copy(fresh: bool = False) -> Path:
    """The user's copy of the demo project, with the batches that come with it; made on first use, kept afterwards unless `fresh`.

    Files of the copy are never overwritten: what was edited there stays.
    """
    target = data_folder() / "quillmere"
    if fresh and target.exists():
        shutil.rmtree(target)
    if not (target / "project.toml").is_file():
        shutil.copytree(demo_source(), target, dirs_exist_ok=True, ignore=shutil.ignore_patterns("runs", "packs"))
        recorded = demo_source().parent / "recorded"  # made by tools/ship_batches.py
        if recorded.is_dir() and not (target / "runs").exists():
            shutil.copytree(recorded, target / "runs")
            _leave_out_others(target)
    return target


def _leave_out_others(folder: Path) -> None:
    """Take those batches away that were recorded for another state of a demo copy's tasks: they would mislead."""
    from plucky_heron.runs.labels import delete_batch
    from plucky_heron.runs.store import RunStore

    project, store = Project(folder), RunStore(folder)
    try:
        for task in {run.task for run in store.runs()}:
            try:
                fits = project.problem(task).fingerprint()
            except FileError:
                fits = ""
            for batch in {run.batch for run in store.runs() if run.task == task and run.fingerprint != fits}:
                delete_batch(folder, store, batch)
    finally:
        store.close()


def create(
    folder: Path,
    machine: str | None = None,
    wish: str = "",
    answers: dict[str, str] | None = None,
    free: bool | None = None,
    told: Callable[[ImportReport], object] = lambda _: None,
    takes: str = "",
) -> Project:
    """A new project to start from: a machine file of ours or a URDF with a task of its own, or the demo's machine of that name with its site, tasks and recipes.

    What became of a file is `told`; the drives of a URDF are commanded by what they `takes`, see `machine_from_urdf`.

    Raises
    ------
    FileError
        The folder has something in it already, there is no such machine, or the wish does not fit it.
    """
    check_path(folder)
    if machine is not None and Path(machine).suffix:
        from plucky_heron.task.machine_copy import machine_from_file

        report = machine_from_file(check_path(Path(machine), "--from"), free, wish, answers, takes=takes)
        made = empty_project(folder)
        report.keep(made.folder)
        told(report)
        return made
    name = machine or _first_machine()
    files, _ = demo_machine_files(name)
    texts = {path: text for path, text in files.items() if text is not None}
    if wish:
        from plucky_heron.task.wishes.writing import written_wish

        source = Project(demo_source())
        texts |= written_wish(source.folder, name, source.site_of(name), wish, answers or {}, wish_file(wish)).texts
    made = empty_project(folder)
    for file, content in texts.items():
        write_whole(inside(made.folder, file), content)
    return made


def _first_machine() -> str:
    source = Project(demo_source())
    return source.problem(source.first_task()).task.machine


def demo_machine_files(name: str) -> tuple[dict[str, str | None], str]:
    """A machine of the demo with its site, tasks and recipes, as files by their path in a project; and its first task.

    Raises
    ------
    FileError
        No such machine.
    """
    source = Project(demo_source())
    if name not in source.machines():
        raise FileError("--from", "machine", name, f"no such machine; {did_you_mean(name, source.machines())}")
    tasks = source.tasks_of(name)
    files = [f"tasks/{t}.toml" for t in tasks] + [f"recipes/{r}.toml" for r in source.recipes_of(tasks)]
    files += [f"sites/{source.problem(t).task.site}.toml" for t in tasks]
    files += [str(p.relative_to(source.folder)) for p in (source.folder / "machines").glob(f"{name}.*")]
    return {file: read_text(source.folder / file) for file in files}, next(iter(tasks), "")


def wish_file(wish: str) -> str:
    """The name of a task that is written from a wish."""
    return re.sub(r"[^a-z0-9]+", "_", wish.lower()).strip("_")


def empty_project(folder: Path, title: str = "") -> Project:
    """A project with nothing in it yet, in a folder that is new or empty.

    Raises
    ------
    FileError
        The folder has something in it already, or cannot be made.
    """
    check_path(folder)
    try:
        if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
            raise FileError(folder, "", None, "is no folder, or not empty; name a new one")
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise FileError(folder, "", None, f"cannot be made: {error.strerror}") from error
    title = title or "".join(c for c in folder.resolve().name if c.isprintable())
    write_whole(folder / "project.toml", f"format = {FORMAT}\nname = {json.dumps(title, ensure_ascii=False)}\n")
    return Project(folder)
