"""Many copies of one machine, moved together by the kernels."""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from plucky_heron.dynamics import kernels
from plucky_heron.dynamics.model import Model
from plucky_heron.errors import StateError

Array = np.ndarray

SERIAL_BELOW = 128
"""Fewer copies than this are stepped by one thread: handing them to two costs more than it gains."""

_STATE = ("rows", "winds", "position", "velocity", "lagged", "integral", "ring", "heads", "efforts", "active")


class Plant:
    """`copies` machines stepped as one batch.

    Parameters
    ----------
    model
        Shared structure and nominal parameters.
    copies
        Size of the batch (B).
    step
        Physics step in seconds.
    integrator
        ``"semi-implicit"`` or ``"rk4"``.
    threads
        How many threads may step; the result does not depend on it.

    Attributes
    ----------
    rows (B, P), winds (B, 3), position, velocity, efforts (B, n), lagged, integral (B, m) : arrays
        May be read and written between steps.
    active : bool array (B,)
        Copies that are not active stand still.
    """

    def __init__(
        self, model: Model, copies: int, step: float, integrator: str = "semi-implicit", threads: int | None = None
    ) -> None:
        if integrator not in ("semi-implicit", "rk4"):
            raise StateError(f"integrator {integrator!r}: wanted semi-implicit or rk4")
        n, m = len(model.joints), len(model.drives)
        self.model, self.copies, self.step_size = model, copies, step
        self.fourth_order = integrator == "rk4"
        self.threads = threads or min(2, os.cpu_count() or 1)
        self.rows: Array = np.tile(model.row, (copies, 1))
        self.winds: Array = np.zeros((copies, 3))
        self.position: Array = np.tile(model.start, (copies, 1))
        self.velocity: Array = np.zeros((copies, n))
        self.lagged: Array = np.zeros((copies, m))
        self.integral: Array = np.zeros((copies, m))
        self.delay: Array = np.round(model.dead_time / step).astype(np.int64)
        self.ring: Array = np.zeros((copies, m, max(1, int(self.delay.max(initial=0)))))
        self.heads: Array = np.zeros(copies, dtype=np.int64)
        self.efforts: Array = np.zeros((copies, n))
        self.active: Array = np.ones(copies, dtype=np.bool_)
        self.located: Array = np.zeros((copies, len(model.bodies), 18))
        self._pool: ThreadPoolExecutor | None = None

    def reset(self, copies: Array) -> None:
        """Bring `copies` (indices) back to the nominal machine in its start pose, drives at rest."""
        self.rows[copies] = self.model.row
        self.winds[copies] = 0.0
        self.position[copies] = self.model.start
        self.velocity[copies] = 0.0
        for array in (self.lagged, self.integral, self.ring, self.heads, self.efforts):
            array[copies] = 0
        self.active[copies] = True

    def settle_drives(self, copies: Array) -> None:
        """Let speed drives start holding what hangs on them: their integral takes the static load."""
        from plucky_heron.dynamics.model import accelerations, mass_matrix

        servos = np.flatnonzero(self.model.drive_kind == kernels.SPEED)
        for copy in copies:
            row = self.rows[copy]
            load = mass_matrix(self.model, self.position[copy], row) @ accelerations(
                self.model, self.position[copy], np.zeros(len(self.model.joints)), row=row
            )
            for a in servos:
                gain = row[len(self.model.joints) * kernels.NODE + a * kernels.DRIVE + 2]
                if gain > 0.0:
                    self.integral[copy, a] = -load[self.model.drive_joint[a]] / gain

    def step(self, commands: Array, substeps: int = 1) -> None:
        """Hold `commands` (B, m) for `substeps` physics steps."""
        model = self.model

        def part(first: int, last: int) -> None:
            kernels.advance(
                first, last, *model.structure, model.drive_joint, model.drive_kind, self.delay,
                self.rows, self.winds, commands, self.position, self.velocity, self.lagged, self.integral,
                self.ring, self.heads, self.efforts, self.active, self.step_size, substeps, self.fourth_order,
            )  # fmt: skip

        if self.threads < 2 or self.copies < SERIAL_BELOW:
            part(0, self.copies)
            return
        if self._pool is None:
            self._pool = ThreadPoolExecutor(1, thread_name_prefix="plant")
        half = self.copies // 2
        other = self._pool.submit(part, half, self.copies)
        part(0, half)
        other.result()

    def locate(self) -> Array:
        """Poses and velocities of all bodies, (B, bodies, 18); see `kernels.locate`."""
        model = self.model
        kernels.locate(
            0, self.copies, *model.structure, model.body_node, model.body_rotation, model.body_position,
            self.position, self.velocity, self.located,
        )  # fmt: skip
        return self.located

    def keep(self) -> dict[str, Array]:
        """All state, for a checkpoint."""
        return {name: getattr(self, name).copy() for name in _STATE}

    def restore(self, kept: dict[str, Array]) -> None:
        """Set the state kept by `keep`."""
        for name in _STATE:
            getattr(self, name)[...] = kept[name]
