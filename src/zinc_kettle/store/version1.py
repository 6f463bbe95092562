"""What a store of version 1 wrote, frozen as it was: the wire's message of then, in blocks and in the journal.

Blocks of version 1 stay as they are after the migration, and are read for good.
"""

from __future__ import annotations

import msgspec
import numpy as np

from zinc_kettle.core.timeline import Timeline
from zinc_kettle.store.requests import StoredReport, StoredRequest, timeline_of


class Timings1(msgspec.Struct):
    """The engine's own account."""

    cache_n: int = 0
    prompt_n: int = 0
    prompt_ms: float = 0.0
    predicted_n: int = 0
    predicted_ms: float = 0.0


class Finished1(msgspec.Struct, tag="finished"):
    """One finished request."""

    episode: str
    id: str
    role: str
    stream: int
    cold: bool
    sent_ns: int
    end_ns: int
    user_stamps: bytes
    chunk_tokens: bytes
    asked_tokens: int
    connect_ns: int = 0
    write_ns: int = 0
    header_ns: int | None = None
    due_ns: int | None = None
    kernel_stamps: bytes | None = None
    prompt_tokens: int | None = None
    cached_tokens: int | None = None
    output_tokens: int | None = None
    finish: str | None = None
    complete: bool = False
    error: str | None = None
    timings: Timings1 | None = None
    characters: int = 0
    text: str = ""
    fault: str = ""
    attempt: int = 0
    conversation: int | None = None
    turn: int = 0
    coalesced: int = 0
    odd: str = ""


_decode_rest = msgspec.msgpack.Decoder(list[Finished1]).decode
_decode = msgspec.msgpack.Decoder(Finished1).decode


def _request(m: Finished1) -> StoredRequest:
    e = m.timings
    report = None if e is None else StoredReport(e.cache_n, e.prompt_n, e.prompt_ms, e.predicted_n, e.predicted_ms)
    return StoredRequest(
        m.id,
        m.role,
        m.stream,
        m.cold,
        m.sent_ns,
        m.end_ns,
        m.asked_tokens,
        m.connect_ns,
        m.write_ns,
        m.header_ns,
        m.due_ns,
        m.prompt_tokens,
        m.cached_tokens,
        m.output_tokens,
        m.finish,
        m.complete,
        m.error,
        report,
        m.characters,
        m.text,
        m.fault,
        m.attempt,
        m.conversation,
        m.turn,
        m.coalesced,
        m.odd,
    )


def decode_rest_1(data: bytes) -> list[StoredRequest]:
    """The small fields of a block of version 1.

    Raises:
        msgspec.MsgspecError: It is damaged.
    """
    return [_request(message) for message in _decode_rest(data)]


def decode_journal_1(data: bytes) -> Timeline:
    """A row of the journal of version 1.

    Raises:
        msgspec.MsgspecError: It is damaged.
    """
    m = _decode(data)
    kernel = None if m.kernel_stamps is None else np.frombuffer(m.kernel_stamps, dtype="<i8")
    user, tokens = np.frombuffer(m.user_stamps, dtype="<i8"), np.frombuffer(m.chunk_tokens, dtype="<i4")
    return timeline_of(_request(m), user, kernel, tokens)
