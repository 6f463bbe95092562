"""One request as the store keeps it: a form of its own, which no change of the wire's messages touches."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import MISSING
from operator import attrgetter
from typing import Any, get_type_hints

import msgspec
import numpy as np
import numpy.typing as npt

from zinc_kettle.core.record.timeline import OF_REPORT, SMALL, EngineReport, SmallField, Timeline
from zinc_kettle.errors import StoreError


def _struct(name: str, record: type, small: Sequence[SmallField], *more: tuple[Any, ...]) -> Any:
    hints = get_type_hints(record)
    own = [(of.name, hints[of.name], *([] if of.default is MISSING else [of.default])) for of in small]
    return msgspec.defstruct(name, [*own, *more], gc=False, omit_defaults=True)


StoredReport: Any = _struct("StoredReport", EngineReport, OF_REPORT)
"""The engine's own account."""
StoredRequest: Any = _struct("StoredRequest", Timeline, SMALL, ("engine", StoredReport | None, None))
"""A timeline without its columns; meanings are those of core.record.timeline."""
_timeline: Callable[..., Timeline] = Timeline
_NEEDED = sum(of.default is MISSING for of in SMALL)
_small_of = attrgetter(*(of.name for of in SMALL))
_report_of = attrgetter(*(of.name for of in OF_REPORT))


class StoredWhole(msgspec.Struct):
    """A timeline with its columns, as it waits for its block."""

    version: int
    request: StoredRequest
    user: bytes
    kernel: bytes | None
    tokens: bytes


WHOLE_VERSION = 2
_encode = msgspec.msgpack.Encoder().encode
_decode = msgspec.msgpack.Decoder(StoredWhole).decode


def stored(t: Timeline) -> Any:
    """A timeline's small fields."""
    return StoredRequest(*_small_of(t), None if t.engine is None else StoredReport(*_report_of(t.engine)))


def timeline_of(
    r: Any,
    user: npt.NDArray[np.int64],
    kernel: npt.NDArray[np.int64] | None,
    tokens: npt.NDArray[np.int32],
    counted: int | None = None,
) -> Timeline:
    """A timeline from its small fields and its columns, shape (chunks,) each; nothing is copied.

    Args:
        r: The small fields, a `StoredRequest`.
        user: Our stamps.
        kernel: The kernel's, where there are any.
        tokens: Tokens of each chunk.
        counted: The sum of `tokens` where it is known.
    """
    small = _small_of(r)
    report = None if r.engine is None else EngineReport(*_report_of(r.engine))
    return _timeline(*small[:_NEEDED], user, tokens, kernel, report, *small[_NEEDED:], counted)


def encode_request(t: Timeline) -> bytes:
    """A timeline for the journal."""
    kernel = None if t.kernel_ns is None else t.kernel_ns.astype("<i8").tobytes()
    columns = t.chunk_ns.astype("<i8").tobytes(), kernel, t.chunk_tokens.astype("<i4").tobytes()
    return _encode(StoredWhole(WHOLE_VERSION, stored(t), *columns))


def decode_request(data: bytes) -> Timeline:
    """Read what `encode_request` wrote.

    Raises:
        StoreError: It is damaged.
    """
    try:
        whole = _decode(data)
        kernel = None if whole.kernel is None else np.frombuffer(whole.kernel, dtype="<i8")
        user, tokens = np.frombuffer(whole.user, dtype="<i8"), np.frombuffer(whole.tokens, dtype="<i4")
        return timeline_of(whole.request, user, kernel, tokens)
    except (msgspec.MsgspecError, ValueError) as error:
        raise StoreError("a request in the journal is damaged", why=str(error)) from error
