"""Asking a server that may answer anything, for ever: bounded in bytes and time, and nothing is followed."""

from __future__ import annotations

import asyncio
import json
import time
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import ssl

    import httpx

MOST_BYTES = 1 << 20
PLAIN = {"Accept-Encoding": "identity"}
"""What is packed could grow to a thousand times its size."""


class NoAnswerError(Exception):
    """There was no usable answer; its text says why, as a clause."""


async def ask(
    url: str, *, post: Any = None, key: str = "", ca_file: str | None = None, limit_s: float, any_status: bool = False
) -> bytes:
    """The body of an answer.

    Args:
        url: Where.
        post: What to send, as JSON; None only asks.
        key: Sent to this server and no other.
        ca_file: Certificates to trust; None for the system's.
        limit_s: For all of it.
        any_status: Take an answer of any status.

    Raises:
        NoAnswerError: There was none, or it was too long or took too long.
    """
    import httpx

    try:
        async with asyncio.timeout(limit_s), _client(url, key, ca_file, limit_s) as http:
            method = "GET" if post is None else "POST"
            async with http.stream(method, url, json=post) as answer:
                _check(answer, any_status=any_status)
                body = bytearray()
                async for piece in answer.aiter_raw():
                    body += piece
                    if len(body) > MOST_BYTES:
                        raise NoAnswerError(f"it is longer than {MOST_BYTES >> 20} MiB")
                return bytes(body)
    except TimeoutError as error:
        raise NoAnswerError(f"it did not end within {limit_s:g} s") from error
    except (httpx.HTTPError, httpx.InvalidURL, OSError, ValueError) as error:
        raise NoAnswerError(str(error) or type(error).__name__) from error


async def ask_json(url: str, **more: Any) -> Any:
    """The same, as the JSON it is.

    Raises:
        NoAnswerError: There was none, or it is no JSON.
    """
    body = await ask(url, **more)
    try:
        return json.loads(body)
    except (ValueError, RecursionError) as error:
        raise NoAnswerError("it is not JSON") from error


def ask_now(http: httpx.Client, url: str, *, limit_s: float) -> str:
    """The text of an answer, in a thread that may wait for it.

    Args:
        http: A client that stays open between questions.
        url: Where.
        limit_s: For all of it.

    Raises:
        NoAnswerError: There was none, or it was too long or took too long.
    """
    import httpx

    end = time.monotonic() + limit_s
    try:
        with http.stream("GET", url, headers=PLAIN) as answer:
            _check(answer, any_status=False)
            body = bytearray()
            for piece in answer.iter_raw():
                body += piece
                if len(body) > MOST_BYTES or time.monotonic() > end:
                    raise NoAnswerError("it is too long, or took too long")
            return body.decode("utf-8", "replace")
    except (httpx.HTTPError, httpx.InvalidURL, OSError, ValueError) as error:
        raise NoAnswerError(str(error) or type(error).__name__) from error


def _check(answer: httpx.Response, *, any_status: bool) -> None:
    if not (any_status or answer.is_success):
        raise NoAnswerError(f"it is HTTP status {answer.status_code}")
    if answer.headers.get("Content-Encoding", "identity").lower() not in {"", "identity"}:
        raise NoAnswerError("it is packed, which was not asked for")


def _client(url: str, key: str, ca_file: str | None, limit_s: float) -> httpx.AsyncClient:
    import ssl

    import httpx

    # Reading the system's certificates takes 20 ms, which an address without TLS need not wait for.
    verify: bool | ssl.SSLContext = url.startswith("https")
    if verify and ca_file is not None:
        verify = ssl.create_default_context(cafile=ca_file)
    headers = {**PLAIN, **({"Authorization": f"Bearer {key}"} if key else {})}
    return httpx.AsyncClient(timeout=limit_s, trust_env=False, verify=verify, headers=headers, follow_redirects=False)
