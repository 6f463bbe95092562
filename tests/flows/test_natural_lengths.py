"""Answers that end by themselves, with a ceiling: measured, shown and compared as what they are."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

from tests.build import RECIPES, decode_timeline, repeat, study
from tests.cli import kettle
from zinc_kettle.core.cautions.kinds import Setting
from zinc_kettle.core.plan.recipe import request_fields
from zinc_kettle.core.plan.study import Prompts, workload
from zinc_kettle.core.remarks import seen
from zinc_kettle.core.summary import summarise
from zinc_kettle.store.reading import open_run, shelf
from zinc_kettle.store.store import KettleStore

PLAN = """format = 1
name = "as-they-end"
question = "How fast are whole answers?"
[vary]
quantization = ["Q8_0", "Q4_K"]
[hold]
rig = "cormorant"
model = "brine-1b"
context = 512
prompt_tokens = 64
output_tokens = 96
[prompts]
answers = "natural"
[repeats]
count = 3
requests = 4
"""


def test_a_study_of_answers_that_end_by_themselves(tmp_path: Path) -> None:
    """Lengths differ and are a measure, none is beyond the ceiling, nothing is doubted for being short; a duel leaves
    out what unlike lengths make meaningless."""
    file = tmp_path / "as-they-end.study.toml"
    file.write_text(PLAN)
    assert kettle(tmp_path, "run", str(file)).returncode == 0
    store = KettleStore(tmp_path / "kettle.db")
    results = open_run(store, shelf(store)[0].runs[0].run_id)
    requests = [t for cell in results.cells for r in cell.repeats for t in r.measured]
    lengths = {t.total_tokens for t in requests}
    assert len(lengths) > 3 and max(lengths) <= 96 and {t.finish for t in requests} == {"stop", "length"}
    codes = {c.code for cell in results.cells for c in cell.cautions}
    assert not codes & {"ended-early", "unequal-length"}
    told = kettle(tmp_path, "duel", "as-they-end@quantization=Q8_0", "as-they-end@quantization=Q4_K", "--json").stdout
    measures = json.loads(told)["measures"].keys()
    assert "decode" in measures and "output_tokens" in measures and "latency" not in measures
    assert "answer length" in kettle(tmp_path, "show", "as-they-end", "--columns", "output_tokens,decode").stdout


def test_what_the_word_natural_changes() -> None:
    """The fields that make an answer go on are left out, the work is another, and a short answer is no surprise."""
    recipe, exact = RECIPES["built-in"], study()
    natural = replace(exact, prompts=Prompts(answers="natural"))
    assert "ignore_eos" in request_fields(recipe, {}) and "ignore_eos" not in request_fields(recipe, {}, exact=False)
    assert workload(exact, exact.cells[0]) != workload(natural, natural.cells[0])
    short = [repeat(decode_timeline(50.0, tokens=11, asked_tokens=64), block=i) for i in range(3)]
    codes = [{c.code for c in summarise(short, (), Setting(natural=on)).cautions} for on in (False, True)]
    assert "ended-early" in codes[0] and "ended-early" not in codes[1]


def test_what_the_tool_caused_is_no_remark() -> None:
    """Made to go on, an answer is cut and says the same again; one that might have ended is told of both."""
    text, of = "tide log " * 12, {"finish": "length", "asked": 24, "got": 24}
    assert seen(text, **of, natural=False) == []  # type: ignore[arg-type]
    assert len(seen(text, **of, natural=True)) == 2  # type: ignore[arg-type]
