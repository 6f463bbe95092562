"""The answer to what a study asks, in one sentence as a person would say it."""

from __future__ import annotations

from zinc_kettle.core.compare.choice import choice
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.plan.study import Study, shape_of
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.results import StudyResults
from zinc_kettle.present.capacity import capacity_answer
from zinc_kettle.present.changes import change_text, loads_text, suite_text
from zinc_kettle.present.decided import choice_text

FIRST_MEASURE = {"open": "latency_p95", "burst": "ttft_p95", "batch": "batch_wall", "conversation": "ttft"}
"""What a study of this shape of load is first read by; the others by decode."""


def main_measure(study: Study) -> str:
    """The measure a study is first read by: what its plan decides by, else speed, or the wait where many ask at once or
    a conversation grows."""
    if study.decide.by in MEASURES:
        return study.decide.by
    if study.capacity.factor:
        return "throughput"
    if study.conditions == ("prompt_tokens",) and not study.ranked:
        return "ttft"  # how long a prompt takes to be read
    some = study.cells if "task" in study.vary else study.cells[:1]
    shapes = {shape_of(study, cell) for cell in some}
    shape = shapes.pop() if len(shapes) == 1 else study.load.shape
    return FIRST_MEASURE.get(shape, "decode")


def answer(results: StudyResults, name: str | None = None, *, brief: bool = False) -> str:
    """The answer so far in one sentence, by a measure; by the study's own where none is named. No full stop.

    Args:
        results: The run.
        name: Of the measure.
        brief: Without what would settle what is open.
    """
    study, own = results.study, name is None or name == main_measure(results.study)
    name = name or main_measure(study)
    if study.capacity.factor and results.done_repeats:
        return capacity_answer(results)
    measured = [c for c in results.cells if c.done and isinstance(c.value(name), Value)]
    if not measured:
        return f"no cell has a figure for {MEASURES[name].title}" if results.done_repeats else "nothing measured yet"
    if own and not study.ranked:
        kept = loads_text(results)
        if kept:
            return kept
        if [n for n in study.conditions if len(study.vary[n]) > 1] == ["task"]:
            return suite_text(measured)
    found = choice(results, name)
    if found.best is None and not found.unfit:
        return change_text(results, measured, name)
    return choice_text(results, found, brief=brief)
