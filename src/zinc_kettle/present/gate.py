"""What came of a gate: in sentences, as Markdown and as JSON."""

from __future__ import annotations

from typing import Any

from zinc_kettle.core.compare.duel import Duel
from zinc_kettle.core.compare.gate import LEAST, MOST, Gate, GateVerdict, Guarded, gate
from zinc_kettle.core.measures import MEASURES
from zinc_kettle.core.text import capitalised
from zinc_kettle.core.units import digits, plural, with_unit
from zinc_kettle.present.duel import caution_text, difference_line, differences_line, pairs_line, ratio_text, side_title
from zinc_kettle.present.reference import table
from zinc_kettle.present.values import interval_json, rounded

WORDS: dict[GateVerdict, str] = {
    "worse": "worse",
    "fine": "fine",
    "open": "not settled",
    "failed": "could not be measured",
}
MARKS: dict[GateVerdict, str] = {"worse": "✕", "fine": "●", "open": "◐", "failed": "✕"}


def share(value: float) -> str:
    """`3%`, `0.42%`."""
    return f"{digits(100 * value, significant=2)}%"


def gate_sentence(found: Gate) -> str:
    """The answer; no full stop."""
    allowed = f"{100 * found.worse_than:g}%"
    if found.verdict == "failed":
        first = found.failed[0]
        why = first.kept.failure.what if first.kept.failure else "no reason was kept"
        return f"{plural(len(found.failed), 'cell')} could not be measured: {first.title}: {why}"
    if found.verdict == "fine":
        return f"B is not worse than A by more than {allowed}"
    if found.failures.verdict == found.verdict and found.verdict != "open":
        return f"more fails in B than in A: {failures_text(found)}"
    if found.verdict == "open" and not any(g.verdict == "open" for g in found.guarded):
        if found.missing:
            cell = found.missing[0].cell.title
            return f"{plural(len(found.missing), 'cell')} of A has no counterpart in B, so nothing is settled: {cell}"
        return f"whether more fails in B than in A is not settled: {failures_text(found)}"
    which = [MEASURES[g.measure].title for g in found.guarded if g.verdict == found.verdict]
    if found.verdict == "worse":
        return f"B is worse than A by more than {allowed} in {', '.join(which)}"
    return f"whether B is worse than A by more than {allowed} in {', '.join(which)} is not settled"


def failures_text(found: Gate) -> str:
    """`75% of requests (6 repeats) against 0% (6)`."""
    f = found.failures
    return f"{share(f.b)} of requests (in {plural(f.repeats[1], 'repeat')}) against {share(f.a)} (in {f.repeats[0]})"


def guarded_sentence(guarded: Guarded, worse_than: float) -> str:
    """What is known of one measure; no full stop."""
    if guarded.loss is None or guarded.low is None or guarded.high is None:
        return "too few repeats on one of the sides: three of each are needed"
    way = "worse" if guarded.loss > 0 else "better"
    head = f"{share(abs(guarded.loss))} {way}"
    if guarded.verdict == "worse":
        return f"{head}, by more than {share(guarded.low)} with confidence"
    if guarded.verdict == "fine":
        most = f"at most {share(guarded.high)} worse" if guarded.high > 0 else "not worse at all"
        return f"{head}, {most} with confidence"
    return f"{head}; anything up to {share(max(0.0, guarded.high))} worse is possible, {100 * worse_than:g}% allowed"


def gate_line(found: Duel, measure: str) -> str:
    """What a gate would say of one measure of a duel, at the smallest difference worth knowing; empty where nothing."""
    if MEASURES[measure].better == "neither" or not found.alignment.pairs:
        return ""
    allowed = found.a.results.study.repeats.smallest_percent / 100
    held = gate(found.a, found.b, [measure], worse_than=min(MOST, max(LEAST, allowed)))
    told = guarded_sentence(held.guarded[0], held.worse_than)
    said = held.guarded[0].verdict
    return f"{MARKS[said]} {WORDS[said]} at {100 * held.worse_than:g}%: B is {told}"


def gate_rows(found: Gate) -> list[tuple[str, str, str, str, str]]:
    """Measure, old, new, new over old, verdict."""
    out = []
    for g in found.guarded:
        unit = MEASURES[g.measure].unit
        a, b = ("–" if v is None else with_unit(v, unit) for v in (g.a, g.b))
        said = f"{MARKS[g.verdict]} {WORDS[g.verdict]}: {guarded_sentence(g, found.worse_than)}"
        out.append((MEASURES[g.measure].title, a, b, ratio_text(g.ratio), said))
    f = found.failures
    told = (
        "as seen, no more than may" if f.verdict == "fine" else f"p = {f.p:.2g}, {100 * found.more_failures:g}% allowed"
    )
    out.append(("failed requests", share(f.a), share(f.b), "–", f"{MARKS[f.verdict]} {WORDS[f.verdict]}: {told}"))
    return out


def gate_lines(found: Gate) -> list[str]:
    """What stands beside the answer: pairs, looks, what differs, cautions."""
    out = [f"{pairs_line(found.duel)}, look {found.look} of {found.looks}"]
    out.append(f"differs: {differences_line(found.duel)}")
    out += [f"no counterpart in B: {u.cell.title}: {u.reason}" for u in found.missing]
    return out + [f"▲ {code}: {caution_text(found.duel, code)}" for code in found.duel.cautions]


def gate_markdown(found: Gate) -> str:
    """A summary for a build's page."""
    said = gate_sentence(found)
    heads = ("measure", "A", "B", "B over A (95%)", "verdict")
    return "\n".join(
        [
            f"### {MARKS[found.verdict]} {capitalised(said)}.",
            "",
            f"A is {side_title(found.duel.a)}, B is {side_title(found.duel.b)}.",
            "",
            table(heads, gate_rows(found)),
            "",
            *(f"- {line}" for line in gate_lines(found)),
            "",
        ]
    )


def gate_json(found: Gate) -> dict[str, Any]:
    """A gate as one JSON object."""
    return {
        "verdict": found.verdict,
        "sentence": gate_sentence(found),
        "a": side_title(found.duel.a),
        "b": side_title(found.duel.b),
        "worse_than": found.worse_than,
        "paired": found.duel.paired,
        "earlier_runs": found.duel.earlier_runs,
        "pairs": len(found.duel.alignment.pairs),
        "look": found.look,
        "looks": found.looks,
        "differences": [difference_line(d) for d in found.duel.alignment.differences],
        "cautions": list(found.duel.cautions),
        "failed": [c.title for c in found.failed],
        "missing": [u.cell.title for u in found.missing],
        "failures": {
            "verdict": found.failures.verdict,
            "a": rounded(found.failures.a),
            "b": rounded(found.failures.b),
            "p": rounded(found.failures.p),
            "repeats": list(found.failures.repeats),
            "allowed": found.more_failures,
        },
        "measures": {g.measure: _guarded_json(g) for g in found.guarded},
    }


def _guarded_json(g: Guarded) -> dict[str, Any]:
    numbers = {"a": g.a, "b": g.b, "loss": g.loss, "loss_low": g.low, "loss_high": g.high}
    ratio = None if g.ratio is None else interval_json(g.ratio)
    told = {name: None if v is None else rounded(v) for name, v in numbers.items()}
    return {"verdict": g.verdict, **told, "ratio": ratio, "unit": MEASURES[g.measure].unit}
