"""Secrets out of texts that are kept or shown."""

from __future__ import annotations

HIDDEN = "[key]"
MIN_SECRET = 4
"""Shorter secrets would be found in ordinary words."""


def redact(text: str, *secrets: str) -> str:
    """The text with every secret replaced, also where only the greater part of it is at the text's end.

    A text may have been cut in the middle of a secret: a tail that is the beginning of one, with at least half of its
    characters, goes too; likewise a head that is the end of one.
    """
    for secret in secrets:
        if len(secret) < MIN_SECRET:
            continue
        text = text.replace(secret, HIDDEN)
        for length in range(len(secret) - 1, max(MIN_SECRET, len(secret) // 2) - 1, -1):
            if text.endswith(secret[:length]):
                text = text[:-length] + HIDDEN
            if text.startswith(secret[-length:]):
                text = HIDDEN + text[length:]
    return text
