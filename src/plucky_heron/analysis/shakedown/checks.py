"""What a task is checked for before training: its signals, commands, starts and clock. Each check says what it saw.

Only what can never be meant is "wrong"; the rest is worth a look and may be acknowledged with a reason.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from plucky_heron.analysis.machines.facts import static_loads
from plucky_heron.analysis.machines.problems import DEEPEST, weightless
from plucky_heron.control.poles import poles_of
from plucky_heron.dynamics.posing import tied
from plucky_heron.formula import Expression
from plucky_heron.machine.parts import Float, Hull, Wing
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.drivers import Driver
from plucky_heron.simulation.trials import Trials, run_trials
from plucky_heron.task.observing import Entry
from plucky_heron.task.problem import NOT_FINITE, Problem, bind
from plucky_heron.training.evaluation import EVALUATION_SEED
from plucky_heron.units import pretty_unit, show

Array = np.ndarray

REHEARSAL_STREAM = "rehearsal"
WRONG, LOOK = "wrong", "look"
_FEW_STARTS = 16
_EFFECT_STARTS = 4
LEAST_EFFECT = 1e-3
"""Share of a range by which a command, low against high, must move something sensed within a second."""
MOST_OUTSIDE, MOST_CLIPPED = 0.05, 0.6
"""Share of values that may lie outside a range; at one end of it, where readings stop there."""
FEWEST_SAMPLES = 8.0
"""Samples in a period of the fastest swing."""
_LONGEST_TRAINING = 24 * 3600.0


@dataclass(frozen=True)
class Remedy:
    """A change of the task file that would answer a check: what it is called, the key, and the value."""

    text: str
    key: tuple[str | int, ...]
    value: Any


@dataclass(frozen=True)
class Check:
    """One check: `severity` is "wrong" for what can never be meant, "look" for the rest."""

    name: str
    severity: str
    passed: bool
    evidence: str
    remedy: Remedy | None = None
    acknowledged: str = ""
    """Why it is meant so, where someone said so."""

    @property
    def open(self) -> bool:
        """Whether someone should still look at it."""
        return not self.passed and not self.acknowledged


@dataclass(frozen=True)
class Seen:
    """What checks look at: the rehearsals with their recordings, and every observation that they met, (k, entries)."""

    problem: Problem
    rehearsals: dict[str, Trials]
    drivers: dict[str, Driver]
    met: Array
    budget: int
    """Control steps of the training that is planned."""

    @property
    def best(self) -> Trials:
        """The rehearsal with the highest mean score."""
        return max(self.rehearsals.values(), key=lambda t: float(t.score.mean()))


def signal_checks(seen: Seen) -> Iterator[Check]:
    """Everything but the reward and the endings."""
    yield _finite(seen)
    yield from _ranges(seen)
    yield _independent(seen)
    yield from _wanted(seen)
    yield from _effects(seen)
    yield _strong_enough(seen)
    yield _starts_last(seen)
    yield _starts_free(seen)
    yield _repeats(seen)
    yield _halved(seen)
    yield _fast_enough(seen)


def _finite(seen: Seen) -> Check:
    count = sum(t.tally().get(NOT_FINITE, 0) for t in seen.rehearsals.values())
    total = sum(len(t.score) for t in seen.rehearsals.values())
    why = next((f": {t.text}; {t.remedy}" for t in weightless(seen.problem)), "") if count else ""
    return Check("finite", WRONG, count == 0, f"{count} of {total} episodes became not finite{why}")


def _ranges(seen: Seen) -> Iterator[Check]:
    """One check an observation: it moves, keeps to its range, and uses it; of a list, its worst number."""
    for source, o in enumerate(seen.problem.task.observations):
        columns = [k for k, e in enumerate(seen.problem.entries) if e.source == source and e.shape == "value"]
        if not columns:
            continue
        found = [_range(seen.problem.entries[k], seen.met[:, k]) for k in columns]
        worst = min(found, key=lambda f: f[0])
        rank, evidence = worst
        span = _sensible(seen.met[:, columns])
        remedy = None
        if rank in (1, 2):
            low, high = (show(v, o.si).replace("−", "-") for v in span)
            remedy = Remedy(f"range {low} … {high}", ("observations", source, "range"), [low, high])
        yield Check(f"{o.name} {'moves' if rank == 0 else 'range'}", LOOK, rank == 3, evidence, remedy)


def _sensible(values: Array) -> tuple[float, float]:
    """A rounded range that holds all values but one in a hundred, with a tenth of room."""
    low, high = (float(np.percentile(values, share)) for share in (0.5, 99.5))
    if low < 0.0 < high and min(-low, high) > 0.3 * max(-low, high):
        low, high = -max(-low, high), max(-low, high)
    size = max(high - low, 1e-9)
    unit = 10.0 ** math.floor(math.log10(size)) / 5.0
    return math.floor((low - 0.05 * size) / unit) * unit, math.ceil((high + 0.05 * size) / unit) * unit


def _range(entry: Entry, values: Array) -> tuple[int, str]:
    """0 never moves, 1 saturates, 2 uses little of its range, 3 well; and the evidence."""
    low, high = entry.low, entry.high
    unit = pretty_unit(entry.si)
    if entry.clip:  # a sensor that ends at its range stands there often: only that alone says nothing
        outside = max(float((values <= low).mean()), float((values >= high).mean()))
    else:
        room = 0.01 * (high - low)  # a stop gives way a little
        outside = float(((values < low - room) | (values > high + room)).mean())
    span = f"met {show(values.min())} … {show(values.max())} {unit}, range {show(low)} … {show(high)} {unit}"
    if values.max() - values.min() < 1e-9 * (high - low):
        return 0, f"never moves: always {show(values[0], entry.si)}"
    if outside > (MOST_CLIPPED if entry.clip else MOST_OUTSIDE):
        return 1, f"{100 * outside:.0f} % {'at one end of' if entry.clip else 'outside'} its range: {span}"
    if float(np.ptp(np.percentile(values, (0.5, 99.5)))) < 0.05 * (high - low):
        return 2, f"uses under 5 % of its range: {span}"
    return 3, span


def _independent(seen: Seen) -> Check:
    """No observation is a linear combination of others (stacks and what does not move left out)."""
    name = "observations differ"
    entries = seen.problem.entries
    spread = seen.met.std(axis=0)
    moving = [k for k, e in enumerate(entries) if e.samples_ago == round(e.delay / seen.problem.sample_time)]
    moving = [k for k in moving if spread[k] > 1e-9 * (entries[k].high - entries[k].low)]
    rows = (seen.met[:, moving] - seen.met[:, moving].mean(axis=0)) / spread[moving]
    if rows.shape[1] < 2:
        return Check(name, LOOK, True, "there is one only")
    together = rows.T @ rows / len(rows)
    for a in range(len(moving)):
        for b in range(a):
            if abs(together[a, b]) > 1.0 - 1e-9:
                pair = f"{entries[moving[a]].name} and {entries[moving[b]].name}"
                return Check(name, LOOK, False, f"{pair} say the same (correlation {together[a, b]:+.6f})")
    values, vectors = np.linalg.eigh(together)
    if values[0] < 1e-9:
        part = np.abs(vectors[:, 0])
        names = [entries[moving[k]].name for k in np.argsort(-part) if part[k] > 0.1 * part.max()]
        return Check(name, LOOK, False, f"{', '.join(names[:5])} follow from each other")
    return Check(name, LOOK, True, f"the least share of its own of any of them is {values[0]:.1e}")


def signals_behind(problem: Problem, expressions: tuple[Expression, ...]) -> set[str]:
    """All signals that formulas read, also through the task's own signals."""
    found: set[str] = set()
    waiting = [name for e in expressions for name in e.signals]
    while waiting:
        name = waiting.pop()
        if name not in found:
            found.add(name)
            if name in problem.definitions:
                waiting += problem.definitions[name].signals
    return found


def _wanted(seen: Seen) -> Iterator[Check]:
    """What is drawn anew and decides the reward must be sensed: set-points, and the time left to a deadline."""
    problem = seen.problem
    sensed = signals_behind(problem, problem.observations)
    paid = signals_behind(problem, (*problem.rewards, *problem.endings, problem.measure))
    hidden = [n for n, s in problem.task.setpoints.items() if n in paid and n not in sensed and s.draw.fixed is None]
    if problem.task.setpoints:
        text = (
            f"{', '.join(hidden)} decide the reward and are not sensed" if hidden else "all that are wanted are sensed"
        )
        yield Check("set-points are sensed", LOOK, not hidden, text)
    deadlines = [n for n, e in problem.task.endings.items() if e.deadline is not None]
    if deadlines:
        passed = "time.left" in sensed
        text = f"{', '.join(deadlines)} ends it, and the time left is {'' if passed else 'not '}sensed"
        limit = max(problem.task.endings[n].deadline or 0.0 for n in deadlines)
        entry = {"name": "time left", "formula": "time.left", "unit": "s", "range": ["0 s", f"{limit:g} s"]}
        remedy = None if passed else Remedy("sense time.left", ("observations", len(problem.task.observations)), entry)
        yield Check("deadline is sensed", LOOK, passed, text, remedy)


def _effects(seen: Seen) -> Iterator[Check]:
    """Each command moves something that is sensed: the same episodes with it low and high, all else alike."""
    problem = seen.problem
    if (seen.rehearsals["nobody"].steps <= 1).all():
        return  # nothing lasts long enough to tell; another check says so
    own = {f"{p}action.{a.name}" for a in problem.task.actions for p in ("", "previous.")}
    own |= {f"command.{a.name}" for a in problem.task.actions}
    own |= {f"action.{a.name}.{choice}" for a in problem.task.actions for choice in a.choices}
    felt = [
        k
        for k, e in enumerate(problem.entries)
        if not signals_behind(problem, (problem.observations[e.source],)) <= own
    ]
    count = len(problem.commands)
    copies = 2 * count * _EFFECT_STARTS
    batch = Batch(problem, copies, EVALUATION_SEED, REHEARSAL_STREAM)
    batch.start(np.repeat(np.arange(_EFFECT_STARTS), 2 * count))
    nominal = np.clip(np.zeros(count), problem.low, problem.high)
    commands = np.tile(nominal, (copies, 1))
    for k in range(count):
        commands[2 * k :: 2 * count, k], commands[2 * k + 1 :: 2 * count, k] = problem.low[k], problem.high[k]
    width = np.array([e.high - e.low for e in problem.entries])
    largest = np.zeros((count, len(problem.entries)))
    for _ in range(min(batch.limit, max(10, problem.task.timing.samples(1.0)))):
        batch.step(commands)
        rows = batch.observe().reshape(_EFFECT_STARTS, count, 2, -1)
        both = np.asarray(batch.running.reshape(_EFFECT_STARTS, count, 2).all(axis=2))[:, :, None]
        moved = np.where(both, np.abs(np.nan_to_num(rows[:, :, 1] - rows[:, :, 0])), 0.0) / width
        largest = np.maximum(largest, moved.max(axis=0))
    for k, command in enumerate(problem.commands):
        strength = largest[k, felt] if felt else np.zeros(1)
        best = int(np.argmax(strength))
        passed = bool(strength[best] > LEAST_EFFECT)
        text = (
            f"moves {problem.entries[felt[best]].name} by {100 * strength[best]:.3g} % of its range within a second"
            if passed else f"moves nothing that is sensed{_held_by_friction(problem, command.drive)}"
        )  # fmt: skip
        yield Check(f"{command.name} has effect", WRONG, passed, text)


def _held_by_friction(problem: Problem, number: int) -> str:
    """Why a drive moves nothing, where dry friction of its joint is as strong as it is."""
    drive = problem.machine.drives[problem.model.drives[number]] if number >= 0 else None
    if drive is None or drive.joint is None or drive.kind not in ("effort", "speed", "position"):
        return ""
    joint, limit = problem.machine.joints[drive.joint], float(drive.limit)
    if joint.friction < limit:
        return ""
    unit = "N" if joint.kind == "slider" else "N*m"
    return f": {drive.joint} has {show(joint.friction, unit)} of dry friction for its {show(limit, unit)}"


def _strong_enough(seen: Seen) -> Check:
    """Each drive of the task carries what gravity asks of its joint, wherever the joint may stand."""
    problem = seen.problem
    machine, model = problem.machine, problem.model
    used = {model.drives[c.drive] for c in problem.commands if c.drive >= 0} | set(problem.task.mixing)
    used |= {d for a in problem.task.actions for c in a.choices.values() for d in c.drives}
    worst: tuple[float, str] = (math.inf, "no drive carries a load")
    for name in sorted(used):
        drive = machine.drives[name]
        if drive.kind not in ("effort", "speed", "position"):
            continue
        joint = str(drive.joint)
        low, high = machine.joints[joint].limits or (-math.pi, math.pi)
        follows = any(joint in (c.joint, c.follows) for c in machine.couplings.values()) or tied(model)
        if machine.joints[joint].kind == "slider" or follows:
            low = high = float(model.start[model.joints.index(joint)])
        limit = float(drive.limit)
        for place in np.linspace(low, high, 25):
            position = model.start.copy()
            position[model.joints.index(joint)] = place
            need = abs(static_loads(problem, position)[name])
            if need > 1e-3 * limit and limit / need < worst[0]:
                unit = "N" if machine.joints[joint].kind == "slider" else "N*m"
                where = f" with {joint} at {show(math.degrees(place), 'deg')}" if unit == "N*m" else ""
                worst = limit / need, f"{name}: {show(limit, unit)} for {show(need, unit)}{where}"
    lift = _lift(problem, used)
    if lift is not None and lift[0] < worst[0]:
        worst = lift
    return Check("drives carry the load", LOOK, worst[0] >= 1.0, worst[1])


def _lift(problem: Problem, used: set[str]) -> tuple[float, str] | None:
    """Thrust upwards against the weight, of a machine that flies."""
    machine, model = problem.machine, problem.model
    if problem.site.gravity <= 0.0 or any(isinstance(f, Wing | Hull | Float) for f in machine.forces.values()):
        return None  # nothing weighs it down, or wings or water carry it
    upward = 0.0
    for name in used:
        drive = machine.drives[name]
        if drive.kind == "thrust":
            b = model.bodies.index(str(drive.body))
            upward += float(drive.limit) * float(model.body_rotation[b].reshape(3, 3)[2] @ np.array(drive.direction))
    if upward <= 0.0:
        return None
    weight = problem.site.gravity * (
        sum(body.mass for body in machine.bodies.values()) + sum(tank.mass for tank in machine.tanks.values())
    )
    return upward / weight, f"{show(upward, 'N')} upwards for {show(weight, 'N')} of weight"


def _starts_last(seen: Seen) -> Check:
    nobody = seen.rehearsals["nobody"]
    at_once = int((nobody.steps <= 1).sum())
    text = f"{at_once} of {len(nobody.steps)} starts end in their first sample with nobody driving"
    return Check("starts last", WRONG, at_once == 0, text)


def _starts_free(seen: Seen) -> Check:
    """No start stands deep in the site or in itself."""
    problem, count = seen.problem, len(seen.rehearsals["nobody"].score)
    batch = Batch(problem, count, EVALUATION_SEED, REHEARSAL_STREAM)
    batch.start(np.arange(count))
    batch.plant.step(batch.commander.drives)
    owners = [name for name, body in problem.machine.bodies.items() for shape in body.shapes if shape.solid]
    deepest, where, starts = 0.0, "", 0
    for copy in range(count):
        rows = batch.plant.contacts[copy, : batch.plant.contact_count[copy]]
        if len(rows) and rows[:, 12].min() < -DEEPEST:
            starts += 1
            row = rows[int(np.argmin(rows[:, 12]))]
            if row[12] < deepest:
                deepest, where = float(row[12]), owners[int(row[13])]
    text = f"{starts} of {count} starts stand in something" + (f", {where} by {show(-deepest, 'm')}" if starts else "")
    return Check("starts stand free", LOOK, starts == 0, text)


def _repeats(seen: Seen) -> Check:
    count = min(_FEW_STARTS, len(seen.rehearsals["random"].score))
    again = run_trials(seen.problem, seen.drivers["random"], seed=EVALUATION_SEED, stream=REHEARSAL_STREAM, count=count)
    same = bool(np.array_equal(again.score, seen.rehearsals["random"].score[:count]))
    text = "the same starts and commands give the same bits" if same else "the same starts and commands differ in bits"
    return Check("same seed repeats", WRONG, same, text)


def _halved(seen: Seen) -> Check:
    """The best driver on the same starts with twice as many physics steps; noise and draws stay the same."""
    name = "time step is small enough"
    problem, timing = seen.problem, seen.problem.task.timing
    driver = seen.drivers[seen.best.driver]
    task = problem.task.model_copy(update={"timing": timing.model_copy(update={"substeps": 2 * timing.substeps})})
    half = bind(problem.machine, problem.site, task, problem.source, problem.code)
    count = min(_FEW_STARTS, len(seen.best.score))
    fine = run_trials(half, driver, seed=EVALUATION_SEED, stream=REHEARSAL_STREAM, count=count)
    score, success = float(seen.best.score[:count].mean()), float(seen.best.success[:count].mean())
    spread = float(np.ptp(np.concatenate([t.score for t in seen.rehearsals.values()]))) or 1.0
    change = abs(float(fine.score.mean()) - score) / spread
    turned = abs(float(fine.success.mean()) - success)
    passed = change < 0.05 and turned <= 0.125
    rate = timing.control_rate * timing.substeps
    text = f"at {2 * rate:g} instead of {rate:g} Hz the {driver.name} scores {show(float(fine.score.mean()))} for {show(score)}"
    text += f", success {100 * float(fine.success.mean()):.0f} % for {100 * success:.0f} %"
    remedy = None
    if not passed and 2 * timing.substeps <= 200:
        remedy = Remedy(f"{2 * timing.substeps} substeps", ("timing", "substeps"), 2 * timing.substeps)
    return Check(name, LOOK, passed, text, remedy)


def _fast_enough(seen: Seen) -> Check:
    """The control rate against the fastest swing of the machine with its drives."""
    name = "control is fast enough"
    problem = seen.problem
    poles = poles_of(problem, problem.model.start)
    # servos that are well damped need no help; what swings on or falls does
    swings = [p for p in poles if (p.imag > 0.1 and p.real > -0.3 * abs(p)) or (p.real > 0.05 and p.imag >= 0.0)]
    rate = problem.task.timing.control_rate
    if not swings:
        return Check(name, LOOK, True, f"nothing swings on or falls; {rate:g} Hz")
    fastest = max(float(abs(p)) for p in swings) / (2.0 * math.pi)
    samples = rate / fastest
    text = f"{samples:.3g} samples in a period of what swings or falls fastest, {fastest:.3g} Hz"
    wanted = math.ceil(FEWEST_SAMPLES * fastest)
    remedy = None
    if samples < FEWEST_SAMPLES:
        remedy = Remedy(f"control at {wanted} Hz", ("timing", "control_rate"), f"{wanted} Hz")
    return Check(name, LOOK, samples >= FEWEST_SAMPLES, text, remedy)


def speed_check(seen: Seen, steps_a_second: float) -> Check:
    """How fast the task is simulated, and how long the planned training would simulate."""
    seconds = seen.budget / max(steps_a_second, 1e-9)
    times = (
        f"{seconds:.0f} s"
        if seconds < 120
        else f"{seconds / 60:.0f} min"
        if seconds < 7200
        else f"{seconds / 3600:.1f} h"
    )
    text = f"{steps_a_second / 1e3:.3g} k commands/s; {seen.budget:,} of them take {times} without learning".replace(
        ",", " "
    )
    return Check("speed", LOOK, seconds < _LONGEST_TRAINING, text)
