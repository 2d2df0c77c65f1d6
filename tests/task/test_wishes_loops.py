"""Wishes for machines whose loops are closed by pins: a press, a five-bar, a digger on cylinders; against closed forms."""

from __future__ import annotations

import tomllib
from pathlib import Path

import numpy as np
import pytest

from plucky_heron.dynamics.plant import Plant
from plucky_heron.files import validate
from plucky_heron.machine.schema import Machine, Pin
from plucky_heron.machine.site import Site
from plucky_heron.project import create
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.drivers import Rule
from plucky_heron.simulation.trials import run_trials
from plucky_heron.task.wishes.catalogue import WISHES
from plucky_heron.task.wishes.look import Look, look_at
from plucky_heron.task.wishes.region import region_of
from tests.conftest import altered

Array = np.ndarray
FOREIGN = Path(__file__).parent / "foreign"
CRANK, ROD = 0.1, 0.3
"""Lengths of the press, m."""


def look_of(name: str, **changes: object) -> Look:
    """A machine with other parts, looked at in an empty hall."""
    data = tomllib.loads((FOREIGN / f"{name}.toml").read_text())
    return look_at(validate(Machine, data | changes, name), Site())


def slider_crank(turn: Array) -> tuple[Array, Array, Array]:
    """Angle of the rod against the axis, and places of the ram and of the rod's middle (B, 2: along, up), of a crank turned by `turn`."""
    pin = np.stack([CRANK * np.cos(turn), -CRANK * np.sin(turn)], axis=1)
    ram = pin[:, 0] + np.sqrt(ROD**2 - pin[:, 1] ** 2)
    return np.arcsin(pin[:, 1] / ROD), ram, 0.5 * (pin + np.stack([ram, 0.0 * ram], axis=1))


def test_what_a_press_carries_and_moves_is_that_of_the_closed_form() -> None:
    look = look_of("presser")
    assert (look.driven, look.followers, look.passive, look.tied_apart) == (["shaft"], ["pin", "guide"], [], "")
    turn = np.linspace(-2.9, 2.9, 30)
    positions = np.tile(look.model.start, (30, 1))
    positions[:, look.index("shaft")] = turn
    positions, kept = look.kept(positions, ["shaft"])
    lean, ram, middle = slider_crank(turn)
    assert kept.all() and positions[:, look.index("guide")] + 0.4 == pytest.approx(ram, abs=1e-6)
    small = 1e-5
    after = slider_crank(turn + small)
    rates = [(b - a) / small for a, b in zip((lean, ram, middle), after, strict=True)]
    ways = look.ways(positions)[:, :, 0]
    assert ways[:, look.index("guide")] == pytest.approx(rates[1], abs=1e-3)
    bodies = look.machine.bodies
    crank, rod, press = bodies["crank"], bodies["rod"], bodies["ram"]
    moved = (
        crank.inertia[1] + crank.mass * 0.05**2 + rod.inertia[1] * rates[0] ** 2
        + rod.mass * (rates[2] ** 2).sum(axis=1) + press.mass * rates[1] ** 2
    )  # fmt: skip
    assert look.inertia(positions)[:, look.index("shaft")] == pytest.approx(moved, rel=5e-3)
    up = 9.81 * (crank.mass * -0.05 * np.cos(turn) + rod.mass * rates[2][:, 1])
    assert look.loads(positions)[:, 0] * 20.0 == pytest.approx(np.abs(up), abs=0.01)


def test_drawn_starts_stay_put_together_as_they_are(tmp_path: Path) -> None:
    problem = create(tmp_path / "hall", str(FOREIGN / "presser.toml"), "hold a pose").problem("hold_a_pose")
    wide = altered(problem, starts={"shaft.position": {"uniform": [-2.9, 2.9]}})
    batch = Batch(wide, 200, seed=2, stream="starts")
    batch.start(np.arange(200))
    look = look_of("presser")
    shaft, guide = look.index("shaft"), look.index("guide")
    _, ram, _ = slider_crank(batch.plant.position[:, shaft])
    assert np.ptp(batch.plant.position[:, shaft]) > 5.0
    assert batch.plant.position[:, guide] + 0.4 == pytest.approx(ram, abs=1e-6)
    # closed at once, about half of them would have the ram on the other side of the shaft
    jumped = Plant(look.model, 200, 1e-3, threads=1)
    jumped.position[:, shaft] = batch.plant.position[:, shaft]
    assert jumped.close_loops(np.arange(200), [shaft]).max() < 1e-6
    assert (jumped.position[:, guide] + 0.4 < 0.0).mean() > 0.3


def open_by(look: Look, positions: Array) -> Array:
    """How far (m) the pin of a machine is open, (B,)."""
    (pin,) = (force for force in look.machine.forces.values() if isinstance(force, Pin))
    ends = [look.points(positions, body, np.array(at)) for body, at in ((pin.a, pin.at_a), (pin.b, pin.at_b))]
    return np.asarray(np.linalg.norm(ends[1] - ends[0], axis=1))


@pytest.mark.parametrize("name", ["presser", "fivebar"])
def test_a_loop_that_is_thrown_about_stays_closed_and_finite(name: str) -> None:
    """Chance at drives that bring it to a hundred radians a second, through its dead centres, at 4 ms."""
    look = look_of(name)
    plant = Plant(look.model, 64, 4e-3, threads=1)
    plant.settle_drives(np.arange(64))
    limits = np.array([float(drive.limit) for drive in look.machine.drives.values()])
    generator, fastest, opened = np.random.default_rng(1), 0.0, []
    for _ in range(200):
        commands = generator.uniform(-1.0, 1.0, (64, len(limits))) * limits
        for _ in range(5):
            plant.step(commands)
        speeds = np.abs(plant.velocity).max(axis=1)
        assert (speeds < 1e3).all()
        fastest = max(fastest, float(speeds.max()))
        opened.append(open_by(look, plant.position))
    assert fastest > 100.0 and np.quantile(opened, 0.9) < 1e-3 and np.quantile(opened, 0.99) < 0.02


@pytest.mark.parametrize(
    ("name", "fits"),
    [("presser", {"reach a place", "hold a pose", "follow a set-point"}), ("fivebar", {"reach a place", "hold a pose", "follow a set-point"}), ("digger", {"reach a place", "hold a pose", "follow a set-point"})],
)  # fmt: skip
def test_what_loops_can_be_wished(name: str, fits: set[str]) -> None:
    look = look_of(name)
    assert {wish.name for wish in WISHES if not wish.unfit(look)} == fits


def test_a_digger_reaches_with_its_stick_and_holds_its_cylinders(tmp_path: Path) -> None:
    look = look_of("digger")
    assert look.limb == (["slew", "cyl1", "cyl2"], "stick")
    region = region_of(look)
    assert region is not None and region.names == ("bearing", "radius", "height") and 2.0 < region.reach < 4.0
    project = create(tmp_path / "yard", str(FOREIGN / "digger.toml"), "hold a pose")
    problem = project.problem("hold_a_pose")
    rule = altered(problem, rules={"hand": {"commands": {j: f"3 * miss.{j}" for j in ("slew", "cyl1", "cyl2")}}})
    assert run_trials(rule, Rule(rule, "hand"), seed=1, stream="hand", count=64).success.mean() > 0.95
    batch = Batch(problem, 64, seed=2, stream="starts")
    batch.start(np.arange(64))
    at = batch.plant.position
    low, high = look.machine.joints["stick"].limits or (0.0, 0.0)
    stick = at[:, look.index("stick")]
    assert ((stick > low) & (stick < high)).all() and np.ptp(at[:, look.index("cyl2")]) > 0.1


def test_loops_that_drives_do_not_settle_are_named() -> None:
    drives = {"shaft": {"kind": "effort", "joint": "shaft", "limit": 20.0}, "guide": {"kind": "effort", "joint": "guide", "limit": 20.0}}  # fmt: skip
    both = look_of("presser", drives=drives)
    assert both.tied_apart == "its loops tie shaft, guide together: fewer drives can move it"
    one = look_of("fivebar", drives={"l1": {"kind": "effort", "joint": "l1", "limit": 3.0}})
    assert one.tied_apart.startswith("its drives do not say where")
    for look in (both, one):
        assert {wish.name for wish in WISHES if not wish.unfit(look)} == set()


def test_mass_of_a_body_with_the_name_of_its_joint_is_varied(tmp_path: Path) -> None:
    project = create(tmp_path / "yard", str(FOREIGN / "digger.toml"), "reach a place")
    draw = next(d for d in project.problem("reach_a_place").draws if d.target == "stick.mass")
    assert draw.unit == "kg"
