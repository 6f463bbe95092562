"""Shapes of the models that `synth` makes by name."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

from zinc_kettle.core.model_shape import ModelShape, from_sizes
from zinc_kettle.core.storage_types import STORAGE_TYPES
from zinc_kettle.errors import ModelError
from zinc_kettle.formats import vocab

_BLOCK = 32


@dataclass(frozen=True)
class Shape:
    """The shape of a made-up model of the `llama` architecture."""

    layers: int
    width: int
    heads: int
    kv_heads: int
    ffn: int
    """Of one expert, where there are several."""
    experts: int = 0
    experts_active: int = 0
    tokenizer: Literal["sentencepiece", "bpe"] = "sentencepiece"

    def check(self, quantization: str = "F16") -> None:
        """Raise ModelError where the parts do not fit each other or a quantization's blocks."""
        if min(self.layers, self.width, self.heads, self.kv_heads, self.ffn) < 1:
            raise ModelError("a model needs at least one of each", remedy="give positive numbers")
        if self.experts and not 0 < self.experts_active <= self.experts:
            raise ModelError(
                f"{self.experts_active} of {self.experts} experts cannot work on a token",
                remedy="--experts-active between 1 and --experts",
            )
        if self.width % self.heads or self.heads % self.kv_heads:
            raise ModelError(
                f"{self.width} wide, {self.heads} heads, {self.kv_heads} KV heads do not divide evenly",
                remedy="make the width a multiple of the heads and the heads a multiple of the KV heads",
            )
        if self.width % _BLOCK or self.ffn % _BLOCK or (self.width // self.heads) % 2:
            raise ModelError(
                "width and feed-forward size must be multiples of 32, the head size even",
                remedy="for instance --layers 10 --width 256 --heads 4 --kv-heads 2 --ffn 1280",
            )
        block = STORAGE_TYPES[quantization].block_weights
        if self.width % block or self.ffn % block:
            raise ModelError(
                f"{quantization} stores blocks of {block} weights, and a width of {self.width} with {self.ffn} "
                "feed-forward does not divide into them",
                remedy=f"make both multiples of {block}, or choose another quantization",
            )


PRESETS: dict[str, Shape] = {
    "brine-15m": Shape(layers=10, width=256, heads=4, kv_heads=2, ffn=1280),
    "brine-60m": Shape(layers=14, width=512, heads=8, kv_heads=4, ffn=2048),
    "brine-250m": Shape(layers=18, width=1024, heads=16, kv_heads=8, ffn=3328),
    "brine-1b": Shape(layers=20, width=2048, heads=32, kv_heads=8, ffn=6144),
    "shoal-140m": Shape(layers=10, width=512, heads=8, kv_heads=4, ffn=1024, experts=8, experts_active=2),
}
"""Those called shoal are mixtures of experts."""
UNTAMED = "-untamed"
"""Suffix of a preset whose model may also say byte and end tokens: for testing the traps."""
BPE = "-bpe"
"""Suffix of a preset with a byte-level BPE vocabulary, which more engines split alike."""


def is_preset(name: str) -> bool:
    """True when `synth` knows how to make a model of this name."""
    return _plain(name) in PRESETS


def is_tame(name: str) -> bool:
    """False for a preset whose model may also say byte and end tokens."""
    return not name.endswith(UNTAMED)


def preset(name: str) -> Shape:
    """The shape of a preset, of either vocabulary.

    Raises:
        KeyError: No such preset.
    """
    shape = PRESETS[_plain(name)]
    return replace(shape, tokenizer="bpe") if name.removesuffix(UNTAMED).endswith(BPE) else shape


def _plain(name: str) -> str:
    return name.removesuffix(UNTAMED).removesuffix(BPE)


def preset_shape(name: str, quantization: str) -> ModelShape:
    """The shape of a preset that has not been made yet.

    Raises:
        KeyError: No such preset or quantization.
    """
    shape = preset(name)
    words = vocab.build_bpe() if shape.tokenizer == "bpe" else vocab.build()
    return from_sizes(
        layers=shape.layers,
        heads=shape.heads,
        kv_heads=shape.kv_heads,
        width=shape.width,
        ffn=shape.ffn,
        vocab=len(words.tokens),
        weight_type=quantization,
        name=name,
        experts=shape.experts,
        experts_active=shape.experts_active,
    )
