"""Compile all kernels once into Numba's cache, in two processes where there are two cores, with a progress bar.

``python tools/warm_kernels.py [--smoke]``; its own processes are given ``--part 0`` or ``--part 1``.
"""

from __future__ import annotations

import os
import subprocess
import sys
import threading
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "src"))

import numpy as np
from rich.console import Console
from rich.progress import Progress

from plucky_heron.dynamics.apart import Apart
from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.kernels import layout
from plucky_heron.dynamics.model import Model
from plucky_heron.dynamics.plant import Plant, accelerations
from plucky_heron.dynamics.scene import build_scene
from plucky_heron.dynamics.sensing import Sensing
from plucky_heron.learning.method import Experience, Space, make_method, settings_class
from plucky_heron.machine.reading import read_machine
from plucky_heron.machine.sensors import Sensor
from plucky_heron.machine.site import Site, Terrain
from plucky_heron.project import demo_source
from plucky_heron.simulation import kernels as simulation


def warm_sensing(model: Model, plant: Plant) -> None:
    """The sensing kernel on a machine that feels one joint."""
    machine = model.machine.model_copy(update={"sensors": {"felt": Sensor(kind="joint", joint=model.joints[0])}})
    instruments = Sensing(build_model(machine), plant.surroundings)
    instruments.readings(plant, np.zeros((2, len(instruments.channels))))


def warm_weather(plant: Plant) -> None:
    """Wind and water of the first sample."""
    two, fields = np.zeros(2), plant.fields
    simulation.weather(
        np.arange(2), np.zeros((2, 2, 1)), np.zeros(2, dtype=np.int64), (1.0, 0.0, 0.0), two, two, two, 0.0, 0.1,
        plant.winds, plant.currents, fields[:, layout.WATER_LEVEL], fields[:, layout.TIME],
    )  # fmt: skip


def warm_judging(plant: Plant) -> None:
    """One sample of two copies with one reward term, one ending and the measure."""
    no, whole = np.zeros(2, dtype=np.bool_), np.zeros(2, dtype=np.int64)
    simulation.judge(
        plant.position, plant.velocity, 1e5, np.zeros((4, 2)), 1, 2, 3, np.ones(1), whole[:1], whole[:1], no, 1, no, no, no, np.zeros((2, 1), dtype=np.int64),
        whole, np.zeros((1, 2)), np.zeros(2), whole.copy(), no.copy(), no.copy(),
    )  # fmt: skip


def learn_a_little(method: str, **settings: float) -> None:
    """A round of a method on made-up observations: acting, remembering, learning."""
    two = np.ones(2)
    small = {
        "steps_per_update": 16,
        "minibatch": 8,
        "random_start_steps": 4,
        "steps_per_round": 8,
        "replay_capacity": 64,
    }
    schema = settings_class(method)
    chosen = {k: v for k, v in (small | settings).items() if k in schema.model_fields}
    learner = make_method(method, schema.model_validate(chosen), Space(-two, two, -two, two), 4, 1)
    over = np.array([True, False, False, True])
    while not learner.ready():
        seen = np.zeros((4, 2))
        learner.take(Experience(np.zeros(4), np.zeros((4, 2)), over, ~over, seen, learner.choose(seen)))
    learner.improve(0.0)


def hoist() -> tuple[Model, Plant]:
    """A machine and two copies of it."""
    model = build_model(read_machine(demo_source() / "machines" / "hoist.toml"))
    return model, Plant(model, 2, 0.004, threads=1)


def moving() -> list[Callable[[], object]]:
    """The step of the physics, which takes longest by far."""

    def step() -> None:
        model, plant = hoist()
        accelerations(model, model.start, np.zeros(len(model.joints)))
        plant.step(np.zeros((2, len(model.drives))))

    def touch() -> None:
        Plant(hoist()[0], 1, 0.004, threads=1, surroundings=build_scene(Site(terrain=Terrain(kind="flat"))))

    return [hoist, step, touch]


def learning() -> list[Callable[[], object]]:
    """Learning, noise, and what is asked of a machine; by the time a machine is needed, the other process has compiled it."""
    line = np.zeros(4)
    table, whole = np.zeros((2, 2)), np.ones(2, dtype=np.int64)

    def ask() -> None:
        model, plant = hoist()
        plant.locate()
        warm_weather(plant)
        warm_judging(plant)
        plant.settle_drives(np.arange(2))
        warm_sensing(model, plant)
        Apart(plant, [(model.bodies[0], model.bodies[-1])]).read()

    return [
        lambda: learn_a_little("ppo"),
        lambda: learn_a_little("ppo", memory=4),
        lambda: learn_a_little("sac", priority=0.5),
        lambda: learn_a_little("ddpg"),
        lambda: simulation.second_order_noise(0.5, 0.5, line, 0.5, line.copy()),
        lambda: simulation.instrument_errors(
            whole, table, np.zeros(2, np.uint64), whole, whole, table[0], table[0], table[0], table.copy()
        ),
        lambda: simulation.first_order_noise(0.5, 0.5, line, line.copy()),
        ask,
    ]


PARTS = (moving, learning)


def work(part: int) -> None:
    """One part, a line for each step that is done."""
    for step in PARTS[part]():
        step()
        print("done", flush=True)


def main() -> int:
    """Compile with a bar; exit status 1 where a process failed."""
    if "--part" in sys.argv:
        work(int(sys.argv[-1]))
        return 0
    if "--smoke" in sys.argv:
        learning()[0]()
        return 0
    together = len(os.sched_getaffinity(0)) > 1
    failed: list[int] = []
    with Progress(console=Console(stderr=True)) as bar:
        task = bar.add_task("compiling kernels", total=sum(len(part()) for part in PARTS))

        def follow(part: int) -> None:
            command = [sys.executable, "-P", __file__, "--part", str(part)]
            with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
                assert process.stdout is not None
                for _ in process.stdout:
                    bar.advance(task)
            if process.returncode != 0:
                failed.append(part)

        threads = [threading.Thread(target=follow, args=(part,)) for part in range(len(PARTS))]
        for thread in threads:
            thread.start()
            if not together:
                thread.join()
        for thread in threads:
            thread.join()
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
