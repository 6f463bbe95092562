"""Secrets out of texts that are kept or shown."""

from __future__ import annotations

import re
from functools import lru_cache

HIDDEN = "[key]"
MIN_SECRET = 4
"""Shorter secrets would be found in ordinary words."""


def redact(text: str, *secrets: str) -> str:
    """The text with every secret replaced, in any case, also where only the greater part of it is at the text's end.

    A text may have been cut in the middle of a secret: a tail that is the beginning of one, with at least half of its
    characters, goes too; likewise a head that is the end of one.
    """
    for secret in secrets:
        if len(secret) < MIN_SECRET or not text:
            continue
        text = _pattern(secret).sub(HIDDEN, text)
        folded, lower = secret.lower(), text.lower()
        for length in range(len(secret) - 1, max(MIN_SECRET, len(secret) // 2) - 1, -1):
            if lower.endswith(folded[:length]):
                text = text[:-length] + HIDDEN
                lower = text.lower()
            if lower.startswith(folded[-length:]):
                text = HIDDEN + text[length:]
                lower = text.lower()
    return text


@lru_cache(maxsize=64)
def _pattern(secret: str) -> re.Pattern[str]:
    return re.compile(re.escape(secret), re.IGNORECASE)
