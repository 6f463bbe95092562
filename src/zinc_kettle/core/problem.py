"""One thing that is wrong with what a person gave, and what was probably meant."""

from __future__ import annotations

import difflib
from collections.abc import Iterable
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Problem:
    """One thing that is wrong."""

    path: tuple[str, ...]
    """What it is about, as a study file nests it: `("vary", "threads")`."""
    what: str
    why: str = ""
    remedy: str = ""


def nearest(name: str, known: Iterable[str]) -> str:
    """What was probably meant, else all there is."""
    names = list(known)
    near = difflib.get_close_matches(name, names, n=2, cutoff=0.5)
    return " or ".join(near) if near else "one of: " + ", ".join(names)
