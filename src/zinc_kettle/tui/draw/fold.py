"""Short pieces of text, several to a line, none torn apart at the end of one."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text


def fold(pieces: Sequence[Text], width: int, gap: int = 2) -> Text:
    """The pieces one after another, on a new line where the next has no room. A wrap at blanks, which is what a widget
    does, would leave a mark on one line and its word on the next."""
    out = Text()
    used = 0
    for piece in pieces:
        if used and used + gap + piece.cell_len > width:
            out.append("\n")
            used = 0
        elif used:
            out.append(" " * gap)
            used += gap
        out.append_text(piece)
        used += piece.cell_len
    return out
