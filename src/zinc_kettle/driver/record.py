"""What one request gathers while it streams: stamps first, then the little that must be decoded."""

from __future__ import annotations

from array import array
from typing import Any

import msgspec

from zinc_kettle.wire.messages import Finished, RequestOrder, Timings

TEXT_KEPT = 2_000
"""Characters of the end of an answer that are kept: enough to see that it rambles, not enough to fill a store."""
CHUNKS_PER_TOKEN_LIMIT = 8
CHUNKS_FLOOR = 1_024


class PromptDetails(msgspec.Struct):
    """Part of a usage record."""

    cached_tokens: int | None = None


class Usage(msgspec.Struct):
    """The protocol's usage record."""

    prompt_tokens: int | None = None
    completion_tokens: int | None = None
    prompt_tokens_details: PromptDetails | None = None


class Delta(msgspec.Struct):
    """What a chunk adds; the three fields that are output, under the names engines use."""

    content: str | None = None
    reasoning_content: str | None = None
    reasoning: str | None = None
    tool_calls: list[Any] | None = None


class Choice(msgspec.Struct):
    """The first choice of a chunk."""

    delta: Delta | None = None
    finish_reason: str | None = None


class Chunk(msgspec.Struct):
    """A chunk of a streamed chat answer, with the optional per-chunk clock of some engines."""

    choices: list[Choice] = []
    usage: Usage | None = None
    timings: Timings | None = None
    error: Any = None


decode_chunk = msgspec.json.Decoder(Chunk).decode


class Record:
    """The growing account of one request."""

    __slots__ = (
        "characters", "complete", "connect_ns", "end_ns", "engine", "error", "finish", "header_ns", "limit", "order",
        "predicted", "sent_ns", "stamps", "stream", "tail", "tokens", "usage", "write_ns",
    )  # fmt: skip

    def __init__(self, order: RequestOrder, stream: int) -> None:
        self.order = order
        self.stream = stream
        self.sent_ns = 0
        self.end_ns = 0
        self.connect_ns = 0
        self.write_ns = 0
        self.header_ns: int | None = None
        self.stamps = array("q")
        self.tokens = array("i")
        self.predicted = 0
        self.usage: Usage | None = None
        self.engine: Timings | None = None
        self.finish: str | None = None
        self.complete = False
        self.error: str | None = None
        self.characters = 0
        self.tail = ""
        self.limit = order.max_tokens * CHUNKS_PER_TOKEN_LIMIT + CHUNKS_FLOOR

    def event(self, data: bytes, stamp_ns: int) -> None:
        """Take the data of one event that arrived at `stamp_ns`.

        Raises:
            msgspec.MsgspecError: The data is not JSON, or of a wrong shape.
            OverflowError: More chunks came than any honest answer of this length has.
        """
        if data == b"[DONE]":
            self.complete = True
            return
        chunk = decode_chunk(data)
        if chunk.error is not None:
            self.error = f"the engine reported an error: {str(chunk.error)[:300]}"
            return
        if chunk.usage is not None:
            self.usage = chunk.usage
        if chunk.timings is not None:
            self.engine = chunk.timings
        if not chunk.choices:
            return
        choice = chunk.choices[0]
        if choice.finish_reason is not None:
            self.finish = choice.finish_reason
        if choice.delta is not None:
            self._output(choice.delta, chunk.timings, stamp_ns)

    def _output(self, delta: Delta, timings: Timings | None, stamp_ns: int) -> None:
        text = delta.content or delta.reasoning_content or delta.reasoning
        if not text and not delta.tool_calls:
            return
        self.stamps.append(stamp_ns)
        step = 0
        if timings is not None:
            # A held-back character's tokens are counted with the chunk that shows it.
            step = max(0, min(timings.predicted_n - self.predicted, 1_000_000))
            self.predicted = timings.predicted_n
        self.tokens.append(step)
        if text:
            self.characters += len(text)
            self.tail = (self.tail + text)[-TEXT_KEPT:]
        if len(self.stamps) > self.limit:
            raise OverflowError(f"more than {self.limit:,} chunks for {self.order.max_tokens:,} tokens asked")

    def finished(self, episode: str) -> Finished:
        """The record as the message that goes to the tool."""
        usage = self.usage
        details = usage.prompt_tokens_details if usage is not None else None
        return Finished(
            episode=episode,
            id=self.order.id,
            role=self.order.role,
            stream=self.stream,
            cold=self.order.cold,
            sent_ns=self.sent_ns,
            end_ns=self.end_ns,
            user_stamps=self.stamps.tobytes(),
            chunk_tokens=self.tokens.tobytes(),
            asked_tokens=self.order.max_tokens,
            connect_ns=self.connect_ns,
            write_ns=self.write_ns,
            header_ns=self.header_ns,
            due_ns=self.order.due_ns,
            prompt_tokens=None if usage is None else usage.prompt_tokens,
            cached_tokens=None if details is None else details.cached_tokens,
            output_tokens=None if usage is None else usage.completion_tokens,
            finish=self.finish,
            complete=self.complete,
            error=self.error,
            timings=self.engine,
            characters=self.characters,
            text=self.tail,
        )
