"""Designs for the usual questions: what to vary, what to hold and how often to repeat, each with its reason."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from zinc_kettle.core.plan.factors import Level
from zinc_kettle.core.plan.suite import SUITE


@dataclass(frozen=True, slots=True)
class Template:
    """A good design for a question."""

    name: str
    question: str
    reason: str
    """Why it is built so; a sentence or two."""
    vary: Mapping[str, str] = field(default_factory=dict)
    """Factors with their levels in shorthand; an empty one must be given, `cores` is up to the machine's cores."""
    hold: Mapping[str, Level] = field(default_factory=dict)
    repeats: Mapping[str, Level | float] = field(default_factory=dict)
    promise: Mapping[str, float] = field(default_factory=dict)
    capacity: Mapping[str, Level] = field(default_factory=dict)
    decide: Mapping[str, list[str]] = field(default_factory=dict)


_BEST: Mapping[str, Level | float] = {"until_answered": "best", "smallest_percent": 3, "ceiling": 20, "requests": 2}
_USUAL: Mapping[str, Level] = {"prompt_tokens": 512, "output_tokens": 128, "context": 1024}
TEMPLATES: dict[str, Template] = {
    t.name: t
    for t in (
        Template(
            "quantization",
            "Which quantization is the fastest here?",
            "One stream, prompts long enough for a prefill claim. It repeats until it is known which is best, or that "
            "none is by 3%.",
            {"quantization": "F16, Q8_0, Q4_K"},
            _USUAL,
            _BEST,
            decide={"choose": ["quantization"]},
        ),
        Template(
            "threads",
            "How many threads are the fastest?",
            "Up to the machine's cores: more threads than cores are rarely faster. It repeats until it is known which "
            "is best.",
            {"threads": "cores"},
            _USUAL,
            _BEST,
            decide={"choose": ["threads"]},
        ),
        Template(
            "users",
            "How many people can it serve at once?",
            "A closed loop of one to eight streams with a promise: read goodput and promise kept beside throughput, "
            "for throughput alone says nothing of what one person waits.",
            {"concurrency": "1..8 x2"},
            {"prompt_tokens": 256, "output_tokens": 96, "context": 512},
            {"count": 6},
            {"ttft_s": 3.0, "tpot_s": 0.15},
        ),
        Template(
            "limit",
            "What is the largest load that keeps the promise?",
            "A search: it doubles the streams until the promise breaks, then goes to where it breaks; few loads are "
            "measured, and the answer has an interval.",
            {"concurrency": "2"},
            {"prompt_tokens": 256, "output_tokens": 96, "context": 512, "slots": 16},
            {"count": 3},
            {"ttft_s": 3.0, "tpot_s": 0.15},
            {"factor": "concurrency", "most": 16},
        ),
        Template(
            "prompt-length",
            "How long does a long prompt take?",
            "Five lengths, so that prefill is a slope with its fixed overhead apart, and a curve would show.",
            {"prompt_tokens": "128..2048 x2"},
            {"output_tokens": 32, "context": 2560},
            {"count": 6, "requests": 1},
        ),
        Template(
            "depth",
            "How much slower does it write deep in a conversation?",
            "Earlier text of four lengths in front of the same prompt; each step is repeated until it is known.",
            {"depth": "128..3072 x3"},
            {"prompt_tokens": 128, "output_tokens": 48, "context": 3584},
            {"until_answered": "depth", "smallest_percent": 5, "ceiling": 12, "requests": 1},
        ),
        Template(
            "builds",
            "Is this build faster than that one?",
            "Two engines, or two versions of one, on the same file, cell against cell in the same minutes.",
            {"engine": ""},
            _USUAL,
            _BEST,
            decide={"choose": ["engine"]},
        ),
        Template(
            "rigs",
            "Which machine is the fastest?",
            "The same file on every rig; the rig file names them.",
            {"rig": ""},
            _USUAL,
            _BEST,
            decide={"choose": ["rig"]},
        ),
        Template(
            "score",
            "How fast is this model here, over six kinds of work?",
            "The six tasks of the suite, one stream, six repeats: what a score is made of. All that was measured with "
            "it, here or elsewhere, stands on one scale.",
            {"task": ", ".join(SUITE)},
            {"context": 2048},
            {"count": 6, "requests": 1},
        ),
        Template(
            "setting",
            "Does this setting help?",
            "Give the setting to vary. Off and on alternate, so that a slow minute of the machine hits both.",
            {},
            _USUAL,
            _BEST,
        ),
    )
}


def core_counts(cores: int) -> list[int]:
    """Numbers of threads worth trying: powers of two up to the cores, and all of them."""
    out = [1]
    while out[-1] * 2 <= cores:
        out.append(out[-1] * 2)
    return out if out[-1] >= cores else [*out, cores]


def missing(template: Template, given: Sequence[str]) -> list[str]:
    """Factors whose levels only the person knows, and that were not given."""
    return [name for name, levels in template.vary.items() if not levels and name not in given]
