"""Cautions about what came back: cached prompts, answers cut or of unequal length, failures, token counts."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from zinc_kettle.core.cautions.kinds import CautionKind, Setting
from zinc_kettle.core.faults import meaning
from zinc_kettle.core.record.repeat import Repeat
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.stats import median
from zinc_kettle.core.units import NS_PER_MS, NS_PER_S, digits, plural
from zinc_kettle.core.workload import SALT_DIGITS

TINY_PROMPT_TOKENS = 64
TINY_PREFILL_S = 0.150
"""Fixed overhead is 2 to 5 ms, so below this prefill is off by more than about 3%."""
TEMPLATE_TOKENS = 32
"""Tokens a chat template puts before the first word, where it was not counted."""
UNEQUAL_SHARE = 0.02
"""Lengths of equally long orders that differ by more make whole durations incomparable by as much."""
STALL_GAP_S = 2.0
"""A reader notices far less; below it a gap may be a page fault or another program."""
STALL_TIMES = 20.0
"""And so many times the usual gap: a slow engine is not a stalled one."""


def measured(repeats: Sequence[Repeat]) -> list[Timeline]:
    """All requests that count."""
    return [t for r in repeats for t in r.measured]


def _cold(repeats: Sequence[Repeat], _: Setting) -> str | None:
    cold = [t for r in repeats for t in r.timelines if t.cold and t.role == "measured"]
    return f"{plural(len(cold), 'request')} among the measured ones" if cold else None


def _cold_request(t: Timeline, _: Setting) -> str | None:
    return "the first request after loading the model" if t.cold else None


def _cached(t: Timeline) -> int:
    return t.engine.cache_n if t.engine is not None else (t.cached_tokens or 0)


def _allowance(setting: Setting) -> int:
    template = setting.template_tokens if setting.template_tokens is not None else TEMPLATE_TOKENS
    # Two salts may begin alike; a digit is at most two tokens, a blank and itself.
    return template + 2 * SALT_DIGITS


def _cache_helped(repeats: Sequence[Repeat], setting: Setting) -> str | None:
    helped = [t for t in measured(repeats) if _cached(t) > _allowance(setting)]
    if not helped or setting.reuse_meant:
        return None
    worst = max(helped, key=_cached)
    return (
        f"{len(helped)} of {plural(len(measured(repeats)), 'request')}; up to {_cached(worst):,} of "
        f"{worst.prompt_tokens or 0:,} prompt tokens reused, {_allowance(setting)} at most can come from a template"
    )


def _cache_helped_request(t: Timeline, setting: Setting) -> str | None:
    if setting.reuse_meant or _cached(t) <= _allowance(setting):
        return None
    return f"{_cached(t):,} of {t.prompt_tokens or 0:,} prompt tokens reused"


def is_cut(t: Timeline) -> bool:
    """True where the engine says it reached the length and had not."""
    return t.ended_early and t.finish == "length"


def _ended_early(repeats: Sequence[Repeat], setting: Setting) -> str | None:
    short = [] if setting.natural else [t for t in measured(repeats) if t.ended_early and not is_cut(t)]
    if not short:
        return None
    least = min(t.total_tokens for t in short)
    return (
        f"{len(short)} of {plural(len(measured(repeats)), 'request')}; the shortest has {least:,} of "
        f"{short[0].asked_tokens:,} tokens"
    )


def _ended_early_request(t: Timeline, setting: Setting) -> str | None:
    short = t.ended_early and not is_cut(t) and not setting.natural
    return f"{t.total_tokens:,} of {t.asked_tokens:,} tokens" if short else None


def _unequal_length(repeats: Sequence[Repeat], setting: Setting) -> str | None:
    requests = measured(repeats)
    if setting.natural or len(requests) < 2 or len({t.asked_tokens for t in requests}) > 1:
        return None
    lengths = [t.total_tokens for t in requests]
    if max(lengths) <= (1 + UNEQUAL_SHARE) * min(lengths):
        return None
    return (
        f"answers of {min(lengths):,} to {max(lengths):,} tokens where {requests[0].asked_tokens:,} were asked of each"
    )


def _context_cut(repeats: Sequence[Repeat], _: Setting) -> str | None:
    cut = [t for t in measured(repeats) if is_cut(t)]
    if not cut:
        return None
    t = cut[0]
    return (
        f"{len(cut)} of {plural(len(measured(repeats)), 'request')}; one has {t.total_tokens:,} of {t.asked_tokens:,} "
        f"tokens after a prompt of {t.prompt_tokens or 0:,}"
    )


def _context_cut_request(t: Timeline, _: Setting) -> str | None:
    return f"{t.total_tokens:,} of {t.asked_tokens:,} tokens" if is_cut(t) else None


def stall_s(t: Timeline) -> float | None:
    """The longest gap of a request in seconds, where it is a stall."""
    gaps = t.chunk_gaps_ns
    if len(gaps) < 2:
        return None
    worst, usual = float(gaps.max()) / NS_PER_S, median(gaps) / NS_PER_S
    return worst if worst >= STALL_GAP_S and worst >= STALL_TIMES * usual else None


def _stalled(repeats: Sequence[Repeat], _: Setting) -> str | None:
    waits = [t for r in repeats for t in r.timelines if t.role == "measured" and t.fault == "stall"]
    if waits:
        return f"{plural(len(waits), 'request')} given up: {waits[0].error}"
    gaps = [gap for t in measured(repeats) if (gap := stall_s(t)) is not None]
    return f"{plural(len(gaps), 'request')} with a gap of up to {digits(max(gaps))} s" if gaps else None


def _stalled_request(t: Timeline, _: Setting) -> str | None:
    gap = stall_s(t)
    return None if gap is None else f"a gap of {digits(gap)} s"


def _failures(repeats: Sequence[Repeat]) -> tuple[list[Timeline], list[Timeline]]:
    """Requests that broke off in the middle of their answer, and those that had none."""
    failed = [t for r in repeats for t in r.timelines if not t.usable]
    return [t for t in failed if len(t.chunk_ns)], [t for t in failed if not len(t.chunk_ns)]


def _incomplete(repeats: Sequence[Repeat], _: Setting) -> str | None:
    broken, _none = _failures(repeats)
    return f"{plural(len(broken), 'request')}: {broken[0].error}" if broken else None


def _incomplete_request(t: Timeline, _: Setting) -> str | None:
    return t.error if t.error is not None and len(t.chunk_ns) else None


def _errors(repeats: Sequence[Repeat], _: Setting) -> str | None:
    _broken, failed = _failures(repeats)
    if not failed:
        return None
    first = failed[0]
    why = first.error or (meaning(first.fault) if first.fault else "the answer carried no output")
    kinds = Counter(t.fault for t in failed if t.fault)
    told = f" ({', '.join(f'{n} {code}' for code, n in kinds.most_common(3))})" if len(kinds) > 1 else ""
    again = sum(1 for t in measured(repeats) if t.attempt)
    healed = f"; {plural(again, 'request')} answered when sent again" if again else ""
    return f"{plural(len(failed), 'request')}{told}: {why}{healed}"


def _errors_request(t: Timeline, _: Setting) -> str | None:
    return t.error if t.error is not None and not len(t.chunk_ns) else None


def _prefill_s(t: Timeline) -> float:
    if t.engine is not None and t.engine.prompt_ms > 0:
        return t.engine.prompt_ms * NS_PER_MS / NS_PER_S
    return (t.ttft_ns or 0) / NS_PER_S


def _tiny_prompt(repeats: Sequence[Repeat], _: Setting) -> str | None:
    requests = [t for t in measured(repeats) if t.uncached_tokens is not None and t.ttft_ns is not None]
    if not requests:
        return None
    tokens = median([t.uncached_tokens or 0 for t in requests])
    seconds = median([_prefill_s(t) for t in requests])
    if tokens >= TINY_PROMPT_TOKENS and seconds >= TINY_PREFILL_S:
        return None
    return (
        f"{tokens:,.0f} uncached prompt tokens in {digits(seconds * 1e3)} ms; a claim needs {TINY_PROMPT_TOKENS} "
        f"tokens and {TINY_PREFILL_S * 1e3:.0f} ms"
    )


def _by_chunks(repeats: Sequence[Repeat], _: Setting) -> str | None:
    counted = [t for t in measured(repeats) if t.counted_by == "chunks"]
    return plural(len(counted), "request") if counted else None


def _several(repeats: Sequence[Repeat], setting: Setting) -> str | None:
    told = [said for t in measured(repeats) if (said := _several_request(t, setting))]
    return f"{len(told)} of {plural(len(measured(repeats)), 'request')}; one has {told[0]}" if told else None


def _several_request(t: Timeline, _: Setting) -> str | None:
    return f"{t.total_tokens:,} tokens in {plural(len(t.chunk_ns), 'chunk')}" if t.several_a_chunk else None


COLD = CautionKind(
    "cold",
    "A request meant to be measured was the first after loading the model, so it is kept apart.",
    "Set warm_up = 1 or more in the study.",
    "any",
    _cold,
    _cold_request,
    quiet=True,
)
CACHE_HELPED = CautionKind(
    "cache-helped",
    "The engine reused tokens of an earlier prompt, so prefill looks faster than it is.",
    "Keep salt on and prompt_cache off unless cached prefill is the question.",
    f"more tokens reused than the template ({TEMPLATE_TOKENS} where it was not counted) and two per digit of the salt "
    "explain",
    _cache_helped,
    _cache_helped_request,
)
ENDED_EARLY = CautionKind(
    "ended-early",
    "Answers came out shorter than requested.",
    "Check that the engine can be made to continue past its end token; do not compare total times.",
    "any",
    _ended_early,
    _ended_early_request,
)
UNEQUAL_LENGTH = CautionKind(
    "unequal-length",
    "Answers differ in length although all were requested with the same length.",
    "Compare speeds per token, never whole durations.",
    f"lengths differ by more than {UNEQUAL_SHARE:.0%}",
    _unequal_length,
)
CONTEXT_CUT = CautionKind(
    "context-cut",
    "The engine cut answers at the end of its context and reported that as the requested length.",
    "Raise context, or ask for shorter prompts or answers.",
    "any",
    _context_cut,
    _context_cut_request,
)
STALLED = CautionKind(
    "stalled",
    "The engine went silent in the middle of answers.",
    "Read its last output; check whether the machine swapped, throttled or was suspended.",
    f"a gap of {STALL_GAP_S:g} s or more that is {STALL_TIMES:g} times the usual one",
    _stalled,
    _stalled_request,
)
INCOMPLETE = CautionKind(
    "incomplete",
    "Streams ended without their end marker; they are kept and not counted.",
    "Read the engine's last output on the cell sheet.",
    "any",
    _incomplete,
    _incomplete_request,
)
ERRORS = CautionKind(
    "errors",
    "Requests failed; they are kept and not counted.",
    "Open the cell to see what went wrong with each.",
    "any",
    _errors,
    _errors_request,
)
TINY_PROMPT = CautionKind(
    "tiny-prompt",
    "The prompt is so short that its prefill is mostly fixed overhead.",
    "Use a longer prompt to measure prefill speed.",
    f"under {TINY_PROMPT_TOKENS} uncached prompt tokens, or a prefill under {TINY_PREFILL_S * 1e3:.0f} ms",
    _tiny_prompt,
)
COUNTED_BY_CHUNKS = CautionKind(
    "counted-by-chunks",
    "The engine gives no token counts, so chunks are counted, and a chunk is not always a token.",
    "Read this engine's tokens per second as chunks per second.",
    "any",
    _by_chunks,
)
SEVERAL_A_CHUNK = CautionKind(
    "several-a-chunk",
    "Chunks hold several tokens each, and the engine tells their total only.",
    "Read decode with care where answers have few chunks: the first is taken to hold as many tokens as the others.",
    "over one token a chunk by the usage record, and no count of each chunk",
    _several,
    _several_request,
)
DIFFERENT_TOKENIZER = CautionKind(
    "different-tokenizer",
    "The cells cut the same text into tokens of different size.",
    "Compare characters per second; tokens per second compare different things.",
    "prompts whose characters per token differ by over 2% and two tokens, between cells that are compared",
)
"""Raised where cells are compared: a single cell has no other tokenizer."""
