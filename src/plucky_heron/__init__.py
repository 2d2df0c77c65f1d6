"""Plucky Heron: from a machine and a task to a proved controller.

``import plucky_heron as ph; project = ph.open("demo/quillmere"); run = project.train("lift", recipe="ppo", seed=3)``
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

if TYPE_CHECKING:
    from plucky_heron.project import create as new
    from plucky_heron.project import open_project as open

__all__ = ["__version__", "new", "open"]


def __dir__() -> list[str]:
    return list(__all__)


def __getattr__(name: str) -> Any:
    # heavy imports wait until they are asked for
    if name in ("open", "new"):
        from plucky_heron import project

        return project.open_project if name == "open" else project.create
    raise AttributeError(f"module 'plucky_heron' has no attribute {name!r}")
