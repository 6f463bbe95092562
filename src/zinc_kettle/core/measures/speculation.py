"""Speculative decoding: what a smaller model drafted, and how much of it stayed."""

from __future__ import annotations

from zinc_kettle.core.measures.kinds import Group, Measure, PerRepeat
from zinc_kettle.core.record.repeat import Figure, Missing, Repeat

NO_DRAFTS = Missing("no model drafted tokens")
GROUP = Group("speculation", together="figures of drafted tokens")


def _drafts(repeat: Repeat) -> tuple[int, int, int]:
    """Tokens drafted, drafted tokens that stayed, and output tokens, of all requests whose engine told."""
    told = [(t, t.engine.draft_n, t.engine.draft_accepted_n) for t in repeat.measured if t.engine is not None]
    known = [(t, n, kept) for t, n, kept in told if n is not None and kept is not None]
    return sum(n for _, n, _ in known), sum(kept for *_, kept in known), sum(t.total_tokens for t, *_ in known)


def drafted(repeat: Repeat) -> Figure:
    """Drafted tokens for each output token."""
    tokens, _, output = _drafts(repeat)
    return tokens / output if tokens and output else NO_DRAFTS


def accepted(repeat: Repeat) -> Figure:
    """Share of the drafted tokens that stayed."""
    tokens, kept, _ = _drafts(repeat)
    return kept / tokens if tokens else NO_DRAFTS


MEASURES = (
    Measure(
        "drafted",
        "drafted",
        "tokens/token",
        "neither",
        GROUP,
        "drafted tokens for each output token",
        PerRepeat(drafted),
        mistakes="Drafting much costs time where little of it is accepted.",
    ),
    Measure(
        "draft_accepted",
        "drafts accepted",
        "share",
        "more",
        GROUP,
        "share of the drafted tokens that stayed",
        PerRepeat(accepted),
        mistakes="It depends on what is written: code is drafted better than prose, and random weights not at all.",
    ),
)
