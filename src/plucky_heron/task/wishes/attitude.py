"""To hold an attitude, or to follow one that changes: what is free in space turns by its wheels and thrusters."""

from __future__ import annotations

import numpy as np

from plucky_heron.task.wishes.draft import Draft, Question
from plucky_heron.task.wishes.look import Look, nice
from plucky_heron.task.wishes.wish import clock, limit_for, load_question, substeps, vary_mass

Array = np.ndarray
ANGLES = (("roll", "x"), ("pitch", "y"), ("yaw", "z"))
TURN = 0.6
"""Angle (rad) to each side within which attitudes are asked for."""
AWAY = 1.4
"""Angle (rad) beyond which it counts as turned away at the latest: there roll and yaw become one."""
LEAST_SHARE = 1e-3
"""Share of the largest torque that the weakest axis needs to count as turned about."""


def torques_of(look: Look) -> dict[str, Array]:
    """Most torque (3,) of each wheel and thruster about the axes of the body that is free, N m."""
    frame = look.frames(look.model.start[None])[0]
    base = frame[look.model.bodies.index(look.base)]
    turn, middle = base[3:].reshape(3, 3), look.middles(look.model.start[None])[0]
    found = {}
    for name, drive in look.machine.drives.items():
        if drive.kind == "thrust":
            own = frame[look.model.bodies.index(str(drive.body))]
            axes = own[3:].reshape(3, 3)
            push, arm = axes @ np.array(drive.direction), own[:3] + axes @ np.array(drive.at) - middle
            found[name] = turn.T @ (np.cross(arm, push) + drive.reaction * push) * float(drive.limit)
        elif drive.joint in look.spinning:
            part = look.machine.joints[str(drive.joint)]
            axis = frame[look.model.bodies.index(part.child), 3:].reshape(3, 3) @ np.array(part.axis, dtype=float)
            found[name] = turn.T @ axis * float(drive.limit)
    return found


def torques(look: Look) -> Array:
    """The same of all of them, (3, drives)."""
    return np.array(list(torques_of(look).values())).reshape(-1, 3).T


def unfit_to_turn(look: Look) -> str:
    """Whether it is free in space and can turn about every axis."""
    if "rx" not in look.letters or look.site.gravity > 0.1 or look.floats:
        return "it travels: give it a place or a speed"
    if others := [j for j in look.driven if j not in look.spinning]:
        return f"{others[0]} moves a limb of it: no wish is for what is free in space with limbs"
    found = torques(look)
    axes = int(np.linalg.matrix_rank(found, LEAST_SHARE * max(float(np.abs(found).max(initial=0.0)), 1e-9))) if found.size else 0  # fmt: skip
    return "" if axes == 3 else f"its drives turn it about {('no', 'one', 'two')[axes]} of three axes"


def time_to_turn(look: Look) -> float:
    """Seconds of a turn by `TURN` about the slowest axis, full torque up and down, no faster than wheels take up its momentum."""
    coordinates = [look.index(f"{look.base_joint}.{letter}") for letter in ("rx", "ry", "rz")]
    moved, most = look.inertia(look.model.start[None])[0], np.abs(torques(look)).sum(axis=1)
    inertia = moved[coordinates]
    time = 2.0 * np.sqrt(TURN * inertia / np.maximum(most, 1e-12))
    fastest: Array = np.zeros(3)
    for name, torque in torques_of(look).items():
        joint = str(look.machine.drives[name].joint)
        top = look.top_speed(joint) if joint in look.spinning else 0.0
        # what has no top speed takes up all that is asked
        fastest += np.abs(torque) / np.linalg.norm(torque) * moved[look.index(joint)] * top / inertia if top else np.where(torque != 0.0, np.inf, 0.0)  # fmt: skip
    return float(np.maximum(time, TURN / np.maximum(fastest, 1e-12)).max())


def turn_questions(look: Look) -> tuple[Question, ...]:
    """How far, how exactly, how long."""
    time = time_to_turn(look)
    return (
        Question("turn", "turns up to", TURN, "rad", "about each axis to each side", 0.01, 1.2),
        Question("within", "within", 0.05, "rad", "of each angle", 1e-4, 1.0),
        Question("hold", "held for", nice(max(0.5, 0.5 * time), (1.0, 2.0, 3.0, 5.0, 10.0)), "s", "at rest, not in passing", 0.0, 600.0),
        *clock(time, limit_for(time, 5.0, 4.0), "five times a quick turn, at least 4 s"),
        load_question(look, look.base),
    )  # fmt: skip


def turn_task(look: Look, given: dict[str, float], name: str, every: float) -> Draft:
    """Each angle to its set-point, drawn anew each `every` seconds; it begins turned, and turning a little."""
    draft, base, reach = Draft(look, name), look.base, given["turn"]
    away = min(3.0 * reach, AWAY)
    errors = []
    for angle, _ in ANGLES:
        draft.setpoint(f"goal.{angle}", "rad", -reach, reach, every)
        draft.signal(f"miss.{angle}", f"goal.{angle} - {base}.{angle}", "rad")
        draft.observe(f"{angle} to go", f"miss.{angle}", "rad", reach + away, "where to turn")
        draft.observe(f"{angle} close", f"clip(miss.{angle}, -{4.0 * given['within']:.4g}, {4.0 * given['within']:.4g})", "rad", 4.0 * given["within"], "the last part of it, finely")  # fmt: skip
        errors.append(f"miss.{angle}")
    pace = nice(4.0 * TURN / time_to_turn(look))
    for angle in ("roll", "pitch"):
        draft.observe(angle, f"{base}.{angle}", "rad", away, "axes of the next turn go with it")
    for angle, letter in ANGLES:
        draft.observe(f"{angle} rate", f"{base}.own.rate.{letter}", "rad/s", pace, "state is complete")
        draft.start(f"{look.base_joint}.r{letter}.position", "rad", -reach, reach, "any attitude near it")
        draft.start(f"{look.base_joint}.r{letter}.velocity", "rad/s", -0.1 * pace, 0.1 * pace)
    draft.joints(look.spinning, "what it has taken up of its momentum", by_speed=look.spinning)
    draft.actions()
    draft.lags()
    wide = 2.0 * given["within"]
    draft.reward("distance", f"-({' + '.join(f'abs({e})' for e in errors)}) / {3.0 * reach:.4g}", 1.0, "a slope everywhere")  # fmt: skip
    draft.reward("close", f"({' + '.join(f'near({e}, {wide:.3g})' for e in errors)}) / 3", 1.0, "worth the last part")  # fmt: skip
    draft.costs(0.02)
    draft.measure("in the attitude", " and ".join(f"abs({e}) < {given['within']:.4g}" for e in errors), given["hold"], "apart from the reward")  # fmt: skip
    over = " or ".join(f"abs({base}.{angle}) > {away:.4g}" for angle, _ in ANGLES)
    draft.ending("turned away", over, -1.5 * given["limit"], "worse than going on")
    vary_mass(draft, base, given["variation"])
    draft.timing(given["rate"], given["limit"], substeps(look, given["rate"]), "")
    return draft
