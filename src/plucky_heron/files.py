"""Reading and writing files safely: inside one folder, whole or not at all, with errors that name the key."""

from __future__ import annotations

import copy
import errno
import os
import stat
import time
import tomllib
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from contextvars import ContextVar
from pathlib import Path
from typing import Any, ClassVar, TypeVar, get_args

from pydantic import BaseModel, ConfigDict, ValidationError, model_validator

from plucky_heron.errors import FileError, did_you_mean
from plucky_heron.faults import NoFlag, explain
from plucky_heron.upgrading import FORMAT, upgrade


class Settings(BaseModel):
    """Base of all file schemas: unknown keys are errors, values are immutable."""

    kind_of_file: ClassVar[str] = ""
    """Folder of the project in which files of this schema stand, if any: older ones are brought up to date as they are read."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False, populate_by_name=True)

    @model_validator(mode="before")
    @classmethod
    def _leave_alone(cls, data: Any) -> Any:
        """Keys that begin with ``x_`` belong to others: they are kept in the file and read by nobody here.

        And true is no number, though Python takes it for one.
        """
        if isinstance(data, dict):
            for key, value in data.items():
                if (
                    isinstance(value, bool)
                    and key in cls.model_fields
                    and not takes_bool(cls.model_fields[key].annotation)
                ):
                    raise NoFlag(key, value)
        if isinstance(data, dict) and any(str(key).startswith("x_") for key in data):
            return {key: value for key, value in data.items() if not str(key).startswith("x_")}
        return data


def takes_bool(annotation: Any) -> bool:
    """Whether a field may hold true or false."""
    if annotation is bool or annotation is Any:
        return True
    return any(takes_bool(part) for part in get_args(annotation)) or any(
        isinstance(part, bool) for part in get_args(annotation)
    )


Model = TypeVar("Model", bound=BaseModel)


def data_folder() -> Path:
    """Where the program keeps a user's own copies and what was trusted."""
    from platformdirs import user_data_path  # waits: --help should answer at once

    return user_data_path("plucky-heron", appauthor=False)


MOST_TEXT = 2_000_000
"""Bytes of a text file that describes something; what is larger was not written by a person."""
MOST_BYTES = 64_000_000
"""Bytes of a mesh or a drawing."""

_touched: ContextVar[set[Path] | None] = ContextVar("touched", default=None)


@contextmanager
def recording_files() -> Iterator[set[Path]]:
    """Every file that is read inside, by its resolved path: what a run depends on is copied from this list."""
    found: set[Path] = set()
    token = _touched.set(found)
    try:
        yield found
    finally:
        _touched.reset(token)


def touch(path: Path) -> None:
    """Say that the contents of `path` were used, also where they came from a cache."""
    found = _touched.get()
    if found is not None:
        found.add(path.resolve())


def check_path(path: Path, source: object = "") -> Path:
    """`path`, if the system can have a file of this name.

    Raises
    ------
    FileError
        A part of it is longer than names may be, or holds a zero byte.
    """
    text = str(path)
    if "\0" in text or any(len(part.encode("utf-8", "surrogatepass")) > 255 for part in path.parts) or len(text) > 4000:
        raise FileError(
            source or path.name[:40],
            "name",
            path.name,
            "no file can have this name; use a short one without control characters",
        )
    return path


def check_output(path: Path, source: object = "") -> None:
    """See that a file can be written there, before the work that it is for; folders that lead to it are made.

    Raises
    ------
    FileError
        It is a folder or no name at all, or nothing can be written there.
    """
    check_path(path, source)
    if path.is_dir():
        raise FileError(path, str(source), None, "is a folder; name a file")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        if not os.access(path.parent, os.W_OK):
            raise PermissionError(errno.EACCES, os.strerror(errno.EACCES))
    except OSError as error:
        raise FileError(path, "", None, f"cannot be written: {error.strerror or error}") from error


def is_file(path: Path) -> bool:
    """Whether `path` is a regular file; False also where its name is none."""
    try:
        return path.is_file()
    except (OSError, ValueError):
        return False


def is_folder(path: Path) -> bool:
    """Whether `path` is a folder; False also where its name is none."""
    try:
        return path.is_dir()
    except (OSError, ValueError):
        return False


def inside(folder: Path, relative: str | Path) -> Path:
    """`relative` as a path inside `folder`, with links followed.

    Raises
    ------
    FileError
        The path would leave the folder, or is none.
    """
    root = folder.resolve()
    check_path(root / relative, folder)
    try:
        path = (root / relative).resolve()
    except (OSError, RuntimeError) as error:  # a circle of links
        raise FileError(folder, str(relative), None, "cannot be followed: links lead in a circle") from error
    if path != root and root not in path.parents:
        raise FileError(folder, str(relative), None, "leads out of the project folder; use a path inside it")
    return path


def read_bytes(path: Path, most: int = MOST_BYTES) -> bytes:
    """The bytes of a regular file, read once; what is used is what was looked at.

    Raises
    ------
    FileError
        Missing, no regular file (a folder, a pipe, a device), larger than `most`, or not to be read.
    """
    check_path(path)
    try:
        # a pipe without a writer must not hold us up
        handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
        facts = os.fstat(handle)
        if not stat.S_ISREG(facts.st_mode):
            os.close(handle)
            raise FileError(path, "", None, "is no regular file")
        with open(handle, "rb") as file:
            if facts.st_size > most:
                raise FileError(path, "", None, f"is {facts.st_size / 1e6:.0f} MB; wanted at most {most / 1e6:g} MB")
            data = file.read(most)
    except FileNotFoundError as error:
        raise FileError(path, "", None, "no such file" + _near_file(path)) from error
    except OSError as error:
        raise FileError(path, "", None, f"cannot be read: {error.strerror}") from error
    touch(path)
    return data


def read_text(path: Path, most: int = MOST_TEXT) -> str:
    """The text of a UTF-8 file; raises as `read_bytes` does."""
    data = read_bytes(path, most)
    try:
        return data.decode()
    except UnicodeDecodeError as error:
        raise FileError(path, "", None, f"is not UTF-8 text (byte {error.start})") from error


def read_toml(path: Path) -> dict[str, Any]:
    """The tables of a TOML file, with errors as one line."""
    return parse_toml(read_text(path), path)


def parse_toml(text: str, source: Path | str) -> dict[str, Any]:
    """The tables of a TOML text; `source` is named where it is wrong."""
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise FileError(source, "", None, f"not valid TOML: {error}") from error
    except RecursionError as error:
        raise FileError(source, "", None, "lists or tables are nested too deep") from error
    except (ValueError, OverflowError) as error:  # whole numbers of thousands of digits, days that no calendar has
        raise FileError(source, "", None, f"not valid TOML: {error}") from error


def read_json(path: Path) -> Any:
    """What a JSON file holds; raises as `read_bytes` does, and where it is no JSON or holds a number that is none."""
    import json

    def refuse(name: str) -> Any:
        raise FileError(path, "", name, "is no number that JSON knows")

    try:
        return json.loads(read_text(path), parse_constant=refuse)
    except RecursionError as error:
        raise FileError(path, "", None, "lists or tables are nested too deep") from error
    except ValueError as error:
        raise FileError(path, "", None, f"not valid JSON: {error}") from error


def read_arrays(path: Path, most: int = 16_000_000_000) -> dict[str, Any]:
    """The arrays of an ``.npz`` file by name; `most` is what they may come to in memory, in bytes.

    Raises
    ------
    FileError
        Missing, damaged, too large, or holding anything but plain arrays.
    """
    import zipfile

    import numpy as np

    check_path(path)
    if not is_file(path):
        raise FileError(path, "", None, "no such file")
    try:
        with zipfile.ZipFile(path) as packed:
            size = sum(entry.file_size for entry in packed.infolist())
        if size > most:
            raise FileError(path, "", None, f"would take {size / 1e6:.0f} MB; wanted at most {most / 1e6:.0f} MB")
        with np.load(path, allow_pickle=False) as kept:
            return {str(name): kept[name] for name in kept.files}
    except FileError:
        raise
    except Exception as error:  # whatever a damaged archive makes of its reader: bad headers, lengths, checksums
        raise FileError(path, "", None, f"damaged: {type(error).__name__}: {error}") from error


def _near_file(path: Path) -> str:
    try:
        names = [p.name for p in path.parent.iterdir()]
    except OSError:
        return ""
    return f"; {did_you_mean(path.name, names)}" if names else ""


def validate(model: type[Model], data: dict[str, Any], source: Path | str) -> Model:
    """`data` as a `model`; the first fault becomes one line with file, key, value and what would be right."""
    if data.get("format", 1) != FORMAT:
        data = copy.deepcopy(data)
        upgrade(data, model.kind_of_file if issubclass(model, Settings) else "")
    version = data.get("format", FORMAT)
    if version != FORMAT or isinstance(version, bool):
        raise FileError(source, "format", version, f"this program reads format {FORMAT}")
    try:
        return model.model_validate(data)
    except ValidationError as error:
        raise explain(error, model, source) from error
    except (RecursionError, OverflowError) as error:
        raise FileError(source, "", None, "holds a number too large, or lists nested too deep") from error


def load(model: type[Model], path: Path) -> Model:
    """Read and check the file `path`."""
    return validate(model, read_toml(path), path)


LEFT_BEHIND = 60.0
"""Seconds after which what was begun by a process that is gone is not written any more."""


def write_whole(path: Path, data: bytes | str) -> None:
    """Write a file so that a crash leaves either the old one or the new one, never a part.

    Raises
    ------
    FileError
        The disk is full, or the folder may not be written; nothing is left behind then.
    """
    part = path.with_name(f".{path.name}.{os.getpid()}.part")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        try:
            with part.open("wb") as file:
                file.write(data.encode() if isinstance(data, str) else data)
                file.flush()
                os.fsync(file.fileno())
            part.replace(path)
        except BaseException:
            part.unlink(missing_ok=True)
            raise
    except OSError as error:
        raise FileError(path, "", None, f"cannot be written: {error.strerror or error}") from error
    with suppress(OSError):  # what others left is no reason to fail
        for old in path.parent.glob(".*.part"):
            if _left_behind(old, path):
                old.unlink(missing_ok=True)


def _left_behind(part: Path, path: Path) -> bool:
    """Whether this is a part of `path` that a process of this computer began and was killed over."""
    number = part.name.removeprefix(f".{path.name}.").removesuffix(".part")
    if not number.isdecimal() or not number.isascii():
        return False
    import psutil

    # on a shared disk the process may be another computer's
    return time.time() - part.stat().st_mtime > LEFT_BEHIND and not psutil.pid_exists(int(number[:10]))
