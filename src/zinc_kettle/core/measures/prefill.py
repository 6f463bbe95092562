"""Prefill speed in its three views, each under a name of its own."""

from __future__ import annotations

from collections.abc import Sequence

from zinc_kettle.core.measures.kinds import Group, Measure, OfCell, PerRepeat
from zinc_kettle.core.measures.latency import NO_PREFILL_REPORT, QUEUED
from zinc_kettle.core.record.repeat import Figure, Missing, Repeat
from zinc_kettle.core.stats import median
from zinc_kettle.core.units import NS_PER_S

CLIENT_PREFILL_MIN_TOKENS = 32
"""Shorter prompts are all fixed overhead: client prefill speed is not given for them."""
PROMPT_CHARACTERS = "prompt_characters"
"""Extra of a repeat: characters of its mean prompt, without template and salt."""
GROUP = Group("prefill")


def prefill_client(repeat: Repeat) -> Figure:
    """Uncached prompt tokens over TTFT, totals over totals, in tokens per second."""
    if not repeat.alone:
        return QUEUED
    known = [(t.uncached_tokens, t.ttft_ns) for t in repeat.measured]
    pairs = [(n, ns) for n, ns in known if n is not None and ns is not None]
    if not pairs:
        return Missing("the engine does not say how long the prompt was")
    if any(ns <= 0 for _, ns in pairs):
        return Missing("an answer came before its request was sent: the clocks of this repeat cannot be trusted")
    tokens = sum(n for n, _ in pairs)
    if tokens < CLIENT_PREFILL_MIN_TOKENS * len(pairs):
        return Missing(f"fewer than {CLIENT_PREFILL_MIN_TOKENS} uncached prompt tokens: mostly fixed overhead")
    return tokens * NS_PER_S / sum(ns for _, ns in pairs)


def prefill_engine(repeat: Repeat) -> Figure:
    """The engine's own report, totals over totals, in tokens per second."""
    reports = [t.engine for t in repeat.measured if t.engine is not None and t.engine.prompt_ms > 0]
    if not reports:
        return NO_PREFILL_REPORT
    return sum(r.prompt_n for r in reports) * 1e3 / sum(r.prompt_ms for r in reports)


def prefill_slope(_repeats: Sequence[Repeat]) -> Missing:
    """Never of one cell; see core.family."""
    return Missing("it needs cells of three or more prompt lengths; a single cell has none")


def prompt_tokens(repeat: Repeat) -> Figure:
    """Median over requests of the prompt's length by the engine's count."""
    prompts = [t.prompt_tokens for t in repeat.measured if t.prompt_tokens is not None]
    return median(prompts) if prompts else Missing("the engine gave no usage record")


def prompt_density(repeat: Repeat) -> Figure:
    """Characters of the mean prompt over the median of the prompts' tokens, template included."""
    characters, tokens = repeat.extras.get(PROMPT_CHARACTERS), prompt_tokens(repeat)
    if characters is None:
        return Missing("the prompts' characters were not kept")
    return tokens if isinstance(tokens, Missing) else characters / tokens


MEASURES = (
    Measure(
        "prefill_client",
        "prefill, client",
        "tokens/s",
        "more",
        GROUP,
        "uncached prompt tokens divided by TTFT",
        PerRepeat(prefill_client),
        mistakes="With a short prompt it is mostly fixed overhead; with a prompt cache it does not measure "
        "prefill at all.",
        map_rank=2,
    ),
    Measure(
        "prefill_engine",
        "prefill, engine",
        "tokens/s",
        "more",
        GROUP,
        "the engine's own report of its prefill",
        PerRepeat(prefill_engine),
        mistakes="The engine's clock leaves out queueing, network and template; the client's view includes them.",
    ),
    Measure(
        "prefill_slope",
        "prefill, slope",
        "tokens/s",
        "more",
        GROUP,
        "from TTFT over three or more prompt lengths",
        OfCell(prefill_slope),
        sheet=False,
    ),
    Measure(
        "prompt_tokens",
        "prompt",
        "tokens",
        "neither",
        GROUP,
        "prompt tokens by the engine's count",
        PerRepeat(prompt_tokens),
    ),
    Measure(
        "prompt_density",
        "prompt, density",
        "chars/token",
        "neither",
        GROUP,
        "characters of a prompt divided by its tokens",
        PerRepeat(prompt_density),
        mistakes="Where it differs between two cells, they read different tokens: tokens per second then compare "
        "different things.",
    ),
)
