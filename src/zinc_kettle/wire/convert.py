"""From a wire message to the core's timeline."""

from __future__ import annotations

from operator import attrgetter

import numpy as np

from zinc_kettle.core.record.timeline import OF_REPORT, SMALL, EngineReport, Timeline
from zinc_kettle.wire.messages import Finished

_NAMES = tuple(of.name for of in SMALL if of.name not in {"request_id", "clock"})
_small = attrgetter(*_NAMES)
_report = attrgetter(*(of.name for of in OF_REPORT))


def to_timeline(message: Finished, *, clock: str = "") -> Timeline:
    """Read a finished request as a timeline, its stamps being on the clock of this name."""
    kernel, report = message.kernel_stamps, message.timings
    return Timeline(
        request_id=message.id,
        chunk_ns=np.frombuffer(message.user_stamps, dtype="<i8"),
        chunk_tokens=np.frombuffer(message.chunk_tokens, dtype="<i4"),
        kernel_ns=None if kernel is None else np.frombuffer(kernel, dtype="<i8"),
        engine=None if report is None else EngineReport(*_report(report)),
        clock=clock,
        **dict(zip(_NAMES, _small(message), strict=True)),
    )
