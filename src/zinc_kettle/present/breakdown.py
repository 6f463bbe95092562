"""Where the time of a token goes, in words and as rows."""

from __future__ import annotations

from typing import Any

from zinc_kettle.core.breakdown import WORK, PartName, TimeSplit, time_split
from zinc_kettle.core.record.repeat import Missing
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.units import digits, plural
from zinc_kettle.present.values import rounded

NAMES: dict[PartName, str] = {
    "weights": "weights",
    "cache": "KV cache",
    "arithmetic": "arithmetic",
    "unpacking": "unpacking",
    "attention": "attention",
    "overhead": "overhead",
}
REST = "not explained"
MOST: dict[PartName, str] = {
    "unpacking": "most of it for unpacking weights",
    "attention": "most of it for attention, which grows with depth",
}


def sentence(split: TimeSplit) -> str:
    """What the time supports to say, with how sure that is; no full stop."""
    if split.limit == "bandwidth":
        return (
            f"bound by memory bandwidth: reading takes {_share(split, 'weights', 'cache')} of the time; {_more(split)}"
        )
    if split.limit == "untold":
        return f"reading takes {_share(split, 'weights', 'cache')} of the time; the rest is not told apart on devices"
    if split.limit == "arithmetic":
        most = max(WORK, key=split.seconds)
        what = f", {MOST[most]}" if most in MOST else ""
        cores = f"; {plural(split.free_cores, 'core')} more may help" if split.free_cores else ""
        return f"bound by arithmetic: it takes {_share(split, *WORK)} of the time{what}{cores}"
    if split.limit == "overhead":
        known = split.share("weights", "cache", *WORK)[2]
        return f"bound by neither: reading and arithmetic take {known:.0%} of the time at most, the rest is overhead"
    return (
        f"no single limit: reading takes {_share(split, 'weights', 'cache')} of the time, arithmetic "
        f"{_share(split, *WORK)}"
    )


def _share(split: TimeSplit, *names: PartName) -> str:
    """Of the measured time: what is computed may be longer, but nothing takes more of a time than all of it."""
    share, low, high = (min(1.0, of) for of in split.share(*names))
    return f"all ({low:.0%} or more)" if share == 1.0 else f"{share:.0%} ({low:.0%} to {high:.0%})"


def _more(split: TimeSplit) -> str:
    if split.on_devices:
        return "fewer bits per weight will help"
    if split.best_threads > split.threads:
        faster = f"{plural(split.best_threads, 'thread')} read {split.best_gain:.0%} faster"
        return f"{faster}, and fewer bits per weight will help"
    return "more threads will not help, fewer bits per weight will"


def part_lines(split: TimeSplit) -> list[tuple[str, float, float]]:
    """Name, seconds and share of the measured time of each part, then what is not explained, where that is positive."""
    out = [(NAMES[part.name], part.seconds, part.seconds / split.step_s) for part in split.parts]
    return [*out, (REST, split.rest_s, split.rest_s / split.step_s)] if split.rest_s > 0 else out


def basis(split: TimeSplit) -> str:
    """What the parts rest on."""
    fitted = (
        f"fitted to {plural(split.calibrated_by, 'other cell')}" if split.calibrated_by else "not fitted to anything"
    )
    source = "the bandwidth of its memory" if split.on_devices else "the probe"
    return f"computed from {source} and the model's bytes, {fitted}, ±{split.band:.0%}{_over(split)}"


def _over(split: TimeSplit) -> str:
    """Why the parts come to more than was measured; empty where they do not."""
    whole = 1 - split.rest_s / split.step_s
    if whole <= 1:
        return ""
    if whole <= 1 + split.band:
        return f"; together {whole:.0%} of the measured time, which that allows for"
    return f"; together {whole:.0%} of the measured time: parts overlap, or the memory is faster than is known"


def split_json(results: StudyResults, cell: CellResults) -> dict[str, Any]:
    """Where the time goes, or null with the reason."""
    split = time_split(results, cell)
    if isinstance(split, Missing):
        return {"value": None, "reason": split.reason}
    return {
        "value": rounded(split.step_s),
        "unit": "s",
        "streams": split.streams,
        "parts": {part.name: rounded(part.seconds) for part in split.parts},
        "rest": rounded(split.rest_s),
        "band": rounded(split.band),
        "fitted_to": split.calibrated_by,
        "limit": split.limit,
        "sentence": sentence(split),
    }


def split_rows(results: StudyResults) -> tuple[list[str], list[list[str]]]:
    """Headings and a row a measured cell: time of a step in milliseconds, its parts, and what they say."""
    heads = [name.replace("_", " ") for name in results.study.vary]
    heads += ["step, ms", *NAMES.values(), REST, "±", "which is"]
    rows = []
    for cell in results.cells:
        if not cell.done:
            continue
        levels = [cell.cell.factors[n].says(level) for n, level in cell.cell.levels.items()]
        split = time_split(results, cell)
        if isinstance(split, Missing):
            rows.append([*levels, *["–"] * (len(NAMES) + 3), split.reason])
            continue
        seconds = {part.name: part.seconds for part in split.parts}
        parts = [_ms(seconds[name]) if name in seconds else "–" for name in NAMES]
        rows.append([*levels, _ms(split.step_s), *parts, _ms(split.rest_s), f"{split.band:.0%}", sentence(split)])
    return heads, rows


def _ms(seconds: float) -> str:
    return digits(seconds * 1e3)
