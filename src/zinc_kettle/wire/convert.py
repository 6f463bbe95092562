"""From a wire message to the core's timeline, and back."""

from __future__ import annotations

from typing import cast

import numpy as np
import numpy.typing as npt

from zinc_kettle.core.timeline import EngineReport, Role, Timeline
from zinc_kettle.wire.messages import Finished, Timings


def to_timeline(message: Finished) -> Timeline:
    """Read a finished request as a timeline."""
    kernel = message.kernel_stamps
    return with_columns(
        message,
        np.frombuffer(message.user_stamps, dtype="<i8"),
        None if kernel is None else np.frombuffer(kernel, dtype="<i8"),
        np.frombuffer(message.chunk_tokens, dtype="<i4"),
    )


def with_columns(
    message: Finished,
    user: npt.NDArray[np.int64],
    kernel: npt.NDArray[np.int64] | None,
    tokens: npt.NDArray[np.int32],
    counted: int | None = None,
) -> Timeline:
    """A timeline from a message whose columns are given apart, as a block of the store has them; nothing is copied.

    `counted` is the sum of `tokens` where it is known.
    """
    report = message.timings
    return Timeline(
        request_id=message.id,
        role=cast(Role, message.role),
        stream=message.stream,
        cold=message.cold,
        sent_ns=message.sent_ns,
        end_ns=message.end_ns,
        chunk_ns=user,
        chunk_tokens=tokens,
        asked_tokens=message.asked_tokens,
        connect_ns=message.connect_ns,
        write_ns=message.write_ns,
        header_ns=message.header_ns,
        due_ns=message.due_ns,
        kernel_ns=kernel,
        prompt_tokens=message.prompt_tokens,
        cached_tokens=message.cached_tokens,
        output_tokens=message.output_tokens,
        finish=message.finish,
        complete=message.complete,
        error=message.error,
        engine=None
        if report is None
        else EngineReport(report.cache_n, report.prompt_n, report.prompt_ms, report.predicted_n, report.predicted_ms),
        characters=message.characters,
        text=message.text,
        fault=message.fault,
        attempt=message.attempt,
        conversation=message.conversation,
        turn=message.turn,
        coalesced=message.coalesced,
        odd=message.odd,
        counted=counted,
    )


def to_message(timeline: Timeline, *, episode: str) -> Finished:
    """Write a timeline as the message it came in."""
    report = timeline.engine
    return Finished(
        episode=episode,
        id=timeline.request_id,
        role=timeline.role,
        stream=timeline.stream,
        cold=timeline.cold,
        sent_ns=timeline.sent_ns,
        end_ns=timeline.end_ns,
        user_stamps=timeline.chunk_ns.astype("<i8").tobytes(),
        chunk_tokens=timeline.chunk_tokens.astype("<i4").tobytes(),
        asked_tokens=timeline.asked_tokens,
        connect_ns=timeline.connect_ns,
        write_ns=timeline.write_ns,
        header_ns=timeline.header_ns,
        due_ns=timeline.due_ns,
        kernel_stamps=None if timeline.kernel_ns is None else timeline.kernel_ns.astype("<i8").tobytes(),
        prompt_tokens=timeline.prompt_tokens,
        cached_tokens=timeline.cached_tokens,
        output_tokens=timeline.output_tokens,
        finish=timeline.finish,
        complete=timeline.complete,
        error=timeline.error,
        timings=None
        if report is None
        else Timings(report.cache_n, report.prompt_n, report.prompt_ms, report.predicted_n, report.predicted_ms),
        characters=timeline.characters,
        text=timeline.text,
        fault=timeline.fault,
        attempt=timeline.attempt,
        conversation=timeline.conversation,
        turn=timeline.turn,
        coalesced=timeline.coalesced,
        odd=timeline.odd,
    )
