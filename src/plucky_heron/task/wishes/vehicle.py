"""What wishes of vehicles share: how far it goes, marks around it, and what it senses of its own motion."""

from __future__ import annotations

import numpy as np

from plucky_heron.task.wishes.draft import Draft, Question
from plucky_heron.task.wishes.look import Look, nice
from plucky_heron.task.wishes.rehearsal import SECONDS
from plucky_heron.task.wishes.wish import clock, limit_for, load_question, substeps, vary_mass

LEANS_BY = 0.1
"""Lean (rad) with which it speeds up."""
QUARTER = float(0.5 * np.pi)
"""Turn (rad) from a body's x, ahead in most files, to its y, ahead in those that were drawn the other way."""
UPRIGHT = 0.2
"""Lean (rad) of what falls over by itself that is nothing to worry about."""
FALLEN = 0.8
"""Lean (rad) from which it is not caught any more."""
CAUGHT = 6.0
"""Samples in the time in which a lean grows threefold: with twice as many a barrow did not learn within its steps what it learned with these."""
SPINS = 2.0
"""Rate of turning (rad/s) that nothing asks for."""
QUICKEST_WAY = 0.2
"""Time (s) of the quickest motion that sets a control rate."""


def size_of(look: Look) -> float:
    """Length of the body that travels, m."""
    corners = look.corners.get(look.base, np.zeros((0, 3)))
    return float(np.ptp(corners, axis=0)[:2].max()) if corners.size else 1.0


def speed_of(look: Look) -> float:
    """How fast it goes over some lengths of its own, m/s: what it came to, or would come to on such a way."""
    came_to = max(look.travel.ahead, look.travel.across, 0.05)
    pull = came_to / SECONDS if look.travel.seconds <= SECONDS else 0.6 * came_to / look.travel.rise
    return float(min(came_to, np.sqrt(2.0 * pull * 4.0 * size_of(look))))


def field_of(look: Look) -> float:
    """Half of the side of the square in which marks lie, m: three seconds of its way, but some lengths of its own."""
    return nice(float(np.clip(2.0 * speed_of(look), 4.0 * size_of(look), 8.0 * size_of(look))))


def vehicle_questions(look: Look) -> tuple[Question, ...]:
    """How far, how near, how long."""
    far, speed = field_of(look), speed_of(look)
    # away from its side a vehicle has to turn first
    time = far / speed + (0.0 if look.along else 2.0 / max(min(look.turning, 2.0), 0.2))
    if look.leans:
        # it speeds up no faster than it may lean, half of the way, and brakes the other half
        time = max(time, 2.0 * np.sqrt(far / (LEANS_BY * look.site.gravity)))
    within = nice(max(0.08 * far, 0.2 * size_of(look)))
    return (
        Question("far", "marks as far as", far, "m", f"it is {size_of(look):.2g} m long and makes {speed:.2g} m/s", 0.01, 1e4),
        Question("within", "within", within, "m", "a part of its own length", 1e-3, far),
        Question("slow", "slower than", nice(0.15 * speed), "m/s", "at rest, not in passing", 1e-3, 1e3),
        Question("hold", "held for", 0.5, "s", "at rest, not in passing", 0.0, 60.0),
        *travel_clock(look, max(1.0, 0.3 * time), limit_for(time, 4.0, 8.0), "four times the way at full speed, at least 8 s"),
        load_question(look, look.base),
    )  # fmt: skip


def travel_clock(look: Look, seconds: float, limit: float, why: str, samples: float = CAUGHT) -> tuple[Question, ...]:
    """Control rate and time limit, from the time of a motion; what falls over is commanded `samples` times in the growth of a lean."""
    if look.leans:
        return clock(min(seconds, max(QUICKEST_WAY, look.leans.seconds)), limit, why, samples)
    return clock(seconds, limit, why)


def heave(draft: Draft) -> None:
    """What else moves of a vehicle: the joints that are neither wheels nor held by their servos."""
    look = draft.look
    steered = [j for j in look.driven if j not in {*look.wheels, *look.arms}]
    draft.joints(steered, "what it steers with")
    draft.joints([j for j in look.passive if j not in look.rolling], "what it tows or carries")


def own_motion(draft: Draft, height: str = "") -> None:
    """Speeds over the ground in the vehicle's own axes, its rate of turning, and what it steers with.

    What dives also senses how far it is below `height`, a formula (at the start, if left out, which is then rewarded), and
    how it lies.
    """
    look, base = draft.look, draft.look.base
    fast = nice(1.2 * speed_of(look))
    draft.observe(
        "speed ahead",
        speed_ahead(look),
        "m/s",
        fast,
        f"how fast it goes{', along its own y' if look.faces_left else ''}",
    )
    if not look.along:
        across = nice(max(min(look.travel.ahead if look.faces_left else look.travel.across, fast), 0.2 * fast))
        draft.observe("speed to the left", speed_left(look), "m/s", across, "whether it drifts")
        turning = nice(max(1.2 * look.turning, 0.2 if look.turning > 0.05 else 1e-3))
        draft.observe("turn rate", f"{base}.own.rate.z", "rad/s", turning, "how fast it turns")
    if look.dives:
        room = size_of(look)
        draft.observe(
            "up", f"{height or f'{start_height(look):.5g}'} - {base}.z", "m", nice(8.0 * room), "how far it has to rise"
        )
        draft.observe("speed up", f"{base}.velocity.z", "m/s", nice(max(look.travel.upward, 0.1)), "state is complete")
        for angle, letter in (("roll", "x"), ("pitch", "y")):
            draft.observe(angle, f"{base}.{angle}", "rad", 0.8, "how it lies")
            draft.observe(f"{angle} rate", f"{base}.own.rate.{letter}", "rad/s", 2.0, "state is complete")
        if not height:
            draft.reward(
                "depth",
                f"-clip(abs({start_height(look):.5g} - {base}.z) / {2.0 * room:.3g}, 0, 1)",
                0.3,
                "it keeps its depth",
            )
    if look.leans:
        draft.reward("upright", f"near({sense_lean(draft)}, {2.0 * UPRIGHT:g})", 0.5, "it falls over by itself")
    heave(draft)


def speed_ahead(look: Look) -> str:
    """Formula of its speed in the direction in which it goes."""
    if look.along:
        return f"{look.base}.velocity.{look.along}"
    return f"{look.base}.own.velocity.{'y' if look.faces_left else 'x'}"


def speed_left(look: Look) -> str:
    """Formula of its speed across that direction."""
    return f"-{look.base}.own.velocity.x" if look.faces_left else f"{look.base}.own.velocity.y"


def heading_of(look: Look) -> str:
    """Formula of the direction in which it goes, as an angle from the site's x; whole turns are not taken off."""
    return f"{look.base}.yaw" + (f" + {QUARTER:.7g}" if look.faces_left else "")


def seen_from(look: Look, x: str, y: str) -> tuple[str, str]:
    """Formulas of a way over the ground as seen from it, ahead and to the left; `x` and `y` are formulas along the site's axes."""
    yaw = f"{look.base}.yaw"
    along_x, along_y = f"{x} * cos({yaw}) + {y} * sin({yaw})", f"{y} * cos({yaw}) - {x} * sin({yaw})"
    return (along_y, f"-{x} * cos({yaw}) - {y} * sin({yaw})") if look.faces_left else (along_x, along_y)


def lean_of(look: Look) -> str:
    """Formula of its lean."""
    assert look.leans is not None, "asked before"
    leans = [lean_to(look, way) for way in look.leans.ways]
    return leans[0] if len(leans) == 1 else f"norm({', '.join(leans)})"


def lean_to(look: Look, way: str) -> str:
    """Formula of one of its leans; 0 where it stands on end."""
    assert look.leans is not None, "asked before"
    angle = f"{look.base_joint}.turn.position" if way == "turn" else f"{look.base}.{way}"
    upright = look.leans.upright[look.leans.ways.index(way)]
    return f"wrap({angle} - {upright:.6g})" if upright else angle


def sense_lean(draft: Draft) -> str:
    """How it leans and how fast; the formula of the lean."""
    look = draft.look
    assert look.leans is not None, "asked before"
    # so fast it falls through the last lean at which it may still be caught, by an exponential fall
    fast = np.log(3.0) / look.leans.seconds * FALLEN
    turn = f"{look.base_joint}.turn"
    rates = {"turn": f"{turn}.velocity", "pitch": f"{look.base}.own.rate.y", "roll": f"{look.base}.own.rate.x"}
    for way in look.leans.ways:
        name = "lean" if len(look.leans.ways) == 1 else way
        draft.observe(name, lean_to(look, way), "rad", FALLEN, "what is to be small")
        draft.observe(f"{name} rate", rates[way], "rad/s", nice(1.2 * fast), "state is complete")
    return lean_of(look)


def travel_costs(draft: Draft) -> None:
    """Small terms against effort and chatter; larger ones where every sample decides how it leans, and a policy that jumps makes it shiver."""
    draft.costs(0.1 if draft.look.leans else 0.01)


def turns_slowly(draft: Draft) -> None:
    """A term against spinning: what balances on two wheels otherwise circles about its mark, which is easier than to stand."""
    base = draft.look.base
    draft.reward("turns_slowly", f"-clip(({base}.own.rate.z / {SPINS:g})**2, 0, 1)", 0.3, "else it circles about where it should rest")  # fmt: skip


def go_to(look: Look, given: dict[str, float]) -> Draft:
    """A vehicle that comes to rest at a mark."""
    draft = Draft(look, "reach a place")
    base, far, within = look.base, given["far"], given["within"]
    x0, y0 = start_place(look)
    if look.along:
        mark, here = f"mark.{look.along}", x0 if look.along == "x" else y0
        draft.setpoint(mark, "m", here - far, here + far)
        draft.signal("to_go", f"{mark} - {base}.{look.along}", "m")
        draft.signal("away", "abs(to_go)", "m")
        draft.observe("ahead", "to_go", "m", nice(1.5 * far), "where the mark is")
    else:
        mark_around(draft, far)
    own_motion(draft, "mark.z" if look.dives else "")
    draft.actions()
    draft.lags()
    draft.reward("distance", f"-away / {far:.4g}", 1.0, "a slope everywhere")
    draft.reward("near_the_mark", f"near(away, {max(1.5 * within, 0.12 * far):.3g})", 1.0, "worth the last part")
    speed = f"abs({speed_ahead(look)})" if look.along else f"norm({base}.velocity.x, {base}.velocity.y)"
    draft.reward("at_rest_there", f"near(away, {max(1.5 * within, 0.12 * far):.3g}) * near({speed}, {2.0 * given['slow']:.3g})", 1.0, "what cannot brake else goes round it")  # fmt: skip
    travel_costs(draft)
    if look.leans:
        tipped(draft, -5.0, 3.0 * far)
        if not look.along:
            turns_slowly(draft)
    draft.measure(
        "at rest at the mark",
        f"away < {within:.4g} and {speed} < {given['slow']:.4g}",
        given["hold"],
        "apart from the reward",
    )
    draft.task["target"] = {
        "body": base,
        "x": f"{x0:g}" if look.along == "y" else "mark.x",
        "y": f"{y0:g}" if look.along == "x" else "mark.y",
        "z": "mark.z" if look.dives else f"{start_height(look):.4g}",
    }
    any_heading(draft)
    vary_mass(draft, base, given["variation"])
    draft.timing(given["rate"], given["limit"], substeps(look, given["rate"]), "")
    return draft


def mark_around(draft: Draft, far: float) -> None:
    """A mark anywhere in a square about the start, or also above and below it, and where it is as seen from the vehicle."""
    look, base = draft.look, draft.look.base
    x0, y0 = start_place(look)
    draft.setpoint("mark.x", "m", x0 - far, x0 + far)
    draft.setpoint("mark.y", "m", y0 - far, y0 + far)
    draft.signal("dx", f"mark.x - {base}.x", "m")
    draft.signal("dy", f"mark.y - {base}.y", "m")
    if look.dives:
        room = min(0.5 * far, 0.8 * (float(look.site.water_level or 0.0) - start_height(look)))
        draft.setpoint("mark.z", "m", start_height(look) - room, start_height(look) + room)
    draft.signal("away", f"norm(dx, dy, mark.z - {base}.z)" if look.dives else "norm(dx, dy)", "m")
    for name, formula in zip(("ahead", "to the left"), seen_from(look, "dx", "dy"), strict=True):
        draft.observe(name, formula, "m", nice(1.5 * far), "where the mark is, as seen from it")


def any_heading(draft: Draft) -> None:
    """Starts that look everywhere."""
    letter = "turn" if "turn" in draft.look.letters else "rz"
    if letter in draft.look.letters and not draft.look.along:
        draft.start(f"{draft.look.base_joint}.{letter}.position", "rad", -np.pi, np.pi, "any heading")


def start_place(look: Look) -> tuple[float, float]:
    """Where it stands at the start, m."""
    place = look.frames(look.model.start[None])[0][look.model.bodies.index(look.base), :2]
    return float(np.round(place[0], 6)), float(np.round(place[1], 6))


def start_height(look: Look) -> float:
    """Height of its origin at the start, m."""
    return float(look.frames(look.model.start[None])[0][look.model.bodies.index(look.base), 2])


def tipped(draft: Draft, weight: float, far: float = 0.0) -> None:
    """An ending for what has fallen over; what balances is lost, too, where it is more than `far` (m) away: riding off is the easiest way not to fall."""
    base = draft.look.base
    if draft.look.leans:
        lost = f" or away > {far:.4g}" if far else ""
        draft.ending("fallen", f"abs({lean_of(draft.look)}) > {FALLEN}{lost}", weight, "it would not get up again" + (" or come back" if far else ""))  # fmt: skip
    elif {"rx", "ry"} <= set(draft.look.letters):
        formula = f"abs({base}.roll) > 1.05 or abs({base}.pitch) > 1.05"
        draft.ending("tipped over", formula, weight, "it would not get up again")
