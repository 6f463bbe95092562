"""Decoding one chunk of a streamed answer: the open protocol's fields, and the engine's own where its recipe says."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import msgspec

from zinc_kettle.wire.messages import USUAL_REPORTS, ReportedAt, Timings

COUNT = "output_tokens"
CLOCK = frozenset({"prompt_tokens", "prompt_ms", "output_tokens", "output_ms"})
"""What an account on the engine's own clock needs; less of it makes none."""
Number = int | float | None


class PromptDetails(msgspec.Struct, gc=False):
    """Part of a usage record."""

    cached_tokens: int | None = None


class Usage(msgspec.Struct, gc=False):
    """The protocol's usage record."""

    prompt_tokens: int | None = None
    completion_tokens: int | None = None
    prompt_tokens_details: PromptDetails | None = None


class Delta(msgspec.Struct, gc=False):
    """What a chunk adds; the three fields that are output, under the names engines use."""

    content: str | None = None
    reasoning_content: str | None = None
    reasoning: str | None = None
    tool_calls: list[Any] | None = None


def tool_text(calls: list[Any]) -> str:
    """What a chunk writes of calls of tools: their names and the pieces of their arguments."""
    functions = [call.get("function") for call in calls if isinstance(call, dict)]
    pieces = [f.get(name) for f in functions if isinstance(f, dict) for name in ("name", "arguments")]
    return "".join(piece for piece in pieces if isinstance(piece, str))


class Choice(msgspec.Struct, gc=False):
    """A choice of a chunk: of a chat with its delta, of a plain completion with its text."""

    index: int = 0
    delta: Delta | None = None
    text: str | None = None
    finish_reason: str | None = None


class Chunk(msgspec.Struct, gc=False):
    """A chunk of a streamed answer."""

    choices: list[Choice] = []
    usage: Usage | None = None
    error: Any = None


class Nested(msgspec.Struct, gc=False):
    """An object of the engine's own."""


Tree = dict[str, Any]
"""Names of nested objects; None where a number is."""


class Reader:
    """Decodes chunks of one kind of engine.

    Args:
        reports: Where its own account is, by the names in core.plan.recipe.REPORTED.
    """

    def __init__(self, reports: Mapping[str, ReportedAt]) -> None:
        self._found = dict(reports)
        tree: Tree = {}
        for found in reports.values():
            *path, last = found.at.split(".")
            at = tree
            for name in path:
                at = at.setdefault(name, {})
            at[last] = None
        self.decode: Callable[[bytes | memoryview], Any] = msgspec.json.Decoder(_struct("OwnChunk", tree, Chunk)).decode
        self._roots = tuple(tree)
        self._count = self._found[COUNT].at.split(".") if COUNT in self._found else None

    def own(self, chunk: Any) -> Any:
        """The chunk, where it carries anything of the engine's own account; else None."""
        for root in self._roots:
            if getattr(chunk, root) is not None:
                return chunk
        return None

    def count(self, own: Any) -> int | None:
        """Tokens written so far, by a chunk that carries them; None where the engine does not count by chunk."""
        if self._count is None:
            return None
        for name in self._count:
            own = getattr(own, name, None)
        return None if own is None else int(own)

    def account(self, own: Any) -> Timings | None:
        """The engine's own account of a request, by its last chunk that carried one; None where much is missing."""
        told = {name: number for name, found in self._found.items() if (number := _number(own, found)) is not None}
        if not told.keys() >= CLOCK:
            return None
        return Timings(
            cache_n=int(told.get("cached_tokens", 0)),
            prompt_n=int(told["prompt_tokens"]),
            prompt_ms=told["prompt_ms"],
            predicted_n=int(told["output_tokens"]),
            predicted_ms=told["output_ms"],
            draft_n=_whole(told.get("draft_tokens")),
            draft_accepted_n=_whole(told.get("draft_accepted")),
        )


def _number(own: Any, found: ReportedAt) -> float | None:
    for name in found.at.split("."):
        own = getattr(own, name, None)
    return None if own is None else float(own) * found.times


def _whole(value: float | None) -> int | None:
    return None if value is None else int(value)


def _struct(name: str, tree: Tree, base: type[msgspec.Struct]) -> type[msgspec.Struct]:
    """A structure with the fields of `base` and those of a tree; a field both have is looked into."""
    known: dict[str, type[msgspec.Struct]] = {"usage": Usage, "prompt_tokens_details": PromptDetails}
    fields: list[tuple[str, Any, Any]] = []
    for field, below in tree.items():
        if below is None:
            fields.append((field, Number, None))
        else:
            base_of: type[msgspec.Struct] = known.get(field, Nested)
            nested = _struct(f"{name}_{field}", below, base_of)
            fields.append((field, nested | None, None))
    return msgspec.defstruct(name, fields, bases=(base,), gc=False)


USUAL = Reader(USUAL_REPORTS)
"""Of engines that name things as many do."""
