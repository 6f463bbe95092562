"""Several prompts in one request: one record for each, told apart by the index of each choice."""

from __future__ import annotations

from collections.abc import Sequence

from zinc_kettle.driver.record import DONE, NOTHING, Delta, Fault, Record, decode_chunk


class BatchRecord:
    """The records of a batch behind one answer."""

    def __init__(self, records: Sequence[Record]) -> None:
        self.records = records
        self.header_ns: int | None = None
        self.complete = False
        self.error: str | None = None
        self.retry_after_s: float | None = None
        self.coalesced = 0
        """Stays with the answer: chunks of different prompts in one read share a stamp and are no fault of a client."""

    def event(self, data: bytes | memoryview, stamp_ns: int, kernel_ns: int | None) -> None:
        """Give each choice to its record.

        Raises:
            msgspec.MsgspecError: The data is not JSON, or of a wrong shape.
            Fault: A choice of no prompt, far too many chunks, or the engine reported an error.
        """
        if data in (DONE, NOTHING):
            self.complete = self.complete or data == DONE
            return
        chunk = decode_chunk(data)
        for choice in chunk.choices:
            if not 0 <= choice.index < len(self.records):
                raise Fault("unreadable", f"an answer to prompt {choice.index} of {len(self.records)}")
            record = self.records[choice.index]
            if choice.finish_reason is not None:
                record.finish = choice.finish_reason
            record.output(choice.delta or Delta(content=choice.text), chunk.timings, stamp_ns, kernel_ns)
            if chunk.timings is not None:
                record.engine = chunk.timings
        # With one choice beside it a usage record is that choice's; alone it is the sum, which is nobody's.
        if chunk.usage is not None and len(chunk.choices) == 1:
            self.records[chunk.choices[0].index].take_usage(chunk.usage)
        if chunk.error is not None:
            raise Fault("engine-error", f"the engine reported an error: {str(chunk.error)[:300]}")

    def chunks(self) -> int:
        """Output chunks so far."""
        return sum(len(record.stamps) for record in self.records)

    def fail(self, code: str, what: str) -> None:
        """Keep the first thing that went wrong."""
        if self.error is None:
            self.error = what
            self.complete = False
            for record in self.records:
                # What had finished before the break is an answer all the same.
                if record.finish is None:
                    record.fail(code, what)

    def settle(self) -> None:
        """Hand the end of the answer to every record."""
        for record in self.records:
            record.header_ns, record.retry_after_s = self.header_ns, self.retry_after_s
            record.complete = record.error is None and (self.complete or record.finish is not None)
            if record.error is None and not record.stamps:
                record.fail("empty", "the batch carried no output for this prompt")
