"""The next connection is open before it is wanted, and the next request follows an answer at once."""

from __future__ import annotations

import asyncio
import contextlib
import itertools
from collections.abc import AsyncIterator
from dataclasses import dataclass, field

import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from zinc_kettle.driver.closed import ClosedLoop
from zinc_kettle.driver.target import Target
from zinc_kettle.wire.messages import ChatMessage, Episode, Finished, RequestOrder, Retry, Setup

TOKENS, GAP_S = 30, 0.005
HEAD = b"HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nTransfer-Encoding: chunked\r\n\r\n"


def event(text: str) -> bytes:
    """An event as one chunk."""
    data = f"data: {text}\n\n".encode()
    return f"{len(data):x}\r\n".encode() + data + b"\r\n"


TOKEN = event('{"choices":[{"index":0,"delta":{"content":" quay"}}]}')
TAIL = b"".join(
    (
        event('{"choices":[{"index":0,"delta":{},"finish_reason":"length"}]}'),
        event('{"choices":[],"usage":{"prompt_tokens":7,"completion_tokens":30}}'),
        event("[DONE]"),
        b"0\r\n\r\n",
    )
)


@dataclass
class Harbour:
    """A server that notes what happens on which connection, counted from 0."""

    cuts: tuple[int, ...] = ()
    """Where the end of an answer is cut into several writes."""
    gap_s: float = GAP_S
    closes_idle: bool = False
    """Shortly before an answer ends it closes the connections that have not asked anything."""
    broken: int = -1
    """The request that is answered with an error."""
    log: list[tuple[str, int]] = field(default_factory=list)
    idle: set[asyncio.StreamWriter] = field(default_factory=set)
    opened: int = 0
    closed: int = 0
    asked: int = 0
    url: str = ""

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        number, self.opened = self.opened, self.opened + 1
        self.log.append(("open", number))
        self.idle.add(writer)
        with contextlib.suppress(TimeoutError, OSError, asyncio.IncompleteReadError):
            head = await asyncio.wait_for(reader.readuntil(b"\r\n\r\n"), 10)
            self.idle.discard(writer)
            await reader.readexactly(int(head.lower().partition(b"content-length: ")[2].split()[0]))
            self.log.append(("request", number))
            await self._answer(writer, number)
        self.idle.discard(writer)
        writer.close()

    def _close_idle(self) -> None:
        self.closed += len(self.idle)
        for writer in self.idle:
            writer.close()
        self.idle.clear()

    async def _answer(self, writer: asyncio.StreamWriter, number: int) -> None:
        asked, self.asked = self.asked, self.asked + 1
        if asked == self.broken:
            writer.write(b"HTTP/1.1 503 Busy\r\nContent-Length: 4\r\n\r\nbusy")
            return
        writer.write(HEAD)
        for token in range(TOKENS):
            if self.closes_idle and token == TOKENS - 4:
                self._close_idle()
            writer.write(TOKEN)
            await writer.drain()
            await asyncio.sleep(self.gap_s)
        self.log.append(("end", number))
        for a, b in zip((0, *self.cuts), (*self.cuts, len(TAIL)), strict=True):
            writer.write(TAIL[a:b])
            await writer.drain()
            await asyncio.sleep(0)

    @contextlib.asynccontextmanager
    async def running(self) -> AsyncIterator[None]:
        """The server at an address."""
        server = await asyncio.start_server(self._serve, "127.0.0.1", 0)
        self.url = f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}"
        try:
            yield
        finally:
            server.close()


def orders(count: int) -> list[RequestOrder]:
    """Requests of a few tokens."""
    return [RequestOrder(f"r{i}", "measured", [ChatMessage("user", "tide")], TOKENS) for i in range(count)]


async def run(harbour: Harbour, count: int, *, streams: int = 1, ahead: bool = True, **more: object) -> list[Finished]:
    """An episode in this process; what it reports, in the order it was sent."""
    said: list[object] = []
    target = Target.of(Setup(harbour.url, "m", connect_ahead=ahead))
    loop = ClosedLoop(target, Episode("e", streams, orders(count), **more), lambda *m: said.extend(m))  # type: ignore[arg-type]
    await loop.run()
    return sorted((m for m in said if isinstance(m, Finished)), key=lambda m: m.sent_ns)


@pytest.mark.parametrize("ahead", [True, False])
async def test_when_the_next_connection_opens(ahead: bool) -> None:
    """Before the answer ends, where the recipe allows it; a server that gives a worker to each sees one at a time."""
    harbour = Harbour()
    async with harbour.running():
        seen = await run(harbour, 4, ahead=ahead)
    assert all(m.complete and m.error is None for m in seen) and len(seen) == 4
    early = [harbour.log.index(("open", k + 1)) < harbour.log.index(("end", k)) for k in range(3)]
    assert early == [ahead] * 3
    # And always after the last answer's end was sent: a stream has one request at a time.
    assert all(harbour.log.index(("request", k + 1)) > harbour.log.index(("end", k)) for k in range(3))


@settings(max_examples=12, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.sets(st.integers(1, len(TAIL) - 1), max_size=5).map(lambda s: tuple(sorted(s))))
@example((1, 170))  # within the two line feeds behind the end marker
def test_an_end_may_come_in_any_pieces(cuts: tuple[int, ...]) -> None:
    """The successor goes out at the end marker; whatever of the answer is still to be read is not lost."""

    async def all_of_it() -> None:
        harbour = Harbour(cuts=cuts)
        async with harbour.running():
            seen = await run(harbour, 4, streams=2)
        assert [(m.complete, m.error, m.finish, m.output_tokens, m.prompt_tokens) for m in seen] == [
            (True, None, "length", TOKENS, 7)
        ] * 4
        assert all(len(m.user_stamps) == 8 * TOKENS for m in seen)
        by_stream = [[m for m in seen if m.stream == s] for s in (0, 1)]
        assert all(b.sent_ns >= a.end_ns for row in by_stream for a, b in itertools.pairwise(row))

    asyncio.run(all_of_it())


async def test_a_server_that_closes_what_is_idle() -> None:
    """The connection opened ahead is dead when it is wanted: another one is opened, and no request fails."""
    harbour = Harbour(gap_s=0.02, closes_idle=True)
    async with harbour.running():
        seen = await run(harbour, 3)
    assert [m.error for m in seen] == [None] * 3
    assert harbour.closed > 0 and harbour.opened == 3 + harbour.closed


async def test_a_failed_answer_is_not_followed_at_once() -> None:
    """It is sent again first; the requests keep their order."""
    harbour = Harbour(broken=1)
    async with harbour.running():
        seen = await run(harbour, 3, retry=Retry(1, ["http-503"], 0.01))
    assert [(m.id, m.attempt, m.fault) for m in seen] == [
        ("r0", 0, ""),
        ("r1", 0, "http-503"),
        ("r1", 1, ""),
        ("r2", 0, ""),
    ]


async def test_turns_of_a_conversation_follow_each_other() -> None:
    """Although the next conversation is ready: a stream finishes one before it begins another, one turn at a time."""
    harbour = Harbour(gap_s=0.001)
    said: list[object] = []
    turns = [
        RequestOrder(
            f"c{c}t{t}",
            "measured",
            [ChatMessage("user", f"{c} {t}")],
            8 if t else TOKENS,
            conversation=c,
            turn=t,
            carry=True,
        )
        for c in range(4)
        for t in range(3)
    ]
    async with harbour.running():
        loop = ClosedLoop(Target.of(Setup(harbour.url, "m")), Episode("e", 1, turns), lambda *m: said.extend(m))
        await loop.run()
    seen = sorted((m for m in said if isinstance(m, Finished)), key=lambda m: m.sent_ns)
    assert [m.id for m in seen] == [order.id for order in turns] and all(m.error is None for m in seen)
    assert all(b.sent_ns >= a.end_ns for a, b in itertools.pairwise(seen))
    assert [kind for kind, _ in harbour.log if kind != "open"] == ["request", "end"] * 12


async def test_what_was_sent_is_recorded_when_it_is_stopped() -> None:
    """At whatever moment: each request the server has seen is in the record."""
    for wait_s in (0.05, 0.1, 0.11, 0.12, 0.2, 0.25):
        harbour = Harbour()
        said: list[object] = []
        async with harbour.running():
            loop = ClosedLoop(
                Target.of(Setup(harbour.url, "m")), Episode("e", 3, orders(30)), lambda *m, s=said: s.extend(m)
            )
            task = asyncio.create_task(loop.run())
            await asyncio.sleep(wait_s)
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)
        assert sum(isinstance(m, Finished) for m in said) >= harbour.asked > 0
