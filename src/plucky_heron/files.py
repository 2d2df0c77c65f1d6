"""Reading and writing files safely: inside one folder, whole or not at all, with errors that name the key."""

from __future__ import annotations

import difflib
import os
import tomllib
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel, ConfigDict, ValidationError, model_validator

from plucky_heron.errors import FileError

FORMAT = 1
"""Version of the project's text files; a file that names a newer one is refused, not guessed at."""


class Settings(BaseModel):
    """Base of all file schemas: unknown keys are errors, values are immutable."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False, populate_by_name=True)

    @model_validator(mode="before")
    @classmethod
    def _leave_alone(cls, data: Any) -> Any:
        """Keys that begin with ``x_`` belong to others: they are kept in the file and read by nobody here."""
        if isinstance(data, dict) and any(str(key).startswith("x_") for key in data):
            return {key: value for key, value in data.items() if not str(key).startswith("x_")}
        return data


Model = TypeVar("Model", bound=BaseModel)


def inside(folder: Path, relative: str | Path) -> Path:
    """`relative` as a path inside `folder`, with links followed.

    Raises
    ------
    FileError
        The path would leave the folder.
    """
    root = folder.resolve()
    path = (root / relative).resolve()
    if path != root and root not in path.parents:
        raise FileError(folder, str(relative), None, "leads out of the project folder; use a path inside it")
    return path


def read_toml(path: Path) -> dict[str, Any]:
    """The tables of a TOML file, with errors as one line."""
    try:
        with path.open("rb") as file:
            return tomllib.load(file)
    except FileNotFoundError as error:
        raise FileError(path, "", None, "no such file" + _near_file(path)) from error
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise FileError(path, "", None, f"not valid TOML: {error}") from error
    except OSError as error:
        raise FileError(path, "", None, f"cannot be read: {error.strerror}") from error


def _near_file(path: Path) -> str:
    if not path.parent.is_dir():
        return ""
    near = difflib.get_close_matches(path.name, [p.name for p in path.parent.iterdir()], n=3, cutoff=0.5)
    return f"; near it: {', '.join(near)}" if near else ""


def validate(model: type[Model], data: dict[str, Any], source: Path | str) -> Model:
    """`data` as a `model`; the first fault becomes one line with file, key, value and what would be right."""
    version = data.get("format", FORMAT)
    if version != FORMAT:
        raise FileError(source, "format", version, f"this program reads format {FORMAT}")
    try:
        return model.model_validate(data)
    except ValidationError as error:
        raise explain(error, model, source) from error


def load(model: type[Model], path: Path) -> Model:
    """Read and check the file `path`."""
    return validate(model, read_toml(path), path)


def explain(error: ValidationError, model: type[BaseModel], source: Path | str) -> FileError:
    """The first fault of a validation as one line."""
    # a key that nobody knows usually explains why another one is missing
    fault = min(error.errors(), key=lambda e: e["type"] != "extra_forbidden")
    where = [str(part) for part in fault["loc"] if not str(part).startswith(("function-", "tagged-union"))]
    key = ".".join(where)
    kind, wanted = fault["type"], fault["msg"].removeprefix("Value error, ")
    value: object = fault.get("input")
    if kind == "missing":
        value, wanted = None, "is missing"
    elif kind == "extra_forbidden":
        known = _known_keys(model, list(fault["loc"][:-1]))
        near = difflib.get_close_matches(where[-1], known, n=3, cutoff=0.5)
        value = None
        wanted = "unknown key; " + (f"did you mean {' or '.join(near)}?" if near else f"known are {', '.join(known)}")
    elif isinstance(value, dict | list):
        value = None
    return FileError(source, key, value, wanted)


def _known_keys(model: type[BaseModel], location: list[int | str]) -> list[str]:
    current: Any = model
    for part in location:
        field = getattr(current, "model_fields", {}).get(part)
        if field is None:
            continue
        candidates = [field.annotation, *getattr(field.annotation, "__args__", ())]
        models = [c for c in candidates if isinstance(c, type) and issubclass(c, BaseModel)]
        if models:
            current = models[0]
    return sorted(current.model_fields)


def write_whole(path: Path, data: bytes | str) -> None:
    """Write a file so that a crash leaves either the old one or the new one, never a part."""
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_name(f".{path.name}.{os.getpid()}.part")
    with part.open("wb") as file:
        file.write(data.encode() if isinstance(data, str) else data)
        file.flush()
        os.fsync(file.fileno())
    part.replace(path)
