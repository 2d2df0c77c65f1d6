"""Packs, and running them on a rig."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from plucky_heron.cli.common import Json, ProjectOption, app, find_run, report, table

if TYPE_CHECKING:
    from plucky_heron.rigs.faults import Faults


@app.command()
def handover(
    run: str,
    out: Annotated[Path, typer.Option("--out", help="Folder of the pack; must not exist, or be a pack.")],
    forms: Annotated[
        str,
        typer.Option("--forms", help="Apart by commas, of onnx, c99, fixed, st, fmu; the first two are always there."),
    ] = "onnx,c99",
    safe: Annotated[
        str,
        typer.Option(
            "--safe",
            help="Without valid inputs: go to the safe command at once (command), over half a second (ramp), or hold.",
        ),
    ] = "ramp",
    sign: Annotated[
        Path | None, typer.Option("--sign", help="Private key (PEM) to sign with; heron key makes one.")
    ] = None,
    wiring: Annotated[
        Path | None, typer.Option("--wiring", help="File that says what raw counts and pulse widths mean.")
    ] = None,
    project: ProjectOption = None,
    json_: Json = False,
) -> None:
    """Write a pack for a real controller and check that it computes the same."""
    from plucky_heron.errors import StateError, did_you_mean, quoted
    from plucky_heron.handover.forms.catalogue import forms_named
    from plucky_heron.handover.forms.controller import SAFE_KINDS
    from plucky_heron.handover.pack import write_pack

    found, row = find_run(run, project)
    if safe not in SAFE_KINDS:
        raise StateError(f"--safe {quoted(safe)}: {did_you_mean(safe, SAFE_KINDS)}")
    answer = write_pack(found.folder, row, out, forms_named(forms), safe, sign, wiring)
    lines = [f"pack {answer['pack']}: {', '.join(answer['files'])}"]
    lines += [
        f"{form}: largest difference {value:.1e} of the command range" for form, value in answer["equality"].items()
    ]
    if fixed := answer["fixed_point"]:
        lines.append(
            f"fixed: typically {fixed['typical']:.1e}, {fixed['saturated']} values held at the end of their integer"
        )
    lines += [f"warning: {text}" for text in answer["warnings"]]
    lines += [f"since the pack before: {text}" for text in answer["changes"]]
    # scripts from before there were other forms know the C99 form as c
    report({**answer, "equality": answer["equality"] | {"c": answer["equality"]["c99"]}}, json_, lines)


@app.command()
def key(
    out: Annotated[Path, typer.Argument(help="File for the private key; must not exist.")], json_: Json = False
) -> None:
    """Make a key to sign packs with: the private one is written, the public one said."""
    from plucky_heron.handover.signing import make_key

    public = make_key(out)
    report(
        {"file": str(out), "public_key": public},
        json_,
        [f"private key: {out} (keep it to yourself)", f"public key: {public}"],
    )


@app.command()
def rollout(
    pack: Path,
    on: Annotated[
        str,
        typer.Option(
            "--on",
            help="The rig: host, arm64, arm32, board, board-fixed, plc, fleet; or a controller of your own: udp:HOST:PORT, serial:PORT[@BAUD].",
        ),
    ] = "host",
    episodes: Annotated[int, typer.Option("--episodes", min=1, max=1000, help="Starts to run.")] = 5,
    fast: Annotated[
        bool, typer.Option("--fast", help="In lock-step, as fast as it goes, instead of real time.")
    ] = False,
    faults: Annotated[
        str,
        typer.Option("--faults", help="What goes wrong, such as loss=5%,dead_time=20ms; 'all' for some of everything."),
    ] = "",
    dry_run: Annotated[
        bool, typer.Option("--dry-run", help="Show what would be sent and expected; send nothing.")
    ] = False,
    whole: Annotated[
        bool,
        typer.Option(
            "--whole", help="The whole controller: signals of instruments to values of drives, with guards and states."
        ),
    ] = False,
    ask: Annotated[
        str,
        typer.Option(
            "--ask",
            help="States to go through in an episode before the others, such as 'sign test, limited 2 s, on'; implies --whole.",
        ),
    ] = "",
    confirm: Annotated[
        bool,
        typer.Option(
            "--confirm-limits", help="The limits of commands are right for what hangs on the controller: do not ask."
        ),
    ] = False,
    full_authority: Annotated[
        bool,
        typer.Option("--full-authority", help="No first episode in which the controller keeps near its safe commands."),
    ] = False,
    devices: Annotated[int, typer.Option("--devices", min=1, max=50, help="Of a fleet: how many, of mixed kinds.")] = 6,
    fleet: Annotated[
        Path | None,
        typer.Option("--fleet", help="Folder that keeps the state of a fleet; else fleet/ beside the pack."),
    ] = None,
    signed_by: Annotated[
        str, typer.Option("--signed-by", help="Only a pack signed by this public key (hexadecimal digits).")
    ] = "",
    log: Annotated[
        Path | None, typer.Option("--log", help="CSV to write: what was sensed and commanded, by the contract's names.")
    ] = None,
    map_: Annotated[
        str,
        typer.Option("--map", help="Score against one fault or two, in lock-step: loss=0:30%:4,dead_time=0:60ms:4."),
    ] = "",
    project: Annotated[
        Path | None, typer.Option("--project", help="Project that keeps the result; else the one the pack lies in.")
    ] = None,
    json_: Json = False,
) -> None:
    """Run a pack on a simulated controller in closed loop."""
    from plucky_heron.errors import FileError, StateError
    from plucky_heron.files import check_path, write_whole
    from plucky_heron.machine.meshes import project_of
    from plucky_heron.rigs.faults import ALL, read_faults
    from plucky_heron.rigs.remote import is_remote
    from plucky_heron.rigs.rollout import log_text, roll_out
    from plucky_heron.rigs.sides import Script

    if log is not None and (check_path(log, "--log").is_dir() or not log.parent.is_dir()):
        raise FileError(log, "--log", None, "name a file in a folder that is there")
    if on == "fleet" and dry_run:
        raise StateError("--dry-run is for one controller: name its rig or its address with --on, such as --on host")
    script = Script(ask) if ask else None
    whole = whole or script is not None
    if whole and map_:
        raise StateError("--map is of the policy alone; leave --whole and --ask out")
    if script is not None and on == "fleet":
        raise StateError("--on fleet tries episodes as they are; leave --ask out")
    if on == "fleet":
        _fleet(pack, devices, fleet or pack.resolve().parent / "fleet", episodes, signed_by, whole, json_)
        return
    if dry_run:
        _dry_run(pack, on, whole, json_)
        return
    if is_remote(on):
        _confirm(pack, on, confirm)
    wrong = read_faults(ALL if faults.strip() == "all" else faults)
    if map_:
        _map(pack, on, episodes, map_, wrong, json_)
        return
    kept_in = project or project_of(pack / "pack.json")
    result = roll_out(
        pack,
        on,
        episodes=episodes,
        lock_step=fast,
        faults=wrong,
        full_authority=full_authority,
        wanted_key=signed_by,
        project=kept_in,
        whole=whole,
        commissioning=script,
    )
    if log is not None:
        write_whole(log, log_text(result))
    answer = result.summary()
    trip = answer["round_trip_ms"]
    lines = [
        f"{answer['rig']}, {episodes} episode{'s' if episodes > 1 else ''}, {'lock-step' if fast else 'real time'}: score {answer['score']:.2f}, "
        f"the same starts inside the program {answer['score_inside']:.2f}",
        f"{answer['samples']} samples, {answer['missed']} missed; round trip median {trip['median']:.3f} ms, "
        f"99 % {trip['p99']:.3f}, longest {trip['max']:.3f}",
        f"largest command difference {answer['command_difference']:.1e} of the range",
    ]
    lines += lateness(answer)
    lines += _of_the_whole(answer) if whole else []
    if board := answer["footprint"]:
        share = board["assumed_seconds"] / result.sample_time
        lines.append(
            f"flash {board['flash']:,} bytes, RAM {board['ram']:,}, stack {board['stack']:,}; the longest call {board['instructions']:,} instructions: "
            f"{1e3 * board['assumed_seconds']:.3g} ms at an assumed {board['assumed_clock'] / 1e6:g} MHz and one a clock, {100 * share:.2g} % of a sample"
        )
    if wrong.any:
        lines.append("faults: " + ", ".join(f"{name} {value:g}" for name, value in answer["faults"].items()))
        lines.append(
            "on the way: "
            + (", ".join(f"{count} {what}" for what, count in answer["link"].items()) or "nothing went wrong")
        )
        lines.append("controller: " + ", ".join(f"{count} {what}" for what, count in answer["guards"].items()))
        lines.append(f"success {100 * answer['success']:.0f} %, inside {100 * answer['success_inside']:.0f} %")
    report(answer, json_, lines)
    raise typer.Exit(0 if answer["missed"] == 0 or wrong.any or not fast else 1)


def lateness(answer: dict[str, Any]) -> list[str]:
    """What is to be known of samples that came late."""
    lines = []
    if answer["waited"]:
        lines.append(
            f"this computer itself was late {answer['waited']} times: the plant's clock waited, none of these counts as missed"
        )
    ordinary = answer["mode"] == "real time" and not answer["real_time_priority"]
    if ordinary and (answer["waited"] or answer["missed"]):
        lines.append(
            "other work may have come before it: it had no real-time priority (docs/rigs.md, A sample in time)"
        )
    return lines


def _of_the_whole(answer: dict[str, Any]) -> list[str]:
    """What the whole controller did besides."""
    lines = [f"drives differ by at most {answer['drive_difference']:.1e} of their range from the simulation"]
    if answer["without_noise"]:
        lines.append(f"without the noise of {', '.join(answer['without_noise'])}: it has no place in a signal")
    told = [one for one in answer["states"] if one["episode"] < 0 or one["state"] not in ("on", "off") or one["reason"]]
    for one in told[:20]:
        where = "before" if one["episode"] < 0 else f"episode {one['episode']}"
        lines.append(f"{where}, {one['seconds']:.3g} s: {one['state']}{', ' + one['reason'] if one['reason'] else ''}")
    return lines if len(told) <= 20 else [*lines, f"and {len(told) - 20} changes more"]


def _fleet(pack: Path, count: int, folder: Path, episodes: int, signed_by: str, whole: bool, json_: bool) -> None:
    """A pack over a fleet of simulated devices, in waves."""
    import dataclasses

    from plucky_heron.handover.reading import read_pack
    from plucky_heron.rigs.fleet.coordinator import Fleet, mixed

    known = read_pack(pack)
    known.ask()
    with Fleet(folder, mixed(count, known), signed_by) as found:
        result = found.roll_out(pack, episodes, lambda text: print(text, file=sys.stderr), whole=whole)
    told = [dataclasses.asdict(d) for d in result.devices]
    cells = [
        [d.name, d.kind, d.state, "" if d.success is None else f"{100 * d.success:.0f} %", d.reason]
        for d in result.devices
    ]
    lines = table(cells, right=(3,)) if cells else []
    lines.append(f"stopped and taken back: {result.reason}" if result.rolled_back else "complete")
    report(
        {
            "rig": "fleet",
            "devices": told,
            "stopped": result.stopped,
            "rolled_back": result.rolled_back,
            "reason": result.reason,
            "log": str(folder / "fleet.log"),
        },
        json_,
        lines,
    )
    raise typer.Exit(1 if result.rolled_back else 0)


def _dry_run(pack: Path, on: str, whole: bool, json_: bool) -> None:
    """What would be sent, and what would be expected."""
    from plucky_heron.rigs.rollout import dry_run

    answer = dry_run(pack, on, whole=whole)
    lines = [
        f"nothing is sent: {answer['bytes']} bytes every {1e3 * answer['sample_time']:g} ms to {answer['to']}",
        _limits(answer),
    ]
    for k, sample in enumerate(answer["samples"]):
        told = ", ".join(
            f"{name} {value:.4g}" for name, value in zip(answer["sensors"], sample["sensors"], strict=True)
        )
        wanted = ", ".join(
            f"{limit['name']} {value:.4g} {limit['unit']}"
            for limit, value in zip(answer["limits"], sample["commands"], strict=True)
        )
        lines.append(f"sample {k}: {told}  ->  {wanted}")
    report(answer, json_, lines)


def _limits(answer: dict[str, Any]) -> str:
    limits = ", ".join(f"{c['name']} {c['low']:g} .. {c['high']:g} {c['unit']}" for c in answer["limits"])
    safe = ", ".join(f"{value:g}" for value in answer["safe"])
    return f"commands within {limits}; safe: {safe}"


def _confirm(pack: Path, on: str, confirmed: bool) -> None:
    """Somebody has to say that the limits are right before anything goes to a controller that is not ours."""
    from plucky_heron.errors import StateError
    from plucky_heron.rigs.rollout import dry_run

    answer = dry_run(pack, on, 0)
    text = f"{answer['to']}: {_limits(answer)}"
    if confirmed:
        return
    if not sys.stdin.isatty():
        raise StateError(
            f"{text}. Say --confirm-limits if these are right for what hangs on it; --dry-run shows what would be sent"
        )
    if not typer.confirm(f"{text}\nAre these right for what hangs on it?", err=True):
        raise typer.Exit(1)


def _map(pack: Path, on: str, episodes: int, text: str, faults: Faults, json_: bool) -> None:
    """Score and success against one fault or two."""
    from plucky_heron.rigs.faults import read_map
    from plucky_heron.rigs.rollout import fault_map

    axes = read_map(text)
    score, success = fault_map(pack, on, axes, faults, episodes)
    lines = [f"success and score of {episodes} starts, in lock-step"]
    names = list(axes)
    across = axes[names[1]] if len(names) > 1 else [0.0]
    if len(names) > 1:
        lines.append(f"{names[0]:>12} \\ {names[1]}: " + "".join(f"{value:>14g}" for value in across))
    for value, rates, scores in zip(axes[names[0]], success, score, strict=True):
        lines.append(
            f"{value:>12g} {'':<14}"
            + "".join(f"{100 * r:>6.0f} % {s:>5.1f}" for r, s in zip(rates, scores, strict=True))
        )
    answer = {
        "axes": {name: values.tolist() for name, values in axes.items()},
        "score": score.tolist(),
        "success": success.tolist(),
        "episodes": episodes,
    }
    report(answer, json_, lines)
