"""Messages between tool and driver. Every line is one message; `VERSION` is checked in the greeting."""

from __future__ import annotations

from typing import Any, TypeAlias

import msgspec

from zinc_kettle.errors import DriverError

VERSION = 3


class ChatMessage(msgspec.Struct, frozen=True):
    """One message of a conversation."""

    role: str
    content: str


class RequestOrder(msgspec.Struct, frozen=True):
    """One request to be sent; the body is built and encoded before any is sent."""

    id: str
    role: str
    messages: list[ChatMessage]
    max_tokens: int
    temperature: float = 0.0
    seed: int = 0
    cold: bool = False
    due_ns: int | None = None
    """Open loop: when it is to be sent, counted from the episode's start."""
    think_ns: int = 0
    """Pause of the stream before it."""
    conversation: int | None = None
    """Orders with the same number are turns of one conversation, and run one after another."""
    turn: int = 0
    carry: bool = False
    """True where the messages of this turn come after those of the former turns and the engine's own answers."""
    extra: dict[str, Any] = {}
    """Fields outside the open protocol that the engine's recipe asks for."""


class Retry(msgspec.Struct, frozen=True):
    """What is tried again: every attempt is a timeline of its own."""

    times: int = 0
    on: list[str] = []
    """Fault codes of core.faults."""
    wait_s: float = 1.0
    backoff: float = 2.0
    """Each further wait is so many times the last."""
    most_s: float = 30.0
    """Limit of a wait, also of one the server asks for."""


class ReportedAt(msgspec.Struct, frozen=True):
    """Where a number is in a chunk: names of nested objects, and what it is multiplied with."""

    at: str
    times: float = 1.0


USUAL_REPORTS = {
    "cached_tokens": ReportedAt("timings.cache_n"),
    "prompt_tokens": ReportedAt("timings.prompt_n"),
    "prompt_ms": ReportedAt("timings.prompt_ms"),
    "output_tokens": ReportedAt("timings.predicted_n"),
    "output_ms": ReportedAt("timings.predicted_ms"),
}
"""Where the engine's own account is, if nothing else is said."""


class Setup(msgspec.Struct, frozen=True, tag="setup"):
    """First message to a driver: where to send. The key itself never travels, only its variable's name."""

    base_url: str
    model: str
    key_variable: str | None = None
    key_file: str | None = None
    """A file that holds the key; only its path travels."""
    ca_file: str | None = None
    """Certificates to trust beside the system's."""
    reports: dict[str, ReportedAt] = msgspec.field(default_factory=lambda: USUAL_REPORTS)
    """Where the engine's own account is in a chunk, by the names in core.plan.recipe.REPORTED."""
    connect_ahead: bool = True
    """The next connection of a stream is opened while the last one is still in use."""
    kernel_stamps: bool = True
    """False uses our own stamps also where the kernel has some; for comparing the two."""
    version: int = VERSION


class Episode(msgspec.Struct, frozen=True, tag="episode"):
    """Requests and how they are to be sent: `closed` streams, an `open` schedule, or a `batch` in one request."""

    id: str
    concurrency: int
    requests: list[RequestOrder]
    shape: str = "closed"
    """`closed`: streams take orders until none is left; `open`: each at its due time; `batch`: `concurrency` prompts
    in one request."""
    first_stream: int = 0
    """Number of the first stream, where several drivers share an episode."""
    drivers: int = 1
    """Processes that share it."""
    start_ns: int | None = None
    """Common start of several drivers, on the monotonic clock; None starts when connections are open."""
    retry: Retry = Retry()
    timeout_s: float = 600.0
    """Limit for one request."""
    stall_s: float = 120.0
    """Limit for silence within one request."""
    tick_s: float = 0.25


class Abort(msgspec.Struct, frozen=True, tag="abort"):
    """End the running episode: open streams are closed, unfinished requests reported as they are."""


class Quit(msgspec.Struct, frozen=True, tag="quit"):
    """End the driver."""


class Ready(msgspec.Struct, frozen=True, tag="ready"):
    """The driver's greeting."""

    pid: int
    loop: str
    version: int = VERSION


class LiveStream(msgspec.Struct, frozen=True):
    """How one stream stands now."""

    stream: int
    request: str
    phase: str
    """`prefill`, `decode` or `idle`."""
    tokens: int
    rate: float
    """Tokens per second since the last tick."""
    tail: str


class Tick(msgspec.Struct, frozen=True, tag="tick"):
    """Sent a few times per second while an episode runs; for eyes, never for figures."""

    episode: str
    streams: list[LiveStream]
    """A few of them, to be looked at."""
    finished: int
    total: int
    failed: int = 0
    prefill: int = 0
    """Streams that wait for their first output."""
    decode: int = 0
    """Streams that write."""
    rate: float = 0.0
    """Tokens per second of all streams since the last tick."""
    last_fault: str = ""


class Timings(msgspec.Struct, frozen=True):
    """The engine's own account of one request."""

    cache_n: int = 0
    prompt_n: int = 0
    prompt_ms: float = 0.0
    predicted_n: int = 0
    predicted_ms: float = 0.0
    draft_n: int | None = None
    """Tokens a smaller model drafted."""
    draft_accepted_n: int | None = None


class Finished(msgspec.Struct, frozen=True, tag="finished"):
    """One finished timeline; arrays as little-endian bytes."""

    episode: str
    id: str
    role: str
    stream: int
    cold: bool
    sent_ns: int
    end_ns: int
    user_stamps: bytes
    """int64 nanoseconds, one per output chunk."""
    chunk_tokens: bytes
    """int32, one per output chunk, 0 where the engine gave no count."""
    asked_tokens: int
    connect_ns: int = 0
    write_ns: int = 0
    header_ns: int | None = None
    due_ns: int | None = None
    kernel_stamps: bytes | None = None
    prompt_tokens: int | None = None
    cached_tokens: int | None = None
    output_tokens: int | None = None
    finish: str | None = None
    complete: bool = False
    error: str | None = None
    timings: Timings | None = None
    characters: int = 0
    text: str = ""
    fault: str = ""
    """Code of what went wrong; see core.faults."""
    attempt: int = 0
    """0 for the first try."""
    conversation: int | None = None
    turn: int = 0
    coalesced: int = 0
    """Output chunks that came in one read with another and so share its stamp."""
    odd: str = ""
    """Something the engine said that cannot be believed, and was not."""


class EpisodeDone(msgspec.Struct, frozen=True, tag="done"):
    """The episode has ended; what it cost the driver."""

    episode: str
    start_ns: int
    end_ns: int
    cpu_ns: int
    aborted: bool = False


class Complaint(msgspec.Struct, frozen=True, tag="complaint"):
    """The driver could not do what it was told."""

    what: str


ToDriver: TypeAlias = Setup | Episode | Abort | Quit
FromDriver: TypeAlias = Ready | Tick | Finished | EpisodeDone | Complaint

_encoder = msgspec.json.Encoder()
_to_driver: msgspec.json.Decoder[ToDriver] = msgspec.json.Decoder(ToDriver)
_from_driver: msgspec.json.Decoder[FromDriver] = msgspec.json.Decoder(FromDriver)


def encode(message: ToDriver | FromDriver) -> bytes:
    """One message as one line, with its line feed."""
    return _encoder.encode(message) + b"\n"


def decode_order(line: bytes) -> ToDriver:
    """Read a message to the driver.

    Raises:
        DriverError: The line is no such message.
    """
    try:
        return _to_driver.decode(line)
    except msgspec.MsgspecError as error:
        raise DriverError("the driver was sent a line that it cannot read", why=str(error)) from error


def decode_report(line: bytes) -> FromDriver:
    """Read a message from the driver.

    Raises:
        DriverError: The line is no such message.
    """
    try:
        return _from_driver.decode(line)
    except msgspec.MsgspecError as error:
        raise DriverError("the driver sent something that is not in the protocol", why=str(error)) from error
