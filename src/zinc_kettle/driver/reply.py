"""From the bytes of an HTTP answer to events of a recording: framing by httptools, events and decoding inline.

Knows no socket: whoever reads hands bytes over with their stamps, and is told when the answer has ended.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

import httptools

from zinc_kettle.driver.recording import Fault
from zinc_kettle.driver.sse import EventReader, EventTooLargeError

ERROR_BODY_KEPT = 600
MAX_HEADER_BYTES = 1 << 16
OK = 200
NEW_LINE, RETURN = 10, 13
MAX_RETRY_AFTER_S = 86_400.0


class Sink(Protocol):
    """What takes the events: a recording, or the recordings of a batch."""

    header_ns: int | None
    complete: bool
    error: str | None
    retry_after_s: float | None
    coalesced: int

    def event(self, data: bytes | memoryview, stamp_ns: int, kernel_ns: int | None) -> None:
        """Take the data of one event."""
        ...

    def chunks(self) -> int:
        """Output chunks so far."""
        ...

    def fail(self, code: str, what: str) -> None:
        """Keep the first thing that went wrong."""
        ...


class Reply:
    """One answer. `ended` is true when nothing more is wanted from the connection."""

    __slots__ = (
        "_at_chunk",
        "_body",
        "_events",
        "_feed",
        "_header_bytes",
        "_in_headers",
        "_kernel_ns",
        "_parser",
        "_sink",
        "_stamp_ns",
        "_status",
        "_take",
        "_type",
        "crowded",
        "ended",
    )

    _sink: Sink
    _take: Callable[[bytes | memoryview, int, int | None], None]

    def __init__(self) -> None:
        self._parser = httptools.HttpResponseParser(self)
        self._feed = self._parser.feed_data
        self._events = EventReader()
        self._stamp_ns = 0
        self._kernel_ns: int | None = None
        self._status = 0
        self._type = b""
        self._body = b""
        self._header_bytes = 0
        self._in_headers = True
        self._at_chunk = False
        self.crowded = False
        """True where a read held more than one output chunk, which then share a stamp."""
        self.ended = False

    def aim(self, sink: Sink) -> None:
        """What takes the events of the answer that comes next; before any byte of it."""
        self._sink = sink
        self._take = sink.event

    @property
    def marked(self) -> bool:
        """True once the answer's end marker has come."""
        return self._sink.complete

    def quick(
        self, buffer: bytearray | bytes, view: memoryview, size: int, stamp_ns: int, kernel_ns: int | None
    ) -> int:
        """Take whole chunks of the chunked coding with one event on one line each, as nearly all are.

        It skips the general machinery without leaving it in another state: before and after, the framing stands at the
        beginning of a chunk and no event is half read.

        Args:
            buffer: What was read, from its start.
            view: The same memory.
            size: Bytes that were read.
            stamp_ns: When, by our clock.
            kernel_ns: When, by the kernel's stamp.

        Returns:
            How many bytes were taken; `feed` must have the rest.
        """
        if not self._at_chunk:
            return 0
        at, before, find = 0, -1, buffer.find
        try:
            while at < size:
                start = find(b"\r\n", at, at + 10) + 2
                end = start + int(buffer[at : start - 2], 16)
                if (
                    end + 2 > size
                    or not buffer.startswith(b"data: ", start)
                    or find(b"\n", start, end) != end - 2
                    or buffer[end - 1] != NEW_LINE
                    or find(b"\r", start, end) >= 0
                    or buffer[end] != RETURN
                ):
                    break
                if at == 0 and end + 2 < size:
                    before = self._sink.chunks()
                self._take(view[start + 6 : end - 2], stamp_ns, kernel_ns)
                at = end + 2
        except ValueError:  # no hexadecimal number; of decoding: said again, and dealt with, by `feed`
            pass
        except Exception as error:  # noqa: BLE001 - whatever reading runs into is this answer's fault
            self._broken(error)
            return size
        if before >= 0 and (more := self._sink.chunks() - before) > 1:
            self._sink.coalesced += more
            self.crowded = True
        return at

    def feed(self, data: bytes, stamp_ns: int, kernel_ns: int | None) -> None:
        """Take what one read brought, with its stamps; faults go to the sink."""
        self._stamp_ns, self._kernel_ns = stamp_ns, kernel_ns
        # Two events in one read share a stamp; only then is it worth counting.
        before = self._sink.chunks() if data.count(b"data:") > 1 else -1
        try:
            if self._in_headers:
                self._bound_headers(len(data))
            self._feed(data)
            if self._at_chunk:
                # True only where the read ended with the end of a chunk.
                self._at_chunk = data.endswith(b"\r\n") and self._events.idle
        except httptools.HttpParserError as error:
            # A callback's own error arrives wrapped; the cause is what a person wants to read.
            self._broken(error.__context__ or error)
        except Exception as error:  # noqa: BLE001 - the same, and the next request goes on
            self._broken(error)
        if before >= 0 and (more := self._sink.chunks() - before) > 1:
            self._sink.coalesced += more
            self.crowded = True

    def _bound_headers(self, more: int) -> None:
        self._header_bytes += more
        if self._header_bytes > MAX_HEADER_BYTES + (1 << 12):
            raise Fault("too-large", f"more than {MAX_HEADER_BYTES:,} bytes came before the end of the headers")

    def _broken(self, error: BaseException) -> None:
        if isinstance(error, Fault):
            self._sink.fail(error.code, error.what)
        elif isinstance(error, EventTooLargeError):
            self._sink.fail("too-large", f"the answer could not be read: {error}")
        else:
            said = str(error)[:200] or type(error).__name__
            self._sink.fail("unreadable", f"the answer could not be read: {said}")
        self.ended = True

    def closed(self, why: str = "") -> None:
        """The connection has ended before the answer did."""
        if self.ended:
            return
        self.ended = True
        told = f" ({why})" if why else ""
        if self._sink.complete and self._sink.chunks():
            return  # an answer without a length ends with its connection, and its end marker has come
        if self._in_headers:
            self._sink.fail("reset", f"the connection closed before the answer's headers{told}")
        elif self._status != OK:
            self._status_failure()
        else:
            self._sink.fail("broken", f"the connection closed before the end of the answer{told}")

    # httptools
    def on_header(self, name: bytes, value: bytes) -> None:
        """Only two headers matter."""
        lower = name.lower()
        if lower == b"content-type":
            self._type = value.lower()
        elif lower == b"retry-after":
            text = value.decode("latin-1").strip()
            if text.isdecimal():
                self._sink.retry_after_s = min(float(text), MAX_RETRY_AFTER_S)

    def on_headers_complete(self) -> None:
        """Headers may come long before prefill has ended; their time is kept apart."""
        self._status = self._parser.get_status_code()
        if self._status < OK:
            return
        self._in_headers = False
        self._sink.header_ns = self._stamp_ns if self._kernel_ns is None else self._kernel_ns
        if self._status == OK and self._type and b"event-stream" not in self._type:
            kind = self._type.decode("latin-1")[:80]
            raise Fault("wrong-type", f"the answer is {kind!r} and not an event stream")

    def on_chunk_header(self) -> None:
        """Inside a chunk."""
        self._at_chunk = False

    def on_chunk_complete(self) -> None:
        """Between two chunks, unless the read goes on."""
        self._at_chunk = self._status == OK

    def on_body(self, body: bytes) -> None:
        """Read events; a failed status keeps a little of its body as the reason."""
        if self._status != OK:
            self._body = (self._body + body)[:ERROR_BODY_KEPT]
            return
        events = self._events
        # Nearly always a piece of the body is one event on one line: then nothing needs to be cut.
        if events.idle and body[:6] == b"data: " and body.find(b"\n") == len(body) - 2 and b"\r" not in body:
            self._take(body[6:-2], self._stamp_ns, self._kernel_ns)
            return
        for event in events.feed(body):
            self._take(event, self._stamp_ns, self._kernel_ns)

    def on_message_complete(self) -> None:
        """End of an answer."""
        if self._status < OK:
            return
        self.ended = True
        if self._status != OK:
            self._status_failure()
        elif not self._sink.complete:
            self._sink.fail("no-end", "the stream ended without its end marker")
        elif not self._sink.chunks():
            self._sink.fail("empty", "the answer carried no output")

    def _status_failure(self) -> None:
        text = self._body.decode("utf-8", "replace")
        self._sink.fail(f"http-{self._status}", f"HTTP {self._status}: {text}")
