"""A duel in words: one sentence of verdict, what differs, what must be said with it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from zinc_kettle.core.compare.duel import CautionCode, Duel, MeasureComparison, PairContest, Rung, effort, repaid
from zinc_kettle.core.compare.sides import Difference, Side, compared_by
from zinc_kettle.core.compare.worked import Worked
from zinc_kettle.core.measures import MAP_MEASURES, MEASURES
from zinc_kettle.core.record.value import Value
from zinc_kettle.core.stats import Interval
from zinc_kettle.core.units import digits, duration, percent, plural, with_unit
from zinc_kettle.present.ratio_words import listed
from zinc_kettle.present.values import interval_json, rounded

WORDS = {
    "tokens/s": ("faster", "slower", "fast"),
    "chars/s": ("faster", "slower", "fast"),
    "requests/s": ("faster", "slower", "fast"),
    "s": ("longer", "shorter", "long"),
    "bytes": ("larger", "smaller", "large"),
}
"""More, less and much of a measure, by its unit."""
VERDICTS = {
    "a": "A is better",
    "b": "B is better",
    "open": "no clear difference",
    "range": "too few repeats",
    "none": "–",
}
STEP_VERDICTS = {**VERDICTS, "a": "worse", "b": "better"}
"""Of a step in a ladder, whose sides have other letters at each step."""
CAUTIONS: dict[str, str] = {
    "two-changes": "More than one thing differs, so the difference is not the doing of one of them.",
    "different-workload": "Some cells have no counterpart that did the same work, and are left out.",
    "different-tokenizer": "They cut text into other tokens: compare characters per second.",
    "different-definitions": "Their figures follow different versions of the definitions.",
    "unpaired": "They were not measured in turn: what the machine did meanwhile is part of the difference.",
}

NO_EARLIER = (
    "How far two runs lie apart by chance is not known, and not in the bounds: there are fewer than two earlier runs "
    "of the study with the same build."
)


def run_title(side: Side) -> str:
    """The study and the run of a side."""
    run = side.results.run
    return f"{run.place}{side.results.study.name}" + (f":{run.number}" if run.number else "")


def levels_title(side: Side) -> str:
    """The levels of a side; empty for a whole run."""
    return ", ".join(side.results.study.factors[n].says(v) for n, v in side.levels.items())


def side_title(side: Side) -> str:
    """A side by its study, run and levels."""
    return f"{run_title(side)} {levels_title(side)}".rstrip()


def of_one_run(sides: Sequence[Side]) -> bool:
    """True where sides differ by their levels alone."""
    return all(side.levels and side.results is sides[0].results for side in sides)


def rung_title(side: Side, sides: Sequence[Side]) -> str:
    """A side of a ladder: by its levels alone where that is enough."""
    return levels_title(side) if of_one_run(sides) else side_title(side)


def verdict(found: Duel, measure: str, *, step: bool = False) -> str:
    """What came of one measure, in a sentence; no full stop.

    Args:
        found: The duel.
        measure: The one asked about.
        step: It is a step of a ladder, whose sides have other letters at each step: none is named.
    """
    contest = found.contest(measure)
    if not found.alignment.pairs:
        reasons = {u.reason for u in found.alignment.without}
        return f"cannot be compared: {'; '.join(sorted(reasons)) or 'there is nothing on one of the sides'}"
    if all(pair.a is pair.b for pair in found.alignment.pairs):
        return "the same cells as before" if step else "A and B are the same cells"
    title = MEASURES[measure].title
    if measure in found.unlike:
        return f"{title} says nothing here: the work differs in {_compared(found)}"
    if contest is None:
        return f"{title} is not known of {_without(found, measure)}"
    if contest.ratio is None:
        return f"too early to tell: a comparison of {title} needs three repeats of both sides"
    if contest.verdict == "range":
        low, high = _percent(contest.ratio.low), _percent(contest.ratio.high)
        return f"too few repeats for a claim; seen in {title}: {low} to {high}"
    if contest.verdict == "open":
        return f"no clear difference in {title}{_ruled_out(contest.ruled_out)}"
    return _said(contest, "before") if step else "B's " + _said(contest, "A's")


def _without(found: Duel, measure: str) -> str:
    """The side that has no figure, and why."""
    for name, cells in zip("AB", found.alignment.cells, strict=True):
        missing = next((v.reason for c in cells if not isinstance(v := c.value(measure), Value)), "")
        if missing:
            return f"{name}: {missing}"
    return "both sides at once"


def _compared(found: Duel) -> str:
    return " and ".join(name.replace("_", " ") for name in sorted(compared_by((found.a, found.b))))


def unlike_line(found: Duel) -> str:
    """Which measures are left out because the work differs in what is compared; empty where none are."""
    if not found.unlike:
        return ""
    named = [MEASURES[name].title for name in MAP_MEASURES if name in found.unlike]
    if not named:
        return ""
    return f"the work differs in {_compared(found)}: {listed(named)} {'is' if len(named) == 1 else 'are'} left out"


def _ruled_out(share: float | None) -> str:
    """How large the difference may still be."""
    if share is None:
        return ""
    if share > 1:
        return f"; not even a factor of {digits(1 + share, significant=2)} is ruled out"
    return f"; a difference over {percent(share)} is ruled out"


def _said(contest: MeasureComparison, than: str) -> str:
    """`decode is 5.1% faster, between 3.2 and 7.0%`: how B stands to A; no full stop."""
    ratio, measure = contest.ratio, MEASURES[contest.measure]
    assert ratio is not None
    up, down, as_much = WORDS.get(measure.unit, ("higher", "lower", "high"))
    if not 0.5 <= ratio.value <= 2:
        low, high = digits(ratio.low, significant=2), digits(ratio.high, significant=2)
        times = digits(ratio.value, significant=2)
        return f"{measure.title} is {times} times as {as_much} as {than}, between {low} and {high}"
    low, high = (digits(100 * v, significant=2) for v in sorted((abs(ratio.low - 1), abs(ratio.high - 1))))
    by = digits(100 * abs(ratio.value - 1), significant=2)
    return f"{measure.title} is {by}% {up if ratio.value > 1 else down}, between {low} and {high}%"


def _percent(ratio: float) -> str:
    return f"{'+' if ratio > 1 else ''}{percent(ratio - 1)}"


def difference_line(difference: Difference) -> str:
    """One thing that is not the same: `threads 1 → 2`."""
    return f"{difference.name.replace('_', ' ')} {difference.a} → {difference.b}"


def worked_line(worked: Worked) -> str:
    """When a cell that failed was measured last, and what changed since; no full stop."""
    said = "; ".join(map(difference_line, worked.changed))
    changed = f"changed since then: {said}" if said else "nothing that is known has changed since then"
    return f"last measured in {worked.results.study.name}:{worked.results.run.number}; {changed}"


def effort_line(found: Duel, measure: str, *, smallest: float) -> str:
    """What would settle a measure that is open; empty where nothing is."""
    more = effort(found, measure, smallest=smallest)
    if more is None:
        return ""
    takes = "" if more.seconds is None else f" ({duration(more.seconds)})"
    return f"about {more.repeats:,} more repeats of each{takes} would tell a difference of {percent(more.share)}"


def repaid_line(found: Duel) -> str:
    """`B loads 2.1 s longer and writes faster: that is repaid after 140 tokens`; empty where it is not so."""
    known = repaid(found)
    if known is None:
        return ""
    longer, tokens = with_unit(known.load_s, "s"), digits(known.tokens, significant=2)
    return f"{known.side.upper()} loads {longer} longer and writes faster: that is repaid after {tokens} tokens"


def duel_rows(found: Duel) -> list[tuple[str, str, str, str, str]]:
    """Measure, A, B, B over A with its interval, and what that says."""
    out = []
    for contest in found.contests:
        unit = MEASURES[contest.measure].unit
        a, b = ("–" if v is None else with_unit(v, unit) for v in (contest.a, contest.b))
        out.append((MEASURES[contest.measure].title, a, b, ratio_text(contest.ratio), VERDICTS[contest.verdict]))
    return out


def ratio_text(ratio: Interval | None) -> str:
    """`1.052 (1.032–1.070)`; a dash where there is none."""
    return "–" if ratio is None else f"{ratio.value:.3f} ({ratio.low:.3f}–{ratio.high:.3f})"


def caution_text(found: Duel, code: CautionCode) -> str:
    """What a caution says of this duel."""
    if code != "unpaired" or found.a.results is found.b.results:
        return CAUTIONS[code]
    if found.earlier_runs:
        return (
            f"{CAUTIONS[code]} The bounds allow for how far {found.earlier_runs} earlier runs of the study lay apart."
        )
    return f"{CAUTIONS[code]} {NO_EARLIER}"


def pairs_line(found: Duel) -> str:
    """`4 pairs of cells, block by block`."""
    return f"{plural(len(found.alignment.pairs), 'pair')} of cells, {'block by block' if found.paired else 'unpaired'}"


def differences_line(found: Duel) -> str:
    """What differs in all pairs, in a few words."""
    if not found.alignment.pairs:
        return "no cell of one side has a counterpart on the other"
    return ", ".join(difference_line(d) for d in found.alignment.differences) or "nothing that is known"


def differs_line(found: Duel) -> str:
    """What differs in all pairs; no full stop."""
    clean = " (the clean case: exactly one thing)" if len(found.alignment.differences) == 1 else ""
    unlike = unlike_line(found)
    return differences_line(found) + clean + (f"; {unlike}" if unlike else "")


def ladder_json(rungs: Sequence[Rung], measure: str) -> list[dict[str, Any]]:
    """A ladder: for each step what it is to the one before, and to the first."""
    return [{"step": duel_json(r.step, measure), "whole": duel_json(r.whole, measure)} for r in rungs]


def ladder_sum(rungs: Sequence[Rung], measure: str) -> str:
    """Whether the steps multiply to the whole: `steps multiply to 2.11, the last over the first is 2.11`."""
    steps = [c.ratio.value for r in rungs if (c := r.step.contest(measure)) is not None and c.ratio is not None]
    last = rungs[-1].whole.contest(measure) if rungs else None
    if len(steps) != len(rungs) or last is None or last.ratio is None:
        return ""
    return f"the steps multiply to {digits(math.prod(steps))}, the last over the first is {digits(last.ratio.value)}"


def prompts_json(rows: Sequence[PairContest]) -> list[dict[str, Any]]:
    """Each prompt of each pair."""
    return [
        {
            "request": row.place + 1,
            "cell": row.pair.a.title,
            "a": rounded(row.a),
            "b": rounded(row.b),
            "ratio": rounded(row.ratio.value),
            "low": rounded(row.ratio.low),
            "high": rounded(row.ratio.high),
            "n": row.ratio.n,
            "verdict": row.verdict,
        }
        for row in rows
    ]


def duel_json(found: Duel, measure: str) -> dict[str, Any]:
    """A duel as one JSON object."""
    return {
        "a": side_title(found.a),
        "b": side_title(found.b),
        "paired": found.paired,
        "earlier_runs": found.earlier_runs,
        "pairs": len(found.alignment.pairs),
        "without": [u.reason for u in found.alignment.without],
        "differences": [{"kind": d.kind, "name": d.name, "a": d.a, "b": d.b} for d in found.alignment.differences],
        "cautions": list(found.cautions),
        "measure": measure,
        "verdict": verdict(found, measure),
        "measures": {c.measure: _contest_json(c) for c in found.contests},
    }


def _contest_json(contest: MeasureComparison) -> dict[str, Any]:
    ratio = contest.ratio
    return {
        "a": None if contest.a is None else rounded(contest.a),
        "b": None if contest.b is None else rounded(contest.b),
        "unit": MEASURES[contest.measure].unit,
        "ratio": None if ratio is None else interval_json(ratio),
        "verdict": contest.verdict,
        "ruled_out": None if contest.ruled_out is None else rounded(contest.ruled_out),
    }
