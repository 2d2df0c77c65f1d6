"""Text of tasks and machines as it may stand in generated code and documents: one alphabet in which nothing can end a comment or a string."""

from __future__ import annotations

import re
import unicodedata

_WRITTEN_OUT = {
    "°": " deg ",
    "²": "2",
    "³": "3",
    "·": "*",
    "×": "x",
    "µ": "u",
    "μ": "u",
    "±": "+-",
    "−": "-",
    "–": "-",
    "—": "-",
    "…": "...",
    "Ω": "Ohm",
}
_ALPHABET = re.compile(r"[^A-Za-z0-9 _.,:;+\-*/()\[\]=%<>]")
# what opens or ends a comment in C, Structured Text or HTML; stars and strokes that stand together become apart
_TOGETHER = re.compile(r"([*/()])(?=[*/()])|(<)(?=[!/A-Za-z])|(-)(?=[->])")


def plain_text(text: str, most: int = 200) -> str:
    """`text` in one line of letters, digits and a few signs.

    Left out are quotes, backslashes, question marks (trigraphs), braces, dollar, hash and at signs, and all that is no
    ASCII; signs that would open or end a comment are set apart. The result is the same when it is done again.
    """
    for sign, written in _WRITTEN_OUT.items():
        text = text.replace(sign, written)
    text = unicodedata.normalize("NFKD", text)
    text = _ALPHABET.sub(" ", "".join(c for c in text if not unicodedata.combining(c)))
    text = _TOGETHER.sub(lambda found: f"{found.group(0)} ", " ".join(text.split()))
    return " ".join(text.split())[:most].rstrip()
