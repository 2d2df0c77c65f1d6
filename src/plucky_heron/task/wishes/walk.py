"""To walk forward on legs, without falling."""

from __future__ import annotations

import numpy as np

from plucky_heron.task.wishes.draft import STRIDE, Draft, Question
from plucky_heron.task.wishes.look import Look, nice
from plucky_heron.task.wishes.poses import DEEPEST
from plucky_heron.task.wishes.vehicle import start_height, start_place
from plucky_heron.task.wishes.wish import Wish, clock, load_question, substeps, vary_mass

QUICK = 0.25
"""Seconds of a leg's quick motion: it touches down and has to give way."""


MOVED = 0.01
"""Angle (rad) by which a leg's joint is moved to see where its foot goes."""
FURTHER = 1.5
"""Times (of squares) that joints take feet further along y than along x where y is ahead."""
BESIDE = 0.6
"""How far beside its hip a foot stands, as a share of how far below, from which on it is one that spreads out and walks all ways."""


class Walk(Wish):
    """Forward on its feet."""

    name = "walk forward"
    says = "on its feet, without falling"

    def unfit(self, look: Look) -> str:
        """Whether it has legs."""
        if not look.base:
            return "the base does not travel"
        if "x" not in look.letters or "z" not in look.letters:
            return "it cannot lift itself"
        if look.site.terrain is None:
            return "its site has no ground"
        return "" if look.feet else "no feet"

    def questions(self, look: Look) -> tuple[Question, ...]:
        """How fast, how far."""
        speed = nice(0.5 * float(np.sqrt(look.site.gravity * max(start_height(look), 0.05)) * 0.5))
        return (
            Question("speed", "at about", speed, "m/s", "a quarter of what legs of its height could", 0.01, 20.0),
            Question("far", "as far as", nice(6.0 * speed), "m", "six seconds at that speed", 0.05, 1e3),
            *clock(QUICK, 12.0, "twice the time that it needs"),
            load_question(look, look.base),
        )  # fmt: skip

    def write(self, look: Look, given: dict[str, float]) -> Draft:
        """Rewarded by its speed, up to the one wished."""
        draft, base = Draft(look, "walk forward"), look.base
        height, speed = start_height(look), given["speed"]
        flat = "turn" in look.letters
        ahead, aside = "yx" if not flat and strides_along_y(look) else "xy"
        begins = start_place(look)["xy".index(ahead)]
        pitch, roll = ("pitch", "roll") if ahead == "x" else ("roll", "pitch")
        lean = f"{look.base_joint}.turn.position" if flat else f"{base}.{pitch}"
        draft.observe("height", f"{base}.z", "m", (0.0, nice(2.0 * max(height, 0.05))), "whether it stands")
        draft.observe(pitch, lean, "rad", 1.0, "how it leans")
        if not flat:
            draft.observe(roll, f"{base}.{roll}", "rad", 1.0, "how it leans")
            draft.observe("heading", f"{base}.yaw", "rad", 1.5, f"forward is along {ahead}")
            for letter, word in (("x", "roll"), ("y", "pitch"), ("z", "yaw")):
                draft.observe(f"{word} rate", f"{base}.own.rate.{letter}", "rad/s", 5.0, "state is complete")
        else:
            draft.observe("pitch rate", f"{look.base_joint}.turn.velocity", "rad/s", 5.0, "state is complete")
        for letter in "xz" if flat else "xyz":
            draft.observe(f"speed {letter}", f"{base}.velocity.{letter}", "m/s", nice(3.0 * speed), "how fast it goes")
        draft.joints([j for j in look.driven if j not in look.arms])
        draft.joints(look.passive)
        for foot in look.feet:
            sensor = draft.sensor(f"{foot}_load", {"kind": "contact", "body": foot})
            weight = look.mass * look.site.gravity
            draft.observe(f"{foot.replace('_', ' ')} load", f"{sensor}.force", "N", (0.0, nice(2.0 * weight)), "which feet stand", clip=True)  # fmt: skip
        draft.actions(about=STRIDE)
        draft.lags()
        draft.signal("walked", f"{base}.{ahead} - {begins:.6g}", "m")
        draft.reward(
            "progress", f"clip({base}.velocity.{ahead} / {speed:.4g}, -1, 1)", 1.0, "forward, not faster than wished"
        )
        draft.reward("upright", f"near({lean}, 0.5)", 0.2, "it stays up")
        if not flat:
            draft.reward("straight", f"-({base}.yaw / 0.5)**2 - ({base}.velocity.{aside} / {speed:.4g})**2", 0.1, "straight ahead")  # fmt: skip
        draft.costs(0.03)
        fallen = [f"{base}.z < {look.ground + 0.5 * (height - look.ground):.4g}", f"abs({lean}) > 1"]
        draft.ending("fallen", " or ".join([*fallen, *([] if flat else [f"abs({base}.{roll}) > 1"])]), -3.0, "worse than going on")  # fmt: skip
        draft.measure("walked", f"walked > {given['far']:.4g}", 0.0, "apart from the reward")
        draft.task["measure"] |= {"value": "walked", "unit": "m"}
        begin_about(draft)
        vary_mass(draft, base, given["variation"])
        draft.timing(given["rate"], given["limit"], substeps(look, given["rate"]), "")
        return draft


def strides_along_y(look: Look) -> bool:
    """Whether legs that stand below their hips swing further along its own y than along its x: files differ in what is ahead."""
    swings, start, spread = np.zeros(2), look.model.start, np.zeros(2)
    frames = look.frames(start[None])[0]
    for foot in look.feet:
        middle = look.corners[foot].mean(axis=0)
        hinges = [j for j in look.driven if look.machine.joints[j].kind == "hinge"]
        leg = [j for j in hinges if foot in look.machine.carried_by(look.machine.joints[j].child)]
        hip = frames[look.model.bodies.index(look.machine.joints[leg[0]].child), :3] if leg else np.zeros(3)
        away = look.points(start[None], foot, middle)[0] - hip
        spread += np.hypot(away[0], away[1]), abs(away[2])
        for joint in leg:
            low, high = look.span(joint)
            turned = np.repeat(start[None], 2, axis=0)
            turned[:, look.index(joint)] += (-MOVED, MOVED)
            before, after = look.points(turned, foot, middle)
            swings += (min(high - low, np.pi) * (after - before)[:2] / (2.0 * MOVED)) ** 2
    return bool(spread[0] < BESIDE * spread[1] and swings[1] > FURTHER * swings[0])


def begin_about(draft: Draft) -> None:
    """Joints begin about the pose at the start, and the base so high that nothing stands in the ground."""
    look = draft.look
    reaches = {joint: look.span(joint, 0.05, 0.1) for joint in look.driven if joint not in look.arms}
    for joint, (low, high) in reaches.items():
        draft.start(f"{joint}.position", look.machine.joints[joint].unit, low, high, "about its pose at the start")
    generator = np.random.default_rng(5)
    positions = look.sampled([], 1.0, 400)
    for joint, (low, high) in reaches.items():
        positions[:, look.index(joint)] = generator.uniform(low, high, 400)
    sunk = look.ground - float(look.lowest(positions).min())
    height = f"{look.base_joint}.z"
    if sunk > DEEPEST and height in look.model.joints:
        at = float(look.model.start[look.index(height)])
        draft.start(f"{height}.position", "m", at + sunk, at + 1.5 * sunk, "no foot begins in the ground")
