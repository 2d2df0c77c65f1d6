"""What a site does: gusts with the right spectrum, waves, the tide, heights from a map; against closed forms and SciPy."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from scipy.signal import lfilter, welch

from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.plant import Plant
from plucky_heron.dynamics.scene import build_scene
from plucky_heron.files import validate
from plucky_heron.machine.drawings import read_site
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.project import demo_source
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.kernels import first_order_noise, second_order_noise
from plucky_heron.task.problem import bind, read_problem

TIME, STEP = 1.5, 0.02


def gusts(across: bool, count: int) -> np.ndarray:
    """A long series of one of the filters."""
    decay = math.exp(-STEP / TIME)
    out = np.zeros(count)
    white, strength = np.random.default_rng(5).standard_normal(count), math.sqrt(1.0 - decay**2)
    if across:
        second_order_noise(decay, strength, white, 0.3, out)
    else:
        first_order_noise(decay, strength, white, out)
    return out


def test_gusts_have_unit_variance_and_the_spectra_of_dryden() -> None:
    """MIL-F-8785C: along 2T / (1 + (T w)^2), across T (1 + 3 (T w)^2) / (1 + (T w)^2)^2; as one-sided densities in Hz."""
    count = 4_000_000
    for across, shape in (
        (False, lambda x: 4.0 * TIME / (1.0 + x**2)),
        (True, lambda x: 2.0 * TIME * (1.0 + 3.0 * x**2) / (1.0 + x**2) ** 2),
    ):
        series = gusts(across, count)
        assert series.std() == pytest.approx(1.0, rel=0.02)
        frequency, density = welch(series, 1.0 / STEP, nperseg=4096)
        some = (frequency > 0.02) & (frequency < 1.0)
        wanted = shape(2.0 * math.pi * frequency[some] * TIME)
        assert np.abs(density[some] / wanted - 1.0).max() < 0.15
        assert float(np.mean(density[some] / wanted)) == pytest.approx(1.0, abs=0.02)


@pytest.mark.parametrize("across", [False, True])
def test_gusts_are_as_strong_at_the_start_as_later(across: bool) -> None:
    decay, generator = math.exp(-STEP / TIME), np.random.default_rng(4)
    strength = math.sqrt(1.0 - decay**2)
    rows = np.zeros((4000, 40))
    for row in rows:
        white = generator.standard_normal(40)
        if across:
            second_order_noise(decay, strength, white, generator.standard_normal(), row)
        else:
            first_order_noise(decay, strength, white, row)
    assert rows.std(axis=0) == pytest.approx(np.ones(40), abs=0.05)


def test_gusts_across_are_the_stated_filter() -> None:
    decay = math.exp(-STEP / TIME)
    white = np.random.default_rng(2).standard_normal(2000)
    white[0] = 0.0  # from rest, as SciPy's filters
    out = np.zeros(2000)
    second_order_noise(decay, math.sqrt(1.0 - decay**2), white, 0.0, out)
    first = lfilter([math.sqrt(1.0 - decay**2)], [1.0, -decay], white)
    wanted = math.sqrt(3.0) * first + (1.0 - math.sqrt(3.0)) * lfilter([1.0 - decay], [1.0, -decay], first)
    scale = float(out @ wanted / (wanted @ wanted))
    assert out == pytest.approx(scale * wanted, abs=1e-12)
    assert scale == pytest.approx(1.0 / math.sqrt(2.0), rel=0.01)  # the continuous filter's variance is 2


def buoy(x: float) -> Machine:
    """A column of water's mass on an upright slider at x."""
    return validate(
        Machine,
        {
            "bodies": {"buoy": {"mass": 500.0, "inertia": [10.0, 10.0, 10.0]}},
            "joints": {"heave": {"kind": "slider", "child": "buoy", "axis": [0, 0, 1], "origin": [x, 0.0, 0.0]}},
            "forces": {"column": {"kind": "float", "body": "buoy", "at": [0.0, 0.0, -2.0], "area": 0.4, "height": 4.0}},
        },
        "buoy",
    )


@pytest.mark.parametrize(
    ("x", "time", "direction"), [(0.0, 0.0, 0.0), (2.3, 1.7, 0.0), (-4.0, 3.1, 0.7), (7.0, 0.4, 2.0)]
)
def test_waves_lift_as_deep_water_does(x: float, time: float, direction: float) -> None:
    site = Site(water_level=0.1, wave=(0.3, 12.0), current={"direction": direction})
    plant = Plant(build_model(buoy(x)), 1, 1e-3, surroundings=build_scene(site))
    plant.fields[0, 6], plant.fields[0, 7] = 0.1, time
    number = 2.0 * math.pi / 12.0
    level = 0.1 + 0.3 * math.sin(number * math.cos(direction) * x - math.sqrt(9.81 * number) * time)
    found, _ = plant.free_accelerations()
    assert found[0] == pytest.approx(1025.0 * 9.81 * 0.4 * (2.0 + level) / 500.0 - 9.81, rel=1e-9)


def test_the_tide_turns_the_current() -> None:
    problem = read_problem(demo_source(), "station")
    current = problem.site.current.model_copy(update={"speed": 0.8, "direction": 0.5, "tide": 40.0})
    task = problem.task.model_copy(
        update={"variation": {k: v for k, v in problem.task.variation.items() if not k.startswith("current")}}
    )
    tidal = bind(problem.machine, problem.site.model_copy(update={"current": current}), task, "tide")
    batch = Batch(tidal, 1, 1, "tide", threads=1)
    batch.start(np.array([0]))
    for _ in range(60):
        batch.step(np.zeros((1, len(tidal.low))))
    time = 60 * tidal.sample_time
    speed = 0.8 * math.cos(2.0 * math.pi * time / 40.0)
    assert batch.plant.currents[0, :2] == pytest.approx([speed * math.cos(0.5), speed * math.sin(0.5)], rel=1e-12)


def test_a_ball_rests_on_the_heights_of_a_map(tmp_path: Path) -> None:
    """A map that rises evenly towards +x and y: the ball on its guide stands off by its radius across the slope."""
    (tmp_path / "project.toml").write_text('format = 2\nname = "p"\n')
    columns, rows = np.meshgrid(np.arange(101), np.arange(51))
    image = np.round(columns + 2.0 * (50 - rows)).astype(np.uint8)  # the picture's upper edge is the far side in y
    Image.fromarray(image).save(tmp_path / "heights.png")
    (tmp_path / "hill.toml").write_text(
        'format = 2\n[terrain]\nkind = "map"\nmap = "heights.png"\nheight = "2.55 m"\nsize = ["10 m", "5 m"]\nlevel = "-1 m"\n'
    )
    scene = build_scene(read_site(tmp_path / "hill.toml"))
    rise = 2.55 / 255.0 / 0.1  # metres a metre along x; twice that along y
    for x, y in ((-3.0, -1.5), (0.0, 0.0), (3.3, 1.2)):
        ball = validate(
            Machine,
            {
                "bodies": {
                    "mast": {"mass": 1.0},
                    "ball": {"mass": 1.0, "inertia": [0.01] * 3, "shapes": [{"kind": "sphere", "size": [0.2]}]},
                },
                "joints": {
                    "foot": {"kind": "fixed", "child": "mast", "origin": [x, y, 0.0]},
                    "guide": {"kind": "slider", "parent": "mast", "child": "ball", "damping": 20.0},
                },
            },
            "ball",
        )
        plant = Plant(build_model(ball), 1, 2e-3, surroundings=scene)
        plant.position[0, 0] = 2.0
        plant.step(np.zeros((1, 0)), 3000)
        ground = -1.0 + rise * (x + 5.0) + 2.0 * rise * (y + 2.5)
        across = math.sqrt(1.0 + rise**2 + 4.0 * rise**2)
        assert plant.position[0, 0] == pytest.approx(ground + 0.2 * across, abs=2e-3)


@pytest.mark.parametrize(
    ("shape", "height"),
    [
        ({"kind": "box", "size": [0.6, 0.4, 0.2]}, 0.1),
        ({"kind": "cylinder", "size": [0.3, 0.2]}, 0.1),
        ({"kind": "capsule", "size": [0.05, 0.5], "turn": [0.0, math.pi / 2, 0.0]}, 0.05),
        ({"kind": "cylinder", "size": [0.05, 0.5], "turn": [0.0, math.pi / 2, 0.0]}, 0.05),
        ({"kind": "hull", "points": [[x, y, z] for x in (-0.3, 0.3) for y in (-0.2, 0.2) for z in (-0.1, 0.15)]}, 0.1),
    ],
)
def test_a_ridge_between_the_corners_carries(shape: dict[str, object], height: float) -> None:
    """A peak of 12 cm under the middle of a shape whose corners hang over even ground, on an upright guide."""
    ridge = ((-2.0, 0.0), (-0.05, 0.0), (0.0, 0.12), (0.05, 0.0), (2.0, 0.0))
    scene = build_scene(Site(terrain={"kind": "profile", "points": ridge, "spacing": 0.05}))
    machine = validate(
        Machine,
        {
            "bodies": {"mast": {"mass": 1.0}, "part": {"mass": 2.0, "inertia": [0.1] * 3, "shapes": [shape]}},
            "joints": {
                "foot": {"kind": "fixed", "child": "mast"},
                "guide": {"kind": "slider", "parent": "mast", "child": "part", "damping": 10.0, "start": 0.5},
            },
        },
        "part",
    )
    plant = Plant(build_model(machine), 1, 2e-3, surroundings=scene)
    plant.step(np.zeros((1, 0)), 1500)
    assert plant.position[0, 0] == pytest.approx(0.12 + height, abs=1.5e-3)
    assert plant.contact_forces(0)[:, 5].sum() == pytest.approx(2.0 * 9.81, rel=1e-3)
