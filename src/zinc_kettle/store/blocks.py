"""Timelines by the hundred: columns, delta-coded, byte-shuffled and deflated; decoded whole by numpy.

Layout (MessagePack): `version`, ids of the repeats, `chunks` per request, the stamps of all requests one after another
as differences, and the small fields of each request. Kept for good: readers must go on reading version 1.
"""

from __future__ import annotations

import zlib
from collections.abc import Sequence
from typing import Any

import msgspec
import numpy as np
import numpy.typing as npt

from zinc_kettle.core.record.telemetry import Trace
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.errors import StoreError
from zinc_kettle.store.requests import StoredRequest, stored, timeline_of
from zinc_kettle.store.version1 import decode_rest_1

BLOCK_VERSION = 2
LEVEL = 6
REST_BYTES = 256 << 10
"""Small fields of a request: numbers, and a few texts of at most some thousand characters."""
TRACE_SAMPLES = 1 << 24
"""Of one repeat: at ten a second, nineteen days."""


class Block(msgspec.Struct):
    """A block before packing."""

    version: int
    repeats: list[str]
    chunks: bytes
    user: bytes
    kernel: bytes
    has_kernel: list[bool]
    tokens: bytes
    rest: bytes


_decode_block = msgspec.msgpack.Decoder(Block).decode
_decode_rest = msgspec.msgpack.Decoder(list[StoredRequest]).decode


def _pack(array: npt.NDArray[np.int64]) -> bytes:
    """Differences, then the k-th bytes of all numbers together: neighbouring stamps share their high bytes."""
    deltas = np.diff(array, prepend=np.int64(0)).astype("<i8")
    return zlib.compress(deltas.view(np.uint8).reshape(-1, 8).T.tobytes(), LEVEL)


def _unpack(data: bytes, most: int) -> npt.NDArray[np.int64]:
    planes = np.frombuffer(_inflate(data, 8 * most), dtype=np.uint8).reshape(8, -1)
    deltas = np.ascontiguousarray(planes.T).view("<i8").reshape(-1)
    return np.cumsum(deltas, dtype=np.int64)


def _inflate(data: bytes, most: int) -> bytes:
    """What was deflated, where it is no more than it may be.

    Raises:
        ValueError: It is more: a megabyte can grow to a gigabyte.
    """
    inflater = zlib.decompressobj()
    out = inflater.decompress(data, most + 1)
    if len(out) > most or not inflater.eof:
        raise ValueError(f"it grows to more than {most:,} bytes")
    return out


def encode_block(rows: Sequence[tuple[str, Timeline]]) -> bytes:
    """Pack requests with the ids of their repeats."""
    timelines = [t for _, t in rows]
    block = Block(
        version=BLOCK_VERSION,
        repeats=[repeat for repeat, _ in rows],
        chunks=np.array([len(t.chunk_ns) for t in timelines], dtype="<i4").tobytes(),
        user=_pack(_join([t.chunk_ns for t in timelines])),
        kernel=_pack(_join([t.kernel_ns for t in timelines if t.kernel_ns is not None])),
        has_kernel=[t.kernel_ns is not None for t in timelines],
        tokens=zlib.compress(np.concatenate([t.chunk_tokens for t in timelines]).astype("<i4").tobytes(), LEVEL),
        rest=zlib.compress(msgspec.msgpack.encode([stored(t) for t in timelines]), LEVEL),
    )
    return msgspec.msgpack.encode(block)


def _join(parts: list[npt.NDArray[np.int64]]) -> npt.NDArray[np.int64]:
    return np.concatenate(parts).astype(np.int64) if parts else np.array([], dtype=np.int64)


def repeats_of(data: bytes) -> list[str]:
    """The repeats a block has requests of, each once, in their order.

    Raises:
        StoreError: It is damaged.
    """
    try:
        return list(dict.fromkeys(_decode_block(data).repeats))
    except msgspec.MsgspecError as error:
        raise StoreError("a block of timelines is damaged", why=str(error)) from error


def decode_block(data: bytes) -> list[tuple[str, Timeline]]:
    """Unpack a block: ids of repeats with their timelines, whose arrays are views of the block's columns.

    Raises:
        StoreError: It is damaged, or of a later version.
    """
    try:
        block = _decode_block(data)
        if block.version > BLOCK_VERSION:
            raise StoreError(f"a block of version {block.version}", remedy="open it with a newer Zinc Kettle")
        chunks = np.frombuffer(block.chunks, dtype="<i4")
        if len(chunks) != len(block.repeats) or len(chunks) != len(block.has_kernel) or (chunks < 0).any():
            raise ValueError("its columns are of different lengths")
        total = int(chunks.sum(dtype=np.int64))
        rest = _inflate(block.rest, REST_BYTES * len(chunks))
        small = _decode_rest(rest) if block.version == BLOCK_VERSION else decode_rest_1(rest)
        ends = np.cumsum(chunks, dtype=np.int64).tolist()
        user, kernel = _unpack(block.user, total), _unpack(block.kernel, total)
        tokens = np.frombuffer(_inflate(block.tokens, 4 * total), dtype="<i4")
        sums = np.concatenate([[0], np.cumsum(tokens, dtype=np.int64)])[[0, *ends]]
    except (msgspec.MsgspecError, zlib.error, ValueError, IndexError, TypeError) as error:
        raise StoreError("a block of timelines is damaged", why=str(error)) from error
    out = []
    start = kernel_at = 0
    counts = np.diff(sums).tolist()
    for repeat, request, end, stamped, counted in zip(
        block.repeats, small, ends, block.has_kernel, counts, strict=True
    ):
        stamps = None
        if stamped:
            stamps = kernel[kernel_at : kernel_at + end - start]
            kernel_at += end - start
        out.append((repeat, timeline_of(request, user[start:end], stamps, tokens[start:end], counted)))
        start = end
    return out


def encode_columns(*columns: npt.NDArray[np.int64]) -> bytes:
    """Pack equally long columns of a trace."""
    return msgspec.msgpack.encode([_pack(column) for column in columns])


def decode_columns(data: bytes) -> list[npt.NDArray[np.int64]]:
    """Unpack what `encode_columns` packed."""
    try:
        return [_unpack(column, TRACE_SAMPLES) for column in msgspec.msgpack.decode(data, type=list[bytes])]
    except (msgspec.MsgspecError, zlib.error, ValueError) as error:
        raise StoreError("a stored trace is damaged", why=str(error)) from error


def trace_columns(trace: Trace) -> list[npt.NDArray[np.int64]]:
    """A trace as columns; the last ones where something of power or devices was told, empty where one was not."""
    out = [trace.at_ns, trace.resident_bytes, trace.anonymous_bytes, trace.file_bytes, trace.cpu_ns]
    further = (trace.energy_uj, trace.device_bytes, trace.device_percent)
    if any(column is not None for column in further):
        out += [np.array([], dtype=np.int64) if column is None else column for column in further]
    return out


def trace_of(columns: list[npt.NDArray[np.int64]], episode: dict[str, Any]) -> Trace:
    """A trace from its columns and from what the repeat's record says of it."""
    if len(columns) < 5:
        raise StoreError("a stored trace is damaged", why="it lacks a column")
    at, resident, anonymous, file, cpu = columns[:5]
    further = [column if len(column) else None for column in columns[5:]]
    energy, device, percent = (*further, None, None, None)[:3]  # earlier versions kept two of them
    return Trace(
        at,
        resident,
        anonymous,
        file,
        cpu,
        sampler_cpu_ns=episode.get("sampler_cpu_ns", 0),
        highest_bytes=episode.get("highest_bytes", -1),
        energy_uj=energy,
        device_bytes=device,
        energy_source=episode.get("energy_source", ""),
        device_percent=percent,
    )
