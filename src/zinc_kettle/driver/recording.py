"""What one request gathers while it streams: stamps first, then the little that must be decoded."""

from __future__ import annotations

from array import array
from collections.abc import Callable
from typing import Any

from zinc_kettle.core.text import neutralise
from zinc_kettle.driver.chunk import USUAL, Delta, Reader, Usage, tool_text
from zinc_kettle.wire.messages import Finished, RequestOrder, Timings

TEXT_KEPT = 2_000
"""Characters of the end of an answer that are kept: enough to see that it rambles, not enough to fill a store."""
ANSWER_KEPT = 1 << 20
"""Characters of an answer that are kept where the next turn of a conversation needs all of it."""
FINISH_KEPT = 40
"""Characters of the reason an answer ended; the protocol has words like `stop` and `length`."""
CHUNKS_PER_TOKEN_LIMIT = 8
CHUNKS_FLOOR = 1_024
ABSURD_TIMES, ABSURD_FLOOR = 4, 64
"""A usage record of more than so many times the tokens asked for, and so many more, is not believed."""
MAX_PROMPT_TOKENS = 1 << 30
DONE, NOTHING = b"[DONE]", b"null"
"""The end marker, and an event some engines send before they have anything to say."""
JOIN = 64
"""Pieces of text are joined when so many have come: adding each to a long string would copy it each time."""


class Fault(Exception):
    """The answer is not what it should be.

    Args:
        code: As in core.faults.
        what: What happened, one clause.
    """

    def __init__(self, code: str, what: str) -> None:
        super().__init__(what)
        self.code = code
        self.what = what


class Recording:
    """The growing account of one request. Stamps take 12 bytes per token, and 4 more where the engine counts.

    Args:
        order: The request as it was ordered.
        stream: Number of its stream.
        attempt: Counted from 0.
        keep_all: Keep the whole answer and not only its end.
        reader: Decodes the chunks of its engine.
    """

    __slots__ = (
        "attempt",
        "characters",
        "coalesced",
        "complete",
        "connect_ns",
        "due_ns",
        "end_ns",
        "engine",
        "error",
        "fault",
        "finish",
        "header_ns",
        "keep_all",
        "kernel",
        "limit",
        "odd",
        "order",
        "own",
        "parts",
        "predicted",
        "queue",
        "reader",
        "retry_after_s",
        "sent_ns",
        "stamps",
        "stream",
        "tokens",
        "usage",
        "whole",
        "write_ns",
    )

    def __init__(
        self, order: RequestOrder, stream: int, *, attempt: int = 0, keep_all: bool = False, reader: Reader = USUAL
    ) -> None:
        self.order = order
        self.reader = reader
        self.stream = stream
        self.attempt = attempt
        self.keep_all = keep_all
        self.sent_ns = 0
        self.end_ns = 0
        self.connect_ns = 0
        self.write_ns = 0
        self.due_ns: int | None = None
        self.header_ns: int | None = None
        self.stamps = array("q")
        self.queue = array("I")
        self.kernel = True
        self.tokens = array("i")
        self.predicted = 0
        self.coalesced = 0
        self.usage: Usage | None = None
        self.own: Any = None
        """The last chunk that carried something of the engine's own account."""
        self.engine: Timings | None = None
        self.finish: str | None = None
        self.complete = False
        self.error: str | None = None
        self.fault = ""
        self.odd = ""
        self.retry_after_s: float | None = None
        self.characters = 0
        self.parts: list[str] = []
        self.whole = ""
        self.limit = order.max_tokens * CHUNKS_PER_TOKEN_LIMIT + CHUNKS_FLOOR

    def event(self, data: bytes | memoryview, stamp_ns: int, kernel_ns: int | None) -> None:
        """Take the data of one event that arrived at `stamp_ns`, and at `kernel_ns` where the kernel stamped it.

        Raises:
            msgspec.MsgspecError: The data is not JSON, or of a wrong shape.
            Fault: More chunks came than any honest answer of this length has, or the engine reported an error.
        """
        if len(data) <= len(DONE) and data in (DONE, NOTHING):
            self.complete = self.complete or data == DONE
            return
        chunk = self.reader.decode(data)
        own = self.reader.own(chunk)
        if chunk.choices:
            choice = chunk.choices[0]
            if choice.delta is not None:
                self.output(choice.delta, own, stamp_ns, kernel_ns)
            if choice.finish_reason is not None:
                self.finish = choice.finish_reason
        if own is not None:
            self.own = own
        if chunk.usage is not None:
            self.take_usage(chunk.usage)
        if chunk.error is not None:
            raise Fault("engine-error", f"the engine reported an error: {str(chunk.error)[:300]}")

    @property
    def so_far(self) -> int:
        """Tokens so far, by the engine's count where it counts."""
        return max(self.predicted, len(self.stamps))

    def chunks(self) -> int:
        """Output chunks so far."""
        return len(self.stamps)

    def output(self, delta: Delta, own: Any, stamp_ns: int, kernel_ns: int | None) -> None:
        """Take one chunk; without visible text it is no output.

        Args:
            delta: What it adds.
            own: The chunk, where it carries something of the engine's own account.
            stamp_ns: Arrival by this process's clock, monotonic nanoseconds.
            kernel_ns: Arrival by the kernel; None where it gave no stamp.
        """
        text = delta.content or delta.reasoning_content or delta.reasoning
        if delta.tool_calls:
            text = (text or "") + tool_text(delta.tool_calls)
        elif not text:
            return
        self.stamps.append(stamp_ns)
        if kernel_ns is None:
            self.kernel = False
        elif self.kernel:
            self.queue.append(stamp_ns - kernel_ns)
        if own is not None and (predicted := self.reader.count(own)) is not None:
            self._count(predicted)
        parts = self.parts
        parts.append(text or "")
        if len(parts) >= JOIN:
            self._join()
            if len(self.stamps) > self.limit:
                raise Fault(
                    "endless", f"more than {self.limit:,} chunks for {self.order.max_tokens:,} tokens requested"
                )

    def _count(self, predicted: int) -> None:
        # A held-back character's tokens are counted with the chunk that shows it.
        missing = len(self.stamps) - 1 - len(self.tokens)
        if missing:
            self.tokens.extend([0] * missing)
        self.tokens.append(max(0, min(predicted - self.predicted, 1_000_000)))
        self.predicted = predicted

    def _join(self) -> None:
        kept = ANSWER_KEPT if self.keep_all else TEXT_KEPT
        new = "".join(self.parts)
        self.characters += len(new)
        self.whole = (self.whole + new)[-kept:]
        self.parts.clear()

    @property
    def text(self) -> str:
        """The answer as far as it is kept: its end, or all of it where a conversation goes on."""
        self._join()
        return self.whole

    def take_usage(self, usage: Usage) -> None:
        """Believe a usage record, unless no engine can have meant it."""
        most = ABSURD_TIMES * self.order.max_tokens + ABSURD_FLOOR
        details = usage.prompt_tokens_details
        cached = details.cached_tokens if details is not None else None
        checks = (
            ("completion_tokens", usage.completion_tokens, most),
            ("prompt_tokens", usage.prompt_tokens, MAX_PROMPT_TOKENS),
            ("cached_tokens", cached, usage.prompt_tokens if usage.prompt_tokens is not None else MAX_PROMPT_TOKENS),
        )
        wrong = [f"{name} = {str(value)[:30]}" for name, value, top in checks if value and not 0 <= value <= top]
        if wrong:
            self.odd = f"the usage record was not believed: {', '.join(wrong)}"
        else:
            self.usage = usage

    def _believe_timings(self) -> None:
        report = self.engine = None if self.own is None else self.reader.account(self.own)
        if report is None:
            return
        most = ABSURD_TIMES * self.order.max_tokens + ABSURD_FLOOR
        sound = 0 <= report.predicted_n <= most and 0 <= report.prompt_n <= MAX_PROMPT_TOKENS
        if not (sound and 0 <= report.cache_n <= MAX_PROMPT_TOKENS and min(report.prompt_ms, report.predicted_ms) >= 0):
            self.odd = f"the engine's own account was not believed: predicted_n = {report.predicted_n}"
            self.engine = None
            self.tokens = array("i")

    def fail(self, code: str, what: str) -> None:
        """Keep the first thing that went wrong."""
        if self.error is None:
            self.fault, self.error = code, what
            self.complete = False

    def clean(self, without_key: Callable[[str], str]) -> None:
        """Take the key out of every text a server sent, before anything is cut to its length."""
        self.whole = without_key(self.text)
        self.odd = without_key(self.odd)
        if self.finish is not None:
            self.finish = without_key(self.finish)

    def finished(self, episode: str) -> Finished:
        """The recording as the message that goes to the tool."""
        usage = self.usage
        details = usage.prompt_tokens_details if usage is not None else None
        kernel = None
        self._believe_timings()
        self._join()
        if self.kernel and self.stamps:
            kernel = array("q", [user - waited for user, waited in zip(self.stamps, self.queue, strict=True)]).tobytes()
        self.tokens.extend([0] * (len(self.stamps) - len(self.tokens)))
        return Finished(
            episode=episode,
            id=self.order.id,
            role=self.order.role,
            stream=self.stream,
            cold=self.order.cold and self.attempt == 0,
            sent_ns=self.sent_ns,
            end_ns=self.end_ns,
            user_stamps=self.stamps.tobytes(),
            chunk_tokens=self.tokens.tobytes(),
            asked_tokens=self.order.max_tokens,
            connect_ns=self.connect_ns,
            write_ns=self.write_ns,
            header_ns=self.header_ns,
            due_ns=self.due_ns,
            kernel_stamps=kernel,
            prompt_tokens=None if usage is None else usage.prompt_tokens,
            cached_tokens=None if details is None else details.cached_tokens,
            output_tokens=None if usage is None else usage.completion_tokens,
            finish=None if self.finish is None else neutralise(self.finish, keep_newlines=False)[:FINISH_KEPT],
            complete=self.complete,
            error=self.error,
            timings=self.engine,
            characters=self.characters,
            text=self.text[-TEXT_KEPT:],
            fault=self.fault,
            attempt=self.attempt,
            conversation=self.order.conversation,
            turn=self.order.turn,
            coalesced=self.coalesced,
            odd=self.odd,
        )
