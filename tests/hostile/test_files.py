"""Files made wrong, a few hundred of them; `tools/fuzz_files.py` reads as many thousands as one has time for."""

from __future__ import annotations

import random
import time
import warnings
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from plucky_heron.errors import LONGEST, HeronError
from tests.hostile.corpus import Specimen, kept_specimens, specimens
from tests.hostile.mutations import Mutation, mutations_of


@pytest.fixture(scope="module")
def corpus(tmp_path_factory: pytest.TempPathFactory) -> list[tuple[Specimen, bytes, Mutation]]:
    """Good files, their bytes, and ways to make them wrong."""
    folder = tmp_path_factory.mktemp("hostile") / "quillmere"
    found = []
    for specimen in [*specimens(folder), *kept_specimens(folder)]:
        specimen.read(specimen.file)
        data = specimen.file.read_bytes()
        found.append((specimen, data, mutations_of(data, specimen.kind)))
    return found


@settings(
    max_examples=400, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture]
)
@given(seed=st.integers(0, 2**32), place=st.integers(0, 10_000))
def test_a_wrong_file_is_one_line(corpus: list[tuple[Specimen, bytes, Mutation]], seed: int, place: int) -> None:
    specimen, good, wrong = corpus[place % len(corpus)]
    specimen.file.write_bytes(wrong(random.Random(seed)))
    began = time.process_time()  # of this process: what else runs on the computer does not count
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            specimen.read(specimen.file)
    except HeronError as error:
        assert time.process_time() - began < 2.0
        assert "\n" not in str(error) and len(str(error).replace(str(specimen.file.parents[1]), "")) <= LONGEST
    finally:
        specimen.file.write_bytes(good)
        for beside in specimen.file.parent.glob(f"{specimen.file.name}-*"):
            beside.unlink()


@pytest.mark.parametrize(
    ("file", "old", "new", "words"),
    [
        ("sites/quay.toml", "gust_time = ", "gust_time = 0 #", "gust_time"), ("tasks/lift.toml", 'time_limit = "12 s"', 'time_limit = "1e9 s"', "time_limit"),
        ("tasks/lift.toml", 'control_rate = "50 Hz"', 'control_rate = "1e9 Hz"', "control_rate"), ("tasks/lift.toml", 'control_rate = "50 Hz"', 'control_rate = "1e-9 Hz"', "control_rate"),
        ("tasks/lift.toml", "noise = ", "noise = true #", "noise"), ("tasks/lift.toml", "[regulator.joint_scales]", '[regulator.joint_scales]\ntrolly = "1 m"', "joint_scales.trolly"),
    ],
)  # fmt: skip
def test_nonsense_is_refused_where_it_is_read(folder: Path, file: str, old: str, new: str, words: str) -> None:
    from plucky_heron.errors import FileError
    from plucky_heron.project import Project

    path = folder / file
    text = path.read_text()
    assert old in text, text[:600]
    path.write_text(text.replace(old, new, 1))
    with pytest.raises(FileError, match=words):
        Project(folder).problem("lift")
