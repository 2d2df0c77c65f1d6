"""Compile all kernels once into Numba's cache, with a progress bar."""

from __future__ import annotations

import sys
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


def steps() -> list[Callable[[], object]]:
    """Calls that make Numba compile each entry, with the types used in earnest."""
    model = build_model(read_machine(demo_source() / "machines" / "hoist.toml"))
    plant = Plant(model, 2, 0.004, threads=1)
    line = np.zeros(4)
    table, whole = np.zeros((2, 2)), np.ones(2, dtype=np.int64)
    return [
        lambda: accelerations(model, model.start, np.zeros(len(model.joints))),
        lambda: plant.step(np.zeros((2, len(model.drives)))),
        lambda: Plant(model, 1, 0.004, threads=1, surroundings=build_scene(Site(terrain=Terrain(kind="flat")))),
        plant.locate,
        lambda: plant.settle_drives(np.arange(2)),
        lambda: warm_sensing(model, plant),
        Apart(plant, [(model.bodies[0], model.bodies[-1])]).read,
        lambda: simulation.second_order_noise(0.5, 0.5, line, 0.5, line.copy()),
        lambda: warm_weather(plant),
        lambda: simulation.instrument_errors(
            whole, table, np.zeros(2, np.uint64), whole, whole, table[0], table[0], table[0], table.copy()
        ),
        lambda: simulation.first_order_noise(0.5, 0.5, line, line.copy()),
        lambda: learn_a_little("ppo"),
        lambda: learn_a_little("ppo", memory=4),
        lambda: learn_a_little("sac", priority=0.5),
    ]


def main() -> None:
    """Compile with a bar."""
    console = Console(stderr=True)
    with Progress(console=console) as bar:
        task = bar.add_task("compiling kernels", total=13)
        bar.advance(task)
        for step in steps()[: 3 if "--smoke" in sys.argv else None]:
            step()
            bar.advance(task)


if __name__ == "__main__":
    main()
