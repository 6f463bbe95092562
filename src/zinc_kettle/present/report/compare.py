"""The sections of a duel and of a lineup."""

from __future__ import annotations

from zinc_kettle.core.compare.duel import Duel
from zinc_kettle.core.compare.lineup import Lineup
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.preferences import Pace
from zinc_kettle.present.charts.duel import duel_chart
from zinc_kettle.present.charts.lineup import lineup_chart
from zinc_kettle.present.duel import (
    caution_text,
    differs_line,
    duel_rows,
    effort_line,
    pairs_line,
    repaid_line,
    side_title,
    verdict,
)
from zinc_kettle.present.lineup import heads, lineup_rows, money_line
from zinc_kettle.present.lineup import verdict as lineup_verdict
from zinc_kettle.present.report.document import (
    Block,
    Grid,
    Paragraph,
    Picture,
    Span,
    bullets,
    lead_paragraph,
    paragraph,
    sentence,
)

DUEL_CERTAINTY = (
    "The ratio of B to A has a 95% interval of Student's, on logarithms, over the blocks both share; where they were "
    "not measured in turn it is Welch's, widened by how each run wandered. The verdicts on all measures are one family "
    "(Holm): that any of them claims a difference where there is none has a chance of 5% at most."
)
LINEUP_CERTAINTY = (
    "Those in one bracket show no clear difference from each other; all pairs are held against each other at once, at "
    "5% for the whole lineup."
)
DUEL_SECTIONS = (("answer", "Verdict"), ("measures", "Measure by measure"), ("differs", "What differs"))
LINEUP_SECTIONS = (("answer", "Answer"), ("ranking", "From best to worst"))


def duel_blocks(found: Duel, measure: str) -> dict[str, list[Block]]:
    """The sections of a duel, by name."""
    smallest = found.a.results.study.repeats.smallest_percent / 100
    beside = [line for line in (effort_line(found, measure, smallest=smallest), repaid_line(found)) if line]
    both = (("A", found.a), ("B", found.b))
    sides: list[Block] = [Paragraph((Span(f"{name} ", "strong"), Span(side_title(side)))) for name, side in both]
    said: list[Block] = [paragraph(sentence(f"{verdict(found, measure)}; {pairs_line(found)}"), "strong")]
    differs: list[Block] = [paragraph(sentence(differs_line(found)))]
    if found.cautions:
        differs.append(bullets([f"▲ {code}: {caution_text(found, code)}" for code in found.cautions]))
    table = Grid(("measure", "A", "B", "B over A (95%)", "verdict"), tuple(duel_rows(found)))
    return {
        "answer": [*said, *sides, *(paragraph(sentence(line)) for line in beside), paragraph(DUEL_CERTAINTY)],
        "measures": [Picture(duel_chart(found, measure), "duel"), table],
        "differs": differs,
    }


def lineup_blocks(found: Lineup, pace: Pace) -> dict[str, list[Block]]:
    """The sections of a lineup, by name."""
    money = money_line(found, pace)
    rows = tuple(tuple(row) for row in lineup_rows(found))
    return {
        "answer": [lead_paragraph(sentence(lineup_verdict(found))), paragraph(LINEUP_CERTAINTY)],
        "ranking": [
            Picture(lineup_chart(found, pace), "lineup"),
            Grid(heads(found), rows),
            *([paragraph(sentence(money))] if money else []),
        ],
    }


def lineup_title(found: Lineup) -> str:
    """The heading of a lineup."""
    return f"Lineup in {MEASURES[found.measure].title}"
