"""The reward of a task, and where it ends, as far as it follows from what is observed: for models that foresee observations alone.

A formula follows if all that it reads is an observation (or part of a formula that is one), a command, the command before, or a number.
What formulas remember, what is observed late, clipped, stacked or turned into sines, and what no sensor tells do not.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from plucky_heron.formula import Expression, Program
from plucky_heron.formula.functions import MEMORY
from plucky_heron.formula.parsing import Node
from plucky_heron.task.problem import Problem

Array = np.ndarray


class ObservedReward:
    """Reward terms and endings of a problem that follow from observations.

    Attributes
    ----------
    terms, endings : tuple of str
        Names of those that follow.
    every_reward, every_ending : bool
        Whether none is left to be learned.
    """

    def __init__(self, problem: Problem) -> None:
        self.problem = problem
        self._sources = dict(self._observed())
        commands = [c.name if c.plain else "" for c in problem.commands]
        self._leaves = {f"action.{name}": f"command {k}" for k, name in enumerate(commands) if name}
        before = {
            node.name: name for node, name in self._sources.items() if node.op == "signal" and node.name in self._leaves
        }
        self._leaves |= {f"previous.{action}": f"before {place}" for action, place in before.items()}
        task = problem.task
        ends = [self._told(e) for e in problem.endings]
        held = [task.timing.samples(e.hold) == 0 and e.deadline is None for e in task.endings.values()]
        self._endings = [e if h else None for e, h in zip(ends, held, strict=True)]
        self.endings = tuple(n for n, e in zip(task.endings, self._endings, strict=True) if e is not None)
        self.every_ending = len(self.endings) == len(task.endings)
        self._terms: list[tuple[Expression, float, int]] = []
        names, self.every_reward = [], True
        for (name, reward), formula in zip(task.rewards.items(), problem.rewards, strict=True):
            number = -1 if reward.ending is None else list(task.endings).index(reward.ending)
            told = self._told(formula) if reward.when != "on event" else None
            # what is paid at an ending hangs on which of all endings it was: the first that holds
            if number >= 0 and not all(e is not None for e in self._endings[: number + 1]):
                told = None
            if reward.muted:
                continue
            if told is None:
                self.every_reward = False
                continue
            names.append(name)
            weight = reward.weight * (problem.sample_time if reward.when == "each second" else 1.0)
            self._terms.append((told, weight, number))
        self.terms = tuple(names)
        self._programs: dict[int, tuple[dict[str, Array], Program]] = {}

    def judge(self, before: Array, commands: Array, after: Array) -> tuple[Array, Array]:
        """Reward of the known terms (N,), and whether a known ending is met, bool (N,).

        Parameters
        ----------
        before, after : (N, entries)
            Observations in SI units, at the command and one sample later.
        commands : (N, commands)
            In SI units.
        """
        count = len(before)
        if count not in self._programs:
            if len(self._programs) >= 8:
                self._programs.clear()
            self._programs[count] = self._program(count)
        signals, program = self._programs[count]
        for name, column in signals.items():
            kind, place = name.split()[0], int(name.split()[-1])
            column[:] = {"entry": after, "before": before, "command": commands}[kind][:, place]
        results = program.run()
        met = np.zeros((len(self._endings), count), dtype=np.bool_)
        at = len(self._terms)
        for number, formula in enumerate(self._endings):
            if formula is not None:
                met[number] = results[at] != 0.0
                at += 1
        ended = met.any(axis=0)
        first = np.argmax(met, axis=0) if len(met) else np.zeros(count, dtype=np.int64)
        paid: Array = np.zeros(count)
        for row, (_, weight, ending) in zip(results, self._terms, strict=False):
            paid += weight * (row if ending < 0 else np.where(ended & (first == ending), row, 0.0))
        return paid, np.asarray(ended)

    def _program(self, count: int) -> tuple[dict[str, Array], Program]:
        expressions = [t for t, _, _ in self._terms] + [e for e in self._endings if e is not None]
        used = sorted({name for e in expressions for name in e.signals})
        signals = {name: np.zeros(count) for name in used}
        return signals, Program(expressions, signals, count, sample_time=self.problem.sample_time)

    def _observed(self) -> Iterator[tuple[Node, str]]:
        for k, entry in enumerate(self.problem.entries):
            formula = self.problem.observations[entry.source]
            if entry.shape == "value" and entry.samples_ago == 0 and not entry.clip and not formula.size:
                yield self._expanded(formula.root), f"entry {k}"

    def _expanded(self, node: Node) -> Node:
        """The node with all signals that are formulas written out."""
        if node.op == "signal" and node.name in self.problem.definitions:
            return self._expanded(self.problem.definitions[node.name].root)
        return replace(node, args=tuple(self._expanded(arg) for arg in node.args))

    def _told(self, formula: Expression) -> Expression | None:
        """The formula over entries and commands; None if it does not follow from them."""
        names: set[str] = set()
        root = self._substituted(self._expanded(formula.root), names)
        return None if root is None else Expression(formula.text, root, tuple(sorted(names)))

    def _substituted(self, node: Node, names: set[str]) -> Node | None:
        found = self._leaves.get(node.name) if node.op == "signal" else None
        found = found or self._sources.get(node)
        if found is not None:
            names.add(found)
            return Node("signal", name=found)
        if node.op == "number":
            return node
        if node.op in ("signal", "list") or node.op in MEMORY:
            return None
        parts = []
        for arg in node.args:
            part = self._substituted(arg, names)
            if part is None:
                return None
            parts.append(part)
        return replace(node, args=tuple(parts))
