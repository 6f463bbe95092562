"""The driver's results as a table in Markdown and a chart: docs/driver-results.md, docs/driver-results.svg."""

from __future__ import annotations

import json
from collections import defaultdict
from pathlib import Path
from typing import Any

from matplotlib import rc_context
from matplotlib.figure import Figure

DOCS = Path(__file__).parent.parent / "docs"
CLIENTS = (("driver", "kernel"), ("driver", "user"), ("floor", "user"), ("aiohttp", "user"), ("httpx", "user"))
COLOURS = ("#c9703a", "#e0a37c", "#20262b", "#6d8796", "#b4c1c9")
NAMES = {
    ("driver", "kernel"): "driver, kernel stamps",
    ("driver", "user"): "driver, own stamps",
    ("floor", "user"): "C client (floor)",
    ("aiohttp", "user"): "aiohttp",
    ("httpx", "user"): "httpx",
}


def write(source: Path) -> None:
    """Write table and chart, print the table of targets."""
    data = json.loads(source.read_text())
    text = "\n".join([*_targets(data["targets"]), "", *_table(data["rows"])])
    (DOCS / "driver-results.md").write_text(HEAD + text + "\n")
    chart(data["rows"], DOCS / "driver-results.svg")
    print(text)


HEAD = """# The driver against the truth: the last result

`make bench-driver` writes this page, the chart and benchmarks/out/driver.json. A shared virtual machine with two cores
whose time is stolen at times: of several windows the one with the least p99 is shown, all clients interleaved. Compare
within the table, never with another machine's. What is measured and why: [driver.md](driver.md).

![stamp error p99 by client](driver-results.svg)

"""


def _targets(targets: list[dict[str, Any]]) -> list[str]:
    out = ["| target | measured | wanted | |", "|---|---|---|---|"]
    for t in targets:
        sign = "≥" if t["at_least"] else "≤"
        word = "met" if t["met"] else "missed"
        out.append(f"| {t['target']} | {t['value']:,g} {t['unit']} | {sign} {t['bound']:,g} | {word} |")
    return out


def _table(rows: list[dict[str, Any]]) -> list[str]:
    grouped: dict[tuple[int, int, str], dict[tuple[str, str], dict[str, Any]]] = defaultdict(dict)
    for r in rows:
        grouped[r["streams"], r["rate"], r["pattern"]][r["client"], r["stamp"]] = r
    out = [
        "Stamp error p50 / p99 / max in ms; processor time per token in µs; lost share where there is one.",
        "",
        "| streams | tok/s | pattern | " + " | ".join(NAMES[c] for c in CLIENTS) + " |",
        "|---" * (3 + len(CLIENTS)) + "|",
    ]
    for (streams, rate, pattern), found in grouped.items():
        cells = [_cell(found[c]) if c in found else "–" for c in CLIENTS]
        out.append(f"| {streams:,} | {rate:,} | {pattern} | " + " | ".join(cells) + " |")
    return out


def _cell(r: dict[str, Any]) -> str:
    lost = f"; lost {r['lost_share']:.0%}" if r["lost_share"] >= 0.01 else ""
    return f"{r['p50_ms']:.3g} / {r['p99_ms']:.3g} / {r['max_ms']:.3g}; {r['cpu_us_per_token']:.3g} µs{lost}"


def chart(rows: list[dict[str, Any]], path: Path) -> None:
    """Stamp error p99 over streams, one panel a rate and pattern, the same scale in all."""
    rates, patterns = sorted({r["rate"] for r in rows}), ("spread", "burst")
    with rc_context(
        {"svg.hashsalt": "zinc-kettle", "svg.fonttype": "path", "font.family": "DejaVu Sans", "font.size": 9}
    ):
        figure = Figure(figsize=(10, 5.6), layout="constrained")
        axes = figure.subplots(len(patterns), len(rates), sharex=True, sharey=True)
        for i, pattern in enumerate(patterns):
            for j, rate in enumerate(rates):
                panel = axes[i][j]
                for client, colour in zip(CLIENTS, COLOURS, strict=True):
                    mine = [
                        r
                        for r in rows
                        if (r["client"], r["stamp"]) == client and r["rate"] == rate and r["pattern"] == pattern
                    ]
                    panel.plot(
                        [r["streams"] for r in mine],
                        [r["p99_ms"] for r in mine],
                        "o-",
                        color=colour,
                        label=NAMES[client],
                        markersize=3.5,
                        linewidth=1.4,
                    )
                panel.set(xscale="log", yscale="log", title=f"{rate:,} tokens/s, {pattern}")
                panel.set_xticks([1, 16, 64, 256, 1024], ["1", "16", "64", "256", "1,024"], minor=False)
                panel.minorticks_off()
                panel.grid(alpha=0.25)
                for side in ("top", "right"):
                    panel.spines[side].set_visible(False)
        figure.supxlabel("streams")
        figure.supylabel("stamp error, 99th percentile, ms")
        handles, labels = axes[0][0].get_legend_handles_labels()
        figure.legend(handles, labels, loc="outside lower center", ncols=5, frameon=False)
        figure.savefig(path, metadata={"Date": None, "Creator": None})


if __name__ == "__main__":
    write(Path(__file__).parent / "out" / "driver.json")
