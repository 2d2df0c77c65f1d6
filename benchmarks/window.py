"""The window: seconds from starting the process to the first painted picture, on a copy of the demo project.

Run: ./heron --help >/dev/null && .venv/bin/python benchmarks/window.py
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from plucky_heron.project import demo_source

CHILD = """
import sys, time
from pathlib import Path
from plucky_heron.desktop.application import make_application
app = make_application()
from plucky_heron.desktop.window import Window
window = Window(Path(sys.argv[1]))
window.show()
while not window.windowHandle().isExposed():
    app.processEvents()
window.repaint()
print(time.time() - float(sys.argv[2]))
"""


def main() -> None:
    """Five starts."""
    environment = {"QT_QPA_PLATFORM": "offscreen", **os.environ}
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place) / "quillmere"
        shutil.copytree(demo_source(), folder, ignore=shutil.ignore_patterns("runs", "packs"))
        seconds = []
        for _ in range(5):
            command = [sys.executable, "-c", CHILD, str(folder), str(time.time())]
            done = subprocess.run(command, capture_output=True, text=True, check=True, env=environment)
            seconds.append(float(done.stdout))
    text = ", ".join(f"{s:.2f}" for s in seconds)
    print(f"start to first picture: median {sorted(seconds)[2]:.2f} s of {text}   (wanted: under 3)")


if __name__ == "__main__":
    main()
