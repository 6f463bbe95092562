"""How much load a study found that keeps its promise, in words, as rows and as JSON."""

from __future__ import annotations

import math
from typing import Any

from zinc_kettle.core.plan.traffic import Promise
from zinc_kettle.core.results import StudyResults
from zinc_kettle.core.search.capacity import WORDS, CapacityResult, End, StepVerdict, capacities, standing
from zinc_kettle.core.search.trial import Trial
from zinc_kettle.core.units import digits
from zinc_kettle.present.values import rounded

ENDS = {
    "narrow": "its interval is as narrow as was asked",
    "neighbours": "no whole load lies between",
    "steps": "all steps are used",
    "most": "more was not to be tried",
    "least": "there is no smaller load",
    "in-one-piece": "answers came in one piece, which tells no pace",
    "": "the search goes on",
}


HOW_FAR: dict[End, str] = {
    "": "; the search goes on",
    "steps": "; this is not settled",
    "in-one-piece": "; this is not settled",
}
"""What is said of an answer that may still change."""
UNBOUNDED = "where it surely breaks is not known"


def whole(load: float, factor: str) -> str:
    """A load as people say it: streams are whole, a rate has the digits it is known to."""
    return f"{math.floor(load + 1e-9):,}" if factor == "concurrency" else digits(load)


def noun(factor: str, load: float | None = None) -> str:
    """`streams`, `stream` or `requests per minute`."""
    if factor == "rate":
        return "requests per minute"
    return "stream" if load is not None and math.floor(load + 1e-9) == 1 else "streams"


def found_text(found: CapacityResult, factor: str) -> str:
    """What a search found, in a sentence; no full stop."""
    if found.end == "least" or (found.load is None and found.high is not None):
        said = f"breaks the promise even at {whole(found.high or 1, factor)} {noun(factor, found.high)}{_first(found)}"
        return said + HOW_FAR.get(found.end, "")
    if found.load is None:
        why = f": {ENDS[found.end]}" if found.end == "in-one-piece" else " yet"
        return f"nothing can be said of the promise{why}"
    load = f"{whole(found.load, factor)} {noun(factor, found.load)}"
    if found.end == "most":
        return f"keeps the promise up to {load}, the largest load that was to be tried"
    if found.first is None:
        keeps = "keeps the promise" if found.low else "seems to keep the promise"
        return f"{keeps} at {load}; where it breaks is not known yet{HOW_FAR.get(found.end, '')}"
    said = f"keeps the promise up to {load} ({interval_text(found, factor) or UNBOUNDED})"
    return said + _first(found) + HOW_FAR.get(found.end, "")


def interval_text(found: CapacityResult, factor: str) -> str:
    """The 95% interval of a limit; empty where there is none."""
    if found.low is None or found.high is None:
        return ""
    low, high = whole(found.low, factor), whole(found.high, factor)
    return low if low == high else f"{low}–{high}"


def _first(found: CapacityResult) -> str:
    return f"; {WORDS[found.first]} breaks it first" if found.first is not None else ""


def capacity_answer(results: StudyResults) -> str:
    """What all searches of a study found; no full stop."""
    factor = results.study.capacity.factor
    return "; ".join(
        f"{name + ': ' if name else ''}{found_text(found, factor)}" for name, found in capacities(results).items()
    )


def trial_rows(found: CapacityResult, promise: Promise, factor: str) -> list[tuple[str, ...]]:
    """The loads a search tried: load, repeats, each percentile over its limit, failures, and whether it kept it."""
    return [
        (
            whole(t.load, factor),
            str(t.repeats),
            *(_share(t, limit) for limit in ("ttft", "tpot")),
            f"{100 * t.failed:.3g}%",
            STANDINGS[standing(t, found.trials, promise)] + (THIN if t.thin else ""),
        )
        for t in found.trials
    ]


STANDINGS: dict[StepVerdict, str] = {"kept": "kept", "broken": "broken", "open": "not clear"}
THIN = ": too few requests for its percentile"
TRIAL_HEADS = ("load", "repeats", "first output, of its limit", "pace, of its limit", "failed", "promise")


def _share(trial: Trial, limit: str) -> str:
    over = trial.over.get(limit)  # type: ignore[call-overload]
    return "–" if over is None else f"{100 * math.exp(over):.3g}%"


def found_json(found: CapacityResult, promise: Promise, factor: str) -> dict[str, Any]:
    """A search as one JSON object."""
    return {
        "factor": factor,
        "load": None if found.load is None else rounded(found.load),
        "low": None if found.low is None else rounded(found.low),
        "high": None if found.high is None else rounded(found.high),
        "first": found.first,
        "end": found.end,
        "sentence": found_text(found, factor),
        "promise": {
            "ttft_s": promise.ttft_s,
            "tpot_s": promise.tpot_s,
            "percentile": promise.percentile,
            "failures_percent": promise.failures_percent,
        },
        "steps": [
            {
                "load": t.load,
                "repeats": t.repeats,
                "kept": not t.broken(promise),
                "failed": rounded(t.failed),
                "standing": standing(t, found.trials, promise),
                "visits": max(1, len(t.visits)),
                "thin": t.thin,
                "of_limit": {name: rounded(math.exp(v)) for name, v in t.over.items()},
            }
            for t in found.trials
        ],
    }


def headline(results: StudyResults) -> tuple[str, str, str] | None:
    """The largest limit that was found: the number, what it counts, and its interval with what it is of; None where
    none was found, or the study looks for none.
    """
    factor = results.study.capacity.factor
    found = [(f.load, name, f) for name, f in capacities(results).items() if f.load is not None and f.end != "least"]
    if not found:
        return None
    load, name, best = max(found, key=lambda row: row[0])
    bounds = interval_text(best, factor) if best.first is not None else "or more" if best.low else "not settled"
    return whole(load, factor), f"{noun(factor, load)} keep the promise", f"{bounds} {name}".strip()
