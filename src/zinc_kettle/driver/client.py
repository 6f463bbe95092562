"""A thin streaming client: one protocol object a connection, stamp first, decode inline.

Why not a general HTTP client: in trials they cost 2 to 20 times the CPU per token and stamped up to a hundred times
later (docs/driver.md). Framing is httptools, decoding is msgspec; only the order of things is ours.
"""

from __future__ import annotations

import asyncio
import os
import ssl
import time
from dataclasses import dataclass
from typing import cast
from urllib.parse import urlsplit

import httptools
import msgspec

from zinc_kettle.driver.record import Record
from zinc_kettle.driver.sse import EventReader, EventTooLargeError
from zinc_kettle.errors import DriverError
from zinc_kettle.wire.messages import RequestOrder, Setup

CONNECT_TIMEOUT_S = 10.0
ERROR_BODY_KEPT = 600


@dataclass(frozen=True)
class Target:
    """Where requests go, resolved once."""

    host: str
    port: int
    path: str
    model: str
    tls: bool
    head: bytes
    """Request line and headers up to the content length."""

    @classmethod
    def of(cls, setup: Setup) -> Target:
        """Read a base URL such as `http://127.0.0.1:8080` or `https://host/v1`.

        Raises:
            DriverError: The URL cannot be used, or the key's variable is not set.
        """
        parts = urlsplit(setup.base_url)
        if parts.scheme not in {"http", "https"} or not parts.hostname:
            raise DriverError(f"{setup.base_url!r} is no http or https address")
        base = parts.path.rstrip("/")
        path = f"{base}/chat/completions" if base.endswith("/v1") else f"{base}/v1/chat/completions"
        headers = [
            f"POST {path} HTTP/1.1",
            f"Host: {parts.netloc.rpartition('@')[2]}",
            "Accept: text/event-stream",
            "Content-Type: application/json",
        ]
        if setup.key_variable:
            key = os.environ.get(setup.key_variable, "")
            if not key or any(ord(c) < 33 or ord(c) > 126 for c in key):
                raise DriverError(f"the environment variable {setup.key_variable} holds no usable key")
            headers.append(f"Authorization: Bearer {key}")
        head = ("\r\n".join(headers) + "\r\nContent-Length: ").encode("ascii")
        port = parts.port or (443 if parts.scheme == "https" else 80)
        return cls(parts.hostname, port, path, setup.model, parts.scheme == "https", head)

    def encode(self, order: RequestOrder) -> bytes:
        """The whole request as bytes, built before the clock starts."""
        body: dict[str, object] = {
            "model": self.model,
            "messages": order.messages,
            "max_tokens": order.max_tokens,
            "temperature": order.temperature,
            "seed": order.seed,
            "stream": True,
            "stream_options": {"include_usage": True},
            **order.extra,
        }
        encoded = msgspec.json.encode(body)
        return self.head + str(len(encoded)).encode() + b"\r\n\r\n" + encoded


class Connection(asyncio.Protocol):
    """One connection for one request, opened before the request's clock starts."""

    def __init__(self) -> None:
        self._transport: asyncio.Transport | None = None
        self._record: Record | None = None
        self._done: asyncio.Future[None] | None = None
        self._parser = httptools.HttpResponseParser(self)
        self._events = EventReader()
        self._stamp = 0
        self._status = 0
        self._body = b""
        self.last_byte_ns = 0
        self.open = False

    # asyncio
    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        """Keep the transport; asyncio sets TCP_NODELAY by itself."""
        self._transport = cast(asyncio.Transport, transport)
        self.open = True

    def data_received(self, data: bytes) -> None:
        """Stamp, then parse: nothing may come before the stamp."""
        self._stamp = self.last_byte_ns = time.monotonic_ns()
        try:
            self._parser.feed_data(data)
        except httptools.HttpParserError as error:
            # A callback's own error arrives wrapped; the cause is what a person wants to read.
            cause = error.__context__ or error
            self._fail(f"the answer could not be read: {str(cause)[:200] or type(cause).__name__}")
        except (msgspec.MsgspecError, EventTooLargeError, OverflowError) as error:
            self._fail(f"the answer could not be read: {str(error)[:200]}")

    def connection_lost(self, exc: Exception | None) -> None:
        """An end before the end marker is a failure of the request."""
        self.open = False
        if self._record is not None:
            why = f" ({exc})" if exc else ""
            self._fail(f"the connection closed before the end of the answer{why}")

    # httptools
    def on_message_begin(self) -> None:
        """Start of an answer."""
        self._status = 0

    def on_headers_complete(self) -> None:
        """Headers may come long before prefill has ended; their time is kept apart."""
        self._status = self._parser.get_status_code()
        if self._record is not None:
            self._record.header_ns = self._stamp

    def on_body(self, body: bytes) -> None:
        """Read events; a failed status keeps a little of its body as the reason."""
        record = self._record
        if record is None:
            return
        if self._status != 200:
            self._body = (self._body + body)[:ERROR_BODY_KEPT]
            return
        stamp = self._stamp
        for event in self._events.feed(body):
            record.event(event, stamp)

    def on_message_complete(self) -> None:
        """End of an answer."""
        record = self._record
        if record is None:
            return
        if self._status != 200:
            text = self._body.decode("utf-8", "replace")
            self._fail(f"HTTP {self._status}: {text}", keep=True)
        elif not record.complete and record.error is None:
            self._fail("the stream ended without its end marker", keep=True)
        else:
            self._settle()

    # ours
    async def exchange(self, record: Record, request: bytes, *, timeout_s: float, stall_s: float) -> None:
        """Send a request and wait for its end; the record holds whatever came, also when it failed."""
        assert self._transport is not None
        self._parser = httptools.HttpResponseParser(self)
        self._events = EventReader()
        self._body = b""
        self._record = record
        self._done = asyncio.get_running_loop().create_future()
        record.sent_ns = self.last_byte_ns = time.monotonic_ns()
        self._transport.write(request)
        record.write_ns = time.monotonic_ns() - record.sent_ns
        deadline = record.sent_ns + int(timeout_s * 1e9)
        try:
            while not self._done.done():
                now = time.monotonic_ns()
                left = min(deadline - now, self.last_byte_ns + int(stall_s * 1e9) - now) / 1e9
                if left <= 0:
                    late = now >= deadline
                    self._fail(f"no end after {timeout_s:g} s" if late else f"stalled: no byte for {stall_s:g} s")
                    break
                await asyncio.wait((self._done,), timeout=left)
        finally:
            if self._record is not None:  # cancelled
                self._fail("stopped by the person")

    def close(self) -> None:
        """Close the connection at once."""
        self.open = False
        if self._transport is not None:
            self._transport.abort()

    def _fail(self, why: str, *, keep: bool = False) -> None:
        record = self._record
        if record is not None and record.error is None:
            record.error = why
            record.complete = False
        self._settle()
        if not keep:
            self.close()

    def _settle(self) -> None:
        record, self._record = self._record, None
        if record is not None:
            record.end_ns = time.monotonic_ns()
        if self._done is not None and not self._done.done():
            self._done.set_result(None)


async def connect(target: Target) -> tuple[Connection, int]:
    """Open a connection.

    Returns:
        The connection and how long opening took, in nanoseconds.

    Raises:
        OSError: It could not be opened within CONNECT_TIMEOUT_S.
    """
    loop = asyncio.get_running_loop()
    context = ssl.create_default_context() if target.tls else None
    start = time.monotonic_ns()
    opening = loop.create_connection(Connection, target.host, target.port, ssl=context)
    _, connection = await asyncio.wait_for(opening, CONNECT_TIMEOUT_S)
    return connection, time.monotonic_ns() - start
