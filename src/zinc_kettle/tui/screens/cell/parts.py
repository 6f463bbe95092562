"""The texts of the sheet."""

from __future__ import annotations

import textwrap
from typing import Any

from rich.text import Text

from zinc_kettle.core.catalogue import MEASURES
from zinc_kettle.core.cell import Value
from zinc_kettle.core.energy import IDLE, WALL
from zinc_kettle.core.load_cautions import LOAD_REQUESTS
from zinc_kettle.core.repeat import Missing
from zinc_kettle.core.units import byte_size, digits, with_unit
from zinc_kettle.present.families import turn_lines
from zinc_kettle.present.view import CellView
from zinc_kettle.present.words import bounds_text, value_text
from zinc_kettle.tui.draw.sheet import gap_trace, memory_trace, power_trace, repeat_strip, waterfall
from zinc_kettle.tui.theme import Palette

GROUPS = (
    ("answering", ("ttft", "round_trip", "ttft_offset", "duration", "gap_p50", "gap_p95", "gap_p99")),
    (
        "load",
        (
            "latency",
            "latency_p95",
            "latency_p99",
            "ttft_p95",
            "ttft_p99",
            "batch_wall",
            "send_delay",
            "send_delay_p99",
            "failed_share",
        ),
    ),
    ("prefill", ("prefill_client", "prefill_engine", "prompt_tokens")),
    (
        "decode",
        (
            "decode",
            "decode_engine",
            "tpot",
            "chars_rate",
            "limit_share",
            "output_tokens",
            "throughput",
            "depth_loss",
            "spread",
        ),
    ),
    ("power", ("power", "energy_token", "energy_token_net", "energy_prefill", "energy_decode", "memory_device")),
    (
        "machine",
        (
            "load_time",
            "memory_loaded",
            "memory_peak",
            "memory_anonymous",
            "memory_file",
            "cpu",
            "observer_share",
            "queue_p99",
        ),
    ),
)
MIN_TRACE_ROWS, MAX_TRACE_ROWS = 3, 9
FIXED_ROWS = 18
"""Lines of the strips that are no trace, with two requests in the waterfall."""
NAME, FIGURE, UNIT = 20, 8, 9


def figures(cell: CellView, palette: Palette) -> Text:
    """Every figure with its bounds; the reason where there is none."""
    out = Text()
    reasons: dict[str, list[str]] = {}
    for title, names in GROUPS:
        if title == "power" and not any(isinstance(cell.value(name), Value) for name in names):
            # Six dashes in a row would tell no more than one sentence.
            missing = cell.value("power")
            reasons.setdefault(missing.reason if isinstance(missing, Missing) else "", []).append("power and energy")
            continue
        if title == "load" and all(len(r.measured) < LOAD_REQUESTS for r in cell.repeats):
            continue
        out.append(f"{title}\n", palette.muted)
        for name in names:
            figure = cell.value(name)
            measure = MEASURES[name]
            if not isinstance(figure, Value):
                reasons.setdefault(figure.reason, []).append(measure.title)
                out.append(f"{measure.title.ljust(NAME)}{'–'.rjust(FIGURE)}\n", palette.muted)
                continue
            text, unit = value_text(figure)
            out.append(measure.title.ljust(NAME), palette.ink)
            out.append(text.rjust(FIGURE), palette.muted if figure.thin else f"bold {palette.ink}")
            out.append(f" {unit}".ljust(UNIT), palette.muted)
            out.append(bounds_text(figure) + "\n", palette.muted)
        out.append("\n")
    for reason, titles in reasons.items():
        out.append(f"– {', '.join(titles)}: {reason}.\n", palette.muted)
    return out


def strips(cell: CellView, width: int, height: int, palette: Palette) -> Text:
    """Repeats, requests, gaps and memory as pictures, the traces as tall as the room allows."""
    rows = min(MAX_TRACE_ROWS, max(MIN_TRACE_ROWS, (height - FIXED_ROWS) // 2))
    out = Text()
    counted = cell.repeats
    for name, unit in (("decode", "tokens/s"), ("ttft", "s")):
        title = MEASURES[name].title
        out.append(f"repeats, {title}\n", palette.muted)
        out.append_text(repeat_strip(counted, name, unit, width, palette))
        out.append("\n\n")
    lines = turn_lines(cell)
    if lines:
        out.append(f"{lines[0]}\n", palette.muted)
        out.append("\n".join(lines[1:]) + "\n\n", palette.ink)
    last = counted[-1] if counted else (cell.records[-1].repeat if cell.records else None)
    timelines = last.timelines if last is not None else ()
    out.append("last repeat, request by request\n", palette.muted)
    out.append_text(waterfall(timelines, cell.request_cautions, width, palette))
    out.append("\n\ngaps between chunks, last request\n", palette.muted)
    out.append_text(gap_trace(timelines, width, rows, palette))
    out.append("\n\nmemory of the engine, last repeat\n", palette.muted)
    out.append_text(memory_trace(counted, width, rows, palette))
    power = power_trace(counted, width, MIN_TRACE_ROWS, palette)
    if power is not None:
        out.append("\n\npower of the rig, last repeat\n", palette.muted)
        out.append_text(power)
    return out


def cautions(cell: CellView, notes: list[str], palette: Palette) -> Text:
    """Notes, cautions with evidence and advice, failures."""
    out = Text()
    # Notes first: cautions may be long, and what a person wrote must not be below the edge.
    out.append("notes\n", palette.muted)
    out.append("\n".join(notes) + "\n" if notes else "none; w writes one\n", palette.ink if notes else palette.muted)
    out.append("\ncautions\n", palette.muted)
    if not cell.cautions:
        out.append("none\n" if cell.done else "none yet\n", palette.ink)
    for caution in cell.cautions:
        out.append(f"▲ {caution.code}", f"bold {palette.caution}")
        out.append(f"  {caution.evidence}\n", palette.ink)
        out.append(f"  {caution.sentence} {caution.advice}\n", palette.muted)
    for record in cell.failures[-1:]:
        out.append("\n✕ failed ", f"bold {palette.failure}")
        out.append(f"{record.failure}\n", palette.ink)
    broken = sum(1 for r in cell.records if r.state == "broken-off")
    if broken:
        out.append(f"\n{broken} repeat broken off by a stop: kept, not counted, measured again.\n", palette.muted)
    return out


def engine(cell: CellView, palette: Palette) -> Text:
    """How the engine was started, from which file, and what it said last."""
    out = Text("\nengine\n", palette.muted)
    known = [r for r in cell.records if r.facts]
    if not known:
        out.append("not started yet\n", palette.muted)
    else:
        facts = known[-1].facts
        out.append(f"{facts.get('engine', '')} {facts.get('version', '')}\n", palette.ink)
        out.append_text(_where(facts, palette))
        out.append_text(_power_source(cell, palette))
        if facts.get("launch_line"):
            out.append(facts["launch_line"] + "\n", palette.muted)
        if facts.get("build"):
            out.append(textwrap.shorten(facts["build"], 300) + "\n", palette.muted)
        out.append_text(_load(cell, palette))
    words = [r.last_words for r in cell.failures if r.last_words]
    if words:
        out.append("\nlast words\n", palette.muted)
        out.append(words[-1] + "\n", palette.failure)
    return out


def _where(facts: dict[str, Any], palette: Palette) -> Text:
    """On which rig, how reached, what was predicted there, and whether any of it is real."""
    out = Text()
    if facts.get("simulated"):
        out.append("SIMULATED: nothing here was measured on hardware\n", f"bold {palette.caution}")
    parts = [str(facts[name]) for name in ("rig", "reached") if facts.get(name) and facts[name] != "here"]
    if facts.get("clock_error_ms") is not None:
        parts.append(f"its clock set to {facts['clock_error_ms']:.2g} ms")
    if facts.get("layers_on_devices"):
        parts.append(f"{facts['layers_on_devices']} layers on devices")
    if parts:
        out.append(f"{', '.join(parts)}\n", palette.muted)
    predicted = facts.get("predicted")
    if predicted:
        out.append(f"Fit said before: {predicted['state']}, decode {digits(predicted['decode'], significant=2)} tok/s "
                   f"({digits(predicted['decode_low'], significant=2)} or more)\n", palette.muted)  # fmt: skip
    return out


def _power_source(cell: CellView, palette: Palette) -> Text:
    """What the energy figures rest on."""
    last = cell.repeats[-1] if cell.repeats else None
    if last is None:
        return Text()
    trace = last.trace
    source = trace.energy_source if trace is not None and trace.energy_uj is not None else ""
    if not source and WALL in last.extras:
        source = "a wall-meter reading typed in"
    idle = f", idle {last.extras[IDLE]:.3g} W" if IDLE in last.extras else ""
    return Text(f"power by {source}{idle}\n" if source else "", palette.muted)


def _load(cell: CellView, palette: Palette) -> Text:
    out = Text()
    launches = [r.launch for r in cell.repeats if r.launch is not None and r.launch.load_ns is not None]
    if launches:
        last = launches[-1]
        share = last.file_cached_share
        cached = "not known" if share is None else f"{share:.0%}"
        out.append(
            f"last load {with_unit((last.load_ns or 0) / 1e9, 's')}; file-cached {cached}; "
            f"launcher's own {byte_size(last.baseline_bytes)} subtracted\n",
            palette.muted,
        )
    return out
