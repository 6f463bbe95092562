"""The suite: named shapes of work, each with the lengths that stand for a real use; argued for in docs/suite.md."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Task:
    """One shape of work."""

    name: str
    prompt_tokens: int
    output_tokens: int
    why: str
    turns: int = 1
    """More than one: a conversation, and the prompt length is that of each turn's own message."""


_ALL = (
    Task("short-ask", 128, 96, "a question about the tide tables: the time is nearly all decode and fixed overhead"),
    Task("long-document", 1_536, 96, "a summary of the night radio log: prefill dominates"),
    Task("extraction", 640, 160, "data extracted from a vessel call: both matter equally"),
    Task("drafting", 192, 512, "the morning notice: long, even output; decode speed alone"),
    Task("chat-in-depth", 96, 96, "a conversation of six turns: what a growing context costs", turns=6),
    Task("code", 448, 320, "a change to a tide-table program: long input, long output, many symbols"),
)
SUITE: dict[str, Task] = {task.name: task for task in _ALL}
