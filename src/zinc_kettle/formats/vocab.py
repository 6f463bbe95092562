"""Byte-complete vocabularies in which one four-letter word is exactly one token, in the two usual kinds.

Control tokens, 256 byte tokens, printable ASCII, consonant-vowel syllables and words of two syllables.
Any UTF-8 text tokenizes; `bada ribo kola` is three tokens, which makes exact prompt lengths easy. The SentencePiece
kind scores its tokens; the byte-level BPE kind, which more engines split alike, builds them by merges.
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
    merges: list[str] | None = None
    """Pairs that byte-level BPE joins, the first first; None for the SentencePiece kind."""


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


BPE_CONTROL = ("<unk>", "<s>", "</s>", "<|turn|>", "<|end|>")
SPACE = "\u0120"
"""A space, as byte-level BPE writes it."""


def byte_signs() -> list[str]:
    """The sign that stands for each byte in byte-level BPE: itself where it is printable, else one from 256 on.

    Source: the scheme of the GPT-2 tokenizer, which every reader of such a vocabulary has built in.
    """
    plain = {*range(33, 127), *range(161, 173), *range(174, 256)}
    out, further = [], 256
    for byte in range(256):
        out.append(chr(byte) if byte in plain else chr(further))
        further += byte not in plain
    return out


def build_bpe() -> Vocabulary:
    """Build the byte-level BPE vocabulary; the same lists on every machine."""
    syllables = [c + v for c, v in product(CONSONANTS, VOWELS)]
    entries: list[tuple[str, int, bool]] = [(t, TYPE_CONTROL, False) for t in BPE_CONTROL]
    entries += [(sign, TYPE_NORMAL, False) for sign in byte_signs()]
    entries += [(syllable, TYPE_NORMAL, False) for syllable in syllables]
    entries += [(word, TYPE_NORMAL, False) for word in words()]
    entries += [(SPACE + word, TYPE_NORMAL, True) for word in words()]
    entries += [(f"<|unused{i}|>", TYPE_UNUSED, False) for i in range(-len(entries) % ROW_MULTIPLE)]
    merges = [f"{s[0]} {s[1]}" for s in syllables]
    merges += [f"{word[:2]} {word[2:]}" for word in words()]
    merges += [f"{SPACE} {word}" for word in words()]
    return Vocabulary(
        tokens=[e[0] for e in entries],
        scores=[0.0] * len(entries),
        types=[e[1] for e in entries],
        speakable=[e[2] for e in entries],
        merges=merges,
    )
