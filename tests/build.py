"""Small made-up timelines, repeats and studies for tests."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from zinc_kettle.core.devices import DeviceUse
from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.recipe import Recipe
from zinc_kettle.core.plan.study import LaunchSpec, Repeats, Study
from zinc_kettle.core.record.repeat import Repeat
from zinc_kettle.core.record.telemetry import Launch, Machine, Trace
from zinc_kettle.core.record.timeline import EngineReport, Timeline
from zinc_kettle.core.results import KeptRepeat, RunInfo, StudyResults
from zinc_kettle.formats.recipe import shipped
from zinc_kettle.formats.study import Known

MS = 1_000_000
S = 1_000_000_000
RECIPES = shipped()
KNOWN = Known({name: recipe.engine for name, recipe in RECIPES.items()})
"""What a study file may name where nobody has recipes or rigs of their own."""


def timeline(
    stamps_ms: Sequence[float] = (200.0, 220.0, 240.0, 260.0),
    *,
    sent_ms: float = 0.0,
    tokens: Sequence[int] | None = None,
    engine: EngineReport | None = None,
    **changes: Any,
) -> Timeline:
    """A complete request with chunks at these times."""
    counts = [1] * len(stamps_ms) if tokens is None else list(tokens)
    end = (stamps_ms[-1] if stamps_ms else sent_ms) + 1
    given: dict[str, Any] = {
        "request_id": "r",
        "role": "measured",
        "stream": 0,
        "cold": False,
        "sent_ns": int(sent_ms * MS),
        "end_ns": int(end * MS),
        "chunk_ns": np.array([int(t * MS) for t in stamps_ms], dtype=np.int64),
        "chunk_tokens": np.array(counts, dtype=np.int32),
        "asked_tokens": sum(counts) if sum(counts) else len(stamps_ms),
        "prompt_tokens": 100,
        "complete": True,
        "engine": engine,
        "characters": 5 * len(stamps_ms),
    }
    return Timeline(**{**given, **changes})


def decode_timeline(rate: float, *, tokens: int = 11, ttft_ms: float = 200.0, **changes: Any) -> Timeline:
    """A request that decodes at exactly `rate` tokens per second."""
    stamps = [ttft_ms + i * 1e3 / rate for i in range(tokens)]
    return timeline(stamps, **changes)


def trace(*, resident: Sequence[int] = (100, 120, 110), cpu_s: Sequence[float] = (0.0, 0.5, 1.0)) -> Trace:
    """A trace of one sample every half second; sizes in MB."""
    n = len(resident)
    sizes = np.array([r * 1_000_000 for r in resident], dtype=np.int64)
    return Trace(
        np.arange(n, dtype=np.int64) * (S // 2),
        sizes,
        sizes // 4,
        sizes - sizes // 4,
        np.array([int(c * S) for c in cpu_s], dtype=np.int64),
        sampler_cpu_ns=4 * MS,
    )


def repeat(*timelines: Timeline, concurrency: int = 1, block: int = 0, **changes: Any) -> Repeat:
    """A repeat of these requests on a quiet two-core machine."""
    given: dict[str, Any] = {
        "repeat_id": f"rep{block}",
        "block": block,
        "concurrency": concurrency,
        "timelines": tuple(timelines),
        "launch": Launch(f"l{block}", 500 * MS, 1.0, 20_000_000, 90_000_000, 10_000_000, 80_000_000),
        "machine": Machine(1.0, 2, 1.0, 1.0, 0.0, (DeviceUse(3 << 30, 0.5, None),)),
        "trace": trace(),
        "driver_cpu_ns": 6 * MS,
        "wall_ns": S,
        "extras": {"template_tokens": 20.0},
    }
    return Repeat(**{**given, **changes})


def repeats_at(*rates: float, **changes: Any) -> list[Repeat]:
    """One repeat of one request for each decode speed; the prompt is long and slow enough for a prefill claim."""
    report = EngineReport(0, 100, 197.0, 11, 1.0)
    return [repeat(decode_timeline(rate, engine=report), block=i, **changes) for i, rate in enumerate(rates)]


def spec(recipe: Recipe | None = None, **levels: Level) -> LaunchSpec:
    """How the tiny model is started; with other levels of its factors."""
    engine = (recipe or RECIPES["built-in"]).engine
    tiny: dict[str, Level] = {
        "model": "brine-15m",
        "quantization": "Q8_0",
        "threads": 1,
        "context": 512,
        "slots": 1,
        "batch": 512,
        "micro_batch": 256,
    }
    held = {**tiny, "engine": engine.name, **levels}
    return study({"salt": (True,)}, hold=held, engines=(engine,)).cells[0].launch


def study(vary: dict[str, tuple[Level, ...]] | None = None, **changes: Any) -> Study:
    """A study of two threads by three quantizations."""
    levels = vary or {"quantization": ("F16", "Q8_0", "Q4_0"), "threads": (1, 2)}
    given: dict[str, Any] = {
        "name": "night-log",
        "question": "Which?",
        "vary": levels,
        "hold": {"model": "brine-15m", "prompt_tokens": 64, "output_tokens": 8, "context": 256},
        "repeats": Repeats(count=3),
        "seed": 3,
    }
    whole = Study(**{**given, **changes})
    named = sorted({whole.engine_of(cell.levels).name for cell in whole.cells})
    return replace(whole, engines=whole.engines or tuple(RECIPES[n].engine for n in named if n in RECIPES))


def measured(*repeats: Repeat) -> list[KeptRepeat]:
    """Repeats that count."""
    return [KeptRepeat("measured", r) for r in repeats]


def run(name: str, rates: dict[tuple[str, int], list[float]], **changes: object) -> StudyResults:
    """A run whose cells decode at these rates, repeat by repeat."""
    plan = study()
    kept = {
        cell.key: [KeptRepeat("measured", r) for r in repeats_at(*rates[tuple(cell.levels.values())])]  # type: ignore[index]
        for cell in plan.cells
        if tuple(cell.levels.values()) in rates
    }
    return StudyResults.of_repeats(plan, kept, RunInfo(name, **changes))  # type: ignore[arg-type]


def rates(factor: float, noise: float = 0.01, *, seed: int = 1, n: int = 8) -> dict[tuple[str, int], list[float]]:
    """Two quantizations by two threads; Q4_0 so many times as fast, all with the same slow minutes."""
    draw = np.random.default_rng(seed)
    minutes = np.exp(draw.normal(0, 0.1, n))
    return {
        (q, t): list(10 * t * (factor if q == "Q4_0" else 1) * minutes * np.exp(draw.normal(0, noise, n)))
        for q in ("Q8_0", "Q4_0")
        for t in (1, 2)
    }


def powered(watts: tuple[float, ...] = (20.0, 20.0, 40.0, 40.0), **changes: object) -> Trace:
    """A sample every half second from the start on; power of each stretch."""
    energy = np.concatenate([[0], np.cumsum([w * 0.5e6 for w in watts])]).astype(np.int64)
    plain = trace(resident=[1] * len(energy), cpu_s=[0.0] * len(energy))
    return dataclasses.replace(plain, energy_uj=energy, energy_source="counters", **changes)  # type: ignore[arg-type]
