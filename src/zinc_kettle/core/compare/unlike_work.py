"""Which measures say nothing of two sides that did unlike work: totals of answers of unlike lengths, and the like."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.plan.study import Study

_TOTALS = tuple(
    name for name in MEASURES if name.startswith(("latency", "duration", "answer_time", "round_trip", "batch_"))
)
_WAITS = tuple(name for name in MEASURES if name.startswith("ttft"))
_MIXED = ("throughput_all", "goodput", "promise_kept", *(name for name in MEASURES if name.startswith("overall_")))
"""Tokens of prompts and answers counted together, and promises that a longer answer breaks sooner."""
MEANINGLESS: Mapping[str, tuple[str, ...]] = {
    "output_tokens": (*_TOTALS, *_MIXED),
    "prompt_tokens": ("throughput_all",),
    "depth": ("throughput_all",),
    "task": (*_TOTALS, *_WAITS, *_MIXED),
    "prompt": (*_TOTALS, *_WAITS, *_MIXED),
    "concurrency": ("batch_wall", "batch_cpu"),
    "rate": ("batch_wall", "batch_cpu"),
}
"""By the factor in which the work differs."""


def natural_lengths(study: Study) -> tuple[str, ...]:
    """`output_tokens` where answers end by themselves, so that their lengths differ whatever is compared."""
    return ("output_tokens",) if study.prompts.answers == "natural" else ()


def meaningless(compared: Collection[str]) -> frozenset[str]:
    """The measures that are left out where the work differs in these factors."""
    return frozenset(name for factor in compared for name in MEANINGLESS.get(factor, ()))
