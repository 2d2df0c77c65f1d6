"""Every form computes what the policy computes: also where numbers are large, at their ends, or no numbers."""

from __future__ import annotations

import ctypes
import subprocess
from dataclasses import replace
from pathlib import Path
from xml.etree import ElementTree as xml

import fmpy
import numpy as np
import pytest
from fmpy.validation import validate_fmu
from hypothesis import given, settings
from hypothesis import strategies as st

from plucky_heron.errors import StateError
from plucky_heron.handover.equality import check_forms, run_policy
from plucky_heron.handover.forms.catalogue import (
    FORMS,
    TOLERANCE,
    TOLERANCES,
    Made,
    forms_named,
    library_of,
    make_forms,
)
from plucky_heron.handover.forms.compiling import compile_c
from plucky_heron.handover.forms.fixed import bend, down, fixed_policy, gate, look_up, nearest, run_fixed, tanh_table
from plucky_heron.handover.forms.line import Line
from plucky_heron.handover.forms.st import BLOCK, identifiers, real
from plucky_heron.handover.structured_text.translate import program, translate
from plucky_heron.learning.memory import Memory
from plucky_heron.learning.network import Activation, Network
from plucky_heron.learning.policy import Policy

STRICT = ("-std=c99", "-Wall", "-Wextra", "-Wconversion", "-Werror", "-pedantic", "-O1", "-fsanitize=undefined,address", "-fno-sanitize-recover=all")  # fmt: skip


def random_policy(
    sizes: tuple[int, ...], activation: Activation, seed: int, normalised: bool = False, squashed: bool = False
) -> Policy:
    """A policy with large random weights, so that limits are met."""
    generator = np.random.default_rng(seed)
    network = Network(sizes, activation, normalised=normalised)
    parameters = (0.4 * generator.standard_normal(network.count)).astype(np.float32)
    low = -generator.uniform(0.5, 2000, sizes[-1]).astype(np.float32)
    return Policy(
        sizes, activation, parameters, generator.standard_normal(sizes[0]).astype(np.float32),
        generator.uniform(0.1, 5, sizes[0]).astype(np.float32), 3.0, low, -2 * low, normalised, squashed,
    )  # fmt: skip


def made_of(policy: Policy, vectors: np.ndarray, forms: tuple[str, ...] = FORMS) -> Made:
    """The forms of a policy, with names that could do harm in code."""
    inputs = [Line(f"in {k} */ *) \\ & <", "m", -1, 1, "/* up") for k in range(policy.given)]
    outputs = [Line(f"out {k}", "N", float(policy.low[k]), float(policy.high[k])) for k in range(policy.sizes[-1])]
    return make_forms(forms, policy, "test */ *) x", inputs, outputs, 0.02, vectors, [0.0] * policy.sizes[-1])


def vectors_of(policy: Policy, count: int = 300) -> np.ndarray:
    """Sensor values that meet the limits of inputs."""
    return np.random.default_rng(1).uniform(-4, 4, (count, policy.given)).astype(np.float32).astype(np.float64)


@pytest.mark.parametrize(
    ("sizes", "activation", "normalised", "squashed"),
    [
        ((3, 8, 8, 2), "tanh", False, False), ((10, 64, 64, 2), "relu", False, True), ((1, 4, 1), "tanh", True, False),
        ((5, 16, 8, 4, 3), "relu", True, True), ((6, 12, 2), "leaky relu", False, True), ((6, 12, 9, 2), "elu", False, False),
        ((6, 12, 9, 2), "silu", True, True), ((4, 2), "tanh", False, True),
    ],
)  # fmt: skip
def test_every_form_equals_the_policy(
    sizes: tuple[int, ...], activation: Activation, normalised: bool, squashed: bool
) -> None:
    policy = random_policy(sizes, activation, 5, normalised, squashed)
    vectors = vectors_of(policy)
    made = made_of(policy, vectors)
    found = check_forms(made, vectors, policy.commands(vectors), (policy.high - policy.low).astype(float))
    assert set(found) == set(FORMS) and all(value <= TOLERANCES[form] for form, value in found.items()), found


def test_fixed_point_is_its_model_to_the_last_bit_with_every_input_there_is(tmp_path: Path) -> None:
    """Also with sensors at the ends of their integers; no sum overflows (the sanitizer would stop it), and no conversion is unsaid."""
    for activation in ("tanh", "elu", "silu"):
        policy = random_policy((5, 16, 8, 2), activation, 3, normalised=activation == "silu")
        made = made_of(policy, vectors_of(policy), ("fixed",))
        assert made.fixed is not None
        for name in ("policy_fixed.h", "policy_fixed.c", "check_fixed.c"):
            (tmp_path / name).write_text(str(made.files[name]))
        built = compile_c(tmp_path, ["policy_fixed.c", "check_fixed.c"], "check", STRICT)
        ends = np.array([-(2**31), 2**31 - 1, 0, 1, -1])
        generator = np.random.default_rng(2)
        rows = np.concatenate([generator.integers(-(2**31), 2**31, (300, 5)), generator.choice(ends, (300, 5))])
        out = subprocess.run([str(built)], input=rows.astype(np.int32).tobytes(), capture_output=True, check=True)
        made.fixed.saturated = 0
        wanted = made.fixed.step(rows, made.fixed.blank(len(rows)))[0]
        assert np.array_equal(np.frombuffer(out.stdout, dtype=np.int32).reshape(len(rows), 2), wanted)
        assert int(out.stderr) == made.fixed.saturated > 100
        assert (np.abs(wanted) <= 2**30).all()


@given(st.integers(-(2**40), 2**40), st.integers(-8, 30))
def test_numbers_are_divided_and_rounded_to_the_nearest(value: int, bits: int) -> None:
    found = int(down(np.array([value]), bits)[0])
    exact = value / 2.0**bits
    assert abs(found - exact) <= 0.5
    assert int(nearest(np.array([value]), 7)[0]) == round(abs(value) / 7) * (1 if value >= 0 else -1)


def test_tables_are_close_to_what_they_stand_for() -> None:
    z = np.arange(-9 * 4096, 9 * 4096, 3)
    x = z / 4096
    assert np.abs(look_up(z, tanh_table()) / 2**14 - np.tanh(x)).max() < 1.5e-4
    assert np.abs(gate(z) / 2**15 - 1 / (1 + np.exp(-x))).max() < 1.5e-4
    assert np.abs(bend("elu", z, 12) / 4096 - np.where(x > 0, x, np.expm1(np.minimum(x, 0)))).max() < 6e-4
    assert np.abs(bend("silu", z, 12) / 4096 - x / (1 + np.exp(-x))).max() < 2e-3


def test_weights_that_fit_into_no_16_bits_are_refused() -> None:
    policy = random_policy((300, 4, 1), "relu", 1)
    policy.parameters[:] = 3e6
    with pytest.raises(StateError, match="weights of another size"):
        fixed_policy(policy, vectors_of(policy))
    easy = random_policy((3, 4, 1), "relu", 1)
    vectors = vectors_of(easy)
    made = fixed_policy(easy, vectors)
    assert (
        np.isfinite(run_fixed(made, np.full((1, 3), np.nan))).all()
        and np.isfinite(run_fixed(made, np.full((1, 3), np.inf))).all()
    )


@pytest.mark.parametrize("wrong", [np.nan, np.inf, -np.inf, 3.4e38])
def test_what_is_no_number_is_refused_and_the_commands_before_stay(wrong: float, tmp_path: Path) -> None:
    policy = random_policy((3, 8, 2), "tanh", 5)
    good = vectors_of(policy, 3)
    bad = good.copy()
    bad[1, 2] = wrong
    made = made_of(policy, good)
    # Structured Text
    whole = np.concatenate([np.zeros((3, 1)), bad, np.zeros((3, 1))], axis=1)
    (tmp_path / "text.c").write_text(program(translate(str(made.files["policy.st"]), BLOCK)))
    built = compile_c(tmp_path, ["text.c"], "text", ("-std=c99", "-O2"))
    out = subprocess.run([str(built)], input=whole.tobytes(), capture_output=True, check=True).stdout
    rows = np.frombuffer(out, dtype=float).reshape(3, 3)
    assert rows[:, 2].tolist() == [0, 1, 0] and np.array_equal(rows[1, :2], rows[0, :2])
    # C99 and FMU
    if np.isfinite(wrong):
        return
    with pytest.raises(StateError, match="refused"):
        check_forms(Made(made.files, ("c99",), None, 0.02), bad, bad, np.ones(2))
    library, _ = library_of(bytes(made.files["policy.fmu"]))  # type: ignore[arg-type]
    path = tmp_path / "unit.so"
    path.write_bytes(library)
    found = fmi_steps(path, str(made.files["policy.fmu"] and library_of(bytes(made.files["policy.fmu"]))[1]), bad)  # type: ignore[arg-type]
    assert [status for status, _ in found] == [0, 1, 0] and np.array_equal(found[1][1], found[0][1])


def fmi_steps(library: Path, description: str, rows: np.ndarray) -> list[tuple[int, np.ndarray]]:
    """Statuses and outputs of steps of 20 ms, through the interface."""
    lib = ctypes.CDLL(str(library))
    lib.fmi3InstantiateCoSimulation.restype = ctypes.c_void_p
    root = xml.fromstring(description)
    token = root.attrib["instantiationToken"].encode()
    unit = ctypes.c_void_p(
        lib.fmi3InstantiateCoSimulation(b"x", token, None, 0, 0, 0, 0, None, ctypes.c_size_t(0), None, None, None)
    )
    assert unit.value
    assert lib.fmi3InstantiateCoSimulation(
        b"x", b"other", None, 0, 0, 0, 0, None, ctypes.c_size_t(0), None, None, None
    ) in (None, 0)
    count, results = rows.shape[1], sum(v.attrib.get("causality") == "output" for v in root.iter())
    given = (ctypes.c_uint32 * count)(*range(1, count + 1))
    made = (ctypes.c_uint32 * results)(*range(count + 1, count + results + 1))
    found = []
    flags = [ctypes.c_bool() for _ in range(3)]
    reached = ctypes.c_double()
    for k, row in enumerate(rows):
        values, out = (ctypes.c_float * count)(*row), (ctypes.c_float * results)()
        assert lib.fmi3SetFloat32(unit, given, ctypes.c_size_t(count), values, ctypes.c_size_t(count)) == 0
        status = lib.fmi3DoStep(
            unit,
            ctypes.c_double(0.02 * k),
            ctypes.c_double(0.02),
            True,
            *map(ctypes.byref, flags),
            ctypes.byref(reached),
        )
        assert lib.fmi3GetFloat32(unit, made, ctypes.c_size_t(results), out, ctypes.c_size_t(results)) == 0
        found.append((status, np.array(out)))
    assert (
        lib.fmi3GetFloat32(
            unit, (ctypes.c_uint32 * 1)(999), ctypes.c_size_t(1), (ctypes.c_float * 1)(), ctypes.c_size_t(1)
        )
        == 3
    )
    lib.fmi3FreeInstance(unit)
    return found


@pytest.mark.parametrize("memory", [False, True])
def test_the_fmu_runs_in_another_program_with_steps_of_any_size(memory: bool, tmp_path: Path) -> None:
    """Checked and run by FMPy; between samples the commands stay, whatever steps whoever drives it takes."""
    policy = random_policy((3, 8, 2), "tanh", 5)
    if memory:
        numbers = 0.6 * np.random.default_rng(2).standard_normal(Memory(3, 4).count)
        policy = replace(
            random_policy((7, 8, 2), "tanh", 5),
            memory=4,
            memory_parameters=numbers.astype(np.float32),
            offset=policy.offset,
            scale=policy.scale,
        )
    rows = vectors_of(policy, 20)
    path = tmp_path / "policy.fmu"
    data = made_of(policy, rows).files["policy.fmu"]
    assert data == made_of(policy, rows).files["policy.fmu"], "the same run gives the same bytes"
    path.write_bytes(bytes(data))  # type: ignore[arg-type]
    assert validate_fmu(str(path)) == []
    description = fmpy.read_model_description(str(path))
    assert description.fmiVersion == "3.0" and description.coSimulation.fixedInternalStepSize == "0.02"
    names = [v.name for v in description.modelVariables if v.causality == "input"]
    outputs = [v.name for v in description.modelVariables if v.causality == "output"]
    times = 0.02 * np.arange(20)
    told = np.array(
        [(t, *row) for t, row in zip(times, rows, strict=True)],
        dtype=[("time", float), *((n, np.float32) for n in names)],
    )
    wanted = run_policy(policy, rows, np.arange(20) == 0)
    for step in (0.02, 0.005):
        found = fmpy.simulate_fmu(
            str(path), stop_time=0.38, step_size=step, output_interval=step, input=told, fmi_type="CoSimulation"
        )
        each = round(0.02 / step)
        # what stands after a step belongs to the sample that began with it or before
        for k in range(0, 18):
            row = found[1 + k * each]
            got = np.array([row[name] for name in outputs])
            assert np.abs((got - wanted[k]) / (policy.high - policy.low)).max() < TOLERANCE, (step, k)


def test_names_become_identifiers_of_the_standard() -> None:
    names = identifiers(
        ["offset", "Offset", "2nd gear", "äöü", "if", "a__b_", "end of a very long name that goes on and on", "*)"]
    )
    assert names == [
        "offset",
        "Offset_2",
        "s_2nd_gear",
        "signal",
        "if_value",
        "a_b",
        "end_of_a_very_long_name_that",
        "signal_2",
    ]


@settings(max_examples=200)
@given(st.floats(width=32, allow_nan=False, allow_infinity=False))
def test_reals_read_back_to_the_same_bits(value: float) -> None:
    assert np.float32(float(real(value))) == np.float32(value) and "." in real(value).split("E")[0]


def test_forms_are_named() -> None:
    assert forms_named("st") == ("onnx", "c99", "st") and forms_named("") == ("onnx", "c99")
    assert forms_named("fmu, fixed,onnx") == ("onnx", "c99", "fixed", "fmu")
    with pytest.raises(StateError, match=r"fixd.*fixed"):
        forms_named("fixd")
