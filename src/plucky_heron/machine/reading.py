"""Reading a machine, whatever it is written in."""

from __future__ import annotations

from pathlib import Path

from plucky_heron.errors import FileError
from plucky_heron.files import load
from plucky_heron.machine.meshes import with_meshes
from plucky_heron.machine.schema import Machine
from plucky_heron.machine.urdf import read_urdf


def read_machine(path: Path) -> Machine:
    """A machine file, ours (.toml) or a URDF (.urdf, .xml)."""
    if path.suffix.lower() in (".urdf", ".xml"):
        return read_urdf(path).machine
    if path.suffix.lower() != ".toml":
        raise FileError(path, "", None, "is neither a machine file (.toml) nor a URDF (.urdf)")
    machine = with_meshes(load(Machine, path), path)
    return machine if machine.name else machine.model_copy(update={"name": path.stem})
