"""Prompts of an exact length, and the salt that keeps an engine from having seen them before."""

from __future__ import annotations

import random

SALT_DIGITS = 6
"""Digits a salt has, each its own token with nearly every tokenizer; a million different ones."""
TOLERANCE = 0.01
"""How far a prompt may be from the length asked for when the engine cannot count for us."""
_CONSONANTS, _VOWELS = "bdfgklmnrt", "aeiou"


def made_up_words(count: int, *, seed: int) -> str:
    """`count` words of four letters; the same words for the same seed."""
    rng = random.Random(f"words-{seed}")
    pick = rng.choice
    return " ".join(pick(_CONSONANTS) + pick(_VOWELS) + pick(_CONSONANTS) + pick(_VOWELS) for _ in range(max(0, count)))


def stretch(text: str, characters: int) -> str:
    """Cut or repeat a text to a number of characters; one character more is at most a token or so more."""
    if not text:
        return ""
    whole = text + "\n"
    return (whole * (characters // len(whole) + 1))[:characters]


def salt(seed: int, nonce: str, index: int) -> str:
    """The salt of one request: single digits, so that every salt has as many tokens.

    Args:
        seed: Seed of the study.
        nonce: Fresh for each run of the tool, so that a resumed study does not repeat itself.
        index: Number of the request within the run.
    """
    rng = random.Random(f"{seed}-{nonce}-{index}")
    return " ".join(str(rng.randrange(10)) for _ in range(SALT_DIGITS))


def message(body: str, salt_text: str | None) -> str:
    """The user's message: the salt first, because only what comes first keeps a prefix from being reused."""
    return body if salt_text is None else f"{salt_text} {body}"


def with_earlier(earlier: str, body: str, salt_text: str | None) -> str:
    """A message whose earlier text an engine may reuse: the salt comes after it, so that only the prompt is new."""
    return f"{earlier}\n\n{message(body, salt_text)}" if earlier else message(body, salt_text)


class LengthSearch:
    """Finds how many units (words, or characters) make a prompt of an exact number of tokens, by asking for counts.

    Feed it counts until `done`. Tokens grow nearly linearly with units, so this takes two to five counts.
    """

    MAX_PROBES = 12

    def __init__(self, target_tokens: int) -> None:
        self.target = target_tokens
        self.units = max(1, target_tokens - 24)
        self.best: tuple[int, int] | None = None
        self._seen: dict[int, int] = {}
        self.done = False

    def feed(self, tokens: int) -> None:
        """Take the count that `units` units gave; choose the next number of units, or finish."""
        self._seen[self.units] = tokens
        if self.best is None or abs(tokens - self.target) < abs(self.best[1] - self.target):
            self.best = (self.units, tokens)
        step = self._step(tokens)
        following = max(0, self.units + step)
        if step == 0 or following in self._seen or len(self._seen) >= self.MAX_PROBES:
            self.done = True
            self.units = self.best[0]
        else:
            self.units = following

    def _step(self, tokens: int) -> int:
        missing = self.target - tokens
        if missing == 0:
            return 0
        slope = self._slope()
        step = round(missing / slope)
        return step if step else (1 if missing > 0 else -1)

    def _slope(self) -> float:
        if len(self._seen) < 2:
            return 1.0
        (w1, t1), (w2, t2) = sorted(self._seen.items())[0], sorted(self._seen.items())[-1]
        return max(0.2, (t2 - t1) / (w2 - w1))
