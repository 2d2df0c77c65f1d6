"""Reads files made wrong, thousands of them: every fault must be one line of ours within two seconds.

``python tools/fuzz_files.py [--count N] [--seed S] [--only NAME] [--smoke]``; exit status 1 if anything got through.
A case is named by its number and made again by ``--case``.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import resource
import signal
import subprocess
import sys
import tempfile
import time
import traceback
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(ROOT / "src"), str(ROOT)]

LIMIT = 2.0
"""Seconds a fault may take to be said."""
LONGEST = 300
"""Characters of a line."""


class TooSlowError(BaseException):
    """Not an error that anything may swallow."""


def fault_of(read: object, path: Path) -> tuple[str, str]:
    """What came of reading: kind ("read", "refused", "traceback", "slow", "long") and a key that groups the like."""
    from plucky_heron.errors import HeronError

    def ring(*_: object) -> None:
        raise TooSlowError

    signal.signal(signal.SIGALRM, ring)
    signal.setitimer(signal.ITIMER_REAL, LIMIT)
    began = time.perf_counter()
    try:
        read(path)  # type: ignore[operator]
        kind, key = "read", ""
    except HeronError as error:
        text = str(error)
        kind, key = "refused", type(error).__name__
        if len(text.replace(str(path.parents[1]), "")) > LONGEST or "\n" in text:
            kind, key = "long", f"{len(text)} characters: {text[:160]!r}"
    except (TooSlowError, KeyboardInterrupt):
        kind, key = "slow", _place(sys.exc_info()[2])
    except BaseException as error:
        kind, key = "traceback", f"{type(error).__name__}: {str(error)[:80]} at {_place(error.__traceback__)}"
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0.0)
    if kind in ("read", "refused") and time.perf_counter() - began > LIMIT:
        kind, key = "slow", f"{time.perf_counter() - began:.1f} s"
    return kind, key


def _place(trace: object) -> str:
    frames = traceback.extract_tb(trace)  # type: ignore[arg-type]
    ours = [f for f in frames if "plucky_heron" in f.filename]
    return " < ".join(f"{Path(f.filename).name}:{f.lineno}" for f in reversed(ours[-3:]))


def work(folder: Path, numbers: list[int], seed: int, only: str, keep: bool) -> None:
    """One process: its cases, a line of JSON each fault."""
    import warnings

    from tests.hostile.corpus import kept_specimens, specimens
    from tests.hostile.mutations import mutations_of

    warnings.simplefilter("ignore")
    resource.setrlimit(resource.RLIMIT_AS, (6 << 30, 6 << 30))
    os.environ["XDG_DATA_HOME"] = str(folder.parent / "data")
    found = [s for s in [*specimens(folder), *kept_specimens(folder)] if only in s.name]
    ways = {s.name: mutations_of(s.file.read_bytes(), s.kind) for s in found}
    for s in found:
        s.read(s.file)  # what is good is read; and everything heavy is imported
    tally: Counter[str] = Counter()
    for number in numbers:
        random_ = random.Random(f"{seed}-{number}")
        specimen = found[number % len(found)]
        good = specimen.file.read_bytes()
        made = ways[specimen.name](random_)
        specimen.file.write_bytes(made)
        for beside in specimen.file.parent.glob(f"{specimen.file.name}-*"):  # a store's log of an earlier case
            beside.unlink()
        print(json.dumps({"at": number}), flush=True)
        kind, key = fault_of(specimen.read, specimen.file)
        tally[kind] += 1
        if kind not in ("read", "refused"):
            print(json.dumps({"case": number, "specimen": specimen.name, "kind": kind, "key": key}), flush=True)
        if keep:
            print(json.dumps({"case": number, "kind": kind, "text": key, "file": made[:3000].decode(errors="replace")}))
        specimen.file.write_bytes(good)
    print(json.dumps({"tally": tally}), flush=True)


def heard(process: subprocess.Popen[str]) -> tuple[int, list[dict[str, Any]]]:
    """The last case that a process began, and everything else that it said."""
    at, lines = -1, []
    for line in process.stdout or ():
        said = json.loads(line)
        if "at" in said:
            at = said["at"]
            if at % 500 == 0:
                print(f"case {at}", file=sys.stderr, flush=True)
        else:
            lines.append(said)
    return at, lines


def main() -> int:
    """Share the cases out to two processes, watch them, and report."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=20_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", default="")
    parser.add_argument("--case", type=int)
    parser.add_argument("--smoke", action="store_true", help="a second or two of it")
    parser.add_argument("--worker", nargs=3, help=argparse.SUPPRESS)
    given = parser.parse_args()
    if given.worker:
        folder, begin, end = given.worker
        numbers = [given.case] if given.case is not None else list(range(int(begin), int(end)))
        work(Path(folder), numbers, given.seed, given.only, given.case is not None)
        return 0
    count = 60 if given.smoke else given.count
    began = time.perf_counter()
    faults: Counter[tuple[str, str]] = Counter()
    first: dict[tuple[str, str], tuple[int, str]] = {}
    tally: Counter[str] = Counter()
    with tempfile.TemporaryDirectory(prefix="heron-fuzz-") as place:
        pieces = [(k * count // 2, (k + 1) * count // 2) for k in range(2)] if given.case is None else [(0, 1)]
        processes = [
            subprocess.Popen(
                [sys.executable, __file__, "--seed", str(given.seed), "--only", given.only]
                + (["--case", str(given.case)] if given.case is not None else [])
                + ["--worker", f"{place}/{k}/quillmere", str(a), str(b)],
                stdout=subprocess.PIPE, text=True,
            )
            for k, (a, b) in enumerate(pieces)
        ]  # fmt: skip
        # both at once: a pipe that nobody reads would hold its process up
        with ThreadPoolExecutor(len(processes)) as readers:
            for process, (at, lines) in zip(processes, readers.map(heard, processes), strict=True):
                for said in lines:
                    if "tally" in said:
                        tally.update(said["tally"])
                    elif "file" in said:
                        print(said["file"], "\n", said["kind"], said["text"])
                    else:
                        key = (said["kind"], said["key"])
                        faults[key] += 1
                        first.setdefault(key, (said["case"], said["specimen"]))
                if process.wait() != 0:
                    faults[("died", f"exit status {process.returncode} at case {at}")] += 1
    for (kind, text), times in faults.most_common():
        case, specimen = first.get((kind, text), (-1, ""))
        print(f"{times:>6}  {kind:<10} {specimen:<20} case {case:<6} {text}")
    print(
        f"{sum(tally.values())} files in {time.perf_counter() - began:.0f} s: "
        + ", ".join(f"{n} {k}" for k, n in tally.most_common())
    )
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main())
