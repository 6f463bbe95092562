"""A rig as text: what it is, what was probed, and each fact with where it came from."""

from __future__ import annotations

from collections import Counter

from rich.cells import cell_len
from rich.text import Text

from zinc_kettle.core.rig import PAPER, Rig
from zinc_kettle.core.stats import median
from zinc_kettle.core.text import shorten
from zinc_kettle.core.units import byte_size, digits
from zinc_kettle.present.rig_rows import busy_line, fact_rows, is_busy
from zinc_kettle.tui.theme import Palette

BAR = 30
TITLE = 24


def rig_line(rig: Rig, palette: Palette, asking: bool, width: int) -> Text:
    """Two lines of the list: name and state, then memory and how it is reached.

    Args:
        rig: The rig, with its facts.
        palette: The theme's colours.
        asking: Its facts are being gathered.
        width: Room, in characters.
    """
    out = Text(no_wrap=True, overflow="ellipsis")
    mark, word = _state(rig, asking)
    colour = palette.caution if is_busy(rig) and not asking else palette.muted
    if rig.trouble and not asking:
        colour = palette.failure
    out.append(f" {rig.name}", f"bold {palette.ink}")
    out.append(f"  {mark} {word}", colour)
    memory = byte_size(rig.memory_bytes) if rig.memory_bytes else "memory not known"
    devices = Counter(byte_size(d.capacity_bytes) for d in rig.devices() if not d.main)
    memory += "".join(f" + {f'{n} × ' if n > 1 else ''}{size}" for size, n in devices.items())
    where = str(rig.get("case") or rig.address) if rig.simulated else "data sheet" if rig.on_paper else rig.address
    for text in (where, memory):
        out.append(f"\n   {shorten(text, max(8, width - 4))}", palette.muted)
    out.append("\n")
    return out


def _state(rig: Rig, asking: bool) -> tuple[str, str]:
    if asking:
        return "◐", "asking …"
    if rig.trouble:
        return "✕", "not reached"
    if not rig.facts and not rig.graphics:
        return "○", "not gathered yet"
    if rig.simulated:
        return "●", "SIMULATED"
    if rig.on_paper:
        return "○", "on paper"
    busy = is_busy(rig)
    return ("▲", "busy") if busy else ("●", "quiet" if busy is not None else "answers")


def headline(rig: Rig) -> tuple[str, str, str]:
    """The one number that matters, its unit, and what it is: the bandwidth that sets the limit of decoding."""
    fast = [d.bandwidth_bytes_per_s for d in rig.devices() if not d.main and d.bandwidth_bytes_per_s]
    if fast:
        what = f"bandwidth of {'its device' if len(fast) == 1 else 'each device'}"
        origin = "simulated" if rig.simulated else PAPER if rig.on_paper else "typed in"
        return digits(min(fast) / 1e9), "GB/s", f"{what}, {origin}"
    rate = rig.bandwidth
    if rate is None:
        return "", "", ""
    origin = "probed" if rig.probe else "simulated" if rig.simulated else PAPER if rig.on_paper else "typed in"
    return digits(rate / 1e9), "GB/s", f"memory bandwidth, {origin}"


def about(rig: Rig, palette: Palette, width: int) -> Text:
    """Everything known of a rig."""
    out = Text()
    if rig.trouble:
        out.append(f"✕ {rig.trouble}\n\n", palette.failure)
    if rig.simulated:
        out.append("SIMULATED: made-up hardware; none of its figures are measured\n\n", f"bold {palette.caution}")
    elif rig.on_paper:
        out.append("On paper: nothing can be measured here; Fit tells what fits, and about how fast.\n\n", palette.ink)
    elif rig.facts:
        out.append(f"{busy_line(rig)}\n\n", palette.caution if is_busy(rig) else palette.ink)
    if rig.probe is not None:
        out.append_text(_probe(rig, palette))
    elif rig.reach in {"here", "ssh"} and not rig.trouble:
        out.append("not probed yet: ", palette.muted)
        out.append("p", f"bold {palette.ink}")
        out.append(" measures its memory bandwidth and arithmetic rate in a few seconds\n\n", palette.muted)
    rows = fact_rows(rig) if rig.facts or rig.graphics else []
    room = max(16, width - TITLE - 1 - max((cell_len(origin) for _, _, origin in rows), default=0))
    room = min(room, 90)
    for title, value, origin in rows:
        out.append(title.ljust(TITLE), palette.muted)
        text = shorten(value, room)
        out.append(text + " " * (room - cell_len(text)), palette.ink)
        out.append(f" {origin}\n", palette.muted)
    if not rows:
        out.append("nothing is known about it yet: ", palette.muted)
        out.append("f5", f"bold {palette.ink}")
        out.append("gathers its facts", palette.muted)
    return out


def _probe(rig: Rig, palette: Palette) -> Text:
    """A bar for each thread count, as long as its median, with the range of its windows."""
    out = Text()
    assert rig.probe is not None
    for title, unit, table in (
        ("reading", "GB/s", rig.probe.reading),
        ("arithmetic", "GFLOP/s", rig.probe.gemm),
    ):
        top = max((max(v) for v in table.values() if v), default=0.0)
        for count, values in sorted(table.items()):
            middle = median(list(values))
            filled = round(middle / top * BAR) if top else 0
            name = f"{title}, {count} {'thread' if count == 1 else 'threads'}"
            out.append(name.ljust(TITLE), palette.muted)
            out.append("━" * filled, palette.high)
            out.append("━" * (BAR - filled), palette.faint)
            span = f"{digits(min(values) / 1e9)}–{digits(max(values) / 1e9)}"
            out.append(f" {digits(middle / 1e9):>5} {unit}", palette.ink)
            out.append(f"  {span}\n", palette.muted)
    if not rig.probe.gemm and rig.probe.gemm_note:
        out.append("arithmetic".ljust(TITLE) + f"not measured: {rig.probe.gemm_note}\n", palette.muted)
    out.append("\n")
    return out
