"""To go along a course: a vehicle follows a line over the ground or the water to its end."""

from __future__ import annotations

from plucky_heron.machine.site import LONGEST_DRAWN
from plucky_heron.task.wishes.draft import Draft, Line, Question
from plucky_heron.task.wishes.look import Look, nice
from plucky_heron.task.wishes.vehicle import own_motion, size_of, speed_of, tipped, travel_clock, travel_costs
from plucky_heron.task.wishes.wish import SLOW, Wish, load_question, substeps, vary_mass


class GoAlong(Wish):
    """A line to its end."""

    name = "go along a course"
    says = "follows a line to its end"

    def unfit(self, look: Look) -> str:
        """Whether it is a vehicle."""
        if look.along:
            return "it only goes to and fro"
        return "" if look.rolls else "it does not travel over the ground" if look.base else "the base does not travel"

    def questions(self, look: Look) -> tuple[Question, ...]:
        """How wide, how fast."""
        speed = nice(0.5 * speed_of(look))
        length = self._length(look)
        slow = 0.15 * length / speed
        return (
            Question("speed", "at", speed, "m/s", f"half of the {speed_of(look):.2g} m/s that it makes", 1e-3, 1e3),
            Question("width", "half as wide as", nice(1.2 * size_of(look)), "m", "a little more than its own length", 0.01, 1e3),
            Question("length", "for", length, "m", "ten seconds at that speed, or the course that is there", 0.1, 5e3),
            *travel_clock(look, slow if slow > SLOW else 1.5, nice(2.0 * length / speed + 4.0), "twice the time that it needs"),
            load_question(look, look.base),
        )  # fmt: skip

    def _length(self, look: Look) -> float:
        speed, size = 0.5 * speed_of(look), size_of(look)
        # what is drawn from a seed ends somewhere, and what is looked at ahead comes on top
        longest = LONGEST_DRAWN - 4.0 * max(speed, 1.5 * size)
        return min(nice(max(10.0 * speed, 10.0 * size)), max(float(f"{longest:.1g}"), size))

    def write(self, look: Look, given: dict[str, float]) -> Draft:
        """Where it stands on the course is sensed, and what lies ahead."""
        draft, base = Draft(look, "go along a course"), look.base
        ahead = max(1.0 * given["speed"], 1.5 * size_of(look))
        if not look.site.courses and not look.site.drawings:
            draft.courses["line"] = {
                "seed": 3, "difficulty": 0.5, "length": f"{given['length'] + 4.0 * ahead:.4g} m",
                "tightest": f"{4.0 * size_of(look):.4g} m", "width": f"{2.0 * given['width']:.4g} m",
            }  # fmt: skip
            draft.lines.append(
                Line("Site", "a course with bends", "there was none; draw another one, or change its seed")
            )
        turned = {"turn": ["0 deg", "0 deg", "90 deg"]} if look.faces_left else {}
        lane = draft.sensor("lane", {"kind": "course", "body": base, "ahead": f"{ahead:.4g} m", **turned})
        draft.observe("off the line", f"{lane}.offset", "m", 1.5 * given["width"], "where it is on the course")
        draft.observe("heading", f"{lane}.heading", "rad", 1.5, "how it is turned against the course")
        draft.observe("line ahead", f"{lane}.ahead.offset", "m", nice(3.0 * given["width"]), "which way it bends")
        draft.observe("heading ahead", f"{lane}.ahead.heading", "rad", 1.5, "which way it bends")
        own_motion(draft)
        draft.actions()
        draft.lags()
        speed = given["speed"]
        draft.reward("progress", f"clip({lane}.speed / {speed:.4g}, -1, 1)", 1.0, "the way along the course, not faster than wished")  # fmt: skip
        draft.reward("on_the_line", f"-({lane}.offset / {given['width']:.4g})**2", 0.3, "in the middle")
        travel_costs(draft)
        draft.signal("gone", f"{lane}.progress", "m")
        draft.measure("at its end", f"gone > {given['length']:.6g}", 0.0, "apart from the reward")
        draft.ending("off the course", f"abs({lane}.offset) > {given['width']:.4g}", -5.0, "worse than going on")
        draft.task["endings"]["arrived"] = {"kind": "success", "formula": f"gone > {given['length']:.6g}"}
        draft.task["rewards"]["arrived"] = {"when": "at ending", "ending": "arrived", "weight": 5}
        draft.lines.append(Line("Endings", "arrived: success", "nothing more to do"))
        tipped(draft, -5.0)
        draft.task["placing"] = {look.base_joint: {
            "along": ["0 m", f"{0.2 * given['length']:.4g} m"], "offset": [f"{-0.3 * given['width']:.4g} m", f"{0.3 * given['width']:.4g} m"],
            "heading": ["-105 deg", "-75 deg"] if look.faces_left else ["-15 deg", "15 deg"],
        }}  # fmt: skip
        draft.lines.append(Line("Starts and variation", "on the course", "in its first fifth, a little off"))
        vary_mass(draft, base, given["variation"])
        draft.timing(given["rate"], given["limit"], substeps(look, given["rate"]), "")
        return draft
