"""From a wire message to the core's timeline."""

from __future__ import annotations

from typing import cast

import numpy as np

from zinc_kettle.core.timeline import EngineReport, Role, Timeline
from zinc_kettle.wire.messages import Finished


def to_timeline(message: Finished, *, clock: str = "") -> Timeline:
    """Read a finished request as a timeline, its stamps being on the clock of this name."""
    kernel, report = message.kernel_stamps, message.timings
    return Timeline(
        request_id=message.id,
        role=cast(Role, message.role),
        stream=message.stream,
        cold=message.cold,
        sent_ns=message.sent_ns,
        end_ns=message.end_ns,
        chunk_ns=np.frombuffer(message.user_stamps, dtype="<i8"),
        chunk_tokens=np.frombuffer(message.chunk_tokens, dtype="<i4"),
        asked_tokens=message.asked_tokens,
        connect_ns=message.connect_ns,
        write_ns=message.write_ns,
        header_ns=message.header_ns,
        due_ns=message.due_ns,
        kernel_ns=None if kernel is None else np.frombuffer(kernel, dtype="<i8"),
        prompt_tokens=message.prompt_tokens,
        cached_tokens=message.cached_tokens,
        output_tokens=message.output_tokens,
        finish=message.finish,
        complete=message.complete,
        error=message.error,
        engine=None
        if report is None
        else EngineReport(
            report.cache_n,
            report.prompt_n,
            report.prompt_ms,
            report.predicted_n,
            report.predicted_ms,
            report.draft_n,
            report.draft_accepted_n,
        ),
        characters=message.characters,
        text=message.text,
        fault=message.fault,
        attempt=message.attempt,
        conversation=message.conversation,
        turn=message.turn,
        coalesced=message.coalesced,
        odd=message.odd,
        clock=clock,
    )
