"""Texts of the suite's tasks: question sets of the harbour office of Skerry Sound, one JSON Lines file a task.

Here: the files and reading them. Not here: lengths and reasons (core.plan.suite, docs/suite.md).
May import: zinc_kettle.core, formats.prompts.
"""

from __future__ import annotations

from pathlib import Path

from zinc_kettle.core.plan.traffic import Recorded
from zinc_kettle.formats.prompts import read_prompts

FOLDER = Path(__file__).parent


def task_texts(name: str) -> tuple[str, ...]:
    """The questions of a task, in their order.

    Raises:
        BadPromptFile: The installation is damaged.
    """
    found = read_prompts(FOLDER / f"{name}.jsonl")
    return tuple(one.prompt.messages[-1][1] for one in found if isinstance(one.prompt, Recorded))
