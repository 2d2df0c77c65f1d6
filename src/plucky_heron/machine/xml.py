"""XML of strangers: no document types, no entities, nothing nested without end, one line for what is wrong."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from defusedxml import DefusedXmlException
from defusedxml.ElementTree import ParseError, fromstring

from plucky_heron.errors import FileError
from plucky_heron.files import read_bytes

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element

MOST_BYTES = 20_000_000
MOST_DEPTH = 100
MOST_ELEMENTS = 100_000


def read_xml(path: Path) -> Element:
    """The outermost element of a file.

    Raises
    ------
    FileError
        Not XML, of an unknown encoding, with a document type or entities, nested too deep or too large.
    """
    try:
        root: Element = fromstring(read_bytes(path, MOST_BYTES), forbid_dtd=True)
    except DefusedXmlException as error:
        raise FileError(path, "", None, "has a document type or entities; remove them") from error
    except (ParseError, ValueError, LookupError, RecursionError, AssertionError) as error:
        raise FileError(path, "", None, f"not valid XML: {error}") from error
    level, count, depth = [root], 1, 1
    while level:
        level = [child for element in level for child in element]
        count, depth = count + len(level), depth + 1
        if depth > MOST_DEPTH or count > MOST_ELEMENTS:
            wanted = f"wanted at most {MOST_DEPTH} levels and {MOST_ELEMENTS} elements"
            raise FileError(path, "", None, f"is nested too deep or too large; {wanted}")
    return root
