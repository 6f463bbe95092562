"""What stands beside the map: the live lane while a study runs, then the answer and the findings."""

from __future__ import annotations

import itertools

from rich.text import Text

from zinc_kettle.core.plan.study import rigs_of
from zinc_kettle.core.record.telemetry import Latest
from zinc_kettle.core.results import StudyResults
from zinc_kettle.core.text import neutralise
from zinc_kettle.core.units import byte_size, digits
from zinc_kettle.present.findings import Finding
from zinc_kettle.present.remarks import PEN, remarks
from zinc_kettle.present.values import STATE_MARKS, left_text
from zinc_kettle.tui.draw.canvas import bar, columns_of
from zinc_kettle.tui.draw.fold import fold
from zinc_kettle.tui.run_state import RunState
from zinc_kettle.tui.screens.map.digest import Digest
from zinc_kettle.tui.theme import Palette

TAIL_LINES = 3
MOST_STREAMS = 6
"""Streams whose text has a line of its own."""
LETTERS = "ABCDEFGH"
"""Keys that go to where a finding is seen."""
MARKS = {"finding": "●", "hint": "○", "caution": "▲", "failure": "✕"}


def lane(results: StudyResults, run: RunState, width: int, palette: Palette) -> Text:
    """The running episode: what, how fast, how much memory, the text coming.

    Args:
        results: The run that is shown.
        run: The running state.
        width: Room, in characters.
        palette: The theme's colours.
    """
    out = Text()
    cell = results.cell(run.cell) if run.cell is not None else None
    out.append(cell.title if cell else "starting", f"bold {palette.ink}")
    if cell:
        repeats = results.study.repeats
        bound = f", {repeats.most} at most" if repeats.adaptive else f" of {repeats.count}"
        out.append(f"\nblock {run.block + 1}{bound}", palette.muted)
    out.append(f" · {run.phase}\n", palette.muted)
    busy = bool(run.streams)
    rate = f"{digits(run.rate)}" if busy and run.rate else "–"
    out.append(rate, f"bold {palette.ink}")
    out.append(" tok/s now", palette.ink)
    if run.in_flight > 1:
        out.append(f" · {run.in_flight:,} open", palette.muted)
    out.append("\n")
    out.append(columns_of(run.speeds, width) + "\n", palette.high)
    out.append_text(_taken(run.taken, width, palette))
    out.append("\n")
    out.append_text(crowd(run, width, palette))
    out.append("\n")
    out.append_text(_streams(run, width, palette))
    return out


def _taken(now: Latest, width: int, palette: Palette) -> Text:
    """What the engine takes of the rig: each with its word, and only what something there tells."""
    told = [
        ("memory", (byte_size(now.memory_bytes) if now.memory_bytes else "–").rjust(8)),
        ("engine", f"{now.cores:.1f} cores" if now.memory_bytes else "–"),
    ]
    if now.device_percent is not None:
        told.append(("devices", f"{now.device_percent}% busy"))
    if now.watts is not None:
        told.append(("power", f"{digits(now.watts, significant=2)} W"))
    if now.hottest_c is not None:
        told.append(("hottest", f"{round(now.hottest_c)} °C"))
    pieces = [Text.assemble((f"{word} ", palette.muted), (said, palette.ink)) for word, said in told]
    return fold(pieces, width, gap=3)


def _streams(run: RunState, width: int, palette: Palette) -> Text:
    """The text of each stream as it comes; of many streams some, with a line each and their speed before it."""
    out = Text()
    if not run.streams:
        return out.append("no text yet\n", palette.muted)
    if len(run.streams) == 1:
        tail = neutralise(run.streams[0].tail, keep_newlines=False)
        shown = tail[-(width - 1) * TAIL_LINES + width // 2 :]
        return out.append((f"…{shown}" if shown else "no text yet") + "\n", palette.muted)
    for stream in run.streams[:MOST_STREAMS]:
        speed = f"{digits(stream.rate)}" if stream.phase == "decode" and stream.rate else stream.phase
        head = f"{stream.stream + 1} {speed[:7].rjust(7)} "
        tail = neutralise(stream.tail, keep_newlines=False)[-(width - len(head) - 1) :]
        out.append(head, palette.ink)
        out.append(f"{tail}\n", palette.muted)
    return out


def crowd(run: RunState, width: int, palette: Palette) -> Text:
    """Where the requests of a load are: one bar of all of them, and the count of each part in words."""
    tick = run.tick
    out = Text()
    if tick is None or tick.total < 2:
        return out
    ended = tick.finished - tick.failed
    waiting = max(0, tick.total - tick.finished - tick.prefill - tick.decode)
    parts = (
        ("█", ended, palette.high, "answered"),
        ("▓", tick.decode, palette.ink, "writing"),
        ("▒", tick.prefill, palette.muted, "waiting"),
        ("✕", tick.failed, palette.failure, "failed"),
        ("·", waiting, palette.faint, "not sent"),
    )
    out.append(f"\n{tick.total:,} requests\n", palette.muted)
    for (mark, _, colour, _), cells in zip(parts, shares([n for _, n, _, _ in parts], width), strict=True):
        out.append(mark * cells, colour)
    out.append("\n")
    said = [
        Text.assemble((f"{mark} ", colour), (f"{count:,} {word}", palette.ink if mark == "✕" else palette.muted))
        for mark, count, colour, word in parts
        if count
    ]
    out.append_text(fold(said, width))
    out.append("\n")
    if tick.last_fault:
        out.append("✕ ", palette.failure)
        out.append(f"{tick.last_fault}\n", palette.ink)
    return out


def shares(counts: list[int], width: int) -> list[int]:
    """Cells of a bar for each count: in proportion, none of a count left without a cell, together `width`."""
    total = sum(counts)
    if not total:
        return [0] * len(counts)
    cells = [max(1, round(n / total * width)) if n else 0 for n in counts]
    cells[cells.index(max(cells))] += width - sum(cells)
    return cells


def beside(results: StudyResults, said: Digest, plan: str, palette: Palette, *, running: bool = False) -> Text:
    """The answer so far, then findings and cautions in plain sentences.

    Args:
        results: The run that is shown.
        said: Answer and findings.
        plan: What the study holds and how long it may take, in a sentence.
        palette: The theme's colours.
        running: It is being measured.
    """
    out = Text()
    if not results.done_repeats and not results.failed_cells:
        if running:
            return out.append(f"The first repeat is being measured.\n\n{plan}", palette.ink)
        return _before(plan, palette, "on its rigs" if rigs_of(results.study) else "on this machine")
    out.append(f"{said.answer or 'Finding the answer …'}\n", palette.ink)
    for note in (text for key, text in results.run.notes if key is None):
        out.append(f"note: {note}\n", palette.muted)
    for key, text in remarks(results).items():
        title = results.cell(key).title if key in results.study.by_key else "a cell that is no longer there"
        out.append(f"{PEN} {title}: {text}\n", palette.muted)
    if said.findings:
        out.append("\nfindings\n", palette.muted)
    for letter, finding in itertools.zip_longest(LETTERS, said.findings):
        if finding is None:
            break
        if finding.cell and letter is not None:
            out.append(f"{letter} ", f"bold {palette.ink}")
        out.append(f"{MARKS[finding.tone]} ", _colour(finding, palette))
        out.append(finding.text + "\n", palette.ink)
    return out


def _before(plan: str, palette: Palette, where: str) -> Text:
    """What a person sees before anything is measured."""
    out = Text("nothing measured yet\n\n", palette.muted)
    out.append(plan + "\n\n", palette.ink)
    out.append("r", f"bold {palette.ink}")
    out.append(f" measures it {where}. Close other programs first, or they are measured too. ", palette.ink)
    out.append("s stops at any time; everything measured is kept, and r continues from there.", palette.ink)
    return out


def _colour(finding: Finding, palette: Palette) -> str:
    return {"caution": palette.caution, "failure": palette.failure}.get(finding.tone, palette.high)


def legend(palette: Palette, width: int) -> Text:
    """The states, as marks and words."""
    words = [f"{STATE_MARKS[state]} {state}" for state in ("planned", "partly", "measured", "failed")]
    pieces = [Text(word, palette.muted) for word in (*words, "▸ running", "▲ caution")]
    pieces.append(Text.assemble(("■", palette.copper), (" best", palette.muted)))
    return fold([*pieces, Text("≈ no clear difference", palette.muted)], width)


def progress(results: StudyResults, run: RunState | None, width: int, palette: Palette) -> Text:
    """How far, how long still, what failed.

    Args:
        results: The run that is shown.
        run: The running state; None where nothing ran since the start.
        width: Room, in characters.
        palette: The theme's colours.
    """
    done, wanted = results.done_repeats, results.wanted_repeats
    head = f"{done} of {wanted} repeats "
    tail = ""
    if run is not None and run.active:
        tail = f"  {left_text(run.left_s)}"
        if run.stopping:
            tail = "  stopping …"
    elif done < wanted:
        tail = "  stopped, r continues" if results.run.state == "stopped" else "  r runs it here"
    failed = f"  ✕ {results.failed_cells} failed" if results.failed_cells else ""
    room = max(8, min(60, width - len(head) - len(tail) - len(failed) - 2))
    out = Text(no_wrap=True)
    out.append(head, palette.ink)
    out.append_text(bar(done / max(1, wanted), room, full=palette.high, empty=palette.faint))
    out.append(tail, palette.muted)
    out.append(failed, palette.failure)
    return out
