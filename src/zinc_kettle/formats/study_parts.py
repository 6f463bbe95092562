"""From checked sections of a study file to the parts of a plan."""

from __future__ import annotations

from zinc_kettle.core import load, plan
from zinc_kettle.formats import sections
from zinc_kettle.formats.sections import StudyFile
from zinc_kettle.formats.suite import task_texts


def most_tokens(study: plan.Study, cell: plan.Cell) -> tuple[int | None, int]:
    """The longest prompt, None where it is not known before, and the longest answer."""
    lengths, outputs = study.prompts.lengths, study.prompts.outputs
    given = cell.settings["prompt_tokens"]
    prompt = lengths.most if lengths is not None else (None if given is None else int(given))
    output = outputs.most if outputs is not None else int(cell.settings["output_tokens"] or 0)
    if prompt is not None and plan.shape_of(study, cell) == "conversation":
        prompt += (plan.turns_of(study, cell) - 1) * (prompt + output)
    return prompt, output


def tasks_of(m: StudyFile) -> dict[str, tuple[str, ...]]:
    """Texts of the tasks a study names; they are part of it, so that a later suite leaves it as it was."""
    named = [*m.vary.get("task", []), *([m.hold["task"]] if "task" in m.hold else [])]
    return {str(name): task_texts(str(name)) for name in named}


def repeats_of(m: sections.RepeatsSection) -> plan.Repeats:
    """How often, with the floor and the ceiling that are meant where none is written."""
    floor = m.count or (sections.UNTIL_FLOOR if m.until_percent is not None else 3)
    ceiling = 0 if m.until_percent is None else (m.ceiling or 5 * floor)
    return plan.Repeats(**{**m.model_dump(), "count": floor, "ceiling": ceiling})


def lengths_of(m: sections.LengthsSection | None) -> load.Lengths | None:
    """A distribution as the core knows it."""
    if m is None:
        return None
    table = tuple((int(tokens), float(weight)) for tokens, weight in m.table)
    low, high = m.low or 1, m.high or load.MAX_TOKENS_DRAWN
    return load.Lengths(m.kind, m.tokens or 0, low, high, m.median or 0.0, m.sigma or 0.0, table)
