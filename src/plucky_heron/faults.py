"""What is wrong with a file, in one line: the key as it stands there, and what would be right in its place.

A schema's own complaints speak of types of the program. Here each becomes what a person would write: the unit, how many
numbers, which words.
"""

from __future__ import annotations

import types
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any, Literal, Union, get_args, get_origin

from pydantic import BaseModel, ValidationError

from plucky_heron.errors import FileError, did_you_mean
from plucky_heron.units import In, example

MOST_NAMED = 8
"""Keys that are named of a table."""
Location = Sequence[int | str]


class NoFlag(ValueError):
    """True or false stands where it cannot: Python would take it for a number."""

    def __init__(self, key: str, value: bool) -> None:
        self.key, self.value = key, value
        super().__init__(f"{key}: wanted a number or a text, not {str(value).lower()}")


def explain(error: ValidationError, model: type[BaseModel], source: Path | str) -> FileError:
    """The first fault of a validation as one line."""
    # a key that nobody knows usually explains why another one is missing
    fault = min(error.errors(), key=lambda e: e["type"] != "extra_forbidden")
    place = _find(model, fault["loc"])
    context: Mapping[str, Any] = fault.get("ctx", {})
    key, kind, value = ".".join(place.keys), fault["type"], fault.get("input")
    if kind == "extra_forbidden":
        return FileError(source, key, None, _unknown(place, model))
    if kind == "missing":
        return FileError(source, key, None, f"is missing; wanted {described(place.wanted)}")
    if kind in ("union_tag_invalid", "union_tag_not_found"):
        names = [kind for one in _choices(place.wanted) for kind in _kinds(one)]
        given = value.get("kind") if isinstance(value, dict) else None
        wanted = f"is missing; wanted {_either(names)}" if given is None else f"wanted {_either(names)}"
        return FileError(source, f"{key}.kind", given, wanted)
    flag = context.get("error")
    if isinstance(flag, NoFlag):
        inner, _ = _inside(place.wanted, flag.key)
        key, value, place.wanted, kind = ".".join([*place.keys, flag.key]), flag.value, inner, "no_flag"
    wanted = _wanted(kind, context, place) or fault["msg"].removeprefix("Value error, ")
    return FileError(source, key, None if isinstance(value, dict | list | tuple) else value, wanted)


@dataclass
class _Place:
    """Where a fault lies: its keys as they stand in the file, what is wanted there, and of which table it is a key."""

    keys: list[str]
    wanted: Any
    table: type[BaseModel] | None


def _find(model: type[BaseModel], location: Location) -> _Place:
    """Follow a location through the schema; what the schema adds of its own (names of types, kinds of a union) is no key."""
    found = _Place([], model, None)
    for part in location:
        inner, table = _inside(found.wanted, part)
        if inner is None:
            if not str(part).startswith(("function-", "tagged-union", "[")):
                found = _Place([*found.keys, str(part)], Any, table or found.table)
            continue
        own = _choice(found.wanted, part) is None
        found = _Place([*found.keys, str(part)] if own else found.keys, inner, table or found.table)
    return found


def _inside(annotation: Any, part: int | str) -> tuple[Any, type[BaseModel] | None]:
    """What is wanted under a part of a location, and the table that the part is a key of; None where nothing is."""
    chosen = _choice(annotation, part)
    if chosen is not None:
        return chosen, None
    for one in _choices(annotation):
        if isinstance(one, type) and issubclass(one, BaseModel):
            names = {field.alias or name: name for name, field in one.model_fields.items()}
            name = names.get(str(part), str(part))
            if name in one.model_fields:
                field = one.model_fields[name]
                wanted = Annotated[(field.annotation, *field.metadata)] if field.metadata else field.annotation
                return wanted, one
            return None, one
        arguments = get_args(one)
        if get_origin(one) is dict and isinstance(part, str) and part != "[key]":
            return arguments[1], None
        if get_origin(one) in (list, tuple) and isinstance(part, int) and arguments:
            several = get_origin(one) is list or Ellipsis in arguments
            return arguments[0] if several else arguments[min(part, len(arguments) - 1)], None
    return None, None


def _plain(annotation: Any) -> Any:
    """An annotation without its marks."""
    return _plain(get_args(annotation)[0]) if get_origin(annotation) is Annotated else annotation


def _choices(annotation: Any) -> list[Any]:
    """What may stand in a place, one by one; nothing is none of them."""
    plain = _plain(annotation)
    if get_origin(plain) not in (Union, types.UnionType):
        return [plain]
    return [one for part in get_args(plain) if part is not type(None) for one in _choices(part)]


def _choice(annotation: Any, part: int | str) -> Any:
    """The one of several that a part of a location names, by its kind or its type; None where it names none."""
    several = _choices(annotation)
    if len(several) < 2:
        return None
    for one in several:
        if part in _kinds(one) or part == getattr(one, "__name__", None) or str(part).startswith(str(one)):
            return one
    return None


def _kinds(table: Any) -> tuple[Any, ...]:
    """What a table may write as its kind."""
    field = getattr(table, "model_fields", {}).get("kind")
    return get_args(field.annotation) if field is not None else ()


def _unknown(place: _Place, top: type[BaseModel]) -> str:
    """What to say of a key that is none of its table's."""
    name = place.keys[-1]
    known = place.table.model_fields if place.table is not None else {}
    if place.table is not top and name in top.model_fields and name not in known:
        return f"belongs to the file, not to [{'.'.join(place.keys[:-1])}]; write it above the first line in brackets"
    return f"unknown key; {did_you_mean(name, sorted(known))}"


def _wanted(kind: str, context: Mapping[str, Any], place: _Place) -> str:
    """What would be right; empty where the schema's own validators have said it."""
    limits = {
        "greater_than": ("gt", "more than"), "greater_than_equal": ("ge", "at least"),
        "less_than": ("lt", "less than"), "less_than_equal": ("le", "at most"),
        "multiple_of": ("multiple_of", "a multiple of"),
    }  # fmt: skip
    if kind in limits:
        key, words = limits[kind]
        return (
            f"wanted {words} {context[key]:g}"
            if isinstance(context[key], int | float)
            else f"wanted {words} {context[key]}"
        )
    if kind in ("too_short", "too_long", "string_too_short", "string_too_long"):
        some = kind.endswith("short")
        bound = context["min_length" if some else "max_length"]
        if kind.startswith("string"):
            return f"wanted {'at least' if some else 'at most'} {bound} character{'s' * (bound != 1)}"
        plain = _choices(place.wanted)[0]
        fixed = get_origin(plain) is tuple and Ellipsis not in get_args(plain)
        given = context.get("actual_length")
        if fixed:
            return (
                f"wanted {described(place.wanted)}; there are {given}"
                if given is not None
                else f"wanted {described(place.wanted)}"
            )
        return f"wanted {'at least' if some else 'at most'} {bound}, each {described(_each(plain))}"
    if kind in ("value_error", "assertion_error"):
        return ""
    if kind == "finite_number":
        return "wanted a finite number"
    return f"wanted {described(place.wanted)}" if place.wanted is not Any else ""


def _each(annotation: Any) -> Any:
    return get_args(annotation)[-1 if get_origin(annotation) is dict else 0] if get_args(annotation) else Any


def _either(words: Sequence[object]) -> str:
    """'a', 'b' or 'c'."""
    said = [repr(word) if isinstance(word, str) else str(word) for word in words]
    return said[0] if len(said) == 1 else f"{', '.join(said[:-1])} or {said[-1]}"


def _quantity(unit: str) -> str:
    return f"a quantity in {unit}, such as {example(unit)}" if unit else "a number"


def described(annotation: Any) -> str:
    """What a person would write where `annotation` is wanted."""
    marks = getattr(annotation, "__metadata__", ())
    unit = next((mark.unit for mark in marks if isinstance(mark, In)), None)
    if unit is not None:
        return _quantity(unit)
    several = _choices(annotation)
    if set(several) == {float, str}:
        return "a number, or a quantity with its unit in quotes"
    if len(several) > 1 and all(_kinds(one) for one in several):
        return f"a table with kind = {_either([kind for one in several for kind in _kinds(one)])}"
    if len(several) > 1:
        return " or ".join(dict.fromkeys(described(one) for one in several))
    plain = several[0] if several else Any
    arguments, origin = get_args(plain), get_origin(plain)
    names = {float: "a number", int: "a whole number", bool: "true or false", str: "a text in quotes"}
    if isinstance(plain, type) and plain in names:
        return names[plain]
    if origin is Literal:
        return _either(arguments)
    if origin in (list, tuple) and arguments:
        if origin is tuple and Ellipsis not in arguments:
            return f"a list of {len(arguments)}, each {described(arguments[0])}"
        return f"a list, each {described(arguments[0])}"
    if origin is dict:
        return "a table" if arguments[1] is Any else f"a table of names, each {described(arguments[1])}"
    if isinstance(plain, type) and issubclass(plain, BaseModel):
        keys = list(plain.model_fields)
        return f"a table with {', '.join(keys[:MOST_NAMED])}{' …' if len(keys) > MOST_NAMED else ''}"
    return "another value"
