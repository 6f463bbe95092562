"""Factors: what a study may vary or hold, and how their levels are said.

Those here belong to every engine. All others are settings, which an engine's recipe declares; see core.plan.recipe.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal, TypeAlias

from annotated_types import Len

from zinc_kettle.core.declared import About
from zinc_kettle.core.text import neutralise

Level: TypeAlias = str | int | bool
EVERY = "all"
"""The level of `prompt` in a study file that stands for every prompt of the study."""
HERE = "here"
"""Name of the machine the tool runs on."""
FactorKind = Literal["launch", "load", "prompt", "request"]
LevelType = Literal["text", "number", "switch", "model"]
TYPES: dict[LevelType, type] = {"text": str, "number": int, "switch": bool, "model": str}
"""Python's type of a level; a `model` is named like the factor `model`, or as `NAME.QUANTIZATION`."""


@dataclass(frozen=True, slots=True)
class Factor:
    """What a study may vary or hold."""

    name: str
    kind: FactorKind
    """`launch` needs a reload of the engine, the others do not."""
    type: Annotated[LevelType, About("type", "What a level is; `model` is a further model file.", "number")]
    meaning: Annotated[str, Len(1, 200), About("meaning", "What it does, for people.", "threads for decoding")]
    low: Annotated[int, About("low", "The lowest number.", "0")] = 1
    high: Annotated[int, About("high", "The highest number.", "100")] = 1 << 40
    choices: Annotated[tuple[str, ...], About("choices", "The texts that may be given.", '["f16", "q8_0"]')] = ()
    default: Annotated[
        Level | None,
        About("default", "Its level if a study says nothing; without it, nothing is passed.", "2048", blank=True),
    ] = None
    label: Annotated[
        str, Len(0, 40), About("label", "Its name on an axis; by default its own with spaces.", "flash attention")
    ] = ""
    noun: Annotated[
        str, Len(0, 40), About("noun", "What its number counts, in the singular: `2 threads`.", "thread")
    ] = ""
    suffix: str = ""
    """Said behind a level: `60 per minute`."""
    alone: bool = False
    """True where a level needs no word beside it: `Q4_0`."""

    @property
    def heading(self) -> str:
        """The factor as the heading of an axis, behind its first level."""
        return self.suffix or self.label or self.name.replace("_", " ")

    def says(self, level: Level) -> str:
        """A level with what it is a level of: `2 threads`, `Q4_0`."""
        said = label(level)
        if self.alone:
            return said
        if self.suffix:
            return f"{said} {self.suffix}"
        if self.noun:
            # A unit such as MHz has no plural.
            plural = level != 1 and self.noun.islower()
            return f"{said} {self.noun}{'s' if plural else ''}"
        return f"{self.heading} {said}"


_ALL = (
    Factor("rig", "launch", "text", "the machine, by its name in the rig file; this machine by default", alone=True),
    Factor("engine", "launch", "text", "the engine, by the name of its recipe; `built-in` by default", alone=True),
    Factor(
        "model", "launch", "text", "a preset of `synth`, a model in the data folder, or a path to a file", alone=True
    ),
    Factor("quantization", "launch", "text", "stored precision of the model, such as F16, Q8_0, Q4_0", alone=True),
    Factor(
        "task",
        "prompt",
        "text",
        "a task of the suite: its prompt and answer lengths, texts and turns",
        alone=True,
        choices=("short-ask", "long-document", "extraction", "drafting", "chat-in-depth", "code"),
    ),
    Factor("prompt", "prompt", "text", "one of the study's prompts, by its name; `all` stands for each", alone=True),
    Factor(
        "rate", "load", "number", "open loop: requests per minute, on average", high=60_000_000, suffix="per minute"
    ),
    Factor("concurrency", "load", "number", "requests in flight at once", high=4096, default=1, noun="stream"),
    Factor(
        "prompt_tokens",
        "prompt",
        "number",
        "exact length of each prompt, template included",
        low=8,
        high=1 << 24,
        noun="prompt token",
    ),
    Factor(
        "depth",
        "prompt",
        "number",
        "tokens of earlier text in the context, before each prompt",
        high=1 << 24,
        suffix="tokens deep",
    ),
    Factor(
        "output_tokens",
        "prompt",
        "number",
        "exact length of each answer",
        high=1 << 20,
        default=64,
        noun="output token",
    ),
    Factor("salt", "prompt", "switch", "start each request with its own short salt", default=True),
)
FACTORS: dict[str, Factor] = {factor.name: factor for factor in _ALL}
"""The factors that belong to every engine."""


def label(level: Level) -> str:
    """A level as people write it."""
    if isinstance(level, bool):
        return "on" if level else "off"
    return f"{level:,}" if isinstance(level, int) else neutralise(level, keep_newlines=False)
