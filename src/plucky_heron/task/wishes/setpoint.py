"""To follow a set-point: a vehicle a speed and a rate of turning, an arm a pose that changes."""

from __future__ import annotations

from plucky_heron.task.wishes.attitude import time_to_turn, turn_questions, turn_task, unfit_to_turn
from plucky_heron.task.wishes.draft import Draft, Question
from plucky_heron.task.wishes.fly import fly, fly_questions
from plucky_heron.task.wishes.look import Look, nice
from plucky_heron.task.wishes.pose import HoldPose, pose_task
from plucky_heron.task.wishes.vehicle import (
    any_heading,
    own_motion,
    speed_ahead,
    speed_of,
    tipped,
    travel_clock,
    travel_costs,
)
from plucky_heron.task.wishes.wish import SAMPLES, Wish, load_question, substeps, vary_mass


class FollowSetpoint(Wish):
    """What is wanted comes from outside and changes."""

    name = "follow a set-point"
    says = "a speed and turn, a height, a pose that change"

    def unfit(self, look: Look) -> str:
        """Whether it drives over the ground, or is an arm."""
        if look.travels or look.glides:
            return ""
        if look.base and unfit_to_turn(look):
            return "nothing takes it over the ground"
        return HoldPose().unfit(look)

    def questions(self, look: Look) -> tuple[Question, ...]:
        """How fast at most, how exactly."""
        if look.glides:
            return fly_questions(look)
        if look.base and not look.travels:
            near, within, hold, _, rate, load = turn_questions(look)
            time = time_to_turn(look)
            every = Question(
                "every", "drawn anew every", nice(3.0 * time), "s", "three times a quick turn", 0.01, 3600.0
            )
            more = Question("limit", "episode", nice(12.0 * time), "s", "four set-points", 0.1, 36000.0)
            return near, within, hold, every, more, rate, load
        if not look.travels:
            near, hold, _, rate, load = HoldPose().questions(look)
            time = nice(max(4.0 * look.seconds, 2.0 * hold.value))
            every = Question("every", "drawn anew every", time, "s", "four times a quick motion, or time enough to hold it", 0.01, 600.0)  # fmt: skip
            more = Question("limit", "episode", nice(4.0 * time), "s", "four set-points", 0.1, 3600.0)
            return near, hold, every, more, rate, load
        top, turn = nice(0.6 * speed_of(look)), nice(min(0.5 * look.turning, 1.0))
        each = 4.0 if look.travel.rise <= 3.0 else nice(2.0 * look.travel.rise)
        turns = Question("turn", "turns up to", turn, "rad/s", f"it turns at {look.turning:.2g} rad/s", 0.0, 100.0)
        return (
            Question("speed", "speeds up to", top, "m/s", f"it makes {speed_of(look):.2g} m/s", 1e-3, 1e3),
            *([] if look.along else [turns]),
            Question("within", "within", 0.15, "", "share of the largest set-point", 0.005, 1.0),
            Question("hold", "held for", 1.0, "s", "at the end of the episode", 0.0, 60.0),
            Question("every", "drawn anew every", each, "s", "long enough to get there", 0.1, 3600.0),
            *travel_clock(look, max(1.5, 0.375 * each), 3.0 * each, "three set-points", SAMPLES),
            load_question(look, look.base),
        )  # fmt: skip

    def write(self, look: Look, given: dict[str, float]) -> Draft:
        """Set-points that are drawn again and again."""
        if look.glides:
            return fly(look, given)
        if look.base and not look.travels:
            return turn_task(look, given, "follow an attitude", given["every"])
        if not look.travels:
            return pose_task(look, given, "follow a pose", given["every"])
        draft, base = Draft(look, "follow a set-point"), look.base
        speed, turn = given["speed"], given.get("turn", 0.0)
        back = look.travel.least["xy".index(look.along or ("y" if look.faces_left else "x"))] < -0.1
        backwards = -0.5 * speed if back and not look.steered else 0.0
        draft.setpoint("wanted.speed", "m/s", backwards, speed, given["every"])
        draft.observe("wanted speed", "wanted.speed", "m/s", speed, "what is wanted")
        draft.signal("speed_error", f"wanted.speed - {speed_ahead(look)}", "m/s")
        terms = [f"near(speed_error, {0.3 * speed:.3g})"]
        inside = [f"abs(speed_error) < {given['within'] * speed:.3g}"]
        slope = f"abs(speed_error) / {speed:.4g}"
        if turn > 0.0:
            if look.steered:
                # it turns only as it drives: what is wanted is a bend, and the turn that goes with the speed
                bend = turn / speed
                draft.setpoint("wanted.bend", "rad/m", -bend, bend, given["every"])
                draft.signal("wanted.turn", "wanted.bend * wanted.speed", "rad/s")
            else:
                draft.setpoint("wanted.turn", "rad/s", -turn, turn, given["every"])
            draft.observe("wanted turn", "wanted.turn", "rad/s", turn, "what is wanted")
            draft.signal("turn_error", f"wanted.turn - {base}.own.rate.z", "rad/s")
            terms.append(f"near(turn_error, {0.3 * turn:.3g})")
            inside.append(f"abs(turn_error) < {given['within'] * turn:.3g}")
            slope += f" + abs(turn_error) / {turn:.4g}"
        own_motion(draft)
        draft.actions()
        draft.lags()
        draft.reward("distance", f"-({slope})", 0.5, "a slope everywhere")
        draft.reward("on_the_setpoint", " * ".join(terms), 1.0, "worth the last part")
        travel_costs(draft)
        draft.measure("at the set-point", " and ".join(inside), given["hold"], "apart from the reward")
        tipped(draft, -5.0)
        any_heading(draft)
        vary_mass(draft, base, given["variation"])
        draft.timing(given["rate"], given["limit"], substeps(look, given["rate"]), "")
        return draft
