"""How many driver processes a load wants, from what one was measured to carry."""

from __future__ import annotations

import math

FULL_SHARE = 0.7
"""Of a core: beyond it a driver falls behind whenever the engine speaks in bursts."""
STREAMS_EACH = 2_048
"""Open streams of one process; well under the usual limit of open files."""
SAFE_TOKENS_PER_S = 10_000.0
"""Carried by one driver on any machine of these years; taken where nothing was measured."""


def ceiling_tokens_per_s(cpu_us_per_token: float) -> float:
    """Tokens per second one driver carries at FULL_SHARE of a core.

    Args:
        cpu_us_per_token: Processor time of the driver for a token, measured on this machine.
    """
    return FULL_SHARE * 1e6 / cpu_us_per_token if cpu_us_per_token > 0 else SAFE_TOKENS_PER_S


def drivers_wanted(*, tokens_per_s: float, streams: int, ceiling: float, cores: int) -> int:
    """Processes that share a load; never more than half of the cores, since the engine needs them too.

    Args:
        tokens_per_s: The most that is expected of all streams together.
        streams: Requests open at once.
        ceiling: Of one driver, in tokens per second.
        cores: Hardware threads of this machine.
    """
    by_rate = math.ceil(tokens_per_s / ceiling) if ceiling > 0 else 1
    by_streams = math.ceil(streams / STREAMS_EACH)
    # Files are a hard limit, processor time a soft one: more processes than cores would only slow each other.
    return max(1, by_streams, min(by_rate, max(1, cores // 2), streams))
