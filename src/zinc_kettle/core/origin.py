"""Whose a run is: names of runs that are somebody else's begin with where they are from."""

from __future__ import annotations

ELSEWHERE = "::"
"""Between where a run is from and its name there: `NAME::STUDY`."""
