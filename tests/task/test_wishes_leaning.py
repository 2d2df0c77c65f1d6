"""Vehicles that fall over by themselves: how they do, and what their tasks say of it."""

from __future__ import annotations

import itertools
from pathlib import Path

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from plucky_heron.files import parse_toml, validate
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.site import Site
from plucky_heron.project import demo_source
from plucky_heron.task.machine_import import machine_from_urdf
from plucky_heron.task.wishes.catalogue import WISHES
from plucky_heron.task.wishes.leaning import fall_of, steadied
from plucky_heron.task.wishes.look import Look, look_at
from plucky_heron.task.wishes.poses import STEP
from tests.task.test_foreign_imports import WHEEL, body, box, brought, joint, wish

RADIUS, WHEELS, GRAVITY = 0.1, 0.9, 9.81
TURNED = {"y": "1.570796 0 0", "x": "0 1.570796 0"}


def stilter(folder: Path, height: float = 0.27, mass: float = 6.5, axle: str = "y", fast: float = 18.0) -> Machine:
    """A body on two wheels beside one another, on an axle along x or y."""
    parts = [body("post", mass, box(0.12, 0.12, 1.8 * height), f"0 0 {height}")]
    for side, sign in (("left", 1), ("right", -1)):
        at = f"0 {0.17 * sign} 0" if axle == "y" else f"{0.17 * sign} 0 0"
        parts += [
            body(f"{side}_wheel", WHEELS, WHEEL, turn=TURNED[axle]),
            joint(f"{side}_turn", "post", f"{side}_wheel", at, "0 1 0" if axle == "y" else "1 0 0", f'effort="4" velocity="{fast}"'),
        ]  # fmt: skip
    return brought(folder, parts)[1]


def level() -> Site:
    """Ground."""
    return validate(Site, {"terrain": {"kind": "flat"}}, "site")


@pytest.fixture(scope="module")
def barrow() -> Look:
    """One that is drawn from the side, on one axle."""
    path = demo_source() / "machines" / "barrow.toml"
    return look_at(validate(Machine, parse_toml(path.read_text(), path), path), level())


@pytest.mark.parametrize(("height", "mass"), [(0.27, 6.5), (1.2, 40.0)])
def test_a_post_on_wheels_falls_as_fast_as_its_equations_of_motion(tmp_path: Path, height: float, mass: float) -> None:
    # wheels shoot away from under a tall one, and a drive brakes what turns faster than it could
    look = look_at(stilter(tmp_path, height, mass, fast=1000.0), level())
    fall = look.leans
    assert fall is not None and fall.ways == ("pitch",)
    # wheels roll without torque; `moved` holds what they turn, too
    about, arm = 0.002 * mass + mass * height**2, mass * height
    moved = mass + 2.0 * WHEELS + 2.0 * 0.002 * WHEELS / RADIUS**2

    def falls(_: float, state: np.ndarray) -> list[float]:
        lean, rate, _ = state
        pushed, pulled = np.array([[moved, arm * np.cos(lean)], [arm * np.cos(lean), about]]), [arm * rate**2 * np.sin(lean), arm * GRAVITY * np.sin(lean)]  # fmt: skip
        forward, turned = np.linalg.solve(pushed, pulled)
        return [rate, turned, forward]

    path = solve_ivp(falls, (0.0, 5.0), [0.001, 0.0, 0.0], rtol=1e-9, atol=1e-12, dense_output=True)
    times = np.linspace(0.0, 5.0, 200_001)
    assert path.sol is not None
    leans = path.sol(times)[0]
    grown = times[np.argmax(leans > 0.3)] - times[np.argmax(leans > 0.1)]
    assert fall.seconds == pytest.approx(grown, abs=0.006)


def test_on_an_axle_along_x_it_falls_to_its_side(tmp_path: Path) -> None:
    fall = look_at(stilter(tmp_path, axle="x"), level()).leans
    assert fall is not None and fall.ways == ("roll",)


def test_what_stands_does_not_fall(tmp_path: Path) -> None:
    parts = [body("post", 6.5, box(0.3, 0.12, 0.05), "-0.1 0 0.05"), body("foot", 0.2, '<sphere radius="0.05"/>')]
    parts.append(joint("foot_mount", "post", "foot", "-0.3 0 -0.05"))
    for side, sign in (("left", 1), ("right", -1)):
        parts += [body(f"{side}_wheel", WHEELS, WHEEL, turn=TURNED["y"]), joint(f"{side}_turn", "post", f"{side}_wheel", f"0 {0.17 * sign} 0", "0 1 0", 'effort="4" velocity="18"')]  # fmt: skip
    assert look_at(brought(tmp_path, parts)[1], level()).leans is None


def test_held_upright_it_shows_how_far_it_goes_and_not_how_it_falls(tmp_path: Path) -> None:
    look = look_at(stilter(tmp_path), level())
    held = steadied(look, look.base)
    plant = held.plant(2)
    index = held.model.bodies.index(look.base)
    commands = np.array([[4.0, 4.0], [-4.0, 4.0]])
    leans = []
    for _ in range(100):
        plant.step(commands, int(0.02 / STEP))
        plant.locate()
        leans.append(np.abs(plant.attitude[:, index, :2]).max())
    assert max(leans) < 0.06
    # it drives as fast as its wheels turn, or turns on the spot
    assert plant.own[0, index, 0] == pytest.approx(18.0 * RADIUS, rel=0.1)
    assert abs(plant.own[1, index, 0]) < 0.1 and plant.own[1, index, 5] > 5.0
    assert fall_of(look, look.base, look.base_joint) is not None
    assert look.travel.ahead < 1.1 * 18.0 * RADIUS


@pytest.mark.parametrize("name", ["reach a place", "follow a set-point", "go along a course", "dock", "balance"])
def test_whatever_it_is_to_do_it_senses_its_lean_and_falling_ends_an_episode(tmp_path: Path, name: str) -> None:
    draft = wish(stilter(tmp_path), name)
    seen = {o["name"]: o for o in draft.task["observations"]}
    assert seen["lean"]["formula"] == "post.pitch" and seen["lean rate"]["formula"] == "post.own.rate.y"
    assert draft.task["endings"]["fallen"]["formula"].startswith("abs(post.pitch) > 0.8")
    assert float(draft.task["timing"]["control_rate"].split()[0]) >= 25.0
    assert len(seen) == len(draft.task["observations"])


def test_what_a_plane_keeps_upright_goes_to_and_fro(barrow: Look) -> None:
    assert barrow.along == "x" and barrow.leans is not None and barrow.leans.ways == ("turn",)
    fits = {w.name for w in WISHES if not w.unfit(barrow)}
    assert fits == {"balance", "reach a place", "follow a set-point"}
    for name in ("reach a place", "follow a set-point"):
        found = next(w for w in WISHES if w.name == name)
        draft = found.write(barrow, {q.key: q.value for q in found.questions(barrow)})
        formulas = " ".join(str(o["formula"]) for o in draft.task["observations"])
        assert "yaw" not in formulas and ".y" not in formulas and "base.turn.position" in formulas
        # its lean is no heading: it does not begin lying on its back
        assert not any("turn" in name for name in draft.task.get("starts", {}))
        assert "abs(base.turn.position) > 0.8" in draft.task["endings"]["fallen"]["formula"]


def test_where_its_driven_wheel_is_not_on_the_ground_it_goes_nowhere(barrow: Look) -> None:
    machine = barrow.machine
    bare = machine.bodies["wheel"].model_copy(update={"shapes": ()})
    assert look_at(machine.model_copy(update={"bodies": {**machine.bodies, "wheel": bare}}), barrow.site).along == ""


def test_what_stands_on_a_ball_leans_both_ways(tmp_path: Path) -> None:
    parts = [body("post", 6.5, box(0.12, 0.12, 0.5), "0 0 0.4"), body("cross", 0.1), body("ball", 2.0, '<sphere radius="0.12"/>')]  # fmt: skip
    parts += [joint("rolls", "post", "cross", "0 0 0", "1 0 0", 'effort="5" velocity="20"')]
    parts += [joint("pitches", "cross", "ball", "0 0 0", "0 1 0", 'effort="5" velocity="20"')]
    path = tmp_path / "found.urdf"
    path.write_text(f'<robot name="found">{"".join(parts)}</robot>')
    machine = validate(Machine, parse_toml(machine_from_urdf(path, True).texts["machines/found.toml"], path), path)
    look = look_at(machine, level())
    assert look.leans is not None and set(look.leans.ways) == {"roll", "pitch"}
    draft = wish(machine, "balance")
    seen = {o["name"]: o["formula"] for o in draft.task["observations"]}
    assert seen["roll rate"] == "post.own.rate.x" and seen["pitch"] == "post.pitch"
    assert draft.task["measure"]["formula"].startswith("abs(norm(post.roll, post.pitch)) < 0.2")
    assert {name.split(".")[1] for name in draft.task["starts"]} == {"rx", "ry"}


def test_an_angle_at_which_it_begins_is_no_lean(barrow: Look) -> None:
    machine = barrow.machine
    tilted = machine.joints["base"].model_copy(update={"start": (0.0, 0.25, 0.5)})
    about = machine.bodies["tray"].model_copy(update={"centre": (-0.45 * np.sin(0.5), 0.0, 0.45 * np.cos(0.5))})
    load = machine.joints["load"].model_copy(update={"origin": (-0.88 * np.sin(0.5), 0.0, 0.88 * np.cos(0.5))})
    # the same barrow, drawn half a radian backwards and started half a radian forward: it stands on end
    changes = {"joints": {**machine.joints, "base": tilted, "load": load}, "bodies": {**machine.bodies, "tray": about}}
    look = look_at(machine.model_copy(update=changes), barrow.site)
    fall, plain = look.leans, barrow.leans
    assert fall is not None and plain is not None and fall.upright == (0.5,)
    assert fall.seconds == pytest.approx(plain.seconds, rel=0.1)
    found = next(w for w in WISHES if w.name == "balance")
    draft = found.write(look, {q.key: q.value for q in found.questions(look)})
    lean = next(o["formula"] for o in draft.task["observations"] if o["name"] == "lean")
    assert lean == "wrap(base.turn.position - 0.5)" and lean in draft.task["measure"]["formula"]
    low, high = draft.task["starts"]["base.turn.position"]["uniform"]
    assert 0.5 * (float(low.split()[0]) + float(high.split()[0])) == pytest.approx(np.degrees(0.5), abs=0.01)


def test_what_rolls_down_a_slope_and_stands_does_not_fall(tmp_path: Path) -> None:
    parts = [body("deck", 6.0, box(0.6, 0.3, 0.08))]
    for k, (x, y) in enumerate(itertools.product((0.25, -0.25), (0.2, -0.2))):
        parts += [body(f"wheel{k}", WHEELS, WHEEL, turn=TURNED["y"]), joint(f"turn{k}", "deck", f"wheel{k}", f"{x} {y} -0.03", "0 1 0", 'effort="4" velocity="18"')]  # fmt: skip
    _, machine = brought(tmp_path, parts)
    points = [["-9 m", "0 m"], ["0.2 m", "0 m"], ["3 m", "-1.2 m"], ["9 m", "-1.2 m"]]
    slope = validate(Site, {"terrain": {"kind": "profile", "points": points, "spacing": "5 cm"}}, "site")
    plant = look_at(machine, slope).plant(1)
    plant.step(np.zeros((1, 4)), int(3.0 / STEP))
    assert plant.locate()[0, 0, 0] > 1.0, "it rolls down"
    assert look_at(machine, slope).leans is None
