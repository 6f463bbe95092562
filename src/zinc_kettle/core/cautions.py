"""Cautions the tool raises by itself: a code, one plain sentence, the evidence, and what to do.

They are views over timelines and repeats, survive export and cannot be deleted. Each threshold is named,
with its reason.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence

from zinc_kettle.core import load_cautions as loads
from zinc_kettle.core.catalogue import MEASURES
from zinc_kettle.core.caution_kinds import KINDS, Caution, Setting
from zinc_kettle.core.cell import numbers, per_repeat
from zinc_kettle.core.faults import meaning
from zinc_kettle.core.measures import Repeat, observer_cores, repeat_figures
from zinc_kettle.core.stats import flukes, median, robust_spread
from zinc_kettle.core.timeline import Timeline
from zinc_kettle.core.units import NS_PER_MS, NS_PER_S, digits, plural
from zinc_kettle.core.workload import SALT_DIGITS

NOISY_SPREAD = 0.05
"""Differences people care about start at 5%; a spread above it hides them."""
TINY_PROMPT_TOKENS = 64
TINY_PREFILL_S = 0.150
"""Fixed overhead is 2 to 5 ms, so below this prefill is off by more than about 3%."""
STOLEN_SHARE = 0.02
"""Share of processor time taken by the hypervisor; single cores then lose several times as much."""
BUSY_CORES = 0.25
"""Cores others kept busy. A quiet desktop idles below a tenth of a core."""
OBSERVER_CORES = 0.08
"""Our own driver and sampler; more would show in the engine's speed on two cores."""
SPILLED_SHARE = 0.6
"""Of the low end of the band predicted for fast memory, where Fit sees no spill: that must be far off to be said."""
SPILLED_CORES = 0.5
"""Cores of the host in use while a device should do the work."""
TEMPLATE_TOKENS = 32
"""Tokens a chat template puts before the first word, where it was not counted."""


def timeline_cautions(timeline: Timeline, setting: Setting) -> list[Caution]:
    """Cautions about one request."""
    out = []
    if timeline.cold:
        out.append(Caution("cold", "the first request after a load"))
    if timeline.error is not None:
        out.append(Caution("incomplete" if len(timeline.chunk_ns) else "errors", timeline.error))
    cached = _cached(timeline)
    if cached > _cache_allowance(setting) and not setting.prompt_cache:
        out.append(Caution("cache-helped", f"{cached:,} of {timeline.prompt_tokens or 0:,} prompt tokens reused"))
    if loads.stall_s(timeline) is not None:
        out.append(Caution("stalled", f"a gap of {digits(loads.stall_s(timeline) or 0.0)} s"))
    if timeline.ended_early:
        code = "context-cut" if loads.is_cut(timeline) else "ended-early"
        out.append(Caution(code, f"{timeline.total_tokens:,} of {timeline.asked_tokens:,} tokens"))
    return out


def cell_cautions(repeats: Sequence[Repeat], setting: Setting) -> list[Caution]:
    """Cautions about a cell, in the order of KINDS; each code at most once.

    Args:
        repeats: Finished repeats, in the order they ran.
        setting: What was set, and what is known of the machine.
    """
    found = [c for check in _CHECKS if (c := check(repeats, setting)) is not None]
    return sorted(found, key=lambda c: list(KINDS).index(c.code))


def _measured(repeats: Sequence[Repeat]) -> list[Timeline]:
    return loads.measured(repeats)


def _cached(t: Timeline) -> int:
    return t.engine.cache_n if t.engine is not None else (t.cached_tokens or 0)


def _cache_allowance(setting: Setting) -> int:
    template = setting.template_tokens if setting.template_tokens is not None else TEMPLATE_TOKENS
    # Two salts may begin alike; a digit is at most two tokens, a blank and itself.
    return template + 2 * SALT_DIGITS


def _cold(repeats: Sequence[Repeat], _: Setting) -> Caution | None:
    cold = [t for r in repeats for t in r.timelines if t.cold and t.role == "measured"]
    return Caution("cold", f"{plural(len(cold), 'request')} of the measured ones") if cold else None


def _cache_helped(repeats: Sequence[Repeat], setting: Setting) -> Caution | None:
    helped = [t for t in _measured(repeats) if _cached(t) > _cache_allowance(setting)]
    if not helped or setting.prompt_cache:
        return None
    worst = max(helped, key=_cached)
    total = len(_measured(repeats))
    return Caution(
        "cache-helped",
        f"{len(helped)} of {plural(total, 'request')}; up to {_cached(worst):,} of {worst.prompt_tokens or 0:,} "
        f"prompt tokens reused, {_cache_allowance(setting)} is what a template explains",
    )


def _ended_early(repeats: Sequence[Repeat], _: Setting) -> Caution | None:
    short = [t for t in _measured(repeats) if t.ended_early and not loads.is_cut(t)]
    if not short:
        return None
    least = min(t.total_tokens for t in short)
    return Caution(
        "ended-early",
        f"{len(short)} of {plural(len(_measured(repeats)), 'request')}; the shortest has {least:,} of "
        f"{short[0].asked_tokens:,} tokens",
    )


def _failures(repeats: Sequence[Repeat]) -> tuple[list[Timeline], list[Timeline]]:
    failed = [t for r in repeats for t in r.timelines if not t.usable]
    broken = [t for t in failed if len(t.chunk_ns)]
    return broken, [t for t in failed if not len(t.chunk_ns)]


def _incomplete(repeats: Sequence[Repeat], _: Setting) -> Caution | None:
    broken, _none = _failures(repeats)
    return Caution("incomplete", f"{plural(len(broken), 'request')}: {broken[0].error}") if broken else None


def _errors(repeats: Sequence[Repeat], _: Setting) -> Caution | None:
    _broken, failed = _failures(repeats)
    if not failed:
        return None
    first = failed[0]
    why = first.error or (meaning(first.fault) if first.fault else "the answer carried no output")
    kinds = Counter(t.fault for t in failed if t.fault)
    told = f" ({', '.join(f'{n} {code}' for code, n in kinds.most_common(3))})" if len(kinds) > 1 else ""
    again = sum(1 for t in _measured(repeats) if t.attempt)
    healed = f"; {plural(again, 'request')} answered when sent again" if again else ""
    return Caution("errors", f"{plural(len(failed), 'request')}{told}: {why}{healed}")


def _tiny_prompt(repeats: Sequence[Repeat], _: Setting) -> Caution | None:
    requests = [t for t in _measured(repeats) if t.uncached_tokens is not None and t.ttft_ns is not None]
    if not requests:
        return None
    tokens = median([t.uncached_tokens or 0 for t in requests])
    seconds = median([_prefill_s(t) for t in requests])
    if tokens >= TINY_PROMPT_TOKENS and seconds >= TINY_PREFILL_S:
        return None
    return Caution(
        "tiny-prompt",
        f"{tokens:,.0f} uncached prompt tokens in {digits(seconds * 1e3)} ms; "
        f"{TINY_PROMPT_TOKENS} tokens and {TINY_PREFILL_S * 1e3:.0f} ms are wanted",
    )


def _prefill_s(t: Timeline) -> float:
    if t.engine is not None and t.engine.prompt_ms > 0:
        return t.engine.prompt_ms * NS_PER_MS / NS_PER_S
    return (t.ttft_ns or 0) / NS_PER_S


def _noisy(repeats: Sequence[Repeat], _: Setting) -> Caution | None:
    spreads = {name: robust_spread(per_repeat(repeats, name)) for name in ("decode", "ttft")}
    loud = {name: s for name, s in spreads.items() if s is not None and s > NOISY_SPREAD}
    if not loud:
        return None
    told = ", ".join(f"{'TTFT' if name == 'ttft' else name} {s:.1%}" for name, s in loud.items())
    return Caution(
        "noisy", f"robust spread of {told} over {plural(len(repeats), 'repeat')}; {NOISY_SPREAD:.0%} allowed"
    )


def _fluke(repeats: Sequence[Repeat], _: Setting) -> Caution | None:
    for name in ("decode", "ttft"):
        values = per_repeat(repeats, name)
        far = flukes(values)
        if far:
            times = values[far[0]] / median(values)
            title = MEASURES[name].title
            return Caution("fluke", f"{title} of repeat {far[0] + 1} is {times:.2g} times the median")
    return None


def _stolen(repeats: Sequence[Repeat], _: Setting) -> Caution | None:
    shares = [r.machine.stolen_share for r in repeats if r.machine is not None]
    if not shares or max(shares) <= STOLEN_SHARE:
        return None
    hit = sum(1 for s in shares if s > STOLEN_SHARE)
    return Caution(
        "stolen-time", f"up to {max(shares):.0%} of the processor, in {hit} of {plural(len(shares), 'repeat')}"
    )


def _busy(repeats: Sequence[Repeat], _: Setting) -> Caution | None:
    others = [r.machine.other_cores for r in repeats if r.machine is not None]
    if not others or max(others) <= BUSY_CORES:
        return None
    hit = sum(1 for c in others if c > BUSY_CORES)
    return Caution(
        "busy-machine", f"others used up to {digits(max(others), significant=2)} cores, in {hit} of "
        f"{plural(len(others), 'repeat')}"
    )  # fmt: skip


def _observer(repeats: Sequence[Repeat], setting: Setting) -> Caution | None:
    if not setting.here:
        return None
    cores = [observer_cores(r) for r in repeats]
    if cores and median(cores) > OBSERVER_CORES:
        return Caution("observer-heavy", f"{median(cores):.2f} cores; {OBSERVER_CORES} allowed")
    waited = loads.queue(repeats)
    return None if waited is None else Caution("observer-heavy", waited)


def _by_chunks(repeats: Sequence[Repeat], _: Setting) -> Caution | None:
    counted = [t for t in _measured(repeats) if t.counted_by == "chunks"]
    return Caution("counted-by-chunks", f"{plural(len(counted), 'request')}") if counted else None


def _over_threaded(repeats: Sequence[Repeat], setting: Setting) -> Caution | None:
    if setting.threads is None or setting.physical_cores is None or setting.threads <= setting.physical_cores:
        return None
    return Caution("over-threaded", f"{setting.threads} threads on {plural(setting.physical_cores, 'physical core')}")


def _spilled(repeats: Sequence[Repeat], _: Setting) -> Caution | None:
    """Prediction and measurement together: below what was predicted for fast memory where Fit says that it spills;
    or far below it, with the host's processor busy while a device should do the work."""
    decode = per_repeat([r for r in repeats if r.alone], "decode")
    known = [r for r in repeats if "predicted_decode_low" in r.extras]
    if not decode or not known:
        return None
    hoped, extras = known[0].extras["predicted_decode_low"], known[0].extras
    share = 1.0 if extras.get("spill_predicted") else SPILLED_SHARE
    if median(decode) >= share * hoped:
        return None
    cores = numbers([repeat_figures(r)["cpu"] for r in known if r.measured])
    busy = bool(extras.get("has_devices")) and bool(cores) and median(cores) > SPILLED_CORES
    if not extras.get("spill_predicted") and not busy:
        return None
    why = "Fit says it spills here" if extras.get("spill_predicted") else f"the host used {median(cores):.1f} cores"
    return Caution("spilled", f"{digits(median(decode))} tok/s where {digits(hoped)} or more were predicted, and {why}")


_CHECKS: tuple[Callable[[Sequence[Repeat], Setting], Caution | None], ...] = (
    _cold, _cache_helped, _ended_early, _incomplete, _tiny_prompt, _noisy, _fluke, _stolen, _busy, _observer,
    _by_chunks, _errors, _spilled, _over_threaded, loads.unequal_length, loads.context_cut, loads.stalled, loads.drift,
    loads.thin_percentile, loads.no_steady_window,
)  # fmt: skip
