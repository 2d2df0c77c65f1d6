"""Reward that helps learning and changes nothing of what is best: differences of a potential, which the score never sees.

After Ng, Harada and Russell 1999 ("Policy invariance under reward transformations"), eq. 2: F = discount * potential(after) -
potential(before). An ending has no potential, so that what was lent on the way is taken back there; a time limit keeps its.
"""

from __future__ import annotations

import numpy as np

from plucky_heron.errors import FileError, FormulaError
from plucky_heron.formula import Expression, parse_formula
from plucky_heron.simulation.batch import Batch
from plucky_heron.task.problem import Problem

Array = np.ndarray


def potential_of(problem: Problem, formula: str, source: str = "recipe") -> Expression:
    """The checked formula of a recipe's potential over the signals of a task.

    Raises
    ------
    FileError
        It is no formula over these signals.
    """
    try:
        return parse_formula(formula, problem.units)
    except FormulaError as error:
        wrong = f"column {error.column}: {error.message}"
        if "clearance(" in formula or "overlap(" in formula:
            wrong = "a distance must be a named signal of the task to be used here"
        raise FileError(source, "shaping.potential", formula, wrong) from error


class Shaping:
    """The potential of every copy of a batch, followed from sample to sample."""

    def __init__(self, batch: Batch, potential: Expression, discount: float) -> None:
        self.discount = discount
        self.program = batch.program([potential])

    @property
    def potential(self) -> Array:
        """Now, (copies,)."""
        return np.asarray(np.nan_to_num(self.program.results[0], posinf=0.0, neginf=0.0))

    def begin(self, copies: Array) -> None:
        """These copies (indices) have just begun an episode."""
        if len(copies):
            self.program.run(copies)

    def pay(self, ended: Array) -> Array:
        """What the sample that has gone by adds to the reward, (copies,); `ended` are those that met an ending."""
        before = self.potential
        self.program.run()
        return np.asarray(self.discount * np.where(ended, 0.0, self.potential) - before)

    def keep(self) -> Array:
        """What the formula remembers."""
        return self.program.keep()

    def restore(self, kept: Array) -> None:
        """Set what `keep` gave; the batch has been restored before."""
        self.program.restore(kept)
        self.program.run(again=True)
