"""Reads the header of a GGUF file, and nothing else of it, within bounds that hold for hostile files too.

Why our own: the standard package maps the whole file and builds an object for each token of the vocabulary; on a
vocabulary of usual size that takes seconds (measured: docs/model-files.md), and lying lengths make it allocate.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, TypeAlias

from zinc_kettle.core.storage_types import BY_NUMBER
from zinc_kettle.core.text import neutralise
from zinc_kettle.errors import ModelError

MAGIC = b"GGUF"
VERSIONS = (2, 3)
WINDOW_BYTES = 1 << 20
"""Read at once; what is kept in memory, whatever the file says."""
MAX_HEADER_BYTES = 96 << 20
"""Headers of real files reach 20 MB, by a vocabulary of 260,000 tokens and its merges."""
MAX_FIELDS = 20_000
MAX_TENSORS = 50_000
MAX_NAME_BYTES = 512
MAX_KEPT_STRING = 16_384
"""Longer strings, such as chat templates, are passed over."""
MAX_KEPT_ITEMS = 4_096
MAX_STRINGS = 2_000_000
MAX_DEPTH = 3
MAX_DIMENSIONS = 4
MAX_WEIGHTS = 1 << 45

Value: TypeAlias = "int | float | bool | str | list[Value] | Skipped"

_SCALARS = {0: "<B", 1: "<b", 2: "<H", 3: "<h", 4: "<I", 5: "<i", 6: "<f", 7: "<?", 10: "<Q", 11: "<q", 12: "<d"}
_STRING, _ARRAY = 8, 9


@dataclass(frozen=True, slots=True)
class Skipped:
    """An array or string that was passed over; only how long it is was kept."""

    count: int


@dataclass(frozen=True, slots=True)
class TensorInfo:
    """One tensor as the header lists it."""

    name: str
    type: str
    dimensions: tuple[int, ...]
    size_bytes: int
    offset: int

    @property
    def weights(self) -> int:
        """Number of values."""
        out = 1
        for d in self.dimensions:
            out *= d
        return out


@dataclass(frozen=True, slots=True)
class Header:
    """All that was read."""

    version: int
    fields: dict[str, Value]
    tensors: tuple[TensorInfo, ...]
    size_bytes: int
    """Size of the file."""
    data_start: int


class _Window:
    """A file read forward through a small window."""

    def __init__(self, file: BinaryIO, name: str, size: int) -> None:
        self._file, self._name, self._size = file, name, size
        self._buffer = b""
        self._base = 0
        self._at = 0

    def bad(self, what: str, why: str = "") -> ModelError:
        """An error that says where."""
        return ModelError(
            f"{self._name}: {what}",
            why=f"{why + ', ' if why else ''}at byte {self.position:,} of {self._size:,}",
            remedy="the file is damaged or still being copied; fetch it again",
        )

    @property
    def position(self) -> int:
        """Where the next read starts."""
        return self._base + self._at

    @property
    def left(self) -> int:
        """Bytes of the file not read yet."""
        return self._size - self.position

    def take(self, count: int) -> bytes:
        """The next bytes; `count` must be small."""
        if self._at + count > len(self._buffer):
            self._fill(count)
        start = self._at
        self._at += count
        return self._buffer[start : self._at]

    def skip(self, count: int) -> None:
        """Pass over bytes without reading them."""
        if count > self.left or self.position + count > MAX_HEADER_BYTES:
            raise self.bad("a length points beyond the header", f"{count:,} bytes are claimed")
        if self._at + count <= len(self._buffer):
            self._at += count
        else:
            self._base, self._at, self._buffer = self.position + count, 0, b""
            self._file.seek(self._base)

    def skip_strings(self, count: int) -> None:
        """Pass over strings with their lengths; the hot loop of reading a vocabulary."""
        unpack = struct.Struct("<Q").unpack_from
        while count:
            if self._at + 8 > len(self._buffer):
                self._fill(8)
            buffer, at, last = self._buffer, self._at, len(self._buffer) - 8
            while count and at <= last:
                length = unpack(buffer, at)[0]
                if at + 8 + length > len(buffer):
                    break
                at += 8 + length
                count -= 1
            self._at = at
            if count:
                self.skip(self.number("<Q"))
                count -= 1

    def number(self, form: str) -> int:
        """A whole number."""
        return int(struct.unpack(form, self.take(struct.calcsize(form)))[0])

    def _fill(self, count: int) -> None:
        kept = self._buffer[self._at :]
        self._base, self._at = self.position, 0
        if self._base + count > MAX_HEADER_BYTES:
            raise self.bad(f"the header is longer than {MAX_HEADER_BYTES >> 20} MiB")
        self._buffer = kept + self._file.read(max(WINDOW_BYTES, count) - len(kept))
        if len(self._buffer) < count:
            raise self.bad("the file ends within its header", f"{count:,} more bytes were expected")


def read_header(path: Path) -> Header:
    """Read the header of a GGUF file.

    Raises:
        ModelError: It cannot be read, is not a GGUF file, or lies about itself.
    """
    try:
        size = path.stat().st_size
        with path.open("rb", buffering=0) as file:
            return read_head(file, path.name, size)
    except OSError as error:
        raise ModelError(f"{path.name} cannot be read", why=str(error.strerror or error)) from error


def read_head(file: BinaryIO, name: str, size: int) -> Header:
    """Read a header from the beginning of a file of `size` bytes, such as one that lies on another machine.

    Raises:
        ModelError: As `read_header`.
    """
    return _Reader(_Window(file, name, size), size).header()


class _Reader:
    """Reads one header."""

    def __init__(self, window: _Window, size: int) -> None:
        self._w = window
        self._size = size

    def header(self) -> Header:
        """Read it all."""
        w = self._w
        if self._size < 24 or w.take(4) != MAGIC:
            raise w.bad("is not a GGUF file", "it does not begin with the letters GGUF")
        version = w.number("<I")
        if version not in VERSIONS:
            swapped = int.from_bytes(version.to_bytes(4, "little"), "big") in VERSIONS
            raise w.bad(
                f"has version {version:,}" if not swapped else "is stored big-endian",
                "only little-endian 2 and 3 are read",
            )
        tensors, fields = w.number("<Q"), w.number("<Q")
        if tensors > MAX_TENSORS or fields > MAX_FIELDS:
            raise w.bad(f"claims {tensors:,} tensors and {fields:,} fields", "no real file has so many")
        read = self._fields(fields)
        infos = [self._tensor() for _ in range(tensors)]
        alignment = read.get("general.alignment", 32)
        if not isinstance(alignment, int) or alignment < 1 or alignment > 1 << 20:
            raise w.bad("has an impossible alignment")
        start = -(-w.position // alignment) * alignment
        self._check_offsets(infos, start)
        return Header(version, read, tuple(infos), self._size, start)

    def _fields(self, count: int) -> dict[str, Value]:
        out: dict[str, Value] = {}
        for _ in range(count):
            key = self._string(MAX_NAME_BYTES, "the name of a field")
            if key in out:
                raise self._w.bad(f"names the field {key} twice")
            out[key] = self._value(self._w.number("<I"), 0)
        return out

    def _string(self, limit: int, what: str) -> str:
        length = self._w.number("<Q")
        if length > limit:
            raise self._w.bad(f"{what} is {length:,} bytes long", f"at most {limit:,} are read")
        return neutralise(self._w.take(length).decode("utf-8", "replace"), keep_newlines=False)

    def _value(self, kind: int, depth: int) -> Value:
        if kind in _SCALARS:
            form = _SCALARS[kind]
            value = struct.unpack(form, self._w.take(struct.calcsize(form)))[0]
            return value if isinstance(value, (bool, float)) else int(value)
        if kind == _STRING:
            return self._text()
        if kind == _ARRAY:
            return self._array(depth + 1)
        raise self._w.bad(f"has a field of unknown kind {kind:,}")

    def _text(self) -> Value:
        length = self._w.number("<Q")
        if length > MAX_KEPT_STRING:
            self._w.skip(length)
            return Skipped(length)
        return neutralise(self._w.take(length).decode("utf-8", "replace"))

    def _array(self, depth: int) -> Value:
        w = self._w
        if depth > MAX_DEPTH:
            raise w.bad("has arrays within arrays within arrays", f"more than {MAX_DEPTH} deep")
        kind, count = w.number("<I"), w.number("<Q")
        if kind in _SCALARS:
            return self._scalars(_SCALARS[kind], count)
        if kind == _STRING:
            if count > MAX_STRINGS or count * 8 > w.left:
                raise w.bad(f"claims an array of {count:,} strings")
            w.skip_strings(count)
            return Skipped(count)
        if kind == _ARRAY:
            if count > MAX_KEPT_ITEMS or count * 12 > w.left:
                raise w.bad(f"claims an array of {count:,} arrays")
            return [self._array(depth + 1) for _ in range(count)]
        raise w.bad(f"has an array of unknown kind {kind:,}")

    def _scalars(self, form: str, count: int) -> Value:
        size = struct.calcsize(form)
        if count * size > self._w.left:
            raise self._w.bad(f"claims an array of {count:,} numbers", "the file is shorter than that")
        if count > MAX_KEPT_ITEMS:
            self._w.skip(count * size)
            return Skipped(count)
        return list(struct.unpack(f"<{count}{form[1]}", self._w.take(count * size)))

    def _tensor(self) -> TensorInfo:
        w = self._w
        name = self._string(MAX_NAME_BYTES, "the name of a tensor")
        rank = w.number("<I")
        if rank > MAX_DIMENSIONS:
            raise w.bad(f"the tensor {name} has {rank:,} dimensions")
        dimensions = tuple(w.number("<Q") for _ in range(rank))
        number, offset = w.number("<I"), w.number("<Q")
        kind = BY_NUMBER.get(number)
        if kind is None:
            raise w.bad(f"the tensor {name} has the unknown storage type {number:,}")
        weights = 1
        for d in dimensions:
            weights *= d
        if min(dimensions, default=1) < 1 or weights > MAX_WEIGHTS:
            raise w.bad(f"the tensor {name} claims {weights:,} weights")
        row = dimensions[0] if dimensions else 1
        if row % kind.block_weights:
            raise w.bad(
                f"the tensor {name} has rows of {row:,}", f"{kind.name} needs multiples of {kind.block_weights}"
            )
        return TensorInfo(name, kind.name, dimensions, kind.size_bytes(weights), offset)

    def _check_offsets(self, infos: list[TensorInfo], start: int) -> None:
        end = 0
        for info in sorted(infos, key=lambda i: i.offset):
            if info.offset < end:
                raise self._w.bad(f"the tensor {info.name} overlaps the one before it")
            end = info.offset + info.size_bytes
            if start + end > self._size:
                raise self._w.bad(f"the tensor {info.name} ends beyond the file", f"it needs {start + end:,} bytes")
