"""How a program of ours is run on another machine: its text goes over standard input, which then stays open for it."""

from __future__ import annotations

BOOT = (
    "import sys;n=int(sys.stdin.readline());s=sys.stdin.read(n);"
    "exec(compile(s,'zinc-kettle','exec'),{'__name__':'__main__','__doc__':''})"
)
"""Reads a program's length and text from standard input and runs it; for `python -c`."""


def given(source: str) -> str:
    """What BOOT reads."""
    return f"{len(source)}\n{source}"
