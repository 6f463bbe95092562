"""Families over prompt length, and turns of conversations, in words."""

from __future__ import annotations

from zinc_kettle.core.family import DepthFall, PrefillSlope
from zinc_kettle.core.results import CellResults
from zinc_kettle.core.units import digits, plural


def slope_text(slope: PrefillSlope) -> str:
    """Prefill speed with its bounds, the overhead, the range, and whether a line is the truth."""
    line = slope.line
    lengths = f"{line.x_low:,.0f} to {line.x_high:,.0f} tokens"
    if line.curve is not None and line.curved:
        goes = "" if slope.ends is None else f" goes from {' to '.join(map(digits, slope.ends))} tok/s"
        return (
            f"prefill by slope{goes} over {lengths}: the line is curved (up to {line.curve.share:.0%}), so that "
            "neither one speed nor an overhead can be given"
        )
    high = "not determined" if slope.rate_high is None else digits(slope.rate_high)
    said = f"prefill {digits(slope.rate)} tok/s by slope (95%: {digits(slope.rate_low)} to {high}), over {lengths}"
    if slope.overhead is None:
        return f"{said}; the line starts below zero, and no overhead can be given"
    value, low, most = (digits(seconds * 1e3, significant=2) for seconds in slope.overhead)
    told = f"overhead {value} ms (95%: {low} to {most})" if slope.overhead[1] > 0 else f"overhead at most {most} ms"
    return f"{said}; {told}{'' if line.curve is None else '; no curvature found'}"


def fall_text(fall: DepthFall) -> str:
    """Decode at both ends and the loss for 1,000 tokens."""
    line = fall.line
    return (
        f"decode falls from {digits(fall.speed(line.x_low))} tok/s at {line.x_low:,.0f} tokens in context to "
        f"{digits(fall.speed(line.x_high))} at {line.x_high:,.0f}: {fall.loss:.1%} for 1,000 tokens "
        f"(95%: {fall.loss_low:.1%} to {fall.loss_high:.1%})"
    )


def turn_lines(cell: CellResults) -> list[str]:
    """The turns as lines of a small table, two of heading first; empty where there are none."""
    rows = cell.summary.turns
    if not rows:
        return []
    out = [f"turn by turn, medians over {plural(rows[0].requests, 'conversation')}"]
    out.append(f"{'turn':>4} {'depth':>8} {'TTFT':>10} {'decode':>12}")
    for row in rows:
        deep = "–" if row.depth is None else f"{row.depth:,.0f}"
        wait = "–" if row.ttft_s is None else f"{digits(row.ttft_s * 1e3)} ms"
        speed = "–" if row.decode is None else f"{digits(row.decode)} tok/s"
        out.append(f"{row.turn + 1:>4} {deep:>8} {wait:>10} {speed:>12}")
    return out
