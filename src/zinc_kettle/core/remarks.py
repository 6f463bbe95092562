"""Remarks on answers: what a person marks them as, and what can be seen of one without understanding it.

None of these is a score: random weights ramble at full speed. They say when a speed belongs to an answer nobody wants.
"""

from __future__ import annotations

import re
import unicodedata
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from zinc_kettle.core.plan.study import Study
from zinc_kettle.core.record.timeline import Timeline
from zinc_kettle.core.run.decisions import Decision, Mark
from zinc_kettle.core.text import is_hidden

MARKS: dict[str, str] = {
    "cut short": "it ends in the middle",
    "rambling": "it goes on without saying more",
    "repeats itself": "the same words again and again",
    "ignored the ask": "it answers something else",
    "fine": "as it should be",
}
"""What a person may mark an answer as."""
LEAST_TIMES = 3
"""So often in a row the same words are no figure of speech."""
LEAST_WORDS = 6
"""And so many words of the end they must make up together."""
MOST_PERIOD = 60
"""Words of the longest passage whose repetition is looked for."""
OTHER_SHARE = 0.5
"""Share of letters of another script from which on an answer is in another script than its prompt."""
LEAST_LETTERS = 12


@dataclass(frozen=True, slots=True)
class Answer:
    """One answer of a cell, and what is said of it."""

    request_id: str
    text: str
    """Its end, as it is kept."""
    timeline: Timeline
    found: tuple[str, ...] = ()
    """What the tool sees of it."""
    marks: tuple[str, ...] = ()
    """What a person marked it as."""


def seen(
    text: str,
    *,
    finish: str | None,
    asked: int,
    got: int,
    scripts: frozenset[str] = frozenset(),
    natural: bool = True,
) -> list[str]:
    """What can be seen of an answer: nothing where it looks as it should.

    Args:
        text: Its end.
        finish: Why the engine stopped, in its own word.
        asked: Output tokens that were asked for.
        got: Output tokens there were.
        scripts: Scripts its prompt is written in; empty where that is not known.
        natural: It might have ended by itself; else it was made to go on to the length that was asked for, and it is
            nobody's fault that it is cut there or says the same again.
    """
    out = []
    if not text.strip():
        out.append("empty")
    if natural and (finish == "length" or (finish is None and got >= asked > 0)):
        out.append("cut by the limit")
    again = repetition(text) if natural else ""
    if again:
        out.append(f"repeats “{again}”")
    if any(is_hidden(char) and char not in "\n\t\r" for char in text):
        out.append("control characters")
    letters = Counter(script for char in text if (script := script_of(char)))
    strange = sum(count for script, count in letters.items() if script not in scripts)
    if scripts and letters.total() >= LEAST_LETTERS and strange > OTHER_SHARE * letters.total():
        out.append(f"in {letters.most_common(1)[0][0].lower()} letters, the prompt is not")
    return out


def repetition(text: str) -> str:
    """The passage an answer ends with again and again; empty where there is none."""
    words = re.findall(r"\S+", text)
    for period in range(1, min(MOST_PERIOD, len(words) // LEAST_TIMES) + 1):
        passage = words[-period:]
        times = 1
        while words[-period * (times + 1) : -period * times] == passage:
            times += 1
        if times >= LEAST_TIMES and period * times >= LEAST_WORDS:
            return " ".join(passage)[:40]
    return ""


def script_of(char: str) -> str:
    """The script of a letter, by its name in Unicode: `LATIN`, `CYRILLIC`, `CJK`; empty for what is no letter."""
    if not char.isalpha():
        return ""
    return unicodedata.name(char, "").split(" ")[0].split("-")[0]


def scripts_of(study: Study) -> frozenset[str]:
    """Scripts the prompts of a study are written in: those that make up a tenth of their letters or more."""
    texts: list[str] = [*study.prompts.texts, *(text for task in study.prompts.tasks.values() for text in task)]
    texts += [text for recorded in study.prompts.recorded for _, text in recorded.messages]
    letters = Counter(script for text in texts for char in text[:20_000] if (script := script_of(char)))
    least = 0.1 * letters.total()
    return frozenset(script for script, count in letters.items() if count >= least) or frozenset({"LATIN"})


def marks_of(decisions: Sequence[Decision], request_id: str) -> tuple[str, ...]:
    """What a person marked an answer as; a mark given twice is taken back."""
    given: dict[str, None] = {}
    for decision in decisions:
        if isinstance(decision, Mark) and decision.request == request_id:
            if decision.mark in given:
                del given[decision.mark]
            else:
                given[decision.mark] = None
    return tuple(given)


def answers_of(
    study: Study, decisions: Sequence[Decision], requests: Sequence[Timeline], scripts: frozenset[str] | None = None
) -> list[Answer]:
    """The measured answers of a repeat, in the order they were sent, with what is said of each.

    Args:
        study: The study.
        decisions: Of the run; marks are among them.
        requests: Of the repeat.
        scripts: Of its prompts, where they are known already.
    """
    known = scripts_of(study) if scripts is None else scripts
    return [
        Answer(
            t.request_id,
            t.text,
            t,
            tuple(
                seen(
                    t.text,
                    finish=t.finish,
                    asked=t.asked_tokens,
                    got=t.total_tokens,
                    scripts=known,
                    natural=study.prompts.answers == "natural",
                )
            ),
            marks_of(decisions, t.request_id),
        )
        for t in requests
        if t.role == "measured"
    ]
