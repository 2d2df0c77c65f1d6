"""A functional mock-up unit by FMI 3.0 for co-simulation: the C99 form in a shared library, with its description, in one archive."""

from __future__ import annotations

import hashlib
import io
import platform
import tempfile
import zipfile
from pathlib import Path
from xml.etree import ElementTree as xml

from plucky_heron.errors import StateError
from plucky_heron.handover.forms.compiling import compile_c
from plucky_heron.handover.forms.line import Line
from plucky_heron.handover.forms.st import identifiers
from plucky_heron.handover.forms.templates import Code, templates
from plucky_heron.handover.text import plain_text

IDENTIFIER = "heron_policy"
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


def describe(title: str, inputs: list[Line], outputs: list[Line], sample_time: float, token: str) -> bytes:
    """``modelDescription.xml``."""
    root = xml.Element("fmiModelDescription", {
        "fmiVersion": "3.0", "modelName": plain_text(title), "instantiationToken": token, "generationTool": "Plucky Heron", "variableNamingConvention": "flat",
    })  # fmt: skip
    xml.SubElement(root, "CoSimulation", {
        "modelIdentifier": IDENTIFIER, "canHandleVariableCommunicationStepSize": "true", "fixedInternalStepSize": repr(sample_time),
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
    structure = xml.SubElement(root, "ModelStructure")
    for kind in ("Output", "InitialUnknown"):
        for number in range(len(inputs) + 1, len(names) + 1):
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
    token = "{" + hashlib.sha256((sources["policy.h"] + sources["policy.c"]).encode()).hexdigest()[:32] + "}"
    code = templates().get_template("fmu.c.j2").render(
        title=title, token=Code(token), sample_time=Code(repr(sample_time)), safe=Code(", ".join(f"{x!r}f" for x in map(float, safe))),
        memory=int("float memory[" in sources["policy.h"]),
    )  # fmt: skip
    with tempfile.TemporaryDirectory(prefix="heron-fmu-") as folder:
        place = Path(folder)
        for name, text in {**sources, "fmu.c": code}.items():
            (place / name).write_text(text)
        library = compile_c(place, ["policy.c", "fmu.c"], f"{IDENTIFIER}.so", LIBRARY_FLAGS).read_bytes()
    build = (
        '<?xml version="1.0" encoding="UTF-8"?>\n<fmiBuildDescription fmiVersion="3.0">\n'
        f'  <BuildConfiguration modelIdentifier="{IDENTIFIER}">\n    <SourceFileSet language="C99">\n'
        '      <SourceFile name="policy.c"/>\n      <SourceFile name="fmu.c"/>\n    </SourceFileSet>\n  </BuildConfiguration>\n</fmiBuildDescription>\n'
    )
    files: dict[str, bytes] = {
        "modelDescription.xml": describe(title, inputs, outputs, sample_time, token),
        f"binaries/{platform_tuple()}/{IDENTIFIER}.so": library,
        "sources/buildDescription.xml": build.encode(), "sources/fmu.c": code.encode(),
        **{f"sources/{name}": sources[name].encode() for name in ("policy.c", "policy.h")},
    }  # fmt: skip
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in files.items():
            info = zipfile.ZipInfo(name, _BEGINNING)
            info.compress_type, info.external_attr = zipfile.ZIP_DEFLATED, 0o644 << 16
            archive.writestr(info, data)
    return out.getvalue()
