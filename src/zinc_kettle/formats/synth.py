"""Made-up models: random weights in a real file, so that speed can be measured where no weights can be fetched.

Speed does not depend on the values of the weights, so quantized blocks are filled with random packed bytes under
sane scales; this is about a hundred times faster than quantizing. Useless for judging answers, and said so.
"""

from __future__ import annotations

import contextlib
import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from zinc_kettle.core.storage_types import STORAGE_TYPES
from zinc_kettle.errors import ModelError
from zinc_kettle.formats import vocab
from zinc_kettle.formats.presets import Shape

QUANTIZATIONS = ("F16", "Q8_0", "Q6_K", "Q5_K", "Q5_0", "Q4_K", "Q4_0")


@dataclass(frozen=True)
class _Packed:
    """How a block of random bytes is tamed: where its half-precision scales stand, and what they multiply."""

    std: float
    """Standard deviation of a block's values at scale 1, its other bytes being uniform."""
    scales: tuple[tuple[int, float], ...]
    """Offset of each scale in the block, and its size relative to the first; a minimum's puts the mean at zero."""


_PACKED = {
    "Q8_0": _Packed(73.9, ((0, 1.0),)),
    "Q6_K": _Packed(1365.0, ((208, 1.0),)),
    "Q5_K": _Packed(521.0, ((0, 1.0), (2, 15.5))),
    "Q5_0": _Packed(9.23, ((0, 1.0),)),
    "Q4_K": _Packed(255.0, ((0, 1.0), (2, 7.5))),
    "Q4_0": _Packed(4.61, ((0, 1.0),)),
}
_LABELS = {"Q4_K": "Q4_K_S", "Q5_K": "Q5_K_S"}
_HEAD_GAIN = 4.0
"""Spread of the logits: wide enough that greedy decoding is stable, narrow enough to stay finite in F16."""
_CONTEXT_LENGTH = 32_768
_CHUNK_ROWS = 4096

Progress = Callable[[int, int], None]
"""Called with bytes written so far and bytes in all."""


def file_name(name: str, quantization: str) -> str:
    """Name of the file for a made-up model at a quantization."""
    return f"{name}.{quantization}.gguf"


def vocabulary(shape: Shape) -> vocab.Vocabulary:
    """The vocabulary of a made-up model."""
    return vocab.build_bpe() if shape.tokenizer == "bpe" else vocab.build()


class _Matrix(NamedTuple):
    """One tensor of a file."""

    name: str
    rows: int
    """Of all experts together, where there are several."""
    columns: int
    plain: bool = False
    """Norms and routers stay F32."""
    experts: int = 1

    def stored_bytes(self, quantization: str) -> int:
        """Its size in the file."""
        return self.rows * (self.columns * 4 if self.plain else _row_bytes(quantization, self.columns))


def _tensors(shape: Shape, n_vocab: int) -> Iterator[_Matrix]:
    """Every tensor, in file order."""
    head, experts = shape.width // shape.heads, max(1, shape.experts)
    kind = "_exps" if shape.experts else ""
    yield _Matrix("token_embd.weight", n_vocab, shape.width)
    for i in range(shape.layers):
        block = f"blk.{i}."
        yield _Matrix(block + "attn_norm.weight", 1, shape.width, plain=True)
        yield _Matrix(block + "attn_q.weight", shape.width, shape.width)
        yield _Matrix(block + "attn_k.weight", shape.kv_heads * head, shape.width)
        yield _Matrix(block + "attn_v.weight", shape.kv_heads * head, shape.width)
        yield _Matrix(block + "attn_output.weight", shape.width, shape.width)
        yield _Matrix(block + "ffn_norm.weight", 1, shape.width, plain=True)
        if shape.experts:
            yield _Matrix(block + "ffn_gate_inp.weight", shape.experts, shape.width, plain=True)
        yield _Matrix(block + f"ffn_gate{kind}.weight", experts * shape.ffn, shape.width, experts=experts)
        yield _Matrix(block + f"ffn_up{kind}.weight", experts * shape.ffn, shape.width, experts=experts)
        yield _Matrix(block + f"ffn_down{kind}.weight", experts * shape.width, shape.ffn, experts=experts)
    yield _Matrix("output_norm.weight", 1, shape.width, plain=True)
    yield _Matrix("output.weight", n_vocab, shape.width)


def _row_bytes(quantization: str, columns: int) -> int:
    return STORAGE_TYPES[quantization].size_bytes(columns)


def tensor_bytes(shape: Shape, quantization: str) -> int:
    """Bytes of all tensors of a made-up model; the file is larger by its header, under 0.3 MB."""
    n_vocab = len(vocabulary(shape).tokens)
    return sum(matrix.stored_bytes(quantization) for matrix in _tensors(shape, n_vocab))


def parameters(shape: Shape) -> int:
    """Number of weights, norms included."""
    return sum(m.rows * m.columns for m in _tensors(shape, len(vocabulary(shape).tokens)))


def _fill(rng: np.random.Generator, rows: int, columns: int, quantization: str, std: float) -> npt.NDArray[np.uint8]:
    """Random rows as stored bytes, shape (rows, row bytes), with values of standard deviation `std`."""
    if quantization == "F16":
        values = rng.standard_normal((rows, columns), dtype=np.float32) * np.float32(std)
        return values.astype(np.float16).view(np.uint8)
    stored, packed = STORAGE_TYPES[quantization], _PACKED[quantization]
    blocks = columns // stored.block_weights
    raw = rng.integers(0, 256, (rows, blocks, stored.block_bytes), dtype=np.uint8)
    for offset, times in packed.scales:
        scale = np.array([std / packed.std * times], dtype=np.float16).view(np.uint8)
        raw[:, :, offset : offset + 2] = scale
    return raw.reshape(rows, blocks * stored.block_bytes)


def _silence(data: npt.NDArray[np.uint8], quantization: str, quiet: npt.NDArray[np.bool_]) -> None:
    """Set whole rows to zero: all bytes for F16, the scales for quantized blocks."""
    if quantization == "F16":
        data[quiet] = 0
        return
    blocks = data.reshape(data.shape[0], -1, STORAGE_TYPES[quantization].block_bytes)
    for offset, _ in _PACKED[quantization].scales:
        blocks[quiet, :, offset : offset + 2] = 0


def write_model(
    path: Path,
    *,
    name: str,
    shape: Shape,
    quantization: str,
    seed: int,
    tame: bool = True,
    progress: Progress | None = None,
) -> int:
    """Write a made-up model; the same arguments give the same bytes.

    Args:
        path: Where to write; a `.part` file beside it is renamed when all is written.
        name: Model name put into the header.
        shape: Layers and sizes.
        quantization: One of QUANTIZATIONS, used for every matrix; norms are F32.
        seed: Seed of the weights.
        tame: Silence control and byte tokens, so that answers never end early and chunks equal tokens.
        progress: Told how many bytes are written.

    Returns:
        Size of the file in bytes.

    Raises:
        ModelError: Unknown quantization, a shape that does not fit, or a disk that is full.
    """
    if quantization not in QUANTIZATIONS:
        raise ModelError(
            f"made-up models can be {', '.join(QUANTIZATIONS)}, not {quantization!r}", remedy="choose one of these"
        )
    shape.check(quantization)
    part = path.with_suffix(".part")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        _write(part, name=name, shape=shape, quantization=quantization, seed=seed, tame=tame, progress=progress)
        part.replace(path)
    except OSError as error:
        raise ModelError(
            f"could not write {path.name}",
            why=str(error.strerror or error),
            remedy="free some disk, or use --to FOLDER",
        ) from error
    finally:
        with contextlib.suppress(OSError):
            part.unlink(missing_ok=True)
    return path.stat().st_size


def _write(
    part: Path, *, name: str, shape: Shape, quantization: str, seed: int, tame: bool, progress: Progress | None
) -> None:
    import gguf

    words = vocabulary(shape)
    writer = gguf.GGUFWriter(part, "llama")
    try:
        _header(writer, name, shape, quantization, words)
        kind = getattr(gguf.GGMLQuantizationType, quantization)
        tensors = list(_tensors(shape, len(words.tokens)))
        for m in tensors:
            if m.plain:
                stored: tuple[int, ...] = (m.columns,) if m.rows == 1 else (m.rows, m.columns)
                writer.add_tensor_info(m.name, stored, np.dtype(np.float32), m.stored_bytes(quantization))
            else:
                stored = (m.rows, _row_bytes(quantization, m.columns))
                if m.experts > 1:
                    stored = (m.experts, m.rows // m.experts, stored[1])
                size = m.stored_bytes(quantization)
                writer.add_tensor_info(m.name, stored, np.dtype(np.uint8), size, raw_dtype=kind)
        writer.write_header_to_file()
        writer.write_kv_data_to_file()
        writer.write_ti_data_to_file()
        total, done = tensor_bytes(shape, quantization), 0
        for index, m in enumerate(tensors):
            rng = np.random.default_rng([seed, index])
            quiet = ~np.array(words.speakable) if tame and m.name == "output.weight" else None
            data = _tensor(rng, m, quantization, quiet)
            writer.write_tensor_data(data)
            done += data.nbytes
            if progress is not None:
                progress(done, total)
    finally:
        writer.close()


def _tensor(
    rng: np.random.Generator, m: _Matrix, quantization: str, quiet: npt.NDArray[np.bool_] | None
) -> npt.NDArray[np.uint8] | npt.NDArray[np.float32]:
    if m.plain:
        if m.rows == 1:
            return np.ones(m.columns, dtype=np.float32)
        return rng.standard_normal((m.rows, m.columns), dtype=np.float32) / np.float32(math.sqrt(m.columns))
    gain = {"token_embd.weight": math.sqrt(m.columns), "output.weight": _HEAD_GAIN}.get(m.name, 1.0)
    std = gain / math.sqrt(m.columns)
    data = np.empty((m.rows, _row_bytes(quantization, m.columns)), dtype=np.uint8)
    for start in range(0, m.rows, _CHUNK_ROWS):
        stop = min(m.rows, start + _CHUNK_ROWS)
        data[start:stop] = _fill(rng, stop - start, m.columns, quantization, std)
    if quiet is not None:
        _silence(data, quantization, quiet)
    return data


def _header(writer: object, name: str, shape: Shape, quantization: str, words: vocab.Vocabulary) -> None:
    """Write the fields an engine needs; `writer` is a gguf.GGUFWriter."""
    import gguf

    put: dict[str, object] = {
        "add_name": name,
        "add_description": "made-up weights for measuring speed; the answers are meaningless",
        "add_context_length": _CONTEXT_LENGTH,
        "add_embedding_length": shape.width,
        "add_block_count": shape.layers,
        "add_feed_forward_length": shape.ffn,
        "add_head_count": shape.heads,
        "add_head_count_kv": shape.kv_heads,
        "add_rope_dimension_count": shape.width // shape.heads,
        "add_layer_norm_rms_eps": 1e-5,
        "add_vocab_size": len(words.tokens),
        "add_file_type": getattr(gguf.LlamaFileType, f"MOSTLY_{_LABELS.get(quantization, quantization)}"),
        "add_quantization_version": 2,
        "add_tokenizer_model": "llama" if words.merges is None else "gpt2",
        "add_token_list": words.tokens,
        "add_token_types": words.types,
        "add_bos_token_id": vocab.BOS_ID,
        "add_eos_token_id": vocab.END_ID,
        "add_unk_token_id": 0,
        "add_add_bos_token": True,
        "add_chat_template": vocab.CHAT_TEMPLATE,
    }
    if words.merges is None:
        put |= {"add_token_scores": words.scores, "add_add_space_prefix": True}
    else:
        put |= {"add_tokenizer_pre": "gpt-2", "add_token_merges": words.merges}
    if shape.experts:
        put |= {"add_expert_count": shape.experts, "add_expert_used_count": shape.experts_active}
    for method, value in put.items():
        getattr(writer, method)(value)
