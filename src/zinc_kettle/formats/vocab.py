"""A byte-complete SentencePiece-style vocabulary in which one four-letter word is exactly one token.

Control tokens, 256 byte tokens, printable ASCII, consonant-vowel syllables and words of two syllables.
Any UTF-8 text tokenizes; `bada ribo kola` is three tokens, which makes exact prompt lengths easy.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import product

CONTROL = ("<unk>", "<s>", "</s>", "<|turn|>", "<|end|>")
BOS_ID, EOS_ID, TURN_ID, END_ID = 1, 2, 3, 4
CONSONANTS = "bdfgklmnrt"
VOWELS = "aeiou"
ROW_MULTIPLE = 256
"""The vocabulary is padded to this, so that every quantization's block fits the head's columns and rows."""

TYPE_NORMAL, TYPE_UNKNOWN, TYPE_CONTROL, TYPE_UNUSED, TYPE_BYTE = 1, 2, 3, 5, 6

CHAT_TEMPLATE = (
    "{% for message in messages %}{{ '<|turn|>' + message['role'] + '\\n' + message['content'] + '<|end|>\\n' }}"
    "{% endfor %}{% if add_generation_prompt %}{{ '<|turn|>assistant\\n' }}{% endif %}"
)


@dataclass(frozen=True)
class Vocabulary:
    """Parallel lists, one entry per token id."""

    tokens: list[str]
    scores: list[float]
    types: list[int]
    speakable: list[bool]
    """True for words: what a tame model may say."""


def words() -> list[str]:
    """All words of two consonant-vowel syllables, in a fixed order."""
    syllables = [c + v for c, v in product(CONSONANTS, VOWELS)]
    return [a + b for a, b in product(syllables, repeat=2)]


def build() -> Vocabulary:
    """Build the vocabulary; the same list on every machine."""
    entries: list[tuple[str, int, bool]] = [(t, TYPE_UNKNOWN if t == "<unk>" else TYPE_CONTROL, False) for t in CONTROL]
    entries += [(f"<0x{byte:02X}>", TYPE_BYTE, False) for byte in range(256)]
    entries += [("▁", TYPE_NORMAL, False)]
    entries += [(chr(code), TYPE_NORMAL, False) for code in range(33, 127)]
    entries += [(c + v, TYPE_NORMAL, False) for c, v in product(CONSONANTS, VOWELS)]
    entries += [(word, TYPE_NORMAL, False) for word in words()]
    entries += [("▁" + word, TYPE_NORMAL, True) for word in words()]
    padding = -len(entries) % ROW_MULTIPLE
    entries += [(f"<|unused{i}|>", TYPE_UNUSED, False) for i in range(padding)]
    return Vocabulary(
        tokens=[e[0] for e in entries],
        scores=[-float(rank) for rank in range(len(entries))],
        types=[e[1] for e in entries],
        speakable=[e[2] for e in entries],
    )
