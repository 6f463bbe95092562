"""How fast answers are written: one stream, all streams, over depth, against what memory allows."""

from __future__ import annotations

from collections.abc import Sequence

from zinc_kettle.core.family import depth_fall
from zinc_kettle.core.fit.limit import limit_share
from zinc_kettle.core.measures.kinds import Group, Measure, OfCell, PerRepeat
from zinc_kettle.core.record.repeat import Figure, Missing, Repeat
from zinc_kettle.core.record.value import CellFigure, Value
from zinc_kettle.core.stats import median, median_interval, robust_spread
from zinc_kettle.core.steady import steady_throughput, whole_throughput
from zinc_kettle.core.units import NS_PER_S

ONE_CHUNK = Missing("no answer had more than one output chunk")
GROUP = Group("decode")


def decode(repeat: Repeat) -> Figure:
    """Tokens of one stream after its first chunk over the time they took, in tokens per second."""
    tokens, ns = repeat.decoded
    return tokens * NS_PER_S / ns if ns else ONE_CHUNK


def tpot(repeat: Repeat) -> Figure:
    """Seconds per output token: the inverse of decode."""
    tokens, ns = repeat.decoded
    return ns / tokens / NS_PER_S if ns else ONE_CHUNK


def chars_rate(repeat: Repeat) -> Figure:
    """Decode in characters per second; a request's characters are taken to be spread evenly over its tokens."""
    timed = [t for t in repeat.measured if t.decode_ns > 0 and t.decode_tokens > 0]
    if timed and not any(t.characters for t in timed):
        return Missing("the answers carried no text")
    ns = sum(t.decode_ns for t in timed)
    characters = sum(t.characters * t.decode_tokens / t.total_tokens for t in timed if t.total_tokens)
    return characters * NS_PER_S / ns if ns else ONE_CHUNK


def decode_engine(repeat: Repeat) -> Figure:
    """(predicted_n − 1) ÷ predicted time: the engine's clock starts with the first token, so that one is not in it."""
    reports = [t.engine for t in repeat.measured if t.engine is not None and t.engine.predicted_n > 1]
    time_ms = sum(r.predicted_ms for r in reports)
    if time_ms <= 0:
        return Missing("the engine does not report its decode time")
    return sum(r.predicted_n - 1 for r in reports) * 1e3 / time_ms


def share_of_limit(repeat: Repeat) -> Figure:
    """Decode over what memory bandwidth allows; of several streams their sum while all are busy."""
    rate = decode(repeat) if repeat.alone else steady_throughput(repeat)
    return limit_share(repeat, rate)


def output_tokens(repeat: Repeat) -> Figure:
    """Median over requests of the answer's length."""
    return median([t.total_tokens for t in repeat.measured])


def depth_loss(repeats: Sequence[Repeat]) -> CellFigure:
    """Share of decode speed lost per 1,000 tokens of context, from requests of different depth."""
    whole = depth_fall(repeats)
    if isinstance(whole, Missing):
        return whole
    falls = [fall for r in repeats if not isinstance(fall := depth_fall([r]), Missing)]
    if len(falls) < len(repeats):
        return Value(whole.loss, whole.loss, whole.loss, "range", 1, "share")
    # Requests of one repeat hang together: what the repeats carry is what their losses, one each, carry.
    found = median_interval([fall.loss for fall in falls])
    return Value(found.value, found.low, found.high, found.bound, found.n, "share")


def spread(repeats: Sequence[Repeat]) -> CellFigure:
    """1.4826 · MAD ÷ median of decode over repeats, a share."""
    values = [figure for r in repeats if r.measured and not isinstance(figure := decode(r), Missing)]
    found = robust_spread(values)
    if found is None:
        return Missing("a spread needs two or more repeats")
    return Value(found, found, found, "range", len(values), "share")


MEASURES = (
    Measure(
        "decode",
        "decode",
        "tokens/s",
        "more",
        GROUP,
        "tokens of one stream after the first chunk, divided by the time they took",
        PerRepeat(decode),
        mistakes="Tokens of different models differ in size: compare characters per second there. Decode slows "
        "down as the context fills.",
        map_rank=1,
    ),
    Measure(
        "decode_engine",
        "decode, engine",
        "tokens/s",
        "more",
        GROUP,
        "the same, by the engine's own clock",
        PerRepeat(decode_engine),
        map_rank=16,
    ),
    Measure(
        "tpot",
        "TPOT",
        "s",
        "less",
        GROUP,
        "time per output token, the inverse of decode",
        PerRepeat(tpot),
    ),
    Measure(
        "chars_rate",
        "characters",
        "chars/s",
        "more",
        GROUP,
        "decode in characters, since tokens of different models differ in size",
        PerRepeat(chars_rate),
        map_rank=17,
    ),
    Measure(
        "limit_share",
        "share of the limit",
        "share",
        "more",
        GROUP,
        "decode speed divided by what memory bandwidth allows",
        PerRepeat(share_of_limit),
        mistakes="A low share does not prove a bad engine: few threads, unpacking weights and small models all "
        "cost speed.",
        map_rank=13,
    ),
    Measure(
        "output_tokens",
        "answer length",
        "tokens",
        "neither",
        GROUP,
        "output tokens of an answer, the median over the requests of a repeat",
        PerRepeat(output_tokens),
        map_rank=26,
    ),
    Measure(
        "throughput",
        "throughput",
        "tokens/s",
        "more",
        GROUP,
        "output tokens of all streams while all are busy",
        PerRepeat(steady_throughput),
        mistakes="It says nothing about what one person experiences: read it together with decode and the "
        "waiting times.",
        map_rank=8,
    ),
    Measure(
        "throughput_all",
        "throughput, all",
        "tokens/s",
        "more",
        GROUP,
        "prompt and output tokens of all streams while all are busy; of one stream over the time of its requests",
        PerRepeat(whole_throughput),
        mistakes="Prompt tokens cost far less than output tokens: compare it between equal lengths only.",
        map_rank=18,
    ),
    Measure(
        "depth_loss",
        "loss with depth",
        "share",
        "less",
        GROUP,
        "decode speed lost per 1,000 tokens of context",
        OfCell(depth_loss),
    ),
    Measure(
        "spread",
        "spread",
        "share",
        "less",
        GROUP,
        "1.4826 times the MAD of decode over its median",
        OfCell(spread),
    ),
)
