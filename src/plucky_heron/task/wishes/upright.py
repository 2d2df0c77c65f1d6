"""To balance, and to swing up: what gravity takes down is held or brought up."""

from __future__ import annotations

import functools
from dataclasses import dataclass

import numpy as np

from plucky_heron.dynamics.plant import mass_matrix
from plucky_heron.task.wishes.carried import balance_carried, carried_questions, room_of
from plucky_heron.task.wishes.draft import Draft, Question
from plucky_heron.task.wishes.look import Look, nice
from plucky_heron.task.wishes.vehicle import QUICKEST_WAY, seen_from, sense_lean, speed_ahead
from plucky_heron.task.wishes.wish import Wish, clock, substeps

Array = np.ndarray
CURVE = 0.02
"""Lean (rad) by which the curve of the height at the top is measured."""


@dataclass(frozen=True)
class Upright:
    """The pose in which everything stands on end.

    Attributes
    ----------
    joints : list of str
        Hinges that stand on end: those without a drive, and those that gravity overcomes.
    top, bottom : dict
        Their angles there, and hanging down.
    seconds : float
        Time in which a lean grows to three times itself.
    """

    joints: list[str]
    top: dict[str, float]
    bottom: dict[str, float]
    seconds: float


@functools.lru_cache(maxsize=8)
def upright_of(look: Look) -> Upright | None:
    """The pose on end of the hinges that nothing holds; None where gravity does not care about them."""
    if look.loops:
        return None
    joints = [j for j in look.passive if look.machine.joints[j].kind == "hinge"] + look.weak
    if not joints or look.base or look.site.gravity < 0.1:
        return None
    found = []
    for sign in (1.0, -1.0):
        position = look.model.start.copy()
        for _ in range(3):
            for joint in joints:
                low, high = look.span(joint)
                tried = np.tile(position, (361, 1))
                tried[:, look.index(joint)] = np.linspace(low, high, 361)
                height = sign * look.heights(tried)
                # of equal ones the one nearest to the start
                best = np.flatnonzero(height > height.max() - 1e-9)
                away = np.abs(tried[best, look.index(joint)] - look.model.start[look.index(joint)])
                position = tried[best[np.argmin(away)]]
        found.append(position)
    top, bottom = found
    fall = float(look.heights(top[None])[0] - look.heights(bottom[None])[0])
    length = fall * look.mass / max(sum(look.machine.bodies[b].mass for b in look.model.bodies), 1e-9)
    if fall * look.mass * look.site.gravity < 1e-6 or length < 1e-4:
        return None
    # how fast a lean grows is told by the curve of the height at the top, wherever stops may end the fall
    lean = np.tile(top, (2, 1))
    for joint in joints:
        lean[0, look.index(joint)] -= CURVE
        lean[1, look.index(joint)] += CURVE
    height = look.heights(np.vstack([top[None], lean]))
    stiff = 2.0 * (height[0] - height[1:].mean()) / CURVE**2 * look.mass * look.site.gravity
    if not stiff > 0.0:
        stiff = 0.5 * fall * look.mass * look.site.gravity
    inertia = max(float(np.diag(mass_matrix(look.model, top))[look.index(joints[0])]), 1e-9)
    return Upright(
        joints, {j: float(top[look.index(j)]) for j in joints}, {j: float(bottom[look.index(j)]) for j in joints},
        1.1 * float(np.sqrt(inertia / stiff)),
    )  # fmt: skip


def carriers(look: Look, upright: Upright) -> list[str]:
    """Driven joints that are not to stand on end themselves."""
    return [j for j in look.driven if j not in upright.joints]


class Balance(Wish):
    """To stay on end."""

    name = "balance"
    says = "stays on end, or what it carries stays on it"

    def unfit(self, look: Look) -> str:
        """Whether something would fall that a drive can hold."""
        if look.leans or room_of(look) > 0.0:
            return ""
        if look.base:
            return (
                "its wings hold it"
                if look.glides
                else "it has feet to stand on"
                if look.feet
                else "it stands by itself"
            )
        if not look.driven:
            return "no joint of it is driven"
        found = upright_of(look)
        if found is None:
            return "its drives hold every pose" if not look.passive else "gravity takes nothing of it down"
        return ""

    def questions(self, look: Look) -> tuple[Question, ...]:
        """How far it may lean and go."""
        if room_of(look) > 0.0:
            return carried_questions(look)
        found = upright_of(look)
        falls = look.leans or found
        seconds = falls.seconds if falls is not None else 0.4
        return (
            Question("lean", "leans less than", 0.2, "rad", "upright enough", 0.005, 1.5),
            *([] if stays_put(look) else [Question("far", "stays within", nice(far_of(look)), "m", "of where it started", 0.01, 1e4)]),
            Question("start", "starts leaning up to", 0.1, "rad", "a push at the start", 0.0, 1.0),
            Question("hold", "held for", 2.0, "s", "at the end of the episode", 0.0, 600.0),
            *clock(max(QUICKEST_WAY, seconds), 10.0, "long enough to fall many times"),
        )  # fmt: skip

    def write(self, look: Look, given: dict[str, float]) -> Draft:
        """Leans and speeds are sensed; falling ends the episode."""
        if room_of(look) > 0.0:
            return balance_carried(look, given)
        draft = Draft(look, "balance")
        if look.leans:
            return balance_vehicle(draft, given)
        found = upright_of(look)
        assert found is not None, "asked before"
        for joint in found.joints:
            draft.signal(f"lean.{joint}", f"wrap({joint}.position - {found.top[joint]:.6g})", "rad")
            draft.observe(f"{joint.replace('_', ' ')} leans", f"lean.{joint}", "rad", 1.0, "what is to be small")
            draft.observe(f"{joint.replace('_', ' ')} speed", f"{joint}.velocity", "rad/s", 6.0, "state is complete")
            low, high = within_stops(look, joint, found.top[joint], given["start"])
            draft.start(f"{joint}.position", "rad", low, high, "leans a little")
        others = carriers(look, found)
        draft.joints(others, by_speed=look.spinning)
        draft.actions()
        draft.lags()
        leans = " + ".join(f"lean.{j}**2" for j in found.joints)
        draft.signal("lean", f"sqrt({leans})", "rad")
        draft.reward("upright", f"near(lean, {2.0 * given['lean']:.3g})", 1.0, "on end")
        away, fallen = keep_near(draft, others, given.get("far", far_of(look)))
        draft.costs(0.01)
        draft.measure("upright", " and ".join([f"lean < {given['lean']:.4g}", *away]), given["hold"], "apart from the reward")  # fmt: skip
        draft.ending("fallen", " or ".join([f"lean > {max(0.8, 3.0 * given['lean']):.3g}", *fallen]), -2.0, "nothing more to learn")  # fmt: skip
        draft.timing(given["rate"], given["limit"], substeps(look, given["rate"]), "")
        return draft


def keep_near(draft: Draft, joints: list[str], far: float) -> tuple[list[str], list[str]]:
    """Terms that keep sliders near their start: when they are near, and when they are lost."""
    near, lost = [], []
    for joint in joints:
        look = draft.look
        if joint in look.spinning:
            fast = max(look.travel.joints[joint], 0.1)  # a weak motor may not move it at all
            draft.reward(f"{joint}_slow", f"-({joint}.velocity / {fast:.4g})**2", 0.3, "at its top speed a wheel has nothing left to give")  # fmt: skip
        if look.machine.joints[joint].kind != "slider":
            continue
        middle = float(look.model.start[look.index(joint)])
        low, high = look.span(joint, 0.8, far / 0.8)
        half = min(far, 0.5 * (high - low))
        draft.reward(
            f"{joint}_near", f"-(({joint}.position - {middle:.6g}) / {half:.4g})**2", 0.3, "it stays where it is"
        )
        near.append(f"abs({joint}.position - {middle:.6g}) < {half:.4g}")
        if look.machine.joints[joint].limits is None:
            lost.append(f"abs({joint}.position - {middle:.6g}) > {2.0 * half:.4g}")
    return near, lost


def within_stops(look: Look, joint: str, middle: float, half: float) -> tuple[float, float]:
    """A range about a place, as far as a joint's stops let it."""
    low, high = look.machine.joints[joint].limits or (-np.inf, np.inf)
    return float(np.clip(middle - half, low, high)), float(np.clip(middle + half, low, high))


def stays_put(look: Look) -> bool:
    """Whether it cannot go anywhere: it stands, and nothing of it slides."""
    return not look.base and all(look.machine.joints[j].kind != "slider" for j in look.driven)


def far_of(look: Look) -> float:
    """How far a carrier of what is balanced may go."""
    sliders = [j for j in look.driven if look.machine.joints[j].kind == "slider"]
    if sliders:
        low, high = look.span(sliders[0], 0.5, 2.0)
        return 0.5 * (high - low)
    return 1.0


def balance_vehicle(draft: Draft, given: dict[str, float]) -> Draft:
    """A vehicle on one axle stays upright and near where it started."""
    look, base = draft.look, draft.look.base
    assert look.leans is not None, "asked before"
    ways, lean = look.leans.ways, sense_lean(draft)
    speed = nice(max(look.travel.ahead, look.travel.across, 0.5))
    start = look.frames(look.model.start[None])[0][look.model.bodies.index(base), :2]
    if ways == ("turn",):
        axis = look.letters[0]
        draft.signal("gone", f"{base}.{axis} - {start['xy'.index(axis)]:.6g}", "m")
        draft.observe("speed", f"{base}.velocity.{axis}", "m/s", speed, "how fast it goes")
        away = "abs(gone)"
        draft.observe("way gone", "gone", "m", nice(2.0 * given["far"]), "where it is")
    else:
        place = seen_from(look, f"({start[0]:.6g} - {base}.x)", f"({start[1]:.6g} - {base}.y)")
        for name, formula in zip(("ahead", "to the left"), place, strict=True):
            draft.observe(
                f"place {name}", formula, "m", nice(2.0 * given["far"]), "where its place is, as seen from it"
            )
        draft.observe("speed ahead", speed_ahead(look), "m/s", speed, "how fast it goes")
        draft.observe("turn rate", f"{base}.own.rate.z", "rad/s", 3.0, "how fast it turns")
        draft.signal("gone", f"norm({base}.x - {start[0]:.6g}, {base}.y - {start[1]:.6g})", "m")
        away = "gone"
    draft.joints([j for j in look.driven if j not in look.wheels])
    draft.actions()
    draft.lags()
    draft.reward("upright", f"near({lean}, {2.0 * given['lean']:.3g})", 1.0, "on end")
    draft.reward("near_its_place", f"-(gone / {given['far']:.4g})**2", 0.3, "it stays where it is")
    draft.costs(0.01)
    draft.measure("upright", f"abs({lean}) < {given['lean']:.4g} and {away} < {given['far']:.4g}", given["hold"], "apart from the reward")  # fmt: skip
    draft.ending("fallen", f"abs({lean}) > {max(0.8, 3.0 * given['lean']):.3g} or {away} > {3.0 * given['far']:.4g}", -2.0, "nothing more to learn")  # fmt: skip
    for way, upright in zip(ways, look.leans.upright, strict=True):
        middle = upright if way == "turn" else 0.0
        coordinate = f"{look.base_joint}.{ {'turn': 'turn', 'pitch': 'ry', 'roll': 'rx'}[way] }"
        draft.start(f"{coordinate}.position", "rad", middle - given["start"], middle + given["start"], "leans a little")
    draft.timing(given["rate"], given["limit"], substeps(look, given["rate"]), "")
    return draft


class SwingUp(Wish):
    """From hanging to standing on end."""

    name = "swing up"
    says = "from hanging to standing on end"

    def unfit(self, look: Look) -> str:
        """Whether something hangs that no drive simply lifts."""
        if look.base:
            return "nothing of it hangs on what stands"
        if not look.driven:
            return "no joint of it is driven"
        found = upright_of(look)
        if found is None:
            return "its drives can lift it: no need" if not look.passive else "gravity takes nothing of it down"
        stopped = [j for j in found.joints if not self._goes_over(look, found, j)]
        if stopped:
            return f"{stopped[0]} has stops between hanging and standing"
        resting = [j for j in found.joints if self._rests(look, found, j)]
        return f"{resting[0]} rests on its stop and has no room to swing" if resting else ""

    def _rests(self, look: Look, found: Upright, joint: str) -> bool:
        """Whether it lies on a stop where it would hang, and would fall on without it."""
        limits = look.machine.joints[joint].limits
        return limits is not None and min(abs(found.bottom[joint] - end) for end in limits) < 0.02

    def _goes_over(self, look: Look, found: Upright, joint: str) -> bool:
        # upright within the stops, and not just at one of them
        limits = look.machine.joints[joint].limits
        return limits is None or limits[0] + 0.02 < found.top[joint] < limits[1] - 0.02

    def questions(self, look: Look) -> tuple[Question, ...]:
        """How upright, how long."""
        found = upright_of(look)
        seconds = found.seconds if found is not None else 0.4
        return (
            Question("lean", "leans less than", 0.25, "rad", "upright enough", 0.01, 1.5),
            Question("hold", "held for", 1.0, "s", "on end, not in passing", 0.0, 60.0),
            *clock(max(0.25, 1.25 * seconds), limit_for_swing(seconds), "a few swings, at least 10 s"),
        )

    def write(self, look: Look, given: dict[str, float]) -> Draft:
        """The height is rewarded."""
        draft = Draft(look, "swing up")
        found = upright_of(look)
        assert found is not None, "asked before"
        for joint in found.joints:
            words = joint.replace("_", " ")
            draft.signal(f"lean.{joint}", f"wrap({joint}.position - {found.top[joint]:.6g})", "rad")
            draft.observe_angle(f"{words} lean", f"lean.{joint}", "where it is; whole turns left out")
            draft.observe(
                f"{words} speed", f"{joint}.velocity", "rad/s", nice(5.0 / found.seconds), "state is complete"
            )
            low, high = within_stops(look, joint, found.bottom[joint], 0.3)
            draft.start(f"{joint}.position", "rad", low, high, "hanging, not quite still")
        others = carriers(look, found)
        draft.joints(others, by_speed=look.spinning)
        draft.actions()
        draft.lags()
        cosines = " + ".join(f"cos(lean.{j})" for j in found.joints)
        count = len(found.joints)
        draft.signal("lean", "sqrt(" + " + ".join(f"lean.{j}**2" for j in found.joints) + ")", "rad")
        draft.reward("height", f"({cosines}) / {count}" if count > 1 else cosines, 1.0, "the higher the better")
        speeds = " + ".join(f"({j}.velocity / {nice(5.0 / found.seconds):.4g})**2" for j in found.joints)
        draft.reward("calm", f"-({speeds})", 0.2, "it comes to rest")
        away, lost = keep_near(draft, others, nice(far_of(look)))
        draft.costs(0.01)
        draft.measure("on end", " and ".join([f"lean < {given['lean']:.4g}", *away]), given["hold"], "apart from the reward")  # fmt: skip
        if lost:
            draft.ending("run away", " or ".join(lost), -20.0, "worse than going on")
        draft.timing(given["rate"], given["limit"], substeps(look, given["rate"]), "")
        return draft


def limit_for_swing(seconds: float) -> float:
    """A time limit for a few swings."""
    return max(10.0, nice(25.0 * seconds))
