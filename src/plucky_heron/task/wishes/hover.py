"""To hover and fly to points: what is carried by its thrusters comes to a mark and stays."""

from __future__ import annotations

import numpy as np

from plucky_heron.task.wishes.attitude import torques
from plucky_heron.task.wishes.draft import Draft, Question
from plucky_heron.task.wishes.look import Look, nice
from plucky_heron.task.wishes.vehicle import size_of, start_height, start_place
from plucky_heron.task.wishes.wish import SAMPLES, Wish, clock, load_question, substeps, vary_mass

LEAN = 1.0
"""Angle (rad) to lean by and back, as a flight from one place to another asks for."""
LEAN_SAMPLES = 8.0
"""Samples that a lean should last; a four-rotor flyer with 4 of them came to 78 %, with 9 to 100 %, with 18 nowhere in 500 k steps."""


def quick_of(look: Look, flight: float) -> float:
    """Seconds of its quickest motion: a flight, or in space of three dimensions a lean to each side by its thrusters, which follow late."""
    if look.site.gravity < 0.1 or "rx" not in look.letters:
        return flight
    coordinates = [look.index(f"{look.base_joint}.{letter}") for letter in ("rx", "ry")]
    inertia = look.inertia(look.model.start[None])[0][coordinates]
    # thrusters that push one way work against each other: half of them turn it, at full thrust
    torque = 0.5 * np.abs(torques(look)).sum(axis=1)[:2]
    late = max(float(look.machine.drives[n].lag + look.machine.drives[n].dead_time) for n in look.thrusters)
    lean = 2.0 * np.sqrt(LEAN * inertia / np.maximum(torque, 1e-12))
    return float(min(flight, (lean.min() + late) * SAMPLES / LEAN_SAMPLES))


class Hover(Wish):
    """In the air, at a mark."""

    name = "hover and fly to points"
    says = "in the air to a mark, and stays there"

    def unfit(self, look: Look) -> str:
        """Whether its thrusters carry it."""
        if not look.thrusters:
            return "no thrusters"
        if not look.base or "z" not in look.letters:
            return "it cannot leave the ground"
        if look.floats:
            return "the water carries it"
        if look.site.gravity < 0.1:
            return ""
        return "" if look.flies > 1.05 else f"its thrust is {look.flies:.2g} of its weight"

    def questions(self, look: Look) -> tuple[Question, ...]:
        """How far, how near."""
        far = nice(max(4.0 * size_of(look), 0.5))
        surplus = max(0.2, look.flies - 1.0) * look.site.gravity
        if look.site.gravity < 0.1:  # nothing is to be carried: what one of its thrusters gives it
            surplus = max(float(look.machine.drives[n].limit) for n in look.thrusters) / look.mass
        time = 2.0 * float(np.sqrt(2.0 * far / min(surplus, 5.0)))
        return (
            Question("far", "marks as far as", far, "m", f"it is {size_of(look):.2g} m wide", 0.05, 1e3),
            Question("height", "above the ground", nice(max(2.0 * far, start_height(look))), "m", "so that nothing is near", 0.0, 1e4),
            Question("within", "within", nice(0.15 * far), "m", "a part of the way", 1e-3, far),
            Question("hold", "held for", 1.0, "s", "it stays, and does not fly past", 0.0, 60.0),
            *clock(quick_of(look, max(0.6, 0.35 * time)), max(8.0, nice(4.0 * time)), "four times the way, at least 8 s"),
            load_question(look, look.base),
        )  # fmt: skip

    def write(self, look: Look, given: dict[str, float]) -> Draft:
        """Marks and starts about one height."""
        draft, base, far = Draft(look, "hover and fly to points"), look.base, given["far"]
        x0, y0 = start_place(look)
        flat = "y" not in look.letters
        across = "x" if flat and "x" in look.letters else ""
        axes = [(across or "y", x0)] if flat else [("x", x0), ("y", y0)]
        height = given["height"]
        for letter, middle in axes:
            draft.setpoint(f"mark.{letter}", "m", middle - far, middle + far)
        draft.setpoint("mark.z", "m", height - 0.5 * far, height + 0.5 * far)
        letters = [letter for letter, _ in axes] + ["z"]
        for letter in letters:
            draft.signal(f"off.{letter}", f"{base}.{letter} - mark.{letter}", "m")
            draft.observe(f"{letter} to the mark", f"off.{letter}", "m", nice(2.5 * far), "where to go")
        fast = nice(np.sqrt(2.0 * 5.0 * far)) if look.site.gravity > 0.1 else nice(8.0 * far / given["limit"])
        for letter in letters:
            draft.observe(f"speed {letter}", f"{base}.velocity.{letter}", "m/s", fast, "state is complete")
        draft.signal("away", f"norm({', '.join(f'off.{a}' for a in letters)})", "m")
        if flat:
            lean = f"{look.base_joint}.turn.position"
            draft.observe("lean", lean, "rad", 1.3, "how it stands in the air")
            draft.observe("lean rate", f"{look.base_joint}.turn.velocity", "rad/s", 6.0, "state is complete")
            over = f"abs({lean}) > 1.2"
        else:
            for angle in ("roll", "pitch"):
                draft.observe(angle, f"{base}.{angle}", "rad", 1.3, "how it stands in the air")
            draft.observe_angle("yaw", f"{base}.yaw", "marks stand along the world's axes")
            for letter, word in (("x", "roll"), ("y", "pitch"), ("z", "yaw")):
                draft.observe(f"{word} rate", f"{base}.own.rate.{letter}", "rad/s", 6.0, "state is complete")
            over = f"abs({base}.roll) > 1.2 or abs({base}.pitch) > 1.2"
        draft.joints(look.driven)
        draft.actions()
        draft.lags()
        draft.reward("near_the_mark", f"1 / (1 + (away / {0.5 * far:.4g})**2)", 2.0, "a slope everywhere")
        draft.reward("on_the_mark", f"near(away, {given['within']:.4g})", 0.5, "worth the last part")
        draft.costs(0.01)
        draft.measure("at the mark", f"away < {given['within']:.4g}", given["hold"], "apart from the reward")
        low = f" or {base}.z < {look.ground + 0.5 * size_of(look):.4g}" if np.isfinite(look.ground) else ""
        draft.ending("crashed", f"{over} or away > {4.0 * far:.4g}{low}", -30.0, "worse than going on")
        root = look.base_joint
        for letter, middle in axes:
            draft.start(f"{root}.{letter}.position", "m", middle - 0.5 * far, middle + 0.5 * far)
        draft.start(f"{root}.z.position", "m", height - 0.5 * far, height + 0.5 * far, "in the air")
        for letter in ("turn",) if flat else ("rx", "ry"):
            draft.start(f"{root}.{letter}.position", "rad", -0.15, 0.15, "leans a little")
        draft.task["target"] = {"body": base, **{a: f"mark.{a}" for a in letters}}
        vary_mass(draft, base, given["variation"])
        draft.timing(given["rate"], given["limit"], substeps(look, given["rate"]), "")
        return draft
