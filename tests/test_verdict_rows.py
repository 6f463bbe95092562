"""No verdict without a measured rate of its errors: every code that states one has a table in the documents."""

from __future__ import annotations

import re
from pathlib import Path
from typing import get_args

from zinc_kettle.core.compare.duel import Verdict
from zinc_kettle.core.compare.gate import GateVerdict
from zinc_kettle.core.compare.lineup import Per
from zinc_kettle.core.search.capacity import End
from zinc_kettle.present.findings import FindingCode

CELL = ("claims.md", "Coverage of the interval of one cell")
RATIO = ("claims.md", "The 95% interval of a ratio holds the true ratio")
EQUAL = ("claims.md", "Two equal cells are told apart")
BEST = ("claims.md", "Of six equal cells at least one is put below the best")
FACTOR = ("claims.md", "A factor of six levels that does nothing is said to do something")
UNPAIRED = ("verdicts.md", "Cells of two runs, or of launches that ran one after the other")
CAPACITY = ("verdicts.md", "The largest load that keeps a promise")
BENT = ("verdicts.md", "A line that bends, and one that does not")
ROWS: dict[str, dict[str, tuple[str, str] | None]] = {
    "duel": {"a": EQUAL, "b": EQUAL, "open": RATIO, "range": None, "none": None},
    "gate": {
        "worse": ("answers.md", "gate at 3%, equal builds are not stopped"),
        "fine": ("answers.md", "gate at 3%, builds 8% slower are not let through"),
        "open": None,
        "failed": ("verdicts.md", "What fails at a gate"),
    },
    "capacity": {
        "narrow": CAPACITY,
        "neighbours": CAPACITY,
        "": None,
        "steps": None,
        "most": None,
        "least": None,
        "in-one-piece": None,
    },
    "lineup": {
        "": BEST,
        "price": BEST,
        "watt": ("verdicts.md", "By the watt"),
        "cost": ("verdicts.md", "By the watt"),
        "device": BEST,
        "score": ("answers.md", "score of two equal rigs, each in a run of its own"),
    },
    "finding": {
        "step-alike": FACTOR,
        "step-unclear": FACTOR,
        "step-depends": FACTOR,
        "step-mixed": FACTOR,
        "step": FACTOR,
        "prefill-slope": BENT,
        "by-launch": UNPAIRED,
        "time": ("fit.md", "Where the time goes"),
        "cell-failed": None,
        "decided": ("answers.md", "best of three rigs at two lengths of the prompt, all equal"),
        "busy-before": None,
        "different-tokenizer": None,
        "caution": None,
    },
}
"""Where the rate of each verdict stands: a document, and a heading or a row of a table; None claims nothing."""
BESIDES = [
    CELL,
    ("verdicts.md", "A frontier and its knee"),
    ("verdicts.md", "Prompt by prompt, pair by pair"),
    ("answers.md", "*not more than 3% behind*, of one that is 4% behind"),
    ("answers.md", "a bound at the very speed of three equal rigs"),
    ("answers.md", "*rises* or *falls* along two levels that are alike"),
    ("answers.md", "*the promise is kept up to* 8 streams, its very limit"),
    ("answers.md", "streams on gannet, true limit 41"),
    ("answers.md", "streams on gannet, true limit 10"),
    ("verdicts.md", "A cell with a slow mode"),
    ("verdicts.md", "Cells that share a rig, or a launch"),
    ("verdicts.md", "Two runs, with earlier runs of the study"),
    ("claims.md", "Percentiles over requests"),
]
"""Of what is claimed without a code."""


def test_every_verdict_has_its_row() -> None:
    """A code that is added needs a table that says how often it is wrong, or the word that it claims nothing."""
    codes = {"duel": Verdict, "gate": GateVerdict, "capacity": End, "lineup": Per, "finding": FindingCode}
    assert {name: set(get_args(kind)) for name, kind in codes.items()} == {n: set(rows) for n, rows in ROWS.items()}
    wanted = {row for rows in ROWS.values() for row in rows.values() if row is not None} | set(BESIDES)
    docs = {name: Path("docs", name).read_text(encoding="utf-8") for name, _ in wanted}
    missing = [
        row
        for row in wanted
        if not re.search(rf"^(##+ {re.escape(row[1])}$|. {re.escape(row[1])} )", docs[row[0]], re.MULTILINE)
    ]
    assert not missing, missing
