"""What a method found besides its policy, kept with the run at every evaluation, for the window and for notebooks.

A search keeps ``weights`` (N, count), their ``scores`` (N,) and the ``kept`` ones; a method with a model keeps ``truth`` (T, observations)
and what each member foresaw, ``one_step`` and ``open_loop`` (members, T, observations).
"""

from __future__ import annotations

import io
from pathlib import Path
from typing import Protocol, runtime_checkable

import numpy as np

from plucky_heron.errors import FileError
from plucky_heron.files import is_file, read_arrays, write_whole

Array = np.ndarray
NAME = "inside.npz"


@runtime_checkable
class WithInside(Protocol):
    """A method that has something to show."""

    def inside(self) -> dict[str, Array]:
        """Arrays as said above; none while there is nothing yet."""
        ...


def write_inside(folder: Path, method: object) -> None:
    """Write what the method has to show into the run's folder."""
    arrays = method.inside() if isinstance(method, WithInside) else {}
    if arrays:
        out = io.BytesIO()
        np.savez(out, **arrays)  # type: ignore[arg-type]
        write_whole(folder / NAME, out.getvalue())


def has_inside(folder: Path) -> bool:
    """Whether there is something to show."""
    return (folder / NAME).is_file()


def read_inside(folder: Path) -> dict[str, Array]:
    """Read it.

    Raises
    ------
    FileError
        Missing or damaged.
    """
    path = folder / NAME
    if not is_file(path):
        raise FileError(path, "", None, "this run has nothing to show")
    return read_arrays(path)
