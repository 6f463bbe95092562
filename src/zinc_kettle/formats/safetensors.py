"""A folder of safetensors files with its config.json: only headers are read, within bounds."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import msgspec

from zinc_kettle.core.model_shape import ModelShape, TensorGroup, TensorKind, add_up
from zinc_kettle.core.storage_types import STORAGE_TYPES, StorageType
from zinc_kettle.core.text import neutralise
from zinc_kettle.errors import ModelError

MAX_HEADER_BYTES = 16 << 20
MAX_CONFIG_BYTES = 1 << 20
MAX_FILES = 999
MAX_TENSORS = 200_000
MAX_WEIGHTS = 1 << 45
_TYPES = {
    "F64": "F64",
    "F32": "F32",
    "F16": "F16",
    "BF16": "BF16",
    "F8_E4M3": "F8",
    "F8_E5M2": "F8",
    "I64": "I64",
    "I32": "I32",
    "I16": "I16",
    "I8": "I8",
    "U8": "I8",
    "BOOL": "I8",
}


class _Entry(msgspec.Struct):
    """One tensor of a header."""

    dtype: str
    shape: list[int]
    data_offsets: tuple[int, int]


def is_folder(path: Path) -> bool:
    """True for a folder that holds such a model."""
    return path.is_dir() and (path / "config.json").is_file() and any(path.glob("*.safetensors"))


def read_safetensors(folder: Path) -> ModelShape:
    """Read a model's shape from a folder.

    Raises:
        ModelError: The folder or one of its files cannot be used.
    """
    try:
        config = _config(folder / "config.json")
        files = sorted(folder.glob("*.safetensors"))[: MAX_FILES + 1]
        if not files or len(files) > MAX_FILES:
            raise ModelError(f"{folder.name} has {len(files):,} safetensors files", remedy="1 to 999 are read")
        tensors = [t for file in files for t in _header(file)]
    except OSError as error:
        raise ModelError(f"{folder.name} cannot be read", why=str(error.strerror or error)) from error
    return _shape(folder.name, config, tensors)


def _config(path: Path) -> dict[str, Any]:
    if path.stat().st_size > MAX_CONFIG_BYTES:
        raise ModelError(f"{path.name} is larger than 1 MiB", remedy="this is not a model configuration")
    try:
        value = msgspec.json.decode(path.read_bytes(), type=dict[str, Any])
    except (msgspec.MsgspecError, RecursionError) as error:
        raise ModelError(f"{path.name} is not a JSON object", why=str(error)) from error
    inner = value.get("text_config")
    return {**value, **inner} if isinstance(inner, dict) else value


def _header(path: Path) -> list[TensorGroup]:
    size = path.stat().st_size
    with path.open("rb") as file:
        length = int.from_bytes(file.read(8), "little")
        if length < 2 or length > min(size - 8, MAX_HEADER_BYTES):
            raise ModelError(
                f"{path.name}: claims a header of {length:,} bytes",
                why=f"the file has {size:,} bytes",
                remedy="the file is damaged or still being copied; fetch it again",
            )
        raw = file.read(length)
    try:
        entries = msgspec.json.decode(raw, type=dict[str, msgspec.Raw])
        entries.pop("__metadata__", None)
        if len(entries) > MAX_TENSORS:
            raise ModelError(f"{path.name}: lists {len(entries):,} tensors")
        return [_tensor(path.name, name, msgspec.json.decode(e, type=_Entry), size) for name, e in entries.items()]
    except (msgspec.MsgspecError, RecursionError) as error:
        raise ModelError(f"{path.name}: its header is malformed", why=str(error)) from error


def _tensor(file: str, name: str, entry: _Entry, size: int) -> TensorGroup:
    shown = neutralise(name, keep_newlines=False)[:120]
    kind = STORAGE_TYPES.get(_TYPES.get(entry.dtype, ""))
    if kind is None:
        raise ModelError(f"{file}: {shown} has the unknown storage type {neutralise(entry.dtype)[:40]}")
    weights = 1
    for d in entry.shape:
        weights *= d
        if d < 0 or weights > MAX_WEIGHTS:
            raise ModelError(f"{file}: {shown} claims an impossible size")
    start, end = entry.data_offsets
    if not 0 <= start <= end <= size or end - start != kind.size_bytes(weights):
        raise ModelError(f"{file}: {shown} lies outside the file or has another size than it claims")
    return _group(name, kind, weights)


def _group(name: str, kind: StorageType, weights: int) -> TensorGroup:
    layer = re.search(r"\.layers\.(\d{1,4})\.", name)
    return TensorGroup(_kind(name), int(layer[1]) if layer else None, kind.name, weights, kind.size_bytes(weights))


def _kind(name: str) -> TensorKind:
    for part, kind in _PARTS:
        if part in name:
            return kind
    return "other"


_PARTS: tuple[tuple[str, TensorKind], ...] = (
    ("norm", "norm"),
    ("embed_tokens", "embedding"),
    ("wte.", "embedding"),
    ("lm_head", "output"),
    (".experts.", "experts"),
    ("attn", "attention"),
    ("attention", "attention"),
    ("mlp", "feed-forward"),
    ("feed_forward", "feed-forward"),
)


def _shape(name: str, config: dict[str, Any], tensors: list[TensorGroup]) -> ModelShape:
    def number(*keys: str, default: int | None = None) -> int:
        for key in keys:
            value = config.get(key)
            if isinstance(value, int) and not isinstance(value, bool) and 0 <= value < 1 << 31:
                return value
        if default is None:
            raise ModelError(f"{name}/config.json does not say {keys[0]}", remedy="this is not a language model")
        return default

    layers = number("num_hidden_layers")
    width = number("hidden_size")
    heads = number("num_attention_heads")
    if not 1 <= layers <= 4_096 or not width or not heads:
        raise ModelError(f"{name}/config.json has impossible sizes")
    head = number("head_dim", default=width // heads)
    groups = add_up(tensors)
    window = number("sliding_window", default=0) if config.get("use_sliding_window", True) else 0
    windowed = _windowed(config, layers) if window else ()
    return ModelShape(
        name=name,
        architecture=neutralise(str(config.get("model_type", "?")))[:64],
        layers=layers,
        width=width,
        heads=heads,
        kv_heads=(number("num_key_value_heads", default=heads),) * layers,
        key_dim=head,
        value_dim=head,
        ffn=number("intermediate_size", "moe_intermediate_size", default=0),
        vocab=number("vocab_size"),
        context_length=number("max_position_embeddings", default=0) or None,
        experts=number("num_experts", "num_local_experts", "n_routed_experts", default=0),
        experts_active=number("num_experts_per_tok", default=0),
        window=window or None,
        windowed=windowed,
        tied=not any(g.kind == "output" for g in groups),
        groups=groups,
        notes=()
        if windowed or not window
        else ("The file does not say which layers have the window; the KV cache is counted as if none had.",),
    )


def _windowed(config: dict[str, Any], layers: int) -> tuple[bool, ...]:
    kinds = config.get("layer_types")
    if isinstance(kinds, list) and len(kinds) == layers:
        return tuple(kind == "sliding_attention" for kind in kinds)
    return ()
