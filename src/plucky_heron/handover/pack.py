"""The pack: what is handed to a real controller, written only when every form computes the same as the policy."""

from __future__ import annotations

import csv
import dataclasses
import hashlib
import io
import json
import re
import shutil
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
from markupsafe import Markup

from plucky_heron.analysis.statistics import wilson
from plucky_heron.errors import FileError, StateError
from plucky_heron.files import is_file, read_bytes, read_json, write_whole
from plucky_heron.handover.changes import changes
from plucky_heron.handover.contract import contract, definitions
from plucky_heron.handover.description import PACK_FORMAT, pack_hash
from plucky_heron.handover.equality import (
    BEYOND_VECTORS,
    VECTORS,
    check_forms,
    run_policy,
    test_vectors,
    vectors_beyond,
)
from plucky_heron.handover.firmware_files import firmware_files
from plucky_heron.handover.forms.catalogue import ALWAYS, BEYOND, TOLERANCE, TOLERANCES, Made, make_forms
from plucky_heron.handover.forms.controller import Answer, defaults_of, to_controller
from plucky_heron.handover.forms.controller_st import to_controller_st
from plucky_heron.handover.forms.controlling import Controlling, controlling
from plucky_heron.handover.forms.fixed import run_fixed
from plucky_heron.handover.forms.fmu import to_controller_fmu, to_whole_fmu
from plucky_heron.handover.forms.onnx import ONNX_OPSET
from plucky_heron.handover.forms.signals import SignalCode
from plucky_heron.handover.forms.templates import templates
from plucky_heron.handover.reading import read_pack
from plucky_heron.handover.signal_check import TOLERANCE as SIGNAL_TOLERANCE
from plucky_heron.handover.signal_check import check_signals
from plucky_heron.handover.signing import SIGNATURE, sign
from plucky_heron.handover.sketch import mounted_sensors, sketch
from plucky_heron.handover.trying import safe_warning, sign_answers
from plucky_heron.handover.whole_check import whole_text
from plucky_heron.handover.wiring import Mapped, read_wiring
from plucky_heron.learning.policy import Policy
from plucky_heron.runs.freeze import frozen_folder, frozen_problem, kept_policy
from plucky_heron.runs.results import PACK, PROOF
from plucky_heron.runs.store import RunRow, RunStore
from plucky_heron.task.commanding import Command
from plucky_heron.task.problem import Problem

Array = np.ndarray

HOLD_TIME = 0.1
"""Seconds the last command is held without a valid input, before the safe command."""


def write_pack(
    project: Path,
    row: RunRow,
    out: Path,
    forms: Sequence[str] = ALWAYS,
    safe_kind: str = "ramp",
    key: Path | None = None,
    wiring: Path | None = None,
) -> dict[str, Any]:
    """Export the kept policy of a run to `out` in these `forms` and check it; signed where there is a `key`.

    With a `wiring` (a file) the generated C reads and gives raw numbers; see `handover.wiring`.

    Returns
    -------
    dict
        ``pack``, ``files``, ``equality`` {form: largest difference}.

    Raises
    ------
    StateError
        A form differs from the policy, or the C compiler is missing or complains; nothing is written then.
    FileError
        `out` holds something that is not a pack.
    """
    if out.exists() and not (out / "pack.json").is_file() and (not out.is_dir() or any(out.iterdir())):
        raise FileError(out, "", None, "exists and is not a pack; name a new folder")
    problem = frozen_problem(project, row)
    policy = kept_policy(project, row)
    parts = controlling(problem)
    signals = SignalCode(problem, parts)
    if wiring is not None:
        signals.wire(read_wiring(wiring), wiring.name)
    vectors, first = test_vectors(problem, policy)
    inputs, outputs = contract(problem)
    title = f"{problem.machine.name}, {problem.task.name}, run {row.id}"
    safe = safe_commands(problem)
    made = make_forms(forms, policy, title, inputs, outputs, problem.sample_time, vectors, safe)
    expected = run_policy(policy, vectors, first)
    equality = agreement(made, policy, problem, vectors, first, expected)
    answers = sign_answers(problem, parts, safe)
    files = {
        **made.files,
        **to_controller(parts, policy, title, safe, HOLD_TIME, answers, safe_kind),
        **signals.files(title),
    }
    told = told_of_signals(problem, signals, files)
    if "policy.fmu" in files:
        sources = {name: str(files[name]) for name in ("policy.h", "policy.c", "controller.h", "controller.c")}
        files["controller.fmu"] = to_controller_fmu(
            sources, title, list(parts.sensors), outputs, problem.sample_time, defaults_of(HOLD_TIME)
        )
        sources |= {name: str(files[name]) for name in ("signals.h", "signals.c")}
        files["whole.fmu"] = to_whole_fmu(sources, title, *signals.lines(), problem.sample_time, defaults_of(HOLD_TIME))
    if "policy.st" in files:
        files["policy.st"] = str(files["policy.st"]) + to_controller_st(
            parts, policy, inputs, outputs, safe, HOLD_TIME, answers, safe_kind, problem.sample_time
        )
        files["policy.st"] = whole_text(problem, signals, files, outputs, HOLD_TIME, safe_kind)
    files |= firmware_files(problem.sample_time, HOLD_TIME, safe)
    warning = safe_warning(problem, parts, safe) if safe_kind != "hold" else ""
    files["vectors.csv"] = _vectors_csv(problem, vectors, expected, first if policy.memory else None)
    files |= _frozen_sources(project, row)
    around = (parts, answers, safe_kind, warning, told)
    pack = describe(problem, policy, row, equality, files, around)
    store = RunStore(project)
    try:
        sheet = templates().get_template("data-sheet.md.j2")
        proof = _proof_facts(store.last_result(row.id, PROOF))
        margin = _delay_margin(store.last_result(row.id, PROOF))
        files["data-sheet.md"] = sheet.render(
            title=title,
            pack=pack,
            proof=proof,
            margin=margin,
            products=policy.network.products,
            drives=drive_lines(problem),
            definitions=definitions(pack),
        )
        files["data-sheet.html"] = data_sheet(problem, policy, pack, title, proof, margin)
        files["start-here.md"] = (
            templates()
            .get_template("start-here.md.j2")
            .render(title=title, pack=pack, margin=margin, definitions=definitions(pack))
        )
        pack = describe(problem, policy, row, equality, files, around)  # with the hashes of what was made from it
        description = json.dumps(pack, indent=2, allow_nan=False)
        files["pack.json"] = description
        if key is not None:
            files[SIGNATURE] = sign(description.encode(), key)
        before = _before(out)
        _put(out, files)
        read_pack(out).trust()
        answer = {
            "pack": str(out),
            "files": sorted(files),
            "equality": equality["forms"],
            "equality_beyond": equality["beyond"],
        }
        answer["fixed_point"] = equality["fixed_point"]
        answer["warnings"] = [warning] if warning else []
        answer["changes"] = changes(before, pack) if before is not None else []
        place, root = out.resolve(), project.resolve()
        within = place.relative_to(root).as_posix() if place.is_relative_to(root) else ""
        store.add_result(row.id, PACK, answer | {"within_project": within})
    finally:
        store.close()
    return answer


def data_sheet(
    problem: Problem,
    policy: Policy,
    pack: dict[str, Any],
    title: str,
    proof: dict[str, Any] | None,
    margin: float | None,
) -> str:
    """The data sheet as a page that also prints: no script, nothing from elsewhere."""
    sensors = mounted_sensors(problem)
    varied = [(name, distribution.text()) for name, distribution in problem.task.variation.items()]
    return templates(html=True).get_template("data-sheet.html.j2").render(
        title=title, pack=pack, proof=proof, margin=margin, products=policy.network.products, sensors=sensors,
        picture=Markup(sketch(problem, sensors)), varied=varied, drives=drive_lines(problem), definitions=definitions(pack),
    )  # fmt: skip


def drive_lines(problem: Problem) -> list[dict[str, Any]]:
    """All drives with their parameters and what each is given: a command, a formula of the mixing, or what a choice says."""
    machine, task = problem.machine, problem.task
    direct = {c.drive: c.name for c in problem.commands if c.drive >= 0}
    chosen: dict[int, list[str]] = {}
    for number, options in problem.options.items():
        for index in sorted({d for o in options for d in o.drives}):
            chosen.setdefault(index, []).append(f"choice {task.actions[number].name}")
    lines = []
    for k, name in enumerate(problem.model.drives):
        drive = machine.drives[name]
        given = direct.get(k) or task.mixing.get(name) or ", ".join(chosen.get(k, [])) or "nothing: 0"
        lines.append({
            "name": name, "given": given, "kind": drive.kind, "limit": float(drive.limit), "unit": machine.drive_unit(name), "lag": drive.lag,
            "dead_time": drive.dead_time,
        })  # fmt: skip
    return lines


def _before(out: Path) -> dict[str, Any] | None:
    """The description of the pack that stands there; None without one that can be read."""
    try:
        found = read_json(out / "pack.json") if is_file(out / "pack.json") else None
    except FileError:
        return None
    return found if isinstance(found, dict) and isinstance(found.get("inputs"), list) else None


def safe_commands(problem: Problem) -> list[float]:
    """What is commanded before the first sample and without a valid input: zero, or the limit nearest to it."""
    return [float(np.clip(0.0, lo, hi)) for lo, hi in zip(problem.low, problem.high, strict=True)]


def agreement(
    made: Made, policy: Policy, problem: Problem, vectors: Array, first: Array, expected: Array
) -> dict[str, Any]:
    """How well all forms agree with the policy, on recorded vectors and on others far from them, as shares of the command range.

    Raises
    ------
    StateError
        One of them differs by more than is allowed.
    """
    span, remembers = problem.high - problem.low, bool(policy.memory)
    found = check_forms(made, vectors, expected, span, first if remembers else None)
    lines = [(e.low, e.high) for e in problem.sensed]
    others, begins = vectors_beyond(policy, *np.array(lines).T)
    beyond = check_forms(made, others, run_policy(policy, others, begins), span, begins if remembers else None)
    allowed = {form: TOLERANCES[form] for form in made.forms}
    worst = {form: (value, allowed[form]) for form, value in found.items() if not value <= allowed[form]}
    worst |= {form: (beyond[form], BEYOND) for form in made.forms if form != "fixed" and not beyond[form] <= BEYOND}
    if worst:
        said = ", ".join(
            f"{form} by {value:.1e} of the command range, allowed {most:.0e}" for form, (value, most) in worst.items()
        )
        raise StateError(f"not written: {said}")
    told: dict[str, Any] = {
        "vectors": VECTORS,
        "tolerance": TOLERANCE,
        "forms": found,
        "vectors_beyond": BEYOND_VECTORS,
        "beyond": beyond,
    }
    told["fixed_point"] = None
    if made.fixed is not None:
        made.fixed.saturated = 0
        off = np.abs(run_fixed(made.fixed, vectors, first) - expected) / span
        told["fixed_point"] = {
            "worst": float(off.max()),
            "typical": float(np.median(off.max(axis=1))),
            "saturated": made.fixed.saturated,
        }
    return told


def describe(
    problem: Problem,
    policy: Policy,
    row: RunRow,
    equality: dict[str, Any],
    files: dict[str, bytes | str],
    around: tuple[Controlling, list[Answer], str, str, dict[str, Any]],
) -> dict[str, Any]:
    """``pack.json``; `around` is what stands around the policy, how drives show their signs, what safe means, what is wrong with it, and the way from signals."""
    inputs, outputs = contract(problem)
    parts, answers, safe_kind, warning, signals = around
    task, machine = problem.task, problem.machine
    described_inputs = [
        dataclasses.asdict(line) | {
            "noise": e.noise, "delay": e.delay, "formula": e.formula, "samples_ago": e.samples_ago, "shape": e.shape, "clip": e.clip, "offset": float(policy.offset[k]), "scale": float(policy.scale[k]),
        }
        for k, (line, e) in enumerate(zip(inputs, problem.sensed, strict=True))
    ]  # fmt: skip
    described_outputs = []
    for line, command in zip(outputs, problem.commands, strict=True):
        name = problem.model.drives[command.drive] if command.drive >= 0 else ""
        facts: dict[str, Any] = {"name": name}
        if name:
            drive = machine.drives[name]
            facts |= {
                "kind": drive.kind, "limit": float(drive.limit), "lag": drive.lag, "dead_time": drive.dead_time,
            }  # fmt: skip
        described_outputs.append(dataclasses.asdict(line) | {"drive": facts} | after_the_policy(command))
    computed = [
        {"name": e.name, "formula": e.formula}
        for e in problem.sensed
        if e.shape != "value" or e.formula in task.signals or not re.fullmatch(r"[\w.]+", e.formula)
    ]
    pack = {
        "format": PACK_FORMAT, "machine": machine.name, "task": task.name, "fingerprint": problem.fingerprint(),
        "sample_time": problem.sample_time, "inputs": described_inputs, "outputs": described_outputs,
        "input_limit": policy.limit, "computed_inputs": computed, "mixing": dict(task.mixing), "choices": choices_of(problem), "signals": {n: s.formula for n, s in task.signals.items()},
        "own_code": {"file": problem.code.file, "sha256": problem.code.digest} if problem.code is not None else None,
        "start_pose": problem.model.pose(problem.model.start),
        "network": {
            "sizes": [policy.given, *policy.sizes[1:]], "activation": policy.activation, "parameters": policy.count, "memory": policy.memory,
            "arithmetic": "float32", "onnx_opset": ONNX_OPSET,
            "corrects": None if policy.base is None else {"gain": policy.base.tolist(), "reach": policy.reach},
        },
        "safety": {"hold": HOLD_TIME, "command": safe_commands(problem), "kind": safe_kind, "warning": warning},
        "controller": {
            "sensors": [dataclasses.asdict(line) | {"formula": formula} for line, formula in zip(parts.sensors, parts.formulas, strict=True)],
            "inputs": parts.told(), "depth": parts.depth,
            "sign_test": [{"step": a.step, "sensor": parts.sensors[a.sensor].name if a.sensor >= 0 else None, "least": a.least} for a in answers],
            "signals": signals,
        },
        "run": {
            "number": row.id, "seed": row.seed, "method": row.method, "recipe": row.recipe, "task": row.task, "identity": row.identity, "step": row.best_step,
            "success": row.best_success, "score": row.best_score, "retest": row.retest, "facts": row.facts,
        },
        "forms": sorted(equality["forms"]),
        "equality": equality,
        "hashes": {name: hashlib.sha256(data if isinstance(data, bytes) else data.encode()).hexdigest() for name, data in sorted(files.items())},
    }  # fmt: skip
    whole: dict[str, Any] = json.loads(json.dumps(pack, allow_nan=False))
    return whole | {"hash": pack_hash(whole)}


MOST_BEYOND = 0.01
"""Share of samples in which single precision may fall to the other side of an edge."""


def told_of_signals(problem: Problem, code: SignalCode, files: dict[str, bytes | str]) -> dict[str, Any]:
    """What stands in ``pack.json`` of the way from signals to the controller and on to the drives, after it was checked.

    Raises
    ------
    StateError
        The generated C makes something else of recorded signals than the simulation.
    """
    with tempfile.TemporaryDirectory(prefix="heron-signals-") as place:
        for name in (
            "policy.h",
            "policy.c",
            "controller.h",
            "controller.c",
            "signals.h",
            "signals.c",
            "check_signals.c",
        ):
            write_whole(Path(place) / name, files[name])
        differences = check_signals(problem, code, Path(place))
    beyond = float((differences > SIGNAL_TOLERANCE).mean())
    if not beyond <= MOST_BEYOND:
        raise StateError(f"not written: signals.c differs from the simulation in {100 * beyond:.0f} % of the samples")

    def lines(mapped: list[Mapped], drives: bool) -> list[dict[str, Any]]:
        kept = [{k: v for k, v in dataclasses.asdict(m).items() if k != "index"} for m in mapped]
        return [one | ({} if drives else {"low": None, "high": None}) for one in kept]

    read, put = code.wired
    return {
        "given": [dataclasses.asdict(s) for s in code.signals], "drives": code.drives, "bodies": code.bodies, "read": lines(read, False),
        "put": lines(put, True), "typical": float(np.median(differences)), "beyond": beyond,
    }  # fmt: skip


def after_the_policy(command: Command) -> dict[str, Any]:
    """What the receiving side does with a command before its drive gets it; nothing for a plain one."""
    found: dict[str, Any] = {}
    if command.increment:
        found["increment"] = {"within": [command.held_low, command.held_high]}
    if command.rate_limit:
        found["rate_limit"] = command.rate_limit
    if command.smoothing:
        found["smoothing"] = command.smoothing
    if command.choice:
        found["scores_choice"] = command.choice
    return found


def choices_of(problem: Problem) -> dict[str, Any]:
    """Actions that choose: of the available choices the one with the highest output is carried out."""
    return {
        action.name: {
            name: {"drives": dict(choice.drives), "lasts": choice.lasts, "available": choice.available}
            for name, choice in action.choices.items()
        }
        for action in problem.task.actions
        if action.choices
    }


def _frozen_sources(project: Path, row: RunRow) -> dict[str, bytes | str]:
    """Every file that the problem is made of, so that a rig can run the same episodes from the pack alone."""
    frozen = frozen_folder(project, row)
    files: dict[str, bytes | str] = {}
    for path in sorted(frozen.rglob("*")):
        if path.is_file() and path.name not in ("recipe.json", "run.json"):
            files[f"frozen/{path.relative_to(frozen)}"] = read_bytes(path)
    return files


def _vectors_csv(problem: Problem, vectors: Array, expected: Array, first: Array | None) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    head = [] if first is None else ["begins"]
    writer.writerow([*head, *(e.name for e in problem.sensed), *(f"command {c.name}" for c in problem.commands)])
    for k, (given, wanted) in enumerate(zip(vectors.astype(np.float32), expected, strict=True)):
        begins = [] if first is None else [int(first[k])]
        writer.writerow([*begins, *(np.format_float_scientific(x, unique=True) for x in (*given, *wanted))])
    return out.getvalue()


def _proof_facts(proof: dict[str, Any] | None) -> dict[str, Any] | None:
    if proof is None:
        return None
    share, trials = proof["drivers"]["policy"]["success"], proof["trials"]
    low, high = wilson(round(share * trials), trials)
    return {"success": share, "trials": trials, "low": low, "high": high}


def _delay_margin(proof: dict[str, Any] | None) -> float | None:
    """Seconds of dead time that the policy stands more, where that was looked for."""
    margins = (proof or {}).get("margins", {}).get("dead time", {})
    found = margins.get("policy")
    return None if found is None else float(found)


def _put(out: Path, files: dict[str, bytes | str]) -> None:
    """All files into a fresh folder, moved into place at the end."""
    out.parent.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(prefix=".pack-", dir=out.parent) as folder:
        fresh = Path(folder) / "pack"
        for name, data in files.items():
            write_whole(fresh / name, data)
        if out.exists():
            shutil.rmtree(out)
        fresh.replace(out)
