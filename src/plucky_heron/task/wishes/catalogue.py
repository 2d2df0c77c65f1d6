"""All wishes, in the order in which they are offered."""

from __future__ import annotations

from collections.abc import Mapping

from plucky_heron.errors import FileError, did_you_mean
from plucky_heron.task.wishes.course import GoAlong
from plucky_heron.task.wishes.dock import Dock
from plucky_heron.task.wishes.draft import Draft, answered
from plucky_heron.task.wishes.hover import Hover
from plucky_heron.task.wishes.look import Look
from plucky_heron.task.wishes.pose import HoldPose
from plucky_heron.task.wishes.reach import Reach
from plucky_heron.task.wishes.setpoint import FollowSetpoint
from plucky_heron.task.wishes.upright import Balance, SwingUp
from plucky_heron.task.wishes.walk import Walk
from plucky_heron.task.wishes.wish import Wish

WISHES: tuple[Wish, ...] = (
    Reach(), HoldPose(), FollowSetpoint(), SwingUp(), Balance(), GoAlong(), Walk(), Hover(), Dock(),
)  # fmt: skip


def wish_named(name: str) -> Wish:
    """A wish by its name; small letters, spaces and _ are the same.

    Raises
    ------
    FileError
        No such wish.
    """
    asked = name.strip().lower().replace("_", " ").replace("-", " ")
    for wish in WISHES:
        if wish.name.replace("-", " ") == asked:
            return wish
    raise FileError("--wish", "", name, f"no such wish; {did_you_mean(name, [w.name for w in WISHES])}")


def draft_of(wish: Wish, look: Look, answers: Mapping[str, str | float]) -> Draft:
    """What a wish writes for a machine.

    Raises
    ------
    FileError
        It does not fit the machine, or an answer is wrong.
    """
    why = wish.unfit(look)
    if why:
        fitting = [w.name for w in WISHES if not w.unfit(look)]
        raise FileError(
            "wish", wish.name, None, f"does not fit this machine: {why}; what fits: {', '.join(fitting) or 'none'}"
        )
    return wish.write(look, answered(wish.questions(look), answers))
