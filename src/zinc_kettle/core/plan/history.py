"""What a text was and will be again: changes with undo and redo."""

from __future__ import annotations

from dataclasses import dataclass, replace

MOST_KEPT = 500
"""Changes that can be undone; a person who wants more wants another file."""


@dataclass(frozen=True, slots=True)
class History:
    """A text with the states before it and, after an undo, those behind it."""

    texts: tuple[str, ...] = ("",)
    at: int = 0

    @property
    def text(self) -> str:
        """As it is now."""
        return self.texts[self.at]

    def changed(self, text: str) -> History:
        """With a new state; what had been undone is gone. The same where nothing changes."""
        if text == self.text:
            return self
        kept = (*self.texts[: self.at + 1], text)[-MOST_KEPT:]
        return History(kept, len(kept) - 1)

    def undone(self) -> History:
        """One state back; the same at the first."""
        return replace(self, at=self.at - 1) if self.at else self

    def redone(self) -> History:
        """One state forth; the same at the last."""
        return replace(self, at=self.at + 1) if self.at + 1 < len(self.texts) else self
