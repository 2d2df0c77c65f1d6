"""Python of the project's own, for what formulas cannot say: run only once the engineer has trusted it on this machine.

A task names a file inside the project and the signals it computes. Nothing of it is looked at but its bytes until those bytes
were trusted; a changed file must be trusted again.
"""

from __future__ import annotations

import hashlib
import importlib.util
import json
import os
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from types import ModuleType
from typing import Any

import numpy as np

from plucky_heron.errors import FileError, StateError
from plucky_heron.files import Settings, inside, write_whole
from plucky_heron.task.observing import Unit

Array = np.ndarray


class OwnCode(Settings):
    """What a task says of its own code: a file, and the signals it computes with their units.

    The signal `own.slip` comes from a function `slip(signals)`: it is given all signals by name as read-only arrays
    (copies,), and gives an array of that shape.
    """

    file: str
    signals: dict[str, Unit]


class UntrustedError(FileError):
    """The project brings Python that nobody on this machine has trusted yet."""

    def __init__(self, path: Path, digest: str) -> None:
        super().__init__(
            path,
            "",
            None,
            "is Python that was not trusted on this machine yet; read it, then: heron trust " + str(path),
        )
        self.path, self.digest = path, digest


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


def trust_file() -> Path:
    """Where this machine keeps what was trusted."""
    home = os.environ.get("XDG_DATA_HOME") or str(Path.home() / ".local" / "share")
    return Path(home) / "plucky-heron" / "trusted.json"


def digest_of(path: Path) -> str:
    """Hash of a file's bytes.

    Raises
    ------
    FileError
        It cannot be read.
    """
    try:
        return hashlib.sha256(path.read_bytes()).hexdigest()
    except OSError as error:
        raise FileError(path, "", None, f"cannot be read: {error.strerror}") from error


def trusted() -> dict[str, str]:
    """Hashes that were trusted, with the file they were trusted as."""
    try:
        kept = json.loads(trust_file().read_text())
        return {str(k): str(v) for k, v in kept.items()} if isinstance(kept, dict) else {}
    except (OSError, ValueError):
        return {}


def trust(path: Path) -> str:
    """Trust a file as it is now; returns its hash."""
    digest = digest_of(path)
    write_whole(trust_file(), json.dumps(trusted() | {digest: str(path)}, indent=1) + "\n")
    return digest


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
    if path.suffix != ".py" or not path.is_file():
        raise FileError(source, key, file, "no such Python file in the project")
    digest = digest_of(path)
    if digest not in trusted():
        raise UntrustedError(path, digest)
    spec = importlib.util.spec_from_file_location(f"plucky_heron_own_{digest[:12]}", path)
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    try:
        spec.loader.exec_module(module)
    except Exception as error:  # whatever someone's own code raises
        raise FileError(path, "", None, f"does not run: {type(error).__name__}: {error}") from error
    return path, digest, module
