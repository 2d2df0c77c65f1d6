"""What a file's schema has, key by key, for forms that are made from it: kinds of fields, units, options and what each means.

Knows no widget. The meaning of a key is the line that stands under it in the schema's source.
"""

from __future__ import annotations

import ast
import functools
import inspect
import textwrap
import types
from dataclasses import dataclass
from typing import Annotated, Any, Literal, Union, get_args, get_origin

from pydantic import BaseModel
from pydantic.fields import FieldInfo

from plucky_heron.units import unit_in


@dataclass(frozen=True)
class Spec:
    """One key.

    Attributes
    ----------
    kind : str
        text, switch, choice, numbers (of fixed `count`), line (any number of values), rows (points, one a line), pairs (names with
        values, of `count` numbers each where that is not 0), group (of an `inner` schema), list and table (of entries of an `inner` schema, or of one of `variants`).
    """

    key: str
    kind: str
    unit: str = ""
    options: tuple[str, ...] = ()
    count: int = 0
    inner: type[BaseModel] | None = None
    variants: tuple[type[BaseModel], ...] = ()
    default: Any = None
    required: bool = False
    whole: bool = False
    says: str = ""


HIDDEN = ("format",)
"""Keys that nobody changes by hand."""


@functools.cache
def specs_of(model: type[BaseModel]) -> tuple[Spec, ...]:
    """All keys of a schema, in its order."""
    says = docs_of(model)
    return tuple(
        _spec(name, info, says.get(name, "")) for name, info in model.model_fields.items() if name not in HIDDEN
    )


def _spec(name: str, info: FieldInfo, says: str) -> Spec:
    unit = next((u for mark in info.metadata if (u := unit_in(mark)) is not None), None)
    required = info.is_required()
    default = None if required else info.get_default(call_default_factory=True)
    made = _of(name, info.annotation)
    return Spec(
        name, made.kind, unit if unit is not None else (unit_in(info.annotation) or made.unit), made.options, made.count,
        made.inner, made.variants, default, required, made.whole, says,
    )  # fmt: skip


def _of(key: str, annotation: Any) -> Spec:
    """What an annotation asks for."""
    origin = get_origin(annotation)
    if origin is Annotated:
        return _of(key, get_args(annotation)[0])
    if origin in (Union, types.UnionType):
        parts = [part for part in get_args(annotation) if part is not type(None)]
        models = tuple(part for part in parts if _is_model(part))
        if len(models) > 1:
            return Spec(key, "group", variants=models)
        # a number that may carry its unit is written as a text
        best = next((part for part in parts if part not in (str, float, int)), parts[0])
        return _of(key, best)
    if annotation is bool:
        return Spec(key, "switch")
    if origin is Literal:
        return Spec(key, "choice", options=tuple(map(str, get_args(annotation))))
    if _is_model(annotation):
        return Spec(key, "group", inner=annotation)
    if origin is tuple:
        items = get_args(annotation)
        if len(items) == 2 and items[1] is Ellipsis:
            inner = _of(key, items[0])
            if inner.kind == "group":
                return Spec(key, "list", inner=inner.inner, variants=inner.variants)
            return Spec(key, "rows" if inner.kind == "numbers" else "line", unit=inner.unit)
        return Spec(key, "numbers", unit=unit_in(items[0]) or "", count=len(items))
    if origin is dict:
        inner = _of(key, get_args(annotation)[1])
        if inner.kind == "group":
            return Spec(key, "table", inner=inner.inner, variants=inner.variants)
        return Spec(key, "pairs", unit=inner.unit, count=inner.count)
    return Spec(key, "text", whole=annotation is int)


def _is_model(part: Any) -> bool:
    return isinstance(part, type) and issubclass(part, BaseModel)


@functools.cache
def docs_of(model: type[BaseModel]) -> dict[str, str]:
    """What stands under each key in the source of a schema, in one line."""
    found: dict[str, str] = {}
    for base in reversed(model.__mro__):
        if base in (BaseModel, object) or not issubclass(base, BaseModel):
            continue
        try:
            body = ast.parse(textwrap.dedent(inspect.getsource(base))).body[0]
        except (OSError, TypeError, SyntaxError):
            continue
        if not isinstance(body, ast.ClassDef):
            continue
        for line, after in zip(body.body, [*body.body[1:], None], strict=True):
            if not (isinstance(line, ast.AnnAssign) and isinstance(line.target, ast.Name)):
                continue
            if isinstance(after, ast.Expr) and isinstance(after.value, ast.Constant):
                found[line.target.id] = " ".join(str(after.value.value).replace("`", "").split())
    return found


def variant_of(spec: Spec, value: Any) -> type[BaseModel] | None:
    """The schema of an entry: the only one, or the one of its kind."""
    if spec.inner is not None:
        return spec.inner
    kind = value.get("kind") if isinstance(value, dict) else None
    return next((model for model in spec.variants if kind in kinds_of(model)), None)


def kinds_of(model: type[BaseModel]) -> tuple[str, ...]:
    """What a schema's `kind` may be; nothing where it has none."""
    return next((spec.options for spec in specs_of(model) if spec.key == "kind"), ())
