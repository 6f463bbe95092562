"""Factors: what a study may vary or hold, and how their levels are said."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, TypeAlias

from zinc_kettle.core.text import neutralise

Level: TypeAlias = str | int | bool
HERE = "here"
"""Name of the machine the tool runs on."""
FactorKind = Literal["launch", "load", "prompt"]


@dataclass(frozen=True, slots=True)
class Factor:
    """What a study may vary or hold."""

    name: str
    kind: FactorKind
    """`launch` needs a reload of the engine, `load` and `prompt` do not."""
    type: type
    meaning: str
    low: int = 1
    high: int = 1 << 40
    choices: tuple[str, ...] = ()
    default: Level | None = None


_ALL = (
    Factor("rig", "launch", str, "the machine, by its name in the rig file; this machine by default"),
    Factor("model", "launch", str, "a preset of `synth`, a model in the data folder, or a path to a file"),
    Factor("quantization", "launch", str, "stored precision of the model, such as F16, Q8_0, Q4_0"),
    Factor("threads", "launch", int, "threads for decoding", high=1024),
    Factor("prefill_threads", "launch", int, "threads for prefill; the same as `threads` by default", high=1024),
    Factor("context", "launch", int, "tokens of context per slot", low=16, high=1 << 24, default=2048),
    Factor("slots", "launch", int, "requests held at once; the highest concurrency by default", high=4096),
    Factor("batch", "launch", int, "tokens handed to the engine at once", high=1 << 20, default=2048),
    Factor("micro_batch", "launch", int, "tokens computed at once", high=1 << 20, default=512),
    Factor(
        "cache_precision", "launch", str, "precision of the KV cache",
        choices=("f32", "f16", "q8_0", "q4_0"), default="f16",
    ),
    Factor("prompt_cache", "launch", bool, "let the engine reuse prompts it has seen", default=False),
    Factor(
        "load_mode", "launch", str, "how the weights get into memory", choices=("mapped", "copied"), default="mapped"
    ),
    Factor(
        "task", "prompt", str, "a task of the suite: its prompt and answer lengths, texts and turns",
        choices=("short-ask", "long-document", "extraction", "drafting", "chat-in-depth", "code"),
    ),
    Factor("rate", "load", int, "open loop: requests per minute, on average", high=60_000_000),
    Factor("concurrency", "load", int, "requests in flight at once", high=4096, default=1),
    Factor("prompt_tokens", "prompt", int, "exact length of each prompt, template included", low=8, high=1 << 24),
    Factor("output_tokens", "prompt", int, "exact length of each answer", low=1, high=1 << 20, default=64),
    Factor("salt", "prompt", bool, "start each request with its own short salt", default=True),
)  # fmt: skip
FACTORS: dict[str, Factor] = {factor.name: factor for factor in _ALL}


def axis_name(factor: str | None) -> str:
    """A factor as the heading of an axis, behind its first level."""
    return {"rate": "per minute"}.get(factor or "", (factor or "").replace("_", " "))


def label(level: Level) -> str:
    """A level as people write it."""
    if isinstance(level, bool):
        return "on" if level else "off"
    return f"{level:,}" if isinstance(level, int) else neutralise(level, keep_newlines=False)


def level_name(factor: str, level: Level) -> str:
    """A level with what it is a level of: `2 threads`, `Q4_0`."""
    nouns = {
        "threads": "thread", "prefill_threads": "prefill thread", "concurrency": "stream",
        "slots": "slot", "prompt_tokens": "prompt token", "output_tokens": "output token",
    }  # fmt: skip
    if factor in {"rig", "model", "quantization", "task"}:
        return label(level)
    if factor == "rate":
        return f"{label(level)} per minute"
    if factor in nouns:
        return f"{label(level)} {nouns[factor]}" + ("" if level == 1 else "s")
    return f"{factor.replace('_', ' ')} {label(level)}"
