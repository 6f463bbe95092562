"""Prompts of the length asked for, found by asking the engine itself to count."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from dataclasses import dataclass

from zinc_kettle.core.plan import Cell, Study
from zinc_kettle.core.workload import TOLERANCE, LengthSearch, made_up_words, message, salt, stretch
from zinc_kettle.errors import MeasureError
from zinc_kettle.ports import RunningEngine
from zinc_kettle.wire.messages import ChatMessage

Probe = Callable[[str], Awaitable[int | None]]
"""Sends a text with one output token and gives the prompt tokens the engine then reports."""


@dataclass(frozen=True, slots=True)
class Prepared:
    """One prompt of the workload, as long as asked for with this engine's tokenizer."""

    body: str
    tokens: int | None
    """Counted with a salt where one is used; None where the engine cannot count."""
    counted: str
    """`tokenizer`, `usage` or `not counted`."""


@dataclass(frozen=True, slots=True)
class Workload:
    """Prompts of a cell, ready to be sent."""

    prompts: tuple[Prepared, ...]
    template_tokens: int | None
    """Tokens the template and the salt's place take without any word."""


def user_message(text: str) -> list[ChatMessage]:
    """A conversation of one message."""
    return [ChatMessage("user", text)]


async def prepare(study: Study, cell: Cell, engine: RunningEngine, probe: Probe) -> Workload:
    """Find the prompts of a cell.

    Raises:
        MeasureError: The engine can count in no way, or the length cannot be reached within 1%.
    """
    target = cell.settings["prompt_tokens"]
    sample = salt(study.seed, "sample", 0) if cell.settings["salt"] else None

    async def count(text: str) -> tuple[int | None, str]:
        whole = message(text, sample)
        by_tokenizer = await engine.count_tokens(user_message(whole))
        if by_tokenizer is not None:
            return by_tokenizer, "tokenizer"
        return await probe(whole), "usage"

    template = await engine.count_tokens(user_message(""))
    texts = study.prompts.texts or (None,)
    prepared = []
    for text in texts:
        if target is None:
            tokens = await engine.count_tokens(user_message(message(text or "", sample)))
            prepared.append(Prepared(text or "", tokens, "tokenizer" if tokens is not None else "not counted"))
        else:
            prepared.append(await _fit(int(target), study.seed, text, count))
    return Workload(tuple(prepared), template)


async def _fit(
    target: int, seed: int, text: str | None, count: Callable[[str], Awaitable[tuple[int | None, str]]]
) -> Prepared:
    search = LengthSearch(target)
    how = ""
    while not search.done:
        tokens, how = await count(_body(text, search.units, seed))
        if tokens is None:
            raise MeasureError(
                "the engine tells no prompt lengths",
                why="it has no tokenizer address and its usage record is missing",
                remedy="use prompt files and leave prompt_tokens out",
            )
        search.feed(tokens)
    assert search.best is not None
    units, tokens = search.best
    if abs(tokens - target) > max(1, TOLERANCE * target):
        raise MeasureError(
            f"no prompt of {target} tokens could be made", why=f"the nearest has {tokens}",
            remedy="ask for a longer prompt, or for other prompt files",
        )  # fmt: skip
    return Prepared(_body(text, units, seed), tokens, how)


def _body(text: str | None, units: int, seed: int) -> str:
    return made_up_words(units, seed=seed) if text is None else stretch(text, units)
