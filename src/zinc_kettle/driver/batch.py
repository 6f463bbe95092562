"""Several prompts in one request: one recording for each, told apart by the index of each choice."""

from __future__ import annotations

from collections.abc import Sequence

from zinc_kettle.driver.chunk import Delta
from zinc_kettle.driver.recording import DONE, NOTHING, Fault, Recording


class BatchRecord:
    """The recordings of a batch behind one answer."""

    def __init__(self, recordings: Sequence[Recording]) -> None:
        self.recordings = recordings
        self.header_ns: int | None = None
        self.complete = False
        self.error: str | None = None
        self.retry_after_s: float | None = None
        self.coalesced = 0
        """Stays with the answer: chunks of different prompts in one read share a stamp and are no fault of a client."""

    def event(self, data: bytes | memoryview, stamp_ns: int, kernel_ns: int | None) -> None:
        """Give each choice to its recording.

        Raises:
            msgspec.MsgspecError: The data is not JSON, or of a wrong shape.
            Fault: A choice of no prompt, far too many chunks, or the engine reported an error.
        """
        if data in (DONE, NOTHING):
            self.complete = self.complete or data == DONE
            return
        reader = self.recordings[0].reader
        chunk = reader.decode(data)
        own = reader.own(chunk)
        for choice in chunk.choices:
            if not 0 <= choice.index < len(self.recordings):
                raise Fault("unreadable", f"an answer to prompt {choice.index} of {len(self.recordings)}")
            recording = self.recordings[choice.index]
            if choice.finish_reason is not None:
                recording.finish = choice.finish_reason
            recording.output(choice.delta or Delta(content=choice.text), own, stamp_ns, kernel_ns)
            if own is not None:
                recording.own = own
        # With one choice beside it a usage record is that choice's; alone it is the sum, which is nobody's.
        if chunk.usage is not None and len(chunk.choices) == 1:
            self.recordings[chunk.choices[0].index].take_usage(chunk.usage)
        if chunk.error is not None:
            raise Fault("engine-error", f"the engine reported an error: {str(chunk.error)[:300]}")

    def chunks(self) -> int:
        """Output chunks so far."""
        return sum(len(recording.stamps) for recording in self.recordings)

    def fail(self, code: str, what: str) -> None:
        """Keep the first thing that went wrong."""
        if self.error is None:
            self.error = what
            self.complete = False
            for recording in self.recordings:
                # What had finished before the break is an answer all the same.
                if recording.finish is None:
                    recording.fail(code, what)

    def settle(self) -> None:
        """Hand the end of the answer to every recording."""
        for recording in self.recordings:
            recording.header_ns, recording.retry_after_s = self.header_ns, self.retry_after_s
            recording.complete = recording.error is None and (self.complete or recording.finish is not None)
            if recording.error is None and not recording.stamps:
                recording.fail("empty", "the batch returned no output for this prompt")
