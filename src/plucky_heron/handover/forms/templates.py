"""The templates of generated text."""

from __future__ import annotations

from typing import TYPE_CHECKING

from markupsafe import Markup

from plucky_heron.handover.text import plain_text

if TYPE_CHECKING:
    import jinja2


def templates(html: bool = False) -> jinja2.Environment:
    """The templates of generated text; a missing value is an error, not a blank. In `html` signs of the markup are escaped, too."""
    import jinja2

    loader = jinja2.PackageLoader("plucky_heron.handover")
    # what is generated is C and Markdown, for which HTML escapes would be wrong
    made = jinja2.Environment(
        loader=loader, undefined=jinja2.StrictUndefined, keep_trailing_newline=True, autoescape=html, finalize=_admitted
    )
    return made


def _admitted(value: object) -> object:
    """What a template may insert: numbers as they are, code of ours marked as such, any other text in the plain alphabet."""
    return plain_text(value) if isinstance(value, str) and not isinstance(value, Code | Markup) else value


class Code(str):
    """Text that this package generated itself, out of numbers."""

    __slots__ = ()
