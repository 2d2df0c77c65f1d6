"""To reach a place: the tip of an arm, or a vehicle as a whole, comes to a mark and rests there."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from plucky_heron.task.wishes.draft import Draft, Line, Question, said, shown
from plucky_heron.task.wishes.fly import RESTLESS
from plucky_heron.task.wishes.look import Look, nice
from plucky_heron.task.wishes.region import Region, region_of, summed
from plucky_heron.task.wishes.vehicle import go_to, vehicle_questions
from plucky_heron.task.wishes.wish import Wish, clock, limit_for, load_question, substeps, vary_mass

Array = np.ndarray
SWINGS = 0.1
"""Angle (rad) to each side in which what hangs begins."""
FREE_SHARE = 0.99
"""Share of drawn poses that have to be free of everything."""
FREE = 1.0
"""Way (rad) to each side of its start from which a joint without stops begins."""


class Reach(Wish):
    """A body to a point, at rest."""

    name = "reach a place"
    says = "tip, load or vehicle to a mark, at rest"

    def unfit(self, look: Look) -> str:
        """Whether there is a tip that gets around, or a vehicle."""
        if look.travels:
            return ""
        if look.glides:
            return RESTLESS
        if look.base:
            return "what flies hovers instead" if look.flies > 1.0 else "nothing takes it over the ground"
        if not look.limb[0]:
            return "no joint of it is driven"
        if look.tied_apart:
            return look.tied_apart
        if look.weak:
            return f"gravity overcomes {look.weak[0]}: it can be swung up"
        loose = [j for j in look.passive if j not in look.hanging]
        if loose:
            return f"{loose[0]} has no drive: balance or swing it up"
        region = region_of(look)
        if region is None:
            return "its drives hold hardly any pose clear of the ground"
        # of what varies each coordinate wants a width: a tip that moves on a surface reaches hardly any place that is drawn
        wide = [k for k in range(3) if region.high[k] > region.low[k]]
        thin = any(region.high[k] - region.low[k] < 0.03 * region.reach for k in wide)
        stays = thin or not wide or not region.varying()  # as the middle of a wheel does on its axle
        return "its tip moves on a line or surface: hold a pose instead" if stays else ""

    def questions(self, look: Look) -> tuple[Question, ...]:
        """Within what, held how long."""
        if look.travels:
            return vehicle_questions(look)
        region = region_of(look)
        reach = region.reach if region is not None else 1.0
        within = nice(0.03 * reach, (1.0, 2.0, 3.0, 5.0, 10.0))
        time = look.slowest(look.reaching) + 0.5 * look.sway
        return (
            Question("within", "within", within, "m", f"it reaches {reach:.3g} m", 1e-5, reach),
            Question("hold", "held for", nice(max(0.3, 0.5 * time), (1.0, 2.0, 3.0, 5.0, 10.0)), "s", "at rest, not in passing", 0.0, 60.0),
            *clock(look.quickest(look.reaching), limit_for(time, 5.0, 4.0), "five times a quick motion, at least 4 s"),
            load_question(look, look.limb[1]),
        )  # fmt: skip

    def write(self, look: Look, given: dict[str, float]) -> Draft:
        """Marks drawn in the region that is reached; the arm starts about its start."""
        if look.travels:
            return go_to(look, given)
        draft = Draft(look, "reach a place")
        joints, body = look.reaching, look.limb[1]
        region = region_of(look)
        assert region is not None, "asked before"
        tip = body if not look.tip.any() else draft.sensor("tip", {"kind": "pose", "body": body, "at": [said(v, "m") for v in look.tip]})  # fmt: skip
        for name, low, high in zip(region.names, region.low, region.high, strict=True):
            if high > low:
                unit = "rad" if name == "bearing" else "m"
                draft.setpoint(f"mark.{name}", unit, low, high)
                draft.lines.append(Line("Starts and variation", f"{name} of the mark", f"{shown(low, unit)} … {shown(high, unit)}, all of it reached"))  # fmt: skip
        axes = region.varying()
        formulas = region.formulas("mark")
        for k in axes:
            letter = "xyz"[k]
            place = formulas[k]
            if place == f"mark.{letter}":  # the set-point itself
                draft.signal(f"off.{letter}", f"{tip}.{letter} - {place}", "m")
            else:
                draft.signal(f"place.{letter}", place, "m")
                draft.signal(f"off.{letter}", f"{tip}.{letter} - place.{letter}", "m")
        draft.signal("away", "norm(" + ", ".join(f"off.{'xyz'[k]}" for k in axes) + ")", "m")
        for name, formula in seen_from(region, axes, joints[0]):
            draft.observe(
                f"mark {name}", formula, "m", nice(1.6 * region.reach), "where to go, as seen from the first joint"
            )
        draft.joints(joints)
        others = [j for j in look.driven if j not in joints and look.machine.joints[j].child not in look.fingers]
        limp = [j for j in others if j in look.efforts]
        draft.joints(limp, "its drive is not needed; it moves as it is moved")
        hang(draft)
        draft.actions(led=True, only=joints)
        draft.lags()
        within = given["within"]
        draft.reward("distance", f"-away / {region.reach:.4g}", 2.0, "a slope everywhere")
        draft.reward(
            "near_the_mark", f"near(away, {max(2.5 * within, 0.06 * region.reach):.3g})", 1.0, "worth the way in"
        )
        draft.reward("on_the_mark", f"near(away, {within:.3g})", 1.0, "worth the last part")
        for joint, (straight, side) in region.bent.items():
            over = f"{joint}.position - {straight:.4g}" if side < 0.0 else f"{straight:.4g} - {joint}.position"
            draft.reward(f"{joint}_bent", f"-clip({over}, 0, 1)", 1.0, "places are reached with it bent to either side; on this one it is clear of its stops")  # fmt: skip
        draft.clear_of_stops(joints)
        draft.costs(0.02)
        draft.measure("at the mark", f"away < {within:.4g}", given["hold"], "apart from the reward")
        draft.task["target"] = {"body": body} | {"xyz"[k]: formulas[k] for k in range(3)}
        for joint, (low, high) in homes_of(look, region, joints).items():
            draft.start(f"{joint}.position", look.machine.joints[joint].unit, low, high, "about where it works, clear of the ground")  # fmt: skip
        vary_mass(draft, body, given["variation"])
        draft.timing(given["rate"], given["limit"], substeps(look, given["rate"]), "")
        return draft


def hang(draft: Draft) -> None:
    """What hangs on the way to the tip, and how it swings; it begins swinging a little."""
    look = draft.look
    for joint in look.hanging:
        part = look.machine.joints[joint]
        if part.kind == "hinge":
            draft.joints([joint], "how it swings")
            start = float(look.model.start[look.index(joint)])
            draft.start(f"{joint}.position", "rad", start - SWINGS, start + SWINGS, "swings a little")
            continue
        body = part.child
        words = body.replace("_", " ")
        for angle, letter in (("roll", "x"), ("pitch", "y")):
            draft.observe(f"{words} {angle}", f"{body}.{angle}", "rad", 1.0, "how it hangs")
            draft.observe(f"{words} {angle} rate", f"{body}.own.rate.{letter}", "rad/s", 3.0, "how it swings")
            draft.start(f"{joint}.r{letter}.position", "rad", -SWINGS, SWINGS, "swings a little")


def seen_from(region: Region, axes: list[int], joint: str) -> list[tuple[str, str]]:
    """The way to the mark, in axes that turn with the first joint: so it looks the same wherever that stands; else in the world's."""

    def along(direction: Array) -> str:
        return summed([(-direction[k], f"off.{'xyz'[k]}") for k in axes])

    if not region.turned:
        return [("xyz"[k], f"-off.{'xyz'[k]}") for k in axes]
    right, ahead, up = (along(a) for a in region.axes)
    found = []
    if right and ahead:
        c, s = f"cos({joint}.position)", f"sin({joint}.position)"
        names = (
            ("ahead", "to the left") if region.axes[2, 2] > 0.9 else ("along the first link", "across the first link")
        )
        found = [(names[0], f"({right}) * {c} + ({ahead}) * {s}"), (names[1], f"({ahead}) * {c} - ({right}) * {s}")]
    return [*found, *([("along the axis", up)] if up else [])]


def homes_of(look: Look, region: Region, joints: list[str]) -> dict[str, tuple[float, float]]:
    """Where joints begin: where they are while the tip is in the region, less where that would stand in something."""

    def within(share: float) -> dict[str, tuple[float, float]]:
        found = {}
        for joint in joints:
            low, high = region.homes[joint]
            middle, half = 0.5 * (low + high), 0.5 * share * (high - low)
            if joint == joints[0] and region.turned:
                half = min(half, 1.5 * FREE)
            found[joint] = (middle - half, middle + half)
        return found

    def poses(share: float) -> tuple[Array, Array]:
        generator = np.random.default_rng(5)
        positions = look.sampled([], 1.0, 400)
        for joint, (low, high) in within(share).items():
            positions[:, look.index(joint)] = generator.uniform(low, high, 400)
        return look.kept(positions, joints)

    return within(freest(look, poses, (1.0, 0.7, 0.5, 0.3, 0.1)))


def clear_share(look: Look, joints: list[str]) -> float:
    """Share of the way to the stops within which nothing stands in the ground, in the site or in itself."""
    return freest(look, lambda share: look.drawn(joints, share, 400, FREE), (0.6, 0.45, 0.3, 0.2, 0.1))


def freest(look: Look, poses: Callable[[float], tuple[Array, Array]], shares: tuple[float, ...]) -> float:
    """The widest share whose poses are all free and close; where none is, as beside a post that stands in the way, the freest."""
    free = {}
    for share in shares:
        positions, kept = poses(share)
        free[share] = float(np.mean(look.free(positions) & kept))
        if free[share] > FREE_SHARE:
            return share
    return max(shares, key=lambda share: (round(free[share], 2), share))
