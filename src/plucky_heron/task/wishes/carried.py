"""To balance what lies loose on a driven body: a ball on a beam, a load on a plate."""

from __future__ import annotations

import functools

import numpy as np

from plucky_heron.task.wishes.draft import Draft, Question
from plucky_heron.task.wishes.look import Look, nice
from plucky_heron.task.wishes.wish import clock, substeps

GAP = 0.02
"""How far (m) above what carries it the loose body may begin."""
SLOPE = 0.2
"""Slope that a tilted support is taken to reach, for the time that the way to its edge takes."""


@functools.lru_cache(maxsize=8)
def room_of(look: Look) -> float:
    """How far (m) the loose body may move before it falls off what carries it; 0 where nothing driven does."""
    if not look.carried or look.site.gravity < 0.1:
        return 0.0
    frames = look.frames(look.model.start[None])[0]
    number = look.model.bodies.index(look.carried)
    place, own = frames[number, :3], look.corners[look.carried]
    low = place[2] + min(float((own @ frames[number, 9:12]).min()), 0.0) if own.size else place[2]
    letters = [k for k, a in enumerate("xy") if a in look.machine.joints[look.carried_joint].letters]
    room = 0.0
    for b, name in enumerate(look.model.bodies):
        corners = look.corners[name]
        if name not in look.moved or not corners.size:
            continue
        points = frames[b, :3] + corners @ frames[b, 3:].reshape(3, 3).T
        top = float(points[:, 2].max())
        sides = np.minimum(place[:2] - points[:, :2].min(axis=0), points[:, :2].max(axis=0) - place[:2])
        if abs(low - top) < GAP and (sides > 0.0).all():
            room = max(room, float(sides[letters].min()) if letters else 0.0)
    return room


def carried_questions(look: Look) -> tuple[Question, ...]:
    """How near, for how long."""
    room = room_of(look)
    time = float(np.sqrt(2.0 * room / (SLOPE * look.site.gravity)))
    words = look.carried.replace("_", " ")
    return (
        Question("within", "within", nice(0.15 * room), "m", f"of where {words} begins; its edge is {room:.2g} m away", 1e-4, room),
        Question("start", "begins as far off as", nice(0.5 * room), "m", "half way to the edge", 0.0, room),
        Question("hold", "held for", nice(time), "s", "it rests, and does not roll past", 0.0, 600.0),
        *clock(max(0.2, 0.5 * time), max(8.0, nice(8.0 * time)), "eight times the way to the edge, at least 8 s"),
    )  # fmt: skip


def balance_carried(look: Look, given: dict[str, float]) -> Draft:
    """Where it lies and how fast it moves are sensed; falling off ends the episode."""
    draft, room, body = Draft(look, "balance"), room_of(look), look.carried
    joint = look.machine.joints[look.carried_joint]
    place = look.frames(look.model.start[None])[0][look.model.bodies.index(body), :3]
    words = body.replace("_", " ")
    axes = [a for a in "xy" if a in joint.letters]
    fast = nice(float(np.sqrt(2.0 * SLOPE * look.site.gravity * room)))
    for axis in axes:
        middle = float(place["xyz".index(axis)])
        draft.signal(f"off.{axis}", f"{body}.{axis} - {middle:.6g}", "m")
        draft.observe(f"{words} {axis}", f"off.{axis}", "m", nice(1.2 * room), "what is to be small")
        draft.observe(f"{words} speed {axis}", f"{body}.velocity.{axis}", "m/s", fast, "state is complete")
        coordinate = f"{look.carried_joint}.{axis}"
        start = float(look.model.start[look.index(coordinate)])
        draft.start(f"{coordinate}.position", "m", start - given["start"], start + given["start"], "off its place")
        draft.start(f"{coordinate}.velocity", "m/s", -0.15 * fast, 0.15 * fast, "not at rest")
    draft.signal("away", f"norm({', '.join(f'off.{a}' for a in axes)})", "m")
    draft.joints(look.driven)
    draft.actions()
    draft.lags()
    draft.reward("distance", f"-(away / {room:.4g})**2", 1.0, "a slope everywhere")
    draft.reward(
        "near_its_place", f"near(away, {max(2.0 * given['within'], 0.25 * room):.3g})", 1.0, "worth the way in"
    )
    draft.costs(0.02)
    draft.measure("in its place", f"away < {given['within']:.4g}", given["hold"], "apart from the reward")
    draft.ending("fallen off", f"away > {1.05 * room:.4g} or {body}.z < {place[2] - max(0.5 * room, 0.05):.4g}", -5.0, "worse than going on")  # fmt: skip
    draft.task["target"] = {"body": body, **{a: f"{place['xyz'.index(a)]:.6g}" for a in axes}}
    draft.timing(given["rate"], given["limit"], substeps(look, given["rate"]), "")
    return draft
