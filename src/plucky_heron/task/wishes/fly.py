"""To fly on wings: heights and turns that are asked for, at a speed that carries it."""

from __future__ import annotations

import numpy as np

from plucky_heron.machine.parts import Wing
from plucky_heron.task.wishes.draft import Draft, Question
from plucky_heron.task.wishes.look import Look, nice
from plucky_heron.task.wishes.vehicle import size_of, start_height
from plucky_heron.task.wishes.wish import clock, load_question, substeps, vary_mass

RESTLESS = "its wings carry it: it cannot rest; follow a set-point"
LIFT = 0.45
"""Lift coefficient at which it cruises, or half of that at which its wings stall where that is less."""


def cruise_of(look: Look) -> float:
    """Speed (m/s) at which its wings carry it."""
    frames = look.frames(look.model.start[None])[0]
    lift = 0.0
    for wing in look.machine.forces.values():
        if isinstance(wing, Wing) and not wing.in_water:
            turned = frames[look.model.bodies.index(wing.body), 3:].reshape(3, 3)
            normal = turned @ np.array(wing.normal) / np.linalg.norm(wing.normal)
            lift += wing.area * abs(float(normal[2])) * min(LIFT, 0.5 * wing.lift_slope * wing.stall)
    weight = look.mass * look.site.gravity
    return float(np.sqrt(2.0 * weight / (look.site.air_density * lift))) if lift > 0.0 else 0.0


def fly_questions(look: Look) -> tuple[Question, ...]:
    """How far up and down, how sharp the turns."""
    speed, height = cruise_of(look), start_height(look)
    above = height - (look.ground if np.isfinite(look.ground) else 0.0)
    room = min(0.7 * speed, 0.5 * above) if above > 1.0 else 0.7 * speed
    climb = Question("climb", "heights up and down to", nice(room), "m", f"about its start, {height:.3g} m", 0.01, 1e4)
    turn = Question("turn", "turns up to", nice(2.0 / speed), "rad/s", "a bank of about 12 deg", 0.0, 10.0)
    return (
        climb,
        *((turn,) if "rx" in look.letters else ()),
        Question("speed", "starts at", float(f"{speed:.2g}"), "m/s", "there its wings carry it", 0.1, 1e3),
        Question("within", "within", 0.15, "", "share of the largest set-point", 0.005, 1.0),
        Question("hold", "held for", 1.0, "s", "at the end of the episode", 0.0, 60.0),
        Question("every", "drawn anew every", 10.0, "s", "long enough to get there", 0.1, 600.0),
        *clock(max(0.5, 3.0 * size_of(look) / speed), 20.0, "two set-points"),
        load_question(look, look.base),
    )


def fly(look: Look, given: dict[str, float]) -> Draft:
    """Height and turn follow what is wanted; the speed stays where wings carry."""
    draft, base, climb, speed = Draft(look, "follow a set-point"), look.base, given["climb"], given["speed"]
    turn = given.get("turn", 0.0)
    height, root = start_height(look), look.base_joint
    free = "rx" in look.letters
    draft.setpoint("wanted.height", "m", height - climb, height + climb, given["every"])
    draft.signal("height_error", f"wanted.height - {base}.z", "m")
    draft.observe("height to go", "height_error", "m", nice(2.5 * climb), "what is wanted")
    terms = [f"near(height_error, {0.3 * climb:.3g})"]
    inside = [f"abs(height_error) < {given['within'] * climb:.3g}"]
    slope = f"abs(height_error) / {climb:.4g}"
    if turn > 0.0:
        draft.setpoint("wanted.turn", "rad/s", -turn, turn, given["every"])
        draft.observe("wanted turn", "wanted.turn", "rad/s", turn, "what is wanted")
        draft.signal("turn_error", f"wanted.turn - {base}.own.rate.z", "rad/s")
        terms.append(f"near(turn_error, {0.5 * turn:.3g})")
        inside.append(f"abs(turn_error) < {2.0 * given['within'] * turn:.3g}")
        slope += f" + abs(turn_error) / {turn:.4g}"
    draft.observe("speed ahead", f"{base}.own.velocity.x", "m/s", (0.0, nice(2.0 * speed)), "what its wings live on")
    draft.observe("speed down", f"-{base}.own.velocity.z", "m/s", nice(0.5 * speed), "with the speed ahead the angle of attack")  # fmt: skip
    draft.observe("climb", f"{base}.velocity.z", "m/s", nice(0.6 * speed), "state is complete")
    if free:
        draft.observe("speed to the left", f"{base}.own.velocity.y", "m/s", nice(0.4 * speed), "whether it slips")
        for angle in ("roll", "pitch"):
            draft.observe(angle, f"{base}.{angle}", "rad", 1.3, "how it stands in the air")
        for letter, word in (("x", "roll"), ("y", "pitch"), ("z", "yaw")):
            draft.observe(f"{word} rate", f"{base}.own.rate.{letter}", "rad/s", 4.0, "state is complete")
        over = f"abs({base}.roll) > 1.3 or abs({base}.pitch) > 1.2"
        roots = [f"{root}.rx", f"{root}.ry"]
    else:
        draft.observe("pitch", f"{root}.turn.position", "rad", 1.3, "how it stands in the air")
        draft.observe("pitch rate", f"{root}.turn.velocity", "rad/s", 4.0, "state is complete")
        over = f"abs({root}.turn.position) > 1.2"
        roots = [f"{root}.turn"]
    draft.joints(look.driven)
    draft.actions()
    draft.lags()
    draft.reward("distance", f"-({slope})", 0.5, "a slope everywhere")
    draft.reward("on_the_setpoint", " * ".join(terms), 1.0, "worth the last part")
    draft.reward("speed", f"-clip(1 - {base}.own.velocity.x / {0.8 * speed:.3g}, 0, 1)", 0.5, "too slow, and its wings stall")  # fmt: skip
    draft.costs(0.02)
    draft.measure("at the set-point", " and ".join(inside), given["hold"], "apart from the reward")
    low = f" or {base}.z < {look.ground + 0.5 * size_of(look):.4g}" if np.isfinite(look.ground) else ""
    draft.ending("crashed", f"{over} or abs({base}.z - {height:.4g}) > {4.0 * climb:.4g}{low}", -20.0, "worse than going on")  # fmt: skip
    draft.start(f"{root}.x.velocity", "m/s", 0.9 * speed, 1.1 * speed, "in flight")
    draft.start(f"{root}.z.position", "m", height - 0.5 * climb, height + 0.5 * climb, "in the air")
    for coordinate in roots:
        draft.start(f"{coordinate}.position", "rad", -0.05, 0.05, "nearly level")
    vary_mass(draft, base, given["variation"])
    draft.timing(given["rate"], given["limit"], substeps(look, given["rate"]), "")
    return draft
