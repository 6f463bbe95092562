"""A duel in words: one sentence of verdict, what differs, what must be said with it."""

from __future__ import annotations

from typing import Any

from zinc_kettle.core.compare import Difference, Side
from zinc_kettle.core.duel import Contest, Duel, effort
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.units import digits, duration, with_unit
from zinc_kettle.present.values import rounded

CAUTIONS: dict[str, str] = {
    "two-changes": "More than one thing differs, so the difference is not the doing of one of them.",
    "different-workload": "Some cells have no counterpart that did the same work, and are left out.",
    "different-tokenizer": "They cut text into other tokens: compare characters per second.",
    "different-definitions": "Their figures follow different versions of the definitions.",
    "unpaired": "They are of different runs: what the machine did meanwhile is part of the difference.",
}  # fmt: skip


def side_title(side: Side) -> str:
    """A side by its study, run and levels."""
    run = side.results.run
    levels = ", ".join(side.results.study.factors[n].says(v) for n, v in side.levels.items())
    return f"{side.results.study.name}{f':{run.number}' if run.number else ''}" + (f" {levels}" if levels else "")


def verdict(found: Duel, measure: str) -> str:
    """What came of one measure, in a sentence; no full stop."""
    contest = found.contest(measure)
    if not found.alignment.pairs:
        reasons = {u.reason for u in found.alignment.without}
        return f"cannot be compared: {'; '.join(sorted(reasons)) or 'there is nothing on one of the sides'}"
    title = MEASURES[measure].title
    if contest is None or contest.ratio is None:
        return f"too early to tell: a comparison of {title} needs three repeats of both sides"
    if contest.verdict == "range":
        low, high = _percent(contest.ratio.low), _percent(contest.ratio.high)
        return f"too few repeats for a claim; seen in {title}: {low} to {high}"
    if contest.verdict == "open":
        ruled = "" if contest.ruled_out is None else f"; a difference over {100 * contest.ruled_out:.2g}% is ruled out"
        return f"no clear difference in {title}{ruled}"
    return f"B {_said(contest)}"


def _said(contest: Contest) -> str:
    """`has 5.1% more decode, between 3.2% and 7.0%`: by how much B stands over A."""
    ratio, measure = contest.ratio, MEASURES[contest.measure]
    assert ratio is not None
    low, high = sorted((abs(ratio.low - 1), abs(ratio.high - 1)))
    if ratio.value > 2:
        return (
            f"has {digits(ratio.value)} times the {measure.title}, between {digits(ratio.low)} and {digits(ratio.high)}"
        )
    word = "more" if ratio.value > 1 else "less"
    between = f"between {100 * low:.2g} and {100 * high:.2g}%"
    return f"has {100 * abs(ratio.value - 1):.2g}% {word} {measure.title} than A, {between}"


def _percent(ratio: float) -> str:
    return f"{100 * (ratio - 1):+.2g}%"


def difference_line(difference: Difference) -> str:
    """One thing that is not the same: `threads 1 → 2`."""
    return f"{difference.name.replace('_', ' ')} {difference.a} → {difference.b}"


def effort_line(found: Duel, measure: str, *, smallest: float) -> str:
    """What would settle a measure that is open; empty where nothing is."""
    more = effort(found, measure, smallest=smallest)
    if more is None:
        return ""
    takes = "" if more.seconds is None else f" ({duration(more.seconds)})"
    return f"about {more.repeats:,} more repeats of each{takes} would tell a difference of {100 * more.share:.2g}%"


def duel_rows(found: Duel) -> list[tuple[str, str, str, str, str]]:
    """Measure, A, B, B over A with its interval, and what that says."""
    words = {"a": "A is better", "b": "B is better", "open": "no clear difference", "range": "too few repeats",
             "none": "–"}  # fmt: skip
    out = []
    for contest in found.contests:
        unit = MEASURES[contest.measure].unit
        a, b = ("–" if v is None else with_unit(v, unit) for v in (contest.a, contest.b))
        ratio = contest.ratio
        over = "–" if ratio is None else f"{ratio.value:.3f} ({ratio.low:.3f}–{ratio.high:.3f})"
        out.append((MEASURES[contest.measure].title, a, b, over, words[contest.verdict]))
    return out


def duel_json(found: Duel, measure: str) -> dict[str, Any]:
    """A duel as one JSON object."""
    return {
        "a": side_title(found.a), "b": side_title(found.b), "paired": found.paired,
        "pairs": len(found.alignment.pairs), "without": [u.reason for u in found.alignment.without],
        "differences": [
            {"kind": d.kind, "name": d.name, "a": d.a, "b": d.b} for d in found.alignment.differences
        ],
        "cautions": list(found.cautions), "measure": measure, "verdict": verdict(found, measure),
        "measures": {c.measure: _contest_json(c) for c in found.contests},
    }  # fmt: skip


def _contest_json(contest: Contest) -> dict[str, Any]:
    ratio = contest.ratio
    return {
        "a": None if contest.a is None else rounded(contest.a),
        "b": None if contest.b is None else rounded(contest.b),
        "unit": MEASURES[contest.measure].unit,
        "ratio": None if ratio is None else {
            "value": rounded(ratio.value), "low": rounded(ratio.low), "high": rounded(ratio.high),
            "bound": ratio.bound, "n": ratio.n,
        },
        "verdict": contest.verdict,
        "ruled_out": None if contest.ruled_out is None else rounded(contest.ruled_out),
    }  # fmt: skip
