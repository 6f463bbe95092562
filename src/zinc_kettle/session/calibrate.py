"""Prompts of the length asked for, found by asking the engine itself to count."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass, replace

from zinc_kettle.core.plan.study import Cell, Study, shape_of, turns_of
from zinc_kettle.core.plan.traffic import Recorded, draw
from zinc_kettle.core.workload import TOLERANCE, LengthSearch, made_up_words, message, salt, stretch, with_earlier
from zinc_kettle.errors import MeasureError
from zinc_kettle.ports.engines import RunningEngine
from zinc_kettle.wire.messages import ChatMessage

Probe = Callable[[str], Awaitable[int | None]]
"""Sends a text with one output token and gives the prompt tokens the engine then reports."""
EARLIER_SEED = 500_000
"""Added to a study's seed: earlier text has other words than the prompt behind it."""
Count = Callable[[str], Awaitable[tuple[int | None, str]]]


@dataclass(frozen=True, slots=True)
class Prepared:
    """One prompt of the workload, as long as asked for with this engine's tokenizer."""

    body: str
    """The user's message; for recorded prompts the last of them."""
    tokens: int | None
    """Counted with a salt where one is used; None where the engine cannot count."""
    counted: str
    """`tokenizer`, `usage`, `interpolated` or `not counted`."""
    before: tuple[tuple[str, str], ...] = ()
    """Messages before it, as recorded: role and text."""
    output_tokens: int | None = None
    """Length of its answer where the workload says it for each."""
    earlier: str = ""
    """Text of the depth asked for, in front of the body and of its salt."""


@dataclass(frozen=True, slots=True)
class Workload:
    """Prompts of a cell, ready to be sent: one for each request in turn, or for each turn of each conversation."""

    prompts: tuple[Prepared, ...]
    template_tokens: int | None
    """Tokens the template and the salt's place take without any word."""
    recorded_turns: bool = False
    """True where each prompt carries the recorded turns before it, and the engine's own answers are not used."""
    conversations: tuple[int, ...] = ()
    """Recorded conversations: index of the first prompt of each."""


def user_message(text: str) -> list[ChatMessage]:
    """A conversation of one message."""
    return [ChatMessage("user", text)]


async def prepare(study: Study, cell: Cell, engine: RunningEngine, probe: Probe) -> Workload:
    """Find the prompts of a cell.

    Args:
        study: The study.
        cell: One of its cells.
        engine: Counts tokens, where it can.
        probe: Sends a request of one output token and gives its prompt length.

    Raises:
        MeasureError: The engine can count in no way, or the length cannot be reached within 1%.
    """
    study = replace(study, prompts=study.prompts.only(str(cell.settings["prompt"])))
    sample = salt(study.seed, "sample", 0) if cell.settings["salt"] else None

    async def count(text: str) -> tuple[int | None, str]:
        whole = message(text, sample)
        by_tokenizer = await engine.count_tokens(user_message(whole))
        if by_tokenizer is not None:
            return by_tokenizer, "tokenizer"
        return await probe(whole), "usage"

    template = await engine.count_tokens(user_message(""))
    if study.prompts.recorded:
        return _recorded(study, cell, template)
    prompts = await _bodies(study, cell, engine, count, sample)
    depth = cell.settings["depth"]
    if depth is not None:
        prompts = await _deep(prompts, int(depth), study.seed, count)
    outputs = _outputs(study, cell)
    if outputs is not None:
        prompts = [_with_output(prompts[i % len(prompts)], n) for i, n in enumerate(outputs)]
    return Workload(tuple(prompts), template)


def _outputs(study: Study, cell: Cell) -> list[int] | None:
    lengths = study.prompts.outputs
    return None if lengths is None else draw(lengths, cell.requests(study), seed=study.seed, what="outputs")


def _with_output(prepared: Prepared, tokens: int) -> Prepared:
    return replace(prepared, output_tokens=tokens)


async def _deep(prompts: Sequence[Prepared], depth: int, seed: int, count: Count) -> list[Prepared]:
    """The same prompts behind one earlier text of so many tokens, which is the same for all of them."""
    first = prompts[0]
    target = depth + (first.tokens or (await count(first.body))[0] or 0)
    found = await _fit(target, seed + EARLIER_SEED, None, lambda text: count(with_earlier(text, first.body, None)))
    more = depth + (found.tokens or target) - target
    return [replace(p, earlier=found.body, tokens=None if p.tokens is None else p.tokens + more) for p in prompts]


def _recorded(study: Study, cell: Cell, template: int | None) -> Workload:
    """Recorded prompts go out as they are; of a conversation each turn carries what was recorded before it."""
    outputs = _outputs(study, cell)
    whole = shape_of(study, cell) == "conversation"
    prompts: list[Prepared] = []
    starts = []
    for entry in study.prompts.recorded:
        starts.append(len(prompts))
        asks = [i for i, (role, _) in enumerate(entry.messages) if role == "user"]
        for i in asks if whole else asks[-1:]:
            tokens = outputs[len(prompts) % len(outputs)] if outputs else _answer_tokens(entry, i, asks)
            prompts.append(Prepared(entry.messages[i][1], None, "not counted", entry.messages[:i], tokens))
    return Workload(tuple(prompts), template, recorded_turns=True, conversations=tuple(starts))


def _answer_tokens(entry: Recorded, at: int, asks: Sequence[int]) -> int | None:
    return entry.output_tokens if at == asks[-1] else None


async def _bodies(study: Study, cell: Cell, engine: RunningEngine, count: Count, sample: str | None) -> list[Prepared]:
    target, task = cell.settings["prompt_tokens"], cell.settings["task"]
    texts: Sequence[str | None] = study.prompts.texts or study.prompts.tasks.get(str(task), ()) or (None,)
    if study.prompts.lengths is not None:
        targets = draw(study.prompts.lengths, cell.requests(study), seed=study.seed, what="prompts")
        return await _drawn(targets, study.seed, texts, count)
    if target is None:
        out = []
        for text in texts:
            tokens = await engine.count_tokens(user_message(message(text or "", sample)))
            out.append(Prepared(text or "", tokens, "tokenizer" if tokens is not None else "not counted"))
        return out
    if shape_of(study, cell) == "conversation" and texts == (None,):
        # Every turn asks something else: the same words again would be found in the engine's cache.
        return [await _fit(int(target), study.seed + 1_000 * i, None, count) for i in range(turns_of(study, cell))]
    return [await _fit(int(target), study.seed, text, count) for text in texts]


async def _drawn(targets: Sequence[int], seed: int, texts: Sequence[str | None], count: Count) -> list[Prepared]:
    """Prompts of drawn lengths: exact where the engine has a tokenizer, else along a line through two counted ones."""
    low, high = await _fit(min(targets), seed, texts[0], count), await _fit(max(targets), seed, texts[0], count)
    exact = low.counted == "tokenizer"
    line = _Line.through(low, high, seed, texts[0])
    known: dict[tuple[int, str | None], Prepared] = {}
    out = []
    for i, target in enumerate(targets):
        text = texts[i % len(texts)]
        if (target, text) not in known:
            known[target, text] = (
                await _fit(target, seed, text, count, guess=line.units(target))
                if exact
                else Prepared(_body(text, line.units(target), seed), None, "interpolated")
            )
        out.append(known[target, text])
    return out


@dataclass(frozen=True)
class _Line:
    """Units of a body over its tokens."""

    tokens: int
    units_at: int
    slope: float

    @classmethod
    def through(cls, low: Prepared, high: Prepared, seed: int, text: str | None) -> _Line:
        """The line through two counted prompts."""
        units = [len(p.body.split()) if text is None else len(p.body) for p in (low, high)]
        step = (high.tokens or 0) - (low.tokens or 0)
        return cls(low.tokens or 0, units[0], (units[1] - units[0]) / step if step else 1.0)

    def units(self, tokens: int) -> int:
        """Units for so many tokens."""
        return max(0, round(self.units_at + (tokens - self.tokens) * self.slope))


async def _fit(target: int, seed: int, text: str | None, count: Count, *, guess: int | None = None) -> Prepared:
    search = LengthSearch(target)
    if guess is not None:
        search.units = guess
    how = ""
    while not search.done:
        tokens, how = await count(_body(text, search.units, seed))
        if tokens is None:
            raise MeasureError(
                "the engine does not report prompt lengths",
                why="it has no tokenizer address and sends no usage record",
                remedy="use prompt files and remove prompt_tokens",
            )
        search.feed(tokens)
    assert search.best is not None
    units, tokens = search.best
    if abs(tokens - target) > max(1, TOLERANCE * target):
        raise MeasureError(
            f"no prompt of {target} tokens could be made",
            why=f"the closest one has {tokens}",
            remedy="use a longer prompt or other prompt files",
        )
    return Prepared(_body(text, units, seed), tokens, how)


def _body(text: str | None, units: int, seed: int) -> str:
    return made_up_words(units, seed=seed) if text is None else stretch(text, units)
