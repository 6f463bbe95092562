"""Figures of the finished examples once more: a decoder and formulas written from the documents alone.

    python benchmarks/audit.py [STORE]

Nothing of the tool computes here. It reads the rows of the store's file, computes what docs/measures.md says, and
holds that against what the tool's commands print. Writes docs/audit.md for the examples.
"""

from __future__ import annotations

import csv
import io
import json
import math
import os
import shutil
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import zlib
from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec
from scipy import stats

ROOT = Path(__file__).parents[1]
SAMPLE = ROOT / "src/zinc_kettle/config/demo/harbour-office.db"
DOC = ROOT / "docs" / "audit.md"
ENOUGH = 1e-4
"""Relative; the tool prints six digits."""
Row = dict[str, Any]
S = 1e9


# the store
def differences(data: bytes) -> list[int]:
    """Numbers kept as differences, the k-th bytes of all together."""
    planes = zlib.decompress(data)
    n = len(planes) // 8
    out, so_far = [], 0
    for i in range(n):
        so_far += int.from_bytes(bytes(planes[k * n + i] for k in range(8)), "little", signed=True)
        out.append(so_far)
    return out


def little(data: bytes, width: int) -> list[int]:
    """Numbers of so many bytes each."""
    return [int.from_bytes(data[i : i + width], "little", signed=True) for i in range(0, len(data), width)]


def requests_of(body: bytes) -> Iterator[tuple[str, Row]]:
    """The requests of a block, each with the id of its repeat; `at` has its stamps, `tokens` those of each chunk."""
    block = msgspec.msgpack.decode(body)
    chunks, tokens = little(block["chunks"], 4), little(zlib.decompress(block["tokens"]), 4)
    user, kernel = differences(block["user"]), differences(block["kernel"])
    rest = msgspec.msgpack.decode(zlib.decompress(block["rest"]))
    start = at_kernel = 0
    for repeat, n, stamped, small in zip(block["repeats"], chunks, block["has_kernel"], rest, strict=True):
        row = {**small, "engine": small.get("engine") or small.get("timings")}  # the name in version 1
        stamps = kernel[at_kernel : at_kernel + n] if stamped else user[start : start + n]
        if stamped:
            row["waited"] = [u - k for u, k in zip(user[start : start + n], stamps, strict=True)]
            at_kernel += n
        yield repeat, {**row, "at": stamps, "tokens": tokens[start : start + n]}
        start += n


def repeats_in(store: Path) -> dict[str, Row]:
    """All measured repeats by their ids, with their requests, their trace and what else was kept."""
    with sqlite3.connect(f"file:{store}?mode=ro", uri=True) as db:
        requests: dict[str, list[Row]] = defaultdict(list)
        for (body,) in db.execute("SELECT body FROM blocks ORDER BY id"):
            for repeat, row in requests_of(body):
                requests[repeat].append(row)
        out = {}
        for key, cell, block, streams, launch, episode, trace in db.execute(
            "SELECT id, cell, block, concurrency, launch, episode, trace FROM repeats WHERE state = 'measured'"
        ):
            kept = json.loads(episode or "{}")
            out[key] = {
                "cell": cell,
                "block": block,
                "streams": streams,
                "launch": json.loads(launch) if launch else None,
                "trace": [differences(c) for c in msgspec.msgpack.decode(trace)] if trace else None,
                "requests": requests[key],
                **kept,
                "extras": kept.get("extras", {}),
            }
    return out


# one request
def usable(t: Row) -> bool:
    """It ended as it should, and carried output."""
    return bool(t.get("complete")) and not t.get("error") and bool(t["at"])


def wanted(t: Row) -> int:
    """When its wait began."""
    due = t.get("due_ns")
    return int(t["sent_ns"] if due is None else due)


def total(t: Row) -> int:
    """Its output tokens: each chunk's count, else the usage record, else the chunks."""
    counted = sum(t["tokens"])
    return counted or (len(t["at"]) if t.get("output_tokens") is None else int(t["output_tokens"]))


def written(t: Row) -> float:
    """Tokens after the first chunk."""
    n, chunks = total(t), len(t["at"])
    by_chunk = sum(t["tokens"]) > 0 and (t["tokens"][0] > 0 or 2 * sum(1 for c in t["tokens"] if c) >= chunks)
    if by_chunk:
        return n - (t["tokens"][0] or 1)
    if not sum(t["tokens"]) and t.get("output_tokens") is None:
        return n - 1
    seen = n - (n == chunks + 1)
    return seen - (n / chunks if seen > chunks else 1)


def uncached(t: Row) -> int | None:
    """Prompt tokens that were read."""
    if t.get("engine"):
        return int(t["engine"]["prompt_n"])
    return None if t.get("prompt_tokens") is None else int(t["prompt_tokens"]) - (t.get("cached_tokens") or 0)


# one repeat
def counted(r: Row) -> list[Row]:
    """The requests that count."""
    return [t for t in r["requests"] if t["role"] == "measured" and usable(t) and not t["cold"]]


def middle(values: Sequence[float]) -> float | None:
    """The median; None of nothing."""
    return statistics.median(values) if values else None


def over(top: float, bottom: float) -> float | None:
    """A ratio; None where it has none."""
    return top / bottom if bottom else None


def alone(r: Row) -> bool:
    """One stream, no schedule."""
    return r["streams"] == 1 and "open_loop" not in r["extras"]


def quantile(values: Sequence[float], p: float) -> float:
    """Linear between order statistics, n − 1 steps."""
    ordered = sorted(values)
    at = p * (len(ordered) - 1)
    low = math.floor(at)
    return ordered[low] + (at - low) * (ordered[min(low + 1, len(ordered) - 1)] - ordered[low])


def decoded(r: Row) -> tuple[float, float]:
    """Tokens and nanoseconds of decode, of all requests that have some."""
    rows = [t for t in counted(r) if t["at"][-1] > t["at"][0] and written(t) > 0]
    return sum(written(t) for t in rows), sum(t["at"][-1] - t["at"][0] for t in rows)


def window(r: Row) -> tuple[float, float] | None:
    """Of a closed load: from one mean duration after all streams are busy until the first is not replaced."""
    rows = [t for t in r["requests"] if t["role"] == "measured"]
    if "open_loop" in r["extras"] or "at_once" in r["extras"] or len(rows) < r["streams"]:
        return None
    sent = sorted(t["sent_ns"] for t in rows)
    ends = [t["end_ns"] for t in rows if t["end_ns"] > sent[-1]]
    took = [t["at"][-1] - t["sent_ns"] for t in rows if usable(t)]
    if not ends or not took:
        return None
    start = sent[r["streams"] - 1] + round(statistics.fmean(took))
    done = sum(1 for t in counted(r) if start < t["end_ns"] <= min(ends))
    return (start, min(ends)) if min(ends) > start and done >= math.ceil(1.5 * r["streams"]) else None


def throughput(r: Row) -> float | None:
    """Output tokens stamped in the window, over its length."""
    found = window(r)
    if found is None:
        return None
    start, end = found
    tokens = 0.0
    for t in counted(r):
        each = t["tokens"] if sum(t["tokens"]) else [total(t) / len(t["at"])] * len(t["at"])
        tokens += sum(n for n, at in zip(each, t["at"], strict=True) if start < at <= end)
    return tokens * S / (end - start)


def everything(r: Row) -> float | None:
    """Tokens of prompts and answers: of one stream over the time of its requests."""
    if alone(r):
        rows = counted(r)
        if any(uncached(t) is None for t in rows):
            return None
        tokens = sum((uncached(t) or 0) + total(t) for t in rows)
        return over(tokens * S, sum(t["at"][-1] - t["sent_ns"] for t in rows))
    found, out = window(r), throughput(r)
    if found is None or out is None:
        return None
    read = sum(uncached(t) or 0 for t in counted(r) if found[0] < t["at"][0] <= found[1])
    return out + read * S / (found[1] - found[0])


def whole(r: Row) -> float:
    """From the first request wanted to the last output of all, failed ones too."""
    rows = [t for t in r["requests"] if t["role"] == "measured"]
    return float(max(t["at"][-1] if t["at"] else t["sent_ns"] for t in rows) - min(wanted(t) for t in rows))


def prefill(r: Row) -> float | None:
    """Uncached prompt tokens over TTFT, of single requests with 32 or more of them."""
    rows = [t for t in counted(r) if uncached(t) is not None]
    tokens = sum(uncached(t) or 0 for t in rows)
    if not alone(r) or not rows or tokens < 32 * len(rows):
        return None
    return over(tokens * S, sum(t["at"][0] - t["sent_ns"] for t in rows))


def reported(r: Row, count: str, time: str, less: int = 0) -> float | None:
    """Tokens over milliseconds of the engine's own account."""
    told = [t["engine"] for t in counted(r) if t.get("engine") and t["engine"][time] > 0 and t["engine"][count] > less]
    return over(1e3 * sum(e[count] - less for e in told), sum(e[time] for e in told))


def main_memory(r: Row) -> float | None:
    """The highest of the samples and of the system's record, less the launcher."""
    if r["launch"] is None or r["launch"].get("loaded_bytes") is None:
        return None
    if not r["trace"] or not r["trace"][1]:
        return float(r["launch"]["loaded_bytes"])
    return float(max(*r["trace"][1], r.get("highest_bytes", -1)) - r["launch"].get("baseline_bytes", 0))


def device_memory(r: Row) -> float | None:
    """The highest of the samples, less what was there before the run."""
    told = r["trace"][6] if r["trace"] and len(r["trace"]) > 6 else []
    started = r["launch"] is not None and r["launch"].get("loaded_bytes") is not None
    return max(0.0, max(told) - r["extras"].get("device_before_bytes", 0.0) * started) if told else None


def both_memories(r: Row) -> float | None:
    """Added up; of layers on a device that tells nothing there is none."""
    host, device = main_memory(r), device_memory(r)
    if host is None or (device is None and r["extras"].get("layers_on_devices")):
        return None
    return host + (device or 0.0)


def cores(r: Row) -> float | None:
    """Processor time over wall time."""
    at, spent = (r["trace"][0], r["trace"][4]) if r["trace"] else ([], [])
    return (spent[-1] - spent[0]) / (at[-1] - at[0]) if len(at) > 1 and at[-1] > at[0] else None


FIGURES: dict[str, Callable[[Row], float | None]] = {
    "ttft": lambda r: middle([(t["at"][0] - t["sent_ns"]) / S for t in counted(r)]),
    "duration": lambda r: middle([(t["at"][-1] - t["sent_ns"]) / S for t in counted(r)]),
    "latency": lambda r: middle([(t["at"][-1] - wanted(t)) / S for t in counted(r)]),
    "decode": lambda r: over(decoded(r)[0] * S, decoded(r)[1]),
    "tpot": lambda r: over(decoded(r)[1] / S, decoded(r)[0]),
    "decode_engine": lambda r: reported(r, "predicted_n", "predicted_ms", 1),
    "prefill_client": prefill,
    "prefill_engine": lambda r: reported(r, "prompt_n", "prompt_ms"),
    "prompt_tokens": lambda r: middle([t["prompt_tokens"] for t in counted(r) if t.get("prompt_tokens") is not None]),
    "output_tokens": lambda r: middle([total(t) for t in counted(r)]),
    "throughput": throughput,
    "throughput_all": everything,
    "overall_requests": lambda r: over(len(counted(r)) * S, whole(r)),
    "overall_output": lambda r: over(sum(total(t) for t in counted(r)) * S, whole(r)),
    "memory": both_memories,
    "memory_peak": main_memory,
    "memory_device": device_memory,
    "cpu": cores,
    "load_time": lambda r: (
        None if not r["launch"] or r["launch"].get("load_ns") is None else r["launch"]["load_ns"] / S
    ),
    "queue_p99": lambda r: _waits([w for t in counted(r) for w in t.get("waited", ())]),
}
"""Of a repeat, by the names of docs/output.md."""
PRINTED_ONLY = {"throughput": "open_loop", "throughput_all": "open_loop"}
"""Not computed here for repeats that have this."""


def _waits(waits: Sequence[float]) -> float | None:
    return quantile(waits, 0.99) / S if waits else None


# what the tool prints
def printed(home: Path, *words: str) -> str:
    """What a command prints."""
    environment = {**os.environ, "ZINC_KETTLE_HOME": str(home)}
    ran = subprocess.run(
        [str(Path(sys.executable).parent / "zinc-kettle"), *words],
        env=environment,
        check=False,
        capture_output=True,
        text=True,
        timeout=600,
    )
    if ran.returncode not in {0, 1, 3} or not ran.stdout:  # 1 and 3 are what a gate and a search found
        raise SystemExit(f"{' '.join(words)}: {ran.stderr}")
    return ran.stdout


class Held:
    """How figures of one kind compare."""

    def __init__(self) -> None:
        self.n, self.worst, self.missing = 0, 0.0, 0

    def take(self, ours: float | None, theirs: float | None) -> None:
        """One figure, computed here and printed there."""
        if ours is None and theirs is None:
            return
        self.n += 1
        if ours is None or theirs is None:
            self.missing += 1
        else:
            self.worst = max(self.worst, abs(ours - theirs) / max(abs(ours), abs(theirs), 1e-12))


def studies_of(store: Path) -> list[str]:
    """Its studies, each once."""
    with sqlite3.connect(f"file:{store}?mode=ro", uri=True) as db:
        return [
            name for (name,) in db.execute("SELECT DISTINCT name FROM studies JOIN runs ON runs.study = studies.id")
        ]


def audit(home: Path) -> dict[str, Held]:
    """All figures of all repeats, the medians of all cells, and the ratios of duels."""
    store = home / "kettle.db"
    repeats = repeats_in(store)
    held: dict[str, Held] = defaultdict(Held)
    for study in studies_of(store):
        rows = list(csv.DictReader(io.StringIO(printed(home, "table", study, "--of", "repeats"))))
        ours: dict[str, dict[str, float | None]] = {}
        for row in rows:
            if row["state"] != "measured" or row["repeat"] not in repeats:
                continue
            kept = repeats[row["repeat"]]
            ours[row["repeat"]] = {}
            for name, formula in FIGURES.items():
                if PRINTED_ONLY.get(name) in kept["extras"] or not counted(kept):
                    continue
                ours[row["repeat"]][name] = value = formula(kept)
                held[name].take(value, float(row[name]) if row[name] else None)
        cells(home, study, rows, ours, held)
    return held


def cells(
    home: Path,
    study: str,
    rows: Sequence[Mapping[str, str]],
    ours: Mapping[str, Mapping[str, float | None]],
    held: dict[str, Held],
) -> None:
    """Medians over the repeats of each cell; and of each pair of cells the ratio, with Student's interval by block."""
    by_cell: dict[str, list[Mapping[str, str]]] = defaultdict(list)
    for row in rows:
        if row["repeat"] in ours:
            by_cell[row["cell"]].append(row)
    for row in csv.DictReader(io.StringIO(printed(home, "table", study, "--of", "cells"))):
        for name in FIGURES:
            found = [v for r in by_cell.get(row["cell"], ()) if (v := ours[r["repeat"]].get(name)) is not None]
            if len(found) == len(by_cell.get(row["cell"], ())) and found and name != "load_time":
                held["medians of cells"].take(statistics.median(found), float(row[name]) if row[name] else None)


DUELS = (
    ("three-ways@quantization=F16", "three-ways@quantization=Q4_0"),
    ("three-ways@quantization=Q8_0", "three-ways@quantization=Q4_0"),
    ("which-rig@rig=gannet", "which-rig@rig=petrel"),
    ("which-rig@rig=cormorant", "which-rig@rig=gannet"),
)


def duels(home: Path, held: dict[str, Held]) -> None:
    """Ratios of sides that were measured in turn: geometric means over cells in each block, Student over blocks."""
    repeats = repeats_in(home / "kettle.db")
    for a, b in DUELS:
        study, level = a.partition("@")[::2]
        factor = level.partition("=")[0]
        rows = list(csv.DictReader(io.StringIO(printed(home, "table", study, "--of", "repeats"))))
        told = json.loads(printed(home, "duel", a, b, "--json"))
        sides = [
            [r for r in rows if r[factor] == side.rpartition("=")[2] and r["state"] == "measured"] for side in (a, b)
        ]
        for name, measure in told["measures"].items():
            ratio = measure["ratio"]
            if name not in FIGURES or ratio is None or ratio["bound"] != "interval95":
                continue
            logs = [_by_block(side, repeats, FIGURES[name]) for side in sides]
            shared = sorted(logs[0].keys() & logs[1].keys())
            steps = [logs[1][k] - logs[0][k] for k in shared]
            mean, error = statistics.fmean(steps), statistics.stdev(steps) / math.sqrt(len(steps))
            half = float(stats.t.ppf(0.975, len(steps) - 1)) * error
            held["duels, ratios"].take(math.exp(mean), ratio["value"])
            held["duels, bounds"].take(math.exp(mean - half), ratio["low"])
            held["duels, bounds"].take(math.exp(mean + half), ratio["high"])
            gate(home, a, b, name, (mean, error, len(steps) - 1), held)


def gate(home: Path, a: str, b: str, name: str, told: tuple[float, float, int], held: dict[str, Held]) -> None:
    """What is lost from one side to the other, with a bound of 95% to each side; for the mean, the error and the
    degrees of freedom of the logarithm of the ratio."""
    if name not in LESS | MORE:
        return
    found = json.loads(printed(home, "gate", b, "--against", a, "--measure", name, "--json"))["measures"][name]
    mean, error, df = told
    half = float(stats.t.ppf(0.95, df)) * error
    ends = [math.exp(mean + half * side) for side in (0, 1, -1)]
    value, least, most = (1 - end if name in MORE else end - 1 for end in ends)
    for kind, ours in (("loss", value), ("loss_low", min(least, most)), ("loss_high", max(least, most))):
        held["gates"].take(ours, found[kind])


MORE = {"decode", "prefill_client", "prefill_engine", "throughput"}
LESS = {"ttft", "duration", "latency", "tpot"}
"""Measures of which less is better."""
LINEUPS = (("which-rig", "rig", "decode"), ("which-rig", "rig", "ttft"), ("three-ways", "quantization", "decode"))


def lineups(home: Path, held: dict[str, Held]) -> None:
    """The value of each place: the geometric mean over blocks and cells."""
    repeats = repeats_in(home / "kettle.db")
    for study, by, measure in LINEUPS:
        rows = list(csv.DictReader(io.StringIO(printed(home, "table", study, "--of", "repeats"))))
        told = json.loads(printed(home, "lineup", study, "--by", by, "--measure", measure, "--json"))
        for place in (place for group in told["groups"] for place in group["places"]):
            its = [r for r in rows if r[by] == place["name"] and r["state"] == "measured"]
            logs = _by_block(its, repeats, FIGURES[measure])
            held["lineups"].take(math.exp(statistics.fmean(logs.values())), place["value"])


def searches(home: Path, held: dict[str, Held]) -> None:
    """How a promised percentile stood to its limit at each load that was measured once or twice: over all requests in
    full load, by the rule that leans to neither side."""
    repeats = repeats_in(home / "kettle.db")
    rows = list(csv.DictReader(io.StringIO(printed(home, "table", "how-many-desks", "--of", "repeats"))))
    for line in printed(home, "capacity", "how-many-desks", "--json").splitlines():
        found = json.loads(line)
        promise = found["promise"]
        for step in (step for step in found["steps"] if step["visits"] <= 2):
            its = [
                repeats[r["repeat"]]
                for r in rows
                if r["rig"] == found["of"] and r["state"] == "measured" and float(r["concurrency"]) == step["load"]
            ]
            asked = [t for r in its for t in _in_full_load(r)]
            times = {
                "ttft": ([(t["at"][0] - wanted(t)) / S for t in asked], promise["ttft_s"]),
                "tpot": ([(t["at"][-1] - t["at"][0]) / written(t) / S for t in asked], promise["tpot_s"]),
            }
            for limit, printed_share in step["of_limit"].items():
                values, allowed = times[limit]
                held["searches"].take(_weibull(values, promise["percentile"] / 100) / allowed, printed_share)


def _in_full_load(r: Row) -> list[Row]:
    there = sorted(counted(r), key=wanted)
    inside = there[r["streams"] : len(there) - r["streams"]]
    return inside if len(inside) >= max(1, r["streams"] / 2) else there


def _weibull(values: Sequence[float], p: float) -> float:
    """Of order statistics at k/(n + 1)."""
    ordered = sorted(values)
    at = min(max(p * (len(ordered) + 1), 1), len(ordered))
    low = math.floor(at)
    return ordered[low - 1] + (at - low) * (ordered[min(low, len(ordered) - 1)] - ordered[low - 1])


def _by_block(
    rows: Sequence[Mapping[str, str]], repeats: Mapping[str, Row], formula: Callable[[Row], float | None]
) -> dict[int, float]:
    """The mean logarithm over the cells of a side, in each block that all of them have."""
    found: dict[int, list[float]] = defaultdict(list)
    for row in rows:
        value = formula(repeats[row["repeat"]])
        if value is not None and value > 0:
            found[int(row["block"])].append(math.log(value))
    most = max(map(len, found.values()), default=0)
    return {block: statistics.fmean(values) for block, values in found.items() if len(values) == most}


def page(held: Mapping[str, Held]) -> str:
    """docs/audit.md."""
    count, worst = sum(h.n for h in held.values()), max(h.worst for h in held.values())
    lines = [
        "# Figures once more",
        "",
        "Written by `make bench-claims`. A decoder of the store and formulas that were written from "
        "[measures.md](measures.md) alone (`benchmarks/audit.py`; nothing of the tool computes there) give "
        f"{len(FIGURES)} figures of every repeat of the examples again, the medians of their cells, the ratios of "
        "duels and the losses of gates with their bounds, the values of lineups, and how the steps of a search stood "
        "to their limits; they are held against what `table`, `duel`, `gate`, `lineup` and `capacity` print.",
        "",
        f"{count:,} figures; the worst differs by {worst:.1e} of itself.",
        "",
        "| figure | compared | worst difference | only on one side |",
        "| --- | --- | --- | --- |",
    ]
    lines += [f"| {name} | {h.n:,} | {h.worst:.1e} | {h.missing} |" for name, h in sorted(held.items())]
    return "\n".join(lines) + "\n"


def main() -> int:
    """Audit, and write the page; 1 where a figure differs."""
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder)
        shutil.copyfile(sys.argv[1] if len(sys.argv) > 1 else SAMPLE, home / "kettle.db")
        held = audit(home)
        if len(sys.argv) < 2:
            duels(home, held)
            lineups(home, held)
            searches(home, held)
    text = page(held)
    print(text)
    if len(sys.argv) < 2:
        DOC.write_text(text, encoding="utf-8")
    return int(any(h.worst > ENOUGH or h.missing for h in held.values()))


if __name__ == "__main__":
    sys.exit(main())
