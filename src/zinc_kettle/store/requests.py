"""One request as the store keeps it: a form of its own, which no change of the wire's messages touches."""

from __future__ import annotations

from typing import cast

import msgspec
import numpy as np
import numpy.typing as npt

from zinc_kettle.core.timeline import EngineReport, Role, Timeline
from zinc_kettle.errors import StoreError


class StoredReport(msgspec.Struct, gc=False, omit_defaults=True):
    """The engine's own account."""

    cache_n: int
    prompt_n: int
    prompt_ms: float
    predicted_n: int
    predicted_ms: float
    draft_n: int | None = None
    draft_accepted_n: int | None = None


class StoredRequest(msgspec.Struct, gc=False, omit_defaults=True):
    """A timeline without its columns; meanings are those of core.timeline."""

    request_id: str
    role: str
    stream: int
    cold: bool
    sent_ns: int
    end_ns: int
    asked_tokens: int
    connect_ns: int = 0
    write_ns: int = 0
    header_ns: int | None = None
    due_ns: int | None = None
    prompt_tokens: int | None = None
    cached_tokens: int | None = None
    output_tokens: int | None = None
    finish: str | None = None
    complete: bool = False
    error: str | None = None
    engine: StoredReport | None = None
    characters: int = 0
    text: str = ""
    fault: str = ""
    attempt: int = 0
    conversation: int | None = None
    turn: int = 0
    coalesced: int = 0
    odd: str = ""
    clock: str = ""


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


def stored(t: Timeline) -> StoredRequest:
    """A timeline's small fields."""
    e = t.engine
    report = (
        None
        if e is None
        else StoredReport(
            e.cache_n, e.prompt_n, e.prompt_ms, e.predicted_n, e.predicted_ms, e.draft_n, e.draft_accepted_n
        )
    )
    return StoredRequest(
        t.request_id,
        t.role,
        t.stream,
        t.cold,
        t.sent_ns,
        t.end_ns,
        t.asked_tokens,
        t.connect_ns,
        t.write_ns,
        t.header_ns,
        t.due_ns,
        t.prompt_tokens,
        t.cached_tokens,
        t.output_tokens,
        t.finish,
        t.complete,
        t.error,
        report,
        t.characters,
        t.text,
        t.fault,
        t.attempt,
        t.conversation,
        t.turn,
        t.coalesced,
        t.odd,
        t.clock,
    )


def timeline_of(
    r: StoredRequest,
    user: npt.NDArray[np.int64],
    kernel: npt.NDArray[np.int64] | None,
    tokens: npt.NDArray[np.int32],
    counted: int | None = None,
) -> Timeline:
    """A timeline from its small fields and its columns, shape (chunks,) each; nothing is copied.

    Args:
        r: The small fields.
        user: Our stamps.
        kernel: The kernel's, where there are any.
        tokens: Tokens of each chunk.
        counted: The sum of `tokens` where it is known.
    """
    e = r.engine
    return Timeline(
        request_id=r.request_id,
        role=cast(Role, r.role),
        stream=r.stream,
        cold=r.cold,
        sent_ns=r.sent_ns,
        end_ns=r.end_ns,
        chunk_ns=user,
        chunk_tokens=tokens,
        asked_tokens=r.asked_tokens,
        connect_ns=r.connect_ns,
        write_ns=r.write_ns,
        header_ns=r.header_ns,
        due_ns=r.due_ns,
        kernel_ns=kernel,
        prompt_tokens=r.prompt_tokens,
        cached_tokens=r.cached_tokens,
        output_tokens=r.output_tokens,
        finish=r.finish,
        complete=r.complete,
        error=r.error,
        engine=None
        if e is None
        else EngineReport(
            e.cache_n, e.prompt_n, e.prompt_ms, e.predicted_n, e.predicted_ms, e.draft_n, e.draft_accepted_n
        ),
        characters=r.characters,
        text=r.text,
        fault=r.fault,
        attempt=r.attempt,
        conversation=r.conversation,
        turn=r.turn,
        coalesced=r.coalesced,
        odd=r.odd,
        clock=r.clock,
        counted=counted,
    )


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
