"""To dock: a vehicle comes to a place, turned as the place is, and rests there."""

from __future__ import annotations

from plucky_heron.task.wishes.draft import Draft, Question
from plucky_heron.task.wishes.fly import RESTLESS
from plucky_heron.task.wishes.look import Look, nice
from plucky_heron.task.wishes.vehicle import (
    QUARTER,
    field_of,
    heading_of,
    own_motion,
    seen_from,
    start_height,
    start_place,
    tipped,
    travel_costs,
    turns_slowly,
    vehicle_questions,
)  # fmt: skip
from plucky_heron.task.wishes.wish import Wish, substeps, vary_mass


class Dock(Wish):
    """A place and a heading."""

    name = "dock"
    says = "to a place and a heading, at rest"

    def unfit(self, look: Look) -> str:
        """Whether it is a vehicle."""
        if look.glides:
            return RESTLESS
        if look.along:
            return "it only goes to and fro"
        return "" if look.rolls else "it does not travel over the ground" if look.base else "the base does not travel"

    def questions(self, look: Look) -> tuple[Question, ...]:
        """As for a place, and how well it is turned."""
        far, within, *others = vehicle_questions(look)
        back = Question("back", "begins as far off as", nice(field_of(look)), "m", far.why, 0.01, 1e4)
        turned = Question("turned", "turned within", 0.2, "rad", "about 11 deg", 0.005, 3.0)
        return back, within, turned, *others

    def write(self, look: Look, given: dict[str, float]) -> Draft:
        """It begins in front of the place, at a distance and turned a little."""
        draft, base, back = Draft(look, "dock"), look.base, given["back"]
        x0, y0 = start_place(look)
        place = x0 + back
        draft.signal("dx", f"{place:.6g} - {base}.x", "m")
        draft.signal("dy", f"{y0:.6g} - {base}.y", "m")
        draft.signal("away", "norm(dx, dy)", "m")
        ahead, left = seen_from(look, "dx", "dy")
        draft.observe("ahead", ahead, "m", nice(2.0 * back), "where the place is, as seen from it")
        draft.observe("to the left", left, "m", nice(1.5 * back), "where the place is, as seen from it")
        heading = heading_of(look)
        draft.observe_angle("heading", heading, "how it is turned against the place")
        own_motion(draft)
        draft.actions()
        draft.lags()
        near = max(2.0 * given["within"], 0.2 * back)
        draft.reward("distance", f"-away / {back:.4g}", 1.0, "a slope everywhere")
        draft.reward("lined_up", f"near(dy, {1.5 * given['within']:.3g})", 0.5, "what cannot go sideways has to be in front of the place before it is there")  # fmt: skip
        draft.reward("turned", f"near(away, {near:.3g}) * cos({heading})", 1.0, "the heading counts where it is near")
        draft.reward("in_place", f"near(away, {1.5 * given['within']:.3g}) * near(wrap({heading}), {1.5 * given['turned']:.3g})", 1.0, "worth the last part")  # fmt: skip
        travel_costs(draft)
        if look.leans:
            turns_slowly(draft)
        slow = f"norm({base}.velocity.x, {base}.velocity.y) < {given['slow']:.4g}"
        draft.measure("docked", f"away < {given['within']:.4g} and abs(wrap({heading})) < {given['turned']:.4g} and {slow}", given["hold"], "apart from the reward")  # fmt: skip
        draft.task["target"] = {"body": base, "x": f"{place:.6g}", "y": f"{y0:.6g}", "z": f"{start_height(look):.4g}"}
        tipped(draft, -10.0, 3.0 * back)
        root = look.base_joint
        draft.start(f"{root}.x.position", "m", x0 - 0.25 * back, x0 + 0.25 * back, "in front of the place")
        draft.start(f"{root}.y.position", "m", y0 - 0.4 * back, y0 + 0.4 * back)
        letter = "turn" if "turn" in look.letters else "rz"
        middle = -QUARTER if look.faces_left else 0.0
        draft.start(f"{root}.{letter}.position", "rad", middle - 0.8, middle + 0.8, "turned a little")
        vary_mass(draft, base, given["variation"])
        draft.timing(given["rate"], given["limit"], substeps(look, given["rate"]), "")
        return draft
