"""The parameters that explain a log best: a simulation in short windows, each from a state of its own, laid over what was measured.

Multiple shooting with Gauss-Newton steps (Bock 1983): the state that each window begins with is fitted along with the parameters and
taken out of the equations window by window, so that noise in what was measured there does not pull them. Intervals are the
larger of those that independent errors would give and those that whole windows scatter by (Liang and Zeger 1986).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from plucky_heron.analysis.identification.log import Log
from plucky_heron.dynamics.attitudes import differences, displaced, ways
from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.model import Model
from plucky_heron.dynamics.plant import Plant
from plucky_heron.dynamics.scene import Surroundings
from plucky_heron.errors import StateError

Array = np.ndarray

MOST_WINDOWS = 150
WINDOW = 20
"""Samples of a window, at first."""
FINEST = 0.001
"""Longest physics step (s)."""
MOST_TURNS = 40
SETTLED = 1e-5
TELLS = 1.0
"""Standard error, as a share of the value, from which on the log does not tell a parameter."""
TOGETHER = 0.985
"""Correlation from which on two parameters are told only together."""
SIGNED = ("rest",)
"""What may be below zero."""


@dataclass(frozen=True)
class Parameter:
    """One parameter as the log has it.

    Attributes
    ----------
    value, error : float
        SI, and its standard error.
    told : bool
        Whether the log tells it.
    with_ : str
        Another one that it is told only together with; "" without.
    """

    name: str
    nominal: float
    value: float
    error: float
    told: bool
    with_: str = ""

    @property
    def interval(self) -> tuple[float, float]:
        """95 %; what cannot be below zero is not."""
        low, high = self.value - 1.96 * self.error, self.value + 1.96 * self.error
        return (low if self.name.endswith(SIGNED) else max(0.0, low)), high


@dataclass(frozen=True)
class Fit:
    """What was found.

    Attributes
    ----------
    before, after : (channels,)
        Root mean square of measured less simulated, with the machine as it was and as it was found, in windows that took no part in the
        fit.
    channels
        What was measured, by name.
    """

    parameters: tuple[Parameter, ...]
    channels: tuple[str, ...]
    before: Array
    after: Array
    windows: int
    held_out: int
    window: float
    turns: int
    notes: tuple[str, ...] = ()


@dataclass
class _Windows:
    """Pieces of a log, (windows, samples, ...)."""

    measured: Array
    commands: Array
    before: Array
    """Commands in the samples before each window, the newest last, (windows, samples, drives)."""
    base: Array
    """Positions that windows begin about, (windows, entries)."""
    start: Array
    """What each window begins with: coordinates less those of `base`, their speeds, lags, integrals; (windows, numbers)."""
    scale: Array
    """Size of each of these numbers."""
    place: Array
    """Measured positions (windows, samples, entries)."""
    width: Array
    """By how much each channel moves in the log."""
    known: Array = field(default_factory=lambda: np.zeros(0, dtype=bool))


class Identification:
    """Fits parameters of a model to a log; see `identify`."""

    def __init__(
        self,
        model: Model,
        log: Log,
        names: Sequence[str],
        surroundings: Surroundings | None = None,
        physics_step: float | None = None,
    ) -> None:
        self.model, self.log, self.names = model, log, tuple(names)
        if not names:
            raise StateError(f"name at least one parameter; there are {', '.join(list(model.parameters)[:30])}")
        if len(set(names)) < len(names):
            raise StateError("--over: a parameter stands twice")
        self.nominal = np.array([model.parameter(name)[2] for name in names])
        self.scale = np.where(self.nominal != 0.0, np.abs(self.nominal), 1.0)
        self.substeps = max(1, int(np.ceil(log.sample_time / (physics_step or FINEST) - 1e-9)))
        self.surroundings = surroundings
        self.turning = np.array([k for _, entries in model.attitudes() for k in entries[:3]], dtype=int)
        n, m = len(model.joints), len(model.drives)
        row = model.row
        at = n * layout.NODE + np.arange(m) * layout.DRIVE
        self.lags = (
            np.flatnonzero((row[at + layout.LAG] > 0.0) | np.isin([f"{d}.lag" for d in model.drives], names))
            if m
            else np.zeros(0, int)
        )
        self.servos = np.flatnonzero(row[at + layout.INTEGRAL_GAIN] > 0.0) if m else np.zeros(0, int)
        self.speeds = ~np.isnan(log.velocity).all(axis=0)
        self.channels = (
            *(f"{joint}.position" for joint in model.joints), *(f"{j}.velocity" for j, there in zip(model.joints, self.speeds, strict=True) if there),
        )  # fmt: skip
        self._plants: dict[int, Plant] = {}

    # --- windows

    def windows(self, length: int) -> _Windows:
        """The log in pieces, evenly over all of it where there are many."""
        log, model = self.log, self.model
        n = len(model.joints)
        count = log.samples // length
        if count < 4:
            raise StateError(f"the log has {log.samples} samples: too few for windows of {length}; log longer")
        chosen = np.unique(np.linspace(0, count - 1, min(count, MOST_WINDOWS)).astype(int)) * length
        index = chosen[:, None] + np.arange(length)
        speed, way = _speeds(model, log), ways(model, log.position)
        place = log.position[index]
        measured = np.concatenate([place[:, :, :n], log.velocity[index][:, :, self.speeds]], axis=2)
        measured[:, :, self.turning] = 0.0  # turns are said from the measured attitude
        history = max(1, int(np.ceil(model.dead_time.max(initial=0.0) / log.sample_time)) + 60)
        back = np.maximum(chosen[:, None] - history + np.arange(history), 0)
        before = log.commands[back]
        at = n * layout.NODE + np.arange(len(model.drives)) * layout.DRIVE
        lag = model.row[at + layout.LAG]
        # the lag follows what was commanded before, a first guess of where it stands
        followed = before[:, 0]
        share = 1.0 - np.exp(-log.sample_time / np.maximum(lag, 1e-9))
        for k in range(history):
            followed = followed + share * (before[:, k] - followed)
        start = np.concatenate(
            [
                np.zeros((len(chosen), n)),
                speed[chosen],
                followed[:, self.lags],
                np.zeros((len(chosen), len(self.servos))),
            ],
            axis=1,
        )
        span = np.concatenate(
            [
                np.ptp(way, axis=0),
                np.ptp(speed, axis=0),
                np.ptp(log.commands, axis=0)[self.lags],
                np.ones(len(self.servos)),
            ]
        )
        span[self.turning] = np.minimum(span[self.turning], 1.0)  # a turn is no longer small beyond
        width = np.concatenate([span[:n], np.ptp(measured[:, :, n:], axis=(0, 1))])
        return _Windows(
            measured, log.commands[index], before, log.position[chosen], start, np.maximum(span, 1e-3), place, width
        )

    # --- simulation

    def plant(self, copies: int) -> Plant:
        """A plant of so many copies, kept."""
        if copies not in self._plants:
            self._plants.clear()
            step = self.log.sample_time / self.substeps
            self._plants[copies] = Plant(self.model, copies, step, surroundings=self.surroundings)
        return self._plants[copies]

    def simulate(self, parts: _Windows, starts: Array, values: Array) -> Array:
        """What would have been measured, (variants, windows, samples, channels).

        Parameters
        ----------
        starts : (variants, windows, numbers)
        values : (variants, parameters)
        """
        variants, count = starts.shape[:2]
        copies, n = variants * count, len(self.model.joints)
        plant = self.plant(copies)
        everyone = np.arange(copies)
        plant.reset(everyone)
        flat = starts.reshape(copies, -1)
        plant.position[:] = displaced(self.model, np.tile(parts.base, (variants, 1)), flat[:, :n])
        plant.velocity[:] = flat[:, n : 2 * n]
        for k, name in enumerate(self.names):
            slots, factors, nominal = self.model.parameter(name)
            moved = np.repeat(values[:, k] - nominal, count)
            for slot, factor in zip(slots, factors, strict=True):
                plant.rows[:, slot] += factor * moved
        self._fill_drives(plant, parts, flat, variants)
        seen = np.empty((parts.measured.shape[1], copies, len(self.channels)))
        commands = np.tile(parts.commands, (variants, 1, 1))
        for k in range(len(seen)):
            seen[k, :, :n] = plant.position[:, :n]
            if len(self.turning):
                turned = differences(self.model, plant.position, np.tile(parts.place[:, k], (variants, 1)))
                seen[k][:, self.turning] = turned[:, self.turning]
            seen[k, :, n:] = plant.velocity[:, self.speeds]
            if k + 1 < len(seen):
                plant.step(np.ascontiguousarray(commands[:, k]), self.substeps)
        return np.asarray(seen.transpose(1, 0, 2).reshape(variants, count, len(seen), -1))

    def _fill_drives(self, plant: Plant, parts: _Windows, flat: Array, variants: int) -> None:
        """Drives as they stand where windows begin: lags and integrals as fitted, dead times full of what was commanded before."""
        n = len(self.model.joints)
        newest = np.tile(parts.before[:, -1], (variants, 1))
        plant.lagged[:] = newest
        plant.lagged[:, self.lags] = flat[:, 2 * n : 2 * n + len(self.lags)]
        plant.limited[:] = plant.played[:] = plant.lagged
        plant.integral[:, self.servos] = flat[:, 2 * n + len(self.lags) :]
        history = parts.before.shape[1]
        for a, delay in enumerate(plant.delay):
            for slot in range(
                int(delay)
            ):  # what comes out after so many steps was commanded this long before the window
                samples = -(-(int(delay) - slot) // self.substeps)
                plant.ring[:, a, slot] = np.tile(parts.before[:, max(0, history - samples), a], variants)

    # --- the fit

    def run(self, length: int, progress: Callable[[float], bool] | None = None) -> Fit:
        """Fit over windows of `length` samples; a fifth of them takes no part and tells how well it does.

        Raises
        ------
        StateError
            Too short a log, a simulation that is lost, or abandoned.
        """
        whole = self.windows(length)
        count = len(whole.measured)
        held = np.arange(count) % 5 == 4 if count >= 10 else np.zeros(count, dtype=bool)
        mine, others = (_picked(whole, mask) for mask in (~held, held if held.any() else ~held))
        sizes = np.full(len(self.channels), np.nan)
        before = self._misfit(others, self.nominal)
        values, turns, state = self._descend(mine, sizes, progress)
        after = self._misfit(others, values)
        errors, together = self._errors(state)
        parameters = []
        for k, name in enumerate(self.names):
            error = float(errors[k])
            size = max(abs(float(values[k])), 0.1 * abs(self.nominal[k]), 1e-12)
            told = np.isfinite(error) and error < TELLS * size
            partner = self.names[together[k]] if together[k] >= 0 else ""
            parameters.append(Parameter(name, float(self.nominal[k]), float(values[k]), error, bool(told), partner))
        window = length * self.log.sample_time
        return Fit(
            tuple(parameters),
            self.channels,
            before,
            after,
            int((~held).sum()),
            int(held.sum()),
            window,
            turns,
            self.log.notes,
        )

    def _descend(
        self, parts: _Windows, sizes: Array, progress: Callable[[float], bool] | None
    ) -> tuple[Array, int, tuple[list[Array], list[Array], Array]]:
        values = self.nominal.copy()
        damping, cost, turn = 1e-6, np.inf, 0
        best: tuple[list[Array], list[Array], Array] | None = None
        for turn in range(MOST_TURNS):
            if progress is not None and not progress(turn / MOST_TURNS):
                raise StateError("the fit was stopped; nothing is concluded from a part of it")
            residual, by_start, by_value = self._linearised(parts, values)
            if turn in (0, 3, 6):
                # how well each channel can be told: what is left once each window may begin as it likes
                free = np.array([_without(j, r)[0] for j, r in zip(by_start, residual, strict=True)])
                shaped = free.reshape(len(parts.measured), -1, len(self.channels))
                floor = 1e-9 + 1e-6 * parts.width
                sizes = np.maximum(np.sqrt((shaped**2).mean(axis=(0, 1))), floor)
                cost = np.inf
            weight = np.tile(1.0 / sizes, parts.measured.shape[1])
            projected = [
                _without(j * weight[:, None], r * weight, v * weight[:, None])
                for j, r, v in zip(by_start, residual, by_value, strict=True)
            ]
            now = sum(float(r @ r) for r, _ in projected)
            best = ([r for r, _ in projected], [v for _, v in projected], values)
            information = np.asarray(sum(v.T @ v for _, v in projected))
            gradient = np.asarray(sum(v.T @ r for r, v in projected))
            if not np.isfinite(information).all():
                raise StateError("the simulation is lost in some window; is the log of this machine?")
            damping = damping * 0.3 if now <= cost * (1.0 + 1e-9) else min(damping * 30.0, 1e3)
            step = np.linalg.solve(
                information + (damping * np.diag(information) + 1e-12) * np.eye(len(values)), gradient
            )
            step = np.clip(step, -0.5, 0.5)
            fresh = values + step * self.scale
            positive = np.array([not name.endswith(SIGNED) for name in self.names])
            fresh = np.where(positive, np.maximum(fresh, np.where(self.nominal > 0.0, 0.02 * values, 0.0)), fresh)
            moved = float(np.abs((fresh - values) / self.scale).max())
            self._move_starts(parts, residual, by_start, by_value, weight, (fresh - values) / self.scale)
            cost, values = now, fresh
            if moved < SETTLED and turn > 6:
                break
        assert best is not None
        residual, by_start, by_value = self._linearised(parts, values)
        weight = np.tile(1.0 / sizes, parts.measured.shape[1])
        projected = [
            _without(j * weight[:, None], r * weight, v * weight[:, None])
            for j, r, v in zip(by_start, residual, by_value, strict=True)
        ]
        return values, turn + 1, ([r for r, _ in projected], [v for _, v in projected], values)

    def _linearised(self, parts: _Windows, values: Array) -> tuple[list[Array], list[Array], list[Array]]:
        """By window: measured less simulated (rows,), what starts (rows, numbers) and parameters (rows, parameters) change of it."""
        numbers, count = parts.start.shape[1], len(self.names)
        variants = 1 + numbers + count
        starts = np.repeat(parts.start[None], variants, axis=0)
        asked = np.repeat(values[None], variants, axis=0)
        nudge, bit = 1e-5 * parts.scale, 1e-4 * self.scale
        for k in range(numbers):
            starts[1 + k, :, k] += nudge[k]
        for k in range(count):
            asked[1 + numbers + k, k] += bit[k]
        seen = self.simulate(parts, starts, asked)
        flat = seen.reshape(variants, len(parts.measured), -1)
        measured = parts.measured.reshape(len(parts.measured), -1)
        residual = list(measured - flat[0])
        by_start = [((flat[1 : 1 + numbers, w] - flat[0, w]) / nudge[:, None]).T for w in range(len(measured))]
        by_value = [
            ((flat[1 + numbers :, w] - flat[0, w]) / (bit / self.scale)[:, None]).T for w in range(len(measured))
        ]
        return residual, by_start, by_value

    def _move_starts(
        self,
        parts: _Windows,
        residual: list[Array],
        by_start: list[Array],
        by_value: list[Array],
        weight: Array,
        step: Array,
    ) -> None:
        for w, (r, j, v) in enumerate(zip(residual, by_start, by_value, strict=True)):
            left = (r - v @ step) * weight
            moved = _ridge(j * weight[:, None] * parts.scale, left)
            parts.start[w] += np.clip(moved, -0.5, 0.5) * parts.scale

    def _misfit(self, parts: _Windows, values: Array) -> Array:
        """Root mean square (channels,) of measured less simulated once each window began as it fits best."""
        parts = replace(parts, start=parts.start.copy())
        sizes = np.maximum(parts.width, 1e-9)
        weight = np.tile(1.0 / sizes, parts.measured.shape[1])
        least, best = np.full(len(parts.measured), np.inf), parts.measured
        for turn in range(4):
            residual, by_start, by_value = self._linearised(parts, values)
            left = np.array(residual).reshape(parts.measured.shape)
            cost = ((left / sizes) ** 2).sum(axis=(1, 2))
            # a step may go too far: each window keeps what fitted it best
            best = np.where((cost < least)[:, None, None], left, best)
            least = np.fmin(least, cost)
            if turn < 3:
                self._move_starts(parts, residual, by_start, by_value, weight, np.zeros(len(values)))
        return np.asarray(np.sqrt((best**2).mean(axis=(0, 1))))

    def _errors(self, state: tuple[list[Array], list[Array], Array]) -> tuple[Array, list[int]]:
        """Standard errors (parameters,), and with which other one each is told only together, or -1."""
        residual, by_value, _ = state
        information = np.asarray(sum(v.T @ v for v in by_value))
        count = len(information)
        size = np.sqrt(np.maximum(np.diag(information), 1e-300))
        even = information / np.outer(size, size)
        inverse = np.linalg.pinv(even, rcond=1e-10) / np.outer(size, size)
        rows = sum(len(r) for r in residual)
        freedom = max(1, rows - len(residual) * 2 * len(self.model.joints) - count)
        spread = sum(float(r @ r) for r in residual) / freedom
        plain = spread * np.diag(inverse)
        scores = np.array([v.T @ r for r, v in zip(residual, by_value, strict=True)])
        windows = len(scores)
        robust = np.diag(inverse @ (scores.T @ scores) @ inverse) * windows / max(1, windows - count)
        errors = np.sqrt(np.maximum(plain, robust)) * self.scale
        values, vectors = np.linalg.eigh(even)
        for k in range(count):
            if values[k] < 1e-9 * values[-1]:  # nothing in the log moves along this direction
                errors[np.abs(vectors[:, k]) > 0.1] = np.inf
        errors[np.diag(information) < 1e-12] = np.inf
        spreads = np.sqrt(np.maximum(np.diag(inverse), 1e-300))
        alike = np.abs(inverse / np.outer(spreads, spreads)) - np.eye(count)
        together = [int(np.argmax(row)) if count > 1 and row.max() > TOGETHER else -1 for row in alike]
        return errors, together


def _picked(parts: _Windows, mask: Array) -> _Windows:
    return replace(
        parts,
        measured=parts.measured[mask],
        commands=parts.commands[mask],
        before=parts.before[mask],
        base=parts.base[mask],
        place=parts.place[mask],
        start=parts.start[mask].copy(),
    )


def _ridge(matrix: Array, right: Array) -> Array:
    """Least squares, held near zero where nothing is told."""
    size = matrix.shape[1]
    return np.asarray(np.linalg.solve(matrix.T @ matrix + 1e-6 * np.eye(size), matrix.T @ right))


def _without(nuisance: Array, right: Array, more: Array | None = None) -> tuple[Array, Array]:
    """What is left of `right` (rows,) and `more` (rows, k) once the columns of `nuisance` may take what they can."""
    size = np.linalg.norm(nuisance, axis=0)
    basis, triangle = np.linalg.qr(nuisance / np.maximum(size, 1e-300))
    basis = basis[:, np.abs(np.diag(triangle)) > 1e-9]
    left = right - basis @ (basis.T @ right)
    return left, np.zeros((len(right), 0)) if more is None else more - basis @ (basis.T @ more)


def _speeds(model: Model, log: Log) -> Array:
    """Speeds as logged, else from positions by a parabola through five samples (Savitzky and Golay 1964)."""
    from scipy.signal import savgol_filter

    derived = savgol_filter(ways(model, log.position), 5, 2, deriv=1, delta=log.sample_time, axis=0)
    return np.where(np.isnan(log.velocity), derived, log.velocity)


def identify(
    model: Model, log: Log, names: Sequence[str], surroundings: Surroundings | None = None, window: float | None = None,
    physics_step: float | None = None, progress: Callable[[float], bool] | None = None,
) -> Fit:  # fmt: skip
    """Parameters `names` of a model from a log.

    Parameters
    ----------
    window
        Seconds of a window; by default twenty samples, so that even an unstable machine has not gone far.
    physics_step
        Seconds; that of a task, so that what is found is right for its steps, by default `FINEST`.

    Raises
    ------
    StateError
        Unknown names, a log that is too short, a machine that this does not know.
    """
    length = WINDOW if window is None else round(window / log.sample_time)
    if length < 4:
        raise StateError(f"a window of {window:g} s has {length} samples; wanted at least 4")
    return Identification(model, log, names, surroundings, physics_step).run(length, progress)
