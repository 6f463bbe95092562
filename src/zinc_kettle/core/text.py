"""Text from engines and files, made safe to show: no terminal control ever reaches a terminal."""

from __future__ import annotations

import re
import unicodedata

_ESCAPES = re.compile(r"\x1b(?:\[[0-?]*[ -/]*[@-~]|\][^\x07\x1b]*(?:\x07|\x1b\\)?|[@-Z\\-_])")
# Bidirectional overrides can reorder what a person reads, so they are controls too.
_BIDI = frozenset("\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069\u200e\u200f")


def neutralise(text: str, *, keep_newlines: bool = True) -> str:
    """Drop terminal escapes and replace every other control character with a visible middle dot.

    Args:
        text: Anything an engine, a file or a person wrote.
        keep_newlines: Keep line feeds; otherwise they become spaces.

    Returns:
        Text in which no character is a control, a surrogate or a direction override.
    """
    out: list[str] = []
    for char in _ESCAPES.sub("", text):
        if char == "\n":
            out.append("\n" if keep_newlines else " ")
        elif char == "\t":
            out.append(" ")
        elif char in _BIDI or unicodedata.category(char) in {"Cc", "Cs"}:
            out.append("·")
        else:
            out.append(char)
    return "".join(out)


def shorten(text: str, width: int) -> str:
    """Cut text to `width` characters, with an ellipsis where something was cut."""
    return text if len(text) <= width else text[: max(0, width - 1)] + "…"
