"""One request as it was seen: when it was sent, when each output chunk came, how many tokens each held.

Definitions: docs/measures.md, section 'One request'. All times are monotonic nanoseconds.
"""

from __future__ import annotations

from dataclasses import InitVar, dataclass, field, fields
from typing import Literal, TypeVar, dataclass_transform, get_args, get_type_hints

import numpy as np
import numpy.typing as npt

Stamps = npt.NDArray[np.int64]
RequestRole = Literal["warmup", "measured"]
CountedBy = Literal["chunk-counts", "usage", "chunks"]
StampSource = Literal["user", "kernel"]
_T = TypeVar("_T")


@dataclass_transform(frozen_default=True, field_specifiers=(field,))
def immutable(cls: type[_T]) -> type[_T]:
    """A dataclass that the type checker holds to be frozen, without what that costs at run time: half of making one."""
    return dataclass(slots=True)(cls)


@immutable
class EngineReport:
    """The engine's own account of a request, on the engine's own clock."""

    cache_n: int
    """Prompt tokens reused from the engine's cache."""
    prompt_n: int
    """Prompt tokens processed, without the reused ones."""
    prompt_ms: float
    predicted_n: int
    """Output tokens, the first included."""
    predicted_ms: float
    draft_n: int | None = None
    """Tokens a smaller model drafted; None where none does."""
    draft_accepted_n: int | None = None
    """Of these, those that stayed."""


@immutable
class Timeline:
    """One request. Arrays have one entry per chunk that carried output.

    A field is declared here and nowhere else: what is kept, carried in bundles and read back follows (`SMALL`).

    Raises:
        ValueError: The arrays differ in length.
    """

    request_id: str
    role: RequestRole
    stream: int
    """Which of the n concurrent streams carried it, from 0."""
    cold: bool
    """True for the first request after a load, and for nothing else."""
    sent_ns: int
    end_ns: int
    asked_tokens: int
    chunk_ns: Stamps
    """Arrival stamped by the driver before decoding, shape (chunks,)."""
    chunk_tokens: npt.NDArray[np.int32]
    """Tokens in each chunk by the engine's count; 0 where the engine gave none. Shape (chunks,)."""
    kernel_ns: Stamps | None = None
    """Arrival stamped by the kernel, where it offers that. Shape (chunks,)."""
    engine: EngineReport | None = None
    connect_ns: int = 0
    """Length of opening the connection, before the request was sent."""
    write_ns: int = 0
    """Length of handing the request to the system."""
    header_ns: int | None = None
    """When the response headers came; before prefill with some engines, so this is not TTFT."""
    due_ns: int | None = None
    """When the schedule wanted it sent (open loop only)."""
    prompt_tokens: int | None = None
    cached_tokens: int | None = None
    output_tokens: int | None = None
    """Output tokens by the engine's usage record."""
    finish: str | None = None
    complete: bool = False
    """True when the stream ended with its end marker."""
    error: str | None = None
    characters: int = 0
    text: str = ""
    """The end of the answer, cleaned; for a remark on it, not for a score."""
    fault: str = ""
    """Code of what went wrong; see core.faults."""
    attempt: int = 0
    """0 for the first try of a request, 1 for the first retry."""
    conversation: int | None = None
    turn: int = 0
    """Turn of its conversation, from 0."""
    coalesced: int = 0
    """Output chunks that came in one read with another and so share its stamp."""
    odd: str = ""
    """Something the engine said that cannot be believed, and was not."""
    clock: str = ""
    """Name of the clock its stamps are on; stamps of different clocks cannot be subtracted. Empty where not told."""
    counted: InitVar[int | None] = None
    """The sum of `chunk_tokens` where it is known already; a store has millions of timelines."""

    counted_by: CountedBy = field(init=False, repr=False, compare=False)
    """Where the token counts come from: each chunk, else the usage record, else one a chunk."""
    total_tokens: int = field(init=False, repr=False, compare=False)
    """Output tokens by the best source there is."""
    stamps: Stamps = field(init=False, repr=False, compare=False)
    """The stamps the figures use, shape (chunks,), nanoseconds."""
    first_ns: int = field(init=False, repr=False, compare=False)
    """When the first output came, by these stamps; when it was sent, where nothing came."""
    last_ns: int = field(init=False, repr=False, compare=False)
    """When the last output came; when the request ended, where nothing came."""

    def __post_init__(self, counted: int | None) -> None:
        if len(self.chunk_ns) != len(self.chunk_tokens):
            raise ValueError("chunk stamps and chunk token counts differ in length")
        if self.kernel_ns is not None and len(self.kernel_ns) != len(self.chunk_ns):
            raise ValueError("kernel stamps and user stamps differ in length")
        # Found once: every figure asks for them.
        if counted is None:
            counted = int(self.chunk_tokens.sum()) if len(self.chunk_tokens) else 0
        if counted > 0 and (self.chunk_tokens[0] or self._most_are_counted):
            source: CountedBy = "chunk-counts"
        elif counted > 0:
            source = "usage"
        else:
            source = "chunks" if self.output_tokens is None else "usage"
            counted = len(self.chunk_ns) if self.output_tokens is None else self.output_tokens
        stamps = self.chunk_ns if self.kernel_ns is None else self.kernel_ns
        some = len(stamps) > 0
        self.counted_by = source  # type: ignore[misc]
        self.total_tokens = counted  # type: ignore[misc]
        self.stamps = stamps  # type: ignore[misc]
        self.first_ns = int(stamps[0]) if some else self.sent_ns  # type: ignore[misc]
        self.last_ns = int(stamps[-1]) if some else self.end_ns  # type: ignore[misc]

    @property
    def _most_are_counted(self) -> bool:
        """False where the engine counted seldom, or in its last chunk only: a total, and no count of each chunk."""
        return 2 * int(np.count_nonzero(self.chunk_tokens)) >= len(self.chunk_tokens)

    @property
    def usable(self) -> bool:
        """True when the request may be counted: it ended as it should and carried output."""
        return self.complete and self.error is None and len(self.chunk_ns) > 0

    @property
    def stamp_source(self) -> StampSource:
        """Which stamps the figures use."""
        return "user" if self.kernel_ns is None else "kernel"

    @property
    def decode_rate(self) -> float | None:
        """Tokens per second after the first output; None where nothing came behind it."""
        counted = self.decode_ns > 0 and self.decode_tokens > 0
        return self.decode_tokens / self.decode_ns * 1e9 if counted else None

    @property
    def seen_tokens(self) -> int:
        """Tokens that came in chunks: a total that is one more than the chunks counts an end token without text."""
        return self.total_tokens - (self.counted_by == "usage" and self.total_tokens == len(self.chunk_ns) + 1)

    @property
    def several_a_chunk(self) -> bool:
        """True where chunks hold several tokens each, and only their total is known."""
        return self.counted_by == "usage" and self.seen_tokens > len(self.chunk_ns) > 0

    @property
    def first_chunk_tokens(self) -> float:
        """Tokens of the first output chunk: as counted, 1 where a chunk is a token, else as many as in the mean."""
        if self.counted_by == "chunk-counts":
            return float(self.chunk_tokens[0]) or 1.0
        return self.total_tokens / len(self.chunk_ns) if self.several_a_chunk else 1.0

    @property
    def decode_tokens(self) -> float:
        """Tokens produced after the first output chunk and up to the last one."""
        return max(0.0, self.seen_tokens - self.first_chunk_tokens)

    @property
    def ttft_ns(self) -> int | None:
        """Time to first token: first output chunk minus sent; None where nothing came."""
        return self.first_ns - self.sent_ns if len(self.stamps) else None

    @property
    def wanted_ns(self) -> int:
        """When its wait began: when it was due, or when it was sent where no schedule asked for it."""
        return self.sent_ns if self.due_ns is None else self.due_ns

    @property
    def queue_ns(self) -> Stamps | None:
        """What each chunk waited for our driver once the kernel had it, shape (chunks,); None without its stamps."""
        return None if self.kernel_ns is None else self.chunk_ns - self.kernel_ns

    @property
    def decode_ns(self) -> int:
        """From the first output chunk to the last."""
        return self.last_ns - self.first_ns if len(self.stamps) else 0

    @property
    def duration_ns(self) -> int:
        """From sent to the last output chunk, or to the end where none came."""
        return self.last_ns - self.sent_ns

    @property
    def token_gaps_ns(self) -> Stamps | None:
        """Time from each token to the one before: the first of a chunk waits for it, the others come with it.

        A chunk without a token adds its gap to that of the next one that has some. Shape (tokens after the first
        chunk,); None where nobody says how many tokens each chunk holds.
        """
        if self.counted_by != "chunk-counts":
            return self.chunk_gaps_ns if self.counted_by == "usage" and self.seen_tokens == len(self.stamps) else None
        some = np.flatnonzero(self.chunk_tokens[1:]) + 1
        counts = self.chunk_tokens[some]
        out = np.zeros(int(counts.sum()), dtype=np.int64)
        out[np.cumsum(counts) - counts] = np.diff(self.stamps[np.concatenate([[0], some])])
        return out

    @property
    def chunk_gaps_ns(self) -> Stamps:
        """Gaps between output chunks, what a reader feels. Shape (chunks − 1,)."""
        return np.diff(self.stamps)

    @property
    def uncached_tokens(self) -> int | None:
        """Prompt tokens the engine had to process: all, less those it reused."""
        if self.engine is not None:
            return self.engine.prompt_n
        if self.prompt_tokens is None:
            return None
        return self.prompt_tokens - (self.cached_tokens or 0)

    @property
    def ended_early(self) -> bool:
        """True when a complete answer is shorter than asked for, by any count: a last token may have no text."""
        told = 0 if self.engine is None else self.engine.predicted_n
        return self.complete and max(self.total_tokens, self.output_tokens or 0, told) < self.asked_tokens


COLUMNS = ("chunk_ns", "chunk_tokens", "kernel_ns")


@dataclass(frozen=True, slots=True)
class SmallField:
    """A field of a request or of an engine's report that is one number, text or switch."""

    name: str
    type: Literal["text", "whole", "number", "switch"]
    optional: bool
    """True where it may be missing."""
    default: object
    """`dataclasses.MISSING` where every request has one."""


def _small(record: type) -> tuple[SmallField, ...]:
    names = {str: "text", int: "whole", float: "number", bool: "switch"}
    hints = get_type_hints(record)
    out = []
    for one in fields(record):
        parts = get_args(hints[one.name]) or (hints[one.name],)
        of = next((kind for kind in parts if kind in names), str if hints[one.name] == RequestRole else None)
        if one.init and of is not None:
            out.append(SmallField(one.name, names[of], type(None) in parts, one.default))  # type: ignore[arg-type]
    return tuple(out)


SMALL = _small(Timeline)
"""All fields of a request but its columns and its engine's report, in their order."""
OF_REPORT = _small(EngineReport)
"""The fields of an engine's report."""
