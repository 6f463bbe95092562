"""Where requests go: address resolved once, headers and bodies encoded before any clock starts, the key kept inside."""

from __future__ import annotations

import asyncio
import os
import socket
import ssl
import stat
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import msgspec

from zinc_kettle.core.redact import redact
from zinc_kettle.driver.chunk import USUAL, Reader
from zinc_kettle.errors import DriverError
from zinc_kettle.wire.messages import ChatMessage, RequestOrder, Setup

MAX_KEY_BYTES = 8_192
READABLE_BY_OTHERS = stat.S_IRWXG | stat.S_IRWXO


@dataclass(frozen=True)
class Target:
    """Where requests go."""

    host: str
    port: int
    model: str
    chat_head: bytes = field(repr=False)
    """Request line and headers of a chat, up to the content length; holds the key."""
    plain_head: bytes = field(repr=False)
    """The same for plain completions, which take several prompts at once."""
    tls: ssl.SSLContext | None
    key: str = field(repr=False)
    reader: Reader = field(default=USUAL, repr=False)
    connect_ahead: bool = True
    kernel_stamps: bool = True
    _resolved: list[tuple[int, Any]] = field(default_factory=list, repr=False)

    @classmethod
    def of(cls, setup: Setup) -> Target:
        """Read a base URL such as `http://127.0.0.1:8080` or `https://host/v1`.

        Raises:
            DriverError: The URL, the key or the certificates cannot be used.
        """
        parts = urlsplit(setup.base_url)
        try:
            port = parts.port
        except ValueError as error:
            raise DriverError(f"{setup.base_url!r} has no usable port") from error
        if parts.scheme not in {"http", "https"} or not parts.hostname:
            raise DriverError(f"{setup.base_url!r} is not an http or https address")
        base = parts.path.rstrip("/")
        base = base if base.endswith("/v1") else f"{base}/v1"
        key = read_key(setup.key_variable, setup.key_file)
        host = parts.netloc.rpartition("@")[2]
        tls = _trust(setup.ca_file) if parts.scheme == "https" else None
        return cls(
            parts.hostname,
            port or (443 if tls else 80),
            setup.model,
            _head(f"{base}/chat/completions", host, key),
            _head(f"{base}/completions", host, key),
            tls,
            key,
            Reader(setup.reports),
            setup.connect_ahead,
            setup.kernel_stamps,
        )

    async def resolve(self) -> list[tuple[int, Any]]:
        """Families and addresses in the order to try them; looked up once.

        Raises:
            OSError: The name is not known.
        """
        if not self._resolved:
            loop = asyncio.get_running_loop()
            found = await loop.getaddrinfo(self.host, self.port, type=socket.SOCK_STREAM)
            self._resolved.extend(dict.fromkeys((entry[0], entry[4]) for entry in found))
        return list(self._resolved)

    def keep(self, address: tuple[int, Any]) -> None:
        """This address answered: try no other from now on."""
        if self._resolved != [address]:
            self._resolved[:] = [address]

    def encode(self, order: RequestOrder, messages: Sequence[ChatMessage] | None = None) -> bytes:
        """A chat request as bytes; `messages` where they are not the order's own."""
        body = {
            "model": self.model,
            "messages": order.messages if messages is None else messages,
            **_limits(order),
            "stream_options": {"include_usage": True},
            **order.extra,
        }
        return _whole(self.chat_head, body)

    def encode_batch(self, orders: Sequence[RequestOrder]) -> bytes:
        """Several prompts in one request; they are sent as plain text, without a chat template."""
        prompts = ["\n".join(m.content for m in order.messages) for order in orders]
        first = orders[0]
        return _whole(self.plain_head, {"model": self.model, "prompt": prompts, **_limits(first), **first.extra})

    def clean(self, text: str) -> str:
        """A text without the key, should a server send it back."""
        return redact(text, self.key)


def _limits(order: RequestOrder) -> dict[str, Any]:
    return {"max_tokens": order.max_tokens, "temperature": order.temperature, "seed": order.seed, "stream": True}


def _head(path: str, host: str, key: str) -> bytes:
    lines = [
        f"POST {path} HTTP/1.1",
        f"Host: {host}",
        "Accept: text/event-stream",
        "Content-Type: application/json",
        *([f"Authorization: Bearer {key}"] if key else []),
        "Content-Length: ",
    ]
    return "\r\n".join(lines).encode("ascii")


def _whole(head: bytes, body: dict[str, Any]) -> bytes:
    encoded = msgspec.json.encode(body)
    return b"%b%d\r\n\r\n%b" % (head, len(encoded), encoded)


def _trust(ca_file: str | None) -> ssl.SSLContext:
    try:
        context = ssl.create_default_context()
        if ca_file is not None:
            context.load_verify_locations(ca_file)
    except (OSError, ssl.SSLError) as error:
        raise DriverError("the certificates of ca_file cannot be used", why=str(error)) from error
    return context


def read_key(variable: str | None, file: str | None) -> str:
    """The key, or an empty text where none is wanted.

    Raises:
        DriverError: It is not to be had, holds what no header may hold, or its file may be read by others.
    """
    if variable is not None:
        return _usable(os.environ.get(variable, ""), f"the environment variable {variable}")
    if file is None:
        return ""
    path = Path(file)
    try:
        known = path.stat()
        if os.name == "posix" and known.st_mode & READABLE_BY_OTHERS:
            raise DriverError(f"the key file {path.name} may be read by others", remedy=f"chmod 600 {path.name}")
        text = path.read_text(encoding="ascii")[: MAX_KEY_BYTES + 1] if known.st_size <= MAX_KEY_BYTES else ""
    except (OSError, UnicodeDecodeError) as error:
        why = getattr(error, "strerror", None) or "it is not plain ASCII text"
        raise DriverError(f"the key file {path.name} cannot be read", why=why) from error
    return _usable(text.strip(), f"the key file {path.name}")


def _usable(key: str, where: str) -> str:
    if not key or any(ord(c) < 33 or ord(c) > 126 for c in key):
        raise DriverError(f"{where} does not hold a usable key")
    return key
