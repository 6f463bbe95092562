"""What a store of version 1 wrote, frozen as it was: the wire's message of then, in blocks and in the journal.

Blocks of version 1 stay as they are after the migration, and are read for good.
"""

from __future__ import annotations

from typing import Any

import msgspec
import numpy as np

from zinc_kettle.core.record.timeline import EngineReport, Timeline
from zinc_kettle.store.requests import StoredRequest, timeline_of


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
    timings: EngineReport | None = None
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


_RENAMED = {"id": "request_id", "timings": "engine"}
_LEFT_OUT = {"episode", "user_stamps", "kernel_stamps", "chunk_tokens"}


def _request(m: Finished1) -> Any:
    given = {
        _RENAMED.get(name, name): getattr(m, name) for name in Finished1.__struct_fields__ if name not in _LEFT_OUT
    }
    return StoredRequest(**given)


def decode_rest_1(data: bytes) -> list[Any]:
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
