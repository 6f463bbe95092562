"""Fit as text: what-if controls, a line with a bar for each model, and the chosen one in detail."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from rich.text import Text

from zinc_kettle.core.fit.placement import STATE_MARKS, Placement, Share
from zinc_kettle.core.fit.sizing import ALL_LAYERS, LaunchSettings
from zinc_kettle.core.fit.step_work import touched
from zinc_kettle.core.rig import Rig
from zinc_kettle.core.storage_types import CACHE_TYPES
from zinc_kettle.core.text import capitalised, shorten
from zinc_kettle.core.units import byte_size, digits
from zinc_kettle.present.fit_across import Across, across_cells
from zinc_kettle.present.fit_rows import Detail, FitRow, remedy_lines, short_verdict, speed_text, verdict
from zinc_kettle.tui.theme import Palette, blend

CONTEXTS = (512, 1024, 2048, 4096, 8192, 16_384, 32_768, 65_536, 131_072)
SLOTS = (1, 2, 4, 8, 16, 32, 64)
MICRO_BATCHES = (64, 128, 256, 512, 1024, 2048)
NAME, TYPE, SPEED = 24, 7, 22
ROOMY = 130
"""With so many characters there is room for prices, too."""
LOAD_MODES = ("mapped", "copied")


@dataclass(frozen=True)
class Control:
    """One what-if control."""

    name: str
    text: str


PACES = (2.0, 3.0, 4.0, 6.0, 8.0, 10.0, 15.0, 20.0, 30.0, 50.0, 100.0)
"""Beside the person's own, and none at all."""


def other_pace(now: float | None, step: int, own: float) -> float | None:
    """The pace after one step: none, then from the slowest to the fastest, the person's own among them."""
    steps: list[float | None] = [None, *sorted({*PACES, own})]
    place = steps.index(now) if now in steps else 0
    return steps[min(max(0, place + step), len(steps) - 1)]


def controls(
    wish: LaunchSettings, threads: int, rig: Rig, layers: int | None, pace: float | None = None
) -> list[Control]:
    """The controls that matter for a rig, with their values.

    Args:
        wish: How the model is to be run.
        threads: Threads of the engine.
        rig: The rig, with its facts.
        layers: Layers of the chosen model; None where there is none.
        pace: The decode speed that is needed, tokens per second; None for any.
    """
    out = [
        Control("pace", "any" if pace is None else f"{digits(pace, significant=2)} tok/s"),
        Control("context", f"{wish.context:,}"),
        Control("slots", str(wish.slots)),
        Control("cache", wish.cache),
        Control("micro-batch", f"{wish.micro_batch:,}"),
        Control("load", wish.load_mode),
        Control("threads", str(threads)),
    ]
    if wish.slots > 1:
        out.insert(3, Control("slot caches", "shared" if wish.unified else "one each"))
    if any(not d.main for d in rig.devices()):
        shown = "all that fit" if wish.device_layers is None else f"{wish.device_layers} of {layers or '?'}"
        out.append(Control("on devices", shown))
        out.append(Control("experts in main", _experts_text(wish.expert_layers_in_main, layers)))
    return out


def changed(
    name: str, step: int, wish: LaunchSettings, threads: int, rig: Rig, layers: int | None
) -> tuple[LaunchSettings, int]:
    """Wish and threads after one step of a control.

    Args:
        name: Of the control.
        step: -1 or 1.
        wish: How the model is to be run.
        threads: Threads of the engine.
        rig: The rig, with its facts.
        layers: Layers of the chosen model; None where there is none.
    """
    if name == "threads":
        return wish, min(max(1, threads + step), int(rig.number("hardware_threads") or rig.cores))
    if name == "context":
        return replace(wish, context=_next(CONTEXTS, wish.context, step)), threads
    if name == "slots":
        return replace(wish, slots=_next(SLOTS, wish.slots, step)), threads
    if name == "micro-batch":
        return replace(wish, micro_batch=_next(MICRO_BATCHES, wish.micro_batch, step)), threads
    if name == "cache":
        return replace(wish, cache=_around(tuple(CACHE_TYPES), wish.cache, step)), threads
    if name == "load":
        return replace(wish, load_mode=_around(LOAD_MODES, wish.load_mode, step)), threads
    if name == "slot caches":
        return replace(wish, unified=not wish.unified), threads
    if name == "experts in main":
        now, top = wish.expert_layers_in_main, layers or 0
        wanted = min(now, top) + step * max(1, top // 8)
        return replace(wish, expert_layers_in_main=ALL_LAYERS if wanted >= top else max(0, wanted)), threads
    return replace(wish, device_layers=_layers(wish.device_layers, step, layers or 0)), threads


def _experts_text(moved: int, layers: int | None) -> str:
    if not moved:
        return "none"
    return "all" if moved >= (layers or ALL_LAYERS) else f"of {moved} of {layers} layers"


def _next(values: Sequence[int], now: int, step: int) -> int:
    higher = [v for v in values if v > now] if step > 0 else [v for v in reversed(values) if v < now]
    return higher[0] if higher else now


def _around(values: Sequence[str], now: str, step: int) -> str:
    return values[min(max(0, values.index(now) + step), len(values) - 1)]


def _layers(now: int | None, step: int, layers: int) -> int | None:
    """From all that fit downwards to none; a step is an eighth of the layers."""
    stride = max(1, layers // 8)
    wanted = (layers if now is None else now) + step * stride
    return None if wanted >= layers else max(0, wanted)


def controls_line(items: Sequence[Control], chosen: int, palette: Palette) -> Text:
    """The controls in a line; the chosen one has arrows."""
    out = Text()
    for i, item in enumerate(items):
        here = i == chosen
        out.append(f"{item.name}\u00a0".replace(" ", "\u00a0"), palette.ink if here else palette.muted)
        value = item.text.replace(" ", "\u00a0")
        if here:
            out.append(f"◂\u00a0{value}\u00a0▸", f"bold {palette.paper} on {palette.muted}")
        else:
            out.append(value, f"bold {palette.ink}")
        out.append("  ")
    return out


def heads(width: int) -> str:
    """Column heads over the lines."""
    room = bar_room(width)
    return f"  {'model':<{NAME}} {'stored':<{TYPE}} {'memory':<{room}} {'decode, predicted':>{SPEED}}  verdict"


def bar_room(width: int) -> int:
    """Characters a memory bar has."""
    return max(12, min(38, width - NAME - TYPE - SPEED - 36))


def line(row: FitRow, palette: Palette, width: int) -> Text:
    """One model: name, type, bar, predicted speed, verdict."""
    out = Text(no_wrap=True, overflow="ellipsis")
    shape, placement = row.candidate.shape, row.placement
    mark = STATE_MARKS[placement.state] if placement else "✕"
    bad = placement is None or not placement.works
    out.append(f"{mark} ", palette.failure if bad else palette.ink)
    name = row.candidate.name.removesuffix(".gguf")
    out.append(f"{shorten(name, NAME):<{NAME}} ", f"bold {palette.ink}")
    out.append(f"{shape.main_type if shape else '–':<{TYPE}} ", palette.muted)
    room = bar_room(width)
    if placement is None:
        out.append(" " * room)
    else:
        out.append_text(memory_bar(placement, room, palette))
    out.append(f" {speed_text(row.decode):>{SPEED}}  ", palette.ink)
    if row.best:
        out.append("best ", f"bold {palette.ink}")
    said = short_verdict(row)
    if row.measured is not None:
        out.append(f"● {digits(row.measured.value, significant=2)} measured  ", palette.ink)
    if row.keeps_pace is False and not (row.measured and row.fast_enough):
        out.append("too slow  ", palette.caution)
    out.append(said, palette.failure if bad else (palette.caution if _slow(placement) else palette.muted))
    out.truncate(width - 1, overflow="ellipsis")
    return out


RIG, MEMORY, MEASURED, PRICE = 24, 22, 12, 9
"""Widths of columns where rigs stand side by side."""
NARROW_SPEED = 10
"""Of a speed without its band, where there is no room for more."""


def across_heads(width: int) -> str:
    """Column heads over rigs side by side."""
    roomy = width > ROOMY
    price = f"{'price':>{PRICE}}  " if roomy else ""
    decode = f"{'decode, predicted':>{SPEED}}" if roomy else f"{'predicted':>{NARROW_SPEED}}"
    return f"  {'rig':<{RIG}} {'memory':<{MEMORY}} {decode} {'measured':>{MEASURED}}  {price}verdict"


def across_line(found: Across, palette: Palette, width: int) -> Text:
    """One rig: name, memories, predicted and measured speed, price, verdict."""
    out = Text(no_wrap=True, overflow="ellipsis")
    row, placement, roomy = found.row, found.row.placement, width > ROOMY
    bad = placement is None or not placement.works
    name, memory, _, measured, price, _ = across_cells(found)
    speed = speed_text(row.decode)
    out.append(f"{STATE_MARKS[placement.state] if placement else '✕'} ", palette.failure if bad else palette.ink)
    out.append(f"{shorten(name, RIG):<{RIG}} ", f"bold {palette.ink}")
    out.append(f"{shorten(memory, MEMORY):<{MEMORY}} ", palette.muted)
    out.append(f"{speed:>{SPEED}} " if roomy else f"{speed.partition(' (')[0]:>{NARROW_SPEED}} ", palette.ink)
    out.append(f"{measured:>{MEASURED}}  ", palette.ink if row.measured else palette.muted)
    if roomy:
        out.append(f"{price:>{PRICE}}  ", palette.muted)
    if row.keeps_pace is False and not (row.measured and row.fast_enough):
        out.append("too slow  ", palette.caution)
    said = "probe it for a speed" if row.reason and not bad and row.decode is None else short_verdict(row)
    out.append(said, palette.failure if bad else palette.caution if _slow(placement) else palette.muted)
    out.truncate(width - 1, overflow="ellipsis")
    return out


def _slow(placement: Placement | None) -> bool:
    return placement is not None and placement.state in {"spills", "shared"}


def memory_bar(placement: Placement, room: int, palette: Palette) -> Text:
    """All memories of the rig in one bar, in proportion to their capacity."""
    total = sum(s.device.usable_bytes for s in placement.shares) or 1
    out = Text()
    left = room - (len(placement.shares) - 1)
    for i, share in enumerate(placement.shares):
        last = i == len(placement.shares) - 1
        width = left if last else max(3, round(room * share.device.usable_bytes / total))
        width = max(1, min(width, left - 3 * (len(placement.shares) - 1 - i)))
        left -= width
        out.append_text(_share_bar(share, width, palette))
        if not last:
            out.append("│", palette.muted)
    return out


def _share_bar(share: Share, width: int, palette: Palette) -> Text:
    usable = max(1, share.device.usable_bytes)
    over = share.total_bytes > usable
    ends: list[int] = []
    done = 0
    for size in (share.weights_bytes, share.kv_bytes, share.buffers_bytes):
        done += size
        least = 1 if size and not ends else (ends[-1] if ends else 0)
        ends.append(min(width, max(least, round(width * done / usable))))
    if over:
        return Text("▇" * (width - 1) + "▸", palette.failure)
    dark, middle = palette.high, blend(palette.high, palette.paper, 0.35)
    pale = blend(palette.high, palette.paper, 0.6)
    return Text.assemble(
        ("▇" * ends[0], dark),
        ("▅" * (ends[1] - ends[0]), middle),
        ("▃" * (ends[2] - ends[1]), pale),
        ("·" * (width - ends[2]), palette.faint),
    )


def detail_text(row: FitRow, rig: Rig, more: Detail, palette: Palette) -> Text:
    """Each memory with its numbers, what would make it fit, and the limit.

    Args:
        row: The chosen model.
        rig: The rig, with its facts.
        more: What would make it fit, and the limit.
        palette: The theme's colours.
    """
    out = Text()
    shape, placement = row.candidate.shape, row.placement
    out.append(f"{capitalised(verdict(row))}.\n", palette.ink)
    if shape is None or placement is None:
        out = Text()
        out.append(row.reason or "nothing is known about it", palette.failure)
        return out
    for share in placement.shares:
        if share.total_bytes or len(placement.shares) > 1:
            out.append_text(_share_line(share, palette))
    attention = f"{max(shape.kv_heads, default=0)} KV heads of {shape.heads}" if shape.heads else "no attention"
    experts = f", {shape.experts_active} of {shape.experts} experts at a time" if shape.experts else ""
    context = f", made for {shape.context_length:,} tokens" if shape.context_length else ""
    out.append(
        f"{shape.architecture}, {shape.weights / 1e9:.3g} G weights at {shape.bits_per_weight:.2f} bits, "
        f"{shape.layers} layers, {attention}{experts}{context}\n",
        palette.muted,
    )
    out.append_text(_limit(row, rig, palette))
    for what, cost in remedy_lines(more):
        out.append("would fit: ", palette.muted)
        out.append(what, palette.ink)
        out.append(f" ({cost})\n", palette.muted)
    if row.measured is not None:
        out.append("measured here: ", palette.muted)
        value, low, high = (digits(v, significant=3) for v in (row.measured.value, row.measured.low, row.measured.high))
        out.append(f"{value} tok/s ({low}–{high})", f"bold {palette.ink}")
        out.append(f", {row.measured.how}\n", palette.muted)
    if more.best is not None:
        out.append("best that fits" + (" and keeps the pace: " if more.paced else " here: "), palette.muted)
        out.append(f"{more.best[0]}\n", palette.ink)
    elif more.slow:
        out.append("nothing of it that fits keeps the pace\n", palette.caution)
    elif not placement.works:
        out.append("no quantization of it that is here fits as set\n", palette.failure)
    for note in shape.notes:
        out.append(f"▲ {note}\n", palette.caution)
    return out


def _share_line(share: Share, palette: Palette) -> Text:
    out = Text()
    out.append(f"{shorten(share.device.name, 26):<26} ", palette.ink)
    parts = f"weights {byte_size(share.weights_bytes)} + KV {byte_size(share.kv_bytes)} + "
    parts += f"buffers {byte_size(share.buffers_bytes)}"
    out.append(parts, palette.muted)
    out.append(f" = {byte_size(share.total_bytes)}", f"bold {palette.ink}")
    out.append(f" of {byte_size(share.device.usable_bytes)} usable\n", palette.muted)
    return out


def _limit(row: FitRow, rig: Rig, palette: Palette) -> Text:
    """What bandwidth alone would allow, where everything lies in one kind of memory."""
    assert row.candidate.shape is not None
    assert row.placement is not None
    main = row.placement.layers_on_devices == 0
    rate = rig.bandwidth if main else row.placement.device_bandwidth
    if not rate or row.placement.state not in {"fits", "split"}:
        return Text()
    read = touched(row.candidate.shape).bytes
    how = f"{byte_size(read)} a token at {rate / 1e9:.3g} GB/s"
    return Text(f"limit of bandwidth at depth 0: {digits(rate / read)} tok/s ({how})\n", palette.muted)
