"""Set-up on a fresh machine, with the standard library only: system packages, virtual environment, kernels.

Every step may be interrupted and is done again by the next start; the stamp is written last.
"""

from __future__ import annotations

import ctypes
import fcntl
import os
import shutil
import subprocess
import sys
import tempfile
import venv
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
VENV = ROOT / ".venv"


def say(text: str) -> None:
    """One line of progress."""
    print(f"heron set-up: {text}", file=sys.stderr, flush=True)


def missing_packages(rigs: bool = False) -> list[str]:
    """Debian packages whose file or library this system does not offer; those that some rigs need, or those that all needs."""
    missing = []
    for line in (ROOT / "debian-packages.txt").read_text().splitlines():
        what, _, package = line.partition(":")
        of_a_rig, what = what.startswith("rig "), what.removeprefix("rig ").strip()
        if what and not what.startswith("#") and of_a_rig == rigs and not _offered(what):
            missing.append(package.strip())
    return missing


OF_RIGS = {
    "aarch64-headers": "/usr/aarch64-linux-gnu/include/stdio.h", "armhf-headers": "/usr/arm-linux-gnueabihf/include/stdio.h",
    "arm-none-eabi-newlib": "/usr/lib/arm-none-eabi/newlib/nosys.specs",
}  # fmt: skip
"""Files by which packages are known that bring no program."""


def _offered(what: str) -> bool:
    if what == "python-venv":
        try:
            import ensurepip  # noqa: F401
        except ImportError:
            return False
        return True
    if what == "gcc":
        return bool(shutil.which("gcc") or shutil.which("cc"))
    if what == "libc-headers":
        return _compiles()
    if what in OF_RIGS:
        return Path(OF_RIGS[what]).exists()
    if what.startswith(("qemu-", "arm-", "aarch64-", "mosquitto")):
        return shutil.which(what, path=f"{os.environ.get('PATH', '')}:/usr/sbin") is not None
    try:
        ctypes.CDLL(what)
    except OSError:
        return False
    return True


def _compiles() -> bool:
    compiler = shutil.which("gcc") or shutil.which("cc")
    if compiler is None:
        return False
    with tempfile.TemporaryDirectory() as folder:
        source = Path(folder) / "try.c"
        source.write_text("#include <math.h>\n#include <stdio.h>\nint main(void) { return 0; }\n")
        done = subprocess.run(
            [compiler, "-o", str(Path(folder) / "try"), str(source)], capture_output=True, check=False
        )
    return done.returncode == 0


def system_packages() -> None:
    """Install what is missing as root; otherwise name the one command that does."""
    missing = missing_packages()
    if not missing:
        return
    command = ["apt-get", "install", "--yes", "--no-install-recommends", *missing]
    if os.geteuid() != 0 or shutil.which("apt-get") is None:
        print(
            f"heron: this system lacks some packages; run once:\n  sudo apt-get update && sudo {' '.join(command)}",
            file=sys.stderr,
        )
        raise SystemExit(2)
    say(f"installing {', '.join(missing)}")
    quiet = {**os.environ, "DEBIAN_FRONTEND": "noninteractive"}
    for step in (["apt-get", "update", "--quiet"], command):
        done = subprocess.run(
            step, env=quiet, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True, check=False
        )
        if done.returncode != 0 and step is command:
            tail = done.stderr.strip().splitlines()[-1:]
            print(f"heron: could not install the system packages: {' '.join(tail)}", file=sys.stderr)
            raise SystemExit(2)


def rig_packages() -> None:
    """What the tests of some rigs need: installed where that can be done, else said; those tests are left out then."""
    missing = missing_packages(rigs=True)
    if not missing:
        return
    command = ["apt-get", "install", "--yes", "--no-install-recommends", *missing]
    if os.geteuid() != 0 or shutil.which("apt-get") is None:
        say(f"tests of some rigs are left out; with them: sudo {' '.join(command)}")
        return
    say(f"installing {', '.join(missing)} for the tests of rigs")
    quiet = {**os.environ, "DEBIAN_FRONTEND": "noninteractive"}
    for step in (["apt-get", "update", "--quiet"], command):
        done = subprocess.run(step, env=quiet, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)
    if done.returncode != 0:
        say("they could not be installed: tests of some rigs are left out")


def virtual_environment(locks: list[str]) -> None:
    """`.venv` with exactly the versions of these lock files."""
    python = VENV / "bin" / "python"
    works = (
        python.exists()
        and subprocess.run(
            [str(python), "-P", "-m", "pip", "--version"], cwd=ROOT, capture_output=True, check=False
        ).returncode
        == 0
    )
    if not works:
        say("making .venv")
        venv.EnvBuilder(clear=True, with_pip=True).create(VENV)
    say("installing the locked packages (some hundred megabytes the first time)")
    command = [
        str(python),
        "-P",
        "-m",
        "pip",
        "install",
        "--quiet",
        "--disable-pip-version-check",
        *(part for lock in locks for part in ("-r", str(ROOT / lock))),
    ]
    done = subprocess.run(command, cwd=ROOT, check=False)
    if done.returncode != 0:
        print(
            "heron: the packages could not be installed; is the package index reachable? The next start tries again.",
            file=sys.stderr,
        )
        raise SystemExit(2)
    purelib = subprocess.run(
        [str(python), "-I", "-c", "import sysconfig; print(sysconfig.get_path('purelib'))"],
        capture_output=True,
        text=True,
        check=True,
    ).stdout.strip()
    (Path(purelib) / "plucky-heron.pth").write_text(f"{ROOT / 'src'}\n")


def kernels() -> None:
    """Compile the kernels into their cache, with a progress bar; what is made from unchanged files is not compiled again."""
    done = subprocess.run([str(VENV / "bin" / "python"), "-P", str(ROOT / "tools" / "warm_kernels.py")], check=False)
    if done.returncode != 0:
        print("heron: the kernels did not compile; the next start tries again", file=sys.stderr)
        raise SystemExit(2)


def main() -> None:
    """All steps, then the stamp; a second start meanwhile waits for the first. Testing needs more than running does."""
    if sys.argv[1:] == ["--smoke"]:
        print(f"lacking: {', '.join(missing_packages()) or 'none'}")
        return
    what, want = sys.argv[1], sys.argv[2]
    locks = ["requirements.lock"] + (["requirements-test.lock"] if what == "test" else [])
    stamp = VENV / f"heron-ready-to-{what}"
    with (ROOT / ".set-up.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if stamp.exists() and stamp.read_text() == want and (VENV / "bin" / "python").exists():
            return
        system_packages()
        if what == "test":
            rig_packages()
        virtual_environment(locks)
        kernels()
        stamp.write_text(want)
        say("done")


if __name__ == "__main__":
    main()
