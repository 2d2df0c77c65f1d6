"""Reading a pack: its description checked, every file that is used hashed, and nothing of a stranger's run unasked."""

from __future__ import annotations

import tempfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from plucky_heron.errors import FileError
from plucky_heron.faults import explain
from plucky_heron.files import check_path, inside, is_file, read_bytes, read_json, write_whole
from plucky_heron.handover.description import PACK_FORMAT, PackDescription, pack_hash
from plucky_heron.handover.signing import signer_of
from plucky_heron.task.problem import Problem, read_problem
from plucky_heron.trust import UntrustedError, digest_of, trust_digest, trusted

NEEDED = ("policy.onnx", "policy.h", "policy.c")
"""Files without which a pack cannot be rolled out."""


@dataclass(frozen=True)
class Pack:
    """A pack whose files are what they were when it was written; `files` are the bytes that were hashed."""

    folder: Path
    facts: dict[str, Any]
    files: dict[str, bytes]
    signer: str = ""
    """The public key that signed it, in hexadecimal digits; "" where it is not signed."""

    @property
    def digest(self) -> str:
        """What tells it from any other: the hash of its description, which names the hash of every file."""
        return str(self.facts["hash"])

    def text(self, name: str) -> str:
        """A file of text."""
        return self.files[name].decode("utf-8", "replace")

    def ask(self) -> None:
        """Whether its C may be compiled and run here.

        Raises
        ------
        UntrustedError
            This machine did not write it, and nobody has trusted it.
        """
        if self.digest not in trusted():
            raise UntrustedError(self.folder, self.digest, self.text("policy.c"), "a pack with C code")

    def problem(self) -> Problem:
        """The task as the policy learned it, read from the hashed bytes alone."""
        with tempfile.TemporaryDirectory(prefix="heron-pack-") as place:
            for name, data in self.files.items():
                if name.startswith("frozen/"):
                    write_whole(inside(Path(place), name), data)
            return read_problem(Path(place) / "frozen", self.facts["run"]["task"])

    def trust(self) -> None:
        """Let its C be compiled and run on this machine, as it is."""
        trust_digest(self.digest, self.folder)


def read_pack(folder: Path) -> Pack:
    """A pack with its description and all its files.

    Raises
    ------
    FileError
        Not a pack, a wrong description, or a file that is missing, changed or not listed.
    """
    check_path(folder)
    path = folder / "pack.json"
    if not is_file(path):
        raise FileError(folder, "", None, "is not a pack: it has no pack.json")
    facts = read_json(path)
    if not isinstance(facts, dict):
        raise FileError(path, "", None, "wanted an object with the keys of a pack")
    if facts.get("format") != PACK_FORMAT:
        raise FileError(
            path,
            "format",
            facts.get("format"),
            f"this program reads format {PACK_FORMAT}; write the pack again from its run",
        )
    try:
        PackDescription.model_validate_json(read_bytes(path))
    except ValidationError as error:
        raise explain(error, PackDescription, path) from error
    except (RecursionError, ValueError) as error:
        raise FileError(path, "", None, f"cannot be read: {error}") from error
    if facts["hash"] != pack_hash(facts):
        raise FileError(path, "hash", facts["hash"], "was changed after the pack was written")
    for name in (*NEEDED, f"frozen/tasks/{facts['run']['task']}.toml"):
        if name not in facts["hashes"]:
            raise FileError(path, f"hashes.{name}", None, "is missing")
    files = {name: _checked(folder, name, wanted) for name, wanted in facts["hashes"].items()}
    return Pack(folder, facts, files, signer_of(folder, read_bytes(path)))


def _checked(folder: Path, name: str, wanted: str) -> bytes:
    file = inside(folder, name)
    if not is_file(file):
        raise FileError(file, "", None, "is missing")
    data = read_bytes(file)
    if digest_of(data) != wanted:
        raise FileError(file, "", None, "was changed after the pack was written")
    return data
