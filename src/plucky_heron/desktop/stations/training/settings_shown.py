"""The settings of a recipe as they will be: what it states, the method's standard, and what fits the task once that was measured."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PySide6.QtCore import QObject, Signal

from plucky_heron.desktop.bench.workbench import Workbench
from plucky_heron.desktop.jobs import Job
from plucky_heron.learning.guide import GUIDES, SettingFacts, settings_facts
from plucky_heron.training.fitting import Fitted, fitted_settings
from plucky_heron.training.measurement import kept_measurement, measured
from plucky_heron.training.recipe import Recipe
from plucky_heron.units import plain_number


class SettingsShown(QObject):
    """What the station and its sheet show of settings; measures the task where that is still to be done.

    Signals
    -------
    measured()
        What fits the task is known now.
    """

    measured = Signal()

    def __init__(self, bench: Workbench, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.bench = bench
        self._asked: set[tuple[str, str]] = set()
        """Tasks, with their fingerprints, that were to be measured."""

    def fitted(self, recipe: Recipe) -> dict[str, Fitted]:
        """What fits the task, by setting; nothing before it was measured."""
        problem, project = self.bench.problem, self.bench.project.folder
        if not recipe.fit or problem is None or recipe.method not in GUIDES:
            return {}
        found = kept_measurement(problem, project)
        if found is not None:
            return fitted_settings(problem, recipe, found)
        key = self.bench.task, problem.fingerprint()
        if key not in self._asked:
            self._asked.add(key)
            # beside the bench's one job: two seconds that nobody asked for must not stand in the way of one
            job = Job("measuring the task", lambda _: measured(problem, project), self.bench)
            job.done.connect(lambda _: self.measured.emit())
            job.start()
        return {}

    def facts(self, recipe: Recipe) -> list[SettingFacts]:
        """All settings of the method; what fits the task is their default, with why."""
        fitted = self.fitted(recipe)
        found = []
        for fact in settings_facts(recipe.schema_of_settings(), recipe.standard):
            fits = fitted.get(fact.key)
            if fits is not None:
                value = tuple(fits.value) if isinstance(fits.value, list) else fits.value
                fact = replace(fact, default=value, does=f"Fits: {fits.why}. {fact.does}")
            found.append(fact)
        return found

    def values(self, recipe: Recipe, facts: list[SettingFacts]) -> dict[str, Any]:
        """The number of each setting: times counted in samples of the task."""
        rate = self.bench.problem.sample_time if self.bench.problem is not None else 0.02
        stated = recipe.method_settings(sample_time=rate).model_dump()
        return stated | {fact.key: fact.default for fact in facts if fact.key not in recipe.settings}


def is_time(value: Any) -> bool:
    """Whether a setting is stated as a time, such as ``"0.4 s"``."""
    return isinstance(value, str) and value != "off" and not plain_number(value)
