"""Plucky Heron: from a machine and a task to a proved controller.

``import plucky_heron as ph; project = ph.open("demo/quillmere"); run = project.train("lift", recipe="ppo", seed=3)``
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

if TYPE_CHECKING:
    from plucky_heron.project import open_project as open

__all__ = ["__version__", "open"]


def __getattr__(name: str) -> Any:
    # heavy imports wait until they are asked for
    if name == "open":
        from plucky_heron.project import open_project

        return open_project
    raise AttributeError(f"module 'plucky_heron' has no attribute {name!r}")
