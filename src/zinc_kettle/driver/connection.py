"""One connection for one request, opened before the request's clock starts.

Plain HTTP on Linux is read by `recvmsg` with kernel stamps; TLS and other systems go through an asyncio protocol with
stamps of our own. Both stamp first and parse after.
"""

from __future__ import annotations

import asyncio
import socket
import ssl
import time
from collections.abc import Callable
from time import monotonic_ns
from typing import cast

from zinc_kettle.driver.poller import Poller
from zinc_kettle.driver.recording import Fault
from zinc_kettle.driver.reply import Reply, Sink
from zinc_kettle.driver.stamps import ANCILLARY_BYTES, KernelClock, enable
from zinc_kettle.driver.target import Target

CONNECT_TIMEOUT_S = 10.0
READ_BYTES = 4_096
"""Small on purpose: one read has one kernel stamp, that of its last segment."""
DEFER_S = 0.02
"""How long after an answer's end its account is settled, where the next request has been sent already."""
MARKER = b"\ndata: [DONE]\n"
"""The end marker as nearly all write it, looked for before anything is decoded. No answer's text can hold it: JSON
writes a line feed in another way."""
TAIL_BYTES = 64
CONNECTS_AT_ONCE = 128
"""More would only wait in the server's queue of unaccepted connections, and be tried again after a second."""

_kernel_stamp = KernelClock().stamp
_BUFFER = bytearray(READ_BYTES)
_VIEW = memoryview(_BUFFER)
_VIEWS = [_VIEW]
_NOTHING = memoryview(b"")


class Connection:
    """What both kinds have in common: one exchange, its limits, and its end."""

    __slots__ = (
        "_done",
        "_limits_ns",
        "_reply",
        "_sink",
        "_spare",
        "_timer",
        "_went_on",
        "end_ns",
        "last_byte_ns",
        "on_end",
        "opened_ns",
        "sent_ns",
        "write_ns",
    )

    def __init__(self) -> None:
        self._reply: Reply | None = None
        self._spare = Reply()
        """Made before it is wanted: when many answers end at once, each microsecond until the next send counts."""
        self.on_end: Callable[[], bool] | None = None
        """Called at the end marker of an answer, before anything else; true where it sent the next request."""
        self._went_on = False
        self.opened_ns = time.monotonic_ns()
        self._sink: Sink | None = None
        self._done: asyncio.Future[None] | None = None
        self.last_byte_ns = 0
        self.sent_ns = 0
        self.write_ns = 0
        self.end_ns = 0

    def _write(self, data: bytes) -> None:
        raise NotImplementedError

    def close(self) -> None:
        """Close at once."""
        raise NotImplementedError

    @property
    def usable(self) -> bool:
        """False once either side has closed it."""
        raise NotImplementedError

    def begin(self, sink: Sink, request: bytes) -> None:
        """Send a request."""
        self.expect(sink)
        self.send(request)

    def send(self, request: bytes) -> None:
        """Send a request; its clock starts just before the first byte is written."""
        self.sent_ns = self.last_byte_ns = monotonic_ns()
        self._write(request)
        self.write_ns = monotonic_ns() - self.sent_ns

    def expect(self, sink: Sink) -> None:
        """What takes the answer; told before any of it can be read."""
        self._spare.aim(sink)
        self._sink, self._reply = sink, self._spare
        self._done = asyncio.get_running_loop().create_future()

    def later(self, call: Callable[[], None]) -> None:
        """Call this when nothing has to be sent at once."""
        call()

    def catch_up(self) -> None:
        """Make all calls that were put off."""

    async def finish(self, limits_ns: tuple[int, int]) -> None:
        """Wait for the end of what was begun; the sink holds whatever came, also when it failed.

        Args:
            limits_ns: How long all of it may take, and how long no byte may come; shared by all requests.
        """
        assert self._done is not None and self._sink is not None
        self._limits_ns = limits_ns
        self._timer = asyncio.get_running_loop().call_later(min(limits_ns) / 1e9, self._check)
        try:
            await self._done
        finally:
            self._timer.cancel()
            self.catch_up()
            if (not self._done.done() or self._done.cancelled()) and not self._sink.complete:
                self._sink.fail("stopped", "stopped before its end")
            self.end_ns = self.end_ns or time.monotonic_ns()
            self._reply = None

    def _check(self) -> None:
        """Look whether a limit is reached; one timer a request, set again only when it goes off."""
        assert self._sink is not None
        timeout_ns, stall_ns = self._limits_ns
        now = time.monotonic_ns()
        left_ns = min(self.sent_ns + timeout_ns, self.last_byte_ns + stall_ns) - now
        if left_ns > 0:
            # The loop's timers tick in milliseconds and may go off a little early.
            self._timer = asyncio.get_running_loop().call_later(left_ns / 1e9 + 0.001, self._check)
        elif now >= self.sent_ns + timeout_ns:
            self._sink.fail("timeout", f"no end after {timeout_ns / 1e9:g} s")
            self._settle()
        else:
            self._sink.fail("stall", f"stalled: no byte for {stall_ns / 1e9:g} s")
            self._settle()

    def _lost(self, why: str) -> None:
        if self._reply is not None:
            self._reply.closed(why)
            self._settle()

    def _marked(self, stamp_ns: int) -> None:
        """The end marker has come; what is left of the framing would only hold the next request up."""
        self.end_ns = stamp_ns
        if self.on_end is not None and not self._went_on:
            self._went_on = self.on_end()

    def _settle(self) -> None:
        """What was begun has ended."""
        self.end_ns = self.end_ns or time.monotonic_ns()
        self._reply = None
        if self._went_on:
            # Nobody waits for it, and many may end at this instant: whoever has no successor yet comes first.
            asyncio.get_running_loop().call_later(DEFER_S, self.resolve)
        else:
            self.resolve()

    @property
    def settled(self) -> bool:
        """True once whoever waits for the end has been woken."""
        return self._done is not None and self._done.done()

    def resolve(self) -> None:
        """Wake whoever waits for the end."""
        if self._done is not None and not self._done.done() and self._reply is None:
            self._done.set_result(None)


class SocketConnection(Connection):
    """Plain HTTP on Linux: `recvmsg` on readiness, with the kernel's stamp of each read."""

    __slots__ = ("_held", "_loop", "_poller", "_receive", "_rest", "_sock")

    def __init__(self, sock: socket.socket, poller: Poller) -> None:
        super().__init__()
        self._sock: socket.socket | None = sock
        self._receive = sock.recvmsg_into
        self._loop = asyncio.get_running_loop()
        self._poller = poller
        self._rest = _NOTHING
        self._held: tuple[bytes, int, int | None] | None = None
        """Read and not yet taken: with the end marker in it, of an answer whose successor was sent first."""
        poller.add(sock.fileno(), self._readable)

    def _readable(self) -> None:
        """Stamp, then parse. One buffer for all connections: what is read is taken in full before the next read."""
        if self._held is not None:
            self._take_held()
        try:
            size, ancillary, _, _ = self._receive(_VIEWS, ANCILLARY_BYTES)
            stamp_ns = monotonic_ns()
        except (BlockingIOError, InterruptedError):
            return
        except OSError as error:
            self.close()
            self._lost(str(error.strerror))
            return
        if not size:
            self.close()
            self._lost("")
            return
        self.last_byte_ns = stamp_ns
        reply = self._reply
        if reply is None:
            # Sent so short a time ago that it is not even noted yet.
            self._poller.catch_up()
            reply = self._reply
            if reply is None:
                return
        kernel_ns = _kernel_stamp(ancillary, stamp_ns)
        if self.on_end is not None and _BUFFER.find(MARKER, max(0, size - TAIL_BYTES), size) >= 0 and self.on_end():
            # Many answers may end at this instant: first all their successors are sent, then they are read.
            self._went_on = True
            self._held = (bytes(_VIEW[:size]), stamp_ns, kernel_ns)
            self._poller.later(self._take_held)
            return
        taken = reply.quick(_BUFFER, _VIEW, size, stamp_ns, kernel_ns)
        if taken < size:
            reply.feed(bytes(_VIEW[taken:size]), stamp_ns, kernel_ns)
        if reply.ended or reply.marked or reply.crowded:
            self._rare(reply, stamp_ns if kernel_ns is None else kernel_ns)

    def _take_held(self) -> None:
        """Take what was read a moment ago, with its end marker; nothing where that is done."""
        held, reply, self._held = self._held, self._reply, None
        if held is None or reply is None:
            return
        data, stamp_ns, kernel_ns = held
        taken = reply.quick(data, memoryview(data), len(data), stamp_ns, kernel_ns)
        if taken < len(data):
            reply.feed(data[taken:], stamp_ns, kernel_ns)
        # The marker's line is the end, also where the empty line that ends its event is still on its way.
        self.end_ns = self.end_ns or (stamp_ns if kernel_ns is None else kernel_ns)
        self._rare(reply, stamp_ns if kernel_ns is None else kernel_ns)

    def _rare(self, reply: Reply, stamp_ns: int) -> None:
        if reply.crowded:
            reply.crowded = False
            self._poller.stay_awake()
        if reply.marked and not self.end_ns:
            self._marked(stamp_ns)
        if reply.ended:
            self._settle()

    def later(self, call: Callable[[], None]) -> None:
        """Call this when nothing has to be sent at once."""
        self._poller.later(call)

    def catch_up(self) -> None:
        """Make all calls that were put off."""
        self._poller.catch_up()

    @property
    def usable(self) -> bool:
        """False once either side has closed it."""
        return self._sock is not None

    def _write(self, data: bytes) -> None:
        self._rest = memoryview(data)
        self._push(first=True)

    def _push(self, *, first: bool = False) -> None:
        sock = self._sock
        if sock is None:
            if first:
                # It broke while it waited for its request.
                self._loop.call_soon(self._lost, "")
            return
        try:
            self._rest = self._rest[sock.send(self._rest) :]
        except (BlockingIOError, InterruptedError):
            pass
        except OSError as error:
            self.close()
            self._loop.call_soon(self._lost, str(error.strerror))
            return
        if self._rest:
            if first:
                self._loop.add_writer(sock.fileno(), self._push)
            return
        self._rest = _NOTHING  # an empty view would hold the whole request as long as its answer takes
        if not first:
            self._loop.remove_writer(sock.fileno())

    def close(self) -> None:
        """Close at once."""
        sock, self._sock = self._sock, None
        if sock is not None:
            self._poller.remove(sock.fileno())
            self._loop.remove_writer(sock.fileno())
            sock.close()


class ProtocolConnection(Connection, asyncio.Protocol):
    """TLS, and systems without kernel stamps."""

    def __init__(self) -> None:
        super().__init__()
        self._transport: asyncio.Transport | None = None

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        """Keep the transport; asyncio sets TCP_NODELAY by itself."""
        self._transport = cast(asyncio.Transport, transport)

    def data_received(self, data: bytes) -> None:
        """Stamp, then parse: nothing may come before the stamp."""
        self.last_byte_ns = stamp_ns = monotonic_ns()
        reply = self._reply
        if reply is None:
            return
        reply.feed(data, stamp_ns, None)
        if reply.marked and not self.end_ns:
            self._marked(stamp_ns)
        if reply.ended:
            self._settle()

    @property
    def usable(self) -> bool:
        """False once either side has closed it."""
        return self._transport is not None

    def connection_lost(self, exc: Exception | None) -> None:
        """An end before the end marker is a failure of the request."""
        self._transport = None
        self._lost(str(exc) if exc else "")

    def _write(self, data: bytes) -> None:
        if self._transport is None:
            asyncio.get_running_loop().call_soon(self._lost, "")
        else:
            self._transport.write(data)

    def close(self) -> None:
        """Close at once."""
        if self._transport is not None:
            self._transport.abort()


async def connect(target: Target, poller: Poller | None) -> tuple[Connection, int]:
    """Open a connection.

    Returns:
        The connection and how long opening took, in nanoseconds.

    Raises:
        Fault: It could not be opened, and why.
    """
    start = time.monotonic_ns()
    try:
        async with asyncio.timeout(CONNECT_TIMEOUT_S):
            connection = await _open(target, poller)
    except TimeoutError as error:
        raise Fault("connect-timeout", f"could not connect: no answer within {CONNECT_TIMEOUT_S:g} s") from error
    except ssl.SSLError as error:
        raise Fault("tls", f"could not connect: {str(error)[:200]}") from error
    except OSError as error:
        crowded = error.errno in {24, 23}
        raise Fault("crowded" if crowded else "refused", f"could not connect: {error.strerror or error}") from error
    return connection, time.monotonic_ns() - start


async def _open(target: Target, poller: Poller | None) -> Connection:
    loop = asyncio.get_running_loop()
    if target.tls is not None:
        host, name = target.host, target.host
        _, secure = await loop.create_connection(
            ProtocolConnection, host, target.port, ssl=target.tls, server_hostname=name
        )
        return secure
    failure: OSError | None = None
    for family, address in await target.resolve():
        sock = socket.socket(family, socket.SOCK_STREAM)
        sock.setblocking(False)
        try:
            sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            await loop.sock_connect(sock, address)
        except OSError as error:
            sock.close()
            failure = error
            continue
        except BaseException:
            sock.close()
            raise
        target.keep((family, address))
        if poller is not None and enable(sock):
            return SocketConnection(sock, poller)
        _, plain = await loop.create_connection(ProtocolConnection, sock=sock)
        return plain
    raise failure or OSError("the name has no address")
