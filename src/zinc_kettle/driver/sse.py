"""Server-sent events, read incrementally from bytes that may be split anywhere."""

from __future__ import annotations

from collections.abc import Iterator

MAX_EVENT_BYTES = 1 << 20
"""No honest chunk of a stream is near this; beyond it a hostile stream would fill our memory."""


class EventTooLargeError(ValueError):
    """One event is larger than MAX_EVENT_BYTES."""


class EventReader:
    """Cuts a byte stream into the data of events. Comments and other fields are dropped.

    Line ends may be LF, CRLF or CR; an event of several `data:` lines joins them with LF.
    """

    __slots__ = ("_data", "_rest", "_size")

    def __init__(self) -> None:
        self._rest = b""
        self._data: list[bytes] = []
        self._size = 0

    @property
    def idle(self) -> bool:
        """True between two events, where nothing is kept."""
        return not self._rest and not self._data

    def feed(self, chunk: bytes) -> Iterator[bytes]:
        """Take bytes, yield the data of each event that is now complete.

        Raises:
            EventTooLargeError: An event grew past MAX_EVENT_BYTES.
        """
        text = self._rest + chunk if self._rest else chunk
        # A CR at the very end may be the first half of CRLF: wait for the next byte.
        held = b""
        if b"\r" in text:
            if text.endswith(b"\r"):
                text, held = text[:-1], b"\r"
            text = text.replace(b"\r\n", b"\n").replace(b"\r", b"\n")
        lines = text.split(b"\n")
        self._rest = lines.pop() + held
        if len(self._rest) > MAX_EVENT_BYTES:
            raise EventTooLargeError(f"an event of more than {MAX_EVENT_BYTES} bytes")
        for line in lines:
            if line:
                self._field(line)
            elif self._data:
                event = self._data[0] if len(self._data) == 1 else b"\n".join(self._data)
                self._data = []
                self._size = 0
                yield event

    def _field(self, line: bytes) -> None:
        if not line.startswith(b"data:"):
            return
        value = line[6:] if line[5:6] == b" " else line[5:]
        self._size += len(value)
        if self._size > MAX_EVENT_BYTES:
            raise EventTooLargeError(f"an event of more than {MAX_EVENT_BYTES} bytes")
        self._data.append(value)
