"""To hold a pose, or to follow one that changes: every driven joint at a set-point."""

from __future__ import annotations

from plucky_heron.task.wishes.attitude import turn_questions, turn_task, unfit_to_turn
from plucky_heron.task.wishes.draft import Draft, Question
from plucky_heron.task.wishes.look import Look, nice
from plucky_heron.task.wishes.reach import clear_share
from plucky_heron.task.wishes.wish import SAMPLES as WISH_SAMPLES
from plucky_heron.task.wishes.wish import Wish, clock, limit_for, load_question, substeps, vary_mass

SAMPLES = 16.0
"""Samples of a quick motion by drives that push: each joint has to stop exactly where it should."""
MOST = 12
"""Joints that may be told a pose."""


class HoldPose(Wish):
    """Driven joints at set-points."""

    name = "hold a pose"
    says = "every joint at a set-point; an attitude"

    def unfit(self, look: Look) -> str:
        """Whether it stands, and its drives can hold a pose."""
        if look.base:
            return unfit_to_turn(look)
        if not look.driven:
            return "no joint of it is driven"
        if look.tied_apart:
            return look.tied_apart
        if look.passive:
            return f"{look.passive[0]} has no drive"
        if look.weak:
            return f"gravity overcomes {look.weak[0]}"
        return f"more than {MOST} joints are driven" if len(look.posed) > MOST else ""

    def questions(self, look: Look) -> tuple[Question, ...]:
        """How exactly, how long."""
        if look.base:
            return turn_questions(look)
        sliders = all(look.machine.joints[j].unit == "m" for j in look.posed)
        span = min(look.span(j)[1] - look.span(j)[0] for j in look.posed)
        near = Question("within", "within", nice(0.03 * span), "m", "3 % of its way", 1e-5, 10.0) if sliders else Question("within", "within", 0.05, "rad", "of each joint; of sliders 3 % of their way", 1e-4, 1.0)  # fmt: skip
        time = look.slowest(look.posed)
        return (
            near,
            Question("hold", "held for", nice(max(min(0.3, 15.0 * time), 0.5 * time), (1.0, 2.0, 3.0, 5.0, 10.0)), "s", "at rest, not in passing", 0.0, 60.0),
            *clock(look.quickest(look.posed), limit_for(time, 5.0, min(4.0, nice(200.0 * time))), "five times a quick motion, up to 4 s more", SAMPLES if look.efforts else WISH_SAMPLES),
            load_question(look, look.limb[1]),
        )  # fmt: skip

    def write(self, look: Look, given: dict[str, float]) -> Draft:
        """Set-points drawn once an episode."""
        if look.base:
            return turn_task(look, given, "hold an attitude", 0.0)
        return pose_task(look, given, "hold a pose", 0.0)


def pose_task(look: Look, given: dict[str, float], name: str, every: float) -> Draft:
    """Every driven joint to its set-point, drawn anew each `every` seconds."""
    draft = Draft(look, name)
    joints = look.posed
    share = clear_share(look, joints)
    apart, inside = [], []
    for joint in joints:
        part = look.machine.joints[joint]
        low, high = look.span(joint, share, 1.5)
        draft.setpoint(f"goal.{joint}", part.unit, low, high, every)
        error = f"miss.{joint}"
        draft.signal(error, f"goal.{joint} - {joint}.position", part.unit)
        draft.observe(f"{joint.replace('_', ' ')} to go", error, part.unit, nice(1.4 * (high - low)), "where to go")
        near = given["within"] if part.unit == "rad" or all(look.machine.joints[j].unit == "m" for j in joints) else 0.03 * (high - low)  # fmt: skip
        draft.observe(
            f"{joint.replace('_', ' ')} close",
            f"clip({error}, -{4.0 * near:.4g}, {4.0 * near:.4g})",
            part.unit,
            4.0 * near,
            "the last part of it, finely",
        )
        apart.append((error, 0.5 * (high - low), near))
        inside.append(f"abs({error}) < {near:.4g}")
        draft.start(f"{joint}.position", part.unit, low, high, "any pose clear of the ground" if share < 0.6 else "any pose")  # fmt: skip
    draft.joints(joints)
    draft.actions(led=True, only=joints)
    draft.lags()
    count = len(apart)
    far = " + ".join(f"abs({e}) / {s:.4g}" for e, s, _ in apart)
    close = " + ".join(f"near({e}, {2.0 * n:.3g})" for e, _, n in apart)
    draft.reward("distance", f"-({far}) / {count}", 1.0, "a slope everywhere")
    draft.reward("close", f"({close}) / {count}", 1.0, "worth the last part")
    draft.clear_of_stops(joints)
    draft.costs(0.02)
    draft.measure("in the pose", " and ".join(inside), given["hold"], "apart from the reward")
    if any(action.get("kind") == "increment" for action in draft.task["actions"]):
        draft.lead(joints, given["rate"])
    elif not look.loops:  # which a linear regulator does not know
        draft.task["regulator"] = {"hold": {j: f"goal.{j}" for j in joints}}
    vary_mass(draft, look.limb[1], given["variation"])
    draft.timing(given["rate"], given["limit"], substeps(look, given["rate"]), "")
    return draft
