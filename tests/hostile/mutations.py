"""Files made wrong in every way we could think of, from one random number generator, so that a failure can be made again."""

from __future__ import annotations

import copy
import io
import random
from collections.abc import Callable, Iterator
from typing import Any
from xml.etree import ElementTree  # what it reads here was written here

import tomlkit

Path = tuple[str | int, ...]

VALUES: tuple[Any, ...] = (
    None, True, False, 0, -1, 1, 2**31, 2**63, 2**64, 10**400, -(10**400), 0.0, -0.0, 1e-320, 1e-12, 1e12, 1e300, -1e300,
    float("nan"), float("inf"), -float("inf"), "", " ", "evil", "nan", "inf", "1e999", "-1", "0", "0 s", "1e-9 s", "1e9 s", "1e300 m",
    "30 deg", "2 kN", "1 parsec", "9**(9*9*9*9*9*9)", "9**9**9", "((9**99)**99)**99", "1/0", "0/0", "m", "%", "5 %", "(" * 60, "1 m**-400",
    "x" * 300, "x" * 5000, "../../etc/passwd", "/etc/passwd", "/dev/zero", "a/b", ".", "..", "-", "con\x00trol", "\x1b[31m", "*/ #error /*", "\\",
    "\u202e\u2066", "\U0001f4a5", "{", "{{7*7}}", "__import__('os')", "time", "time**-1", "time**(1+1)", "1/(time-time)", "sqrt(-1)", "log(0)",
    "exp(1e9)", "[1, 2", "a if b else c", "lambda: 0", "x.y.z", "noise", [], {}, [[]], [1], [1, 2, 3], [0.0] * 3, [1e300] * 3, ["a"] * 500,
    [[[[[[1]]]]]], {"a": 1}, {"formula": "1"}, [{"a": 1}], list(range(2000)),
)  # fmt: skip
"""What stands in the place of a value."""


def places(value: Any, at: Path = ()) -> Iterator[Path]:
    """The paths of all tables, lists and values below."""
    if at:
        yield at
    if isinstance(value, dict):
        for key, inner in value.items():
            yield from places(inner, (*at, key))
    elif isinstance(value, list):
        for index, inner in enumerate(value):
            yield from places(inner, (*at, index))


def holder(document: Any, path: Path) -> Any:
    """What holds the last part of a path."""
    for part in path[:-1]:
        document = document[part]
    return document


def mutate_tables(document: dict[str, Any], random_: random.Random) -> dict[str, Any]:
    """One to three changes of a document of tables: a value replaced, removed, renamed, doubled, scaled, moved."""
    made = copy.deepcopy(document)
    for _ in range(random_.choice((1, 1, 1, 2, 3))):
        found = list(places(made))
        if not found:
            break
        path = random_.choice(found)
        inside, key = holder(made, path), path[-1]
        kind = random_.random()
        if kind < 0.55:
            inside[key] = copy.deepcopy(random_.choice(VALUES))
        elif kind < 0.65:
            del inside[key]
        elif kind < 0.75 and isinstance(inside, dict):
            inside[
                random_.choice(
                    ("x" * 300, "", "a b", "name", "kind", "x_mine", "format", "../up", "\x00", str(key) + "s")
                )
            ] = inside.pop(key)
        elif kind < 0.85 and isinstance(inside[key], int | float) and not isinstance(inside[key], bool):
            inside[key] = inside[key] * random_.choice((0, -1, 1e-9, 1e9, 1e30, 1e-30))
        elif kind < 0.92:
            other = random_.choice(found)
            inside[key] = copy.deepcopy(holder(document, other)[other[-1]]) if _there(document, other) else []
        else:
            inside[key] = [inside[key]]
    return made


def _there(document: Any, path: Path) -> bool:
    try:
        holder(document, path)[path[-1]]
    except (KeyError, IndexError, TypeError):
        return False
    return True


def as_toml(document: dict[str, Any]) -> bytes:
    """The document as TOML; what TOML has no word for is left out or written as it would be typed."""
    return tomlkit.dumps(_plain(document)).encode("utf-8", "surrogatepass")


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        return {str(k): _plain(v) for k, v in value.items() if v is not None}
    if isinstance(value, list):
        return [_plain(v) for v in value if v is not None]
    return value


def mutate_bytes(data: bytes, random_: random.Random) -> bytes:
    """One to four changes of bytes: flipped, cut, repeated, inserted, filled."""
    made = bytearray(data)
    for _ in range(random_.choice((1, 1, 2, 4))):
        at = random_.randrange(len(made) + 1)
        kind = random_.random()
        if kind < 0.35 and made:
            made[at % len(made)] = random_.randrange(256)
        elif kind < 0.5:
            del made[at:]
        elif kind < 0.6:
            del made[at : at + random_.randrange(1, 40)]
        elif kind < 0.75:
            made[at:at] = made[at : at + random_.randrange(1, 200)]
        elif kind < 0.95:
            made[at:at] = random_.choice(PIECES)
        else:
            made[at:at] = bytes(random_.randrange(256) for _ in range(random_.randrange(64)))
    return bytes(made)


PIECES: tuple[bytes, ...] = (
    b"\x00", b"\xff\xfe", b"[" * 20_000, b"a=[[[[" * 50, b"9" * 400, b"9" * 5000, b'"', b"'''", b"\n[[a]]\n", b"<", b"</g>", b"<g>" * 3000, b"&amp;",
    b"&lt;!ENTITY a 'b'&gt;", b'<?xml version="1.0" encoding="klingon"?>', b"NaN", b"Infinity", b"null", b"-", b"1e999", b"{" * 3000, b"\r\n", b"\x1b[2J",
    b"width='10mm'", b"width='100%'", b"L 1e308 1e308", b"A 1 1 0 0 0 1e9 1e9", b"M0,0 " + b"l1,1 " * 20_000, b"../../../etc/passwd", b"x" * 300,
)  # fmt: skip


def mutate_json(document: Any, random_: random.Random) -> bytes:
    """A JSON document made wrong, with the literals that JSON writers of other languages leave behind."""
    import json

    made = mutate_tables(document, random_) if isinstance(document, dict) else document
    out = io.StringIO()
    json.dump(made, out)
    return out.getvalue().encode("utf-8", "surrogatepass")


def mutate_xml(data: bytes, random_: random.Random) -> bytes:
    """One to three changes of a document of elements: an attribute or a text replaced or gone, an element gone, doubled, moved or renamed."""
    root = ElementTree.fromstring(data)
    words = [value for element in root.iter() for value in (*element.attrib.values(), element.text or "")]
    for _ in range(random_.choice((1, 1, 1, 2, 3))):
        parents = [element for element in root.iter() if len(element)]
        if not parents:
            break
        parent = random_.choice(parents)
        element = random_.choice(list(parent))
        kind = random_.random()
        if kind < 0.6:
            value = random_.choice(words) if random_.random() < 0.3 else f"{random_.choice(VALUES)}"
            value = "".join(c for c in value if c.isprintable())  # what XML cannot hold is for `mutate_bytes`
            keys = [*element.attrib, *([""] if element.text and element.text.strip() else [])]
            key = random_.choice(keys or [""])
            if key:
                element.set(key, value)
            else:
                element.text = value
        elif kind < 0.7 and element.attrib:
            del element.attrib[random_.choice(list(element.attrib))]
        elif kind < 0.8:
            parent.remove(element)
        elif kind < 0.87:
            parent.append(copy.deepcopy(element))
        elif kind < 0.94:
            random_.choice(list(root.iter())).append(copy.deepcopy(element))
        else:
            element.tag = random_.choice([e.tag for e in root.iter()])
    made: bytes = ElementTree.tostring(root, "utf-8")
    return made


Mutation = Callable[[random.Random], bytes]


def mutations_of(data: bytes, kind: str) -> Mutation:
    """A way to make ever other wrong versions of a file; `kind` is toml, json, xml or bytes."""
    if kind == "toml":
        import tomllib

        document = tomllib.loads(data.decode())

        def toml(random_: random.Random) -> bytes:
            if random_.random() < 0.25:
                return mutate_bytes(data, random_)
            try:
                return as_toml(mutate_tables(document, random_))
            except (ValueError, TypeError, RecursionError, OverflowError, AttributeError):  # TOML cannot say it
                return mutate_bytes(data, random_)

        return toml
    if kind == "json":
        import json

        document = json.loads(data)
        return lambda random_: mutate_bytes(data, random_) if random_.random() < 0.3 else mutate_json(document, random_)
    if kind == "xml":
        return lambda random_: mutate_bytes(data, random_) if random_.random() < 0.25 else mutate_xml(data, random_)
    return lambda random_: mutate_bytes(data, random_)
