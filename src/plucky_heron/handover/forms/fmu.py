"""A functional mock-up unit by FMI 3.0 for co-simulation: the C99 form in a shared library, with its description, in one archive."""

from __future__ import annotations

import hashlib
import io
import platform
import tempfile
import zipfile
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from xml.etree import ElementTree as xml

from plucky_heron.errors import StateError
from plucky_heron.handover.forms.compiling import compile_c
from plucky_heron.handover.forms.line import Line
from plucky_heron.handover.forms.st import identifiers
from plucky_heron.handover.forms.templates import Code, templates
from plucky_heron.handover.text import plain_text

IDENTIFIER, CONTROLLER, WHOLE = "heron_policy", "heron_controller", "heron_whole"
SETTINGS = ("authority", "hold", "ramp", "take_over", "test_time")
"""Numbers that may be set while it runs, as the structure in ``controller.h`` has them."""
SWITCHES = ("check_range", "check_rate", "check_heartbeat", "needs_homing", "needs_test")
ASKED = "0 off, 1 homing, 2 sign test, 3 limited, 4 on, 5 reset after a fault"
STATES = "0 off, 1 homing, 2 sign test, 3 limited, 4 on, 5 fault"
REASONS = "0 well, 1 not finite, 2 out of range, 3 too fast, 4 no heartbeat, 5 wrong sign, 6 no answer, 7 not homed, 8 not tested"
LIBRARY_FLAGS = ("-std=c99", "-Wall", "-Wextra", "-Werror", "-O2", "-fPIC", "-shared", "-fvisibility=hidden", "-Wl,--build-id=none", "-Wl,-z,defs")  # fmt: skip
_BEGINNING = (1980, 1, 1, 0, 0, 0)
"""Of all files in the archive, so that the same run gives the same bytes."""


def platform_tuple() -> str:
    """The folder that FMI 3.0 (section 2.5.1.4) has for libraries of this machine."""
    machine = {"x86_64": "x86_64", "amd64": "x86_64", "aarch64": "aarch64", "arm64": "aarch64"}.get(
        platform.machine().lower()
    )
    if machine is None:
        raise StateError(f"the FMU form knows no name for machines of the kind {platform.machine()}")
    return f"{machine}-linux"


@dataclass(frozen=True)
class Variable:
    """One variable besides signals and commands."""

    kind: str
    name: str
    causality: str
    start: str
    description: str


def controller_variables(defaults: Mapping[str, float]) -> list[Variable]:
    """What the unit of the controller has besides, in order of its value references after signals and commands."""
    found = [
        Variable("Int32", "asked", "input", "4", ASKED), Variable("Boolean", "valid", "input", "true", "whether all signals came in time"),
        Variable("Boolean", "at_home", "input", "false", "the reference is reached"), Variable("Int32", "state", "output", "", STATES),
        Variable("Int32", "reason", "output", "", REASONS),
    ]  # fmt: skip
    found += [
        Variable("Float32", name, "parameter", repr(float(defaults[name])), "see controller.h") for name in SETTINGS
    ]
    return found + [
        Variable(
            "Boolean",
            name,
            "parameter",
            "true" if defaults.get(name) else "false",
            "a guard, or what is asked for first",
        )
        for name in SWITCHES
    ]


def describe(
    title: str, inputs: list[Line], outputs: list[Line], sample_time: float, token: str, identifier: str = IDENTIFIER, more: Sequence[Variable] = ()
) -> bytes:  # fmt: skip
    """``modelDescription.xml``."""
    root = xml.Element("fmiModelDescription", {
        "fmiVersion": "3.0", "modelName": plain_text(title), "instantiationToken": token, "generationTool": "Plucky Heron", "variableNamingConvention": "flat",
    })  # fmt: skip
    xml.SubElement(root, "CoSimulation", {
        "modelIdentifier": identifier, "canHandleVariableCommunicationStepSize": "true", "fixedInternalStepSize": repr(sample_time),
        "canGetAndSetFMUState": "true", "canSerializeFMUState": "true",
    })  # fmt: skip
    units = sorted({line.unit for line in (*inputs, *outputs) if line.unit})
    if units:
        defined = xml.SubElement(root, "UnitDefinitions")
        for unit in units:
            xml.SubElement(defined, "Unit", {"name": plain_text(unit)})
    xml.SubElement(root, "DefaultExperiment", {"startTime": "0", "stepSize": repr(sample_time)})
    variables = xml.SubElement(root, "ModelVariables")
    xml.SubElement(
        variables,
        "Float64",
        {"name": "time", "valueReference": "0", "causality": "independent", "variability": "continuous"},
    )
    names = identifiers([*(line.name for line in inputs), *(line.name for line in outputs)])
    for number, (line, name) in enumerate(zip((*inputs, *outputs), names, strict=True), 1):
        given = number <= len(inputs)
        facts = {
            "name": name,
            "valueReference": str(number),
            "causality": "input" if given else "output",
            "variability": "discrete",
        }
        facts |= {"start": "0"} if given else {"initial": "calculated"}
        facts["description"] = plain_text(f"{line.name}{', positive is ' + line.positive if line.positive else ''}")
        facts |= {"unit": plain_text(line.unit)} if line.unit else {}
        facts |= {"min": repr(line.low), "max": repr(line.high)} if not given else {}
        xml.SubElement(variables, "Float32", facts)
    told = list(range(len(inputs) + 1, len(names) + 1))
    for number, one in enumerate(more, len(names) + 1):
        facts = {"name": f"heron_{one.name}", "valueReference": str(number), "causality": one.causality}
        facts["variability"] = "tunable" if one.causality == "parameter" else "discrete"
        facts |= {"start": one.start} if one.causality != "output" else {"initial": "calculated"}
        xml.SubElement(variables, one.kind, facts | {"description": plain_text(one.description)})
        told += [number] if one.causality == "output" else []
    structure = xml.SubElement(root, "ModelStructure")
    for kind in ("Output", "InitialUnknown"):
        for number in told:
            # what is put out belongs to the sample before: nothing depends on an input at once
            xml.SubElement(structure, kind, {"valueReference": str(number), "dependencies": ""})
    xml.indent(root)
    return b'<?xml version="1.0" encoding="UTF-8"?>\n' + bytes(xml.tostring(root)) + b"\n"


def to_fmu(
    sources: dict[str, str], title: str, inputs: list[Line], outputs: list[Line], sample_time: float, safe: list[float]
) -> bytes:
    """``policy.fmu``, built here with gcc.

    Parameters
    ----------
    sources
        ``policy.h`` and ``policy.c`` of the C99 form.
    safe
        What is put out before the first sample.

    Raises
    ------
    StateError
        No compiler, or a warning.
    """
    values = {
        "safe": Code(", ".join(f"{x!r}f" for x in map(float, safe))),
        "memory": int("float memory[" in sources["policy.h"]),
    }
    return _built(sources, IDENTIFIER, title, inputs, outputs, sample_time, values)


def to_controller_fmu(
    sources: dict[str, str], title: str, sensors: list[Line], outputs: list[Line], sample_time: float, defaults: Mapping[str, float]
) -> bytes:  # fmt: skip
    """``controller.fmu``: the policy with guards, states and shaping; from what sensors say to what drives get.

    Parameters
    ----------
    sources
        ``policy.h``, ``policy.c``, ``controller.h`` and ``controller.c``.
    defaults
        The settings that ``controller.c`` begins with.
    """
    return _built(sources, CONTROLLER, title, sensors, outputs, sample_time, {}, controller_variables(defaults))


def to_whole_fmu(
    sources: dict[str, str], title: str, instruments: list[Line], drives: list[Line], sample_time: float, defaults: Mapping[str, float]
) -> bytes:  # fmt: skip
    """``whole.fmu``: the same from what instruments say to values of drives, in SI; raw numbers belong to the wires.

    Parameters
    ----------
    sources
        As for `to_controller_fmu`, and ``signals.h`` and ``signals.c``.
    """
    more = controller_variables(defaults)
    return _built(sources, WHOLE, title, instruments, drives, sample_time, {"whole": True}, more)


def _built(
    sources: dict[str, str], identifier: str, title: str, inputs: list[Line], outputs: list[Line], sample_time: float, values: dict[str, object],
    more: Sequence[Variable] = (),
) -> bytes:  # fmt: skip
    """The archive of a unit, with its library for this machine and all sources."""
    token = "{" + hashlib.sha256("".join(sources.values()).encode()).hexdigest()[:32] + "}"
    code = templates().get_template("fmu.c.j2").render(
        {"title": title, "token": Code(token), "sample_time": Code(repr(sample_time)), "safe": "", "memory": 0, "whole": False, "controller": bool(more), "settings": [Code(s) for s in SETTINGS], "switches": [Code(s) for s in SWITCHES]} | values
    )  # fmt: skip
    units = [name for name in sources if name.endswith(".c")] + ["fmu.c"]
    with tempfile.TemporaryDirectory(prefix="heron-fmu-") as folder:
        place = Path(folder)
        for name, text in {**sources, "fmu.c": code}.items():
            (place / name).write_text(text)
        library = compile_c(place, units, f"{identifier}.so", LIBRARY_FLAGS).read_bytes()
    listed = "".join(f'      <SourceFile name="{name}"/>\n' for name in units)
    build = (
        '<?xml version="1.0" encoding="UTF-8"?>\n<fmiBuildDescription fmiVersion="3.0">\n'
        f'  <BuildConfiguration modelIdentifier="{identifier}">\n    <SourceFileSet language="C99">\n{listed}'
        "    </SourceFileSet>\n  </BuildConfiguration>\n</fmiBuildDescription>\n"
    )
    files: dict[str, bytes] = {
        "modelDescription.xml": describe(title, inputs, outputs, sample_time, token, identifier, more),
        f"binaries/{platform_tuple()}/{identifier}.so": library,
        "sources/buildDescription.xml": build.encode(), "sources/fmu.c": code.encode(),
        **{f"sources/{name}": text.encode() for name, text in sources.items()},
    }  # fmt: skip
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in files.items():
            info = zipfile.ZipInfo(name, _BEGINNING)
            info.compress_type, info.external_attr = zipfile.ZIP_DEFLATED, 0o644 << 16
            archive.writestr(info, data)
    return out.getvalue()
