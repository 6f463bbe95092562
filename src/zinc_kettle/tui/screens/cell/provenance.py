"""Where a cell's figures come from: how its engine was started, what it said, how exact the driver's stamps are."""

from __future__ import annotations

import textwrap

from rich.text import Text

from zinc_kettle.core.checks.validate import decode_depth
from zinc_kettle.core.energy import IDLE, energy_source
from zinc_kettle.core.facts import DriverTest, EngineFacts, depth_key
from zinc_kettle.core.fit.predict import Prediction
from zinc_kettle.core.results import CellResults, StudyResults
from zinc_kettle.core.units import byte_size, digits, plural, with_unit
from zinc_kettle.present.devices import device_lines
from zinc_kettle.present.fit_rows import speed_text
from zinc_kettle.tui.theme import Palette

HASH_SHOWN = 12


def engine(results: StudyResults, cell: CellResults, palette: Palette) -> Text:
    """How the engine was started, from which file, and what it said last."""
    out = Text("\nengine\n", palette.muted)
    facts = cell.kept.engine
    if not facts:
        out.append("not started yet\n", palette.muted)
    else:
        recipe = facts.get("recipe")
        named = f"{recipe}: " if recipe and recipe != facts.get("engine") else ""
        out.append(f"{named}{facts.get('engine', '')} {facts.get('version', '')}\n", palette.ink)
        out.append_text(_file(facts, palette))
        out.append_text(_where(facts, decode_depth(results.study, cell.cell), palette))
        out.append("".join(f"{line}\n" for line in device_lines(cell.summary.devices)), palette.muted)
        out.append_text(_power_source(cell, palette))
        if facts.get("launch_line"):
            out.append(facts["launch_line"] + "\n", palette.muted)
        if facts.get("build"):
            out.append(textwrap.shorten(facts["build"], 300) + "\n", palette.muted)
        out.append_text(_load(cell, palette))
    failure = cell.kept.failure
    if failure is not None and failure.last_words:
        out.append("\nlast words\n", palette.muted)
        out.append(f"{failure.last_words}\n", palette.failure)
    return out


def _file(facts: EngineFacts, palette: Palette) -> Text:
    """Which file it served, by its name, its size and the beginning of its hash."""
    file = facts.get("file")
    if not file:
        return Text()
    known = f", sha256 {file['sha256'][:HASH_SHOWN]}…" if file.get("sha256") else ""
    return Text(f"{file['name']}, {byte_size(file['size_bytes'])}{known}\n", palette.muted)


def _where(facts: EngineFacts, depth: float | None, palette: Palette) -> Text:
    """On which rig, how reached, what was predicted there, and whether any of it is real."""
    out = Text()
    if facts.get("simulated"):
        out.append("SIMULATED: nothing here was measured on hardware\n", f"bold {palette.caution}")
    parts = [said for said in (facts.get("rig", ""), facts.get("reached", "")) if said not in {"", "here"}]
    if facts.get("clock_error_ms") is not None:
        parts.append(f"its clock set to {facts['clock_error_ms']:.2g} ms")
    if facts.get("layers_on_devices"):
        parts.append(f"{facts['layers_on_devices']} layers on devices")
    if parts:
        out.append(f"{', '.join(parts)}\n", palette.muted)
    predicted = facts.get("predicted")
    if predicted:
        at = predicted.get("at", {}).get(depth_key(depth))
        hoped = f"{digits(predicted['decode'], significant=2)} tok/s in fast memory"
        speed = hoped if at is None else speed_text(Prediction(*at, ""))
        out.append(f"Fit predicted: {predicted['state']}, decode {speed}, one stream\n", palette.muted)
    return out


def _power_source(cell: CellResults, palette: Palette) -> Text:
    """What the energy figures rest on."""
    last = cell.repeats[-1] if cell.repeats else None
    if last is None:
        return Text()
    source = energy_source(last)
    idle = f", idle {last.extras[IDLE]:.3g} W" if IDLE in last.extras else ""
    return Text(f"power by {source}{idle}\n" if source else "", palette.muted)


def _load(cell: CellResults, palette: Palette) -> Text:
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


def driver(results: StudyResults, cell: CellResults, palette: Palette) -> Text:
    """How exact the stamps are: the self-test before the run, and which stamps the figures use."""
    test = results.run.facts.get("driver_test") or DriverTest()
    sources = sorted({t.stamp_source for r in cell.repeats for t in r.measured})
    if not test and not sources:
        return Text()
    out = Text("\ndriver\n", palette.muted)
    if sources:
        out.append(
            f"stamps by {' and '.join('the kernel' if s == 'kernel' else 'the driver' for s in sources)}\n", palette.ink
        )
    if "failed" in test:
        out.append(f"self-test: {test['failed']}\n", palette.caution)
    elif test:
        at = plural(test["streams"], "stream")
        turn = f", turnaround {digits(test['turnaround_ms'])} ms" if "turnaround_ms" in test else ""
        out.append(
            f"self-test at {at}: stamp error p99 {digits(test['spread']['p99_ms'])} ms spread, "
            f"{digits(test['burst']['p99_ms'])} ms in bursts{turn}; {digits(test['cpu_us_per_token'])} µs per token, "
            f"one driver carries about {test['ceiling_tokens_per_s']:,.0f} tokens/s\n",
            palette.muted,
        )
    odd = {t.odd for r in cell.repeats for t in r.measured if t.odd}
    for text in sorted(odd)[:2]:
        out.append(f"▲ {text}\n", palette.caution)
    return out
