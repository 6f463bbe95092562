"""Text from engines and files, made safe to show: no terminal control ever reaches a terminal."""

from __future__ import annotations

import re
import unicodedata

_ESCAPES = re.compile(r"\x1b(?:\[[0-?]*[ -/]*[@-~]|\][^\x07\x1b]*(?:\x07|\x1b\\)?|[@-Z\\-_])")
_HIDDEN = frozenset({"Cc", "Cf", "Cs", "Zl", "Zp"})
"""Unicode categories of what a terminal obeys or does not show: controls, zero-width and direction characters,
surrogates, separators of lines and paragraphs."""


def is_hidden(char: str) -> bool:
    """True for a character that a person cannot see, and that may change how others are seen."""
    return unicodedata.category(char) in _HIDDEN


def neutralise(text: str, *, keep_newlines: bool = True) -> str:
    """Drop terminal escapes and replace every other control character with a visible middle dot.

    Args:
        text: Anything an engine, a file or a person wrote.
        keep_newlines: Keep line feeds; otherwise they become spaces.

    Returns:
        Text in which no character is hidden, apart from the line feeds kept.
    """
    if text.isascii() and text.isprintable():
        return text
    out: list[str] = []
    for char in _ESCAPES.sub("", text):
        if char == "\n":
            out.append("\n" if keep_newlines else " ")
        elif char == "\t":
            out.append(" ")
        elif is_hidden(char):
            out.append("·")
        else:
            out.append(char)
    return "".join(out)


def capitalised(text: str) -> str:
    """With a capital at its beginning, and all else as it is."""
    return text[:1].upper() + text[1:]


def shorten(text: str, width: int) -> str:
    """Cut text to `width` characters, with an ellipsis where something was cut."""
    return text if len(text) <= width else text[: max(0, width - 1)] + "…"
