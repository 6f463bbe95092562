"""GGUF headers by hand, good and bad, without the writer that our models are made with."""

from __future__ import annotations

import random
import struct
from collections.abc import Callable
from pathlib import Path

KINDS = {"u32": 4, "f32": 6, "bool": 7, "string": 8, "array": 9, "u64": 10}


def text(value: str | bytes) -> bytes:
    """A string with its length."""
    raw = value if isinstance(value, bytes) else value.encode()
    return struct.pack("<Q", len(raw)) + raw


def field(key: str, kind: str, value: object) -> bytes:
    """One field."""
    head = text(key) + struct.pack("<I", KINDS[kind])
    if kind == "string":
        return head + text(str(value))
    if kind == "array":
        assert isinstance(value, bytes)
        return head + value
    return head + struct.pack({"u32": "<I", "f32": "<f", "bool": "<?", "u64": "<Q"}[kind], value)


def strings(values: list[str]) -> bytes:
    """An array of strings."""
    return struct.pack("<IQ", 8, len(values)) + b"".join(text(v) for v in values)


def tensor(name: str, dimensions: tuple[int, ...], kind: int, offset: int) -> bytes:
    """One line of the tensor list."""
    return (
        text(name)
        + struct.pack("<I", len(dimensions))
        + struct.pack(f"<{len(dimensions)}QIQ", *dimensions, kind, offset)
    )


def header(fields: list[bytes], tensors: list[bytes], *, version: int = 3) -> bytes:
    """A whole header."""
    return b"GGUF" + struct.pack("<IQQ", version, len(tensors), len(fields)) + b"".join(fields) + b"".join(tensors)


def usual_fields(tokens: int = 64) -> list[bytes]:
    """What a model says of itself."""
    return [
        field("general.architecture", "string", "llama"),
        field("general.name", "string", "Kelp"),
        field("llama.block_count", "u32", 2),
        field("llama.embedding_length", "u32", 64),
        field("llama.feed_forward_length", "u32", 128),
        field("llama.attention.head_count", "u32", 4),
        field("llama.attention.head_count_kv", "u32", 2),
        field("llama.context_length", "u32", 4096),
        field("general.file_type", "u32", 7),
        field("tokenizer.ggml.model", "string", "llama"),
        field("tokenizer.ggml.tokens", "array", strings([f"t{i}" for i in range(tokens)])),
    ]


def usual_tensors() -> tuple[list[bytes], int]:
    """Three tensors of Q8_0 and F32, and the bytes of their data."""
    rows = (("token_embd.weight", (64, 64), 8), ("blk.0.attn_q.weight", (64, 64), 8), ("output_norm.weight", (64,), 0))
    out, at = [], 0
    for name, dimensions, kind in rows:
        out.append(tensor(name, dimensions, kind, at))
        at += 64 * 64 // 32 * 34 if kind == 8 else 64 * 4
    return out, at


def model(tokens: int = 64) -> bytes:
    """A small sound model, data of zeros included."""
    tensors, size = usual_tensors()
    head = header(usual_fields(tokens), tensors)
    return head + bytes(-len(head) % 32) + bytes(size)


def with_counts(tensors: int, fields: int) -> bytes:
    """Lying counts."""
    return b"GGUF" + struct.pack("<IQQ", 3, tensors, fields) + model()[24:]


def nested(depth: int) -> bytes:
    """Arrays within arrays."""
    inner = struct.pack("<IQ", 4, 1) + struct.pack("<I", 7)
    for _ in range(depth):
        inner = struct.pack("<IQ", 9, 1) + inner
    return header([field("x", "array", inner)], [])


HUGE = (1 << 63, (1 << 64) - 1, 1 << 40, 1 << 32, 1 << 62)


def by_hand() -> dict[str, bytes]:
    """Hostile files one thinks of."""
    good = model()
    tensors, _ = usual_tensors()
    out = {
        "empty": b"",
        "magic only": b"GGUF",
        "another magic": b"LMAO" + good[4:],
        "version 1": b"GGUF\1\0\0\0" + good[8:],
        "version 99": b"GGUF" + struct.pack("<I", 99) + good[8:],
        "big-endian": b"GGUF" + struct.pack(">I", 3) + good[8:],
        "recursive arrays": nested(2_000),
        "deep arrays": nested(5),
        "no architecture": header([field("x", "u32", 1)], []),
        "a field twice": header([field("x", "u32", 1), field("x", "u32", 2)], []),
        "unknown kind": header([text("x") + struct.pack("<I", 77)], []),
        "unknown array kind": header([field("x", "array", struct.pack("<IQ", 77, 3))], []),
        "no tensors but said": header(usual_fields(), [])[:8] + struct.pack("<Q", 3) + header(usual_fields(), [])[16:],
        "alignment 0": header([*usual_fields(), field("general.alignment", "u32", 0)], tensors) + bytes(20_000),
        "data missing": header(usual_fields(), tensors),
        "overlap": header(usual_fields(), [tensors[0], tensor("b", (64, 64), 8, 8)]) + bytes(20_000),
        "unknown type": header(usual_fields(), [tensor("a", (64,), 250, 0)]) + bytes(999),
        "five dimensions": header(usual_fields(), [tensor("a", (2, 2, 2, 2, 2), 0, 0)]) + bytes(999),
        "a dimension of 0": header(usual_fields(), [tensor("a", (0, 4), 0, 0)]) + bytes(999),
        "half a block": header(usual_fields(), [tensor("a", (33,), 8, 0)]) + bytes(999),
        "blocks a lie": header([*usual_fields()[:2], field("llama.block_count", "u32", 1 << 30)], []),
        "no blocks": header([*usual_fields()[:2], field("llama.block_count", "u32", 0)], []),
        "sizes as text": header([*usual_fields()[:2], field("llama.block_count", "string", "2")], []),
    }
    for n in HUGE:
        out |= {
            f"{n} tensors": with_counts(n, 1),
            f"{n} fields": with_counts(1, n),
            f"a key of {n}": b"GGUF" + struct.pack("<IQQQ", 3, 0, 1, n) + bytes(999),
            f"a string of {n}": header([text("x") + struct.pack("<IQ", 8, n)], []) + bytes(999),
            f"{n} strings": header([field("x", "array", struct.pack("<IQ", 8, n))], []) + bytes(9_999),
            f"{n} numbers": header([field("x", "array", struct.pack("<IQ", 4, n))], []) + bytes(9_999),
            f"{n} arrays": header([field("x", "array", struct.pack("<IQ", 9, n))], []) + bytes(9_999),
            f"a string in an array of {n}": header([field("x", "array", struct.pack("<IQQ", 8, 2, n))], []) + bytes(99),
            f"a dimension of {n}": header(usual_fields(), [tensor("a", (n,), 0, 0)]) + bytes(999),
            f"an offset of {n}": header(usual_fields(), [tensor("a", (64,), 0, n)]) + bytes(999),
        }
    return out


def fuzzed(count: int, seed: int) -> dict[str, bytes]:
    """Sound files with bytes changed, cut, doubled, or numbers made huge; not all of them have become bad."""
    rng = random.Random(seed)
    good = model()
    head = len(good) - usual_tensors()[1]

    def flip(data: bytearray) -> None:
        for _ in range(rng.randrange(1, 6)):
            data[rng.randrange(4, head)] = rng.randrange(256)

    def cut(data: bytearray) -> None:
        del data[rng.randrange(len(data)) :]

    def swell(data: bytearray) -> None:
        at = rng.randrange(8, head - 8)
        data[at : at + 8] = struct.pack("<Q", rng.choice(HUGE))

    def double(data: bytearray) -> None:
        start, end = sorted((rng.randrange(8, head), rng.randrange(8, head)))
        data[start:start] = data[start:end]

    changes: list[Callable[[bytearray], None]] = [flip, cut, swell, double]
    out = {}
    for i in range(count):
        data = bytearray(good)
        rng.choice(changes)(data)
        out[f"fuzzed {i}"] = bytes(data)
    return out


def write_huge(path: Path, *, size: int, tokens: int, merges: int) -> int:
    """A sparse file of `size` bytes with a header such as large models have; returns the header's length."""
    fields = [
        *usual_fields(tokens),
        field("tokenizer.ggml.merges", "array", strings([f"a{i} b" for i in range(merges)])),
    ]
    rows = size // 2 // 8192 // 2
    tensors = [
        tensor("token_embd.weight", (8192, rows), 1, 0),
        tensor("output.weight", (8192, rows), 1, rows * 8192 * 2),
    ]
    head = header(fields, tensors)
    with path.open("wb") as file:
        file.write(head)
        file.truncate(len(head) + 64 + 2 * rows * 8192 * 2)
    return len(head)
