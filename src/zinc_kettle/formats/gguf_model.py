"""From the header of a GGUF file, or of all parts of a split one, to the shape of the model."""

from __future__ import annotations

import re
from pathlib import Path
from typing import BinaryIO

from zinc_kettle.core.model_shape import ModelShape, TensorGroup, TensorKind, add_up
from zinc_kettle.errors import ModelError
from zinc_kettle.formats.gguf_reader import Header, Skipped, TensorInfo, Value, read_head, read_header

MAX_LAYERS = 4_096
MAX_PARTS = 999
MAX_SIZE = 1 << 31
"""Larger sizes of anything are lies."""
_SPLIT = re.compile(r"^(?P<stem>.+)-(?P<no>\d{5})-of-(?P<count>\d{5})\.gguf$")
_FULL_EVERY = {"gemma2": 2, "gemma3": 6, "gemma3n": 5, "cohere2": 4, "gpt-oss": 2, "llama4": 4, "olmo2": 4}
"""Architectures whose windowed layers follow a pattern that older files do not tell: each so-manyth looks at all."""
_RECURRENT = ("ssm.state_size", "wkv.head_size")
_LABELS = {
    0: "F32",
    1: "F16",
    2: "Q4_0",
    3: "Q4_1",
    7: "Q8_0",
    8: "Q5_0",
    9: "Q5_1",
    10: "Q2_K",
    11: "Q3_K_S",
    12: "Q3_K_M",
    13: "Q3_K_L",
    14: "Q4_K_S",
    15: "Q4_K_M",
    16: "Q5_K_S",
    17: "Q5_K_M",
    18: "Q6_K",
    19: "IQ2_XXS",
    20: "IQ2_XS",
    21: "Q2_K_S",
    22: "IQ3_XS",
    23: "IQ3_XXS",
    24: "IQ1_S",
    25: "IQ4_NL",
    26: "IQ3_S",
    27: "IQ3_M",
    28: "IQ2_S",
    29: "IQ2_M",
    30: "IQ4_XS",
    31: "IQ1_M",
    32: "BF16",
    36: "TQ1_0",
    37: "TQ2_0",
    38: "MXFP4",
}


def part_paths(path: Path) -> list[Path]:
    """All parts of a split model in order, by their names; a file that is not split stands alone.

    Raises:
        ModelError: A part is missing.
    """
    found = _SPLIT.match(path.name)
    if found is None:
        return [path]
    count = int(found["count"])
    if not 1 <= count <= MAX_PARTS:
        raise ModelError(f"{path.name}: a model in {count:,} parts is not read")
    parts = [path.with_name(f"{found['stem']}-{i:05d}-of-{count:05d}.gguf") for i in range(1, count + 1)]
    missing = [p.name for p in parts if not p.is_file()]
    if missing:
        more = f" and {len(missing) - 1} more" if len(missing) > 1 else ""
        raise ModelError(
            f"a part of a split model is missing: {missing[0]}{more}",
            remedy="put all parts into one folder",
        )
    return parts


def read_gguf(path: Path) -> ModelShape:
    """Read a model's shape; only headers are read.

    Raises:
        ModelError: Anything wrong with the file or one of its parts.
    """
    headers = [read_header(part) for part in part_paths(path)]
    claimed = headers[0].fields.get("split.count", 1)
    if isinstance(claimed, int) and claimed > 1 and claimed != len(headers):
        raise ModelError(
            f"{path.name} is one of {claimed} parts, and {len(headers)} are here",
            remedy="keep the names the parts were given and put all into one folder",
        )
    return _Shape(path.name, headers[0]).shape([t for h in headers for t in h.tensors])


def read_gguf_head(file: BinaryIO, name: str, size: int) -> ModelShape:
    """Read a model's shape from the beginning of its file; the first part alone of a split one.

    Raises:
        ModelError: As `read_gguf`.
    """
    header = read_head(file, name, size)
    return _Shape(name, header).shape(list(header.tensors))


class _Shape:
    """Reads the fields of one model."""

    def __init__(self, name: str, header: Header) -> None:
        self._name = name
        self._fields = header.fields
        architecture = header.fields.get("general.architecture")
        if not isinstance(architecture, str) or not architecture:
            raise ModelError(f"{name}: does not say its architecture", remedy="this is not a model, or it is damaged")
        self._architecture = architecture[:64]

    def shape(self, tensors: list[TensorInfo]) -> ModelShape:
        """The whole shape."""
        layers = self._size("block_count", limit=MAX_LAYERS)
        width = self._size("embedding_length")
        heads = max(self._list("attention.head_count", layers, default=0))
        head = width // heads if heads else 0
        key_dim = self._number("attention.key_length", head)
        window, windowed = self._window(layers)
        return ModelShape(
            name=self._text("general.name") or self._name.removesuffix(".gguf"),
            architecture=self._architecture,
            layers=layers,
            width=width,
            heads=heads,
            kv_heads=self._kv_heads(layers, heads),
            key_dim=key_dim,
            value_dim=self._number("attention.value_length", head),
            ffn=max(self._list("feed_forward_length", layers, default=0)),
            vocab=self._vocab(tensors),
            context_length=self._number("context_length", 0) or None,
            experts=self._number("expert_count", 0),
            experts_active=self._number("expert_used_count", 0),
            window=window,
            windowed=windowed,
            label=_LABELS.get(self._plain("general.file_type", -1)),
            tokenizer=self._text("tokenizer.ggml.model"),
            tied=not any(t.name == "output.weight" for t in tensors),
            groups=add_up(_group(t) for t in tensors),
            notes=tuple(self._notes(window, windowed)),
        )

    def _get(self, key: str) -> Value | None:
        return self._fields.get(f"{self._architecture}.{key}")

    def _plain(self, full: str, default: int) -> int:
        value = self._fields.get(full, default)
        return value if isinstance(value, int) and 0 <= value < MAX_SIZE else default

    def _number(self, key: str, default: int) -> int:
        return self._plain(f"{self._architecture}.{key}", default)

    def _size(self, key: str, limit: int = MAX_SIZE) -> int:
        value = self._get(key)
        if not isinstance(value, int) or isinstance(value, bool) or not 1 <= value <= limit:
            raise ModelError(
                f"{self._name}: {self._architecture}.{key} is "
                f"{'missing' if value is None else 'not a sensible number'}",
                remedy="this is not a language model, or it is damaged",
            )
        return value

    def _text(self, full: str) -> str | None:
        value = self._fields.get(full)
        return value[:120] if isinstance(value, str) and value else None

    def _list(self, key: str, layers: int, default: int) -> tuple[int, ...]:
        value = self._get(key)
        numbers = value if isinstance(value, list) else [value if isinstance(value, int) else default]
        good = [n for n in numbers if isinstance(n, int) and 0 <= n < MAX_SIZE]
        if len(good) == layers:
            return tuple(good)
        return (good[0] if good else default,) * layers

    def _kv_heads(self, layers: int, heads: int) -> tuple[int, ...]:
        return self._list("attention.head_count_kv", layers, default=heads)

    def _window(self, layers: int) -> tuple[int | None, tuple[bool, ...]]:
        window = self._number("attention.sliding_window", 0)
        if not window:
            return None, ()
        pattern = self._get("attention.sliding_window_pattern")
        if isinstance(pattern, list) and len(pattern) == layers:
            return window, tuple(bool(p) for p in pattern)
        every = pattern if isinstance(pattern, int) and pattern > 0 else _FULL_EVERY.get(self._architecture, 0)
        if every == 0:
            return window, ()
        return window, tuple((i + 1) % every != 0 for i in range(layers)) if every > 1 else (True,) * layers

    def _notes(self, window: int | None, windowed: tuple[bool, ...]) -> list[str]:
        out = []
        if window and not windowed:
            out.append(
                f"The file has a window of {window:,} tokens but not which layers have it; the KV cache is counted "
                "as if none had."
            )
        if any(self._get(key) for key in _RECURRENT):
            out.append("The model keeps a recurrent state beside its KV cache, which is not counted.")
        if self._get("attention.kv_lora_rank"):
            out.append("The model compresses its KV cache; engines that use this need less than is counted here.")
        return out

    def _vocab(self, tensors: list[TensorInfo]) -> int:
        tokens = self._fields.get("tokenizer.ggml.tokens")
        if isinstance(tokens, Skipped):
            return tokens.count
        rows = [t.dimensions[1] for t in tensors if t.name == "token_embd.weight" and len(t.dimensions) > 1]
        return rows[0] if rows else self._number("vocab_size", 0)


def _group(t: TensorInfo) -> TensorGroup:
    layer = re.match(r"blk\.(\d{1,4})\.", t.name)
    return TensorGroup(_kind(t.name), int(layer[1]) if layer else None, t.type, t.weights, t.size_bytes)


def _kind(name: str) -> TensorKind:
    if "norm" in name:
        return "norm"
    if name.startswith("token_embd"):
        return "embedding"
    if name.startswith("output."):
        return "output"
    if "_exps" in name:
        return "experts"
    if ".attn_" in name:
        return "attention"
    return "feed-forward" if ".ffn_" in name else "other"
