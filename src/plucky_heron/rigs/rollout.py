"""Rolling a pack out: the plant is simulated here, the controller is a rig, the loop is closed at the sample rate."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import numpy as np

from plucky_heron.errors import FileError, StateError, did_you_mean, quoted
from plucky_heron.files import is_file
from plucky_heron.handover.reading import Pack, read_pack
from plucky_heron.handover.signing import check_signer
from plucky_heron.rigs.base import whole_counts
from plucky_heron.rigs.board import BoardRig
from plucky_heron.rigs.faults import Faults, with_values
from plucky_heron.rigs.host import ArmRig, HostRig
from plucky_heron.rigs.link import Rig
from plucky_heron.rigs.loop import ROLLOUT_STREAM, Loop, PackDriver
from plucky_heron.rigs.outcome import RolloutResult, Sample, log_text
from plucky_heron.rigs.plc import PlcRig
from plucky_heron.rigs.remote import check_address, is_remote, remote_rig
from plucky_heron.rigs.sides import Asking, PolicySide, Script, Side, WholeSide, check_whole
from plucky_heron.runs.results import ROLLOUT
from plucky_heron.runs.store import RunStore
from plucky_heron.simulation.batch import Batch
from plucky_heron.simulation.drivers import Driver
from plucky_heron.simulation.trials import run_trials
from plucky_heron.training.evaluation import EVALUATION_SEED

Array = np.ndarray

RIGS = ("host", "arm64", "arm32", "board", "board-fixed", "plc")
NO_FAULTS = Faults()
MOST_KEPT = 20
"""Episodes of which what happened inside is kept."""


def roll_out(
    folder: Path,
    rig: str = "host",
    *,
    episodes: int = 5,
    lock_step: bool = False,
    faults: Faults = NO_FAULTS,
    full_authority: bool = False,
    wanted_key: str = "",
    watch: Callable[[Sample], bool] | None = None,
    project: Path | None = None,
    whole: bool = False,
    asking: Asking | None = None,
    commissioning: Asking | None = None,
) -> RolloutResult:
    """Run a pack on a rig for some episodes, and the same starts inside the program.

    Parameters
    ----------
    lock_step
        As fast as it goes, each sample waiting for its answer; otherwise in real time.
    faults
        What goes wrong between plant and controller. The same starts inside the program run without.
    full_authority
        Of a controller at an address: without a first episode in which it keeps its commands near the safe ones.
    wanted_key
        Public key that must have signed the pack, in hexadecimal digits; "" for any or none.
    watch
        Called after every sample; returning False stops the rollout.
    project
        Where the result is kept, if the run that the pack comes from is in its catalogue.
    whole
        The whole controller runs on the rig: it is sent signals of instruments and gives values of drives, with guards and states.
    asking
        Of the whole controller: the state that it is asked for; on, if left out.
    commissioning
        Of the whole controller: what is asked for in an episode before the others, which is not counted.

    Raises
    ------
    StateError
        No such rig, it does not build or start, or it falls silent.
    FileError
        Not a pack, or a changed one.
    UntrustedError
        A pack that this machine did not write and nobody has trusted.
    """
    if whole and rig in (*RIGS,):
        check_whole(rig)
    if is_remote(rig):
        check_address(rig)
    elif rig not in RIGS:
        raise StateError(
            f"no rig {quoted(rig)}; {did_you_mean(rig, RIGS)}, or udp:HOST:PORT, or serial:PORT for a controller of your own"
        )
    pack = read_pack(folder)
    if wanted_key:
        check_signer(folder, pack.signer, wanted_key)
    if not is_remote(rig):
        pack.ask()
    problem = pack.problem()
    if len(problem.sensed) != len(pack.facts["inputs"]) or len(problem.commands) != len(pack.facts["outputs"]):
        raise FileError(folder / "pack.json", "inputs", None, "does not fit the task in the pack")
    side: Side = PolicySide(problem)
    if whole:
        outputs = whole_counts(pack)[1]
        side = WholeSide(problem, pack, folder / "pack.json", asking)
        side.at_once = not is_remote(rig)
    else:
        outputs = len(problem.commands)
    inside = PackDriver(pack)
    trials = run_trials(
        problem,
        inside,
        seed=EVALUATION_SEED,
        stream=ROLLOUT_STREAM,
        count=episodes,
        record=range(min(episodes, MOST_KEPT)),
        prepare=side.prepare if isinstance(side, WholeSide) else None,
    )
    result = RolloutResult(rig, lock_step, faults=faults.asked(), problem=problem)
    controller: Rig = remote_rig(rig, outputs, whole) if is_remote(rig) else make_rig(rig, pack, whole)
    loop = Loop(problem, controller, result, lock_step, watch, inside, faults, side)
    try:
        if is_remote(rig) and not full_authority and commissioning is None:
            commissioning = Asking("limited")
            result.limited_first = True
        if commissioning is not None:
            result.limited_first &= loop.before(commissioning)
            _check_commissioned(side, commissioning)
        for episode in range(episodes):
            if not loop.run(episode):
                result.stopped = True
                break
    except KeyboardInterrupt:
        result.stopped = True
    finally:
        if is_remote(rig):
            loop.make_safe()
        if isinstance(controller, BoardRig) and controller.alive():
            result.footprint = controller.footprint()
        controller.close()
    if isinstance(side, WholeSide):
        result.whole, result.drive_difference, result.without_noise = True, side.difference, side.without_noise
        result.states = side.told()
    done = len(result.scores)
    result.inside = [trials.recordings[k] for k in range(min(done, MOST_KEPT))]
    result.scores_inside = [float(x) for x in trials.score[:done]]
    result.successes_inside = [bool(x) for x in trials.success[:done]]
    at_work = asking is None or asking.ask == "on"
    if project is not None and done and not faults.any and at_work:
        _keep(project, pack, result)
    return result


def dry_run(folder: Path, rig: str, samples: int = 5, whole: bool = False) -> dict[str, Any]:
    """What would be sent to a controller, and what would be expected of it: nothing is opened and nothing is sent.

    Raises
    ------
    StateError
        No such rig.
    FileError
        Not a pack, or a changed one.
    """
    where = check_address(rig) if is_remote(rig) else f"the rig {rig} on this computer"
    if not is_remote(rig) and rig not in RIGS:
        raise StateError(f"no rig {quoted(rig)}; {did_you_mean(rig, RIGS)}")
    pack = read_pack(folder)
    problem = pack.problem()
    side: PolicySide | WholeSide = WholeSide(problem, pack, folder / "pack.json") if whole else PolicySide(problem)
    inside = _Noting(pack, side)
    trials = run_trials(problem, inside, seed=EVALUATION_SEED, stream=ROLLOUT_STREAM, count=1, record=[0])
    commands = trials.recordings[0].commands
    shown = [
        {"sensors": inside.sent[k].tolist(), "commands": commands[k].tolist()}
        for k in range(min(samples, len(commands)))
    ]
    return {
        "rig": rig, "dry_run": True, "to": where, "sample_time": problem.sample_time, "bytes": len(side.stop(0)), "whole": whole,
        "sensors": side.names,
        "limits": [{"name": c.name, "unit": c.unit, "low": c.low, "high": c.high} for c in problem.commands],
        "safe": pack.facts["safety"]["command"], "samples": shown, "score_inside": float(trials.score[0]), "success_inside": bool(trials.success[0]),
    }  # fmt: skip


def fault_map(pack: Path, rig: str, axes: Mapping[str, Array], faults: Faults, episodes: int) -> tuple[Array, Array]:
    """Mean score and success (values of the first fault, of the second) over the same starts, in lock-step; see `roll_out`."""
    names = list(axes)
    rows = axes[names[0]]
    columns = axes[names[1]] if len(names) > 1 else np.zeros(1)
    score, success = np.zeros((len(rows), len(columns))), np.zeros((len(rows), len(columns)))
    for i, row in enumerate(rows):
        for j, column in enumerate(columns):
            values = {names[0]: float(row)} | ({names[1]: float(column)} if len(names) > 1 else {})
            found = roll_out(pack, rig, episodes=episodes, lock_step=True, faults=with_values(faults, values))
            score[i, j], success[i, j] = np.mean(found.scores), np.mean(found.successes)
    return score, success


def make_rig(name: str, pack: Pack, whole: bool = False) -> Rig:
    """A rig on this computer, by its name.

    Raises
    ------
    StateError
        A tool that it needs is not installed; says the command that installs it.
    """
    if name == "host":
        return HostRig(pack, whole=whole)
    if name == "plc":
        return PlcRig(pack, whole)
    if name.startswith("arm"):
        return ArmRig(pack, name, whole)
    return BoardRig(pack, fixed=name == "board-fixed", whole=whole)


def _check_commissioned(side: Side, script: Asking) -> None:
    """Whether the whole controller came through the episode before the others without a fault.

    Raises
    ------
    StateError
        It did not: why, by its own word.
    """
    if isinstance(side, WholeSide) and side.state == "fault":
        raise StateError(f"the controller went into fault: {side.said()}; nothing was rolled out")
    if isinstance(script, Script) and script.waits:
        raise StateError(
            f"the episode before the others ended while {script.waits} was asked for; give the states less time, or leave some out"
        )


def _keep(project: Path, pack: Pack, result: RolloutResult) -> None:
    """Keep a result with the run that the pack comes from, where the project has it."""
    if not is_file(project / "runs" / "store.sqlite"):
        return
    store = RunStore(project)
    try:
        number = int(pack.facts["run"]["number"])
        row = next((row for row in store.runs() if row.id == number), None)
        if row is not None and row.identity == pack.facts["run"]["identity"] and store.writable:
            store.add_result(row.id, ROLLOUT, result.summary())
    finally:
        store.close()


class _Noting(PackDriver):
    """The same, and what would be sent to a rig."""

    def __init__(self, pack: Pack, side: PolicySide | WholeSide) -> None:
        super().__init__(pack)
        self.side = side
        self.sent: list[Array] = []

    def drive(self, batch: Batch, observations: Array) -> Array:
        """The model's commands."""
        if not self.sent:
            self.side.look(batch)
        self.sent.append(self.side.values(batch, observations))
        return super().drive(batch, observations)


def inside_driver(pack: Pack) -> Driver:
    """The pack as a driver inside the program, to be compared with the rig."""
    return PackDriver(pack)


__all__ = ["RIGS", "ROLLOUT_STREAM", "PackDriver", "RolloutResult", "Sample", "inside_driver", "log_text", "roll_out"]
