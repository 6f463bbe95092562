"""What a sheet says of the cell's family, and of the driver that stamped it."""

from __future__ import annotations

from typing import Any

from rich.text import Text

from zinc_kettle.core.family import DepthFall, PrefillSlope
from zinc_kettle.core.units import digits, plural
from zinc_kettle.present.families import fall_text, family_of, slope_text
from zinc_kettle.present.view import CellView, StudyView
from zinc_kettle.tui.theme import Palette


def family(view: StudyView, cell: CellView, palette: Palette) -> Text:
    """Prefill as a slope and decode over depth, of the cells that differ in prompt length only."""
    found = family_of(view, cell)
    out = Text()
    if found is None:
        return out
    out.append("\nfamily over prompt length\n", palette.muted)
    if isinstance(found.slope, PrefillSlope):
        out.append(f"{slope_text(found.slope)}\n", palette.ink)
    else:
        out.append(f"– slope: {found.slope.reason}\n", palette.muted)
    if isinstance(found.fall, DepthFall):
        out.append(f"{fall_text(found.fall)}\n", palette.ink)
    return out


def driver(view: StudyView, cell: CellView, palette: Palette) -> Text:
    """How exact the stamps are: the self-test before the run, and which stamps the figures use."""
    test: dict[str, Any] = view.record.facts.get("driver_test") or {}
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
        out.append(
            f"self-test at {at}: stamp error p99 {digits(test['spread']['p99_ms'])} ms spread, "
            f"{digits(test['burst']['p99_ms'])} ms in bursts; {digits(test['cpu_us_per_token'])} µs a token, "
            f"one driver carries about {test['ceiling_tokens_per_s']:,.0f} tokens/s\n",
            palette.muted,
        )
    odd = {t.odd for r in cell.repeats for t in r.measured if t.odd}
    for text in sorted(odd)[:2]:
        out.append(f"▲ {text}\n", palette.caution)
    return out
