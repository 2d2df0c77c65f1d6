"""Python of the project's own, for what formulas cannot say: run only once the engineer has trusted it on this machine.

A task names a file inside the project and the signals it computes. Nothing of it is looked at but its bytes until those bytes
were trusted; a changed file must be trusted again.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from importlib.abc import InspectLoader
from importlib.util import decode_source, module_from_spec, spec_from_loader
from pathlib import Path
from types import CodeType, ModuleType
from typing import Any

import numpy as np

from plucky_heron.errors import FileError, StateError
from plucky_heron.files import MOST_TEXT, Settings, inside, is_file, read_bytes
from plucky_heron.task.observing import Unit
from plucky_heron.trust import UntrustedError, digest_of, trusted

Array = np.ndarray


class OwnCode(Settings):
    """What a task says of its own code: a file, and the signals it computes with their units.

    The signal `own.slip` comes from a function `slip(signals)`: it is given all signals by name as read-only arrays
    (copies,), and gives an array of that shape.
    """

    file: str
    signals: dict[str, Unit]


@dataclass(frozen=True)
class OwnFunctions:
    """Trusted functions of a file."""

    file: str
    digest: str
    functions: dict[str, Callable[[Mapping[str, Array]], Any]]

    def compute(self, signals: Mapping[str, Array], out: Mapping[str, Array]) -> None:
        """Run all functions, into `out` (name to (copies,)).

        Raises
        ------
        StateError
            With file and function, where one fails or gives another shape.
        """
        for name, function in self.functions.items():
            try:
                out[name][:] = function(signals)
            except Exception as error:  # whatever someone's own code raises
                raise StateError(f"{self.file}: {name}: {type(error).__name__}: {error}") from error


def load_code(folder: Path, code: OwnCode, source: Path | str) -> OwnFunctions:
    """The functions of a task's file, run once to define them.

    Raises
    ------
    UntrustedError
        The file was not trusted as it is.
    FileError
        It does not exist, does not run, or lacks a function.
    """
    path, digest, module = load_module(folder, code.file, source, "code.file")
    functions = {}
    for name in code.signals:
        function = getattr(module, name, None)
        if not callable(function):
            raise FileError(path, f"code.signals.{name}", None, "the file has no function of this name")
        functions[name] = function
    return OwnFunctions(code.file, digest, functions)


def load_module(folder: Path, file: str, source: Path | str, key: str) -> tuple[Path, str, ModuleType]:
    """A trusted Python file of the project, run once: its path, hash and what it defines.

    Raises
    ------
    UntrustedError
        The file was not trusted as it is.
    FileError
        It does not exist or does not run; `source` and `key` say where it was named.
    """
    path = inside(folder, file)
    if path.suffix != ".py" or not is_file(path):
        raise FileError(source, key, file, "no such Python file in the project")
    data = read_bytes(path, MOST_TEXT)
    digest = digest_of(data)
    if digest not in trusted():
        raise UntrustedError(path, digest, data.decode(errors="replace"))
    name = f"plucky_heron_own_{digest[:12]}"
    spec = spec_from_loader(name, _FromBytes(data, path), origin=str(path))
    assert spec is not None and spec.loader is not None
    module = module_from_spec(spec)
    module.__file__ = str(path)
    try:
        spec.loader.exec_module(module)
    except (Exception, SystemExit) as error:  # whatever someone's own code raises
        raise FileError(path, "", None, f"does not run: {type(error).__name__}: {error}") from error
    return path, digest, module


class _FromBytes(InspectLoader):
    """Runs the very bytes that were hashed: no file is opened again, and no compiled copy beside it is looked for."""

    def __init__(self, data: bytes, path: Path) -> None:
        self.data, self.path = data, path

    def get_source(self, fullname: str) -> str:
        return decode_source(self.data)

    def get_code(self, fullname: str) -> CodeType:
        return self.source_to_code(self.data, str(self.path))
