"""What is said beside a map: computed for a whole study at once, so that it can be done off the event loop."""

from __future__ import annotations

from dataclasses import dataclass, field

from zinc_kettle.core.compare.cells import Ranking
from zinc_kettle.core.compare.choice import marked
from zinc_kettle.core.results import StudyResults
from zinc_kettle.core.text import capitalised
from zinc_kettle.present.answer import answer
from zinc_kettle.present.capacity import headline
from zinc_kettle.present.charts.subtitle import measure_line
from zinc_kettle.present.findings import Finding, findings


@dataclass(frozen=True)
class Digest:
    """The answer, the findings and the ranking of a study by one measure."""

    measure: str = ""
    line: str = ""
    """What its figures are."""
    answer: str = ""
    findings: tuple[Finding, ...] = ()
    rank: Ranking = field(default_factory=Ranking)
    limit: tuple[str, str, str] | None = None
    """Of a study that looks for the largest load: the number, what it counts, and its interval."""


def digest(results: StudyResults, measure: str) -> Digest:
    """All that is said of a study; takes a while where there are thousands of cells."""
    said = answer(results, measure)
    return Digest(
        measure,
        measure_line(results, measure),
        capitalised(said) + ".",
        tuple(findings(results, measure)),
        marked(results, measure),
        headline(results),
    )
