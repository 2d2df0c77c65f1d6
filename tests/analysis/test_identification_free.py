"""Parameters of machines that are free in space or have ball joints come back from their logs, however their attitude was logged."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from plucky_heron.analysis.identification.fitting import identify
from plucky_heron.analysis.identification.log import read_log
from plucky_heron.dynamics.attitudes import differences, displaced, ways
from plucky_heron.dynamics.building import build_model
from plucky_heron.dynamics.model import Model
from plucky_heron.dynamics.plant import Plant
from plucky_heron.errors import FileError
from plucky_heron.files import validate
from plucky_heron.machine.schema import Machine

RATE = 100.0
PLACES = [([0.4, 0.2, 0.1], [0, 0, 1]), ([-0.4, 0.3, 0], [0, 0, 1]), ([0, -0.5, 0.1], [0, 0, 1]), ([0.1, 0, 0.05], [1, 0, 0]), ([0, 0, 0.08], [0, 1, 0])]  # fmt: skip
LIFTER = {
    "name": "lifter with a swinging arm",
    "bodies": {
        "hull": {"mass": 12.0, "inertia": [0.5, 0.9, 1.1]},
        "arm": {"mass": 2.0, "centre": [0.2, 0, 0], "inertia": [0.01, 0.05, 0.05]},
    },
    "joints": {
        "base": {"kind": "free", "child": "hull"},
        "wrist": {"kind": "ball", "parent": "hull", "child": "arm", "origin": [0.3, 0, 0], "turn": [0.35, 0, 0.7], "damping": 0.3},
    },
    "drives": {
        f"t{k}": {"kind": "thrust", "body": "hull", "at": at, "direction": way, "limit": 120.0, "lag": 0.04} for k, (at, way) in enumerate(PLACES)
    },
}  # fmt: skip
HOLDS = [(0.4, 0.2), (-0.4, 0.3), (0.0, -0.5)]
TRUE = {"hull.mass": 14.0, "arm.mass": 1.6, "wrist.rx.damping": 0.45, "t1.lag": 0.06}


@pytest.fixture(scope="module")
def lifter() -> Model:
    return build_model(validate(Machine, LIFTER, "lifter"))


def flight(model: Model, seed: int, samples: int = 600) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Positions, speeds and commands of the true machine, held up by hand, not very well, and shaken."""
    rng = np.random.default_rng(seed)
    plant = Plant(model, 1, 0.001)
    for name, value in TRUE.items():
        model.vary(plant.rows, np.arange(1), name, np.array([value]))
    position, velocity, commands, push = [], [], [], np.zeros(5)
    for k in range(samples):
        x, v = plant.position[0], plant.velocity[0]
        if k % 10 == 0:
            push = rng.uniform(-12, 12, 5)
        turn = -30.0 * x[3:5] - 6.0 * v[3:5]
        level = 51.0 - 20.0 * x[2] - 15.0 * v[2] + np.array([y * turn[0] - x_ * turn[1] for x_, y in HOLDS])
        u = np.clip(push + np.concatenate([level, np.zeros(2)]), -118, 118)
        position.append(plant.position[0].copy())
        velocity.append(v.copy())
        commands.append(u)
        plant.step(u[None], round(1000 / RATE))
    return np.array(position), np.array(velocity), np.array(commands)


def written(model: Model, path: Path, seed: int, attitude: str = "angles", speeds: str = "joints") -> Path:
    """A log file of a flight with noise in every reading."""
    rng, (position, velocity, commands) = np.random.default_rng(100 + seed), flight(model, seed)
    shape = position[:, :3].shape
    columns = {"time": np.arange(len(position)) / RATE}
    columns |= dict(
        zip(("hull.x", "hull.y", "hull.z"), (position[:, :3] + 0.003 * rng.standard_normal(shape)).T, strict=True)
    )
    for joint, entries in model.attitudes():
        turned = Rotation.from_rotvec(0.003 * rng.standard_normal(shape)) * Rotation.from_quat(position[:, entries])
        if attitude == "angles":
            columns |= dict(
                zip((f"{joint}.{a}" for a in ("yaw", "pitch", "roll")), turned.as_euler("ZYX").T, strict=True)
            )
        else:  # whose sign means nothing
            columns |= dict(zip((f"{joint}.q{a}" for a in "xyzw"), -turned.as_quat().T, strict=True))
    noisy = velocity + 0.01 * rng.standard_normal(velocity.shape)
    if speeds != "none":
        columns |= {
            f"{name}.velocity": noisy[:, k] for k, name in enumerate(model.joints) if speeds == "joints" or k >= 6
        }
    if speeds == "own":
        back = Rotation.from_quat(position[:, model.attitudes()[0][1]]).inv()
        for word, first in (("velocity", 0), ("rate", 3)):
            columns |= dict(
                zip((f"hull.own.{word}.{a}" for a in "xyz"), back.apply(noisy[:, first : first + 3]).T, strict=True)
            )
    columns |= {name: commands[:, k] for k, name in enumerate(model.drives)}
    np.savetxt(
        path, np.column_stack(list(columns.values())), delimiter=",", header=",".join(columns), comments="", fmt="%.9g"
    )
    return path


@pytest.mark.parametrize(
    ("seed", "attitude", "speeds"), [(1, "angles", "joints"), (2, "quaternion", "own"), (3, "angles", "none")]
)
def test_parameters_come_back_within_three_errors(
    lifter: Model, tmp_path: Path, seed: int, attitude: str, speeds: str
) -> None:
    log = read_log(written(lifter, tmp_path / "log.csv", seed, attitude, speeds), lifter)
    assert log.notes == () and np.isnan(log.velocity).any() == (speeds == "none")
    fit = identify(lifter, log, list(TRUE))
    for p in fit.parameters:
        assert p.told and not p.with_ and abs(p.value - TRUE[p.name]) < 3.0 * p.error, p
        assert p.error < 0.1 * p.value
    # positions are read to 3 mm, attitudes to 3 mrad; without speeds windows held out begin less well
    assert (fit.after[:9] < (0.02 if speeds == "none" else 0.005)).all()


def test_what_is_read_is_what_was_written(lifter: Model, tmp_path: Path) -> None:
    """Own axes, angles and quaternions, against the machine's own numbers."""
    position, velocity, _ = flight(lifter, 2)
    for attitude in ("angles", "quaternion"):
        log = read_log(written(lifter, tmp_path / "log.csv", 2, attitude, "own"), lifter)
        assert np.abs(differences(lifter, log.position, position)).max() < 0.02
        # it falls fast, and 3 mrad turn its speed
        assert np.abs(log.velocity - velocity).max() < 0.06 + 0.015 * np.abs(velocity).max()
    # slopes of the ways are the speeds, and a way back is a way back
    slope = np.gradient(ways(lifter, position), 1.0 / RATE, axis=0)
    assert np.abs(slope - velocity)[2:-2].max() < 0.05 * np.abs(velocity).max()
    change = np.random.default_rng(0).uniform(-0.02, 0.02, velocity.shape)
    there = displaced(lifter, position, change)
    assert np.abs(differences(lifter, there, position) - change).max() < 1e-5


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ("base.pitch", "tilt", r"base\.pitch.*no such column.*hull\.pitch.*or the quaternion base\.qx"),
        ("hull.y", "sideways", r"base\.y\.position.*no such column.*hull\.y"),
    ],
)
def test_what_lacks_is_named(lifter: Model, tmp_path: Path, old: str, new: str, said: str) -> None:
    path = written(lifter, tmp_path / "log.csv", 1)
    path.write_text(path.read_text().replace(old, new, 1))
    with pytest.raises(FileError, match=said):
        read_log(path, lifter)


def test_a_quaternion_that_is_none_is_named_with_its_line(lifter: Model, tmp_path: Path) -> None:
    path = written(lifter, tmp_path / "log.csv", 1, "quaternion")
    lines = path.read_text().splitlines()
    cells = lines[7].split(",")
    cells[lines[0].split(",").index("base.qx")] = "3.0"
    lines[7] = ",".join(cells)
    path.write_text("\n".join(lines))
    with pytest.raises(FileError, match=r"line 8.*wanted a quaternion of length 1"):
        read_log(path, lifter)


def test_angles_may_go_round(lifter: Model, tmp_path: Path) -> None:
    """A yaw beyond half a turn, on an uneven clock: between two stamps it goes the short way."""
    path, count = tmp_path / "log.csv", 60
    stamps = np.arange(count) * 0.01 + 0.002 * (np.arange(count) % 2)
    yaw = np.mod(3.0 + 4.0 * stamps + np.pi, 2 * np.pi) - np.pi
    names = [
        "time",
        "hull.x",
        "hull.y",
        "hull.z",
        "hull.roll",
        "hull.pitch",
        "hull.yaw",
        "wrist.roll",
        "wrist.pitch",
        "wrist.yaw",
    ]
    table = np.zeros((count, len(names)))
    table[:, 0], table[:, 6] = stamps, yaw
    np.savetxt(path, table, delimiter=",", header=",".join(names), comments="")
    log = read_log(path, lifter)
    steps = np.diff(ways(lifter, log.position)[:, 5])
    assert (steps > 0.0).all() and steps.max() < 0.08 and "uneven" in log.notes[0]


def test_the_sign_of_a_quaternion_means_nothing(lifter: Model, tmp_path: Path) -> None:
    """Also where it changes from sample to sample and stamps are uneven, so that it is drawn on another clock."""
    path = written(lifter, tmp_path / "log.csv", 2, "quaternion", "none")
    names = path.read_text().partition("\n")[0]
    table = np.loadtxt(path, delimiter=",", skiprows=1)
    table[:, 0] += 0.002 * (np.arange(len(table)) % 2)
    plain = tmp_path / "plain.csv"
    np.savetxt(plain, table, delimiter=",", header=names, comments="", fmt="%.9g")
    columns = [k for k, name in enumerate(names.split(",")) if name.startswith("base.q")]
    table[::3, columns] *= -1.0
    np.savetxt(path, table, delimiter=",", header=names, comments="", fmt="%.9g")
    log, wanted = read_log(path, lifter), read_log(plain, lifter)
    assert "uneven" in log.notes[0]
    assert np.abs(differences(lifter, log.position, wanted.position)).max() < 1e-6
