"""How kernels are compiled: one decorator, whose cache on disk knows the source of everything that a kernel is made from.

Numba looks at the age of a function's own file only: a kernel that was compiled before one that it calls was edited, or before a
constant that it imports was, would go on using the old code. So the stamp of its cache is a hash over its own file and all
files of ours that it imports, directly or through others.
"""

from __future__ import annotations

import functools
import hashlib
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any, overload

from numba import njit
from numba.core.codegen import JITCodeLibrary
from numba.core.codegen import ll as binding

_ROOT = Path(__file__).parent
_IMPORT = re.compile(r"^from (plucky_heron[\w.]*) import (\([^)]*\)|[^\n]*)", re.MULTILINE)


_finalise = JITCodeLibrary._finalize_final_module


def _finalise_with_copies_of_its_own(library: Any) -> None:
    """Make a compiled function ready so that it runs its own copies of all that it calls.

    A function carries a copy of each that it calls, compiled together with it: sums and products may be rounded otherwise than in
    another's copy. As Numba leaves it, all functions of a process run the copy of whichever was loaded first. Then the bits of a run
    depended on which kernels a process had used or compiled before.
    """
    library._shared_module = library._shared_module or _shared(library._final_module)
    for function in library._final_module.functions:
        if not function.is_declaration and function.linkage == binding.Linkage.linkonce_odr:
            function.linkage = binding.Linkage.internal
    _finalise(library)


def _shared(module: Any) -> Any:
    """What others are compiled with, as in `_get_module_for_linking` of Numba's `CPUCodeLibrary`."""
    copy = module.clone()
    for function in copy.functions:
        if not function.is_declaration and function.linkage == binding.Linkage.external:
            function.linkage = binding.Linkage.linkonce_odr
    return copy


JITCodeLibrary._finalize_final_module = _finalise_with_copies_of_its_own


@functools.cache
def imported(path: Path, package: Path = _ROOT.parent) -> frozenset[Path]:
    """Files of ours that the file `path` imports from; `package` is the folder in which the dotted names begin."""
    found: set[Path] = set()
    for module, names in _IMPORT.findall(path.read_text()):
        place = package.joinpath(*module.split("."))
        candidates = [place.with_suffix(".py"), place / "__init__.py"]
        candidates += [place / f"{name.split(' as ')[0].strip()}.py" for name in names.strip("()").split(",")]
        found |= {candidate for candidate in candidates if candidate.is_file()}
    return frozenset(found)


def sources_of(path: Path) -> set[Path]:
    """A file and all files of ours that it is made from, through any number of imports."""
    found, waiting = {path}, [path]
    while waiting:
        fresh = imported(waiting.pop()) - found
        found |= fresh
        waiting += fresh
    return found


@functools.cache
def stamp_of(path: Path) -> str:
    """Hash over a file and everything it is made from."""
    digest = hashlib.sha256()
    for source in sorted(sources_of(path)):
        digest.update(source.read_bytes())
    return digest.hexdigest()


@overload
def kernel(function: Callable[..., Any]) -> Any: ...
@overload
def kernel(
    *, entry: bool = False, inline: bool = False, makes_arrays: bool = False, rounding: tuple[str, ...] = ("contract",)
) -> Any: ...
def kernel(
    function: Callable[..., Any] | None = None,
    *,
    entry: bool = False,
    inline: bool = False,
    makes_arrays: bool = False,
    rounding: tuple[str, ...] = ("contract",),
) -> Any:
    """A compiled function, kept on disk until anything that it is made from changes.

    Parameters
    ----------
    entry
        Python calls it too; else only other kernels do, and no way in from Python is compiled.
    inline
        It becomes part of each of its callers: for what runs in every step.
    makes_arrays
        It may make arrays. Without, references are not counted, which is atomic and cost more than all arithmetic of a step:
        arrays live because Python holds them, and Numba refuses to compile what would make a new one.
    rounding
        What the compiler may do to sums and products, in LLVM's words; whatever it is, the same bits come out every time.
    """
    if function is None:
        return functools.partial(kernel, entry=entry, inline=inline, makes_arrays=makes_arrays, rounding=rounding)
    options: dict[str, Any] = {} if makes_arrays else {"_nrt": False}
    if not entry:
        options |= {"no_cpython_wrapper": True, "no_cfunc_wrapper": True}
    if inline:
        options["forceinline"] = True
    if rounding:
        options["fastmath"] = set(rounding)
    made = njit(cache=True, nogil=True, error_model="numpy", **options)(function)
    made._cache._cache_file._source_stamp = stamp_of(Path(function.__code__.co_filename))
    return made
