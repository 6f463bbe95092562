"""Server-sent events, cut anywhere."""

from __future__ import annotations

import itertools

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zinc_kettle.driver.sse import MAX_EVENT_BYTES, EventReader, EventTooLargeError

STREAM = b': hello\ndata: {"a":1}\n\nevent: x\ndata: one\ndata:two\n\ndata: [DONE]\n\n'
EVENTS = [b'{"a":1}', b"one\ntwo", b"[DONE]"]


def read(parts: list[bytes]) -> list[bytes]:
    """All events of these parts."""
    reader = EventReader()
    return [event for part in parts for event in reader.feed(part)]


@given(st.sets(st.integers(1, len(STREAM) - 1)), st.sampled_from([b"\n", b"\r\n", b"\r"]))
def test_any_cut_and_any_line_end(cuts: set[int], end: bytes) -> None:
    """However the network cuts it and however lines end, the same events come out."""
    stream = STREAM.replace(b"\n", end) + b": after\n"
    edges = [0, *sorted(cuts), len(stream)]
    assert read([stream[a:b] for a, b in itertools.pairwise(edges)]) == EVENTS


def test_an_unfinished_event_is_not_given_out() -> None:
    """Only the blank line ends an event."""
    assert read([b"data: half\n"]) == []


@given(st.binary(max_size=400))
def test_garbage_never_raises(data: bytes) -> None:
    """Bytes that are no events give events or nothing."""
    read([data])


@pytest.mark.parametrize("line", [b"x" * 70_000, b"data: " + b"y" * 60_000 + b"\n"])
def test_a_hostile_line_is_bounded(line: bytes) -> None:
    """Endless lines, or endless data lines of one event, end in an error and not in our memory."""
    reader = EventReader()
    with pytest.raises(EventTooLargeError):
        for _ in range(MAX_EVENT_BYTES // len(line) + 2):
            list(reader.feed(line))
