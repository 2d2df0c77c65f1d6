"""A linear-quadratic regulator made from the task: the classical opponent, tuned by a rule that is stated here.

The machine with its drives is linearised numerically over one control sample about its trim at the held pose; the gain solves
the discrete Riccati equation (SciPy). Weights follow Bryson's rule (one over the square of an acceptable error) times
factors from the fixed design `DESIGN`; the design with the best mean score on tuning starts of its own is taken.
"""

from __future__ import annotations

import itertools
import json
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from plucky_heron.dynamics.attitudes import differences, displaced
from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.plant import Plant, find_looseness
from plucky_heron.dynamics.posing import tied
from plucky_heron.errors import StateError, UnitError
from plucky_heron.files import write_whole
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.trials import run_trials
from plucky_heron.task.problem import Problem
from plucky_heron.units import parse

Array = np.ndarray

DESIGN = tuple(itertools.product((0.05, 0.15, 0.5, 1.5), (0.3, 1.0, 3.0), (0.5, 2.0)))
"""24 candidates: acceptable share of the command range, factor on speed errors, factor on undriven joints."""
TUNING_STARTS = 32
TUNING_SEED = 2_000_003
TRIM_POINTS = 9
"""Held values at which a trim is worked out, between the least and the greatest that episodes begin with."""


@dataclass(frozen=True)
class Linear:
    """One control sample about a trim: z' = A z + B u, both as differences from it.

    z = position in minimal coordinates (n), speeds (n), drive lags (m), servo integrals, and the commands of the samples
    before that are still on their way through a dead time.
    """

    transition: Array
    """A (states, states)."""
    input: Array
    """B (states, commands)."""
    servos: Array
    """Drives whose integral is part of the state."""
    trim: Trim


@dataclass(frozen=True)
class Trim:
    """Where a machine rests: x*, u*, and how both follow the held pose.

    Attributes
    ----------
    held : (holds,)
        The held values that it was worked out at.
    position, commands : (entries,), (commands,)
        At those; `position` has whatever the machine needs to rest there, as far as it can.
    grid : (holds, points)
        Other values of each, over the range in which episodes begin.
    moves, pushes : (holds, points, n), (holds, points, commands)
        Change of position (minimal coordinates) and of commands at each of them, the others kept.
    """

    held: Array
    position: Array
    commands: Array
    grid: Array
    moves: Array
    pushes: Array

    def followed(self, held: Array) -> tuple[Array, Array]:
        """Change of position (B, n) and commands (B, commands) for the held values (B, holds): straight between points."""
        moves, pushes = np.zeros((len(held), self.moves.shape[-1])), np.tile(self.commands, (len(held), 1))
        for k, points in enumerate(self.grid):
            for table, out in ((self.moves[k], moves), (self.pushes[k], pushes)):
                for column in range(out.shape[1]):
                    out[:, column] += np.interp(held[:, k], points, table[:, column])
        return moves, pushes


class _Bench:
    """The nominal machine in still air, many copies of it, each one control sample long."""

    def __init__(self, problem: Problem) -> None:
        model, timing = problem.model, problem.task.timing
        if not problem.plain:
            raise StateError("a linear regulator needs every drive to get just what is commanded")
        if tied(model):
            raise StateError("a linear regulator does not know loops that are closed by rods or pins")
        self.problem, self.model = problem, model
        self.n, self.m = len(model.joints), len(model.drives)
        self.servos = np.flatnonzero(
            (model.drive_table.kind == layout.SPEED) & (_integral_gains(model.row, self.n, self.m) > 0.0)
        )
        self.inputs = np.array([c.drive for c in problem.commands])
        self.delay = np.ceil(model.dead_time / timing.physics_step - 1e-9).astype(np.int64)
        self.late = np.ceil(self.delay / timing.substeps).astype(np.int64)[self.inputs]
        first = self.n * layout.NODE + self.inputs * layout.DRIVE
        self.dead = model.row[first + layout.DEAD_ZONE]
        self.low, self.high = problem.low + np.minimum(self.dead, -problem.low), problem.high - np.minimum(self.dead, problem.high)  # fmt: skip
        find_looseness(model)
        row = model.row.copy()
        for a in range(self.m):  # both are made up for by the regulator, or too small to matter to a straight line
            b = self.n * layout.NODE + a * layout.DRIVE
            row[b + layout.DEAD_ZONE] = row[b + layout.BACKLASH] = 0.0
        rows = row[None, :].copy()
        start = model.start.copy()[None, :]
        for draw in problem.draws:  # variation at its middle is the nominal machine
            if draw.kind == "parameter":
                model.vary(rows, np.arange(1), draw.target, np.array([draw.distribution.middle(draw.unit)]))
            elif draw.kind == "start" and draw.target.endswith(".position"):
                joint = draw.target.rpartition(".")[0]
                if joint in problem.hold:
                    model.set_start(start[0], {joint: draw.distribution.middle(draw.unit)})
        self.row, self.start = rows[0], start[0]

    def plant(self, positions: Array) -> Plant:
        """Copies at rest in these positions (B, entries), servos carrying the static load."""
        plant = Plant(self.model, len(positions), self.problem.task.timing.physics_step, threads=1, surroundings=self.problem.surroundings)  # fmt: skip
        plant.rows[:], plant.position[:] = self.row, positions
        site = self.problem.site
        plant.fields[:, layout.WATER_LEVEL] = -np.inf if site.water_level is None else site.water_level
        plant.settle_drives(np.arange(len(positions)))
        return plant

    def at_rest(self, position: Array) -> Array:
        """Commands (commands,) that ask for nothing: of a position servo where it stands (position: entries,), else none."""
        commands = np.zeros(len(self.inputs))
        for k, a in enumerate(self.inputs):
            if self.model.drive_table.kind[a] == layout.POSITION:
                commands[k] = position[self.model.drive_table.joint[a]]
        return np.clip(commands, self.low, self.high)

    def hold_commands(self, plant: Plant, commands: Array) -> None:
        """The commands (B, commands) have been given for long: they fill lags and dead times."""
        for array in (plant.lagged, plant.limited, plant.played):
            array[:, self.inputs] = commands
        plant.ring[:, self.inputs] = commands[:, :, None]

    def run(self, plant: Plant, commands: Array) -> None:
        """One control sample under these commands (B, commands)."""
        full = plant.lagged.copy()
        full[:, self.inputs] = commands
        plant.step(full, self.problem.task.timing.substeps)


def find_trim(bench: _Bench, held: Array) -> tuple[Array, Array]:
    """Position and commands with which the machine rests where it is held, as nearly as its drives can.

    Gauss-Newton on the change of the speeds in one sample, over the commands within their limits and the coordinates that
    nothing holds; of many answers the one nearest to the start, of none the least motion.
    """
    from scipy.optimize import lsq_linear

    problem, model = bench.problem, bench.model
    position = bench.start.copy()
    model.set_start(position, dict(zip(problem.hold, held, strict=True)))
    names = {name.rpartition(".")[0] if "." in name else name for name in problem.hold} | set(problem.hold)
    held_too = np.array([j in names or j.rpartition(".")[0] in names for j in model.joints])
    loose = np.flatnonzero(~held_too)
    commands = bench.at_rest(position)
    spans = 0.5 * (bench.high - bench.low)
    steps = np.concatenate([1e-3 * spans, np.full(len(loose), 1e-4)])
    for _ in range(8):
        count = len(steps)
        places, given = np.tile(position, (2 * count + 1, 1)), np.tile(commands, (2 * count + 1, 1))
        for k in range(count):
            for sign, copy in ((1.0, 2 * k + 1), (-1.0, 2 * k + 2)):
                if k < len(commands):
                    given[copy, k] = np.clip(commands[k] + sign * steps[k], bench.low[k], bench.high[k])
                else:
                    change = np.zeros(bench.n)
                    change[loose[k - len(commands)]] = sign * steps[k]
                    places[copy] = displaced(model, position, change)
        plant = bench.plant(places)
        bench.hold_commands(plant, given)
        bench.run(plant, given)
        moves = plant.velocity
        width = np.concatenate([given[1 : 2 * len(commands) : 2].diagonal() - given[2 : 2 * len(commands) + 1 : 2].diagonal(), 2.0 * steps[len(commands) :]])  # fmt: skip
        slope = ((moves[1::2] - moves[2::2]) / width[:, None]).T
        scale = np.concatenate([spans, np.ones(len(loose))])
        # a trace of weight on the change itself: where nothing asks for one, none is made
        system = np.concatenate([slope * scale, 1e-6 * np.eye(count)])
        low = np.concatenate([(bench.low - commands) / spans, np.full(len(loose), -0.3)]) - 1e-12
        high = np.concatenate([(bench.high - commands) / spans, np.full(len(loose), 0.3)]) + 1e-12
        answer = lsq_linear(system, np.concatenate([-moves[0], np.zeros(count)]), (low, high)).x * scale
        commands = np.clip(commands + answer[: len(commands)], bench.low, bench.high)
        change = np.zeros(bench.n)
        change[loose] = answer[len(commands) :]
        position = displaced(model, position, change)
        if np.abs(answer / scale).max(initial=0.0) < 1e-7:
            break
    # the last bits of a sum depend on where its numbers lie in memory: they must not reach the gains
    return np.round(position, 8), np.round(commands / spans, 8) * spans


def trim_of(bench: _Bench, held: Array, low: Array, high: Array) -> Trim:
    """The trim at held values (holds,), and how it follows each of them between `low` and `high` (holds,)."""
    position, commands = find_trim(bench, held)
    grid = np.array([np.linspace(a, b, TRIM_POINTS) if b > a else a + np.linspace(-1e-6, 1e-6, TRIM_POINTS) for a, b in zip(low, high, strict=True)])  # fmt: skip
    grid = grid.reshape(len(held), TRIM_POINTS)
    moves, pushes = np.zeros((*grid.shape, bench.n)), np.zeros((*grid.shape, len(commands)))
    for k in range(len(held)):
        for g, value in enumerate(grid[k]):
            other = held.copy()
            other[k] = value
            place, pushed = find_trim(bench, other)
            moves[k, g] = differences(bench.model, place[None], position[None])[0]
            pushes[k, g] = pushed - commands
    return Trim(held, position, commands, grid, moves, pushes)


def linearise(problem: Problem, pose: Array | None = None) -> Linear:
    """A and B by differences of the simulated sample, nominal machine in still air.

    About the trim of the held pose at the middle of its variation or, given `pose` (entries,), about that as it is.

    Raises
    ------
    StateError
        Commands do not reach the drives as they are, or rods or pins close loops.
    """
    bench = _Bench(problem)
    n, m, servos = bench.n, bench.m, bench.servos
    if pose is None:
        trim = trim_of(bench, *_held_values(problem, bench.start))
    else:
        zero = bench.at_rest(np.asarray(pose, dtype=float))
        trim = Trim(
            np.zeros(0), np.asarray(pose, dtype=float), zero, np.zeros((0, TRIM_POINTS)),
            np.zeros((0, TRIM_POINTS, n)), np.zeros((0, TRIM_POINTS, len(zero))),
        )  # fmt: skip
    coming = int(bench.late.sum())
    width = 2 * n + m + len(servos) + coming
    limits = np.maximum(1.0, _limits(bench.row, n, m))
    small = np.concatenate([np.full(2 * n, 1e-4), 1e-4 * limits, np.full(len(servos), 1e-4), np.full(coming, 0.0)])
    spans = 0.5 * (bench.high - bench.low)
    copies = 2 * (width + len(bench.inputs))
    plant = bench.plant(np.tile(trim.position, (copies, 1)))
    bench.hold_commands(plant, np.tile(trim.commands, (copies, 1)))
    given = np.tile(trim.commands, (copies, 1))
    centre = plant.lagged[0].copy(), plant.integral[0].copy()
    scale = np.ones(width + len(bench.inputs))
    at = 2 * n + m + len(servos)
    for k in range(at):
        for sign, copy in ((1.0, 2 * k), (-1.0, 2 * k + 1)):
            amount = sign * small[k]
            scale[k] = 2.0 * small[k]
            if k < n:
                change = np.zeros(n)
                change[k] = amount
                plant.position[copy] = displaced(problem.model, trim.position, change)
            elif k < 2 * n:
                plant.velocity[copy, k - n] = amount
            elif k < 2 * n + m:
                a = k - 2 * n
                for array in (plant.lagged, plant.played, plant.limited):
                    array[copy, a] = centre[0][a] + amount
            else:
                plant.integral[copy, servos[k - 2 * n - m]] += amount
    for c, late in enumerate(bench.late):
        for back in range(1, int(late) + 1):
            scale[at] = _between(plant.ring, bench, trim, c, back, 2 * at, spans[c])
            at += 1
    for c in range(len(bench.inputs)):
        up, down = min(trim.commands[c] + 1e-3 * spans[c], bench.high[c]), max(trim.commands[c] - 1e-3 * spans[c], bench.low[c])  # fmt: skip
        given[2 * (width + c), c], given[2 * (width + c) + 1, c] = up, down
        scale[width + c] = up - down
    bench.run(plant, given)
    after = np.concatenate([
        differences(problem.model, plant.position, trim.position[None]), plant.velocity, plant.lagged, plant.integral[:, servos],
    ], axis=1)  # fmt: skip
    columns = (after[0::2] - after[1::2]) / scale[:, None]
    whole = np.zeros((width + len(bench.inputs), width))
    whole[:, : after.shape[1]] = columns
    at = after.shape[1]
    for c, late in enumerate(bench.late):  # what is on its way moves on by one sample
        for back in range(int(late)):
            whole[width + c if back == 0 else at + back - 1, at + back] = 1.0
        at += int(late)
    return Linear(whole[:width].T, whole[width:].T, servos, trim)


def _between(ring: Array, bench: _Bench, trim: Trim, c: int, back: int, copy: int, span: float) -> float:
    """Two copies of which the command of `back` samples ago was a little more and less; returns by how much they differ."""
    a, delay, substeps = bench.inputs[c], bench.delay[bench.inputs[c]], bench.problem.task.timing.substeps
    up, down = min(trim.commands[c] + 1e-3 * span, bench.high[c]), max(trim.commands[c] - 1e-3 * span, bench.low[c])
    for j in range(delay):
        if -(-(delay - j) // substeps) == back:
            ring[copy, a, j], ring[copy + 1, a, j] = up, down
    return float(up - down)


def _held_values(problem: Problem, start: Array) -> tuple[Array, Array, Array]:
    """Where to linearise, and the range of the held values as episodes begin.

    At the middle of the starts of what is held, else at the median of its values.
    """
    batch = Batch(problem, 64, TUNING_SEED, "trim", 1)
    batch.start(np.arange(64))
    values = np.array([np.broadcast_to(row, (64,)) for row in batch.program([*problem.hold.values()]).run()])
    values = values.reshape(len(problem.hold), 64)
    for joint, row in zip(problem.hold, values, strict=True):
        if not np.isfinite(row).all():
            raise StateError(f"regulator.hold.{joint} gives no finite number at a start of the task")
    middle = np.median(values, axis=1)
    drawn = {d.target.rpartition(".")[0] for d in problem.draws if d.kind == "start" and d.target.endswith(".position")}
    for k, joint in enumerate(problem.hold):
        if joint in drawn and joint in problem.model.positions:
            middle[k] = start[problem.model.positions.index(joint)]
    low, high = np.minimum(values.min(axis=1), middle), np.maximum(values.max(axis=1), middle)
    reach = 0.1 * (high - low)
    return middle, low - reach, high + reach


def gain(problem: Problem, linear: Linear, design: tuple[float, float, float]) -> Array:
    """Feedback gain (actions, states) for one candidate of the design.

    Raises
    ------
    StateError
        The Riccati equation has no stabilising solution: the machine cannot be held this way.
    """
    from scipy.linalg import solve_discrete_are  # heavy, and the window should open at once

    share, on_speed, on_free = design
    model = problem.model
    n = len(model.joints)
    scales = _joint_scales(problem)
    table = model.drive_table
    driven = np.isin(np.arange(n), table.joint[table.kind <= layout.POSITION])
    weights = np.where(driven, 1.0, on_free) / scales**2
    states = np.full(linear.transition.shape[0], 1e-9)
    states[:n], states[n : 2 * n] = weights, weights * on_speed
    effort = 1.0 / (share * np.maximum(np.abs(problem.low), np.abs(problem.high))) ** 2
    try:
        a, b = linear.transition, linear.input
        cost = solve_discrete_are(a, b, np.diag(states), np.diag(effort))
        return np.asarray(np.linalg.solve(np.diag(effort) + b.T @ cost @ b, b.T @ cost @ a))
    except (np.linalg.LinAlgError, ValueError) as error:
        raise StateError(f"no linear regulator holds this task: {error}") from error


class Regulator:
    """A tuned regulator: a driver of episodes that reads the machine's full state, u = u* - K (x - x*).

    Parameters
    ----------
    gain : (candidates or 1, actions, states)
        With several candidates, copies are shared out among them in order.
    servos
        Drives whose integral is part of the state.
    trim
        Where the machine rests; with the held pose, x* and u* follow.
    """

    name = "regulator"

    def __init__(self, problem: Problem, gain: Array, servos: Array, trim: Trim, tuned_score: float = 0.0) -> None:
        self.problem, self.gain, self.servos, self.trim, self.tuned_score = problem, gain, servos, trim, tuned_score
        self._bench = _Bench(problem)

    def begin(self, batch: Batch) -> None:
        """Bind the formulas of the held pose; remember the servo integrals that carry each copy's load."""
        problem = self.problem
        self._hold = batch.program([*problem.hold.values()])
        self._gains: Array = np.repeat(self.gain, batch.copies // len(self.gain), axis=0)
        self._load: Array = batch.plant.integral[:, self.servos].copy()

    def drive(self, batch: Batch, observations: Array) -> Array:
        """Commands (B, commands) for the present state."""
        plant, trim, bench, model = batch.plant, self.trim, self._bench, self.problem.model
        held = np.array([np.broadcast_to(row, (batch.copies,)) for row in self._hold.run()]).reshape(-1, batch.copies).T
        moves, rest = trim.followed(held)
        rest = np.clip(rest, bench.low, bench.high)
        lags = plant.lagged.copy()
        lags[:, bench.inputs] -= rest
        parts = [
            differences(model, plant.position, trim.position[None]) - moves, plant.velocity, lags,
            plant.integral[:, self.servos] - self._load,
        ]  # fmt: skip
        for c, late in enumerate(bench.late):
            a, delay = bench.inputs[c], bench.delay[bench.inputs[c]]
            for back in range(1, int(late) + 1):
                ages = [j for j in range(delay) if -(-(delay - j) // self.problem.task.timing.substeps) == back]
                slots = (plant.heads + ages[0]) % delay
                parts.append((plant.ring[np.arange(batch.copies), a, slots] - rest[:, c])[:, None])
        wanted = rest - np.einsum("cus,cs->cu", self._gains, np.concatenate(parts, axis=1))
        # through the dead zone: a command within it would do nothing
        edge = 0.02 * np.maximum(bench.high, -bench.low) + 1e-12
        return np.asarray(wanted + bench.dead * np.clip(wanted / edge, -1.0, 1.0))


def tune(problem: Problem, threads: int | None = None) -> Regulator:
    """The best of the fixed design on the tuning starts."""
    linear = linearise(problem)
    gains = np.array([gain(problem, linear, design) for design in DESIGN])
    candidates = Regulator(problem, gains, linear.servos, linear.trim)
    episodes = np.tile(np.arange(TUNING_STARTS), len(DESIGN))
    trials = run_trials(
        problem,
        candidates,
        seed=TUNING_SEED,
        stream="regulator tuning",
        count=len(episodes),
        episodes=episodes,
        threads=threads,
    )
    scores = trials.score.reshape(len(DESIGN), TUNING_STARTS).mean(axis=1)
    best = int(np.argmax(scores))
    return Regulator(problem, gains[best : best + 1], linear.servos, linear.trim, float(scores[best]))


def regulator_for(problem: Problem, project: Path | None = None) -> Regulator:
    """The tuned regulator, taken from the project's cache where the same problem was tuned before."""
    if project is None:
        return tune(problem)
    path = project / "runs" / "regulators" / f"{problem.fingerprint()}.json"
    try:
        kept = json.loads(path.read_text())
        trim = Trim(
            *(
                np.array(part, dtype=float).reshape(shape)
                for part, shape in zip(kept["trim"], kept["shapes"], strict=True)
            )
        )
        return Regulator(problem, np.array(kept["gain"]), np.array(kept["servos"], dtype=np.int64), trim, kept["score"])
    except (OSError, ValueError, KeyError):
        made = tune(problem)
        parts = [np.asarray(part) for part in (made.trim.held, made.trim.position, made.trim.commands, made.trim.grid, made.trim.moves, made.trim.pushes)]  # fmt: skip
        facts = {
            "gain": made.gain.tolist(), "servos": made.servos.tolist(), "score": made.tuned_score,
            "trim": [part.tolist() for part in parts], "shapes": [part.shape for part in parts],
        }  # fmt: skip
        write_whole(path, json.dumps(facts))
        return made


def _integral_gains(row: Array, n: int, m: int) -> Array:
    return np.asarray(row[n * layout.NODE + layout.INTEGRAL_GAIN : n * layout.NODE + m * layout.DRIVE : layout.DRIVE])


def _limits(row: Array, n: int, m: int) -> Array:
    return np.asarray(row[n * layout.NODE + layout.HIGHEST_COMMAND : n * layout.NODE + m * layout.DRIVE : layout.DRIVE])


def _joint_scales(problem: Problem) -> Array:
    scales = []
    for name in problem.model.joints:
        unit = problem.machine.coordinate_unit(name)
        try:
            scales.append(parse(problem.task.regulator.joint_scales.get(name, 1.0), unit))
        except UnitError as error:
            raise StateError(f"{problem.source}: regulator.joint_scales.{name}: {error}") from error
    return np.array(scales)
