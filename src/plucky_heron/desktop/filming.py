"""The process that films: ``python -m plucky_heron.desktop.filming PROJECT RUN WHICH FILE [STARTS [SPEED]]``, behind all other work, without a display.

It writes the share that is done, a line each, then ``written`` and the pictures; what is wrong goes to standard error.
"""

from __future__ import annotations

import os
import sys
from pathlib import Path

from plucky_heron.errors import HeronError, one_line

LOWEST = 19


def film_kept(project: Path, run: int, which: str, path: Path, starts: int, speed: float) -> int:
    """Film a kept policy of a run on its first evaluation start, with further starts as ghosts; returns the pictures."""
    from plucky_heron.desktop.application import make_application

    make_application()
    from plucky_heron.desktop.picture.film import film
    from plucky_heron.runs.looking import kept_episodes
    from plucky_heron.runs.store import RunStore

    store = RunStore(project)
    try:
        row = store.run(run)
    finally:
        store.close()
    problem, (shown, *ghosts) = kept_episodes(project, row, which, starts)
    at = f"at {which} steps" if which.isdigit() else which
    caption = f"{row.task} · run {run}, seed {row.seed}, policy {at}" + (f" · {starts} starts" if starts > 1 else "")

    def tell(share: float) -> bool:
        print(f"{share:.4f}", flush=True)
        return True

    return film(problem, shown, path, ghosts=tuple(ghosts), caption=caption, speed=speed, tell=tell)


def main(arguments: list[str]) -> int:
    """Entry point."""
    os.nice(LOWEST)
    project, run, which, path = arguments[:4]
    starts, speed = (arguments[4:] + ["1", "1.0"][len(arguments) - 4 :])[:2]
    try:
        pictures = film_kept(Path(project), int(run), which, Path(path), int(starts), float(speed))
    except HeronError as error:
        print(f"filming: {one_line(str(error), 400)}", file=sys.stderr)
        return 2
    print(f"written {pictures}")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
