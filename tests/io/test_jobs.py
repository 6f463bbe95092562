"""The jobs of docs/jobs.md: each plan is one the tool takes, and the page says what its record answers."""

from __future__ import annotations

import re
import shutil
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from tests.build import KNOWN
from zinc_kettle.config import DEMO_FILES, SAMPLE_STORE
from zinc_kettle.core.compare.choice import choice
from zinc_kettle.core.compare.loads import load_verdicts
from zinc_kettle.core.results import StudyResults
from zinc_kettle.core.text import capitalised
from zinc_kettle.formats.study import read_study
from zinc_kettle.present.answer import answer, main_measure
from zinc_kettle.store.reading import open_run, shelf
from zinc_kettle.store.store import KettleStore

PAGE, RECORDED = Path("docs/jobs.md"), Path("tests/data/jobs.db")
JOB = re.compile(
    r"^## \d+\. .*?\n\n\*(?P<question>.+?)\* \(\[(?P<name>[a-z-]+)\]\((?P<file>[^)]+)\)\)\n\n(?P<said>(?:>.*\n\n)+)",
    re.M,
)
JOBS = {found["name"]: found for found in JOB.finditer(PAGE.read_text(encoding="utf-8"))}
DECIDED: dict[str, Any] = {
    "two-cards": {"rig": "cormorant"},
    "streams": [1],
    "two-engines": {"engine": "built-in"},
    "worth-the-price": {"rig": "gannet"},
    "which-sizes": {"model": "brine-1b"},
    "experts": {"experts_in_main": False},
    "fewer-bits": {"quantization": "Q4_K"},
    "threads": {"threads": 8},
    "the-older-one": {"rig": "petrel"},
    "from-fastest-to-slowest": {"rig": "cormorant"},
    "one-or-four": None,
    "one-score": {"rig": "cormorant"},
    "small-card": None,
    "all-at-once": {"cache_precision": "q8_0"},
    "last-weeks-settings": {"threads": 2, "flash_attention": False},
    "three-questions": {"model": "brine-1b"},
}
"""What each run decides: the levels of the best, or up to which load the promise is kept."""


@pytest.fixture(scope="module")
def runs(tmp_path_factory: pytest.TempPathFactory) -> dict[str, StudyResults]:
    """The recorded runs, and those of the demo, by name."""
    folder, out = tmp_path_factory.mktemp("jobs"), {}
    for source in (DEMO_FILES / SAMPLE_STORE, RECORDED):
        copy = folder / source.name
        shutil.copyfile(source, copy)
        with closing(KettleStore(copy)) as store:
            for row in shelf(store):
                results = open_run(store, row.runs[0].run_id)
                _ = [cell.summary for cell in results.cells]
                out[results.study.name] = results
    return out


def test_there_are_all() -> None:
    """Each with its plan and its answer."""
    assert len(JOBS) == 16 and set(DECIDED) == set(JOBS)


@pytest.mark.parametrize("name", JOBS)
def test_a_plan_and_the_sentence_that_answers_it(runs: dict[str, StudyResults], name: str) -> None:
    """The plan is as it was run; what is decided, and the page's sentences, follow from the record."""
    job, results = JOBS[name], runs[name]
    plan, _ = read_study(PAGE.parent / job["file"], KNOWN)
    assert (plan.question, plan.vary, plan.decide) == (job["question"], results.study.vary, results.study.decide)
    found = choice(results, main_measure(plan))
    loads = [verdict.kept for verdict in load_verdicts(results).values()]
    assert (loads or (None if found.best is None else found.best.levels)) == DECIDED[name]
    for line in job["said"].strip().split("\n\n"):
        by = re.match(r"> (?:By `(?P<by>\w+)`: )?(?P<said>.*)\.$", line)
        assert by is not None and by["said"] == capitalised(answer(results, by["by"]))
